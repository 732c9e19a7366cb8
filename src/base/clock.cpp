#include "base/clock.h"

#include <cstdio>

namespace gc {
namespace {
double read_clock(clockid_t id) {
  timespec t{};
  clock_gettime(id, &t);
  return static_cast<double>(t.tv_sec) * 1e3 + static_cast<double>(t.tv_nsec) * 1e-6;
}
}  // namespace

double now_ms() { return read_clock(CLOCK_MONOTONIC); }
double thread_cpu_ms() { return read_clock(CLOCK_THREAD_CPUTIME_ID); }

std::string now_utc() {
  const std::time_t t = std::time(nullptr);
  std::tm parts{};
  gmtime_r(&t, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%dT%H:%M:%SZ", &parts);
  return text;
}

std::optional<double> seconds_of_utc(const std::string& iso) {
  std::tm t{};
  if (std::sscanf(iso.c_str(), "%d-%d-%dT%d:%d:%d", &t.tm_year, &t.tm_mon, &t.tm_mday, &t.tm_hour, &t.tm_min, &t.tm_sec) < 6) return std::nullopt;
  t.tm_year -= 1900, t.tm_mon -= 1;
  return static_cast<double>(::timegm(&t));
}

double seconds_now() { return static_cast<double>(std::time(nullptr)); }

}  // namespace gc
