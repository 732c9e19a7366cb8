// Media as others make them: every frame shows its own number as eight blocks of black and white across its upper half,
// so that a wrong frame is seen. Files are made by the ffmpeg program; what it says of them is the outside.
#include <random>

#include "audit/foreign.h"
#include "audit/foreign_files.h"
#include "media/convert.h"
#include "release/gate.h"
#include "render/renderer.h"
#include "support.h"

extern "C" {
#include <libavutil/frame.h>
}

namespace gc {
namespace {

using test::Build;

constexpr const char* kNumbered =
    "color=black:s={}:r={}:d={},format=gray,geq=lum='if(lt(Y,H/2),255*mod(floor(N/pow(2,floor(X*8/W))),2),128)'";

/// Makes a file of numbered frames: 160×96 at 25 unless the source says otherwise.
std::string numbered(const fs::path& file, const std::string& how, double seconds = 4, const std::string& raster = "160x96",
                     const std::string& rate = "25") {
  const std::string source = fmt::format(fmt::runtime(kNumbered), raster, rate, seconds);
  EXPECT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i \"" + source + "\" " + how + " '" + file.string() + "'"))
      << how;
  return file.string();
}

int number_in(const Image& image) {
  int n = 0;
  for (int k = 0; k < 8; ++k)
    if (image.row(image.height() / 4)[4 * ((2 * k + 1) * image.width() / 16) + 1] > 0.5f) n |= 1 << k;
  return n;
}
int number_in(const AVFrame& f) {
  const auto image = to_image(f, f.width, f.height);
  return image ? number_in(*image) : -1;
}

struct Kind {
  const char* name;
  const char* how;  ///< ends with the file's extension after the last '|'
};
std::ostream& operator<<(std::ostream& out, const Kind& k) { return out << k.name; }

class EveryContainer : public testing::TestWithParam<Kind> {};

// Frame n is the n-th that is shown, in whatever order one asks, up to the last one and not beyond.
TEST_P(EveryContainer, TellsFramesByTheTimeTheyAreShown) {
  test::TempFolder dir;
  const std::string how = GetParam().how;
  const auto bar = how.rfind('|');
  const std::string file = numbered(dir / ("m." + how.substr(bar + 1)), how.substr(0, bar));
  const auto info = probe(file);
  ASSERT_TRUE(info) << info.error().text();
  EXPECT_EQ(info->frames, 100);
  EXPECT_EQ(info->rate, (Rate{25, 1}));
  auto reader = FrameReader::open(file);
  ASSERT_TRUE(reader);
  for (Frames n = 0; n < 100; ++n) {
    const auto f = (*reader)->read(n);
    ASSERT_TRUE(f) << n << ": " << f.error().text();
    ASSERT_EQ(number_in(**f), n);
  }
  EXPECT_FALSE((*reader)->read(100));
  std::mt19937 any(7);
  for (int k = 0; k < 24; ++k) {
    const auto n = static_cast<Frames>(any() % 100);
    const auto f = (*reader)->read(n);
    ASSERT_TRUE(f) << n << ": " << f.error().text();
    EXPECT_EQ(number_in(**f), n);
  }
}

