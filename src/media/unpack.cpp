#include "media/unpack.h"

extern "C" {
#include <libswscale/swscale.h>
}
#include <fmt/format.h>

#include <cstring>
#include <memory>
#include <vector>

#include "media/planar.h"

namespace gc {

void component_row(const AVFrame& f, const AVPixFmtDescriptor& d, int c, int y, float* out) {
  const AVComponentDescriptor& comp = d.comp[c];
  const std::uint8_t* p =
      f.data[comp.plane] + static_cast<std::ptrdiff_t>(y) * f.linesize[comp.plane] + comp.offset;
  if (d.flags & AV_PIX_FMT_FLAG_FLOAT) {
    for (int x = 0; x < f.width; ++x, p += comp.step) {
      std::uint32_t bits;
      std::memcpy(&bits, p, 4);
      if (d.flags & AV_PIX_FMT_FLAG_BE) bits = __builtin_bswap32(bits);
      std::memcpy(out + x, &bits, 4);
    }
    return;
  }
  const float most = 1.0f / static_cast<float>((1U << comp.depth) - 1);
  if (comp.depth <= 8 && comp.shift == 0) {
    for (int x = 0; x < f.width; ++x, p += comp.step) out[x] = static_cast<float>(*p) * most;
    return;
  }
  const unsigned mask = (1U << comp.depth) - 1;
  for (int x = 0; x < f.width; ++x, p += comp.step) {
    std::uint16_t v;
    std::memcpy(&v, p, 2);
    if (d.flags & AV_PIX_FMT_FLAG_BE) v = __builtin_bswap16(v);
    out[x] = static_cast<float>((static_cast<unsigned>(v) >> comp.shift) & mask) * most;
  }
}

namespace {

std::string layout_name(const AVFrame& f) {
  const char* name = av_get_pix_fmt_name(static_cast<AVPixelFormat>(f.format));
  return name ? name : "?";
}

/// An RGB or grey frame, packed or planar, as an image of its own size.
Result<Image> unpack(const AVFrame& f) {
  const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  const bool grey = d && d->nb_components <= 2;
  const bool palette = d && (d->flags & AV_PIX_FMT_FLAG_PAL);
  // Fewer than eight bits share their byte or word with other components.
  const bool shares = d && !palette && d->comp[0].depth < 8;
  if (!d || shares || (d->flags & (AV_PIX_FMT_FLAG_HWACCEL | AV_PIX_FMT_FLAG_BITSTREAM)) ||
      (!(d->flags & AV_PIX_FMT_FLAG_RGB) && !grey && !palette))
    return bad_input(fmt::format("a picture has the pixel layout '{}', which is not read", layout_name(f)),
                     "", "Make a copy in planar YUV or RGB.");
  const bool alpha = d->flags & AV_PIX_FMT_FLAG_ALPHA;
  Image image(f.width, f.height);
  image.opaque = !alpha && !palette;
  const auto width = static_cast<std::size_t>(f.width);
  std::vector<float> rows(width * 4, 1.0f);
  for (int y = 0; y < f.height; ++y) {
    float* out = image.row(y);
    if (palette) {
      const std::uint8_t* in = f.data[0] + static_cast<std::ptrdiff_t>(y) * f.linesize[0];
      const auto* table = reinterpret_cast<const std::uint32_t*>(f.data[1]);
      for (std::size_t x = 0; x < width; ++x) {
        const std::uint32_t v = table[in[x]];  // 0xAARRGGBB
        for (std::size_t c = 0; c < 3; ++c)
          out[4 * x + c] = static_cast<float>(v >> (16 - 8 * c) & 255) / 255;
        out[4 * x + 3] = static_cast<float>(v >> 24) / 255;
      }
    } else {
      const int colours = grey ? 1 : 3;
      for (int c = 0; c < colours; ++c)
        component_row(f, *d, c, y, &rows[static_cast<std::size_t>(c) * width]);
      if (alpha) component_row(f, *d, d->nb_components - 1, y, &rows[3 * width]);
      for (std::size_t x = 0; x < width; ++x) {
        for (std::size_t c = 0; c < 3; ++c) out[4 * x + c] = rows[(grey ? 0 : c) * width + x];
        out[4 * x + 3] = rows[3 * width + x];
      }
    }
    const bool straight = !(d->flags & AV_PIX_FMT_FLAG_FLOAT);
    if (!image.opaque && straight)
      for (std::size_t x = 0; x < width; ++x)
        for (std::size_t c = 0; c < 3; ++c) out[4 * x + c] *= out[4 * x + 3];
  }
  return image;
}

}  // namespace

Result<Image> unpack_any(const AVFrame& f) {
  auto picture = unpack(f);
  const auto format = static_cast<AVPixelFormat>(f.format);
  const auto* d = av_pix_fmt_desc_get(format);
  if (picture || !d || (d->flags & AV_PIX_FMT_FLAG_HWACCEL) || !sws_isSupportedInput(format)) return picture;
  const std::unique_ptr<SwsContext, void (*)(SwsContext*)> scaler(
      sws_getContext(f.width, f.height, format, f.width, f.height, AV_PIX_FMT_RGBA64LE,
                     SWS_BICUBIC | SWS_ACCURATE_RND | SWS_FULL_CHR_H_INT | SWS_FULL_CHR_H_INP, nullptr, nullptr,
                     nullptr),
      [](SwsContext* c) { sws_freeContext(c); });
  const std::unique_ptr<AVFrame, void (*)(AVFrame*)> rgb(av_frame_alloc(), [](AVFrame* p) { av_frame_free(&p); });
  rgb->format = AV_PIX_FMT_RGBA64LE, rgb->width = f.width, rgb->height = f.height;
  if (!scaler || av_frame_get_buffer(rgb.get(), 64) < 0) return picture;
  // libswscale counts matrices by the same code points, ITU-T H.273.
  const int matrix = static_cast<int>(planar::matrix_of(f));
  sws_setColorspaceDetails(scaler.get(), sws_getCoefficients(matrix), f.color_range == AVCOL_RANGE_JPEG,
                           sws_getCoefficients(SWS_CS_DEFAULT), 1, 0, 1 << 16, 1 << 16);
  if (sws_scale(scaler.get(), f.data, f.linesize, 0, f.height, rgb->data, rgb->linesize) != f.height) return picture;
  auto image = unpack(*rgb);
  if (image) image->opaque = !(d->flags & AV_PIX_FMT_FLAG_ALPHA);
  return image;
}

}  // namespace gc
