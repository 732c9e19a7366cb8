#include "base/files.h"

#include <fcntl.h>
#include <unistd.h>

#include <cerrno>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <sstream>

namespace gc {
namespace {

Result<void> sync_path(const fs::path& path, int flags) {
  const int fd = ::open(path.c_str(), flags);
  if (fd < 0)
    return environment(std::string("cannot be opened to sync it: ") + std::strerror(errno), path.string(),
                       "Check that the volume is mounted and writable.");
  const int r = ::fsync(fd);
  const int e = errno;
  ::close(fd);
  if (r != 0)
    return environment(std::string("cannot be synced: ") + std::strerror(e), path.string(),
                       "Check the volume; nothing was replaced.");
  return {};
}

fs::path xdg(const char* variable, const char* fallback) {
  const char* set = std::getenv(variable);
  const char* home = std::getenv("HOME");
  fs::path base = set && *set ? fs::path(set) : fs::path(home ? home : "/tmp") / fallback;
  base /= "glass-clock";
  std::error_code ignored;
  fs::create_directories(base, ignored);
  return base;
}

}  // namespace

Result<std::string> read_file(const fs::path& path, std::uintmax_t limit) {
  std::error_code e;
  if (fs::is_directory(path, e))
    return bad_input("is a folder, not a file", path.string(), "Name a file in it.");
  std::ifstream in(path, std::ios::binary);
  if (!in)
    return bad_input(std::string("cannot be read: ") + std::strerror(errno), path.string(),
                     "Check the name and its permissions.");
  const std::uintmax_t size = fs::file_size(path, e);
  if (!e && size > limit)
    return bad_input("is larger than any file of its kind should be", path.string(), "Choose another file.");
  std::ostringstream all;
  all << in.rdbuf();
  return std::move(all).str();
}

Result<void> write_file_atomic(const fs::path& path, std::string_view bytes) {
  const fs::path temporary = path.string() + ".writing-" + std::to_string(::getpid());
  const int fd = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644);
  if (fd < 0)
    return environment(std::string("cannot be written: ") + std::strerror(errno), path.string(),
                       "Choose a folder you may write to; the old file is unchanged.");
  std::string_view rest = bytes;
  while (!rest.empty()) {
    const ssize_t n = ::write(fd, rest.data(), rest.size());
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) {
      const int e = errno;
      ::close(fd);
      ::unlink(temporary.c_str());
      return environment(std::string("cannot be written: ") + std::strerror(e), path.string(),
                         "Free some space and save again; the old file is unchanged.");
    }
    rest.remove_prefix(static_cast<std::size_t>(n));
  }
  ::close(fd);
  return sync_and_rename(temporary, path);
}

Result<void> sync_and_rename(const fs::path& temporary, const fs::path& final_name) {
  if (auto synced = sync_path(temporary, O_RDONLY); !synced) {
    ::unlink(temporary.c_str());
    return synced;
  }
  if (::rename(temporary.c_str(), final_name.c_str()) != 0) {
    const int e = errno;
    ::unlink(temporary.c_str());
    return environment(std::string("cannot be replaced: ") + std::strerror(e), final_name.string(),
                       "Check the folder's permissions; the old file is unchanged.");
  }
  const fs::path folder = final_name.has_parent_path() ? final_name.parent_path() : fs::path(".");
  return sync_path(folder, O_RDONLY | O_DIRECTORY);
}

void remove_leftovers(const fs::path& folder, const std::string& prefix) {
  std::error_code e;
  std::vector<fs::path> gone;
  for (const auto& entry : fs::directory_iterator(folder, e)) {
    const std::string name = entry.path().filename().string();
    if (!name.starts_with(prefix)) continue;
    const long pid = std::strtol(name.c_str() + prefix.size(), nullptr, 10);
    if (pid > 0 && !fs::exists("/proc/" + std::to_string(pid), e)) gone.push_back(entry.path());
  }
  for (const fs::path& p : gone) fs::remove_all(p, e);
}

fs::path data_folder() { return xdg("XDG_DATA_HOME", ".local/share"); }
fs::path config_folder() { return xdg("XDG_CONFIG_HOME", ".config"); }
fs::path cache_folder() { return xdg("XDG_CACHE_HOME", ".cache"); }

}  // namespace gc
