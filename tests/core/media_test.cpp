// Decoding and encoding, against the ffmpeg program and the published frame sizes.
#include "media/convert.h"
#include "media/memory.h"
#include "media/reader.h"
#include "support.h"

extern "C" {
#include <libavutil/frame.h>
#include <libavutil/md5.h>
#include <libavutil/pixdesc.h>
}

namespace gc {
namespace {

/// MD5 of each frame as the ffmpeg program decodes it (its framemd5 format), one line a frame.
std::vector<std::string> ffmpeg_hashes(const std::string& file) {
  const std::string command = "ffmpeg -v error -i '" + file + "' -map 0:v -f framemd5 - 2>/dev/null";
  std::vector<std::string> hashes;
  FILE* p = ::popen(command.c_str(), "r");
  char line[512];
  while (std::fgets(line, sizeof line, p))
    if (line[0] != '#')
      if (const std::string l = line; l.find_last_of(' ') != std::string::npos)
        hashes.push_back(l.substr(l.find_last_of(' ') + 1, 32));
  ::pclose(p);
  return hashes;
}

/// The same hash of one of our frames: rows of each plane without padding.
std::string hash_of(const AVFrame& f) {
  const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  std::string bytes;
  for (int p = 0; p < 3; ++p) {
    const int w = (p ? AV_CEIL_RSHIFT(f.width, d->log2_chroma_w) : f.width) * (d->comp[0].depth > 8 ? 2 : 1),
              h = p ? AV_CEIL_RSHIFT(f.height, d->log2_chroma_h) : f.height;
    for (int y = 0; y < h; ++y)
      bytes.append(reinterpret_cast<const char*>(f.data[p] + static_cast<std::ptrdiff_t>(y) * f.linesize[p]),
                   static_cast<std::size_t>(w));
  }
  std::uint8_t digest[16];
  av_md5_sum(digest, reinterpret_cast<const std::uint8_t*>(bytes.data()), bytes.size());
  std::string hex;
  for (const std::uint8_t b : digest) hex += fmt::format("{:02x}", b);
  return hex;
}

class EachForm : public testing::TestWithParam<Form> {};

// Reference: the ffmpeg program's own decoder output.
TEST_P(EachForm, DecodesTheSameFramesAsFfmpegInAnyOrder) {
  const test::TempFolder dir;
  const std::string file =
      test::movie(dir / (std::string("m") + form_extension(GetParam())), GetParam(), 256, 144, 40);
  const std::vector<std::string> expected = ffmpeg_hashes(file);
  ASSERT_EQ(expected.size(), 40u);
  auto reader = FrameReader::open(file);
  ASSERT_TRUE(reader) << reader.error().text();
  EXPECT_EQ((*reader)->info().frames, 40);
  for (const Frames n : {0, 1, 2, 17, 16, 39, 5, 30, 31, 33, 12, 12, 0, 38}) {
    const auto frame = (*reader)->read(n);
    ASSERT_TRUE(frame) << frame.error().text();
    EXPECT_EQ(hash_of(**frame), expected[static_cast<std::size_t>(n)])
        << "frame " << n << " of " << form_name(GetParam());
  }
}

TEST_P(EachForm, SaysWhenItEndsEarly) {
  const test::TempFolder dir;
  const std::string file =
      test::movie(dir / (std::string("m") + form_extension(GetParam())), GetParam(), 256, 144, 10);
  auto reader = FrameReader::open(file);
  ASSERT_TRUE(reader);
  const auto past = (*reader)->read(10);
  ASSERT_FALSE(past);
  EXPECT_THAT(past.error().text(), testing::HasSubstr("ends early"));
  EXPECT_TRUE((*reader)->read(9)) << "it can still be read afterwards";
  EXPECT_FALSE((*reader)->read(-1));
}

INSTANTIATE_TEST_SUITE_P(Media, EachForm,
                         testing::Values(Form::h264_long_gop, Form::h264_intra, Form::vc3_sq, Form::vc3_hqx,
                                         Form::motion_jpeg));

// SMPTE ST 2019-1 (VC-3), resolution-independent profiles.
TEST(Vc3, FrameSizesAreThoseOfTheStandard) {
  EXPECT_EQ(vc3_frame_bytes(1920, 1080, 5888), 188416);
  EXPECT_EQ(vc3_frame_bytes(1920, 1080, 18944), 606208);
  EXPECT_EQ(vc3_frame_bytes(1920, 1080, 28672), 917504);
  EXPECT_EQ(vc3_frame_bytes(1920, 1080, 57344), 1835008);
}

TEST(Vc3, EncodedFramesHaveThatSize) {
  const test::TempFolder dir;
  for (const auto& [w, h] : {std::pair{1280, 720}, std::pair{1920, 1080}}) {
    const std::string file = test::movie(dir / "v.mov", Form::vc3_hqx, w, h, 2);
    const auto bytes = static_cast<std::int64_t>(fs::file_size(file));
    EXPECT_GE(bytes, 2 * vc3_frame_bytes(w, h, 28672));
    EXPECT_LT(bytes, 2 * vc3_frame_bytes(w, h, 28672) + 4096) << "only the container may come on top";
  }
}

// ITU-R BT.709, 8 bit limited range: Y' 16 is black, 235 white; a 75 % red of Y' 51, Cb 109, Cr 212 (worked
// by hand from the standard's matrix) is (0.75, 0, 0).
TEST(Convert, FollowsBt709) {
  AVFrame* f = av_frame_alloc();
  f->format = AV_PIX_FMT_YUV420P, f->width = 64, f->height = 36, f->colorspace = AVCOL_SPC_BT709;
  ASSERT_EQ(av_frame_get_buffer(f, 64), 0);
  const auto fill = [&](int y, int cb, int cr) {
    const int v[3] = {y, cb, cr};
    for (int p = 0; p < 3; ++p)
      for (int row = 0; row < (p ? 18 : 36); ++row)
        std::fill_n(f->data[p] + row * f->linesize[p], p ? 32 : 64, static_cast<std::uint8_t>(v[p]));
    return to_image(*f, 64, 36);
  };
  const auto pixel = [](const Image& i) {
    return std::vector<float>{i.row(18)[4 * 32], i.row(18)[4 * 32 + 1], i.row(18)[4 * 32 + 2],
                              i.row(18)[4 * 32 + 3]};
  };
  const auto is = [&](std::vector<float> want) {
    return testing::Pointwise(testing::FloatNear(0.006f), want);
  };
  EXPECT_THAT(pixel(*fill(16, 128, 128)), is({0, 0, 0, 1}));
  EXPECT_THAT(pixel(*fill(235, 128, 128)), is({1, 1, 1, 1}));
  EXPECT_THAT(pixel(*fill(51, 109, 212)), is({0.75f, 0, 0, 1}));
  av_frame_free(&f);
}

TEST(Convert, AnotherShapeIsFittedWithBars) {
  const test::TempFolder dir;
  auto reader = FrameReader::open(test::movie(dir / "s.mp4", Form::h264_intra, 144, 144, 1));
  ASSERT_TRUE(reader);
  const auto image = to_image(**(*reader)->read(0), 256, 144);
  ASSERT_TRUE(image);
  EXPECT_EQ(image->row(72)[4 * 10 + 3], 0) << "bars are transparent";
  EXPECT_EQ(image->row(72)[4 * 128 + 3], 1);
}

TEST(Convert, TenBitRendersComeBackWithinAThousandth) {
  const test::TempFolder dir;
  const Image picture = synthetic_frame("dust", 3, 256, 144, 1, 0);
  auto w = MovieWriter::create((dir / "v.mov").string(), Form::vc3_hqx, 256, 144, {24, 1});
  ASSERT_TRUE(w);
  ASSERT_TRUE((*w)->write(picture));
  ASSERT_TRUE((*w)->finish());
  auto reader = FrameReader::open((dir / "v.mov").string());
  const auto back = to_image(**(*reader)->read(0), 256, 144);
  double sum = 0;
  for (std::size_t i = 0; i < picture.floats(); ++i) sum += std::pow(picture.data()[i] - back->data()[i], 2);
  EXPECT_LT(std::sqrt(sum / static_cast<double>(picture.floats())), 2e-3);
}

TEST(BrokenMedia, AreNamedWithWhatToDo) {
  const test::TempFolder dir;
  test::put(dir / "zero.mov", "");
  test::put(dir / "text.mp4", "this is no film");
  const std::string whole = test::movie(dir / "w.mp4", Form::h264_long_gop, 256, 144, 24);
  test::put(dir / "cut.mp4", read_file(whole)->substr(0, 3000));
  for (const std::string name : {"zero.mov", "text.mp4", "cut.mp4", "absent.mov"}) {
    const auto r = probe((dir / name).string());
    ASSERT_FALSE(r) << name;
    EXPECT_EQ(r.error().fault, Fault::bad_input);
    EXPECT_THAT(r.error().text(), testing::HasSubstr(name));
    EXPECT_FALSE(r.error().remedy.empty());
  }
}

TEST(BrokenMedia, DamagedPacketsAreAnErrorOrAFrameButNeverACrash) {
  const test::TempFolder dir;
  std::string bytes = *read_file(test::movie(dir / "w.mov", Form::motion_jpeg, 256, 144, 12));
  for (std::size_t i = 2000; i < bytes.size() * 2 / 3; i += 97) bytes[i] = static_cast<char>(bytes[i] ^ 0x5a);
  test::put(dir / "d.mov", bytes);
  auto reader = FrameReader::open((dir / "d.mov").string());
  if (!reader) return;
  for (Frames n = 0; n < 12; ++n) (void)(*reader)->read(n);
}

TEST(BrokenMedia, MediaThatChangeTheirSizeAreFittedToTheRaster) {
  // Two Motion JPEG files of different rasters joined by ffmpeg: the header speaks of the first only.
  const test::TempFolder dir;
  test::movie(dir / "a.mov", Form::motion_jpeg, 256, 144, 5, "bowl");
  test::movie(dir / "b.mov", Form::motion_jpeg, 320, 176, 5, "kiln");
  test::put(dir / "list.txt", "file a.mov\nfile b.mov\n");
  ASSERT_EQ(std::system(("cd '" + dir.path().string() +
                         "' && ffmpeg -v error -f concat -safe 0 -i list.txt -c copy j.mov")
                            .c_str()),
            0);
  auto reader = FrameReader::open((dir / "j.mov").string());
  ASSERT_TRUE(reader);
  const auto first = (*reader)->read(2), second = (*reader)->read(7);
  ASSERT_TRUE(first && second);
  EXPECT_EQ((*first)->width, 256);
  EXPECT_EQ((*second)->width, 320);
  for (const auto& frame : {*first, *second, *first}) {
    const auto image = to_image(*frame, 256, 144);
    ASSERT_TRUE(image) << image.error().text();
    EXPECT_EQ(image->width(), 256);
    EXPECT_GT(image->row(72)[4 * 128 + 3], 0.99f);
  }
}

TEST(Synthetic, IsTheSameForTheSameSeedAtAnyFrame) {
  for (const std::string& scene : synthetic_scenes()) {
    const Image a = synthetic_frame(scene, 31, 128, 72, 5, 0.03f),
                b = synthetic_frame(scene, 31, 128, 72, 5, 0.03f),
                other = synthetic_frame(scene, 44, 128, 72, 5, 0.03f);
    EXPECT_EQ(std::memcmp(a.data(), b.data(), a.floats() * 4), 0) << scene;
    EXPECT_NE(std::memcmp(a.data(), other.data(), a.floats() * 4), 0) << scene << " does not move";
  }
}

TEST(Memory, IsGivenAgain) {
  { const Image warm(320, 180); }
  const std::size_t before = memory_held().bytes;
  for (int i = 0; i < 50; ++i) Image again(320, 180);
  EXPECT_EQ(memory_held().bytes, before);
}

/// A session that saw many rasters must not play the newest one in memory that is fetched anew each time.
TEST(Memory, OfOldRastersMakesWayForThePresentOne) {
  constexpr std::size_t kOld = 30 << 20, kNow = 21 << 20;
  for (std::size_t i = 0; i < 12; ++i) {
    std::vector<void*> some;
    for (int k = 0; k < 4; ++k) some.push_back(take_memory(kOld + i * (6 << 20)));
    for (void* p : some) give_memory(p, kOld + i * (6 << 20));
  }
  EXPECT_LE(memory_held().bytes, kMostHeld);
  EXPECT_GT(memory_held().bytes, kMostHeld / 2);
  const auto play = [&] {
    std::vector<void*> ahead;
    for (int k = 0; k < 24; ++k) ahead.push_back(take_memory(kNow));
    for (void* p : ahead) give_memory(p, kNow);
  };
  play();
  const std::size_t before = memory_held().allocations;
  for (int i = 0; i < 3; ++i) play();
  EXPECT_EQ(memory_held().allocations, before);
  EXPECT_LE(memory_held().bytes, kMostHeld);
}

TEST(Memory, IsLargeEnoughAndAligned) {
  for (const std::size_t bytes : {1u, 63u, 65u, 4097u, 1000000u, 4194304u, 4194305u, 14745600u, 33177600u}) {
    auto* p = static_cast<unsigned char*>(take_memory(bytes));
    EXPECT_EQ(reinterpret_cast<std::uintptr_t>(p) % 64, 0u) << bytes;
    p[0] = 1, p[bytes - 1] = 2;
    give_memory(p, bytes);
    auto* again = static_cast<unsigned char*>(take_memory(bytes));
    EXPECT_EQ(again, p) << bytes;
    give_memory(again, bytes);
  }
}

}  // namespace
}  // namespace gc
