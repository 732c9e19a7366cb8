#include "cli/score.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "audit/foreign.h"
#include "audit/score.h"
#include "audit/speed.h"
#include "base/clock.h"
#include "cli/print.h"
#include "cli/table.h"
#include "desk/carry_score.h"
#include "desk/delivery_score.h"
#include "desk/remedy_score.h"
#include "desk/report.h"
#include "interchange/otio.h"
#include "plan/night.h"
#include "playout/record.h"
#include "playout/trace.h"
#include "queue/hush.h"

namespace gc {
namespace {

struct ScoreArguments {
  bool foreign = false, check = false, remedies = false, plans = false, carry_out = false, deliveries = false, loads = false;
  int cases = 0, nights = 0;
  int files = 0;
  int repeat = 3, timelines = 20, segments = 7;
  std::string folder, keep;
  std::uint64_t seed = 1;
  double measure_seconds = 20;
};

/// Leaves a timeline, what was said of it and a playout in a folder: SEED.otio, SEED-N.forecast.json, SEED-N.record.json and SEED-N.trace.json.
Result<void> keep_in(const fs::path& folder, std::uint64_t seed, const Program& program, const Forecast& said, const Playout& played, int which) {
  std::error_code e;
  fs::create_directories(folder, e);
  if (auto r = save_timeline(*program.timeline(), folder / fmt::format("{}.otio", seed)); !r) return r;
  const auto named = [&](const char* what) { return folder / fmt::format("{}-{}.{}.json", seed, which + 1, what); };
  if (auto r = write_file_atomic(named("forecast"), to_json(said).dump() + "\n"); !r) return r;
  if (auto r = save_record(record_of(played, program), named("record")); !r) return r;
  return write_file_atomic(named("trace"), log_trace(played, program).dump() + "\n");
}

/// Loads are chosen by the seat's laws: without any they would not be spread as they should.
Result<void> need_laws(const Stores& stores, const std::atomic<bool>& interrupted) {
  if (stores.notebook->laws().size() >= 12) return {};
  CalibrateOptions quick;
  quick.seconds = 150, quick.workers = stores.options.workers, quick.most_mpix = 1.0;
  auto r = calibrate(*stores.notebook, quick, [&](const CalibrateProgress& p) {
    show_progress(
        fmt::format("Measuring what effects cost here: {:.0f} of {:.0f} s", p.seconds, p.limit_seconds));
    return !interrupted.load();
  });
  end_progress();
  if (!r) return std::unexpected(r.error());
  return {};
}

/// Makes foreign timelines, and where asked reads every one of them back.
int cmd_foreign(const Common& c, const ScoreArguments& a, const std::atomic<bool>& interrupted) {
  int files = 0, looked_at = 0;
  Json wrong = Json::array(), timelines = Json::array();
  for (std::uint64_t seed = a.seed; files < std::max(1, a.files) && !interrupted; ++seed) {
    const fs::path folder = a.check ? fs::path(a.folder) / std::to_string(seed) : fs::path(a.folder);
    auto made = make_foreign(folder, {seed, a.segments, [&] { return interrupted.load(); }});
    if (!made) return fail(made.error(), c.json);
    files += made->files;
    timelines.push_back({{"seed", seed}, {"file", made->timeline.string()}, {"frames", made->frames}, {"files", made->files}});
    if (!a.check) break;
    auto checked = check_foreign(*made, 5, reading_with(std::make_shared<MediaCatalog>()));
    if (!checked) return fail(checked.error(), c.json);
    looked_at += checked->looked_at;
    for (const Wrong& w : checked->wrong) {
      wrong.push_back({{"seed", seed}, {"frame", w.frame}, {"wanted", w.wanted}, {"shown", w.shown}, {"what", w.what}});
      if (!c.json)
        fmt::print("  seed {}, frame {}: {} was wanted, {} is shown; {}\n", seed, w.frame, w.wanted, w.shown, w.what);
    }
    if (checked->wrong.empty()) {
      std::error_code e;
      fs::remove_all(folder, e);  // made just now, by this command
    }
    show_progress(fmt::format("{} files, {} frames looked at, {} wrong", files, looked_at, wrong.size()));
  }
  end_progress();
  if (c.json) put({{"timelines", timelines}, {"files", files}, {"frames_looked_at", looked_at}, {"wrong", wrong}});
  else if (a.check) fmt::print("{} files, {} frames looked at, {} wrong.\n", files, looked_at, wrong.size());
  else fmt::print("{}\n", timelines[0]["file"].get<std::string>());
  return wrong.empty() ? 0 : 1;
}

int cmd_random(const Common& c, const ScoreArguments& a, const std::atomic<bool>& interrupted) {
  auto stores = Stores::open(c.desk());
  if (!stores) return fail(stores.error(), c.json);
  if (auto r = need_laws(*stores, interrupted); !r) return fail(r.error(), c.json);
  RandomOptions o;
  o.seed = a.seed, o.segments = a.segments, o.workers = stores->options.workers, o.foreign = a.foreign;
  const fs::path folder = fs::absolute(a.folder).lexically_normal();
  auto t = random_timeline(o, *stores->notebook, folder / "media");
  if (!t) return fail(t.error(), c.json);
  const fs::path file = folder / fmt::format("random-{}.otio", a.seed);
  if (auto r = save_timeline(**t, file); !r) return fail(r.error(), c.json);
  if (c.json) put({{"file", file.string()}, {"frames", (*t)->duration()}, {"rate", (*t)->rate.fps()}});
  else fmt::print("{}: {} frames at {:.3f}\n", file.string(), (*t)->duration(), (*t)->rate.fps());
  return 0;
}

/// Says what is done, and to go on until it is interrupted.
std::function<bool(const std::string&)> told_until(const std::atomic<bool>& interrupted) {
  return [&interrupted](const std::string& what) {
    show_progress(what);
    return !interrupted.load();
  };
}

/// Says a score as one document, or in words; 0 when it is met.
int say(const Common& c, const Json& j, const std::function<void()>& in_words) {
  if (c.json) put(j);
  else in_words();
  return j["met"].get<bool>() ? 0 : 1;
}

/// Remedies tried one by one; 0 when nine in ten are priced and gain as said.
int cmd_score_remedies(const Common& c, const ScoreArguments& a, const Stores& stores, const std::atomic<bool>& interrupted) {
  RemedyScoreOptions o;
  o.seed = a.seed, o.timelines = a.timelines, o.foreign = a.foreign;
  const auto tried = try_remedies(stores, o, cache_folder() / "random-media", told_until(interrupted), interrupted);
  end_progress();
  if (!tried) return fail(tried.error(), c.json);
  const Json j = to_json(*tried);
  return say(c, j, [&] {
    Table t({"Timeline", "Remedy", "Said", "Took", "Gain said", "Seen"});
    for (const TriedRemedy& r : *tried)
      t.row({std::to_string(r.timeline), r.id + (r.failed.empty() ? "" : ": " + r.failed), fmt::format("{:.1f} s", r.said_s), fmt::format("{:.1f} s", r.taken_s),
             fmt::format("{:.1f}", r.gain_said), fmt::format("{:.0f}", r.gain_seen)});
    fmt::print("{}{} tried; price within 15 %: {}, gain within 2 frames or 10 %: {} (goal 0.9 each); one playout against the next, so closely: {}.\n",
               t.text(), j["tried"].dump(), j["price_within"].dump(), j["gain_within"].dump(), j["playout_against_playout"].dump());
  });
}

/// Plans carried out; 0 when the reviews play and it took what was said.
int cmd_score_carry_out(const Common& c, const ScoreArguments& a, const Stores& stores, const std::atomic<bool>& interrupted) {
  CarryScoreOptions o;
  o.seed = a.seed, o.timelines = a.timelines, o.foreign = a.foreign, o.measure_seconds = a.measure_seconds;
  const auto all = carry_out_plans(stores, o, cache_folder() / "random-media", told_until(interrupted), interrupted);
  end_progress();
  if (!all) return fail(all.error(), c.json);
  const Json j = to_json(*all);
  return say(c, j, [&] {
    Table t({"Timeline", "Dropped", "Remedies", "Said", "Took", "Said", "Written", "Dropped then"});
    for (const CarriedPlan& p : *all)
      t.row({std::to_string(p.timeline) + (p.failed.empty() ? "" : ": " + p.failed), std::to_string(p.dropped_before), std::to_string(p.remedies),
             fmt::format("{:.1f} s", p.said_s), fmt::format("{:.1f} s", p.taken_s), fmt::format("{:.1f} MB", p.said_bytes / 1e6), fmt::format("{:.1f} MB", p.bytes / 1e6),
             fmt::format("{}", fmt::join(p.dropped_after, ", "))});
    fmt::print("{}{} of {} play then (goal five of six); seconds within 15 % in {} of {}, bytes in {} (goal nine of ten).\n", t.text(), j["play"].dump(), all->size(),
               j["seconds_within"].dump(), j["rendered"].dump(), j["bytes_within"].dump());
  });
}

/// Timelines delivered; 0 when it took what was said.
int cmd_score_deliveries(const Common& c, const ScoreArguments& a, const Stores& stores, const std::atomic<bool>& interrupted) {
  DeliveryScoreOptions o;
  o.seed = a.seed, o.timelines = a.timelines, o.foreign = a.foreign;
  const auto all = make_deliveries(stores, o, cache_folder() / "random-media", told_until(interrupted), interrupted);
  end_progress();
  if (!all) return fail(all.error(), c.json);
  const Json j = to_json(*all);
  return say(c, j, [&] {
    Table t({"Timeline", "Form", "Frames", "Said", "Took", "Said", "Written"});
    for (const MadeDelivery& m : *all)
      t.row({std::to_string(m.timeline) + (m.failed.empty() ? "" : ": " + m.failed), m.form, std::to_string(m.frames),
             m.said_s ? fmt::format("{:.1f} s", *m.said_s) : "not known", fmt::format("{:.1f} s", m.taken_s), fmt::format("{:.1f} MB", m.said_bytes / 1e6),
             fmt::format("{:.1f} MB", m.bytes / 1e6)});
    fmt::print("{}Seconds within 15 % in {} of {} (goal nine of ten), bytes in {}.\n", t.text(), j["seconds_within"].dump(), all->size(), j["bytes_within"].dump());
  });
}

int cmd_score_plans(const Common& c, const ScoreArguments& a, const std::atomic<bool>& interrupted) {
  PlanScoreOptions o;
  o.seed = a.seed;
  if (a.cases > 0) o.small_cases = a.cases;
  const PlanScore s = score_plans(o, [&](const std::string& what) {
    show_progress(what);
    return !interrupted.load();
  });
  end_progress();
  const Json j = to_json(s);
  return say(c, j, [&] {
    fmt::print("{} of {} small cases equal the best of all choices; worst gap {:.2f} % in {} cases, {:.2f} s at most.\n", s.brute_force_equal,
               s.brute_force_cases, s.worst_gap * 100, s.cases, s.seconds_worst);
    for (const auto& [name, p] : s.peers) fmt::print("  {}: {:.2f} times our time; with half of our time {:.2f} times our drops.\n", name, p.time_ratio, p.drops_ratio);
    for (const PlanScore::Large& l : s.large) fmt::print("  {} segments: {:.2f} s, gap {:.2f} %\n", l.units, l.seconds, l.gap * 100);
    fmt::print("  Along the schedule {:.2f} times the drops of what is best by then.\n", s.prefix_ratio);
  });
}

int cmd_score_nights(const Common& c, const ScoreArguments& a, const std::atomic<bool>& interrupted) {
  const NightScore s = score_nights(a.nights, a.seed, [&](const std::string& what) {
    show_progress(what);
    return !interrupted.load();
  });
  end_progress();
  if (c.json) {
    put(to_json(s));
    return 0;
  }
  Table t({"Way", "Reviews that play", "Drops left", "Worked", "Wasted on what went stale"});
  for (const auto& [name, w] : s.ways)
    t.row({name, fmt::format("{} of {}", w.played, s.nights), fmt::format("{:.0f}", w.drops), duration_text(w.worked),
           fmt::format("{} ({:.0f} %)", duration_text(w.wasted), 100 * w.wasted / std::max(1.0, w.worked))});
  fmt::print("{}Where nobody edits, the plan makes {} of {} play.\n", t.text(), s.possible, s.nights);
  return 0;
}

int cmd_score(const Common& c, const ScoreArguments& a, const std::atomic<bool>& interrupted) {
  if (a.nights > 0) return cmd_score_nights(c, a, interrupted);
  if (a.plans) return cmd_score_plans(c, a, interrupted);
  std::error_code e;
  if (!a.keep.empty() && fs::exists(a.keep, e) && !fs::is_empty(a.keep, e))
    return fail(usage("there are files already in " + a.keep, "Name a folder that is new or empty.").error(), c.json);
  auto stores = Stores::open(c.desk());
  if (!stores) return fail(stores.error(), c.json);
  const Hush hush;
  if (auto r = need_laws(*stores, interrupted); !r) return fail(r.error(), c.json);
  if (a.remedies) return cmd_score_remedies(c, a, *stores, interrupted);
  if (a.carry_out) return cmd_score_carry_out(c, a, *stores, interrupted);
  if (a.deliveries) return cmd_score_deliveries(c, a, *stores, interrupted);
  ScoreOptions o;
  o.timelines = a.timelines, o.seed = a.seed, o.repeat = a.repeat, o.measure_seconds = a.measure_seconds;
  o.forecast = stores->forecast_options(), o.random.segments = a.segments, o.random.foreign = a.foreign;
  const auto tell = told_until(interrupted);
  o.replays = data_folder() / "replays";
  const auto shelf = ScratchFolder::make(cache_folder(), "score-shelf-");
  if (!shelf) return fail(shelf.error(), c.json);
  o.renders = shelf->path();
  if (!a.keep.empty())
    o.keep = [&a](std::uint64_t seed, const Program& program, const Forecast& said, const Playout& played, int which) {
      return keep_in(fs::absolute(a.keep), seed, program, said, played, which);
    };
  auto s = score(stores->notebook, o, cache_folder() / "random-media", tell, interrupted);
  end_progress();
  if (!s) return fail(s.error(), c.json);
  for (Goal& g : outside_goals(o.forecast, *stores->notebook)) s->goals.push_back(std::move(g));
  for (Goal& g : speed_goals(stores->options.workers)) s->goals.push_back(std::move(g));
  const bool met = std::all_of(s->goals.begin(), s->goals.end(), [](const Goal& g) { return g.met(); });
  if (c.json) {
    Json j = to_json(*s);
    j["met"] = met;
    put(j);
  } else {
    Table t({"Timeline", "Frames", "Own drops said", "Seen", "Outside", "Span F1"});
    for (const TimelineScore& x : s->timelines) {
      std::string seen, outside;
      for (std::size_t i = 0; i < x.held.own.size(); ++i) {
        seen += fmt::format("{}{}{}", i ? " " : "", x.held.own[i], x.disturbed[i] ? "*" : "");
        outside += fmt::format("{}{}", i ? " " : "", x.held.all[i] - x.held.own[i]);
      }
      t.row({std::to_string(x.seed), std::to_string(x.frames),
             fmt::format("{:.0f} ({:.0f} to {:.0f})", x.held.expected, x.held.low, x.held.high), seen,
             outside, std::isnan(x.held.spans.f1()) ? "none" : fmt::format("{:.2f}", x.held.spans.f1())});
    }
    fmt::print("{}* disturbed\n", t.text());
    print(score_reliability(s->timelines), "Dropped two or more");
    print(s->goals);
  }
  return met ? 0 : 1;
}

}  // namespace

void add_score_commands(CLI::App& app, Common& c, int& code, const std::atomic<bool>& interrupted) {
  static ScoreArguments a;
  const auto add = [&](const char* name, const char* what, const char* example) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, false);
    return s;
  };
  CLI::App* s = add("random", "Make a random timeline with loads from 0.2 to 4", "gclk random --seed 7 /tmp/random");
  s->add_option("folder", a.folder, "Where to put it")->required();
  s->add_option("--seed", a.seed, "The same seed and the same laws give the same timeline");
  s->add_option("--segments", a.segments, "How many")->check(CLI::Range(1, 1000));
  s->add_flag("--foreign", a.foreign, "Of pictures that are not ours, with a list of what each frame must show");
  s->add_flag("--loads", a.loads, "With --foreign: loads from 0.2 to 4 on pictures that are not ours, without the list");
  s->add_flag("--check", a.check, "With --foreign: read the frames back, timeline after timeline");
  s->add_option("--files", a.files, "With --check: until this many files were made");
  s->callback([&] { code = a.foreign && !a.loads ? cmd_foreign(c, a, interrupted) : cmd_random(c, a, interrupted); });

  s = add("score", "Hold forecasts of random timelines against playouts",
          "gclk score --timelines 20 --seed 7");
  s->add_option("--timelines", a.timelines, "How many")->check(CLI::Range(1, 1000));
  s->add_option("--seed", a.seed, "Of the first; the others follow");
  s->add_option("--segments", a.segments, "Of each timeline")->check(CLI::Range(1, 100));
  s->add_option("--repeat", a.repeat, "Playouts of each")->check(CLI::Range(1, 20));
  s->add_option("--measure", a.measure_seconds, "Seconds to measure each, at most")
      ->check(CLI::Range(1.0, 600.0));
  s->add_option("--nights", a.nights, "How often the morning's review plays, on so many simulated nights with edits and slow hours")->check(CLI::Range(1, 100000));
  s->add_flag("--plans", a.plans, "How good plans are, on random problems with stated costs");
  s->add_option("--cases", a.cases, "With --plans: small cases that are held against every choice");
  s->add_flag("--remedies", a.remedies, "Price and gain of remedies, said against taken and seen");
  s->add_flag("--carry-out", a.carry_out, "Whether timelines play once their plans are carried out, and whether that took what was said");
  s->add_flag("--deliveries", a.deliveries, "Whether deliveries took as long as was said");
  s->add_flag("--foreign", a.foreign, "On pictures that are not ours");
  CLI::Option* keep = s->add_option("--keep", a.keep, "Folder that gets each timeline, what was said of it, and a record and a trace of each playout");
  for (const char* other : {"--nights", "--plans", "--remedies", "--carry-out", "--deliveries"}) keep->excludes(other);
  s->callback([&] { code = cmd_score(c, a, interrupted); });
}

}  // namespace gc
