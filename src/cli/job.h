// The whole job on the demo, in the terminal.
#pragma once
#include <atomic>

#include "desk/report.h"

namespace gc {

/// Measures, forecasts, plays live, pre-renders by the plan, plays again, changes one grade and checks that
/// exactly its own seals broke. Prints each result as a table (on standard error when `quiet`, so that JSON
/// stays alone). True only when the job was really done: what was called to drop dropped, and after the plan
/// next to nothing does. `scale_again` makes the demo anew for a seat that became faster meanwhile.
Result<bool> whole_job(const DemoReport& demo, const std::function<Result<DemoReport>()>& scale_again, const DeskOptions& options, bool quiet, Json& result,
                       const std::atomic<bool>& stop);

}  // namespace gc
