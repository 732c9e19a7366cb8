#include "interchange/edl.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <limits>
#include <set>
#include <sstream>

#include "base/timecode.h"

namespace gc {
namespace {

std::string trimmed(const std::string& s) {
  const std::size_t a = s.find_first_not_of(" \t\r"), z = s.find_last_not_of(" \t\r");
  return a == std::string::npos ? std::string() : s.substr(a, z - a + 1);
}

std::vector<std::string> words_of(const std::string& line) {
  std::istringstream in(line);
  std::vector<std::string> all;
  for (std::string w; in >> w;) all.push_back(w);
  return all;
}

/// One line of an event.
struct Event {
  std::string number, reel, kind;  ///< "C", "D", "W001"
  Frames length = 0;               ///< of the transition
  Frames source_in = 0, source_out = 0, in = 0, out = 0;
  std::string clip, file;
  std::optional<double> speed_fps;
  std::optional<Grade> grade;
  std::string note;
};

bool is_number(const std::string& s) { return !s.empty() && std::ranges::all_of(s, [](unsigned char c) { return std::isdigit(c) != 0; }); }

class EdlReader {
 public:
  EdlReader(const std::string& where, const EdlOptions& options) : where_(where), o_(options) {}

  Result<TimelinePtr> read(const std::string& text) {
    std::istringstream in(text);
    std::string line;
    while (std::getline(in, line)) {
      ++line_;
      if (auto r = take(trimmed(line)); !r) return std::unexpected(r.error());
    }
    if (events_.empty()) return bad_input("it holds no events", where_, "Give an edit decision list in the form of CMX 3600.");
    return built();
  }

 private:
  std::unexpected<Error> wrong(const std::string& what) const {
    return bad_input(fmt::format("line {}: {}", line_, what), where_, "Correct the line, or export the list again.");
  }

  Result<Frames> frame(const std::string& text) const {
    const auto f = parse_timecode(text, o_.rate, drop_);
    // A bare number would be a frame count, which no list has.
    if (!f || text.find_first_of(":;.") == std::string::npos) return wrong(fmt::format("'{}' is no timecode at {:.3f} frames a second", text, o_.rate.fps()));
    return *f;
  }

  Result<void> take(const std::string& line) {
    if (line.empty()) return {};
    if (line.starts_with("TITLE:")) return name_ = trimmed(line.substr(6)), Result<void>{};
    if (line.starts_with("FCM:")) {
      drop_ = line.find("NON") == std::string::npos && drops_frames(o_.rate);
      return {};
    }
    if (line[0] == '*') return comment(trimmed(line.substr(1)));
    const std::vector<std::string> w = words_of(line);
    if (w[0] == "M2" && w.size() >= 3) {
      if (!events_.empty() && !passed_over_) events_.back().speed_fps = std::strtod(w[2].c_str(), nullptr);
      return {};
    }
    if (!is_number(w[0]) || w.size() < 8) {
      remarks_.push_back(fmt::format("Line {} is not understood: {}", line_, line));
      return {};
    }
    return event(w);
  }

  Result<void> event(const std::vector<std::string>& w) {
    const std::string& channel = w[2];
    passed_over_ = channel.find('V') == std::string::npos && channel != "B";
    if (passed_over_) return sound_ = true, Result<void>{};
    if (channel_.empty()) channel_ = channel;
    if (channel == "V2" || (channel != channel_ && channel.find("V2") != std::string::npos)) {
      passed_over_ = true;
      remarks_.push_back(fmt::format("Event {} lies on {}, which is not read.", w[0], channel));
      return {};
    }
    Event e;
    e.number = w[0], e.reel = w[1], e.kind = w[3];
    if (e.kind == "D" || e.kind.starts_with("W")) {
      if (!is_number(w[4]) || w.size() < 9) return wrong("a transition without its length");
      e.length = std::stoll(w[4]);
    } else if (e.kind != "C") {
      remarks_.push_back(fmt::format("Event {} has the transition '{}', which is read as a cut.", e.number, e.kind));
    }
    // Keys have words of their own before the four timecodes.
    const std::size_t at = w.size() - 4;
    Frames* to[] = {&e.source_in, &e.source_out, &e.in, &e.out};
    for (std::size_t i = 0; i < 4; ++i) {
      const auto f = frame(w[at + i]);
      if (!f) return std::unexpected(f.error());
      *to[i] = *f;
    }
    if (e.out < e.in) return wrong("an event ends before it begins");
    events_.push_back(std::move(e));
    return {};
  }

