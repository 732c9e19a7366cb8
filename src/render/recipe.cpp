// What is fetched for a frame, and the stages it then goes through. Both walk the same way down: from the finished frame
// to the sources, and no further than to what rendered media stand for.
#include <algorithm>

#include "render/stage_refs.h"
#include "timeline/keys.h"

namespace gc {

Hash128 request_name(const Hash128& use, Frames n) { return Hasher().add(use).add(n).done(); }

const Tap* FrameRecipe::tap_of(const Hash128& use, Frames at) const {
  const auto it = std::find_if(taps.begin(), taps.end(), [&](const Tap& t) {
    return t.frame == at && t.is.use == use && t.is.kind != TapKind::source;
  });
  return it == taps.end() ? nullptr : &*it;
}

TapPattern FrameRecipe::pattern() const {
  TapPattern pattern;
  for (const Tap& t : taps) {
    const bool everywhere = std::find(live.begin(), live.end(), t.is.use) == live.end();
    if (everywhere && !tap_in(pattern, t.is.use)) pattern.push_back(t.is);
  }
  std::sort(pattern.begin(), pattern.end());
  return pattern;
}

void each_segment_of(const CompiledLayer& layer, const std::function<void(const CompiledSegment&)>& see) {
  see(*layer.from);
  if (layer.from_matte) each_segment_of(*layer.from_matte, see);
  if (layer.to) see(*layer.to);
  if (layer.to_matte) each_segment_of(*layer.to_matte, see);
}

void Program::each_segment(Frames frame, const See& see, const Hash128& use) const {
  const int i = interval_at(frame);
  if (i < 0) return;
  for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers)
    each_segment_of(l, [&](const CompiledSegment& s) {
      const Hash128 inner = use_of(use, s);
      see(*this, s, frame, inner);
      if (s.inner) s.inner->each_segment(s.frame_at(frame, timeline_->rate), see, inner);
    });
}

Hash128 Program::tap_key(const CompiledSegment& s, Frames frame, std::size_t count) const {
  return Hasher()
      .add("tap")
      .add(kRendererVersion)
      .add(timeline_->width)
      .add(timeline_->height)
      .add(timeline_->working_space)
      .add(stack_key(s, frame, count))
      .done();
}

Hash128 Program::composition_key(Frames frame) const { return Hasher().add("composition").add(fingerprint(frame)).done(); }

Hash128 Program::source_key(const MediaInfo& media, bool joins_fields, Frames frame, int size) {
  return Hasher().add("source").add(kRendererVersion).add(media.identity).add(joins_fields).add(frame).add(size).done();
}

/// Gathers what a frame needs.
class Gathering {
 public:
  Gathering(FrameRecipe& recipe, const SealLookup* seals) : recipe_(recipe), seals_(seals) {}

  void frame(const Program& p, Frames frame, const Hash128& use, int keep) {
    const int i = p.interval_at(frame);
    if (i < 0) return;
    for (const CompiledLayer& l : p.intervals()[static_cast<std::size_t>(i)].layers) layer(p, l, frame, use, keep);
  }

 private:
  void layer(const Program& p, const CompiledLayer& l, Frames frame, const Hash128& use, int keep) {
    if (l.to && l.kind == TransitionKind::morph && !p.options().rendering) return;
    segment(p, *l.from, frame, use, keep);
    if (l.from_matte) layer(p, *l.from_matte, frame, use, keep);
    if (!l.to) return;
    segment(p, *l.to, frame, use, keep);
    if (l.to_matte) layer(p, *l.to_matte, frame, use, keep);
  }

  void segment(const Program& p, const CompiledSegment& s, Frames frame, const Hash128& outer, int keep) {
    const Hash128 use = use_of(outer, s);
    const int kept = keep + (s.last_temporal(s.effects.size()) >= 0 ? s.window.length() + 1 : 0) + (s.retimes ? 2 : 0);
    // Rendered media show what cannot be shown live.
    if (s.unseen && !s.inner && !p.options().rendering) {
      (void)stack_tap(p, s, frame, s.effects.size(), use, kept);
      return;
    }
    stack(p, s, frame, s.effects.size(), use, kept);
  }

