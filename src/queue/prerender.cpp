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
#include "queue/render_into.h"
#include "render/parts.h"

namespace gc {
namespace {

/// What is rendered of a program, and under which names it is kept.
struct Subject {
  ProgramPtr program;
  std::function<Hash128(Frames)> key;
  Form form = Form::vc3_hqx;
  TapKind kind = TapKind::frame;
  int after = 0;     ///< as in Chunk
  std::string of{};  ///< id of what it is taken of; empty: of each frame's main segment
};

/// Encodes frames in their order, piece after piece.
class PieceWriter {
 public:
  PieceWriter(const Subject& subject, Shelf& shelf, std::vector<FrameRange> pieces)
      : subject_(subject), program_(*subject.program), shelf_(shelf), pieces_(std::move(pieces)) {}

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
    if (auto r = fits_form(frame); !r) return r;
    if (!writer_) {
      const std::uint64_t each = form_frame_bytes(subject_.form, t.width, t.height);
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
    if (auto r = writer_->finish(); !r) return r;
    writer_.reset();
    chunk_.made = now_utc(), chunk_.seconds = since_piece_.ms() / 1000;
    since_piece_ = {};
    std::error_code e;
    report.bytes += fs::file_size(draft_->path, e);
    ++report.pieces;
    Draft done = std::move(*draft_);
    draft_.reset();
    return shelf_.add(std::move(chunk_), std::move(done));
  }

  /// Whether a picture that others are made of loses nothing but what the form says.
  Result<void> fits_form(const FrameResult& frame) {
    if (subject_.kind == TapKind::frame) return {};
    const bool alpha = form_has_alpha(subject_.form), lost = !frame.image.opaque && !alpha;
    if (!lost && (form_is_float(subject_.form) || within_form(frame.image))) return {};
    needed = form_of_light(alpha || lost);
    return bad_input(fmt::format("the picture at {} has {} that {} cannot keep", timecode_at(*program_.timeline(), frame.frame),
                                 lost ? "transparency" : "values", form_name(subject_.form)),
                     program_.timeline()->name, "Pre-render the segment.");
  }

  /// Forms of limited range hold values beyond black and white too: ITU-R BT.709 leaves room below code 64 and above 940
  /// of 1023, and as much for colour differences. Full range has none; a little overshoot of sharpening and scaling is
  /// what a screen does not show either.
  bool within_form(const Image& image) const {
    const bool full = subject_.form == Form::motion_jpeg;
    const float low = full ? -0.02f : -0.066f, high = full ? 1.02f : 1.088f, most = full ? 0.52f : 0.56f;
    const float* p = image.data();
    for (std::size_t i = 0; i < image.floats(); i += 4) {
      const float a = image.opaque ? 1 : p[i + 3];
      if (a <= 0) continue;
      const float r = p[i] / a, g = p[i + 1] / a, b = p[i + 2] / a;
      if (std::min({r, g, b}) >= 0 && std::max({r, g, b}) <= 1) continue;
      const float y = 0.2126f * r + 0.7152f * g + 0.0722f * b;
      if (y < low || y > high || std::abs(b - y) > most * 1.8556f || std::abs(r - y) > most * 1.5748f) return false;
    }
    return true;
  }

