#include "seat/law.h"

#include <fmt/format.h>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <numeric>

namespace gc {
namespace {

constexpr int kFolds = 5;
constexpr double kSureWeight = 0.6;  // of a place with three undisturbed samples or more
constexpr double kLeastMs = 1e-4;

double median(std::vector<float> v) {
  if (v.empty()) return 0;
  const auto mid = v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2);
  std::nth_element(v.begin(), mid, v.end());
  return static_cast<double>(*mid);
}
double median(std::vector<double> v) {
  if (v.empty()) return 0;
  const auto mid = v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2);
  std::nth_element(v.begin(), mid, v.end());
  return *mid;
}

/// Smallest value that a share of them does not exceed, with the (n + 1) of conformal prediction (Vovk,
/// Gammerman and Shafer, 2005), so that few values give a wide interval.
double quantile_of(std::vector<double> v, double share) {
  if (v.empty()) return 1;
  std::sort(v.begin(), v.end());
  const double rank = share * static_cast<double>(v.size() + 1);
  const double over = rank - static_cast<double>(v.size());
  const auto i =
      static_cast<std::size_t>(std::clamp(std::ceil(rank) - 1, 0.0, static_cast<double>(v.size() - 1)));
  return v[i] * (over > 0 ? 1 + over : 1);
}

/// Of each term, the least and the most that places have.
struct Range {
  Terms least{}, most{};
  /// How far outside of it a place lies, in logarithms of its terms; 0: not at all.
  double beyond(const Terms& terms) const {
    double sum = 0;
    const auto apart = [](double more, double less) { return std::log((more + 1e-3) / (less + 1e-3)); };
    for (std::size_t i = 0; i < terms.size(); ++i) {
      const double t = static_cast<double>(terms[i]), low = static_cast<double>(least[i]),
                   high = static_cast<double>(most[i]);
      if (t > 1.02 * high) sum += apart(t, high);
      if (t < 0.98 * low) sum += apart(low, t);
    }
    return sum;
  }
};
template <class Places>
Range range_of(const Places& places) {
  Range r;
  if (!places.empty()) r.least = r.most = places.front().terms;
  for (const auto& p : places)
    for (std::size_t i = 0; i < p.terms.size(); ++i)
      r.least[i] = std::min(r.least[i], p.terms[i]), r.most[i] = std::max(r.most[i], p.terms[i]);
  return r;
}

/// How far apart two places are, in logarithms of their terms.
double distance(const Terms& a, const Terms& b) {
  double sum = 0;
  for (std::size_t i = 0; i < a.size(); ++i) {
    const double d = std::log((static_cast<double>(a[i]) + 1e-3) / (static_cast<double>(b[i]) + 1e-3));
    sum += d * d;
  }
  return std::sqrt(sum);
}

}  // namespace

