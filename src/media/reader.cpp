#include "media/reader.h"

#include "media/av_text.h"
#include "media/clean_aperture.h"
#include "media/container.h"
#include "media/copy_mark.h"
#include "media/decoder.h"
#include "media/fields.h"
#include "media/identity.h"
#include "media/sequence.h"
#include "media/throttled_io.h"

extern "C" {
#include <libavutil/display.h>
#include <libavutil/pixdesc.h>
#include <libavutil/timecode.h>
}

#include <fmt/format.h>

#include <algorithm>
#include <cstdio>
#include <deque>
#include <filesystem>
#include <fstream>
#include <mutex>
#include <optional>
#include <unordered_map>
#include <utility>

#include "base/clock.h"

namespace gc {
namespace {

constexpr double kOpeningMs = 30'000;      ///< until a file that is being opened is given up
constexpr std::int64_t kUnknown = AV_NOPTS_VALUE;

FramePtr black_frame(int width, int height) {
  std::shared_ptr<AVFrame> f(av_frame_alloc(), [](AVFrame* p) { av_frame_free(&p); });
  f->format = AV_PIX_FMT_GBRP, f->width = width, f->height = height;
  if (av_frame_get_buffer(f.get(), 64) < 0) return nullptr;
  for (int p = 0; p < 3; ++p) std::fill_n(f->data[p], static_cast<std::ptrdiff_t>(f->linesize[p]) * height, 0);
  return f;
}

/// What has to be looked for in a file whose header does not say it; found once for each state of a file.
struct Looked {
  std::int64_t first_pts = kUnknown;
  Frames frames = 0;
  bool counted = false;   ///< it carries no times
  bool cut_off = false;   ///< it ends before it says
};

class LookedAt {
 public:
  std::optional<Looked> find(const Hash128& identity) {
    const std::lock_guard lock(mutex_);
    const auto it = all_.find(identity);
    return it == all_.end() ? std::nullopt : std::optional(it->second);
  }
  void keep(const Hash128& identity, const Looked& looked) {
    const std::lock_guard lock(mutex_);
    all_.insert_or_assign(identity, looked);
  }

 private:
  std::mutex mutex_;
  std::unordered_map<Hash128, Looked> all_;
};
LookedAt& looked_at() {
  static auto* all = new LookedAt;
  return *all;
}

Orientation from_stream(const AVStream* stream) {
  std::size_t size = 0;
  const std::uint8_t* matrix = av_stream_get_side_data(stream, AV_PKT_DATA_DISPLAYMATRIX, &size);
  return matrix && size >= 9 * sizeof(std::int32_t)
             ? orientation_of(reinterpret_cast<const std::int32_t*>(matrix))
             : Orientation{};
}

/// ITU-T H.273 code points, as far as they are colour spaces that are known here.
void note_colours(MediaInfo& info, AVColorPrimaries primaries, AVColorTransferCharacteristic transfer) {
  const bool wide = primaries == AVCOL_PRI_BT2020;
  if (transfer == AVCOL_TRC_SMPTE2084) info.colour_space = "PQ";
  else if (transfer == AVCOL_TRC_ARIB_STD_B67) info.colour_space = "HLG";
  else if (transfer == AVCOL_TRC_LINEAR && !wide) info.colour_space = "Linear Rec. 709";
  else if (wide) info.colour_space = "Rec. 2020";
  const bool known_transfer = transfer == AVCOL_TRC_UNSPECIFIED || transfer == AVCOL_TRC_RESERVED0 ||
                              transfer == AVCOL_TRC_BT709 || transfer == AVCOL_TRC_SMPTE170M ||
                              transfer == AVCOL_TRC_GAMMA28 || transfer == AVCOL_TRC_BT2020_10 ||
                              transfer == AVCOL_TRC_BT2020_12 || transfer == AVCOL_TRC_IEC61966_2_1 ||
                              !info.colour_space.empty();
  if (!known_transfer)
    info.remarks.push_back(fmt::format("Its transfer characteristic is '{}', which is shown as Rec. 709's.",
                                       av_color_transfer_name(transfer) ? av_color_transfer_name(transfer) : "?"));
  const bool known_primaries = primaries == AVCOL_PRI_UNSPECIFIED || primaries == AVCOL_PRI_RESERVED0 ||
                               primaries == AVCOL_PRI_BT709 || wide;
  if (!known_primaries)
    info.remarks.push_back(fmt::format("Its primaries are '{}', which are shown as those of Rec. 709.",
                                       av_color_primaries_name(primaries) ? av_color_primaries_name(primaries) : "?"));
}

}  // namespace

Orientation orientation_of(const std::int32_t* m) {
  // x' = a x + c y and y' = b x + d y, with a, b, c, d at 0, 1, 3, 4. Only quarter turns are obeyed.
  const double a = m[0], b = m[1], c = m[3], d = m[4];
  Orientation o;
  o.exchanged = std::abs(b) + std::abs(c) > std::abs(a) + std::abs(d);
  o.flip_x = (o.exchanged ? c : a) < 0;
  o.flip_y = (o.exchanged ? b : d) < 0;
  return o;
}

bool MediaInfo::has(Frames n) const {
  if (still) return true;
  if (n < 0 || (frames > 0 && n >= frames)) return false;
  return std::none_of(holes.begin(), holes.end(), [n](const FrameRange& h) { return n >= h.in && n < h.out; });
}

std::string sequence_path(const std::string& pattern, Frames first, Frames last, Rate rate, Frames step,
                          const std::string& missing) {
  return fmt::format("{}#{}-{}{}@{}/{}{}", pattern, first, last, step > 1 ? fmt::format("*{}", step) : "", rate.num,
                     rate.den, missing.empty() ? "" : ";" + missing);
}
bool is_sequence(const std::string& path) { return Sequence::parse(path).has_value(); }

struct FrameReader::Impl {
  std::string path;
  ThrottledIo slow;  ///< outlives the format that reads through it
  AVFormatContext* format = nullptr;
  std::shared_ptr<StreamCodec> coding;
  Decoder decoder;
  AVCodecContext* codec = nullptr;  ///< the decoder's
  int threads = 1;  ///< that may decode in order
  double accounted_ms = 0;  ///< of what the decoder's threads worked
  AVPacket* packet = nullptr;
  AVStream* stream = nullptr;
  MediaInfo info;
  Stopwatch opening;
  bool opened = false;
  bool counted = false;  ///< the stream carries no times: pictures are counted in the order they are shown
  std::int64_t first_pts = 0;
  std::int64_t grain = 0;  ///< by how much a time may be later than it says, ticks: how containers round

