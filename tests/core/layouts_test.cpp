// Pictures of every raster and pixel layout, against FFmpeg's own conversions.
#include "media/compare.h"
#include "support.h"

extern "C" {
#include <libavutil/pixdesc.h>
#include <libswscale/swscale.h>
}

namespace gc {
namespace {

using FrameOwner = std::unique_ptr<AVFrame, void (*)(AVFrame*)>;
FrameOwner frame(AVPixelFormat format, int width, int height) {
  FrameOwner f(av_frame_alloc(), [](AVFrame* p) { av_frame_free(&p); });
  f->format = format, f->width = width, f->height = height;
  EXPECT_EQ(av_frame_get_buffer(f.get(), 32), 0) << av_get_pix_fmt_name(format);
  return f;
}

/// A smooth picture: what a conversion does to edges of colour is a matter of taste, this is not.
FrameOwner slopes(int width, int height) {
  FrameOwner f = frame(AV_PIX_FMT_RGBA64LE, width, height);
  for (int y = 0; y < height; ++y) {
    auto* p = reinterpret_cast<std::uint16_t*>(f->data[0] + static_cast<std::ptrdiff_t>(y) * f->linesize[0]);
    for (int x = 0; x < width; ++x, p += 4) {
      const double u = (x + 0.5) / width, v = (y + 0.5) / height;
      p[0] = static_cast<std::uint16_t>(65535 * (0.15 + 0.6 * u));
      p[1] = static_cast<std::uint16_t>(65535 * (0.2 + 0.5 * v));
      p[2] = static_cast<std::uint16_t>(65535 * (0.6 - 0.3 * u + 0.1 * v));
      p[3] = 65535;
    }
  }
  return f;
}

/// By libswscale, full range for RGB, matrix and range as the frame says.
bool convert(const AVFrame& from, AVFrame& to, int matrix, bool full) {
  SwsContext* c = sws_getContext(from.width, from.height, static_cast<AVPixelFormat>(from.format), to.width, to.height,
                                 static_cast<AVPixelFormat>(to.format),
                                 SWS_BICUBIC | SWS_ACCURATE_RND | SWS_FULL_CHR_H_INT | SWS_FULL_CHR_H_INP, nullptr,
                                 nullptr, nullptr);
  if (!c) return false;
  const int* k = sws_getCoefficients(matrix);
  sws_setColorspaceDetails(c, k, 1, k, full, 0, 1 << 16, 1 << 16);
  const int done = sws_scale(c, from.data, from.linesize, 0, from.height, to.data, to.linesize);
  sws_freeContext(c);
  return done == to.height;
}

class Rasters : public testing::TestWithParam<std::tuple<int, int, AVPixelFormat>> {};

// Against the picture that went in, converted there by FFmpeg's libswscale: PSNR of 40 dB or more over all of it, and
// over the last rows and columns by themselves, where a size that is no whole step of the chroma goes wrong.
TEST_P(Rasters, OfAnySizeAreTheRightPicture) {
  const auto [width, height, format] = GetParam();
  const FrameOwner rgb = slopes(width, height), yuv = frame(format, width, height);
  yuv->colorspace = AVCOL_SPC_BT709, yuv->color_range = AVCOL_RANGE_MPEG;
  ASSERT_TRUE(convert(*rgb, *yuv, SWS_CS_ITU709, false));
  const auto wanted = to_image(*rgb, width, height), got = to_image(*yuv, width, height);
  ASSERT_TRUE(wanted);
  ASSERT_TRUE(got) << got.error().text();
  double sum = 0, edge = 0, n = 0, edges = 0;
  for (int y = 0; y < height; ++y)
    for (int x = 0; x < width; ++x)
      for (int c = 0; c < 3; ++c) {
        const double e = static_cast<double>(got->row(y)[4 * x + c] - wanted->row(y)[4 * x + c]);
        sum += e * e, n += 1;
        if (x >= width - 2 || y >= height - 2) edge += e * e, edges += 1;
      }
  EXPECT_GE(-10 * std::log10(sum / n + 1e-12), 40);
  EXPECT_GE(-10 * std::log10(edge / edges + 1e-12), 34);
  // And brought to another raster.
  const auto placed = to_image(*yuv, 320, 180, {Placement::Shape::stretch, 1, false}),
             as_rgb = to_image(*rgb, 320, 180, {Placement::Shape::stretch, 1, false});
  ASSERT_TRUE(placed && as_rgb);
  EXPECT_GE(psnr(*placed, *as_rgb), 36);
}
INSTANTIATE_TEST_SUITE_P(Odd, Rasters,
                         testing::Combine(testing::Values(1279, 1280, 641, 3), testing::Values(719, 720, 361, 1),
                                          testing::Values(AV_PIX_FMT_YUV420P, AV_PIX_FMT_YUV422P, AV_PIX_FMT_YUV420P10LE,
                                                          AV_PIX_FMT_YUV444P)));

// Every layout that libav knows and libswscale can write: the right picture, or a reason. 30 dB lets no wrong order of
// channels pass; layouts of a few bits come no nearer than their steps.
TEST(PixelLayouts, AreReadRightlyOrRefusedWithTheReason) {
  constexpr int kWide = 66, kHigh = 38;
  const FrameOwner rgb = slopes(kWide, kHigh);
  const auto wanted = to_image(*rgb, kWide, kHigh);
  ASSERT_TRUE(wanted);
  int right = 0, refused = 0;
  for (const AVPixFmtDescriptor* d = av_pix_fmt_desc_next(nullptr); d; d = av_pix_fmt_desc_next(d)) {
    const AVPixelFormat format = av_pix_fmt_desc_get_id(d);
    if ((d->flags & AV_PIX_FMT_FLAG_HWACCEL) || !sws_isSupportedOutput(format)) continue;
    const FrameOwner f = frame(format, kWide, kHigh);
    const bool grey = d->nb_components <= 2 && !(d->flags & AV_PIX_FMT_FLAG_RGB),
               full = (d->flags & AV_PIX_FMT_FLAG_RGB) || grey || std::string(d->name).starts_with("yuvj");
    f->colorspace = AVCOL_SPC_BT709, f->color_range = full ? AVCOL_RANGE_JPEG : AVCOL_RANGE_MPEG;
    if (!convert(*rgb, *f, SWS_CS_ITU709, full)) continue;
    const auto got = to_image(*f, kWide, kHigh);
    if (!got) {
      ++refused;
      EXPECT_FALSE(got.error().remedy.empty()) << d->name;
      // libswscale writes them, and reads them no more than we do.
      EXPECT_TRUE(std::string(d->name) == "rgb4" || std::string(d->name) == "bgr4")
          << d->name << ": " << got.error().text();
      continue;
    }
    if (grey || (d->flags & AV_PIX_FMT_FLAG_FLOAT)) {
      ++right;  // one channel, or linear light: another picture by definition, tried elsewhere
      continue;
    }
    const int bits = av_get_bits_per_pixel(d);
    EXPECT_GE(psnr(*got, *wanted), bits <= 4 ? 7 : d->comp[0].depth < 5 || bits < 8 ? 14 : 30) << d->name;
    ++right;
  }
  EXPECT_GE(right, 120);
  EXPECT_LE(refused, 2);
}

// A file of an odd raster, decoded by FFmpeg to RGB beside it.
TEST(PixelLayouts, AFileOfAnOddRasterIsNoStripes) {
  const test::TempFolder dir;
  const std::string clip = (dir / "odd.mkv").string(), ref = (dir / "ref.png").string();
  ASSERT_TRUE(test::shell("ffmpeg -v error -f lavfi -i gradients=s=641x361:n=3:seed=5:d=1 -frames:v 3 -pix_fmt yuv420p "
                          "-colorspace bt709 -color_range tv -c:v ffv1 '" + clip + "'"));
  ASSERT_TRUE(test::shell("ffmpeg -v error -i '" + clip + "' -frames:v 1 -vf "
                          "scale=in_color_matrix=bt709:flags=accurate_rnd+full_chroma_int+full_chroma_inp -pix_fmt rgb24 '" +
                          ref + "'"));
  MediaCatalog media;
  const ProgramPtr p = Program::compile(
      test::Build(641, 361).media("m", clip, 3).track("V1").segment("a", "m", 0, 3).done(), media);
  const Image got = test::frame_of(*p, 0), wanted = test::load_picture(ref);
  EXPECT_GE(psnr(got, wanted), 38);
  EXPECT_TRUE(check_gate(*p, nullptr).may_deliver());
}

}  // namespace
}  // namespace gc
