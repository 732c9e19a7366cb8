// Speed and memory of the render side, as ratios within one run: against FFmpeg's filter graph on the same
// file with the same number of threads, against the machine's own copy bandwidth, and against the full
// raster. Medians of alternating runs, since machines are shared.
#include <fmt/format.h>
#include <malloc.h>
#include <unistd.h>

#include <cstring>
#include <ctime>
#include <fstream>
#include <iostream>

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavfilter/avfilter.h>
#include <libavfilter/buffersink.h>
#include <libavfilter/buffersrc.h>
#include <libavformat/avformat.h>
}

#include "base/clock.h"
#include "desk/desk.h"
#include "effects/points.h"
#include "media/compare.h"
#include "media/synthetic.h"
#include "media/writer.h"
#include "render/agree.h"

using namespace gc;

namespace {

Json results = Json::array();

void line(const std::string& name, const std::string& what, double value, const char* unit, double goal,
          bool least) {
  const bool met = value > 0 && (least ? value >= goal : value <= goal);
  results.push_back({{"name", name}, {"value", value}, {"unit", unit}, {"goal", goal}, {"met", met}});
  fmt::print("  {:<74} {:>8.2f} {:<4} goal {} {:<6.2f} {}\n", what, value, unit, least ? "≥" : "≤", goal,
             met ? "met" : "missed");
  std::cout.flush();
}

double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

double memory_mb(const char* field) {
  std::ifstream in("/proc/self/status");
  for (std::string text; std::getline(in, text);)
    if (text.starts_with(field)) return std::atof(text.c_str() + std::strlen(field)) / 1024;
  return 0;
}

struct World {
  fs::path folder;
  int workers = default_workers();
  MediaCatalog media;

  World() {
    std::string name = (fs::temp_directory_path() / "gclk-bench-XXXXXX").string();
    folder = ::mkdtemp(name.data());
    (void)write_file_atomic(folder / "warm.cube", made_up_cube(33));
  }
  ~World() {
    std::error_code e;
    fs::remove_all(folder, e);
  }

  std::string source(int width, int height, Frames frames) {
    const fs::path file = folder / fmt::format("s{}.mp4", width);
    if (fs::exists(file)) return file.string();
    auto w = MovieWriter::create(file.string(), Form::h264_intra, width, height, {24, 1});
    for (Frames n = 0; n < frames; ++n)
      (void)(*w)->write(synthetic_frame("firing", n, width, height, 7, 0.02f));
    (void)(*w)->finish();
    return file.string();
  }

