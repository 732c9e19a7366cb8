// A timeline on its way to another seat: everything that it needs in one folder, and the way back.
#pragma once
#include "desk/desk.h"

namespace gc {

/// An effect that reads a file.
struct Look {
  std::string segment, effect, path;
};
std::vector<Look> looks_of(const Timeline& timeline);

struct PackOptions {
  enum class Media { originals, proxies, none } media = Media::originals;
  int size = 2;             ///< of proxies: so many times smaller on each side
  Form form = Form::vc3_sq;  ///< of proxies
  bool renditions = true;   ///< what the shelf has of it goes along
};

struct Packed {
  fs::path timeline;                ///< in the folder
  std::size_t media = 0, looks = 0;  ///< files of media, and of effects that read one
  std::size_t pieces = 0;           ///< of rendered media
  std::uint64_t bytes = 0;          ///< of everything
  std::vector<std::string> missing;  ///< what could not go along and why; nothing is written then
};

/// Makes a folder with the timeline, its media under the paths that they have here, the files that effects read, what is
/// rendered of it, and this seat's costs. Media and looks are named from the folder on, so that it may be moved. Every copy
/// is read back. Where something is missing nothing is written, and it is named.
/// @param folder must not be there, or be empty
/// @param progress told what is copied and the share of all bytes; false stops
Result<Packed> pack(const View& view, const Stores& stores, const fs::path& folder, const PackOptions& options,
                    const std::function<bool(const std::string& what, double share)>& progress = {});

struct Unpacked {
  fs::path timeline;
  std::size_t files = 0;             ///< that were held against what was written
  TakenIn pieces;                    ///< taken onto this seat's shelf
  std::vector<std::string> damaged;  ///< files that are missing or others than were packed
  std::vector<std::string> offline;  ///< media that cannot be opened from here
};

/// Receives such a folder: every file is held against its hash, rendered media are taken onto this seat's shelf.
Result<Unpacked> unpack(const fs::path& folder, const Stores& stores, const std::function<bool(const std::string& what, double share)>& progress = {});

/// Media and looks that are not where the timeline says are taken from where a handover had them: beside the timeline, or,
/// when only the timeline came back, from where they lay before. Says so in the remarks. Media of another length or rate are
/// left offline.
TimelinePtr with_files_found(const TimelinePtr& timeline, MediaCatalog& media);

}  // namespace gc