std::vector<double> non_negative_fit(std::span<const double> a, std::span<const double> b,
                                     std::span<const double> weights) {
  const auto m = static_cast<Eigen::Index>(b.size());
  const Eigen::Index n = m > 0 ? static_cast<Eigen::Index>(a.size()) / m : 0;
  Eigen::MatrixXd A = Eigen::Map<const Eigen::Matrix<double, -1, -1, Eigen::RowMajor>>(a.data(), m, n);
  Eigen::VectorXd y = Eigen::Map<const Eigen::VectorXd>(b.data(), m);
  const Eigen::VectorXd w = Eigen::Map<const Eigen::VectorXd>(weights.data(), m);
  A = w.asDiagonal() * A, y = w.cwiseProduct(y);
  // Columns of one length, so that the tolerance means the same for each.
  Eigen::VectorXd norm = A.colwise().norm();
  for (Eigen::Index j = 0; j < n; ++j)
    if (norm[j] > 0) A.col(j) /= norm[j];
  const Eigen::MatrixXd G = A.transpose() * A;
  const Eigen::VectorXd c = A.transpose() * y;
  Eigen::VectorXd x = Eigen::VectorXd::Zero(n);
  std::vector<bool> in(static_cast<std::size_t>(n), false);
  const double tolerance = 1e-10 * std::max(1e-300, c.cwiseAbs().maxCoeff());
  for (int turns = 0; turns < 10 * static_cast<int>(n) + 10; ++turns) {
    const Eigen::VectorXd gradient = c - G * x;
    Eigen::Index best = -1;
    for (Eigen::Index j = 0; j < n; ++j)
      if (!in[static_cast<std::size_t>(j)] && norm[j] > 0 && gradient[j] > tolerance &&
          (best < 0 || gradient[j] > gradient[best]))
        best = j;
    if (best < 0) break;
    in[static_cast<std::size_t>(best)] = true;
    for (;;) {
      std::vector<Eigen::Index> set;
      for (Eigen::Index j = 0; j < n; ++j)
        if (in[static_cast<std::size_t>(j)]) set.push_back(j);
      const auto k = static_cast<Eigen::Index>(set.size());
      Eigen::MatrixXd g(k, k);
      Eigen::VectorXd r(k);
      for (Eigen::Index i = 0; i < k; ++i) {
        r[i] = c[set[static_cast<std::size_t>(i)]];
        for (Eigen::Index j = 0; j < k; ++j)
          g(i, j) =
              G(set[static_cast<std::size_t>(i)], set[static_cast<std::size_t>(j)]) + (i == j ? 1e-9 : 0);
      }
      const Eigen::VectorXd s = g.ldlt().solve(r);
      double step = 1;
      for (Eigen::Index i = 0; i < k; ++i)
        if (s[i] <= 0) {
          const double xi = x[set[static_cast<std::size_t>(i)]];
          step = std::min(step, xi / std::max(1e-300, xi - s[i]));
        }
      for (Eigen::Index i = 0; i < k; ++i) {
        double& xi = x[set[static_cast<std::size_t>(i)]];
        xi += step * (s[i] - xi);
      }
      if (step >= 1) break;
      bool left = false;
      for (const Eigen::Index j : set)
        if (x[j] <= 1e-14) x[j] = 0, in[static_cast<std::size_t>(j)] = false, left = true;
      if (!left) break;
    }
  }
  std::vector<double> out(static_cast<std::size_t>(n), 0.0);
  for (Eigen::Index j = 0; j < n; ++j)
    if (norm[j] > 0) out[static_cast<std::size_t>(j)] = std::max(0.0, x[j] / norm[j]);
  return out;
}

void CostLaw::add(const Terms& terms, std::span<const float> ms, double at_s, int era,
                  std::span<const float> disturbed) {
  if (ms.empty() && disturbed.empty()) return;
  auto it = std::find_if(points_.begin(), points_.end(), [&](const LawPoint& p) {
    return p.era == era && std::equal(p.terms.begin(), p.terms.end(), terms.begin(), [](float a, float b) {
             return std::abs(a - b) <= 1e-4f * std::max(std::abs(a), std::abs(b));
           });
  });
  if (it == points_.end()) {
    points_.push_back({terms, {}, {}, 0, at_s, era});
    it = points_.end() - 1;
  }
  for (const float v : ms)
    if (std::isfinite(v) && v >= 0) it->recent.push_back(v), ++it->count;
  it->others.insert(it->others.end(), disturbed.begin(), disturbed.end());
  for (std::vector<float>* v : {&it->recent, &it->others})
    if (v->size() > LawPoint::kRecent)
      v->erase(v->begin(), v->end() - static_cast<std::ptrdiff_t>(LawPoint::kRecent));
  it->at_s = at_s;
  now_s_ = std::max(now_s_, at_s), era_ = era;
  if (points_.size() > kMostPoints) {
    const auto worth = [&](const LawPoint& p) {
      return (p.era == era_ ? 1 : kOtherEra) * std::exp2((p.at_s - now_s_) / kFadeSeconds) *
             std::min(8, p.count);
    };
    points_.erase(std::min_element(points_.begin(), points_.end(), [&](const LawPoint& a, const LawPoint& b) {
      return worth(a) < worth(b);
    }));
  }
  stale_ = true;
}

void CostLaw::set_now(double now_s, int era) const {
  if (era != era_ || std::abs(now_s - now_s_) > 0.02 * kFadeSeconds) stale_ = true;
  now_s_ = now_s, era_ = era;
}

/// The median over places where both were seen. Until three have been, what is usual for work of this sort.
double CostLaw::shared_factor() const {
  constexpr double kUsual = 1.35;
  std::vector<double> ratios;
  for (const LawPoint& p : points_)
    if (p.recent.size() >= 2 && p.others.size() >= 2 && median(p.recent) > 0)
      ratios.push_back(median(p.others) / median(p.recent));
  return ratios.size() < 3 ? kUsual : std::clamp(median(ratios), 1.0, 3.0);
}

