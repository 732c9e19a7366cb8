// gclk: the core on the command line. Exit codes: 0 done or yes, 1 the answer is no, 2 wrong usage, 3 bad
// input, 4 the environment failed.
#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <csignal>
#include <iostream>

#include "base/clock.h"
#include "base/log.h"
#include "cli/common.h"
#include "cli/deliver.h"
#include "cli/files.h"
#include "cli/interchange.h"
#include "cli/job.h"
#include "cli/pictures.h"
#include "cli/plan.h"
#include "cli/queue.h"
#include "cli/playout.h"
#include "cli/score.h"
#include "cli/print.h"
#include "cli/seat.h"
#include "cli/remedies.h"
#include "cli/shelf.h"
#include "cli/table.h"
#include "cli/what_if.h"
#include "desk/seats.h"

namespace gc {
namespace {

std::atomic<bool> asked_to_stop{false};

int cmd_inspect(const Common& c) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const Json d = describe(o->view, *o->stores.media);
  if (c.json) {
    put(d);
    return 0;
  }
  const Timeline& t = *o->view.timeline;
  fmt::print("{}: {}x{} at {:.6g}, {} frames, starts at {}\n", t.name, t.width, t.height, t.rate.fps(),
             t.duration(), d["timecode_start"].get<std::string>());
  for (const Json& track : d["tracks"]) {
    fmt::print("  {} {} ({}), {} segments{}\n", track["id"].get<std::string>(),
               track["name"].get<std::string>(), track["kind"].get<std::string>(), track["segments"].size(),
               track["enabled"].get<bool>() ? "" : ", off");
    for (const Json& s : track["segments"]) {
      std::string stack;
      for (const Json& e : s["stack"])
        stack += fmt::format(" {}{}{}{}", e["id"].get<std::string>(),
                             e["id"] == e["type"] ? "" : "=" + e["type"].get<std::string>(),
                             e["bypassed"].get<bool>()   ? " (bypassed)"
                             : !e["enabled"].get<bool>() ? " (off)"
                             : !e["known"].get<bool>()   ? " (passed through)"
                                                         : "",
                             "");
      fmt::print("    {}  {:<12} {:<26} {:>5} frames{}{}{}\n", s["timecode_in"].get<std::string>(),
                 s["id"].get<std::string>(), s["name"].get<std::string>(),
                 s["out"].get<Frames>() - s["in"].get<Frames>(), s["enabled"].get<bool>() ? "" : ", off",
                 s["content"] == "source" ? "" : ", " + s["content"].get<std::string>(), stack);
    }
  }
  for (const Json& m : d["media"])
    fmt::print("  {} {}: {}\n", m["id"].get<std::string>(), m["name"].get<std::string>(),
               !m["online"].get<bool>() ? "offline. " + m.value("trouble", "")
               : m.contains("width")    ? fmt::format("{}, {}x{} at {:.6g}, {} frames", m.value("codec", ""), m.value("width", 0),
                                                      m.value("height", 0), m.value("rate", 0.0), m.value("frames", Frames{0}))
                                        : m.value("codec", "audio"));
  print(missing_pictures(*o->view.delivered), whole(o->view), o->view);
  for (const std::string& r : t.remarks) fmt::print("  note: {}\n", r);
  return 0;
}

int cmd_measure(const Common& c, double seconds, bool again) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  auto report = measure_now(*o, seconds, again, asked_to_stop);
  if (!report) return fail(report.error(), c.json);
  if (c.json) put(to_json(*report));
  else print(*report);
  return report->cancelled ? 4 : 0;
}

/// The forecast on another seat: from its profile, without measuring anything here.
int forecast_elsewhere(const Common& c, Opened& o, const std::string& seat, bool must_hold) {
  auto profile = find_profile(seat);
  if (!profile) return fail(profile.error(), c.json);
  const ProfileBook book(std::move(*profile), o.stores.notebook);
  const Forecast f = forecast_on(*o.view.played, book, o.view.seals, o.range, o.stores.forecast_options());
  const std::vector<std::string> taken = book.taken_over(*o.view.played);
  if (c.json) {
    Json j = to_json(f, *o.view.played);
    j["seat"] = book.profile().name, j["taken_over"] = taken;
    put(j);
  } else {
    fmt::print("On the seat '{}':\n", book.profile().name);
    print(f, o.view);
    for (const std::string& t : taken)
      fmt::print(
          "  {}: that seat has no law of it; this seat's cost is scaled by what both have, and its interval "
          "is wider\n",
          t);
  }
  return must_hold && f.count(Verdict::spills) + f.count(Verdict::wavers) + f.count(Verdict::missing) > 0 ? 1 : 0;
}

