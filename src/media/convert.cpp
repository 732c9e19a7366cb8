#include "media/convert.h"

extern "C" {
#include <libavutil/display.h>
#include <libavutil/frame.h>
#include <libavutil/pixdesc.h>
#include <libswscale/swscale.h>
}
#include <fmt/format.h>
#include <zimg.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>
#include <mutex>
#include <opencv2/imgproc.hpp>
#include <tuple>

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

std::string zimg_text() {
  char buffer[256] = {};
  zimg_get_last_error(buffer, sizeof buffer);
  return buffer;
}

/// The matrix of a frame, by its tag; of one that has none, by its size, as players take it: standard definition is
/// BT.601's, everything else BT.709's.
AVColorSpace matrix_of(const AVFrame& f) {
  if (f.colorspace != AVCOL_SPC_UNSPECIFIED && f.colorspace != AVCOL_SPC_RESERVED) return f.colorspace;
  return f.width < 1280 && f.height <= 576 ? AVCOL_SPC_SMPTE170M : AVCOL_SPC_BT709;
}

/// Describes a planar YUV or grey frame to zimg; false for a layout that is not planar YUV.
bool describe(const AVFrame& f, zimg_image_format& z) {
  const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  if (!d || (d->flags & (AV_PIX_FMT_FLAG_RGB | AV_PIX_FMT_FLAG_BE | AV_PIX_FMT_FLAG_PAL |
                         AV_PIX_FMT_FLAG_HWACCEL | AV_PIX_FMT_FLAG_BITSTREAM | AV_PIX_FMT_FLAG_BAYER |
                         AV_PIX_FMT_FLAG_FLOAT)))
    return false;
  const bool grey = d->nb_components == 1;
  if (!grey && !(d->flags & AV_PIX_FMT_FLAG_PLANAR)) return false;
  if (!grey && (d->nb_components < 3 || d->comp[1].plane != 1 || d->comp[2].plane != 2)) return false;
  if (d->comp[0].shift != 0) return false;
  zimg_image_format_default(&z, ZIMG_API_VERSION);
  z.width = static_cast<unsigned>(f.width), z.height = static_cast<unsigned>(f.height);
  z.depth = static_cast<unsigned>(d->comp[0].depth);
  z.pixel_type = z.depth > 8 ? ZIMG_PIXEL_WORD : ZIMG_PIXEL_BYTE;
  z.subsample_w = grey ? 0 : d->log2_chroma_w, z.subsample_h = grey ? 0 : d->log2_chroma_h;
  z.color_family = grey ? ZIMG_COLOR_GREY : ZIMG_COLOR_YUV;
  // Grey pictures that do not say are full range, as picture files have them.
  const bool full = f.color_range == AVCOL_RANGE_JPEG || std::string_view(d->name).starts_with("yuvj") ||
                    (grey && f.color_range == AVCOL_RANGE_UNSPECIFIED);
  z.pixel_range = full ? ZIMG_RANGE_FULL : ZIMG_RANGE_LIMITED;
  switch (matrix_of(f)) {
    case AVCOL_SPC_BT470BG:
    case AVCOL_SPC_SMPTE170M:
      z.matrix_coefficients = ZIMG_MATRIX_BT470_BG;
      break;
    case AVCOL_SPC_FCC:
      z.matrix_coefficients = ZIMG_MATRIX_FCC;
      break;
    case AVCOL_SPC_SMPTE240M:
      z.matrix_coefficients = ZIMG_MATRIX_ST240_M;
      break;
    case AVCOL_SPC_YCGCO:
      z.matrix_coefficients = ZIMG_MATRIX_YCGCO;
      break;
    case AVCOL_SPC_BT2020_NCL:
    case AVCOL_SPC_BT2020_CL:
      z.matrix_coefficients = ZIMG_MATRIX_BT2020_NCL;
      break;
    default:
      z.matrix_coefficients = ZIMG_MATRIX_BT709;
  }
  switch (f.chroma_location) {
    case AVCHROMA_LOC_CENTER:
      z.chroma_location = ZIMG_CHROMA_CENTER;
      break;
    case AVCHROMA_LOC_TOPLEFT:
      z.chroma_location = ZIMG_CHROMA_TOP_LEFT;
      break;
    case AVCHROMA_LOC_TOP:
      z.chroma_location = ZIMG_CHROMA_TOP;
      break;
    case AVCHROMA_LOC_BOTTOMLEFT:
      z.chroma_location = ZIMG_CHROMA_BOTTOM_LEFT;
      break;
    case AVCHROMA_LOC_BOTTOM:
      z.chroma_location = ZIMG_CHROMA_BOTTOM;
      break;
    default:
      z.chroma_location = ZIMG_CHROMA_LEFT;
  }
  return true;
}

