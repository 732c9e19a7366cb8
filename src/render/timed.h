// The time of a step in the log of a frame's stages.
#pragma once
#include "base/clock.h"
#include "base/crash.h"
#include "base/gauge.h"
#include "render/decoders.h"

namespace gc {

/// A stage in words, for a report of a crash.
inline const char* words_of(const StageRef& stage) { return stage.law ? stage.law->label.c_str() : stage_name(stage.kind); }

/// Times a step and adds it to the log.
template <class F>
void timed(StageLog& log, const StageRef& stage, F&& step) {
  const DoingScope says(words_of(stage));
  const Stopwatch wall;
  const CpuStopwatch cpu;
  step();
  log.push_back(
      {stage.kind, stage.key, static_cast<float>(wall.ms()), static_cast<float>(cpu.ms()), stage.owner});
  log.back().by_wall = stage.by_wall, log.back().ended_ms = now_ms();
  log.back().gauge = gauge_around();
}

}  // namespace gc
