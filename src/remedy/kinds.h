// The kinds of remedies, each declared in a file of its own.
#pragma once
#include "remedy/remedy.h"

namespace gc {

const RemedyKind& prerender_kind();
const RemedyKind& tap_kind();
const RemedyKind& bake_kind();
const RemedyKind& mezzanine_kind();
const RemedyKind& proxy_kind();
const RemedyKind& scale_kind();
const RemedyKind& bypass_kind();
const RemedyKind& region_kind();
const RemedyKind& draft_kind();
const RemedyKind& device_kind();
const RemedyKind& memory_kind();
const RemedyKind& other_seat_kind();

/// How the timeline would play with a slip opened.
Supposed with_slip_open(const Situation& s, const Slip& slip);
/// Effects of a stack up to the last of a type; 0 when there is none.
std::size_t effects_up_to(const CompiledSegment& c, const std::string& type);
/// Sources that are read in a range, also within compositions, each once with a segment that reads it.
std::vector<CompiledSegmentPtr> sources_in(const Program& program, FrameRange range);
/// Frames of a source that the timeline shows, with room for neighbours; one range from the first to the last.
FrameRange frames_used(const Program& program, const std::string& source);
/// Copies of a source: what both mezzanines and proxies are.
Proposal copy_of(const Situation& s, const CompiledSegment& c, int size, const std::string& id);

}  // namespace gc
