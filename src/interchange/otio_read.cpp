#include <fmt/format.h>

#include <cmath>
#include <set>

#include "interchange/media_url.h"
#include "interchange/otio.h"
#include "interchange/otio_ours.h"
#include "interchange/otio_parts.h"

namespace gc {
namespace {

using namespace otio;

constexpr Frames kLongest = 500'000'000;  // frames of any one thing: 200 days at 30

class OtioReader {
 public:
  OtioReader(std::string where, fs::path folder, const ReadOptions& options)
      : where_(std::move(where)), folder_(std::move(folder)), options_(options) {}

  TimelinePtr read(const Json& document) {
    const Found found = chosen(document, where_, options_.timeline);
    const Json& root = document[Json::json_pointer(found.place)];
    const Json& mine = ours(root);
    if (number_or(mine, "version", kVersion) > kVersion)
      give_up(fmt::format("was written by a newer version (format {})", number_or(mine, "version", 0)), where_,
              "Update the program; the file was not changed.");
    const Json* stack = object_at(root, "tracks");
    if (!stack || !is_a(*stack, "Stack"))
      give_up("has no tracks", where_ + ": tracks", "Export the timeline again.");
    timeline_ = std::make_shared<Timeline>();
    Timeline& t = *timeline_;
    t.folder = folder_.string();
    t.name = text_or(root, "name", "Untitled");
    if (!found.place.empty()) t.collection = document, t.place = found.place;
    t.foreign = without(root, {"tracks"});
    t.foreign["tracks"] = without(*stack, {"children"});
    read_rate_and_start(root, *stack);
    try {
      t.width = whole(mine, "width", 1920, 16, 16384, where_ + ": width");
      t.height = whole(mine, "height", 1080, 16, 16384, where_ + ": height");
    } catch (const Bad& bad) {
      give_up(bad.error.what, bad.error.where, bad.error.remedy);
    }
    t.raster_stated = mine.contains("width") && mine.contains("height");
    t.drop_frame = mine.contains("drop_frame") && mine["drop_frame"].is_boolean()
                       ? std::optional(mine["drop_frame"].get<bool>())
                   : root.contains("metadata") ? find_drop_frame(root["metadata"])
                                               : std::nullopt;
    read_settings(t, mine);
    note_stated(*stack);
    t.tracks = tracks(*stack, where_ + ": tracks");
    trim(*stack);
    effects_not_played(*stack, "the whole timeline");
    read_rendering(t, mine);
    read_slips(t, mine);
    read_acceptances(t, mine);
    check_cycles();
    take_raster_from_media();
    return timeline_;
  }

 private:
  void remark(std::string sentence) {
    // Of a thousand alike a handful is enough.
    constexpr std::size_t kMost = 200;
    if (timeline_->remarks.size() < kMost) timeline_->remarks.push_back(std::move(sentence));
  }

  std::optional<MediaFacts> ask(const std::string& path) {
    if (!options_.ask || path.empty()) return {};
    const auto [it, fresh] = asked_.try_emplace(path);
    if (fresh) it->second = options_.ask(path);
    return it->second;
  }

  /// The rate is ours when we wrote it, else that of the start time, else that which most lengths are stated in, else
  /// that of most media.
  void read_rate_and_start(const Json& root, const Json& stack) {
    Timeline& t = *timeline_;
    const Json* start = object_at(root, "global_start_time");
    const double own = number_or(ours(root), "rate", 0), of_start = start ? number_or(*start, "rate", 0) : 0;
    if (own > 0 && own < 100000) {
      t.rate = Rate::near(own);
    } else if (of_start >= 0.01 && of_start < 100000) {
      t.rate = Rate::near(of_start);
    } else {
      t.rate_stated = false;
      std::map<std::pair<std::int64_t, std::int64_t>, int> lengths, media;
      count_rates(stack, lengths, media, 0);
      const auto most = [](const auto& all) {
        return std::max_element(all.begin(), all.end(), [](const auto& a, const auto& b) { return a.second < b.second; })
            ->first;
      };
      const bool from_media = lengths.empty() && !media.empty();
      if (!lengths.empty() || from_media) {
        const auto [num, den] = most(from_media ? media : lengths);
        t.rate = {num, den};
      }
      remark(fmt::format("The file states no rate; {:.6g} frames a second is {}. It can be set.", t.rate.fps(),
                         from_media ? "that of most of its media"
                         : lengths.empty() ? "taken"
                                           : "that of most of its segments"));
    }
    if (!start) return;
    try {
      t.start = frames(time_of(*start, where_ + ": global_start_time"), where_);
    } catch (const Bad& bad) {
      remark(fmt::format("The start time {}; the timeline starts at 0.", bad.error.what));
    }
  }

