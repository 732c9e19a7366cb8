#include "remedy/pricing.h"

#include <algorithm>

#include "base/mean.h"
#include "measure/measure.h"
#include "render/parts.h"

namespace gc {
double mean_stage_ms(const Notebook& notebook, const StageRef& stage) { return mean(notebook.stage(stage).ms); }

double piece_ms(const Notebook& notebook) {
  constexpr double kUsual = 150;
  const std::vector<float> measured = notebook.encode(piece_key());
  return measured.empty() ? kUsual : mean(measured);
}

Frames pieces_in(Frames frames) {
  return frames < kPiecePriced * 3 / 2 ? 1 : 1 + (frames - kPiecePriced / 2) / kPiecePriced;
}

double encode_ms(const Notebook& notebook, const Timeline& t, Form form, int width, int height) {
  // Measured against VC-3 HQX on pictures with grain, with this program's own encoders on one thread.
  static const std::map<Form, double> kAgainstHqx{
      {Form::vc3_lb, 0.8},   {Form::vc3_sq, 0.9},  {Form::vc3_hq, 1.0},      {Form::vc3_hqx, 1.0}, {Form::vc3_444, 1.7},
      {Form::v210, 0.25},    {Form::vc5, 0.9},     {Form::ffv1, 1.6},        {Form::ffv1_444, 2.2}, {Form::ffv1_alpha, 2.8},
      {Form::rdd36, 1.6},    {Form::rdd36_alpha, 2.8}, {Form::motion_jpeg, 0.5}, {Form::h264_intra, 1.2},
      {Form::exr_half, 1.4}, {Form::exr_half_alpha, 1.7}};
  // What was measured is the form that finished frames of this raster are kept in.
  const double measured = mean(notebook.encode(encode_key(t.width, t.height)));
  const auto against = [](Form f) {
    const auto factor = kAgainstHqx.find(f);
    return factor == kAgainstHqx.end() ? 1 : factor->second;
  };
  return measured * against(form) / against(form_that_keeps(Form::vc3_hqx, false, t.width, t.height)) *
         (static_cast<double>(width) * height / (static_cast<double>(t.width) * t.height));
}

Pricing::Pricing(const ProgramPtr& rendered, const Notebook& notebook, FrameRange range, ForecastOptions options)
    : program_(rendered), notebook_(notebook), workers_(options.workers) {
  options.trials = 1, options.before = nullptr, options.cost_scale = 1;
  costs_ = forecast(*rendered, notebook, {}, range, options);
}

double Pricing::entry_ms(const IntervalCost& c, Frames at) const {
  for (const CostStretch& s : costs_.model->stretches) {
    if (at - costs_.range.in < s.in || at - costs_.range.in >= s.out) continue;
    return mean(costs_.model->pools[s.pool].entries) + static_cast<double>(s.entry_frames) * c.fetch_ms;
  }
  return 0;
}

double Pricing::frames(const std::vector<FrameRange>& ranges, Form form) const {
  const Timeline& t = *program_->timeline();
  const double encode = costs_.base * encode_ms(notebook_, t, form, t.width, t.height), each_piece = piece_ms(notebook_);
  double ms = 0;
  for (const FrameRange& r : ranges) {
    bool first = true;
    for (const IntervalCost& c : costs_.intervals) {
      const double n = static_cast<double>(std::min(r.out, c.out) - std::max(r.in, c.in));
      if (n <= 0) continue;
      double process = c.process_ms;
      for (const StageCost& stage : c.stages)
        if (stage.kind == StageKind::display) process -= stage.ms;  // no screen is there to make a picture for
      ms += n * std::max({encode, c.fetch_ms, (c.fetch_ms + std::max(0.0, process) + encode) / workers_});
      ms += each_piece * static_cast<double>(pieces_in(static_cast<Frames>(n)));
      if (first) ms += entry_ms(c, r.in);
      first = false;
    }
  }
  return ms / 1000;
}

double Pricing::stack(const CompiledSegment& s, std::size_t effects, Form form) const {
  const Timeline& t = *program_->timeline();
  const double encode = costs_.base * encode_ms(notebook_, t, form, t.width, t.height);
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
  const FrameRange made = frames_alone(t, s, effects);
  for (const IntervalCost& c : costs_.intervals) {
    const double n = static_cast<double>(std::min(made.out, c.out) - std::max(made.in, c.in));
    if (n <= 0) continue;
    double fetch = 0, all = 0;
    for (const StageCost& stage : c.stages)
      if (below(stage)) fetch += stage.turn_ms, all += stage.ms;
    ms += n * std::max({encode, fetch, (all + encode) / workers_});
    if (first) ms += entry_ms(c, std::max(made.in, c.in));
    first = false;
  }
  return (ms + piece_ms(notebook_) * static_cast<double>(pieces_in(made.length()))) / 1000;
}

}  // namespace gc
