#include "queue/journal.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

#include "base/clock.h"

namespace gc {
namespace {

constexpr const char* kSteps[] = {
    "CREATE TABLE job(id INTEGER PRIMARY KEY AUTOINCREMENT, timeline TEXT, file TEXT, snapshot TEXT, remedy TEXT, what TEXT, making TEXT, shelf TEXT,"
    " notebook TEXT, frames INTEGER, modelled_s REAL, said_s REAL, bytes INTEGER, state INTEGER, paused INTEGER DEFAULT 0, priority INTEGER DEFAULT 0,"
    " place REAL, tries INTEGER DEFAULT 0, done INTEGER DEFAULT 0, trouble TEXT DEFAULT '', by TEXT DEFAULT '', added TEXT, began TEXT DEFAULT '',"
    " ended TEXT DEFAULT '', taken_s REAL DEFAULT 0);"
    "CREATE INDEX job_state ON job(state);"
    "CREATE TABLE said(key TEXT PRIMARY KEY, value TEXT);",
    "ALTER TABLE job ADD COLUMN delivery TEXT NOT NULL DEFAULT '';"};

constexpr int kMostTries = 2;
constexpr const char* kColumns =
    "id, timeline, file, snapshot, remedy, what, making, shelf, notebook, frames, modelled_s, said_s, bytes, state, paused, priority, place, tries, done, "
    "trouble, by, added, began, ended, taken_s, delivery";

Job job_of(const Statement& s) {
  Job j;
  j.id = s.integer(0), j.timeline = s.text(1), j.file = s.text(2), j.snapshot = s.text(3), j.remedy = s.text(4), j.what = s.text(5);
  if (const auto parsed = parse_json(s.text(6), "a job"))
    if (const auto m = making_from(*parsed)) j.making = *m;
  j.shelf = s.text(7), j.notebook = s.text(8);
  j.price = {s.integer(9), s.real(10), s.real(11)}, j.bytes = static_cast<std::uint64_t>(s.integer(12));
  j.state = static_cast<JobState>(s.integer(13)), j.paused = s.integer(14) != 0, j.priority = static_cast<int>(s.integer(15));
  j.place = s.real(16), j.tries = static_cast<int>(s.integer(17)), j.done = s.integer(18), j.trouble = s.text(19), j.by = s.text(20);
  j.added = s.text(21), j.began = s.text(22), j.ended = s.text(23), j.taken_s = s.real(24), j.delivery = s.text(25);
  return j;
}

const char* when_name(QueueSettings::When w) {
  static constexpr const char* kNames[] = {"idle", "always", "never", "hours"};
  return kNames[static_cast<std::size_t>(w)];
}

const char* after_window_name(QueueSettings::AfterWindow a) {
  static constexpr const char* kNames[] = {"ask", "go-on", "stop"};
  return kNames[static_cast<std::size_t>(a)];
}

Frames frames_of(const Making& m) {
  Frames n = 0;
  for (const FrameRange& r : m.subject.frames) n += r.length();
  return n;
}

/// What is made around a frame, and the rest of it. Only what renders frames of the timeline can be taken apart.
std::pair<Making, Making> apart(const Making& m, std::optional<Frames> at) {
  constexpr Frames kAround = 12;
  Making bad = m, rest = m;
  rest.subject.frames.clear();
  if (m.what != Making::What::frames || !at) return {bad, rest};
  bad.subject.frames.clear();
  for (const FrameRange& r : m.subject.frames) {
    const FrameRange inside{std::clamp(*at - kAround, r.in, r.out), std::clamp(*at + kAround + 1, r.in, r.out)};
    if (inside.length() > 0) bad.subject.frames.push_back(inside);
    for (const FrameRange& left : {FrameRange{r.in, inside.in}, FrameRange{inside.out, r.out}})
      if (left.length() > 0) rest.subject.frames.push_back(left);
  }
  // A frame that is none of its own tells nothing.
  if (bad.subject.frames.empty()) return {m, Making{m.what, {}}};
  return {bad, rest};
}

std::vector<std::string> lines_of(const std::string& text) {
  std::vector<std::string> lines;
  for (std::size_t at = 0; at < text.size();) {
    const std::size_t end = std::min(text.find('\n', at), text.size());
    lines.push_back(text.substr(at, end - at));
    at = end + 1;
  }
  return lines;
}

}  // namespace

const char* state_name(JobState s) {
  static constexpr const char* kNames[] = {"waiting", "working", "done", "failed", "cancelled"};
  return kNames[static_cast<std::size_t>(s)];
}

std::optional<std::pair<int, int>> hours_in(const std::string& text) {
  int a = 0, b = 0, c = 0, d = 0, used = 0;
  if (std::sscanf(text.c_str(), "%2d:%2d-%2d:%2d%n", &a, &b, &c, &d, &used) != 4 || static_cast<std::size_t>(used) != text.size()) return std::nullopt;
  const int from = a * 60 + b, until = c * 60 + d, day = 24 * 60;
  if (std::min({a, b, c, d}) < 0 || b > 59 || d > 59 || from > day || until > day || from == until) return std::nullopt;
  return std::pair{from, until};
}

Json to_json(const Making& m) {
  Json frames = Json::array();
  for (const FrameRange& r : m.subject.frames) frames.push_back({r.in, r.out});
  const Subject& s = m.subject;
  return {{"what", static_cast<int>(m.what)}, {"segment", s.segment}, {"composition", s.composition}, {"source", s.source}, {"type", s.type},
          {"after", s.after}, {"size", s.size}, {"form", form_id(s.form)}, {"frames", frames}};
}

std::optional<Making> making_from(const Json& j) {
  if (!j.is_object() || !j.contains("what") || !j["what"].is_number_integer()) return std::nullopt;
  const int what = j["what"].get<int>();
  const auto form = form_named(text_or(j, "form", ""));
  if (what < 0 || what > 3 || !form) return std::nullopt;
  Making m;
  m.what = static_cast<Making::What>(what);
  Subject& s = m.subject;
  s.segment = text_or(j, "segment", ""), s.composition = text_or(j, "composition", ""), s.source = text_or(j, "source", ""), s.type = text_or(j, "type", "");
  s.after = j.value("after", std::size_t{0}), s.size = j.value("size", 1), s.form = *form;
  if (const auto it = j.find("frames"); it != j.end() && it->is_array())
    for (const Json& r : *it)
      if (r.is_array() && r.size() == 2) s.frames.push_back({r[0].get<Frames>(), r[1].get<Frames>()});
  return m;
}

Result<Journal> Journal::open(const fs::path& file) {
  std::error_code e;
  fs::create_directories(file.parent_path(), e);
  auto database = Database::open(file, kSteps, "queue");
  if (!database) return std::unexpected(database.error());
  Journal j;
  j.database_ = std::move(*database), j.file_ = file;
  return j;
}

Result<std::int64_t> Journal::insert(const Job& j, double place) {
  if (auto r = database_.prepare("INSERT INTO job(timeline, file, snapshot, remedy, what, making, shelf, notebook, frames, modelled_s, said_s, bytes, state, "
                                 "priority, place, added, delivery, tries, trouble, ended) VALUES(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)")
                   .bind(std::string_view(j.timeline)).bind(std::string_view(j.file)).bind(std::string_view(j.snapshot)).bind(std::string_view(j.remedy))
                   .bind(std::string_view(j.what)).bind(std::string_view(to_json(j.making).dump())).bind(std::string_view(j.shelf))
                   .bind(std::string_view(j.notebook)).bind(j.price.frames).bind(j.price.modelled_s).bind(j.price.said_s)
                   .bind(static_cast<std::int64_t>(j.bytes)).bind(static_cast<std::int64_t>(j.state)).bind(std::int64_t{j.priority}).bind(place)
                   .bind(std::string_view(now_utc())).bind(std::string_view(j.delivery)).bind(std::int64_t{j.tries}).bind(std::string_view(j.trouble))
                   .bind(std::string_view(j.ended)).run();
      !r)
    return std::unexpected(r.error());
  Statement rowid = database_.prepare("SELECT last_insert_rowid()");
  rowid.step();
  return rowid.integer(0);
}

Result<std::int64_t> Journal::add(Job j) {
  std::int64_t id = 0;
  j.state = JobState::waiting, j.tries = 0, j.trouble.clear(), j.ended.clear();
  const auto done = database_.change([&]() -> Result<void> {
    Statement last = database_.prepare("SELECT ifnull(max(place), 0) FROM job");
    last.step();
    const auto added = insert(j, last.real(0) + 1);
    if (!added) return std::unexpected(added.error());
    id = *added;
    return {};
  });
  if (!done) return std::unexpected(done.error());
  return id;
}

std::vector<Job> Journal::jobs() const {
  std::vector<Job> all;
  Statement s = database_.prepare((std::string("SELECT ") + kColumns +
                                   " FROM job ORDER BY CASE state WHEN 1 THEN 0 WHEN 0 THEN 1 ELSE 2 END, CASE WHEN state = 0 THEN -priority ELSE 0 END, "
                                   "CASE WHEN state = 0 THEN place ELSE -id END").c_str());
  while (s.step()) all.push_back(job_of(s));
  return all;
}

std::optional<Job> Journal::job(std::int64_t id) const {
  Statement s = database_.prepare((std::string("SELECT ") + kColumns + " FROM job WHERE id = ?").c_str());
  s.bind(id);
  if (!s.step()) return std::nullopt;
  return job_of(s);
}

Result<int> Journal::forget_waiting(const std::string& file) {
  if (auto r = database_.prepare("DELETE FROM job WHERE file = ? AND state = 0 AND delivery = ''").bind(std::string_view(file)).run(); !r) return std::unexpected(r.error());
  Statement n = database_.prepare("SELECT changes()");
  n.step();
  return static_cast<int>(n.integer(0));
}

Result<std::optional<Job>> Journal::take(const std::string& process) {
  std::optional<Job> taken;
  const auto done = database_.change([&]() -> Result<void> {
    Statement s = database_.prepare((std::string("SELECT ") + kColumns + " FROM job WHERE state = 0 AND paused = 0 ORDER BY priority DESC, place LIMIT 1").c_str());
    if (!s.step()) return {};
    taken = job_of(s);
    taken->state = JobState::working, taken->by = process, ++taken->tries;
    return database_.prepare("UPDATE job SET state = 1, by = ?, tries = tries + 1, began = ? WHERE id = ?")
        .bind(std::string_view(process)).bind(std::string_view(now_utc())).bind(taken->id).run();
  });
  if (!done) return std::unexpected(done.error());
  return taken;
}

Result<void> Journal::progress(std::int64_t id, Frames done) {
  return database_.prepare("UPDATE job SET done = ? WHERE id = ?").bind(done).bind(id).run();
}

Result<void> Journal::end(std::int64_t id, JobState state, const std::string& trouble, double taken_s) {
  return database_.prepare("UPDATE job SET state = ?, trouble = ?, taken_s = ?, by = '', ended = ? WHERE id = ?")
      .bind(static_cast<std::int64_t>(state)).bind(std::string_view(trouble)).bind(taken_s).bind(std::string_view(now_utc())).bind(id).run();
}

Result<bool> Journal::failed(std::int64_t id, const std::string& trouble, std::optional<Frames> at) {
  bool aside = false;
  const auto done = database_.change([&]() -> Result<void> {
    const auto j = job(id);
    if (!j || j->state != JobState::working) return {};
    if (j->tries < kMostTries)
      return database_.prepare("UPDATE job SET state = 0, by = '', trouble = ? WHERE id = ?").bind(std::string_view(trouble)).bind(id).run();
    aside = true;
    // A delivery is whole or nothing: what its making says is only what other machines may render for it.
    const auto [bad, rest] = apart(j->making, j->delivery.empty() ? at : std::nullopt);
    const Frames all = frames_of(j->making), kept = frames_of(rest);
    if (kept == 0) return end(id, JobState::failed, trouble, 0);
    Job set_aside = *j;
    const double share = static_cast<double>(all - kept) / static_cast<double>(all);
    set_aside.making = bad, set_aside.state = JobState::failed, set_aside.trouble = trouble, set_aside.ended = now_utc();
    set_aside.price = {all - kept, j->price.modelled_s * share, j->price.said_s * share};
    set_aside.bytes = static_cast<std::uint64_t>(static_cast<double>(j->bytes) * share);
    const auto other = insert(set_aside, j->place);
    if (!other) return std::unexpected(other.error());
    const std::string why = fmt::format("{} frames of it are set aside: job {} says why.", all - kept, *other);
    if (auto r = database_.prepare("UPDATE job SET state = 0, by = '', tries = 0, trouble = ? WHERE id = ?").bind(std::string_view(why)).bind(id).run(); !r) return r;
    return narrow(id, rest, kept, 1 - share);
  });
  if (!done) return std::unexpected(done.error());
  return aside;
}

fs::path Journal::crash_file(std::int64_t id) const { return file_.parent_path() / "queue" / fmt::format("crash-{}", id); }

Result<int> Journal::reclaim(const std::string& own) {
  int n = 0;
  for (const Job& j : jobs()) {
    if (j.state != JobState::working || (j.by != own && may_be_alive(j.by))) continue;
    // The machine went down, or somebody ended the renderer: nobody says that the job was to blame, so it may be tried again.
    const std::string trouble = fmt::format("Its renderer ended at frame {} of {}.", j.done, j.price.frames);
    if (auto r = database_.prepare("UPDATE job SET state = 0, by = '', tries = max(0, tries - 1), trouble = ? WHERE id = ? AND state = 1 AND by = ?")
                     .bind(std::string_view(trouble)).bind(j.id).bind(std::string_view(j.by)).run();
        !r)
      return std::unexpected(r.error());
    ++n;
  }
  return n;
}

Result<bool> Journal::pause(std::int64_t id, bool paused) {
  if (!job(id)) return false;
  if (auto r = database_.prepare("UPDATE job SET paused = ? WHERE id = ?").bind(std::int64_t{paused}).bind(id).run(); !r) return std::unexpected(r.error());
  return true;
}

Result<void> Journal::narrow(std::int64_t id, const Making& making, Frames frames, double share) {
  return database_.prepare("UPDATE job SET making = ?, frames = ?, modelled_s = modelled_s * ?, said_s = said_s * ?, bytes = CAST(bytes * ? AS INTEGER) "
                           "WHERE id = ? AND state = 0")
      .bind(std::string_view(to_json(making).dump())).bind(frames).bind(share).bind(share).bind(share).bind(id).run();
}

Result<bool> Journal::cancel(std::int64_t id) {
  const auto j = job(id);
  if (!j || j->state == JobState::done || j->state == JobState::cancelled) return false;
  if (auto r = end(id, JobState::cancelled, "", 0); !r) return std::unexpected(r.error());
  return true;
}

Result<bool> Journal::move(std::int64_t id, bool first) {
  const auto j = job(id);
  if (!j || j->state != JobState::waiting) return false;
  // Priorities keep timelines apart; "this one now" goes before all of them.
  const auto r = first ? database_.prepare("UPDATE job SET place = (SELECT min(place) FROM job WHERE state = 0) - 1, "
                                           "priority = (SELECT max(priority) FROM job WHERE state = 0) WHERE id = ?").bind(id).run()
                       : database_.prepare("UPDATE job SET place = (SELECT max(place) FROM job) + 1 WHERE id = ?").bind(id).run();
  if (!r) return std::unexpected(r.error());
  return true;
}

std::string Journal::value(const char* key) const {
  Statement s = database_.prepare("SELECT value FROM said WHERE key = ?");
  s.bind(std::string_view(key));
  return s.step() ? s.text(0) : std::string();
}

Result<void> Journal::set_value(const char* key, const std::string& value) {
  return database_.prepare("INSERT INTO said(key, value) VALUES(?, ?) ON CONFLICT(key) DO UPDATE SET value = excluded.value")
      .bind(std::string_view(key)).bind(std::string_view(value)).run();
}

QueueSettings Journal::settings() const {
  QueueSettings s;
  const auto j = parse_json(value("settings"), "the queue's settings");
  if (!j || !j->is_object()) return s;
  for (const auto& [name, v] : j->items()) (void)set(s, name, v.is_string() ? v.get<std::string>() : v.dump());
  return s;
}

Result<void> Journal::set_settings(const QueueSettings& s) {
  const Json j{{"when", when_name(s.when)}, {"idle", fmt::format("{}", s.idle_s)}, {"hours", s.hours}, {"power", s.mains_only ? "mains" : "any"},
               {"while-working", fmt::format("{}", s.while_working)}, {"after-window", after_window_name(s.after_window)}, {"paused", s.paused ? "yes" : "no"}};
  return set_value("settings", j.dump());
}

Result<void> Journal::set(QueueSettings& s, const std::string& name, const std::string& v) {
  const auto number = [&]() -> std::optional<double> {
    char* end = nullptr;
    const double n = std::strtod(v.c_str(), &end);
    return end != v.c_str() && *end == 0 && std::isfinite(n) ? std::optional(n) : std::nullopt;
  };
  if (name == "when") {
    for (const auto w : {QueueSettings::When::idle, QueueSettings::When::always, QueueSettings::When::never, QueueSettings::When::hours})
      if (v == when_name(w)) return s.when = w, Result<void>{};
    return usage("'" + v + "' is no time to work at", "Give idle, always, never or hours.");
  }
  if (name == "idle") {
    if (const auto n = number(); n && *n >= 1 && *n <= 600) return s.idle_s = *n, Result<void>{};
    return usage("'" + v + "' is no time without input", "Give 1 to 600 seconds.");
  }
  if (name == "hours") {
    if (v.empty() || hours_in(v)) return s.hours = v, Result<void>{};
    return usage("'" + v + "' says no hours", "Give them as 22:00-6:00.");
  }
  if (name == "power") {
    if (v == "mains" || v == "any") return s.mains_only = v == "mains", Result<void>{};
    return usage("'" + v + "' is no power", "Give mains or any.");
  }
  if (name == "while-working") {
    if (const auto n = number(); n && *n >= 0 && *n <= 1) return s.while_working = *n, Result<void>{};
    return usage("'" + v + "' is no share", "Give 0 to 1.");
  }
  if (name == "after-window") {
    for (const auto a : {QueueSettings::AfterWindow::ask, QueueSettings::AfterWindow::go_on, QueueSettings::AfterWindow::stop})
      if (v == after_window_name(a)) return s.after_window = a, Result<void>{};
    return usage("'" + v + "' is nothing that can be done when the last window closes", "Give ask, go-on or stop.");
  }
  if (name == "paused") {
    if (v == "yes" || v == "no") return s.paused = v == "yes", Result<void>{};
    return usage("'" + v + "' is neither yes nor no", "Give yes or no.");
  }
  return usage("the queue has no setting '" + name + "'", "Give when, idle, hours, power, while-working, after-window or paused.");
}

Result<bool> Journal::lease(const std::string& process) {
  bool mine = false;
  const auto done = database_.change([&]() -> Result<void> {
    const std::string by = value("lease");
    mine = by.empty() || by == process || !may_be_alive(by);
    return mine ? set_value("lease", process) : Result<void>{};
  });
  if (!done) return std::unexpected(done.error());
  return mine;
}

Result<void> Journal::release(const std::string& process) {
  return database_.prepare("DELETE FROM said WHERE key = 'lease' AND value = ?").bind(std::string_view(process)).run();
}

std::string Journal::holder() const {
  const std::string by = value("lease");
  return !by.empty() && may_be_alive(by) ? by : std::string();
}

Result<void> Journal::ask_to_end() { return set_value("end", value("lease")); }
bool Journal::asked_to_end(const std::string& process) const { return value("end") == process; }
Result<void> Journal::note_staying(const std::string& process) { return set_value("stays", process); }
bool Journal::stays() const {
  const std::string by = holder();
  return !by.empty() && value("stays") == by;
}

Result<void> Journal::note_window(const std::string& process, bool open) {
  return database_.change([&]() -> Result<void> {
    std::string now = open ? process : "";
    for (const std::string& other : lines_of(value("windows")))
      if (other != process && may_be_alive(other)) now += (now.empty() ? "" : "\n") + other;
    return set_value("windows", now);
  });
}

bool Journal::other_windows(const std::string& process) const {
  const auto all = lines_of(value("windows"));
  return std::ranges::any_of(all, [&](const std::string& w) { return w != process && may_be_alive(w); });
}

Result<void> Journal::note_use(bool playing) { return set_value(playing ? "playing" : "input", fmt::format("{:.3f}", seconds_now())); }

Journal::Use Journal::use() const {
  const auto ago = [&](const char* key) {
    const std::string at = value(key);
    return at.empty() ? 1e9 : std::max(0.0, seconds_now() - std::strtod(at.c_str(), nullptr));
  };
  return {ago("input"), ago("playing")};
}

Result<void> Journal::set_why(const std::string& why) { return value("why") == why ? Result<void>{} : set_value("why", why); }
std::string Journal::why() const { return value("why"); }

std::string Journal::check() const {
  const std::string damage = database_.damage();
  return damage.empty() ? "ok" : damage;
}

}  // namespace gc
