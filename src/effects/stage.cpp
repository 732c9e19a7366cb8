#include "effects/stage.h"

#include <map>
#include <mutex>

namespace gc {
namespace {
constexpr std::array<const char*, kStageKinds> kNames{"read",  "decode",  "convert",     "repair",
                                                      "grade", "effect",  "composition", "transition",
                                                      "mix",   "display", "transfer"};

std::mutex names_mutex;
std::map<std::string, LawName>& names() {
  static auto* all = new std::map<std::string, LawName>;
  return *all;
}
}  // namespace

const LawName* law_name(const std::string& id, const std::string& label, StageKind kind,
                        std::vector<std::string> terms) {
  const std::lock_guard lock(names_mutex);
  return &names().try_emplace(id, LawName{id, label, kind, std::move(terms)}).first->second;
}

const char* stage_name(StageKind kind) { return kNames[static_cast<std::size_t>(kind)]; }

StageKind stage_named(const std::string& name) {
  for (std::size_t i = 0; i < kNames.size(); ++i)
    if (name == kNames[i]) return static_cast<StageKind>(i);
  return StageKind::display;
}

}  // namespace gc
