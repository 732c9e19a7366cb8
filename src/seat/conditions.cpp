#include "seat/conditions.h"

#include <fmt/format.h>
#include <sys/utsname.h>
#include <unistd.h>

#include <algorithm>
#include <ctime>
#include <fstream>
#include <opencv2/core/ocl.hpp>
#include <opencv2/core/version.hpp>
#include <sstream>

extern "C" {
#include <libavcodec/avcodec.h>
}
#include <OpenColorIO/OpenColorIO.h>

#include "base/clock.h"
#include "pipeline/pipeline.h"
#include "seat/seat.h"

namespace gc {

MachineTimes machine_times() {
  MachineTimes t;
  t.at_s = now_ms() / 1000;
  std::ifstream stat("/proc/stat");
  std::string cpu;
  double v[8] = {};
  stat >> cpu;
  for (double& x : v) stat >> x;
  const double tick = 1.0 / static_cast<double>(std::max(1L, ::sysconf(_SC_CLK_TCK)));
  // user, nice, system, idle, iowait, irq, softirq, steal
  t.busy_s = (v[0] + v[1] + v[2] + v[5] + v[6]) * tick;
  t.idle_s = (v[3] + v[4]) * tick, t.stolen_s = v[7] * tick;
  timespec own{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &own);
  t.own_s = static_cast<double>(own.tv_sec) + static_cast<double>(own.tv_nsec) * 1e-9;
  std::ifstream io("/proc/self/io");
  for (std::string line; std::getline(io, line);)
    if (line.starts_with("read_bytes:")) t.read_mb = std::strtod(line.c_str() + 11, nullptr) / 1e6;
  std::ifstream pressure("/proc/pressure/cpu");
  for (std::string line; std::getline(pressure, line);)
    if (line.starts_with("some"))
      if (const auto at = line.find("total="); at != std::string::npos)
        t.stalled_s = std::strtod(line.c_str() + at + 6, nullptr) * 1e-6;
  return t;
}

Conditions conditions_between(const MachineTimes& a, const MachineTimes& b) {
  Conditions c;
  const double all = b.busy_s - a.busy_s + b.idle_s - a.idle_s + b.stolen_s - a.stolen_s;
  if (all > 0) {
    c.stolen = std::clamp((b.stolen_s - a.stolen_s) / all, 0.0, 1.0);
    // The machine's clock ticks a hundred times a second and this process's does not: over a short time most
    // of the difference is that.
    constexpr double kTicks = 0.05;
    c.others = std::clamp((b.busy_s - a.busy_s - (b.own_s - a.own_s) - kTicks) / all, 0.0, 1.0);
  }
  if (b.at_s > a.at_s) c.stalled = std::clamp((b.stalled_s - a.stalled_s) / (b.at_s - a.at_s), 0.0, 1.0);
  std::ifstream info("/proc/cpuinfo");
  double sum = 0, n = 0;
  for (std::string line; std::getline(info, line);)
    if (line.starts_with("cpu MHz"))
      if (const auto colon = line.find(':'); colon != std::string::npos)
        sum += std::strtod(line.c_str() + colon + 1, nullptr), n += 1;
  c.mhz = n > 0 ? sum / n : 0;
  return c;
}

Json to_json(const Conditions& c) {
  return {{"other_programs", c.others}, {"stolen", c.stolen}, {"stalled", c.stalled}, {"mhz", c.mhz}};
}

/// Goes up with every change of what laws are laws of: their terms, or where the memory of pictures comes
/// from. The renderer's own version cannot say that, since it breaks seals.
constexpr const char* kCosting = "5";

Json era_identity() {
  utsname system{};
  ::uname(&system);
  const unsigned av = avcodec_version();
  // Which drivers are there, not what they find: asking an accelerator takes its time.
  std::string drivers;
  std::error_code e;
  std::vector<fs::path> vendors;
  for (const auto& entry : fs::directory_iterator("/etc/OpenCL/vendors", e)) vendors.push_back(entry.path());
  std::sort(vendors.begin(), vendors.end());
  for (const fs::path& v : vendors)
    drivers += fmt::format("{}{} {}", drivers.empty() ? "" : ", ", v.stem().string(),
                           fs::last_write_time(v, e).time_since_epoch().count() / 1000000000);
  Json j{{"processor", fmt::format("{} × {}", processor_name(), ::sysconf(_SC_NPROCESSORS_ONLN))},
         {"kernel", std::string(system.release)},
         {"decoder library", fmt::format("{}.{}.{}", av >> 16, av >> 8 & 255, av & 255)},
         {"picture library", CV_VERSION},
         {"colour library", OCIO_NAMESPACE::GetVersion()},
         {"renderer", kRendererVersion},
         {"way of costing", kCosting},
         {"accelerator driver", drivers}};
  return j;
}

std::string era_change(const Json& before, const Json& after) {
  std::string text;
  for (const auto& [name, now] : after.items()) {
    const Json then = before.value(name, Json());
    if (then != now)
      text +=
          fmt::format("{}The {} changed from {} to {}.", text.empty() ? "" : " ", name,
                      then.is_string() && !then.get<std::string>().empty() ? then.get<std::string>() : "none",
                      now.is_string() && !now.get<std::string>().empty() ? now.get<std::string>() : "none");
  }
  return text;
}

}  // namespace gc
