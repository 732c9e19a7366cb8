// Decoding through libav*, exact to the frame.
#pragma once
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/hash.h"
#include "base/rational.h"

struct AVFrame;

namespace gc {

using FramePtr = std::shared_ptr<const AVFrame>;

/// How a stored picture has to be laid before a person sees it upright: first its sides are exchanged, then it is
/// mirrored.
struct Orientation {
  bool exchanged = false;  ///< rows become columns
  bool flip_x = false;     ///< left to right
  bool flip_y = false;     ///< top to bottom
  bool upright() const { return !exchanged && !flip_x && !flip_y; }
};

struct MediaInfo {
  int width = 0, height = 0;  ///< as stored
  Rate rate;                  ///< frames are counted at this; of a variable rate the finest step that occurs
  Frames frames = 0;
  std::string codec;         ///< by its standard: "H.264", "VC-3", "Motion JPEG", ...
  std::string pixel_format;  ///< as libav* names it
  int bits = 8;              ///< per component
  bool intra = false;        ///< every frame stands alone
  bool still = false;        ///< one picture, shown for as long as it is asked for
  bool alpha = false;
  bool linear = false;  ///< float components, taken as scene-linear light
  bool bt709 = true;    ///< its matrix is that of ITU-R BT.709, stated or by its size; of a sequence too, as far as probe() says
  bool constant = true;        ///< every frame has a picture of its own
  double density = 1;          ///< pictures for each frame on the mean: below 1 of a variable rate
  /// Each picture can be decoded for itself, so that several are decoded at once. Else they are decoded in order, by at
  /// most `decode_threads` threads.
  bool alone = false;
  int decode_threads = 1;
  bool interlaced = false;     ///< two fields of different times in one picture
  Orientation orientation;     ///< frames carry it too, and to_image() obeys it
  double pixel_aspect = 1;     ///< width ÷ height of a stored pixel; frames carry it too
  std::string colour_space;    ///< a name of media/colour.h, by the file's tags; empty: it does not say
  int copy_size = 1;           ///< a proxy of this program's: so many times smaller on each side than its original
  Frames timecode = -1;        ///< of the first frame, as the file states it, frames; −1: it states none
  /// Frames that are not there although the file (or the name of a sequence) has a place for them, in order.
  std::vector<FrameRange> holes;
  std::vector<std::string> remarks;  ///< what of the file is not obeyed, in sentences
  std::vector<Frames>
      keys;  ///< of a long-GOP file: frames that can be decoded alone, in order; empty when unknown
  std::uint64_t bytes = 0;  ///< of the file
  Hash128 identity;         ///< of the content: what a fingerprint takes as "this file", wherever it lies

  /// The picture as a person sees it: sides after turning, and the width in stored pixels' heights.
  int upright_width() const { return orientation.exchanged ? height : width; }
  int upright_height() const { return orientation.exchanged ? width : height; }
  double upright_aspect() const { return orientation.exchanged ? 1 / pixel_aspect : pixel_aspect; }
  /// Whether the file has a picture for frame n.
  bool has(Frames n) const;
};

/// How many times as fast as one thread a decoder with so many threads of its own is, whose pictures wait for parts of
/// those they are built on. Seen with two threads, H.264 and H.265, 720 and 1080 lines: 1.6 to 1.8.
inline double spread_of(int threads) { return 1 + 0.7 * (threads > 1 ? threads - 1 : 0); }

/// Milliseconds that one read took. What was done in order stands in the figures of `take`; what a picture that stands
/// alone took to decode, in those of `get`.
struct ReadTimes {
  double read_ms = 0;    ///< demuxing: disk and container
  double decode_ms = 0;  ///< codec, wall time
  double decode_cpu_ms = 0;
  double fields_ms = 0;  ///< making one picture of two fields
  double fields_cpu_ms = 0;
  double waited_ms = 0;  ///< for another thread that was decoding the same picture
  int decoded = 0;       ///< pictures decoded, including those needed only to reach the one asked for
  int taken = 0;         ///< coded pictures that were read for it
  bool cold = false;     ///< the reader had to seek
  int threads = 1;       ///< of the decoder's own, that work in order
  double work_ms = 0;    ///< of those threads meanwhile

