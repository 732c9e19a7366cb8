#include "base/copying.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>
#include <xxhash.h>

#include <cerrno>
#include <cstring>
#include <memory>
#include <vector>

namespace gc {
namespace {

constexpr std::size_t kPortion = std::size_t{4} << 20;

struct Descriptor {
  int fd;
  explicit Descriptor(int opened) : fd(opened) {}
  Descriptor(const Descriptor&) = delete;
  ~Descriptor() {
    if (fd >= 0) ::close(fd);
  }
};

/// Everything of a file, portion by portion, to `take`, which fails with the reason.
Result<Hash128> each_portion(const fs::path& file, const std::function<Result<void>(const char*, std::size_t)>& take) {
  const Descriptor from(::open(file.c_str(), O_RDONLY | O_CLOEXEC));
  if (from.fd < 0) return bad_input(std::string("cannot be read: ") + std::strerror(errno), file.string(), "Check the name and its permissions.");
  const std::unique_ptr<XXH3_state_t, decltype(&XXH3_freeState)> state(XXH3_createState(), XXH3_freeState);
  XXH3_128bits_reset(state.get());
  std::vector<char> portion(kPortion);
  for (;;) {
    const ssize_t n = ::read(from.fd, portion.data(), portion.size());
    if (n < 0 && errno == EINTR) continue;
    if (n < 0) return environment(std::string("cannot be read: ") + std::strerror(errno), file.string(), "Check its volume and try again.");
    if (n == 0) break;
    XXH3_128bits_update(state.get(), portion.data(), static_cast<std::size_t>(n));
    if (auto r = take(portion.data(), static_cast<std::size_t>(n)); !r) return std::unexpected(r.error());
  }
  const XXH128_hash_t h = XXH3_128bits_digest(state.get());
  return Hash128{h.high64, h.low64};
}

std::unexpected<Error> stopped(const fs::path& file) { return environment("stopped", file.string(), "What was copied before it is whole."); }

Result<void> write_all(int fd, const char* bytes, std::size_t size, const fs::path& file) {
  while (size > 0) {
    const ssize_t n = ::write(fd, bytes, size);
    if (n < 0 && errno == EINTR) continue;
    if (n <= 0) return environment(std::string("cannot be written: ") + std::strerror(errno), file.string(), "Free some space and try again.");
    bytes += n, size -= static_cast<std::size_t>(n);
  }
  return {};
}

}  // namespace

Result<Hash128> hash_of_file(const fs::path& file, const std::function<bool(std::uint64_t)>& go_on) {
  return each_portion(file, [&](const char*, std::size_t n) -> Result<void> {
    if (go_on && !go_on(n)) return stopped(file);
    return {};
  });
}

Result<Hash128> copy_checked(const fs::path& from, const fs::path& to, const std::function<bool(std::uint64_t)>& go_on) {
  std::error_code e;
  if (fs::exists(to, e)) return bad_input("a file lies there already", to.string(), "Name another folder, or move that file away.");
  fs::create_directories(to.parent_path(), e);
  const fs::path temporary = temporary_name_for(to);
  Result<Hash128> read = Hash128{};
  {
    const Descriptor out(::open(temporary.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0644));
    if (out.fd < 0) return environment(std::string("cannot be written: ") + std::strerror(errno), to.string(), "Choose a folder you may write to.");
    read = each_portion(from, [&](const char* bytes, std::size_t n) -> Result<void> {
      if (go_on && !go_on(n)) return stopped(to);
      return write_all(out.fd, bytes, n, to);
    });
  }
  if (read) {
    forget_cached(temporary);
    const auto back = hash_of_file(temporary);
    if (!back) read = std::unexpected(back.error());
    else if (*back != *read) read = environment("the copy is not what was read", to.string(), "Check the drive, and copy again.");
  }
  if (read)
    if (auto r = sync_and_rename(temporary, to); !r) read = std::unexpected(r.error());
  if (!read) fs::remove(temporary, e);
  return read;
}

}  // namespace gc
