#include "media/memory.h"

#include <sys/mman.h>

#include <algorithm>
#include <bit>
#include <cstdint>
#include <cstdlib>
#include <map>
#include <mutex>
#include <new>
#include <opencv2/core.hpp>
#include <vector>

namespace gc {
namespace {

constexpr std::size_t kLargePage = std::size_t{2} << 20;

/// Rounded up in steps of an eighth, so that rasters of nearly one size share memory.
std::size_t rounded(std::size_t bytes) {
  std::size_t step = std::max<std::size_t>(64, std::bit_floor(bytes) / 8);
  if (bytes >= 2 * kLargePage) step = std::max(step, kLargePage);
  return (bytes + step - 1) / step * step;
}

class Pool {
 public:
  void* take(std::size_t bytes) {
    bytes = rounded(bytes);
    {
      const std::lock_guard lock(mutex_);
      Shelf& s = shelves_[bytes];
      s.wanted = ++clock_;
      if (!s.free.empty()) {
        void* p = s.free.back();
        s.free.pop_back();
        held_ -= bytes;
        return p;
      }
      ++allocations_;
    }
    const bool large = bytes >= 2 * kLargePage;
    void* p = std::aligned_alloc(large ? kLargePage : 64, bytes);
    if (!p) throw std::bad_alloc();
    if (large) ::madvise(p, bytes, MADV_HUGEPAGE);
    return p;
  }
  void give(void* p, std::size_t bytes) {
    bytes = rounded(bytes);
    const std::lock_guard lock(mutex_);
    shelves_[bytes].free.push_back(p);
    held_ += bytes;
    while (held_ > kMostHeld) drop_oldest();
  }
  MemoryHeld state() {
    const std::lock_guard lock(mutex_);
    return {held_, allocations_};
  }

 private:
  struct Shelf {
    std::vector<void*> free;
    std::uint64_t wanted = 0;
  };
  void drop_oldest() {
    auto oldest = shelves_.end();
    for (auto it = shelves_.begin(); it != shelves_.end(); ++it)
      if (!it->second.free.empty() && (oldest == shelves_.end() || it->second.wanted < oldest->second.wanted))
        oldest = it;
    std::free(oldest->second.free.back());
    oldest->second.free.pop_back();
    held_ -= oldest->first;
  }

  std::mutex mutex_;
  std::map<std::size_t, Shelf> shelves_;  ///< by size
  std::uint64_t clock_ = 0;
  std::size_t held_ = 0, allocations_ = 0;
};

Pool& pool() {
  static Pool* p = new Pool;  // outlives every picture, also static ones
  return *p;
}

/// Effects' intermediate pictures come from the same memory.
class MatMemory : public cv::MatAllocator {
 public:
  cv::UMatData* allocate(int dims, const int* sizes, int type, void* given, std::size_t* step, cv::AccessFlag,
                         cv::UMatUsageFlags) const override {
    std::size_t total = CV_ELEM_SIZE(type);
    for (int i = dims - 1; i >= 0; --i) {
      if (step) {
        if (given && step[i] != cv::Mat::AUTO_STEP) total = step[i];
        else step[i] = total;
      }
      total *= static_cast<std::size_t>(sizes[i]);
    }
    auto* u = new cv::UMatData(this);
    u->data = u->origdata = static_cast<uchar*>(given ? given : take_memory(total));
    u->size = total;
    if (given) u->flags |= cv::UMatData::USER_ALLOCATED;
    return u;
  }
  bool allocate(cv::UMatData* u, cv::AccessFlag, cv::UMatUsageFlags) const override { return u != nullptr; }
  void deallocate(cv::UMatData* u) const override {
    if (!u) return;
    if (!(u->flags & cv::UMatData::USER_ALLOCATED)) give_memory(u->origdata, u->size);
    delete u;
  }
};

/// Before main: matrices remember who allocated them, but all of them should be from here.
const bool kMatsPooled = [] {
  cv::Mat::setDefaultAllocator(new MatMemory);
  return true;
}();

}  // namespace

void* take_memory(std::size_t bytes) { return pool().take(bytes); }
void give_memory(void* p, std::size_t bytes) { pool().give(p, bytes); }
MemoryHeld memory_held() { return pool().state(); }

}  // namespace gc
