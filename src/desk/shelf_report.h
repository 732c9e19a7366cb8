// What is on the shelf, as a person looks at it: grouped by what it was made for.
#pragma once
#include "desk/desk.h"

namespace gc {

/// Pieces of one segment, source or composition, taken at one place.
struct ShelfGroup {
  std::string timeline, of;  ///< names; of a source its file
  std::string what;          ///< "frames", "stack up to effect 2", "composition", "source"
  std::string form;
  std::size_t pieces = 0;
  Frames frames = 0;
  std::uint64_t bytes = 0;
  double seconds = 0;
  std::string used;  ///< when a piece of it was last read, ISO 8601, UTC; empty: never
  bool matches = false;  ///< something of the open timeline is answered from it
  bool pinned = false;
  std::vector<std::string> files;
};

struct ShelfReport {
  std::vector<ShelfGroup> groups;  ///< largest first
  std::vector<ShelfVolume> volumes;
  CleanReport unmatched, closed, all, removed;  ///< what each would free; `removed`: what can still be brought back
  std::string sentence() const;
};

/// @param open the timeline that is open; may be null
ShelfReport shelf_report(const Shelf& shelf, const View* open);

}  // namespace gc
