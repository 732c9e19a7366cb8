#include "queue/sampling.h"

#include <algorithm>

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

bool is_known(const Notebook& notebook, Form form, int width, int height, const Hash128& content) {
  return size_is_known(notebook, form, width, height, content) && !notebook.encode(encode_key(form, width, height, content)).empty();
}

/// Stacks and compositions. Finished frames are measured by their contents (measure_encoding).
Result<std::vector<RenderSubject>> parts_of(const Situation& s, const Making& m, const PrerenderOptions& options) {
  std::vector<RenderSubject> all;
  if (m.what == Making::What::stack)
    for (const auto& [segment, after] : stacks_in(s, m.subject)) {
      auto subject = stack_of(s.rendered, *s.media, segment, after, options.device, options.form, options.notebook.get());
      if (!subject) return std::unexpected(subject.error());
      all.push_back(std::move(*subject));
    }
  if (m.what == Making::What::composition) {
    auto subject = composition_of(s.rendered, *s.media, m.subject.composition, {}, options.device, options.form, options.notebook.get());
    if (!subject) return std::unexpected(subject.error());
    all.push_back(std::move(*subject));
  }
  return all;
}

bool is_known(const RenderSubject& r, const Notebook& notebook) {
  const Timeline& t = *r.program->timeline();
  return is_known(notebook, r.form, t.width, t.height, r.content(r.ranges.front().in));
}

Result<bool> sample(RenderSubject subject, const PrerenderOptions& options, const fs::path& folder, const std::function<bool()>& stopped) {
  const std::vector<Frames> frames = sampled_frames(subject.ranges);
  if (frames.empty()) return false;
  std::vector<FrameResult> pictures;
  std::optional<Form> needed;
  const auto all = make_frames(subject.program, frames, {options.workers, options.background, options.notebook}, [&](FrameResult& f) -> Result<bool> {
    if (stopped() || f.failed || f.offline) return false;
    if (!fits_form(subject, f, needed)) subject.form = *needed;
    pictures.push_back(std::move(f));
    return true;
  });
  if (!all) return std::unexpected(all.error());
  if (!*all) return false;
  const Hash128 content = subject.content(frames.front());
  if (needed) note_form_needed(*options.notebook, content, *needed);
  const auto scratch = ScratchFolder::make(folder, ".sample-");
  if (!scratch) return std::unexpected(scratch.error());
  const auto encoded = encode_pictures(pictures, subject.form, *subject.program->timeline(), scratch->path() / (std::string("sample") + form_extension(subject.form)));
  if (!encoded) return std::unexpected(encoded.error());
  note_encoded(*options.notebook, subject.form, *subject.program->timeline(), content, *encoded);
  return true;
}

/// The segment that reads the source which is to be copied, and the copy's form; null where none does, or it cannot be copied.
struct Copying {
  CompiledSegmentPtr of;
  CopyForm as;
  FrameRange frames;
};
Copying copying(const Situation& s, const Making& m, const PrerenderOptions& options) {
  if (m.what != Making::What::source) return {};
  for (const CompiledSegmentPtr& c : sources_in(*s.rendered, {0, s.rendered->duration()}))
    if (c->segment->ref == m.subject.source) {
      const CopyForm as = copy_form(c->media, m.subject.size, options.form);
      if (!as.refused.empty()) return {};
      return {c, as, m.subject.frames.empty() ? FrameRange{0, c->media.frames} : m.subject.frames.front()};
    }
  return {};
}

Result<bool> sample(const Copying& c, const PrerenderOptions& options, const fs::path& folder, const std::function<bool()>& stopped) {
  const std::vector<Frames> frames = sampled_frames({c.frames});
  if (frames.empty()) return false;
  auto reader = FrameReader::open(c.of->path, 1);
  if (!reader) return std::unexpected(reader.error());
  std::vector<FramePtr> pictures;
  for (const Frames n : frames) {
    auto coded = c.of->joins_fields ? (*reader)->take_progressive(n) : (*reader)->take(n);
    auto picture = coded ? (*coded)->get() : Result<FramePtr>(std::unexpected(coded.error()));
    if (!picture || stopped()) return false;
    pictures.push_back(std::move(*picture));
  }
  const auto scratch = ScratchFolder::make(folder, ".sample-");
  if (!scratch) return std::unexpected(scratch.error());
  const auto encoded = encode_copies(pictures, c.as.form, c.as.width, c.as.height, c.of->source_rate, scratch->path() / (std::string("sample") + form_extension(c.as.form)));
  if (!encoded) return std::unexpected(encoded.error());
  const Hash128 content = copy_content(*c.of);
  options.notebook->add_encode(encode_key(c.as.form, c.as.width, c.as.height, content), encoded->samples);
  note_sizes(*options.notebook, c.as.form, c.as.width, c.as.height, content, {&encoded->bytes, 1});
  return true;
}

}  // namespace

bool is_sampled(const Situation& s, const Making& m, const PrerenderOptions& options) {
  if (const Copying c = copying(s, m, options); c.of) return is_known(*options.notebook, c.as.form, c.as.width, c.as.height, copy_content(*c.of));
  const auto parts = parts_of(s, m, options);
  return !parts || std::ranges::all_of(*parts, [&](const RenderSubject& r) { return is_known(r, *options.notebook); });
}

Result<bool> sample_making(const Situation& s, const Making& m, const PrerenderOptions& options, const fs::path& folder, const std::function<bool()>& stopped) {
  if (const Copying c = copying(s, m, options); c.of) {
    if (is_known(*options.notebook, c.as.form, c.as.width, c.as.height, copy_content(*c.of))) return false;
    return sample(c, options, folder, stopped);
  }
  auto parts = parts_of(s, m, options);
  if (!parts) return std::unexpected(parts.error());
  bool any = false;
  for (RenderSubject& r : *parts) {
    if (stopped() || is_known(r, *options.notebook)) continue;
    const auto tried = sample(std::move(r), options, folder, stopped);
    if (!tried) return tried;
    any = any || *tried;
  }
  return any;
}

}  // namespace gc
