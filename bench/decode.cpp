// Decoding against FFmpeg's own: the same file and as many threads, both in this process, taking turns in one run. Then
// every file is played without effects wherever FFmpeg decodes it 1.2 times as fast as real time.
// gclk_bench_decode [SECONDS OF MEDIA] [NAME]: only files whose name holds NAME.
#include <fmt/format.h>
#include <unistd.h>

#include <iostream>
#include <mutex>
#include <thread>

#include "base/clock.h"
#include "desk/desk.h"
#include "media/decoder.h"
#include "playout/player.h"

using namespace gc;

namespace {

constexpr int kRounds = 5;
constexpr double kRate = 24;

Json results = Json::array();

void row(const std::string& name, double value, const char* unit, double goal, bool least, const std::string& beside) {
  const bool met = least ? value >= goal : value <= goal;
  results.push_back({{"name", name}, {"value", value}, {"unit", unit}, {"goal", goal}, {"met", met}});
  fmt::print("  {:<24} {:>7.2f} {:<3} goal {} {:<5.2f} {:<7} {}\n", name, value, unit, least ? "≥" : "≤", goal,
             met ? "met" : "missed", beside);
  std::cout.flush();
}

double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

struct Coded {
  const char* name;
  const char* how;
};
constexpr Coded kCoded[] = {
    {"h264", "-c:v libx264 -preset veryfast -g 48 -pix_fmt yuv420p"},
    {"h264_intra", "-c:v libx264 -preset veryfast -g 1 -pix_fmt yuv420p"},
    {"h265", "-c:v libx265 -preset ultrafast -x265-params log-level=none:keyint=48 -pix_fmt yuv420p"},
    {"h265_10", "-c:v libx265 -preset ultrafast -x265-params log-level=none:keyint=48 -pix_fmt yuv420p10le"},
    {"h265_intra", "-c:v libx265 -preset ultrafast -x265-params log-level=none:keyint=1 -pix_fmt yuv420p10le"},
    {"vc3", "-c:v dnxhd -profile:v dnxhr_hq -pix_fmt yuv422p"},
    {"rdd36", "-c:v prores_ks -profile:v 3 -pix_fmt yuv422p10le"},
    {"mjpeg", "-c:v mjpeg -q:v 3 -pix_fmt yuvj420p"}};

/// FFmpeg's decoder as any program calls it.
class Theirs {
 public:
  Theirs(const std::string& file, int threads) {
    if (avformat_open_input(&format_, file.c_str(), nullptr, nullptr) < 0) return;
    (void)avformat_find_stream_info(format_, nullptr);
    index_ = av_find_best_stream(format_, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
    const AVCodecParameters* p = format_->streams[index_]->codecpar;
    const AVCodec* codec = avcodec_find_decoder(p->codec_id);
    codec_ = avcodec_alloc_context3(codec);
    avcodec_parameters_to_context(codec_, p);
    codec_->thread_count = threads;
    avcodec_open2(codec_, codec, nullptr);
  }
  ~Theirs() {
    av_frame_free(&frame_), av_packet_free(&packet_), avcodec_free_context(&codec_), avformat_close_input(&format_);
  }
  /// The next picture's time; INT64_MIN at the end.
  std::int64_t next() {
    for (;;) {
      const int r = avcodec_receive_frame(codec_, frame_);
      if (r == 0) return frame_->best_effort_timestamp;
      if (r == AVERROR_EOF) return INT64_MIN;
      if (av_read_frame(format_, packet_) < 0) {
        avcodec_send_packet(codec_, nullptr);
        continue;
      }
      if (packet_->stream_index == index_) avcodec_send_packet(codec_, packet_);
      av_packet_unref(packet_);
    }
  }
  void seek(Frames n) {
    const AVStream& s = *format_->streams[index_];
    const std::int64_t at = (s.start_time == AV_NOPTS_VALUE ? 0 : s.start_time) +
                            av_rescale_q(n, {1, static_cast<int>(kRate)}, s.time_base);
    av_seek_frame(format_, index_, at, AVSEEK_FLAG_BACKWARD);
    avcodec_flush_buffers(codec_);
    for (std::int64_t t = next(); t != INT64_MIN && t < at; t = next()) {
    }
  }

 private:
  AVFormatContext* format_ = nullptr;
  AVCodecContext* codec_ = nullptr;
  AVPacket* packet_ = av_packet_alloc();
  AVFrame* frame_ = av_frame_alloc();
  int index_ = 0;
};

double theirs_ms(const std::string& file, int threads) {
  Theirs t(file, threads);
  const Stopwatch watch;
  int n = 0;
  while (t.next() != INT64_MIN) ++n;
  return watch.ms() / n;
}

/// As the pipeline does it: workers take pictures in turn and decode side by side what stands alone.
double ours_ms(const std::string& file, int workers) {
  auto reader = FrameReader::open(file, workers);
  if (!reader) return 1e9;
  const Frames frames = (*reader)->info().frames;
  std::mutex turn;
  Frames next = 0;
  const Stopwatch watch;
  std::vector<std::thread> all;
  for (int w = 0; w < workers; ++w)
    all.emplace_back([&] {
      for (;;) {
        std::unique_lock lock(turn);
        if (next >= frames) return;
        auto taken = (*reader)->take(next++);
        lock.unlock();
        if (taken) (void)(*taken)->get();
      }
    });
  for (std::thread& t : all) t.join();
  return watch.ms() / static_cast<double>(frames);
}

std::vector<Frames> places(Frames frames) {
  std::vector<Frames> all;
  std::uint32_t state = 11;
  for (int i = 0; i < 12; ++i) {
    state = state * 1664525 + 1013904223;
    all.push_back(static_cast<Frames>(state / 65536) % frames);
  }
  return all;
}

void compare(const std::string& name, const std::string& file, int threads, Frames frames) {
  std::vector<double> ours, theirs, our_seeks, their_seeks;
  const std::vector<Frames> where = places(frames);
  for (int round = 0; round < kRounds; ++round) {
    theirs.push_back(theirs_ms(file, threads));
    ours.push_back(ours_ms(file, threads));
    Theirs t(file, threads);
    t.seek(0);
    const Stopwatch theirs_watch;
    for (const Frames n : where) t.seek(n);
    their_seeks.push_back(theirs_watch.ms() / static_cast<double>(where.size()));
    auto reader = FrameReader::open(file, threads);
    if (!reader || !(*reader)->read(0)) continue;
    const Stopwatch ours_watch;
    for (const Frames n : where) (void)(*reader)->read(n);
    our_seeks.push_back(ours_watch.ms() / static_cast<double>(where.size()));
  }
  row("decode_" + name, median(theirs) / median(ours), "×", 0.95, true,
      fmt::format("{:.1f} ms a frame here, {:.1f} FFmpeg", median(ours), median(theirs)));
  row("seek_" + name, median(our_seeks) / median(their_seeks), "×", 1.1, false,
      fmt::format("{:.1f} ms here, {:.1f} FFmpeg", median(our_seeks), median(their_seeks)));

  const double faster = 1000 / kRate / median(theirs);
  if (faster < 1.2) {
    fmt::print("  play_{:<19} not asked for: FFmpeg decodes {:.2f} times as fast as real time\n", name, faster);
    return;
  }
  MediaCatalog media;
  const auto info = media.info(file);
  auto t = std::make_shared<Timeline>();
  t->width = info->width, t->height = info->height, t->rate = {24, 1};
  auto m = std::make_shared<MediaSource>();
  m->id = "m", m->path = m->url = file, m->length = info->frames;
  t->sources["m"] = m;
  auto track = std::make_shared<Track>();
  for (int i = 0; i < 3; ++i) {
    auto s = std::make_shared<Segment>();
    s->id = fmt::format("s{}", i), s->ref = "m", s->duration = info->frames;
    track->items.push_back(SegmentPtr(s));
  }
  t->tracks.push_back(track);
  const ProgramPtr p = Program::compile(t, media);
  NullDisplay display;
  const std::atomic<bool> stop{false};
  PlayOptions options;
  options.workers = threads;
  std::vector<double> dropped;
  for (int i = 0; i < 3; ++i)
    dropped.push_back(static_cast<double>(play(p, nullptr, {0, p->duration()}, options, display, stop).dropped));
  row("play_" + name, median(dropped), "fr", 0, false,
      fmt::format("of {} dropped without effects; FFmpeg decodes {:.2f} times as fast as real time", p->duration(), faster));
}

}  // namespace

int main(int argc, char** argv) {
  std::string folder = (fs::temp_directory_path() / "gclk-decode-XXXXXX").string();
  if (!::mkdtemp(folder.data())) return 4;
  const double seconds = argc > 1 ? std::atof(argv[1]) : 3;
  const std::string only = argc > 2 ? argv[2] : "";
  const int threads = default_workers();
  fmt::print("Decoding, {} threads, {:g} s of media, medians of {}:\n", threads, seconds, kRounds);
  for (const auto& [width, height] : {std::pair{1280, 720}, {1920, 1080}, {3840, 2160}})
    for (const Coded& c : kCoded) {
      const std::string name = fmt::format("{}_{}", c.name, height);
      if (name.find(only) == std::string::npos) continue;
      const std::string file = folder + "/" + name + ".mov";
      // Noise, so that the pictures are as hard to code as what cameras write.
      const std::string make =
          fmt::format("ffmpeg -v error -y -f lavfi -i testsrc2=s={}x{}:r={:g}:d={:g},noise=alls=8:allf=t {} '{}'", width,
                      height, kRate, height > 2000 ? seconds / 2 : seconds, c.how, file);
      if (std::system(make.c_str()) != 0) {
        fmt::print("  {} could not be made\n", name);
        continue;
      }
      compare(name, file, threads, static_cast<Frames>(kRate * (height > 2000 ? seconds / 2 : seconds)));
      std::error_code e;
      fs::remove(file, e);
    }
  std::error_code e;
  fs::remove_all(folder, e);
  if (!only.empty()) return 0;
  const fs::path out = fs::path(GCLK_BUILD) / "bench-decode.json";
  if (auto r = write_file_atomic(out, results.dump(1) + "\n"); !r) {
    std::cerr << r.error().text() << "\n";
    return 4;
  }
  fmt::print("  written to {}\n", out.string());
  return 0;
}
