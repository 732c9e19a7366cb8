// A few frames of what is to be rendered, made and encoded beforehand: the form that its pictures need, what encoding one takes,
// how many bytes it has, and what playing it takes. Laws know little of pictures that nobody has looked at.
#pragma once
#include "queue/prerender.h"

namespace gc {

/// Whether the notebook knows by sight what this making takes: everything in it was rendered or tried before.
bool is_sampled(const Situation& s, const Making& making, const PrerenderOptions& options);

/// Tries six frames of everything in the making that is not known yet, and notes in options.notebook what they took. False: there
/// was nothing to try. Frames that cannot be made are left for the render to tell of.
/// @param folder for a scratch file, which goes at once
Result<bool> sample_making(const Situation& s, const Making& making, const PrerenderOptions& options, const fs::path& folder,
                           const std::function<bool()>& stopped);

}  // namespace gc
