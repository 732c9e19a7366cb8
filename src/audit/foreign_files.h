// Media files as other programs write them: in every container, codec, raster, rate and tag that should work, made by the
// ffmpeg program from its own sources.
#pragma once
#include <random>

#include "base/files.h"

namespace gc {

/// A file that was made. Each frame shows its own number unless another picture was asked for.
struct ForeignFile {
  std::string file;  ///< absolute; of a sequence its pattern
  std::string name;  ///< without its folder
  std::string kind;  ///< "mkv -c:v ffv1 -level 3, yuv420p, 161x97, 59.940"
  int width = 0, height = 0;  ///< as a person sees it
  std::int64_t num = 25, den = 1;
  int frames = 0;
  bool variable = false, sequence = false;
  bool missing = false;        ///< removed again
  std::int64_t timecode = -1;  ///< of the first frame; −1: none

  /// The number that is shown at a frame's time, modulo 256.
  int number(std::int64_t n) const;
  double fps() const { return static_cast<double>(num) / static_cast<double>(den); }
};

/// How many ways there are to write a file.
std::size_t foreign_ways();

/// Frames numbered in eight blocks across the upper half, lowest bit first, white for 1.
inline constexpr const char* kNumberedPicture =
    "format=gray,geq=lum='if(lt(Y,H/2),255*mod(floor(N/pow(2,floor(X*8/W))),2),128)'";

/// Makes one file in `folder`. Rate, raster, layout and oddities (variable rate, turned, beginning late, pixel aspect,
/// timecode, missing) are drawn from `any`.
/// @param index number of the file, in its name
/// @param way below foreign_ways()
/// @param plain no oddities: every frame there, upright, from the start
/// @param picture filters that make the picture from black
Result<ForeignFile> make_foreign_file(const fs::path& folder, int index, std::size_t way, std::mt19937_64& any, bool plain = false,
                                      const std::string& picture = kNumberedPicture);

}  // namespace gc
