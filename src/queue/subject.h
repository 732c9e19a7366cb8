// What is rendered of a program, in which form, and under which names it is kept.
#pragma once
#include <functional>
#include <optional>

#include "remedy/remedy.h"

namespace gc {

struct RenderSubject {
  ProgramPtr program;               ///< at full quality
  std::vector<FrameRange> ranges;   ///< of its frames
  std::function<Hash128(Frames)> key;
  std::function<Hash128(Frames)> content;  ///< what names pictures like a frame's, for what encoding them takes
  Form form = Form::vc3_hqx;
  TapKind kind = TapKind::frame;
  int after = 0;     ///< as in Chunk
  std::string of{};  ///< id of what it is taken of; empty: of each frame's main segment
};

/// Finished frames of a program that is at full quality.
RenderSubject finished_frames(const ProgramPtr& program, const std::vector<FrameRange>& ranges, Form form);
/// A segment's picture after the first effects of its stack. `notebook`: for the form that it was seen to need; may be null.
/// @param after number of effects, counted as the program runs them; at least 1
Result<RenderSubject> stack_of(const ProgramPtr& whole, MediaCatalog& media, const std::string& segment, std::size_t after, Device device,
                               Form preferred, const Notebook* notebook);
/// A composition with its transparency.
/// @param frames of the composition; empty: all of it
Result<RenderSubject> composition_of(const ProgramPtr& whole, MediaCatalog& media, const std::string& composition, FrameRange frames,
                                     Device device, Form preferred, const Notebook* notebook);

/// Whether a picture that others are made of loses nothing but what the form says.
/// @param needed gets the form that keeps it, where that is another
Result<void> fits_form(const RenderSubject& subject, const FrameResult& frame, std::optional<Form>& needed);

}  // namespace gc
