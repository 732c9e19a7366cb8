// Rows of a benchmark: a figure against its goal, printed and kept.
#pragma once
#include <fmt/format.h>

#include <algorithm>
#include <iostream>
#include <string>
#include <vector>

#include "base/json.h"

namespace gc {

inline Json results = Json::array();

inline void row(const std::string& name, double value, const char* unit, double goal, bool least) {
  const bool met = least ? value >= goal : value <= goal;
  results.push_back({{"name", name}, {"value", value}, {"unit", unit}, {"goal", goal}, {"met", met}});
  fmt::print("  {:<26} {:>8.3f} {:<3} goal {} {:<7} {}\n", name, value, unit, least ? "≥" : "≤", goal, met ? "met" : "missed");
  std::cout.flush();
}

inline double median(std::vector<double> v) {
  std::sort(v.begin(), v.end());
  return v[v.size() / 2];
}

}  // namespace gc
