// A thread's place in line for the processors.
#pragma once
#include <sys/resource.h>
#include <sys/syscall.h>
#include <sys/types.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>

namespace gc {

/// Lets a thread give way to the one that calls, and to those like it: a little only. To the scheduler it gives way to every
/// other program as well. At a nice value of 10 one busy program beside leaves it a tenth of a processor; at 15, two of them
/// made a render that a person waited for take 136 s instead of 5.
/// @param thread its number; 0: the one that calls, from here on
inline void give_way(pid_t thread = 0) {
  constexpr int kALittle = 3, kLast = 19;
  errno = 0;
  const int nice = getpriority(PRIO_PROCESS, 0);
  setpriority(PRIO_PROCESS, static_cast<id_t>(thread ? thread : static_cast<pid_t>(syscall(SYS_gettid))), std::min(kLast, nice + kALittle));
}

}  // namespace gc