  /// The picture after the first `count` effects.
  void stack(const Program& p, const CompiledSegment& s, Frames frame, std::size_t count, const Hash128& use, int keep) {
    if (stack_tap(p, s, frame, count, use, keep)) return;
    if (const int j = s.last_temporal(count); j >= 0) {
      const Window& w = s.effects[static_cast<std::size_t>(j)].window;
      for (int d = -w.before; d <= w.after; ++d)
        stack(p, s, s.neighbour(frame, d, p.timeline()->rate), static_cast<std::size_t>(j), use, keep);
      return;
    }
    content(p, s, frame, use, keep);
  }

  /// Rendered media of the stack, those with the most effects first. Where an effect looks at neighbouring frames, those
  /// below it are asked for at each of them.
  bool stack_tap(const Program& p, const CompiledSegment& s, Frames frame, std::size_t count, const Hash128& use, int keep) {
    if (recipe_.tap_of(use, frame)) return true;
    if (!seals_ || s.content == Content::offline || s.content == Content::adjustment) return false;
    for (auto n = static_cast<int>(count); n > std::max(0, s.last_temporal(count)); --n)
      if (auto hit = seals_->find(p.tap_key(s, frame, static_cast<std::size_t>(n)))) {
        fetch(p, {use, TapKind::stack, static_cast<std::uint8_t>(std::min(n, 255))}, frame, request_name(use, -1 - frame),
              std::move(*hit), keep);
        return true;
      }
    return false;
  }

  void content(const Program& p, const CompiledSegment& s, Frames frame, const Hash128& use, int keep) {
    const Rate rate = p.timeline()->rate;
    if (s.inner) {
      const Frames at = s.frame_at(frame, rate);
      if (recipe_.tap_of(use, frame)) return;
      if (auto hit = seals_ ? seals_->find(s.inner->composition_key(at)) : std::nullopt)
        return fetch(p, {use, TapKind::composition}, frame, request_name(use, -1 - frame), std::move(*hit), keep);
      recipe_.live.push_back(use);
      return this->frame(*s.inner, at, use, keep);
    }
    if (s.content == Content::offline) return source(p, s, s.frame_at(frame, rate), use, keep);
    if (s.content == Content::generator) recipe_.live.push_back(use);
    if (s.content != Content::source) return;
    const SourcePosition at = s.position_at(frame, rate);
    source(p, s, at.frame, use, keep);
    if (at.fraction > 0) source(p, s, at.frame + 1, use, keep);
  }

  void source(const Program& p, const CompiledSegment& s, Frames n, const Hash128& use, int keep) {
    const Hash128 name = request_name(use, n);
    if (std::any_of(recipe_.requests.begin(), recipe_.requests.end(), [&](const DecodeRequest& r) { return r.name == name; }))
      return;
    if (seals_ && s.content == Content::source && !s.media.still)
      for (int size = s.segment->copies; size >= 1; size /= 2)
        if (auto hit = seals_->find(Program::source_key(s.media, s.joins_fields, n, size)))
          return fetch(p, {use, TapKind::source}, n, name, std::move(*hit), keep);
    recipe_.live.push_back(use);
    recipe_.requests.push_back({s.path, n, use, s.read, s.decode, s.content == Content::offline, keep,
                                s.joins_fields ? &s.fields : nullptr, {}, false, name, static_cast<float>(s.pictures), s.segment->speed.num < 0});
  }

  void fetch(const Program& p, TapUse is, Frames frame, const Hash128& name, SealHit hit, int keep) {
    is.form = hit.form, is.width = hit.width, is.height = hit.height;
    const std::vector<StageRef> stages = p.rendered_stages(is);
    recipe_.requests.push_back(
        {hit.path, hit.index, hash_text(hit.path), stages[0], stages[1], false, keep, nullptr, hit.checksum, true, name});
    recipe_.taps.push_back({is, frame, std::move(hit), name});
  }

  FrameRecipe& recipe_;
  const SealLookup* seals_;
};

ProgramPtr Program::with_stretches(const ProgramPtr& program, std::vector<std::pair<FrameRange, ProgramPtr>> others) {
  if (others.empty()) return program;
  auto copy = std::make_shared<Program>(*program);
  copy->stretches_ = std::move(others);
  return copy;
}

const Program& Program::playing(Frames frame) const {
  const Program* made = this;
  for (const auto& [range, other] : stretches_)
    if (frame >= range.in && frame < range.out && other->options_.scale > made->options_.scale) made = other.get();
  return *made;
}

