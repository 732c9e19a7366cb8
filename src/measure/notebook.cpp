#include "measure/notebook.h"

#include <algorithm>
#include <cmath>
#include <cstring>

#include "base/clock.h"

namespace gc {
namespace {

constexpr std::size_t kKept = 256;
constexpr const char* kSchema = R"(
  CREATE TABLE IF NOT EXISTS series(
    what INTEGER NOT NULL, key TEXT NOT NULL, kind INTEGER NOT NULL, type TEXT NOT NULL, size REAL NOT NULL,
    first BLOB NOT NULL, second BLOB NOT NULL, at TEXT NOT NULL, PRIMARY KEY(what, key));
  CREATE TABLE IF NOT EXISTS audit(
    at TEXT NOT NULL, timeline TEXT NOT NULL, drops_forecast REAL, drops_observed REAL, span_f1 REAL, spans_called INTEGER, spans_right INTEGER);
)";

std::string pack(const std::vector<float>& v) {
  return {reinterpret_cast<const char*>(v.data()), v.size() * sizeof(float)};
}
std::vector<float> unpack(const std::string& s) {
  std::vector<float> v(s.size() / sizeof(float));
  if (!v.empty()) std::memcpy(v.data(), s.data(), v.size() * sizeof(float));
  return v;
}

void keep_recent(std::vector<float>& v) {
  if (v.size() > kKept) v.erase(v.begin(), v.end() - static_cast<std::ptrdiff_t>(kKept));
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

Hash128 frame_key(std::span<const StageRef> stages) {
  std::vector<Hash128> keys;
  for (const StageRef& s : stages) keys.push_back(s.key);
  std::sort(keys.begin(), keys.end());
  Hasher h;
  for (const Hash128& k : keys) h.add(k);
  return h.done();
}

Result<std::shared_ptr<Notebook>> Notebook::open(const fs::path& file) {
  auto database = Database::open(file, 1, kSchema, "notebook");
  if (!database) return std::unexpected(database.error());
  auto notebook = std::make_shared<Notebook>();
  notebook->database_ = *database;
  if (auto r = notebook->load(); !r) return std::unexpected(r.error());
  return notebook;
}

Result<void> Notebook::load() {
  Statement q = database_.prepare("SELECT what, key, kind, type, size, first, second FROM series");
  while (q.step()) {
    const auto what = q.integer(0);
    if (what < 0 || what > 3) continue;
    Series s{
        unpack(q.text(5)), unpack(q.text(6)), 0, static_cast<int>(q.integer(2)), Hash128::from_hex(q.text(3)),
        q.real(4)};
    all_[what].insert_or_assign(Hash128::from_hex(q.text(1)), std::move(s));
  }
  if (!q.ok())
    return bad_input("the notebook cannot be read: " + database_.message(), database_.path().string(),
                     "Move it away; a new one is made and the seat measured again.");
  Statement a = database_.prepare(
      "SELECT timeline, at, drops_forecast, drops_observed, span_f1, spans_called, spans_right FROM audit "
      "ORDER BY rowid");
  while (a.step())
    audits_.push_back({a.text(0), a.text(1), a.real(2), a.real(3), a.real(4), static_cast<int>(a.integer(5)),
                       static_cast<int>(a.integer(6))});
  return {};
}

Notebook::Series& Notebook::series(What what, const Hash128& key) { return all_[what][key]; }
const Notebook::Series* Notebook::find(What what, const Hash128& key) const {
  const auto it = all_[what].find(key);
  return it == all_[what].end() ? nullptr : &it->second;
}

void Notebook::add_stage(const StageRef& stage, std::span<const StageSample> samples) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kStage, stage.key);
  s.kind = static_cast<int>(stage.kind), s.type = stage.type_key, s.size = stage.size;
  for (const StageSample& x : samples) s.values.push_back(x.wall_ms), ++s.unsaved;
  keep_recent(s.values);
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

void Notebook::add_encode(const Hash128& key, std::span<const float> ms) {
  const std::lock_guard lock(mutex_);
  Series& s = series(kEncode, key);
  s.values.insert(s.values.end(), ms.begin(), ms.end()), s.unsaved += ms.size();
  keep_recent(s.values);
}

void Notebook::add_audit(const AuditRecord& r) {
  const std::lock_guard lock(mutex_);
  audits_.push_back(r);
  database_
      .prepare(
          "INSERT INTO audit(at, timeline, drops_forecast, drops_observed, span_f1, spans_called, "
          "spans_right) VALUES(?,?,?,?,?,?,?)")
      .bind(std::string_view(r.at))
      .bind(std::string_view(r.timeline))
      .bind(r.drops_forecast)
      .bind(r.drops_observed)
      .bind(r.span_f1)
      .bind(static_cast<std::int64_t>(r.spans_called))
      .bind(static_cast<std::int64_t>(r.spans_right))
      .step();
}

std::vector<float> Notebook::stage(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  const Series* s = find(kStage, key);
  return s ? s->values : std::vector<float>();
}

std::vector<FrameSample> Notebook::frames(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  std::vector<FrameSample> out;
  if (const Series* s = find(kFrame, key))
    for (std::size_t i = 0; i < std::min(s->values.size(), s->second.size()); ++i)
      out.push_back({s->values[i], s->second[i]});
  return out;
}

std::vector<float> Notebook::entries(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  const Series* s = find(kEntry, key);
  return s ? s->values : std::vector<float>();
}

std::vector<float> Notebook::encode(const Hash128& key) const {
  const std::lock_guard lock(mutex_);
  const Series* s = find(kEncode, key);
  return s ? s->values : std::vector<float>();
}

std::vector<AuditRecord> Notebook::audits() const {
  const std::lock_guard lock(mutex_);
  return audits_;
}

std::vector<float> Notebook::estimate(const StageRef& stage) const {
  const std::lock_guard lock(mutex_);
  const Series* nearest = nullptr;
  for (const auto& [key, s] : all_[kStage]) {
    if (s.type != stage.type_key || s.values.empty()) continue;
    if (!nearest || std::abs(s.size - stage.size) < std::abs(nearest->size - stage.size)) nearest = &s;
  }
  if (!nearest) return {};
  std::vector<float> values = nearest->values;
  // Without a law of its own, the cost is taken to grow in proportion to the size.
  if (nearest->size > 0 && stage.size > 0)
    for (float& v : values) v *= static_cast<float>(stage.size / nearest->size);
  return values;
}

Result<void> Notebook::save() {
  const std::lock_guard lock(mutex_);
  if (auto r = database_.run("BEGIN IMMEDIATE"); !r) return r;
  const std::string at = now_utc();
  for (int what = 0; what < 4; ++what)
    for (auto& [key, s] : all_[what]) {
      if (s.unsaved == 0) continue;
      Statement q = database_.prepare(
          "INSERT OR REPLACE INTO series(what, key, kind, type, size, first, second, at) "
          "VALUES(?,?,?,?,?,?,?,?)");
      q.bind(static_cast<std::int64_t>(what))
          .bind(std::string_view(key.hex()))
          .bind(static_cast<std::int64_t>(s.kind))
          .bind(std::string_view(s.type.hex()))
          .bind(s.size)
          .blob(pack(s.values))
          .blob(pack(s.second))
          .bind(std::string_view(at));
      q.step();
      if (!q.ok()) {
        const std::string why = database_.message();
        (void)database_.run("ROLLBACK");
        return environment("the notebook could not be written: " + why, database_.path().string(),
                           "Free some space; earlier measurements are intact.");
      }
    }
  if (auto r = database_.run("COMMIT"); !r) return r;
  for (auto& kind : all_)
    for (auto& [key, s] : kind) s.unsaved = 0;
  return {};
}

}  // namespace gc
