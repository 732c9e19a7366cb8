// Memory for large tables that are looked into here and there: in large pages where the system has them. With small
// ones nearly every look-up of a million would first have to look up where its page lies.
#pragma once
#include <sys/mman.h>

#include <cstdlib>
#include <new>

namespace gc {

template <class T>
struct LargePages {
  using value_type = T;
  LargePages() = default;
  template <class U>
  LargePages(const LargePages<U>&) noexcept {}

  T* allocate(std::size_t n) {
    constexpr std::size_t kPage = std::size_t{2} << 20;
    const std::size_t bytes = (n * sizeof(T) + 63) / 64 * 64;
    const bool large = bytes >= 2 * kPage;
    void* p = large ? std::aligned_alloc(kPage, (bytes + kPage - 1) / kPage * kPage) : std::aligned_alloc(64, bytes);
    if (!p) throw std::bad_alloc();
    if (large) ::madvise(p, bytes, MADV_HUGEPAGE);  // a wish: without it all works the same
    return static_cast<T*>(p);
  }
  void deallocate(T* p, std::size_t) noexcept { std::free(p); }
  template <class U>
  bool operator==(const LargePages<U>&) const {
    return true;
  }
};

}  // namespace gc
