#include "remedy/pricing.h"

#include <algorithm>

#include "base/mean.h"
#include "render/copies.h"
#include "render/parts.h"

namespace gc {
double mean_stage_ms(const Notebook& notebook, const StageRef& stage) { return mean(notebook.stage(stage).ms); }

double piece_ms(const Notebook& notebook, Form form, int width, int height, double bytes, double base) {
  constexpr double kUsual = 150;
  const double each_mb = notebook.mean_encode(piece_bytes_key()).value_or(EncodeSample{}).wall_ms;
  return recording_ms(notebook).value_or(kUsual) + each_mb * bytes / 1e6 + base * file_ms(notebook, form, width, height);
}

namespace {

/// One frame of many made flat out. A worker is held for as long as it encodes, also while it waits for a drive, and the
/// encoder's threads take processors from the workers: the greater of the two.
double flat_out_ms(double fetch_ms, double process_ms, const EncodeCost& code, int workers) {
  return std::max({code.wall_ms, fetch_ms, (fetch_ms + process_ms + std::max(code.wall_ms, code.cpu_ms)) / workers});
}

}  // namespace

Frames pieces_in(Frames frames) {
  return static_cast<Frames>(cut_in_pieces({0, frames}).size());
}

Pricing::Pricing(const ProgramPtr& rendered, const Notebook& notebook, FrameRange range, ForecastOptions options)
    : program_(rendered), notebook_(notebook), workers_(options.workers) {
  options.trials = 1, options.before = nullptr, options.cost_scale = 1;
  costs_ = forecast(*rendered, notebook, {}, range, options);
}

double Pricing::entry_ms(const IntervalCost& c, Frames at) const {
  for (const CostStretch& s : costs_.model->stretches) {
    if (at - costs_.range.in < s.in || at - costs_.range.in >= s.out) continue;
    const CostPool& pool = costs_.model->pools[s.pool];
    // No frame before the first one has left the neighbours that it looks at. A segment's first frame may have fewer.
    const bool begins = at - costs_.range.in == s.in && s.entry_neighbours > 0;
    const double neighbours = (begins ? s.entry_neighbours : pool.neighbours) * static_cast<double>(pool.neighbour_ms) / workers_;
    return mean(pool.entries) + static_cast<double>(s.entry_frames) * c.fetch_ms + neighbours;
  }
  return 0;
}

EncodeCost Pricing::encode(Form form, const Hash128& content) const {
  const std::lock_guard lock(mutex_);
  const Timeline& t = *program_->timeline();
  const auto [it, fresh] = encode_.try_emplace(encode_key(form, t.width, t.height, content));
  if (fresh) it->second = encode_cost(notebook_, t, form, t.width, t.height, content).times(costs_.base);
  return it->second;
}

double Pricing::pieces_ms(Frames frames, Form form, const Hash128& content) const {
  const Timeline& t = *program_->timeline();
  const auto pieces = static_cast<double>(pieces_in(frames));
  const double bytes = static_cast<double>(frame_bytes(notebook_, form, t.width, t.height, content)) * static_cast<double>(frames);
  return pieces * piece_ms(notebook_, form, t.width, t.height, bytes / pieces, costs_.base);
}

double Pricing::frames(const std::vector<FrameRange>& ranges, Form form, const std::optional<Hash128>& content) const {
  double all_pieces = 0;
  for (const FrameRange& r : ranges)
    for (const IntervalCost& c : costs_.intervals) {
      const Frames n = std::min(r.out, c.out) - std::max(r.in, c.in);
      if (n > 0) all_pieces += pieces_ms(n, form, content.value_or(content_at(*program_, c.in)));
    }
  return frames_as(ranges, [&](const Hash128& of) { return encode(form, content.value_or(of)); }) + all_pieces / 1000;
}

double Pricing::frames_as(const std::vector<FrameRange>& ranges, const std::function<EncodeCost(const Hash128&)>& encoding) const {
  double ms = 0;
  for (const FrameRange& r : ranges) {
    bool first = true;
    for (const IntervalCost& c : costs_.intervals) {
      const double n = static_cast<double>(std::min(r.out, c.out) - std::max(r.in, c.in));
      if (n <= 0) continue;
      double process = c.process_ms;
      for (const StageCost& stage : c.stages)
        if (stage.kind == StageKind::display) process -= stage.ms;  // no screen is there to make a picture for
      const EncodeCost code = encoding(content_at(*program_, c.in));
      ms += n * flat_out_ms(c.fetch_ms, std::max(0.0, process), code, workers_);
      if (first) ms += entry_ms(c, r.in);
      first = false;
    }
  }
  return ms / 1000;
}

std::uint64_t Pricing::bytes(const std::vector<FrameRange>& ranges, Form form) const {
  const Timeline& t = *program_->timeline();
  return bytes_as(ranges, [&](const Hash128& content) { return frame_bytes(notebook_, form, t.width, t.height, content); });
}

std::uint64_t Pricing::bytes_as(const std::vector<FrameRange>& ranges, const std::function<std::uint64_t(const Hash128&)>& each) const {
  std::uint64_t all = 0;
  for (const FrameRange& r : ranges)
    for (const IntervalCost& c : costs_.intervals) {
      const Frames n = std::min(r.out, c.out) - std::max(r.in, c.in);
      if (n > 0) all += static_cast<std::uint64_t>(n) * each(content_at(*program_, c.in));
    }
  return all;
}

double Pricing::stack(const CompiledSegment& s, std::size_t effects, Form form) const {
  const Timeline& t = *program_->timeline();
  const FrameRange made = frames_alone(t, s, effects);
  // As it was tried or rendered before; else as what it starts from.
  const Hash128 own = program_->tap_key(s, made.in, effects);
  const bool known = !notebook_.encode(encode_key(form, t.width, t.height, own)).empty();
  const Hash128 content = known ? own : s.content_identity;
  const EncodeCost code = encode(form, content);
  const auto below = [&](const StageCost& c) {
    if (c.placed != s.segment->id) return false;
    if (c.segment != s.segment->id) return true;  // a layer of the composition that it shows
    if (c.effect.empty()) return c.kind != StageKind::mix && c.kind != StageKind::transition && c.kind != StageKind::display;
    for (std::size_t i = 0; i < effects && i < s.effects.size(); ++i)
      if (s.effects[i].id == c.effect) return true;
    return false;
  };
  double ms = 0;
  bool first = true;
  for (const IntervalCost& c : costs_.intervals) {
    const double n = static_cast<double>(std::min(made.out, c.out) - std::max(made.in, c.in));
    if (n <= 0) continue;
    double fetch = 0, all = 0;
    for (const StageCost& stage : c.stages)
      if (below(stage)) fetch += stage.turn_ms, all += stage.ms;
    ms += n * flat_out_ms(fetch, all - fetch, code, workers_);
    if (first) ms += entry_ms(c, std::max(made.in, c.in));
    first = false;
  }
  return (ms + pieces_ms(made.length(), form, content)) / 1000;
}

}  // namespace gc
