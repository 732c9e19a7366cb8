#include "base/timecode.h"

#include <fmt/format.h>

#include <array>
#include <charconv>

namespace gc {

bool drops_frames(Rate rate) { return rate.den == 1001 && (rate.num == 30000 || rate.num == 60000); }

namespace {
bool skips(Rate rate, std::optional<bool> drop) { return drops_frames(rate) && drop.value_or(true); }
}  // namespace

std::string timecode(Frames frame, Rate rate, std::optional<bool> drop_frame) {
  const std::int64_t fps = std::max<std::int64_t>(1, rate.nominal());
  const bool negative = frame < 0;
  std::int64_t n = negative ? -frame : frame;
  const bool drop = skips(rate, drop_frame);
  if (drop) {
    // Two numbers (four at 60) are skipped each minute but the tenth.
    const std::int64_t skip = fps / 15, minute = fps * 60 - skip, ten = minute * 10 + skip;
    const std::int64_t tens = n / ten, rest = n % ten;
    n += tens * 9 * skip + (rest > skip ? skip * ((rest - skip) / minute) : 0);
  }
  const std::int64_t s = n / fps;
  return fmt::format("{}{:02}:{:02}:{:02}{}{:02}", negative ? "-" : "", s / 3600, s / 60 % 60, s % 60,
                     drop ? ';' : ':', n % fps);
}

std::optional<Frames> parse_timecode(std::string_view text, Rate rate, std::optional<bool> drop) {
  std::array<std::int64_t, 4> part{};
  std::size_t count = 0;
  bool negative = !text.empty() && text.front() == '-';
  if (negative) text.remove_prefix(1);
  while (count < 4) {
    const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), part[count]);
    if (bad != std::errc{} || part[count] < 0 || part[count] > (std::int64_t{1} << 50)) return std::nullopt;
    text.remove_prefix(static_cast<std::size_t>(end - text.data()));
    ++count;
    if (text.empty()) break;
    if (text.front() != ':' && text.front() != ';') return std::nullopt;
    text.remove_prefix(1);
  }
  if (!text.empty() || (count != 1 && count != 4)) return std::nullopt;
  const std::int64_t fps = std::max<std::int64_t>(1, rate.nominal());
  Frames n = part[0];
  if (count == 4) {
    if (part[1] > 59 || part[2] > 59 || part[3] >= fps || part[0] > 1'000'000) return std::nullopt;
    const std::int64_t minutes = part[0] * 60 + part[1];
    n = (minutes * 60 + part[2]) * fps + part[3];
    if (skips(rate, drop)) {
      const std::int64_t skip = fps / 15;
      if (part[2] == 0 && part[3] < skip && part[1] % 10 != 0) return std::nullopt;
      n -= skip * (minutes - minutes / 10);
    }
  }
  return negative ? -n : n;
}

}  // namespace gc
