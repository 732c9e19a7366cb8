// Results as text for people; the same results as JSON are in desk/report.h.
#pragma once
#include "audit/figures.h"
#include "desk/report.h"
#include "measure/self_test.h"

namespace gc {

void print(const MeasureReport& r);
void print(const Forecast& f, const View& v);
void print(const Plan& p, const View& v);
void print(const PrerenderReport& r);
void print(const Playout& p, const View& v);
void print(const Audit& a);
void print(const std::vector<MissingPicture>& all, FrameRange range, const View& v);
void print(const Gate& g, const View& v);
void print(const Seat& s);

/// The reliability diagram: as often as was said, bars would reach from the corner above to the one below. `what` came about.
void print(const Reliability& r, const char* what);

/// Each figure with its goal and whether it is met.
void print(const std::vector<Goal>& goals);

}  // namespace gc