void describe_rgb(int width, int height, zimg_image_format& z, zimg_pixel_type_e type = ZIMG_PIXEL_FLOAT) {
  zimg_image_format_default(&z, ZIMG_API_VERSION);
  z.width = static_cast<unsigned>(width), z.height = static_cast<unsigned>(height);
  z.pixel_type = type;
  if (type == ZIMG_PIXEL_BYTE) z.depth = 8;
  z.color_family = ZIMG_COLOR_RGB;
  z.matrix_coefficients = ZIMG_MATRIX_RGB;
  z.pixel_range = ZIMG_RANGE_FULL;
}

/// A conversion ready to run, with what it needs of scratch. Built once per pair of formats and shared by all
/// threads: running a graph does not change it.
struct Graph {
  zimg_filter_graph* graph = nullptr;
  std::size_t scratch = 0;
  unsigned in_lines = 0, out_lines = 0;
  std::string error;
};

const Graph& graph_for(const zimg_image_format& in, const zimg_image_format& out, bool draft) {
  using Key = std::tuple<int, int, unsigned, unsigned, int, int, unsigned, unsigned, unsigned, unsigned, unsigned, int,
                         int, unsigned, bool, double, double, double, double>;
  static std::mutex mutex;
  static std::map<Key, Graph>* cache = new std::map<Key, Graph>;
  const zimg_image_format& yuv = in.color_family == ZIMG_COLOR_RGB ? out : in;
  const Key key{static_cast<int>(out.pixel_type),
                static_cast<int>(yuv.chroma_location),
                in.width,
                in.height,
                static_cast<int>(in.color_family),
                static_cast<int>(yuv.pixel_type),
                yuv.depth,
                yuv.subsample_w,
                yuv.subsample_h,
                out.width,
                out.height,
                static_cast<int>(yuv.matrix_coefficients),
                static_cast<int>(yuv.pixel_range),
                static_cast<unsigned>(yuv.color_family),
                draft,
                in.active_region.left,
                in.active_region.top,
                in.active_region.width,
                in.active_region.height};
  const std::lock_guard lock(mutex);
  auto [it, fresh] = cache->try_emplace(key);
  Graph& g = it->second;
  if (!fresh) return g;
  zimg_graph_builder_params params;
  zimg_graph_builder_params_default(&params, ZIMG_API_VERSION);
  params.resample_filter = draft ? ZIMG_RESIZE_BILINEAR : ZIMG_RESIZE_BICUBIC;
  params.resample_filter_uv = ZIMG_RESIZE_BILINEAR;
  params.dither_type = ZIMG_DITHER_NONE;
  g.graph = zimg_filter_graph_build(&in, &out, &params);
  if (!g.graph) {
    g.error = zimg_text();
    return g;
  }
  zimg_filter_graph_get_tmp_size(g.graph, &g.scratch);
  zimg_filter_graph_get_input_buffering(g.graph, &g.in_lines);
  zimg_filter_graph_get_output_buffering(g.graph, &g.out_lines);
  return g;
}

/// Scratch memory of the calling thread, kept from frame to frame.
std::uint8_t* scratch(std::size_t bytes, int slot) {
  struct Free {
    void operator()(void* p) const { std::free(p); }
  };
  struct Block {
    std::unique_ptr<void, Free> p;
    std::size_t size = 0;
  };
  thread_local Block blocks[2];
  Block& b = blocks[slot];
  if (b.size < bytes || !b.p) {
    b.size = (bytes + 4095) / 4096 * 4096;
    b.p.reset(std::aligned_alloc(64, b.size));
    if (!b.p) throw std::bad_alloc();
  }
  return static_cast<std::uint8_t*>(b.p.get());
}

