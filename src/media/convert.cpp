#include "media/convert.h"

extern "C" {
#include <libavutil/frame.h>
#include <libavutil/pixdesc.h>
}
#include <fmt/format.h>
#include <zimg.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <map>
#include <mutex>
#include <tuple>

#define GC_CLONES __attribute__((target_clones("avx2", "default")))

namespace gc {
namespace {

std::string zimg_text() {
  char buffer[256] = {};
  zimg_get_last_error(buffer, sizeof buffer);
  return buffer;
}

/// Describes a planar YUV or grey frame to zimg; false for a layout that is not planar YUV.
bool describe(const AVFrame& f, zimg_image_format& z) {
  const auto* d = av_pix_fmt_desc_get(static_cast<AVPixelFormat>(f.format));
  if (!d || (d->flags & (AV_PIX_FMT_FLAG_RGB | AV_PIX_FMT_FLAG_BE | AV_PIX_FMT_FLAG_PAL |
                         AV_PIX_FMT_FLAG_HWACCEL | AV_PIX_FMT_FLAG_BITSTREAM)))
    return false;
  const bool grey = d->nb_components == 1;
  if (!grey && !(d->flags & AV_PIX_FMT_FLAG_PLANAR)) return false;
  if (!grey && (d->comp[1].plane != 1 || d->comp[2].plane != 2)) return false;
  zimg_image_format_default(&z, ZIMG_API_VERSION);
  z.width = static_cast<unsigned>(f.width), z.height = static_cast<unsigned>(f.height);
  z.depth = static_cast<unsigned>(d->comp[0].depth);
  z.pixel_type = z.depth > 8 ? ZIMG_PIXEL_WORD : ZIMG_PIXEL_BYTE;
  z.subsample_w = grey ? 0 : d->log2_chroma_w, z.subsample_h = grey ? 0 : d->log2_chroma_h;
  z.color_family = grey ? ZIMG_COLOR_GREY : ZIMG_COLOR_YUV;
  const bool full = f.color_range == AVCOL_RANGE_JPEG || std::string_view(d->name).starts_with("yuvj");
  z.pixel_range = full ? ZIMG_RANGE_FULL : ZIMG_RANGE_LIMITED;
  switch (f.colorspace) {
    case AVCOL_SPC_BT470BG:
    case AVCOL_SPC_SMPTE170M:
      z.matrix_coefficients = ZIMG_MATRIX_BT470_BG;
      break;
    case AVCOL_SPC_BT2020_NCL:
      z.matrix_coefficients = ZIMG_MATRIX_BT2020_NCL;
      break;
    default:
      z.matrix_coefficients = ZIMG_MATRIX_BT709;
  }
  z.chroma_location = z.subsample_h ? ZIMG_CHROMA_LEFT : ZIMG_CHROMA_LEFT;
  return true;
}

void describe_rgb(int width, int height, zimg_image_format& z) {
  zimg_image_format_default(&z, ZIMG_API_VERSION);
  z.width = static_cast<unsigned>(width), z.height = static_cast<unsigned>(height);
  z.pixel_type = ZIMG_PIXEL_FLOAT;
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

const Graph& graph_for(const zimg_image_format& in, const zimg_image_format& out) {
  using Key = std::tuple<unsigned, unsigned, int, int, unsigned, unsigned, unsigned, unsigned, unsigned, int,
                         int, unsigned, unsigned>;
  static std::mutex mutex;
  static std::map<Key, Graph>* cache = new std::map<Key, Graph>;
  const zimg_image_format& yuv = in.color_family == ZIMG_COLOR_RGB ? out : in;
  const Key key{in.width,
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
                0};
  const std::lock_guard lock(mutex);
  auto [it, fresh] = cache->try_emplace(key);
  Graph& g = it->second;
  if (!fresh) return g;
  zimg_graph_builder_params params;
  zimg_graph_builder_params_default(&params, ZIMG_API_VERSION);
  params.resample_filter = ZIMG_RESIZE_BICUBIC;
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

}  // namespace

Result<Image> to_image(const AVFrame& source, int width, int height) {
  zimg_image_format in, out;
  if (!describe(source, in))
    return bad_input(fmt::format("a picture has the pixel layout '{}', which is not read yet",
                                 av_get_pix_fmt_name(static_cast<AVPixelFormat>(source.format))
                                     ? av_get_pix_fmt_name(static_cast<AVPixelFormat>(source.format))
                                     : "?"),
                     "", "Make a copy in planar YUV.");
  // The libraries' own alignment is enough as a rule; a cropped frame may not have it.
  const AVFrame* frame = &source;
  std::shared_ptr<AVFrame> moved;
  if (!aligned(source)) {
    moved.reset(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
    moved->format = source.format, moved->width = source.width, moved->height = source.height;
    if (av_frame_get_buffer(moved.get(), 64) < 0 || av_frame_copy(moved.get(), &source) < 0)
      return environment("there is no memory for a picture", "", "Close other programs.");
    frame = moved.get();
  }
  int w = width, h = height;
  if (static_cast<std::int64_t>(source.width) * height != static_cast<std::int64_t>(source.height) * width) {
    const double scale =
        std::min(static_cast<double>(width) / source.width, static_cast<double>(height) / source.height);
    w = std::clamp(static_cast<int>(std::lround(source.width * scale)), 1, width);
    h = std::clamp(static_cast<int>(std::lround(source.height * scale)), 1, height);
  }
  describe_rgb(w, h, out);
  const Graph& g = graph_for(in, out);
  if (!g.graph)
    return bad_input("a picture cannot be converted: " + g.error, "", "Make a copy in planar YUV.");

  Image image = w == width && h == height ? Image(width, height) : Image::filled(width, height, 0, 0, 0, 0);
  zimg_image_buffer_const from = {};
  from.version = ZIMG_API_VERSION;
  for (int p = 0; p < 3 && frame->data[p]; ++p) {
    from.plane[p].data = frame->data[p];
    from.plane[p].stride = frame->linesize[p];
    from.plane[p].mask = ZIMG_BUFFER_MAX;
  }
  RowRing ring;
  ring.out = &image, ring.left = (width - w) / 2, ring.top = (height - h) / 2;
  zimg_image_buffer to;
  set_up(ring, w, h, g.out_lines, to);
  if (zimg_filter_graph_process(g.graph, &from, &to, scratch(g.scratch, 1), nullptr, nullptr, pack_row,
                                &ring) != ZIMG_ERROR_SUCCESS)
    return environment("a picture could not be converted: " + zimg_text(), "", "Try again.");
  return image;
}

Result<void> from_image(const Image& image, AVFrame& frame) {
  zimg_image_format in, out;
  describe_rgb(image.width(), image.height(), in);
  if (!describe(frame, out) || frame.width != image.width() || frame.height != image.height())
    return bad_input("a picture cannot be encoded in this layout", "", "Choose another codec.");
  const Graph& g = graph_for(in, out);
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

}  // namespace gc
