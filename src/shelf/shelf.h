// The shelf: rendered media on one volume, found by what they stand for. A frame is sealed exactly when the
// shelf has the fingerprint that the frame has now; nothing is ever marked stale, it just no longer matches.
#pragma once
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
};

enum class SealState : std::uint8_t { live, sealed, broken };

class Shelf : public SealLookup {
 public:
  /// Opens or makes the shelf. Removes pieces that a killed process left half written, and forgets files that
  /// are gone or changed.
  static Result<std::shared_ptr<Shelf>> open(const fs::path& folder);

  std::optional<SealHit> find(const Hash128& frame) const override;
  void report_broken(const SealHit& hit) const override;

  /// Where to write the next piece before it is added.
  fs::path temporary_name() const;
  /// Gives a finished piece its final name, durably, and records it.
  Result<void> add(Chunk chunk, const fs::path& temporary);

  std::uint64_t bytes() const;
  std::size_t chunks() const;
  const fs::path& folder() const { return folder_; }

  /// State of each frame of the program. Broken: the shelf has this stretch of the segment as it was before.
  std::vector<SealState> states(const Program& program) const;

 private:
  struct Place {
    std::uint32_t chunk = 0;
    std::uint32_t index = 0;
  };
  Result<void> load();
  void index(Chunk chunk);
  void forget(const std::string& file) const;

  fs::path folder_;
  Database database_;
  mutable std::mutex mutex_;
  std::vector<Chunk> chunks_;
  mutable std::unordered_map<Hash128, Place> places_;
  mutable int names_ = 0;
};

}  // namespace gc