GC_CLONES void interleave(const float* r, const float* g, const float* b, float* out, int n) {
  for (int i = 0; i < n; ++i) {
    out[4 * i] = r[i], out[4 * i + 1] = g[i], out[4 * i + 2] = b[i], out[4 * i + 3] = 1.0f;
  }
}
GC_CLONES void deinterleave(const float* in, float* r, float* g, float* b, int n) {
  for (int i = 0; i < n; ++i) r[i] = in[4 * i], g[i] = in[4 * i + 1], b[i] = in[4 * i + 2];
}

/// A ring of a few float RGB rows between zimg and the interleaved image, so that a row is still in the cache
/// when it changes its layout.
struct RowRing {
  Image* out = nullptr;
  const Image* in = nullptr;
  float* plane[3] = {};
  std::size_t stride = 0;  // floats
  unsigned mask = ZIMG_BUFFER_MAX;
  int left = 0, top = 0, width = 0;

  float* row(int p, unsigned y) const { return plane[p] + (y & mask) * stride; }
};

int pack_row(void* user, unsigned i, unsigned, unsigned) {
  auto& ring = *static_cast<RowRing*>(user);
  interleave(ring.row(0, i), ring.row(1, i), ring.row(2, i),
             ring.out->row(ring.top + static_cast<int>(i)) + 4 * ring.left, ring.width);
  return 0;
}
int unpack_row(void* user, unsigned i, unsigned, unsigned) {
  auto& ring = *static_cast<RowRing*>(user);
  // A chroma step asks for the first row of a pair only.
  for (unsigned y = i; y < i + 2 && static_cast<int>(y) < ring.in->height(); ++y)
    deinterleave(ring.in->row(static_cast<int>(y)), ring.row(0, y), ring.row(1, y), ring.row(2, y),
                 ring.width);
  return 0;
}

void set_up(RowRing& ring, int width, int height, unsigned lines, zimg_image_buffer& buffer) {
  unsigned mask = zimg_select_buffer_mask(std::max(lines, 4u));
  unsigned rows = mask == ZIMG_BUFFER_MAX ? static_cast<unsigned>(height) + 2 : mask + 1;
  ring.width = width;
  ring.mask = mask;
  ring.stride = (static_cast<std::size_t>(width) + 15) / 16 * 16;
  auto* base = reinterpret_cast<float*>(scratch(ring.stride * rows * 3 * sizeof(float), 0));
  buffer = {};
  buffer.version = ZIMG_API_VERSION;
  for (int p = 0; p < 3; ++p) {
    ring.plane[p] = base + ring.stride * rows * static_cast<std::size_t>(p);
    buffer.plane[p].data = ring.plane[p];
    buffer.plane[p].stride = static_cast<std::ptrdiff_t>(ring.stride * sizeof(float));
    buffer.plane[p].mask = mask;
  }
}

bool aligned(const AVFrame& f) {
  for (int p = 0; p < 3 && f.data[p]; ++p)
    if (reinterpret_cast<std::uintptr_t>(f.data[p]) % 64 != 0 || f.linesize[p] % 64 != 0) return false;
  return true;
}

/// Where on the raster a picture comes to lie, and which part of it.
struct Lie {
  int left = 0, top = 0, width = 0, height = 0;           ///< on the raster
  double from_x = 0, from_y = 0, from_w = 0, from_h = 0;  ///< of the picture