  Result<void> comment(const std::string& text) {
    if (events_.empty() || passed_over_) return {};
    // "FROM CLIP NAME" is of the outgoing one of a transition, which is the event before.
    Event& now = events_.back();
    const bool transition = events_.size() > 1 && now.kind != "C" && events_[events_.size() - 2].number == now.number;
    const auto after = [&](const char* key) -> std::optional<std::string> {
      return text.starts_with(key) ? std::optional(trimmed(text.substr(std::string_view(key).size()))) : std::nullopt;
    };
    if (const auto v = after("FROM CLIP NAME:")) (transition ? events_[events_.size() - 2] : now).clip = *v;
    else if (const auto to = after("TO CLIP NAME:")) now.clip = *to;
    else if (const auto file = after("SOURCE FILE:")) now.file = *file;
    else if (const auto sop = after("ASC_SOP")) return asc_sop(now, *sop);
    else if (const auto sat = after("ASC_SAT")) grade(now).saturation = std::strtod(sat->c_str(), nullptr);
    else now.note += (now.note.empty() ? "" : "\n") + text;
    return {};
  }

  Grade& grade(Event& e) const {
    if (!e.grade) e.grade.emplace();
    return *e.grade;
  }
  Result<void> asc_sop(Event& e, const std::string& text) {
    double v[9];
    std::string digits = text;
    for (char& c : digits)
      if (c == '(' || c == ')' || c == ',') c = ' ';
    if (std::sscanf(digits.c_str(), "%lf %lf %lf %lf %lf %lf %lf %lf %lf", v, v + 1, v + 2, v + 3, v + 4, v + 5, v + 6, v + 7, v + 8) != 9)
      return wrong("ASC_SOP wants nine numbers");
    Grade& g = grade(e);
    for (int i = 0; i < 3; ++i) g.slope[i] = v[i], g.offset[i] = v[3 + i], g.power[i] = v[6 + i];
    return {};
  }

  Result<TimelinePtr> built() {
    auto t = std::make_shared<Timeline>();
    t->name = name_.empty() ? o_.name : name_;
    t->rate = o_.rate, t->drop_frame = drop_, t->raster_stated = false;
    auto track = std::make_shared<Track>();
    track->id = "V1", track->name = "V";
    Frames at = events_.front().in;
    for (const Event& e : events_) at = std::min(at, e.in);
    t->start = at;
    for (std::size_t i = 0; i < events_.size(); ++i) {
      const Event& e = events_[i];
      if (e.out == e.in) continue;  // the outgoing line of a transition that is only named
      if (e.in < at) {
        remarks_.push_back(fmt::format("Event {} overlaps the one before it and is left out.", e.number));
        continue;
      }
      if (e.in > at) track->items.push_back(Gap{e.in - at, {}});
      if (e.length > 0 && !track->items.empty() && std::holds_alternative<SegmentPtr>(track->items.back())) {
        Transition x;
        x.id = "x-" + e.number, x.kind = e.kind == "D" ? "dissolve" : "wipe", x.out_offset = std::min(e.length, e.out - e.in);
        track->items.push_back(x);
      }
      track->items.push_back(segment(*t, e));
      at = e.out;
    }
    if (sound_) remarks_.emplace_back("Sound events are not read.");
    t->tracks.push_back(track);
    t->remarks = remarks_;
    return TimelinePtr(t);
  }

  static std::string id_of(const Event& e) { return e.file.empty() ? e.reel + "/" + e.clip : e.file; }
  /// The first frame that the list shows of a source whose own beginning is not known.
  Frames earliest(const std::string& id) const {
    Frames first = std::numeric_limits<Frames>::max();
    for (const Event& e : events_)
      if (id_of(e) == id) first = std::min(first, e.source_in);
    return first;
  }

  /// Whether everything that the list shows of a source lies in so many frames from 0.
  bool fits(const std::string& id, Frames frames) const {
    return std::ranges::all_of(events_, [&](const Event& e) { return id_of(e) != id || e.source_in < frames; });
  }

