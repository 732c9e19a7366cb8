// Commands about a timeline's files: relinking, what it is counted in, single pictures.
#pragma once
#include <CLI/CLI.hpp>

#include "cli/common.h"

namespace gc {

void add_file_commands(CLI::App& app, Common& c, int& code);

}  // namespace gc
