// Files on a slow-volume stand-in, for libav*.
#pragma once
#include <memory>
#include <string>

struct AVIOContext;

namespace gc {

/// Closes the file when it goes.
struct ThrottledClose {
  void operator()(AVIOContext* io) const;
};
using ThrottledIo = std::unique_ptr<AVIOContext, ThrottledClose>;

/// Null when the path is on no slow volume, or cannot be opened.
ThrottledIo throttled_io(const std::string& path, bool write);

}  // namespace gc
