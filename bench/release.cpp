// What stands between a plan and a delivery: choosing among 300 and 2 400 segments,
// and delivering by copying and by encoding. Writes build/bench-release.json.
#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <thread>

#include "base/clock.h"
#include "rows.h"
#include "desk/desk.h"
#include "media/synthetic.h"
#include "plan/plan_score.h"
#include "release/delivery.h"

using namespace gc;

namespace {

constexpr int kRounds = 5;
constexpr int kWidth = 1280, kHeight = 720;
constexpr Frames kLength = 240;
void plans() {
  for (const int units : {300, 2400}) {
    std::vector<double> seconds;
    for (int i = 0; i < 3; ++i) {
      const PlanCase c = random_plan_case(static_cast<std::uint64_t>(units + i), units);
      const Stopwatch watch;
      SimulationJudge judge = c.judge();
      Chooser chooser(c.problem, judge);
      (void)chooser.least_work({});
      seconds.push_back(watch.ms() / 1000);
    }
    row(fmt::format("plan_{}_segments", units), median(seconds), "s", units == 300 ? 1 : 5, false);
  }
}

/// A feature of 2 400 segments, a twentieth of which spill, forecast; then what one more pre-render would save.
void gains(const fs::path& folder) {
  auto t = std::make_shared<Timeline>();
  t->name = "A feature", t->width = kWidth, t->height = kHeight;
  auto track = std::make_shared<Track>();
  track->id = "V1";
  for (int i = 0; i < 2400; ++i) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = fmt::format("s-{}", i), s->content = Content::generator, s->ref = "solid", s->duration = 72;
    s->generator = {{"colour", {0.2, 0.2, 0.0001 * i}}};
    s->stack.push_back({s->id + "-b", "blur", {{"sigma", i % 20 == 7 ? 9.0 : 1.5}}, true, true, {}, {}});
    track->items.push_back(SegmentPtr(s));
  }
  t->tracks.push_back(track);
  const auto shelf = *Shelf::open(folder / "gains");
  const auto notebook = *Notebook::open(folder / "gains.sqlite");
  MediaCatalog media;
  const ProgramPtr program = Program::compile(t, media);
  for (const CompiledInterval& i : program->intervals()) {
    const float ms = i.in / 72 % 20 == 7 ? 110.0f : 8.0f;
    for (const StageRef& r : program->stages(i.in)) {
      const StageSample sample{r.kind, r.key, ms, ms, r.owner, 0};
      notebook->add_stage(r, std::vector<StageSample>(8, sample));
    }
  }
  ForecastOptions options;
  options.workers = 2;
  const Situation s = situation_for(program, *notebook, shelf.get(), media, shelf->route(*program), options, Device::processor, Form::vc3_hqx);
  std::vector<double> ms;
  double saved = 0;
  for (int i = 7; i < 2400; i += 100) {
    const auto p = proposal_of(s, fmt::format("render:s-{}", i));
    if (!p) continue;
    const Stopwatch watch;
    saved += drops_saved(s, *p);
    ms.push_back(watch.ms());
  }
  if (saved < 1) fmt::print("  the remedies save nothing: {} of them\n", ms.size());
  if (!ms.empty()) row("gain_of_one_remedy", median(ms), "ms", 5, false);
}

void deliveries(const fs::path& folder) {
  const fs::path file = folder / "m.mov";
  auto w = *MovieWriter::create(file.string(), Form::vc3_sq, kWidth, kHeight, {24, 1});
  std::vector<Image> pictures;
  for (Frames f = 0; f < kLength; ++f) {
    Image picture = synthetic_frame("hands", f, kWidth, kHeight, 7, 0.02f);
    (void)w->write(picture);
    if (f < 24) pictures.push_back(std::move(picture));
  }
  (void)w->finish();
  auto t = std::make_shared<Timeline>();
  t->width = kWidth, t->height = kHeight, t->name = "Delivered";
  auto m = std::make_shared<MediaSource>();
  m->id = "m", m->path = m->url = file.string(), m->length = kLength;
  t->sources["m"] = m;
  auto s = std::make_shared<Segment>();
  s->id = "a", s->ref = "m", s->duration = kLength;
  auto track = std::make_shared<Track>();
  track->id = "V1", track->items.push_back(SegmentPtr(s));
  t->tracks.push_back(track);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media);
  const auto shelf = *Shelf::open(folder / "shelf");
  const auto notebook = *Notebook::open(folder / "notebook.sqlite");
  if (auto r = prerender(p, *shelf, {{0, kLength}}, {}, {}); !r) fmt::print("{}\n", r.error().text());
  const auto seconds_of = [&](const char* form, int round) {
    DeliveryOptions o;
    o.to = folder / fmt::format("{}-{}.mov", form, round), o.form = form, o.range = {0, kLength}, o.workers = static_cast<int>(std::thread::hardware_concurrency());
    const Stopwatch watch;
    if (auto r = deliver(p, shelf.get(), *notebook, media, o, {}, {}); !r) fmt::print("{}\n", r.error().text());
    return watch.ms() / 1000;
  };
  std::vector<double> copied, encoded;
  for (int round = 0; round < kRounds; ++round) {
    copied.push_back(static_cast<double>(kLength) / 24 / seconds_of("vc3-hqx", round));
    // The encoder by itself, with its pictures ready in memory, beside the delivery that it does.
    const Stopwatch alone;
    auto writer = *MovieWriter::create((folder / "alone.mov").string(), Form::rdd36, kWidth, kHeight, {24, 1});
    for (Frames f = 0; f < kLength; ++f) (void)writer->write(pictures[static_cast<std::size_t>(f) % pictures.size()]);
    (void)writer->finish();
    const double encoder = alone.ms() / 1000;
    encoded.push_back(encoder / seconds_of("rdd36", round));
  }
  row("deliver_by_copying", median(copied), "×", 20, true);
  row("deliver_by_encoding", median(encoded), "×", 0.9, true);
}

}  // namespace

int main() {
  const auto scratch = ScratchFolder::make(fs::temp_directory_path(), "gclk-bench-");
  if (!scratch) return 4;
  fmt::print("Release, against its limits (copying: times real time; encoding: times the encoder by itself)\n");
  deliveries(scratch->path());
  gains(scratch->path());
  plans();
  if (auto r = write_file_atomic(fs::path(GCLK_BUILD) / "bench-release.json", results.dump(1) + "\n"); !r) fmt::print("{}\n", r.error().text());
  return 0;
}
