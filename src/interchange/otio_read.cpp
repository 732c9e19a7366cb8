#include <fmt/format.h>

#include <cmath>
#include <set>

#include "interchange/otio.h"
#include "interchange/otio_words.h"

namespace gc {
namespace {

using namespace otio;

constexpr Frames kLongest = 500'000'000;  // frames of any one thing: 200 days at 30

std::string schema_of(const Json& object) { return text_or(object, "OTIO_SCHEMA", ""); }
bool is_a(const Json& object, std::string_view name) {
  return schema_of(object).starts_with(std::string(name) + ".");
}

const Json& ours(const Json& object) {
  static const Json none = Json::object();
  const Json* metadata = object_at(object, "metadata");
  const Json* mine = metadata ? object_at(*metadata, kOurs) : nullptr;
  return mine ? *mine : none;
}

/// Thrown inside the reader only, and turned into an Error at its edge.
struct Bad {
  Error error;
};
[[noreturn]] void refuse(std::string what, std::string where, std::string remedy) {
  throw Bad{Error{Fault::bad_input, std::move(what), std::move(where), std::move(remedy)}};
}

struct Time {
  double value = 0;
  Rate rate;
};

/// Place of a field's value among the names; the first when it is none of them.
std::size_t one_of(const Json& object, const char* key, Names names) {
  const std::string v = text_or(object, key, "");
  const auto it = std::find(names.begin(), names.end(), v);
  return it == names.end() ? 0 : static_cast<std::size_t>(it - names.begin());
}

class Reader {
 public:
  Reader(std::string where, fs::path folder) : where_(std::move(where)), folder_(std::move(folder)) {}

  TimelinePtr read(const Json& root) {
    if (!root.is_object() || !is_a(root, "Timeline"))
      refuse(fmt::format("is not a timeline: its schema is '{}', 'Timeline.1' was expected",
                         root.is_object() ? schema_of(root) : "none"),
             where_, "Choose an OpenTimelineIO timeline file.");
    const Json& mine = ours(root);
    if (number_or(mine, "version", kVersion) > kVersion)
      refuse(fmt::format("was written by a newer version (format {})", number_or(mine, "version", 0)), where_,
             "Update the program; the file was not changed.");
    const Json* stack = object_at(root, "tracks");
    if (!stack || !is_a(*stack, "Stack"))
      refuse("has no tracks", where_ + ": tracks", "Export the timeline again.");
    timeline_ = std::make_shared<Timeline>();
    Timeline& t = *timeline_;
    t.folder = folder_.string();
    t.name = text_or(root, "name", "Untitled");
    t.foreign = without(root, {"tracks"});
    t.foreign["tracks"] = without(*stack, {"children"});
    t.rate = find_rate(root, *stack);
    t.width = whole(mine, "width", 1920, 16, 16384, where_ + ": width");
    t.height = whole(mine, "height", 1080, 16, 16384, where_ + ": height");
    if (const Json* start = object_at(root, "global_start_time"))
      t.start = frames(time(*start, where_ + ": global_start_time"), where_);
    read_settings(mine);
    t.tracks = tracks(*stack, where_ + ": tracks");
    read_slips(mine);
    check_cycles();
    return timeline_;
  }

 private:
  static Json without(const Json& object, std::initializer_list<const char*> keys) {
    Json rest = Json::object();
    for (const auto& [key, value] : object.items())
      if (std::none_of(keys.begin(), keys.end(), [&](const char* k) { return key == k; })) rest[key] = value;
    return rest;
  }

  static int whole(const Json& object, const char* key, int fallback, int least, int most,
                   const std::string& at) {
    const double v = number_or(object, key, fallback);
    if (!(v >= least && v <= most))
      refuse(fmt::format("{} is outside {} to {}", v, least, most), at, "Correct the value.");
    return static_cast<int>(v);
  }

  /// Names repeat in hand-made files; ids must not.
  std::string unique_id(const Json& mine, const std::string& fallback) {
    const std::string wanted = text_or(mine, "id", fallback);
    std::string id = wanted;
    for (int n = 2; !ids_.insert(id).second; ++n) id = fmt::format("{}-{}", wanted, n);
    return id;
  }

  static Time time(const Json& object, const std::string& at) {
    const double value = number_or(object, "value", NAN), rate = number_or(object, "rate", NAN);
    if (!std::isfinite(value) || !std::isfinite(rate) || rate < 0.01 || rate > 100000)
      refuse("is not a time: it needs a finite value and a rate above 0", at, "Correct or remove it.");
    if (std::abs(value) > 1e12) refuse(fmt::format("the time {} is too large", value), at, "Correct it.");
    return {value, Rate::near(rate)};
  }

