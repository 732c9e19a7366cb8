// The commands that make random timelines, and hold what was said of them against what came.
#pragma once
#include <CLI/CLI.hpp>
#include <atomic>

#include "cli/common.h"

namespace gc {

void add_score_commands(CLI::App& app, Common& common, int& code, const std::atomic<bool>& interrupted);

}  // namespace gc
