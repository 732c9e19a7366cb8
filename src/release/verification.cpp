#include "release/verification.h"

extern "C" {
#include <libavutil/imgutils.h>
#include <libavutil/pixdesc.h>
}

#include <fmt/format.h>

#include <cmath>
#include <sstream>

#include "base/timecode.h"
#include "media/av.h"
#include "media/compare.h"
#include "media/convert.h"
#include "media/sound.h"
#include "render/renderer.h"

namespace gc {
namespace {

constexpr int kSmall = 96;  ///< pixels across of what is looked at for oddities

/// A manifest as FFmpeg writes one: a hash of every decoded picture, through libavformat's own muxer.
class Manifest {
 public:
  static Result<std::unique_ptr<Manifest>> create(const fs::path& file, const AVFrame& like, Rate rate) {
    auto m = std::unique_ptr<Manifest>(new Manifest);
    m->file_ = file, m->temporary_ = file.string() + ".writing";
    int r = avformat_alloc_output_context2(&m->out_, nullptr, "framehash", m->temporary_.c_str());
    if (r < 0) return environment("no manifest can be written here", file.string(), "Install the full libavformat of the distribution.");
    AVStream* s = avformat_new_stream(m->out_, nullptr);
    s->codecpar->codec_type = AVMEDIA_TYPE_VIDEO, s->codecpar->codec_id = AV_CODEC_ID_RAWVIDEO;
    s->codecpar->format = like.format, s->codecpar->width = like.width, s->codecpar->height = like.height;
    s->codecpar->sample_aspect_ratio = like.sample_aspect_ratio;
    s->time_base = {static_cast<int>(rate.den), static_cast<int>(rate.num)};
    m->out_->flags |= AVFMT_FLAG_BITEXACT;
    if ((r = avio_open(&m->out_->pb, m->temporary_.c_str(), AVIO_FLAG_WRITE)) < 0 || (r = avformat_write_header(m->out_, nullptr)) < 0)
      return environment("the manifest cannot be written", file.string(), "Check that the volume has room and is writable.");
    return m;
  }
  ~Manifest() {
    if (!out_) return;
    if (out_->pb) avio_closep(&out_->pb);
    avformat_free_context(out_);
    std::error_code e;
    fs::remove(temporary_, e);
  }
  void add(const AVFrame& f, Frames n) {
    const auto format = static_cast<AVPixelFormat>(f.format);
    const int size = av_image_get_buffer_size(format, f.width, f.height, 1);
    const av::Packet packet(av_packet_alloc());
    if (size > 0 && av_new_packet(packet.get(), size) >= 0) {
      av_image_copy_to_buffer(packet->data, size, f.data, f.linesize, format, f.width, f.height, 1);
      packet->pts = packet->dts = n, packet->duration = 1;
      av_write_frame(out_, packet.get());
    }
  }
  /// Gives it its name. One that is there already stays, and it is said whether its frames are the same.
  Result<bool> finish() {
    av_write_trailer(out_);
    avio_closep(&out_->pb);
    std::error_code e;
    if (!fs::exists(file_, e)) {
      if (auto r = sync_and_rename(temporary_, file_); !r) return std::unexpected(r.error());
      return true;
    }
    const auto was = read_file(file_), is = read_file(temporary_);
    if (!was || !is) return std::unexpected(was ? is.error() : was.error());
    return frames_of(*was) == frames_of(*is);
  }

