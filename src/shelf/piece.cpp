#include "shelf/piece.h"

namespace gc {

std::string description_of(const Chunk& c) {
  Json frames = Json::array(), sums = Json::array();
  for (const Hash128& h : c.frames) frames.push_back(h.hex());
  for (const Hash128& h : c.sums) sums.push_back(h.hex());
  return Json{{"glass_clock", "rendered media"},
              {"version", 2},
              {"file", c.file},
              {"bytes", c.bytes},
              {"timeline", c.timeline},
              {"segment", c.segment},
              {"offset", c.offset},
              {"taken_at", tap_name(c.kind)},
              {"effects_rendered", c.after},
              {"form", form_id(c.form)},
              {"width", c.width},
              {"height", c.height},
              {"made", c.made},
              {"seconds", c.seconds},
              {"frames", frames},
              {"checksums", sums}}
             .dump() +
         "\n";
}

std::optional<Chunk> chunk_of(const std::string& description) {
  const auto j = parse_json(description, "");
  if (!j || !j->is_object() || text_or(*j, "glass_clock", "") != "rendered media") return std::nullopt;
  Chunk c;
  c.file = text_or(*j, "file", "");
  if (c.file.empty() || fs::path(c.file).filename().string() != c.file) return std::nullopt;
  c.bytes = static_cast<std::uint64_t>(number_or(*j, "bytes", 0)), c.beside = description.size();
  c.timeline = text_or(*j, "timeline", ""), c.segment = text_or(*j, "segment", "");
  c.offset = static_cast<Frames>(number_or(*j, "offset", 0)), c.made = text_or(*j, "made", "");
  c.after = static_cast<int>(number_or(*j, "effects_rendered", 0));
  c.kind = c.after > 0 ? TapKind::stack : TapKind::frame;
  for (const TapKind k : {TapKind::source, TapKind::stack, TapKind::composition, TapKind::frame})
    if (text_or(*j, "taken_at", "") == tap_name(k)) c.kind = k;
  if (const auto form = form_named(text_or(*j, "form", "vc3-hqx"))) c.form = *form;
  else return std::nullopt;
  c.width = static_cast<int>(number_or(*j, "width", 0)), c.height = static_cast<int>(number_or(*j, "height", 0));
  c.seconds = number_or(*j, "seconds", 0);
  for (const auto& [name, to] : {std::pair{"frames", &c.frames}, {"checksums", &c.sums}})
    for (const Json& h : j->value(name, Json::array()))
      to->push_back(Hash128::from_hex(h.is_string() ? h.get<std::string>() : ""));
  if (c.frames.empty() || c.frames.size() != c.sums.size()) return std::nullopt;
  return c;
}

}  // namespace gc
