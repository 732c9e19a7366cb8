// The ffmpeg program's frames against ours, for every way in which a file can be written: exact by hash where it decodes,
// 50 dB where a conversion lies between.
#include <algorithm>
#include <bit>
#include <set>

#include "audit/foreign.h"
#include "audit/foreign_files.h"
#include "effects/registry.h"
#include "media/compare.h"
#include "media/convert.h"
#include "support.h"

extern "C" {
#include <libavutil/frame.h>
#include <libavutil/imgutils.h>
#include <libavutil/md5.h>
#include <libavutil/pixdesc.h>
}

namespace gc {
namespace {

/// MD5 of the samples without padding, as FFmpeg's framemd5 format has it.
std::string md5_of(const AVFrame& f) {
  const auto format = static_cast<AVPixelFormat>(f.format);
  std::vector<std::uint8_t> bytes(static_cast<std::size_t>(av_image_get_buffer_size(format, f.width, f.height, 1)));
  av_image_copy_to_buffer(bytes.data(), static_cast<int>(bytes.size()), f.data, f.linesize, format, f.width, f.height, 1);
  std::array<std::uint8_t, 16> sum;
  av_md5_sum(sum.data(), bytes.data(), bytes.size());
  std::string text;
  for (const std::uint8_t b : sum) text += fmt::format("{:02x}", b);
  return text;
}

std::string quoted(const ForeignFile& f) { return (f.sequence ? "-start_number 1 -i '" : "-i '") + f.file + "'"; }

/// Of each frame, in the order in which they are shown.
std::vector<std::string> ffmpegs_hashes(const ForeignFile& f, const fs::path& list) {
  EXPECT_TRUE(test::shell("ffmpeg -v error -y " + quoted(f) + " -map 0:v -fps_mode passthrough -f framemd5 '" + list.string() + "'"));
  std::vector<std::string> all;
  std::istringstream lines(*read_file(list));
  for (std::string line; std::getline(lines, line);)
    if (!line.starts_with("#")) all.push_back(line.substr(line.rfind(' ') + 1));
  return all;
}

/// Where the samples of halved chroma lie, for FFmpeg's scaler, which has to be told (ITU-T H.264, E.2.1: left where
/// nothing is said; JFIF: in the middle).
std::string siting(const AVFrame& f) {
  const AVPixFmtDescriptor& d = *av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  if (d.flags & AV_PIX_FMT_FLAG_RGB || d.nb_components < 3) return "";
  const bool middle = f.chroma_location == AVCHROMA_LOC_CENTER, top = f.chroma_location == AVCHROMA_LOC_TOPLEFT;
  std::string said;
  if (d.log2_chroma_w > 0) said += fmt::format(":in_h_chr_pos={}", middle ? 128 : 0);
  if (d.log2_chroma_h > 0) said += fmt::format(":in_v_chr_pos={}", top ? 0 : 128);
  return said;
}

/// A frame as FFmpeg's own scaler makes RGB of it.
Image ffmpegs_picture(const ForeignFile& f, const AVFrame& decoded, int frame, const fs::path& raw) {
  const int width = decoded.width, height = decoded.height;
  EXPECT_TRUE(test::shell(fmt::format("ffmpeg -v error -y {} -map 0:v -vf \"select=eq(n\\,{}),scale=flags=accurate_rnd+full_chroma_int+full_chroma_inp+bicubic{},format=gbrp16le\" "
                                      "-frames:v 1 -pix_fmt gbrp16le -f rawvideo '{}'", quoted(f), frame, siting(decoded), raw.string())));
  const std::string bytes = *read_file(raw);
  Image image(width, height);
  EXPECT_EQ(bytes.size(), static_cast<std::size_t>(width * height * 6));
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x) {
      for (int c = 0; c < 3; ++c) {
        constexpr std::array<int, 3> kPlane{2, 0, 1};  // green, blue, red
        const std::size_t at = static_cast<std::size_t>(((kPlane[static_cast<std::size_t>(c)] * height + y) * width + x) * 2);
        image.row(y)[4 * x + c] = static_cast<float>(static_cast<unsigned char>(bytes[at]) | static_cast<unsigned char>(bytes[at + 1]) << 8) / 65535;
      }
      image.row(y)[4 * x + 3] = 1;
    }
  return image;
}

// Soft colours that move: where two scalers place the samples of halved chroma a little differently, little differs.
constexpr const char* kColours =
    "scale=iw/4:ih/4,format=gbrp,geq=r='128+100*sin(X/9+N/9)':g='128+90*sin(Y/8)':b='128+100*cos((X+Y)/11-N/5)',scale=iw*4:ih*4";

TEST(FfmpegsFrames, AreOursInEveryFormThatAFileCanHave) {
  test::TempFolder dir;
  std::mt19937_64 any(5);
  for (std::size_t way = 0; way < foreign_ways(); ++way) {
    const auto made = make_foreign_file(dir.path(), static_cast<int>(way), way, any, true, kColours);
    ASSERT_TRUE(made) << made.error().text();
    SCOPED_TRACE(made->kind);
    const std::string path = made->sequence ? sequence_path(made->file, 1, made->frames, {made->num, made->den}, 1, "") : made->file;
    auto reader = FrameReader::open(path);
    ASSERT_TRUE(reader) << reader.error().text();
    const std::vector<std::string> theirs = ffmpegs_hashes(*made, dir / "list");
    ASSERT_EQ(static_cast<int>(theirs.size()), made->frames);
    EXPECT_EQ((*reader)->info().frames, made->frames);
    int same = 0;
    for (Frames n = 0; n < made->frames; ++n) {
      const auto frame = (*reader)->read(n);
      ASSERT_TRUE(frame) << n << ": " << frame.error().text();
      same += md5_of(**frame) == theirs[static_cast<std::size_t>(n)];
    }
    EXPECT_EQ(same, made->frames);
    const auto frame = (*reader)->read(11);
    ASSERT_TRUE(frame);
    // As stored, whatever the pixels' aspect: how wide they are seen is another test's.
    Placement stored;
    stored.shape = Placement::Shape::stretch;
    const auto ours = to_image(**frame, (*frame)->width, (*frame)->height, stored);
    ASSERT_TRUE(ours) << ours.error().text();
    EXPECT_GE(psnr(*ours, ffmpegs_picture(*made, **frame, 11, dir / "raw")), 50);
  }
}

/// Bits of an H.264 stream, most significant first (ITU-T H.264, 7.2 and 9.1).
class Bits {
 public:
  void fixed(int bits, unsigned value) {
    for (int b = bits; b-- > 0;) {
      byte_ = byte_ << 1 | (value >> b & 1);
      if (++used_ == 8) bytes_.push_back(static_cast<char>(byte_)), byte_ = 0, used_ = 0;
    }
  }
  /// Exp-Golomb code.
  void golomb(unsigned value) {
    const int length = std::bit_width(value + 1);
    fixed(2 * length - 1, value + 1);
  }
  void to_byte() {
    while (used_) fixed(1, 0);
  }
  /// As a unit of the stream, with the bytes between that keep start codes from appearing by chance (7.4.1).
  std::string unit(unsigned importance, unsigned type) {
    fixed(1, 1);
    to_byte();
    std::string all{0, 0, 0, 1, static_cast<char>(importance << 5 | type)};
    int zeros = 0;
    for (const char c : bytes_) {
      if (zeros == 2 && static_cast<unsigned char>(c) <= 3) all += '\3', zeros = 0;
      all += c;
      zeros = c == 0 ? zeros + 1 : 0;
    }
    return all;
  }

