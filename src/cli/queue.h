// The queue on the command line: what waits, what runs, and the renderer itself.
#pragma once
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_queue_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted);

}  // namespace gc
