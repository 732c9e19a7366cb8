// What the notebook keeps of playouts and renders: what was said of them and what came of it, and what others on
// the machine did meanwhile.
#include <cmath>

#include "base/clock.h"
#include "base/log.h"
#include "base/mean.h"
#include "measure/notebook.h"

namespace gc {

Result<void> Notebook::add_audit(const AuditRecord& r) {
  const std::lock_guard lock(mutex_);
  return database_
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
      .run();
}

Result<void> Notebook::add_price(const PriceRecord& p) {
  const std::lock_guard lock(mutex_);
  return database_.prepare("INSERT INTO price(at, frames, modelled_s, said_s, taken_s) VALUES(?,?,?,?,?)")
      .bind(std::string_view(p.at))
      .bind(p.frames)
      .bind(p.modelled_s)
      .bind(p.said_s)
      .bind(p.taken_s)
      .run();
}

std::vector<PriceRecord> Notebook::prices() const {
  const std::lock_guard lock(mutex_);
  std::vector<PriceRecord> all;
  Statement q = database_.prepare(
      "SELECT at, frames, modelled_s, said_s, taken_s FROM price ORDER BY rowid DESC LIMIT 200");
  while (q.step()) all.push_back({q.text(0), q.integer(1), q.real(2), q.real(3), q.real(4)});
  std::reverse(all.begin(), all.end());
  return all;
}

std::vector<double> Notebook::price_ratios() const {
  // It may take a quarter less or half as much again.
  std::vector<double> ratios{0.75, 0.9, 1.0, 1.1, 1.25, 1.5};
  for (const PriceRecord& r : prices())
    if (r.said_s > 0.5) ratios.push_back(r.taken_s / r.said_s);
  std::ranges::sort(ratios);
  return ratios;
}

double Notebook::price_factor() const {
  // The latest few renders, long ones counting more: the middle one, since one that others on the machine made three times as
  // long says nothing of the next. Some seconds that went as said are put in beforehand, so that short renders alone say little.
  constexpr std::size_t kLatest = 4;
  constexpr double kBeforehand = 10;
  const std::vector<PriceRecord> all = prices();
  std::vector<Weighted> ratios{{1, kBeforehand}};
  for (std::size_t i = all.size() > kLatest ? all.size() - kLatest : 0; i < all.size(); ++i)
    if (all[i].modelled_s > 0) ratios.push_back({all[i].taken_s / all[i].modelled_s, all[i].modelled_s});
  return std::clamp(weighted_median(std::move(ratios)), 0.5, 3.0);
}

Result<void> Notebook::add_disturbance(const Disturbance& d) {
  const std::lock_guard lock(mutex_);
  return database_.change([&]() -> Result<void> {
    auto kept = database_.prepare("INSERT INTO disturbance(at, per_busy_ms, ms) VALUES(?,?,?)")
                    .bind(std::string_view(now_utc()))
                    .bind(d.per_busy_ms)
                    .blob(pack(std::span<const float>(d.ms)))
                    .run();
    if (kept && d.shown)
      kept = database_.prepare("INSERT INTO late_look(disturbance, per_busy_ms, ms) SELECT max(rowid), ?, ? FROM disturbance")
                 .bind(d.looks_per_busy_ms)
                 .blob(pack(std::span<const float>(d.looks_ms)))
                 .run();
    if (kept)
      kept = database_.prepare("INSERT INTO shared(disturbance, share) SELECT max(rowid), ? FROM disturbance").bind(d.shared).run();
    if (!kept) return kept;
    // Measuring goes on more often than playing: it must not push out what playouts have left.
    return database_.run(
        "DELETE FROM disturbance WHERE rowid NOT IN (SELECT disturbance FROM late_look ORDER BY disturbance DESC LIMIT 40) AND rowid NOT IN "
        "(SELECT rowid FROM disturbance WHERE rowid NOT IN (SELECT disturbance FROM late_look) ORDER BY rowid DESC LIMIT 2);"
        "DELETE FROM late_look WHERE disturbance NOT IN (SELECT rowid FROM disturbance);"
        "DELETE FROM shared WHERE disturbance NOT IN (SELECT rowid FROM disturbance)");
  });
}

void Notebook::Lately::note(double reading, double weight, double now_s) {
  constexpr double kForgotten = 120;  // s
  value = now_s - at_s > kForgotten ? reading : value + weight * (reading - value);
  at_s = now_s;
}
bool Notebook::Lately::known(double now_s) const {
  constexpr double kOld = 600;  // s: what was read longer ago says nothing of now
  return now_s - at_s < kOld;
}

void Notebook::keep_lately(const char* what, const Lately& l) {
  // Were it not kept, the next process would only take the seat for a quiet one.
  const auto kept = database_.prepare("INSERT OR REPLACE INTO lately(what, value, at_s) VALUES(?,?,?)").bind(std::string_view(what)).bind(l.value).bind(l.at_s).run();
  if (!kept) spdlog::warn("{}", kept.error().text());
}

void Notebook::note_shared(const Conditions& c) {
  const std::lock_guard lock(mutex_);
  shared_.note(c.others + c.stolen, 0.2, seconds_now());
  keep_lately("shared", shared_);
}

void Notebook::note_crowding(double crowding, double weight) {
  if (crowding < 0) return;
  const std::lock_guard lock(mutex_);
  crowding_.note(crowding, weight, seconds_now());
  keep_lately("crowding", crowding_);
}

double Notebook::crowding() const {
  const std::lock_guard lock(mutex_);
  return crowding_.known(seconds_now()) ? crowding_.value : -1;
}

std::int64_t Notebook::next_playout(const char* table) {
  Statement latest = database_.prepare((std::string("SELECT ifnull(max(playout), 0) FROM ") + table).c_str());
  latest.step();
  return latest.integer(0) + 1;
}

Result<void> Notebook::add_outcomes(std::span<const Said> outcomes) {
  const std::lock_guard lock(mutex_);
  calibration_.reset();
  return database_.change([&]() -> Result<void> {
    const std::string now = now_utc();
    const std::int64_t playout = next_playout("outcome");
    Statement row = database_.prepare("INSERT INTO outcome(at, probability, dropped, playout, simulation) VALUES(?,?,?,?,?)");
    for (const Said& s : outcomes)
      if (auto r = row.bind(std::string_view(now))
                       .bind(static_cast<double>(s.probability))
                       .bind(static_cast<std::int64_t>(s.dropped))
                       .bind(playout)
                       .bind(kSimulation)
                       .run();
          !r)
        return r;
    return database_.run(
        "DELETE FROM outcome WHERE rowid NOT IN (SELECT rowid FROM outcome ORDER BY rowid DESC LIMIT 1000)");
  });
}

Result<void> Notebook::add_range(const RangeNeeded& needed) {
  const std::lock_guard lock(mutex_);
  return database_.change([&]() -> Result<void> {
    Statement row = database_.prepare("INSERT INTO ranged(at, needed, simulation, crowding) VALUES(?,?,?,?)");
    if (auto r = row.bind(std::string_view(now_utc())).bind(needed.k).bind(kSimulation).bind(needed.crowding).run(); !r) return r;
    return database_.run("DELETE FROM ranged WHERE rowid NOT IN (SELECT rowid FROM ranged ORDER BY rowid DESC LIMIT 60)");
  });
}

double Notebook::widening() const {
  const double now = crowding();
  const std::lock_guard lock(mutex_);
  std::vector<RangeNeeded> needed;
  Statement a = database_.prepare("SELECT needed, crowding FROM ranged WHERE simulation = ?");
  a.bind(kSimulation);
  while (a.step()) needed.push_back({a.real(0), a.real(1)});
  return widening_of(std::move(needed), now);
}

Result<void> Notebook::add_moods(std::span<const float> ratios, double crowding) {
  const std::lock_guard lock(mutex_);
  played_.reset();
  return database_.change([&]() -> Result<void> {
    const std::int64_t playout = next_playout("played");
    Statement row = database_.prepare("INSERT INTO played(playout, ratio, crowding) VALUES(?,?,?)");
    for (const float ratio : ratios)
      if (auto r = row.bind(playout).bind(static_cast<double>(ratio)).bind(crowding).run(); !r) return r;
    return database_.run(
        "DELETE FROM played WHERE rowid NOT IN (SELECT rowid FROM played ORDER BY rowid DESC LIMIT 300)");
  });
}

const std::vector<Notebook::Played>& Notebook::played() const {
  constexpr float kLeastRatio = 0.4f, kMostRatio = 2.5f;  // what is further off says nothing about the seat
  constexpr double kEnough = 5;       // stretches
  if (played_) return *played_;
  std::vector<std::pair<double, std::vector<float>>> playouts;
  std::int64_t playout = 0;
  Statement a = database_.prepare("SELECT playout, ratio, crowding FROM played WHERE ratio > 0 ORDER BY rowid");
  while (a.step()) {
    if (a.integer(0) != playout) playouts.push_back({a.real(2), {}}), playout = a.integer(0);
    playouts.back().second.push_back(std::clamp(static_cast<float>(a.real(1)), kLeastRatio, kMostRatio));
  }
  played_.emplace();
  for (auto p = playouts.rbegin(); p != playouts.rend(); ++p) {
    auto& [crowding, ratios] = *p;
    const auto usual = static_cast<float>(median_of(ratios).median);
    std::vector<float> apart;
    for (const float r : ratios) apart.push_back(std::abs(std::log(r / usual)));
    played_->push_back({crowding, static_cast<double>(usual), static_cast<double>(median_of(std::move(apart)).median), std::min(1.0, static_cast<double>(ratios.size()) / kEnough)});
  }
  return *played_;
}

namespace {

/// How many times dearer frames become from cores of one's own to wholly shared ones, as playouts went: least squares over
/// crowded(), drawn towards what shared cores cost as a rule (ridge regression: Hoerl and Kennard, 1970).
/// @param seen crowded() of each playout, and what it took
double dearer_by_crowding(const std::vector<std::pair<double, double>>& seen) {
  constexpr double kDrawn = 0.5;  // as much as ten playouts say that lie 0.22 from their mean
  double crowding = 0, ratio = 0;
  for (const auto& [c, r] : seen) crowding += c / static_cast<double>(seen.size()), ratio += r / static_cast<double>(seen.size());
  double apart = kDrawn * (kSharedCoreCosts - 1) * (kSharedCoreCosts - 1), together = apart;
  for (const auto& [c, r] : seen) apart += (c - crowding) * (c - crowding), together += (c - crowding) * (r - ratio);
  return together / apart;
}

}  // namespace

Mood Notebook::mood(double spread) const {
  constexpr double kUsual = 4;    // the usual mood counts as so many playouts that have just ended
  constexpr double kAge = 3;      // playouts since then that leave one 1/e of its weight
  constexpr double kMost = 0.25;  // a playout further off the usual was disturbed by something that passes
  // Of Student's distribution with two degrees of freedom half lies within kHalf of its middle. Its mean distance from it is kMean.
  constexpr double kHalf = 0.816, kMean = 1.414;
  const double now = crowding();
  const Mood usual = usual_mood(now, spread);
  const std::lock_guard lock(mutex_);
  std::vector<std::pair<double, double>> seen;
  for (const Played& p : played())
    if (p.crowding >= 0) seen.emplace_back(crowded(p.crowding), p.usual);
  const double dearer = dearer_by_crowding(seen);
  struct Says {
    double weight, ratio;
  };
  std::vector<Says> says;
  double weight = kUsual, ratios = kUsual * usual.base, spreads = kUsual * usual.spread;
  for (const Played& p : played()) {
    const bool known = now >= 0 && p.crowding >= 0;
    const double w = p.weight * std::exp(-static_cast<double>(says.size()) / kAge) * alike(now, p.crowding);
    // As it would have gone on cores as crowded as now. On quieter ones nothing gets quicker than it is known to be.
    const double as_now = std::max(std::min(p.usual, 1.0), p.usual + (known ? dearer * (crowded(now) - crowded(p.crowding)) : 0)),
                 r = std::clamp(as_now, usual.base * (1 - kMost), usual.base * (1 + kMost));
    says.push_back({w, r});
    weight += w, ratios += w * r, spreads += w * p.spread / kHalf;
  }
  const double base = ratios / weight;
  double levels = kUsual * usual.level;
  for (const Says& s : says) levels += s.weight * std::abs(std::log(s.ratio / base)) / kMean;
  return {base, levels / weight, spreads / weight};
}

Calibration Notebook::calibration() const {
  const std::lock_guard lock(mutex_);
  if (!calibration_) {
    std::vector<Said> all;
    Statement a = database_.prepare("SELECT probability, dropped, count(*) OVER (PARTITION BY playout) FROM outcome WHERE simulation = ?");
    a.bind(kSimulation);
    while (a.step()) all.push_back({static_cast<float>(a.real(0)), a.integer(1) != 0, weight_in_playout(static_cast<int>(a.integer(2)))});
    calibration_ = calibration_of(all);
  }
  return *calibration_;
}

std::vector<Disturbance> Notebook::lately() const {
  const std::lock_guard lock(mutex_);
  constexpr std::size_t kFew = 4, kMost = 12;
  std::vector<Disturbance> all;
  Statement a = database_.prepare(
      "SELECT d.per_busy_ms, d.ms, l.per_busy_ms, l.ms, s.share, l.disturbance IS NOT NULL FROM disturbance d "
      "LEFT JOIN late_look l ON l.disturbance = d.rowid LEFT JOIN shared s ON s.disturbance = d.rowid "
      "ORDER BY d.rowid DESC");
  while (a.step())
    all.push_back({a.real(0), unpack_floats(a.text(1)), a.real(2), unpack_floats(a.text(3)), a.real(4), a.integer(5) != 0});
  // Others who have less of the machine than they had then hold up less.
  const auto times = [](double share, double then) {
    constexpr double kAlike = 0.02, kLeast = 0.1;
    return std::clamp((share + kAlike) / (then + kAlike), kLeast, 1.0);
  };
  // Where no display was watched its looks were as late as at the latest playout.
  if (const auto watched = std::ranges::find_if(all, &Disturbance::shown); watched != all.end())
    for (Disturbance& d : all)
      if (!d.shown) d.looks_ms = watched->looks_ms, d.looks_per_busy_ms = watched->looks_per_busy_ms * times(d.shared, watched->shared);
  if (shared_.known(seconds_now())) {
    // Shares differ by their ratio; below a hundredth they are all alike. Others that had far more of the machine held frames up
    // for longer, which counting them less often does not mend.
    constexpr double kFarthest = 1.2;  // of the logarithm: a factor of 3.3
    const auto apart = [&](const Disturbance& d) {
      const double far = std::abs(std::log((d.shared + 0.01) / (shared_.value + 0.01)));
      return far <= kFarthest ? 0 : far;
    };
    std::ranges::stable_sort(all, {}, apart);
    const auto unlike = std::ranges::find_if(all, [&](const Disturbance& d) { return apart(d) > 0; });
    all.resize(std::min(all.size(), std::max(kFew, static_cast<std::size_t>(unlike - all.begin()))));
    for (Disturbance& d : all) {
      const double less = times(shared_.value, d.shared);
      d.per_busy_ms *= less, d.looks_per_busy_ms *= less;
    }
  }
  if (all.size() > kMost) all.resize(kMost);
  return all;
}

std::vector<AuditRecord> Notebook::audits() const {
  const std::lock_guard lock(mutex_);
  std::vector<AuditRecord> all;
  Statement a = database_.prepare(
      "SELECT timeline, at, drops_forecast, drops_observed, span_f1, spans_called, spans_right FROM audit "
      "ORDER BY rowid");
  while (a.step())
    all.push_back({a.text(0), a.text(1), a.real(2), a.real(3), a.real(4), static_cast<int>(a.integer(5)),
                   static_cast<int>(a.integer(6))});
  return all;
}

}  // namespace gc
