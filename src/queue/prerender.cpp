#include "queue/prerender.h"

#include <fmt/format.h>

#include <set>
#include <unordered_set>

#include "base/clock.h"
#include "base/crash.h"
#include "base/log.h"
#include "base/timecode.h"
#include "media/writer.h"
#include "queue/flat_out.h"
#include "queue/pieces.h"
#include "measure/encoding.h"
#include "queue/render_into.h"
#include "queue/subject.h"

namespace gc {
namespace {

/// Encodes frames in their order, piece after piece.
class PieceWriter {
 public:
  PieceWriter(const RenderSubject& subject, Shelf& shelf, Notebook* notebook, std::vector<FrameRange> pieces)
      : subject_(subject), program_(*subject.program), shelf_(shelf), notebook_(notebook), pieces_(std::move(pieces)) {}

  /// Encodes the next frame.
  Result<void> take(const FrameResult& frame) { return encode(frame); }

  /// Gives up the piece in work and the room that is held for it.
  void drop() { writer_.reset(), draft_.reset(); }

  PrerenderReport report;
  /// The form that a picture needed which this one cannot keep.
  std::optional<Form> needed;

 private:
  Result<void> encode(const FrameResult& frame) {
    const DoingScope says("encode", frame.frame);
    const FrameRange& range = pieces_[piece_];
    const Timeline& t = *program_.timeline();
    if (frame.failed) return std::unexpected(*frame.failed);
    if (frame.offline) {
      const std::string why = frame.trouble.empty() ? "media are offline" : frame.trouble.front();
      return bad_input(
          fmt::format("{} cannot be rendered: {}", timecode_at(t, frame.frame), why), t.name,
          "Bring the media back, or leave this segment out; what is finished is kept.");
    }
    if (auto r = fits_form(subject_, frame, needed); !r) return r;
    if (!writer_) {
      const std::uint64_t each = notebook_ ? frame_bytes(*notebook_, subject_.form, t.width, t.height, subject_.content(range.in))
                                           : form_frame_bytes(subject_.form, t.width, t.height);
      auto draft = shelf_.begin(piece_room(each, range.length(), subject_.form), form_extension(subject_.form),
                                static_cast<double>(each) * t.rate.fps() / 1e6);
      if (!draft) return std::unexpected(draft.error());
      draft_.emplace(std::move(*draft));
      auto writer = MovieWriter::create(draft_->path.string(), subject_.form, t.width, t.height, t.rate,
                                        subject_.kind == TapKind::frame ? colour_codes(t.display_space) : ColourCodes{});
      if (!writer) return std::unexpected(writer.error());
      writer_ = std::move(*writer);
      chunk_ = {};
      chunk_.timeline = t.name, chunk_.after = subject_.after, chunk_.kind = subject_.kind, chunk_.form = subject_.form;
      chunk_.width = t.width, chunk_.height = t.height, chunk_.segment = subject_.of;
      if (!subject_.of.empty()) chunk_.offset = range.in;
      else if (const CompiledSegment* s = main_segment(program_, range.in))
        chunk_.segment = s->segment->id, chunk_.offset = range.in - s->in;
    }
    if (auto r = writer_->write(frame.image); !r) return r;
    if (!form_is_constant(subject_.form))
      if (auto r = keep_room(shelf_, *draft_); !r) return r;
    chunk_.frames.push_back(subject_.key(frame.frame));
    ++report.frames;
    if (++in_piece_ < range.length()) return {};
    in_piece_ = 0, ++piece_;
    const Stopwatch closing;
    if (auto r = writer_->finish(); !r) return r;
    writer_.reset();
    chunk_.made = now_utc(), chunk_.seconds = since_piece_.ms() / 1000;
    since_piece_ = {};
    std::error_code e;
    const std::uint64_t bytes = fs::file_size(draft_->path, e);
    report.bytes += bytes, ++report.pieces;
    if (notebook_) {
      const float each = static_cast<float>(bytes) / static_cast<float>(range.length());
      note_sizes(*notebook_, subject_.form, t.width, t.height, subject_.content(range.in), {&each, 1});
    }
    Draft done = std::move(*draft_);
    draft_.reset();
    auto added = shelf_.add(std::move(chunk_), std::move(done));
    if (added && notebook_) note_piece(*notebook_, closing.ms(), bytes);
    return added;
  }