 private:
  std::string bytes_;
  unsigned byte_ = 0;
  int used_ = 0;
};

constexpr int kFieldRaster = 64;  // px, both ways: a field has 4 by 2 macroblocks

std::string set_up_of_fields() {
  Bits sequence;
  for (const unsigned byte : {77u, 0u, 30u}) sequence.fixed(8, byte);  // Main profile, level 3
  for (const unsigned v : {0u, 0u, 0u, 4u, 1u}) sequence.golomb(v);     // 4 bits of frame number, 8 of picture order
  sequence.fixed(1, 0);
  for (const unsigned v : {3u, 1u}) sequence.golomb(v);
  for (const unsigned bit : {0u, 0u, 1u, 0u, 0u}) sequence.fixed(1, bit);  // frame_mbs_only_flag is 0: fields are possible
  Bits picture;
  for (const unsigned v : {0u, 0u}) picture.golomb(v);
  picture.fixed(2, 0);
  for (const unsigned v : {0u, 0u, 0u}) picture.golomb(v);
  picture.fixed(3, 0);
  for (const unsigned v : {0u, 0u, 0u}) picture.golomb(v);
  for (const unsigned bit : {1u, 0u, 0u}) picture.fixed(1, bit);
  return sequence.unit(3, 7) + picture.unit(3, 8);
}

/// One field, every sample of which has one value.
std::string field(int frame, bool second, unsigned luma) {
  const bool first_of_all = frame == 0 && !second;
  Bits slice;
  for (const unsigned v : {0u, 7u, 0u}) slice.golomb(v);
  slice.fixed(4, static_cast<unsigned>(frame) % 16);
  slice.fixed(2, second ? 3 : 2);  // a field; the upper or the lower
  if (first_of_all) slice.golomb(0);
  slice.fixed(8, static_cast<unsigned>(2 * frame + second));
  slice.fixed(first_of_all ? 2 : 1, 0);
  slice.golomb(0);
  slice.golomb(1);  // no deblocking
  for (int block = 0; block < 8; ++block) {
    slice.golomb(25);  // I_PCM
    slice.to_byte();
    for (int i = 0; i < 256; ++i) slice.fixed(8, luma);
    for (int i = 0; i < 128; ++i) slice.fixed(8, 128);
  }
  return slice.unit(2, first_of_all ? 5 : 1);
}

// A stream whose fields are coded one by one: two of them are one picture, also where nothing states any time. No encoder
// at hand writes such streams, so it is written bit by bit, uncompressed.
TEST(FfmpegsFrames, AreOursWhereEveryFieldIsAPictureOfItsOwn) {
  test::TempFolder dir;
  constexpr int kFrames = 12;
  std::string stream;
  for (int n = 0; n < kFrames; ++n) {
    if (n == 0) stream += set_up_of_fields();
    stream += field(n, false, static_cast<unsigned>(40 + 10 * n)) + field(n, true, static_cast<unsigned>(45 + 10 * n));
  }
  const std::string raw = (dir / "fields.h264").string();
  ASSERT_TRUE(write_file_atomic(raw, stream));
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -r 50 -i '" + raw + "' -c copy '" + (dir / "fields.ts").string() + "'"));
  for (const char* name : {"fields.h264", "fields.ts"}) {
    SCOPED_TRACE(name);
    ForeignFile file;
    file.file = (dir / name).string();
    const std::vector<std::string> theirs = ffmpegs_hashes(file, dir / "list");
    ASSERT_EQ(theirs.size(), static_cast<std::size_t>(kFrames));
    auto reader = FrameReader::open(file.file);
    ASSERT_TRUE(reader) << reader.error().text();
    // A transport stream gives every field a time, and its pictures last two of them.
    const Frames each = std::string_view(name) == "fields.ts" ? 2 : 1;
    EXPECT_EQ((*reader)->info().frames, kFrames * each);
    EXPECT_EQ((*reader)->info().rate, (Rate{25 * each, 1}));
    for (const int n : {0, 7, 3, kFrames - 1}) {
      const auto frame = (*reader)->read(n * each);
      ASSERT_TRUE(frame) << n << ": " << frame.error().text();
      EXPECT_EQ(md5_of(**frame), theirs[static_cast<std::size_t>(n)]) << n;
      EXPECT_EQ((*frame)->data[0][0], 40 + 10 * n) << "the upper field";
      EXPECT_EQ((*frame)->data[0][(*frame)->linesize[0]], 45 + 10 * n) << "the lower field";
    }
    EXPECT_FALSE((*reader)->read(kFrames * each));
  }
}

/// Every value of `key` anywhere in a document.
void collect(const Json& j, const std::string& key, std::set<std::string>& found) {
  if (j.is_object())
    for (const auto& [name, value] : j.items()) {
      if (name == key && value.is_string()) found.insert(value.get<std::string>());
      if (name == key && !value.is_string()) found.insert("");
      collect(value, key, found);
    }
  if (j.is_array())
    for (const Json& value : j) collect(value, key, found);
}

// What foreign timelines hold, so that "every frame is right" says something about all of it.
TEST(ForeignTimelines, HoldEveryEffectAndEveryKindOfLayer) {
  test::TempFolder dir;
  std::set<std::string> effects, generators, kinds, blends, mattes, between, keys, angles, compositions, schemas;
  for (std::uint64_t seed = 1; seed <= 6; ++seed) {
    const auto made = make_foreign(dir / std::to_string(seed), {seed, 6, {}});
    ASSERT_TRUE(made) << made.error().text();
    const Json document = *parse_json(*read_file(made->timeline), "timeline");
    collect(document, "effect_name", effects);
    collect(document, "generator_kind", generators);
    collect(document, "kind", kinds);
    collect(document, "blend", blends);
    collect(document, "matte", mattes);
    collect(document, "between", between);
    collect(document, "way", keys);
    collect(document, "active_media_reference_key", angles);
    collect(document, "composition", compositions);
    collect(document, "OTIO_SCHEMA", schemas);
  }
  for (const EffectType* type : effect_types())
    if (type != &cost_card_effect()) EXPECT_TRUE(effects.contains(type->id)) << type->id;
  for (const EffectType* type : generator_types()) EXPECT_TRUE(generators.contains(type->id)) << type->id;
  EXPECT_TRUE(generators.contains("adjustment"));
  EXPECT_TRUE(generators.contains("Somebody's bars")) << "one that is not ours";
  for (const char* kind : {"alpha", "luma"}) EXPECT_TRUE(kinds.contains(kind)) << kind;
  EXPECT_GE(blends.size(), 4u);
  EXPECT_FALSE(mattes.empty());
  EXPECT_EQ(between, (std::set<std::string>{"blend", "flow"}));
  EXPECT_EQ(keys, (std::set<std::string>{"hold", "linear", "smooth"}));
  EXPECT_TRUE(angles.contains("other camera"));
  EXPECT_FALSE(compositions.empty());
  for (const char* schema : {"LinearTimeWarp.1", "FreezeFrame.1", "ImageSequenceReference.1", "Transition.1", "Stack.1", "Gap.1"})
    EXPECT_TRUE(schemas.contains(schema)) << schema;
}

}  // namespace
}  // namespace gc
