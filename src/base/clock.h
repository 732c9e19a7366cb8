// Monotonic wall time and the thread's own processor time. The difference between the two is what the outside
// took.
#pragma once
#include <ctime>
#include <optional>
#include <string>

namespace gc {

/// Milliseconds since an arbitrary start; never goes back.
double now_ms();
/// Processor milliseconds of the calling thread.
double thread_cpu_ms();
/// The present, ISO 8601, UTC, whole seconds.
std::string now_utc();
/// Seconds since 1970 of such a text; nothing when it is none.
std::optional<double> seconds_of_utc(const std::string& iso);
/// Seconds since 1970 of the wall clock, whole ones.
double seconds_now();

class Stopwatch {
 public:
  double ms() const { return now_ms() - start_; }
  void restart() { start_ = now_ms(); }

 private:
  double start_ = now_ms();
};

class CpuStopwatch {
 public:
  double ms() const { return thread_cpu_ms() - start_; }
  void restart() { start_ = thread_cpu_ms(); }

 private:
  double start_ = thread_cpu_ms();
};

}  // namespace gc
