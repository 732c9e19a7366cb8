#include "media/sound.h"

extern "C" {
#include <libswresample/swresample.h>
}

#include <algorithm>
#include <cmath>
#include <cstring>

#include "media/av.h"
#include "media/av_text.h"

namespace gc {
namespace {

using av::Codec, av::Format, av::Frame, av::Packet;
using Resampler = std::unique_ptr<SwrContext, av::Freed<swr_free>>;

/// A file's first sound stream, ready to be decoded; `codec` is null when there is none.
struct OpenSound {
  Format format;
  Codec codec;
  int stream = -1;
};

Result<OpenSound> open_sound(const std::string& path) {
  av_log_set_level(AV_LOG_QUIET);
  OpenSound open;
  AVFormatContext* raw = nullptr;
  if (const int r = avformat_open_input(&raw, path.c_str(), nullptr, nullptr); r < 0)
    return bad_input("its sound cannot be read: " + av_text(r), path, "Bring the file back, or mute the segment.");
  open.format.reset(raw);
  avformat_find_stream_info(raw, nullptr);
  const AVCodec* decoder = nullptr;
  open.stream = av_find_best_stream(raw, AVMEDIA_TYPE_AUDIO, -1, -1, &decoder, 0);
  if (open.stream < 0 || !decoder) return open;
  open.codec.reset(avcodec_alloc_context3(decoder));
  avcodec_parameters_to_context(open.codec.get(), raw->streams[open.stream]->codecpar);
  if (const int r = avcodec_open2(open.codec.get(), decoder, nullptr); r < 0)
    return bad_input("its sound cannot be decoded: " + av_text(r), path, "Convert it to PCM, or mute the segment.");
  return open;
}

/// Calls `take` for each decoded frame until it says no, and at the end with null.
template <class Take>
void decode_all(OpenSound& open, Take take) {
  const Packet packet(av_packet_alloc());
  const Frame frame(av_frame_alloc());
  bool more = true;
  const auto drain = [&] {
    while (more && avcodec_receive_frame(open.codec.get(), frame.get()) >= 0) more = take(frame.get());
  };
  while (more && av_read_frame(open.format.get(), packet.get()) >= 0) {
    if (packet->stream_index == open.stream && avcodec_send_packet(open.codec.get(), packet.get()) >= 0) drain();
    av_packet_unref(packet.get());
  }
  if (!more) return;
  avcodec_send_packet(open.codec.get(), nullptr), drain();
  if (more) take(nullptr);
}

}  // namespace

Result<double> sound_length(const std::string& path) {
  auto open = open_sound(path);
  if (!open) return std::unexpected(open.error());
  if (!open->codec) return 0.0;
  double seconds = 0;
  decode_all(*open, [&](const AVFrame* f) {
    if (f && f->sample_rate > 0) seconds += static_cast<double>(f->nb_samples) / f->sample_rate;
    return true;
  });
  return seconds;
}

Result<std::vector<float>> read_sound(const std::string& path, double seconds_in, double seconds) {
  auto open = open_sound(path);
  if (!open) return std::unexpected(open.error());
  if (!open->codec) return std::vector<float>{};
  const auto& [format, codec, n] = *open;
  const AVStream* stream = format->streams[n];
  AVChannelLayout stereo = AV_CHANNEL_LAYOUT_STEREO, from{};
  if (codec->ch_layout.nb_channels > 0 && codec->ch_layout.order != AV_CHANNEL_ORDER_UNSPEC) av_channel_layout_copy(&from, &codec->ch_layout);
  else av_channel_layout_default(&from, std::max(1, codec->ch_layout.nb_channels));
  SwrContext* made = nullptr;
  swr_alloc_set_opts2(&made, &stereo, AV_SAMPLE_FMT_FLT, kSoundRate, &from, codec->sample_fmt, codec->sample_rate, 0, nullptr);
  const Resampler resampler(made);
  if (const int r = swr_init(resampler.get()); r < 0) return bad_input("its sound cannot be brought to stereo: " + av_text(r), path, "Mute the segment.");

  std::vector<float> out(static_cast<std::size_t>(std::llround(seconds * kSoundRate)) * kSoundChannels, 0.0f);
  const double start = stream->start_time == AV_NOPTS_VALUE ? 0 : static_cast<double>(stream->start_time) * av_q2d(stream->time_base);
  // Some codecs need what is before a place to decode it rightly.
  const double early = std::max(0.0, seconds_in - 0.5);
  if (early > 0) av_seek_frame(format.get(), n, static_cast<std::int64_t>((early + start) / av_q2d(stream->time_base)), AVSEEK_FLAG_BACKWARD);
  std::int64_t next = 0;  ///< sample of `out` at which what is decoded next lies
  bool placed = false;
  std::vector<float> some;
  decode_all(*open, [&](const AVFrame* f) {
    if (f && (!placed || f->pts != AV_NOPTS_VALUE)) {
      const double at = f->pts == AV_NOPTS_VALUE ? seconds_in : static_cast<double>(f->pts) * av_q2d(stream->time_base) - start;
      const auto sample = static_cast<std::int64_t>(std::llround((at - seconds_in) * kSoundRate)) - swr_get_delay(resampler.get(), kSoundRate);
      // Times are rounded in some containers; what is nearly in place is.
      if (!placed || std::abs(sample - next) > kSoundRate / 50) next = sample;
      placed = true;
    }
    const int room = static_cast<int>(swr_get_out_samples(resampler.get(), f ? f->nb_samples : 0)) + 16;
    some.resize(static_cast<std::size_t>(room) * kSoundChannels);
    auto* to = reinterpret_cast<std::uint8_t*>(some.data());
    const int got = swr_convert(resampler.get(), &to, room, f ? const_cast<const std::uint8_t**>(f->extended_data) : nullptr, f ? f->nb_samples : 0);
    for (int i = 0; i < got; ++i, ++next) {
      const std::int64_t at = next * kSoundChannels;
      if (at < 0) continue;
      if (at >= static_cast<std::int64_t>(out.size())) return false;
      out[static_cast<std::size_t>(at)] = some[static_cast<std::size_t>(i) * 2], out[static_cast<std::size_t>(at) + 1] = some[static_cast<std::size_t>(i) * 2 + 1];
    }
    return true;
  });
  return out;
}

struct SoundWriter::Impl {
  AVFormatContext* container = nullptr;
  AVStream* stream = nullptr;
  Codec codec;  ///< null for PCM, which is written as it is
  Packet packet{av_packet_alloc()};
  std::int64_t written = 0;  ///< samples