INSTANTIATE_TEST_SUITE_P(
    Foreign, EveryContainer,
    testing::Values(Kind{"TransportStreamH264", "-pix_fmt yuv420p -c:v libx264 -bf 3 -g 30|ts"},
                    Kind{"TransportStreamOpenGroups", "-pix_fmt yuv420p -c:v libx264 -x264-params open-gop=1:keyint=30|ts"},
                    Kind{"TransportStreamMpeg2", "-pix_fmt yuv420p -c:v mpeg2video -bf 2 -b:v 2M|m2ts"},
                    Kind{"ProgramStream", "-pix_fmt yuv420p -c:v mpeg2video -bf 2 -b:v 2M|mpg"},
                    Kind{"RawH264", "-pix_fmt yuv420p -c:v libx264 -bf 3 -g 30|h264"},
                    Kind{"RawH265", "-pix_fmt yuv420p -c:v libx265 -x265-params log-level=none -g 30|hevc"},
                    Kind{"Mpeg4InAvi", "-pix_fmt yuv420p -c:v mpeg4 -bf 2 -b:v 2M|avi"},
                    Kind{"JpegInAvi", "-pix_fmt yuv420p -c:v mjpeg -q:v 3|avi"},
                    Kind{"H264InMov", "-pix_fmt yuv420p -c:v libx264 -bf 3 -g 30|mov"},
                    Kind{"H264InMatroska", "-pix_fmt yuv420p -c:v libx264 -bf 3 -g 30|mkv"},
                    Kind{"H264InFlv", "-pix_fmt yuv420p -c:v libx264 -bf 3 -g 30|flv"},
                    Kind{"Vp9", "-pix_fmt yuv420p -c:v libvpx-vp9 -b:v 1M -g 30|webm"},
                    Kind{"Rdd36", "-pix_fmt yuv422p10le -c:v prores_ks|mov"},
                    Kind{"Ffv1", "-pix_fmt yuv420p -c:v ffv1|mkv"},
                    Kind{"Windows", "-pix_fmt yuv420p -c:v wmv2 -b:v 2M|asf"}),
    [](const auto& i) { return std::string(i.param.name); });

// How far a frame lies behind its key frame says what getting there takes. Some containers read the list only when they look for a place.
TEST(KeyFrames, AreKnownInEveryContainerThatListsThem) {
  test::TempFolder dir;
  for (const char* extension : {"mp4", "mov", "mkv"}) {
    const std::string file = numbered(dir / (std::string("k.") + extension), "-pix_fmt yuv420p -c:v libx264 -g 24 -sc_threshold 0 -bf 2");
    for (int again = 0; again < 2; ++again) {
      const auto info = probe(file);
      ASSERT_TRUE(info);
      EXPECT_EQ(info->keys, (std::vector<Frames>{0, 24, 48, 72, 96})) << extension;
      EXPECT_EQ(frames_before(*info, 60), 12) << extension;
    }
  }
}

// Pictures 2, 3 and 4 of each seven are not there: the one before is held, as a player holds it.
TEST(VariableRate, HoldsThePictureBefore) {
  test::TempFolder dir;
  for (const char* extension : {"mp4", "mkv"}) {
    const std::string file =
        numbered(dir / (std::string("v.") + extension),
                 "-vf \"select='not(between(mod(n,7),2,4))'\" -vsync vfr -pix_fmt yuv420p -c:v libx264");
    const auto info = probe(file);
    ASSERT_TRUE(info);
    EXPECT_EQ(info->rate, (Rate{25, 1})) << extension;
    EXPECT_EQ(info->frames, 100) << extension;
    auto reader = FrameReader::open(file);
    for (Frames n = 0; n < 100; ++n) {
      const auto f = (*reader)->read(n);
      ASSERT_TRUE(f) << extension << " " << n << ": " << f.error().text();
      EXPECT_EQ(number_in(**f), n % 7 >= 2 && n % 7 <= 4 ? n - n % 7 + 1 : n) << extension;
    }
  }
}

// Cut out of the middle of a stream: the first packets lack what they are built on. ffmpeg's own first picture is ours.
// A picture larger than the first look at a file, by itself and under a name that says nothing of what it is.
TEST(Pictures, AreKnownByTheirContent) {
  test::TempFolder dir;
  for (const char* name : {"a.0001.jpg", "a.jpg", "b.png", "c.tif", "d.bmp", "e.webp", "f.dpx"}) {
    const std::string file = (dir / name).string();
    ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=640x360 -frames:v 1 -update 1 '" + file + "'"));
    EXPECT_GT(fs::file_size(file), 4096u);
    const auto info = probe(file);
    EXPECT_TRUE(info) << name << ": " << (info ? "" : info.error().text());
    if (info) EXPECT_EQ(info->width, 640) << name;
    const fs::path unnamed = dir / "picture";
    fs::copy_file(file, unnamed, fs::copy_options::overwrite_existing);
    EXPECT_TRUE(probe(unnamed.string())) << name << " without its ending";
  }
}

