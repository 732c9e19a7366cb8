#include "plan/plan_words.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <ctime>

namespace gc {
namespace {

/// "2 spans cannot be played: media missing." Empty when nothing is missing.
std::string missing_sentence(const Forecast& f) {
  const int n = f.count(Verdict::missing);
  return n == 0 ? std::string() : fmt::format("{} span{} cannot be played: media missing.", n, n == 1 ? "" : "s");
}

/// "3 pre-renders, 2 cached stacks, 1 baked composition".
std::string counted(const std::vector<Remedy>& remedies) {
  std::vector<std::pair<std::string, int>> kinds;
  for (const Remedy& r : remedies) {
    const std::string label = r.proposal.kind->label();
    const auto it = std::find_if(kinds.begin(), kinds.end(), [&](const auto& k) { return k.first == label; });
    if (it == kinds.end()) kinds.emplace_back(label, 1);
    else ++it->second;
  }
  std::string text;
  for (const auto& [label, n] : kinds) {
    std::string name = label;
    name.front() = static_cast<char>(std::tolower(static_cast<unsigned char>(name.front())));
    text += fmt::format("{}{} {}{}", text.empty() ? "" : ", ", n, name, n == 1 ? "" : "s");
  }
  return text;
}

/// " Ready by 9:20 (97 %) and 10:40 (92 %)": of each review when what it needs is done, and the chance that it is by then.
std::string ready_for_each(const Plan& p) {
  std::string text;
  for (std::size_t k = 0; k < p.reviews.size(); ++k) {
    const Review& r = p.reviews[k];
    const std::string when = r.ready_in <= 0 ? "now" : "by " + clock_text(p.made_at + static_cast<std::int64_t>(std::lround(std::min(r.ready_in, 1e9))), p.made_at);
    text += fmt::format("{}{} ({:.0f} %)", k == 0 ? " Ready " : k + 1 == p.reviews.size() ? " and " : ", ", when, r.ready_probability * 100);
  }
  return text;
}

/// What is dropped although all of the plan is done, and by whom.
std::string what_is_left(const Plan& p) {
  const auto drops = std::lround(p.after.expected_drops), others = std::lround(p.drops_by_others);
  if (drops == 0) return " A dropped frame may be left.";
  std::string text = fmt::format(" About {} dropped frame{} left", drops, drops == 1 ? " is" : "s are");
  if (others > 0 && others >= drops) text += ", all to other programs";
  else if (others > 0) text += fmt::format(", {} of them to other programs", others);
  return text + ".";
}

}  // namespace

std::string sentence_of(const Plan& p) {
  const int spills = p.before.count(Verdict::spills), wavers = p.before.count(Verdict::wavers);
  const int unseen = p.before.count(Verdict::unseen);
  const std::string missing = missing_sentence(p.before);
  if (spills + wavers + unseen == 0)
    return !missing.empty() ? missing + " The rest holds."
           : p.before.fully_measured
               ? "Everything holds. Nothing needs to be done."
               : "Not every segment has been measured yet; of those that have, none drops frames.";
  const auto spans = [](int n) { return fmt::format("{} span{}", n, n == 1 ? "" : "s"); };
  std::string what;
  if (spills > 0) what = fmt::format("{} will drop", spans(spills));
  if (wavers > 0)
    what += fmt::format("{}{} may drop", spills > 0 ? " and " : "",
                        spills > 0 ? std::to_string(wavers) : spans(wavers));
  const double drops = p.before.expected_drops;
  if (unseen > 0 && spills + wavers == 0)
    what = fmt::format("{} cannot be seen before rendering.", spans(unseen));
  else what += fmt::format(", about {:.0f} frame{} in all.", drops, std::lround(drops) == 1 ? "" : "s");
  if (unseen > 0 && spills + wavers > 0)
    what += fmt::format(" {} cannot be seen before rendering.", spans(unseen));
  if (!missing.empty()) what = missing + " " + what;
  if (!p.priced) return what + " What a render takes here has not been measured.";
  if (p.remedies.empty() && p.fits && unseen == 0 && p.drops_by_others > 0.9 * drops)
    return what + " Other programs or the machine's host cause that: close what else runs. Nothing that can be rendered helps.";
  if (p.remedies.empty()) return what + (p.fits ? " Nothing that is allowed helps; a faster seat would." : " There is no time or room for anything that helps.");
  const std::string when = clock_text(p.made_at + static_cast<std::int64_t>(std::lround(std::min(p.ready_in, 1e9))), p.made_at);
  const bool weighed = p.drop_seconds < kNoLimit && !p.holds;
  const std::string head = weighed         ? " What is worth its time"
                           : !p.fits       ? " There is time and room for"
                           : !p.reviews.empty() ? ready_for_each(p)
                           : p.review_at   ? fmt::format(" Ready by {} ({:.0f} %)", when, p.ready_probability * 100)
                           : p.holds       ? " What fixes that"
                                           : " What helps";
  const bool hides = std::any_of(p.remedies.begin(), p.remedies.end(), [](const Remedy& r) { return !r.proposal.hides.empty(); });
  return what + fmt::format("{}: {}; {}, {}.{}", head, counted(p.remedies), duration_text(p.render_seconds), bytes_text(p.bytes),
                            p.holds ? (hides ? " Something is hidden meanwhile." : " Nothing that is judged is hidden.")
                                    : what_is_left(p));
}

std::string duration_text(double seconds) {
  const auto s = static_cast<std::int64_t>(std::ceil(seconds - 0.05));
  if (s < 60) return seconds < 9.5 ? fmt::format("{:.1f} s", seconds) : fmt::format("{} s", s);
  if (s < 3600) return fmt::format("{} min {} s", s / 60, s % 60);
  return fmt::format("{} h {} min", s / 3600, s / 60 % 60);
}

std::string bytes_text(std::uint64_t bytes) {
  const double b = static_cast<double>(bytes);
  if (b < 1e6) return fmt::format("{:.0f} kB", b / 1e3);
  if (b < 1e9) return fmt::format("{:.0f} MB", b / 1e6);
  return fmt::format("{:.1f} GB", b / 1e9);
}

std::string clock_text(std::int64_t at, std::int64_t now) {
  const auto when = static_cast<std::time_t>(at), today = static_cast<std::time_t>(now);
  std::tm t{}, n{};
  localtime_r(&when, &t), localtime_r(&today, &n);
  static constexpr const char* kDays[] = {"Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat"};
  const std::string clock = fmt::format("{}:{:02}", t.tm_hour, t.tm_min);
  return t.tm_yday == n.tm_yday && t.tm_year == n.tm_year ? clock : fmt::format("{} {}", kDays[t.tm_wday], clock);
}

std::optional<std::int64_t> clock_time(const std::string& text, std::int64_t now) {
  const auto today = static_cast<std::time_t>(now);
  std::tm t{};
  localtime_r(&today, &t);
  int year = 0, month = 0, day = 0, hour = 0, minute = 0, read = 0;
  const bool dated = std::sscanf(text.c_str(), "%4d-%2d-%2dT%2d:%2d%n", &year, &month, &day, &hour, &minute, &read) == 5;
  if (!dated && std::sscanf(text.c_str(), "%2d:%2d%n", &hour, &minute, &read) != 2) return std::nullopt;
  if (static_cast<std::size_t>(read) != text.size() || hour < 0 || hour > 23 || minute < 0 || minute > 59) return std::nullopt;
  if (dated && (month < 1 || month > 12 || day < 1 || day > 31)) return std::nullopt;
  if (dated) t.tm_year = year - 1900, t.tm_mon = month - 1, t.tm_mday = day;
  t.tm_hour = hour, t.tm_min = minute, t.tm_sec = 0, t.tm_isdst = -1;
  std::int64_t at = std::mktime(&t);
  if (!dated && at <= now) {
    ++t.tm_mday, t.tm_isdst = -1;
    at = std::mktime(&t);
  }
  return at;
}

}  // namespace gc