  /// @param aspect width ÷ height of a pixel of the picture
  Lie(int picture_width, int ph, int rw, int rh, const Placement& place, double aspect) {
    using Shape = Placement::Shape;
    const double pw = picture_width * aspect;
    const double fit = std::min(rw / pw, static_cast<double>(rh) / ph),
                 fill = std::max(rw / pw, static_cast<double>(rh) / ph);
    double sx = rw / pw, sy = static_cast<double>(rh) / ph;
    if (place.shape == Shape::fit) sx = sy = fit;
    if (place.shape == Shape::fill) sx = sy = fill;
    if (place.shape == Shape::centre) sx = sy = place.scale;
    const auto along = [](double picture, int raster, double scale, int& at, int& length, double& from,
                          double& part) {
      length = std::clamp(static_cast<int>(std::lround(picture * scale)), 1, raster);
      at = (raster - length) / 2;
      part = std::min(picture, length / scale);
      from = (picture - part) / 2;
    };
    along(pw, rw, sx, left, width, from_x, from_w);
    along(ph, rh, sy, top, height, from_y, from_h);
    // A picture of the raster's own shape fills it to the last pixel, however its size rounds. Pixel aspects are
    // rounded themselves.
    const bool same = aspect == 1 ? static_cast<std::int64_t>(picture_width) * rh == static_cast<std::int64_t>(ph) * rw
                                  : std::abs(pw * rh / ph - rw) < 1;
    if (place.shape != Shape::centre && same) {
      left = top = 0, width = rw, height = rh;
      from_x = from_y = 0, from_w = pw, from_h = ph;
    }
    from_x /= aspect, from_w /= aspect;
  }
};

double pixel_aspect(const AVFrame& f) {
  const AVRational a = f.sample_aspect_ratio;
  const double r = a.num > 0 && a.den > 0 ? av_q2d(a) : 1;
  // What is further off is damage.
  return r > 1.0 / 16 && r < 16 ? r : 1;
}

Orientation orientation_of(const AVFrame& f) {
  const AVFrameSideData* side = av_frame_get_side_data(&f, AV_FRAME_DATA_DISPLAYMATRIX);
  return side && side->size >= 9 * sizeof(std::int32_t)
             ? gc::orientation_of(reinterpret_cast<const std::int32_t*>(side->data))
             : Orientation{};
}

std::string layout_name(const AVFrame& f) {
  const char* name = av_get_pix_fmt_name(static_cast<AVPixelFormat>(f.format));
  return name ? name : "?";
}

/// One component of a row as floats 0…1.
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

/// Layouts that are neither planar YUV nor RGB (packed and semi-planar YUV, XYZ, sensor mosaics, one bit a pixel) go
/// through libswscale, to RGB of 16 bits.
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
  const int matrix = static_cast<int>(matrix_of(f));
  sws_setColorspaceDetails(scaler.get(), sws_getCoefficients(matrix), f.color_range == AVCOL_RANGE_JPEG,
                           sws_getCoefficients(SWS_CS_DEFAULT), 1, 0, 1 << 16, 1 << 16);
  if (sws_scale(scaler.get(), f.data, f.linesize, 0, f.height, rgb->data, rgb->linesize) != f.height) return picture;
  auto image = unpack(*rgb);
  if (image) image->opaque = !(d->flags & AV_PIX_FMT_FLAG_ALPHA);
  return image;
}

/// A copy of a planar picture whose sides are whole steps of its chroma; zimg takes no others. The last column and
/// row are repeated: the picture stays as large as it was, in a larger frame.
std::shared_ptr<AVFrame> in_whole_steps(const AVFrame& f, const zimg_image_format& z) {
  const auto up = [](int v, unsigned steps) { return (v + (1 << steps) - 1) >> steps << steps; };
  std::shared_ptr<AVFrame> p(av_frame_alloc(), [](AVFrame* x) { av_frame_free(&x); });
  p->format = f.format, p->width = up(f.width, z.subsample_w), p->height = up(f.height, z.subsample_h);
  if (av_frame_get_buffer(p.get(), 64) < 0) return nullptr;
  const std::size_t bytes = z.pixel_type == ZIMG_PIXEL_BYTE ? 1 : 2;
  for (int plane = 0; plane < 4 && f.data[plane]; ++plane) {
    const bool chroma = plane == 1 || plane == 2;
    const int w = chroma ? up(f.width, z.subsample_w) >> z.subsample_w : f.width,
              h = chroma ? up(f.height, z.subsample_h) >> z.subsample_h : f.height,
              full_w = chroma ? w : p->width, full_h = chroma ? h : p->height;
    for (int y = 0; y < full_h; ++y) {
      const std::uint8_t* from = f.data[plane] + static_cast<std::ptrdiff_t>(std::min(y, h - 1)) * f.linesize[plane];
      std::uint8_t* to = p->data[plane] + static_cast<std::ptrdiff_t>(y) * p->linesize[plane];
      std::memcpy(to, from, static_cast<std::size_t>(w) * bytes);
      for (int x = w; x < full_w; ++x)
        std::memcpy(to + static_cast<std::size_t>(x) * bytes, from + static_cast<std::size_t>(w - 1) * bytes, bytes);
    }
  }
  return p;
}

