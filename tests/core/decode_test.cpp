// Decoding side by side: the same pictures as libavcodec's own decoder gives in order with one thread, however many
// threads work and in whatever order frames are asked for. The reference is libavcodec (FFmpeg), called here directly.
#include <atomic>
#include <mutex>
#include <numeric>
#include <thread>

#include "forecast/forecast.h"
#include "media/convert.h"
#include "media/decoder.h"
#include "pipeline/pipeline.h"
#include "playout/record.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

Hash128 hash_of(const AVFrame& f) {
  Hasher h;
  h.add(f.width).add(f.height).add(f.format);
  for (int p = 0; p < 3; ++p) {
    const int shift = p == 0 ? 0 : 1;
    const bool sixteen = f.format == AV_PIX_FMT_YUV420P10LE || f.format == AV_PIX_FMT_YUV422P10LE;
    const bool half_rows = f.format == AV_PIX_FMT_YUV420P || f.format == AV_PIX_FMT_YUV420P10LE || f.format == AV_PIX_FMT_YUVJ420P;
    const int rows = p == 0 || !half_rows ? f.height : f.height >> shift;
    const std::size_t bytes = static_cast<std::size_t>(f.width >> shift) * (sixteen ? 2 : 1);
    for (int y = 0; y < rows; ++y)
      h.add(std::string_view(reinterpret_cast<const char*>(f.data[p] + static_cast<std::ptrdiff_t>(y) * f.linesize[p]), bytes));
  }
  return h.done();
}

/// Every picture of a file in the order of showing, by libavcodec with one thread.
std::vector<Hash128> in_order(const std::string& file) {
  std::vector<Hash128> all;
  AVFormatContext* format = nullptr;
  if (avformat_open_input(&format, file.c_str(), nullptr, nullptr) < 0) return all;
  (void)avformat_find_stream_info(format, nullptr);
  const int index = av_find_best_stream(format, AVMEDIA_TYPE_VIDEO, -1, -1, nullptr, 0);
  AVCodecParameters* p = format->streams[index]->codecpar;
  const AVCodec* codec = avcodec_find_decoder(p->codec_id);
  AVCodecContext* c = avcodec_alloc_context3(codec);
  avcodec_parameters_to_context(c, p);
  c->thread_count = 1;
  avcodec_open2(c, codec, nullptr);
  AVPacket* packet = av_packet_alloc();
  AVFrame* frame = av_frame_alloc();
  for (bool more = true; more;) {
    more = av_read_frame(format, packet) >= 0;
    if (more && packet->stream_index != index) {
      av_packet_unref(packet);
      continue;
    }
    avcodec_send_packet(c, more ? packet : nullptr);
    av_packet_unref(packet);
    while (avcodec_receive_frame(c, frame) >= 0) all.push_back(hash_of(*frame)), av_frame_unref(frame);
  }
  av_frame_free(&frame), av_packet_free(&packet), avcodec_free_context(&c), avformat_close_input(&format);
  return all;
}

struct Coded {
  const char* name;
  const char* how;
  bool alone;
};
std::ostream& operator<<(std::ostream& out, const Coded& c) { return out << c.name; }

class Decoding : public testing::TestWithParam<Coded> {};

std::string coded(const test::TempFolder& dir, const Coded& c) {
  const std::string file = (dir / (std::string("m.") + (std::string(c.name).starts_with("mjpeg") ? "avi" : "mov"))).string();
  EXPECT_TRUE(test::shell(fmt::format("ffmpeg -v error -y -f lavfi -i testsrc2=s=256x144:r=24:d=3 {} '{}'", c.how, file)));
  return file;
}

TEST_P(Decoding, GivesTheSamePicturesWithAnyThreadsAfterAnySeek) {
  const test::TempFolder dir;
  const std::string file = coded(dir, GetParam());
  const std::vector<Hash128> reference = in_order(file);
  ASSERT_EQ(reference.size(), 72u);
  std::uint32_t state = 7;
  const auto draw = [&](std::uint32_t below) { return (state = state * 1664525 + 1013904223) / 65536 % below; };
  for (const int threads : {1, 2, 3, 8}) {
    auto reader = FrameReader::open(file, threads);
    ASSERT_TRUE(reader) << reader.error().text();
    EXPECT_EQ((*reader)->info().alone, GetParam().alone);
    Frames n = 0;
    for (int step = 0; step < 90; ++step) {
      // Mostly forwards, sometimes over a gap, back, or anywhere.
      const auto how = draw(10);
      n = how < 6 ? n + 1 : how < 7 ? n + 2 + draw(9) : how < 8 ? n - draw(6) : draw(72);
      n = std::clamp<Frames>(n, 0, 71);
      const auto frame = (*reader)->read(n);
      ASSERT_TRUE(frame) << "frame " << n << ": " << frame.error().text();
      ASSERT_EQ(hash_of(**frame), reference[static_cast<std::size_t>(n)]) << "frame " << n << ", " << threads << " threads";
    }
  }
}

