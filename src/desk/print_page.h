// The report on paper, laid out by the window's program: it alone has letters and lines.
#pragma once
#include "base/files.h"

namespace gc {

/// Writes a report's page as PDF. Fails when the program `glass-clock` is not beside this one.
Result<void> print_page(const std::string& html, const fs::path& pdf);

}  // namespace gc
