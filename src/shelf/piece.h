// One file of rendered media, with everything that is known of it. The same stands in a file beside it, so that nothing is
// lost with the index.
#pragma once
#include <optional>
#include <string>
#include <vector>

#include "base/files.h"
#include "base/json.h"
#include "render/route.h"

namespace gc {

/// What is being written has a name that begins so, beside a file of that name and this ending that says who writes.
inline constexpr const char* kWriting = "writing-";
inline constexpr const char* kLease = ".lease";

/// Consecutive frames of one tap in one form.
struct Chunk {
  // First what a look-up reads, so that it lies together.
  std::string file;             ///< name within its volume's chunk folder
  std::vector<Hash128> frames;  ///< what each stands for: a fingerprint or another name that Program gives
  std::vector<Hash128> sums;    ///< checksum of each frame's coded picture; empty in pieces of older versions
  std::string volume;           ///< folder of another volume; empty: the shelf's own
  Form form = Form::vc3_hqx;
  TapKind kind = TapKind::frame;
  int width = 0, height = 0;  ///< pixels; 0 in pieces of older versions: the timeline's raster

  std::uint64_t bytes = 0;
  std::string timeline;  ///< name of the timeline it was made for
  std::string segment;   ///< id of its main segment, of the source or of the composition
  Frames offset = 0;     ///< of its first frame from the segment's start
  std::string made;      ///< ISO 8601, UTC
  int after = 0;         ///< of a stack: after so many effects
  double seconds = 0;         ///< that it took to make; 0: not known
  std::string used;           ///< when it was last read, ISO 8601, UTC
  bool pinned = false;        ///< never evicted
  std::string removed;        ///< when it was cleaned away; it can be brought back until its room is needed
  std::uint64_t beside = 0;   ///< bytes of what stands beside it

  std::uint64_t footprint() const { return bytes + beside; }
};

/// What stands beside a piece, and back. Nothing for what is no such description or names another folder.
std::string description_of(const Chunk& chunk);
std::optional<Chunk> chunk_of(const std::string& description);

}  // namespace gc
