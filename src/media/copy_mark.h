// What a proxy says of itself in its file, so that nobody takes it for the original.
#pragma once
#include <cstdlib>
#include <string>
#include <string_view>

namespace gc {

inline constexpr std::string_view kCopyMark = "Glass Clock proxy, 1/";

/// The comment in the file of a copy that is so many times smaller on each side.
inline std::string copy_mark(int size) { return std::string(kCopyMark) + std::to_string(size) + " of each side"; }

/// The size that such a comment states; 1 for any other comment.
inline int copy_size_in(std::string_view comment) {
  if (!comment.starts_with(kCopyMark)) return 1;
  const int size = std::atoi(std::string(comment.substr(kCopyMark.size())).c_str());
  return size > 1 ? size : 1;
}

}  // namespace gc
