// Timelines that hold one part of another: what is rendered by itself.
#pragma once
#include "media/writer.h"
#include "render/program.h"

namespace gc {

/// The frames of a segment's stack that can be rendered by themselves: with the handles that transitions use, where they are
/// the next frames of its source (its own speed, the timeline's rate, nothing in the stack that counts frames from the
/// segment's first).
FrameRange frames_alone(const Timeline& timeline, const CompiledSegment& segment, std::size_t after);
/// A timeline with nothing but one segment on it, in its place, up to an effect of its stack, for frames_alone().
TimelinePtr alone_up_to(const Timeline& timeline, const CompiledSegment& segment, std::size_t after);
/// The form for parts of this timeline's pictures, which are kept in its working space: `preferred` where it can keep them,
/// half floats where that space is light.
Form form_of_parts(const Timeline& timeline, Form preferred, bool alpha);
/// A timeline with a composition's tracks on it and nothing else, in the working space.
TimelinePtr alone(const Timeline& timeline, const Composition& composition);

}  // namespace gc