int cmd_forecast(const Common& c, bool must_hold, bool loop, const std::string& seat) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  if (!seat.empty()) return forecast_elsewhere(c, *o, seat, must_hold);
  if (auto m = measure_now(*o, 20, false, asked_to_stop); !m) return fail(m.error(), c.json);
  ForecastOptions options = o->stores.forecast_options();
  options.loop = loop;
  const Forecast f = forecast(*o->view.played, *o->stores.notebook, o->view.seals, o->range, options);
  if (c.json) put(to_json(f, *o->view.played));
  else print(f, o->view);
  return must_hold && f.count(Verdict::spills) + f.count(Verdict::wavers) + f.count(Verdict::missing) > 0 ? 1 : 0;
}

int cmd_bypass(const Common& c, const std::string& segment, const std::string& effect, bool lift) {
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  std::string s = segment, e = effect;
  // A bypass of an effect that is not there any more can still be lifted.
  if (auto found = named(**timeline, segment, effect)) s = found->segment->id, e = found->what().id;
  else if (!lift) return fail(found.error(), c.json);
  const TimelinePtr edited = with_bypass(**timeline, s, e, !lift, now_utc());
  if (!edited)
    return fail(Error{Fault::usage, fmt::format("'{}' of '{}' is not bypassed", e, s), c.file,
                      "`gclk gate` lists open bypasses."},
                c.json);
  int open_slips = 0;
  for (const Slip& slip : edited->slips) open_slips += slip.open();
  return save_edit(
      c, edited, {{"segment", s}, {"effect", e}, {"bypassed", !lift}, {"open_slips", open_slips}},
      fmt::format("{} {} of {}. {} slip{} open.", lift ? "Lifted the bypass of" : "Bypassed", e, s,
                  open_slips, open_slips == 1 ? " is" : "s are"));
}

int cmd_set(const Common& c, const std::string& segment, const std::string& effect, const std::string& param,
            const std::string& value) {
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  const auto found = named(**timeline, segment, effect);
  if (!found) return fail(found.error(), c.json);
  auto parsed = parse_json(value, "the value");
  const auto v = checked_value(found->what(), param, parsed ? *parsed : Json(value));
  if (!v) return fail(v.error(), c.json);
  return save_edit(c, with_param(**timeline, found->segment->id, found->what().id, param, v->value),
                   {{"segment", found->segment->id},
                    {"effect", found->what().id},
                    {"param", param},
                    {"value", v->value},
                    {"remark", v->remark}},
                   fmt::format("Set {} of {} to {}.{}", param, found->what().id, v->value.dump(),
                               v->remark.empty() ? "" : " " + v->remark));
}

int cmd_demo(const Common& c, const std::string& folder, const DemoOptions& options, bool job) {
  const auto make = [&] {
    auto made = make_demo(folder, options, [](double share, const std::string& what) {
      show_progress(fmt::format("{:3.0f} %  {}", share * 100, what));
    });
    end_progress();
    return made;
  };
  auto report = make();
  if (!report) return fail(report.error(), c.json);
  if (job) {
    DeskOptions desk = c.desk();
    if (desk.shelf.empty()) desk.shelf = fs::absolute(folder) / "shelf";
    if (desk.notebook.empty()) desk.notebook = fs::absolute(folder) / "notebook.sqlite";
    Json result;
    auto done = whole_job(*report, make, desk, c.json, result, asked_to_stop);
    if (!done) return fail(done.error(), c.json);
    if (c.json) put(result);
    return *done ? 0 : 1;
  }
  if (c.json) {
    put(to_json(*report));
  } else {
    fmt::print("The Kiln Year: {} segments from {} sources, {:.0f} s of picture, {} in {:.1f} s.\n{}\n{}\n",
               report->segments, report->sources, report->seconds_of_picture,
               report->media_made ? "made" : "media were there, timeline written", report->seconds_taken,
               report->scaling, report->timeline.string());
  }
  return 0;
}

}  // namespace
}  // namespace gc

