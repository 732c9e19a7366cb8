// Encoding through libav*.
#pragma once
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/error.h"
#include "base/rational.h"
#include "media/colour.h"
#include "media/image.h"

struct AVFrame;

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
  rdd36_alpha,
  ffv1_444,
  ffv1_alpha,
  h265_long_gop,
  exr_half,
  exr_half_alpha
};

const char* form_name(Form form);       ///< "VC-3 HQX, 10 bit"
const char* form_extension(Form form);  ///< ".mov", ".mkv" or ".mp4"
int form_bits(Form form);
bool form_has_alpha(Form form);
/// Whether it holds any value, as light does, where others hold what lies about black and white.
bool form_is_float(Form form);
const char* form_id(Form form);  ///< as commands and files say it: "vc3-hqx"
std::optional<Form> form_named(std::string_view id);
const char* form_pixels(Form form);  ///< layout of its pixels, as libav* names it
const char* form_codec(Form form);   ///< as MediaInfo::codec has it
/// Bytes of one frame: exact for VC-3 and v210, whose frames are all alike; else about, from test pictures with grain.
std::uint64_t form_frame_bytes(Form form, int width, int height);
/// Whether its frames are all of one size, so that what a piece will take is known.
bool form_is_constant(Form form);
/// Pictures from one key picture to the next; 1 where each stands alone.
int form_group(Form form);
/// Whether its pictures are built on each other.
inline bool long_gop(Form form) { return form_group(form) > 1; }
/// Whether a raster can be kept in it: subsampled chroma wants even widths, and VC-3 at least 256 × 120 pixels.
bool form_takes(Form form, int width, int height);
/// `preferred`, or where that cannot keep the pictures what can: a form with alpha for those that have some, one with
/// whole chroma for odd rasters.
Form form_that_keeps(Form preferred, bool alpha, int width, int height);
/// For pictures of any value, every raster.
inline Form form_of_light(bool alpha) { return alpha ? Form::exr_half_alpha : Form::exr_half; }
/// Forms that rendered and cached media may be kept in: each frame stands alone.
const std::vector<Form>& cached_forms();
/// Bytes of one v210 frame: rows of 6 pixels in 16 bytes, padded to 48 pixels (128 bytes).
std::int64_t v210_frame_bytes(int width, int height);

/// Bytes of one VC-3 frame, SMPTE ST 2019-1, resolution-independent profiles: scale × 16×16 macroblocks,
/// rounded to 4096, at least 8192. `scale` is 5888/255, 18944/255, 28672/255 or 57344/255 (numerator given).
std::int64_t vc3_frame_bytes(int width, int height, int scale_numerator);
inline constexpr int kVc3Lb = 5888, kVc3Sq = 18944, kVc3Hqx = 28672, kVc3444 = 57344;

/// Whether the container that the name's end stands for takes the form; the error names endings that do.
Result<void> container_takes(const std::string& file, Form form);

/// Writes one file. Frames are numbered from 0. Nothing is durable before finish().
class MovieWriter {
 public:
  /// @param colours that the coded pictures say of themselves; their matrix is that of BT.709
  static Result<std::unique_ptr<MovieWriter>> create(const std::string& path, Form form, int width,
                                                     int height, Rate rate, const ColourCodes& colours = {});
  /// For decoded pictures like this one, which are written with its matrix, primaries, transfer, pixel aspect and
  /// orientation, without a way through working images. They are scaled to the given size where theirs is another.
  /// @param copy_size of a proxy: so many times smaller on each side than its original, which the file says of itself
  static Result<std::unique_ptr<MovieWriter>> create_like(const AVFrame& picture, const std::string& path, Form form,
                                                          int width, int height, Rate rate, int copy_size = 1);
  ~MovieWriter();
  Result<void> write(const Image& image);
  Result<void> write(const AVFrame& picture);
  Result<void> finish();

 private:
  struct Impl;
  explicit MovieWriter(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

/// A 16-bit mono WAV file at 48 kHz.
Result<void> write_wav(const std::string& path, const std::vector<std::int16_t>& samples);

}  // namespace gc