TEST(Streams, ThatBeginAnywhereStartAtTheirFirstPicture) {
  test::TempFolder dir;
  const std::string whole = numbered(dir / "w.ts", "-pix_fmt yuv420p -c:v libx264 -bf 3 -g 30");
  std::string bytes = *read_file(whole);
  const std::size_t from = bytes.size() / 188 / 2 * 188;
  test::put(dir / "part.ts", bytes.substr(from));
  const std::string part = (dir / "part.ts").string();
  ASSERT_TRUE(test::shell("ffmpeg -v quiet -y -i '" + part + "' -frames:v 1 '" + (dir / "first.png").string() + "'"));
  auto first = FrameReader::open((dir / "first.png").string());
  ASSERT_TRUE(first);
  const int said = number_in(**(*first)->read(0));
  EXPECT_GT(said, 10);
  auto reader = FrameReader::open(part);
  ASSERT_TRUE(reader);
  const Frames frames = (*reader)->info().frames;
  EXPECT_EQ(frames, 100 - said);
  for (const Frames n : {Frames{0}, frames - 1, frames / 2, Frames{1}}) {
    const auto f = (*reader)->read(n);
    ASSERT_TRUE(f) << f.error().text();
    EXPECT_EQ(number_in(**f), said + n);
  }
}

TEST(Files, ThatAreCutOffPlayAsFarAsTheyGoAndSayWhereTheyEnd) {
  test::TempFolder dir;
  for (const char* name : {"whole.mp4", "whole.mkv"}) {
    const std::string file = numbered(dir / name, "-pix_fmt yuv420p -c:v libx264 -g 12 -movflags faststart", 8, "320x192");
    const std::string bytes = *read_file(file);
    const std::string cut = (dir / (std::string("cut-") + name)).string();
    test::put(cut, bytes.substr(0, bytes.size() / 2));
    const auto info = probe(cut);
    ASSERT_TRUE(info) << name << ": " << info.error().text();
    EXPECT_LT(info->frames, 190) << name;
    EXPECT_GT(info->frames, 20) << name;
    ASSERT_EQ(info->remarks.size(), 1u) << name;
    EXPECT_NE(info->remarks[0].find("cut off"), std::string::npos);
    auto reader = FrameReader::open(cut);
    // The last packets may be torn; what lies well before them is there.
    for (const Frames n : {Frames{0}, info->frames / 2}) {
      const auto f = (*reader)->read(n);
      ASSERT_TRUE(f) << name << " " << n << ": " << f.error().text();
      EXPECT_EQ(number_in(**f), n % 256) << name;
    }
  }
}

// ---- How pictures are to be seen -----------------------------------------------------------------------

/// Red in the upper left quarter as a person sees it, black elsewhere.
std::string corner(const fs::path& file, const std::string& how) {
  EXPECT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i \"color=black:s=64x32:r=25:d=0.4,drawbox=0:0:32:16:red:fill\" " +
                          how + " '" + file.string() + "'"));
  return file.string();
}
char reddest_corner(const Image& i) {
  const auto red = [&](int x, int y) { return i.row(y)[4 * x]; };
  const int w = i.width(), h = i.height();
  const float c[4] = {red(w / 4, h / 4), red(3 * w / 4, h / 4), red(w / 4, 3 * h / 4), red(3 * w / 4, 3 * h / 4)};
  return "abcd"[std::max_element(c, c + 4) - c];
}