FrameRecipe Program::recipe(Frames frame, const SealLookup* seals) const {
  if (const Program& p = playing(frame); &p != this) return p.recipe(frame, seals);
  FrameRecipe r;
  r.frame = frame;
  r.interval = interval_at(frame);
  if (seals) r.seal = seals->find(fingerprint(frame));
  if (r.seal) {
    const std::vector<StageRef> stages = rendered_stages({{}, TapKind::frame, 0, r.seal->form, r.seal->width, r.seal->height});
    r.requests.push_back({r.seal->path, r.seal->index, hash_text(r.seal->path), stages[0], stages[1], false, 0, nullptr,
                          r.seal->checksum, true, request_name({}, frame)});
    return r;
  }
  Gathering(r, seals && seals->has_taps() ? seals : nullptr).frame(*this, frame, {}, 0);
  return r;
}

std::vector<StageRef> Program::rendered_stages(const TapUse& tap) const {
  const int w = tap.width > 0 ? tap.width : timeline_->width, h = tap.height > 0 ? tap.height : timeline_->height;
  if (tap.form == Form::vc3_hqx && w == width_ && h == height_) return {sealed_read_, sealed_decode_, sealed_convert_};
  const auto key = [&](const char* what) { return Hasher().add(what).add(form_id(tap.form)).add(w).add(h); };
  const std::string codec = std::string(form_codec(tap.form)) + " " + std::to_string(form_bits(tap.form)) + " bit";
  auto [read, decode] = fetch_stages(key("read rendered").done(), key("decode rendered").done(), sealed_owner_, codec, w * h / 1e6,
                                     static_cast<double>(form_frame_bytes(tap.form, w, h)) / 1e6, 0);
  return {read, decode,
          convert_stage(key("convert rendered").add(width_).add(height_).done(), sealed_owner_, form_pixels(tap.form), w, h,
                        width_, height_)};
}

std::vector<StageRef> Program::sealed_stages() const {
  if (sealed_straight_) return {sealed_read_, sealed_decode_, *sealed_straight_};
  return {sealed_read_, sealed_decode_, sealed_convert_, display_};
}

void Program::add_stages(std::vector<StageRef>& all, const CompiledSegment& s, Frames frame, Fetched& fetched,
                         const TapPattern& taps, const Hash128& outer) const {
  const Hash128 use = use_of(outer, s);
  const TapUse* tap = tap_in(taps, use);
  const bool of_stack = tap && tap->kind == TapKind::stack;
  if (s.unseen && !s.inner && !options_.rendering && !of_stack) return;
  const SourcePosition p = s.position_at(frame, timeline_->rate);
  if (tap && tap->kind != TapKind::source) {
    for (StageRef& r : rendered_stages(*tap)) all.push_back(r);
  } else if (s.inner) {
    for (const StageRef& r : s.inner->made_stages(p.frame, taps, use))
      if (r.kind != StageKind::display && r.key != s.inner->between(p.frame).key) all.push_back(r);
  } else if (s.content == Content::source) {
    StageRef convert = s.convert;
    if (tap) {
      const std::vector<StageRef> rendered = rendered_stages(*tap);
      convert = rendered[2];
      if (fetched.insert(&s).second) all.insert(all.end(), {rendered[0], rendered[1]});
    } else if (fetched.insert(&s).second) {
      all.insert(all.end(), {s.read, s.decode});
      if (s.joins_fields) all.push_back(s.fields);
    }
    all.push_back(convert);
    if (s.retimes) all.insert(all.end(), {convert, s.retime});
  } else if (s.content == Content::generator) {
    all.push_back(s.convert);
  }
  const std::size_t first = of_stack ? tap->after : 0;
  for (std::size_t i = first; i < s.effects.size(); ++i) {
    const CompiledEffect& e = s.effects[i];
    const bool there = e.device == Device::accelerator;
    if (there && (i == first || s.effects[i - 1].device != Device::accelerator)) all.push_back(e.transfer);
    all.push_back(e.stage_at(frame - s.in));
    if (there && (i + 1 == s.effects.size() || s.effects[i + 1].device != Device::accelerator)) all.push_back(e.transfer);
  }
  if (!s.segment->matte.track.empty() && s.content != Content::adjustment) all.push_back(s.matte_stage);
}