// Pictures that build on others are decoded forwards, whichever way they are played. Those on the way are kept,
// or each frame of a group would take as long as all before it.
TEST_P(Decoding, BackwardsTakesHardlyMoreThanForwards) {
  const test::TempFolder dir;
  const std::string file = coded(dir, GetParam());
  const std::vector<Hash128> reference = in_order(file);
  for (const auto& [threads, said] : {std::pair{1, true}, {3, true}, {1, false}}) {
    auto reader = FrameReader::open(file, threads);
    ASSERT_TRUE(reader) << reader.error().text();
    (*reader)->backwards(said);
    int decoded = 0;
    for (Frames n = 71; n >= 0; --n) {
      ReadTimes times;
      const auto frame = (*reader)->read(n, &times);
      ASSERT_TRUE(frame) << "frame " << n << ": " << frame.error().text();
      ASSERT_EQ(hash_of(**frame), reference[static_cast<std::size_t>(n)]) << "frame " << n << ", " << threads << " threads";
      decoded += times.decoded;
    }
    EXPECT_LE(decoded, 2 * 72) << threads << " threads" << (said ? "" : ", stepping back without saying so");
    // And forwards again from anywhere.
    (*reader)->backwards(false);
    for (Frames n = 30; n < 40; ++n) ASSERT_EQ(hash_of(**(*reader)->read(n)), reference[static_cast<std::size_t>(n)]);
  }
}

TEST_P(Decoding, GivesTheSamePicturesToManyWorkers) {
  const test::TempFolder dir;
  const std::string file = coded(dir, GetParam());
  const std::vector<Hash128> reference = in_order(file);
  auto reader = FrameReader::open(file, 3);
  ASSERT_TRUE(reader);
  std::vector<Hash128> made(reference.size());
  std::mutex turn;
  Frames next = 0;
  std::vector<std::thread> workers;
  for (int w = 0; w < 4; ++w)
    workers.emplace_back([&] {
      for (;;) {
        std::unique_lock lock(turn);
        const auto n = static_cast<std::size_t>(next++);
        if (n >= made.size()) return;
        const auto taken = (*reader)->take(static_cast<Frames>(n));
        lock.unlock();
        if (!taken) continue;
        if (const auto frame = (*taken)->get()) made[n] = hash_of(**frame);
      }
    });
  for (std::thread& t : workers) t.join();
  EXPECT_EQ(made, reference);
}

INSTANTIATE_TEST_SUITE_P(
    EveryForm, Decoding,
    testing::Values(Coded{"h264_long", "-c:v libx264 -g 24 -bf 3 -pix_fmt yuv420p", false},
                    Coded{"h264_intra", "-c:v libx264 -g 1 -pix_fmt yuv420p", false},
                    Coded{"h265_long", "-c:v libx265 -x265-params log-level=none:keyint=30 -pix_fmt yuv420p", false},
                    Coded{"h265_10_bit", "-c:v libx265 -x265-params log-level=none:keyint=30 -pix_fmt yuv420p10le", false},
                    Coded{"h265_intra", "-c:v libx265 -x265-params log-level=none:keyint=1 -pix_fmt yuv420p10le", false},
                    Coded{"mpeg2_long", "-c:v mpeg2video -g 12 -bf 2 -b:v 4M", false},
                    Coded{"vc3", "-c:v dnxhd -profile:v dnxhr_sq -pix_fmt yuv422p", true},
                    Coded{"rdd36", "-c:v prores_ks -pix_fmt yuv422p10le", true},
                    Coded{"mjpeg", "-c:v mjpeg -q:v 3 -pix_fmt yuvj420p", true}),
    [](const auto& p) { return std::string(p.param.name); });

