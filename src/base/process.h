// Other programs, run and listened to.
#pragma once
#include <string>
#include <vector>

#include "base/error.h"

namespace gc {

/// Runs a program to its end and returns what it wrote to standard output. A name without a folder is looked for on PATH. Fails
/// when it cannot be started or ends with another code than 0: with what it wrote to standard error.
/// @param set variables for it alone, "NAME=value"
Result<std::string> run_program(const std::string& program, const std::vector<std::string>& arguments, const std::vector<std::string>& set = {});

}  // namespace gc
