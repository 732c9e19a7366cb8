// The shelf: rendered media on one volume, found by what they stand for. A frame is sealed exactly when the
// shelf has the fingerprint that the frame has now; nothing is ever marked stale, it just no longer matches.
#pragma once
#include <functional>
#include <mutex>
#include <unordered_map>

#include "base/database.h"
#include "base/files.h"
#include "render/program.h"

namespace gc {

/// One file of consecutive frames.
struct Chunk {
  std::string file;             ///< name within the shelf's chunk folder
  std::vector<Hash128> frames;  ///< fingerprint of each
  std::uint64_t bytes = 0;
  std::string timeline;  ///< name of the timeline it was made for
  std::string segment;   ///< id of its main segment
  Frames offset = 0;     ///< of its first frame from the segment's start
  std::string made;      ///< ISO 8601, UTC
  int after = 0;         ///< of a segment's stack: after so many effects; 0: whole frames
  std::vector<Hash128> sums;  ///< checksum of each frame's coded picture; empty in pieces of older versions
};

/// What is wrong with a piece, or nothing.
struct PieceCheck {
  std::string file, timeline, segment;
  Frames frames = 0;
  std::string wrong;  ///< a sentence; empty: whole
};

class Shelf : public SealLookup {
 public:
  /// Opens or makes the shelf. Removes pieces that killed processes of this machine left half written. Files
  /// that are gone, changed or cannot be looked at now answer nothing, but stay recorded.
  static Result<std::shared_ptr<Shelf>> open(const fs::path& folder);

  std::optional<SealHit> find(const Hash128& frame) const override;
  bool has_taps() const override;
  /// The piece answers nothing until look_again finds its file whole, and nothing more in this session when its
  /// file is there and still could not be decoded.
  void report_broken(const SealHit& hit) const override;
  /// Looks whether pieces that could not be read are back. Takes as long as the volume does.
  void look_again() const;

  /// Where to write the next piece before it is added. The first call leaves a lease in the folder, which says
  /// that this process is alive.
  Result<fs::path> temporary_name() const;
  /// Records a finished piece and gives it its final name, durably.
  Result<void> add(Chunk chunk, const fs::path& temporary);
  /// Removes the pieces that frames of this program are answered from, and no others.
  Result<void> discard(const Program& program);

  /// Reads every picture of every piece and holds it against its checksum. What is damaged answers nothing any more.
  std::vector<PieceCheck> verify(const std::function<bool(std::size_t done, std::size_t all)>& progress = {}) const;
  /// Takes pieces in that lie in the folder and that the index does not have, by what stands beside each; how many.
  Result<int> rebuild();
  /// Every piece that is recorded.
  std::vector<Chunk> pieces() const;

  std::uint64_t bytes() const;
  std::size_t chunks() const;
  const fs::path& folder() const { return folder_; }

  /// State of each frame of the program. Broken: the shelf has this stretch of the segment as it was before.
  /// Playback's look-ups wait for no more than a thousandth of it.
  FrameStates states(const Program& program) const;

 private:
  struct Place {
    std::uint32_t chunk = 0;
    std::uint32_t index = 0;
  };
  enum class Reach : std::uint8_t { readable, away, damaged };
  struct Piece {
    Chunk chunk;
    Reach reach = Reach::readable;
  };
  Result<void> load();
  void index(Chunk chunk, Reach reach);
  Result<void> record(const Chunk& chunk);
  fs::path file_of(const Chunk& chunk) const { return folder_ / "chunks" / chunk.file; }
  /// Whether the file is there with the size that was recorded.
  bool whole(const Chunk& chunk) const;

  fs::path folder_;
  Database database_;
  mutable std::mutex mutex_;
  mutable std::vector<Piece> pieces_;
  std::unordered_map<Hash128, Place> places_;
  bool taps_ = false;
  mutable std::string lease_;  ///< what names of half-written pieces begin with
  mutable int names_ = 0;
};

}  // namespace gc
