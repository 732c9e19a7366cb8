#include "measure/notebook.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstring>
#include <ctime>

#include "base/clock.h"
#include "base/log.h"

namespace gc {
namespace {

constexpr std::size_t kKept = 256;

// From nothing to version 1: samples by what they are of, and audits.
constexpr const char* kFirst = R"(
  CREATE TABLE series(
    what INTEGER NOT NULL, key TEXT NOT NULL, kind INTEGER NOT NULL, type TEXT NOT NULL, size REAL NOT NULL,
    first BLOB NOT NULL, second BLOB NOT NULL, at TEXT NOT NULL, PRIMARY KEY(what, key));
  CREATE TABLE audit(
    at TEXT NOT NULL, timeline TEXT NOT NULL, drops_forecast REAL, drops_observed REAL, span_f1 REAL, spans_called INTEGER, spans_right INTEGER);
)";

// Version 2: laws and eras. What was measured before is of the first era.
constexpr const char* kLaws = R"(
  CREATE TABLE law(id TEXT PRIMARY KEY, name TEXT NOT NULL, places BLOB NOT NULL);
  CREATE TABLE sample(
    at TEXT NOT NULL, era INTEGER NOT NULL, law TEXT NOT NULL, conditions TEXT NOT NULL, terms BLOB NOT NULL, undisturbed INTEGER NOT NULL, ms BLOB NOT NULL);
  CREATE TABLE era(id INTEGER PRIMARY KEY, since TEXT NOT NULL, change TEXT NOT NULL, identity TEXT NOT NULL);
  CREATE TABLE news(at TEXT NOT NULL, law TEXT NOT NULL, text TEXT NOT NULL, factor REAL NOT NULL);
  CREATE TABLE total(samples INTEGER NOT NULL);
  INSERT INTO total VALUES(0);
  UPDATE series SET kind = 1;
)";

// Version 3: series of several eras stand beside each other, so that another machine or library replaces
// nothing. The tables of playouts were there in some files of version 2.
constexpr const char* kEras = R"(
  CREATE TABLE series_by_era(
    what INTEGER NOT NULL, key TEXT NOT NULL, era INTEGER NOT NULL, first BLOB NOT NULL, second BLOB NOT NULL,
    at TEXT NOT NULL, PRIMARY KEY(what, key, era));
  INSERT INTO series_by_era SELECT what, key, kind, first, second, at FROM series;
  DROP TABLE series;
  ALTER TABLE series_by_era RENAME TO series;
  CREATE TABLE IF NOT EXISTS disturbance(at TEXT NOT NULL, per_busy_ms REAL NOT NULL, ms BLOB NOT NULL);
  CREATE TABLE IF NOT EXISTS late_look(
    disturbance INTEGER PRIMARY KEY, per_busy_ms REAL NOT NULL, ms BLOB NOT NULL);
  CREATE TABLE IF NOT EXISTS shared(disturbance INTEGER PRIMARY KEY, share REAL NOT NULL);
  CREATE TABLE IF NOT EXISTS played(playout INTEGER NOT NULL, ratio REAL NOT NULL, crowding REAL NOT NULL);
  CREATE TABLE price(
    at TEXT NOT NULL, frames INTEGER NOT NULL, modelled_s REAL NOT NULL, said_s REAL NOT NULL, taken_s REAL NOT NULL);
  CREATE TABLE IF NOT EXISTS outcome(at TEXT NOT NULL, probability REAL NOT NULL, dropped INTEGER NOT NULL);
)";

// Version 4: what media files hold, by path, size and time of change.
constexpr const char* kContents = R"(
  CREATE TABLE content(state TEXT PRIMARY KEY, content TEXT NOT NULL, at TEXT NOT NULL);
)";

// Version 5: how wide the ranges of drops had to be to hold playouts.
constexpr const char* kRanges = R"(
  CREATE TABLE ranged(at TEXT NOT NULL, needed REAL NOT NULL);
)";

