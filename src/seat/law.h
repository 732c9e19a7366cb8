// Cost laws: what a sort of work costs on this seat, learnt from samples. A law is linear in its terms with
// factors that are never negative, a fixed part, and a knee in pixels where caches are exceeded; around it,
// what is known of nearby points corrects it, as far as that proved right on points left out.
#pragma once
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/error.h"
#include "base/json.h"
#include "effects/stage.h"

namespace gc {

/// Least squares of w (A x − b) under x ≥ 0, by the active-set method of Lawson and Hanson (1974). `a` is by
/// rows, b.size() × columns. Rows with a weight of 0 do not count.
std::vector<double> non_negative_fit(std::span<const double> a, std::span<const double> b,
                                     std::span<const double> weights);

/// Everything measured at one place of a law's terms.
struct LawPoint {
  Terms terms{};
  std::vector<float> recent;  ///< the newest undisturbed samples, ms, at most kRecent
  std::vector<float> others;  ///< the newest that others disturbed: no law is fitted to them
  int count = 0;              ///< ever
  double at_s = 0;            ///< when it was last measured, seconds since 1970
  int era = 0;
  static constexpr std::size_t kRecent = 32;
};

/// A cost with the interval that 90 in 100 measurements fall into.
struct CostEstimate {
  double ms = 0, low = 0, high = 0;
  bool inside = false;  ///< within what was measured; else extended beyond it
  bool scaled = false;  ///< taken over from another seat
  double width() const { return ms > 0 ? (high - low) / ms : 0; }
};

class CostLaw {
 public:
  CostLaw() = default;
  explicit CostLaw(const LawName& name, std::vector<LawPoint> points = {})
      : name_(name), points_(std::move(points)) {}

  const LawName& name() const { return name_; }
  const std::vector<LawPoint>& points() const { return points_; }

  /// Adds samples, ms: undisturbed ones, and ones taken while others worked on the same cores. The law is
  /// fitted anew when it is next asked.
  void add(const Terms& terms, std::span<const float> ms, double at_s, int era,
           std::span<const float> disturbed = {});
  /// Drops the place whose weight is least when there are more than `kMostPoints`.
  static constexpr std::size_t kMostPoints = 96;

  /// Nothing while there are no samples. Samples older than `now_s` by a month count half, those of an
  /// earlier era next to nothing.
  std::optional<CostEstimate> predict(const Terms& terms) const;
  /// The ratios of single undisturbed samples to their place's median: how a cost varies from frame to frame.
  std::span<const float> spread() const { return spread_; }

  struct Fit {
    double fixed_ms = 0;
    std::array<double, kTerms> ms_per_term{};
    double knee_mpix = 0;    ///< 0: none
    double knee_ms = 0;      ///< more for each million pixels beyond the knee
    double nearness = 0;     ///< reach of the correction by nearby points, in logarithms; 0: none
    double cv_error = 1;     ///< median relative error on points left out
    double cv_error_90 = 2;  ///< nine in ten of them
    int places = 0;
    double shared_factor =
        1.35;  ///< how many times as long the work takes while others work on the same core
  };
  const Fit& fit() const;
  /// How many times as long the work takes on a core that others work on, as of the last fit.
  double shared_core_factor() const { return fit_.shared_factor; }
  /// The places' own range of each term.
  Terms least() const;
  Terms most() const;

  void set_now(double now_s, int era) const;

  Json to_json() const;
  /// Refuses negative or infinite factors and samples, naming the law.
  static Result<CostLaw> from_json(const Json& json);
  /// The same costs times `factor`.
  CostLaw scaled(double factor) const;

 private:
  struct Row {
    Terms terms{};
    double ms = 0, weight = 1;
  };
  std::vector<Row> rows() const;
  double shared_factor() const;
  static Fit fit_rows(std::span<const Row> rows, double knee);
  double value(const Fit& fit, const Terms& terms, std::span<const Row> rows, double reach) const;
  void refit() const;

  LawName name_;
  std::vector<LawPoint> points_;
  mutable Fit fit_;
  mutable std::vector<Row> rows_;
  mutable std::vector<float> spread_;
  mutable bool stale_ = true;
  mutable double now_s_ = 0;
  mutable int era_ = 0;
};

/// Half weight after this long.
inline constexpr double kFadeSeconds = 30.0 * 86400;
inline constexpr double kOtherEra = 0.03;

}  // namespace gc
