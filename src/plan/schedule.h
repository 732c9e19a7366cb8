// When everything that is to be made is made: order, and hours in which the machine is free.
// Times are seconds from now.
#pragma once
#include <cstdint>
#include <limits>
#include <string>
#include <vector>

namespace gc {

inline constexpr double kNever = std::numeric_limits<double>::infinity();

/// Clock time in which the machine works at a share of its speed: 1 when nobody sits at it, less when only idle time counts.
struct FreeTime {
  double from = 0, to = kNever;
  double share = 1;
};

/// Working hours of people, of every day, in minutes from midnight of the seat's own clock; `to` before `from` passes midnight.
struct BusyHours {
  int from = 0, to = 0;
};

/// Free time from `now` on, for as many days as are asked for, then without end at full share. Hours are those of the
/// local clock, also across a change to summer time.
/// @param now seconds since 1970
/// @param idle_share of the machine that is left while somebody works at it
std::vector<FreeTime> free_time(std::int64_t now, const std::vector<BusyHours>& busy, double idle_share, int days = 14);

/// Seconds of work that can be done until a time.
double work_until(const std::vector<FreeTime>& free, double time);
/// When so many seconds of work are done; kNever when they never are.
double done_at(const std::vector<FreeTime>& free, double seconds);

struct Task {
  std::string id;
  double seconds = 0;
  std::vector<std::string> after;  ///< ids that have to be done before it
};
struct TimeSlot {
  std::string id;
  double begins = 0, ends = 0;
};

/// Tasks one after another as they stand.
std::vector<TimeSlot> placed(const std::vector<Task>& tasks, const std::vector<FreeTime>& free);
/// Puts what others wait for before them, and else changes as little as possible.
std::vector<Task> dependencies_first(const std::vector<Task>& tasks);

}  // namespace gc
