// A linear program some of whose columns are whole numbers, solved exactly by CBC (the distribution's).
#pragma once
#include <string>
#include <utility>
#include <vector>

namespace gc {

struct Mip {
  struct Column {
    std::string name;
    double cost = 0;        ///< of one unit, minimised
    double low = 0, high = 1;
    bool whole = true;
  };
  /// low ≤ sum of the terms ≤ high.
  struct Row {
    double low = 0, high = 0;
    std::vector<std::pair<int, double>> terms;  ///< column and factor
  };
  std::vector<Column> columns;
  std::vector<Row> rows;

  int add(std::string name, double cost, double low = 0, double high = 1, bool whole = true) {
    columns.push_back({std::move(name), cost, low, high, whole});
    return static_cast<int>(columns.size()) - 1;
  }
};

inline constexpr double kNoLimit = 1e30;

struct MipAnswer {
  bool solved = false;    ///< there is a solution, in x
  bool optimal = false;   ///< proven the best
  double value = 0;       ///< of x
  double bound = 0;       ///< no solution is better than this
  std::vector<double> x;  ///< by column
};

/// @param seconds of the processor after which the best found so far is given
/// @param near_enough an answer that is no worse than the best by this much will do
MipAnswer solve(const Mip& mip, double seconds, double near_enough = 0);

/// The problem in the LP format that CBC and GLPK read.
std::string lp_text(const Mip& mip);

}  // namespace gc
