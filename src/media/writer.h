// Encoding through libav*.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/rational.h"
#include "media/image.h"

namespace gc {

/// Forms in which media can be written, named by their standards.
enum class Form {
  h264_long_gop,
  h264_intra,
  vc3_sq,
  vc3_hqx,
  motion_jpeg,
  vc3_lb,
  vc3_hq,
  vc3_444,
  v210,
  vc5,
  ffv1,
  rdd36,
  rdd36_alpha
};

const char* form_name(Form form);       ///< "VC-3 HQX, 10 bit"
const char* form_extension(Form form);  ///< ".mov", ".mkv" or ".mp4"
int form_bits(Form form);
bool form_has_alpha(Form form);
/// Forms that rendered and cached media may be kept in: each frame stands alone.
const std::vector<Form>& cached_forms();
/// Bytes of one v210 frame: rows of 6 pixels in 16 bytes, padded to 48 pixels (128 bytes).
std::int64_t v210_frame_bytes(int width, int height);

/// Bytes of one VC-3 frame, SMPTE ST 2019-1, resolution-independent profiles: scale × 16×16 macroblocks,
/// rounded to 4096, at least 8192. `scale` is 5888/255, 18944/255, 28672/255 or 57344/255 (numerator given).
std::int64_t vc3_frame_bytes(int width, int height, int scale_numerator);
inline constexpr int kVc3Lb = 5888, kVc3Sq = 18944, kVc3Hqx = 28672, kVc3444 = 57344;

/// Writes one file. Frames are numbered from 0. Nothing is durable before finish().
class MovieWriter {
 public:
  static Result<std::unique_ptr<MovieWriter>> create(const std::string& path, Form form, int width,
                                                     int height, Rate rate);
  ~MovieWriter();
  Result<void> write(const Image& image);
  Result<void> finish();

 private:
  struct Impl;
  explicit MovieWriter(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

/// A 16-bit mono WAV file at 48 kHz.
Result<void> write_wav(const std::string& path, const std::vector<std::int16_t>& samples);

}  // namespace gc
