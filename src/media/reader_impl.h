// What a reader holds while a file is open. Shared by the files that open, read in order, and look for pictures of
// sequences; nobody else includes it.
#pragma once
#include <cstdint>
#include <deque>
#include <optional>
#include <string>
#include <utility>
#include <vector>

#include "base/clock.h"
#include "media/decoder.h"
#include "media/fields.h"
#include "media/reader.h"
#include "media/sequence.h"
#include "media/throttled_io.h"

namespace gc {

inline constexpr std::int64_t kUnknownTime = AV_NOPTS_VALUE;

struct FrameReader::Impl {
  std::string path;
  ThrottledIo slow;  ///< outlives the format that reads through it
  AVFormatContext* format = nullptr;
  std::shared_ptr<StreamCodec> coding;
  Decoder decoder;
  AVCodecContext* codec = nullptr;  ///< the decoder's
  int threads = 1;  ///< that may decode in order
  double accounted_ms = 0;  ///< of what the decoder's threads worked
  AVPacket* packet = nullptr;
  AVStream* stream = nullptr;
  MediaInfo info;
  Stopwatch opening;
  bool opened = false;
  bool counted = false;  ///< the stream carries no times: pictures are counted in the order they are shown
  std::int64_t first_pts = 0;
  std::int64_t grain = 0;  ///< by how much a time may be later than it says, ticks: how containers round

  // Where reading is. `held` is what is shown until `ahead` begins.
  struct Picture {
    FramePtr frame;
    std::int64_t pts = 0;
  };
  std::optional<Picture> held, ahead;
  bool from_first = false;  ///< its pictures are built on all before them, whatever its list of key frames says
  Frames counted_so_far = 0;  ///< pictures decoded since the last seek
  std::int64_t last_shown = kUnknownTime;  ///< time of the picture that was decoded last
  bool draining = false, ended = false;
  std::optional<Sequence> sequence;
  std::size_t keep = 0;
  std::deque<std::pair<Frames, CodedPtr>> recent;
  bool backwards = false;
  Frames asked = -1;  ///< before the frame in hand, of what is read in order
  std::vector<std::pair<Frames, FramePtr>> on_the_way;  ///< to a frame that was reached while going backwards, itself too
  Frames next = -1;  ///< frame of the packet that is read next, where pictures stand alone; −1: not known

  std::shared_ptr<FieldJoiner> fields = std::make_shared<FieldJoiner>();

  ~Impl() { close(); }
  void close() {
    av_packet_free(&packet);
    decoder = {};
    avformat_close_input(&format);
  }

  AVRational frame_time() const { return {static_cast<int>(info.rate.den), static_cast<int>(info.rate.num)}; }
  /// The frame that begins nearest to this time.
  Frames number_of(std::int64_t pts) const {
    return av_rescale_q_rnd(pts - first_pts, stream->time_base, frame_time(), AV_ROUND_NEAR_INF);
  }
  std::int64_t pts_of(Frames n) const { return first_pts + av_rescale_q(n, frame_time(), stream->time_base); }
  /// Whether a picture of this time is seen at frame n or before. A constant rate has its pictures at the nearest
  /// frame, however unsteady its times are.
  bool begun(std::int64_t pts, Frames n) const {
    return info.constant ? number_of(pts) <= n : pts <= pts_of(n) + grain;
  }

  // Sequences.
  /// A sequence takes what it is from its first file that is there.
  Result<void> start_sequence();
  /// A file of its own is opened by whoever wants its picture.
  Result<CodedPtr> take_from_sequence(Frames n);
  void remember(Frames n, const CodedPtr& picture) {
    recent.emplace_back(n, picture);
    while (recent.size() > std::max<std::size_t>(1, keep)) recent.pop_front();
  }
  CodedPtr remembered(Frames n) const {
    for (const auto& [at, picture] : recent)
      if (at == n) return picture;
    return nullptr;
  }

  // Opening.
  static int too_long(void* self);
  Result<void> start(const std::string& file);
  Result<void> open_file();
  bool states_all() const;
  void fill_info();
  void note_layout(AVPixelFormat pix);
  /// Times of decoding of every picture that is shown, where the header has them all.
  std::vector<std::int64_t> listed_times() const;
  /// Constant: the n-th picture is nearest to n frames' time, throughout. Else frames are counted at the finest step
  /// between two pictures.
  void find_rate();
  void count_frames();
  void find_keys();
  std::vector<Frames> listed_keys() const;
  void find_copy_mark();
  void find_timecode();
  /// What only the file's packets tell: when the first picture that can be decoded is shown, and how many frames
  /// there really are.
  Result<void> look();
  /// Pictures of a stream without times. Two packets that hold one field each are one picture.
  Frames count_packets();
  /// The last frame that has a picture.
  Frames number_of_last(bool& cut_off);

  // Reading.
  /// Goes to a place from which frame n can be reached, `further` frames before the nearest.
  Result<void> seek(Frames n, Frames further, ReadTimes& t);
  /// Whether going on from what is held to frame n is no dearer than seeking.
  bool near_ahead(Frames n) const;
  /// The next picture in the order of showing, with its time.
  Result<Picture> decode_one(ReadTimes& t, Frames wanted);
  /// Puts down what the decoder's own threads have worked since the last time.
  void account(ReadTimes& t);
  Picture shown(std::shared_ptr<AVFrame> frame);
  /// Whether a picture after a seek can be relied on: a key picture that states its time.
  bool held_by_time(const Picture& p) const { return p.frame->key_frame && p.frame->pts != kUnknownTime; }

  /// Seeks until the picture that is shown at frame n, or one before it, is held.
  Result<void> reach(Frames n, ReadTimes& t);
  /// The coded picture of frame n, where each stands alone. Null where the container does not give it at its place:
  /// then pictures are read in order.
  Result<CodedPtr> take_alone(Frames n, ReadTimes& t, const Hash128& expected);
  Result<CodedPtr> take(Frames n, ReadTimes& t, const Hash128& expected);
  Result<FramePtr> read(Frames n, ReadTimes& t);
  /// Keeps the picture that is held, if it is one of those just before frame n.
  void keep_on_the_way(Frames n);
};

}  // namespace gc