// Version 6: how the seat was lately, for the next process.
constexpr const char* kLately = R"(
  CREATE TABLE lately(what TEXT PRIMARY KEY, value REAL NOT NULL, at_s REAL NOT NULL);
)";

// Version 7: which playout an outcome is of. Before, those of one had the same second.
constexpr const char* kOutcomesOf = R"(
  ALTER TABLE outcome ADD COLUMN playout INTEGER NOT NULL DEFAULT 0;
  UPDATE outcome SET playout = (SELECT count(DISTINCT earlier.at) FROM outcome earlier WHERE earlier.at <= outcome.at);
)";

// Version 8: by which simulation a thing was said, and how crowded the cores were. Rows of earlier versions get 0, as no simulation has since.
constexpr const char* kSaidBy = R"(
  ALTER TABLE outcome ADD COLUMN simulation INTEGER NOT NULL DEFAULT 0;
  ALTER TABLE ranged ADD COLUMN simulation INTEGER NOT NULL DEFAULT 0;
  ALTER TABLE ranged ADD COLUMN crowding REAL NOT NULL DEFAULT -1;
)";

constexpr const char* kReadSeries = "SELECT first, second FROM series WHERE what = ? AND key = ? AND era = ?";
constexpr const char* kReadLaw = "SELECT places FROM law WHERE id = ?";

constexpr const char* kSteps[] = {kFirst, kLaws, kEras, kContents, kRanges, kLately, kOutcomesOf, kSaidBy};
static_assert(std::size(kSteps) == Notebook::kVersion);

void keep_recent(std::vector<float>& v) {
  if (v.size() > kKept) v.erase(v.begin(), v.end() - static_cast<std::ptrdiff_t>(kKept));
}

/// Seconds since 1970 as a date.
std::string date_of(double at_s) {
  const auto t = static_cast<std::time_t>(at_s);
  std::tm parts{};
  gmtime_r(&t, &parts);
  char text[32];
  std::strftime(text, sizeof text, "%Y-%m-%d %H:%M UTC", &parts);
  return text;
}

// A law's places in one row: for each, terms, time, count, era, numbers of undisturbed and other values,
// values.
std::string pack_places(const CostLaw& law) {
  std::string out;
  const auto put = [&out](const void* p, std::size_t n) { out.append(static_cast<const char*>(p), n); };
  for (const LawPoint& p : law.points()) {
    const std::int32_t head[4] = {p.count, p.era, static_cast<std::int32_t>(p.recent.size()),
                                  static_cast<std::int32_t>(p.others.size())};
    put(p.terms.data(), sizeof p.terms), put(&p.at_s, sizeof p.at_s), put(head, sizeof head);
    put(p.recent.data(), p.recent.size() * sizeof(float)),
        put(p.others.data(), p.others.size() * sizeof(float));
  }
  return out;
}

CostLaw unpack_places(const LawName& name, const std::string& bytes) {
  std::vector<LawPoint> points;
  std::size_t at = 0;
  const auto get = [&](void* p, std::size_t n) {
    if (at + n > bytes.size()) return false;
    std::memcpy(p, bytes.data() + at, n);
    at += n;
    return true;
  };
  for (;;) {
    LawPoint p;
    std::int32_t head[4] = {};
    if (!get(p.terms.data(), sizeof p.terms) || !get(&p.at_s, sizeof p.at_s) || !get(head, sizeof head))
      break;
    constexpr auto kMost = static_cast<std::int32_t>(LawPoint::kRecent);
    if (head[2] < 0 || head[2] > kMost || head[3] < 0 || head[3] > kMost) break;
    p.count = head[0], p.era = head[1];
    p.recent.resize(static_cast<std::size_t>(head[2])), p.others.resize(static_cast<std::size_t>(head[3]));
    if (!get(p.recent.data(), p.recent.size() * sizeof(float))) break;
    if (!get(p.others.data(), p.others.size() * sizeof(float))) break;
    points.push_back(std::move(p));
  }
  return CostLaw(name, std::move(points));
}

}  // namespace

