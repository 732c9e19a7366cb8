#include "media/reader.h"

#include "media/throttled_io.h"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/pixdesc.h>
}

#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <deque>
#include <filesystem>
#include <optional>

#include "base/clock.h"

namespace gc {
namespace {

std::string av_text(int code) {
  char buffer[AV_ERROR_MAX_STRING_SIZE] = {};
  av_strerror(code, buffer, sizeof buffer);
  return buffer;
}

/// What a file may be, by libav's names. Lists of other files (playlists, concatenations) are not among them, nor
/// is anything that takes its name for a pattern.
constexpr const char* kContainers =
    "mov,mp4,m4a,3gp,3g2,mj2,matroska,webm,avi,mxf,mxf_opatom,mpegts,mpeg,mpegvideo,h264,hevc,m4v,mjpeg,"
    "mjpeg_2000,obu,av1,ivf,yuv4mpegpipe,nut,dv,flv,asf,gxf,ogg,vc1,dnxhd,gif,apng,rawvideo,wav,aiff,"
    "png_pipe,jpeg_pipe,tiff_pipe,dpx_pipe,exr_pipe,bmp_pipe,webp_pipe,j2k_pipe,jpegls_pipe,psd_pipe,"
    "sgi_pipe,sunrast_pipe,pam_pipe,pbm_pipe,pgm_pipe,ppm_pipe,pgmyuv_pipe,pfm_pipe,qoi_pipe,pictor_pipe,"
    "pcx_pipe,xwd_pipe,xbm_pipe,xpm_pipe,cri_pipe,dds_pipe,photocd_pipe,hdr_pipe,vbn_pipe,gem_pipe";

/// Files are named by the standard of their codec.
std::string designation(AVCodecID id) {
  switch (id) {
    case AV_CODEC_ID_H264:
      return "H.264";
    case AV_CODEC_ID_HEVC:
      return "H.265";
    case AV_CODEC_ID_DNXHD:
      return "VC-3";
    case AV_CODEC_ID_PRORES:
      return "RDD 36";
    case AV_CODEC_ID_CFHD:
      return "VC-5";
    case AV_CODEC_ID_MJPEG:
      return "Motion JPEG";
    case AV_CODEC_ID_FFV1:
      return "FFV1";
    case AV_CODEC_ID_V210:
      return "v210";
    default:
      return avcodec_get_name(id);
  }
}

}  // namespace

namespace {

/// The parts of a sequence's path, "folder/name.%04d.exr#first-last@num/den".
struct Sequence {
  std::string before, after;
  int digits = 0;
  Frames first = 0, last = -1;
  Rate rate;

  static std::optional<Sequence> parse(const std::string& path) {
    const auto hash = path.rfind('#'), at = path.rfind('@'), mark = path.rfind('%', hash);
    if (hash == std::string::npos || mark == std::string::npos || at == std::string::npos || at < hash)
      return {};
    Sequence s;
    int used = 0, digits = 0;
    if (std::sscanf(path.c_str() + mark, "%%0%dd%n", &digits, &used) != 1 || used == 0 || digits > 12)
      return {};
    long long first = 0, last = 0, num = 0, den = 0;
    if (std::sscanf(path.c_str() + hash, "#%lld-%lld@%lld/%lld", &first, &last, &num, &den) != 4 ||
        last < first || num <= 0 || den <= 0)
      return {};
    s.before = path.substr(0, mark);
    s.after =
        path.substr(mark + static_cast<std::size_t>(used), hash - mark - static_cast<std::size_t>(used));
    s.digits = digits, s.first = first, s.last = last, s.rate = {num, den};
    return s;
  }
  std::string file(Frames n) const { return fmt::format("{}{:0{}}{}", before, first + n, digits, after); }
  Frames frames() const { return last - first + 1; }
};

}  // namespace

std::string sequence_path(const std::string& pattern, Frames first, Frames last, Rate rate) {
  return fmt::format("{}#{}-{}@{}/{}", pattern, first, last, rate.num, rate.den);
}
bool is_sequence(const std::string& path) { return Sequence::parse(path).has_value(); }

Hash128 file_identity(const std::string& path) {
  if (const auto sequence = Sequence::parse(path)) {
    Hasher all;
    all.add(path);
    for (Frames n = 0; n < sequence->frames(); ++n) all.add(file_identity(sequence->file(n)));
    return all.done();
  }
  std::error_code e;
  const auto size = std::filesystem::file_size(path, e);
  if (e) return {};
  const auto time = std::filesystem::last_write_time(path, e).time_since_epoch().count();
  return Hasher().add(path).add(static_cast<std::int64_t>(size)).add(static_cast<std::int64_t>(time)).done();
}

struct FrameReader::Impl {
  std::string path;
  ThrottledIo slow;  ///< outlives the format that reads through it
  AVFormatContext* format = nullptr;
  AVCodecContext* codec = nullptr;
  AVPacket* packet = nullptr;
  AVStream* stream = nullptr;
  MediaInfo info;
  std::int64_t first_pts = 0;
  Frames next = -1;  ///< frame that the next decoded picture is expected to be, −1 when unknown
  Frames last = -1;
  FramePtr last_frame;
  bool draining = false;
  std::optional<Sequence> sequence;
  std::size_t keep = 0;
  std::deque<std::pair<Frames, FramePtr>> recent;

