// Memory of pictures in flight. What the system gives anew costs a page fault for each of its pages, which is
// as dear as a light effect; so steady playback goes round in memory that was given back.
#pragma once
#include <cstddef>

namespace gc {

/// At least so many bytes, 64-byte aligned; contents are whatever they held. From the system in large pages
/// where it has them. Throws std::bad_alloc.
void* take_memory(std::size_t bytes);
/// Gives back what was taken; `bytes` as it was asked for. What was not wanted for longest goes back to the
/// system where more than `kMostHeld` lies idle.
void give_memory(void* p, std::size_t bytes);
inline constexpr std::size_t kMostHeld = std::size_t{768} << 20;

/// What lies here for reuse right now, and how often the system had to be asked so far.
struct MemoryHeld {
  std::size_t bytes = 0, allocations = 0;
};
MemoryHeld memory_held();

}  // namespace gc
