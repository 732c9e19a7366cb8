// Which file it is, by its content.
#pragma once
#include <memory>
#include <optional>
#include <string>

#include "base/hash.h"

namespace gc {

/// What identifies a file by its content: hash of its size and of samples spread over it (all of it below 4 MB); of a
/// sequence, of its numbering and all its files. The same for a copy and after a move. Looked up again only when path, size
/// or time of change are others. Zero when it is missing.
Hash128 file_identity(const std::string& path);

/// Remembers from one run to the next what files held. `state`: of path, size and time of change. Called from any thread.
class IdentityMemory {
 public:
  virtual ~IdentityMemory() = default;
  virtual std::optional<Hash128> content(const Hash128& state) const = 0;
  virtual void keep_content(const Hash128& state, const Hash128& content) = 0;
};
/// Asked, from now on and for as long as it lives, for files that were not looked at in this run. Pictures of sequences are
/// not kept: looking takes no longer than remembering.
void remember_identities(const std::weak_ptr<IdentityMemory>& memory);

}  // namespace gc