  ~Impl() {
    av_packet_free(&packet);
    avcodec_free_context(&codec);
    avformat_close_input(&format);
  }

  Frames number_of(std::int64_t pts) const {
    // Nearest frame: pts in the stream's time base to frames at its rate.
    return av_rescale_q_rnd(pts - first_pts, stream->time_base,
                            AVRational{static_cast<int>(info.rate.den), static_cast<int>(info.rate.num)},
                            AV_ROUND_NEAR_INF);
  }
  std::int64_t pts_of(Frames n) const {
    return first_pts +
           av_rescale_q(n, AVRational{static_cast<int>(info.rate.den), static_cast<int>(info.rate.num)},
                        stream->time_base);
  }

  /// A sequence takes what it is from its first file that is there.
  Result<void> start_sequence() {
    for (Frames n = 0; n < sequence->frames(); ++n) {
      std::error_code e;
      if (!std::filesystem::exists(sequence->file(n), e)) continue;
      auto first = probe(sequence->file(n));
      if (!first) return std::unexpected(first.error());
      info = *first;
      info.rate = sequence->rate;
      info.frames = sequence->frames();
      info.still = false;
      info.intra = true;
      info.identity = file_identity(path);
      for (Frames m = n + 1; m < sequence->frames(); ++m)
        if (const auto size = std::filesystem::file_size(sequence->file(m), e); !e) info.bytes += size;
      return {};
    }
    return bad_input("has no file", path,
                     "Put the files back or relink them; its segments are offline until then.");
  }

  Result<FramePtr> read_sequence(Frames n, ReadTimes& t) {
    const Stopwatch watch;
    if (n >= sequence->frames())
      return bad_input(fmt::format("ends early: frame {} was asked for, {} exist", n, sequence->frames()),
                       path, "Shorten the segment.");
    std::error_code e;
    if (!std::filesystem::exists(sequence->file(n), e))
      return bad_input(fmt::format("frame {} of the sequence is missing", sequence->first + n),
                       sequence->file(n), "Render or copy that frame again; the others play.");
    auto reader = FrameReader::open(sequence->file(n));
    if (!reader) return std::unexpected(reader.error());
    t.read_ms += watch.ms();
    return (*reader)->read(0, &t);
  }

  void remember(Frames n, const FramePtr& frame) {
    if (keep == 0) return;
    recent.emplace_back(n, frame);
    while (recent.size() > keep) recent.pop_front();
  }

