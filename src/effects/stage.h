// Stages: the steps that make a frame, as units of cost.
#pragma once
#include <array>
#include <cstdint>
#include <string>
#include <vector>

#include "base/hash.h"

namespace gc {

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

/// One timed step of one frame. `key` names what the cost depends on, so that equal work shares its samples.
struct StageSample {
  StageKind kind = StageKind::display;
  Hash128 key;
  float wall_ms = 0;
  float cpu_ms = 0;
  std::int32_t owner = -1;  ///< index into Program::owners: which segment and effect this belongs to
};

}  // namespace gc
