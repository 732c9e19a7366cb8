#include <set>

#include "interchange/otio.h"
#include "interchange/otio_words.h"

namespace gc {
namespace {

using namespace otio;

class Writer {
 public:
  explicit Writer(const Timeline& t) : t_(t) {}

  Json write() {
    Json root = t_.foreign.is_object() ? t_.foreign : Json::object();
    const bool as_read = root.contains("OTIO_SCHEMA");
    root["OTIO_SCHEMA"] = root.value("OTIO_SCHEMA", "Timeline.1");
    if (text_or(root, "name", "Untitled") != t_.name || !as_read) root["name"] = t_.name;
    if (!as_read) root["global_start_time"] = time(t_.start);
    Json& mine = ours(root);
    mine["version"] = kVersion;
    mine["rate"] = t_.rate.fps();
    mine["width"] = t_.width, mine["height"] = t_.height;
    if (t_.drop_frame) mine["drop_frame"] = *t_.drop_frame;
    put(mine, "working_space", t_.working_space, std::string("Rec. 709"));
    put(mine, "display_space", t_.display_space, std::string("Rec. 709"));
    mine.erase("cards");
    for (const auto& [name, c] : t_.cards)
      mine["cards"][name] = {{"ms", c.ms}, {"width", c.width}, {"height", c.height}, {"device", c.device}};
    put(mine, "render_form", t_.render_form, std::string());
    mine.erase("home");
    for (const auto& [inside, original] : t_.home) mine["home"][inside] = original;
    mine["slips"] = Json::array();
    for (const Slip& s : t_.slips) {
      Json j{{"id", s.id}, {"kind", s.kind}, {"segment", s.segment}, {"effect", s.effect}, {"opened", s.opened}, {"lifted", s.lifted}};
      put(j, "subject", s.subject, std::string()), put(j, "size", s.size, 1), put(j, "in", s.in, Frames{0}), put(j, "out", s.out, Frames{0});
      put(j, "who", s.who, std::string()), put(j, "why", s.why, std::string()), put(j, "until", s.until, std::string());
      if (s.region != std::array<int, 4>{}) j["region"] = s.region;
      mine["slips"].push_back(std::move(j));
    }
    mine.erase("acceptances");
    for (const Acceptance& a : t_.acceptances)
      mine["acceptances"].push_back({{"item", a.item}, {"of", a.of}, {"at", a.at}, {"who", a.who}, {"why", a.why}});
    Json stack = root.contains("tracks") && root["tracks"].is_object() ? root["tracks"] : Json::object();
    stack["OTIO_SCHEMA"] = stack.value("OTIO_SCHEMA", "Stack.1");
    // A timeline that shows a part of itself was read as a composition.
    const bool part = t_.tracks.size() == 1 && stands_for_part(*t_.tracks.front(), "_whole");
    stack["children"] = tracks(part ? composition_of(*t_.tracks.front())->tracks : t_.tracks);
    root["tracks"] = std::move(stack);
    if (t_.collection.is_null()) return root;
    Json document = t_.collection;
    document[Json::json_pointer(t_.place)] = std::move(root);
    return document;
  }

 private:
  /// Our part of an object's metadata; what else stands there stays.
  static Json& ours(Json& object) {
    Json& metadata = object["metadata"];
    if (!metadata.is_object()) metadata = Json::object();
    Json& mine = metadata[kOurs];
    if (!mine.is_object()) mine = Json::object();
    return mine;
  }
  static bool stands_for_part(const Track& t, const char* mark) {
    return t.foreign.is_object() && t.foreign.contains(mark);
  }
  std::shared_ptr<const Composition> composition_of(const Track& part) const {
    return t_.compositions.at(std::get<SegmentPtr>(part.items.front())->ref);
  }
  /// A value, unless what was read means it already.
  static void put_flag(Json& o, const char* key, bool value) {
    if (flag_or(o, key, true) != value) o[key] = value;
  }

  Json time(Frames f) const {
    return {{"OTIO_SCHEMA", "RationalTime.1"}, {"rate", t_.rate.fps()}, {"value", static_cast<double>(f)}};
  }
  static Json time(Frames f, Rate rate) {
    return {{"OTIO_SCHEMA", "RationalTime.1"}, {"rate", rate.fps()}, {"value", static_cast<double>(f)}};
  }
  Json range(Json start, Json length) const {
    return {
        {"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", std::move(start)}, {"duration", std::move(length)}};
  }

  /// Writes a field unless it has its usual value and was not there before.
  template <class T>
  static void put(Json& object, const char* key, const T& value, const T& usual) {
    if (value != usual || object.contains(key)) object[key] = value;
  }

