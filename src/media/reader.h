// Decoding through libav*, exact to the frame.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/hash.h"
#include "base/rational.h"

struct AVFrame;

namespace gc {

using FramePtr = std::shared_ptr<const AVFrame>;

struct MediaInfo {
  int width = 0, height = 0;
  Rate rate;
  Frames frames = 0;
  std::string codec;         ///< by its standard: "H.264", "VC-3", "Motion JPEG", ...
  std::string pixel_format;  ///< as libav* names it
  int bits = 8;              ///< per component
  bool intra = false;        ///< every frame stands alone
  bool still = false;        ///< one picture, shown for as long as it is asked for
  bool alpha = false;
  bool linear = false;  ///< float components, taken as scene-linear light
  std::vector<Frames>
      keys;  ///< of a long-GOP file: frames that can be decoded alone, in order; empty when unknown
  std::uint64_t bytes = 0;  ///< of the file
  Hash128 identity;         ///< path, size and time of change: what a fingerprint takes as "this file"
};

/// Milliseconds that one read took.
struct ReadTimes {
  double read_ms = 0;    ///< demuxing: disk and container
  double decode_ms = 0;  ///< codec, wall time
  double decode_cpu_ms = 0;
  int decoded = 0;    ///< frames decoded, including those needed only to reach the one asked for
  bool cold = false;  ///< the reader had to seek
  /// Milliseconds of a frame that is reached from the one before it.
  double steady_ms() const {
    return decode_ms / (decoded > 0 ? decoded : 1) + (cold ? 0 : read_ms / (decoded > 0 ? decoded : 1));
  }
};

/// Reads frames of one file in any order; going forward is fast. Not for use from two threads at once. A path
/// with a run of '%0Nd' is a sequence of images, one file a frame: "plates/bowl.%04d.exr" with a
/// "#first-last@rate" after it, for example "plates/bowl.%04d.exr#1001-1096@24/1".
class FrameReader {
 public:
  static Result<std::unique_ptr<FrameReader>> open(const std::string& path);
  ~FrameReader();

  const MediaInfo& info() const;
  /// How many of the frames read last are kept, so that an effect that needs neighbours reads none twice.
  void keep(int frames);
  /// The frame shown at n frames from the file's first. Fails past the end ("ends early") and on damage.
  Result<FramePtr> read(Frames n, ReadTimes* times = nullptr);

 private:
  struct Impl;
  explicit FrameReader(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

/// Frames that have to be decoded before frame n when reading starts there; 0 for a key frame and for intra
/// files.
Frames frames_before(const MediaInfo& info, Frames n);

/// Name of one file of a sequence, and the whole path of one.
std::string sequence_path(const std::string& pattern, Frames first, Frames last, Rate rate);
bool is_sequence(const std::string& path);

/// Opens, looks and closes.
Result<MediaInfo> probe(const std::string& path);

/// What identifies a file without reading it: hash of path, size and time of change; of a sequence, of all
/// its files. Zero when it is missing.
Hash128 file_identity(const std::string& path);

}  // namespace gc
