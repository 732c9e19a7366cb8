#include "render/program.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "timeline/keys.h"

namespace gc {

void add_effect_values(Hasher& h, const CompiledEffect& e, Frames frame);  // compile.cpp

namespace {

/// Timeline frames whose content the first `count` effects need for one frame.
void content_frames(const CompiledSegment& s, Frames frame, std::size_t count, Rate rate,
                    std::set<Frames>& out) {
  const int j = s.last_temporal(count);
  if (j < 0) {
    out.insert(frame);
    return;
  }
  const Window& w = s.effects[static_cast<std::size_t>(j)].window;
  for (int d = -w.before; d <= w.after; ++d)
    content_frames(s, s.neighbour(frame, d, rate), static_cast<std::size_t>(j), rate, out);
}

}  // namespace

Result<MediaInfo> MediaCatalog::info(const std::string& path) {
  const Hash128 now = file_identity(path);
  const std::lock_guard lock(mutex_);
  if (const auto it = known_.find(path); it != known_.end() && it->second && it->second->identity == now)
    return it->second;
  auto found = probe(path);
  known_.insert_or_assign(path, found);
  return found;
}

std::shared_ptr<const EffectInstance> CompiledEffect::at(Frames frame) const {
  if (fixed) return fixed;
  const Json plain = params_at(params, static_cast<double>(frame));
  return type->make(scaled_params(*type, plain, number_or(params, "_scale", 1)), width, height);
}

const StageRef& CompiledEffect::stage_at(Frames frame) const {
  const auto after = std::upper_bound(pieces.begin(), pieces.end(), frame,
                                      [](Frames f, const auto& piece) { return f < piece.first; });
  return after == pieces.begin() ? stage : std::prev(after)->second;
}

Frames CompiledSegment::frame_at(Frames timeline_frame, Rate timeline_rate) const {
  const Rate rate = content == Content::composition ? timeline_rate : source_rate;
  return source_frame(source_at, timeline_frame - in, segment->speed, rate, timeline_rate);
}

SourcePosition CompiledSegment::position_at(Frames timeline_frame, Rate timeline_rate) const {
  if (media.still) return {0, 0};
  if (!retimes) return {frame_at(timeline_frame, timeline_rate), 0};
  SourcePosition p =
      source_position(source_at, timeline_frame - in, segment->speed, source_rate, timeline_rate);
  // There is nothing between the last frame and the end.
  if (p.fraction < 1e-6 || p.frame + 1 >= media.frames) p.fraction = 0;
  return p;
}

float CompiledSegment::opacity_at(Frames timeline_frame) const {
  const Json v = value_at(segment->opacity, static_cast<double>(timeline_frame - in));
  return v.is_number() ? std::clamp(v.get<float>(), 0.0f, 1.0f) : 1.0f;
}

Frames CompiledSegment::neighbour(Frames timeline_frame, int d, Rate rate) const {
  const auto exists = [&](Frames f) {
    if (content == Content::source && !media.still) {
      return media.has(frame_at(f, rate));
    }
    if (content == Content::composition) {
      const Frames n = frame_at(f, rate);
      return n >= 0 && n < inner->duration();
    }
    return true;
  };
  for (; d != 0; d += d > 0 ? -1 : 1)
    if (exists(timeline_frame + d)) return timeline_frame + d;
  return timeline_frame;
}

bool CompiledSegment::missing_at(Frames f, Rate rate) const {
  if (content == Content::offline) return true;
  if (content == Content::source) {
    const SourcePosition p = position_at(f, rate);
    return !media.has(p.frame) || (p.fraction > 0 && !media.has(p.frame + 1));
  }
  if (!inner) return false;
  const int i = inner->interval_at(frame_at(f, rate));
  return i >= 0 && inner->intervals()[static_cast<std::size_t>(i)].missing;
}

int CompiledSegment::last_temporal(std::size_t count) const {
  for (int i = static_cast<int>(std::min(count, effects.size())) - 1; i >= 0; --i)
    if (effects[static_cast<std::size_t>(i)].window.length() > 1) return i;
  return -1;
}

bool CompiledLayer::missing_at(Frames f, Rate rate) const {
  return from->missing_at(f, rate) || (to && to->missing_at(f, rate)) || (from_matte && from_matte->missing_at(f, rate)) ||
         (to_matte && to_matte->missing_at(f, rate));
}

float CompiledLayer::mix_at(Frames frame) const {
  // The first frame already shows some of the incoming picture, the last still some of the outgoing.
  return static_cast<float>(frame - in + 1) / static_cast<float>(out - in + 1);
}

Hash128 use_of(const Hash128& outer, const CompiledSegment& s) {
  return Hasher().add(outer).add(s.segment->id).done();
}

int Program::interval_at(Frames frame) const {
  const auto it = std::upper_bound(intervals_.begin(), intervals_.end(), frame,
                                   [](Frames f, const CompiledInterval& i) { return f < i.out; });
  return it != intervals_.end() && frame >= it->in ? static_cast<int>(it - intervals_.begin()) : -1;
}

Hash128 Program::stack_key(const CompiledSegment& s, Frames frame, std::size_t count) const {
  Hasher h;
  const int j = s.last_temporal(count);
  if (j >= 0) {
    const Window& w = s.effects[static_cast<std::size_t>(j)].window;
    for (int d = -w.before; d <= w.after; ++d)
      h.add(stack_key(s, s.neighbour(frame, d, timeline_->rate), static_cast<std::size_t>(j)));
  } else {
    h.add(s.content_identity);
    if (s.inner) h.add(s.inner->fingerprint(s.frame_at(frame, timeline_->rate)));
    if (s.content == Content::generator) add_effect_values(h, s.generator, frame - s.in);
    if (s.content == Content::source) {
      const SourcePosition p = s.position_at(frame, timeline_->rate);
      h.add(p.frame);
      if (p.fraction > 0) h.add(fmt::format("{:.6f}", p.fraction));
    }
  }
  for (std::size_t i = j < 0 ? 0 : static_cast<std::size_t>(j); i < std::min(count, s.effects.size()); ++i)
    add_effect_values(h, s.effects[i], frame - s.in);
  return h.done();
}

void Program::add_layer(Hasher& h, const CompiledLayer& l, Frames frame) const {
  const auto add = [&](const CompiledSegment& s) {
    h.add(s.identity);
    if (s.varies || s.retimes) {
      h.add(stack_key(s, frame, s.effects.size()));
    } else {
      const Frames at = s.media.still ? 0 : s.frame_at(frame, timeline_->rate);
      if (s.inner) h.add(s.inner->fingerprint(at));
      else if (s.content == Content::source) h.add(at);
    }
    if (has_keys(s.segment->opacity)) h.add(fmt::format("{:a}", s.opacity_at(frame)));
  };
  add(*l.from);
  if (l.from_matte) add_layer(h.add("matte"), *l.from_matte, frame);
  if (!l.to) return;
  h.add(frame - l.in).add(l.out - l.in).add(l.identity);
  add(*l.to);
  if (l.to_matte) add_layer(h.add("matte"), *l.to_matte, frame);
}

Hash128 Program::fingerprint(Frames frame) const {
  Hasher h;
  h.add(kRendererVersion).add(timeline_->width).add(timeline_->height);
  h.add(timeline_->working_space).add(timeline_->display_space);
  const int i = interval_at(frame);
  if (i < 0) return h.done();
  for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers) add_layer(h, l, frame);
  return h.done();
}

