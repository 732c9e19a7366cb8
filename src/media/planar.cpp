#include "media/planar.h"

extern "C" {
#include <libavutil/pixdesc.h>
}

#include <cstdlib>
#include <map>
#include <memory>
#include <mutex>
#include <new>
#include <string_view>
#include <tuple>

namespace gc::planar {

std::string last_error() {
  char buffer[256] = {};
  zimg_get_last_error(buffer, sizeof buffer);
  return buffer;
}

AVColorSpace matrix_of(const AVFrame& f) {
  if (f.colorspace != AVCOL_SPC_UNSPECIFIED && f.colorspace != AVCOL_SPC_RESERVED) return f.colorspace;
  return f.width < 1280 && f.height <= 576 ? AVCOL_SPC_SMPTE170M : AVCOL_SPC_BT709;
}

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

void describe_rgb(int width, int height, zimg_image_format& z, zimg_pixel_type_e type) {
  zimg_image_format_default(&z, ZIMG_API_VERSION);
  z.width = static_cast<unsigned>(width), z.height = static_cast<unsigned>(height);
  z.pixel_type = type;
  if (type == ZIMG_PIXEL_BYTE) z.depth = 8;
  z.color_family = ZIMG_COLOR_RGB;
  z.matrix_coefficients = ZIMG_MATRIX_RGB;
  z.pixel_range = ZIMG_RANGE_FULL;
}

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
    g.error = last_error();
    return g;
  }
  zimg_filter_graph_get_tmp_size(g.graph, &g.scratch);
  zimg_filter_graph_get_input_buffering(g.graph, &g.in_lines);
  zimg_filter_graph_get_output_buffering(g.graph, &g.out_lines);
  return g;
}

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

bool aligned(const AVFrame& f) {
  for (int p = 0; p < 3 && f.data[p]; ++p)
    if (reinterpret_cast<std::uintptr_t>(f.data[p]) % 64 != 0 || f.linesize[p] % 64 != 0) return false;
  return true;
}

}  // namespace gc::planar
