// The commands that play, and hold playing against what was forecast.
#pragma once
#include <CLI/CLI.hpp>
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_playout_commands(CLI::App& app, Common& common, int& code, const std::atomic<bool>& interrupted);

}  // namespace gc