std::vector<CostLaw::Row> CostLaw::rows() const {
  std::vector<Row> all;
  const double shared = shared_factor();
  for (const LawPoint& p : points_) {
    if (p.recent.empty()) {
      // Nothing undisturbed was seen there: what is left when the usual disturbance is taken off, and little
      // trust.
      if (p.others.size() < 2) continue;
      all.push_back(
          {p.terms, std::max(kLeastMs, median(p.others) / shared), 0.35 * (p.era == era_ ? 1 : kOtherEra)});
      continue;
    }
    const double age = std::max(0.0, now_s_ - p.at_s);
    const double weight = std::sqrt(std::min(8, p.count) / 8.0 * std::exp2(-age / kFadeSeconds) *
                                    (p.era == era_ ? 1 : kOtherEra));
    all.push_back({p.terms, std::max(kLeastMs, median(p.recent)), weight});
  }
  return all;
}

/// Columns: fixed, the terms, the knee. Errors count relative to the cost, and far ones little (Huber, 1964,
/// by reweighting).
CostLaw::Fit CostLaw::fit_rows(std::span<const Row> rows, double knee) {
  constexpr std::size_t kColumns = kTerms + 2;
  std::vector<double> a, b, weights;
  for (const Row& r : rows) {
    a.push_back(1);
    for (const float t : r.terms) a.push_back(t);
    a.push_back(knee > 0 ? std::max(0.0, static_cast<double>(r.terms[0]) - knee) : 0);
    b.push_back(r.ms);
    weights.push_back(r.weight / r.ms);
  }
  // One or two places cannot tell the terms apart: each term that is there gets an equal share of the cost.
  if (rows.size() < 3) {
    Fit f;
    f.places = static_cast<int>(rows.size());
    for (const Row& r : rows) {
      const auto used =
          static_cast<double>(std::count_if(r.terms.begin(), r.terms.end(), [](float t) { return t > 0; }));
      for (std::size_t j = 0; j < kTerms; ++j)
        if (r.terms[j] > 0)
          f.ms_per_term[j] +=
              r.ms / used / static_cast<double>(r.terms[j]) / static_cast<double>(rows.size());
      if (used == 0) f.fixed_ms += r.ms / static_cast<double>(rows.size());
    }
    return f;
  }
  std::vector<double> x;
  for (int turn = 0; turn < 5; ++turn) {
    x = non_negative_fit(a, b, weights);
    std::vector<double> off(rows.size());
    for (std::size_t i = 0; i < rows.size(); ++i) {
      double v = 0;
      for (std::size_t j = 0; j < kColumns; ++j) v += a[i * kColumns + j] * x[j];
      off[i] = std::abs(v / b[i] - 1);
    }
    const double scale = std::max(0.005, 1.4826 * median(off));
    for (std::size_t i = 0; i < rows.size(); ++i)
      weights[i] = rows[i].weight / b[i] * std::sqrt(std::min(1.0, 1.345 * scale / std::max(1e-12, off[i])));
  }
  Fit f;
  f.fixed_ms = x[0];
  for (std::size_t j = 0; j < kTerms; ++j) f.ms_per_term[j] = x[j + 1];
  f.knee_mpix = knee, f.knee_ms = x[kTerms + 1];
  f.places = static_cast<int>(rows.size());
  return f;
}

double CostLaw::value(const Fit& f, const Terms& terms, std::span<const Row> rows, double reach) const {
  double v = f.fixed_ms;
  for (std::size_t j = 0; j < kTerms; ++j) v += f.ms_per_term[j] * static_cast<double>(terms[j]);
  if (f.knee_mpix > 0) v += f.knee_ms * std::max(0.0, static_cast<double>(terms[0]) - f.knee_mpix);
  v = std::max(v, kLeastMs);
  if (reach <= 0) return v;
  // What the law missed at nearby places, with a pull towards none where there are few.
  double sum = 0, weight = 0.3;
  for (const Row& r : rows) {
    const double d = distance(terms, r.terms) / reach;
    if (d > 4) continue;
    const double w = r.weight * std::exp(-d * d / 2);
    sum += w * std::clamp(std::log(r.ms / value(f, r.terms, {}, 0)), -1.0, 1.0), weight += w;
  }
  return v * std::exp(sum / weight);
}