  Frames frames(const Time& t, const std::string& at) const {
    const Frames f = rescale(std::llround(t.value), t.rate, timeline_->rate);
    if (std::abs(f) > kLongest)
      refuse(fmt::format("{} frames are more than a timeline can have", f), at, "Correct it.");
    return f;
  }

  Frames length(const Time& t, const std::string& at) const {
    const Frames f = frames(t, at);
    if (f < 0)
      refuse(fmt::format("has a negative duration of {} frames", f), at, "Give it a duration of 0 or more.");
    return f;
  }

  /// The rate is ours when we wrote it, else that of the start time, else that of the first segment.
  static Rate find_rate(const Json& root, const Json& stack) {
    if (const double own = number_or(ours(root), "rate", 0); own > 0 && own < 100000) return Rate::near(own);
    if (const Json* start = object_at(root, "global_start_time"))
      if (const double r = number_or(*start, "rate", 0); r >= 0.01 && r < 100000) return Rate::near(r);
    if (stack.contains("children") && stack["children"].is_array())
      for (const Json& track : stack["children"]) {
        if (!track.is_object() || !track.contains("children") || !track["children"].is_array()) continue;
        for (const Json& item : track["children"])
          if (const Json* range = object_at(item, "source_range"))
            if (const Json* d = object_at(*range, "duration"))
              if (const double r = number_or(*d, "rate", 0); r >= 0.01 && r < 100000) return Rate::near(r);
      }
    return {24, 1};
  }

  std::vector<TrackPtr> tracks(const Json& stack, const std::string& at) {
    std::vector<TrackPtr> all;
    if (!stack.contains("children")) return all;
    if (!stack["children"].is_array())
      refuse("is not a list", at + "/children", "Export the timeline again.");
    int n = 0;
    for (const Json& child : stack["children"]) {
      const std::string here = fmt::format("{}/children[{}]", at, n++);
      if (!child.is_object()) refuse("is not an object", here, "Export the timeline again.");
      if (is_a(child, "Track")) {
        all.push_back(track(child, here));
      } else {
        // A stack may hold an item directly; it is a track of one item.
        auto one = std::make_shared<Track>();
        one->id = unique_id(Json::object(), fmt::format("track-{}", all.size() + 1));
        one->name = text_or(child, "name", one->id);
        one->foreign = Json{{"_bare", true}};
        one->items.push_back(item(child, here));
        all.push_back(std::move(one));
      }
    }
    return all;
  }

  TrackPtr track(const Json& object, const std::string& at) {
    auto t = std::make_shared<Track>();
    t->id = unique_id(ours(object), fmt::format("track-{}", ++track_count_));
    t->name = text_or(object, "name", t->id);
    t->video = text_or(object, "kind", "Video") != "Audio";
    t->enabled = flag_or(object, "enabled", true);
    t->matte_only = flag_or(ours(object), "matte_only", false);
    t->foreign = without(object, {"children"});
    if (!object.contains("children")) return t;
    if (!object["children"].is_array())
      refuse("is not a list", at + "/children", "Export the timeline again.");
    int n = 0;
    for (const Json& child : object["children"]) {
      const std::string here = fmt::format("{}/children[{}]", at, n++);
      if (!child.is_object()) refuse("is not an object", here, "Export the timeline again.");
      t->items.push_back(item(child, here));
    }
    if (duration(*t) > kLongest) refuse("is longer than a timeline can be", at, "Shorten it.");
    return t;
  }

