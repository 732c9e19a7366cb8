#include "interchange/cards.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstdlib>
#include <sstream>

namespace gc {
namespace {

/// Cells of one line (RFC 4180, without line breaks inside quotes), blanks around them taken off.
std::vector<std::string> cells_of(const std::string& line) {
  std::vector<std::string> cells(1);
  bool quoted = false;
  for (std::size_t i = 0; i < line.size(); ++i) {
    const char c = line[i];
    if (quoted && c == '"' && i + 1 < line.size() && line[i + 1] == '"') cells.back() += '"', ++i;
    else if (c == '"') quoted = !quoted;
    else if (c == ',' && !quoted) cells.emplace_back();
    else if (c != '\r') cells.back() += c;
  }
  for (std::string& cell : cells) {
    const auto first = cell.find_first_not_of(" \t"), last = cell.find_last_not_of(" \t");
    cell = first == std::string::npos ? "" : cell.substr(first, last - first + 1);
  }
  return cells;
}

}  // namespace

Result<std::map<std::string, CostCard>> cards_from_csv(const std::string& text, const std::string& where) {
  std::istringstream in(text.starts_with("\xEF\xBB\xBF") ? text.substr(3) : text);
  std::string line;
  if (!std::getline(in, line))
    return bad_input("the table is empty", where, "Give a head line and a line a card.");
  const std::vector<std::string> head = cells_of(line);
  const auto column = [&](const char* name) {
    return std::find(head.begin(), head.end(), name) - head.begin();
  };
  const auto missing = static_cast<std::ptrdiff_t>(head.size());
  if (column("name") == missing || column("ms") == missing)
    return bad_input("the table has no columns 'name' and 'ms'", where,
                     "Name the columns in its first line.");
  std::map<std::string, CostCard> cards;
  for (int n = 2; std::getline(in, line); ++n) {
    const std::vector<std::string> cells = cells_of(line);
    if (cells.size() == 1 && cells[0].empty()) continue;
    const auto cell = [&](const char* name) {
      const auto at = static_cast<std::size_t>(column(name));
      return at < cells.size() ? cells[at] : std::string();
    };
    const auto at = fmt::format("{}: line {}", where, n);
    const auto number = [&](const char* name, double usual, double least, double most) -> Result<double> {
      const std::string v = cell(name);
      if (v.empty() && std::string_view(name) != "ms") return usual;
      char* end = nullptr;
      const double x = std::strtod(v.c_str(), &end);
      if (v.empty() || *end || !(x >= least && x <= most))
        return bad_input(fmt::format("'{}' is no usable {}", v, name), at,
                         fmt::format("Give a number from {} to {}.", least, most));
      return x;
    };
    CostCard card;
    const auto ms = number("ms", 0, 0, 100000), width = number("width", 1920, 16, 32768),
               height = number("height", 1080, 16, 32768);
    for (const auto* r : {&ms, &width, &height})
      if (!*r) return std::unexpected(r->error());
    card.ms = *ms, card.width = static_cast<int>(*width), card.height = static_cast<int>(*height);
    if (const std::string device = cell("device"); !device.empty()) card.device = device;
    if (card.device != "processor" && card.device != "accelerator")
      return bad_input(fmt::format("'{}' is no device", card.device), at, "Give processor or accelerator.");
    if (cell("name").empty()) return bad_input("the card has no name", at, "Name the effect it stands for.");
    cards[cell("name")] = card;
  }
  return cards;
}

}  // namespace gc
