#include "desk/settings.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include <cstdio>

#include "base/json.h"
#include "base/log.h"

namespace gc {
namespace {

const char* word(Device d) { return d == Device::accelerator ? "accelerator" : "processor"; }

Result<void> from_words(const std::string& value, const char* off, const char* on, bool& into) {
  if (value != off && value != on)
    return usage(fmt::format("'{}' is no such choice", value), fmt::format("Give {} or {}.", off, on));
  into = value == on;
  return {};
}

Result<void> from_number(const std::string& value, const char* what, const char* unit, double least,
                         double most, double& into) {
  char* end = nullptr;
  const double v = std::strtod(value.c_str(), &end);
  if (end == value.c_str() || *end || !(v >= least && v <= most))
    return usage(fmt::format("'{}' is no {}", value, what),
                 fmt::format("Give {}, {} to {}.", unit, least, most));
  into = v;
  return {};
}

}  // namespace

RenderOptions Settings::playback_options() const {
  RenderOptions o;
  o.join_fields = join_fields;
  o.scale = scale, o.draft = draft, o.half = half, o.device = playback, o.region = region;
  return o;
}

fs::path settings_file() { return config_folder() / "settings.json"; }

Json to_json(const Settings& s) {
  return {{"playback", word(s.playback)},
          {"rendering", word(s.rendering)},
          {"fields", s.join_fields ? "join" : "keep"},
          {"precision", s.half ? "half" : "full"},
          {"scaling", s.draft ? "draft" : "full"},
          {"scale", s.scale},
          {"region",
           s.region ? fmt::format("{},{},{},{}", s.region->x, s.region->y, s.region->width, s.region->height)
                    : "none"},
          {"memory_left_gb", s.memory_left_gb},
          {"preroll_s", s.preroll_s},
          {"postroll_s", s.postroll_s},
          {"render_form", form_id(s.render_form)},
          {"missed_drop_cost", s.missed_drop_cost},
          {"muted_warnings", fmt::format("{}", fmt::join(s.muted, ","))}};
}

Result<void> set_setting(Settings& s, const std::string& name, const std::string& value) {
  bool on = false;
  if (name == "playback" || name == "rendering") {
    if (auto r = from_words(value, "processor", "accelerator", on); !r) return r;
    (name == "playback" ? s.playback : s.rendering) = on ? Device::accelerator : Device::processor;
    return {};
  }
  if (name == "fields") return from_words(value, "keep", "join", s.join_fields);
  if (name == "precision") return from_words(value, "full", "half", s.half);
  if (name == "scaling") return from_words(value, "full", "draft", s.draft);
  if (name == "scale") {
    for (const int n : {1, 2, 4, 8, 16})
      if (value == std::to_string(n)) {
        s.scale = n;
        return {};
      }
    return usage(fmt::format("'{}' is no playback scale", value), "Give 1, 2, 4, 8 or 16.");
  }
  if (name == "region") {
    Region r;
    int used = 0;
    if (value == "none") s.region.reset();
    else if (std::sscanf(value.c_str(), "%d,%d,%d,%d%n", &r.x, &r.y, &r.width, &r.height, &used) == 4 &&
             static_cast<std::size_t>(used) == value.size() && r.x >= 0 && r.y >= 0 && r.width > 0 &&
             r.height > 0)
      s.region = r;
    else
      return usage(fmt::format("'{}' is no region", value),
                   "Give none, or X,Y,WIDTH,HEIGHT in pixels of the raster.");
    return {};
  }
  if (name == "memory_left_gb")
    return from_number(value, "amount of memory", "gigabytes", 0.5, 1024, s.memory_left_gb);
  if (name == "preroll_s") return from_number(value, "length", "seconds", 0, 60, s.preroll_s);
  if (name == "postroll_s") return from_number(value, "length", "seconds", 0, 60, s.postroll_s);
  if (name == "render_form") {
    const auto form = form_named(value);
    if (!form || std::ranges::find(cached_forms(), *form) == cached_forms().end())
      return usage(fmt::format("'{}' is no form for rendered media", value), "Give vc3-hqx, rdd36, ffv1 or another that docs/formats.md lists.");
    s.render_form = *form;
    return {};
  }
  if (name == "missed_drop_cost")
    return from_number(value, "cost of a missed drop", "needless renders", 1, 1000, s.missed_drop_cost);
  if (name == "muted_warnings") {
    s.muted.clear();
    for (std::size_t at = 0; at < value.size();) {
      const std::size_t end = std::min(value.find(',', at), value.size());
      s.muted.push_back(value.substr(at, end - at));
      at = end + 1;
    }
    return {};
  }
  return usage(fmt::format("there is no setting '{}'", name),
               "Give playback, rendering, fields, precision, scaling, scale, region, memory_left_gb, preroll_s, "
               "postroll_s, render_form, missed_drop_cost or muted_warnings.");
}

Settings load_settings(const fs::path& file) {
  Settings s;
  std::error_code e;
  if (!fs::exists(file, e)) return s;
  const auto text = read_file(file);
  const auto json = text ? parse_json(*text, file.string()) : std::unexpected(text.error());
  if (!json || !json->is_object()) {
    spdlog::warn("{} cannot be read; the usual settings hold until it is put right", file.string());
    return s;
  }
  for (const auto& [name, value] : json->items()) {
    const std::string said = value.is_string() ? value.get<std::string>() : value.dump();
    if (auto r = set_setting(s, name, said); !r) spdlog::warn("{}: {}", file.string(), r.error().text());
  }
  return s;
}

Result<void> save_settings(const Settings& settings, const fs::path& file) {
  std::error_code e;
  fs::create_directories(file.parent_path(), e);
  return write_file_atomic(file, to_json(settings).dump(1) + "\n");
}

}  // namespace gc
