// Pictures kept in memory, under a byte budget.
#pragma once
#include <condition_variable>
#include <functional>
#include <map>
#include <mutex>
#include <unordered_map>

#include "base/hash.h"
#include "media/image.h"

namespace gc {

/// Bytes that a cache may take: what is available now without what is left to other programs, at most half of
/// all memory, and at least 256 MB.
std::size_t cache_budget(std::uint64_t total, std::uint64_t available, std::uint64_t left_to_others);

/// Keeps what is dear to make. Which picture goes first is decided by GreedyDual-Size (Cao and Irani, 1997):
/// a picture's worth is the time it took per byte, raised by what has been thrown away since it was last
/// used. Safe from several threads.
class MemoryCache {
 public:
  using Picture = std::shared_ptr<const Image>;

  explicit MemoryCache(std::size_t budget_bytes) : budget_(budget_bytes) {}

  /// The picture, or null.
  Picture find(const Hash128& key);
  /// Whether it is there. Does not count as a use of it.
  bool has(const Hash128& key) const;
  /// The picture; made when it is not there, by one thread while others that want it wait. Kept whatever it
  /// cost, since it is known to be wanted again.
  Picture get(const Hash128& key, const std::function<Image()>& make);
  /// The same, but null at once while another thread makes it.
  Picture get_unless_busy(const Hash128& key, const std::function<Image()>& make);
  /// Keeps a picture that took `ms` to make, unless copying it about would cost more than making it.
  void offer(const Hash128& key, Picture picture, double ms);
  /// Milliseconds that this thread has waited, ever, for pictures that others were making.
  static double waited_ms();

  struct Stats {
    std::size_t bytes = 0, pictures = 0, hits = 0, misses = 0, evicted = 0, not_kept = 0;
  };
  Stats stats() const;
  std::size_t budget() const { return budget_; }

 private:
  struct Entry {
    Picture picture;  ///< null while it is being made
    double worth = 0, ms = 0;
    std::size_t bytes = 0;
    std::multimap<double, Hash128>::iterator place;
  };
  Picture get(const Hash128& key, const std::function<Image()>& make, bool wait);
  void keep(const Hash128& key, Picture picture, double ms);
  void touch(Entry& e, const Hash128& key);
  void shrink_to(std::size_t bytes);

  std::size_t budget_;
  mutable std::mutex mutex_;
  std::condition_variable made_;
  std::unordered_map<Hash128, Entry> entries_;
  std::multimap<double, Hash128> order_;  ///< finished entries, least worth first
  double raised_ = 0;
  Stats stats_;
};

}  // namespace gc
