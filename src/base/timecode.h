// Timecode by SMPTE ST 12-1: non-drop for whole rates, drop-frame for 30000/1001 and 60000/1001.
#pragma once
#include <optional>
#include <string>
#include <string_view>

#include "base/rational.h"

namespace gc {

/// Whether timecode at this rate skips numbers (30000/1001 and 60000/1001).
bool drops_frames(Rate rate);

/// hh:mm:ss:ff, or hh:mm:ss;ff when the rate drops frame numbers. Negative counts get a leading minus.
/// `drop`: whether it does, where that is not as usual for the rate; at other rates numbers are never skipped.
std::string timecode(Frames frame, Rate rate, std::optional<bool> drop = {});

/// The frame a timecode names; a plain integer is taken as a frame count. Nothing for text that names no
/// frame, such as a number that drop-frame counting skips.
std::optional<Frames> parse_timecode(std::string_view text, Rate rate, std::optional<bool> drop = {});

}  // namespace gc