cv::Mat mat_of(const Image& image) {
  return {image.height(), image.width(), CV_32FC4, const_cast<float*>(image.data())};
}

/// Scales and places an image that is already float. Shrinking averages areas, so that fine detail does not
/// alias.
Image place(const Image& picture, int width, int height, const Placement& placement, double aspect) {
  const Lie lie(picture.width(), picture.height(), width, height, placement, aspect);
  Image image = Image::filled(width, height, 0, 0, 0, 0);
  const cv::Rect part(static_cast<int>(std::lround(lie.from_x)), static_cast<int>(std::lround(lie.from_y)),
                      std::max(1, static_cast<int>(std::lround(lie.from_w))),
                      std::max(1, static_cast<int>(std::lround(lie.from_h))));
  cv::Mat to = mat_of(image)(cv::Rect(lie.left, lie.top, lie.width, lie.height));
  const cv::Mat from = mat_of(picture)(part & cv::Rect(0, 0, picture.width(), picture.height()));
  const int how = lie.width < part.width ? cv::INTER_AREA
                  : placement.draft      ? cv::INTER_LINEAR
                                         : cv::INTER_CUBIC;
  cv::resize(from, to, to.size(), 0, 0, how);
  image.opaque = picture.opaque && lie.width == width && lie.height == height;
  return image;
}

/// Multiplies the alpha plane of a YUV picture in.
void take_alpha(const AVFrame& f, const AVPixFmtDescriptor& d, const Placement& placement, double aspect,
                Image& image) {
  Image alpha(f.width, f.height);
  std::vector<float> row(static_cast<std::size_t>(f.width));
  for (int y = 0; y < f.height; ++y) {
    component_row(f, d, 3, y, row.data());
    float* out = alpha.row(y);
    for (std::size_t x = 0; x < row.size(); ++x)
      out[4 * x] = out[4 * x + 1] = out[4 * x + 2] = out[4 * x + 3] = row[x];
  }
  const Image placed = f.width == image.width() && f.height == image.height()
                           ? std::move(alpha)
                           : place(alpha, image.width(), image.height(), placement, aspect);
  for (std::size_t i = 0; i < image.floats(); ++i)
    image.data()[i] *= std::clamp(placed.data()[i], 0.0f, 1.0f);
  image.opaque = false;
}

}  // namespace

PlacedSize placed_size(int pw, int ph, int width, int height, const Placement& placement, double aspect) {
  const Lie lie(pw, ph, width, height, placement, aspect);
  return {lie.width, lie.height, lie.from_w, lie.from_h};
}

ScalingWork scaling_work(const PlacedSize& p) {
  const double w = std::max<double>(p.width, p.from_width), h = std::max<double>(p.height, p.from_height);
  const ScalingWork across_first{w * p.from_height, h * p.width}, down_first{w * p.height, h * p.from_width};
  const auto cost = [](const ScalingWork& s) { return 2 * s.across + s.down; };
  ScalingWork work = cost(across_first) < cost(down_first) ? across_first : down_first;
  if (p.width == p.from_width) work.across = 0;
  if (p.height == p.from_height) work.down = 0;
  return work;
}

bool covers_raster(int pw, int ph, int width, int height, const Placement& placement, double aspect) {
  const PlacedSize p = placed_size(pw, ph, width, height, placement, aspect);
  return p.width == width && p.height == height;
}

namespace {

/// A ring of a few rows of bytes, red, green and blue, between zimg and the picture for the screen.
struct ByteRing {
  ScreenImage* out = nullptr;
  std::uint8_t* plane[3] = {};
  std::size_t stride = 0;
  unsigned mask = ZIMG_BUFFER_MAX;

