#include "render/program.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "media/identity.h"
#include "timeline/keys.h"

namespace gc {

void add_effect_values(Hasher& h, const CompiledEffect& e, Frames frame);  // compile.cpp

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

Program::WindowPictures Program::window_pictures(const CompiledSegment& s, Frames frame, std::size_t effect) const {
  const Window& window = s.effects[effect].window;
  const auto key = [&](int d) { return stack_key(s, s.neighbour(frame, d, timeline_->rate), effect); };
  WindowPictures seen;
  Hash128 before = key(-window.before);
  for (int d = 1 - window.before; d <= window.after; ++d) {
    const Hash128 next = key(d);
    seen.fresh = next != before, seen.others += seen.fresh, before = next;
  }
  return seen;
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
  if (const Program& p = playing(frame); &p != this) return p.picture_key(frame);
  Hasher h;
  h.add(fingerprint(frame))
      .add(options_.scale)
      .add(options_.draft * 4 + options_.half * 2 + options_.rendering);
  if (const auto& r = options_.region) h.add(r->x).add(r->y).add(r->width).add(r->height);
  return h.done();
}

bool CompiledLayer::counts_partly(Frames frame) const {
  return has_keys(from->segment->opacity) || from->opacity_at(frame) < 1 || from_matte;
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
