// Commands about pictures: effects and their devices, stacks, keys, tracking, cards, coverage, fidelity,
// settings.
#pragma once
#include <CLI/CLI.hpp>

#include "cli/common.h"

namespace gc {

/// Adds the commands to the program. `common` and `code` (the exit code) must outlive the parsing.
void add_picture_commands(CLI::App& app, Common& common, int& code);

}  // namespace gc