 private:
  /// Without its head, which names who wrote it.
  static std::string frames_of(const std::string& text) {
    std::string frames;
    std::istringstream in(text);
    for (std::string line; std::getline(in, line);)
      if (!line.empty() && line[0] != '#') frames += line + "\n";
    return frames;
  }
  Manifest() = default;
  AVFormatContext* out_ = nullptr;
  fs::path file_;
  std::string temporary_;
};

/// Luma of a picture, small.
std::vector<float> small_luma(const AVFrame& f) {
  const int height = std::max(8, kSmall * f.height / std::max(1, f.width));
  Placement stretch;
  stretch.shape = Placement::Shape::stretch, stretch.draft = true;
  const auto image = to_image(f, kSmall, height, stretch);
  std::vector<float> luma;
  if (!image) return luma;
  for (std::size_t i = 0; i < image->floats(); i += 4)
    luma.push_back(0.2126f * image->data()[i] + 0.7152f * image->data()[i + 1] + 0.0722f * image->data()[i + 2]);
  return luma;
}

bool is_black(const std::vector<float>& luma) { return !luma.empty() && *std::ranges::max_element(luma) < 0.02f; }

double difference_of(const std::vector<float>& a, const std::vector<float>& b) {
  if (a.size() != b.size() || a.empty()) return 1;
  double sum = 0;
  for (std::size_t i = 0; i < a.size(); ++i) sum += std::abs(static_cast<double>(a[i] - b[i]));
  return sum / static_cast<double>(a.size());
}

/// What a codec can be expected to keep of pictures with grain; below it something is wrong.
double kept_by(const std::string& codec) {
  if (codec == "FFV1" || codec == "v210") return 50;
  return codec == "H.264" || codec == "H.265" ? 26 : 33;
}

/// The live picture as such a file can keep it: its chroma is subsampled, its codes are whole numbers. As it is where the
/// file's layout is another than planar YUV.
Image as_kept(Image live, const AVFrame& like) {
  const AVPixFmtDescriptor* layout = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(like.format));
  if (!layout || (layout->flags & (AV_PIX_FMT_FLAG_RGB | AV_PIX_FMT_FLAG_ALPHA)) || layout->nb_components != 3) return live;
  const av::Frame f(av_frame_alloc());
  f->format = like.format, f->width = live.width(), f->height = live.height();
  f->color_range = like.color_range == AVCOL_RANGE_JPEG ? AVCOL_RANGE_JPEG : AVCOL_RANGE_MPEG, f->colorspace = AVCOL_SPC_BT709;
  std::optional<Image> kept;
  if (av_frame_get_buffer(f.get(), 0) >= 0 && from_image(live, *f))
    if (auto back = to_image(*f, live.width(), live.height())) kept = std::move(*back);
  return kept ? std::move(*kept) : std::move(live);
}

Image without_lower_edge(const Image& image) {
  Image cut(image.width(), image.height() * 9 / 10);
  std::copy_n(image.data(), cut.floats(), cut.data());
  return cut;
}

}  // namespace

Result<double> psnr_to_live(const Program& program, Frames frame, const AVFrame& there, Decoders& decoders, StageLog& log, bool whole) {
  auto read = to_image(there, program.width(), program.height());
  if (!read) return std::unexpected(read.error());
  Image live = as_kept(render_frame(program, frame, nullptr, decoders, log), there);
  if (!whole) live = without_lower_edge(live), *read = without_lower_edge(*read);
  return std::min(100.0, psnr(live, *read));
}

fs::path manifest_of(const fs::path& file) {
  std::string name = file.string();
  if (is_sequence(name)) name = name.substr(0, name.rfind('#'));  // without the numbers and the rate
  std::erase(name, '%');
  return name + ".framehash";
}

