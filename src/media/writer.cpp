#include "media/writer.h"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavformat/avformat.h>
#include <libavutil/opt.h>
}

#include <cmath>
#include <cstring>
#include <map>

#include "media/convert.h"
#include "media/throttled_io.h"

namespace gc {
namespace {

std::string av_text(int code) {
  char buffer[AV_ERROR_MAX_STRING_SIZE] = {};
  av_strerror(code, buffer, sizeof buffer);
  return buffer;
}

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
      {Form::h264_long_gop, {"H.264, long GOP", ".mp4", AV_CODEC_ID_H264, AV_PIX_FMT_YUV420P, 8}},
      {Form::h264_intra, {"H.264, intra", ".mp4", AV_CODEC_ID_H264, AV_PIX_FMT_YUV420P, 8}},
      {Form::vc3_lb, {"VC-3 LB, 8 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P, 8, "dnxhr_lb"}},
      {Form::vc3_sq, {"VC-3 SQ, 8 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P, 8, "dnxhr_sq"}},
      {Form::vc3_hq, {"VC-3 HQ, 8 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P, 8, "dnxhr_hq"}},
      {Form::vc3_hqx, {"VC-3 HQX, 10 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV422P10, 10, "dnxhr_hqx"}},
      {Form::vc3_444, {"VC-3 444, 10 bit", ".mov", AV_CODEC_ID_DNXHD, AV_PIX_FMT_YUV444P10, 10, "dnxhr_444"}},
      {Form::motion_jpeg, {"Motion JPEG, 8 bit", ".mov", AV_CODEC_ID_MJPEG, AV_PIX_FMT_YUVJ422P, 8}},
      {Form::v210, {"v210 uncompressed, 10 bit", ".mov", AV_CODEC_ID_V210, AV_PIX_FMT_YUV422P10, 10}},
      {Form::vc5, {"VC-5, 10 bit", ".mov", AV_CODEC_ID_CFHD, AV_PIX_FMT_YUV422P10, 10}},
      {Form::ffv1, {"FFV1, 10 bit", ".mkv", AV_CODEC_ID_FFV1, AV_PIX_FMT_YUV422P10, 10}},
      {Form::rdd36, {"RDD 36, 10 bit", ".mov", AV_CODEC_ID_PRORES, AV_PIX_FMT_YUV422P10, 10, nullptr, 3}},
      {Form::rdd36_alpha,
       {"RDD 36 with alpha, 10 bit", ".mov", AV_CODEC_ID_PRORES, AV_PIX_FMT_YUVA444P10, 10, nullptr, 4}}};
  return all.at(form);
}

}  // namespace

const char* form_name(Form form) { return spec_of(form).name; }
const char* form_extension(Form form) { return spec_of(form).extension; }
int form_bits(Form form) { return spec_of(form).bits; }
bool form_has_alpha(Form form) { return form == Form::rdd36_alpha; }

const std::vector<Form>& cached_forms() {
  static const std::vector<Form> all{Form::vc3_lb,  Form::vc3_sq,      Form::vc3_hq,      Form::vc3_hqx,
                                     Form::vc3_444, Form::v210,        Form::vc5,         Form::ffv1,
                                     Form::rdd36,   Form::rdd36_alpha, Form::motion_jpeg, Form::h264_intra};
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

struct MovieWriter::Impl {
  std::string path;
  ThrottledIo slow;
  AVFormatContext* format = nullptr;
  AVCodecContext* codec = nullptr;
  AVStream* stream = nullptr;
  AVFrame* frame = nullptr;
  AVPacket* packet = nullptr;
  std::int64_t next = 0;
  bool header = false;

  ~Impl() {
    av_packet_free(&packet);
    av_frame_free(&frame);
    avcodec_free_context(&codec);
    if (format) {
      if (format->pb && !slow) avio_closep(&format->pb);
      avformat_free_context(format);
    }
  }

  Result<void> start(Form form, int width, int height, Rate rate) {
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
    codec->colorspace = AVCOL_SPC_BT709, codec->color_primaries = AVCOL_PRI_BT709,
    codec->color_trc = AVCOL_TRC_BT709;
    codec->thread_count = 1;  // the same bytes from the same pictures on every machine
    if (form == Form::vc3_hqx) {
      // Rendered media wait for the encoder more than for anything else; its slices are independent.
      codec->thread_count = 2;
      codec->thread_type = FF_THREAD_SLICE;
    }
    codec->pix_fmt = spec.pixels;
    if (h264) {
      codec->gop_size = form == Form::h264_intra ? 1 : 12;
      codec->max_b_frames = form == Form::h264_intra ? 0 : 2;
      av_opt_set(codec->priv_data, "preset", "superfast", 0);
      av_opt_set(codec->priv_data, "crf", form == Form::h264_intra ? "20" : "24", 0);
    } else if (form == Form::motion_jpeg) {
      codec->color_range = AVCOL_RANGE_JPEG;
      codec->flags |= AV_CODEC_FLAG_QSCALE;
      codec->global_quality = FF_QP2LAMBDA * 3;
    } else if (form == Form::ffv1) {
      codec->gop_size = 1;
      codec->slices = 4;
      codec->level = 3;
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
    format->flags |= AVFMT_FLAG_BITEXACT;  // no date in the file
    if ((slow = throttled_io(path, true))) format->pb = slow.get(), format->flags |= AVFMT_FLAG_CUSTOM_IO;
    else if ((r = avio_open(&format->pb, path.c_str(), AVIO_FLAG_WRITE)) < 0) return cannot_write(path, r);
    if ((r = avformat_write_header(format, nullptr)) < 0) return cannot_write(path, r);
    header = true;
    frame = av_frame_alloc();
    frame->format = codec->pix_fmt, frame->width = width, frame->height = height;
    frame->color_range = codec->color_range, frame->colorspace = codec->colorspace;
    packet = av_packet_alloc();
    if (av_frame_get_buffer(frame, 64) < 0)
      return environment("there is no memory to encode", path, "Close other programs.");
    return {};
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

MovieWriter::MovieWriter(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
MovieWriter::~MovieWriter() = default;

Result<std::unique_ptr<MovieWriter>> MovieWriter::create(const std::string& path, Form form, int width,
                                                         int height, Rate rate) {
  auto impl = std::make_unique<Impl>();
  impl->path = path;
  if (auto r = impl->start(form, width, height, rate); !r) return std::unexpected(r.error());
  return std::unique_ptr<MovieWriter>(new MovieWriter(std::move(impl)));
}

Result<void> MovieWriter::write(const Image& image) {
  Impl& s = *impl_;
  if (const int r = av_frame_make_writable(s.frame); r < 0) return cannot_write(s.path, r);
  if (auto r = from_image(image, *s.frame); !r) return r;
  s.frame->pts = s.next++;
  s.frame->quality = s.codec->global_quality;
  if (const int r = avcodec_send_frame(s.codec, s.frame); r < 0) return cannot_write(s.path, r);
  return s.drain();
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
