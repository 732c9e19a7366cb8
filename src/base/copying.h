// Copies of files that are known to be whole.
#pragma once
#include <cstdint>
#include <functional>

#include "base/files.h"
#include "base/hash.h"

namespace gc {

/// XXH3-128 of a file's bytes, read from beginning to end.
/// @param go_on asked with the bytes read since it was asked last; false stops
Result<Hash128> hash_of_file(const fs::path& file, const std::function<bool(std::uint64_t)>& go_on = {});

/// Copies a file: under a name of its own, synced, read back and held against what was read, then renamed. What lies at
/// `to` already is not overwritten. On failure nothing is left behind. Folders on the way are made.
/// @return XXH3-128 of its bytes
Result<Hash128> copy_checked(const fs::path& from, const fs::path& to, const std::function<bool(std::uint64_t)>& go_on = {});

}  // namespace gc
