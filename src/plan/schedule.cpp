#include "plan/schedule.h"

#include <algorithm>
#include <ctime>

namespace gc {
namespace {

/// Seconds since 1970 of a minute of a local day.
std::int64_t at_minute(std::int64_t now, int day, int minute) {
  const auto t = static_cast<std::time_t>(now);
  std::tm local{};
  localtime_r(&t, &local);
  local.tm_mday += day, local.tm_hour = minute / 60, local.tm_min = minute % 60, local.tm_sec = 0;
  local.tm_isdst = -1;  // as it is on that day
  return static_cast<std::int64_t>(std::mktime(&local));
}

}  // namespace

std::vector<FreeTime> free_time(std::int64_t now, const std::vector<BusyHours>& busy, double idle_share, int days) {
  std::vector<std::pair<double, double>> taken;
  for (int day = -1; day < days; ++day)
    for (const BusyHours& b : busy) {
      const std::int64_t from = at_minute(now, day, b.from), to = at_minute(now, b.to <= b.from ? day + 1 : day, b.to);
      if (to > now) taken.emplace_back(static_cast<double>(std::max(from, now) - now), static_cast<double>(to - now));
    }
  std::sort(taken.begin(), taken.end());
  std::vector<FreeTime> free;
  double at = 0;
  for (const auto& [from, to] : taken) {
    if (to <= at) continue;
    if (from > at) free.push_back({at, from, 1});
    free.push_back({std::max(at, from), to, idle_share});
    at = to;
  }
  free.push_back({at, kNever, 1});
  return free;
}

double work_until(const std::vector<FreeTime>& free, double time) {
  double work = 0;
  for (const FreeTime& f : free)
    if (f.from < time) work += (std::min(time, f.to) - f.from) * f.share;
  return work;
}

double done_at(const std::vector<FreeTime>& free, double seconds) {
  for (const FreeTime& f : free) {
    const double room = (f.to - f.from) * f.share;
    if (f.share > 0 && seconds <= room) return f.from + seconds / f.share;
    if (f.share > 0) seconds -= room;
  }
  return kNever;
}

std::vector<TimeSlot> placed(const std::vector<Task>& tasks, const std::vector<FreeTime>& free) {
  std::vector<TimeSlot> all;
  double done = 0;
  for (const Task& t : tasks) {
    // A task begins when the machine is free for it, not when the one before it ended.
    const double begins = done_at(free, done + std::min(1e-6, t.seconds));
    done += t.seconds;
    all.push_back({t.id, begins, done_at(free, done)});
  }
  return all;
}

std::vector<Task> dependencies_first(const std::vector<Task>& tasks) {
  std::vector<Task> ordered;
  std::vector<bool> taken(tasks.size(), false);
  const auto there = [&](const std::string& id) { return std::any_of(ordered.begin(), ordered.end(), [&](const Task& t) { return t.id == id; }); };
  const auto known = [&](const std::string& id) { return std::any_of(tasks.begin(), tasks.end(), [&](const Task& t) { return t.id == id; }); };
  while (ordered.size() < tasks.size()) {
    bool any = false;
    for (std::size_t i = 0; i < tasks.size() && !any; ++i) {
      if (taken[i]) continue;
      const bool waits = std::any_of(tasks[i].after.begin(), tasks[i].after.end(), [&](const std::string& id) { return known(id) && !there(id); });
      if (!waits) ordered.push_back(tasks[i]), taken[i] = any = true;
    }
    if (any) continue;
    for (std::size_t i = 0; i < tasks.size(); ++i)  // what waits for itself waits for nothing
      if (!taken[i]) ordered.push_back(tasks[i]), taken[i] = true;
  }
  return ordered;
}

}  // namespace gc
