#include "desk/shelf_report.h"

#include <fmt/format.h>

namespace gc {

std::string ShelfReport::sentence() const {
  std::string text;
  for (const ShelfVolume& v : volumes) {
    text += fmt::format("{}{}{}", text.empty() ? "" : "; ", bytes_text(v.bytes),
                        v.budget ? " of " + bytes_text(*v.budget) : std::string(", no budget"));
    if (volumes.size() > 1) text += " in " + v.folder;
    if (!v.available) text += " (not there now)";
  }
  return text + ".";
}

ShelfReport shelf_report(const Shelf& shelf, const View* open) {
  ShelfReport r;
  NameSet matched;
  std::vector<ProgramPtr> programs;
  if (open) {
    programs = {open->played, open->delivered};
    for (const ProgramPtr& p : programs) matched.merge(names_of(*p));
  }
  std::map<std::tuple<std::string, std::string, std::string, std::string>, ShelfGroup> groups;
  for (const Chunk& c : shelf.pieces()) {
    const std::string what = c.kind == TapKind::stack ? fmt::format("stack up to effect {}", c.after)
                             : c.kind == TapKind::frame ? "frames" : tap_name(c.kind);
    ShelfGroup& g = groups[{c.timeline, c.segment, what, form_name(c.form)}];
    g.timeline = c.timeline, g.what = what, g.form = form_name(c.form);
    g.of = open && c.timeline == open->timeline->name ? open->name_of(c.segment) : c.segment;
    if (g.of.empty()) g.of = c.segment;
    ++g.pieces, g.frames += static_cast<Frames>(c.frames.size()), g.bytes += c.footprint(), g.seconds += c.seconds;
    g.used = std::max(g.used, c.used), g.pinned = g.pinned || c.pinned;
    g.matches = g.matches || std::ranges::any_of(c.frames, [&](const Hash128& h) { return matched.contains(h); });
    g.files.push_back(c.file);
  }
  for (auto& [key, g] : groups) r.groups.push_back(std::move(g));
  std::stable_sort(r.groups.begin(), r.groups.end(), [](const ShelfGroup& a, const ShelfGroup& b) { return a.bytes > b.bytes; });
  r.volumes = shelf.volumes();
  using What = Selection::What;
  r.unmatched = shelf.look({What::unmatched, {}, 0, {}}, programs);
  r.closed = shelf.look({What::closed, {}, 0, {}}, programs);
  r.all = shelf.look({What::all, {}, 0, {}});
  r.removed = shelf.removed();
  return r;
}

}  // namespace gc
