#include "cli/what_if.h"

#include <fmt/format.h>

#include "cli/print.h"
#include "desk/suppose.h"

namespace gc {
namespace {

struct Args {
  std::vector<std::string> bypass, rendered, remembered;
  std::string scale, device;
  double others = 0;
  bool loop = false;
};

Result<std::vector<FrameRange>> ranges_of(const std::vector<std::string>& texts, const View& view) {
  std::vector<FrameRange> all;
  for (const std::string& text : texts) {
    auto r = parse_range(text, view);
    if (!r) return std::unexpected(r.error());
    all.push_back(*r);
  }
  return all;
}

std::string summary(const Forecast& f) {
  return fmt::format("{:.0f} dropped frames ({:.0f} to {:.0f}), {} span{} spill{}, {} waver{}",
                     f.expected_drops, f.drops_low, f.drops_high, f.count(Verdict::spills),
                     f.count(Verdict::spills) == 1 ? "" : "s", f.count(Verdict::spills) == 1 ? "s" : "",
                     f.count(Verdict::wavers), f.count(Verdict::wavers) == 1 ? "s" : "");
}

int what_if(const Common& c, const Args& a) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  Supposition s;
  for (const std::string& b : a.bypass) {
    const auto slash = b.find('/');
    if (slash == std::string::npos)
      return fail(usage("'" + b + "' names no effect", "Give SEGMENT/EFFECT.").error(), c.json);
    s.bypassed.emplace_back(b.substr(0, slash), b.substr(slash + 1));
  }
  auto rendered = ranges_of(a.rendered, o->view), remembered = ranges_of(a.remembered, o->view);
  if (!rendered) return fail(rendered.error(), c.json);
  if (!remembered) return fail(remembered.error(), c.json);
  s.rendered = *rendered, s.remembered = *remembered, s.others = a.others, s.loop = a.loop;
  if (!a.scale.empty()) s.settings.emplace_back("scale", a.scale);
  if (!a.device.empty()) s.settings.emplace_back("playback", a.device);
  const auto now = forecast_if(o->view.timeline, o->stores, o->range, {}),
             then = forecast_if(o->view.timeline, o->stores, o->range, s);
  if (!now) return fail(now.error(), c.json);
  if (!then) return fail(then.error(), c.json);
  if (c.json) {
    put({{"now", to_json(*now)}, {"then", to_json(*then)}});
    return 0;
  }
  print(*then, o->view);
  fmt::print("As it is: {}.\nThen:     {}.\n", summary(*now), summary(*then));
  if (!then->fully_measured) fmt::print("Some of it was never measured so; its cost comes from the laws.\n");
  return 0;
}

}  // namespace

void add_what_if_command(CLI::App& app, Common& c, int& code) {
  auto a = std::make_shared<Args>();
  CLI::App* s = app.add_subcommand("what-if", "Forecast what a change would bring, without making it");
  s->footer("Example: gclk what-if cut.otio --bypass ky-03/ky-03-clean --others 0.25");
  add_common(s, c, true);
  s->add_option("--range", c.range, "IN-OUT, frames or timecodes");
  s->add_option("--bypass", a->bypass, "SEGMENT/EFFECT left out; may be given again");
  s->add_option("--rendered", a->rendered, "IN-OUT as if pre-rendered; may be given again");
  s->add_option("--remembered", a->remembered, "IN-OUT as if held in memory; may be given again");
  s->add_option("--scale", a->scale, "Playback at 1, 2, 4, 8 or 16 times less on each side");
  s->add_option("--device", a->device, "Playback on the processor or the accelerator");
  s->add_option("--others", a->others, "Share of the processors that other programs take, 0 to 0.9");
  s->add_flag("--loop", a->loop, "A further pass of a loop, not the first");
  s->callback([&c, &code, a] { code = what_if(c, *a); });
}

}  // namespace gc
