#include "desk/watched.h"

#include <fmt/format.h>

#include <algorithm>
#include <set>

#include "base/clock.h"

namespace gc {
namespace {

constexpr const char* kWatchSteps[] = {R"(
  CREATE TABLE watched(shown TEXT PRIMARY KEY, at TEXT NOT NULL);
  CREATE TABLE restless(shown TEXT PRIMARY KEY, frame INTEGER NOT NULL, x INTEGER NOT NULL, y INTEGER NOT NULL, change REAL NOT NULL);
)"};

/// The same timeline with a segment's effects off.
TimelinePtr without_effects(const Timeline& t, const Segment& segment) {
  auto plain = std::make_shared<Segment>(segment);
  for (Effect& e : plain->stack) e.enabled = e.enabled && e.type == "retime";
  return with_segment(t, std::move(plain));
}

}  // namespace

fs::path WatchLog::usual_file() { return data_folder() / "watched.sqlite"; }

Result<WatchLog> WatchLog::open(const fs::path& file) {
  std::error_code e;
  fs::create_directories(file.parent_path(), e);
  auto database = Database::open(file, kWatchSteps, "log of what was watched");
  if (!database) return std::unexpected(database.error());
  WatchLog log;
  log.database_ = std::move(*database);
  return log;
}

Result<void> WatchLog::note(const Hash128& shown, const std::string& now_utc) {
  if (!database_.is_open()) return {};
  return database_.prepare("INSERT OR REPLACE INTO watched VALUES(?, ?)").bind(std::string_view(shown.hex())).bind(std::string_view(now_utc)).run();
}

std::string WatchLog::watched(const Hash128& shown) const {
  if (!database_.is_open()) return {};
  Statement q = database_.prepare("SELECT at FROM watched WHERE shown = ?");
  q.bind(std::string_view(shown.hex()));
  return q.step() ? q.text(0) : std::string();
}

Result<void> WatchLog::keep(const Hash128& shown, const Restless& r) const {
  if (!database_.is_open()) return {};
  return database_.prepare("INSERT OR REPLACE INTO restless VALUES(?, ?, ?, ?, ?)")
      .bind(std::string_view(shown.hex()))
      .bind(static_cast<std::int64_t>(r.frame))
      .bind(static_cast<std::int64_t>(r.x))
      .bind(static_cast<std::int64_t>(r.y))
      .bind(r.change)
      .run();
}

std::optional<Restless> WatchLog::found(const Hash128& shown) const {
  if (!database_.is_open()) return {};
  Statement q = database_.prepare("SELECT frame, x, y, change FROM restless WHERE shown = ?");
  q.bind(std::string_view(shown.hex()));
  if (!q.step()) return {};
  Restless r;
  r.frame = q.integer(0), r.x = static_cast<int>(q.integer(1)), r.y = static_cast<int>(q.integer(2)), r.change = q.real(3);
  return r;
}

Hash128 shown_by(const Program& program, const CompiledSegment& segment) {
  std::string all = segment.identity.hex();
  for (const CompiledInterval& i : program.intervals()) {
    if (i.out <= segment.in || i.in >= segment.out) continue;
    all += fmt::format(" {}-{}:{}", std::max(i.in, segment.in) - segment.in, std::min(i.out, segment.out) - segment.in, i.identity.hex());
  }
  return hash_text(all);
}

Result<void> note_watched(const View& view, const Playout& playout, WatchLog& log, const std::string& now_utc) {
  if (playout.mode != PlayMode::on_the_clock || playout.stopped || view.played->options().scale != 1) return {};
  std::set<Frames> seen;
  Frames before = -1;
  for (const FrameLog& f : playout.log) {
    if (f.presented && !f.dropped && !f.offline && f.frame > before) seen.insert(f.frame);
    before = f.frame;
  }
  for (const auto& s : view.delivered->segments()) {
    if (judged_in_motion(*s).empty()) continue;
    bool whole = s->out > s->in;
    for (Frames f = s->in; f < s->out && whole; ++f) whole = seen.contains(f);
    const Hash128 shown = shown_by(*view.delivered, *s);
    // What is bypassed or played from smaller pictures was not watched as it is delivered.
    const auto& all = view.played->segments();
    const auto played = std::find_if(all.begin(), all.end(), [&](const CompiledSegmentPtr& p) { return p->segment->id == s->segment->id && p->in == s->in; });
    if (!whole || played == all.end() || !(shown_by(*view.played, **played) == shown)) continue;
    if (auto r = log.note(shown, now_utc); !r) return r;
  }
  return {};
}

namespace {

/// @param watched_too also those that somebody has watched
std::vector<Restless> restless_segments(const View& view, MediaCatalog& media, const WatchLog& log, bool watched_too, const std::function<bool()>& go_on) {
  std::vector<Restless> all;
  for (const auto& s : view.delivered->segments()) {
    const std::string effect = judged_in_motion(*s);
    if (effect.empty()) continue;
    const Hash128 shown = shown_by(*view.delivered, *s);
    if (!watched_too && !log.watched(shown).empty()) continue;
    std::optional<Restless> found = log.found(shown);
    if (!found) {
      if (go_on && !go_on()) continue;
      const ProgramPtr plain = Program::compile(without_effects(*view.delivered->timeline(), *s->segment), media, view.delivered->options());
      found = restless(*view.delivered, *plain, *s, go_on);
      if (!found || (go_on && !go_on())) continue;  // half looked at says nothing
      found->frame -= s->in;
      (void)log.keep(shown, *found);  // looked at again where it cannot be kept
    }
    found->segment = s->segment->id, found->effect = effect, found->shown = shown, found->frame += s->in;
    if (found->change >= kRestless) all.push_back(*found);
  }
  return all;
}

}  // namespace

std::vector<Restless> must_watch(const View& view, MediaCatalog& media, const WatchLog& log, const std::function<bool()>& go_on) {
  return restless_segments(view, media, log, true, go_on);
}

std::vector<Restless> unwatched(const View& view, MediaCatalog& media, const WatchLog& log, const std::function<bool()>& go_on) {
  return restless_segments(view, media, log, false, go_on);
}

std::vector<Restless> known_must_watch(const View& view, const Stores& stores) {
  const bool any = std::any_of(view.delivered->segments().begin(), view.delivered->segments().end(),
                               [](const CompiledSegmentPtr& s) { return !judged_in_motion(*s).empty(); });
  std::error_code e;
  if (!any || !fs::exists(WatchLog::usual_file(), e)) return {};
  const auto log = WatchLog::open(WatchLog::usual_file());
  return log ? must_watch(view, *stores.media, *log, [] { return false; }) : std::vector<Restless>{};
}

bool look_for_must_watch(const View& view, const Stores& stores, double seconds, const std::function<bool()>& go_on) {
  const std::size_t before = known_must_watch(view, stores).size();
  const auto log = WatchLog::open(WatchLog::usual_file());
  if (!log) return false;
  const CpuStopwatch spent;
  return must_watch(view, *stores.media, *log, [&] { return spent.ms() < seconds * 1000 && (!go_on || go_on()); }).size() != before;
}

}  // namespace gc