Result<Verification> verify_delivery(const fs::path& file, const ProgramPtr& delivered, MediaCatalog& media, const VerifyOptions& o,
                                     const std::function<bool(Frames)>& progress) {
  const ProgramPtr program = program_rendered(delivered, delivered->options().device, media);
  const Timeline& t = *program->timeline();
  auto reader = FrameReader::open(file.string(), 2);
  if (!reader) return std::unexpected(reader.error());
  const MediaInfo& info = (*reader)->info();
  Verification v;
  const auto found = [&](Frames frame, std::string what) { v.findings.push_back({frame, std::move(what)}); };
  if (info.frames != o.range.length()) found(-1, fmt::format("It has {} frames, not {}.", info.frames, o.range.length()));
  if (info.rate != t.rate) found(-1, fmt::format("Its rate is {:.3f}, not {:.3f}.", info.rate.fps(), t.rate.fps()));
  if (info.width != t.width || info.height != t.height) found(-1, fmt::format("Its raster is {} × {}, not {} × {}.", info.width, info.height, t.width, t.height));
  if (const Frames start = t.start + o.range.in; info.timecode >= 0 && info.timecode != start) found(-1, fmt::format("Its timecode begins at frame {}, not {}.", info.timecode, start));
  if (!is_sequence(file.string()) && info.timecode < 0) found(-1, "It has no timecode.");
  std::vector<std::string> remarks;
  if (const auto sound = mixed_sound(t, o.range, remarks); !sound.empty() && !is_sequence(file.string())) {
    const double seconds = static_cast<double>(o.range.length()) / t.rate.fps();
    const auto length = sound_length(file.string());
    v.sound_seconds = length.value_or(0);
    // Coded sound begins before its first sample and ends in whole frames of its own.
    if (v.sound_seconds > 0 && std::abs(v.sound_seconds - seconds) > 0.1) found(-1, fmt::format("Its sound is {:.2f} s long, not {:.2f}.", v.sound_seconds, seconds));
    const auto read = read_sound(file.string(), 0, seconds);
    if (!read || read->empty()) found(-1, "It has no sound, and the timeline has some.");
    else {
      double off = 0, all = 0;
      for (std::size_t i = 0; i < std::min(sound.size(), read->size()); ++i)
        off += std::pow(static_cast<double>(sound[i] - (*read)[i]), 2), all += std::pow(static_cast<double>(sound[i]), 2);
      if (off > 0.05 * all + 1e-3) found(-1, "Its sound is not that of the timeline.");
    }
  }

  Decoders decoders;
  StageLog log;
  double sum = 0;
  v.psnr_db_worst = 1000;
  const double least = o.least_psnr_db > 0 ? o.least_psnr_db : kept_by(info.codec);
  /// Whether it is what the timeline shows there.
  const auto against_live = [&](const AVFrame& f, Frames n) {
    const auto found_db = psnr_to_live(*program, n, f, decoders, log, !o.burnt_in);
    if (!found_db) {
      found(n, "A frame cannot be looked at: " + found_db.error().what);
      return false;
    }
    const double db = *found_db;
    v.psnr_db_worst = std::min(v.psnr_db_worst, db), sum += db, ++v.sampled;
    if (db < least) found(n, fmt::format("The picture at {} is {:.1f} dB from the live one; {:.0f} are to be expected.", timecode_at(t, n), db, least));
    return db >= least;
  };
  const Image stripes = hatched(t.width, t.height);
  std::vector<float> hatch, before;
  std::unique_ptr<Manifest> manifest;
  const Frames every = std::max<Frames>(1, o.range.length() / std::max(1, o.samples));
  // Of frames in a row that look odd each is looked at, or every twelfth as long as the timeline looks so too.
  constexpr int kOddEvery = 12;
  int odd = 0;
  bool as_it_should = false;
  for (Frames i = 0; i < std::min(info.frames, o.range.length()); ++i) {
    const Frames n = o.range.in + i;
    const auto read = (*reader)->read(i);
    if (!read) {
      found(n, fmt::format("The frame at {} cannot be read: {}.", timecode_at(t, n), read.error().what));
      continue;
    }
    const AVFrame& f = **read;
    if (i == 0) {
      if (o.manifest) {
        auto made = Manifest::create(manifest_of(file), f, t.rate);
        if (!made) return std::unexpected(made.error());
        manifest = std::move(*made);
      }
      if (f.color_primaries == AVCOL_PRI_UNSPECIFIED && !is_sequence(file.string())) found(-1, "It does not say its colour primaries.");
      // What the program's stripes look like in such a file.
      const av::Frame s(av_frame_alloc());
      s->format = AV_PIX_FMT_YUV422P10, s->width = t.width, s->height = t.height, s->color_range = AVCOL_RANGE_MPEG;
      s->colorspace = AVCOL_SPC_BT709;
      if (av_frame_get_buffer(s.get(), 0) >= 0 && from_image(stripes, *s)) hatch = small_luma(*s);
    }
    if (manifest) manifest->add(f, i);
    const std::vector<float> luma = small_luma(f);
    const bool black = is_black(luma), frozen = i > 0 && difference_of(luma, before) < 1e-6, striped = !hatch.empty() && difference_of(luma, hatch) < 0.05;
    const bool looks_odd = black || frozen || striped;
    if (!looks_odd) odd = 0, as_it_should = false;
    const bool suspected = looks_odd && (!as_it_should || odd % kOddEvery == 0);
    odd += looks_odd;
    if (suspected) as_it_should = against_live(f, n);
    else if (i % every == every / 2) against_live(f, n);
    before = luma;
    ++v.frames;
    if (progress && !progress(v.frames)) return environment("stopped", file.string(), "Start the verification again.");
  }
  if (v.sampled > 0) v.psnr_db_mean = sum / v.sampled;
  if (manifest) {
    const auto same = manifest->finish();
    if (!same) return std::unexpected(same.error());
    if (!*same) found(-1, "Its frames are not those of the manifest beside it.");
    v.manifest = manifest_of(file);
  }
  return v;
}

}  // namespace gc
