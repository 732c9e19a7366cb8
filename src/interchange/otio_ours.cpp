#include "interchange/otio_ours.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/files.h"
#include "interchange/otio_parts.h"

namespace gc::otio {

void read_settings(Timeline& t, const Json& mine) {
  t.working_space = text_or(mine, "working_space", t.working_space);
  t.display_space = text_or(mine, "display_space", t.display_space);
  if (const Json* cards = object_at(mine, "cards"))
    for (const auto& [name, j] : cards->items()) {
      CostCard c;
      c.ms = std::clamp(number_or(j, "ms", 0), 0.0, 100000.0);
      c.width = static_cast<int>(std::clamp(number_or(j, "width", c.width), 16.0, 32768.0));
      c.height = static_cast<int>(std::clamp(number_or(j, "height", c.height), 16.0, 32768.0));
      c.device = text_or(j, "device", c.device);
      t.cards[name] = c;
    }
}

void read_layer(Segment& s, const Json& mine) {
  s.blend = text_or(mine, "blend", s.blend);
  if (mine.contains("opacity") && (mine["opacity"].is_number() || mine["opacity"].is_object()))
    s.opacity = mine["opacity"];
  if (const Json* m = object_at(mine, "matte"))
    s.matte = {text_or(*m, "track", ""), text_or(*m, "kind", "alpha") == "luma",
               flag_or(*m, "inverted", false)};
  s.fit = static_cast<Fit>(one_of(mine, "fit", kFits));
  s.between = static_cast<Between>(one_of(mine, "between", kBetweens));
  s.truth = truth_named(text_or(mine, "truth", "picture")).value_or(Truth::picture);
}

void read_rendering(Timeline& t, const Json& mine) {
  t.render_form = text_or(mine, "render_form", "");
  if (const Json* home = object_at(mine, "home"))
    for (const auto& [inside, original] : home->items())
      if (original.is_string() && fs::path(inside).is_relative() && inside.find("..") == std::string::npos) t.home[inside] = original.get<std::string>();
}

void read_slips(Timeline& t, const Json& mine) {
  if (!mine.contains("slips") || !mine["slips"].is_array()) return;
  for (const Json& j : mine["slips"]) {
    Slip s;
    s.id = text_or(j, "id", fmt::format("slip-{}", t.slips.size() + 1));
    s.kind = text_or(j, "kind", "bypass");
    s.segment = text_or(j, "segment", ""), s.effect = text_or(j, "effect", "");
    s.opened = text_or(j, "opened", ""), s.lifted = text_or(j, "lifted", "");
    s.subject = text_or(j, "subject", ""), s.who = text_or(j, "who", ""), s.why = text_or(j, "why", ""), s.until = text_or(j, "until", "");
    s.size = std::clamp(static_cast<int>(number_or(j, "size", 1)), 1, 16);
    s.in = static_cast<Frames>(std::max(0.0, number_or(j, "in", 0))), s.out = static_cast<Frames>(std::max(0.0, number_or(j, "out", 0)));
    if (j.contains("region") && j["region"].is_array() && j["region"].size() == 4)
      for (std::size_t i = 0; i < 4; ++i)
        if (j["region"][i].is_number_integer()) s.region[i] = j["region"][i].get<int>();
    t.slips.push_back(std::move(s));
  }
}

void read_acceptances(Timeline& t, const Json& mine) {
  if (!mine.contains("acceptances") || !mine["acceptances"].is_array()) return;
  for (const Json& j : mine["acceptances"]) {
    Acceptance a{text_or(j, "item", ""), text_or(j, "of", ""), text_or(j, "at", ""), text_or(j, "who", ""), text_or(j, "why", "")};
    // Without a name and a reason nothing is accepted, whoever wrote it so.
    if (!a.item.empty() && !a.who.empty() && !a.why.empty()) t.acceptances.push_back(std::move(a));
  }
}

}  // namespace gc::otio
