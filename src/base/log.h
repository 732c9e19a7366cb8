// Log lines go to standard error, so that --json output stays one document.
#pragma once
#include <spdlog/spdlog.h>

namespace gc {
/// Sends the log to standard error; warnings and worse unless GLASS_CLOCK_LOG names a level.
void start_log();
}  // namespace gc