  // Where reading is. `held` is what is shown until `ahead` begins.
  struct Picture {
    FramePtr frame;
    std::int64_t pts = 0;
  };
  std::optional<Picture> held, ahead;
  bool from_first = false;  ///< its pictures are built on all before them, whatever its list of key frames says
  Frames counted_so_far = 0;  ///< pictures decoded since the last seek
  std::int64_t last_shown = kUnknown;  ///< time of the picture that was decoded last
  bool draining = false, ended = false;

  std::optional<Sequence> sequence;
  std::size_t keep = 0;
  std::deque<std::pair<Frames, CodedPtr>> recent;
  Frames next = -1;  ///< frame of the packet that is read next, where pictures stand alone; −1: not known

  std::shared_ptr<FieldJoiner> fields = std::make_shared<FieldJoiner>();

  ~Impl() { close(); }
  void close() {
    av_packet_free(&packet);
    decoder = {};
    avformat_close_input(&format);
  }

  AVRational frame_time() const { return {static_cast<int>(info.rate.den), static_cast<int>(info.rate.num)}; }
  /// The frame that begins nearest to this time.
  Frames number_of(std::int64_t pts) const {
    return av_rescale_q_rnd(pts - first_pts, stream->time_base, frame_time(), AV_ROUND_NEAR_INF);
  }
  std::int64_t pts_of(Frames n) const { return first_pts + av_rescale_q(n, frame_time(), stream->time_base); }
  /// Whether a picture of this time is seen at frame n or before. A constant rate has its pictures at the nearest
  /// frame, however unsteady its times are.
  bool begun(std::int64_t pts, Frames n) const {
    return info.constant ? number_of(pts) <= n : pts <= pts_of(n) + grain;
  }

  // ---- Sequences ----------------------------------------------------------------------------------------

