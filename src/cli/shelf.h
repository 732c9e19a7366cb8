// Commands of rendered media: what is on the shelf, whether it is whole, and caching part of a stack.
#pragma once
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_shelf_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted);

}  // namespace gc