// A picture that several frames want is decoded once, and all get the same.
TEST(CodedPicture, IsDecodedOnceHoweverManyAsk) {
  std::atomic<int> made{0};
  CodedPicture picture([&](ReadTimes& t) -> Result<FramePtr> {
    std::this_thread::sleep_for(std::chrono::milliseconds(20));
    ++made, ++t.decoded;
    return FramePtr(av_frame_alloc(), [](const AVFrame* f) { auto* p = const_cast<AVFrame*>(f); av_frame_free(&p); });
  });
  std::array<const AVFrame*, 4> got{};
  std::array<ReadTimes, 4> times;
  std::vector<std::thread> askers;
  for (std::size_t i = 0; i < got.size(); ++i)
    askers.emplace_back([&, i] { got[i] = picture.get(&times[i])->get(); });
  for (std::thread& t : askers) t.join();
  EXPECT_EQ(made, 1);
  int decoded = 0;
  for (std::size_t i = 0; i < got.size(); ++i) {
    EXPECT_EQ(got[i], got[0]);
    decoded += times[i].decoded;
  }
  EXPECT_EQ(decoded, 1) << "who waited has not decoded";
}

// What holds the turn to fetch: all reading, nothing of what each worker decodes for itself, and of decoding in order what
// its threads cannot do side by side.
TEST(Turn, IsHeldForWhatGoesInOrder) {
  StageRef s;
  EXPECT_EQ(turn_share(s, 2), 0);
  s.in_order = 1;
  EXPECT_EQ(turn_share(s, 16), 1);
  s.in_order = 16;
  EXPECT_NEAR(turn_share(s, 2), 1 / 1.7, 1e-9);
  EXPECT_LT(turn_share(s, 8), turn_share(s, 4));
  s.in_order = 4;
  EXPECT_EQ(turn_share(s, 8), turn_share(s, 4)) << "no more threads than memory allows";
}

TEST(Turn, StagesOfMediaKnowIt) {
  const test::TempFolder dir;
  const std::string long_gop = coded(dir, {"long", "-c:v libx264 -g 24 -pix_fmt yuv420p", false});
  const std::string jpeg = coded(dir, {"mjpeg", "-c:v mjpeg -pix_fmt yuvj420p", true});
  MediaCatalog media;
  const ProgramPtr p = Program::compile(Build(256, 144)
                                            .media("l", long_gop, 72)
                                            .media("j", jpeg, 72)
                                            .track("V1")
                                            .segment("a", "l", 0, 20)
                                            .segment("b", "j", 0, 20)
                                            .done(),
                                        media);
  for (const StageRef& s : p->stages(0))
    if (s.kind == StageKind::decode) EXPECT_GT(turn_share(s, 2), 0.5);
  for (const StageRef& s : p->stages(25))
    if (s.kind == StageKind::decode) EXPECT_EQ(turn_share(s, 2), 0);
}

// What decoding takes of a frame goes by how many pictures it decodes: by the rates, the speed, and where each builds on others
// by those on the way.
TEST(Turn, PicturesOfAFrameFollowRateAndSpeed) {
  const test::TempFolder dir;
  const std::string long_gop = coded(dir, {"long", "-c:v libx264 -g 24 -bf 2 -pix_fmt yuv420p", false}), jpeg = coded(dir, {"mjpeg", "-c:v mjpeg -pix_fmt yuvj420p", true});
  const std::string fast = (dir / "fast.mp4").string();
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=256x144:r=60:d=2 -c:v libx264 -g 30 -pix_fmt yuv420p '" + fast + "'"));
  MediaCatalog media;
  const auto made = [&](const std::string& file, Ratio speed, Frames in) {
    return Program::compile(Build(256, 144).media("m", file, 72).track("V1").segment("s", "m", in, 30).with([&](Segment& s) { s.speed = speed; }).done(), media)->segments()[0];
  };
  EXPECT_EQ(made(long_gop, {1, 1}, 0)->pictures, 1);
  EXPECT_NEAR(made(long_gop, {2, 1}, 0)->pictures, 2, 0.05);
  EXPECT_NEAR(made(long_gop, {1, 2}, 0)->pictures, 0.5, 0.05);
  EXPECT_NEAR(made(fast, {1, 1}, 0)->pictures, 2.5, 0.05);
  // 60 steps a second, of which four of seven have a picture: 34.3 pictures a second.
  const std::string uneven = (dir / "uneven.mp4").string();
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=256x144:r=60:d=2 -vf \"select='not(between(mod(n,7),2,4))'\" -vsync vfr -c:v libx264 -g 30 -pix_fmt yuv420p '" + uneven + "'"));
  const auto variable = made(uneven, {1, 1}, 0);
  EXPECT_FALSE(variable->media.constant);
  EXPECT_NEAR(variable->pictures, 60.0 / 24 * 4 / 7, 0.08);
  // From frame 71 back to 42: the group of 48 to 71 lies decoded when the first frame does, 24 to 47 is decoded to get to 47.
  EXPECT_NEAR(made(long_gop, {-1, 1}, 71)->pictures, 24.0 / 29, 0.05);
  EXPECT_EQ(made(jpeg, {-1, 1}, 71)->pictures, 1) << "each stands alone";
  EXPECT_NEAR(made(jpeg, {1, 2}, 0)->pictures, 0.5, 0.05);
  const auto twice = made(long_gop, {2, 1}, 0), once = made(long_gop, {1, 1}, 0);
  EXPECT_NE(twice->decode.key, once->decode.key) << "other work is measured apart";
  EXPECT_NEAR(twice->decode.terms[0] / once->decode.terms[0], 2, 0.05) << "and estimated by as many pixels";
}

