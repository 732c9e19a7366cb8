#include "queue/sampling.h"

#include <algorithm>

#include "base/clock.h"
#include "measure/encoding.h"
#include "queue/carry_out.h"
#include "queue/flat_out.h"
#include "queue/subject.h"
#include "remedy/kinds.h"

namespace gc {
namespace {

/// Pairs of neighbours, since the first picture that an encoder gets takes longer than those that follow on their like; from
/// three places, since pictures change.
std::vector<Frames> sampled_frames(const std::vector<FrameRange>& ranges) {
  constexpr Frames kPlaces = 3;
  Frames all = 0;
  for (const FrameRange& r : ranges) all += r.length();
  std::vector<Frames> frames;
  for (Frames i = 0; i < kPlaces; ++i) {
    Frames at = all * (2 * i + 1) / (2 * kPlaces);
    for (const FrameRange& r : ranges) {
      if (at < r.length()) {
        for (Frames f = r.in + at; f < std::min(r.out, r.in + at + 2); ++f)
          if (frames.empty() || f > frames.back()) frames.push_back(f);
        break;
      }
      at -= r.length();
    }
  }
  return frames;
}

/// Whether it was seen what making such pictures takes, and what playing them does.
bool is_known(const Program& played, const Notebook& notebook, Form form, int width, int height, const Hash128& content) {
  return size_is_known(notebook, form, width, height, content) && !notebook.encode(encode_key(form, width, height, content)).empty() &&
         fetching_is_known(played, notebook, form, width, height);
}

bool is_known(const RenderSubject& r, const Program& played, const Notebook& notebook) {
  const Timeline& t = *r.program->timeline();
  return is_known(played, notebook, r.form, t.width, t.height, r.content(r.ranges.front().in));
}

/// What was encoded is played: no law knows what decoding a form takes that this seat has not met. A failure leaves it to them.
void play_back(const ProgramPtr& played, const ProbeMovie& movie, const PrerenderOptions& options) {
  constexpr int kRounds = 2;
  if (!fetching_is_known(*played, *options.notebook, movie.form, movie.width, movie.height))
    (void)caught([&] { measure_fetching(played, *options.notebook, movie, kRounds, options.workers); });
}

Result<bool> sample(RenderSubject subject, const ProgramPtr& played, const PrerenderOptions& options, const fs::path& folder,
                    const std::function<bool()>& stopped) {
  const std::vector<Frames> frames = sampled_frames(subject.ranges);
  if (frames.empty()) return false;
  std::vector<FrameResult> pictures;
  std::optional<Form> needed;
  double looked_ms = 0;  // whether the form keeps them, which is asked of every picture before it is encoded
  const auto all = make_frames(subject.program, frames, {options.workers, options.background, options.notebook}, [&](FrameResult& f) -> Result<bool> {
    if (stopped() || f.failed || f.offline) return false;
    const Stopwatch looking;
    if (!fits_form(subject, f, needed)) subject.form = *needed;
    looked_ms += looking.ms();
    pictures.push_back(std::move(f));
    return true;
  });
  if (!all) return std::unexpected(all.error());
  if (!*all) return false;
  const Hash128 content = subject.content(frames.front());
  if (needed) note_form_needed(*options.notebook, content, *needed);
  const auto scratch = ScratchFolder::make(folder, ".sample-");
  if (!scratch) return std::unexpected(scratch.error());
  const Timeline& t = *subject.program->timeline();
  const fs::path file = scratch->path() / (std::string("sample") + form_extension(subject.form));
  auto encoded = encode_pictures(pictures, subject.form, t, file);
  if (!encoded) return std::unexpected(encoded.error());
  const auto each_ms = static_cast<float>(looked_ms / static_cast<double>(pictures.size()));
  for (EncodeSample& s : encoded->samples) s.wall_ms += each_ms, s.cpu_ms += each_ms;
  note_encoded(*options.notebook, subject.form, t.width, t.height, content, *encoded);
  play_back(played, {file, static_cast<Frames>(pictures.size()), subject.form, t.width, t.height}, options);
  return true;
}

/// The segment that reads the source which is to be copied, and the copy's form.
struct Copying {
  CompiledSegmentPtr of;
  CopyForm as;
  FrameRange frames;
};
/// Nothing where no segment reads it, or it cannot be copied.
std::optional<Copying> copying(const Situation& s, const Making& m, const PrerenderOptions& options) {
  for (const CompiledSegmentPtr& c : sources_in(*s.rendered, {0, s.rendered->duration()}))
    if (c->segment->ref == m.subject.source) {
      const CopyForm as = copy_form(c->media, m.subject.size, options.form);
      if (!as.refused.empty()) return std::nullopt;
      return Copying{c, as, m.subject.frames.empty() ? FrameRange{0, c->media.frames} : m.subject.frames.front()};
    }
  return std::nullopt;
}

Result<bool> sample(const Copying& c, const ProgramPtr& played, const PrerenderOptions& options, const fs::path& folder,
                    const std::function<bool()>& stopped) {
  const std::vector<Frames> frames = sampled_frames({c.frames});
  if (frames.empty()) return false;
  auto reader = FrameReader::open(c.of->path, 1);
  if (!reader) return std::unexpected(reader.error());
  std::vector<FramePtr> pictures;
  std::vector<EncodeSample> reading;
  for (std::size_t i = 0; i < frames.size(); ++i) {
    auto picture = picture_for_copy(**reader, c.of->joins_fields, frames[i]);
    if (!picture || stopped()) return false;
    pictures.push_back(std::move(*picture));
    // From there straight on, as a copy reads.
    constexpr Frames kRow = 8;
    const bool pair = i > 0 && frames[i] == frames[i - 1] + 1;
    const FrameRange row{frames[i] + 1, std::min(frames[i] + 1 + kRow, c.frames.out)};
    if (!pair || row.length() < kRow) continue;
    if (const auto read = read_copies(**reader, c.of->joins_fields, row)) reading.push_back(*read);
  }
  const auto scratch = ScratchFolder::make(folder, ".sample-");
  if (!scratch) return std::unexpected(scratch.error());
  const fs::path file = scratch->path() / (std::string("sample") + form_extension(c.as.form));
  const auto encoded = encode_copies(pictures, c.as.form, c.as.width, c.as.height, c.of->source_rate, file);
  if (!encoded) return std::unexpected(encoded.error());
  note_encoded(*options.notebook, c.as.form, c.as.width, c.as.height, copy_content(*c.of), *encoded, true);
  options.notebook->add_encode(copy_reading_key(*c.of), reading);
  play_back(played, {file, static_cast<Frames>(pictures.size()), c.as.form, c.as.width, c.as.height}, options);
  return true;
}

/// What of a making was neither rendered nor tried before: the copy of a source, stacks, a composition. Finished frames are
/// measured by their contents (measure_encoding).
struct Unseen {
  std::optional<Copying> copy;
  std::vector<RenderSubject> parts;
};
Result<Unseen> unseen(const Situation& s, const Making& m, const PrerenderOptions& options) {
  const Notebook& known = *options.notebook;
  Unseen all;
  const auto add = [&](Result<RenderSubject> part) -> Result<void> {
    if (!part) return std::unexpected(part.error());
    if (!part->ranges.empty() && !is_known(*part, *s.played, known)) all.parts.push_back(std::move(*part));
    return {};
  };
  switch (m.what) {
    case Making::What::source:
      all.copy = copying(s, m, options);
      if (all.copy && is_known(*s.played, known, all.copy->as.form, all.copy->as.width, all.copy->as.height, copy_content(*all.copy->of))) all.copy.reset();
      break;
    case Making::What::stack:
      for (const auto& [segment, after] : stacks_in(s, m.subject))
        if (auto r = add(stack_of(s.rendered, *s.media, segment, after, options.device, options.form, options.notebook.get())); !r)
          return std::unexpected(r.error());
      break;
    case Making::What::composition:
      if (auto r = add(composition_of(s.rendered, *s.media, m.subject.composition, {}, options.device, options.form, options.notebook.get())); !r)
        return std::unexpected(r.error());
      break;
    case Making::What::frames: break;
  }
  return all;
}

}  // namespace

bool is_sampled(const Situation& s, const Making& m, const PrerenderOptions& options) {
  const auto all = unseen(s, m, options);
  return !all || (!all->copy && all->parts.empty());
}

Result<bool> sample_making(const Situation& s, const Making& m, const PrerenderOptions& options, const fs::path& folder, const std::function<bool()>& stopped) {
  auto all = unseen(s, m, options);
  if (!all) return std::unexpected(all.error());
  if (all->copy) return sample(*all->copy, s.played, options, folder, stopped);
  bool any = false;
  for (RenderSubject& r : all->parts) {
    if (stopped()) break;
    const auto tried = sample(std::move(r), s.played, options, folder, stopped);
    if (!tried) return tried;
    any = any || *tried;
  }
  return any;
}

}  // namespace gc
