// The page for those who pay and those who come after: what plays on this seat, what was rendered, what is hidden, and what
// was delivered. One file that needs no other.
#pragma once
#include "desk/desk.h"

namespace gc {

struct ReportPage {
  std::string html;  ///< self-contained, pictures in it
  std::string csv;   ///< one line for each segment, RFC 4180
  Json json;         ///< the same
};

/// @param delivery a delivered file whose note stands beside it; empty: none is told of
Result<ReportPage> report_page(const View& view, const Stores& stores, const fs::path& delivery);

}  // namespace gc
