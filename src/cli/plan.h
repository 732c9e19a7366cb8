// Commands that plan and carry plans out.
#pragma once
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_plan_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted);

}  // namespace gc
