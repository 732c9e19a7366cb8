#include "media/convert.h"

extern "C" {
#include <libavutil/display.h>
#include <libavutil/frame.h>
#include <libavutil/pixdesc.h>
}

#include <algorithm>
#include <cmath>
#include <cstring>
#include <opencv2/imgproc.hpp>

#include "media/planar.h"
#include "media/unpack.h"

#define GC_CLONES __attribute__((target_clones("arch=x86-64-v3", "default")))

namespace gc {
namespace {

using namespace planar;

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
    return environment("a picture could not be converted: " + last_error(), "", "Try again.");
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
    return environment("a picture could not be converted: " + last_error(), "", "Try again.");
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
    return environment("a picture could not be converted: " + last_error(), "", "Try again.");
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