MedianEstimate median_of(std::vector<float> values) {
  MedianEstimate m;
  m.count = static_cast<int>(values.size());
  if (values.empty()) return m;
  std::sort(values.begin(), values.end());
  const double n = static_cast<double>(values.size());
  const auto at = [&](double rank) {
    return static_cast<double>(values[static_cast<std::size_t>(std::clamp(rank, 0.0, n - 1))]);
  };
  m.median = values.size() % 2 ? at(n / 2 - 0.5) : (at(n / 2 - 1) + at(n / 2)) / 2;
  const double reach = 0.98 * std::sqrt(n);
  m.low = at(std::floor(n / 2 - reach)), m.high = at(std::ceil(n / 2 + reach) - 1);
  return m;
}

Result<std::shared_ptr<Notebook>> Notebook::open(const fs::path& file) {
  auto database = Database::open(file, kSteps, "notebook");
  if (!database) return std::unexpected(database.error());
  auto notebook = std::make_shared<Notebook>();
  notebook->database_ = *database;
  Statement probe = notebook->database_.prepare("SELECT what, key, first, second FROM series LIMIT 1");
  probe.step();
  if (!probe.ok())
    return bad_input("the notebook cannot be read: " + notebook->database_.message(), file.string(),
                     "Move it away; a new one is made and the seat measured again.");
  if (auto r = notebook->begin_era(era_identity()); !r) return std::unexpected(r.error());
  Statement lately = notebook->database_.prepare("SELECT what, value, at_s FROM lately");
  while (lately.step()) (lately.text(0) == "shared" ? notebook->shared_ : notebook->crowding_) = {lately.real(1), lately.real(2)};
  return notebook;
}

std::optional<Hash128> Notebook::content(const Hash128& state) const {
  const std::lock_guard lock(mutex_);
  Statement q = database_.prepare("SELECT content FROM content WHERE state = ?");
  q.bind(std::string_view(state.hex()));
  if (!q.step()) return {};
  return Hash128::from_hex(q.text(0));
}

void Notebook::keep_content(const Hash128& state, const Hash128& content) {
  const std::lock_guard lock(mutex_);
  // What cannot be kept is looked at again in the next run.
  (void)database_.prepare("INSERT OR REPLACE INTO content VALUES(?, ?, ?)")
      .bind(std::string_view(state.hex()))
      .bind(std::string_view(content.hex()))
      .bind(std::string_view(now_utc()))
      .run();
}

std::vector<Era> Notebook::read_eras() const {
  std::vector<Era> all;
  Statement q = database_.prepare("SELECT id, since, change, identity FROM era ORDER BY id");
  while (q.step()) {
    const auto identity = parse_json(q.text(3), "era");
    all.push_back({static_cast<int>(q.integer(0)), q.text(1), q.text(2), identity ? *identity : Json()});
  }
  return all;
}

Result<void> Notebook::begin_era(const Json& identity) {
  const std::lock_guard lock(mutex_);
  const int was = era_;
  auto begun = database_.change([&]() -> Result<void> {
    const std::vector<Era> before = read_eras();
    const std::string change = before.empty() ? "" : era_change(before.back().identity, identity);
    if (!before.empty() && change.empty()) {
      era_ = before.back().id;
      return {};
    }
    era_ = before.empty() ? 1 : before.back().id + 1;
    auto r = database_.prepare("INSERT INTO era(id, since, change, identity) VALUES(?,?,?,?)")
                 .bind(static_cast<std::int64_t>(era_))
                 .bind(std::string_view(now_utc()))
                 .bind(std::string_view(change))
                 .bind(std::string_view(identity.dump()))
                 .run();
    if (!r || change.empty()) return r;
    return add_news({now_utc(), "", change + " Costs measured before count little from now on.", 1});
  });
  if (era_ != was) {
    for (auto& [id, k] : laws_) k.law.set_now(seconds_now(), era_);
    for (auto& kind : all_) kind.clear();
  }
  return begun;
}