void Program::add_stages(std::vector<StageRef>& all, const CompiledLayer& l, Frames frame, Fetched& fetched,
                         const TapPattern& taps, const Hash128& use) const {
  add_stages(all, *l.from, frame, fetched, taps, use);
  if (l.from->content == Content::adjustment && l.from_matte) all.push_back(l.from->matte_stage);
  if (l.from_matte) add_stages(all, *l.from_matte, frame, fetched, taps, use);
  if (!l.to) return;
  add_stages(all, *l.to, frame, fetched, taps, use);
  if (l.to_matte) add_stages(all, *l.to_matte, frame, fetched, taps, use);
  all.push_back(l.transition);
}

StageRef Program::between(Frames frame) const {
  if (const Program& p = playing(frame); &p != this) return p.between(frame);
  const int i = interval_at(frame);
  return i < 0 ? StageRef{} : intervals_[static_cast<std::size_t>(i)].between;
}

std::vector<StageRef> Program::stages(Frames frame, const TapPattern& taps) const {
  if (const Program& p = playing(frame); &p != this) return p.stages(frame, taps);
  if (const TapUse* whole = tap_in(taps, {})) {
    std::vector<StageRef> all = rendered_stages(*whole);
    all.push_back(display_);
    return all;
  }
  const CompiledSegment* s = straight(frame);
  const std::optional<StageRef> stage = straight_stage(frame, taps);
  if (!s || !stage) return made_stages(frame, taps, {});
  std::vector<StageRef> all{s->read, s->decode};
  if (const TapUse* tap = tap_in(taps, use_of({}, *s))) {
    const std::vector<StageRef> rendered = rendered_stages(*tap);
    all = {rendered[0], rendered[1]};
  } else if (s->joins_fields) {
    all.push_back(s->fields);
  }
  all.push_back(*stage);
  return all;
}

const CompiledSegment* Program::straight(Frames frame) const {
  const int i = interval_at(frame);
  if (i < 0) return nullptr;
  const CompiledInterval& interval = intervals_[static_cast<std::size_t>(i)];
  return interval.straight ? interval.layers.front().from.get() : nullptr;
}

std::optional<StageRef> Program::straight_stage(Frames frame, const TapPattern& taps) const {
  const CompiledSegment* s = straight(frame);
  if (!s) return std::nullopt;
  const TapUse* tap = tap_in(taps, use_of({}, *s));
  if (!tap) return intervals_[static_cast<std::size_t>(interval_at(frame))].straight;
  MediaInfo kept;
  kept.width = tap->width, kept.height = tap->height, kept.pixel_format = form_pixels(tap->form);
  if (form_has_alpha(tap->form) || !goes_straight(kept)) return std::nullopt;
  return gc::straight_stage(rendered_stages(*tap)[2], form_pixels(tap->form));
}

std::vector<StageRef> Program::made_stages(Frames frame, const TapPattern& taps, const Hash128& use) const {
  std::vector<StageRef> all;
  Fetched fetched;
  const int i = interval_at(frame);
  if (i >= 0) {
    bool first = true;
    for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers) {
      add_stages(all, l, frame, fetched, taps, use);
      const bool plain = first && l.from->covers && (!l.to || l.to->covers);
      const bool adjusts = l.from->content == Content::adjustment && !l.to;
      if (adjusts ? l.counts_partly(frame) : !plain) all.push_back(l.mix);
      first = false;
    }
  }
  if (output_) all.push_back(output_->stage);
  if (i >= 0) all.push_back(between(frame));
  all.push_back(display_);
  return all;
}

bool Program::unseen(Frames frame, const TapPattern& taps) const {
  const int i = interval_at(frame);
  if (i < 0 || !intervals_[static_cast<std::size_t>(i)].unseen) return false;
  if (taps.empty()) return true;
  bool is = false;
  const std::function<void(const Program&, Frames, const Hash128&)> look = [&](const Program& p, Frames f, const Hash128& outer) {
    const int k = p.interval_at(f);
    if (k < 0) return;
    for (const CompiledLayer& l : p.intervals_[static_cast<std::size_t>(k)].layers) {
      is = is || (l.to && l.kind == TransitionKind::morph);
      each_segment_of(l, [&](const CompiledSegment& s) {
        const Hash128 use = use_of(outer, s);
        const TapUse* tap = tap_in(taps, use);
        if (tap && tap->kind != TapKind::source) return;
        if (s.inner) look(*s.inner, s.frame_at(f, p.timeline_->rate), use);
        else is = is || s.unseen;
      });
    }
  };
  look(*this, frame, {});
  return is;
}

}  // namespace gc