  const std::uint8_t* row(int p, unsigned y) const { return plane[p] + (y & mask) * stride; }
};

GC_CLONES void interleave(const std::uint8_t* r, const std::uint8_t* g, const std::uint8_t* b, std::uint8_t* out, int n) {
  auto* to = reinterpret_cast<std::uint32_t*>(out);
  for (int i = 0; i < n; ++i)
    to[i] = static_cast<std::uint32_t>(b[i]) | static_cast<std::uint32_t>(g[i]) << 8 | static_cast<std::uint32_t>(r[i]) << 16 |
            0xff000000U;
}

int pack_bytes(void* user, unsigned i, unsigned, unsigned) {
  auto& ring = *static_cast<ByteRing*>(user);
  const auto width = static_cast<std::size_t>(ring.out->width);
  interleave(ring.row(0, i), ring.row(1, i), ring.row(2, i), ring.out->bgra.data() + 4 * width * i, ring.out->width);
  return 0;
}

/// A frame as it is stored, its orientation not looked at.
Result<Image> as_stored(const AVFrame& source, int width, int height, const Placement& placement, double aspect) {
  zimg_image_format in, out;
  if (!describe(source, in)) {
    auto picture = unpack_any(source);
    if (!picture || (picture->width() == width && picture->height() == height && aspect == 1)) return picture;
    return place(*picture, width, height, placement, aspect);
  }
  // The libraries' own alignment is enough as a rule; a cropped frame may not have it.
  const AVFrame* frame = &source;
  std::shared_ptr<AVFrame> moved;
  const bool odd = source.width % (1 << in.subsample_w) != 0 || source.height % (1 << in.subsample_h) != 0;
  if (odd) {
    moved = in_whole_steps(source, in);
    if (!moved) return environment("there is no memory for a picture", "", "Close other programs.");
    frame = moved.get();
    in.width = static_cast<unsigned>(moved->width), in.height = static_cast<unsigned>(moved->height);
  } else if (!aligned(source)) {
    moved.reset(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
    moved->format = source.format, moved->width = source.width, moved->height = source.height;
    if (av_frame_get_buffer(moved.get(), 64) < 0 || av_frame_copy(moved.get(), &source) < 0)
      return environment("there is no memory for a picture", "", "Close other programs.");
    frame = moved.get();
  }
  const Lie lie(source.width, source.height, width, height, placement, aspect);
  if (odd || lie.from_w < source.width || lie.from_h < source.height) {
    in.active_region.left = lie.from_x, in.active_region.top = lie.from_y;
    in.active_region.width = lie.from_w, in.active_region.height = lie.from_h;
  }
  describe_rgb(lie.width, lie.height, out);
  const Graph& g = graph_for(in, out, placement.draft);
  if (!g.graph)
    return bad_input("a picture cannot be converted: " + g.error, "", "Make a copy in planar YUV.");

  const bool whole = lie.width == width && lie.height == height;
  Image image = whole ? Image(width, height) : Image::filled(width, height, 0, 0, 0, 0);
  image.opaque = whole;
  zimg_image_buffer_const from = {};
  from.version = ZIMG_API_VERSION;
  for (int p = 0; p < 3 && frame->data[p]; ++p) {
    from.plane[p].data = frame->data[p];
    from.plane[p].stride = frame->linesize[p];
    from.plane[p].mask = ZIMG_BUFFER_MAX;
  }
  RowRing ring;
  ring.out = &image, ring.left = lie.left, ring.top = lie.top;
  zimg_image_buffer to;
  set_up(ring, lie.width, lie.height, g.out_lines, to);
  if (zimg_filter_graph_process(g.graph, &from, &to, scratch(g.scratch, 1), nullptr, nullptr, pack_row,
                                &ring) != ZIMG_ERROR_SUCCESS)
    return environment("a picture could not be converted: " + zimg_text(), "", "Try again.");
  if (const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(source.format));
      d->nb_components == 4 && (d->flags & AV_PIX_FMT_FLAG_ALPHA))
    take_alpha(source, *d, placement, aspect, image);
  return image;
}

}  // namespace

