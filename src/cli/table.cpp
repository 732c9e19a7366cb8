#include "cli/table.h"

#include <algorithm>

namespace gc {
namespace {

/// Characters as seen, for text in UTF-8.
std::size_t width(const std::string& s) {
  return static_cast<std::size_t>(std::count_if(
      s.begin(), s.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xc0) != 0x80; }));
}
bool numeric(const std::string& s) {
  return !s.empty() && (std::isdigit(static_cast<unsigned char>(s[0])) || s[0] == '-');
}

}  // namespace

std::string Table::text() const {
  std::vector<std::size_t> widths;
  for (const std::string& h : heads_) widths.push_back(width(h));
  for (const auto& r : rows_)
    for (std::size_t c = 0; c < r.size() && c < widths.size(); ++c)
      widths[c] = std::max(widths[c], width(r[c]));
  std::string out;
  const auto line = [&](const std::vector<std::string>& cells, bool head) {
    std::string l;
    for (std::size_t c = 0; c < cells.size() && c < widths.size(); ++c) {
      const std::string pad(widths[c] - width(cells[c]), ' ');
      l += "  " + (!head && numeric(cells[c]) ? pad + cells[c] : cells[c] + pad);
    }
    while (!l.empty() && l.back() == ' ') l.pop_back();
    out += l + "\n";
  };
  line(heads_, true);
  std::string rule = "  ";
  for (std::size_t c = 0; c < widths.size(); ++c)
    rule += std::string(widths[c] + (c + 1 < widths.size() ? 2 : 0), '-');
  out += rule + "\n";
  for (const auto& r : rows_) line(r, false);
  return out;
}

}  // namespace gc