// ffmpeg turns by the same metadata when it decodes; ISO/IEC 14496-12, 8.3.2.
TEST(Orientation, IsObeyedAsFfmpegObeysIt) {
  test::TempFolder dir;
  const std::string plain = corner(dir / "plain.mp4", "-c:v libx264 -pix_fmt yuv444p");
  for (const int degrees : {90, 180, 270}) {
    const std::string file = (dir / fmt::format("turned{}.mp4", degrees)).string();
    ASSERT_TRUE(test::shell(fmt::format("ffmpeg -v error -y -i '{}' -c copy -metadata:s:v rotate={} '{}'", plain, degrees, file)));
    const std::string seen = (dir / fmt::format("seen{}.png", degrees)).string();
    ASSERT_TRUE(test::shell("ffmpeg -v error -y -i '" + file + "' -frames:v 1 '" + seen + "'"));
    const auto info = probe(file);
    ASSERT_TRUE(info);
    EXPECT_FALSE(info->orientation.upright()) << degrees;
    EXPECT_EQ(info->upright_width(), degrees == 180 ? 64 : 32);
    auto theirs = FrameReader::open(seen);
    auto ours = FrameReader::open(file);
    const AVFrame& reference = **(*theirs)->read(0);
    const auto a = to_image(reference, reference.width, reference.height);
    const auto b = to_image(**(*ours)->read(0), info->upright_width(), info->upright_height());
    ASSERT_TRUE(a && b);
    ASSERT_EQ(a->width(), b->width());
    EXPECT_EQ(reddest_corner(*b), reddest_corner(*a)) << degrees;
    EXPECT_NE(reddest_corner(*b), 'a') << degrees;
  }
}

// Anamorphic 720×576 at 64:45 is 16:9 (ITU-R BT.601's raster; EBU R 92): it fills a raster of 16:9, and a circle is one.
TEST(PixelAspect, IsObeyed) {
  test::TempFolder dir;
  const std::string file = (dir / "a.mov").string();
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i color=white:s=720x576:r=25:d=0.2 -vf setsar=64/45 -c:v prores_ks '" + file + "'"));
  const auto info = probe(file);
  ASSERT_TRUE(info);
  EXPECT_NEAR(info->pixel_aspect, 64.0 / 45, 1e-6);
  EXPECT_TRUE(covers_raster(720, 576, 1024, 576, {}, info->pixel_aspect));
  EXPECT_FALSE(covers_raster(720, 576, 1024, 576, {}));
  auto reader = FrameReader::open(file);
  const auto image = to_image(**(*reader)->read(0), 1024, 576);
  ASSERT_TRUE(image);
  EXPECT_GT(image->row(288)[4 * 4 + 1], 0.9f) << "it reaches the left edge";
  EXPECT_GT(image->row(288)[4 * 1019 + 1], 0.9f) << "and the right one";
}

// ISO/IEC 14496-12, 12.1.4. The box is put into a file's sample entry by hand.
TEST(CleanAperture, IsNamedSinceItIsNotObeyed) {
  test::TempFolder dir;
  const std::string file = corner(dir / "a.mov", "-c:v prores_ks");
  std::string bytes = *read_file(file);
  EXPECT_TRUE(probe(file)->remarks.empty());
  const std::size_t entry = bytes.find("apcn") == std::string::npos ? bytes.find("apch") : bytes.find("apcn");
  ASSERT_NE(entry, std::string::npos);
  const std::size_t box = entry - 4 + 86;
  const std::size_t moov = bytes.rfind("moov") - 4;
  std::string clap = std::string("\0\0\0\x28" "clap", 8);
  for (const int n : {60, 1, 28, 1, 0, 1, 0, 1}) clap += std::string("\0\0\0", 3) + static_cast<char>(n);
  ASSERT_EQ(clap.size(), 0x28u);
  bytes.insert(box, clap);
  // Every box around it grows by as much.
  for (const char* name : {"moov", "trak", "mdia", "minf", "stbl", "stsd", bytes.find("apcn") == std::string::npos ? "apch" : "apcn"}) {
    const std::size_t at = bytes.find(name, moov) - 4;
    std::uint32_t n = 0;
    for (int i = 0; i < 4; ++i) n = n << 8 | static_cast<unsigned char>(bytes[at + static_cast<std::size_t>(i)]);
    n += 0x28;
    for (int i = 3; i >= 0; --i) bytes[at + static_cast<std::size_t>(i)] = static_cast<char>(n & 255), n >>= 8;
  }
  test::put(dir / "b.mov", bytes);
  const auto info = probe((dir / "b.mov").string());
  ASSERT_TRUE(info) << info.error().text();
  ASSERT_EQ(info->remarks.size(), 1u);
  EXPECT_NE(info->remarks[0].find("60×28"), std::string::npos) << info->remarks[0];
}