  SegmentPtr segment(Timeline& t, const Event& e) {
    auto s = std::make_shared<Segment>();
    s->id = fmt::format("e{}-{}", e.number, ++segments_);
    s->name = e.clip.empty() ? e.reel : e.clip, s->note = e.note, s->duration = e.out - e.in;
    if (e.reel == "BL" || e.reel == "BLACK") {
      s->content = Content::generator, s->ref = "solid", s->generator = {{"colour", {0, 0, 0}}};
      return s;
    }
    const auto medium = o_.find ? o_.find(e.reel, e.clip, e.file) : std::nullopt;
    const std::string id = id_of(e);
    if (!t.sources.contains(id)) {
      auto m = std::make_shared<MediaSource>();
      m->id = id, m->name = s->name, m->rate = o_.rate;
      m->path = m->url = medium ? medium->path : e.file.empty() ? e.clip.empty() ? e.reel : e.clip : e.file;
      // A file without timecode counts from 0, as long as the list's numbers are within it.
      m->start = medium && medium->timecode >= 0 ? medium->timecode : medium && fits(id, medium->frames) ? 0 : earliest(id);
      m->length = medium ? medium->frames : 0;
      if (!medium) remarks_.push_back(fmt::format("No file was found for '{}' of reel '{}'; import the list again where its media are, so that its frames count from its timecode.", s->name, e.reel));
      t.sources[id] = m;
    }
    s->ref = id, s->source_rate = o_.rate;
    s->source_in = e.source_in - (medium && medium->timecode >= 0 ? medium->timecode : t.sources[id]->start);
    if (e.speed_fps) s->speed = Ratio::near(*e.speed_fps / o_.rate.fps());
    if (e.grade) return with_grade(*s, *e.grade);
    return s;
  }

