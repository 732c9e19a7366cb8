// Files: whole reads, atomic writes, the XDG folders.
#pragma once
#include <filesystem>
#include <string>
#include <string_view>

#include "base/error.h"

namespace gc {

namespace fs = std::filesystem;

/// The whole file. Fails on missing, unreadable and larger than `limit` bytes.
Result<std::string> read_file(const fs::path& path, std::uintmax_t limit = std::uintmax_t{1} << 31);

/// Replaces the file in one step: temporary name beside it, synced, renamed, folder synced. On any failure
/// the old file is untouched and the temporary one gone.
Result<void> write_file_atomic(const fs::path& path, std::string_view bytes);

/// Syncs a finished temporary file and gives it its final name, durably.
Result<void> sync_and_rename(const fs::path& temporary, const fs::path& final_name);

/// Removes what processes that are gone left in a folder: entries called prefix + process id + anything.
void remove_leftovers(const fs::path& folder, const std::string& prefix);

/// $XDG_DATA_HOME/glass-clock, $XDG_CACHE_HOME/glass-clock or their defaults. Made when missing.
fs::path data_folder();
fs::path config_folder();
fs::path cache_folder();

}  // namespace gc