  std::size_t chunk() const { return codec && codec->frame_size > 0 ? static_cast<std::size_t>(codec->frame_size) : kSoundRate / 10; }

  Result<void> put() {
    packet->stream_index = stream->index;
    const AVRational base{1, kSoundRate};
    av_packet_rescale_ts(packet.get(), base, stream->time_base);
    if (const int r = av_interleaved_write_frame(container, packet.get()); r < 0)
      return environment("sound cannot be written: " + av_text(r), container->url, "Check that the volume has room.");
    return {};
  }
  Result<void> drain() {
    while (avcodec_receive_packet(codec.get(), packet.get()) >= 0)
      if (auto r = put(); !r) return r;
    return {};
  }
  /// The next samples, at most a chunk.
  Result<void> write(const float* samples, std::size_t count) {
    if (codec) {
      const Frame frame(av_frame_alloc());
      frame->nb_samples = static_cast<int>(count), frame->format = codec->sample_fmt, frame->pts = written, frame->sample_rate = kSoundRate;
      av_channel_layout_copy(&frame->ch_layout, &codec->ch_layout);
      av_frame_get_buffer(frame.get(), 0);
      for (std::size_t c = 0; c < kSoundChannels; ++c)
        for (std::size_t i = 0; i < count; ++i) reinterpret_cast<float*>(frame->extended_data[c])[i] = samples[i * kSoundChannels + c];
      written += static_cast<std::int64_t>(count);
      if (avcodec_send_frame(codec.get(), frame.get()) < 0) return {};
      return drain();
    }
    if (av_new_packet(packet.get(), static_cast<int>(count * kSoundChannels * 3)) < 0) return {};
    std::uint8_t* out = packet->data;
    for (std::size_t i = 0; i < count * kSoundChannels; ++i) {
      const auto v = static_cast<std::int32_t>(std::lround(std::clamp(static_cast<double>(samples[i]), -1.0, 1.0) * 8388607.0));
      *out++ = static_cast<std::uint8_t>(v), *out++ = static_cast<std::uint8_t>(v >> 8), *out++ = static_cast<std::uint8_t>(v >> 16);
    }
    packet->pts = packet->dts = written, packet->duration = static_cast<std::int64_t>(count);
    packet->flags |= AV_PKT_FLAG_KEY;
    written += static_cast<std::int64_t>(count);
    return put();
  }
};

SoundWriter::SoundWriter(std::unique_ptr<Impl> impl) : impl_(std::move(impl)) {}
SoundWriter::~SoundWriter() = default;

Result<std::unique_ptr<SoundWriter>> SoundWriter::add_to(AVFormatContext* container) {
  auto impl = std::make_unique<Impl>();
  impl->container = container;
  impl->stream = avformat_new_stream(container, nullptr);
  AVStream* s = impl->stream;
  s->time_base = {1, kSoundRate};
  AVChannelLayout stereo = AV_CHANNEL_LAYOUT_STEREO;
  if (avformat_query_codec(container->oformat, AV_CODEC_ID_PCM_S24LE, FF_COMPLIANCE_NORMAL) == 1) {
    AVCodecParameters* p = s->codecpar;
    p->codec_type = AVMEDIA_TYPE_AUDIO, p->codec_id = AV_CODEC_ID_PCM_S24LE, p->format = AV_SAMPLE_FMT_S32;
    p->sample_rate = kSoundRate, p->bits_per_coded_sample = p->bits_per_raw_sample = 24, p->block_align = kSoundChannels * 3;
    av_channel_layout_copy(&p->ch_layout, &stereo);
  } else {
    const AVCodec* aac = avcodec_find_encoder(AV_CODEC_ID_AAC);
    if (!aac) return environment("sound cannot be coded as AAC here", container->url, "Deliver to .mov instead.");
    impl->codec.reset(avcodec_alloc_context3(aac));
    AVCodecContext* c = impl->codec.get();
    c->sample_fmt = AV_SAMPLE_FMT_FLTP, c->sample_rate = kSoundRate, c->bit_rate = 256000, c->time_base = {1, kSoundRate};
    av_channel_layout_copy(&c->ch_layout, &stereo);
    if (container->oformat->flags & AVFMT_GLOBALHEADER) c->flags |= AV_CODEC_FLAG_GLOBAL_HEADER;
    if (const int r = avcodec_open2(c, aac, nullptr); r < 0) return environment("sound cannot be coded: " + av_text(r), container->url, "Deliver to .mov instead.");
    avcodec_parameters_from_context(s->codecpar, c);
  }
  return std::unique_ptr<SoundWriter>(new SoundWriter(std::move(impl)));
}

Result<void> SoundWriter::write_until(const std::vector<float>& samples, double seconds) {
  const auto all = static_cast<std::int64_t>(samples.size() / kSoundChannels);
  const auto until = std::min(all, static_cast<std::int64_t>(std::llround(seconds * kSoundRate)));
  const auto chunk = static_cast<std::int64_t>(impl_->chunk());
  while (impl_->written + chunk <= until)
    if (auto r = impl_->write(samples.data() + impl_->written * kSoundChannels, static_cast<std::size_t>(chunk)); !r) return r;
  return {};
}

Result<void> SoundWriter::finish(const std::vector<float>& samples) {
  const auto all = static_cast<std::int64_t>(samples.size() / kSoundChannels);
  if (auto r = write_until(samples, static_cast<double>(all) / kSoundRate); !r) return r;
  if (impl_->written < all)
    if (auto r = impl_->write(samples.data() + impl_->written * kSoundChannels, static_cast<std::size_t>(all - impl_->written)); !r) return r;
  if (!impl_->codec) return {};
  avcodec_send_frame(impl_->codec.get(), nullptr);
  return impl_->drain();
}

}  // namespace gc
