#include "base/log.h"

#include <spdlog/sinks/stdout_color_sinks.h>

#include <cstdlib>

namespace gc {

void start_log() {
  auto log = spdlog::get("glass-clock");
  if (!log) log = spdlog::stderr_color_mt("glass-clock");
  spdlog::set_default_logger(log);
  const char* level = std::getenv("GLASS_CLOCK_LOG");
  spdlog::set_level(level ? spdlog::level::from_str(level) : spdlog::level::warn);
}

}  // namespace gc