// Players take an untagged picture of standard definition by BT.601 and a larger one by BT.709 (common practice). Pure red
// of BT.601 is Y 81, Cb 90, Cr 240 (ITU-R BT.601-7, 2.5.3, 8 bit).
TEST(Matrix, OfUntaggedMediaGoesByTheirSize) {
  const auto red_of = [](int width, int height, AVColorSpace space) {
    const std::unique_ptr<AVFrame, void (*)(AVFrame*)> f(av_frame_alloc(), [](AVFrame* p) { av_frame_free(&p); });
    f->format = AV_PIX_FMT_YUV444P, f->width = width, f->height = height, f->colorspace = space;
    EXPECT_GE(av_frame_get_buffer(f.get(), 64), 0);
    const int yuv[3] = {81, 90, 240};
    for (int p = 0; p < 3; ++p) std::fill_n(f->data[p], f->linesize[p] * height, static_cast<std::uint8_t>(yuv[p]));
    const auto i = to_image(*f, width, height);
    EXPECT_TRUE(i);
    return std::array{i->data()[0], i->data()[1], i->data()[2]};
  };
  const auto is_red = [](const std::array<float, 3>& c) { return c[0] > 0.98f && std::abs(c[1]) < 0.02f && std::abs(c[2]) < 0.02f; };
  EXPECT_TRUE(is_red(red_of(720, 576, AVCOL_SPC_UNSPECIFIED)));
  EXPECT_TRUE(is_red(red_of(720, 480, AVCOL_SPC_UNSPECIFIED)));
  EXPECT_FALSE(is_red(red_of(1280, 720, AVCOL_SPC_UNSPECIFIED)));
  EXPECT_TRUE(is_red(red_of(1280, 720, AVCOL_SPC_SMPTE170M))) << "a tag wins";
  EXPECT_FALSE(is_red(red_of(720, 576, AVCOL_SPC_BT709)));
}

// Colour tags (ITU-T H.273) choose the space that a picture is taken to be in.
TEST(ColourTags, ChooseTheColourSpace) {
  test::TempFolder dir;
  const auto tagged = [&](const char* name, const char* tags) {
    const std::string file = (dir / name).string();
    EXPECT_TRUE(test::shell(std::string("ffmpeg -v error -y -f lavfi -i color=gray:s=64x32:r=25:d=0.2 -pix_fmt yuv420p10le "
                                        "-c:v libx265 -x265-params log-level=none ") + tags + " '" + file + "'"));
    return *probe(file);
  };
  EXPECT_EQ(tagged("pq.mp4", "-color_primaries bt2020 -color_trc smpte2084 -colorspace bt2020nc").colour_space, "PQ");
  EXPECT_EQ(tagged("hlg.mp4", "-color_primaries bt2020 -color_trc arib-std-b67 -colorspace bt2020nc").colour_space, "HLG");
  EXPECT_EQ(tagged("wide.mp4", "-color_primaries bt2020 -color_trc bt2020-10 -colorspace bt2020nc").colour_space, "Rec. 2020");
  const MediaInfo plain = tagged("plain.mp4", "-color_primaries bt709 -color_trc bt709 -colorspace bt709");
  EXPECT_EQ(plain.colour_space, "");
  EXPECT_TRUE(plain.remarks.empty());
  const MediaInfo film = tagged("log.mp4", "-color_primaries bt709 -color_trc log100 -colorspace bt709");
  ASSERT_EQ(film.remarks.size(), 1u) << "what is not obeyed is named";
  EXPECT_NE(film.remarks[0].find("log100"), std::string::npos);
}