void CostLaw::refit() const {
  stale_ = false;
  rows_ = rows();
  spread_.clear();
  for (const LawPoint& p : points_) {
    // Where there were disturbed ones only, they vary around what they are themselves.
    const std::vector<float>& v = p.recent.empty() ? p.others : p.recent;
    const double mid = v.size() < 3 ? 0 : median(v);
    if (mid <= 0) continue;
    for (const float x : v) spread_.push_back(static_cast<float>(x / mid));
  }
  fit_ = {};
  if (rows_.empty()) return;
  fit_ = fit_rows(rows_, 0);
  fit_.shared_factor = shared_factor();
  if (rows_.size() < 4) return;
  // A knee, and a correction by neighbours, are kept only when they do better on places left out.
  std::vector<double> knees{0};
  std::vector<double> pixels;
  for (const Row& r : rows_) pixels.push_back(static_cast<double>(r.terms[0]));
  std::sort(pixels.begin(), pixels.end());
  if (rows_.size() >= 10) {
    // The knee that fits best by itself is the one that is tried on places left out.
    double least = 1e300, knee = 0;
    for (const double share : {0.3, 0.45, 0.6, 0.75}) {
      const double at = pixels[static_cast<std::size_t>(share * static_cast<double>(pixels.size()))];
      const Fit f = fit_rows(rows_, at);
      double off = 0;
      for (const Row& r : rows_)
        off += r.weight * std::min(0.5, std::abs(std::log(r.ms / value(f, r.terms, {}, 0))));
      if (off < least) least = off, knee = at;
    }
    knees.push_back(knee);
  }
  double best = 1e300;
  std::vector<std::size_t> order(rows_.size());
  std::iota(order.begin(), order.end(), 0);
  std::sort(order.begin(), order.end(),
            [&](std::size_t i, std::size_t j) { return rows_[i].terms < rows_[j].terms; });
  const auto sure =
      std::count_if(rows_.begin(), rows_.end(), [](const Row& r) { return r.weight > kSureWeight; });
  const std::size_t folds = std::min<std::size_t>(kFolds, rows_.size());
  for (const double knee : knees) {
    std::vector<double> off[3], between[3];
    constexpr double kReach[3] = {0, 0.25, 0.6};
    for (std::size_t fold = 0; fold < folds; ++fold) {
      std::vector<Row> kept;
      for (std::size_t i = 0; i < order.size(); ++i)
        if (i % folds != fold) kept.push_back(rows_[order[i]]);
      const Fit f = fit_rows(kept, knee);
      const Range range = range_of(kept);
      for (std::size_t i = fold; i < order.size(); i += folds) {
        // Places of one or two undisturbed samples say more about the disturbance than about the law.
        const Row& r = rows_[order[i]];
        if (r.weight <= kSureWeight && sure >= 8) continue;
        for (std::size_t k = 0; k < 3; ++k) {
          off[k].push_back(std::abs(std::log(r.ms / value(f, r.terms, kept, kReach[k]))));
          if (range.beyond(r.terms) <= 0) between[k].push_back(off[k].back());
        }
      }
    }
    for (std::size_t k = 0; k < 3; ++k) {
      if (off[k].empty()) continue;
      double mean = 0;
      for (const double o : off[k]) mean += std::min(o, 0.5) / static_cast<double>(off[k].size());
      // The plainer law unless the other is clearly better.
      mean *= (knee > 0 ? 1.1 : 1.0) * (k > 0 ? 1.05 : 1.0);
      if (mean >= best) continue;
      best = mean;
      fit_ = fit_rows(rows_, knee);
      fit_.shared_factor = shared_factor();
      fit_.nearness = kReach[k];
      fit_.cv_error = std::expm1(median(off[k]));
      // How much more is to be feared beyond what was measured is counted where something lies there.
      constexpr std::size_t kEnough = 8;
      fit_.cv_error_90 = std::expm1(quantile_of(between[k].size() < kEnough ? off[k] : between[k], 0.9));
    }
  }
}

const CostLaw::Fit& CostLaw::fit() const {
  if (stale_) refit();
  return fit_;
}

Terms CostLaw::least() const { return range_of(points_).least; }
Terms CostLaw::most() const { return range_of(points_).most; }

std::optional<CostEstimate> CostLaw::predict(const Terms& terms) const {
  const Fit& f = fit();
  if (rows_.empty()) return std::nullopt;
  CostEstimate e;
  e.ms = value(f, terms, rows_, f.nearness);
  const double beyond = range_of(points_).beyond(terms);
  e.inside = beyond <= 0;
  // Beyond what was measured the interval grows with the distance; with few places nothing is sure.
  const double factor = (1 + std::min(2.0, f.cv_error_90)) * (1 + 0.5 * std::min(4.0, beyond));
  e.low = e.ms / factor, e.high = e.ms * factor;
  return e;
}

