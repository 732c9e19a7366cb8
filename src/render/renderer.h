// Makes frames of a program from the pictures that were fetched and decoded for them.
#pragma once
#include <array>
#include <optional>

#include "render/cache.h"
#include "render/decoders.h"
#include "render/stand_in.h"

namespace gc {

/// What effects that look at neighbouring frames took from one level of their segments' stacks.
struct WindowNotes {
  int neighbours = 0;  ///< other pictures that the widest of them looked at, for this frame
  int made = 0;        ///< pictures that were made for them, this frame's own among them
  double made_ms = 0;  ///< that this took, without what lies at levels below
};

/// What is to be said of a finished frame besides its picture.
struct FrameNotes {
  bool unseen = false;               ///< something in it shows only after rendering
  /// Names of requests (DecodeRequest::name) for rendered media that did not turn into the picture they stand for.
  std::vector<Hash128> not_kept;
  bool stand_in = false;             ///< bars stand for a picture that is offline or could not be converted
  int tiles = 1;                     ///< asked for: threads that may work on this one frame
  std::vector<std::string> trouble;  ///< what went wrong on the way, in sentences
  int windows = 0;                   ///< effects that looked at neighbouring frames, inner ones not counted
  int fresh = 0;                     ///< of these, those whose latest picture is none of the frame's before
  /// Pictures below such effects: [0] below the uppermost, [1] below one that its pictures need, and so on; all deeper ones in the
  /// last.
  std::array<WindowNotes, 4> below{};
};

/// Processes fetched pictures into the finished frame. Pictures that are missing are drawn as a hatched
/// plane. With a cache, effects that need neighbouring frames share them with the frames next to this one.
Image process(const Program& program, const Decoded& decoded, StageLog& log, MemoryCache* cache = nullptr,
              FrameNotes* notes = nullptr);

/// The frame for a screen, where its picture goes there straight from the decoder. Nothing where it has to be made.
std::optional<ScreenImage> straight_to_screen(const Program& program, const Decoded& decoded, StageLog& log);

/// One frame from nothing: for stills and tests.
Image render_frame(const Program& program, Frames frame, const SealLookup* seals, Decoders& decoders,
                   StageLog& log, MemoryCache* cache = nullptr, FrameNotes* notes = nullptr);

}  // namespace gc
