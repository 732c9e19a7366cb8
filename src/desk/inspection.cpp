#include "desk/inspection.h"

#include <set>

#include "desk/watched.h"
#include "render/agree.h"

namespace gc {
namespace {

void types_in(const Program& program, std::set<std::string>& types) {
  for (const CompiledSegmentPtr& s : program.segments()) {
    for (const Effect& e : s->segment->stack)
      if (e.enabled) types.insert(e.type);
    if (s->inner) types_in(*s->inner, types);
  }
}

std::vector<std::string> differing_in(const Program& program) {
  std::set<std::string> used;
  types_in(program, used);
  std::vector<std::string> differing;
  for (const Agreement& a : check_devices(160, 90, "", [&](const EffectType& type) { return type.accelerator && used.contains(type.id); }))
    if (!a.within) differing.emplace_back(a.type->id);
  return differing;
}

}  // namespace

Inspection inspect(const View& view, const Stores& stores, const std::function<bool()>& go_on) {
  auto log = WatchLog::open(WatchLog::usual_file());
  if (!log) log = WatchLog{};
  Inspection found;
  found.uncovered = coverage(*view.delivered, go_on), found.unwatched = unwatched(view, *stores.media, *log, go_on);
  if (stores.options.settings.rendering == Device::accelerator) found.differing = differing_in(*view.delivered);
  if (const std::string damage = stores.notebook->damage(); !damage.empty()) found.damaged.push_back("The notebook is damaged: " + damage + ".");
  if (const std::string damage = stores.shelf->damage(); !damage.empty()) found.damaged.push_back("The shelf's index is damaged: " + damage + ".");
  return found;
}

}  // namespace gc
