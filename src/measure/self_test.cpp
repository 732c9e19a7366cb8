#include "measure/self_test.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <map>

#include "base/clock.h"
#include "render/agree.h"

namespace gc {
namespace {

double share_of(std::vector<double> v, double share) {
  if (v.empty()) return 1e9;
  std::sort(v.begin(), v.end());
  return v[std::min(v.size() - 1, static_cast<std::size_t>(share * static_cast<double>(v.size())))];
}

}  // namespace

std::vector<Goal> law_goals(const std::vector<HeldOut>& held_out) {
  std::vector<double> stage, segment;
  double inside = 0;
  for (const HeldOut& h : held_out) {
    if (h.law.empty()) {
      segment.push_back(h.error() * 100);
    } else {
      stage.push_back(h.error() * 100);
      inside += h.measured_ms >= h.predicted.low && h.measured_ms <= h.predicted.high;
    }
  }
  return {{"stage cost, median error", "%", share_of(stage, 0.5), 0, 5},
          {"stage cost, error of nine in ten", "%", share_of(stage, 0.9), 0, 15},
          {"segment cost, median error", "%", share_of(segment, 0.5), 0, 5},
          {"segment cost, error of nine in ten", "%", share_of(segment, 0.9), 0, 12},
          {"stages within the interval stated as 90 %", "%",
           stage.empty() ? 0 : 100 * inside / static_cast<double>(stage.size()), 85, 95}};
}

std::vector<LawError> law_errors(const std::vector<HeldOut>& held_out) {
  std::map<std::string, std::vector<const HeldOut*>> by_law;
  for (const HeldOut& h : held_out)
    if (!h.law.empty()) by_law[h.law].push_back(&h);
  std::vector<LawError> all;
  for (const auto& [law, tries] : by_law) {
    std::vector<double> error, bias, ms;
    for (const HeldOut* h : tries)
      error.push_back(h->error()), bias.push_back(h->predicted.ms / h->measured_ms - 1),
          ms.push_back(h->measured_ms);
    all.push_back({law, static_cast<int>(tries.size()), share_of(error, 0.5), share_of(error, 1),
                   share_of(bias, 0.5), share_of(ms, 0.5)});
  }
  std::sort(all.begin(), all.end(), [](const LawError& a, const LawError& b) { return a.worst > b.worst; });
  return all;
}

Result<std::vector<Goal>> notebook_goals(const fs::path& folder, std::int64_t samples) {
  const fs::path file = folder / "large-notebook.sqlite", empty = folder / "empty-notebook.sqlite";
  const auto remove = [&] {
    for (const fs::path& p : {file, empty})
      for (const char* tail : {"", "-wal", "-shm"}) {
        std::error_code e;
        fs::remove(p.string() + tail, e);
      }
  };
  remove();
  const LawName* name = law_name("self-test", "Self-test", StageKind::effect, {"Mpixel", "Mpixel × taps"});
  constexpr std::size_t kBatch = 2000;
  {
    auto n = Notebook::open(file);
    if (!n) return std::unexpected(n.error());
    std::vector<StageSample> batch(kBatch);
    for (std::int64_t at = 0; at < samples; at += static_cast<std::int64_t>(kBatch)) {
      const auto k = at / static_cast<std::int64_t>(kBatch);
      StageRef ref{StageKind::effect, Hasher().add(k).done(), 0, name, {}, false};
      ref.terms = {0.2f + 0.1f * static_cast<float>(k % 19), 1.0f + static_cast<float>(k % 31)};
      for (std::size_t i = 0; i < kBatch; ++i) {
        const float ms = 2 * ref.terms[0] + 0.3f * ref.terms[1] + 0.01f * static_cast<float>(i % 7);
        batch[i] = {StageKind::effect, ref.key, ms, ms, 0};
      }
      (*n)->add_stage(ref, batch);
      if (k % 100 == 99)
        if (auto r = (*n)->save(); !r) return remove(), std::unexpected(r.error());
    }
    if (auto r = (*n)->save(); !r) return remove(), std::unexpected(r.error());
  }
  std::vector<double> small, large, update;
  std::int64_t kept = 0;
  for (int i = 0; i < 5; ++i) {
    Stopwatch watch;
    { auto n = Notebook::open(empty); }
    small.push_back(watch.ms());
    watch.restart();
    auto n = Notebook::open(file);
    if (!n) return remove(), std::unexpected(n.error());
    // Opened means ready to answer.
    (void)(*n)->predict(*name, {1.0f, 9.0f});
    large.push_back(watch.ms());
    kept = (*n)->samples();
    StageRef ref{StageKind::effect, hash_text("self-test"), 0, name, {0.77f, 7.7f}, false};
    const StageSample one{StageKind::effect, ref.key, 4, 4, 0};
    watch.restart();
    (*n)->learn(ref, std::span(&one, 1));
    (void)(*n)->predict(*name, ref.terms);
    update.push_back(watch.ms());
  }
  remove();
  return std::vector<Goal>{
      {"samples in the large notebook", "", static_cast<double>(kept), static_cast<double>(samples), 1e18},
      {"opening it, more than an empty one", "ms", share_of(large, 0.5) - share_of(small, 0.5), -1e9, 200},
      {"one new sample until its law is new", "ms", share_of(update, 0.5), 0, 5}};
}

Goal covered_goal(Notebook& notebook, int workers) {
  // A blur and a grade on a gradient, with parameters that nothing was measured at.
  auto t = std::make_shared<Timeline>();
  t->name = "Covered", t->width = 1100, t->height = 620;
  auto s = std::make_shared<Segment>();
  s->id = "covered", s->duration = 24, s->content = Content::generator, s->ref = "gradient";
  s->generator = showing_params(gradient_generator());
  s->stack = {{"a", "blur", {{"sigma", 3.3}}}, {"b", "contrast", {{"contrast", 1.23}}}};
  auto track = std::make_shared<Track>();
  track->id = "V1", track->items.push_back(SegmentPtr(s));
  t->tracks.push_back(track);
  MediaCatalog media;
  const ProgramPtr program = Program::compile(t, media);
  Goal goal{"frames measured for a segment that the laws cover", "", 24, 0, 0};
  // Where the laws are not sure enough every frame of it would be measured.
  if (!covered(notebook, program->stages(0))) return goal;
  // How sealed media play is another question; it is answered here so that it does not count.
  const std::vector<FrameSample> answer(64, {1, 1});
  notebook.add_frames(frame_key(program->sealed_stages()), answer);
  MeasureOptions options;
  options.workers = workers, options.seconds = 5;
  if (auto r = measure(program, notebook, options, {})) goal.value = r->frames;
  return goal;
}

Json to_json(const std::vector<Goal>& goals) {
  Json all = Json::array();
  for (const Goal& g : goals) {
    Json j{{"name", g.name}, {"unit", g.unit}, {"value", g.value}, {"met", g.met()}};
    if (g.least > -1e8 && g.least > 0) j["least"] = g.least;
    if (g.most < 1e17) j["most"] = g.most;
    all.push_back(j);
  }
  return all;
}

Json to_json(const std::vector<LawError>& errors) {
  Json all = Json::array();
  for (const LawError& e : errors)
    all.push_back({{"law", e.law},
                   {"tries", e.tries},
                   {"median_error", e.median},
                   {"worst_error", e.worst},
                   {"bias", e.bias},
                   {"ms", e.ms}});
  return all;
}

Json to_json(const std::vector<HeldOut>& held_out) {
  Json all = Json::array();
  for (const HeldOut& h : held_out) {
    Json j{{"measured_ms", h.measured_ms},
           {"predicted_ms", h.predicted.ms},
           {"low_ms", h.predicted.low},
           {"high_ms", h.predicted.high}};
    if (h.law.empty()) j["segment_of_stages"] = h.stages;
    else j["law"] = h.law, j["terms"] = h.terms;
    all.push_back(std::move(j));
  }
  return all;
}

}  // namespace gc
