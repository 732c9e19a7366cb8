// Opening a file: what its header says, and what only its packets tell.
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <mutex>
#include <unordered_map>

#include "media/av_text.h"
#include "media/clean_aperture.h"
#include "media/container.h"
#include "media/copy_mark.h"
#include "media/identity.h"
#include "media/matrix.h"
#include "media/reader_impl.h"

extern "C" {
#include <libavutil/display.h>
#include <libavutil/pixdesc.h>
#include <libavutil/timecode.h>
}

namespace gc {
namespace {

constexpr double kOpeningMs = 30'000;  ///< until a file that is being opened is given up

/// What has to be looked for in a file whose header does not say it; found once for each state of a file.
struct Looked {
  std::int64_t first_pts = kUnknownTime;
  Frames frames = 0;
  bool counted = false;   ///< it carries no times
  bool cut_off = false;   ///< it ends before it says
  std::vector<Frames> keys;  ///< as MediaInfo has them
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

int FrameReader::Impl::too_long(void* self) {
  const auto* impl = static_cast<const Impl*>(self);
  return !impl->opened && impl->opening.ms() > kOpeningMs;
}

Result<void> FrameReader::Impl::start(const std::string& file) {
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

Result<void> FrameReader::Impl::open_file() {
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
  counted_so_far = 0, last_shown = kUnknownTime;
  return {};
}

bool FrameReader::Impl::states_all() const {
  const int index = av_find_best_stream(format, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
  // Of some codecs the size stands in their pictures alone.
  return std::string_view(format->iformat->name).find("mov") != std::string_view::npos && index >= 0 && format->streams[index]->codecpar->width > 0;
}

void FrameReader::Impl::fill_info() {
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
  first_pts = stream->start_time == kUnknownTime ? 0 : stream->start_time;
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

void FrameReader::Impl::note_layout(AVPixelFormat pix) {
  const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(pix);
  info.pixel_format = d ? d->name : "unknown";
  info.bits = d ? d->comp[0].depth : 8;
  info.alpha = d && (d->flags & (AV_PIX_FMT_FLAG_ALPHA | AV_PIX_FMT_FLAG_PAL));
  info.linear = d && (d->flags & AV_PIX_FMT_FLAG_FLOAT);
}

std::vector<std::int64_t> FrameReader::Impl::listed_times() const {
  std::vector<std::int64_t> all;
  const int n = states_all() ? avformat_index_get_entries_count(stream) : 0;
  for (int i = 0; i < n; ++i)
    if (const AVIndexEntry* e = avformat_index_get_entry(stream, i); !(e->flags & AVINDEX_DISCARD_FRAME))
      all.push_back(e->timestamp);
  return all;
}

void FrameReader::Impl::find_rate() {
  AVRational rate = av_guess_frame_rate(format, stream, nullptr);
  // Where packets have no times a mean of them says nothing.
  const bool untimed = counted || stream->start_time == kUnknownTime;
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
    if (!info.constant && mean > 0) info.density = std::min(1.0, 1 / (mean * av_q2d(base)) / info.rate.fps());
  } else if (!states_all()) {
    const double guessed = av_q2d(rate), mean = av_q2d(stream->avg_frame_rate);
    info.constant = untimed || !(mean > 0 && std::abs(guessed / mean - 1) > 0.01);
    if (!info.constant) info.rate = Rate::near(std::min(240.0, std::max(guessed, mean))), info.density = std::min(1.0, mean / info.rate.fps());
  }
  const double ticks = info.rate.frame_ms() / 1000 / av_q2d(base);
  grain = ticks >= 4 ? 1 : 0;
}

void FrameReader::Impl::count_frames() {
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

void FrameReader::Impl::find_keys() {
  from_first = stream->codecpar->codec_id == AV_CODEC_ID_APNG;
  if (info.intra || counted || from_first) return;
  // A long-GOP codec may still have been written with key frames only.
  const int n = avformat_index_get_entries_count(stream);
  // Some containers list only their key frames; then the list says nothing about the others.
  bool all = n > 0 && n >= info.frames;
  for (int i = 0; i < n && all; ++i) all = avformat_index_get_entry(stream, i)->flags & AVINDEX_KEYFRAME;
  info.intra = all;
  if (!all) info.keys = listed_keys();
}

std::vector<Frames> FrameReader::Impl::listed_keys() const {
  std::vector<Frames> keys;
  for (int i = 0; i < avformat_index_get_entries_count(stream); ++i)
    if (const AVIndexEntry* e = avformat_index_get_entry(stream, i); e->flags & AVINDEX_KEYFRAME) keys.push_back(number_of(e->timestamp));
  // Some lists have times of decoding, which come before those of showing by as much for all of them.
  if (const Frames before = keys.empty() ? 0 : -keys.front(); before > 0)
    for (Frames& key : keys) key += before;
  return keys;
}

void FrameReader::Impl::find_copy_mark() {
  if (const AVDictionaryEntry* e = av_dict_get(format->metadata, "comment", nullptr, 0)) info.copy_size = copy_size_in(e->value);
}

void FrameReader::Impl::find_timecode() {
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

Result<void> FrameReader::Impl::look() {
  if (info.still || states_all()) return {};
  std::optional<Looked> known = looked_at().find(info.identity);
  if (!known) {
    Looked found;
    ReadTimes t;
    auto first = decode_one(t, 0);
    if (!first) return std::unexpected(first.error());
    found.counted = counted || first->frame->pts == kUnknownTime;
    found.first_pts = found.counted ? 0 : first->pts == kUnknownTime ? first_pts : first->pts;
    first_pts = found.first_pts;
    found.frames = found.counted ? count_packets() : number_of_last(found.cut_off) + 1;
    // Some demuxers read their list of key frames only when they first look for a place.
    if (!found.counted) found.keys = listed_keys();
    if (auto r = open_file(); !r) return r;
    known = found;
    looked_at().keep(info.identity, found);
  }
  first_pts = known->first_pts;
  counted = known->counted;
  if (counted) info.constant = true, info.density = 1;
  if (known->cut_off)
    info.remarks.push_back(fmt::format("It is cut off: {} of about {} frames are there.", known->frames,
                                       std::max(info.frames, known->frames + 1)));
  if (known->frames > 0) info.frames = known->frames;
  if (!info.intra && !from_first && known->keys.size() > info.keys.size()) info.keys = known->keys;
  return {};
}

Frames FrameReader::Impl::count_packets() {
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

Frames FrameReader::Impl::number_of_last(bool& cut_off) {
  const std::int64_t end = pts_of(std::max<Frames>(0, info.frames - 1));
  const std::int64_t early = av_rescale_q(2, {1, 1}, stream->time_base);
  if (avformat_seek_file(format, stream->index, INT64_MIN, end - early, end, 0) < 0 &&
      av_seek_frame(format, stream->index, std::max(first_pts, end - early), AVSEEK_FLAG_BACKWARD) < 0)
    return info.frames - 1;
  std::int64_t last = first_pts, until = first_pts;
  if (std::string_view(format->iformat->name) == "mpeg") {
    // Packets of a program stream mostly carry no times of their own: the pictures do.
    avcodec_flush_buffers(codec);
    counted_so_far = 0, last_shown = kUnknownTime, draining = false;
    ReadTimes t;
    while (const auto p = decode_one(t, 0)) last = p->pts;
    return number_of(last);
  }
  while (av_read_frame(format, packet) >= 0) {
    if (packet->stream_index == stream->index) {
      const std::int64_t at = packet->pts != kUnknownTime ? packet->pts : packet->dts;
      if (at != kUnknownTime && at >= last) last = at, until = at + packet->duration;
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

Result<MediaInfo> probe(const std::string& path) {
  auto reader = FrameReader::open(path);
  if (!reader) return std::unexpected(reader.error());
  MediaInfo info = (*reader)->info();
  const auto frame = (*reader)->read(0);
  if (frame) info.bt709 = has_bt709_matrix(**frame);
  if (is_sequence(path)) return info;
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
