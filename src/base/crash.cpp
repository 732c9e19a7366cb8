#include "base/crash.h"

#include <fcntl.h>
#include <signal.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>

namespace gc {
namespace {

constexpr int kSignals[] = {SIGSEGV, SIGBUS, SIGFPE, SIGILL, SIGABRT};
int told_to = -1;

/// Only what a signal handler may do: no memory is asked for, no lock taken.
void tell(int signal) {
  char line[256];
  std::size_t n = 0;
  const Doing now = doing;
  if (told_to >= 0 && now.what[0] != 0) {
    char digits[24];
    int count = 0;
    for (std::int64_t f = now.frame < 0 ? 0 : now.frame; count == 0 || f > 0; f /= 10) digits[count++] = static_cast<char>('0' + f % 10);
    if (now.frame < 0) line[n++] = '-';
    while (count > 0) line[n++] = digits[--count];
    line[n++] = ' ';
    for (const char* p = now.what; *p != 0 && n < sizeof line; ++p) line[n++] = *p;
    (void)!::write(told_to, line, n);
  }
  // The usual end comes with the signal's return.
  ::signal(signal, SIG_DFL);
  ::raise(signal);
}

}  // namespace

CrashTeller::CrashTeller(const fs::path& file) : file_(file) {
  std::error_code e;
  fs::create_directories(file.parent_path(), e);
  told_to = ::open(file.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0600);
  for (const int s : kSignals) ::signal(s, tell);
}

CrashTeller::~CrashTeller() {
  for (const int s : kSignals) ::signal(s, SIG_DFL);
  if (told_to >= 0) ::close(std::exchange(told_to, -1));
  std::error_code e;
  fs::remove(file_, e);
}

std::optional<Crash> take_crash(const fs::path& file) {
  const auto text = read_file(file);
  std::error_code e;
  fs::remove(file, e);
  if (!text) return std::nullopt;
  char* end = nullptr;
  const long long frame = std::strtoll(text->c_str(), &end, 10);
  if (end == text->c_str() || *end != ' ' || end[1] == 0) return std::nullopt;
  return Crash{end + 1, text->front() == '-' ? -1 : frame};
}

}  // namespace gc
