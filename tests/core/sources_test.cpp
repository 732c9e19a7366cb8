// Sources of every sort: image sequences, stills, bit depths, alpha; decoded as FFmpeg decodes them.
#include "media/compare.h"
#include "media/identity.h"

extern "C" {
#include <libavutil/frame.h>
#include <libavutil/imgutils.h>
#include <libavutil/pixdesc.h>
}
#include <bit>
#include <set>

#include "support.h"

namespace gc {
namespace {

using test::Build;
using test::near;
using test::pixel;
using test::shell;

class Sources : public testing::Test {
 protected:
  std::string at(const std::string& name) { return (folder_ / name).string(); }
  test::TempFolder folder_;
  MediaCatalog media_;
};

class SequenceForms : public Sources,
                      public testing::WithParamInterface<std::pair<const char*, const char*>> {};
INSTANTIATE_TEST_SUITE_P(Forms, SequenceForms,
                         testing::Values(std::pair{"png", "rgb24"}, std::pair{"png", "rgb48be"},
                                         std::pair{"png", "rgba64be"}, std::pair{"png", "gray16be"},
                                         std::pair{"png", "pal8"}, std::pair{"tif", "rgb24"},
                                         std::pair{"tif", "rgb48le"}, std::pair{"dpx", "gbrp10le"},
                                         std::pair{"dpx", "gbrp12le"}, std::pair{"dpx", "rgb48be"},
                                         std::pair{"exr", "gbrpf32le"}, std::pair{"exr", "gbrapf32le"}));

/// One component of a pixel by libav's own reader, 0…1.
double component(const AVFrame& f, int c, int x, int y) {
  const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  std::uint32_t v = 0;
  const std::uint8_t* planes[4] = {f.data[0], f.data[1], f.data[2], f.data[3]};
  av_read_image_line2(&v, planes, f.linesize, d, x, y, c, 1, d->flags & AV_PIX_FMT_FLAG_PAL, 4);
  if (d->flags & AV_PIX_FMT_FLAG_FLOAT) return std::bit_cast<float>(v);
  return v / (std::pow(2.0, d->comp[c].depth) - 1);
}

// Each frame against FFmpeg's own decoding of the same file, byte for byte, and the values against libav's
// reader of single components.
TEST_P(SequenceForms, EveryFrameHashesAsFfmpegsAndEveryPixelIsRead) {
  const auto& [suffix, pixels] = GetParam();
  const std::string pattern = at(std::string("f.%04d.") + suffix);
  ASSERT_TRUE(shell(
      fmt::format("ffmpeg -y -f lavfi -i testsrc2=s=64x36:r=24 -frames:v 4 -pix_fmt {} -start_number 7 '{}'",
                  pixels, pattern)));
  auto reader = FrameReader::open(sequence_path(pattern, 7, 10, {24, 1}));
  ASSERT_TRUE(reader) << reader.error().text();
  EXPECT_EQ((*reader)->info().frames, 4);
  EXPECT_TRUE((*reader)->info().intra);
  for (const Frames n : {2, 0, 3}) {
    const auto read = (*reader)->read(n);
    ASSERT_TRUE(read) << read.error().text();
    const AVFrame& frame = **read;
    const auto format = static_cast<AVPixelFormat>(frame.format);
    std::string ours(static_cast<std::size_t>(av_image_get_buffer_size(format, 64, 36, 1)), 0);
    av_image_copy_to_buffer(reinterpret_cast<std::uint8_t*>(ours.data()), static_cast<int>(ours.size()),
                            frame.data, frame.linesize, format, 64, 36, 1);
    const std::string raw = at("raw");
    ASSERT_TRUE(shell(
        fmt::format("ffmpeg -y -i '{}' -f rawvideo {}", at(fmt::format("f.{:04}.{}", 7 + n, suffix)), raw)));
    EXPECT_EQ(hash_text(ours), hash_text(*read_file(raw))) << "frame " << n;

    const Image image = std::move(*to_image(frame, 64, 36));
    const auto* d = av_pix_fmt_desc_get(format);
    const bool grey = d->nb_components < 3 && !(d->flags & AV_PIX_FMT_FLAG_PAL),
               integer = !(d->flags & AV_PIX_FMT_FLAG_FLOAT);
    const bool palette = d->flags & AV_PIX_FMT_FLAG_PAL;
    const bool alpha = d->flags & AV_PIX_FMT_FLAG_ALPHA;
    if (palette) continue;  // libav's reader of components does not give a palette's colours
    for (int y = 0; y < 36; y += 5)
      for (int x = 0; x < 64; x += 3)
        for (int c = 0; c < 3; ++c) {
          const double a = alpha && integer ? component(frame, d->nb_components - 1, x, y) : 1;
          ASSERT_NEAR(image.row(y)[4 * x + c],
                      component(frame,
                                palette ? 2 - c
                                : grey  ? 0
                                        : c,
                                x, y) *
                          a,
                      1e-6)
              << x << " " << y << " " << c;
        }
  }
}

TEST_F(Sources, AMissingFrameOfASequenceIsNamedAndTheOthersPlay) {
  const std::string pattern = at("f.%04d.png");
  ASSERT_TRUE(
      shell("ffmpeg -y -f lavfi -i testsrc2=s=64x36:r=24 -frames:v 5 -start_number 1 '" + pattern + "'"));
  fs::remove(at("f.0003.png"));
  auto reader = *FrameReader::open(sequence_path(pattern, 1, 5, {24, 1}));
  EXPECT_TRUE(reader->read(1));
  const auto gone = reader->read(2);
  ASSERT_FALSE(gone);
  EXPECT_THAT(gone.error().text(),
              testing::AllOf(testing::HasSubstr("frame 3"), testing::HasSubstr("f.0003.png")));
  EXPECT_TRUE(reader->read(3));
  EXPECT_FALSE(FrameReader::open(sequence_path(at("none.%04d.png"), 1, 5, {24, 1})));
}

TEST_F(Sources, ASequencesIdentityCoversEveryFile) {
  const std::string pattern = at("f.%04d.png"), path = sequence_path(pattern, 1, 3, {24, 1});
  ASSERT_TRUE(shell("ffmpeg -y -f lavfi -i testsrc2=s=64x36:r=24 -frames:v 3 '" + pattern + "'"));
  const Hash128 before = file_identity(path);
  fs::remove(at("f.0002.png"));
  EXPECT_NE(file_identity(path), before);
}

// What a file held is kept by its notebook from one run to the next, and asked before the file is read.
TEST_F(Sources, WhatAFileHoldsIsRememberedByPathSizeAndTime) {
  struct Memory : IdentityMemory {
    std::optional<Hash128> known;
    mutable int asked = 0;
    std::vector<std::pair<Hash128, Hash128>> kept;
    std::optional<Hash128> content(const Hash128&) const override {
      ++asked;
      return known;
    }
    void keep_content(const Hash128& state, const Hash128& content) override { kept.emplace_back(state, content); }
  };
  const auto memory = std::make_shared<Memory>();
  remember_identities(memory);
  test::put(at("a.bin"), "first");
  const Hash128 first = file_identity(at("a.bin"));
  EXPECT_EQ(file_identity(at("a.bin")), first);
  EXPECT_EQ(memory->asked, 1) << "once in a run";
  ASSERT_EQ(memory->kept.size(), 1u);
  EXPECT_EQ(memory->kept[0].second, first);
  memory->known = hash_text("as it was");
  test::put(at("a.bin"), "another");
  EXPECT_EQ(file_identity(at("a.bin")), memory->known) << "it is not read again";
  // The notebook is such a memory.
  {
    const auto book = *Notebook::open(at("n.sqlite"));
    EXPECT_FALSE(book->content(memory->kept[0].first));
    book->keep_content(memory->kept[0].first, first);
  }
  EXPECT_EQ((*Notebook::open(at("n.sqlite")))->content(memory->kept[0].first), first);
  remember_identities({});
}

// RFC 9043: FFV1 frames that are no key frames go on with the statistics of those before them.
TEST_F(Sources, Ffv1WithCarriedStatisticsIsReadFromItsKeyFrames) {
  ASSERT_TRUE(shell("ffmpeg -y -f lavfi -i testsrc2=s=64x36:r=24 -frames:v 40 -c:v ffv1 -level 1 -g 12 " +
                    at("m.mkv")));
  auto reader = *FrameReader::open(at("m.mkv"));
  EXPECT_FALSE(reader->info().intra);
  const auto grab = [&](Frames n) {
    const auto f = reader->read(n);
    EXPECT_TRUE(f) << n << ": " << f.error().text();
    return f ? std::move(*to_image(**f, 64, 36)) : Image(64, 36);
  };
  const Image straight = grab(29);
  for (const Frames n : {3, 38, 15, 0}) grab(n);
  EXPECT_EQ(test::greatest_difference(grab(29), straight), 0);
}

TEST_F(Sources, AStillLastsAsLongAsItIsAskedFor) {
  ASSERT_TRUE(shell("ffmpeg -y -f lavfi -i testsrc2=s=256x144 -frames:v 1 " + at("still.tif")));
  Build b;
  b.media("m", at("still.tif"), 1).track("V1").segment("a", "m", 0, 5000);
  const ProgramPtr p = Program::compile(b.done(), media_);
  EXPECT_EQ(test::greatest_difference(test::frame_of(*p, 0), test::frame_of(*p, 4999)), 0);
  EXPECT_EQ(p->fingerprint(0), p->fingerprint(4999));
}

TEST_F(Sources, ASequenceGoesThroughTheFileFormat) {
  const std::string pattern = at("f.%04d.png");
  ASSERT_TRUE(
      shell("ffmpeg -y -f lavfi -i testsrc2=s=64x36:r=25 -frames:v 6 -start_number 1001 '" + pattern + "'"));
  const std::string otio =
      fmt::format(R"({{"OTIO_SCHEMA":"Timeline.1","name":"t","tracks":{{"OTIO_SCHEMA":"Stack.1","children":[
    {{"OTIO_SCHEMA":"Track.1","kind":"Video","children":[{{"OTIO_SCHEMA":"Clip.2","name":"plate","media_references":{{"DEFAULT_MEDIA":
    {{"OTIO_SCHEMA":"ImageSequenceReference.1","target_url_base":"{}/","name_prefix":"f.","name_suffix":".png","start_frame":1001,
    "frame_step":1,"rate":25,"frame_zero_padding":4,"available_range":{{"OTIO_SCHEMA":"TimeRange.1",
    "start_time":{{"OTIO_SCHEMA":"RationalTime.1","rate":25,"value":1001}},"duration":{{"OTIO_SCHEMA":"RationalTime.1","rate":25,"value":6}}}}}}}},
    "active_media_reference_key":"DEFAULT_MEDIA"}}]}}]}}}})",
                  folder_.path().string());
  const auto t = timeline_from_otio(otio, "t.otio", folder_.path());
  ASSERT_TRUE(t) << t.error().text();
  const ProgramPtr p = Program::compile(*t, media_);
  EXPECT_EQ(p->segments()[0]->content, Content::source) << p->segments()[0]->trouble;
  EXPECT_EQ(p->segments()[0]->media.frames, 6);
  const auto again = timeline_from_otio(timeline_to_otio(**t), "t.otio", folder_.path());
  ASSERT_TRUE(again);
  EXPECT_EQ(Program::compile(*again, media_)->fingerprint(3), p->fingerprint(3));
}

