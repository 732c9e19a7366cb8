// Planar YUV through zimg: formats described, conversions built once and shared.
#pragma once
extern "C" {
#include <libavutil/frame.h>
}
#include <zimg.h>

#include <cstdint>
#include <string>

namespace gc::planar {

/// What zimg says went wrong last on this thread.
std::string last_error();

/// The matrix of a frame, by its tag; of one that has none, by its size, as players take it: standard definition is
/// BT.601's, everything else BT.709's.
AVColorSpace matrix_of(const AVFrame& f);
/// Describes a planar YUV or grey frame to zimg; false for a layout that is not planar YUV.
bool describe(const AVFrame& f, zimg_image_format& z);
void describe_rgb(int width, int height, zimg_image_format& z, zimg_pixel_type_e type = ZIMG_PIXEL_FLOAT);

/// A conversion ready to run, with what it needs of scratch. Built once per pair of formats and shared by all
/// threads: running a graph does not change it.
struct Graph {
  zimg_filter_graph* graph = nullptr;
  std::size_t scratch = 0;
  unsigned in_lines = 0, out_lines = 0;
  std::string error;
};

/// @param draft bilinear scaling instead of bicubic
const Graph& graph_for(const zimg_image_format& in, const zimg_image_format& out, bool draft);

/// Scratch memory of the calling thread, kept from frame to frame. Slots 0 and 1 are apart.
std::uint8_t* scratch(std::size_t bytes, int slot);

/// Whether zimg takes the frame's rows as they lie in memory.
bool aligned(const AVFrame& f);

}  // namespace gc::planar