  static void layer(Json& mine, const Segment& s) {
    put(mine, "blend", s.blend, std::string("normal"));
    if (s.opacity != Json(1.0) || mine.contains("opacity")) mine["opacity"] = s.opacity;
    if (!s.matte.track.empty())
      mine["matte"] = {{"track", s.matte.track},
                       {"kind", s.matte.luma ? "luma" : "alpha"},
                       {"inverted", s.matte.inverted}};
    else mine.erase("matte");
    put(mine, "fit", std::string(kFits.begin()[static_cast<std::size_t>(s.fit)]), std::string("fit"));
    put(mine, "between", std::string(kBetweens.begin()[static_cast<std::size_t>(s.between)]),
        std::string("nearest"));
    put(mine, "truth", std::string(truth_name(s.truth)), std::string("picture"));
  }

  Json reference(const MediaSource& m) const {
    Json r = {{"name", m.name}, {"available_range", range(time(m.start, m.rate), time(m.length, m.rate))}};
    const auto mark = m.url.rfind('%');
    const auto hash = m.path.rfind('#');
    // "name.%04d.exr#1-96@24/1": a file may have these letters in its name too, but not all of them in this order.
    const auto number = m.path.rfind("%0", hash);
    if (mark != std::string::npos && hash != std::string::npos && number != std::string::npos && m.path.find('@', hash) != std::string::npos) {
      const auto slash = m.url.rfind('/', mark), name = slash == std::string::npos ? 0 : slash + 1;
      const auto end = m.url.find('d', mark);
      r["OTIO_SCHEMA"] = "ImageSequenceReference.1";
      r["target_url_base"] = m.url.substr(0, name);
      r["name_prefix"] = m.url.substr(name, mark - name);
      r["name_suffix"] = m.url.substr(end + 1);
      r["frame_zero_padding"] = std::atoi(m.url.c_str() + mark + 1);
      r["start_frame"] = std::atoll(m.path.c_str() + hash + 1);
      r["frame_step"] = 1, r["rate"] = m.rate.fps(), r["missing_frame_policy"] = "error";
    } else {
      r["OTIO_SCHEMA"] = "ExternalReference.1";
      r["target_url"] = m.url;
    }
    if (!m.colour_space.empty()) r["metadata"][kOurs]["colour_space"] = m.colour_space;
    return r;
  }

  static Json track(const Track& t) {
    Json o = t.foreign.is_object() ? t.foreign : Json::object();
    const bool as_read = o.contains("OTIO_SCHEMA");
    o["OTIO_SCHEMA"] = o.value("OTIO_SCHEMA", "Track.1");
    if (!as_read || text_or(o, "name", t.id) != t.name) o["name"] = t.name;
    if (!as_read) o["kind"] = t.video ? "Video" : "Audio";
    put_flag(o, "enabled", t.enabled);
    ours(o)["id"] = t.id;
    put(ours(o), "matte_only", t.matte_only, false);
    return o;
  }

  Json tracks(const std::vector<TrackPtr>& all) {
    Json list = Json::array();
    for (const TrackPtr& t : all) {
      if (t->foreign.is_object() && t->foreign.contains("_bare")) {
        list.push_back(item(t->items.front()));
        continue;
      }
      if (stands_for_part(*t, "_part")) {
        Json inner = tracks(composition_of(*t)->tracks).front();
        put_flag(inner, "enabled", t->enabled);
        list.push_back(std::move(inner));
        continue;
      }
      Json o = track(*t);
      if (!o.contains("children")) {
        o["children"] = Json::array();
        for (const Item& i : t->items) o["children"].push_back(item(i));
      }
      list.push_back(std::move(o));
    }
    return list;
  }

  Json item(const Item& item) {
    if (const auto* s = std::get_if<SegmentPtr>(&item)) return segment(**s);
    if (const auto* g = std::get_if<Gap>(&item)) return with_length(g->foreign, "Gap.1", g->duration);
    if (const auto* t = std::get_if<Transition>(&item)) {
      Json o = t->foreign.is_object() ? t->foreign : Json::object();
      if (o.contains("OTIO_SCHEMA")) return o;  // as read: nothing of it can be edited yet
      o = {{"OTIO_SCHEMA", "Transition.1"},
           {"name", ""},
           {"transition_type", t->kind == "dissolve" ? "SMPTE_Dissolve" : "Custom_Transition"},
           {"in_offset", time(t->in_offset)},
           {"out_offset", time(t->out_offset)}};
      o["metadata"][kOurs]["id"] = t->id;
      if (t->kind != "dissolve") o["metadata"][kOurs]["kind"] = t->kind;
      if (!t->params.empty()) o["metadata"][kOurs]["params"] = t->params;
      return o;
    }
    return std::get<Opaque>(item).foreign;
  }

