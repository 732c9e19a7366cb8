// What all kinds of rendering share about the pieces they write.
#pragma once
#include "shelf/shelf.h"

namespace gc {

/// Bytes to hold for a piece of so many frames: what is known, or what will probably do.
inline std::uint64_t piece_room(std::uint64_t each, Frames frames, Form form) {
  constexpr std::uint64_t kContainer = 32 << 10;  // header, tables and what stands beside it
  const std::uint64_t pictures = each * static_cast<std::uint64_t>(frames);
  return (form_is_constant(form) ? pictures : pictures * 5 / 4) + kContainer;
}

/// Holds more room for a file that grows beyond what was thought.
inline Result<void> keep_room(Shelf& shelf, Draft& draft) {
  std::error_code e;
  const auto now = fs::file_size(draft.path, e);
  constexpr std::uint64_t kAhead = 256 << 10;  // what lies in buffers, and the next frame of most forms
  return e ? Result<void>{} : shelf.grow(draft, now + now / 8 + kAhead);
}

}  // namespace gc