  template <class Counts>
  void count_rates(const Json& node, Counts& lengths, Counts& media, int depth) {
    if (!node.is_object() || depth > 40 || !node.contains("children") || !node["children"].is_array()) return;
    for (const Json& child : node["children"]) {
      if (!child.is_object()) continue;
      const Json* range = object_at(child, "source_range");
      const Json* d = range ? object_at(*range, "duration") : nullptr;
      if (const double r = d ? number_or(*d, "rate", 0) : 0; r >= 0.01 && r < 100000) {
        const Rate rate = Rate::near(r);
        ++lengths[{rate.num, rate.den}];
      } else if (is_a(child, "Clip")) {
        if (const Json* reference = active_reference(child); reference && is_a(*reference, "ExternalReference"))
          if (const auto facts = ask(path_of_url(text_or(*reference, "target_url", ""), folder_).path);
              facts && !facts->still)
            ++media[{facts->rate.num, facts->rate.den}];
      }
      count_rates(child, lengths, media, depth + 1);
    }
  }

  void take_raster_from_media() {
    Timeline& t = *timeline_;
    if (t.raster_stated || !options_.ask) return;
    std::map<std::pair<int, int>, int> rasters;
    for (const auto& [id, m] : t.sources)
      if (const auto facts = ask(m->path); facts && facts->width >= 16 && facts->height >= 16)
        ++rasters[{facts->width, facts->height}];
    if (rasters.empty()) {
      remark(fmt::format("The file states no raster, and no media are there to take it from; {}×{} is used. It can be "
                         "set.",
                         t.width, t.height));
      return;
    }
    std::tie(t.width, t.height) =
        std::max_element(rasters.begin(), rasters.end(), [](const auto& a, const auto& b) { return a.second < b.second; })
            ->first;
    remark(fmt::format("The file states no raster; {}×{} is that of most of its media. It can be set.", t.width,
                       t.height));
  }

  /// What says that it is cut to a part of itself plays as a composition of which that part is used.
  void trim(const Json& stack) {
    const Json* range = object_at(stack, "source_range");
    if (!range || timeline_->tracks.empty()) return;
    auto c = std::make_shared<Composition>();
    c->id = free_composition(), c->name = "The whole timeline";
    c->tracks = std::move(timeline_->tracks);
    timeline_->tracks = {trimmed(c, *range, where_ + ": tracks", "_whole")};
  }

  /// A track of one segment that shows a part of a composition. `mark` tells the writer what it stands for.
  TrackPtr trimmed(const std::shared_ptr<Composition>& c, const Json& range, const std::string& at, const char* mark) {
    auto s = std::make_shared<Segment>();
    s->id = unique_id(Json::object(), fmt::format("segment-{}", ++segment_count_));
    s->name = c->name, s->content = Content::composition, s->ref = c->id;
    if (const Json* start = object_at(range, "start_time")) s->source_in = frames(time_of(*start, at), at);
    if (const Json* d = object_at(range, "duration")) s->duration = length(time_of(*d, at), at);
    timeline_->compositions[c->id] = c;
    auto t = std::make_shared<Track>();
    t->id = unique_id(Json::object(), fmt::format("track-{}", ++track_count_));
    t->name = c->name;
    t->foreign = {{mark, true}};
    t->items.emplace_back(SegmentPtr(std::move(s)));
    return t;
  }

