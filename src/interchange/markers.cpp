#include "interchange/markers.h"

#include <fmt/format.h>

#include <cmath>

#include "base/timecode.h"

namespace gc {
namespace {

/// A RationalTime in frames of the timeline; nothing when it is none.
std::optional<double> frames_of(const Json& object, const char* key, Rate rate) {
  const Json* time = object_at(object, key);
  if (!time) return {};
  const double value = number_or(*time, "value", NAN), of = number_or(*time, "rate", NAN);
  if (!std::isfinite(value) || !std::isfinite(of) || of <= 0 || std::abs(value) > 1e12) return {};
  return value / of * rate.fps();
}

/// Markers of one object, whose own time `origin` lies at frame `at` of the timeline and passes `speed` times as fast.
void gather(const Json& object, double origin, Frames at, double speed, Rate rate, const std::string& of, std::vector<Marker>& all) {
  if (!object.is_object() || !object.contains("markers") || !object["markers"].is_array()) return;
  for (const Json& j : object["markers"]) {
    const Json* range = j.is_object() ? object_at(j, "marked_range") : nullptr;
    if (!range) continue;
    const auto start = frames_of(*range, "start_time", rate), length = frames_of(*range, "duration", rate);
    if (!start) continue;
    Marker m;
    m.name = text_or(j, "name", ""), m.note = text_or(j, "comment", ""), m.colour = text_or(j, "color", ""), m.of = of;
    m.at.in = at + std::lround((*start - origin) / speed);
    m.at.out = m.at.in + std::max<Frames>(0, std::lround(length.value_or(0) / speed));
    all.push_back(std::move(m));
  }
}

Json time_of(Frames frame, Rate rate) { return {{"OTIO_SCHEMA", "RationalTime.1"}, {"value", static_cast<double>(frame)}, {"rate", rate.fps()}}; }

/// Fields of one record, from `at`, which is left behind it.
std::vector<std::string> record(const std::string& text, std::size_t& at, char separator) {
  std::vector<std::string> fields(1);
  bool quoted = false;
  for (; at < text.size(); ++at) {
    const char c = text[at];
    if (quoted && c == '"' && at + 1 < text.size() && text[at + 1] == '"') fields.back() += '"', ++at;
    else if (c == '"') quoted = !quoted;
    else if (!quoted && c == separator) fields.emplace_back();
    else if (!quoted && c == '\n') break;
    else if (quoted || c != '\r') fields.back() += c;
  }
  if (at < text.size()) ++at;
  return fields;
}

std::string without_spaces(const std::string& s) {
  const auto from = s.find_first_not_of(" \t"), to = s.find_last_not_of(" \t");
  return from == std::string::npos ? "" : s.substr(from, to - from + 1);
}

std::string field(const std::string& s) {
  if (s.find_first_of(",\"\n\r") == std::string::npos) return s;
  std::string out = "\"";
  for (const char c : s) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

}  // namespace

std::vector<Marker> markers_of(const Timeline& t) {
  std::vector<Marker> all;
  if (const Json* stack = object_at(t.foreign, "tracks")) gather(*stack, 0, 0, 1, t.rate, "", all);
  for (const TrackPtr& track : t.tracks) {
    gather(track->foreign, 0, 0, 1, t.rate, track->name, all);
    Frames at = 0;
    for (const Item& item : track->items) {
      if (const auto* gap = std::get_if<Gap>(&item)) at += gap->duration;
      if (const auto* opaque = std::get_if<Opaque>(&item)) at += opaque->duration;
      const auto* s = std::get_if<SegmentPtr>(&item);
      if (!s) continue;
      const Json* range = object_at((*s)->foreign, "source_range");
      const double origin = range ? frames_of(*range, "start_time", t.rate).value_or(0) : 0, speed = (*s)->speed.value();
      std::vector<Marker> own;
      gather((*s)->foreign, origin, at, speed > 0 ? speed : 1, t.rate, (*s)->name, own);
      // Those on parts of the clip that are not used are not on the timeline.
      for (Marker& m : own)
        if (m.at.in >= at && m.at.in < at + (*s)->duration) all.push_back(std::move(m));
      at += (*s)->duration;
    }
  }
  std::stable_sort(all.begin(), all.end(), [](const Marker& a, const Marker& b) { return a.at.in < b.at.in; });
  return all;
}

TimelinePtr with_markers(const Timeline& timeline, const std::vector<Marker>& markers) {
  auto t = std::make_shared<Timeline>(timeline);
  if (!t->foreign.is_object()) t->foreign = Json::object();
  Json& stack = t->foreign["tracks"];
  if (!stack.is_object()) stack = Json::object();
  Json& all = stack["markers"];
  if (!all.is_array()) all = Json::array();
  for (const Marker& m : markers)
    all.push_back({{"OTIO_SCHEMA", "Marker.2"},
                   {"name", m.name},
                   {"color", m.colour.empty() ? "GREEN" : m.colour},
                   {"comment", m.note},
                   {"metadata", Json::object()},
                   {"marked_range", {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time_of(m.at.in, t->rate)}, {"duration", time_of(m.at.length(), t->rate)}}}});
  return t;
}

Result<std::vector<Marker>> markers_from_csv(const std::string& text, const std::string& where, const Timeline& t) {
  std::size_t at = text.starts_with("\xef\xbb\xbf") ? 3 : 0;
  const std::string first = text.substr(at, text.find('\n', at) - at);
  const char separator = first.find('\t') != std::string::npos ? '\t' : first.find(';') != std::string::npos ? ';' : ',';
  std::map<std::string, std::size_t> column;
  const std::vector<std::string> names = record(text, at, separator);
  for (std::size_t i = 0; i < names.size(); ++i) {
    std::string name = without_spaces(names[i]);
    for (char& c : name) c = static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    if (name == "color") name = "colour";
    column[name] = i;
  }
  if (!column.contains("name") || !column.contains("in"))
    return bad_input("its first line names no columns 'name' and 'in'", where, "Begin the table with: name,in,out,note");
  std::vector<Marker> all;
  for (int line = 2; at < text.size(); ++line) {
    const std::vector<std::string> fields = record(text, at, separator);
    if (fields.size() == 1 && without_spaces(fields[0]).empty()) continue;
    const auto of = [&](const char* name) {
      const auto it = column.find(name);
      return it != column.end() && it->second < fields.size() ? without_spaces(fields[it->second]) : std::string();
    };
    const auto frame = [&](const std::string& said, bool place) -> std::optional<Frames> {
      const auto f = parse_timecode(said, t.rate, t.drop_frame);
      return f && place && said.find(':') != std::string::npos ? std::optional(*f - t.start) : f;
    };
    const std::string in = of("in"), out = of("out"), duration = of("duration");
    Marker m{of("name"), of("note"), of("colour"), {}, {}};
    const auto from = frame(in, true);
    const auto to = !out.empty() ? frame(out, true) : !duration.empty() && from ? [&]() -> std::optional<Frames> {
      const auto length = frame(duration, false);
      return length ? std::optional(*from + *length) : std::nullopt;
    }() : from;
    if (!from || !to || *from < 0 || *to < *from)
      return bad_input(fmt::format("'{}'{} is no place of this timeline", in, out.empty() ? "" : " to '" + out + "'"), fmt::format("{}, line {}", where, line),
                       "Give timecodes of the timeline, or frames.");
    m.at = {*from, *to};
    all.push_back(std::move(m));
  }
  return all;
}

std::string csv_of(const std::vector<Marker>& markers, const Timeline& t) {
  std::string text = "name,in,out,note,colour,of\r\n";
  for (const Marker& m : markers)
    text += fmt::format("{},{},{},{},{},{}\r\n", field(m.name), timecode_at(t, m.at.in), timecode_at(t, m.at.out), field(m.note), field(m.colour), field(m.of));
  return text;
}

std::optional<FrameRange> marked_range(const Timeline& t, const std::string& name) {
  const std::vector<Marker> all = markers_of(t);
  const Marker* one = nullptr;
  for (const Marker& m : all)
    if (m.name == name) {
      if (one) return std::nullopt;
      one = &m;
    }
  if (!one) return std::nullopt;
  if (one->at.length() > 0) return one->at;
  Frames until = t.duration();
  for (const Marker& m : all)
    if (m.at.in > one->at.in) until = std::min(until, m.at.in);
  return FrameRange{one->at.in, until};
}

}  // namespace gc