Hash128 Program::picture_key(Frames frame) const {
  Hasher h;
  h.add(fingerprint(frame))
      .add(options_.scale)
      .add(options_.draft * 4 + options_.half * 2 + options_.rendering);
  if (const auto& r = options_.region) h.add(r->x).add(r->y).add(r->width).add(r->height);
  return h.done();
}

void Program::gather(const CompiledSegment& s, Frames frame, std::vector<DecodeRequest>& out,
                     const Hash128& use, int keep) const {
  if (s.unseen && !s.inner && !options_.rendering) return;
  const Hash128 inner = use_of(use, s);
  std::set<Frames> frames;
  content_frames(s, frame, s.effects.size(), timeline_->rate, frames);
  const int kept = keep + (frames.size() > 1 ? s.window.length() + 1 : 0) + (s.retimes ? 2 : 0);
  const auto ask = [&](Frames at) {
    const DecodeRequest r{s.path, at, inner, s.read, s.decode, s.content == Content::offline, kept,
                          s.joins_fields ? &s.fields : nullptr};
    if (std::none_of(out.begin(), out.end(),
                     [&](const DecodeRequest& o) { return o.frame == at && o.use == inner; }))
      out.push_back(r);
  };
  for (const Frames f : frames) {
    if (s.inner) s.inner->gather(s.frame_at(f, timeline_->rate), out, inner, kept);
    if (s.content == Content::offline) ask(s.frame_at(f, timeline_->rate));
    if (s.content != Content::source) continue;
    const SourcePosition p = s.position_at(f, timeline_->rate);
    ask(p.frame);
    if (p.fraction > 0) ask(p.frame + 1);
  }
}

