#include "media/sequence.h"

#include <fmt/format.h>

#include <cstdio>
#include <filesystem>

namespace gc {

std::optional<Sequence> Sequence::parse(const std::string& path) {
  const auto hash = path.rfind('#'), at = path.rfind('@'), mark = path.rfind('%', hash);
  if (hash == std::string::npos || mark == std::string::npos || at == std::string::npos || at < hash)
    return {};
  Sequence s;
  int used = 0, digits = 0;
  if (std::sscanf(path.c_str() + mark, "%%0%dd%n", &digits, &used) != 1 || used == 0 || digits > 12)
    return {};
  long long first = 0, last = 0, step = 1, num = 0, den = 0;
  int range = 0, rate = 0;
  if (std::sscanf(path.c_str() + hash, "#%lld-%lld%n", &first, &last, &range) != 2) return {};
  const char* rest = path.c_str() + hash + range;
  if (*rest == '*') {
    int stepped = 0;
    if (std::sscanf(rest, "*%lld%n", &step, &stepped) != 1) return {};
    rest += stepped;
  }
  if (std::sscanf(rest, "@%lld/%lld%n", &num, &den, &rate) != 2 || last < first || num <= 0 || den <= 0 ||
      step < 1)
    return {};
  if (rest[rate] == ';') s.missing = rest + rate + 1;
  s.before = path.substr(0, mark);
  s.after =
      path.substr(mark + static_cast<std::size_t>(used), hash - mark - static_cast<std::size_t>(used));
  s.digits = digits, s.first = first, s.last = last, s.step = step, s.rate = {num, den};
  return s;
}

std::string Sequence::file(Frames n) const { return fmt::format("{}{:0{}}{}", before, number(n), digits, after); }

bool Sequence::has(Frames n) const {
  std::error_code e;
  return std::filesystem::exists(file(n), e);
}

}  // namespace gc