  Item item(const Json& object, const std::string& at) {
    if (is_a(object, "Clip")) return clip(object, at);
    if (is_a(object, "Stack")) return nested(object, at);
    if (is_a(object, "Gap")) return Gap{ranged_length(object, at), object};
    if (is_a(object, "Transition")) {
      Transition t;
      t.id = unique_id(ours(object), fmt::format("transition-{}", ++transition_count_));
      t.kind = text_or(object, "transition_type", "SMPTE_Dissolve") == "SMPTE_Dissolve"
                   ? "dissolve"
                   : text_or(ours(object), "kind", text_or(object, "transition_type", ""));
      if (const Json* params = object_at(ours(object), "params")) t.params = *params;
      if (const Json* in = object_at(object, "in_offset"))
        t.in_offset = length(time(*in, at + ": in_offset"), at);
      if (const Json* out = object_at(object, "out_offset"))
        t.out_offset = length(time(*out, at + ": out_offset"), at);
      t.foreign = object;
      if (t.kind != "dissolve" && t.kind != "dip" && t.kind != "wipe" && t.kind != "morph")
        timeline_->remarks.push_back(
            fmt::format("{}: the transition '{}' is not known and plays as a dissolve.", at, t.kind));
      return t;
    }
    Opaque o{ranged_length(object, at), schema_of(object), object};
    timeline_->remarks.push_back(
        fmt::format("{}: items of schema '{}' are not understood; they are kept, and play as a gap.", at,
                    o.schema.empty() ? "none" : o.schema));
    return o;
  }

  Frames ranged_length(const Json& object, const std::string& at) const {
    const Json* range = object_at(object, "source_range");
    const Json* d = range ? object_at(*range, "duration") : nullptr;
    return d ? length(time(*d, at + ": source_range.duration"), at) : 0;
  }

  std::shared_ptr<Segment> segment(const Json& object, const std::string& at) {
    auto s = std::make_shared<Segment>();
    const Json& mine = ours(object);
    s->id = unique_id(mine, fmt::format("segment-{}", ++segment_count_));
    s->name = text_or(object, "name", s->id);
    s->note = text_or(mine, "note", "");
    s->enabled = flag_or(object, "enabled", true);
    s->foreign = object;
    s->duration = ranged_length(object, at);
    read_layer(*s, mine);
    if (object.contains("effects") && object["effects"].is_array()) {
      int n = 0;
      for (const Json& e : object["effects"]) effect(*s, e, fmt::format("{}/effects[{}]", at, n++));
    }
    return s;
  }

  void effect(Segment& s, const Json& object, const std::string& at) {
    if (!object.is_object()) refuse("is not an object", at, "Remove it.");
    Effect e;
    e.foreign = object;
    const Json& mine = ours(object);
    e.id = text_or(mine, "id", fmt::format("{}-effect-{}", s.id, s.stack.size() + 1));
    e.enabled = flag_or(mine, "enabled", flag_or(object, "enabled", true));
    if (is_a(object, "LinearTimeWarp") || is_a(object, "FreezeFrame")) {
      const double scalar = is_a(object, "FreezeFrame") ? 0.0 : number_or(object, "time_scalar", 1.0);
      if (!std::isfinite(scalar) || std::abs(scalar) > 1000)
        refuse(fmt::format("the speed {} is outside −1000 to 1000", scalar), at, "Correct it.");
      s.speed = Ratio::near(scalar);
      e.type = "retime", e.ours = false;
    } else {
      e.type = text_or(object, "effect_name", "");
      const Json* params = object_at(mine, "params");
      e.ours = params != nullptr;
      if (params) e.params = *params;
      e.device = text_or(mine, "device", "");
    }
    s.stack.push_back(std::move(e));
  }

  SegmentPtr clip(const Json& object, const std::string& at) {
    auto s = segment(object, at);
    const Json* reference = active_reference(object);
    const Json* range = object_at(object, "source_range");
    const Json* available = reference ? object_at(*reference, "available_range") : nullptr;
    Time start;
    if (range && object_at(*range, "start_time"))
      start = time(*object_at(*range, "start_time"), at + ": source_range.start_time");
    if (!range && available && object_at(*available, "duration"))
      s->duration = length(time(*object_at(*available, "duration"), at + ": available_range"), at);
    if (reference && is_a(*reference, "GeneratorReference")) {
      s->content = Content::generator;
      s->ref = text_or(*reference, "generator_kind", "");
      if (s->ref == "adjustment") {
        s->content = Content::adjustment, s->ref = "";
        return s;
      }
      s->generator = reference->value("parameters", Json::object());
      return s;
    }
    if (!reference ||
        !(is_a(*reference, "ExternalReference") || is_a(*reference, "ImageSequenceReference"))) {
      s->content = Content::offline;
      s->ref = text_or(reference ? *reference : object, "name", s->name);
      return s;
    }
    const std::shared_ptr<const MediaSource> source = media(*reference, at);
    s->content = Content::source;
    s->ref = source->id;
    s->source_in = range && object_at(*range, "start_time")
                       ? rescale(std::llround(start.value), start.rate, source->rate) - source->start
                       : 0;
    return s;
  }