  /// A sequence takes what it is from its first file that is there.
  Result<void> start_sequence() {
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

  /// A file of its own is opened by whoever wants its picture.
  Result<CodedPtr> take_from_sequence(Frames n) {
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

  void remember(Frames n, const CodedPtr& picture) {
    recent.emplace_back(n, picture);
    while (recent.size() > std::max<std::size_t>(1, keep)) recent.pop_front();
  }
  CodedPtr remembered(Frames n) const {
    for (const auto& [at, picture] : recent)
      if (at == n) return picture;
    return nullptr;
  }

  // ---- Opening ------------------------------------------------------------------------------------------

  static int too_long(void* self) {
    const auto* impl = static_cast<const Impl*>(self);
    return !impl->opened && impl->opening.ms() > kOpeningMs;
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
    if (auto r = open_file(); !r) return r;
    fill_info();
    if (info.width <= 0 || info.height <= 0 || info.width > kMostPixels || info.height > kMostPixels)
      return bad_input(fmt::format("has a raster of {}×{}; 1×1 to {}×{} are read", info.width, info.height,
                                   kMostPixels, kMostPixels),
                       path, "Make a smaller copy.");
    auto looked = look();
    opened = true;
    info.alone = coding->stands_alone() && info.constant && !counted && !info.still;
    return looked;
  }

  Result<void> open_file() {
    close();
    slow = throttled_io(path, false);
    auto container = open_container(path, slow.get(), {too_long, this});
    if (!container) return std::unexpected(container.error());
    format = container->release();
    // mov and mp4 state everything in their header; looking into the packets would cost time at every open.
    if (!states_all()) {
      if (const int r = avformat_find_stream_info(format, nullptr); r < 0)
        return bad_input("cannot be understood: " + av_text(r), path, "Replace the file with a whole copy.");
    }
    const int index = av_find_best_stream(format, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
    if (index < 0) return bad_input("holds no pictures", path, "Choose a file with a video stream.");
    stream = format->streams[index];
    for (unsigned i = 0; i < format->nb_streams; ++i)
      if (static_cast<int>(i) != index) format->streams[i]->discard = AVDISCARD_ALL;
    auto found = StreamCodec::of(format, stream, path);
    if (!found) return std::unexpected(found.error());
    coding = std::move(*found);
    auto opened_decoder = coding->open(coding->stands_alone() ? 1 : std::min(threads, coding->most_threads()));
    if (!opened_decoder) return std::unexpected(opened_decoder.error());
    decoder = std::move(*opened_decoder);
    codec = decoder.context.get();
    accounted_ms = 0;
    packet = av_packet_alloc();
    held.reset(), ahead.reset();
    draining = ended = false;
    counted_so_far = 0, last_shown = kUnknown;
    return {};
  }

  bool states_all() const {
    const int index = av_find_best_stream(format, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
    // Of some codecs the size stands in their pictures alone.
    return std::string_view(format->iformat->name).find("mov") != std::string_view::npos && index >= 0 && format->streams[index]->codecpar->width > 0;
  }

  void fill_info() {
    const AVCodecParameters& p = *stream->codecpar;
    info.width = p.width, info.height = p.height;
    info.codec = designation(p.codec_id);
    const std::string_view container = format->iformat->name;
    const bool picture = container.ends_with("_pipe") || container.starts_with("image2");
    const auto pix = static_cast<AVPixelFormat>(p.format);
    note_layout(pix);
    const AVCodecDescriptor* c = avcodec_descriptor_get(p.codec_id);
    // FFV1 may carry its statistics over from frame to frame, which its description does not say.
    info.intra = c && (c->props & AV_CODEC_PROP_INTRA_ONLY) && p.codec_id != AV_CODEC_ID_FFV1;
    info.decode_threads = coding->most_threads();
    // No times at all, or those of decoding only: what is shown when follows from the order of the pictures alone.
    counted = (format->iformat->flags & AVFMT_NOTIMESTAMPS) || (container == "avi" && !info.intra);
    first_pts = stream->start_time == kUnknown ? 0 : stream->start_time;
    find_rate();
    count_frames();
    info.still = picture && info.frames <= 1;
    if (info.still) info.frames = 1;
    find_keys();
    info.orientation = from_stream(stream);
    if (const AVRational aspect = av_guess_sample_aspect_ratio(format, stream, nullptr);
        aspect.num > 0 && aspect.den > 0) info.pixel_aspect = av_q2d(aspect);
    info.interlaced = p.field_order != AV_FIELD_UNKNOWN && p.field_order != AV_FIELD_PROGRESSIVE;
    find_timecode();
    find_copy_mark();
    std::error_code e;
    info.bytes = std::filesystem::file_size(path, e);
    info.identity = file_identity(path);
  }

  void note_layout(AVPixelFormat pix) {
    const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(pix);
    info.pixel_format = d ? d->name : "unknown";
    info.bits = d ? d->comp[0].depth : 8;
    info.alpha = d && (d->flags & (AV_PIX_FMT_FLAG_ALPHA | AV_PIX_FMT_FLAG_PAL));
    info.linear = d && (d->flags & AV_PIX_FMT_FLAG_FLOAT);
  }

  /// Times of decoding of every picture that is shown, where the header has them all.
  std::vector<std::int64_t> listed_times() const {
    std::vector<std::int64_t> all;
    const int n = states_all() ? avformat_index_get_entries_count(stream) : 0;
    for (int i = 0; i < n; ++i)
      if (const AVIndexEntry* e = avformat_index_get_entry(stream, i); !(e->flags & AVINDEX_DISCARD_FRAME))
        all.push_back(e->timestamp);
    return all;
  }

  /// Constant: the n-th picture is nearest to n frames' time, throughout. Else frames are counted at the finest step
  /// between two pictures.
  void find_rate() {
    AVRational rate = av_guess_frame_rate(format, stream, nullptr);
    // Where packets have no times a mean of them says nothing.
    const bool untimed = counted || stream->start_time == kUnknown;
    if (untimed && stream->r_frame_rate.num > 0 && stream->r_frame_rate.den > 0) rate = stream->r_frame_rate;
    if (rate.num <= 0 || rate.den <= 0) rate = {24, 1};
    info.rate = Rate::near(av_q2d(rate));
    const AVRational base = stream->time_base;
    const std::vector<std::int64_t> times = listed_times();
    if (times.size() > 1) {
      const double mean = static_cast<double>(times.back() - times.front()) / static_cast<double>(times.size() - 1);
      const auto steady = [&] {
        for (std::size_t i = 0; i < times.size(); ++i)
          if (av_rescale_q_rnd(times[i] - times[0], base, frame_time(), AV_ROUND_NEAR_INF) !=
              static_cast<std::int64_t>(i))
            return false;
        return true;
      };
      if (mean > 0) {
        info.rate = Rate::near(1 / (mean * av_q2d(base)));
        info.constant = steady();
        if (!info.constant) {
          const Ratio exact = Ratio::near(1 / (mean * av_q2d(base)));
          const Rate rounded = std::exchange(info.rate, Rate{std::max<std::int64_t>(1, exact.num), exact.den});
          info.constant = steady();
          if (!info.constant) info.rate = rounded;
        }
      }
      std::int64_t least = 0;
      for (std::size_t i = 1; i < times.size(); ++i)
        if (const std::int64_t d = times[i] - times[i - 1]; d > 0 && (least == 0 || d < least)) least = d;
      if (!info.constant && least > 0)
        info.rate = Rate::near(std::min(240.0, 1 / (static_cast<double>(least) * av_q2d(base))));
    } else if (!states_all()) {
      const double guessed = av_q2d(rate), mean = av_q2d(stream->avg_frame_rate);
      info.constant = untimed || !(mean > 0 && std::abs(guessed / mean - 1) > 0.01);
      if (!info.constant) info.rate = Rate::near(std::min(240.0, std::max(guessed, mean)));
    }
    const double ticks = info.rate.frame_ms() / 1000 / av_q2d(base);
    grain = ticks >= 4 ? 1 : 0;
  }

  void count_frames() {
    info.frames = stream->nb_frames;
    if (const std::vector<std::int64_t> times = listed_times(); !times.empty() && info.constant)
      info.frames = static_cast<Frames>(times.size());
    else if (stream->duration > 0 && (info.frames <= 0 || !info.constant))
      info.frames = number_of(first_pts + stream->duration);
    if (info.frames <= 0 && format->duration > 0)
      info.frames = av_rescale(format->duration, info.rate.num, info.rate.den * AV_TIME_BASE);
    if (!states_all()) return;
    // What lies beyond the end of a file that was cut off is not there.
    std::error_code e;
    const auto size = static_cast<std::int64_t>(std::filesystem::file_size(path, e));
    const int n = avformat_index_get_entries_count(stream);
    for (int i = 0; i < n && !e; ++i) {
      const AVIndexEntry* entry = avformat_index_get_entry(stream, i);
      if (entry->pos + entry->size <= size) continue;
      const Frames whole = number_of(first_pts + entry->timestamp - avformat_index_get_entry(stream, 0)->timestamp);
      info.remarks.push_back(fmt::format("It is cut off: {} of {} frames are there.", whole, info.frames));
      info.frames = std::min(info.frames, whole);
      break;
    }
  }

  void find_keys() {
    from_first = stream->codecpar->codec_id == AV_CODEC_ID_APNG;
    if (info.intra || counted || from_first) return;
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

  void find_copy_mark() {
    if (const AVDictionaryEntry* e = av_dict_get(format->metadata, "comment", nullptr, 0)) info.copy_size = copy_size_in(e->value);
  }

  void find_timecode() {
    const auto tag = [](const AVDictionary* tags) {
      const AVDictionaryEntry* e = av_dict_get(tags, "timecode", nullptr, 0);
      return e ? e->value : nullptr;
    };
    const char* text = tag(stream->metadata);
    for (unsigned i = 0; !text && i < format->nb_streams; ++i) text = tag(format->streams[i]->metadata);
    if (!text) text = tag(format->metadata);
    AVTimecode code;
    if (text && av_timecode_init_from_string(&code, {static_cast<int>(info.rate.num), static_cast<int>(info.rate.den)},
                                             text, nullptr) >= 0)
      info.timecode = code.start;
  }

  /// What only the file's packets tell: when the first picture that can be decoded is shown, and how many frames
  /// there really are.
  Result<void> look() {
    if (info.still || states_all()) return {};
    std::optional<Looked> known = looked_at().find(info.identity);
    if (!known) {
      Looked found;
      ReadTimes t;
      auto first = decode_one(t, 0);
      if (!first) return std::unexpected(first.error());
      found.counted = counted || first->frame->pts == kUnknown;
      found.first_pts = found.counted ? 0 : first->pts == kUnknown ? first_pts : first->pts;
      first_pts = found.first_pts;
      found.frames = found.counted ? count_packets() : number_of_last(found.cut_off) + 1;
      if (auto r = open_file(); !r) return r;
      known = found;
      looked_at().keep(info.identity, found);
    }
    first_pts = known->first_pts;
    counted = known->counted;
    if (counted) info.constant = true;
    if (known->cut_off)
      info.remarks.push_back(fmt::format("It is cut off: {} of about {} frames are there.", known->frames,
                                         std::max(info.frames, known->frames + 1)));
    if (known->frames > 0) info.frames = known->frames;
    return {};
  }

  /// Pictures of a stream without times. Two packets that hold one field each are one picture.
  Frames count_packets() {
    Frames halves = 0;
    if (auto again = open_file(); !again) return 0;
    // The demuxer's own parser is ahead of the packets that it gives, and gone when it has read the whole file.
    AVCodecParserContext* parser = av_parser_init(stream->codecpar->codec_id);
    if (parser) parser->flags |= PARSER_FLAG_COMPLETE_FRAMES;
    while (av_read_frame(format, packet) >= 0) {
      if (packet->stream_index == stream->index && packet->size > 0) {
        std::uint8_t* data = nullptr;
        int size = 0;
        if (parser) av_parser_parse2(parser, codec, &data, &size, packet->data, packet->size, packet->pts, packet->dts, packet->pos);
        const bool field = parser && (parser->picture_structure == AV_PICTURE_STRUCTURE_TOP_FIELD ||
                                      parser->picture_structure == AV_PICTURE_STRUCTURE_BOTTOM_FIELD);
        halves += field ? 1 : 2;
      }
      av_packet_unref(packet);
    }
    if (parser) av_parser_close(parser);
    return halves / 2;
  }

  /// The last frame that has a picture.
  Frames number_of_last(bool& cut_off) {
    const std::int64_t end = pts_of(std::max<Frames>(0, info.frames - 1));
    const std::int64_t early = av_rescale_q(2, {1, 1}, stream->time_base);
    if (avformat_seek_file(format, stream->index, INT64_MIN, end - early, end, 0) < 0 &&
        av_seek_frame(format, stream->index, std::max(first_pts, end - early), AVSEEK_FLAG_BACKWARD) < 0)
      return info.frames - 1;
    std::int64_t last = first_pts, until = first_pts;
    if (std::string_view(format->iformat->name) == "mpeg") {
      // Packets of a program stream mostly carry no times of their own: the pictures do.
      avcodec_flush_buffers(codec);
      counted_so_far = 0, last_shown = kUnknown, draining = false;
      ReadTimes t;
      while (const auto p = decode_one(t, 0)) last = p->pts;
      return number_of(last);
    }
    while (av_read_frame(format, packet) >= 0) {
      if (packet->stream_index == stream->index) {
        const std::int64_t at = packet->pts != kUnknown ? packet->pts : packet->dts;
        if (at != kUnknown && at >= last) last = at, until = at + packet->duration;
      }
      av_packet_unref(packet);
    }
    const Frames n = number_of(last);
    // Some containers count their length from 0, some from the first picture.
    constexpr double kShort = 0.5;  // s
    const double ends = static_cast<double>(std::max(until, last)) * av_q2d(stream->time_base),
                 stated = static_cast<double>(format->duration) / AV_TIME_BASE;
    cut_off = format->duration > 0 && ends + kShort < stated;
    return info.constant ? n : std::max(n, number_of(until) - 1);
  }

  // ---- Reading ------------------------------------------------------------------------------------------

  /// Goes to a place from which frame n can be reached, `further` frames before the nearest.
  Result<void> seek(Frames n, Frames further, ReadTimes& t) {
    const Stopwatch watch;
    const Frames to = std::max<Frames>(0, n - further);
    const bool again = counted || from_first || (to == 0 && further > 0);
    const std::string_view container = format->iformat->name;
    // Where there is no list of pictures, only the first byte is surely the beginning.
    const bool first_byte = to == 0 && (container == "mpegts" || container == "mpeg");
    if (again || (first_byte ? av_seek_frame(format, -1, 0, AVSEEK_FLAG_BYTE)
                             : av_seek_frame(format, stream->index, pts_of(to), AVSEEK_FLAG_BACKWARD)) < 0)
      if (auto r = open_file(); !r) return r;
    avcodec_flush_buffers(codec);
    held.reset(), ahead.reset();
    draining = ended = false;
    counted_so_far = 0, last_shown = kUnknown;
    t.cold = true;
    t.read_ms += watch.ms();
    return {};
  }

  /// Whether going on from what is held to frame n is no dearer than seeking.
  bool near_ahead(Frames n) const {
    if (!held || !begun(held->pts, n)) return false;
    const Frames from = number_of(held->pts);
    if (counted || from_first || n - from <= 1) return true;
    if (info.intra) return n - from < 4;
    if (avformat_index_get_entries_count(stream) == 0) return n - from < 250;
    const int here = av_index_search_timestamp(stream, pts_of(from), AVSEEK_FLAG_BACKWARD);
    const int there = av_index_search_timestamp(stream, pts_of(n), AVSEEK_FLAG_BACKWARD);
    return here == there || n - from < 8;
  }

  /// The next picture in the order of showing, with its time.
  Result<Picture> decode_one(ReadTimes& t, Frames wanted) {
    const auto damaged = [this](int code) {
      return bad_input("is damaged: " + av_text(code), path, "Replace the file with a whole copy.");
    };
    for (;;) {
      std::shared_ptr<AVFrame> frame(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
      Stopwatch watch;
      CpuStopwatch cpu;
      int r = avcodec_receive_frame(codec, frame.get());
      t.decode_ms += watch.ms(), t.decode_cpu_ms += cpu.ms();
      if (r == 0) {
        ++t.decoded;
        account(t);
        return shown(std::move(frame));
      }
      if (r == AVERROR_EOF) {
        ended = true;
        return bad_input(fmt::format("ends early: frame {} was asked for", wanted), path,
                         "Shorten the segment or replace the file.");
      }
      // A stream that begins anywhere begins with pictures that lack what they are built on.
      const bool starting = !held && counted_so_far == 0;
      if (r != AVERROR(EAGAIN) && !starting) return damaged(r);
      watch.restart();
      r = av_read_frame(format, packet);
      t.read_ms += watch.ms();
      if (r < 0) {
        if (std::exchange(draining, true)) {
          ended = true;
          return bad_input(fmt::format("ends early: frame {} was asked for", wanted), path,
                           "Shorten the segment or replace the file.");
        }
        avcodec_send_packet(codec, nullptr);
        continue;
      }
      const bool before = info.intra && info.constant && !counted && opened && packet->pts != kUnknown &&
                          number_of(packet->pts) < wanted;
      if (packet->stream_index == stream->index && !before) {
        watch.restart();
        cpu.restart();
        r = avcodec_send_packet(codec, packet);
        t.decode_ms += watch.ms(), t.decode_cpu_ms += cpu.ms(), ++t.taken;
        if (r < 0 && r != AVERROR(EAGAIN) && !starting) {
          av_packet_unref(packet);
          return damaged(r);
        }
      }
      av_packet_unref(packet);
    }
  }

  /// Puts down what the decoder's own threads have worked since the last time.
  void account(ReadTimes& t) {
    if (decoder.threads.empty()) return;
    t.threads = static_cast<int>(decoder.threads.size());
    const double ms = decoder.work_ms();
    t.work_ms += ms - accounted_ms, accounted_ms = ms;
  }

  Picture shown(std::shared_ptr<AVFrame> frame) {
    Picture p;
    p.pts = frame->best_effort_timestamp;
    const Frames n = counted_so_far++;
    if (counted) p.pts = pts_of(n);
    // A picture without a time of its own follows the one before it; libav's guess is for when there is none.
    else if (frame->pts == kUnknown && last_shown != kUnknown && !info.intra)
      p.pts = last_shown + av_rescale_q(1, frame_time(), stream->time_base);
    last_shown = p.pts;
    coding->dress(*frame);
    p.frame = std::move(frame);
    return p;
  }

  /// Whether a picture after a seek can be relied on: a key picture that states its time.
  bool held_by_time(const Picture& p) const { return p.frame->key_frame && p.frame->pts != kUnknown; }

  /// Seeks until the picture that is shown at frame n, or one before it, is held.
  Result<void> reach(Frames n, ReadTimes& t) {
    for (Frames further = 0;; further = further == 0 ? std::max<Frames>(8, info.rate.nominal()) : further * 4) {
      if (auto r = seek(n, further, t); !r) return r;
      const bool from_start = counted || n - further <= 0;
      for (;;) {
        auto p = decode_one(t, n);
        if (!p) {
          if (from_start || !ended) return std::unexpected(p.error());
          break;  // a container that seeks badly: once more from further ahead
        }
        // After a seek, what comes before the first key picture may lack what it is built on.
        if (!from_start && !info.intra && !held_by_time(*p)) continue;
        held = std::move(*p);
        break;
      }
      if (held && begun(held->pts, n)) return {};
      if (from_start && (counted || further > 0))
        return bad_input(fmt::format("has no frame {}; the first is {}", n, held ? number_of(held->pts) : 0), path,
                         "Move the segment's start.");
    }
  }

  /// The coded picture of frame n, where each stands alone. Null where the container does not give it at its place:
  /// then pictures are read in order.
  Result<CodedPtr> take_alone(Frames n, ReadTimes& t, const Hash128& expected) {
    constexpr Frames kNear = 4;  // reading over so many is no dearer than seeking
    if (next < 0 || n < next || n >= next + kNear)
      if (auto r = seek(n, 0, t); !r) return std::unexpected(r.error());
    held.reset(), ahead.reset();
    const Stopwatch watch;
    CodedPtr found;
    for (;;) {
      av_packet_unref(packet);
      if (av_read_frame(format, packet) < 0) break;
      if (packet->stream_index != stream->index) continue;
      ++t.taken;
      const Frames at = packet->pts == kUnknown ? n + 1 : number_of(packet->pts);
      next = at + 1;
      if (at < n) continue;
      if (at == n) {
        if (expected != Hash128{} && hash_bytes(packet->data, static_cast<std::size_t>(packet->size)) != expected)
          return bad_input(fmt::format("is damaged: frame {} is not what was written", n), path,
                           "It is made again when it is rendered the next time.");
        std::shared_ptr<AVPacket> coded(av_packet_alloc(), [](AVPacket* p) { av_packet_free(&p); });
        av_packet_move_ref(coded.get(), packet);
        found = std::make_shared<CodedPicture>([coded, coding = coding](ReadTimes& times) mutable -> Result<FramePtr> {
          const Stopwatch wall;
          const CpuStopwatch cpu;
          auto frame = coding->decode(*coded);
          times.decode_ms += wall.ms(), times.decode_cpu_ms += cpu.ms(), ++times.decoded;
          coded.reset();
          if (!frame) return std::unexpected(frame.error());
          return FramePtr(std::move(*frame));
        });
      }
      break;
    }
    av_packet_unref(packet);
    t.read_ms += watch.ms();
    if (!found) next = -1;
    return found;
  }

  Result<CodedPtr> take(Frames n, ReadTimes& t, const Hash128& expected) {
    if (sequence) return take_from_sequence(n);
    if (info.alone) {
      auto coded = take_alone(n, t, expected);
      if (!coded || *coded) return coded;
      held.reset(), ahead.reset();
    }
    auto frame = read(n, t);
    if (!frame) return std::unexpected(frame.error());
    return std::make_shared<CodedPicture>(std::move(*frame));
  }

  Result<FramePtr> read(Frames n, ReadTimes& t) {
    if (!near_ahead(n))
      if (auto r = reach(n, t); !r) return std::unexpected(r.error());
    for (;;) {
      if (number_of(held->pts) == n && (info.constant || std::abs(held->pts - pts_of(n)) <= grain)) return held->frame;
      if (!ahead && !ended) {
        auto p = decode_one(t, n);
        if (p) ahead = std::move(*p);
        else if (!ended) return std::unexpected(p.error());
      }
      if (ahead && begun(ahead->pts, n)) {
        held = std::exchange(ahead, std::nullopt);
        continue;
      }
      if (ahead || (info.frames > 0 && n < info.frames && !info.constant)) return held->frame;
      return bad_input(
          fmt::format("ends early: frame {} was asked for, {} exist", n, number_of(held->pts) + 1), path,
          "Shorten the segment or replace the file.");
    }
  }
};

Result<FramePtr> CodedPicture::get(ReadTimes* times) {
  ReadTimes unused;
  ReadTimes& t = times ? *times : unused;
  const Stopwatch waiting;
  const std::lock_guard lock(mutex_);
  t.waited_ms += waiting.ms();
  if (!made_) made_ = make_(t), make_ = nullptr;
  return *made_;
}

bool CodedPicture::decoded() const {
  const std::lock_guard lock(mutex_);
  return made_.has_value();
}

FrameReader::FrameReader(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
FrameReader::~FrameReader() = default;
const MediaInfo& FrameReader::info() const { return impl_->info; }
void FrameReader::keep(int frames) {
  impl_->keep = std::max(impl_->keep, static_cast<std::size_t>(std::max(0, frames)));
}

Result<std::unique_ptr<FrameReader>> FrameReader::open(const std::string& path, int threads) {
  auto impl = std::make_unique<Impl>();
  impl->threads = threads;
  if (auto r = impl->start(path); !r) return std::unexpected(r.error());
  return std::unique_ptr<FrameReader>(new FrameReader(std::move(impl)));
}

Result<CodedPtr> FrameReader::take(Frames n, ReadTimes* times, const Hash128& expected) {
  ReadTimes unused;
  ReadTimes& t = times ? *times : unused;
  Impl& s = *impl_;
  if (n < 0) return bad_input(fmt::format("has no frame {}", n), s.path, "Move the segment's start.");
  if (s.info.still) n = 0;
  if (CodedPtr known = s.remembered(n)) return known;
  auto picture = s.take(n, t, expected);
  if (picture) s.remember(n, *picture);
  else s.held.reset(), s.ahead.reset(), s.next = -1;
  return picture;
}

Result<FramePtr> FrameReader::read(Frames n, ReadTimes* times) {
  auto picture = take(n, times);
  if (!picture) return std::unexpected(picture.error());
  return (*picture)->get(times);
}

Result<CodedPtr> FrameReader::take_progressive(Frames n, ReadTimes* times) {
  keep(4);
  const auto neighbour = [&](Frames m) -> CodedPtr {
    if (m < 0 || !info().has(m)) return nullptr;
    auto f = take(m, times);
    return f ? *f : nullptr;
  };
  const CodedPtr before = neighbour(n - 1);
  const auto now = take(n, times);
  if (!now) return std::unexpected(now.error());
  const CodedPtr after = neighbour(n + 1);
  return std::make_shared<CodedPicture>([n, before, now = *now, after, fields = impl_->fields](ReadTimes& t) -> Result<FramePtr> {
    const auto picture = [&](const CodedPtr& of) -> FramePtr {
      if (!of) return nullptr;
      auto f = of->get(&t);
      return f ? *f : nullptr;
    };
    auto middle = now->get(&t);
    if (!middle) return middle;
    const FramePtr first = picture(before), last = picture(after);
    const Stopwatch watch;
    const CpuStopwatch cpu;
    double waited = 0;
    auto made = fields->middle(n, first, *middle, last, waited);
    t.waited_ms += waited, t.fields_ms -= waited;
    t.fields_ms += watch.ms(), t.fields_cpu_ms += cpu.ms();
    return made;
  });
}

std::uint64_t FrameReader::memory() const {
  constexpr std::uint64_t kReferences = 5;  // pictures that a long-GOP decoder keeps for others, commonly
  const std::uint64_t picture = static_cast<std::uint64_t>(info().width) * static_cast<std::uint64_t>(info().height) * 3;
  return picture * (kReferences + impl_->decoder.threads.size() + impl_->recent.size());
}

Result<std::vector<Hash128>> picture_hashes(const std::string& path) {
  auto reader = FrameReader::open(path);
  if (!reader) return std::unexpected(reader.error());
  return (*reader)->coded_hashes();
}

Result<std::vector<Hash128>> FrameReader::coded_hashes() {
  Impl& s = *impl_;
  std::vector<Hash128> all;
  s.next = -1, s.held.reset(), s.ahead.reset();
  ReadTimes unused;
  if (auto r = s.seek(0, 0, unused); !r) return std::unexpected(r.error());
  for (;;) {
    av_packet_unref(s.packet);
    if (av_read_frame(s.format, s.packet) < 0) return all;
    if (s.packet->stream_index == s.stream->index)
      all.push_back(hash_bytes(s.packet->data, static_cast<std::size_t>(s.packet->size)));
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
  if (is_sequence(path)) return info;
  const auto frame = (*reader)->read(0);
  if (!frame) return std::unexpected(frame.error());
  // Some headers do not say how pixels are laid out, or that there are fields; the first picture does.
  const AVFrame& f = **frame;
  if (const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
      d && info.pixel_format == "unknown") {
    info.pixel_format = d->name, info.bits = d->comp[0].depth;
    info.alpha = d->flags & (AV_PIX_FMT_FLAG_ALPHA | AV_PIX_FMT_FLAG_PAL);
    info.linear = d->flags & AV_PIX_FMT_FLAG_FLOAT;
  }
  info.interlaced = info.interlaced || f.interlaced_frame;
  if (f.sample_aspect_ratio.num > 0 && f.sample_aspect_ratio.den > 0) info.pixel_aspect = av_q2d(f.sample_aspect_ratio);
  if (const AVFrameSideData* side = av_frame_get_side_data(&f, AV_FRAME_DATA_DISPLAYMATRIX))
    info.orientation = orientation_of(reinterpret_cast<const std::int32_t*>(side->data));
  note_colours(info, f.color_primaries, f.color_trc);
  if (const auto clean = clean_aperture(path); clean && (clean->width < info.width || clean->height < info.height))
    info.remarks.push_back(fmt::format("Its clean aperture of {:.6g}×{:.6g} is not obeyed; the whole {}×{} are shown.",
                                       clean->width, clean->height, info.width, info.height));
  // What the stream says wins over what the container says of its raster.
  info.width = f.width, info.height = f.height;
  return info;
}

}  // namespace gc
