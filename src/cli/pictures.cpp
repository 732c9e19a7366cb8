#include "cli/pictures.h"

#include <fmt/format.h>
#include <unistd.h>

#include <cmath>
#include <functional>

#include "base/clock.h"
#include "cli/print.h"
#include "cli/table.h"
#include "interchange/cards.h"
#include "media/compare.h"
#include "render/agree.h"
#include "render/coverage.h"
#include "render/device.h"
#include "render/track.h"
#include "timeline/keys.h"

namespace gc {
namespace {

constexpr std::size_t kAtTheEnd = 1'000'000;

/// What the picture commands are called with.
struct Arguments {
  std::string segment, effect, type, param, value, way = "linear", device, csv, name;
  std::size_t place = kAtTheEnd;
  Frames frame = 0;
  int scale = 2, width = 320, height = 180;
  bool check = false, set = false;
};

Json to_json(const Agreement& a) {
  Json devices = Json::array({"processor"});
  if (a.type->accelerator) devices.push_back("accelerator");
  return {{"id", a.type->id},
          {"devices", devices},
          {"ran_on_processor", a.ran_on_processor},
          {"ran_on_accelerator", a.ran_on_accelerator},
          {"greatest_difference", a.greatest},
          {"tolerance", a.type->tolerance},
          {"within_tolerance", a.within},
          {"why_not", a.why_not},
          {"processor_ms", a.processor_ms},
          {"accelerator_ms", a.accelerator_ms}};
}

int check_effects(const Common& c, const Arguments& a) {
  const fs::path lut = fs::temp_directory_path() / fmt::format("gclk-check-{}.cube", ::getpid());
  if (auto r = write_file_atomic(lut, made_up_cube(17)); !r) return fail(r.error(), c.json);
  const std::vector<Agreement> all = check_devices(a.width, a.height, lut.string());
  std::error_code e;
  fs::remove(lut, e);
  bool good = true;
  Json list = Json::array();
  Table table({"Effect", "Processor", "Accelerator", "Greatest difference", "Tolerance", ""});
  for (const Agreement& x : all) {
    good = good && x.within;
    list.push_back(to_json(x));
    table.row({x.type->id, fmt::format("{:.1f} ms", x.processor_ms),
               x.ran_on_accelerator ? fmt::format("{:.1f} ms", x.accelerator_ms) : "-",
               x.ran_on_accelerator ? fmt::format("{:.2g}", x.greatest) : "-",
               x.ran_on_accelerator ? fmt::format("{:.2g}", x.type->tolerance) : "-",
               x.ran_on_accelerator ? (x.within ? "within" : "beyond") : x.why_not});
  }
  if (c.json) {
    put({{"accelerator", accelerator_name()},
         {"width", a.width},
         {"height", a.height},
         {"effects", list},
         {"all_within", good}});
  } else {
    fmt::print("{}\nAccelerator: {}. {}\n", table.text(),
               accelerator_available() ? accelerator_name() : std::string("none"),
               good ? "The devices agree." : "The devices do not agree everywhere.");
  }
  return good ? 0 : 1;
}

int list_effects(const Common& c) {
  if (c.json) {
    put(describe_effects());
    return 0;
  }
  Table t({"Effect", "Name", "Stage", "Devices", "Parameters (* decides the cost)"});
  std::vector<const EffectType*> all = effect_types();
  all.insert(all.end(), generator_types().begin(), generator_types().end());
  for (const EffectType* e : all) {
    std::string params;
    for (const ParamSpec& p : e->params)
      params += (params.empty() ? "" : ", ") + p.name + (p.costs ? "*" : "");
    t.row({e->id, e->label, stage_name(e->stage), e->accelerator ? "both" : "processor", params});
  }
  fmt::print("{}", t.text());
  return 0;
}

/// Loads, finds the effect that is named, edits, saves.
int edit(const Common& c, Arguments& a, const std::function<TimelinePtr(const Timeline&)>& change,
         const std::function<std::pair<Json, std::string>()>& said) {
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  const auto found = named(**timeline, a.segment, a.effect);
  if (!found) return fail(found.error(), c.json);
  a.segment = found->segment->id, a.effect = found->what().id;
  auto [done, sentence] = said();
  return save_edit(c, change(**timeline), std::move(done), sentence);
}

int add_effect(const Common& c, const Arguments& a) {
  if (!effect_type(a.type)) {
    std::vector<std::string> names;
    for (const EffectType* t : effect_types()) names.push_back(t->id);
    const std::string like = most_like(a.type, names);
    return fail(Error{Fault::usage, fmt::format("there is no effect '{}'", a.type), "",
                      (like.empty() ? "" : fmt::format("'{}' is like it. ", like)) + "`gclk effects` lists them."},
                c.json);
  }
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  auto s = segment_called(**timeline, a.segment);
  if (!s) return fail(s.error(), c.json);
  if (a.place != kAtTheEnd && a.place > (*s)->stack.size())
    return fail(Error{Fault::usage, fmt::format("there is no place {} in the stack", a.place), c.file,
                      fmt::format("Give 0 to {}.", (*s)->stack.size())},
                c.json);
  Effect e;
  e.id = free_effect_id(**s, a.type), e.type = a.type;
  const std::string id = e.id;
  return save_edit(c, with_effect_added(**timeline, (*s)->id, std::move(e), a.place),
                   {{"segment", (*s)->id}, {"effect", id}}, fmt::format("Added {} to {}.", id, (*s)->id));
}

int move_effect(const Common& c, const Arguments& a) {
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  const auto found = named(**timeline, a.segment, a.effect);
  if (!found) return fail(found.error(), c.json);
  if (a.place >= found->segment->stack.size())
    return fail(Error{Fault::usage, fmt::format("there is no place {} in the stack", a.place), c.file,
                      fmt::format("Give 0 to {}.", found->segment->stack.size() - 1)},
                c.json);
  return save_edit(c, with_effect_moved(**timeline, found->segment->id, found->what().id, a.place),
                   {{"segment", found->segment->id}, {"effect", found->what().id}, {"place", a.place}},
                   fmt::format("Moved {} to place {}.", found->what().id, a.place));
}

int set_key(const Common& c, const Arguments& a) {
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  const auto found = named(**timeline, a.segment, a.effect);
  if (!found) return fail(found.error(), c.json);
  const Segment& s = *found->segment;
  if (a.frame < 0 || a.frame >= s.duration)
    return fail(Error{Fault::usage, fmt::format("'{}' has no frame {}", s.id, a.frame), c.file,
                      fmt::format("Give 0 to {}.", s.duration - 1)},
                c.json);
  auto parsed = parse_json(a.value, "the value");
  const auto v = checked_value(found->what(), a.param, parsed ? *parsed : Json(a.value));
  if (!v) return fail(v.error(), c.json);
  return save_edit(c,
                   with_param(**timeline, s.id, found->what().id, a.param,
                              with_key(found->what().params.value(a.param, Json()), a.frame, v->value, a.way)),
                   {{"segment", s.id},
                    {"effect", found->what().id},
                    {"param", a.param},
                    {"frame", a.frame},
                    {"value", v->value},
                    {"remark", v->remark}},
                   fmt::format("Set a key of {} at frame {} to {}.{}", a.param, a.frame, v->value.dump(),
                               v->remark.empty() ? "" : " " + v->remark));
}

int track(const Common& c, const Arguments& a) {
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  const auto found = named(**timeline, a.segment, a.effect);
  if (!found) return fail(found.error(), c.json);
  MediaCatalog media;
  auto report = track_shape(*timeline, media, found->segment->id, found->what().id, a.frame, [](double share) {
    show_progress(fmt::format("Following the shape: {:.0f} %", share * 100));
    return true;
  });
  end_progress();
  if (!report) return fail(report.error(), c.json);
  return save_edit(
      c, report->timeline,
      {{"segment", found->segment->id},
       {"effect", found->what().id},
       {"frames", report->frames},
       {"worst_error_px", report->worst_error}},
      fmt::format("Followed the shape over {} frames and wrote keys for its window.", report->frames));
}

int read_cards(const Common& c, const Arguments& a) {
  auto text = read_file(a.csv);
  if (!text) return fail(text.error(), c.json);
  auto cards = cards_from_csv(*text, a.csv);
  if (!cards) return fail(cards.error(), c.json);
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  auto edited = std::make_shared<Timeline>(**timeline);
  Json names = Json::array();
  for (const auto& [name, card] : *cards) edited->cards[name] = card, names.push_back(name);
  return save_edit(c, edited, {{"cards", names}}, fmt::format("Took {} cost cards.", cards->size()));
}

int show_coverage(const Common& c) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const std::vector<Coverage> found = coverage(*o->view.delivered);
  const std::vector<MissingPicture> missing = missing_pictures(*o->view.delivered);
  if (c.json) {
    Json list = Json::array();
    for (const Coverage& x : found)
      list.push_back({{"segment", x.segment},
                      {"frame", x.frame},
                      {"pixels", x.pixels},
                      {"left", x.left},
                      {"top", x.top},
                      {"right", x.right},
                      {"bottom", x.bottom}});
    put({{"uncovered", list}, {"missing", to_json(missing)}});
  } else if (found.empty()) {
    fmt::print("{}\n", missing.empty() ? "Every pixel of the raster is covered."
                                       : "Every pixel is covered where there are pictures.");
  } else {
    Table t({"Segment", "Worst frame", "Pixels", "Left", "Top", "Right", "Bottom"});
    for (const Coverage& x : found)
      t.row({x.segment.empty() ? "Gap" : o->view.name_of(x.segment), std::to_string(x.frame),
             std::to_string(x.pixels), std::to_string(x.left), std::to_string(x.top), std::to_string(x.right),
             std::to_string(x.bottom)});
    fmt::print("{}", t.text());
  }
  if (!c.json) print(missing, whole(o->view), o->view);
  return found.empty() && missing.empty() ? 0 : 1;
}

int compare(const Common& c, const Arguments& a) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  if (a.frame < 0 || a.frame >= o->view.delivered->duration())
    return fail(Error{Fault::usage, fmt::format("there is no frame {}", a.frame), c.file,
                      fmt::format("Give 0 to {}.", o->view.delivered->duration() - 1)},
                c.json);
  const Program& delivered = *o->view.delivered;
  const int interval = delivered.interval_at(a.frame);
  // A segment that another one covers may lack its picture.
  const bool missing = interval >= 0 && delivered.intervals()[static_cast<std::size_t>(interval)].missing;
  for (const MissingPicture& m : missing_pictures(delivered))
    if (missing && a.frame >= m.at.in && a.frame < m.at.out)
      return fail(Error{Fault::bad_input, fmt::format("frame {} has no picture: {}", a.frame, m.why), m.name,
                        "There is nothing to compare with."},
                  c.json);
  const Fidelity f = fidelity(o->view, o->stores, a.frame, a.scale);
  if (c.json)
    put({{"frame", a.frame},
         {"remedy", f.remedy},
         {"psnr_db", std::isfinite(f.psnr_db) ? Json(f.psnr_db) : Json("infinite")},
         {"ssim", f.ssim}});
  else fmt::print("Frame {} against the live picture, {}.\n", a.frame, f.text());
  return 0;
}

