// Commands of the last station: delivering, and reading a delivery back.
#pragma once
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_deliver_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted);

}  // namespace gc
