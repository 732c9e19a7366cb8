// The command `what-if`.
#pragma once
#include <CLI/CLI.hpp>

#include "cli/common.h"

namespace gc {

void add_what_if_command(CLI::App& app, Common& common, int& code);

}  // namespace gc