TEST_F(Sources, FitFillStretchAndCentre) {
  // A white picture twice as wide as high, on a raster of 160 × 90 (16:9).
  ASSERT_TRUE(shell("ffmpeg -y -f lavfi -i color=white:s=80x40,format=rgb24 -frames:v 1 " + at("w.png")));
  const auto with = [&](Fit fit) {
    Build b(160, 90);
    b.media("m", at("w.png"), 1).track("V1").segment("a", "m", 0, 5).with([&](Segment& s) { s.fit = fit; });
    const Image image = test::frame_of(*Program::compile(b.done(), media_), 1);
    int covered = 0;
    for (std::size_t i = 3; i < image.floats(); i += 4) covered += image.data()[i] > 0.5f;
    return covered;
  };
  EXPECT_EQ(with(Fit::fit), 160 * 80);
  EXPECT_EQ(with(Fit::fill), 160 * 90);
  EXPECT_EQ(with(Fit::stretch), 160 * 90);
  EXPECT_EQ(with(Fit::centre), 80 * 40);
}

TEST_F(Sources, AlphaOfASourceIsUsed) {
  ASSERT_TRUE(shell(
      "ffmpeg -y -f lavfi -i color=white:s=256x144,format=rgba,geq=r=255:g=255:b=255:a=128 -frames:v 1 " +
      at("a.png")));
  Build b;
  b.media("m", at("a.png"), 1).track("V1").solid("low", 5, 0, 0, 0);
  b.track("V2").segment("a", "m", 0, 5);
  EXPECT_THAT(pixel(test::frame_of(*Program::compile(b.done(), media_), 1), 9, 9),
              near({128 / 255.0f, 128 / 255.0f, 128 / 255.0f, 1}, 1e-4f));
}