  /// Names of compositions that the document has: none of them is free.
  void note_stated(const Json& node, int depth = 0) {
    if (depth > 200 || !node.is_structured()) return;
    if (node.is_object())
      if (const std::string id = text_or(ours(node), "composition", ""); !id.empty()) stated_.insert(id);
    for (const Json& inner : node) note_stated(inner, depth + 1);
  }

  std::string free_composition() {
    std::string id;
    do id = fmt::format("composition-{}", ++composition_count_);
    while (stated_.contains(id) || timeline_->compositions.contains(id) ||
           std::find(open_.begin(), open_.end(), id) != open_.end());
    return id;
  }

  void effects_not_played(const Json& object, const std::string& of) {
    if (object.contains("effects") && object["effects"].is_array() && !object["effects"].empty())
      remark(fmt::format("The {} effect{} of {} {} not played; segments' own effects are.", object["effects"].size(),
                         object["effects"].size() == 1 ? "" : "s", of, object["effects"].size() == 1 ? "is" : "are"));
  }

  /// Names repeat in hand-made files; ids must not.
  std::string unique_id(const Json& mine, const std::string& fallback) {
    const std::string wanted = text_or(mine, "id", fallback);
    std::string id = wanted;
    for (int n = 2; !ids_.insert(id).second; ++n) id = fmt::format("{}-{}", wanted, n);
    return id;
  }

