#include "queue/flat_out.h"

#include <condition_variable>
#include <map>
#include <mutex>

#include "base/log.h"
#include "pipeline/parallel.h"

namespace gc {

Result<bool> make_frames(const ProgramPtr& program, const std::vector<Frames>& frames, const FlatOut& options,
                         const std::function<Result<bool>(FrameResult&)>& take) {
  if (frames.empty()) return true;
  std::mutex mutex;
  std::condition_variable finished;
  std::optional<Error> error;
  bool over = false, handing_over = false;
  std::map<Frames, FrameResult> waiting;  ///< by place in the list
  Frames taken = 0;
  Pipeline* running = nullptr;
  Parallelism ways{options.workers, 1, 0};
  // A long render is worth a short trial of how its work is best shared out.
  constexpr std::size_t kWorthATrial = 240;
  if (frames.size() >= kWorthATrial)
    ways = try_parallelism(program, {frames.begin(), frames.begin() + 2 * options.workers + 2}, options.workers).front();
  PipelineOptions flat;
  flat.workers = ways.workers, flat.tiles = ways.tiles, flat.horizon = options.workers * 3;
  flat.screen = false, flat.keep_image = true, flat.background = options.background;
  // Only frames that one thread makes tell what a stage costs.
  std::optional<Learner> learner;
  if (options.notebook && flat.tiles == 1) learner.emplace(program, *options.notebook), flat.gauge = true;
  {
    std::unique_lock lock(mutex);
    Pipeline pipeline(program, options.rendered, flat, frames, [&](FrameResult&& result) {
      if (learner) learner->see(result);
      std::unique_lock guard(mutex);
      if (over) return;
      const Frames place = result.position;
      waiting.emplace(place, std::move(result));
      // While one worker hands frames over the others make more.
      if (handing_over) return;
      handing_over = true;
      for (auto it = waiting.find(taken); it != waiting.end() && !over; it = waiting.find(taken)) {
        FrameResult next = std::move(it->second);
        waiting.erase(it);
        guard.unlock();
        Result<bool> more = true;
        const auto threw = caught([&] { more = take(next); });
        guard.lock();
        ++taken;
        if (threw) error = *threw;
        else if (!more) error = more.error();
        over = threw || !more || !*more || taken == static_cast<Frames>(frames.size());
        running->consumed(taken);
      }
      handing_over = false;
      if (over) finished.notify_all();
    });
    running = &pipeline;
    finished.wait(lock, [&] { return over; });
    lock.unlock();  // the pipeline's end waits for workers that may want the lock
  }
  if (learner)
    if (auto r = learner->finish(); !r) spdlog::warn("{}", r.error().text());
  if (error) return std::unexpected(*error);
  return taken == static_cast<Frames>(frames.size());
}

}  // namespace gc