  ProgramPtr program(const std::string& file, int width, int height, Frames frames, std::vector<Effect> stack,
                     const RenderOptions& o = {}) {
    auto t = std::make_shared<Timeline>();
    t->width = width, t->height = height;
    auto m = std::make_shared<MediaSource>();
    m->id = "m", m->path = file, m->length = frames;
    t->sources["m"] = m;
    auto s = std::make_shared<Segment>();
    s->id = "s", s->ref = "m", s->duration = frames, s->stack = std::move(stack);
    auto track = std::make_shared<Track>();
    track->items.push_back(SegmentPtr(s));
    t->tracks.push_back(track);
    return Program::compile(t, media, o);
  }
};

Effect effect(const char* type, Json params) { return {type, type, std::move(params), true, true, {}, {}}; }

/// Milliseconds a frame, flat out, without the picture for the screen.
double ours_ms(const ProgramPtr& p, Frames frames, int workers) {
  std::vector<Frames> all;
  for (Frames f = 0; f < frames; ++f) all.push_back(f);
  const Stopwatch watch;
  std::mutex mutex;
  std::condition_variable done;
  Frames count = 0;
  PipelineOptions options;
  options.workers = workers, options.horizon = static_cast<int>(frames) + 1, options.screen = false;
  Pipeline pipeline(p, nullptr, options, all, [&](FrameResult&&) {
    const std::lock_guard lock(mutex);
    if (++count == frames) done.notify_all();
  });
  std::unique_lock lock(mutex);
  done.wait(lock, [&] { return count == frames; });
  return watch.ms() / static_cast<double>(frames);
}

/// FFmpeg's decoder and filters in this process: decodes a file through a graph, with so many threads for either.
class TheirChain {
 public:
  TheirChain(const std::string& file, const std::string& filters, int threads) {
    if (avformat_open_input(&format_, file.c_str(), nullptr, nullptr) < 0) return;
    (void)avformat_find_stream_info(format_, nullptr);
    index_ = av_find_best_stream(format_, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
    const AVStream& s = *format_->streams[index_];
    const AVCodec* codec = avcodec_find_decoder(s.codecpar->codec_id);
    codec_ = avcodec_alloc_context3(codec);
    avcodec_parameters_to_context(codec_, s.codecpar);
    codec_->thread_count = threads;
    avcodec_open2(codec_, codec, nullptr);
    graph_ = avfilter_graph_alloc();
    graph_->nb_threads = threads;
    const std::string in = fmt::format("video_size={}x{}:pix_fmt={}:time_base={}/{}", s.codecpar->width, s.codecpar->height,
                                       s.codecpar->format, s.time_base.num, s.time_base.den);
    avfilter_graph_create_filter(&source_, avfilter_get_by_name("buffer"), "in", in.c_str(), nullptr, graph_);
    avfilter_graph_create_filter(&sink_, avfilter_get_by_name("buffersink"), "out", nullptr, nullptr, graph_);
    AVFilterInOut *outs = avfilter_inout_alloc(), *ins = avfilter_inout_alloc();
    outs->name = av_strdup("in"), outs->filter_ctx = source_, outs->pad_idx = 0, outs->next = nullptr;
    ins->name = av_strdup("out"), ins->filter_ctx = sink_, ins->pad_idx = 0, ins->next = nullptr;
    good_ = avfilter_graph_parse_ptr(graph_, filters.c_str(), &ins, &outs, nullptr) >= 0 &&
            avfilter_graph_config(graph_, nullptr) >= 0;
    avfilter_inout_free(&ins), avfilter_inout_free(&outs);
  }
  ~TheirChain() {
    avfilter_graph_free(&graph_);
    av_frame_free(&frame_), av_frame_free(&out_), av_packet_free(&packet_);
    avcodec_free_context(&codec_), avformat_close_input(&format_);
  }
  /// Calls `each` with every picture; how many there were.
  template <class F>
  int run(F&& each) {
    int n = 0;
    for (bool more = good_; more;) {
      more = av_read_frame(format_, packet_) >= 0;
      if (more && packet_->stream_index != index_) {
        av_packet_unref(packet_);
        continue;
      }
      avcodec_send_packet(codec_, more ? packet_ : nullptr);
      av_packet_unref(packet_);
      while (avcodec_receive_frame(codec_, frame_) >= 0) {
        if (av_buffersrc_add_frame_flags(source_, frame_, AV_BUFFERSRC_FLAG_PUSH) >= 0) n += take(each);
      }
    }
    return av_buffersrc_add_frame_flags(source_, nullptr, AV_BUFFERSRC_FLAG_PUSH) >= 0 ? n + take(each) : 0;
  }

 private:
  template <class F>
  int take(F&& each) {
    int n = 0;
    while (av_buffersink_get_frame(sink_, out_) >= 0) each(n, *out_), ++n, av_frame_unref(out_);
    return n;
  }
  AVFormatContext* format_ = nullptr;
  AVCodecContext* codec_ = nullptr;
  AVFilterGraph* graph_ = nullptr;
  AVFilterContext *source_ = nullptr, *sink_ = nullptr;
  AVPacket* packet_ = av_packet_alloc();
  AVFrame *frame_ = av_frame_alloc(), *out_ = av_frame_alloc();
  int index_ = 0;
  bool good_ = false;
};

double ffmpeg_ms(const std::string& file, const std::string& filters, int workers) {
  TheirChain chain(file, filters, workers);
  const Stopwatch watch;
  const int n = chain.run([](int, const AVFrame&) {});
  return n > 0 ? watch.ms() / n : 0;
}

/// How near both come to the clean original that noise was added to: mean PSNR of the middle frames, dB. Noise
/// reduction alone, on the same coded file.
void quality(World& w, const std::string& file, int width, int height, Frames frames, const Effect& ours,
             const std::string& filters) {
  const auto clean = [&](Frames n) { return synthetic_frame("firing", n, width, height, 7, 0.0f); };
  std::vector<double> here, there;
  const ProgramPtr p = w.program(file, width, height, frames, {ours});
  Decoders decoders;
  MemoryCache cache(std::size_t{512} << 20);
  const Frames from = frames / 3, to = from + 6;
  for (Frames n = from; n < to; ++n) {
    StageLog log;
    here.push_back(psnr(render_frame(*p, n, nullptr, decoders, log, &cache), clean(n)));
  }
  Frames n = 0;
  TheirChain chain(file, filters, w.workers);
  chain.run([&](int, const AVFrame& f) {
    if (n >= from && n < to)
      if (auto image = to_image(f, width, height)) there.push_back(psnr(*image, clean(n)));
    ++n;
  });
  fmt::print("    noise reduction at {}×{} against the clean original: {:.2f} dB here, {:.2f} dB FFmpeg\n", width, height,
             median(here), there.empty() ? 0.0 : median(there));
  line(fmt::format("temporal_quality_{}", height), fmt::format("PSNR of noise reduction beyond FFmpeg's, {}×{}", width, height),
       median(here) - (there.empty() ? 0 : median(there)), "dB", 0, true);
}

/// @param only this chain; empty: all
void against_ffmpeg(World& w, int width, int height, Frames frames, const std::string& only = "") {
  const std::string file = w.source(width, height, frames), lut = (w.folder / "warm.cube").string();
  struct Chain {
    const char* name;
    std::vector<Effect> stack;
    std::string filters;
  };
  // The peer works on 32-bit float planes where its filters can, and on 16-bit ones where they cannot.
  const Chain chains[] = {
      {"lut_blur_unsharp",
       {effect("lut", {{"path", lut}}), effect("blur", {{"sigma", 4}}),
        effect("sharpen", {{"sigma", 1.2}, {"amount", 0.8}})},
       "format=gbrpf32le,lut3d=" + lut +
           ":interp=tetrahedral,gblur=sigma=4:steps=3,format=yuv444p16le,unsharp=9:9:0.8:9:9:0.8"},
      {"temporal_cdl",
       {effect("temporal_nr", {{"frames", 2}, {"strength", 0.05}}),
        effect("cdl", {{"slope", {1.1, 1, 0.9}}, {"power", {0.9, 1, 1.1}}, {"saturation", 1.1}})},
       "format=gbrp16le,atadenoise=s=5,lutrgb=r='65535*pow(clip(val*1.1/"
       "65535,0,1),0.9)':g='val':b='65535*pow(clip(val*0.9/"
       "65535,0,1),1.1)',colorchannelmixer=rr=1.08:rg=-0.07:rb=-0.01:gr=-0.02:gg=1.03:gb=-0.01:br=-0.02:bg=-"
       "0.07:bb=1.09"}};
  for (const Chain& c : chains) {
    if (!only.empty() && only != c.name) continue;
    const ProgramPtr p = w.program(file, width, height, frames, c.stack);
    std::vector<double> ours, theirs, our_work, their_work;
    // Wall time of a frame, and what all threads together worked for it.
    const auto timed = [&](auto&& ms, std::vector<double>& wall, std::vector<double>& work) {
      const std::clock_t before = std::clock();
      wall.push_back(ms());
      work.push_back(1e3 * static_cast<double>(std::clock() - before) / CLOCKS_PER_SEC / static_cast<double>(frames));
    };
    for (int round = 0; round < 3; ++round) {
      timed([&] { return ours_ms(p, frames, w.workers); }, ours, our_work);
      timed([&] { return ffmpeg_ms(file, c.filters, w.workers); }, theirs, their_work);
    }
    fmt::print("    {} at {}×{}: {:.1f} ms a frame here, {:.1f} ms FFmpeg; processor time {:.1f} and {:.1f} ms\n", c.name,
               width, height, median(ours), median(theirs), median(our_work), median(their_work));
    line(fmt::format("{}_{}", c.name, height),
         fmt::format("speed against FFmpeg, decode + {}, {}×{}", c.name, width, height),
         median(theirs) / median(ours), "×", std::string(c.name) == "temporal_cdl" ? 1.5 : 1.0, true);
  }
  quality(w, file, width, height, frames, chains[1].stack.front(), "format=gbrp16le,atadenoise=s=5");
}

/// Bytes a second that fused point operations read and write, against a plain copy of the same picture.
void fused(const World& w) {
  constexpr int kWidth = 1920, kHeight = 1080;
  Image image = synthetic_frame("bowl", 3, kWidth, kHeight, 7, 0.02f), other(kWidth, kHeight);
  std::vector<std::unique_ptr<EffectInstance>> held;
  held.push_back(contrast_effect().make({{"contrast", 1.1}}, kWidth, kHeight));
  held.push_back(saturation_effect().make({{"amount", 0.9}}, kWidth, kHeight));
  held.push_back(contrast_effect().make({{"contrast", 0.95}}, kWidth, kHeight));
  std::vector<const PointInstance*> points;
  for (const auto& p : held) points.push_back(static_cast<const PointInstance*>(p.get()));
  FrameContext at;
  at.width = kWidth, at.height = kHeight;
  std::vector<double> copying, fusing;
  for (int round = 0; round < 41; ++round) {
    const Stopwatch copy;
    std::memcpy(other.data(), image.data(), image.floats() * sizeof(float));
    copying.push_back(copy.ms());
    const Stopwatch fuse;
    run_points(points, image, at);
    fusing.push_back(fuse.ms());
  }
  const double bytes = static_cast<double>(image.floats()) * 8;  // read and written
  fmt::print("    three fused point operations: {:.1f} GB/s, copy {:.1f} GB/s, one thread of {}\n",
             bytes / median(fusing) / 1e6, bytes / median(copying) / 1e6, w.workers);
  line("fused_points", "fused point operations against copy bandwidth", median(copying) / median(fusing), "×",
       0.5, true);
}

void scales(World& w) {
  const std::string file = w.source(1920, 1080, 32);
  const std::vector<Effect> stack{effect("spatial_nr", {{"radius", 5}}), effect("defocus", {{"radius", 8}})};
  double full = 0;
  for (const int scale : {1, 2, 4}) {
    RenderOptions o;
    o.scale = scale;
    const ProgramPtr p = w.program(file, 1920, 1080, 32, stack, o);
    std::vector<double> ms;
    for (int round = 0; round < 3; ++round) ms.push_back(ours_ms(p, scale == 1 ? 8 : 32, w.workers));
    if (scale == 1) full = median(ms);
    else
      line(fmt::format("scale_{}", scale),
           fmt::format("speed of a pixel-bound chain at scale 1/{} against full", scale), full / median(ms),
           "×", scale == 2 ? 3 : 9, true);
  }
}

/// Peak memory of a six-stage chain on 3840×2160 float pictures, in pictures beyond what was there before.
void memory_of_chain(World& w) {
  constexpr int kWidth = 3840, kHeight = 2160;
  const std::string file = w.source(kWidth, kHeight, 4);
  const ProgramPtr p =
      w.program(file, kWidth, kHeight, 4,
                {effect("spatial_nr", {{"radius", 2}}), effect("blur", {{"sigma", 2}}), effect("sharpen", {}),
                 effect("cdl", {{"saturation", 1.2}}), effect("vignette", {}), effect("glow", {})});
  Decoders decoders;
  StageLog log;
  const double before = memory_mb("VmRSS:");
  std::ofstream("/proc/self/clear_refs") << "5";  // the peak starts from here
  for (Frames f = 0; f < 4; ++f) (void)render_frame(*p, f, nullptr, decoders, log);
  const double one = kWidth * kHeight * 16.0 / 1048576;
  line("memory_4k", "peak memory of a 6-stage chain, 3840×2160 float, one frame in flight",
       (memory_mb("VmHWM:") - before) / one, "pict", 6, false);
}

/// Growth of memory over a long time of mixed seeking.
void memory_of_seeking(World& w, double seconds) {
  const std::string file = w.source(1280, 720, 96);
  const ProgramPtr p = w.program(file, 1280, 720, 96,
                                 {effect("temporal_nr", {{"frames", 1}}), effect("blur", {{"sigma", 2}})});
  const auto cache = std::make_shared<MemoryCache>(std::size_t{128} << 20);
  Decoders decoders;
  std::uint32_t state = 1;
  const auto seek = [&](double for_seconds) {
    int n = 0;
    for (const Stopwatch watch; watch.ms() < for_seconds * 1000; ++n) {
      state = state * 1664525 + 1013904223;
      StageLog log;
      (void)render_frame(*p, (state >> 8) % 96, nullptr, decoders, log, cache.get());
    }
    malloc_trim(0);
    return n;
  };
  seek(seconds / 4);
  const double before = memory_mb("VmRSS:");
  const int frames = seek(seconds);
  const double growth = memory_mb("VmRSS:") - before;
  fmt::print("    {} frames sought in {:.0f} s: memory went from {:.0f} MB by {:+.1f} MB\n", frames, seconds,
             before, growth);
  line("memory_seeking", fmt::format("memory after {:.0f} s of mixed seeking against before", seconds),
       (before + growth) / before, "×", 1.05, false);
}

}  // namespace

// gclk_bench_pictures [SECONDS OF SEEKING] [chains|CHAIN]: only what is held against FFmpeg, all of it or one chain.
int main(int argc, char** argv) {
  World w;
  const double seconds = argc > 1 ? std::atof(argv[1]) : 60;
  if (argc > 2) {
    const std::string only = std::string(argv[2]) == "chains" ? "" : argv[2];
    against_ffmpeg(w, 1280, 720, 96, only);
    against_ffmpeg(w, 1920, 1080, 48, only);
    return 0;
  }
  fmt::print("Pictures, {} threads:\n", w.workers);
  memory_of_chain(w);
  fused(w);
  against_ffmpeg(w, 1280, 720, 96);
  against_ffmpeg(w, 1920, 1080, 48);
  scales(w);
  memory_of_seeking(w, seconds);
  const fs::path file = fs::path(GCLK_BUILD) / "bench-pictures.json";
  if (auto r = write_file_atomic(file, results.dump(1) + "\n"); !r) {
    std::cerr << r.error().text() << "\n";
    return 4;
  }
  fmt::print("  written to {}\n", file.string());
  return 0;
}
