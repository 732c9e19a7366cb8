// What the environment of this program is: a thread that reads it while another one changes it crashes.
#pragma once
#include <unistd.h>

#include <algorithm>
#include <iterator>
#include <string>
#include <vector>

namespace gc {

/// In alphabetical order.
inline std::vector<std::string> environment() {
  std::vector<std::string> all;
  for (char** e = environ; *e; ++e) all.emplace_back(*e);
  std::ranges::sort(all);
  return all;
}

/// As it was when the application had just begun.
inline std::vector<std::string>& environment_at_start() {
  static std::vector<std::string> all;
  return all;
}

/// Names of the variables that came, went or changed since. No values: they are nobody's business.
inline std::vector<std::string> environment_changed() {
  std::vector<std::string> names;
  std::ranges::set_symmetric_difference(environment_at_start(), environment(), std::back_inserter(names));
  for (std::string& n : names) n.resize(std::min(n.size(), n.find('=')));
  return names;
}

}  // namespace gc
