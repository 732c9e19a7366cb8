// The commands about the seat.
#pragma once
#include <CLI/CLI.hpp>
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_seat_commands(CLI::App& app, Common& common, int& code, const std::atomic<bool>& interrupted);

}  // namespace gc
