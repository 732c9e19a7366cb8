// A thread's place in line for the processors.
#pragma once
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace gc {

/// Puts a thread a little behind the calling one. A little only, since it is then behind every other program as well: at a nice
/// value of 15, two busy programs leave it 3 % of a processor.
/// @param thread its number; 0: the calling one itself, behind where it was
inline void give_way(pid_t thread = 0) {
  constexpr int kALittle = 3, kLast = 19;
  errno = 0;
  const int nice = getpriority(PRIO_PROCESS, 0);
  setpriority(PRIO_PROCESS, static_cast<id_t>(thread ? thread : static_cast<pid_t>(syscall(SYS_gettid))), std::min(kLast, nice + kALittle));
}

}  // namespace gc
