#include "audit/speed.h"

#include <algorithm>
#include <cmath>
#include <random>

#include "base/clock.h"
#include "playout/record.h"
#include "render/agree.h"

namespace gc {
namespace {

template <class F>
double median_ms(F&& f) {
  std::vector<double> ms;
  for (int i = 0; i < 3; ++i) {
    const Stopwatch watch;
    f();
    ms.push_back(watch.ms());
  }
  std::sort(ms.begin(), ms.end());
  return ms[1];
}

Model two_hours(int workers) {
  std::mt19937_64 rng(11);
  const auto unit = [&] { return std::uniform_real_distribution<double>(0, 1)(rng); };
  Model m;
  m.pace = {workers, 12, 1000.0 / 24};
  m.mood = 0.03;
  for (std::uint32_t i = 0; i < 2400; ++i) {
    const double load = 0.2 * std::pow(20, unit());
    CostPool pool;
    for (int k = 0; k < 96; ++k) {
      const double total = load * workers * m.pace.period_ms * (0.95 + 0.1 * unit());
      pool.frames.push_back({static_cast<float>(0.1 * total), static_cast<float>(0.9 * total)});
    }
    m.pools.push_back(std::move(pool));
    m.stretches.push_back({i * 72, (i + 1) * 72, i, true, 0});
  }
  return m;
}

/// A gradient with nothing on it: the script says what its frames take.
ProgramPtr plain(Frames length) {
  auto t = std::make_shared<Timeline>();
  t->name = "Script", t->width = 64, t->height = 36;
  auto s = std::make_shared<Segment>();
  s->id = "s", s->duration = length, s->content = Content::generator, s->ref = gradient_generator().id;
  s->generator = showing_params(gradient_generator());
  auto track = std::make_shared<Track>();
  track->id = "V1", track->items.push_back(SegmentPtr(s));
  t->tracks.push_back(track);
  MediaCatalog media;
  return Program::compile(t, media);
}

}  // namespace

std::vector<Goal> speed_goals(int workers) {
  const Model model = two_hours(workers);
  Trials first;
  const double all = median_ms([&] { first = simulate(model, 64, 1); });
  Model edited = model;
  for (FrameSample& f : edited.pools[1200].frames) f.process_ms *= 0.5f;
  const double again = median_ms([&] { (void)simulate_again(edited, model, first); });
  // Frames of 1.5 frame budgets for each worker, for 20 s.
  PlayRecord script;
  script.workers = workers, script.rate = {24, 1};
  script.costs.assign(480, {2, 0, 1.5 * workers * script.rate.frame_ms() - 2, -2, false});
  const Playout p = play_script(plain(480), script, {0, 480});
  return {{"simulation of 172 800 frames, 2 400 segments, 64 trials", "ms", all, -1, 100},
          {"again after one edit", "ms", again, -1, 5},
          {"player's rate against flat out at load 1.5, scripted seat", "%",
           100 * p.rate_reached / (p.rate.fps() / 1.5), 95, 1e3}};
}

}  // namespace gc
