// Finding the files that a timeline's media have become.
#pragma once
#include "desk/desk.h"

namespace gc {

enum class RelinkBy {
  name,    ///< the same file name; where there is none, the same but for its extension
  content,  ///< the same rate, length and (where the file states one) timecode
  mirrored  ///< the same path below the folder, as trees of copies have it; then by content, then by name and length
};

struct Relinked {
  std::string source, from, to;  ///< id, old and new path
};
struct RelinkReport {
  TimelinePtr timeline;  ///< with what was found
  std::vector<Relinked> found;
  std::vector<std::string> not_found;  ///< old paths, each with why: none, or several
};

/// Whether a file may be the source: as long at the same rate, with the same timecode where it states one. Never a still.
bool same_content(const MediaSource& m, const MediaInfo& info);

/// Looks in the folder and everything in it for each of the timeline's media that cannot be opened. Only what is found
/// once is taken: of several files of one name the one with the same length, if that is one. URLs are written absolute.
/// @param stop asked between two files
Result<RelinkReport> relink(const TimelinePtr& timeline, MediaCatalog& media, const fs::path& folder, RelinkBy by,
                            const std::function<bool()>& stop = {});

/// One source's file replaced by hand. Fails when it cannot be opened.
Result<RelinkReport> relink_one(const TimelinePtr& timeline, MediaCatalog& media, const std::string& source,
                                const fs::path& file);

}  // namespace gc