  const RenderSubject& subject_;
  const Program& program_;
  Shelf& shelf_;
  Notebook* notebook_;  ///< learns what the pieces take; may be null
  std::vector<FrameRange> pieces_;
  std::size_t piece_ = 0;
  Frames in_piece_ = 0;
  std::optional<Draft> draft_;
  std::unique_ptr<MovieWriter> writer_;  ///< gone before the file it writes
  Chunk chunk_;
  Stopwatch since_piece_;
};

}  // namespace

std::vector<FrameRange> pieces_of(const Program& program, const std::vector<FrameRange>& ranges) {
  std::vector<FrameRange> pieces;
  for (const CompiledInterval& interval : program.intervals())
    for (const FrameRange& r : ranges) {
      for (const FrameRange& piece : cut_in_pieces({std::max(r.in, interval.in), std::min(r.out, interval.out)})) pieces.push_back(piece);
    }
  std::sort(pieces.begin(), pieces.end(),
            [](const FrameRange& a, const FrameRange& b) { return a.in < b.in; });
  return pieces;
}

std::vector<FrameRange> still_wanted(const Program& accepted, const std::vector<FrameRange>& ranges,
                                     const Program& now) {
  std::unordered_set<Hash128> there;
  for (Frames f = 0; f < now.duration(); ++f) there.insert(now.fingerprint(f));
  std::vector<FrameRange> wanted;
  for (const FrameRange& r : ranges)
    for (Frames f = r.in; f < std::min(r.out, accepted.duration()); ++f) {
      if (!there.contains(accepted.fingerprint(f))) continue;
      if (!wanted.empty() && wanted.back().out == f && f > r.in) ++wanted.back().out;
      else wanted.push_back({f, f + 1});
    }
  return wanted;
}

namespace {

Result<PrerenderReport> render(RenderSubject subject, Shelf& shelf, const PrerenderOptions& options,
                               const std::function<bool(const PrerenderProgress&)>& progress,
                               const SealLookup* reuse = nullptr) {
  const ProgramPtr& program = subject.program;
  std::vector<FrameRange> todo;
  PrerenderReport skipped;
  shelf.settled();
  for (const FrameRange& piece : pieces_of(*program, subject.ranges)) {
    bool sealed = true;
    for (Frames f = piece.in; f < piece.out && sealed; ++f)
      sealed = shelf.find(subject.key(f)).has_value();
    if (sealed) skipped.already_sealed += piece.length();
    else todo.push_back(piece);
  }
  std::vector<Frames> frames;
  for (const FrameRange& piece : todo)
    for (Frames f = piece.in; f < piece.out; ++f) frames.push_back(f);
  // What a job makes is never thrown away by the same job.
  std::vector<Hash128> own;
  for (const Frames f : frames) own.push_back(subject.key(f));
  const Shelf::Protection kept = shelf.protect(own);
  PieceWriter writer(subject, shelf, options.notebook.get(), todo);
  writer.report.already_sealed = skipped.already_sealed;
  if (frames.empty()) return writer.report;

  const Stopwatch watch;
  const auto total = static_cast<Frames>(frames.size());
  const FlatOut flat{options.workers, options.background, options.notebook, reuse};
  const auto all = make_frames(program, frames, flat, [&](FrameResult& frame) -> Result<bool> {
    if (auto r = writer.take(frame); !r) return std::unexpected(r.error());
    const Frames done = writer.report.frames;
    const double seconds = watch.ms() / 1000;
    return !progress || progress({done, total, writer.report.pieces, seconds,
                                  seconds / static_cast<double>(done) * static_cast<double>(total - done)});
  });
  if (!all && writer.needed && *writer.needed != subject.form) {
    // What is left is made again in a form that holds it; the pieces before it stay.
    writer.drop();
    subject.form = *writer.needed;
    if (options.notebook) note_form_needed(*options.notebook, subject.content(todo.front().in), subject.form);
    PrerenderOptions unpriced = options;
    unpriced.price = {};
    auto rest = render(std::move(subject), shelf, unpriced, progress, reuse);
    if (!rest) return rest;
    const Frames whole = rest->already_sealed - skipped.already_sealed;
    rest->frames += whole, rest->already_sealed -= whole;
    rest->pieces += writer.report.pieces, rest->bytes += writer.report.bytes, rest->seconds = watch.ms() / 1000;
    return rest;
  }
  if (!all) return std::unexpected(all.error());
  writer.report.cancelled = writer.report.frames < total;
  writer.report.seconds = watch.ms() / 1000;
  const RenderPrice& price = options.price;
  if (options.notebook && price.frames > 0 && writer.report.frames == price.frames)
    if (auto r = options.notebook->add_price(
            {now_utc(), price.frames, price.modelled_s, price.said_s, writer.report.seconds});
        !r)
      spdlog::warn("{}", r.error().text());
  return writer.report;
}

}  // namespace

Result<PrerenderReport> prerender(const ProgramPtr& played, Shelf& shelf, const std::vector<FrameRange>& ranges,
                                  const PrerenderOptions& options,
                                  const std::function<bool(const PrerenderProgress&)>& progress) {
  MediaCatalog media;
  const ProgramPtr program = program_rendered(played, options.device, media);
  const Timeline& t = *program->timeline();
  shelf.want(program);
  return render(finished_frames(program, ranges, form_that_keeps(options.form, false, t.width, t.height)), shelf, options, progress);
}

Result<PrerenderReport> render_into(const ProgramPtr& program, Shelf& shelf, const std::vector<FrameRange>& ranges,
                                    const PrerenderOptions& options, const SealLookup* rendered,
                                    const std::function<bool(const PrerenderProgress&)>& progress) {
  return render(finished_frames(program, ranges, options.form), shelf, options, progress, rendered);
}

namespace {

/// Parts are priced by whoever asked for them.
PrerenderOptions unpriced(PrerenderOptions options) {
  options.price = {};
  return options;
}

}  // namespace

Result<PrerenderReport> cache_stack(const ProgramPtr& played, Shelf& shelf, const std::string& id, std::size_t after,
                                    const PrerenderOptions& options,
                                    const std::function<bool(const PrerenderProgress&)>& progress) {
  MediaCatalog media;
  const ProgramPtr whole = program_rendered(played, options.device, media);
  auto subject = stack_of(whole, media, id, after, options.device, options.form, options.notebook.get());
  if (!subject) return std::unexpected(subject.error());
  shelf.want(whole);
  return render(std::move(*subject), shelf, unpriced(options), progress);
}

Result<PrerenderReport> bake(const ProgramPtr& played, Shelf& shelf, const std::string& id, FrameRange frames,
                             const PrerenderOptions& options,
                             const std::function<bool(const PrerenderProgress&)>& progress) {
  MediaCatalog media;
  const ProgramPtr whole = program_rendered(played, options.device, media);
  auto subject = composition_of(whole, media, id, frames, options.device, options.form, options.notebook.get());
  if (!subject) return std::unexpected(subject.error());
  shelf.want(whole);
  return render(std::move(*subject), shelf, unpriced(options), progress);
}

}  // namespace gc
