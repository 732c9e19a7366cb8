// The time that a pipeline and its player live by. As a rule it is the machine's; a script has a clock of its
// own that jumps from one event to the next, so that the same code plays the same way every time.
#pragma once
#include <condition_variable>
#include <functional>
#include <mutex>
#include <vector>

namespace gc {

class Clock {
 public:
  virtual ~Clock() = default;
  virtual double now() const = 0;  ///< ms, never goes back
  /// Waits with `lock` released until `ready()` (asked with the lock held) or `until_ms`, whichever is first;
  /// infinity: only for `ready`. `at` is what others notify when something changed.
  virtual void wait(std::unique_lock<std::mutex>& lock, std::condition_variable& at, double until_ms,
                    const std::function<bool()>& ready) = 0;
  /// For whoever starts a thread that will wait on this clock; before it is started. Lower ranks go first
  /// when several could go on at the same moment.
  virtual void expect(int rank) = 0;
  virtual void enter(int rank) = 0;  ///< first thing on that thread
  virtual void leave() = 0;          ///< last thing on it
};

/// The machine's own.
Clock& real_clock();

/// Virtual time. Of the threads that take part only one runs at a time; when all of them wait, the clock
/// jumps to the earliest moment that one of them waits for. The thread that makes it takes part as the last
/// in rank.
class ScriptClock : public Clock {
 public:
  ScriptClock();
  double now() const override;
  void wait(std::unique_lock<std::mutex>& lock, std::condition_variable& at, double until_ms,
            const std::function<bool()>& ready) override;
  void expect(int rank) override;
  void enter(int rank) override;
  void leave() override;

 private:
  struct Part {
    int rank = 0;
    double until = 0;
    const std::function<bool()>* ready = nullptr;  ///< null: can go on at once
  };
  /// Chooses who goes on; asks `ready` of all, so nobody else may run.
  void pass_on();
  void wait_for_turn(std::unique_lock<std::mutex>& own, int rank);

  mutable std::mutex mutex_;
  std::condition_variable changed_;
  std::vector<Part> parts_;  ///< by rank
  int running_;
  double now_ = 0;
};

}  // namespace gc