void Program::gather(const CompiledLayer& l, Frames frame, std::vector<DecodeRequest>& out,
                     const Hash128& use, int keep, const CompiledSegment* tapped) const {
  if (l.to && l.kind == TransitionKind::morph && !options_.rendering) return;
  if (l.from.get() != tapped) gather(*l.from, frame, out, use, keep);
  if (l.from_matte) gather(*l.from_matte, frame, out, use, keep);
  if (!l.to) return;
  gather(*l.to, frame, out, use, keep);
  if (l.to_matte) gather(*l.to_matte, frame, out, use, keep);
}

bool CompiledLayer::counts_partly(Frames frame) const {
  return has_keys(from->segment->opacity) || from->opacity_at(frame) < 1 || from_matte;
}

void Program::gather(Frames frame, std::vector<DecodeRequest>& out, const Hash128& use, int keep,
                     const CompiledSegment* tapped) const {
  const int i = interval_at(frame);
  if (i < 0) return;
  for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers)
    gather(l, frame, out, use, keep, tapped);
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

std::optional<Tap> Program::tap(Frames frame, const SealLookup& seals) const {
  const int i = interval_at(frame);
  if (i < 0 || intervals_[static_cast<std::size_t>(i)].layers.empty()) return std::nullopt;
  const CompiledSegment& s = *intervals_[static_cast<std::size_t>(i)].layers.front().from;
  if (s.content == Content::offline || s.content == Content::adjustment || s.effects.empty() || s.unseen)
    return std::nullopt;
  for (auto count = static_cast<int>(s.effects.size()); count > std::max(0, s.last_temporal(s.effects.size())); --count)
    if (auto hit = seals.find(tap_key(s, frame, static_cast<std::size_t>(count))))
      return Tap{std::move(*hit), &s, static_cast<std::size_t>(count)};
  return std::nullopt;
}

FrameRecipe Program::recipe(Frames frame, const SealLookup* seals) const {
  FrameRecipe r;
  r.frame = frame;
  r.interval = interval_at(frame);
  if (seals) r.seal = seals->find(fingerprint(frame));
  if (r.seal) {
    r.requests.push_back({r.seal->path, r.seal->index, hash_text(r.seal->path), sealed_read_, sealed_decode_, false, 0,
                          nullptr, r.seal->checksum, true});
    return r;
  }
  if (seals && seals->has_taps()) r.tap = tap(frame, *seals);
  gather(frame, r.requests, {}, 0, r.tap ? r.tap->segment : nullptr);
  if (r.tap)
    r.requests.push_back({r.tap->hit.path, r.tap->hit.index, hash_text(r.tap->hit.path), sealed_read_, sealed_decode_,
                          false, 0, nullptr, r.tap->hit.checksum, true});
  return r;
}

void Program::add_stages(std::vector<StageRef>& all, const CompiledSegment& s, Frames frame,
                         Fetched& fetched, std::size_t tapped) const {
  if (s.unseen && !s.inner && !options_.rendering) return;
  const SourcePosition p = s.position_at(frame, timeline_->rate);
  if (tapped > 0) {
    all.insert(all.end(), {sealed_read_, sealed_decode_, sealed_convert_});
  } else if (s.inner) {
    for (const StageRef& r : s.inner->made_stages(p.frame))
      if (r.kind != StageKind::display && r.key != s.inner->between(p.frame).key) all.push_back(r);
  } else if (s.content == Content::source) {
    if (fetched.insert(&s).second) {
      all.insert(all.end(), {s.read, s.decode});
      if (s.joins_fields) all.push_back(s.fields);
    }
    all.push_back(s.convert);
    if (s.retimes) all.insert(all.end(), {s.convert, s.retime});
  } else if (s.content == Content::generator) {
    all.push_back(s.convert);
  }
  for (std::size_t i = tapped; i < s.effects.size(); ++i) {
    const CompiledEffect& e = s.effects[i];
    const bool there = e.device == Device::accelerator;
    if (there && (i == tapped || s.effects[i - 1].device != Device::accelerator)) all.push_back(e.transfer);
    all.push_back(e.stage_at(frame - s.in));
    if (there && (i + 1 == s.effects.size() || s.effects[i + 1].device != Device::accelerator))
      all.push_back(e.transfer);
  }
  if (!s.segment->matte.track.empty() && s.content != Content::adjustment) all.push_back(s.matte_stage);
}

void Program::add_stages(std::vector<StageRef>& all, const CompiledLayer& l, Frames frame,
                         Fetched& fetched, std::size_t tapped) const {
  add_stages(all, *l.from, frame, fetched, tapped);
  if (l.from->content == Content::adjustment && l.from_matte) all.push_back(l.from->matte_stage);
  if (l.from_matte) add_stages(all, *l.from_matte, frame, fetched);
  if (!l.to) return;
  add_stages(all, *l.to, frame, fetched);
  if (l.to_matte) add_stages(all, *l.to_matte, frame, fetched);
  all.push_back(l.transition);
}