Json CostLaw::to_json() const {
  const Fit& f = fit();
  Json factors = Json::object(), places = Json::array();
  for (std::size_t i = 0; i < name_.terms.size() && i < kTerms; ++i)
    factors[name_.terms[i]] = f.ms_per_term[i];
  for (const LawPoint& p : points_) {
    Json terms = Json::array();
    for (std::size_t i = 0; i < std::max<std::size_t>(1, name_.terms.size()) && i < kTerms; ++i)
      terms.push_back(p.terms[i]);
    const double ms = p.recent.empty() ? median(p.others) / f.shared_factor : median(p.recent);
    places.push_back({{"terms", terms}, {"ms", ms}, {"samples", p.count}});
  }
  std::vector<float> ratios(spread_.begin(), spread_.end());
  std::sort(ratios.begin(), ratios.end());
  Json spread = Json::array();
  for (int i = 0; i < 16 && !ratios.empty(); ++i)
    spread.push_back(ratios[(2 * static_cast<std::size_t>(i) + 1) * ratios.size() / 32]);
  return {{"law", name_.id},
          {"label", name_.label},
          {"stage", stage_name(name_.kind)},
          {"terms", name_.terms},
          {"fixed_ms", f.fixed_ms},
          {"ms_per_term", factors},
          {"knee_mpixel", f.knee_mpix},
          {"knee_ms_per_mpixel", f.knee_ms},
          {"error_on_places_left_out", {{"median", f.cv_error}, {"nine_in_ten", f.cv_error_90}}},
          {"shared_core_factor", f.shared_factor},
          {"spread", spread},
          {"places", places}};
}

Result<CostLaw> CostLaw::from_json(const Json& json) {
  const std::string id = text_or(json, "law", "");
  const auto bad = [&](const std::string& why) {
    return bad_input(fmt::format("the law '{}' {}", id, why), {}, "Ask for the profile again.");
  };
  if (id.empty()) return bad("has no name");
  const Json terms = json.value("terms", Json::array()), places = json.value("places", Json::array());
  if (!terms.is_array() || terms.size() > kTerms || !places.is_array())
    return bad("has unusable terms or places");
  std::vector<std::string> names;
  for (const Json& t : terms) {
    if (!t.is_string()) return bad("has a term without a name");
    names.push_back(t.get<std::string>());
  }
  CostLaw law(LawName{id, text_or(json, "label", id), stage_named(text_or(json, "stage", "effect")), names});
  std::vector<float> spread;
  if (const auto it = json.find("spread"); it != json.end() && it->is_array())
    for (const Json& v : *it) {
      if (!v.is_number() || !(v.get<double>() > 0 && v.get<double>() < 1000))
        return bad("has an impossible spread");
      spread.push_back(v.get<float>());
    }
  if (spread.size() > LawPoint::kRecent) return bad("has a spread of too many values");
  for (const Json& p : places) {
    const double ms = number_or(p, "ms", -1);
    if (!(ms >= 0 && ms < 1e7)) return bad("has a cost that is no cost");
    LawPoint point;
    const auto of = p.find("terms");
    if (of == p.end() || !of->is_array() || of->size() > kTerms) return bad("has a place without terms");
    for (std::size_t i = 0; i < of->size(); ++i) {
      const double t = (*of)[i].is_number() ? (*of)[i].get<double>() : -1;
      if (!(t >= 0 && t < 1e9)) return bad("has an impossible place");
      point.terms[i] = static_cast<float>(t);
    }
    for (const float r : spread) point.recent.push_back(r * static_cast<float>(ms));
    if (point.recent.empty()) point.recent.push_back(static_cast<float>(ms));
    point.count = static_cast<int>(std::clamp(number_or(p, "samples", 1), 1.0, 1e9));
    law.points_.push_back(std::move(point));
    if (law.points_.size() > kMostPoints) return bad("has too many places");
  }
  return law;
}

CostLaw CostLaw::scaled(double factor) const {
  CostLaw law = *this;
  for (LawPoint& p : law.points_)
    for (std::vector<float>* values : {&p.recent, &p.others})
      for (float& v : *values) v *= static_cast<float>(factor);
  law.stale_ = true;
  return law;
}

}  // namespace gc
