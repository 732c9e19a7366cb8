#include "desk/names.h"

#include <fmt/format.h>

#include <algorithm>
#include <charconv>
#include <cmath>
#include <utility>

#include "base/timecode.h"
#include "timeline/layout.h"

namespace gc {
namespace {

/// Edits between two words: letters put in, left out or changed (Levenshtein 1966).
std::size_t distance(const std::string& a, const std::string& b) {
  std::vector<std::size_t> row(b.size() + 1);
  for (std::size_t j = 0; j <= b.size(); ++j) row[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    std::size_t diagonal = std::exchange(row[0], i);
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t above = row[j];
      row[j] = std::min({above + 1, row[j - 1] + 1, diagonal + (a[i - 1] != b[j - 1])});
      diagonal = above;
    }
  }
  return row[b.size()];
}

std::optional<std::size_t> number(const std::string& text) {
  std::size_t n = 0;
  const auto [end, bad] = std::from_chars(text.data(), text.data() + text.size(), n);
  if (bad != std::errc{} || end != text.data() + text.size()) return {};
  return n;
}

void add_segments(const std::vector<TrackPtr>& tracks, std::vector<SegmentPtr>& all) {
  for (const TrackPtr& t : tracks)
    for (const Item& i : t->items)
      if (const auto* s = std::get_if<SegmentPtr>(&i)) all.push_back(*s);
}

SegmentPtr by_place(const Timeline& t, const std::string& text) {
  const auto slash = text.rfind('/');
  const auto n = slash == std::string::npos ? std::nullopt : number(text.substr(slash + 1));
  if (!n || *n == 0) return nullptr;
  for (const TrackPtr& track : t.tracks) {
    if (track->id != text.substr(0, slash) && track->name != text.substr(0, slash)) continue;
    std::vector<SegmentPtr> all;
    add_segments({track}, all);
    return *n <= all.size() ? all[*n - 1] : nullptr;
  }
  return nullptr;
}

SegmentPtr by_timecode(const Timeline& t, const std::string& text) {
  const auto at = text.find(':') == std::string::npos ? std::nullopt : parse_timecode(text, t.rate, t.drop_frame);
  if (!at) return nullptr;
  const Layout layout = lay_out(t);
  const int i = layout.interval_at(*at - t.start);
  if (i < 0 || layout.intervals[static_cast<std::size_t>(i)].layers.empty()) return nullptr;
  return layout.placed[static_cast<std::size_t>(layout.intervals[static_cast<std::size_t>(i)].layers.back().placed)]
      .segment;
}

}  // namespace

std::string most_like(const std::string& word, const std::vector<std::string>& all) {
  std::string best;
  std::size_t least = std::max<std::size_t>(2, word.size() / 3) + 1;
  for (const std::string& other : all)
    if (const std::size_t d = distance(word, other); d < least) least = d, best = other;
  return best;
}

Result<SegmentPtr> segment_called(const Timeline& t, const std::string& text) {
  if (SegmentPtr s = find_segment(t, text)) return s;
  std::vector<SegmentPtr> all;
  add_segments(t.tracks, all);
  for (const auto& [id, c] : t.compositions) add_segments(c->tracks, all);
  std::vector<SegmentPtr> named;
  std::vector<std::string> words;
  for (const SegmentPtr& s : all) {
    if (s->name == text) named.push_back(s);
    words.push_back(s->id), words.push_back(s->name);
  }
  if (named.size() == 1) return named.front();
  if (named.size() > 1) {
    std::string ids;
    for (const SegmentPtr& s : named) ids += (ids.empty() ? "" : ", ") + s->id;
    return usage(fmt::format("{} segments are called '{}'", named.size(), text), "Give the id: " + ids + ".");
  }
  if (SegmentPtr s = by_place(t, text)) return s;
  if (SegmentPtr s = by_timecode(t, text)) return s;
  const std::string like = most_like(text, words);
  return usage(fmt::format("there is no segment '{}'", text),
               (like.empty() ? "" : fmt::format("'{}' is like it. ", like)) + "`gclk inspect` lists them.");
}

Result<std::size_t> effect_called(const Segment& s, const std::string& text) {
  std::vector<std::size_t> fit;
  std::string ids;
  for (std::size_t i = 0; i < s.stack.size(); ++i) {
    const Effect& e = s.stack[i];
    if (e.id == text) return i;
    const EffectType* type = effect_type(e.type);
    if (e.type == text || (type && type->label == text)) fit.push_back(i);
    ids += (ids.empty() ? "" : ", ") + e.id;
  }
  if (fit.size() == 1) return fit.front();
  if (const auto n = number(text); fit.empty() && n && *n >= 1 && *n <= s.stack.size()) return *n - 1;
  return usage(fit.empty() ? fmt::format("'{}' has no effect '{}'", s.id, text)
                           : fmt::format("{} effects of '{}' are called '{}'", fit.size(), s.id, text),
               ids.empty() ? "The segment has no effects." : "Its effects are: " + ids + ".");
}

Result<Checked> checked_value(const Effect& effect, const std::string& name, const Json& value) {
  const EffectType* type = effect_type(effect.type);
  if (!type)
    return usage(fmt::format("'{}' is no effect that can be set here", effect.type),
                 "Change it in the program that wrote it.");
  const auto spec = std::find_if(type->params.begin(), type->params.end(), [&](const ParamSpec& p) { return p.name == name; });
  if (spec == type->params.end()) {
    std::vector<std::string> names;
    std::string list;
    for (const ParamSpec& p : type->params) names.push_back(p.name), list += (list.empty() ? "" : ", ") + p.name;
    const std::string like = most_like(name, names);
    return usage(fmt::format("{} has no parameter '{}'", type->label, name),
                 (like.empty() ? "" : fmt::format("'{}' is like it. ", like)) + "It has: " + list + ".");
  }
  if (spec->text) {
    if (!value.is_string()) return usage(fmt::format("{} takes a text", name), "Give it in quotes.");
    return Checked{value, ""};
  }
  if (spec->values == 0) return Checked{value, ""};
  const auto wrong = [&] {
    return usage(spec->values == 1 ? fmt::format("{} takes a number", name)
                                   : fmt::format("{} takes a list of {} numbers", name, spec->values),
                 fmt::format("From {} to {}{}.", spec->least, spec->most, spec->unit.empty() ? "" : " " + spec->unit));
  };
  Checked c{value, ""};
  const auto bring = [&](Json& v) {
    if (!v.is_number() || !std::isfinite(v.get<double>())) return false;
    const double within = std::clamp(v.get<double>(), spec->least, spec->most);
    if (within == v.get<double>()) return true;
    c.remark = fmt::format("{} is outside {} to {}; {} was set.", v.get<double>(), spec->least, spec->most, within);
    v = within;
    return true;
  };
  if (spec->values == 1) {
    if (!bring(c.value)) return wrong();
  } else {
    if (!c.value.is_array() || c.value.size() != static_cast<std::size_t>(spec->values)) return wrong();
    for (Json& v : c.value)
      if (!bring(v)) return wrong();
  }
  return c;
}

}  // namespace gc
