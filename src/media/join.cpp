#include "media/join.h"

#include <fmt/format.h>

#include <memory>

#include "media/av.h"
#include "media/av_text.h"
#include "media/sound.h"

namespace gc {
namespace {

struct OutputEnd {
  void operator()(AVFormatContext* f) const {
    if (f->pb) avio_closep(&f->pb);
    avformat_free_context(f);
  }
};

Result<av::Format> open_part(const std::string& path) {
  AVFormatContext* raw = nullptr;
  int r = avformat_open_input(&raw, path.c_str(), nullptr, nullptr);
  if (r < 0) return bad_input("a piece cannot be read: " + av_text(r), path, "Start the delivery again; the piece is made anew.");
  av::Format input(raw);
  if ((r = avformat_find_stream_info(raw, nullptr)) < 0 || raw->nb_streams == 0)
    return bad_input("a piece holds no picture", path, "Start the delivery again; the piece is made anew.");
  return input;
}

class Joiner {
 public:
  Joiner(const std::string& to, const JoinOptions& options) : to_(to), options_(options) {}

  Result<void> begin(const AVFormatContext& like) {
    AVFormatContext* raw = nullptr;
    int r = avformat_alloc_output_context2(&raw, nullptr, nullptr, to_.c_str());
    if (r < 0 || !raw) return usage(fmt::format("'{}' has no ending that names a container", to_), "Give it .mov, .mkv or .mp4.");
    out_.reset(raw);
    const AVStream* from = like.streams[0];
    if (avformat_query_codec(raw->oformat, from->codecpar->codec_id, FF_COMPLIANCE_NORMAL) != 1)
      return usage(fmt::format("{} does not take {}", raw->oformat->name, avcodec_get_name(from->codecpar->codec_id)), "Give the file another ending.");
    video_ = avformat_new_stream(raw, nullptr);
    avcodec_parameters_copy(video_->codecpar, from->codecpar);
    // Codes for codecs are the container's own.
    if (!like.iformat || !raw->oformat || std::string_view(like.iformat->name).find(raw->oformat->name) == std::string_view::npos) video_->codecpar->codec_tag = 0;
    video_->codecpar->color_primaries = static_cast<AVColorPrimaries>(options_.primaries);
    video_->codecpar->color_trc = static_cast<AVColorTransferCharacteristic>(options_.transfer);
    video_->time_base = {static_cast<int>(options_.rate.den), static_cast<int>(options_.rate.num)};
    video_->avg_frame_rate = video_->r_frame_rate = {static_cast<int>(options_.rate.num), static_cast<int>(options_.rate.den)};
    video_->sample_aspect_ratio = from->codecpar->sample_aspect_ratio;
    if (!options_.timecode.empty()) av_dict_set(&video_->metadata, "timecode", options_.timecode.c_str(), 0);
    if (!options_.title.empty()) av_dict_set(&raw->metadata, "title", options_.title.c_str(), 0);
    if (!options_.sound.empty()) {
      auto sound = SoundWriter::add_to(raw);
      if (!sound) return std::unexpected(sound.error());
      sound_ = std::move(*sound);
    }
    raw->flags |= AVFMT_FLAG_BITEXACT;  // no date in the file
    if ((r = avio_open(&raw->pb, to_.c_str(), AVIO_FLAG_WRITE)) < 0 || (r = avformat_write_header(raw, nullptr)) < 0) return cannot(r);
    return {};
  }

  Result<void> write(AVPacket* packet, AVRational base) {
    if (sound_)
      if (auto r = sound_->write_until(options_.sound, static_cast<double>(frames_ + 12) / options_.rate.fps()); !r) return r;
    packet->stream_index = video_->index, packet->pos = -1;
    av_packet_rescale_ts(packet, base, video_->time_base);
    if (const int r = av_interleaved_write_frame(out_.get(), packet); r < 0) return cannot(r);
    ++frames_;
    return {};
  }

  Result<void> finish() {
    if (sound_)
      if (auto r = sound_->finish(options_.sound); !r) return r;
    if (const int r = av_write_trailer(out_.get()); r < 0) return cannot(r);
    avio_flush(out_->pb);
    if (out_->pb->error < 0) return cannot(out_->pb->error);
    return {};
  }
  Frames frames() const { return frames_; }

 private:
  std::unexpected<Error> cannot(int code) const {
    return environment("cannot be written: " + av_text(code), to_,
                       code == AVERROR(ENOSPC) ? "Free some space on the volume and start again; what is rendered is kept."
                                               : "Check that the volume is mounted and writable.");
  }
  std::string to_;
  const JoinOptions& options_;
  std::unique_ptr<AVFormatContext, OutputEnd> out_;
  std::unique_ptr<SoundWriter> sound_;  ///< gone before the container
  AVStream* video_ = nullptr;
  Frames frames_ = 0;
};

}  // namespace

Result<Joined> join_movies(const std::vector<JoinPart>& parts, const std::string& to, const JoinOptions& options,
                           const std::function<bool(Frames)>& progress) {
  av_log_set_level(AV_LOG_QUIET);
  Joiner joiner(to, options);
  const av::Packet packet(av_packet_alloc());
  const AVRational frame{static_cast<int>(options.rate.den), static_cast<int>(options.rate.num)};
  Joined joined;
  for (std::size_t p = 0; p < parts.size(); ++p) {
    const JoinPart& part = parts[p];
    auto input = open_part(part.file);
    if (!input) return std::unexpected(input.error());
    if (p == 0)
      if (auto r = joiner.begin(**input); !r) return std::unexpected(r.error());
    const AVStream* stream = (*input)->streams[0];
    const Frames base = joined.frames;
    Frames seen = 0;
    const std::int64_t start = stream->start_time == AV_NOPTS_VALUE ? 0 : stream->start_time;
    while (seen < part.first + part.count && av_read_frame(input->get(), packet.get()) >= 0) {
      if (packet->stream_index != 0) {
        av_packet_unref(packet.get());
        continue;
      }
      const Frames n = seen++ - part.first;
      if (n < 0) {
        av_packet_unref(packet.get());
        continue;
      }
      if (static_cast<std::size_t>(n) < part.sums.size() && part.sums[static_cast<std::size_t>(n)] != Hash128{} &&
          hash_bytes(packet->data, static_cast<std::size_t>(packet->size)) != part.sums[static_cast<std::size_t>(n)]) {
        joined.broken_part = static_cast<int>(p);
        return joined;
      }
      // Counted in frames: exact whatever the pieces' own clocks are.
      const auto frames_of = [&](std::int64_t t) { return t == AV_NOPTS_VALUE ? n : av_rescale_q_rnd(t - start, stream->time_base, frame, AV_ROUND_NEAR_INF); };
      packet->pts = base + frames_of(packet->pts) - part.first, packet->dts = base + frames_of(packet->dts) - part.first, packet->duration = 1;
      if (auto r = joiner.write(packet.get(), frame); !r) return std::unexpected(r.error());
      ++joined.frames;
      if (progress && !progress(joined.frames)) return environment("stopped", to, "What is rendered is kept; start the delivery again to go on.");
    }
    if (joined.frames - base != part.count) {
      joined.broken_part = static_cast<int>(p);
      return joined;
    }
  }
  if (joined.frames == 0) return bad_input("there are no frames to deliver", to, "Give a range that holds some.");
  if (auto r = joiner.finish(); !r) return std::unexpected(r.error());
  return joined;
}

}  // namespace gc