int main(int argc, char** argv) {
  using namespace gc;
  start_log();
  std::signal(SIGINT, [](int) { asked_to_stop = true; });
  std::signal(SIGTERM, [](int) { asked_to_stop = true; });

  CLI::App app{
      "Glass Clock on the command line: which parts of a timeline will drop frames on this seat, why, and "
      "the least work that makes them play."};
  app.require_subcommand(1);
  app.set_version_flag("--version", std::string("gclk ") + GCLK_VERSION);
  app.footer(
      "Exit codes: 0 done or yes, 1 the answer is no, 2 wrong usage, 3 bad input, 4 the environment failed.");
  Common c;
  int code = 0;
  const auto add = [&](const char* name, const char* what, const char* example, bool file = true) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, file);
    return s;
  };
  const auto with_range = [&](CLI::App* s) {
    s->add_option("--range", c.range, "IN-OUT, frames or timecodes");
    return s;
  };

  std::string folder, segment, effect, param, value, other_seat;
  DemoOptions demo;
  bool job = false, again = false, lift = false, holds = false, loop = false;
  double seconds = 20;

  CLI::App* s =
      add("demo", "Make the demo production, The Kiln Year", "gclk demo /tmp/kiln-year --job", false);
  s->add_option("folder", folder, "Where to put it")->required();
  s->add_option("--seed", demo.seed, "Seed of the pictures");
  s->add_option("--width", demo.width, "Raster, pixels")->check(CLI::Range(64, 8192));
  s->add_option("--height", demo.height, "Raster, pixels")->check(CLI::Range(64, 8192));
  s->add_option("--length", demo.length, "Length of the segments, 1 is full")->check(CLI::Range(0.1, 1.0));
  s->add_flag("--stated", demo.stated, "Heavy segments take a stated time of every frame; nothing is measured");
  s->add_flag("--job", job, "Do the whole job on it: forecast, play, pre-render, play again, change a grade");
  s->callback([&] { code = cmd_demo(c, folder, demo, job); });

  add("inspect", "Say what a timeline holds, and what is offline", "gclk inspect cut.otio --json")
      ->callback([&] { code = cmd_inspect(c); });
  s = add("measure", "Time every kind of frame in the playing pipeline",
          "gclk measure cut.otio --seconds 30");
  s->add_option("--seconds", seconds, "Stop after this long")->check(CLI::Range(0.1, 3600.0));
  s->add_flag("--again", again, "Measure also what is known already");
  s->callback([&] { code = cmd_measure(c, seconds, again); });
  s = with_range(add("forecast", "Say which spans will drop frames, how surely, and why",
                     "gclk forecast cut.otio --range 01:00:10:00-01:00:30:00"));
  s->add_flag("--must-hold", holds, "Exit with 1 when any span spills or wavers");
  s->add_flag("--loop", loop, "Of a further pass of a loop, not of the first");
  s->add_option("--seat", other_seat, "On this seat instead: a profile's file or the name of one that ships");
  s->callback([&] { code = cmd_forecast(c, holds, loop, other_seat); });
  add_plan_commands(app, c, code, asked_to_stop);
  add_deliver_commands(app, c, code, asked_to_stop);
  add_queue_commands(app, c, code, asked_to_stop);
  add_interchange_commands(app, c, code, asked_to_stop);
  s = add("bypass", "Bypass one effect for playback, or lift the bypass",
          "gclk bypass cut.otio ky-03 ky-03-clean --lift");
  s->add_option("segment", segment, "Id of the segment")->required();
  s->add_option("effect", effect, "Id of the effect")->required();
  s->add_flag("--lift", lift, "Lift the bypass");
  s->callback([&] { code = cmd_bypass(c, segment, effect, lift); });
  s = add("set", "Change one parameter of an effect", "gclk set cut.otio ky-03 ky-03-grade saturation 1.2");
  s->add_option("segment", segment, "Id of the segment")->required();
  s->add_option("effect", effect, "Id of the effect")->required();
  s->add_option("param", param, "Name of the parameter")->required();
  s->add_option("value", value, "Its value, as JSON")->required();
  s->callback([&] { code = cmd_set(c, segment, effect, param, value); });
  add_picture_commands(app, c, code);
  add_file_commands(app, c, code);
  add_shelf_commands(app, c, code, asked_to_stop);
  add_remedy_commands(app, c, code, asked_to_stop);
  add_playout_commands(app, c, code, asked_to_stop);
  add_score_commands(app, c, code, asked_to_stop);
  add_what_if_command(app, c, code);
  add_seat_commands(app, c, code, asked_to_stop);

  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& e) {
    if (e.get_exit_code() == 0) return app.exit(e, std::cout, std::cerr);
    std::vector<std::string> names;
    for (const CLI::App* known : app.get_subcommands({})) names.push_back(known->get_name());
    const bool command = argc > 1 && std::find(names.begin(), names.end(), argv[1]) != names.end();
    const std::string like = argc > 1 && !command ? most_like(argv[1], names) : "";
    const bool json = std::find(argv, argv + argc, std::string_view("--json")) != argv + argc;
    return fail(Error{Fault::usage,
                      argc > 1 && !command && argv[1][0] != '-' ? fmt::format("there is no command '{}'", argv[1])
                                                                : std::string(e.what()),
                      "",
                      !like.empty() ? fmt::format("'{}' is like it.", like)
                      : command     ? fmt::format("`gclk {} --help` says what it takes.", argv[1])
                                    : "`gclk --help` lists the commands."},
                json);
  } catch (const std::bad_alloc&) {
    return fail(Error{Fault::environment, "there is not enough memory", "",
                      "Close other programs or choose a smaller raster."},
                c.json);
  } catch (const std::exception& e) {
    return fail(Error{Fault::environment, std::string("something unexpected failed: ") + e.what(), "",
                      "Please report it with the command you gave."},
                c.json);
  }
  return code;
}
