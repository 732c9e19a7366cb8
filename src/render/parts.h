// Timelines that hold one part of another: what is rendered by itself.
#pragma once
#include "render/program.h"

namespace gc {

/// A timeline with nothing but one segment on it, in its place, up to an effect of its stack.
TimelinePtr alone_up_to(const Timeline& timeline, const CompiledSegment& segment, std::size_t after);
/// A timeline with a composition's tracks on it and nothing else, in the working space.
TimelinePtr alone(const Timeline& timeline, const Composition& composition);

}  // namespace gc