bool goes_straight(const MediaInfo& info) {
  const auto* d = av_pix_fmt_desc_get(av_get_pix_fmt(info.pixel_format.c_str()));
  zimg_image_format z;
  AVFrame f = {};
  f.format = av_get_pix_fmt(info.pixel_format.c_str()), f.width = info.width, f.height = info.height;
  return d && !(d->flags & AV_PIX_FMT_FLAG_ALPHA) && info.orientation.upright() && describe(f, z) &&
         info.width % (1 << z.subsample_w) == 0 && info.height % (1 << z.subsample_h) == 0;
}

Result<bool> to_screen(const AVFrame& frame, int width, int height, const Placement& placement, ScreenImage& out) {
  zimg_image_format in, to_format;
  const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(frame.format));
  if (!d || (d->flags & AV_PIX_FMT_FLAG_ALPHA) || !describe(frame, in) || !orientation_of(frame).upright() ||
      !aligned(frame) || frame.width % (1 << in.subsample_w) != 0 || frame.height % (1 << in.subsample_h) != 0)
    return false;
  const Lie lie(frame.width, frame.height, width, height, placement, pixel_aspect(frame));
  if (lie.width != width || lie.height != height) return false;
  if (lie.from_w < frame.width || lie.from_h < frame.height) {
    in.active_region.left = lie.from_x, in.active_region.top = lie.from_y;
    in.active_region.width = lie.from_w, in.active_region.height = lie.from_h;
  }
  describe_rgb(width, height, to_format, ZIMG_PIXEL_BYTE);
  const Graph& g = graph_for(in, to_format, placement.draft);
  if (!g.graph) return false;
  out.width = width, out.height = height;
  out.bgra.resize(static_cast<std::size_t>(width) * static_cast<std::size_t>(height) * 4);
  ByteRing ring;
  ring.out = &out;
  ring.mask = zimg_select_buffer_mask(std::max(g.out_lines, 4u));
  const unsigned rows = ring.mask == ZIMG_BUFFER_MAX ? static_cast<unsigned>(height) + 2 : ring.mask + 1;
  ring.stride = (static_cast<std::size_t>(width) + 63) / 64 * 64;
  zimg_image_buffer to = {};
  to.version = ZIMG_API_VERSION;
  std::uint8_t* base = scratch(ring.stride * rows * 3, 0);
  for (int p = 0; p < 3; ++p) {
    ring.plane[p] = base + ring.stride * rows * static_cast<std::size_t>(p);
    to.plane[p].data = ring.plane[p];
    to.plane[p].stride = static_cast<std::ptrdiff_t>(ring.stride);
    to.plane[p].mask = ring.mask;
  }
  zimg_image_buffer_const from = {};
  from.version = ZIMG_API_VERSION;
  for (int p = 0; p < 3 && frame.data[p]; ++p) {
    from.plane[p].data = frame.data[p];
    from.plane[p].stride = frame.linesize[p];
    from.plane[p].mask = ZIMG_BUFFER_MAX;
  }
  if (zimg_filter_graph_process(g.graph, &from, &to, scratch(g.scratch, 1), nullptr, nullptr, pack_bytes, &ring) !=
      ZIMG_ERROR_SUCCESS)
    return environment("a picture could not be converted: " + zimg_text(), "", "Try again.");
  return true;
}

Result<Image> to_image(const AVFrame& source, int width, int height, const Placement& placement) {
  const Orientation o = orientation_of(source);
  const double aspect = pixel_aspect(source);
  if (o.upright()) return as_stored(source, width, height, placement, aspect);
  auto stored = as_stored(source, source.width, source.height, {Placement::Shape::stretch, 1, placement.draft}, 1);
  if (!stored) return stored;
  Image upright(o.exchanged ? source.height : source.width, o.exchanged ? source.width : source.height);
  upright.opaque = stored->opaque;
  cv::Mat to = mat_of(upright);
  if (o.exchanged) cv::transpose(mat_of(*stored), to);
  else mat_of(*stored).copyTo(to);
  if (o.flip_x || o.flip_y) cv::flip(to, to, o.flip_x && o.flip_y ? -1 : o.flip_x ? 1 : 0);
  const double seen = o.exchanged ? 1 / aspect : aspect;
  if (upright.width() == width && upright.height() == height && seen == 1) return upright;
  return place(upright, width, height, placement, seen);
}

