#include "media/throttled_io.h"

extern "C" {
#include <libavformat/avformat.h>
}
#include <fcntl.h>
#include <unistd.h>

#include <cerrno>

#include "base/slow_volume.h"

namespace gc {
namespace {

struct Slow {
  int file = -1;
  std::shared_ptr<Throttle> throttle;
};

int read_slow(void* opaque, std::uint8_t* to, int size) {
  auto* s = static_cast<Slow*>(opaque);
  const ssize_t n = ::read(s->file, to, static_cast<std::size_t>(size));
  if (n < 0) return AVERROR(errno);
  if (n == 0) return AVERROR_EOF;
  if (const int e = s->throttle->read(static_cast<std::size_t>(n))) return AVERROR(e);
  return static_cast<int>(n);
}

int write_slow(void* opaque, std::uint8_t* from, int size) {
  auto* s = static_cast<Slow*>(opaque);
  if (const int e = s->throttle->write(static_cast<std::size_t>(size))) return AVERROR(e);
  const ssize_t n = ::write(s->file, from, static_cast<std::size_t>(size));
  return n < 0 ? AVERROR(errno) : static_cast<int>(n);
}

std::int64_t seek_slow(void* opaque, std::int64_t to, int whence) {
  auto* s = static_cast<Slow*>(opaque);
  if (whence == AVSEEK_SIZE) {
    const off_t here = ::lseek(s->file, 0, SEEK_CUR), end = ::lseek(s->file, 0, SEEK_END);
    ::lseek(s->file, here, SEEK_SET);
    return end;
  }
  return ::lseek(s->file, to, whence & ~AVSEEK_FORCE);
}

}  // namespace

void ThrottledClose::operator()(AVIOContext* io) const {
  if (!io) return;
  if (io->write_flag) avio_flush(io);
  auto* s = static_cast<Slow*>(io->opaque);
  ::close(s->file);
  delete s;
  av_freep(&io->buffer);
  avio_context_free(&io);
}

ThrottledIo throttled_io(const std::string& path, bool write) {
  const auto throttle = throttle_of(path);
  if (!throttle) return nullptr;
  const int file = write ? ::open(path.c_str(), O_RDWR | O_CREAT | O_TRUNC | O_CLOEXEC, 0644)
                         : ::open(path.c_str(), O_RDONLY | O_CLOEXEC);
  if (file < 0) return nullptr;
  constexpr int kBuffer = 256 << 10;
  AVIOContext* io =
      avio_alloc_context(static_cast<unsigned char*>(av_malloc(kBuffer)), kBuffer, write ? 1 : 0,
                         new Slow{file, throttle}, read_slow, write ? write_slow : nullptr, seek_slow);
  return ThrottledIo(io);
}

}  // namespace gc
