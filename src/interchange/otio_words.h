// What the reader and the writer of OpenTimelineIO files share: our words in its metadata.
#pragma once
#include <initializer_list>

namespace gc::otio {

inline constexpr int kVersion = 1;  // of the glass_clock metadata
inline constexpr const char* kOurs = "glass_clock";

using Names = std::initializer_list<const char*>;
inline constexpr Names kFits{"fit", "fill", "stretch", "centre"};
inline constexpr Names kBetweens{"nearest", "blend", "flow"};

}  // namespace gc::otio
