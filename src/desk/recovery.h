// Copies of timelines with edits that are not saved, so that a crash or a power cut loses seconds and not a
// morning. One file for each timeline and program that has it open; it goes when the timeline is saved or its
// edits are given up.
#pragma once
#include "desk/desk.h"

namespace gc {

struct RecoveryCopy {
  fs::path copy;      ///< the copy itself
  std::string file;   ///< of the timeline that it is of
  std::string name;   ///< of the timeline
  std::string at;     ///< when it was written, ISO 8601, UTC
};

/// Beside the notebook.
fs::path recovery_folder(const Stores& stores);
/// Writes the copy of a timeline that was read from `file`, in place of this program's earlier one. `origin`:
/// hash of what the file held when it was read or last saved.
Result<void> keep_recovery(const fs::path& folder, const Timeline& timeline, const fs::path& file,
                           const Hash128& origin);
/// Removes this program's copy of `file`, if there is one.
void drop_recovery(const fs::path& folder, const fs::path& file);
/// What programs that are gone left behind, newest first. A copy that cannot be read is left out and left alone.
std::vector<RecoveryCopy> recoverable(const fs::path& folder);

struct Recovered {
  TimelinePtr timeline;
  Hash128 origin;
};
Result<Recovered> recover(const RecoveryCopy& copy, const std::shared_ptr<MediaCatalog>& media);

}  // namespace gc