  static const Json* active_reference(const Json& clip) {
    if (const Json* all = object_at(clip, "media_references"))
      return object_at(*all, text_or(clip, "active_media_reference_key", "DEFAULT_MEDIA").c_str());
    return object_at(clip, "media_reference");  // Clip.1
  }

  /// Path pattern of an ImageSequenceReference, its numbers and rate left out.
  static std::string sequence_url(const Json& reference, const std::string& at) {
    const std::string prefix = text_or(reference, "name_prefix", ""),
                      suffix = text_or(reference, "name_suffix", "");
    const int padding = whole(reference, "frame_zero_padding", 0, 0, 12, at + ": frame_zero_padding");
    if (prefix.find('%') != std::string::npos || suffix.find('%') != std::string::npos)
      refuse("the name of an image sequence must not hold '%'", at, "Rename the files.");
    std::string base = text_or(reference, "target_url_base", "");
    if (!base.empty() && !base.ends_with('/')) base += '/';
    return base + prefix + fmt::format("%0{}d", std::max(1, padding)) + suffix;
  }

  std::shared_ptr<const MediaSource> media(const Json& reference, const std::string& at) {
    const bool sequence = is_a(reference, "ImageSequenceReference");
    const std::string url = sequence ? sequence_url(reference, at) : text_or(reference, "target_url", "");
    if (url.empty())
      refuse("names no file", at + ": target_url",
             "Relink the segment in the program that wrote the timeline.");
    if (const auto it = by_url_.find(url); it != by_url_.end()) return it->second;
    auto m = std::make_shared<MediaSource>();
    m->url = url;
    fs::path path = url.starts_with("file://") ? url.substr(7) : url;
    if (path.is_relative()) path = folder_ / path;
    m->path = path.lexically_normal().string();
    m->name = path.filename().string();
    m->id = fmt::format("media-{}", by_url_.size() + 1);
    m->rate = timeline_->rate;
    if (const Json* available = object_at(reference, "available_range")) {
      if (const Json* d = object_at(*available, "duration")) {
        const Time t = time(*d, at + ": available_range.duration");
        m->rate = t.rate;
        m->length = std::llround(t.value);
        if (m->length < 0)
          refuse("has a negative duration", at + ": available_range.duration", "Correct it.");
      }
      if (const Json* b = object_at(*available, "start_time")) {
        const Time t = time(*b, at + ": available_range.start_time");
        m->start = rescale(std::llround(t.value), t.rate, m->rate);
      }
    }
    m->colour_space = text_or(ours(reference), "colour_space", "");
    if (sequence) {
      const double first = number_or(reference, "start_frame", 1),
                   rate = number_or(reference, "rate", m->rate.fps());
      if (!(rate >= 0.01 && rate < 100000)) refuse("has no usable rate", at + ": rate", "Correct it.");
      m->rate = Rate::near(rate);
      if (m->length < 1) refuse("does not say how long it is", at + ": available_range", "Add its duration.");
      const auto start = static_cast<Frames>(std::clamp(first, -1e9, 1e9));
      m->path += fmt::format("#{}-{}@{}/{}", start, start + m->length - 1, m->rate.num, m->rate.den);
      m->url = url;
    }
    timeline_->sources.emplace(m->id, m);
    return by_url_.emplace(url, m).first->second;
  }

  /// A stack inside a track is a composition. Its id makes it shared: a later stack with the same id and no
  /// children is another use of it.
  SegmentPtr nested(const Json& object, const std::string& at) {
    auto s = segment(object, at);
    s->content = Content::composition;
    s->foreign.erase("children");
    const Json& mine = ours(object);
    const std::string id =
        text_or(mine, "composition",
                fmt::format("composition-{}", timeline_->compositions.size() + open_.size() + 1));
    s->ref = id;
    const bool has_children =
        object.contains("children") && object["children"].is_array() && !object["children"].empty();
    if (has_children && std::find(open_.begin(), open_.end(), id) != open_.end())
      refuse(fmt::format("the composition '{}' contains itself ({} → {})", id, fmt::join(open_, " → "), id),
             at, "Remove the inner use.");
    if (has_children && !timeline_->compositions.contains(id)) {
      open_.push_back(id);
      auto c = std::make_shared<Composition>();
      c->id = id, c->name = s->name;
      c->tracks = tracks(object, at);
      open_.pop_back();
      timeline_->compositions[id] = c;
    }
    if (const Json* range = object_at(object, "source_range")) {
      if (const Json* start = object_at(*range, "start_time"))
        s->source_in = frames(time(*start, at + ": source_range.start_time"), at);
    } else if (timeline_->compositions.contains(id)) {
      for (const TrackPtr& t : timeline_->compositions[id]->tracks)
        s->duration = std::max(s->duration, duration(*t));
    }
    return s;
  }