Notebook::Series& Notebook::series(What what, const Hash128& key) const {
  const auto [it, fresh] = all_[what].try_emplace(key);
  if (fresh && database_.is_open()) {
    Statement q = database_.prepare(kReadSeries);
    q.bind(static_cast<std::int64_t>(what))
        .bind(std::string_view(key.hex()))
        .bind(static_cast<std::int64_t>(era_));
    if (q.step()) {
      Series& s = it->second;
      s.values = unpack_floats(q.text(0)), s.second = unpack_floats(q.text(1));
      s.stored = hash_text(q.text(0));
    }
  }
  return it->second;
}

Notebook::Kept& Notebook::kept(const LawName& name) const {
  const auto [it, fresh] = laws_.try_emplace(name.id);
  if (fresh) {
    it->second.law = CostLaw(name);
    if (database_.is_open()) {
      Statement q = database_.prepare(kReadLaw);
      q.bind(std::string_view(name.id));
      if (q.step()) {
        it->second.stored = hash_text(q.text(0));
        it->second.law = unpack_places(name, q.text(0));
      }
    }
    it->second.law.set_now(seconds_now(), era_);
  }
  return it->second;
}

void Notebook::set_conditions(const Conditions& c) {
  const std::lock_guard lock(mutex_);
  conditions_ = c;
}

void Notebook::add_stage(const StageRef& stage, std::span<const StageSample> samples) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kStage, stage.key);
  // Neither is a thread's waiting for the processor the stage's work, nor what others on the core add to it: the forecast
  // adds both as they are lately. Work of a decoder's own threads can be more than the time that passed.
  for (const StageSample& x : samples) {
    const float work = stage.by_wall ? x.wall_ms : std::min(x.wall_ms, x.cpu_ms);
    s.values.push_back(undisturbed(x) || stage.by_wall ? work : work / static_cast<float>(kSharedCoreCosts));
    ++s.unsaved;
  }
  keep_recent(s.values);
  learn_locked(stage, sorted(stage, samples));
}

void Notebook::learn(const StageRef& stage, std::span<const StageSample> samples) {
  const std::lock_guard lock(mutex_);
  learn_locked(stage, sorted(stage, samples));
}

Notebook::Samples Notebook::sorted(const StageRef& stage, std::span<const StageSample> samples) {
  Samples s;
  for (const StageSample& x : samples) (undisturbed(x) ? s.clean : s.disturbed).push_back(cost_ms(stage, x));
  return s;
}

void Notebook::learn_locked(const StageRef& stage, Samples ms) {
  if (!stage.law || ms.clean.size() + ms.disturbed.size() == 0) return;
  Kept& k = kept(*stage.law);
  // What was measured while others took the machine is kept, but no law is fitted to it.
  if (!conditions_.disturbed()) {
    notice(k.law, stage.terms, ms.clean);
    k.law.add(stage.terms, ms.clean, seconds_now(), era_, ms.disturbed);
    k.unsaved = true;
  }
  batches_.push_back({stage.law->id, stage.terms, std::move(ms), conditions_, seconds_now()});
}

/// A cost that is clearly not what it was is news. Both medians must be sure, the work the same, and the
/// difference beyond what such work varies.
void Notebook::notice(const CostLaw& law, const Terms& terms, const std::vector<float>& ms) {
  constexpr std::size_t kSure = 8;
  if (ms.size() < kSure) return;
  const LawPoint* before = nullptr;
  for (const LawPoint& p : law.points())
    if (p.recent.size() >= kSure && p.terms == terms && (!before || p.at_s > before->at_s)) before = &p;
  if (!before) return;
  const MedianEstimate was = median_of(before->recent), is = median_of(ms);
  if (std::max(was.median, is.median) < 2) return;  // what costs next to nothing is no news
  const double factor = is.median / was.median;
  if (factor < 1.3 && factor > 1 / 1.3) return;
  if (factor > 1 ? is.low < was.high : is.high > was.low) return;
  const auto kept = add_news(
      {now_utc(), law.name().id,
       fmt::format("{} became {:.1f} times {} since {} ({:.1f} ms now, {:.1f} ms then).", law.name().label,
                   factor > 1 ? factor : 1 / factor, factor > 1 ? "slower" : "faster", date_of(before->at_s),
                   is.median, was.median),
       factor});
  if (!kept) spdlog::warn("{}", kept.error().text());
}