StageRef Program::between(Frames frame) const {
  const int i = interval_at(frame);
  return i < 0 ? StageRef{} : intervals_[static_cast<std::size_t>(i)].between;
}

std::vector<StageRef> Program::stages(Frames frame, std::size_t tapped) const {
  const CompiledSegment* s = straight(frame);
  if (!s) return made_stages(frame, tapped);
  std::vector<StageRef> all{s->read, s->decode};
  if (s->joins_fields) all.push_back(s->fields);
  all.push_back(*intervals_[static_cast<std::size_t>(interval_at(frame))].straight);
  return all;
}

const CompiledSegment* Program::straight(Frames frame) const {
  const int i = interval_at(frame);
  if (i < 0) return nullptr;
  const CompiledInterval& interval = intervals_[static_cast<std::size_t>(i)];
  return interval.straight ? interval.layers.front().from.get() : nullptr;
}

std::vector<StageRef> Program::made_stages(Frames frame, std::size_t tapped) const {
  std::vector<StageRef> all;
  Fetched fetched;
  const int i = interval_at(frame);
  if (i >= 0) {
    bool first = true;
    for (const CompiledLayer& l : intervals_[static_cast<std::size_t>(i)].layers) {
      add_stages(all, l, frame, fetched, first ? tapped : 0);
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

std::vector<StageRef> Program::sealed_stages() const {
  if (sealed_straight_) return {sealed_read_, sealed_decode_, *sealed_straight_};
  return {sealed_read_, sealed_decode_, sealed_convert_, display_};
}

namespace {

std::string why_missing(const CompiledSegment& s, Rate rate, FrameRange at) {
  if (s.content == Content::offline) return s.trouble;
  const Frames first = s.frame_at(at.in, rate), last = s.frame_at(at.out - 1, rate);
  const Frames from = std::min(first, last), to = std::max(first, last);
  if (from < 0)
    return fmt::format("it needs frames before the first of {} (from {}). Move the segment's start.",
                       s.path, from);
  if (to >= s.media.frames && s.media.frames > 0)
    return fmt::format("it needs source frames {} to {}, {} has {}. Shorten the segment or replace the file.",
                       from, to, s.path, s.media.frames);
  return fmt::format("frames {} to {} of {} are missing. Render or copy them again; the others play.", from, to,
                     s.path);
}

void gather_missing(const Program& program, Frames offset, FrameRange used, const std::string& inside,
                    std::vector<MissingPicture>& all) {
  const Rate rate = program.timeline()->rate;
  for (const CompiledSegmentPtr& s : program.segments()) {
    const FrameRange live{std::max(s->live_in, used.in), std::min(s->live_out, used.out)};
    if (live.length() <= 0) continue;
    if (s->inner) {
      const bool plain = s->segment->speed == Ratio{};
      const Frames start = s->frame_at(live.in, rate);
      const FrameRange within = plain ? FrameRange{start, start + live.length()} : FrameRange{0, s->inner->duration()};
      const std::size_t before = all.size();
      gather_missing(*s->inner, offset + live.in - within.in, within,
                     inside + (inside.empty() ? "" : ", ") + s->segment->name, all);
      for (std::size_t i = before; i < all.size() && !plain; ++i)
        all[i].at = {offset + live.in, offset + live.out};
      continue;
    }
    if (s->content == Content::offline) {
      all.push_back({s->segment->id, s->segment->name, inside, {offset + live.in, offset + live.out},
                     why_missing(*s, rate, live)});
      continue;
    }
    if (s->content != Content::source) continue;
    for (Frames f = live.in; f < live.out; ++f) {
      if (!s->missing_at(f, rate)) continue;
      Frames end = f + 1;
      while (end < live.out && s->missing_at(end, rate)) ++end;
      all.push_back({s->segment->id, s->segment->name, inside, {offset + f, offset + end},
                     why_missing(*s, rate, {f, end})});
      f = end;
    }
  }
}

}  // namespace

std::vector<MissingPicture> missing_pictures(const Program& program) {
  std::vector<MissingPicture> all;
  gather_missing(program, 0, {0, program.duration()}, "", all);
  std::stable_sort(all.begin(), all.end(),
                   [](const MissingPicture& a, const MissingPicture& b) { return a.at.in < b.at.in; });
  return all;
}

const CompiledSegment* main_segment(const Program& program, Frames frame) {
  const int i = program.interval_at(frame);
  if (i < 0) return nullptr;
  const auto& layers = program.intervals()[static_cast<std::size_t>(i)].layers;
  return layers.empty() ? nullptr : layers.front().from.get();
}

}  // namespace gc