  Json with_length(const Json& foreign, const char* schema, Frames length) const {
    if (foreign.is_object() && foreign.contains("OTIO_SCHEMA")) return foreign;
    return {{"OTIO_SCHEMA", schema}, {"name", ""}, {"source_range", range(time(0), time(length))}};
  }

  Json segment(const Segment& s) {
    const bool as_read = s.foreign.is_object() && s.foreign.contains("OTIO_SCHEMA");
    Json o = as_read ? s.foreign : Json::object();
    if (!as_read) o["OTIO_SCHEMA"] = s.content == Content::composition ? "Stack.1" : "Clip.2";
    if (!as_read || text_or(o, "name", s.id) != s.name) o["name"] = s.name;
    put_flag(o, "enabled", s.enabled);
    Json& mine = ours(o);
    mine["id"] = s.id;
    if (!s.note.empty()) mine["note"] = s.note;
    if (!s.trouble.empty() && as_read) return o;  // what was not understood
    layer(mine, s);
    Json effects = Json::array();
    const bool retimed =
        std::any_of(s.stack.begin(), s.stack.end(), [](const Effect& e) { return e.type == "retime"; });
    if (s.speed != Ratio{} && !retimed) effects.push_back(time_warp(s.speed));
    for (const Effect& e : s.stack) effects.push_back(effect(e));
    if (!effects.empty() || (o.contains("effects") && o["effects"].is_array())) o["effects"] = std::move(effects);
    if (s.content == Content::composition) {
      // Written out at its first use; later uses are references by id.
      const auto it = t_.compositions.find(s.ref);
      const bool whole = it != t_.compositions.end() && written_.insert(s.ref).second;
      const bool is_track = as_read && text_or(o, "OTIO_SCHEMA", "").starts_with("Track.");
      Json children = Json::array();
      if (whole && is_track)
        for (const Item& i : it->second->tracks.front()->items) children.push_back(item(i));
      else if (whole) children = tracks(it->second->tracks);
      if (!children.empty() || !o.contains("children")) o["children"] = std::move(children);
      ours(o)["composition"] = s.ref;
    }
    if (as_read) {
      if (!s.angle.empty() && text_or(o, "active_media_reference_key", "DEFAULT_MEDIA") != s.angle) o["active_media_reference_key"] = s.angle;
      if (s.content == Content::source) relink(o, *t_.sources.at(s.ref));
      return o;  // the source range of a segment that was read is not edited yet
    }
    if (s.content == Content::source) {
      const MediaSource& m = *t_.sources.at(s.ref);
      o["source_range"] = range(time(s.source_in + m.start, m.rate), time(s.duration));
      const std::string key = s.angle.empty() ? "DEFAULT_MEDIA" : s.angle;
      o["media_references"][key] = reference(m);
      for (const auto& [angle, id] : s.angles)
        if (const auto other = t_.sources.find(id); other != t_.sources.end()) o["media_references"][angle] = reference(*other->second);
      o["active_media_reference_key"] = key;
    } else if (s.content == Content::adjustment) {
      o["source_range"] = range(time(0), time(s.duration));
      o["media_references"]["DEFAULT_MEDIA"] = {{"OTIO_SCHEMA", "GeneratorReference.1"},
                                                {"generator_kind", "adjustment"},
                                                {"name", "adjustment"},
                                                {"parameters", Json::object()}};
      o["active_media_reference_key"] = "DEFAULT_MEDIA";
    } else if (s.content == Content::generator) {
      o["source_range"] = range(time(0), time(s.duration));
      o["media_references"]["DEFAULT_MEDIA"] = {{"OTIO_SCHEMA", "GeneratorReference.1"},
                                                {"generator_kind", s.ref},
                                                {"name", s.ref},
                                                {"parameters", s.generator}};
      o["active_media_reference_key"] = "DEFAULT_MEDIA";
    } else if (s.content == Content::offline) {
      o["source_range"] = range(time(0), time(s.duration));
      o["media_references"]["DEFAULT_MEDIA"] = {{"OTIO_SCHEMA", "MissingReference.1"}, {"name", s.ref}};
      o["active_media_reference_key"] = "DEFAULT_MEDIA";
    } else {
      o["source_range"] = range(time(s.source_in), time(s.duration));
    }
    return o;
  }

