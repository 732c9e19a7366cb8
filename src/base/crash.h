// What a process was doing when it crashed: each thread says what it is at, and a file tells of the one that crashed.
#pragma once
#include <cstdint>
#include <optional>

#include "base/files.h"

namespace gc {

/// What a thread is doing. The words are never freed, so that they can be told whatever else is broken.
struct Doing {
  const char* what = "";
  std::int64_t frame = -1;
};
inline thread_local constinit Doing doing;

/// Says what this thread does while it lives.
class DoingScope {
 public:
  explicit DoingScope(const char* what) : before_(doing) { doing.what = what; }
  DoingScope(const char* what, std::int64_t frame) : before_(doing) { doing = {what, frame}; }
  ~DoingScope() { doing = before_; }
  DoingScope(const DoingScope&) = delete;
  DoingScope& operator=(const DoingScope&) = delete;

 private:
  Doing before_;
};

/// While it lives, a crash of this process writes into the file what the thread that crashed was doing. One at a time.
class CrashTeller {
 public:
  explicit CrashTeller(const fs::path& file);
  /// The file goes: nothing crashed.
  ~CrashTeller();
  CrashTeller(const CrashTeller&) = delete;
  CrashTeller& operator=(const CrashTeller&) = delete;

 private:
  fs::path file_;
};

struct Crash {
  std::string what;
  std::int64_t frame = -1;
};
/// What such a file tells, and removes it; nothing when there is none, or when the thread had said nothing (a library's own).
std::optional<Crash> take_crash(const fs::path& file);

}  // namespace gc