// Two fields of a ball that moves between them: joined, no line is left that shows the other time. bwdif of the ffmpeg
// program is the reference.
TEST(Fields, AreJoinedAsFfmpegsFilterJoinsThem) {
  test::TempFolder dir;
  const std::string file = (dir / "i.mov").string(), reference = (dir / "r.mkv").string();
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=320x192:r=50:d=0.6 -vf "
                          "tinterlace=interleave_top,fieldorder=tff -c:v prores_ks -flags +ildct+ilme '" + file + "'"));
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -i '" + file + "' -vf bwdif=mode=send_frame -c:v ffv1 '" + reference + "'"));
  const auto info = probe(file);
  ASSERT_TRUE(info);
  EXPECT_TRUE(info->interlaced);
  auto ours = FrameReader::open(file), theirs = FrameReader::open(reference);
  ASSERT_TRUE(ours && theirs);
  for (const Frames n : {Frames{5}, Frames{0}, Frames{1}, Frames{2}, info->frames - 1, Frames{7}}) {
    const auto coded = (*ours)->take_progressive(n);
    ASSERT_TRUE(coded) << coded.error().text();
    const auto a = (*coded)->get();
    const auto b = (*theirs)->read(n);
    ASSERT_TRUE(a) << a.error().text();
    ASSERT_TRUE(b) << b.error().text();
    const auto x = to_image(**a, 320, 192), y = to_image(**b, 320, 192);
    EXPECT_LT(test::greatest_difference(*x, *y), 0.002) << "frame " << n;
  }
  // And the timeline asks for it unless it is told not to.
  const TimelinePtr t = Build(320, 192).media("i", file, 10).track("V1").segment("s", "i", 0, 10).done();
  MediaCatalog media;
  RenderOptions keep;
  keep.join_fields = false;
  const ProgramPtr joined = Program::compile(t, media), kept = Program::compile(t, media, keep);
  EXPECT_TRUE(joined->segments()[0]->joins_fields);
  EXPECT_FALSE(kept->segments()[0]->joins_fields);
  EXPECT_NE(joined->fingerprint(4), kept->fingerprint(4));
  Decoders decoders;
  StageLog log;
  const Image one = render_frame(*joined, 4, nullptr, decoders, log), other = render_frame(*kept, 4, nullptr, decoders, log);
  EXPECT_GT(test::greatest_difference(one, other), 0.05);
}

// ---- Missing pictures ----------------------------------------------------------------------------------

TEST(Missing, PicturesAreAVerdictOfTheirOwnAndStopTheDelivery) {
  test::TempFolder dir;
  const std::string movie = test::movie(dir / "m.mp4", Form::h264_intra, 256, 144, 30);
  const TimelinePtr t = Build()
                            .media("m", movie, 30)
                            .media("gone", (dir / "gone.mov").string(), 24)
                            .track("V1")
                            .segment("short", "m", 20, 24)  // ten frames, then the file ends
                            .segment("away", "gone", 0, 24)
                            .segment("fine", "m", 0, 24)
                            .done();
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media);
  const std::vector<MissingPicture> missing = missing_pictures(*p);
  ASSERT_EQ(missing.size(), 2u);
  EXPECT_EQ(missing[0].at, (FrameRange{10, 24}));
  EXPECT_NE(missing[0].why.find("has 30"), std::string::npos) << missing[0].why;
  EXPECT_EQ(missing[1].at, (FrameRange{24, 48}));
  EXPECT_NE(missing[1].why.find("is missing"), std::string::npos) << missing[1].why;
  for (const CompiledInterval& i : p->intervals()) EXPECT_EQ(i.missing, i.in >= 10 && i.in < 48) << i.in;
  const auto notebook = Notebook::open(dir / "n.sqlite");
  const Forecast f = forecast(*p, **notebook, {}, {0, 72}, {});
  ASSERT_EQ(f.count(Verdict::missing), 1);
  const auto span = std::find_if(f.spans.begin(), f.spans.end(), [](const Span& s) { return s.verdict == Verdict::missing; });
  EXPECT_EQ((FrameRange{span->in, span->out}), (FrameRange{10, 48}));
  const Plan plan = make_plan(situation_for(p, **notebook, nullptr, media, {}, {}, Device::processor, Form::vc3_hqx), {0, 72}, {});
  EXPECT_FALSE(plan.holds);
  EXPECT_NE(plan.sentence.find("cannot be played: media missing"), std::string::npos) << plan.sentence;
  for (const FrameRange& r : plan.ranges()) EXPECT_TRUE(r.out <= 10 || r.in >= 48) << "nothing can be rendered of it";
  const Gate gate = check_gate(*p, nullptr);
  EXPECT_FALSE(gate.may_deliver());
  EXPECT_EQ(gate.count(GateKind::offline), 2);
}

