// Pictures that nothing is done to go from the decoder to the screen's eight bits at once. They must show what the long
// way shows.
#include "media/convert.h"
#include "pipeline/pipeline.h"
#include "support.h"

extern "C" {
#include <libavutil/frame.h>
}

namespace gc {
namespace {

using test::Build;

int greatest_step(const ScreenImage& a, const ScreenImage& b) {
  if (a.bgra.size() != b.bgra.size()) return 999;
  int most = 0;
  for (std::size_t i = 0; i < a.bgra.size(); ++i) most = std::max(most, std::abs(int{a.bgra[i]} - int{b.bgra[i]}));
  return most;
}

std::string media(const test::TempFolder& dir, const std::string& how, const std::string& raster = "320x180") {
  static int n = 0;
  const std::string file = (dir / fmt::format("m{}.mov", n++)).string();
  EXPECT_TRUE(test::shell(fmt::format("ffmpeg -v error -y -f lavfi -i testsrc2=s={}:r=24:d=0.5 {} '{}'", raster, how, file)));
  return file;
}

class Layouts : public testing::TestWithParam<const char*> {};

TEST_P(Layouts, ShowWhatTheLongWayShows) {
  const test::TempFolder dir;
  const std::string file = media(dir, GetParam());
  auto reader = FrameReader::open(file);
  ASSERT_TRUE(reader);
  EXPECT_TRUE(goes_straight(*probe(file)));
  const auto frame = (*reader)->read(3);
  ASSERT_TRUE(frame);
  for (const auto& [w, h] : {std::pair{320, 180}, {160, 90}, {480, 270}, {200, 180}}) {
    const Placement placement{w == 200 ? Placement::Shape::fill : Placement::Shape::fit, 1, false};
    ScreenImage straight, made;
    const auto done = to_screen(**frame, w, h, placement, straight);
    ASSERT_TRUE(done && *done) << w;
    to_screen(*to_image(**frame, w, h, placement), made);
    EXPECT_LE(greatest_step(straight, made), 1) << w << "×" << h;
  }
}

INSTANTIATE_TEST_SUITE_P(Planar, Layouts,
                         testing::Values("-c:v libx264 -pix_fmt yuv420p", "-c:v libx264 -pix_fmt yuv422p10le",
                                         "-c:v libx264 -pix_fmt yuv444p", "-c:v prores_ks -pix_fmt yuv422p10le",
                                         "-c:v mjpeg -pix_fmt yuvj420p", "-c:v libx264 -pix_fmt yuv420p -color_range pc",
                                         "-c:v libx264 -pix_fmt yuv420p -colorspace smpte170m"));

TEST(Straight, WhatOnlyTheLongWayReadsIsLeftToIt) {
  const test::TempFolder dir;
  ScreenImage out;
  for (const auto& [how, raster] : {std::pair{"-c:v prores_ks -pix_fmt yuva444p10le", "320x180"}, {"-c:v png", "320x180"},
                                   {"-vf scale=319:179,format=yuv420p -c:v ffv1", "320x180"}}) {
    const std::string file = media(dir, how, raster);
    auto reader = FrameReader::open(file);
    ASSERT_TRUE(reader) << how;
    EXPECT_FALSE(goes_straight(*probe(file))) << how;
    const auto frame = (*reader)->read(0);
    ASSERT_TRUE(frame);
    const auto done = to_screen(**frame, (*frame)->width, (*frame)->height, {}, out);
    EXPECT_TRUE(done && !*done) << how;
  }
  // A picture that leaves part of the raster free has to be laid on it.
  auto reader = FrameReader::open(media(dir, "-c:v libx264 -pix_fmt yuv420p"));
  const auto done = to_screen(**(*reader)->read(0), 320, 320, {}, out);
  EXPECT_TRUE(done && !*done);
}

/// Frames 0 to 5 of a program as the pipeline shows them; the long way is forced by asking for the image too.
std::vector<FrameResult> shown(const ProgramPtr& p, bool long_way) {
  std::vector<FrameResult> all(6);
  std::mutex mutex;
  std::condition_variable done;
  int count = 0;
  PipelineOptions o;
  o.keep_image = long_way;
  Pipeline pipeline(p, nullptr, o, {0, 1, 2, 3, 4, 5}, [&](FrameResult&& r) {
    const std::lock_guard lock(mutex);
    all[static_cast<std::size_t>(r.frame)] = std::move(r);
    if (++count == 6) done.notify_all();
  });
  std::unique_lock lock(mutex);
  done.wait(lock, [&] { return count == 6; });
  return all;
}

TEST(Straight, ThePipelineGoesThatWayWhereNothingIsDone) {
  const test::TempFolder dir;
  const std::string file = media(dir, "-c:v libx264 -pix_fmt yuv420p");
  MediaCatalog catalog;
  const ProgramPtr plain = Program::compile(Build(320, 180).media("m", file, 12).track("V1").segment("a", "m", 0, 12).done(), catalog);
  EXPECT_TRUE(plain->straight(3));
  const auto straight = shown(plain, false), made = shown(plain, true);
  for (std::size_t f = 0; f < straight.size(); ++f) {
    EXPECT_LE(greatest_step(straight[f].screen, made[f].screen), 1) << f;
    EXPECT_LT(straight[f].stages.size(), made[f].stages.size());
    // The log has the stages that the forecast counts, each once.
    for (const StageRef& s : plain->stages(static_cast<Frames>(f)))
      EXPECT_EQ(std::count_if(straight[f].stages.begin(), straight[f].stages.end(), [&](const StageSample& x) { return x.key == s.key; }), 1)
          << s.law->label;
  }
  // Anything that is done to the picture takes the long way.
  const auto way = [&](const TimelinePtr& t, const RenderOptions& o = {}) { return Program::compile(t, catalog, o)->straight(3) != nullptr; };
  EXPECT_FALSE(way(Build(320, 180).media("m", file, 12).track("V1").segment("a", "m", 0, 12, {test::cdl("g", 1.2)}).done()));
  EXPECT_FALSE(way(Build(320, 320).media("m", file, 12).track("V1").segment("a", "m", 0, 12).done()));
  RenderOptions region;
  region.region = Region{0, 0, 100, 100};
  EXPECT_FALSE(way(Build(320, 180).media("m", file, 12).track("V1").segment("a", "m", 0, 12).done(), region));
}

}  // namespace
}  // namespace gc
