#include "render/cache.h"

#include <algorithm>

#include "base/clock.h"

namespace gc {
namespace {

thread_local double waited_here = 0;

/// Bytes a second that a picture can be copied with: a cautious round figure, for deciding what is not worth
/// keeping.
constexpr double kCopyBytesPerMs = 4e6;

std::size_t bytes_of(const Image& image) { return image.floats() * sizeof(float); }

}  // namespace

std::size_t cache_budget(std::uint64_t total, std::uint64_t available, std::uint64_t left_to_others) {
  const std::uint64_t room = available > left_to_others ? available - left_to_others : 0;
  return static_cast<std::size_t>(
      std::max<std::uint64_t>(std::uint64_t{256} << 20, std::min(room, total / 2)));
}

MemoryCache::Picture MemoryCache::find(const Hash128& key) {
  const std::lock_guard lock(mutex_);
  const auto it = entries_.find(key);
  if (it == entries_.end() || !it->second.picture) {
    ++stats_.misses;
    return nullptr;
  }
  ++stats_.hits;
  touch(it->second, key);
  return it->second.picture;
}

bool MemoryCache::has(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  const auto it = entries_.find(key);
  return it != entries_.end() && it->second.picture;
}

MemoryCache::Picture MemoryCache::get(const Hash128& key, const std::function<Image()>& make) {
  return get(key, make, true);
}
MemoryCache::Picture MemoryCache::get_unless_busy(const Hash128& key, const std::function<Image()>& make) {
  return get(key, make, false);
}

MemoryCache::Picture MemoryCache::get(const Hash128& key, const std::function<Image()>& make, bool wait) {
  {
    std::unique_lock lock(mutex_);
    for (;;) {
      const auto it = entries_.find(key);
      if (it == entries_.end()) break;
      if (it->second.picture) {
        ++stats_.hits;
        touch(it->second, key);
        return it->second.picture;
      }
      if (!wait) return nullptr;
      const Stopwatch waiting;
      made_.wait(lock);
      waited_here += waiting.ms();
    }
    ++stats_.misses;
    entries_[key] = {};
  }
  Picture picture;
  const Stopwatch watch;
  try {
    picture = std::make_shared<const Image>(make());
  } catch (...) {
    const std::lock_guard lock(mutex_);
    entries_.erase(key);
    made_.notify_all();
    throw;
  }
  const std::lock_guard lock(mutex_);
  entries_.erase(key);
  keep(key, picture, watch.ms());
  made_.notify_all();
  return picture;
}

void MemoryCache::offer(const Hash128& key, Picture picture, double ms) {
  const std::lock_guard lock(mutex_);
  if (!picture || entries_.contains(key)) return;
  if (ms < 2 * static_cast<double>(bytes_of(*picture)) / kCopyBytesPerMs) {
    ++stats_.not_kept;
    return;
  }
  keep(key, std::move(picture), ms);
}

void MemoryCache::keep(const Hash128& key, Picture picture, double ms) {
  const std::size_t bytes = bytes_of(*picture);
  if (bytes > budget_) {
    ++stats_.not_kept;
    return;
  }
  shrink_to(budget_ - bytes);
  Entry e{std::move(picture), 0, ms, bytes, order_.end()};
  e.worth = raised_ + ms / static_cast<double>(bytes);
  e.place = order_.emplace(e.worth, key);
  entries_[key] = std::move(e);
  stats_.bytes += bytes, ++stats_.pictures;
}

void MemoryCache::touch(Entry& e, const Hash128& key) {
  order_.erase(e.place);
  e.worth = raised_ + e.ms / static_cast<double>(e.bytes);
  e.place = order_.emplace(e.worth, key);
}

void MemoryCache::shrink_to(std::size_t bytes) {
  while (stats_.bytes > bytes && !order_.empty()) {
    const auto least = order_.begin();
    raised_ = least->first;
    const auto it = entries_.find(least->second);
    stats_.bytes -= it->second.bytes, --stats_.pictures, ++stats_.evicted;
    entries_.erase(it);
    order_.erase(least);
  }
}

double MemoryCache::waited_ms() { return waited_here; }

MemoryCache::Stats MemoryCache::stats() const {
  const std::lock_guard lock(mutex_);
  return stats_;
}

}  // namespace gc
