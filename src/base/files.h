// Files: whole reads, atomic writes, the XDG folders.
#pragma once
#include <filesystem>
#include <string>
#include <string_view>
#include <utility>

#include "base/error.h"

namespace gc {

namespace fs = std::filesystem;

/// The whole file. Fails on missing, unreadable and larger than `limit` bytes.
Result<std::string> read_file(const fs::path& path, std::uintmax_t limit = std::uintmax_t{1} << 31);

/// An error where something lies: a command writes over nothing that somebody may want back.
Result<void> must_be_free(const fs::path& path);

/// Replaces the file in one step: temporary name beside it, synced, renamed, folder synced. On any failure
/// the old file is untouched and the temporary one gone.
Result<void> write_file_atomic(const fs::path& path, std::string_view bytes);

/// Syncs a finished temporary file and gives it its final name, durably.
Result<void> sync_and_rename(const fs::path& temporary, const fs::path& final_name);

/// Writes the file through to its drive and lets the page cache forget it, so that the next read comes from the
/// drive. Costs of reading measured otherwise are those of memory.
void forget_cached(const fs::path& path);

/// A name beside `path` that nobody else uses, for a file that is renamed to `path` when it is whole.
fs::path temporary_name_for(const fs::path& path);

/// A folder for files that are needed for a while, made and marked as the program's own; it goes with this
/// object. Making one sweeps away those that processes of this machine left behind when they were killed.
/// Folders without the mark are never removed, whatever they are called.
class ScratchFolder {
 public:
  /// Makes a folder called prefix + something unique within `parent`, which is made when it is missing.
  static Result<ScratchFolder> make(const fs::path& parent, const std::string& prefix);
  ScratchFolder(ScratchFolder&& other) noexcept : path_(std::exchange(other.path_, {})) {}
  ScratchFolder& operator=(ScratchFolder&& other) noexcept {
    std::swap(path_, other.path_);
    return *this;
  }
  ~ScratchFolder();
  const fs::path& path() const { return path_; }

 private:
  explicit ScratchFolder(fs::path path) : path_(std::move(path)) {}
  fs::path path_;
};

/// Whether the process that wrote this of itself is still there: "host boot-id process start-time". A process
/// of another machine, or of this one under another name, counts as there: nobody here can tell.
std::string own_process();
bool may_be_alive(const std::string& process);

/// $XDG_DATA_HOME/glass-clock, $XDG_CACHE_HOME/glass-clock or their defaults. Made when missing.
fs::path data_folder();
fs::path config_folder();
fs::path cache_folder();

}  // namespace gc
