#include "base/files.h"

#include "base/slow_volume.h"

#include <fcntl.h>
#include <sys/stat.h>
#include <unistd.h>

#include <atomic>
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

namespace {
/// On the stand-in for a slow drive an access takes as long as the drive says.
void take_its_time(const fs::path& path, std::size_t read, std::size_t written) {
  if (const auto drive = throttle_of(path)) {
    if (read > 0) (void)drive->read(read);
    if (written > 0) (void)drive->write(written);
  }
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
  std::string text = std::move(all).str();
  if (path.filename() != kSlowVolumeMarker) take_its_time(path, text.size() + 1, 0);
  return text;
}

Result<void> must_be_free(const fs::path& path) {
  if (std::error_code e; fs::exists(path, e)) return bad_input("a file lies there already", path.string(), "Give another name, or move that file away.");
  return {};
}

Result<void> write_file_atomic(const fs::path& wanted, std::string_view bytes) {
  // A link stays a link: the file that it names is replaced.
  std::error_code no_link;
  const fs::path target = fs::is_symlink(wanted, no_link) ? fs::canonical(wanted, no_link) : wanted;
  const fs::path path = no_link ? wanted : target;
  const fs::path temporary = temporary_name_for(path);
  const int fd = ::open(temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644);
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
  take_its_time(path, 0, bytes.size() + 1);
  struct stat was {};
  if (::stat(path.c_str(), &was) == 0) (void)!::fchmod(fd, was.st_mode & 07777);
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

namespace {

constexpr const char* kMark = ".made-by-glass-clock";

std::string first_line(const fs::path& file) {
  std::ifstream in(file);
  std::string line;
  std::getline(in, line);
  return line;
}

/// When a process began, in the kernel's ticks since the machine's start; empty when there is none. It tells a
/// process from a later one with the same number. One that has ended and waits to be collected is none.
std::string start_of(long pid) {
  const std::string stat = first_line("/proc/" + std::to_string(pid) + "/stat");
  // The name may hold anything; it ends at the last bracket.
  const auto end = stat.rfind(')');
  if (end == std::string::npos) return {};
  std::istringstream fields(stat.substr(end + 1));
  std::string field;
  fields >> field;
  if (field == "Z" || field == "X") return {};
  for (int i = 1; i < 20; ++i) fields >> field;  // the 22nd of all
  return field;
}

std::string this_machine() {
  char host[256] = {};
  ::gethostname(host, sizeof host - 1);
  return std::string(host) + " " + first_line("/proc/sys/kernel/random/boot_id");
}

}  // namespace

std::string own_process() {
  return this_machine() + " " + std::to_string(::getpid()) + " " + start_of(::getpid());
}

bool may_be_alive(const std::string& process) {
  std::istringstream fields(process);
  std::string host, boot, start;
  long pid = 0;
  if (!(fields >> host >> boot >> pid >> start)) return true;
  std::istringstream own(this_machine());
  std::string own_host, own_boot;
  own >> own_host >> own_boot;
  if (host != own_host) return true;
  return boot == own_boot && start_of(pid) == start;
}

void forget_cached(const fs::path& path) {
  const int fd = ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (fd < 0) return;
  ::fdatasync(fd);
  ::posix_fadvise(fd, 0, 0, POSIX_FADV_DONTNEED);
  ::close(fd);
}

fs::path temporary_name_for(const fs::path& path) {
  static std::atomic<int> number{0};
  return path.string() + ".writing-" + std::to_string(::getpid()) + "-" + std::to_string(number++);
}

Result<ScratchFolder> ScratchFolder::make(const fs::path& parent, const std::string& prefix) {
  std::error_code e;
  fs::create_directories(parent, e);
  for (const auto& entry : fs::directory_iterator(parent, e)) {
    if (!entry.path().filename().string().starts_with(prefix) || !entry.is_directory(e)) continue;
    const std::string by = first_line(entry.path() / kMark);
    if (!by.empty() && !may_be_alive(by)) fs::remove_all(entry.path(), e);
  }
  std::string name = (parent / (prefix + "XXXXXX")).string();
  if (!::mkdtemp(name.data()))
    return environment(std::string("no folder can be made there: ") + std::strerror(errno), parent.string(),
                       "Check that it exists and may be written to.");
  ScratchFolder made{fs::path(name)};
  if (auto r = write_file_atomic(made.path_ / kMark, own_process() + "\n"); !r) {
    fs::remove_all(made.path_, e);
    made.path_.clear();
    return std::unexpected(r.error());
  }
  return made;
}

ScratchFolder::~ScratchFolder() {
  std::error_code e;
  if (!path_.empty()) fs::remove_all(path_, e);
}

fs::path data_folder() { return xdg("XDG_DATA_HOME", ".local/share"); }
fs::path config_folder() { return xdg("XDG_CONFIG_HOME", ".config"); }
fs::path cache_folder() { return xdg("XDG_CACHE_HOME", ".cache"); }

}  // namespace gc
