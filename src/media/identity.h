// Which file it is, by its content.
#pragma once
#include <string>

#include "base/hash.h"

namespace gc {

/// What identifies a file by its content: hash of its size and of samples spread over it (all of it below 4 MB); of a
/// sequence, of its numbering and all its files. The same for a copy and after a move. Looked up again only when path, size
/// or time of change are others. Zero when it is missing.
Hash128 file_identity(const std::string& path);

}  // namespace gc
