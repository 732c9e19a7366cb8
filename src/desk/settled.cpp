#include "desk/settled.h"

#include <algorithm>
#include <cmath>

#include "base/files.h"
#include "base/hash.h"

namespace gc {
namespace {

constexpr const char* kSteps[] = {
    "CREATE TABLE edit(timeline TEXT, segment TEXT, effect INTEGER, at REAL); CREATE INDEX edit_of ON edit(timeline, segment);"
    "CREATE TABLE locked(timeline TEXT, segment TEXT, PRIMARY KEY(timeline, segment));"};

constexpr double kOneEdit = 600;  ///< seconds
constexpr double kFortnight = 14 * 86400.0, kDay = 86400.0;

std::string key_of(const Timeline& t) { return hash_text(t.folder + "\n" + t.name).hex(); }

bool same_effect(const Effect& a, const Effect& b) { return a.type == b.type && a.params == b.params && a.enabled == b.enabled; }

bool same_content(const Segment& a, const Segment& b) {
  return a.content == b.content && a.ref == b.ref && a.generator == b.generator && a.source_in == b.source_in && a.speed == b.speed && a.duration == b.duration &&
         a.enabled == b.enabled && a.blend == b.blend && a.opacity == b.opacity && a.matte == b.matte && a.fit == b.fit && a.between == b.between;
}

}  // namespace

std::vector<Change> changes_between(const Timeline& before, const Timeline& after) {
  std::vector<Change> all;
  for (const SegmentPtr& now : video_segments(after)) {
    const SegmentPtr was = find_segment(before, now->id);
    if (!was || was == now) continue;
    if (!same_content(*was, *now)) {
      all.push_back({now->id, 0});
      continue;
    }
    const std::size_t both = std::min(was->stack.size(), now->stack.size());
    std::size_t first = 0;
    while (first < both && same_effect(was->stack[first], now->stack[first])) ++first;
    if (first < both || was->stack.size() != now->stack.size()) all.push_back({now->id, first});
  }
  return all;
}

fs::path EditLog::usual_file() { return data_folder() / "edits.sqlite"; }

Result<EditLog> EditLog::open(const fs::path& file) {
  std::error_code e;
  fs::create_directories(file.parent_path(), e);
  auto database = Database::open(file, kSteps, "log of edits");
  if (!database) return std::unexpected(database.error());
  EditLog log;
  log.database_ = std::move(*database);
  return log;
}

Result<void> EditLog::note(const Timeline& t, const std::vector<Change>& changes, double now_s) {
  if (changes.empty()) return {};
  const std::string timeline = key_of(t);
  return database_.change([&]() -> Result<void> {
    for (const Change& c : changes) {
      Statement lately = database_.prepare("SELECT 1 FROM edit WHERE timeline = ? AND segment = ? AND effect = ? AND at > ? AND at <= ?");
      lately.bind(std::string_view(timeline)).bind(std::string_view(c.segment)).bind(static_cast<std::int64_t>(c.effect)).bind(now_s - kOneEdit).bind(now_s);
      if (lately.step()) continue;
      if (auto r = database_.prepare("INSERT INTO edit VALUES(?, ?, ?, ?)").bind(std::string_view(timeline)).bind(std::string_view(c.segment)).bind(static_cast<std::int64_t>(c.effect)).bind(now_s).run(); !r)
        return r;
    }
    return database_.prepare("DELETE FROM edit WHERE at < ?").bind(now_s - 8 * kFortnight).run();
  });
}

Result<void> EditLog::lock(const Timeline& t, const std::string& segment, bool locked) {
  const std::string timeline = key_of(t);
  return database_.prepare(locked ? "INSERT OR IGNORE INTO locked VALUES(?, ?)" : "DELETE FROM locked WHERE timeline = ? AND segment = ?")
      .bind(std::string_view(timeline)).bind(std::string_view(segment)).run();
}

bool EditLog::locked(const Timeline& t, const std::string& segment) const {
  const std::string timeline = key_of(t);
  Statement s = database_.prepare("SELECT 1 FROM locked WHERE timeline = ? AND segment = ?");
  s.bind(std::string_view(timeline)).bind(std::string_view(segment));
  return s.step();
}

double EditLog::chance(const Timeline& t, const std::string& segment, std::size_t below, double hours, double now_s) const {
  if (locked(t, segment)) return 0;
  const std::string timeline = key_of(t);
  Statement s = database_.prepare("SELECT count(*), min(at) FROM edit WHERE timeline = ? AND segment = ? AND effect < ? AND at > ?");
  s.bind(std::string_view(timeline)).bind(std::string_view(segment)).bind(static_cast<std::int64_t>(std::min<std::size_t>(below, 1 << 20))).bind(now_s - kFortnight);
  if (!s.step() || s.integer(0) == 0) return 0;
  const double looked_at = std::max(kDay, now_s - s.real(1)) / 3600;
  return 1 - std::exp(-static_cast<double>(s.integer(0)) / looked_at * std::max(0.0, hours));
}

}  // namespace gc
