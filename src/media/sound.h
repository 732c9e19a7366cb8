// Sound: read, mixed to stereo at 48 kHz, and coded.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "base/error.h"

struct AVFormatContext;

namespace gc {

inline constexpr int kSoundRate = 48000, kSoundChannels = 2;

/// A stretch of a file's first sound stream as interleaved stereo samples at 48 kHz, −1…1; silence where the file has
/// none. Empty when the file has no sound at all.
/// @param seconds_in from where, from the file's start
Result<std::vector<float>> read_sound(const std::string& path, double seconds_in, double seconds);

/// How long a file's first sound stream is, by its decoded samples, seconds; 0 when it has none.
Result<double> sound_length(const std::string& path);

/// Writes stereo sound into a container that is being made: PCM of 24 bits, or AAC where the container wants that.
class SoundWriter {
 public:
  /// Adds the stream; before the container's header is written.
  static Result<std::unique_ptr<SoundWriter>> add_to(AVFormatContext* container);
  ~SoundWriter();
  /// Writes samples up to a time, seconds.
  Result<void> write_until(const std::vector<float>& samples, double seconds);
  /// Writes the rest.
  Result<void> finish(const std::vector<float>& samples);

 private:
  struct Impl;
  explicit SoundWriter(std::unique_ptr<Impl> impl);
  std::unique_ptr<Impl> impl_;
};

}  // namespace gc
