// Makes frames of a program: fetch the coded pictures (in order, one frame at a time), then process them (any
// number of frames at once).
#pragma once
#include <functional>
#include <list>
#include <unordered_map>

#include "render/cache.h"
#include "render/program.h"

namespace gc {

/// What one frame took, stage by stage.
using StageLog = std::vector<StageSample>;

struct Decoded {
  FrameRecipe recipe;
  std::vector<FramePtr> pictures;                  ///< one for each request; null where it is offline
  std::unordered_map<Hash128, std::size_t> index;  ///< of a request's key
  std::vector<std::string> trouble;
  double steady_ms = 0;  ///< what fetching takes of a frame that is reached from the one before it
  std::unordered_map<Hash128, std::pair<double, int>> by_reader;  ///< the same by use: sum, frames decoded
  bool decodes_between = false;                                   ///< some source is long GOP
};

/// The open readers. One thread at a time.
class Decoders {
 public:
  explicit Decoders(std::size_t most_open = 12) : most_(most_open) {}
  /// Fetches what the recipe asks for. What cannot be read is null with a sentence in `trouble`. A sealed
  /// file that cannot be read is reported to `seals`, and the frame is made live instead.
  Decoded fetch(const Program& program, FrameRecipe recipe, const SealLookup* seals, StageLog& log);

 private:
  struct Open {
    Hash128 use;
    std::string path;
    std::unique_ptr<FrameReader> reader;
  };
  Result<FramePtr> read(const DecodeRequest& request, Decoded& into, StageLog& log);
  std::list<Open> open_;  // most recently used first
  std::size_t most_;
};

/// What is to be said of a finished frame besides its picture.
struct FrameNotes {
  bool unseen = false;               ///< something in it shows only after rendering
  bool stand_in = false;             ///< bars stand for a picture that is offline or could not be converted
  int tiles = 1;                     ///< asked for: threads that may work on this one frame
  std::vector<std::string> trouble;  ///< what went wrong on the way, in sentences
  int windows = 0;                   ///< effects that looked at neighbouring frames, inner ones not counted
  int neighbours = 0;                ///< other frames' pictures that the widest of them looked at
  int made = 0;                      ///< pictures that were made for them, this frame's own among them
  double made_ms = 0;                ///< that this took
};

/// Processes fetched pictures into the finished frame. Pictures that are missing are drawn as a hatched
/// plane. With a cache, effects that need neighbouring frames share them with the frames next to this one.
Image process(const Program& program, const Decoded& decoded, StageLog& log, MemoryCache* cache = nullptr,
              FrameNotes* notes = nullptr);

/// One frame from nothing: for stills and tests.
Image render_frame(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                   StageLog& log, MemoryCache* cache = nullptr, FrameNotes* notes = nullptr);

/// The picture of something that cannot be shown live: an empty frame with a dashed outline.
Image unseen_picture(int width, int height);

/// The picture of something offline: diagonal bars that no camera makes.
Image hatched(int width, int height);

}  // namespace gc
