// Benchmarks with goals. Prints a table and writes bench.json beside the program's build folder.
#include <benchmark/benchmark.h>
#include <fmt/format.h>
#include <unistd.h>

#include <QApplication>
#include <fstream>
#include <iostream>

#include "app/application.h"
#include "app/main_window.h"
#include "desk/desk.h"

using namespace gc;

namespace {

constexpr int kSegments = 2400, kFramesEach = 72;  // 172 800 frames: two hours at 24

/// Two hours of 2 400 segments with 10 000 effects in all.
TimelinePtr two_hours() {
  auto t = std::make_shared<Timeline>();
  t->name = "Two hours";
  t->width = 1280, t->height = 720;
  auto track = std::make_shared<Track>();
  track->id = "V1";
  int effects = 0;
  for (int i = 0; i < kSegments; ++i) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = fmt::format("segment-{}", i);
    s->content = Content::generator, s->ref = "solid", s->generator = {{"colour", {0.2, 0.2, 0.2}}};
    s->duration = kFramesEach;
    const int count = 10000 / kSegments + (i % 6 == 0 ? 1 : 0);
    for (int e = 0; e < count && effects < 10000; ++e, ++effects) {
      const bool blur = e % 2;
      s->stack.push_back(
          {fmt::format("e-{}-{}", i, e),
           blur ? "blur" : "cdl",
           blur ? Json{{"sigma", 1 + i % 40 * 0.1}} : Json{{"slope", {1.1, 1.0, 0.9}}, {"saturation", 1.1}},
           true,
           true,
           {}});
    }
    track->items.push_back(SegmentPtr(s));
  }
  t->tracks.push_back(track);
  return t;
}

struct World {
  fs::path folder;
  TimelinePtr timeline = two_hours();
  std::string otio = timeline_to_otio(*timeline);
  std::shared_ptr<MediaCatalog> media = std::make_shared<MediaCatalog>();
  ProgramPtr program = Program::compile(timeline, *media);
  std::shared_ptr<Notebook> notebook;
  ForecastOptions options;
  std::shared_ptr<Derived> derived = std::make_shared<Derived>();

  World() {
    std::string name = (fs::temp_directory_path() / "gclk-bench-XXXXXX").string();
    folder = ::mkdtemp(name.data());
    notebook = *Notebook::open(folder / "n.sqlite");
    std::srand(5);
    for (const CompiledInterval& i : program->intervals()) {
      const auto stages = program->stages(i.in);
      if (!notebook->frames(frame_key(stages)).empty()) continue;
      std::vector<FrameSample> samples;
      const double work = 30 + 60.0 * std::rand() / RAND_MAX;
      for (int n = 0; n < 64; ++n)
        samples.push_back({2, static_cast<float>(work * (0.95 + 0.1 * std::rand() / RAND_MAX))});
      notebook->add_frames(frame_key(stages), samples);
      for (const StageRef& s : stages)
        notebook->add_stage(s, std::vector<StageSample>(8, {s.kind, s.key, 8, 8, s.owner}));
    }
    notebook->add_frames(frame_key(program->sealed_stages()), std::vector<FrameSample>(32, {3, 8}));
    options.workers = 2;
    derived->view.timeline = timeline;
    derived->view.played = derived->view.delivered = program;
    derived->plan.before = forecast(*program, *notebook, {}, {0, program->duration()}, options);
    derived->pyramid = LoadPyramid(derived->plan.before, {});
  }
  ~World() {
    std::error_code e;
    fs::remove_all(folder, e);
  }
};
World& world() {
  static World w;
  return w;
}

void skyline_paint(benchmark::State& state) {
  World& w = world();
  QImage image(1280, 168, QImage::Format_RGB32);
  for (auto _ : state)
    paint_columns(image, *w.derived, 0, static_cast<double>(w.program->duration()) / 1280, 2);
}
BENCHMARK(skyline_paint)->Unit(benchmark::kMillisecond);

void skyline_paint_two_minutes(benchmark::State& state) {
  World& w = world();
  QImage image(1280, 168, QImage::Format_RGB32);
  for (auto _ : state) paint_columns(image, *w.derived, 50000, 2880.0 / 1280, 2);
}
BENCHMARK(skyline_paint_two_minutes)->Unit(benchmark::kMillisecond);

void forecast_two_hours(benchmark::State& state) {
  World& w = world();
  for (auto _ : state)
    benchmark::DoNotOptimize(forecast(*w.program, *w.notebook, {}, {0, w.program->duration()}, w.options));
}
BENCHMARK(forecast_two_hours)->Unit(benchmark::kMillisecond);