// Backwards most frames find their picture decoded already. Each takes its share of what that took, or the first of a group would
// seem dear and all others free.
TEST(Turn, BackwardsEveryFrameTakesItsShare) {
  const test::TempFolder dir;
  const std::string file = coded(dir, {"long", "-c:v libx264 -g 24 -bf 2 -pix_fmt yuv420p", false});
  MediaCatalog media;
  const ProgramPtr p =
      Program::compile(Build(256, 144).media("m", file, 72).track("V1").segment("s", "m", 71, 72).with([](Segment& s) { s.speed = {-1, 1}; }).done(), media);
  Decoders decoders(12, 1);
  double before = 0;
  int found = 0;
  for (Frames f = 0; f < 72; ++f) {
    StageLog log;
    const Fetched fetched = decoders.fetch(*p, p->recipe(f, nullptr), nullptr, log);
    ASSERT_EQ(fetched.trouble.size(), 0u) << fetched.trouble.front();
    EXPECT_GT(fetched.turn_ms, 0) << "frame " << f;
    const bool decoded = std::any_of(log.begin(), log.end(), [](const StageSample& s) { return s.kind == StageKind::decode && s.wall_ms > 0; });
    if (!decoded) EXPECT_EQ(fetched.turn_ms, before) << "frame " << f;
    before = fetched.turn_ms, found += !decoded;
  }
  EXPECT_EQ(found, 69) << "three groups are decoded, each with the first frame of it that is asked for";
}

class SameForAll : public CostBook {
 public:
  std::vector<FrameSample> frames(const Hash128&) const override { return {}; }
  std::vector<float> entries(const Hash128&) const override { return {}; }
  StageCosts stage(const StageRef&) const override { return {{34}, Origin::law, 0.05, true}; }
};

// Decoding of 34 ms by two threads holds the turn for 34 / 1.7 = 20 ms; with two workers all of it is work of theirs. Of
// pictures that stand alone it is work alone.
TEST(Turn, CostsAreSplitByIt) {
  StageRef decode;
  decode.kind = StageKind::decode, decode.in_order = 16;
  const SameForAll book;
  const KnownCost in_order = known_cost(book, std::span(&decode, 1), 2);
  EXPECT_NEAR(in_order.fetch_ms, 20, 1e-4);
  EXPECT_NEAR(in_order.process_ms, 14, 1e-4);
  decode.in_order = 0;
  const KnownCost alone = known_cost(book, std::span(&decode, 1), 2);
  EXPECT_EQ(alone.fetch_ms, 0);
  EXPECT_NEAR(alone.process_ms, 34, 1e-4);
  EXPECT_NEAR(load_of(in_order.fetch_ms, in_order.process_ms, 2, 1000.0 / 24), 20 / (1000.0 / 24), 1e-6);
}

// Frames between that are skipped are decoded all the same: in turn, and beside it.
TEST(Turn, SkippedFramesCostBothParts) {
  Model m;
  m.pace = {2, 4, 40, 0};
  CostPool pool;
  pool.frames.assign(8, {20, 70});
  pool.decodes_between = true, pool.beside = 0.7f;
  m.pools = {pool};
  m.stretches = {{0, 240, 0, false, 0}};
  m.kinds = kinds_told(m);
  EXPECT_NEAR(m.kinds[0].skip.decode, 34, 1e-3);
  const auto missed = [&] {
    double sum = 0;
    const Trials trials = simulate(m, 16, 1);
    for (const float f : trials.miss()) sum += static_cast<double>(f);
    return sum;
  };
  const double with = missed();
  m.pools[0].beside = 0, m.kinds = kinds_told(m);
  EXPECT_GT(with, missed()) << "what decoders do besides is work, too";
}

TEST(Turn, IsKeptInRecords) {
  PlayRecord r;
  r.rate = {24, 1};
  FrameCost c;
  c.fetch = 20, c.process = 30, c.beside = 12.5, c.catch_up = -8, c.after = 0;
  r.costs = {c, c};
  const auto back = record_from_json(to_json(r), "here");
  ASSERT_TRUE(back) << back.error().text();
  EXPECT_EQ(back->costs[1].beside, 12.5);
  EXPECT_EQ(back->costs[1].catch_up, -8);
}

