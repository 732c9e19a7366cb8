#include "cli/common.h"

#include <fmt/format.h>
#include <unistd.h>

#include <iostream>

namespace gc {

DeskOptions Common::desk() const {
  DeskOptions o;
  o.shelf = shelf, o.notebook = notebook;
  return o;
}

int fail(const Error& e, bool json) {
  if (json) std::cout << Json{{"error", e.text()}}.dump(1) << "\n";
  std::cerr << e.text() << "\n";
  return static_cast<int>(e.fault);
}

void put(const Json& j) { std::cout << j.dump(1, ' ', false, Json::error_handler_t::replace) << "\n"; }

Result<Opened> open(const Common& c) {
  auto timeline = load_timeline(c.file);
  if (!timeline) return std::unexpected(timeline.error());
  auto stores = Stores::open(c.desk());
  if (!stores) return std::unexpected(stores.error());
  Opened o{*stores, view_of(*timeline, *stores), {}};
  auto range = parse_range(c.range, o.view);
  if (!range) return std::unexpected(range.error());
  o.range = *range;
  return o;
}

int save_edit(const Common& c, const TimelinePtr& edited, Json done, const std::string& sentence) {
  if (auto r = save_timeline(*edited, c.file); !r) return fail(r.error(), c.json);
  if (c.json) put(done);
  else fmt::print("{}\n", sentence);
  return 0;
}

std::string effects_of(const Timeline& t, const std::string& segment) {
  const SegmentPtr s = find_segment(t, segment);
  if (!s) return "There is no such segment; `gclk inspect` lists them.";
  std::string ids;
  for (const Effect& e : s->stack) ids += (ids.empty() ? "" : ", ") + e.id;
  return ids.empty() ? "The segment has no effects." : "Its effects are: " + ids + ".";
}

void show_progress(const std::string& line) {
  if (isatty(2)) std::cerr << "\r\033[K" << line << std::flush;
}
void end_progress() {
  if (isatty(2)) std::cerr << "\r\033[K" << std::flush;
}

}  // namespace gc
