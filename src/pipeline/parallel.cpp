#include "pipeline/parallel.h"

#include <algorithm>

#include "base/clock.h"

namespace gc {
namespace {

double ms_a_frame(const ProgramPtr& program, const std::vector<Frames>& frames, const Parallelism& p) {
  std::mutex mutex;
  std::condition_variable all;
  std::size_t count = 0;
  PipelineOptions options;
  options.workers = p.workers, options.tiles = p.tiles;
  options.horizon = static_cast<int>(frames.size()) + 1, options.screen = false;
  const Stopwatch watch;
  Pipeline pipeline(program, nullptr, options, frames, [&](FrameResult&&) {
    const std::lock_guard lock(mutex);
    if (++count == frames.size()) all.notify_all();
  });
  std::unique_lock lock(mutex);
  all.wait(lock, [&] { return count == frames.size(); });
  return watch.ms() / static_cast<double>(frames.size());
}

}  // namespace

std::vector<Parallelism> try_parallelism(const ProgramPtr& program, const std::vector<Frames>& frames,
                                         int processors) {
  std::vector<Parallelism> ways{{processors, 1, 0}};
  if (processors >= 4) ways.push_back({processors / 2, 2, 0});
  if (processors >= 2) ways.push_back({1, processors, 0});
  if (frames.empty()) return ways;
  for (Parallelism& w : ways) w.ms = ms_a_frame(program, frames, w);
  std::stable_sort(ways.begin(), ways.end(),
                   [](const Parallelism& a, const Parallelism& b) { return a.ms < b.ms; });
  return ways;
}

}  // namespace gc