  /// One picture's decoding on all processors, where it was decoded in order.
  double work_of_one_ms() const { return threads > 1 ? (work_ms + decode_cpu_ms) / pictures() : decoded > 0 ? decode_ms / decoded : 0; }
  /// Milliseconds for which reading goes in order, of a picture that is reached from the one before it.
  double turn_ms() const { return work_of_one_ms() / spread_of(threads) + (cold ? 0 : read_ms / pictures()); }
  /// What the decoder's other threads work on it besides.
  double beside_ms() const { return work_of_one_ms() * (1 - 1 / spread_of(threads)); }

 private:
  int pictures() const {
    const int n = threads > 1 || decoded == 0 ? taken : decoded;
    return n > 0 ? n : 1;
  }
};

/// A picture that was read from its file and may still have to be decoded. Whoever asks first decodes it; others that ask
/// meanwhile wait. For any number of threads.
class CodedPicture {
 public:
  using Make = std::function<Result<FramePtr>(ReadTimes&)>;
  explicit CodedPicture(Make make) : make_(std::move(make)) {}
  explicit CodedPicture(FramePtr made) : made_(std::move(made)) {}
  /// The same at every call.
  Result<FramePtr> get(ReadTimes* times = nullptr);
  bool decoded() const;

 private:
  mutable std::mutex mutex_;
  Make make_;
  std::optional<Result<FramePtr>> made_;
};
using CodedPtr = std::shared_ptr<CodedPicture>;

/// Reads frames of one file in any order; going forward is fast. Not for use from two threads at once.
///
/// Frames are told by the time at which they are shown, never by counting packets. Frame n is what is seen at n
/// frames' time after the first picture that can be decoded: the picture that began then or last before. So a
/// variable rate holds the picture before, and a stream may begin anywhere. Streams that carry no times at all
/// (raw H.264, B-frames in AVI) count the pictures in the order in which they are shown.
///
/// A path with a run of '%0Nd' is a sequence of images, one file a frame: "plates/bowl.%04d.exr" with a
/// "#first-last@rate" after it, for example "plates/bowl.%04d.exr#1001-1096@24/1". "#1001-1096*2@24/1" takes every
/// second number. ";hold" or ";black" after it says what stands for a file that is missing; else it is an error.
class FrameReader {
 public:
  /// @param threads that may decode it in order; fewer are used where they would not help
  static Result<std::unique_ptr<FrameReader>> open(const std::string& path, int threads = 1);
  ~FrameReader();

  const MediaInfo& info() const;
  /// How many of the frames read last are kept, so that an effect that needs neighbours reads none twice.
  void keep(int frames);
  /// Whether frames are asked for one before the other. What builds on others is decoded forwards all the same, so the pictures
  /// on the way are kept, kept_backwards() of them.
  void backwards(bool is);
  /// The frame shown at n frames from the file's first. Fails past the end ("ends early") and on damage.
  Result<FramePtr> read(Frames n, ReadTimes* times = nullptr);
  /// The same in two steps: what has to go in order is done here, the rest when the picture is asked for, by whichever
  /// thread asks.
  /// @param expected hash of the coded picture, when it is known: another picture is damage, and none is given
  Result<CodedPtr> take(Frames n, ReadTimes* times = nullptr, const Hash128& expected = {});
  /// The same made of both fields, for interlaced media: the first field's time, the other field's lines filled in.
  Result<CodedPtr> take_progressive(Frames n, ReadTimes* times = nullptr);
  /// As picture_hashes(); where reading was before is lost.
  Result<std::vector<Hash128>> coded_hashes();
  /// Bytes that the pictures in its decoder and those it keeps take, about.
  std::uint64_t memory() const;

 private:
  struct Impl;
  explicit FrameReader(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

/// How many pictures are kept while frames are read backwards, by their size; 1 where each stands alone or the rate varies.
Frames kept_backwards(const MediaInfo& info);

/// Frames that have to be decoded before frame n when reading starts there; 0 for a key frame and for intra
/// files.
Frames frames_before(const MediaInfo& info, Frames n);

/// Name of one file of a sequence, and the whole path of one. `missing`: "", "hold" or "black".
std::string sequence_path(const std::string& pattern, Frames first, Frames last, Rate rate, Frames step = 1,
                          const std::string& missing = "");
bool is_sequence(const std::string& path);

/// Opens, looks and closes.
Result<MediaInfo> probe(const std::string& path);

/// Hash of the coded picture of every frame of a file whose pictures stand alone, in order.
Result<std::vector<Hash128>> picture_hashes(const std::string& path);

/// Lays a frame's orientation down from a display matrix (ISO/IEC 14496-12, 8.3.2): nine numbers, row by row.
Orientation orientation_of(const std::int32_t* matrix);

}  // namespace gc
