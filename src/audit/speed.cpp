#include "audit/speed.h"

#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <csignal>
#include <random>

#include "base/clock.h"
#include "base/gauge.h"
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
  m.mood.spread = 0.03;
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
  m.kinds = kinds_told(m);
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

/// Another program that wants the processors four times over for as long as this lives: the read-ahead
/// carries a light timeline through less.
class Stress {
 public:
  Stress() {
    std::string name = "stress-ng", cpu = "--cpu", number = std::to_string(4 * default_workers()),
                quiet = "--quiet", timeout = "--timeout", s = "60";
    char* argv[] = {name.data(), cpu.data(), number.data(), quiet.data(), timeout.data(), s.data(), nullptr};
    runs_ = ::posix_spawnp(&pid_, name.c_str(), nullptr, nullptr, argv, environ) == 0;
  }
  ~Stress() {
    if (!runs_) return;
    ::kill(pid_, SIGINT);
    ::waitpid(pid_, nullptr, 0);
  }
  Stress(const Stress&) = delete;
  Stress& operator=(const Stress&) = delete;
  bool runs() const { return runs_; }

 private:
  pid_t pid_ = 0;
  bool runs_ = false;
};

/// A gradient with as wide a blur as keeps the load near 0.6.
ProgramPtr light(Notebook& notebook, const ForecastOptions& options, MediaCatalog& media) {
  ProgramPtr best;
  for (double sigma = 1; sigma < 30; sigma *= 1.3) {
    auto t = std::make_shared<Timeline>();
    t->name = "Light", t->width = 1280, t->height = 720;
    auto s = std::make_shared<Segment>();
    s->id = "light", s->duration = 240, s->content = Content::generator, s->ref = gradient_generator().id;
    s->generator = showing_params(gradient_generator());
    s->stack = {{"a", "blur", {{"sigma", sigma}}}};
    auto track = std::make_shared<Track>();
    track->id = "V1", track->items.push_back(SegmentPtr(s));
    t->tracks.push_back(track);
    const ProgramPtr p = Program::compile(t, media);
    MeasureOptions m;
    m.seconds = 2, m.workers = options.workers;
    if (!measure(p, notebook, m, {})) return best;
    ForecastOptions few = options;
    few.trials = 4, few.outside = false;
    const double load = forecast(*p, notebook, {}, {0, 240}, few).intervals.front().load;
    if (!best || load < 0.65) best = p;
    if (load > 0.5) break;
  }
  return best;
}

/// What it takes to log a frame of a dozen stages, as the player does: clocks and gauge at every stage, the
/// frame's entry, and its cause as if it had been missed. ms, median.
double logging_ms() {
  constexpr std::size_t kStages = 12, kFrames = 400;
  const GaugeScope gauge(true);
  std::vector<FrameLog> log(kFrames);
  std::vector<double> each;
  for (std::size_t n = 0; n < kFrames; ++n) {
    const Stopwatch watch;
    FrameResult r;
    r.started_ms = r.fetch_began_ms = r.fetched_ms = now_ms();
    for (std::size_t i = 0; i < kStages; ++i) {
      const Stopwatch wall;
      const CpuStopwatch cpu;
      StageSample s;
      s.wall_ms = static_cast<float>(wall.ms()), s.cpu_ms = static_cast<float>(cpu.ms());
      s.ended_ms = now_ms(), s.gauge = gauge_around();
      r.stages.push_back(s);
    }
    r.done_ms = now_ms();
    note_making(log[n], r, now_ms(), 0);
    log[n].dropped = true;
    tell_causes(log, 2, 12, 1000.0 / 24);
    each.push_back(watch.ms());
  }
  std::sort(each.begin(), each.end());
  return each[each.size() / 2];
}

}  // namespace

std::vector<Goal> outside_goals(const ForecastOptions& options, Notebook& notebook) {
  MediaCatalog media;
  const ProgramPtr program = light(notebook, options, media);
  if (!program) return {};
  const auto once = [&] {
    PlayOptions o;
    o.workers = options.workers, o.horizon = options.horizon;
    NullDisplay display;
    const std::atomic<bool> stop{false};
    return play(program, nullptr, {0, program->duration()}, o, display, stop);
  };
  const Playout quiet = once();
  std::optional<Playout> disturbed;
  {
    const Stress stress;
    if (!stress.runs()) return {};
    ::usleep(300'000);
    disturbed = once();
  }
  const auto share = [](const Playout& p, Frames of) {
    return of > 0 ? 100.0 * static_cast<double>(p.dropped_outside) / static_cast<double>(of) : 0;
  };
  return {{"drops that stress-ng brought", "", static_cast<double>(disturbed->dropped), 1, 1e9},
          {"of them told to be the outside's", "%", share(*disturbed, disturbed->dropped), 90, 100},
          {"frames told to be the outside's while nothing disturbs", "%", share(quiet, quiet.frames), -1, 2}};
}

std::vector<Goal> speed_goals(int workers) {
  const Model model = two_hours(workers);
  Trials first;
  const double all = median_ms([&] { first = simulate(model, 64, 1); });
  Model edited = model;
  for (FrameSample& f : edited.pools[1200].frames) f.process_ms *= 0.5f;
  edited.kinds = kinds_told(edited);
  const double again = median_ms([&] { (void)simulate_again(edited, model, first); });
  // Frames of 1.5 frame budgets for each worker, for 20 s.
  PlayRecord script;
  script.workers = workers, script.rate = {24, 1};
  script.costs.assign(480, {2, 0, 1.5 * workers * script.rate.frame_ms() - 2, -2, false});
  const Playout p = play_script(plain(480), script, {0, 480});
  return {{"simulation of 172 800 frames, 2 400 segments, 64 trials", "ms", all, -1, 100},
          {"again after one edit", "ms", again, -1, 5},
          {"player's rate against flat out at load 1.5, scripted seat", "%",
           100 * p.rate_reached / (p.rate.fps() / 1.5), 95, 1e3},
          {"logging a frame of a dozen stages, of a frame budget at 24", "%",
           100 * logging_ms() / script.rate.frame_ms(), -1, 1}};
}

}  // namespace gc