// OpenTimelineIO, ImageSequenceReference: missing_frame_policy error, hold or black.
TEST(Missing, FilesOfASequenceFollowItsPolicy) {
  test::TempFolder dir;
  numbered(dir / "f.%04d.png", "-start_number 1 -frames:v 8 -pix_fmt rgb24", 1);
  fs::remove(dir / "f.0004.png");
  fs::remove(dir / "f.0005.png");
  const auto reader = [&](const std::string& policy) {
    return std::move(*FrameReader::open(sequence_path((dir / "f.%04d.png").string(), 1, 8, {25, 1}, 1, policy)));
  };
  auto error = reader("");
  ASSERT_EQ(error->info().holes.size(), 1u);
  EXPECT_EQ(error->info().holes[0], (FrameRange{3, 5}));
  EXPECT_FALSE(error->read(3));
  EXPECT_EQ(number_in(**error->read(5)), 5) << "the others play";
  auto hold = reader("hold");
  EXPECT_TRUE(hold->info().holes.empty());
  EXPECT_EQ(number_in(**hold->read(4)), 2);
  auto black = reader("black");
  const auto picture = to_image(**black->read(4), 160, 96);
  ASSERT_TRUE(picture);
  EXPECT_FLOAT_EQ(picture->row(48)[4 * 80 + 1], 0);
}

// ---- Whole timelines ------------------------------------------------------------------------------------

// Numbered pictures in every container, codec, raster, rate and tag by turns, written as others write timelines: every
// frame shows its number, or is known to have no picture. `./dev torture files` does a thousand.
TEST(ForeignTimelines, ShowTheFrameThatTheyMust) {
  test::TempFolder dir;
  int files = 0;
  for (std::uint64_t seed = 1; seed <= 7; ++seed) {
    const auto made = make_foreign(dir / std::to_string(seed), {seed, 8, {}});
    ASSERT_TRUE(made) << made.error().text();
    files += made->files;
    const auto checked = check_foreign(*made, 6, reading_with(std::make_shared<MediaCatalog>()));
    ASSERT_TRUE(checked) << checked.error().text();
    EXPECT_GT(checked->looked_at, 16);
    for (const Wrong& w : checked->wrong)
      ADD_FAILURE() << "seed " << seed << ", frame " << w.frame << ": " << w.wanted << " was wanted, " << w.shown
                    << " is shown; " << w.what;
  }
  EXPECT_GE(files, static_cast<int>(foreign_ways())) << "every way to write a file was used";
}

// The check sees a frame that is off by one.
TEST(ForeignTimelines, AWrongFrameIsFound) {
  test::TempFolder dir;
  const auto made = make_foreign(dir.path(), {3, 3, {}});
  ASSERT_TRUE(made);
  Json shows = *parse_json(*read_file(made->shows), "shows");
  int changed = 0;
  for (Json& f : shows["frames"])
    if (f["number"].is_number()) f["number"] = (f["number"].get<int>() + 1) % 256, ++changed;
  ASSERT_GT(changed, 0);
  ASSERT_TRUE(write_file_atomic(made->shows, shows.dump()));
  EXPECT_FALSE(check_foreign(*made, 6, reading_with(std::make_shared<MediaCatalog>()))->wrong.empty());
}

}  // namespace
}  // namespace gc
