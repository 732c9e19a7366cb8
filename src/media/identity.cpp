#include "media/identity.h"

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <mutex>
#include <unordered_map>

#include "media/sequence.h"

namespace gc {
namespace {

/// Hash of a file's size and of samples of 4 KB spread over it.
Hash128 content_of(const std::string& path, std::uint64_t size, std::uint64_t samples) {
  constexpr std::uint64_t kSample = 4096, kAll = std::uint64_t{4} << 20;
  Hasher h;
  h.add(static_cast<std::int64_t>(size));
  std::ifstream file(path, std::ios::binary);
  std::string part;
  const auto add = [&](std::uint64_t at, std::uint64_t bytes) {
    part.resize(bytes);
    file.seekg(static_cast<std::streamoff>(at));
    file.read(part.data(), static_cast<std::streamsize>(bytes));
    part.resize(static_cast<std::size_t>(std::max<std::streamsize>(0, file.gcount())));
    h.add(hash_text(part));
  };
  if (samples > 8 && size <= kAll) add(0, size);
  else
    for (std::uint64_t i = 0; i < samples; ++i) add((size - std::min(size, kSample)) / (samples - 1) * i, std::min(size, kSample));
  return h.done();
}

constexpr std::uint64_t kOfAFile = 64, kOfAPicture = 3;  ///< samples

/// Contents that were looked at, by path, size and time of change.
class KnownContents {
 public:
  Hash128 of(const std::string& path, std::uint64_t samples) {
    std::error_code e;
    const auto size = std::filesystem::file_size(path, e);
    if (e) return {};
    const auto time = static_cast<std::int64_t>(std::filesystem::last_write_time(path, e).time_since_epoch().count());
    const Hash128 state = Hasher().add(path).add(static_cast<std::int64_t>(size)).add(time).done();
    {
      const std::lock_guard lock(mutex_);
      if (const auto it = known_.find(state); it != known_.end()) return it->second;
    }
    const std::shared_ptr<IdentityMemory> memory = samples == kOfAFile ? this->memory() : nullptr;
    const std::optional<Hash128> before = memory ? memory->content(state) : std::nullopt;
    const Hash128 content = before ? *before : content_of(path, size, samples);
    if (memory && !before) memory->keep_content(state, content);
    const std::lock_guard lock(mutex_);
    return known_[state] = content;
  }
  void remember(const std::weak_ptr<IdentityMemory>& memory) {
    const std::lock_guard lock(mutex_);
    memory_ = memory;
  }

 private:
  std::shared_ptr<IdentityMemory> memory() {
    const std::lock_guard lock(mutex_);
    return memory_.lock();
  }
  std::weak_ptr<IdentityMemory> memory_;
  std::mutex mutex_;
  std::unordered_map<Hash128, Hash128> known_;
};
KnownContents& known_contents() {
  static auto* all = new KnownContents;
  return *all;
}

}  // namespace

void remember_identities(const std::weak_ptr<IdentityMemory>& memory) { known_contents().remember(memory); }

Hash128 file_identity(const std::string& path) {
  const auto sequence = Sequence::parse(path);
  if (!sequence) return known_contents().of(path, kOfAFile);
  Hasher all;
  all.add(sequence->step).add(sequence->rate.num).add(sequence->rate.den).add(sequence->missing);
  for (Frames n = 0; n < sequence->frames(); ++n) all.add(known_contents().of(sequence->file(n), kOfAPicture));
  return all.done();
}

}  // namespace gc
