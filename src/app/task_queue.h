// A thread that does one task after another.
#pragma once
#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <thread>

#include "base/error.h"

namespace gc {

class TaskQueue {
 public:
  /// What becomes of tasks that wait when the queue goes.
  enum class AtTheEnd { drop, finish };

  /// What a task throws ends that task, is told to `failed` on the queue's thread, and the next one goes on.
  explicit TaskQueue(std::function<void(const Error&)> failed, AtTheEnd end = AtTheEnd::drop)
      : failed_(std::move(failed)), end_(end), thread_([this] { run(); }) {}
  ~TaskQueue() {
    {
      const std::lock_guard lock(mutex_);
      quit_ = true;
    }
    changed_.notify_all();
    thread_.join();
  }
  void add(std::function<void()> task) {
    {
      const std::lock_guard lock(mutex_);
      tasks_.push_back(std::move(task));
    }
    changed_.notify_all();
  }
  /// Until nothing is being done and nothing waits. Not for the interface thread, nor for a task of its own.
  void wait_until_idle() {
    std::unique_lock lock(mutex_);
    changed_.wait(lock, [&] { return tasks_.empty() && !busy_; });
  }

 private:
  void run() {
    for (;;) {
      std::function<void()> task;
      {
        std::unique_lock lock(mutex_);
        busy_ = false;
        changed_.notify_all();
        changed_.wait(lock, [&] { return quit_ || !tasks_.empty(); });
        if (tasks_.empty() || (quit_ && end_ == AtTheEnd::drop)) return;
        task = std::move(tasks_.front());
        tasks_.pop_front();
        busy_ = true;
      }
      if (const auto threw = caught(task)) failed_(*threw);
    }
  }

  std::function<void(const Error&)> failed_;
  AtTheEnd end_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::deque<std::function<void()>> tasks_;
  bool quit_ = false, busy_ = true;
  std::thread thread_;
};

}  // namespace gc
