// Makes frames of a program: fetch the coded pictures (in order, one frame at a time), then process them (any
// number of frames at once).
#pragma once
#include <list>

#include "render/program.h"

namespace gc {

/// What one frame took, stage by stage.
using StageLog = std::vector<StageSample>;

struct Decoded {
  FrameRecipe recipe;
  std::vector<FramePtr> pictures;  ///< one for each request; null where it is offline
  std::vector<std::string> trouble;
  double steady_ms = 0;          ///< what fetching takes of a frame that is reached from the one before it
  bool decodes_between = false;  ///< some source is long GOP
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
    Hash128 lane;
    std::string path;
    std::unique_ptr<FrameReader> reader;
  };
  Result<FramePtr> read(const DecodeRequest& request, Decoded& into, StageLog& log);
  std::list<Open> open_;  // most recently used first
  std::size_t most_;
};

/// Processes fetched pictures into the finished frame. Pictures that are missing are drawn as a hatched
/// plane.
Image process(const Program& program, const Decoded& decoded, StageLog& log);

/// One frame from nothing: for stills and tests.
Image render_frame(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                   StageLog& log);

/// The picture of something offline: diagonal bars that no camera makes.
Image hatched(int width, int height);

}  // namespace gc