Result<void> Notebook::add_news(const News& n) {
  // One law makes news once an hour.
  Statement q = database_.prepare(
      "SELECT 1 FROM news WHERE law = ? AND law <> '' AND substr(at, 1, 13) = substr(?, 1, 13)");
  q.bind(std::string_view(n.law)).bind(std::string_view(n.at));
  if (q.step()) return {};
  q = {};
  return database_.prepare("INSERT INTO news(at, law, text, factor) VALUES(?,?,?,?)")
      .bind(std::string_view(n.at))
      .bind(std::string_view(n.law))
      .bind(std::string_view(n.text))
      .bind(n.factor)
      .run();
}

void Notebook::add_frames(const Hash128& key, std::span<const FrameSample> samples) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kFrame, key);
  for (const FrameSample& x : samples)
    s.values.push_back(x.fetch_ms), s.second.push_back(x.process_ms), ++s.unsaved;
  keep_recent(s.values), keep_recent(s.second);
}

void Notebook::add_entries(const Hash128& key, std::span<const float> ms) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kEntry, key);
  s.values.insert(s.values.end(), ms.begin(), ms.end()), s.unsaved += ms.size();
  keep_recent(s.values);
}

void Notebook::add_encode(const Hash128& key, std::span<const EncodeSample> samples) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kEncode, key);
  for (const EncodeSample& x : samples) s.values.push_back(x.wall_ms), s.second.push_back(x.cpu_ms), ++s.unsaved;
  keep_recent(s.values), keep_recent(s.second);
}

void Notebook::add_sizes(const Hash128& key, std::span<const float> bytes) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kSize, key);
  s.values.insert(s.values.end(), bytes.begin(), bytes.end()), s.unsaved += bytes.size();
  keep_recent(s.values);
}

std::vector<float> Notebook::stage_samples(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  return series(kStage, key).values;
}

std::vector<FrameSample> Notebook::frames(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  std::vector<FrameSample> out;
  const Series& s = series(kFrame, key);
  for (std::size_t i = 0; i < std::min(s.values.size(), s.second.size()); ++i)
    out.push_back({s.values[i], s.second[i]});
  return out;
}

std::vector<float> Notebook::entries(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  return series(kEntry, key).values;
}

std::vector<EncodeSample> Notebook::encode(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  std::vector<EncodeSample> out;
  const Series& s = series(kEncode, key);
  for (std::size_t i = 0; i < std::min(s.values.size(), s.second.size()); ++i) out.push_back({s.values[i], s.second[i]});
  return out;
}

std::optional<EncodeSample> Notebook::mean_encode(const Hash128& key) const {
  const std::vector<EncodeSample> all = encode(key);
  if (all.empty()) return std::nullopt;
  double wall = 0, cpu = 0;
  for (const EncodeSample& s : all) wall += static_cast<double>(s.wall_ms), cpu += static_cast<double>(s.cpu_ms);
  const auto n = static_cast<double>(all.size());
  return EncodeSample{static_cast<float>(wall / n), static_cast<float>(cpu / n)};
}

std::vector<float> Notebook::sizes(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  return series(kSize, key).values;
}

double Notebook::shared_core_factor(const StageRef& stage) const {
  const std::lock_guard lock(mutex_);
  return stage.law ? kept(*stage.law).law.shared_core_factor() : 1;
}

