// Tables of cost cards.
#pragma once
#include "timeline/timeline.h"

namespace gc {

/// Reads a CSV table with a head line. Columns, in any order: name and ms; width, height and device may be
/// left out (1920, 1080, processor). Cells may be quoted. Errors name the line.
Result<std::map<std::string, CostCard>> cards_from_csv(const std::string& text, const std::string& where);

}  // namespace gc