void otio_load(benchmark::State& state) {
  World& w = world();
  for (auto _ : state) {
    auto t = timeline_from_otio(w.otio, "bench.otio", "/");
    benchmark::DoNotOptimize(t);
    if (!t) state.SkipWithError("the timeline was refused");
  }
}
BENCHMARK(otio_load)->Unit(benchmark::kMillisecond);

/// Resident memory in MB.
double resident_mb() {
  std::ifstream in("/proc/self/statm");
  long pages = 0, resident = 0;
  in >> pages >> resident;
  return static_cast<double>(resident) * static_cast<double>(sysconf(_SC_PAGESIZE)) / 1e6;
}

/// Resident memory once a window shows the two hours.
double memory_of_window(QApplication& app) {
  std::string name = (fs::temp_directory_path() / "gclk-bench-XXXXXX").string();
  const fs::path folder = ::mkdtemp(name.data());
  double memory = 0;
  {
    (void)save_timeline(*two_hours(), folder / "two-hours.otio");
    DeskOptions o;
    o.shelf = folder / "shelf", o.notebook = folder / "n.sqlite";
    Session session(*Stores::open(o));
    MainWindow window(session);
    window.show();
    session.open(QString::fromStdString((folder / "two-hours.otio").string()));
    for (int i = 0; i < 6000 && !session.derived(); ++i) app.processEvents(), usleep(10000);
    session.stop_work();
    for (int i = 0; i < 50; ++i) app.processEvents(QEventLoop::AllEvents, 10);
    if (session.derived()) memory = resident_mb();
  }
  std::error_code e;
  fs::remove_all(folder, e);
  return memory;
}

struct BenchGoal {
  const char* bench;
  const char* what;
  const char* unit;
  double goal;
};
constexpr BenchGoal kGoals[] = {
    {"skyline_paint", "skyline paint, 172 800 frames at 1280 px", "ms", 4},
    {"skyline_paint_two_minutes", "skyline paint, two minutes at 1280 px", "ms", 4},
    {"forecast_two_hours", "forecast, 172 800 frames, 2 400 segments, 64 trials", "ms", 100},
    {"otio_load", "OTIO load, 2 400 segments with 10 000 effects", "ms", 500}};

class Collect : public benchmark::ConsoleReporter {
 public:
  Collect() : ConsoleReporter(OO_None) {}
  bool ReportContext(const Context&) override { return true; }
  void ReportRuns(const std::vector<Run>& runs) override {
    for (const Run& r : runs)
      if (r.run_type == Run::RT_Aggregate && r.aggregate_name == "median")
        medians[r.run_name.function_name] = r.GetAdjustedRealTime();
  }
  std::map<std::string, double> medians;
};

}  // namespace

int main(int argc, char** argv) {
  qputenv("QT_QPA_PLATFORM", "offscreen");
  // Memory first, in a window with that timeline open: before the benchmarks fill the pools.
  Application app(argc, argv);
  const double memory = memory_of_window(app);
  std::vector<char*> args(argv, argv + argc);
  std::string repeat = "--benchmark_repetitions=5", aggregate = "--benchmark_report_aggregates_only=true",
              least = "--benchmark_min_time=0.2";
  args.insert(args.end(), {repeat.data(), aggregate.data(), least.data()});
  int count = static_cast<int>(args.size());
  benchmark::Initialize(&count, args.data());
  Collect collect;
  benchmark::RunSpecifiedBenchmarks(&collect);

  Json out = Json::array();
  const auto line = [&](const std::string& name, const std::string& what, double value, const char* unit,
                        double goal) {
    const bool met = value > 0 && value <= goal;  // nothing measured is nothing met
    out.push_back({{"name", name}, {"value", value}, {"unit", unit}, {"goal", goal}, {"met", met}});
    fmt::print("  {:<56} {:>9.2f} {:<3} goal {:>7.0f}  {}\n", what, value, unit, goal,
               met ? "met" : "missed");
  };
  for (const BenchGoal& g : kGoals)
    if (const auto it = collect.medians.find(g.bench); it != collect.medians.end())
      line(g.bench, g.what, it->second, g.unit, g.goal);
  line("resident_memory", "resident memory with that timeline open", memory, "MB", 400);
  const fs::path file = fs::path(GCLK_BUILD) / "bench.json";
  if (auto r = write_file_atomic(file, out.dump(1) + "\n"); !r) {
    std::cerr << r.error().text() << "\n";
    return 4;
  }
  fmt::print("  written to {}\n", file.string());
  return 0;
}
