// Pictures that lie in a file each, numbered.
#pragma once
#include <optional>
#include <string>

#include "base/rational.h"

namespace gc {

/// The parts of a sequence's path, "folder/name.%04d.exr#first-last*step@num/den;missing".
struct Sequence {
  std::string before, after, missing;
  int digits = 0;
  Frames first = 0, last = -1, step = 1;
  Rate rate;

  static std::optional<Sequence> parse(const std::string& path);
  Frames number(Frames n) const { return first + n * step; }
  std::string file(Frames n) const;
  bool has(Frames n) const;
  Frames frames() const { return (last - first) / step + 1; }
};

}  // namespace gc
