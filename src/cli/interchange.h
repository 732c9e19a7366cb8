// Commands for lists and grades of other programs.
#pragma once
#include "cli/common.h"

namespace gc {

void add_interchange_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted);

}  // namespace gc
