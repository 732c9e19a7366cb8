// Pictures that are files one by one.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "media/identity.h"
#include "media/reader_impl.h"

namespace gc {
namespace {

FramePtr black_frame(int width, int height) {
  std::shared_ptr<AVFrame> f(av_frame_alloc(), [](AVFrame* p) { av_frame_free(&p); });
  f->format = AV_PIX_FMT_GBRP, f->width = width, f->height = height;
  if (av_frame_get_buffer(f.get(), 64) < 0) return nullptr;
  for (int p = 0; p < 3; ++p) std::fill_n(f->data[p], static_cast<std::ptrdiff_t>(f->linesize[p]) * height, 0);
  return f;
}

}  // namespace

std::string sequence_path(const std::string& pattern, Frames first, Frames last, Rate rate, Frames step,
                          const std::string& missing) {
  return fmt::format("{}#{}-{}{}@{}/{}{}", pattern, first, last, step > 1 ? fmt::format("*{}", step) : "", rate.num,
                     rate.den, missing.empty() ? "" : ";" + missing);
}
bool is_sequence(const std::string& path) { return Sequence::parse(path).has_value(); }

Result<void> FrameReader::Impl::start_sequence() {
  std::optional<Frames> first;
  for (Frames n = 0; n < sequence->frames(); ++n) {
    std::error_code e;
    const auto size = std::filesystem::file_size(sequence->file(n), e);
    if (!e) {
      info.bytes += size;
      if (!first) first = n;
    } else if (!info.holes.empty() && info.holes.back().out == n) {
      ++info.holes.back().out;
    } else {
      info.holes.push_back({n, n + 1});
    }
  }
  if (!first)
    return bad_input("has no file", path,
                     "Put the files back or relink them; its segments are offline until then.");
  auto looked = probe(sequence->file(*first));
  if (!looked) return std::unexpected(looked.error());
  const std::uint64_t bytes = info.bytes;
  std::vector<FrameRange> holes = std::move(info.holes);
  info = *looked;
  info.rate = sequence->rate, info.frames = sequence->frames(), info.bytes = bytes;
  info.still = false, info.intra = info.alone = true;
  info.identity = file_identity(path);
  // "hold" has nothing to show before the first file.
  if (sequence->missing.empty()) info.holes = std::move(holes);
  else if (sequence->missing == "hold" && *first > 0) info.holes = {{0, *first}};
  return {};
}

Result<CodedPtr> FrameReader::Impl::take_from_sequence(Frames n) {
  if (n >= sequence->frames())
    return bad_input(fmt::format("ends early: frame {} was asked for, {} exist", n, sequence->frames()),
                     path, "Shorten the segment.");
  Frames there = n;
  if (sequence->missing == "hold")
    while (there > 0 && !sequence->has(there)) --there;
  if (!sequence->has(there)) {
    if (sequence->missing == "black")
      return std::make_shared<CodedPicture>(black_frame(info.width, info.height));
    return bad_input(fmt::format("frame {} of the sequence is missing", sequence->number(n)), sequence->file(n),
                     "Render or copy that frame again; the others play.");
  }
  return std::make_shared<CodedPicture>([file = sequence->file(there)](ReadTimes& t) -> Result<FramePtr> {
    const Stopwatch watch;
    auto reader = FrameReader::open(file);
    if (!reader) return std::unexpected(reader.error());
    t.read_ms += watch.ms();
    return (*reader)->read(0, &t);
  });
}

}  // namespace gc
