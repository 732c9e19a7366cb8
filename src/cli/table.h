// Plain tables for a terminal.
#pragma once
#include <string>
#include <vector>

namespace gc {

class Table {
 public:
  explicit Table(std::vector<std::string> heads) : heads_(std::move(heads)) {}
  void row(std::vector<std::string> cells) { rows_.push_back(std::move(cells)); }
  /// Columns aligned; cells that look like numbers to the right.
  std::string text() const;

 private:
  std::vector<std::string> heads_;
  std::vector<std::vector<std::string>> rows_;
};

}  // namespace gc
