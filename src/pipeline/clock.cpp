#include "pipeline/clock.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <limits>

#include "base/clock.h"

namespace gc {
namespace {

class RealClock : public Clock {
 public:
  double now() const override { return now_ms(); }
  void wait(std::unique_lock<std::mutex>& lock, std::condition_variable& at, double until_ms,
            const std::function<bool()>& ready) override {
    if (std::isinf(until_ms)) return at.wait(lock, ready);
    // In steps: what `ready` looks at may change without a notification, when a person stops playback.
    for (double left = until_ms - now_ms(); left > 0 && !ready(); left = until_ms - now_ms())
      at.wait_for(lock, std::chrono::duration<double, std::milli>(std::min(left, 40.0)));
  }
  void expect(int) override {}
  void enter(int) override {}
  void leave() override {}
};

constexpr int kMaker = std::numeric_limits<int>::max();
thread_local int rank_here = kMaker;

}  // namespace

Clock& real_clock() {
  static RealClock clock;
  return clock;
}

ScriptClock::ScriptClock() : parts_{{kMaker, 0, nullptr}}, running_(kMaker) {}

double ScriptClock::now() const {
  const std::lock_guard lock(mutex_);
  return now_;
}

void ScriptClock::wait_for_turn(std::unique_lock<std::mutex>& own, int rank) {
  changed_.wait(own, [&] { return running_ == rank; });
}

void ScriptClock::pass_on() {
  Part* next = nullptr;
  for (Part& p : parts_)
    if (!p.ready || p.until <= now_ || (*p.ready)()) {
      next = &p;
      break;
    }
  if (!next) {
    for (Part& p : parts_)
      if (!next || p.until < next->until) next = &p;
    if (next && !std::isinf(next->until)) now_ = std::max(now_, next->until);
  }
  running_ = next ? next->rank : -1;
  changed_.notify_all();
}

void ScriptClock::wait(std::unique_lock<std::mutex>& lock, std::condition_variable&, double until_ms,
                       const std::function<bool()>& ready) {
  const int rank = rank_here;
  lock.unlock();
  {
    std::unique_lock own(mutex_);
    for (Part& p : parts_)
      if (p.rank == rank) p.until = until_ms, p.ready = &ready;
    pass_on();
    wait_for_turn(own, rank);
    for (Part& p : parts_)
      if (p.rank == rank) p.ready = nullptr;
  }
  lock.lock();
}

void ScriptClock::expect(int rank) {
  const std::lock_guard lock(mutex_);
  parts_.push_back({rank, 0, nullptr});
  std::sort(parts_.begin(), parts_.end(), [](const Part& a, const Part& b) { return a.rank < b.rank; });
}

void ScriptClock::enter(int rank) {
  rank_here = rank;
  std::unique_lock own(mutex_);
  wait_for_turn(own, rank);
}

void ScriptClock::leave() {
  const std::lock_guard lock(mutex_);
  std::erase_if(parts_, [&](const Part& p) { return p.rank == rank_here; });
  pass_on();
  rank_here = kMaker;
}

}  // namespace gc