  void read_settings(const Json& mine) {
    Timeline& t = *timeline_;
    t.working_space = text_or(mine, "working_space", t.working_space);
    t.display_space = text_or(mine, "display_space", t.display_space);
    if (const Json* cards = object_at(mine, "cards"))
      for (const auto& [name, j] : cards->items()) {
        CostCard c;
        c.ms = std::clamp(number_or(j, "ms", 0), 0.0, 100000.0);
        c.width = whole(j, "width", c.width, 16, 32768, where_ + ": cards/" + name);
        c.height = whole(j, "height", c.height, 16, 32768, where_ + ": cards/" + name);
        c.device = text_or(j, "device", c.device);
        t.cards[name] = c;
      }
  }

  /// How a segment meets what is below it, and how its content meets the raster and the rate.
  void read_layer(Segment& s, const Json& mine) {
    s.blend = text_or(mine, "blend", s.blend);
    if (mine.contains("opacity") && (mine["opacity"].is_number() || mine["opacity"].is_object()))
      s.opacity = mine["opacity"];
    if (const Json* m = object_at(mine, "matte"))
      s.matte = {text_or(*m, "track", ""), text_or(*m, "kind", "alpha") == "luma",
                 flag_or(*m, "inverted", false)};
    s.fit = static_cast<Fit>(one_of(mine, "fit", kFits));
    s.between = static_cast<Between>(one_of(mine, "between", kBetweens));
  }

  void read_slips(const Json& mine) {
    if (!mine.contains("slips") || !mine["slips"].is_array()) return;
    for (const Json& j : mine["slips"]) {
      Slip s;
      s.id = text_or(j, "id", fmt::format("slip-{}", timeline_->slips.size() + 1));
      s.kind = text_or(j, "kind", "bypass");
      s.segment = text_or(j, "segment", ""), s.effect = text_or(j, "effect", "");
      s.opened = text_or(j, "opened", ""), s.lifted = text_or(j, "lifted", "");
      timeline_->slips.push_back(std::move(s));
    }
  }

  void check_cycles() const {
    std::set<std::string> done;
    for (const auto& [id, c] : timeline_->compositions) visit(*c, {}, done);
  }
  void visit(const Composition& c, std::vector<std::string> path, std::set<std::string>& done) const {
    if (std::find(path.begin(), path.end(), c.id) != path.end())
      refuse(
          fmt::format("the composition '{}' contains itself ({} → {})", c.id, fmt::join(path, " → "), c.id),
          where_, "Remove the inner use.");
    if (done.contains(c.id)) return;
    path.push_back(c.id);
    for (const TrackPtr& t : c.tracks)
      for (const Item& item : t->items)
        if (const auto* s = std::get_if<SegmentPtr>(&item); s && (*s)->content == Content::composition)
          if (const auto it = timeline_->compositions.find((*s)->ref); it != timeline_->compositions.end())
            visit(*it->second, path, done);
    done.insert(c.id);
  }

  std::string where_;
  fs::path folder_;
  std::shared_ptr<Timeline> timeline_;
  std::map<std::string, std::shared_ptr<const MediaSource>> by_url_;
  std::set<std::string> ids_;
  std::vector<std::string> open_;
  int track_count_ = 0, segment_count_ = 0, transition_count_ = 0;
};

}  // namespace

Result<TimelinePtr> timeline_from_otio(std::string_view text, const std::string& where,
                                       const fs::path& folder) {
  auto json = parse_json(text, where);
  if (!json) return std::unexpected(json.error());
  try {
    return Reader(where, folder).read(*json);
  } catch (const Bad& bad) {
    return std::unexpected(bad.error);
  } catch (const Json::exception& e) {
    return bad_input(std::string("a value has the wrong type: ") + e.what(), where,
                     "Export the timeline again.");
  }
}

Result<TimelinePtr> load_timeline(const fs::path& file) {
  auto text = read_file(file);
  if (!text) return std::unexpected(text.error());
  return timeline_from_otio(*text, file.string(), fs::absolute(file).parent_path());
}

}  // namespace gc