  Result<void> start(const std::string& file) {
    path = file;
    av_log_set_level(AV_LOG_QUIET);
    if ((sequence = Sequence::parse(file))) return start_sequence();
    std::error_code e;
    const auto status = std::filesystem::status(path, e);
    if (!std::filesystem::exists(status))
      return bad_input("is missing", path,
                       "Put the file back or relink it; its segments are offline until then.");
    if (!std::filesystem::is_regular_file(status))
      return bad_input("is no file but a folder or a device", path, "Relink the segment to a file.");
    format = avformat_alloc_context();
    if ((slow = throttled_io(path, false))) format->pb = slow.get();
    // Nothing but this one file is opened, whatever it says: no network, no list of other files.
    format->protocol_whitelist = av_strdup("file");
    format->format_whitelist = av_strdup(kContainers);
    int r = avformat_open_input(&format, ("file:" + path).c_str(), nullptr, nullptr);
    if (r == AVERROR_INVALIDDATA || r == AVERROR(EINVAL))
      return bad_input("is in none of the containers that are read here", path,
                       "Make a copy as MOV, MP4, MXF, MKV or as pictures; docs/formats.md has the list.");
    if (r < 0)
      return bad_input("cannot be opened: " + av_text(r), path, "Replace the file with a whole copy.");
    // mov and mp4 state everything in their header; looking into the packets would cost time at every open.
    if (std::string_view(format->iformat->name).find("mov") == std::string_view::npos ||
        format->nb_streams == 0) {
      if ((r = avformat_find_stream_info(format, nullptr)) < 0)
        return bad_input("cannot be understood: " + av_text(r), path, "Replace the file with a whole copy.");
    }
    const int index = av_find_best_stream(format, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
    if (index < 0) return bad_input("holds no pictures", path, "Choose a file with a video stream.");
    stream = format->streams[index];
    for (unsigned i = 0; i < format->nb_streams; ++i)
      if (static_cast<int>(i) != index) format->streams[i]->discard = AVDISCARD_ALL;
    const AVCodec* decoder = avcodec_find_decoder(stream->codecpar->codec_id);
    if (!decoder)
      return bad_input("uses a codec that cannot be decoded here: " + designation(stream->codecpar->codec_id),
                       path, "Make a copy in another codec.");
    codec = avcodec_alloc_context3(decoder);
    if ((r = avcodec_parameters_to_context(codec, stream->codecpar)) < 0)
      return bad_input("has damaged codec parameters: " + av_text(r), path,
                       "Replace the file with a whole copy.");
    codec->thread_count = 1;  // frames, not slices, are what runs in parallel here
    if ((r = avcodec_open2(codec, decoder, nullptr)) < 0)
      return bad_input("cannot be decoded: " + av_text(r), path, "Replace the file with a whole copy.");
    packet = av_packet_alloc();
    fill_info();
    if (info.width <= 0 || info.height <= 0 || info.width > 32768 || info.height > 32768)
      return bad_input("states no usable raster", path, "Replace the file with a whole copy.");
    return {};
  }

  void fill_info() {
    const AVCodecParameters& p = *stream->codecpar;
    info.width = p.width, info.height = p.height;
    AVRational rate = av_guess_frame_rate(format, stream, nullptr);
    if (rate.num <= 0 || rate.den <= 0) rate = {24, 1};
    info.rate = Rate::near(av_q2d(rate));
    first_pts = stream->start_time == AV_NOPTS_VALUE ? 0 : stream->start_time;
    info.frames = stream->nb_frames;
    if (info.frames <= 0 && stream->duration > 0) info.frames = number_of(first_pts + stream->duration);
    if (info.frames <= 0 && format->duration > 0)
      info.frames = av_rescale(format->duration, info.rate.num, info.rate.den * AV_TIME_BASE);
    info.codec = designation(p.codec_id);
    const std::string_view container = format->iformat->name;
    info.still = info.frames <= 1 && (container.ends_with("_pipe") || container.starts_with("image2"));
    if (info.still) info.frames = 1;
    const auto pix = static_cast<AVPixelFormat>(p.format);
    const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(pix);
    info.pixel_format = d ? d->name : "unknown";
    info.bits = d ? d->comp[0].depth : 8;
    info.alpha = d && (d->flags & (AV_PIX_FMT_FLAG_ALPHA | AV_PIX_FMT_FLAG_PAL));
    info.linear = d && (d->flags & AV_PIX_FMT_FLAG_FLOAT);
    const AVCodecDescriptor* c = avcodec_descriptor_get(p.codec_id);
    // FFV1 may carry its statistics over from frame to frame, which its description does not say.
    info.intra = c && (c->props & AV_CODEC_PROP_INTRA_ONLY) && p.codec_id != AV_CODEC_ID_FFV1;
    if (!info.intra) {
      // A long-GOP codec may still have been written with key frames only.
      const int n = avformat_index_get_entries_count(stream);
      // Some containers list only their key frames; then the list says nothing about the others.
      bool all = n > 0 && n >= info.frames;
      for (int i = 0; i < n && all; ++i) all = avformat_index_get_entry(stream, i)->flags & AVINDEX_KEYFRAME;
      info.intra = all;
      for (int i = 0; i < n && !all; ++i)
        if (const AVIndexEntry* e = avformat_index_get_entry(stream, i); e->flags & AVINDEX_KEYFRAME)
          info.keys.push_back(number_of(e->timestamp));
    }
    std::error_code e;
    info.bytes = std::filesystem::file_size(path, e);
    info.identity = file_identity(path);
  }

  Result<void> seek(Frames n, ReadTimes& t) {
    const Stopwatch watch;
    const int r = av_seek_frame(format, stream->index, pts_of(n), AVSEEK_FLAG_BACKWARD);
    if (r < 0 && av_seek_frame(format, stream->index, 0, AVSEEK_FLAG_BYTE) < 0)
      return bad_input("cannot be searched: " + av_text(r), path, "Replace the file with a whole copy.");
    avcodec_flush_buffers(codec);
    draining = false;
    next = -1;
    t.cold = true;
    t.read_ms += watch.ms();
    return {};
  }

  /// Whether going on from here to n is no dearer than seeking.
  bool near_ahead(Frames n) const {
    if (next < 0 || n < next) return false;
    if (n == next) return true;
    if (info.intra) return n - next < 4;
    const int here = av_index_search_timestamp(stream, pts_of(next), AVSEEK_FLAG_BACKWARD);
    const int there = av_index_search_timestamp(stream, pts_of(n), AVSEEK_FLAG_BACKWARD);
    return here == there || n - next < 8;
  }

  Result<FramePtr> decode_one(ReadTimes& t, Frames wanted) {
    for (;;) {
      std::shared_ptr<AVFrame> frame(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
      Stopwatch watch;
      CpuStopwatch cpu;
      int r = avcodec_receive_frame(codec, frame.get());
      t.decode_ms += watch.ms(), t.decode_cpu_ms += cpu.ms();
      if (r == 0) {
        ++t.decoded;
        return frame;
      }
      if (r == AVERROR_EOF)
        return bad_input(fmt::format("ends early: frame {} was asked for, {} exist", wanted, last + 1), path,
                         "Shorten the segment or replace the file.");
      if (r != AVERROR(EAGAIN))
        return bad_input("is damaged: " + av_text(r), path, "Replace the file with a whole copy.");
      watch.restart();
      r = av_read_frame(format, packet);
      t.read_ms += watch.ms();
      if (r < 0) {
        if (draining)
          return bad_input(fmt::format("ends early: frame {} was asked for", wanted), path,
                           "Shorten the segment or replace the file.");
        draining = true;
        avcodec_send_packet(codec, nullptr);
        continue;
      }
      if (packet->stream_index == stream->index &&
          !(info.intra && packet->pts != AV_NOPTS_VALUE && number_of(packet->pts) < wanted)) {
        watch.restart();
        cpu.restart();
        r = avcodec_send_packet(codec, packet);
        t.decode_ms += watch.ms(), t.decode_cpu_ms += cpu.ms();
        if (r < 0 && r != AVERROR(EAGAIN)) {
          av_packet_unref(packet);
          return bad_input("is damaged: " + av_text(r), path, "Replace the file with a whole copy.");
        }
      }
      av_packet_unref(packet);
    }
  }
};

FrameReader::FrameReader(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
FrameReader::~FrameReader() = default;
const MediaInfo& FrameReader::info() const { return impl_->info; }
void FrameReader::keep(int frames) {
  impl_->keep = std::max(impl_->keep, static_cast<std::size_t>(std::max(0, frames)));
}

Result<std::unique_ptr<FrameReader>> FrameReader::open(const std::string& path) {
  auto impl = std::make_unique<Impl>();
  if (auto r = impl->start(path); !r) return std::unexpected(r.error());
  return std::unique_ptr<FrameReader>(new FrameReader(std::move(impl)));
}

Result<FramePtr> FrameReader::read(Frames n, ReadTimes* times) {
  ReadTimes unused;
  ReadTimes& t = times ? *times : unused;
  Impl& s = *impl_;
  if (n < 0) return bad_input(fmt::format("has no frame {}", n), s.path, "Move the segment's start.");
  if (s.info.still) n = 0;
  if (s.last_frame && n == s.last) return s.last_frame;
  for (const auto& [at, frame] : s.recent)
    if (at == n) return frame;
  if (s.sequence) {
    auto frame = s.read_sequence(n, t);
    if (frame) s.last = n, s.last_frame = *frame, s.remember(n, *frame);
    return frame;
  }
  if (!s.near_ahead(n))
    if (auto r = s.seek(n, t); !r) return std::unexpected(r.error());
  for (;;) {
    auto frame = s.decode_one(t, n);
    if (!frame) {
      s.next = -1;
      return frame;
    }
    const std::int64_t pts = (*frame)->best_effort_timestamp;
    const Frames at = s.info.still ? 0 : pts == AV_NOPTS_VALUE ? s.next : s.number_of(pts);
    s.last = at, s.last_frame = *frame, s.next = at + 1;
    s.remember(at, *frame);
    if (at >= n) {
      if (at > n) {
        s.last = -1, s.last_frame = nullptr;
        return bad_input(fmt::format("has no frame {}; the next is {}", n, at), s.path,
                         "Replace the file with a whole copy.");
      }
      return frame;
    }
  }
}

Frames frames_before(const MediaInfo& info, Frames n) {
  const auto after = std::upper_bound(info.keys.begin(), info.keys.end(), n);
  return after == info.keys.begin() ? 0 : std::max<Frames>(0, n - *(after - 1));
}

Result<MediaInfo> probe(const std::string& path) {
  auto reader = FrameReader::open(path);
  if (!reader) return std::unexpected(reader.error());
  MediaInfo info = (*reader)->info();
  if (info.pixel_format == "unknown")
    // Some headers do not say how pixels are laid out; the first frame does. Only asked for once a file.
    if (const auto frame = (*reader)->read(0))
      if (const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>((*frame)->format))) {
        info.pixel_format = d->name, info.bits = d->comp[0].depth;
        info.alpha = d->flags & (AV_PIX_FMT_FLAG_ALPHA | AV_PIX_FMT_FLAG_PAL);
        info.linear = d->flags & AV_PIX_FMT_FLAG_FLOAT;
      }
  return info;
}

}  // namespace gc