TEST_F(Sources, TenBitsStayTenBits) {
  // A ramp over 256 columns of a 10-bit file takes more than 256 values.
  ASSERT_TRUE(
      shell("ffmpeg -y -f lavfi -i color=black:s=1024x36,format=gray10le,geq=lum='64+X*876/1023' -frames:v 2 "
            "-pix_fmt yuv422p10le -c:v ffv1 " +
            at("ramp.mkv")));
  auto reader = FrameReader::open(at("ramp.mkv"));
  ASSERT_TRUE(reader);
  EXPECT_EQ((*reader)->info().bits, 10);
  const Image image = std::move(*to_image(**(*reader)->read(0), 1024, 36));
  std::set<float> values;
  for (int x = 0; x < 1024; ++x) values.insert(image.row(10)[4 * x]);
  EXPECT_GT(values.size(), 700u);
}

// Wang et al. (2004) and mean squared error, against FFmpeg's psnr and ssim filters on the same two files.
TEST_F(Sources, PsnrAndSsimAreFfmpegs) {
  ASSERT_TRUE(
      shell("ffmpeg -y -f lavfi -i testsrc2=s=128x72,format=gbrp -frames:v 1 -pix_fmt rgb24 " + at("a.png")));
  ASSERT_TRUE(shell("ffmpeg -y -i " + at("a.png") + " -vf format=gbrp,noise=alls=20:allf=t,format=rgb24 " +
                    at("b.png")));
  const std::string log = at("log");
  const auto number = [&](const std::string& filter, const std::string& after) {
    EXPECT_EQ(
        std::system(
            fmt::format(
                "ffmpeg -i {} -i {} -lavfi '[0]format=gbrp[x];[1]format=gbrp[y];[x][y]{}' -f null - 2>{}",
                at("a.png"), at("b.png"), filter, log)
                .c_str()),
        0);
    const std::string text = *read_file(log);
    const auto found = text.rfind(after);
    EXPECT_NE(found, std::string::npos);
    return std::atof(text.c_str() + found + after.size());
  };
  const Image a = test::load_picture(at("a.png")), b = test::load_picture(at("b.png"));
  EXPECT_NEAR(psnr(a, b), number("psnr", "average:"), 0.02);
  EXPECT_NEAR(ssim(a, b), number("ssim", "All:"), 2e-4);
  EXPECT_EQ(ssim(a, a), 1);
  EXPECT_TRUE(std::isinf(psnr(a, a)));
}

}  // namespace
}  // namespace gc
