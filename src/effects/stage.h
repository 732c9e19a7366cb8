// Stages: the steps that make a frame, as units of cost.
#pragma once
#include <array>
#include <cstdint>
#include <string>
#include <vector>

#include "base/hash.h"

namespace gc {

/// What a stage's cost grows with, each term counted in a unit of its own; the law's factors are milliseconds
/// per unit. The first is always millions of pixels of the raster. Unused ones are 0.
inline constexpr int kTerms = 5;
using Terms = std::array<float, kTerms>;

/// In the order in which they are stacked in the skyline.
enum class StageKind {
  read,
  decode,
  convert,
  repair,
  grade,
  effect,
  composition,
  transition,
  mix,
  display,
  transfer  ///< between the processor's memory and the accelerator's
};
inline constexpr int kStageKinds = 11;

const char* stage_name(StageKind kind);
StageKind stage_named(const std::string& name);  ///< display for a name that is no stage

/// Names a sort of work that one cost law describes, the same on every seat. Made once, never destroyed.
struct LawName {
  std::string id;     ///< "blur", "decode H.264 8 bit", "blur, accelerator"
  std::string label;  ///< for people
  StageKind kind = StageKind::display;
  std::vector<std::string> terms;  ///< names of the terms that are used, units included
};
/// The one of this id. Later calls with the same id get what the first one made.
const LawName* law_name(const std::string& id, const std::string& label, StageKind kind,
                        std::vector<std::string> terms);

/// One timed step of one frame. `key` names what the cost depends on, so that equal work shares its samples.
struct StageSample {
  StageKind kind = StageKind::display;
  Hash128 key;
  float wall_ms = 0;
  float cpu_ms = 0;
  std::int32_t owner = -1;  ///< index into Program::owners: which segment and effect this belongs to
  float gauge = 0;          ///< how slow the core was around it (base/gauge.h); 0: not looked at
  bool by_wall = false;     ///< done elsewhere than on the thread that waited for it
  double ended_ms = 0;      ///< by now_ms(); 0: it has no place of its own
  /// Decoding in order, by threads of the decoder's own: what they worked on one picture; 0: this thread did it.
  float work_ms = 0;

  /// What it took, wherever it was done, ms.
  float cost_ms() const { return work_ms > 0 ? work_ms : wall_ms; }
};

}  // namespace gc
