// Pictures for frames: fetched coded (in order, one frame at a time), then decoded (any number of frames at once).
#pragma once
#include <condition_variable>
#include <list>
#include <mutex>
#include <optional>
#include <set>
#include <unordered_map>

#include "render/program.h"

namespace gc {

/// What one frame took, stage by stage.
using StageLog = std::vector<StageSample>;

/// What was fetched for a frame: pictures that may still have to be decoded.
struct Fetched {
  FrameRecipe recipe;
  struct Picture {
    CodedPtr coded;         ///< null where it is offline
    bool read_here = true;  ///< reading it is in the log already
  };
  std::vector<Picture> pictures;  ///< one for each request
  std::vector<std::string> trouble;
  double turn_ms = 0;    ///< what fetching in order takes of a frame that is reached from the one before it
  double beside_ms = 0;  ///< what decoders' own threads work on such a frame besides
  double waited_ms = 0;  ///< for threads that were decoding one of its pictures
  bool decodes_between = false;  ///< some source is long GOP
};

/// The pictures that a frame is made of.
struct Decoded {
  FrameRecipe recipe;
  std::vector<FramePtr> pictures;                  ///< one for each request; null where it is offline
  std::unordered_map<Hash128, std::size_t> index;  ///< of a request's key
  std::vector<std::string> trouble;
  double waited_ms = 0;    ///< for others that were decoding one of them
  double one_ms = 0;       ///< decoding one picture of each source
  double further_ms = 0;   ///< decoding more than one picture of a source: neighbours that nobody left behind
};

/// The open readers. Any thread may ask; one at a time is served.
class Decoders {
 public:
  /// @param threads of the decoders of one source
  explicit Decoders(std::size_t most_open = 12, int threads = 1) : most_(most_open), threads_(threads) {}
  /// Fetches what the recipe asks for. What cannot be read is null with a sentence in `trouble`. A sealed
  /// file that cannot be read is reported to `seals`, and the frame is made live instead.
  Fetched fetch(const Program& program, FrameRecipe recipe, const SealLookup* seals, StageLog& log);
  /// Opens what a frame to come asks for and is not open yet, and brings it to that frame. Beside fetch(), which waits
  /// only where it wants the very same.
  void prepare(const FrameRecipe& recipe);

 private:
  struct Open {
    Hash128 use;
    std::string path;
    std::unique_ptr<FrameReader> reader;
    std::uint64_t asked = 0;  ///< number of the frame that asked for it last
    ReadTimes latest;         ///< of the latest read that decoded something
  };
  Result<Fetched::Picture> take(const DecodeRequest& request, Fetched& into, StageLog& log,
                                std::unique_lock<std::mutex>& lock);
  std::list<Open>::iterator find(const DecodeRequest& request);
  /// Closes what was not wanted for longest, until few enough are open and their memory is within bounds.
  void close_some();

  std::mutex mutex_;
  std::list<Open> open_;  // most recently used first
  std::set<std::pair<Hash128, std::string>> preparing_;  ///< uses and paths that are being opened ahead
  std::condition_variable prepared_;
  std::size_t most_;
  int threads_;
  std::uint64_t frames_ = 0;
  std::unordered_map<Hash128, std::pair<std::pair<double, double>, int>> by_use_;  ///< of the frame in hand: sums, pictures
};

/// Decodes what was fetched. Null with a sentence in `trouble` where that fails. Nothing where sealed media could not be
/// decoded: they have been reported to `seals`, and the frame has to be fetched again.
std::optional<Decoded> decode(const Fetched& fetched, const SealLookup* seals, StageLog& log);
/// Both at once, whatever it takes.
Decoded fetch_and_decode(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                         StageLog& log);

}  // namespace gc
