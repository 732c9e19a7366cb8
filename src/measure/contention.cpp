#include "measure/contention.h"

#include <array>

#include "base/clock.h"
#include "measure/measure.h"
#include "render/agree.h"

namespace gc {
namespace {

constexpr Frames kWalk = 24;

SegmentPtr segment(const char* id, std::vector<Effect> stack) {
  auto s = std::make_shared<Segment>();
  s->id = id, s->duration = kWalk, s->content = Content::generator, s->ref = "gradient";
  s->generator = showing_params(gradient_generator());
  s->stack = std::move(stack);
  return s;
}

/// First a segment that copies pictures about, larger than caches are; then one that stays in its caches.
ProgramPtr two_sorts() {
  auto t = std::make_shared<Timeline>();
  t->name = "Contention", t->width = 1280, t->height = 720;
  std::vector<Effect> copies;
  for (const char* id : {"a", "b", "c"})
    copies.push_back({id, "transform", {{"rotation", 0}, {"scale", 1.0}, {"opacity", 0.9}}});
  auto track = std::make_shared<Track>();
  track->id = "V1";
  track->items.push_back(segment("memory", std::move(copies)));
  track->items.push_back(segment("computes", {{"n", "spatial_nr", {{"radius", 2}}}}));
  t->tracks.push_back(track);
  MediaCatalog media;
  return Program::compile(t, media);
}

/// Time of each frame's processing, of those that copy and of those that compute. Processor time: what other programs take while
/// a frame waits for a core is no matter of the frames.
std::array<std::vector<float>, 2> times(const ProgramPtr& program, std::vector<Frames> frames, int workers) {
  std::array<std::vector<float>, 2> ms;
  const std::vector<FrameResult> done = run_flat_out(program, nullptr, std::move(frames), workers);
  const auto fill = static_cast<std::size_t>(workers);
  for (std::size_t i = fill; i + fill < done.size(); ++i) {
    float sum = 0;
    for (const StageSample& s : done[i].stages) sum += s.cpu_ms;
    ms[done[i].frame < kWalk ? 0 : 1].push_back(sum);
  }
  return ms;
}

}  // namespace

std::vector<Contention> measure_contention(int workers, double seconds, const KeepGoing& go_on) {
  if (workers < 2) return {};
  const ProgramPtr program = two_sorts();
  std::vector<Frames> first, second, mixed;
  for (Frames i = 0; i < 10; ++i) first.push_back(i), second.push_back(kWalk + i);
  for (Frames i = 0; i < 10; ++i) mixed.push_back(i), mixed.push_back(kWalk + i);
  std::array<std::vector<float>, 2> alone, same, other;
  const auto add = [](std::array<std::vector<float>, 2>& to, const std::array<std::vector<float>, 2>& from) {
    for (std::size_t k = 0; k < 2; ++k) to[k].insert(to[k].end(), from[k].begin(), from[k].end());
  };
  const Stopwatch watch;
  do {
    for (const auto& frames : {first, second}) {
      if (go_on && !go_on()) return {};
      add(alone, times(program, frames, 1));
      add(same, times(program, frames, workers));
    }
    add(other, times(program, mixed, workers));
  } while (watch.ms() < seconds * 1000);
  std::vector<Contention> all;
  for (const std::size_t k : {0U, 1U})
    all.push_back({k == 0 ? "waits for memory" : "computes", median_of(alone[k]).median,
                   median_of(same[k]).median, median_of(other[k]).median});
  return all;
}

}  // namespace gc
