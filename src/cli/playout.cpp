#include "cli/playout.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "audit/explain.h"
#include "base/clock.h"
#include "cli/print.h"
#include "cli/table.h"
#include "playout/record.h"
#include "playout/trace.h"
#include "queue/hush.h"

namespace gc {
namespace {

struct PlayArguments {
  bool every = false, monitor = false;
  int loops = 1, repeat = 1;
  std::string csv, trace, record, around, script;
};

Result<void> write_files(const Playout& p, const Program& program, const PlayArguments& a) {
  if (!a.csv.empty())
    if (auto r = write_file_atomic(a.csv, log_csv(p)); !r) return r;
  if (!a.trace.empty())
    if (auto r = write_file_atomic(a.trace, log_trace(p, program).dump() + "\n"); !r) return r;
  if (!a.record.empty())
    if (auto r = save_record(record_of(p, program), a.record); !r) return r;
  return {};
}

/// Said before it is played, not after.
Result<void> files_are_free(const PlayArguments& a) {
  for (const std::string& file : {a.csv, a.trace, a.record})
    if (!file.empty())
      if (auto r = must_be_free(file); !r) return r;
  return {};
}

int cmd_playout(Common c, const PlayArguments& a, const std::atomic<bool>& interrupted) {
  if (auto r = files_are_free(a); !r) return fail(r.error(), c.json);
  if (!a.around.empty()) c.range.clear();
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const Settings& settings = o->stores.options.settings;
  FrameRange range = o->range;
  const Rate rate = o->view.timeline->rate;
  if (!a.around.empty()) {
    const auto from_there = parse_range(a.around + "-", o->view);
    if (!from_there) return fail(from_there.error(), c.json);
    range =
        around(from_there->in, settings.preroll_s, settings.postroll_s, rate, o->view.timeline->duration());
  }
  PlayOptions options =
      o->stores.play_options(a.every ? PlayMode::every_frame : PlayMode::on_the_clock, o->view, range);
  options.passes = a.loops;
  NullDisplay nowhere;
  MonitorStandIn monitor(rate.frame_ms(), 3);
  Display& display = a.monitor ? static_cast<Display&>(monitor) : nowhere;
  const Hush hush;
  const Playout p = play(
      o->view.played, o->stores.shelf.get(), range, options, display, interrupted, [](const PlayState& s) {
        if (s.frame % 12 == 0)
          show_progress(
              fmt::format("Frame {}, {} dropped, {:.1f} frames a second", s.frame, s.dropped, s.rate));
      });
  end_progress();
  if (auto r = write_files(p, *o->view.played, a); !r) return fail(r.error(), c.json);
  if (c.json) {
    Json j = to_json(p);
    j["warnings"] = warnings(p, settings.muted);
    if (a.monitor)
      j["monitor"] = {
          {"shown", monitor.shown()}, {"repeated", monitor.repeated()}, {"refused", monitor.refused()}};
    put(j);
  } else {
    print(p, o->view);
    if (a.every) fmt::print("  Every frame was played, slower where it had to be, without sound.\n");
    for (const std::string& w : warnings(p, settings.muted)) fmt::print("  {}\n", w);
  }
  return p.stopped ? 4 : p.offline() > 0 ? 1 : 0;
}

int cmd_audit(const Common& c, const PlayArguments& a, const std::atomic<bool>& interrupted) {
  if (auto r = files_are_free(a); !r) return fail(r.error(), c.json);
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  if (auto measured = measure_now(*o, 20, false, interrupted); !measured) return fail(measured.error(), c.json);
  const Forecast f = forecast(*o->view.played, *o->stores.notebook, o->view.seals, o->range,
                              o->stores.forecast_options());
  Json runs = Json::array();
  if (!c.json) print(f, o->view);
  std::vector<AuditRun> all;
  const Forecast own = alone(f, *o->view.played);
  const Hush hush;
  for (int i = 0; i < a.repeat; ++i) {
    NullDisplay display;
    Playout p = play(o->view.played, o->stores.shelf.get(), o->range,
                     o->stores.play_options(PlayMode::on_the_clock, o->view, o->range), display, interrupted);
    if (p.stopped) return 4;
    if (i == 0)
      if (auto r = write_files(p, *o->view.played, a); !r) return fail(r.error(), c.json);
    const Audit audited = audit(f, own, p);
    if (auto r = remember(audited, o->view, *o->stores.notebook); !r) return fail(r.error(), c.json);
    if (auto r = note_playout(f, p, *o->view.played, *o->stores.notebook); !r) return fail(r.error(), c.json);
    const Explanation e = explain(f, p, *o->view.played);
    if (c.json) {
      Json j = to_json(audited, f, p);
      j["explained"] = to_json(e);
      if (i > 0) j.erase("forecast");
      runs.push_back(std::move(j));
    } else {
      print(p, o->view);
      print(audited);
      for (const std::string& s : e.sentences) fmt::print("  {}\n", s);
    }
    if (!e.model.agrees())
      if (const auto file = keep_replay(p, *o->view.played, data_folder() / "replays"); file && !c.json)
        fmt::print("  The model alone was wrong: gclk replay {} shows it.\n", file->string());
    all.push_back({f, std::move(p)});
  }
  const Reliability r = reliability(all, *o->view.played);
  if (c.json) {
    Json j = runs.size() == 1 ? runs[0] : Json{{"runs", runs}};
    j["reliability"] = to_json(r), j["track_record"] = track_record(*o->stores.notebook);
    put(j);
  } else {
    print(r, "Dropped any");
    fmt::print("  {}\n", track_record(*o->stores.notebook));
  }
  return 0;
}

int cmd_replay(const Common& c, const PlayArguments& a) {
  auto record = load_record(a.script);
  if (!record) return fail(record.error(), c.json);
  const Replay r = replay(*record);
  if (c.json) {
    Json parts = Json::array();
    for (const Replay::Part& p : r.parts)
      parts.push_back({{"segment", p.segment},
                       {"frames", p.frames},
                       {"observed", p.observed},
                       {"modelled", p.modelled},
                       {"agrees", p.agrees()}});
    put({{"observed", r.observed}, {"modelled", r.modelled}, {"agrees", r.agrees()}, {"segments", parts}});
  } else {
    Table t({"Segment", "Frames", "Dropped", "By the model", ""});
    for (const Replay::Part& p : r.parts)
      t.row({p.segment, std::to_string(p.frames), std::to_string(p.observed), std::to_string(p.modelled),
             p.agrees() ? "" : "differs"});
    fmt::print("{}With the measured times the model drops {} frames; {} were dropped.\n", t.text(),
               r.modelled, r.observed);
  }
  return r.agrees() ? 0 : 1;
}

}  // namespace

void add_playout_commands(CLI::App& app, Common& c, int& code, const std::atomic<bool>& interrupted) {
  static PlayArguments a;
  const auto add = [&](const char* name, const char* what, const char* example, bool file = true) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, file);
    return s;
  };
  const auto files = [&](CLI::App* s) {
    s->add_option("--range", c.range, "IN-OUT, frames or timecodes");
    s->add_option("--csv", a.csv, "Write the log of every frame as a table");
    s->add_option("--trace", a.trace, "Write every stage as a trace-event file");
    s->add_option("--record", a.record, "Write what every frame took, for replay");
    return s;
  };
  CLI::App* s = files(add("playout", "Play against the real clock without a window; log missed frames",
                          "gclk playout cut.otio --range 0-240 --trace playout.json"));
  s->add_flag("--every-frame", a.every, "Drop nothing; take longer");
  s->add_option("--loops", a.loops, "Play the range this often without a break")->check(CLI::Range(1, 1000));
  s->add_option("--around", a.around,
                "Play from the pre-roll before this frame or timecode to the post-roll after it");
  s->add_flag("--monitor", a.monitor, "Into the stand-in for a hardware output, with a cadence of its own");
  s->callback([&] { code = cmd_playout(c, a, interrupted); });

  s = files(add("audit", "Forecast, play, and hold one against the other",
                "gclk audit cut.otio --repeat 3 --json"));
  s->add_option("--repeat", a.repeat, "Play this often")->check(CLI::Range(1, 100));
  s->callback([&] { code = cmd_audit(c, a, interrupted); });

  s = add("replay", "Drive the model of the pipeline with the times that a playout really took",
          "gclk replay playout-record.json", false);
  s->add_option("record", a.script, "Playout record")->required();
  s->callback([&] { code = cmd_replay(c, a); });
}

}  // namespace gc