  const Subject& subject_;
  const Program& program_;
  Shelf& shelf_;
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
      const Frames in = std::max(r.in, interval.in), out = std::min(r.out, interval.out);
      for (Frames at = in; at < out;) {
        // No stub at the end: the last piece may be half as long again.
        const Frames end = out - at < kPieceFrames * 3 / 2 ? out : at + kPieceFrames;
        pieces.push_back({at, end});
        at = end;
      }
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

Result<PrerenderReport> render(Subject subject, Shelf& shelf, const std::vector<FrameRange>& ranges,
                               const PrerenderOptions& options,
                               const std::function<bool(const PrerenderProgress&)>& progress,
                               const SealLookup* reuse = nullptr) {
  const ProgramPtr& program = subject.program;
  std::vector<FrameRange> todo;
  PrerenderReport skipped;
  shelf.settled();
  for (const FrameRange& piece : pieces_of(*program, ranges)) {
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
  PieceWriter writer(subject, shelf, todo);
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
    PrerenderOptions unpriced = options;
    unpriced.price = {};
    auto rest = render(std::move(subject), shelf, ranges, unpriced, progress, reuse);
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
  return render({program, [&](Frames f) { return program->fingerprint(f); }, form_that_keeps(options.form, false, t.width, t.height)},
                shelf, ranges, options, progress);
}

Result<PrerenderReport> render_into(const ProgramPtr& program, Shelf& shelf, const std::vector<FrameRange>& ranges,
                                    const PrerenderOptions& options, const SealLookup* rendered,
                                    const std::function<bool(const PrerenderProgress&)>& progress) {
  return render({program, [&](Frames f) { return program->fingerprint(f); }, options.form}, shelf, ranges, options, progress, rendered);
}

Result<PrerenderReport> cache_stack(const ProgramPtr& played, Shelf& shelf, const std::string& id, std::size_t after,
                                    const PrerenderOptions& options,
                                    const std::function<bool(const PrerenderProgress&)>& progress) {
  MediaCatalog media;
  const ProgramPtr whole = program_rendered(played, options.device, media);
  const CompiledSegment* s = nullptr;
  for (const auto& each : whole->segments())
    if (each->segment->id == id) s = each.get();
  const std::string where = whole->timeline()->name;
  if (!s) return bad_input("there is no segment '" + id + "' on its tracks", where, "Name one that 'inspect' lists.");
  if (s->content == Content::offline || s->content == Content::adjustment)
    return bad_input(fmt::format("'{}' has no picture of its own", s->segment->name), where, "Choose another segment.");
  if (after < 1 || after > s->effects.size())
    return bad_input(fmt::format("'{}' has {} effects that run", s->segment->name, s->effects.size()), where,
                     "Name one of them.");
  bool alpha = !s->opaque;
  for (std::size_t i = 0; i < after; ++i) alpha = alpha || (s->effects[i].type && s->effects[i].type->places);
  RenderOptions full;
  full.device = options.device, full.rendering = true, full.join_fields = whole->options().join_fields;
  const ProgramPtr part = Program::compile(alone_up_to(*whole->timeline(), *s, after), media, full);
  PrerenderOptions unpriced = options;
  unpriced.price = {};
  shelf.want(whole);
  const Timeline& t = *part->timeline();
  return render({part, [&](Frames f) { return whole->tap_key(*s, f, after); },
                 form_of_parts(t, options.form, alpha), TapKind::stack, static_cast<int>(after)},
                shelf, {frames_alone(*whole->timeline(), *s, after)}, unpriced, progress);
}

namespace {

/// The first segment anywhere that shows a composition.
const CompiledSegment* shows(const Program& program, const std::string& composition) {
  for (const auto& s : program.segments()) {
    if (!s->inner) continue;
    if (s->segment->ref == composition) return s.get();
    if (const CompiledSegment* inside = shows(*s->inner, composition)) return inside;
  }
  return nullptr;
}

}  // namespace

Result<PrerenderReport> bake(const ProgramPtr& played, Shelf& shelf, const std::string& id, FrameRange frames,
                             const PrerenderOptions& options,
                             const std::function<bool(const PrerenderProgress&)>& progress) {
  MediaCatalog media;
  const ProgramPtr whole = program_rendered(played, options.device, media);
  const Timeline& t = *whole->timeline();
  const CompiledSegment* s = shows(*whole, id);
  const auto composition = t.compositions.find(id);
  if (!s || composition == t.compositions.end())
    return bad_input(fmt::format("no segment shows a composition '{}'", id), t.name, "Name one that 'inspect' lists.");
  RenderOptions full;
  full.device = options.device, full.rendering = true, full.join_fields = whole->options().join_fields;
  const ProgramPtr part = Program::compile(alone(t, *composition->second), media, full);
  PrerenderOptions unpriced = options;
  unpriced.price = {};
  if (frames.length() <= 0) frames = {0, part->duration()};
  shelf.want(whole);
  return render({part, [&](Frames f) { return s->inner->composition_key(f); },
                 form_of_parts(t, options.form, !s->opaque), TapKind::composition, 0, id},
                shelf, {frames}, unpriced, progress);
}

}  // namespace gc