namespace {

/// Red, green and blue of a picture, whatever its alpha.
Result<void> from_opaque(const Image& image, AVFrame& frame) {
  zimg_image_format in, out;
  describe_rgb(image.width(), image.height(), in);
  if (!describe(frame, out) || frame.width != image.width() || frame.height != image.height())
    return bad_input("a picture cannot be encoded in this layout", "", "Choose another codec.");
  const Graph& g = graph_for(in, out, false);
  if (!g.graph) return bad_input("a picture cannot be converted: " + g.error, "", "Choose another codec.");
  RowRing ring;
  ring.in = &image;
  zimg_image_buffer from_rw;
  set_up(ring, image.width(), image.height(), g.in_lines, from_rw);
  zimg_image_buffer_const from = {};
  from.version = ZIMG_API_VERSION;
  zimg_image_buffer to = {};
  to.version = ZIMG_API_VERSION;
  for (int p = 0; p < 3; ++p) {
    from.plane[p].data = from_rw.plane[p].data;
    from.plane[p].stride = from_rw.plane[p].stride;
    from.plane[p].mask = from_rw.plane[p].mask;
    to.plane[p].data = frame.data[p];
    to.plane[p].stride = frame.linesize[p];
    to.plane[p].mask = ZIMG_BUFFER_MAX;
  }
  if (zimg_filter_graph_process(g.graph, &from, &to, scratch(g.scratch, 1), unpack_row, &ring, nullptr,
                                nullptr) != ZIMG_ERROR_SUCCESS)
    return environment("a picture could not be converted: " + zimg_text(), "", "Try again.");
  return {};
}

/// Alpha into the fourth plane of 10-bit layouts, full range.
void write_alpha(const Image& image, AVFrame& frame) {
  for (int y = 0; y < image.height(); ++y) {
    auto* to =
        reinterpret_cast<std::uint16_t*>(frame.data[3] + static_cast<std::ptrdiff_t>(y) * frame.linesize[3]);
    const float* p = image.row(y);
    for (int x = 0; x < image.width(); ++x)
      to[x] = static_cast<std::uint16_t>(std::lround(std::clamp(p[4 * x + 3], 0.0f, 1.0f) * 1023));
  }
}

/// Planes of floats, colours multiplied by alpha as OpenEXR has them, within what half floats hold (IEEE 754, binary16).
void write_light(const Image& image, AVFrame& frame) {
  constexpr float kMost = 65504;
  constexpr int kPlanes[] = {2, 0, 1, 3};  // of red, green, blue, alpha
  for (int c = 0; c < (frame.format == AV_PIX_FMT_GBRAPF32LE ? 4 : 3); ++c)
    for (int y = 0; y < image.height(); ++y) {
      auto* to = reinterpret_cast<float*>(frame.data[kPlanes[c]] + static_cast<std::ptrdiff_t>(y) * frame.linesize[kPlanes[c]]);
      const float* p = image.row(y) + c;
      for (int x = 0; x < image.width(); ++x) {
        const float v = p[4 * static_cast<std::ptrdiff_t>(x)];
        to[x] = v != v ? 0 : std::clamp(v, -kMost, kMost);
      }
    }
}

}  // namespace

Result<void> from_image(const Image& image, AVFrame& frame) {
  if (frame.format == AV_PIX_FMT_GBRPF32LE || frame.format == AV_PIX_FMT_GBRAPF32LE) {
    if (frame.width != image.width() || frame.height != image.height())
      return bad_input("a picture cannot be encoded in this size", "", "Choose another raster.");
    write_light(image, frame);
    return {};
  }
  if (frame.format == AV_PIX_FMT_YUVA444P10) {
    write_alpha(image, frame);
    if (!image.opaque) {
      // Files keep colours apart from alpha.
      Image straight = image.copy();
      float* p = straight.data();
      for (std::size_t i = 0; i < straight.floats(); i += 4)
        for (std::size_t c = 0; c < 3; ++c) p[i + c] = p[i + 3] > 0 ? p[i + c] / p[i + 3] : 0;
      straight.opaque = true;
      return from_opaque(straight, frame);
    }
  }
  return from_opaque(image, frame);
}

}  // namespace gc