  const std::string& where_;
  const EdlOptions& o_;
  std::vector<Event> events_;
  std::vector<std::string> remarks_;
  std::string name_, channel_;
  std::optional<bool> drop_;
  int line_ = 0, segments_ = 0;
  bool passed_over_ = false, sound_ = false;
};

std::string reel_of(const std::string& name, std::map<std::string, std::string>& known) {
  const auto it = known.find(name);
  if (it != known.end()) return it->second;
  // Eight characters of letters and digits, told apart by their end.
  std::string reel;
  for (const unsigned char c : name)
    if (std::isalnum(c) && reel.size() < 8) reel += static_cast<char>(std::toupper(c));
  if (reel.empty()) reel = "AX";
  std::set<std::string> used;
  for (const auto& [n, r] : known) used.insert(r);
  for (int i = 1; used.contains(reel); ++i) {
    const std::string end = std::to_string(i);
    reel = reel.substr(0, 8 - end.size()) + end;
  }
  return known[name] = reel;
}

}  // namespace

Result<TimelinePtr> timeline_from_edl(const std::string& text, const std::string& where, const EdlOptions& options) { return EdlReader(where, options).read(text); }

std::string asc_comments(const Grade& g) {
  const auto three = [](const double* v) { return fmt::format("({:.6g} {:.6g} {:.6g})", v[0], v[1], v[2]); };
  return fmt::format("*ASC_SOP {}{}{}\n*ASC_SAT {:.6g}\n", three(g.slope), three(g.offset), three(g.power), g.saturation);
}

std::optional<Grade> grade_of(const Segment& s) {
  for (const Effect& e : s.stack) {
    if (e.type != "cdl" || !e.enabled) continue;
    Grade g;
    g.id = s.name;
    const auto three = [&](const char* name, double* to) {
      const auto it = e.params.find(name);
      if (it == e.params.end()) return true;
      if (!it->is_array() || it->size() != 3) return false;
      for (std::size_t i = 0; i < 3; ++i) {
        if (!(*it)[i].is_number()) return false;
        to[i] = (*it)[i].get<double>();
      }
      return true;
    };
    if (!three("slope", g.slope) || !three("offset", g.offset) || !three("power", g.power)) continue;
    if (const auto it = e.params.find("saturation"); it != e.params.end()) {
      if (!it->is_number()) continue;
      g.saturation = it->get<double>();
    }
    return g;
  }
  return std::nullopt;
}

SegmentPtr with_grade(const Segment& segment, const Grade& g) {
  auto s = std::make_shared<Segment>(segment);
  const auto three = [](const double* v) { return Json{v[0], v[1], v[2]}; };
  const Json params{{"slope", three(g.slope)}, {"offset", three(g.offset)}, {"power", three(g.power)}, {"saturation", g.saturation}};
  for (Effect& e : s->stack)
    if (e.type == "cdl") {
      e.params.update(params);
      return s;
    }
  s->stack.push_back({s->id + "-grade", "cdl", params, true, true, {}, {}});
  return s;
}

EdlText edl_of(const Timeline& t, const std::function<Frames(const MediaSource&)>& timecode_of) {
  EdlText out;
  const auto tc = [&](Frames f) { return timecode(f, t.rate, t.drop_frame); };
  out.text = fmt::format("TITLE: {}\nFCM: {}\n\n", t.name, tc(0).find(';') != std::string::npos ? "DROP FRAME" : "NON-DROP FRAME");
  const Track* picture = nullptr;
  for (const TrackPtr& track : t.tracks) {
    if (!track->video || !track->enabled) continue;
    if (!picture) picture = track.get();
    else if (!track->items.empty()) out.left_out.push_back(fmt::format("The track '{}' lies above the first one; the list has one track.", track->name));
  }
  if (!picture) return out;
  std::map<std::string, std::string> reels;
  Frames at = t.start;
  int number = 0;
  const Transition* into = nullptr;
  std::string before;  // the clip that goes out
  for (const Item& item : picture->items) {
    if (const auto* gap = std::get_if<Gap>(&item)) at += gap->duration;
    if (const auto* other = std::get_if<Opaque>(&item)) {
      out.left_out.push_back(fmt::format("An item of the schema '{}' at {}.", other->schema, tc(at)));
      at += other->duration;
    }
    if (const auto* x = std::get_if<Transition>(&item)) into = x;
    const auto* s = std::get_if<SegmentPtr>(&item);
    if (!s) continue;
    const Segment& segment = **s;
    const Frames in = at, end = at + segment.duration;
    at = end;
    const auto source = t.sources.find(segment.ref);
    const bool picture_file = segment.content == Content::source && source != t.sources.end();
    if (!picture_file && segment.content != Content::generator)
      out.left_out.push_back(fmt::format("'{}' at {} is {}; the list has its place and its name.", segment.name, tc(in), segment.content == Content::composition ? "a composition" : "no source"));
    const std::string reel = picture_file ? reel_of(source->second->name, reels) : "BL";
    const Frames first = picture_file ? std::max<Frames>(0, timecode_of ? timecode_of(*source->second) : 0) : 0;
    const double factor = t.rate.fps() / (segment.source_rate.num > 0 ? segment.source_rate.fps() : t.rate.fps());
    const Frames source_in = first + static_cast<Frames>(std::llround(static_cast<double>(segment.source_in) * factor));
    const double speed = segment.speed.value();
    const Frames source_out = source_in + static_cast<Frames>(std::llround(static_cast<double>(segment.duration) * std::abs(speed)));
    ++number;
    std::string kind = "C        ";
    if (into && into->kind != "dissolve" && into->kind != "wipe") out.left_out.push_back(fmt::format("The transition '{}' at {} is written as a dissolve.", into->kind, tc(in)));
    if (into && into->out_offset + into->in_offset > 0) {
      if (into->in_offset > 0) out.left_out.push_back(fmt::format("The transition at {} begins {} frames before the cut; in the list it begins at it.", tc(in), into->in_offset));
      // The outgoing clip is named on a line of its own that takes no time.
      out.text += fmt::format("{:03}  {:<8} V     C        {} {} {} {}\n", number, before.empty() ? "BL" : before, tc(source_in), tc(source_in), tc(in), tc(in));
      kind = fmt::format("{:<5}{:03} ", into->kind == "wipe" ? "W001" : "D", into->in_offset + into->out_offset);
    }
    into = nullptr, before = reel;
    out.text += fmt::format("{:03}  {:<8} V     {}{} {} {} {}\n", number, reel, kind, tc(source_in), tc(source_out), tc(in), tc(end));
    if (speed != 1) out.text += fmt::format("M2   {:<8} {:06.1f}                {}\n", reel, speed * t.rate.fps(), tc(source_in));
    out.text += fmt::format("* {} CLIP NAME: {}\n", kind[0] == 'C' ? "FROM" : "TO", segment.name);
    if (picture_file) out.text += fmt::format("* SOURCE FILE: {}\n", source->second->path);
    const auto g = grade_of(segment);
    if (g) out.text += asc_comments(*g);
    bool graded = false;
    for (const Effect& e : segment.stack) {
      if (e.type == "cdl" && g && !graded) {
        graded = true;
        continue;
      }
      if (e.type != "retime") out.left_out.push_back(fmt::format("The effect '{}' of '{}'.", e.type.empty() ? e.id : e.type, segment.name));
    }
  }
  return out;
}

}  // namespace gc
