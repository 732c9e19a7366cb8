#include "plan/mip.h"

#include <coin/Cbc_C_Interface.h>
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <csetjmp>
#include <cstdio>
#include <cstdlib>
#include <map>
#include <mutex>

#include "base/log.h"

namespace {
/// Where the thread goes on when the solver gives up in the middle; null while none solves.
thread_local std::jmp_buf* on_failed_assertion = nullptr;
}  // namespace

/// The distribution's solver is built with its assertions, and one that fails would end the program: a plan is not worth
/// the window. While a thread solves, it goes on after the solver instead. Everywhere else an assertion ends the program,
/// as in the C library's own function, which this one stands in for.
extern "C" void __assert_fail(const char* what, const char* file, unsigned line, const char* function) noexcept {
  if (on_failed_assertion) std::longjmp(*on_failed_assertion, 1);
  std::fprintf(stderr, "%s:%u: %s: Assertion `%s' failed.\n", file, line, function, what);
  std::abort();
}

namespace gc {
namespace {

/// Whether the solver can be asked: every number is one, and every range has something in it.
bool sound(const Mip& mip) {
  const auto range = [](double low, double high) { return low <= high; };  // false for what is no number
  for (const Mip::Column& c : mip.columns)
    if (!std::isfinite(c.cost) || !range(c.low, c.high)) return false;
  return std::ranges::all_of(mip.rows, [&](const Mip::Row& r) {
    return range(r.low, r.high) && std::ranges::all_of(r.terms, [](const auto& t) { return std::isfinite(t.second); });
  });
}

/// Whether the solver came to an end by itself. Where it did not, its model is left as it is: nobody knows its state.
bool solved_to_an_end(Cbc_Model* model) {
  std::jmp_buf back;
  if (setjmp(back) != 0) {
    on_failed_assertion = nullptr;
    return false;
  }
  on_failed_assertion = &back;
  Cbc_solve(model);
  on_failed_assertion = nullptr;
  return true;
}

}  // namespace

MipAnswer solve(const Mip& mip, double seconds, double near_enough) {
  // The solver's C interface keeps things of its own between calls.
  static std::mutex one_at_a_time;
  const std::lock_guard lock(one_at_a_time);
  MipAnswer answer;
  const auto columns = static_cast<int>(mip.columns.size());
  if (columns == 0) {
    answer.solved = answer.optimal = true;
    return answer;
  }
  if (!sound(mip)) {
    spdlog::error("a plan's problem has a number that is none");
    return answer;
  }
  // CBC takes the matrix column by column.
  std::vector<std::map<int, double>> by_column(mip.columns.size());
  for (std::size_t r = 0; r < mip.rows.size(); ++r)
    for (const auto& [c, factor] : mip.rows[r].terms) by_column[static_cast<std::size_t>(c)][static_cast<int>(r)] += factor;
  std::vector<CoinBigIndex> start{0};
  std::vector<int> index;
  std::vector<double> value, low, high, cost, row_low, row_high;
  for (std::size_t c = 0; c < mip.columns.size(); ++c) {
    for (const auto& [r, factor] : by_column[c]) index.push_back(r), value.push_back(factor);
    start.push_back(static_cast<CoinBigIndex>(index.size()));
    low.push_back(mip.columns[c].low), high.push_back(mip.columns[c].high), cost.push_back(mip.columns[c].cost);
  }
  for (const Mip::Row& r : mip.rows) row_low.push_back(r.low), row_high.push_back(r.high);

  const auto solved = [&](bool simplified) -> Cbc_Model* {
    Cbc_Model* model = Cbc_newModel();
    Cbc_setParameter(model, "log", "0");
    Cbc_loadProblem(model, columns, static_cast<int>(mip.rows.size()), start.data(), index.data(), value.data(), low.data(),
                    high.data(), cost.data(), row_low.data(), row_high.data());
    for (int c = 0; c < columns; ++c)
      if (mip.columns[static_cast<std::size_t>(c)].whole) Cbc_setInteger(model, c);
    Cbc_setParameter(model, "sec", fmt::format("{}", seconds).c_str());
    Cbc_setParameter(model, "ratio", "0");
    Cbc_setParameter(model, "allow", fmt::format("{}", near_enough).c_str());
    if (!simplified) Cbc_setParameter(model, "presolve", "off"), Cbc_setParameter(model, "preprocess", "off");
    return solved_to_an_end(model) ? model : nullptr;
  };
  Cbc_Model* model = solved(true);
  if (!model) {
    spdlog::warn("the solver gave up a plan's problem of {} columns and {} rows; asked again in another way", columns, mip.rows.size());
    if (model = solved(false); !model) return answer;
  }
  const double* x = Cbc_isProvenInfeasible(model) ? nullptr : Cbc_bestSolution(model);
  if (!x && Cbc_isProvenOptimal(model)) x = Cbc_getColSolution(model);
  if (x) {
    answer.solved = true;
    answer.optimal = Cbc_isProvenOptimal(model) != 0;
    answer.x.assign(x, x + columns);
    for (int c = 0; c < columns; ++c) {
      auto& v = answer.x[static_cast<std::size_t>(c)];
      if (mip.columns[static_cast<std::size_t>(c)].whole) v = std::round(v);
      answer.value += v * mip.columns[static_cast<std::size_t>(c)].cost;
    }
    answer.bound = answer.optimal && near_enough == 0 ? answer.value : std::min(answer.value, Cbc_getBestPossibleObjValue(model));
  }
  Cbc_deleteModel(model);
  return answer;
}

std::string lp_text(const Mip& mip) {
  const auto name = [&](int c) { return mip.columns[static_cast<std::size_t>(c)].name; };
  const auto sum = [&](const std::vector<std::pair<int, double>>& terms) {
    std::string text;
    for (const auto& [c, factor] : terms)
      if (factor != 0) text += fmt::format(" {} {:.12g} {}\n  ", factor < 0 ? "-" : "+", std::abs(factor), name(c));
    return text.empty() && !mip.columns.empty() ? " 0 " + name(0) : text;
  };
  std::vector<std::pair<int, double>> costs;
  for (std::size_t c = 0; c < mip.columns.size(); ++c) costs.emplace_back(static_cast<int>(c), mip.columns[c].cost);
  std::string text = "Minimize\n cost:" + sum(costs) + "\nSubject To\n";
  for (std::size_t r = 0; r < mip.rows.size(); ++r) {
    const Mip::Row& row = mip.rows[r];
    if (row.low == row.high) text += fmt::format(" r{}:{} = {:.12g}\n", r, sum(row.terms), row.low);
    else {
      if (row.low > -kNoLimit) text += fmt::format(" r{}l:{} >= {:.12g}\n", r, sum(row.terms), row.low);
      if (row.high < kNoLimit) text += fmt::format(" r{}h:{} <= {:.12g}\n", r, sum(row.terms), row.high);
    }
  }
  text += "Bounds\n";
  for (const Mip::Column& c : mip.columns)
    text += c.high >= kNoLimit ? fmt::format(" {} >= {:.12g}\n", c.name, c.low)
                               : fmt::format(" {:.12g} <= {} <= {:.12g}\n", c.low, c.name, c.high);
  text += "Generals\n";
  for (const Mip::Column& c : mip.columns)
    if (c.whole) text += " " + c.name + "\n";
  return text + "End\n";
}

}  // namespace gc