StageCosts Notebook::stage(const StageRef& stage) const {
  const std::lock_guard lock(mutex_);
  StageCosts c;
  if (const Series& s = series(kStage, stage.key); !s.values.empty()) {
    c.ms = s.values, c.origin = Origin::measured;
    c.error = std::min(1.0, median_of(s.values).relative_error());
    return c;
  }
  if (!stage.law) return c;
  const CostLaw& law = kept(*stage.law).law;
  const auto e = law.predict(stage.terms);
  if (!e) return c;
  c.origin = Origin::law, c.inside = e->inside;
  c.error = std::sqrt(e->high / std::max(1e-9, e->low)) - 1;
  // A law knows better than the mean over all sorts what others on the core add to its own.
  const bool crowd = !stage.by_wall && crowding_.known(seconds_now()) && crowding_.value > 0;
  const double own = crowd ? crowded(crowding_.value, law.shared_core_factor()) / crowded(crowding_.value) : 1;
  const auto ms = static_cast<float>(own * e->ms);
  for (const float r : law.spread()) c.ms.push_back(r * ms);
  if (c.ms.size() < 8) c.ms.assign(8, ms);
  return c;
}

std::optional<CostEstimate> Notebook::predict(const LawName& law, const Terms& terms) const {
  const std::lock_guard lock(mutex_);
  return kept(law).law.predict(terms);
}

CostLaw Notebook::law(const LawName& name) const {
  const std::lock_guard lock(mutex_);
  const CostLaw& law = kept(name).law;
  (void)law.fit();
  return law;
}

std::vector<CostLaw> Notebook::laws() const {
  const std::lock_guard lock(mutex_);
  Statement q = database_.prepare("SELECT id, name FROM law ORDER BY id");
  while (q.step()) {
    const auto j = parse_json(q.text(1), "law");
    if (!j) continue;
    std::vector<std::string> terms;
    for (const Json& t : j->value("terms", Json::array()))
      if (t.is_string()) terms.push_back(t.get<std::string>());
    kept(*law_name(q.text(0), text_or(*j, "label", q.text(0)), stage_named(text_or(*j, "stage", "effect")),
                   std::move(terms)));
  }
  std::vector<CostLaw> all;
  for (const auto& [id, k] : laws_)
    if (!k.law.points().empty()) {
      (void)k.law.fit();
      all.push_back(k.law);
    }
  std::sort(all.begin(), all.end(),
            [](const CostLaw& a, const CostLaw& b) { return a.name().id < b.name().id; });
  return all;
}

std::vector<News> Notebook::news() const {
  const std::lock_guard lock(mutex_);
  std::vector<News> all;
  Statement q = database_.prepare("SELECT at, law, text, factor FROM news ORDER BY rowid DESC LIMIT 50");
  while (q.step()) all.push_back({q.text(0), q.text(1), q.text(2), q.real(3)});
  return all;
}

std::vector<Era> Notebook::eras() const {
  const std::lock_guard lock(mutex_);
  return read_eras();
}

std::int64_t Notebook::samples() const {
  const std::lock_guard lock(mutex_);
  Statement q = database_.prepare("SELECT samples FROM total");
  return q.step() ? q.integer(0) : 0;
}

Result<void> Notebook::save_series(What what, const Hash128& key, Series& s, const std::string& at) {
  Statement read = database_.prepare(kReadSeries);
  read.bind(static_cast<std::int64_t>(what))
      .bind(std::string_view(key.hex()))
      .bind(static_cast<std::int64_t>(era_));
  if (read.step() && hash_text(read.text(0)) != s.stored) {
    // Another program has added to it: its samples, then those of this one.
    const auto join = [&](std::vector<float> theirs, std::vector<float>& own) {
      const std::size_t fresh = std::min(s.unsaved, own.size());
      theirs.insert(theirs.end(), own.end() - static_cast<std::ptrdiff_t>(fresh), own.end());
      own = std::move(theirs);
      keep_recent(own);
    };
    join(unpack_floats(read.text(0)), s.values), join(unpack_floats(read.text(1)), s.second);
  }
  read = {};
  const std::string values = pack(std::span<const float>(s.values));
  s.stored = hash_text(values);
  return database_
      .prepare("INSERT OR REPLACE INTO series(what, key, era, first, second, at) VALUES(?,?,?,?,?,?)")
      .bind(static_cast<std::int64_t>(what))
      .bind(std::string_view(key.hex()))
      .bind(static_cast<std::int64_t>(era_))
      .blob(values)
      .blob(pack(std::span<const float>(s.second)))
      .bind(std::string_view(at))
      .run();
}

