#include "base/process.h"

#include <fcntl.h>
#include <poll.h>
#include <spawn.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace gc {
namespace {

struct Pipe {
  int ends[2] = {-1, -1};
  bool open() { return ::pipe2(ends, O_CLOEXEC) == 0; }
  void shut(int which) {
    if (ends[which] >= 0) ::close(ends[which]);
    ends[which] = -1;
  }
  ~Pipe() { shut(0), shut(1); }
};

std::string name_of(const std::string& variable) { return variable.substr(0, variable.find('=') + 1); }

/// Reads both until both have ended.
void listen(Pipe& out, Pipe& error, std::string& said, std::string& complained) {
  while (out.ends[0] >= 0 || error.ends[0] >= 0) {
    pollfd both[2] = {{out.ends[0], POLLIN, 0}, {error.ends[0], POLLIN, 0}};
    if (::poll(both, 2, -1) < 0 && errno != EINTR) return;
    for (int i = 0; i < 2; ++i) {
      if (both[i].fd < 0 || both[i].revents == 0) continue;
      char buffer[4096];
      const ssize_t n = ::read(both[i].fd, buffer, sizeof buffer);
      if (n > 0) (i == 0 ? said : complained).append(buffer, static_cast<std::size_t>(n));
      else if (n == 0 || errno != EINTR) (i == 0 ? out : error).shut(0);
    }
  }
}

}  // namespace

Result<std::string> run_program(const std::string& program, const std::vector<std::string>& arguments, const std::vector<std::string>& set) {
  std::vector<std::string> words{program}, variables = set;
  words.insert(words.end(), arguments.begin(), arguments.end());
  for (char** v = environ; *v; ++v) {
    bool replaced = false;
    for (const std::string& s : set) replaced = replaced || std::string_view(*v).starts_with(name_of(s));
    if (!replaced) variables.emplace_back(*v);
  }
  std::vector<char*> argv, envp;
  for (std::string& w : words) argv.push_back(w.data());
  for (std::string& v : variables) envp.push_back(v.data());
  argv.push_back(nullptr), envp.push_back(nullptr);
  Pipe out, error;
  if (!out.open() || !error.open()) return environment(std::string("no pipe can be made: ") + std::strerror(errno), program, "Close other programs and try again.");
  posix_spawn_file_actions_t actions;
  ::posix_spawn_file_actions_init(&actions);
  ::posix_spawn_file_actions_adddup2(&actions, out.ends[1], 1);
  ::posix_spawn_file_actions_adddup2(&actions, error.ends[1], 2);
  pid_t pid = 0;
  const int failed = ::posix_spawnp(&pid, program.c_str(), &actions, nullptr, argv.data(), envp.data());
  ::posix_spawn_file_actions_destroy(&actions);
  if (failed != 0) return environment(std::string("it cannot be started: ") + std::strerror(failed), program, "Install it, or name the folder where it is.");
  out.shut(1), error.shut(1);
  std::string said, complained;
  listen(out, error, said, complained);
  int status = 0;
  while (::waitpid(pid, &status, 0) < 0 && errno == EINTR) {
  }
  if (WIFEXITED(status) && WEXITSTATUS(status) == 0) return said;
  while (!complained.empty() && complained.back() == '\n') complained.pop_back();
  return environment(complained.empty() ? "it ended with code " + std::to_string(WIFEXITED(status) ? WEXITSTATUS(status) : 128 + WTERMSIG(status)) : complained, program,
                     "Look at what it says.");
}

}  // namespace gc
