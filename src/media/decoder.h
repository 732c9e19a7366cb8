// Decoders of one stream of a file. Pictures that are built on others are decoded in order, by one decoder with threads
// of its own. Pictures that stand alone are decoded by whoever asks, any number at once.
#pragma once
#include <mutex>

#include "media/av.h"
#include "media/reader.h"

namespace gc {

inline constexpr int kMostPixels = 16384;  ///< of a side

/// Files are named by the standard of their codec.
std::string designation(AVCodecID id);

/// One decoder.
struct Decoder {
  av::Codec context;
  std::vector<clockid_t> threads;  ///< clocks of the threads that it started for itself

  /// What those threads have worked so far, ms.
  double work_ms() const;
};

/// What decoding needs to know of a stream. It outlives the open file, for pictures that are decoded later.
class StreamCodec {
 public:
  /// Fails where nothing here decodes the stream.
  static Result<std::shared_ptr<StreamCodec>> of(AVFormatContext* format, AVStream* stream, const std::string& path);
  ~StreamCodec() { avcodec_parameters_free(&parameters_); }
  StreamCodec(const StreamCodec&) = delete;
  StreamCodec& operator=(const StreamCodec&) = delete;

  /// A decoder with this many threads of its own; 1: it works on the thread that calls it.
  Result<Decoder> open(int threads) const;
  /// Whether each packet is one picture that needs no other.
  bool stands_alone() const;
  /// How many threads help at most: what memory allows.
  int most_threads() const;
  /// The picture of one packet of a stream whose pictures stand alone. Any number of threads at once.
  Result<std::shared_ptr<AVFrame>> decode(const AVPacket& packet);
  /// Puts down with a picture what the container says of how it is to be seen.
  void dress(AVFrame& frame) const;

 private:
  StreamCodec() = default;
  std::string path_;
  const AVCodec* codec_ = nullptr;
  AVCodecParameters* parameters_ = nullptr;
  AVRational time_base_{0, 1}, aspect_{0, 1};
  std::vector<std::uint8_t> matrix_;  ///< display matrix; empty: upright

  std::mutex mutex_;
  std::vector<Decoder> idle_;  ///< decoders that no thread uses just now
};

}  // namespace gc
