// Rendering for a delivery: in exactly the form that is asked for, onto a shelf of its own.
#pragma once
#include "queue/prerender.h"

namespace gc {

/// As prerender(), of a program that is at full quality already, in exactly options.form. `rendered`: media that may stand
/// for frames instead of making them; null: none.
Result<PrerenderReport> render_into(const ProgramPtr& program, Shelf& shelf, const std::vector<FrameRange>& ranges,
                                    const PrerenderOptions& options, const SealLookup* rendered,
                                    const std::function<bool(const PrerenderProgress&)>& progress);

}  // namespace gc
