#include "measure/encoding.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <ctime>
#include <functional>
#include <map>

#include "base/clock.h"
#include "base/files.h"
#include "base/gauge.h"
#include "base/mean.h"
#include "media/compare.h"
#include "media/picture_file.h"

namespace gc {
namespace {

/// Of all threads of this process: nothing else of it works while something is measured.
double process_cpu_ms() {
  timespec t{};
  clock_gettime(CLOCK_PROCESS_CPUTIME_ID, &t);
  return static_cast<double>(t.tv_sec) * 1e3 + static_cast<double>(t.tv_nsec) / 1e6;
}

/// Times work on pictures. As of every stage: what others on the core add comes back as crowded as the seat is when it renders.
class Timing {
 public:
  EncodeSample of(double frames) const {
    const double wall = watch_.ms(), cpu = std::clamp(process_cpu_ms() - cpu_, 0.0, 2 * wall);
    const double count = frames * (std::max(slowness_, core_slowness()) >= kSharedCore ? kSharedCoreCosts : 1);
    return {static_cast<float>(wall / count), static_cast<float>(cpu / count)};
  }

 private:
  double slowness_ = core_slowness();
  double cpu_ = process_cpu_ms();
  Stopwatch watch_;
};

}  // namespace

Hash128 content_at(const Program& program, Frames frame) {
  const int i = program.interval_at(frame);
  return i < 0 ? Hash128{} : program.intervals()[static_cast<std::size_t>(i)].texture;
}

Hash128 encode_key(Form form, int width, int height, const Hash128& content) {
  return Hasher().add("encode").add(form_id(form)).add(width).add(height).add(content).done();
}

namespace {

/// Of this content, else of any. `key`: where the notebook keeps what is known of a content.
template <class Key>
EncodeCost measured_cost(const Notebook& notebook, const Hash128& content, Key key) {
  for (const Hash128& of : {content, Hash128{}})
    if (const auto each = notebook.mean_encode(key(of))) return {each->wall_ms, each->cpu_ms};
  return {};
}

Hash128 file_key(Form form, int width, int height) { return Hasher().add("file").add(form_id(form)).add(width).add(height).done(); }

Hash128 picture_key(const char* what, const std::string& kind, int width, int height, const Hash128& content) {
  return Hasher().add(what).add("pictures").add(kind).add(width).add(height).add(content).done();
}

}  // namespace

double file_ms(const Notebook& notebook, Form form, int width, int height) {
  return notebook.mean_encode(file_key(form, width, height)).value_or(EncodeSample{}).wall_ms;
}

EncodeCost picture_cost(const Notebook& notebook, const std::string& kind, int width, int height, const Hash128& content) {
  return measured_cost(notebook, content, [&](const Hash128& of) { return picture_key("encode", kind, width, height, of); });
}

std::uint64_t picture_bytes(const Notebook& notebook, const std::string& kind, int width, int height, const Hash128& content) {
  for (const Hash128& of : {content, Hash128{}})
    if (const std::vector<float> noted = notebook.sizes(picture_key("size", kind, width, height, of)); !noted.empty())
      return static_cast<std::uint64_t>(std::llround(mean(noted)));
  // DPX packs three times 10 bits into 32; EXR has floats, the others 16 bits.
  const std::uint64_t each = kind == "dpx" ? 4 : kind == "exr" ? 12 : 6;
  return each * static_cast<std::uint64_t>(width) * static_cast<std::uint64_t>(height);
}

EncodeCost encode_cost(const Notebook& notebook, const Timeline& t, Form form, int width, int height, const Hash128& content) {
  const auto measured = [&](Form f, int w, int h) {
    return measured_cost(notebook, content, [&](const Hash128& of) { return encode_key(f, w, h, of); });
  };
  if (const EncodeCost own = measured(form, width, height); own.wall_ms > 0) return own;
  // Measured against VC-3 HQX on pictures with grain, with this program's own encoders on one thread.
  static const std::map<Form, double> kAgainstHqx{
      {Form::vc3_lb, 0.8},   {Form::vc3_sq, 0.9},  {Form::vc3_hq, 1.0},      {Form::vc3_hqx, 1.0}, {Form::vc3_444, 1.7},
      {Form::v210, 0.25},    {Form::vc5, 0.9},     {Form::ffv1, 1.6},        {Form::ffv1_444, 2.2}, {Form::ffv1_alpha, 2.8},
      {Form::rdd36, 1.6},    {Form::rdd36_alpha, 2.8}, {Form::motion_jpeg, 0.5}, {Form::h264_intra, 1.2},
      {Form::exr_half, 1.4}, {Form::exr_half_alpha, 1.7}};
  const auto against = [](Form f) {
    const auto factor = kAgainstHqx.find(f);
    return factor == kAgainstHqx.end() ? 1 : factor->second;
  };
  const Form usual = form_that_keeps(Form::vc3_hqx, false, t.width, t.height);
  return measured(usual, t.width, t.height)
      .times(against(form) / against(usual) * static_cast<double>(width) * height / (static_cast<double>(t.width) * t.height));
}

namespace {

/// Hands `count` pictures to a new movie, one by one, and closes it.
Result<Encoded> encode(const std::function<Result<std::unique_ptr<MovieWriter>>()>& create, std::size_t count, Form form, const fs::path& file,
                       const std::function<Result<void>(MovieWriter&, std::size_t)>& write) {
  Encoded e;
  const Timing opening;
  const auto writer = create();
  if (!writer) return std::unexpected(writer.error());
  e.file = opening.of(1);
  const Timing all;
  for (std::size_t i = 0; i < count; ++i) {
    const Timing one;
    if (auto r = write(**writer, i); !r) return std::unexpected(r.error());
    e.samples.push_back(one.of(1));
  }
  const Timing closing;
  if (auto r = (*writer)->finish(); !r) return std::unexpected(r.error());
  if (long_gop(form)) {
    // What looks ahead has not begun with a picture when it is handed over.
    e.samples = {all.of(static_cast<double>(count))};
  } else {
    // The first one searches longer for how coarsely it may quantise than those that follow on their like.
    double more_ms = 0;
    if (count > 1) {
      const auto first = static_cast<double>(e.samples.front().wall_ms);
      e.samples.erase(e.samples.begin());
      double sum = 0;
      for (const EncodeSample& s : e.samples) sum += static_cast<double>(s.wall_ms);
      more_ms = std::max(0.0, first - sum / static_cast<double>(e.samples.size()));
    }
    e.file.wall_ms += closing.of(1).wall_ms + static_cast<float>(more_ms);
  }
  std::error_code none;
  e.bytes = static_cast<float>(fs::file_size(file, none)) / static_cast<float>(count);
  return e;
}

}  // namespace

Result<Encoded> encode_pictures(std::span<const FrameResult> pictures, Form form, const Timeline& t, const fs::path& file) {
  return encode([&] { return MovieWriter::create(file.string(), form, t.width, t.height, t.rate); }, pictures.size(), form, file,
                [&](MovieWriter& writer, std::size_t i) { return writer.write(pictures[i].image); });
}

Result<Encoded> encode_copies(std::span<const FramePtr> pictures, Form form, int width, int height, Rate rate, const fs::path& file) {
  return encode([&] { return MovieWriter::create_like(*pictures.front(), file.string(), form, width, height, rate); }, pictures.size(), form, file,
                [&](MovieWriter& writer, std::size_t i) { return writer.write(*pictures[i]); });
}

Result<Encoded> write_pictures(std::span<const FrameResult> pictures, const std::string& kind, const fs::path& folder) {
  Encoded e;
  for (std::size_t i = 0; i < pictures.size(); ++i) {
    const fs::path file = folder / fmt::format("{}.{}", i, kind);
    const Timing one;
    // As a delivery does: that it was begun, the picture, that it is done.
    for (const char* note : {".begun", "", ".done"}) {
      const fs::path at = file.string() + note;
      if (auto r = *note ? write_file_atomic(at, "") : write_picture(pictures[i].image, at); !r) return std::unexpected(r.error());
    }
    e.samples.push_back(one.of(1));
    std::error_code none;
    e.bytes += static_cast<float>(fs::file_size(file, none)) / static_cast<float>(pictures.size());
  }
  return e;
}

namespace {

Hash128 size_key(Form form, int width, int height, const Hash128& content) {
  return Hasher().add("size").add(form_id(form)).add(width).add(height).add(content).done();
}
Hash128 needed_key(const Hash128& content) { return Hasher().add("form needed").add(content).done(); }
/// Names a form in a notebook that another version may read: a whole number that a float holds.
float code_of(Form form) { return static_cast<float>(hash_text(form_id(form)).lo % (1U << 24)); }

}  // namespace

void note_sizes(Notebook& notebook, Form form, int width, int height, const Hash128& content, std::span<const float> bytes) {
  if (form_is_constant(form)) return;
  for (const Hash128& of : {content, Hash128{}}) notebook.add_sizes(size_key(form, width, height, of), bytes);
}

std::uint64_t frame_bytes(const Notebook& notebook, Form form, int width, int height, const Hash128& content) {
  if (!form_is_constant(form))
    for (const Hash128& of : {content, Hash128{}})
      if (const std::vector<float> noted = notebook.sizes(size_key(form, width, height, of)); !noted.empty())
        return static_cast<std::uint64_t>(std::llround(mean(noted)));
  return form_frame_bytes(form, width, height);
}

bool size_is_known(const Notebook& notebook, Form form, int width, int height, const Hash128& content) {
  return form_is_constant(form) || !notebook.sizes(size_key(form, width, height, content)).empty();
}

Hash128 copy_content(const CompiledSegment& source) { return Hasher().add("copy").add(source.content_identity).add(source.joins_fields).done(); }

Hash128 copy_reading_key(const CompiledSegment& source) { return Hasher().add("copy reading").add(copy_content(source)).done(); }

Result<FramePtr> picture_for_copy(FrameReader& reader, bool joins_fields, Frames frame) {
  auto coded = joins_fields ? reader.take_progressive(frame) : reader.take(frame);
  if (!coded) return std::unexpected(coded.error());
  return (*coded)->get();
}

Result<EncodeSample> read_copies(FrameReader& reader, bool joins_fields, FrameRange frames) {
  const Timing all;
  for (Frames n = frames.in; n < frames.out; ++n)
    if (auto picture = picture_for_copy(reader, joins_fields, n); !picture) return std::unexpected(picture.error());
  return all.of(static_cast<double>(frames.length()));
}

void note_encoded(Notebook& notebook, Form form, int width, int height, const Hash128& content, const Encoded& e, bool copy) {
  notebook.add_encode(encode_key(form, width, height, content), e.samples);
  if (!copy) notebook.add_encode(encode_key(form, width, height), e.samples);
  notebook.add_encode(file_key(form, width, height), {&e.file, 1});
  note_sizes(notebook, form, width, height, content, {&e.bytes, 1});
}

void note_form_needed(Notebook& notebook, const Hash128& content, Form needed) {
  const float code = code_of(needed);
  notebook.add_sizes(needed_key(content), {&code, 1});
}

Form form_needed(const Notebook& notebook, const Hash128& content, Form meant) {
  const std::vector<float> noted = notebook.sizes(needed_key(content));
  if (noted.empty()) return meant;
  for (int i = 0; i <= static_cast<int>(Form::exr_half_alpha); ++i)
    if (code_of(static_cast<Form>(i)) == noted.back()) return static_cast<Form>(i);
  return meant;
}

namespace {

/// How pictures are measured: how many of a content, whether it is known, and what is done with them.
struct Tried {
  Frames most = 6;  ///< a whole group where pictures are built on others: its first one has most of the bytes
  std::function<bool(const Hash128& content)> known;
  std::function<Result<void>(const Hash128& content, std::span<const FrameResult> pictures, const fs::path& folder)> look;
};

/// A few pictures of every content of the range, those first that fill most of it.
Result<int> measure_contents(const ProgramPtr& program, FrameRange range, int workers, const fs::path& folder, double seconds,
                             const std::stop_token& stop, const Tried& how) {
  const Timeline& t = *program->timeline();
  struct Pictures {
    Hash128 id;
    FrameRange longest;
    Frames frames = 0;
  };
  std::vector<Pictures> contents;
  for (const CompiledInterval& i : program->intervals()) {
    const FrameRange part{std::max(range.in, i.in), std::min(range.out, i.out)};
    if (part.length() <= 0 || i.missing || i.unseen || i.layers.empty()) continue;
    const Hash128 id = content_at(*program, i.in);
    auto c = std::ranges::find(contents, id, &Pictures::id);
    if (c == contents.end()) c = contents.insert(c, {id, part, 0});
    if (part.length() > c->longest.length()) c->longest = part;
    c->frames += part.length();
  }
  std::ranges::stable_sort(contents, [](const Pictures& a, const Pictures& b) { return a.frames > b.frames; });
  const auto scratch = ScratchFolder::make(folder, ".probe-");
  if (!scratch) return std::unexpected(scratch.error());
  const Stopwatch watch;
  int done = 0;
  for (const Pictures& c : contents) {
    if (watch.ms() > seconds * 1000 || stop.stop_requested()) break;
    if (how.known(c.id)) continue;
    const Frames count = std::min(how.most, c.longest.length());
    std::vector<Frames> frames;
    for (Frames f = 0; f < count; ++f) frames.push_back(c.longest.in + (c.longest.length() - count) / 2 + f);
    std::vector<FrameResult> pictures = run_flat_out(program, nullptr, std::move(frames), workers, true, stop);
    if (stop.stop_requested()) break;
    if (std::ranges::any_of(pictures, &FrameResult::offline)) continue;
    std::ranges::sort(pictures, {}, &FrameResult::frame);
    for (FrameResult& r : pictures)
      if (r.image.width() != t.width) r.image = enlarged(r.image, t.width, t.height);
    const auto place = ScratchFolder::make(scratch->path(), "content-");
    if (!place) return std::unexpected(place.error());
    if (auto r = how.look(c.id, pictures, place->path()); !r) return std::unexpected(r.error());
    ++done;
  }
  return done;
}

}  // namespace

Result<int> measure_encoding(const ProgramPtr& program, Notebook& notebook, Form form, FrameRange range, int workers, const fs::path& folder,
                             double seconds, const std::stop_token& stop) {
  const Timeline& t = *program->timeline();
  const auto known = [&](const Hash128& content) { return !notebook.encode(encode_key(form, t.width, t.height, content)).empty(); };
  const auto look = [&](const Hash128& content, std::span<const FrameResult> pictures, const fs::path& place) -> Result<void> {
    const auto encoded = encode_pictures(pictures, form, t, place / (std::string("tried") + form_extension(form)));
    if (!encoded) return std::unexpected(encoded.error());
    note_encoded(notebook, form, t.width, t.height, content, *encoded);
    return {};
  };
  return measure_contents(program, range, workers, folder, seconds, stop, {std::max<Frames>(6, form_group(form)), known, look});
}

Result<int> measure_pictures(const ProgramPtr& program, Notebook& notebook, const std::string& kind, FrameRange range, int workers,
                             const fs::path& folder, double seconds, const std::stop_token& stop) {
  const Timeline& t = *program->timeline();
  const auto known = [&](const Hash128& content) { return !notebook.encode(picture_key("encode", kind, t.width, t.height, content)).empty(); };
  const auto look = [&](const Hash128& content, std::span<const FrameResult> pictures, const fs::path& place) -> Result<void> {
    const auto written = write_pictures(pictures, kind, place);
    if (!written) return std::unexpected(written.error());
    for (const Hash128& of : {content, Hash128{}}) {
      notebook.add_encode(picture_key("encode", kind, t.width, t.height, of), written->samples);
      notebook.add_sizes(picture_key("size", kind, t.width, t.height, of), {&written->bytes, 1});
    }
    return {};
  };
  return measure_contents(program, range, workers, folder, seconds, stop, {6, known, look});
}

}  // namespace gc
