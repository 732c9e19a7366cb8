#include "effects/stage.h"

namespace gc {
namespace {
constexpr std::array<const char*, kStageKinds> kNames{"read",  "decode",  "convert",     "repair",
                                                      "grade", "effect",  "composition", "transition",
                                                      "mix",   "display", "transfer"};
}

const char* stage_name(StageKind kind) { return kNames[static_cast<std::size_t>(kind)]; }

StageKind stage_named(const std::string& name) {
  for (std::size_t i = 0; i < kNames.size(); ++i)
    if (name == kNames[i]) return static_cast<StageKind>(i);
  return StageKind::display;
}

}  // namespace gc