  /// Another file in the reference that a segment was read with.
  static void relink(Json& o, const MediaSource& m) {
    Json* r = o.contains("media_reference") && o["media_reference"].is_object() ? &o["media_reference"] : nullptr;
    if (o.contains("media_references") && o["media_references"].is_object()) {
      Json& all = o["media_references"];
      const std::string key = text_or(o, "active_media_reference_key", "DEFAULT_MEDIA");
      if (all.contains(key) && all[key].is_object()) r = &all[key];
    }
    if (!r) return;
    const std::string schema = text_or(*r, "OTIO_SCHEMA", "");
    if (schema.starts_with("ExternalReference.") && text_or(*r, "target_url", "") != m.url) {
      (*r)["target_url"] = m.url;
      return;
    }
    const auto mark = m.url.rfind('%');
    if (!schema.starts_with("ImageSequenceReference.") || mark == std::string::npos) return;
    const auto slash = m.url.rfind('/', mark), name = slash == std::string::npos ? 0 : slash + 1;
    std::string base = text_or(*r, "target_url_base", "");
    if (!base.empty() && !base.ends_with('/')) base += '/';
    const std::string prefix = m.url.substr(name, mark - name), suffix = m.url.substr(m.url.find('d', mark) + 1);
    if (base != m.url.substr(0, name)) (*r)["target_url_base"] = m.url.substr(0, name);
    if (prefix != text_or(*r, "name_prefix", "")) (*r)["name_prefix"] = prefix;
    if (suffix != text_or(*r, "name_suffix", "")) (*r)["name_suffix"] = suffix;
  }

  static Json time_warp(Ratio speed) {
    if (speed.num == 0)
      return {{"OTIO_SCHEMA", "FreezeFrame.1"}, {"name", ""}, {"effect_name", "FreezeFrame"}};
    return {{"OTIO_SCHEMA", "LinearTimeWarp.1"},
            {"name", ""},
            {"effect_name", "LinearTimeWarp"},
            {"time_scalar", speed.value()}};
  }

  static Json effect(const Effect& e) {
    Json o = e.foreign.is_object() ? e.foreign : Json::object();
    if (!e.ours && o.contains("OTIO_SCHEMA")) return o;
    o["OTIO_SCHEMA"] = o.value("OTIO_SCHEMA", "Effect.1");
    o["effect_name"] = e.type;
    if (!o.contains("name")) o["name"] = e.type;
    Json& mine = ours(o);
    mine["id"] = e.id;
    mine["enabled"] = e.enabled;
    mine["params"] = e.params;
    put(mine, "device", e.device, std::string());
    return o;
  }

  const Timeline& t_;
  std::set<std::string> written_;
};

}  // namespace

namespace {

/// Whether a URL is a path that starts from the timeline's folder: no scheme, no root.
bool is_relative(const std::string& url) {
  const bool has_drive = url.size() > 1 && url[1] == ':';
  return !url.empty() && url.find("://") == std::string::npos && !url.starts_with("file:") && !has_drive &&
         !fs::path(url).is_absolute();
}

/// Every media reference of the document, wherever it lies, also in what is not understood.
void rebase(Json& node, const fs::path& from, const fs::path& to) {
  if (node.is_object()) {
    const std::string schema = text_or(node, "OTIO_SCHEMA", "");
    const char* key = schema.starts_with("ExternalReference.")        ? "target_url"
                      : schema.starts_with("ImageSequenceReference.") ? "target_url_base"
                                                                      : nullptr;
    // An image sequence without a base lies in the folder itself.
    if (key && (node.contains(key) || schema.starts_with("Image"))) {
      const std::string url = text_or(node, key, "");
      if (is_relative(url) || (url.empty() && schema.starts_with("Image"))) {
        std::string moved = (from / url).lexically_normal().lexically_relative(to).generic_string();
        if (url.ends_with('/') && !moved.ends_with('/')) moved += '/';
        node[key] = moved;
      }
    }
  }
  if (node.is_structured())
    for (Json& inner : node) rebase(inner, from, to);
}

}  // namespace

std::string timeline_to_otio(const Timeline& timeline, const fs::path& folder) {
  Json document = Writer(timeline).write();
  const fs::path from = fs::path(timeline.folder).lexically_normal(), to = folder.lexically_normal();
  if (!timeline.folder.empty() && !folder.empty() && from != to) rebase(document, from, to);
  return document.dump(1, ' ', false, Json::error_handler_t::replace) + "\n";
}

Result<void> save_timeline(const Timeline& timeline, const fs::path& file) {
  return write_file_atomic(file, timeline_to_otio(timeline, fs::absolute(file).parent_path()));
}

}  // namespace gc
