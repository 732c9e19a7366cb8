#include "media/picture_file.h"

extern "C" {
#include <libavcodec/avcodec.h>
#include <libavutil/opt.h>
}
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <memory>

#include "base/files.h"
#include "media/av.h"

namespace gc {
namespace {

struct Kind {
  const char* extension;
  AVCodecID codec;
  AVPixelFormat opaque, alpha;
};
constexpr Kind kKinds[] = {{".png", AV_CODEC_ID_PNG, AV_PIX_FMT_RGB48BE, AV_PIX_FMT_RGBA64BE},
                           {".tif", AV_CODEC_ID_TIFF, AV_PIX_FMT_RGB48LE, AV_PIX_FMT_RGBA64LE},
                           {".tiff", AV_CODEC_ID_TIFF, AV_PIX_FMT_RGB48LE, AV_PIX_FMT_RGBA64LE},
                           {".exr", AV_CODEC_ID_EXR, AV_PIX_FMT_GBRPF32LE, AV_PIX_FMT_GBRAPF32LE},
                           {".dpx", AV_CODEC_ID_DPX, AV_PIX_FMT_GBRP10BE, AV_PIX_FMT_GBRP10BE}};

std::uint16_t coded(float v, float most) {
  return static_cast<std::uint16_t>(std::lround(std::clamp(v, 0.0f, 1.0f) * most));
}

/// One row; integer files keep colours apart from alpha, float ones keep them multiplied.
void put_row(const Image& image, int y, AVPixelFormat format, AVFrame& f) {
  const float* p = image.row(y);
  const bool whole = format != AV_PIX_FMT_GBRPF32LE && format != AV_PIX_FMT_GBRAPF32LE;
  for (int x = 0; x < image.width(); ++x, p += 4) {
    float c[4] = {p[0], p[1], p[2], p[3]};
    if (whole && !image.opaque && p[3] > 0)
      for (int i = 0; i < 3; ++i) c[i] = p[i] / p[3];
    if (format == AV_PIX_FMT_GBRP10BE) {
      static constexpr int kPlane[3] = {2, 0, 1};
      for (int i = 0; i < 3; ++i) {
        const std::uint16_t v = __builtin_bswap16(coded(c[i], 1023));
        std::memcpy(f.data[kPlane[i]] + static_cast<std::ptrdiff_t>(y) * f.linesize[kPlane[i]] + 2 * x, &v, 2);
      }
    } else if (!whole) {
      static constexpr int kPlane[4] = {2, 0, 1, 3};
      for (int i = 0; i < (format == AV_PIX_FMT_GBRAPF32LE ? 4 : 3); ++i)
        std::memcpy(f.data[kPlane[i]] + static_cast<std::ptrdiff_t>(y) * f.linesize[kPlane[i]] + 4 * x, &c[i], 4);
    } else {
      const bool alpha = format == AV_PIX_FMT_RGBA64BE || format == AV_PIX_FMT_RGBA64LE;
      const bool big = format == AV_PIX_FMT_RGB48BE || format == AV_PIX_FMT_RGBA64BE;
      std::uint8_t* to = f.data[0] + static_cast<std::ptrdiff_t>(y) * f.linesize[0] + x * (alpha ? 8 : 6);
      for (int i = 0; i < (alpha ? 4 : 3); ++i) {
        std::uint16_t v = coded(c[i], 65535);
        if (big) v = __builtin_bswap16(v);
        std::memcpy(to + 2 * i, &v, 2);
      }
    }
  }
}

}  // namespace

std::string picture_extensions() { return ".png, .tif, .exr or .dpx"; }

Result<void> write_picture(const Image& image, const std::filesystem::path& file) {
  std::string extension = file.extension().string();
  for (char& c : extension) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
  const Kind* kind = std::find_if(std::begin(kKinds), std::end(kKinds),
                                  [&](const Kind& k) { return extension == k.extension; });
  if (kind == std::end(kKinds))
    return usage(fmt::format("pictures are not written as '{}'", extension),
                 "Name a file that ends with " + picture_extensions() + ".");
  const Error failed{Fault::environment, "the picture could not be encoded", file.string(), "Choose another form."};
  const AVCodec* codec = avcodec_find_encoder(kind->codec);
  const av::Codec context(codec ? avcodec_alloc_context3(codec) : nullptr);
  if (!context) return std::unexpected(failed);
  const AVPixelFormat format = image.opaque ? kind->opaque : kind->alpha;
  context->width = image.width(), context->height = image.height(), context->pix_fmt = format;
  context->time_base = {1, 25};
  if (avcodec_open2(context.get(), codec, nullptr) < 0) return std::unexpected(failed);
  const av::Frame frame(av_frame_alloc());
  const av::Packet packet(av_packet_alloc());
  frame->format = format, frame->width = image.width(), frame->height = image.height();
  if (av_frame_get_buffer(frame.get(), 64) < 0) return std::unexpected(failed);
  for (int y = 0; y < image.height(); ++y) put_row(image, y, format, *frame);
  if (avcodec_send_frame(context.get(), frame.get()) < 0 || avcodec_send_frame(context.get(), nullptr) < 0 ||
      avcodec_receive_packet(context.get(), packet.get()) < 0)
    return std::unexpected(failed);
  return write_file_atomic(file, {reinterpret_cast<const char*>(packet->data), static_cast<std::size_t>(packet->size)});
}

}  // namespace gc
