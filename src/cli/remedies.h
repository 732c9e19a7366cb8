// Commands around remedies, slips, truth, proxies and angles.
#pragma once
#include "cli/common.h"

namespace gc {

void add_remedy_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted);

}  // namespace gc