int settings(const Common& c, const Arguments& a) {
  Settings s = load_settings();
  if (!a.name.empty()) {
    if (auto r = set_setting(s, a.name, a.value); !r) return fail(r.error(), c.json);
    if (auto r = save_settings(s); !r) return fail(r.error(), c.json);
  }
  const Json all = to_json(s);
  if (c.json) put(all);
  else
    for (const auto& [name, value] : all.items())
      fmt::print("{:<16} {}\n", name, value.is_string() ? value.get<std::string>() : value.dump());
  return 0;
}

}  // namespace

void add_picture_commands(CLI::App& app, Common& c, int& code) {
  static Arguments a;
  const auto add = [&](const char* name, const char* what, const char* example, bool file) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, file);
    return s;
  };
  const auto segment = [&](CLI::App* s) {
    s->add_option("segment", a.segment, "Id of the segment")->required();
  };
  const auto effect = [&](CLI::App* s) {
    segment(s);
    s->add_option("effect", a.effect, "Id of the effect")->required();
  };

  CLI::App* s = add("effects", "List every effect there is, or hold the devices against each other",
                    "gclk effects --check --json", false);
  s->add_flag("--check", a.check, "Render each on every device and compare");
  s->add_option("--width", a.width, "Raster of the check, pixels")->check(CLI::Range(32, 4096));
  s->add_option("--height", a.height, "Raster of the check, pixels")->check(CLI::Range(32, 4096));
  s->callback([&] { code = a.check ? check_effects(c, a) : list_effects(c); });

  s = add("add", "Add an effect to a segment's stack", "gclk add cut.otio ky-03 blur --at 0", true);
  segment(s);
  s->add_option("type", a.type, "Which effect")->required();
  s->add_option("--at", a.place, "Place in the stack; the end when left out");
  s->callback([&] { code = add_effect(c, a); });
  s = add("remove", "Take an effect off a segment's stack", "gclk remove cut.otio ky-03 ky-03-soft", true);
  effect(s);
  s->callback([&] {
    code = edit(
        c, a, [&](const Timeline& t) { return with_effect_removed(t, a.segment, a.effect, now_utc()); },
        [&] {
          return std::pair(Json{{"segment", a.segment}, {"removed", a.effect}},
                           fmt::format("Removed {} from {}.", a.effect, a.segment));
        });
  });
  s = add("move", "Move an effect to another place in its stack", "gclk move cut.otio ky-03 ky-03-soft 0",
          true);
  effect(s);
  s->add_option("place", a.place, "Place in the stack, from 0")->required();
  s->callback([&] { code = move_effect(c, a); });
  s = add("device", "Choose where one effect runs", "gclk device cut.otio ky-03 ky-03-soft accelerator",
          true);
  effect(s);
  s->add_option("device", a.device, "processor, accelerator, or setting")
      ->required()
      ->check(CLI::IsMember({"processor", "accelerator", "setting"}));
  s->callback([&] {
    code = edit(
        c, a,
        [&](const Timeline& t) {
          return with_effect_device(t, a.segment, a.effect, a.device == "setting" ? "" : a.device);
        },
        [&] {
          return std::pair(Json{{"segment", a.segment}, {"effect", a.effect}, {"device", a.device}},
                           fmt::format("{} runs on: {}.", a.effect, a.device));
        });
  });
  s = add("key", "Set a key of a parameter", "gclk key cut.otio ky-03 ky-03-soft sigma 24 6.5 --way smooth",
          true);
  effect(s);
  s->add_option("param", a.param, "Name of the parameter")->required();
  s->add_option("frame", a.frame, "Frame of the segment, from 0")->required();
  s->add_option("value", a.value, "Its value there, as JSON")->required();
  s->add_option("--way", a.way, "How it goes on from there")
      ->check(CLI::IsMember({"hold", "linear", "smooth"}));
  s->callback([&] { code = set_key(c, a); });
  s = add("track", "Follow the shape in a secondary's window and write keys",
          "gclk track cut.otio ky-03 ky-03-secondary", true);
  effect(s);
  s->add_option("--from", a.frame, "Frame of the segment to start from, from 0");
  s->callback([&] { code = track(c, a); });
  s = add("cards", "Take cost cards for effects that cannot be run here from a table",
          "gclk cards cut.otio costs.csv", true);
  s->add_option("table", a.csv, "CSV with the columns name, ms, width, height, device")->required();
  s->callback([&] { code = read_cards(c, a); });
  s = add("coverage", "Count pixels of the raster that nothing covers", "gclk coverage cut.otio", true);
  s->callback([&] { code = show_coverage(c); });
  s = add("compare", "Hold a remedy's picture against the live one", "gclk compare cut.otio 120 --scale 4",
          true);
  s->add_option("frame", a.frame, "Frame of the timeline, from 0")->required();
  s->add_option("--scale", a.scale, "Playback scale to compare where nothing is sealed")
      ->check(CLI::IsMember({2, 4, 8, 16}));
  s->callback([&] { code = compare(c, a); });
  s = add("settings", "Say or change what is chosen for this seat", "gclk settings playback accelerator",
          false);
  s->add_option("name", a.name, "Which setting");
  s->add_option("value", a.value, "Its new value");
  s->callback([&] { code = settings(c, a); });
}

}  // namespace gc
