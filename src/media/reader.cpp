// Reading: the picture that is shown at a frame, by its time, however the file orders its packets.
#include "media/reader.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "media/av_text.h"
#include "media/identity.h"
#include "media/reader_impl.h"

namespace gc {

bool MediaInfo::has(Frames n) const {
  if (still) return true;
  if (n < 0 || (frames > 0 && n >= frames)) return false;
  return std::none_of(holes.begin(), holes.end(), [n](const FrameRange& h) { return n >= h.in && n < h.out; });
}

Result<void> FrameReader::Impl::seek(Frames n, Frames further, ReadTimes& t) {
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
  counted_so_far = 0, last_shown = kUnknownTime;
  t.cold = true;
  t.read_ms += watch.ms();
  return {};
}

bool FrameReader::Impl::near_ahead(Frames n) const {
  if (!held || !begun(held->pts, n)) return false;
  const Frames from = number_of(held->pts);
  if (counted || from_first || n - from <= 1) return true;
  if (info.intra) return n - from < 4;
  if (avformat_index_get_entries_count(stream) == 0) return n - from < 250;
  const int here = av_index_search_timestamp(stream, pts_of(from), AVSEEK_FLAG_BACKWARD);
  const int there = av_index_search_timestamp(stream, pts_of(n), AVSEEK_FLAG_BACKWARD);
  return here == there || n - from < 8;
}

Result<FrameReader::Impl::Picture> FrameReader::Impl::decode_one(ReadTimes& t, Frames wanted) {
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
    const bool before = info.intra && info.constant && !counted && opened && packet->pts != kUnknownTime &&
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

void FrameReader::Impl::account(ReadTimes& t) {
  if (decoder.threads.empty()) return;
  t.threads = static_cast<int>(decoder.threads.size());
  const double ms = decoder.work_ms();
  t.work_ms += ms - accounted_ms, accounted_ms = ms;
}

FrameReader::Impl::Picture FrameReader::Impl::shown(std::shared_ptr<AVFrame> frame) {
  Picture p;
  p.pts = frame->best_effort_timestamp;
  const Frames n = counted_so_far++;
  if (counted) p.pts = pts_of(n);
  // A picture without a time of its own follows the one before it; libav's guess is for when there is none.
  else if (frame->pts == kUnknownTime && last_shown != kUnknownTime && !info.intra)
    p.pts = last_shown + av_rescale_q(1, frame_time(), stream->time_base);
  last_shown = p.pts;
  coding->dress(*frame);
  p.frame = std::move(frame);
  return p;
}

Result<void> FrameReader::Impl::reach(Frames n, ReadTimes& t) {
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

Result<CodedPtr> FrameReader::Impl::take_alone(Frames n, ReadTimes& t, const Hash128& expected) {
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
    const Frames at = packet->pts == kUnknownTime ? n + 1 : number_of(packet->pts);
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

Result<CodedPtr> FrameReader::Impl::take(Frames n, ReadTimes& t, const Hash128& expected) {
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

void FrameReader::Impl::keep_on_the_way(Frames n) {
  const Frames at = number_of(held->pts);
  if (at > n - kept_backwards(info) && at <= n) on_the_way.emplace_back(at, held->frame);
}

Result<FramePtr> FrameReader::Impl::read(Frames n, ReadTimes& t) {
  // Whoever steps back a little will step back again, said beforehand or not.
  constexpr Frames kStep = 8;
  const Frames before = std::exchange(asked, n);
  for (const auto& [at, frame] : on_the_way)
    if (at == n) return frame;
  const bool back = backwards || (n < before && before - n <= kStep);
  const bool keeps = back && kept_backwards(info) > 1 && (on_the_way.empty() || n < on_the_way.front().first);
  if (keeps || !back) on_the_way.clear();
  if (!near_ahead(n))
    if (auto r = reach(n, t); !r) return std::unexpected(r.error());
  for (;;) {
    if (keeps) keep_on_the_way(n);
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
void FrameReader::backwards(bool is) { impl_->backwards = is; }
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
  return picture * (kReferences + impl_->decoder.threads.size() + impl_->recent.size() + impl_->on_the_way.size());
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

Frames kept_backwards(const MediaInfo& info) {
  // Where a picture may last for several frames, those on the way are not told by their numbers.
  if (info.intra || info.still || !info.constant) return 1;
  constexpr double kMemory = 192e6;
  const double picture = static_cast<double>(info.width) * info.height * (info.bits > 8 ? 4 : 2);
  return std::clamp(static_cast<Frames>(kMemory / std::max(1.0, picture)), Frames{4}, Frames{32});
}

Frames frames_before(const MediaInfo& info, Frames n) {
  const auto after = std::upper_bound(info.keys.begin(), info.keys.end(), n);
  return after == info.keys.begin() ? 0 : std::max<Frames>(0, n - *(after - 1));
}

}  // namespace gc