// What was opened ahead of a cut is there when the cut comes, whatever became of its name meanwhile.
TEST(OpenedAhead, IsWhatIsReadAtTheCut) {
  const test::TempFolder dir;
  const std::string first = coded(dir, {"one", "-c:v libx264 -g 24 -pix_fmt yuv420p", false});
  const std::string second = coded(dir, {"two", "-c:v libx264 -g 24 -pix_fmt yuv420p", false});
  MediaCatalog media;
  const ProgramPtr p = Program::compile(
      Build(256, 144).media("1", first, 72).media("2", second, 72).track("V1").segment("a", "1", 0, 20).segment("b", "2", 30, 20).done(),
      media);
  Decoders decoders(12, 2);
  StageLog log;
  ASSERT_TRUE(fetch_and_decode(*p, 0, nullptr, decoders, log).pictures.front());
  decoders.prepare(p->recipe(20, nullptr));
  fs::remove(second);
  const Decoded cut = fetch_and_decode(*p, 20, nullptr, decoders, log);
  ASSERT_EQ(cut.pictures.size(), 1u);
  EXPECT_TRUE(cut.pictures.front()) << "it was open already";
  Decoders cold(12, 2);
  EXPECT_FALSE(fetch_and_decode(*p, 20, nullptr, cold, log).pictures.front());
}

bool is_open(const std::string& file) {
  std::error_code e;
  for (const auto& fd : fs::directory_iterator("/proc/self/fd", e))
    if (fs::read_symlink(fd.path(), e) == file) return true;
  return false;
}

// A title that ends a moment before the cut is a change of its own; what is read after the cut is opened in time all the same.
TEST(OpenedAhead, BehindAShortStretchToo) {
  const test::TempFolder dir;
  const std::string first = coded(dir, {"one", "-c:v libx264 -g 24 -pix_fmt yuv420p", false});
  const std::string second = coded(dir, {"two", "-c:v libx264 -g 24 -pix_fmt yuv420p", false});
  MediaCatalog media;
  Build b(256, 144);
  b.media("1", first, 72).media("2", second, 72).track("V1").segment("a", "1", 0, 60).segment("b", "2", 0, 12);
  b.track("V2").solid("title", 58, 0.1, 0.1, 0.1);
  const ProgramPtr p = Program::compile(b.done(), media);
  ASSERT_EQ(p->intervals().size(), 3u);
  std::vector<Frames> frames(72);
  std::iota(frames.begin(), frames.end(), Frames{0});
  PipelineOptions options;
  options.workers = 2, options.horizon = 4, options.prepare = true, options.screen = false;
  std::atomic<bool> opened{false};
  std::atomic<Frames> done{0};
  {
    Pipeline* running = nullptr;
    std::mutex mutex;
    std::unique_lock lock(mutex);
    Pipeline pipeline(p, nullptr, options, frames, [&](FrameResult&& r) {
      // However slow the machine is: it comes to be opened while frame 30 is the latest.
      for (int i = 0; r.frame == 30 && i < 2000 && !opened; ++i) opened = is_open(second), std::this_thread::sleep_for(std::chrono::milliseconds(5));
      const std::lock_guard guard(mutex);
      running->consumed(++done);
    });
    running = &pipeline;
    lock.unlock();
    for (int i = 0; i < 6000 && done < 72; ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
  }
  EXPECT_EQ(done, 72);
  EXPECT_TRUE(opened);
}

// An entry of 900 ms costs nothing where there is time to open it meanwhile, whatever changes before the cut, and drops near the
// first frame.
TEST(OpenedAhead, IsCountedByTheForecast) {
  const auto missed = [](Frames first, Frames before) {
    Model m;
    m.pace = {2, 4, 40, 0};
    CostPool light, other;
    light.frames.assign(8, {2, 10}), other.frames.assign(8, {2, 11});
    other.entries = {900};
    m.pools = {light, other};
    m.stretches = {{0, first, 0, false, 0}, {first, first + before, 1, false, 0}, {first + before, 200, 1, true, 0}};
    m.kinds = kinds_told(m);
    const Trials trials = simulate(m, 16, 1);
    double sum = 0;
    for (const float f : trials.miss()) sum += static_cast<double>(f);
    return sum;
  };
  EXPECT_LT(missed(60, 48), 0.5);
  EXPECT_LT(missed(60, 2), 0.5);
  EXPECT_GT(missed(6, 2), 8);
}

}  // namespace
}  // namespace gc
