// Movies put together from pieces, packet by packet, without decoding.
#pragma once
#include <functional>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/hash.h"
#include "base/rational.h"

namespace gc {

/// Frames of one piece. Those of a piece whose pictures stand alone may be any; else it is all of them.
struct JoinPart {
  std::string file;
  Frames first = 0, count = 0;
  std::vector<Hash128> sums;  ///< checksum of each frame's coded picture, from `first` on; empty: not looked at
};

struct JoinOptions {
  Rate rate;
  std::string timecode, title;        ///< of the first frame; of the whole
  int primaries = 1, transfer = 1;    ///< code points of ITU-T H.273
  std::vector<float> sound;           ///< interleaved stereo at 48 kHz; empty: none
};

struct Joined {
  Frames frames = 0;
  std::uint64_t bytes = 0;
  int broken_part = -1;  ///< the piece whose picture is not what its checksum says; the file is of no use then
};

/// Writes a movie; its container follows from the name's end. Fails where the container does not take the pieces' codec.
/// `progress` gets frames done; false ends it.
Result<Joined> join_movies(const std::vector<JoinPart>& parts, const std::string& to, const JoinOptions& options,
                           const std::function<bool(Frames)>& progress = {});

}  // namespace gc
