// A playout in numbers, in an open file (docs/formats.md): what every frame took. The scripted seat plays
// from one, and a replay puts the model of the pipeline alone on trial with one.
#pragma once
#include "base/files.h"
#include "playout/player.h"

namespace gc {

/// Something that holds a frame up, in a script.
struct Stall {
  enum class On { read, decode, process, display, accelerator, transfer, memory };
  Frames position = 0;
  double ms = 0;
  On on = On::process;
};

struct PlayRecord {
  static constexpr int kVersion = 2;
  Rate rate{24, 1};
  int workers = 2, horizon = 12, far = 0;
  std::vector<FrameCost> costs;       ///< by position in the order of playing
  std::vector<bool> dropped;          ///< as observed; empty in a script
  std::vector<std::string> segments;  ///< main_segment's id by position; may be empty
  std::vector<double> begins;         ///< see play_costs
  std::vector<CostKind> kinds;        ///< what the pacing rule was told beforehand
  std::vector<Stall> stalls;
};

/// What was measured of a playout. Frames that were never started have the costs of the nearest frame of the
/// same interval that was, or of the nearest at all.
PlayRecord record_of(const Playout& playout, const Program& program);

Json to_json(const PlayRecord& record);
Result<PlayRecord> record_from_json(const Json& json, const std::string& where);
Result<PlayRecord> load_record(const fs::path& file);
Result<void> save_record(const PlayRecord& record, const fs::path& file);

/// The costs with the stalls in them, as the model plays them.
std::vector<FrameCost> costs_with_stalls(const PlayRecord& record);

/// Drops of each run of frames with the same segment, as observed and as the model has them from the measured
/// times.
struct Replay {
  struct Part {
    std::string segment;
    Frames frames = 0, observed = 0, modelled = 0;
    /// Within 1 frame or 2 % of its frames.
    bool agrees() const;
  };
  Frames observed = 0, modelled = 0;
  std::vector<Part> parts;
  int agreeing() const;
  bool agrees() const { return agreeing() == static_cast<int>(parts.size()); }
};
Replay replay(const PlayRecord& record);

/// Plays a record on the scripted seat: the real player and pipeline on a clock of their own, where frames
/// take what the record says. The same every time, to the frame.
Playout play_script(const ProgramPtr& program, const PlayRecord& script, FrameRange range,
                    PlayOptions options = {});

}  // namespace gc