Result<void> Notebook::save_law(const std::string& id, Kept& k) {
  const LawName& name = k.law.name();
  Statement read = database_.prepare(kReadLaw);
  read.bind(std::string_view(id));
  if (read.step() && hash_text(read.text(0)) != k.stored) {
    // Another program has taught it too: its places, and what was learnt here since on top of them.
    CostLaw law = unpack_places(name, read.text(0));
    for (const Batch& b : batches_)
      if (b.law == id && !b.conditions.disturbed())
        law.add(b.terms, b.ms.clean, b.at_s, era_, b.ms.disturbed);
    law.set_now(seconds_now(), era_);
    k.law = std::move(law);
  }
  read = {};
  const std::string places = pack_places(k.law);
  k.stored = hash_text(places);
  return database_.prepare("INSERT OR REPLACE INTO law(id, name, places) VALUES(?,?,?)")
      .bind(std::string_view(id))
      .bind(std::string_view(
          Json({{"label", name.label}, {"stage", stage_name(name.kind)}, {"terms", name.terms}}).dump()))
      .blob(places)
      .run();
}

Result<void> Notebook::save_batches(const std::string& at) {
  std::int64_t count = 0;
  Statement row = database_.prepare(
      "INSERT INTO sample(at, era, law, conditions, terms, undisturbed, ms) VALUES(?,?,?,?,?,?,?)");
  for (const Batch& b : batches_) {
    if (auto r = row.bind(std::string_view(at))
                     .bind(static_cast<std::int64_t>(era_))
                     .bind(std::string_view(b.law))
                     .bind(std::string_view(to_json(b.conditions).dump()))
                     .blob(pack(std::span<const float>(b.terms)))
                     .bind(static_cast<std::int64_t>(b.ms.clean.size()))
                     .blob(pack(std::span<const float>(b.ms.clean)) +
                           pack(std::span<const float>(b.ms.disturbed)))
                     .run();
        !r)
      return r;
    count += static_cast<std::int64_t>(b.ms.clean.size() + b.ms.disturbed.size());
  }
  return database_.prepare("UPDATE total SET samples = samples + ?").bind(count).run();
}

Result<void> Notebook::save() {
  const std::lock_guard lock(mutex_);
  const std::string at = now_utc();
  // A failure takes back what was written, and with it what is known of the file.
  std::vector<std::pair<Hash128*, Hash128>> stored;
  const auto all = [&]() -> Result<void> {
    for (int what = 0; what < kWhats; ++what)
      for (auto& [key, s] : all_[what]) {
        if (s.unsaved == 0) continue;
        stored.emplace_back(&s.stored, s.stored);
        if (auto r = save_series(static_cast<What>(what), key, s, at); !r) return r;
      }
    for (auto& [id, k] : laws_) {
      if (!k.unsaved) continue;
      stored.emplace_back(&k.stored, k.stored);
      if (auto r = save_law(id, k); !r) return r;
    }
    return save_batches(at);
  };
  if (auto r = database_.change(all); !r) {
    for (auto& [where, was] : stored) *where = was;
    return environment("the notebook could not be written: " + r.error().what, database_.path().string(),
                       "Free some space; earlier measurements are intact.");
  }
  for (auto& kind : all_)
    for (auto& [key, s] : kind) s.unsaved = 0;
  for (auto& [id, k] : laws_) k.unsaved = false;
  batches_.clear();
  return {};
}

}  // namespace gc
