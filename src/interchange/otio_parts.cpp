#include "interchange/otio_parts.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace gc::otio {

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

[[noreturn]] void give_up(std::string what, std::string where, std::string remedy) {
  throw Unusable{Error{Fault::bad_input, std::move(what), std::move(where), std::move(remedy)}};
}
[[noreturn]] void refuse(std::string what, std::string where, std::string remedy) {
  throw Bad{Error{Fault::bad_input, std::move(what), std::move(where), std::move(remedy)}};
}

std::size_t one_of(const Json& object, const char* key, Names names) {
  const std::string v = text_or(object, key, "");
  const auto it = std::find(names.begin(), names.end(), v);
  return it == names.end() ? 0 : static_cast<std::size_t>(it - names.begin());
}

void find_timelines(const Json& node, const std::string& place, std::vector<Found>& all, int depth) {
  if (!node.is_object() || depth > 20) return;
  if (is_a(node, "Timeline")) all.push_back({place, text_or(node, "name", "Untitled")});
  if (!is_a(node, "SerializableCollection") || !node.contains("children") || !node["children"].is_array()) return;
  int n = 0;
  for (const Json& child : node["children"])
    find_timelines(child, fmt::format("{}/children/{}", place, n++), all, depth + 1);
}

Found chosen(const Json& root, const std::string& where, const std::string& wanted) {
  std::vector<Found> all;
  find_timelines(root, "", all);
  if (all.empty())
    give_up(fmt::format("is not a timeline: its schema is '{}', 'Timeline.1' was expected",
                        root.is_object() ? schema_of(root) : "none"),
            where, "Choose an OpenTimelineIO timeline file.");
  if (wanted.empty() && all.size() == 1) return all.front();
  for (std::size_t i = 0; i < all.size(); ++i)
    if (all[i].name == wanted || std::to_string(i + 1) == wanted || all[i].place == wanted) return all[i];
  std::string names;
  for (std::size_t i = 0; i < all.size(); ++i)
    names += fmt::format("{}{} '{}'", i == 0 ? "" : ", ", i + 1, all[i].name);
  give_up(wanted.empty() ? fmt::format("holds {} timelines: {}", all.size(), names)
                         : fmt::format("holds no timeline '{}', but {}", wanted, names),
          where, "Choose one of them by its name or number.");
}

std::optional<bool> find_drop_frame(const Json& node, int depth) {
  if (depth > 8 || !node.is_structured()) return {};
  for (const auto& [key, value] : node.items()) {
    std::string k;
    for (const char c : key)
      if (std::isalpha(static_cast<unsigned char>(c))) k += static_cast<char>(std::tolower(static_cast<unsigned char>(c)));
    if ((k == "dropframe" || k == "isdropframe" || k == "timecodedropframe") && value.is_boolean())
      return value.get<bool>();
    if ((k == "tcformat" || k == "timecodeformat") && value.is_string())
      return value == "DF" ? std::optional(true) : value == "NDF" ? std::optional(false) : std::nullopt;
    if (const auto inner = find_drop_frame(value, depth + 1)) return inner;
  }
  return {};
}

Json without(const Json& object, std::initializer_list<const char*> keys) {
  Json rest = Json::object();
  for (const auto& [key, value] : object.items())
    if (std::none_of(keys.begin(), keys.end(), [&](const char* k) { return key == k; })) rest[key] = value;
  return rest;
}

int whole(const Json& object, const char* key, int fallback, int least, int most,
                 const std::string& at) {
  const double v = number_or(object, key, fallback);
  if (!(v >= least && v <= most))
    refuse(fmt::format("{} is outside {} to {}", v, least, most), at, "Correct the value.");
  return static_cast<int>(v);
}

Time time_of(const Json& object, const std::string& at) {
  const double value = number_or(object, "value", NAN), rate = number_or(object, "rate", NAN);
  if (!std::isfinite(value) || !std::isfinite(rate) || rate < 0.01 || rate > 100000)
    refuse("is not a time: it needs a finite value and a rate above 0", at, "Correct or remove it.");
  if (std::abs(value) > 1e12) refuse(fmt::format("the time {} is too large", value), at, "Correct it.");
  return {value, Rate::near(rate)};
}

Frames at_rate(const Time& t, Rate rate) {
  const Frames whole = std::llround(t.value);
  if (std::abs(t.value - static_cast<double>(whole)) < 1e-4) return rescale(whole, t.rate, rate);
  return static_cast<Frames>(std::floor(t.value / t.rate.fps() * rate.fps() + 1e-4));
}

const Json* active_reference(const Json& clip) {
  if (const Json* all = object_at(clip, "media_references"))
    return object_at(*all, text_or(clip, "active_media_reference_key", "DEFAULT_MEDIA").c_str());
  return object_at(clip, "media_reference");  // Clip.1
}

std::string sequence_url(const Json& reference, const std::string& at) {
  const std::string prefix = text_or(reference, "name_prefix", ""),
                    suffix = text_or(reference, "name_suffix", "");
  const int padding = whole(reference, "frame_zero_padding", 0, 0, 12, at + ": frame_zero_padding");
  if (suffix.find('%') != std::string::npos)
    refuse("the name of an image sequence must not hold '%' after its number", at, "Rename the files.");
  std::string base = text_or(reference, "target_url_base", "");
  if (!base.empty() && !base.ends_with('/')) base += '/';
  return base + prefix + fmt::format("%0{}d", std::max(1, padding)) + suffix;
}

std::string percent_kept(const std::string& url) {
  const auto mark = url.rfind('%');
  if (mark == std::string::npos) return url;
  // Decoding takes "%25" back to "%".
  return url.substr(0, mark) + "%25" + url.substr(mark + 1);
}

}  // namespace gc::otio
