#include "media/writer.h"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/display.h>
#include <libavutil/opt.h>
#include <libavutil/pixdesc.h>
#include <libswscale/swscale.h>
}

#include <fmt/format.h>

#include <cmath>
#include <cstring>
#include <filesystem>
#include <map>

#include "media/av_text.h"
#include "media/convert.h"
#include "media/copy_mark.h"
#include "media/matrix.h"
#include "media/throttled_io.h"

namespace gc {
namespace {

std::unexpected<Error> cannot_write(const std::string& path, int code) {
  return environment("cannot be written: " + av_text(code), path,
                     code == AVERROR(ENOSPC)
                         ? "Free some space on the volume and start again; finished pieces are kept."
                         : "Check that the volume is mounted and writable.");
}

}  // namespace

namespace {

/// What makes a form: codec, layout of pixels, options.
struct FormSpec {
  const char* id;
  const char* standard;
  const char* name;
  const char* extension;
  AVCodecID codec;
  AVPixelFormat pixels;
  int bits;
  const char* profile = nullptr;  ///< private option
  int level = -1;                 ///< profile as the codec's own number
};

const FormSpec& spec_of(Form form) {
  static const std::map<Form, FormSpec> all{
      {Form::h264_long_gop, {"h264", "H.264", "H.264, long GOP", ".mp4", AV_CODEC_ID_H264, AV_PIX_FMT_YUV420P, 8}},
      {Form::h264_intra, {"h264-intra", "H.264", "H.264, intra", ".mp4", AV_CODEC_ID_H264, AV_PIX_FMT_YUV420P, 8}},
      {Form::vc3_lb, {"vc3-lb", "VC-3", "VC-3 LB, 8 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P, 8, "dnxhr_lb"}},
      {Form::vc3_sq, {"vc3-sq", "VC-3", "VC-3 SQ, 8 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P, 8, "dnxhr_sq"}},
      {Form::vc3_hq, {"vc3-hq", "VC-3", "VC-3 HQ, 8 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P, 8, "dnxhr_hq"}},
      {Form::vc3_hqx, {"vc3-hqx", "VC-3", "VC-3 HQX, 10 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P10, 10, "dnxhr_hqx"}},
      {Form::vc3_444, {"vc3-444", "VC-3", "VC-3 444, 10 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV444P10, 10, "dnxhr_444"}},
      {Form::motion_jpeg, {"mjpeg", "Motion JPEG", "Motion JPEG, 8 bit", ".mov", AV_CODEC_ID_MJPEG, AV_PIX_FMT_YUVJ422P, 8}},
      {Form::v210, {"v210", "v210", "v210 uncompressed, 10 bit", ".mov", AV_CODEC_ID_V210, AV_PIX_FMT_YUV422P10, 10}},
      {Form::vc5, {"vc5", "VC-5", "VC-5, 10 bit", ".mov", AV_CODEC_ID_CFHD, AV_PIX_FMT_YUV422P10, 10}},
      {Form::ffv1, {"ffv1", "FFV1", "FFV1, 10 bit", ".mkv", AV_CODEC_ID_FFV1, AV_PIX_FMT_YUV422P10, 10}},
      {Form::rdd36, {"rdd36", "RDD 36", "RDD 36, 10 bit", ".mov", AV_CODEC_ID_PRORES, AV_PIX_FMT_YUV422P10, 10, nullptr, 3}},
      {Form::rdd36_alpha,
       {"rdd36-alpha", "RDD 36", "RDD 36 with alpha, 10 bit", ".mov", AV_CODEC_ID_PRORES, AV_PIX_FMT_YUVA444P10, 10, nullptr, 4}},
      {Form::ffv1_444, {"ffv1-444", "FFV1", "FFV1 4:4:4, 10 bit", ".mkv", AV_CODEC_ID_FFV1, AV_PIX_FMT_YUV444P10, 10}},
      {Form::ffv1_alpha, {"ffv1-alpha", "FFV1", "FFV1 with alpha, 10 bit", ".mkv", AV_CODEC_ID_FFV1, AV_PIX_FMT_YUVA444P10, 10}},
      {Form::h265_long_gop, {"h265", "H.265", "H.265, long GOP", ".mp4", AV_CODEC_ID_HEVC, AV_PIX_FMT_YUV420P, 8}},
      {Form::exr_half, {"exr-half", "OpenEXR", "OpenEXR, half float", ".mov", AV_CODEC_ID_EXR, AV_PIX_FMT_GBRPF32LE, 16}},
      {Form::exr_half_alpha,
       {"exr-half-alpha", "OpenEXR", "OpenEXR with alpha, half float", ".mov", AV_CODEC_ID_EXR, AV_PIX_FMT_GBRAPF32LE, 16}}};
  return all.at(form);
}

}  // namespace

const char* form_name(Form form) { return spec_of(form).name; }
const char* form_extension(Form form) { return spec_of(form).extension; }
int form_bits(Form form) { return spec_of(form).bits; }
bool form_has_alpha(Form form) { return form == Form::rdd36_alpha || form == Form::ffv1_alpha || form == Form::exr_half_alpha; }
bool form_is_float(Form form) { return spec_of(form).codec == AV_CODEC_ID_EXR; }
const char* form_id(Form form) { return spec_of(form).id; }
const char* form_pixels(Form form) { return av_get_pix_fmt_name(spec_of(form).pixels); }
const char* form_codec(Form form) { return spec_of(form).standard; }

std::optional<Form> form_named(std::string_view id) {
  for (int f = 0; f <= static_cast<int>(Form::exr_half_alpha); ++f)
    if (form_id(static_cast<Form>(f)) == id) return static_cast<Form>(f);
  return std::nullopt;
}

std::uint64_t form_frame_bytes(Form form, int width, int height) {
  const auto of = [&](double bytes_a_pixel) {
    return static_cast<std::uint64_t>(std::llround(bytes_a_pixel * width * height));
  };
  const auto vc3 = [&](int scale) { return static_cast<std::uint64_t>(vc3_frame_bytes(width, height, scale)); };
  switch (form) {
    case Form::vc3_lb: return vc3(kVc3Lb);
    case Form::vc3_sq: return vc3(kVc3Sq);
    case Form::vc3_hq:
    case Form::vc3_hqx: return vc3(kVc3Hqx);
    case Form::vc3_444: return vc3(kVc3444);
    case Form::v210: return static_cast<std::uint64_t>(v210_frame_bytes(width, height));
    case Form::h264_long_gop: return of(0.05);
    case Form::h265_long_gop: return of(0.04);
    case Form::h264_intra: return of(0.25);
    case Form::motion_jpeg: return of(0.35);
    case Form::vc5: return of(0.6);
    case Form::rdd36: return of(0.5);
    case Form::rdd36_alpha: return of(0.9);
    case Form::ffv1: return of(1.7);
    case Form::ffv1_444: return of(2.5);
    case Form::ffv1_alpha: return of(2.7);
    case Form::exr_half: return of(6);
    case Form::exr_half_alpha: return of(6.4);
  }
  return 0;
}

int form_group(Form form) {
  return form == Form::h264_long_gop ? 12 : form == Form::h265_long_gop ? 24 : 1;
}

bool form_is_constant(Form form) {
  return form == Form::v210 || spec_of(form).codec == AV_CODEC_ID_DNXHD;
}

bool form_takes(Form form, int width, int height) {
  const FormSpec& spec = spec_of(form);
  if (spec.codec == AV_CODEC_ID_DNXHD && (width < 256 || height < 120)) return false;
  if (form == Form::vc5) return width % 16 == 0 && height % 8 == 0;  // libav's encoder spoils the edges of others
  const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(spec.pixels);
  if ((spec.codec == AV_CODEC_ID_FFV1 || form_is_float(form)) && d->log2_chroma_w == 0) return true;
  return width % 2 == 0 && height % 2 == 0;
}

Form form_that_keeps(Form preferred, bool alpha, int width, int height) {
  if (form_is_float(preferred)) return form_of_light(alpha);
  if (alpha && !form_has_alpha(preferred)) preferred = Form::rdd36_alpha;
  if (form_takes(preferred, width, height)) return preferred;
  return alpha ? Form::ffv1_alpha : Form::ffv1_444;
}

Result<void> container_takes(const std::string& file, Form form) {
  const AVCodecID codec = spec_of(form).codec;
  const auto takes = [&](const char* name) {
    const AVOutputFormat* container = av_guess_format(nullptr, name, nullptr);
    return container && avformat_query_codec(container, codec, FF_COMPLIANCE_NORMAL) == 1;
  };
  if (takes(file.c_str())) return {};
  std::string endings;
  for (const char* ending : {".mov", ".mkv", ".mp4"})
    if (takes((std::string("a") + ending).c_str())) endings += (endings.empty() ? "" : " or ") + std::string(ending);
  return usage(fmt::format("a file named '{}' cannot hold {}", std::filesystem::path(file).filename().string(), form_codec(form)),
               fmt::format("Give it the ending {}.", endings));
}

const std::vector<Form>& cached_forms() {
  static const std::vector<Form> all{Form::vc3_lb,  Form::vc3_sq,      Form::vc3_hq,      Form::vc3_hqx,
                                     Form::vc3_444, Form::v210,        Form::vc5,         Form::ffv1,
                                     Form::rdd36,   Form::rdd36_alpha, Form::motion_jpeg, Form::h264_intra,
                                     Form::exr_half, Form::exr_half_alpha};
  return all;
}

std::int64_t v210_frame_bytes(int width, int height) {
  return static_cast<std::int64_t>((width + 47) / 48) * 128 * height;
}

std::int64_t vc3_frame_bytes(int width, int height, int scale_numerator) {
  const std::int64_t macroblocks = static_cast<std::int64_t>((width + 15) / 16) * ((height + 15) / 16);
  const double bytes = static_cast<double>(scale_numerator) / 255.0 * static_cast<double>(macroblocks);
  return std::max<std::int64_t>(8192, std::llround(bytes / 4096.0) * 4096);
}

namespace {

/// The matrix that reading takes for this picture, stated or not, so that a copy of another size means the same.
AVColorSpace matrix_of(const AVFrame& f) {
  const AVPixFmtDescriptor* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  if (f.colorspace == AVCOL_SPC_RGB || (d && d->flags & AV_PIX_FMT_FLAG_RGB)) return AVCOL_SPC_BT709;
  if (f.colorspace != AVCOL_SPC_UNSPECIFIED) return f.colorspace;
  return f.width < 1280 && f.height <= 576 ? AVCOL_SPC_SMPTE170M : AVCOL_SPC_BT709;
}

}  // namespace

bool has_bt709_matrix(const AVFrame& picture) { return matrix_of(picture) == AVCOL_SPC_BT709; }

struct MovieWriter::Impl {
  std::string path;
  ThrottledIo slow;
  AVFormatContext* format = nullptr;
  AVCodecContext* codec = nullptr;
  AVStream* stream = nullptr;
  AVFrame* frame = nullptr;
  AVPacket* packet = nullptr;
  SwsContext* scaler = nullptr;
  std::int64_t next = 0;
  bool header = false;

  ~Impl() {
    sws_freeContext(scaler);
    av_packet_free(&packet);
    av_frame_free(&frame);
    avcodec_free_context(&codec);
    if (format) {
      if (format->pb && !slow) avio_closep(&format->pb);
      avformat_free_context(format);
    }
  }

  int copy_size = 1;
  ColourCodes colours;

  Result<void> start(Form form, int width, int height, Rate rate, const AVFrame* like = nullptr) {
    av_log_set_level(AV_LOG_QUIET);
    const FormSpec& spec = spec_of(form);
    const std::string_view end = spec.extension;
    int r = avformat_alloc_output_context2(&format, nullptr,
                                           end == ".mp4"   ? "mp4"
                                           : end == ".mkv" ? "matroska"
                                                           : "mov",
                                           path.c_str());
    if (r < 0) return cannot_write(path, r);
    const bool h264 = spec.codec == AV_CODEC_ID_H264;
    const AVCodecID id = spec.codec;
    const AVCodec* encoder = avcodec_find_encoder(id);
    if (!encoder)
      return environment(std::string(form_name(form)) + " cannot be encoded here", path,
                         "Install the full libavcodec of the distribution.");
    codec = avcodec_alloc_context3(encoder);
    codec->width = width, codec->height = height;
    codec->time_base = {static_cast<int>(rate.den), static_cast<int>(rate.num)};
    codec->framerate = {static_cast<int>(rate.num), static_cast<int>(rate.den)};
    codec->color_range = AVCOL_RANGE_MPEG;
    codec->colorspace = AVCOL_SPC_BT709;
    codec->color_primaries = static_cast<AVColorPrimaries>(colours.primaries);
    codec->color_trc = static_cast<AVColorTransferCharacteristic>(colours.transfer);
    if (like) {
      codec->colorspace = matrix_of(*like);
      codec->color_primaries = like->color_primaries, codec->color_trc = like->color_trc;
      codec->sample_aspect_ratio = like->sample_aspect_ratio;
    }
    codec->thread_count = 1;  // the same bytes from the same pictures on every machine
    if (form == Form::vc3_hqx) {
      // Rendered media wait for the encoder more than for anything else; its slices are independent.
      codec->thread_count = 2;
      codec->thread_type = FF_THREAD_SLICE;
    }
    codec->pix_fmt = spec.pixels;
    if (h264) {
      codec->gop_size = form_group(form);
      codec->max_b_frames = form == Form::h264_intra ? 0 : 2;
      av_opt_set(codec->priv_data, "preset", "superfast", 0);
      av_opt_set(codec->priv_data, "crf", form == Form::h264_intra ? "20" : "24", 0);
    } else if (form == Form::h265_long_gop) {
      codec->gop_size = form_group(form), codec->max_b_frames = 2;
      av_opt_set(codec->priv_data, "preset", "superfast", 0);
      av_opt_set(codec->priv_data, "crf", "24", 0);
      av_opt_set(codec->priv_data, "x265-params", "log-level=none:pools=1", 0);
      codec->codec_tag = MKTAG('h', 'v', 'c', '1');
    } else if (form == Form::motion_jpeg) {
      codec->color_range = AVCOL_RANGE_JPEG;
      codec->flags |= AV_CODEC_FLAG_QSCALE;
      codec->global_quality = FF_QP2LAMBDA * 3;
    } else if (spec.codec == AV_CODEC_ID_FFV1) {
      codec->gop_size = 1;
      codec->slices = 4;
      codec->level = 3;
    } else if (spec.codec == AV_CODEC_ID_EXR) {
      av_opt_set(codec->priv_data, "format", "half", 0);
      av_opt_set(codec->priv_data, "compression", "rle", 0);  // read in half of the time of the smaller ones
    }
    if (spec.level >= 0) codec->profile = spec.level;
    if (spec.profile) av_opt_set(codec->priv_data, "profile", spec.profile, 0);
    if (format->oformat->flags & AVFMT_GLOBALHEADER) codec->flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
    if ((r = avcodec_open2(codec, encoder, nullptr)) < 0)
      return bad_input(std::string("the raster cannot be encoded as ") + form_name(form) + ": " + av_text(r),
                       path, "Choose another codec or raster.");
    stream = avformat_new_stream(format, nullptr);
    stream->time_base = codec->time_base;
    stream->avg_frame_rate = codec->framerate;
    avcodec_parameters_from_context(stream->codecpar, codec);
    if (like) {
      stream->sample_aspect_ratio = like->sample_aspect_ratio;
      const AVFrameSideData* turned = av_frame_get_side_data(like, AV_FRAME_DATA_DISPLAYMATRIX);
      constexpr std::size_t kMatrix = 9 * sizeof(std::int32_t);
      if (turned && turned->size >= kMatrix)
        if (std::uint8_t* data = av_stream_new_side_data(stream, AV_PKT_DATA_DISPLAYMATRIX, kMatrix))
          std::memcpy(data, turned->data, kMatrix);
    }
    if (copy_size > 1) av_dict_set(&format->metadata, "comment", copy_mark(copy_size).c_str(), 0);
    format->flags |= AVFMT_FLAG_BITEXACT;  // no date in the file
    if ((slow = throttled_io(path, true))) format->pb = slow.get(), format->flags |= AVFMT_FLAG_CUSTOM_IO;
    else if ((r = avio_open(&format->pb, path.c_str(), AVIO_FLAG_WRITE)) < 0) return cannot_write(path, r);
    if ((r = avformat_write_header(format, nullptr)) < 0) return cannot_write(path, r);
    header = true;
    frame = av_frame_alloc();
    frame->format = codec->pix_fmt, frame->width = width, frame->height = height;
    frame->color_range = codec->color_range, frame->colorspace = codec->colorspace;
    frame->color_primaries = codec->color_primaries, frame->color_trc = codec->color_trc;
    packet = av_packet_alloc();
    if (av_frame_get_buffer(frame, 64) < 0)
      return environment("there is no memory to encode", path, "Close other programs.");
    return {};
  }

  /// As libswscale counts matrices.
  static int sws_matrix(AVColorSpace c) {
    switch (c) {
      case AVCOL_SPC_BT470BG:
      case AVCOL_SPC_SMPTE170M: return SWS_CS_ITU601;
      case AVCOL_SPC_SMPTE240M: return SWS_CS_SMPTE240M;
      case AVCOL_SPC_BT2020_NCL:
      case AVCOL_SPC_BT2020_CL: return SWS_CS_BT2020;
      default: return SWS_CS_ITU709;
    }
  }
  /// The picture in this file's layout and size, in `frame`.
  Result<void> bring(const AVFrame& picture) {
    scaler = sws_getCachedContext(scaler, picture.width, picture.height, static_cast<AVPixelFormat>(picture.format), frame->width,
                                  frame->height, static_cast<AVPixelFormat>(frame->format),
                                  SWS_BICUBIC | SWS_ACCURATE_RND | SWS_FULL_CHR_H_INP, nullptr, nullptr, nullptr);
    if (!scaler)
      return bad_input("a picture of this layout cannot be copied", path, "Choose another form, or pre-render instead.");
    const int* matrix = sws_getCoefficients(sws_matrix(codec->colorspace));
    const bool full = picture.color_range == AVCOL_RANGE_JPEG;
    sws_setColorspaceDetails(scaler, matrix, full, matrix, codec->color_range == AVCOL_RANGE_JPEG, 0, 1 << 16, 1 << 16);
    if (sws_scale(scaler, picture.data, picture.linesize, 0, picture.height, frame->data, frame->linesize) != frame->height)
      return environment("a picture could not be copied", path, "Try again.");
    return {};
  }

  Result<void> encode() {
    frame->pts = next++;
    frame->quality = codec->global_quality;
    if (const int r = avcodec_send_frame(codec, frame); r < 0) return cannot_write(path, r);
    return drain();
  }

  Result<void> drain() {
    for (;;) {
      int r = avcodec_receive_packet(codec, packet);
      if (r == AVERROR(EAGAIN) || r == AVERROR_EOF) return {};
      if (r < 0) return cannot_write(path, r);
      packet->duration = 1;
      av_packet_rescale_ts(packet, codec->time_base, stream->time_base);
      packet->stream_index = stream->index;
      r = av_interleaved_write_frame(format, packet);
      if (r >= 0 && format->pb && format->pb->error < 0) r = format->pb->error;
      if (r < 0) return cannot_write(path, r);
    }
  }
};

Result<std::unique_ptr<MovieWriter>> MovieWriter::create_like(const AVFrame& picture, const std::string& path, Form form,
                                                              int width, int height, Rate rate, int copy_size) {
  auto impl = std::make_unique<Impl>();
  impl->path = path;
  impl->copy_size = copy_size;
  if (auto r = impl->start(form, width, height, rate, &picture); !r) return std::unexpected(r.error());
  return std::unique_ptr<MovieWriter>(new MovieWriter(std::move(impl)));
}

MovieWriter::MovieWriter(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
MovieWriter::~MovieWriter() = default;

Result<std::unique_ptr<MovieWriter>> MovieWriter::create(const std::string& path, Form form, int width,
                                                         int height, Rate rate, const ColourCodes& colours) {
  auto impl = std::make_unique<Impl>();
  impl->path = path, impl->colours = colours;
  if (auto r = impl->start(form, width, height, rate); !r) return std::unexpected(r.error());
  return std::unique_ptr<MovieWriter>(new MovieWriter(std::move(impl)));
}

Result<void> MovieWriter::write(const Image& image) {
  Impl& s = *impl_;
  if (const int r = av_frame_make_writable(s.frame); r < 0) return cannot_write(s.path, r);
  if (auto r = from_image(image, *s.frame); !r) return r;
  return s.encode();
}

Result<void> MovieWriter::write(const AVFrame& picture) {
  Impl& s = *impl_;
  if (s.codec->codec_id == AV_CODEC_ID_EXR) {  // libswscale would go through whole numbers
    Placement whole;
    whole.shape = Placement::Shape::stretch;
    const auto image = to_image(picture, s.frame->width, s.frame->height, whole);
    return image ? write(*image) : std::unexpected(image.error());
  }
  if (const int r = av_frame_make_writable(s.frame); r < 0) return cannot_write(s.path, r);
  if (auto r = s.bring(picture); !r) return r;
  return s.encode();
}

Result<void> MovieWriter::finish() {
  Impl& s = *impl_;
  if (const int r = avcodec_send_frame(s.codec, nullptr); r < 0) return cannot_write(s.path, r);
  if (auto r = s.drain(); !r) return r;
  if (const int r = av_write_trailer(s.format); r < 0) return cannot_write(s.path, r);
  avio_flush(s.format->pb);
  const int failed = s.format->pb->error;
  if (s.slow) s.format->pb = nullptr, s.slow.reset();
  else avio_closep(&s.format->pb);
  if (failed < 0) return cannot_write(s.path, failed);
  return {};
}

Result<void> write_wav(const std::string& path, const std::vector<std::int16_t>& samples) {
  AVFormatContext* format = nullptr;
  int r = avformat_alloc_output_context2(&format, nullptr, "wav", path.c_str());
  if (r < 0) return cannot_write(path, r);
  format->flags |= AVFMT_FLAG_BITEXACT;
  AVStream* stream = avformat_new_stream(format, nullptr);
  stream->codecpar->codec_type = AVMEDIA_TYPE_AUDIO;
  stream->codecpar->codec_id = AV_CODEC_ID_PCM_S16LE;
  stream->codecpar->format = AV_SAMPLE_FMT_S16;
  stream->codecpar->sample_rate = 48000;
  stream->codecpar->bits_per_coded_sample = 16;
  av_channel_layout_default(&stream->codecpar->ch_layout, 1);
  stream->time_base = {1, 48000};
  AVPacket* packet = av_packet_alloc();
  r = avio_open(&format->pb, path.c_str(), AVIO_FLAG_WRITE);
  if (r >= 0) r = avformat_write_header(format, nullptr);
  if (r >= 0) r = av_new_packet(packet, static_cast<int>(samples.size() * 2));
  if (r >= 0) {
    std::memcpy(packet->data, samples.data(), samples.size() * 2);
    packet->pts = packet->dts = 0;
    packet->duration = static_cast<std::int64_t>(samples.size());
    r = av_write_frame(format, packet);
  }
  if (r >= 0) r = av_write_trailer(format);
  av_packet_free(&packet);
  if (format->pb) avio_closep(&format->pb);
  avformat_free_context(format);
  if (r < 0) return cannot_write(path, r);
  return {};
}

}  // namespace gc
