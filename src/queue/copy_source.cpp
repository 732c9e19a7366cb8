#include <fmt/format.h>

extern "C" {
#include <libavutil/frame.h>
}

#include <atomic>
#include <thread>

#include "base/clock.h"
#include "measure/encoding.h"
#include "queue/pieces.h"
#include "queue/prerender.h"

namespace gc {

namespace {

/// Copies one piece. Nothing when it was stopped.
Result<std::uint64_t> copy_piece(const CompiledSegment& s, FrameReader& reader, Shelf& shelf, FrameRange piece, int size,
                                 const CopyForm& as, Notebook* notebook, const std::function<bool()>& go_on) {
  const Stopwatch watch;
  std::unique_ptr<MovieWriter> writer;
  std::optional<Draft> draft;
  Chunk chunk;
  for (Frames n = piece.in; n < piece.out; ++n) {
    if (!go_on()) return 0;
    auto picture = picture_for_copy(reader, s.joins_fields, n);
    if (!picture) return std::unexpected(picture.error());
    if (!writer) {
      const std::uint64_t each = notebook ? frame_bytes(*notebook, as.form, as.width, as.height, copy_content(s)) : form_frame_bytes(as.form, as.width, as.height);
      auto room = shelf.begin(piece_room(each, piece.length(), as.form), form_extension(as.form),
                              static_cast<double>(each) * s.source_rate.fps() / 1e6);
      if (!room) return std::unexpected(room.error());
      draft.emplace(std::move(*room));
      auto made = MovieWriter::create_like(**picture, draft->path.string(), as.form, as.width, as.height, s.source_rate);
      if (!made) return std::unexpected(made.error());
      writer = std::move(*made);
    }
    if (auto r = writer->write(**picture); !r) return std::unexpected(r.error());
    if (!form_is_constant(as.form))
      if (auto r = keep_room(shelf, *draft); !r) return std::unexpected(r.error());
    chunk.frames.push_back(Program::source_key(s.media, s.joins_fields, n, size));
  }
  if (auto r = writer->finish(); !r) return std::unexpected(r.error());
  writer.reset();
  std::error_code e;
  const std::uint64_t bytes = fs::file_size(draft->path, e);
  if (notebook) {
    const float each = static_cast<float>(bytes) / static_cast<float>(piece.length());
    note_sizes(*notebook, as.form, as.width, as.height, copy_content(s), {&each, 1});
  }
  chunk.segment = s.segment->ref, chunk.offset = piece.in, chunk.kind = TapKind::source, chunk.form = as.form;
  chunk.timeline = fs::path(s.path).filename().string();
  chunk.width = as.width, chunk.height = as.height, chunk.seconds = watch.ms() / 1000;
  if (auto r = shelf.add(std::move(chunk), std::move(*draft)); !r) return std::unexpected(r.error());
  return bytes;
}

}  // namespace

Result<PrerenderReport> copy_source(const CompiledSegment& s, Shelf& shelf, FrameRange frames, int size,
                                    const PrerenderOptions& options,
                                    const std::function<bool(const PrerenderProgress&)>& progress) {
  const CopyForm as = copy_form(s.media, size, options.form);
  if (!as.refused.empty())
    return bad_input(fmt::format("{} cannot be copied: {}", s.path, as.refused), s.path, "Pre-render the segments instead.");
  if (frames.length() <= 0) frames = {0, s.media.frames};
  PrerenderReport report;
  std::vector<Hash128> own;
  for (Frames n = frames.in; n < frames.out; ++n) own.push_back(Program::source_key(s.media, s.joins_fields, n, size));
  shelf.settled();
  const std::vector<CopyWay> ways = copy_ways(s.media, not_copied(&shelf, s, frames, size), options.workers);
  const Shelf::Protection kept = shelf.protect(own);
  Frames total = 0;
  for (const CopyWay& way : ways) total += way.frames;
  report.already_sealed = frames.length() - total;
  const Stopwatch watch;
  std::mutex mutex;
  std::optional<Error> failed;
  std::atomic<bool> over{false};
  std::atomic<Frames> done{0};
  const auto tell = [&] {
    const std::lock_guard lock(mutex);
    const double seconds = watch.ms() / 1000;
    const Frames n = done;
    if (progress && !progress({n, total, report.pieces, seconds,
                               n > 0 ? seconds / static_cast<double>(n) * static_cast<double>(total - n) : 0}))
      report.cancelled = true, over = true;
  };
  const auto work = [&](const CopyWay& way) {
    auto reader = FrameReader::open(s.path, 1);
    const auto fail = [&](const Error& e) {
      const std::lock_guard lock(mutex);
      if (!failed) failed = e;
      over = true;
    };
    if (!reader) return fail(reader.error());
    for (const FrameRange& piece : way.pieces) {
      if (over) return;
      auto bytes = copy_piece(s, **reader, shelf, piece, size, as, options.notebook.get(), [&] {
        ++done, tell();
        return !over.load();
      });
      if (!bytes) return fail(bytes.error());
      const std::lock_guard lock(mutex);
      if (*bytes > 0) ++report.pieces, report.bytes += *bytes, report.frames += piece.length();
    }
  };
  {
    std::vector<std::jthread> threads;
    for (const CopyWay& way : ways)
      threads.emplace_back([&] {
        if (const auto threw = caught([&] { work(way); })) {
          const std::lock_guard lock(mutex);
          failed = *threw, over = true;
        }
      });
  }
  report.seconds = watch.ms() / 1000;
  if (failed) return std::unexpected(*failed);
  return report;
}

}  // namespace gc