  Frames frames(const Time& t, const std::string& at) const {
    const Frames f = at_rate(t, timeline_->rate);
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

  std::vector<TrackPtr> tracks(const Json& stack, const std::string& at) {
    std::vector<TrackPtr> all;
    if (!stack.contains("children")) return all;
    if (!stack["children"].is_array()) give_up("is not a list", at + "/children", "Export the timeline again.");
    int n = 0;
    for (const Json& child : stack["children"]) {
      const std::string here = fmt::format("{}/children[{}]", at, n++);
      if (child.is_object() && is_a(child, "Track")) {
        all.push_back(shown_part(track(child, here), child, here));
      } else {
        // A stack may hold an item directly; it is a track of one item.
        auto one = std::make_shared<Track>();
        one->id = unique_id(Json::object(), fmt::format("track-{}", all.size() + 1));
        one->name = child.is_object() ? text_or(child, "name", one->id) : one->id;
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
    const std::string kind = text_or(object, "kind", "Video");
    t->video = kind == "Video" || kind.empty();
    if (!t->video && kind != "Audio")
      remark(fmt::format("{}: tracks of kind '{}' are not known; it is kept, and shows nothing.", at, kind));
    t->enabled = flag_or(object, "enabled", true);
    t->matte_only = flag_or(ours(object), "matte_only", false);
    t->foreign = without(object, {"children"});
    if (t->video) effects_not_played(object, fmt::format("the track '{}'", t->name));
    if (!object.contains("children")) return t;
    if (!object["children"].is_array()) {
      t->foreign["children"] = object["children"];
      remark(fmt::format("{}: what it holds is not a list; it is kept, and shows nothing.", at));
      return t;
    }
    int n = 0;
    for (const Json& child : object["children"]) t->items.push_back(item(child, fmt::format("{}/children[{}]", at, n++)));
    if (duration(*t) > kLongest) give_up("is longer than a timeline can be", at, "Shorten it.");
    return t;
  }

  /// A track that says which part of it is used is a composition of which that part is shown.
  TrackPtr shown_part(TrackPtr track, const Json& object, const std::string& at) {
    const Json* range = object_at(object, "source_range");
    if (!range || !track->video) return track;
    auto c = std::make_shared<Composition>();
    c->id = free_composition(), c->name = track->name;
    c->tracks = {track};
    try {
      auto part = std::make_shared<Track>(*trimmed(c, *range, at + ": source_range", "_part"));
      part->enabled = track->enabled, part->matte_only = track->matte_only;
      return part;
    } catch (const Bad& bad) {
      remark(fmt::format("{}: which part of the track is used {}; all of it is shown.", bad.error.where, bad.error.what));
      return track;
    }
  }

  /// Whatever is wrong with it stays with it.
  Item item(const Json& object, const std::string& at) {
    try {
      return understood(object, at);
    } catch (const Bad& bad) {
      return offline(object, at, bad.error);
    } catch (const Json::exception&) {
      return offline(object, at, Error{Fault::bad_input, "a value has the wrong type", at, "Export it again."});
    }
  }

  Item offline(const Json& object, const std::string& at, const Error& why) {
    const std::string what = why.what.ends_with('.') ? why.what : why.what + ".";
    remark(fmt::format("{}: {} It is kept, and is offline.", at, what));
    const bool clip = object.is_object() && (is_a(object, "Clip") || is_a(object, "Stack") || is_a(object, "Track"));
    Frames length = 0;
    try {
      if (object.is_object()) length = ranged_length(object, at);
      const Json* reference = clip && length == 0 ? active_reference(object) : nullptr;
      const Json* available = reference ? object_at(*reference, "available_range") : nullptr;
      if (const Json* d = available ? object_at(*available, "duration") : nullptr) length = this->length(time_of(*d, at), at);
    } catch (const Bad&) {
      // Then its length is not known either.
    }
    if (!clip) return Opaque{length, object.is_object() ? schema_of(object) : "", object};
    auto s = std::make_shared<Segment>();
    s->id = unique_id(ours(object), fmt::format("segment-{}", ++segment_count_));
    s->name = text_or(object, "name", s->id);
    s->enabled = flag_or(object, "enabled", true);
    s->content = Content::offline, s->ref = s->name, s->duration = length;
    s->trouble = fmt::format("{}: {} {}", at, what, why.remedy);
    s->foreign = object;
    return SegmentPtr(std::move(s));
  }

  Item understood(const Json& object, const std::string& at) {
    if (!object.is_object()) refuse("is not an object", at, "Export the timeline again.");
    if (is_a(object, "Clip")) return clip(object, at);
    if (is_a(object, "Stack") || is_a(object, "Track")) return nested(object, at);
    if (is_a(object, "Gap")) return Gap{ranged_length(object, at), object};
    if (is_a(object, "Transition")) {
      Transition t;
      t.id = unique_id(ours(object), fmt::format("transition-{}", ++transition_count_));
      t.kind = text_or(object, "transition_type", "SMPTE_Dissolve") == "SMPTE_Dissolve"
                   ? "dissolve"
                   : text_or(ours(object), "kind", text_or(object, "transition_type", ""));
      if (const Json* params = object_at(ours(object), "params")) t.params = *params;
      if (const Json* in = object_at(object, "in_offset"))
        t.in_offset = length(time_of(*in, at + ": in_offset"), at);
      if (const Json* out = object_at(object, "out_offset"))
        t.out_offset = length(time_of(*out, at + ": out_offset"), at);
      t.foreign = object;
      if (t.kind != "dissolve" && t.kind != "dip" && t.kind != "wipe" && t.kind != "morph")
        remark(fmt::format("{}: the transition '{}' is not known and plays as a dissolve.", at, t.kind));
      return t;
    }
    Opaque o{ranged_length(object, at), schema_of(object), object};
    remark(fmt::format("{}: items of schema '{}' are not understood; they are kept, and play as a gap.", at,
                       o.schema.empty() ? "none" : o.schema));
    return o;
  }

  Frames ranged_length(const Json& object, const std::string& at) const {
    const Json* range = object_at(object, "source_range");
    const Json* d = range ? object_at(*range, "duration") : nullptr;
    return d ? length(time_of(*d, at + ": source_range.duration"), at) : 0;
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
    const Json* reference = active_reference(object);
    const Json* range = object_at(object, "source_range");
    const Json* available = reference ? object_at(*reference, "available_range") : nullptr;
    // Looked at before an id is taken: what cannot be understood is made anew as offline.
    std::optional<Time> start, own_length, available_start, available_length;
    if (range && object_at(*range, "start_time"))
      start = time_of(*object_at(*range, "start_time"), at + ": source_range.start_time");
    if (range && object_at(*range, "duration"))
      own_length = time_of(*object_at(*range, "duration"), at + ": source_range.duration");
    if (available && object_at(*available, "start_time"))
      available_start = time_of(*object_at(*available, "start_time"), at + ": available_range.start_time");
    if (available && object_at(*available, "duration"))
      available_length = time_of(*object_at(*available, "duration"), at + ": available_range.duration");
    const bool generates = reference && is_a(*reference, "GeneratorReference");
    const bool has_media = reference && (is_a(*reference, "ExternalReference") ||
                                         is_a(*reference, "ImageSequenceReference"));
    const std::shared_ptr<const MediaSource> source = has_media ? media(*reference, at) : nullptr;
    std::optional<MediaFacts> facts;
    if (source && (!available_length || !own_length)) facts = ask(source->path);
    if (!own_length && available_length) own_length = available_length;
    if (!own_length && facts && facts->frames > 0 && !facts->still)
      own_length = Time{static_cast<double>(facts->frames), facts->rate};
    if (!own_length)
      refuse("does not say how long it is, and its media cannot be asked", at,
             "Bring its media back, or give it a source_range.");
    if (own_length->value < 0) refuse("has a negative duration", at, "Give it a duration of 0 or more.");
    auto s = segment(object, at);
    s->duration = length(*own_length, at);
    if (generates) {
      s->content = Content::generator;
      s->ref = text_or(*reference, "generator_kind", "");
      if (s->ref == "adjustment") {
        s->content = Content::adjustment, s->ref = "";
        return s;
      }
      s->generator = reference->value("parameters", Json::object());
      return s;
    }
    if (!has_media) {
      s->content = Content::offline;
      s->ref = text_or(reference ? *reference : object, "name", s->name);
      return s;
    }
    s->content = Content::source;
    s->ref = source->id;
    read_angles(*s, object, at);
    place_in_source(*s, *source, start, available_start, available_length);
    return s;
  }

  /// Where in its media a clip starts. By the standard that is counted from the available range's start; where there is
  /// none, in the media's own time: its timecode, or from 0. What lies outside the media by the first reading and inside
  /// by another one is meant by that.
  void place_in_source(Segment& s, const MediaSource& source, const std::optional<Time>& start,
                       const std::optional<Time>& available_start, const std::optional<Time>& available_length) {
    if (!start) return;
    const bool whole_count = std::abs(start->value - std::round(start->value)) < 1e-4;
    const Rate rate = whole_count ? start->rate : source.rate;
    const Frames at = at_rate(*start, rate);
    std::vector<Frames> readings;
    if (available_start || available_length)
      readings.push_back(at - (available_start ? rescale(std::llround(available_start->value), available_start->rate, rate) : 0));
    s.source_rate = rate;
    const Frames known = available_length ? rescale(std::llround(available_length->value), available_length->rate, rate) : 0;
    if (!readings.empty() && readings[0] >= 0 && (known == 0 || readings[0] < known)) {
      s.source_in = readings[0];
      return;
    }
    const auto facts = ask(source.path);
    if (facts && facts->timecode >= 0) readings.push_back(at - rescale(facts->timecode, facts->rate, rate));
    readings.push_back(at);
    s.source_in = readings[0];
    if (!facts || facts->frames <= 0) return;
    const Frames all = rescale(facts->frames, facts->rate, rate);
    for (const Frames r : readings)
      if (r >= 0 && r < all) {
        s.source_in = r;
        return;
      }
  }

  /// Several media of one moment. What cannot be used of the others is no angle; the clip plays as it would without them.
  void read_angles(Segment& s, const Json& clip, const std::string& at) {
    const Json* all = object_at(clip, "media_references");
    if (!all || all->size() < 2) return;
    for (const auto& [key, reference] : all->items()) {
      if (!reference.is_object() || !(is_a(reference, "ExternalReference") || is_a(reference, "ImageSequenceReference"))) continue;
      try {
        s.angles[key] = media(reference, at)->id;
      } catch (const Bad&) {
      }
    }
    s.angle = text_or(clip, "active_media_reference_key", "DEFAULT_MEDIA");
    if (s.angles.size() < 2 || !s.angles.contains(s.angle)) s.angles.clear(), s.angle.clear();
  }

  std::shared_ptr<const MediaSource> media(const Json& reference, const std::string& at) {
    const bool sequence = is_a(reference, "ImageSequenceReference");
    const std::string url = sequence ? sequence_url(reference, at) : text_or(reference, "target_url", "");
    if (url.empty())
      refuse("names no file", at + ": target_url", "Relink the segment in the program that wrote the timeline.");
    // The same file may be stated differently: at another rate, or with other numbers.
    Json stated = without(reference, {"metadata", "name"});
    const std::string key = stated.dump(-1, ' ', false, Json::error_handler_t::replace) + ours(reference).dump();
    if (const auto it = by_reference_.find(key); it != by_reference_.end()) return it->second;
    const MediaPath found = path_of_url(sequence ? percent_kept(url) : url, folder_);
    if (found.path.empty()) refuse(found.remark, at + ": target_url", "Its segments are offline until then.");
    auto m = std::make_shared<MediaSource>();
    m->url = url;
    m->path = found.path;
    m->name = fs::path(m->path).filename().string();
    m->rate = timeline_->rate;
    const Json* available = object_at(reference, "available_range");
    const Json* d = available ? object_at(*available, "duration") : nullptr;
    if (d) {
      const Time t = time_of(*d, at + ": available_range.duration");
      m->rate = t.rate;
      m->length = std::llround(t.value);
      if (m->length < 0) refuse("has a negative duration", at + ": available_range.duration", "Correct it.");
    } else if (!sequence) {
      if (const auto facts = ask(m->path)) m->rate = facts->rate, m->length = facts->frames;
    }
    if (const Json* b = available ? object_at(*available, "start_time") : nullptr) {
      const Time t = time_of(*b, at + ": available_range.start_time");
      m->start = rescale(std::llround(t.value), t.rate, m->rate);
    }
    m->colour_space = text_or(ours(reference), "colour_space", "");
    if (sequence) name_sequence(*m, reference, at);
    m->id = fmt::format("media-{}", ++media_count_);
    timeline_->sources.emplace(m->id, m);
    return by_reference_.emplace(key, m).first->second;
  }

  /// The numbers of a sequence's files, its rate, and what stands for one that is missing.
  void name_sequence(MediaSource& m, const Json& reference, const std::string& at) {
    const double first = number_or(reference, "start_frame", 1),
                 rate = number_or(reference, "rate", m.rate.fps()), every = number_or(reference, "frame_step", 1);
    if (!(rate >= 0.01 && rate < 100000)) refuse("has no usable rate", at + ": rate", "Correct it.");
    if (m.length < 1) refuse("does not say how long it is", at + ": available_range", "Add its duration.");
    if (m.length > 10'000'000) refuse("is longer than a sequence can be", at + ": available_range", "Correct it.");
    m.length = rescale(m.length, m.rate, Rate::near(rate));
    m.rate = Rate::near(rate);
    const auto start = static_cast<Frames>(std::clamp(first, -1e9, 1e9));
    const auto step = static_cast<Frames>(std::clamp(every, 1.0, 1e6));
    // By the standard the files of a range lie `step` apart, and the range counts them.
    m.path += fmt::format("#{}-{}{}@{}/{}", start, start + (m.length - 1) * step, step > 1 ? fmt::format("*{}", step) : "",
                          m.rate.num, m.rate.den);
    const std::string missing = text_or(reference, "missing_frame_policy", "error");
    if (missing == "hold" || missing == "black") m.path += ";" + missing;
  }

  /// A stack inside a track is a composition. Its id makes it shared: a later stack with the same id and no
  /// children is another use of it.
  SegmentPtr nested(const Json& object, const std::string& at) {
    const Json& mine = ours(object);
    const bool has_children =
        object.contains("children") && object["children"].is_array() && !object["children"].empty();
    const std::string stated = text_or(mine, "composition", "");
    const std::string children = has_children ? object["children"].dump(-1, ' ', false, Json::error_handler_t::replace) : "";
    // Two that claim to be the same and are not are two.
    const auto known = made_of_.find(stated);
    const bool same = !has_children || known == made_of_.end() || known->second == children;
    const std::string id = stated.empty() || !same ? free_composition() : stated;
    if (has_children && std::find(open_.begin(), open_.end(), id) != open_.end())
      give_up(fmt::format("the composition '{}' contains itself ({} → {})", id, fmt::join(open_, " → "), id), at,
              "Remove the inner use.");
    if (open_.size() > 60) refuse("lies too deep: compositions in compositions, more than 60", at, "Flatten it.");
    auto s = segment(object, at);
    s->content = Content::composition;
    if (has_children) s->foreign.erase("children");
    s->ref = id;
    if (has_children && !timeline_->compositions.contains(id)) {
      open_.push_back(id);
      auto c = std::make_shared<Composition>();
      c->id = id, c->name = s->name;
      if (is_a(object, "Track")) c->tracks = {track(without(object, {"source_range", "effects"}), at)};
      else c->tracks = tracks(object, at);
      open_.pop_back();
      timeline_->compositions[id] = c;
      made_of_[id] = children;
    }
    if (const Json* range = object_at(object, "source_range")) {
      if (const Json* start = object_at(*range, "start_time"))
        s->source_in = frames(time_of(*start, at + ": source_range.start_time"), at);
    } else if (timeline_->compositions.contains(id)) {
      for (const TrackPtr& t : timeline_->compositions[id]->tracks)
        s->duration = std::max(s->duration, duration(*t));
    }
    return s;
  }

  void check_cycles() const {
    std::set<std::string> done;
    for (const auto& [id, c] : timeline_->compositions) visit(*c, {}, done);
  }
  void visit(const Composition& c, std::vector<std::string> path, std::set<std::string>& done) const {
    if (std::find(path.begin(), path.end(), c.id) != path.end())
      give_up(
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
  ReadOptions options_;
  std::map<std::string, std::optional<MediaFacts>> asked_;
  std::map<std::string, std::shared_ptr<const MediaSource>> by_reference_;
  std::map<std::string, std::string> made_of_;  ///< by composition: what it was read from
  std::set<std::string> ids_, stated_;
  std::vector<std::string> open_;
  int track_count_ = 0, segment_count_ = 0, transition_count_ = 0, composition_count_ = 0, media_count_ = 0;
};

}  // namespace

Result<TimelinePtr> timeline_from_otio(std::string_view text, const std::string& where,
                                       const fs::path& folder, const ReadOptions& options) {
  auto json = parse_json(text, where);
  if (!json) return std::unexpected(json.error());
  try {
    return OtioReader(where, folder, options).read(*json);
  } catch (const Bad& bad) {
    return std::unexpected(bad.error);
  } catch (const Unusable& unusable) {
    return std::unexpected(unusable.error);
  } catch (const Json::exception& e) {
    return bad_input(std::string("a value has the wrong type: ") + e.what(), where,
                     "Export the timeline again.");
  }
}

Result<TimelinePtr> load_timeline(const fs::path& file, const ReadOptions& options) {
  auto text = read_file(file);
  if (!text) return std::unexpected(text.error());
  return timeline_from_otio(*text, file.string(), fs::absolute(file).parent_path(), options);
}

Result<TimelinePtr> with_rate(const Timeline& timeline, Rate rate, const ReadOptions& options) {
  Timeline at = timeline;
  at.rate = rate;
  ReadOptions same = options;
  same.timeline = timeline.place;
  return timeline_from_otio(timeline_to_otio(at), timeline.name, timeline.folder, same);
}

std::vector<std::string> timelines_in(std::string_view text) {
  std::vector<std::string> names;
  const auto json = parse_json(text, "");
  std::vector<Found> all;
  if (json) find_timelines(*json, "", all);
  for (const Found& f : all) names.push_back(f.name);
  return names;
}

}  // namespace gc
