#include "cli/seat.h"

#include <fmt/format.h>
#include <unistd.h>

#include <iostream>

#include "base/clock.h"
#include "base/slow_volume.h"
#include "cli/print.h"
#include "cli/table.h"
#include "desk/seats.h"
#include "measure/seat_run.h"
#include "measure/self_test.h"
#include "queue/hush.h"

namespace gc {
namespace {

struct SeatArguments {
  bool full = false, quick = false, self_test = false, paths = false, network = false;
  std::vector<std::string> volumes, others;
  std::string save, name, first, second, slow;
  double seconds = 60, read_mb_s = 95, write_mb_s = 60, latency_ms = 2;
  std::uint64_t seed = 1;
};

std::function<bool(const SeatRunProgress&)> shown(const std::atomic<bool>& interrupted) {
  return [&interrupted](const SeatRunProgress& p) {
    show_progress(fmt::format("{}, {:.0f} of at most {:.0f} s", p.what, p.seconds, p.limit_seconds));
    return !interrupted.load();
  };
}

void print_volumes(const SeatProfile& p) {
  if (p.volumes.empty()) return;
  Table t({"Volume", "Type", "Writes MB/s", "Reads MB/s", "Reads again", "4 readers", "Write p50/p95/p99 ms",
           "Free", "Page cache"});
  for (const VolumeSpeed& v : p.volumes)
    t.row({v.label + (v.folder.empty() ? "" : " " + v.folder), v.type, fmt::format("{:.0f}", v.write_mb_s),
           fmt::format("{:.0f}", v.read_mb_s), fmt::format("{:.0f}", v.cached_read_mb_s),
           fmt::format("{:.0f}", v.streams.empty() ? 0.0 : v.streams.back().mb_s),
           fmt::format("{:.1f}/{:.1f}/{:.1f}", v.write_ms_50, v.write_ms_95, v.write_ms_99),
           bytes_text(v.free_bytes), v.direct ? "kept out" : "helped"});
  fmt::print("{}", t.text());
}

void print_forms(const std::vector<FormCost>& forms, const std::vector<VolumeSpeed>& volumes, double fps) {
  std::vector<std::string> heads{"Form",      "Raster",   "MB a frame", "Encode ms",
                                 "Decode ms", "Frames/s", "PSNR dB",    "SSIM"};
  for (const VolumeSpeed& v : volumes) heads.push_back("From " + v.label);
  Table t(heads);
  for (const FormCost& f : forms) {
    std::vector<std::string> cells{f.form,
                                   fmt::format("{} × {}", f.width, f.height),
                                   fmt::format("{:.2f}", f.bytes / 1e6),
                                   fmt::format("{:.1f}", f.encode_ms),
                                   fmt::format("{:.1f}", f.decode_ms),
                                   fmt::format("{:.0f}", f.decode_fps),
                                   f.psnr_db >= 1000 ? "equal" : fmt::format("{:.1f}", f.psnr_db),
                                   fmt::format("{:.4f}", f.ssim)};
    for (const VolumeSpeed& v : volumes) {
      const FormFit fit = fit_of(f, v, fps);
      cells.push_back(
          fit.margin() >= 1
              ? fmt::format("plays, {:.1f} times", fit.margin())
              : fmt::format("no: {}", fit.volume_margin < fit.decode_margin ? "volume" : "decoding"));
    }
    t.row(cells);
  }
  fmt::print("{}", t.text());
  for (const VolumeSpeed& v : volumes) {
    std::string line;
    for (const Purpose p : {Purpose::cutting, Purpose::colour, Purpose::delivery}) {
      const FormCost* best = best_form(forms, v, fps, p);
      line += fmt::format("{}for {}: {}", line.empty() ? "" : "; ", purpose_name(p),
                          best ? best->form : "none plays well enough");
    }
    fmt::print("Volume {}: {}.\n", v.label, line);
  }
}

void print_profile(const SeatProfile& p) {
  fmt::print("{}: {}, {} processors; {:.1f} GB memory, {:.1f} left to other programs\n", p.name, p.processor,
             p.processors, static_cast<double>(p.memory_bytes) / 1e9, p.memory_left_gb);
  if (p.memory)
    fmt::print("  memory copies {:.1f} GB/s, triad {:.1f} GB/s\n", p.memory->copy_mb_s / 1e3,
               p.memory->triad_mb_s / 1e3);
  if (p.endurance)
    fmt::print(
        "  keeps {:.0f} % of its speed over {:.0f} s; strangers on its cores {:.0f} % of the time; all "
        "processors at once do {:.0f} % of "
        "their number\n",
        p.endurance->ratio() * 100, p.endurance->seconds, p.endurance->shared * 100,
        p.endurance->side_by_side * 100);
  for (const Contention& c : p.contention)
    fmt::print(
        "  a frame that {}: {:.1f} ms alone; {:.2f} times that beside its like, {:.2f} times beside the "
        "other "
        "sort\n",
        c.work, c.alone_ms, c.same(), c.other());
  if (p.accelerator)
    fmt::print("  accelerator {}: {:.1f} GB/s there, {:.1f} GB/s back\n", p.accelerator->name,
               p.accelerator->up_mb_s / 1e3, p.accelerator->down_mb_s / 1e3);
  else if (!p.accelerator_trouble.empty()) fmt::print("  {}\n", p.accelerator_trouble);
  print_volumes(p);
  print_forms(p.forms, p.volumes, 24);
  Table t({"Law", "Stage", "Places", "Error", "Nine in ten"});
  for (const auto& [id, law] : p.laws)
    t.row({law.name().label, stage_name(law.name().kind), std::to_string(law.fit().places),
           error_text(law.fit().cv_error),
           error_text(law.fit().cv_error_90)});
  fmt::print("{}", t.text());
  for (const std::string& u : p.unknown) fmt::print("  not known: {}\n", u);
}

Result<Stores> stores_of(const Common& c) { return Stores::open(c.desk()); }

SeatRunOptions run_options(const SeatArguments& a, const Stores& s) {
  SeatRunOptions o;
  o.full = a.full, o.workers = s.options.workers, o.memory_left_gb = s.options.settings.memory_left_gb;
  o.network = a.network, o.seed = a.seed;
  for (const std::string& v : a.volumes) o.volumes.emplace_back(v);
  if (o.volumes.empty()) o.volumes.push_back(s.shelf->folder());
  o.known_volumes = known_profile(s).volumes;
  return o;
}

int print_goals(const std::vector<Goal>& goals, bool json, const Json& more) {
  const bool all = std::all_of(goals.begin(), goals.end(), [](const Goal& g) { return g.met(); });
  if (json) {
    Json j = more;
    j["goals"] = to_json(goals), j["met"] = all;
    put(j);
  } else {
    print(goals);
  }
  return all ? 0 : 1;
}

constexpr double kTryLawsSeconds = 120;

/// In a notebook of its own, so that nothing known before helps.
int self_test(const Common& c, const SeatArguments& a, const std::atomic<bool>& interrupted) {
  auto stores = stores_of(c);
  if (!stores) return fail(stores.error(), c.json);
  auto scratch = ScratchFolder::make(cache_folder(), "self-test-");
  if (!scratch) return fail(scratch.error(), c.json);
  const fs::path folder = scratch->path();
  std::vector<Goal> goals;
  Json more;
  {
    auto notebook = Notebook::open(folder / "full.sqlite");
    if (!notebook) return fail(notebook.error(), c.json);
    SeatRunOptions o = run_options(a, *stores);
    o.full = true, o.seed = a.seed + 1000;
    const Hush hush;
    auto r = measure_seat(**notebook, o, shown(interrupted));
    end_progress();
    if (!r) return fail(r.error(), c.json);
    if (r->cancelled) return 4;
    if (!a.name.empty()) r->profile.name = a.name;
    if (!a.save.empty())
      if (auto saved = save_profile(r->profile, a.save, a.paths); !saved)
        return fail(saved.error(), c.json);
    // The laws are tried as a person has them after a full measurement, on work that they never saw.
    CalibrateOptions unseen;
    unseen.workers = o.workers, unseen.seed = a.seed + 2000, unseen.only_tries = true;
    unseen.seconds = kTryLawsSeconds;
    auto tried = calibrate(**notebook, unseen, [&](const CalibrateProgress& p) {
      show_progress("Trying the laws on " + p.what);
      return !interrupted;
    });
    end_progress();
    if (!tried) return fail(tried.error(), c.json);
    if (tried->cancelled) return 4;
    goals = law_goals(tried->held_out);
    goals.push_back({"full measurement", "s", r->seconds, 0, 360});
    goals.push_back(covered_goal(**notebook, stores->options.workers));
    more = {{"runs", r->calibration.runs},
            {"frames", r->calibration.frames},
            {"tried_runs", tried->runs},
            {"held_out", tried->held_out.size()},
            {"by_law", to_json(law_errors(tried->held_out))},
            {"tries", to_json(tried->held_out)},
            {"disturbed_runs", r->calibration.disturbed},
            {"shared_cores", r->profile.shared}};
  }
  {
    auto notebook = Notebook::open(folder / "quick.sqlite");
    if (!notebook) return fail(notebook.error(), c.json);
    const Hush hush;
    auto r = measure_seat(**notebook, run_options(a, *stores), shown(interrupted));
    end_progress();
    if (!r) return fail(r.error(), c.json);
    if (r->cancelled) return 4;
    goals.push_back({"quick measurement", "s", r->seconds, 0, 60});
  }
  show_progress("Making a notebook of ten million samples");
  auto n = notebook_goals(folder, 10'000'000);
  end_progress();
  if (!n) return fail(n.error(), c.json);
  goals.insert(goals.end(), n->begin(), n->end());
  return print_goals(goals, c.json, more);
}

int cmd_seat(const Common& c, const SeatArguments& a, const std::atomic<bool>& interrupted) {
  if (!a.slow.empty()) {
    if (auto r = make_slow_volume(a.slow, {a.read_mb_s, a.write_mb_s, a.latency_ms, 0, 0}); !r)
      return fail(r.error(), c.json);
    if (!c.json)
      fmt::print(
          "{} is now a stand-in for a drive of {:.0f} MB/s reading and {:.0f} MB/s writing. Remove {} in it "
          "to end that.\n",
          a.slow, a.read_mb_s, a.write_mb_s, kSlowVolumeMarker);
    else put({{"folder", a.slow}, {"read_mb_s", a.read_mb_s}, {"write_mb_s", a.write_mb_s}});
    return 0;
  }
  if (!a.save.empty())
    if (auto r = must_be_free(a.save); !r) return fail(r.error(), c.json);
  if (a.self_test) return self_test(c, a, interrupted);
  auto stores = stores_of(c);
  if (!stores) return fail(stores.error(), c.json);
  if (!a.quick && !a.full && a.volumes.empty()) {
    // What is known, without measuring.
    SeatProfile p = known_profile(*stores);
    if (!a.name.empty()) p.name = a.name;
    if (!a.save.empty())
      if (auto r = save_profile(p, a.save, a.paths); !r) return fail(r.error(), c.json);
    if (c.json) {
      Json j = to_json(look_at_seat());
      j["profile"] = to_json(p, a.paths);
      for (const News& n : stores->notebook->news())
        j["news"].push_back({{"at", n.at}, {"text", n.text}, {"factor", n.factor}});
      put(j);
    } else {
      print(look_at_seat());
      print_profile(p);
      for (const News& n : stores->notebook->news()) fmt::print("  news, {}: {}\n", n.at, n.text);
      if (p.laws.empty()) fmt::print("Nothing was measured yet. gclk seat --quick takes a minute.\n");
    }
    return 0;
  }
  SeatProfile profile;
  if (!a.quick && !a.full) {
    // Volumes alone.
    profile = known_profile(*stores);
    profile.volumes.clear();
    char label = 'A';
    for (const std::string& folder : a.volumes) {
      VolumeOptions o;
      o.network = a.network;
      auto v = measure_volume(folder, o, [&] { return !interrupted.load(); });
      if (!v) return fail(v.error(), c.json);
      v->label = std::string(1, label++);
      profile.volumes.push_back(std::move(*v));
    }
    if (c.json) {
      Json j = to_json(look_at_seat());
      j["measured"] = to_json(profile, true)["volumes"];
      put(j);
    } else {
      print_volumes(profile);
    }
    return 0;
  }
  const Hush hush;
  auto r = measure_seat(*stores->notebook, run_options(a, *stores), shown(interrupted));
  end_progress();
  if (!r) return fail(r.error(), c.json);
  if (auto kept = keep_profile(r->profile); !kept) return fail(kept.error(), c.json);
  if (!a.name.empty()) r->profile.name = a.name;
  if (!a.save.empty())
    if (auto saved = save_profile(r->profile, a.save, a.paths); !saved) return fail(saved.error(), c.json);
  if (c.json) {
    Json j = to_json(look_at_seat());
    j["profile"] = to_json(r->profile, a.paths), j["seconds"] = r->seconds, j["cancelled"] = r->cancelled;
    put(j);
  } else {
    print_profile(r->profile);
    fmt::print("Measured in {:.0f} s.\n", r->seconds);
  }
  return r->cancelled ? 4 : 0;
}

int cmd_seat_compare(const Common& c, const SeatArguments& a) {
  auto x = find_profile(a.first), y = find_profile(a.second);
  if (!x) return fail(x.error(), c.json);
  if (!y) return fail(y.error(), c.json);
  const auto rows = compare_seats(*x, *y);
  if (c.json) {
    Json j{{"first", x->name}, {"second", y->name}, {"rows", Json::array()}};
    for (const SeatRow& r : rows)
      j["rows"].push_back({{"what", r.what}, {"first", r.first}, {"second", r.second}, {"ratio", r.ratio}});
    put(j);
    return 0;
  }
  Table t({"", x->name, y->name, "Second is"});
  for (const SeatRow& r : rows)
    t.row({r.what, r.first, r.second, r.ratio > 0 ? fmt::format("{:.2f} times as fast", r.ratio) : ""});
  fmt::print("{}", t.text());
  return 0;
}

int cmd_codecs(const Common& c, const SeatArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  CodecOptions options;
  options.workers = o->stores.options.workers, options.seconds = a.seconds;
  auto report = measure_codecs(o->view.delivered, o->stores.notebook.get(), options,
                               [&](const std::string& form, double share) {
                                 show_progress(fmt::format("{:3.0f} %  {}", share * 100, form));
                                 return !interrupted.load();
                               });
  end_progress();
  if (!report) return fail(report.error(), c.json);
  if (auto saved = o->stores.notebook->save(); !saved) return fail(saved.error(), c.json);
  std::vector<VolumeSpeed> volumes;
  char label = 'A';
  std::vector<std::string> folders = a.volumes;
  if (folders.empty()) folders.push_back(o->stores.shelf->folder().string());
  const Timeline& t = *o->view.timeline;
  for (const std::string& folder : folders) {
    VolumeOptions v;
    v.chunk = static_cast<std::size_t>(vc3_frame_bytes(t.width, t.height, kVc3Hqx)), v.network = a.network;
    auto speed = measure_volume(folder, v, [&] { return !interrupted.load(); });
    if (!speed) return fail(speed.error(), c.json);
    speed->label = std::string(1, label++);
    volumes.push_back(std::move(*speed));
  }
  SeatProfile p = known_profile(o->stores);
  p.forms = report->forms, p.volumes = volumes;
  if (auto kept = keep_profile(p); !kept) return fail(kept.error(), c.json);
  if (c.json) {
    const Json all = to_json(p, true);
    Json j{{"forms", all["forms"]},
           {"volumes", all["volumes"]},
           {"left_out", report->left_out},
           {"fits", Json::array()}};
    for (const VolumeSpeed& v : volumes)
      for (const FormCost& f : report->forms) {
        const FormFit fit = fit_of(f, v, t.rate.fps());
        j["fits"].push_back({{"volume", v.label},
                             {"form", f.form},
                             {"plays", fit.margin() >= 1},
                             {"margin", fit.margin()},
                             {"volume_margin", fit.volume_margin},
                             {"decode_margin", fit.decode_margin}});
      }
    for (const VolumeSpeed& v : volumes)
      for (const Purpose purpose : {Purpose::cutting, Purpose::colour, Purpose::delivery}) {
        const FormCost* best = best_form(report->forms, v, t.rate.fps(), purpose);
        j["best"].push_back({{"volume", v.label},
                             {"for", purpose_name(purpose)},
                             {"form", best ? Json(best->form) : Json()}});
      }
    put(j);
  } else {
    print_volumes(p);
    print_forms(report->forms, volumes, t.rate.fps());
    for (const std::string& l : report->left_out) fmt::print("  left out: {}\n", l);
  }
  return 0;
}

int cmd_advise(const Common& c, const SeatArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  if (auto m = measure_now(*o, 20, false, interrupted); !m) return fail(m.error(), c.json);
  AdviceOptions options{o->stores.forecast_options(), invented_seats()};
  for (const std::string& file : a.others) {
    auto p = find_profile(file);
    if (!p) return fail(p.error(), c.json);
    options.others.push_back(std::move(*p));
  }
  const Advice advice =
      advise(*o->view.played, o->stores.notebook, known_profile(o->stores), o->view.seals, options);
  if (c.json) {
    put(to_json(advice));
    return 0;
  }
  fmt::print("{}\n", advice.sentence);
  for (const AdviceItem& i : advice.items) fmt::print("  · {}\n", i.text);
  Table t({"In", "Frames", "Verdict", "Held back by", "Dearest stage"});
  for (const Span& s : advice.binding)
    t.row({std::to_string(s.in), std::to_string(s.out - s.in), verdict_name(s.verdict), cause_name(s.cause),
           fmt::format("{} {:.0f} ms", s.blame.label, s.blame.ms)});
  fmt::print("{}", t.text());
  Table g({"Twice the", "Dropped frames", "Spans not holding"});
  for (const Gain& x : advice.gains)
    g.row({x.resource, fmt::format("{:.0f}", x.drops), std::to_string(x.not_holding)});
  if (!advice.gains.empty()) fmt::print("{}", g.text());
  Table s({"Seat", "Dropped frames", "Spills", "Wavers", "Taken over from here"});
  for (const SeatVerdict& v : advice.seats)
    s.row({v.seat, fmt::format("{:.0f}", v.drops), std::to_string(v.spilling), std::to_string(v.wavering),
           std::to_string(v.taken_over.size()) + " laws"});
  fmt::print("{}", s.text());
  return 0;
}

}  // namespace

void add_seat_commands(CLI::App& app, Common& c, int& code, const std::atomic<bool>& interrupted) {
  static SeatArguments a;
  const auto stores = [&](CLI::App* s, bool file = false) {
    add_common(s, c, file);
    return s;
  };
  CLI::App* s = stores(app.add_subcommand("seat", "Say what this machine is and can do, or measure it"));
  s->footer("Example: gclk seat --quick --volume /media/fast --save this-seat.json");
  s->add_flag("--quick", a.quick, "Measure within a minute");
  s->add_flag("--full", a.full, "Measure within six minutes")->excludes("--quick");
  s->add_flag("--self-test", a.self_test,
              "Hold the measuring itself against its goals; takes about eight minutes");
  s->add_option("--volume", a.volumes, "Measure the volume that holds this folder");
  s->add_flag("--network", a.network, "Volumes on a network too");
  s->add_option("--save", a.save, "Write the profile to this file");
  s->add_option("--name", a.name, "The profile's name");
  s->add_flag("--with-paths", a.paths, "Keep folders in the profile");
  s->add_option("--seed", a.seed, "Seed of what is tried");
  s->add_option("--slow-stand-in", a.slow, "Make this folder a stand-in for a slow drive");
  s->add_option("--read", a.read_mb_s, "Its reading, MB/s")->check(CLI::Range(0.1, 1e5));
  s->add_option("--write", a.write_mb_s, "Its writing, MB/s")->check(CLI::Range(0.1, 1e5));
  s->add_option("--latency", a.latency_ms, "Of each access, ms")->check(CLI::Range(0.0, 1e4));
  s->require_subcommand(0, 1);
  CLI::App* compare = s->add_subcommand("compare", "Two seats side by side");
  compare->footer("Example: gclk seat compare laptop.json \"Tower with an accelerator\"");
  compare->add_flag("--json", c.json, "One JSON document on standard output");
  compare->add_option("first", a.first, "Profile file, 'this', or the name of a seat that ships")->required();
  compare->add_option("second", a.second, "The same")->required();
  compare->callback([&] { code = cmd_seat_compare(c, a); });
  s->callback([&, s] {
    if (s->get_subcommands().empty()) code = cmd_seat(c, a, interrupted);
  });

  s = stores(app.add_subcommand("codecs", "Try every form of cached media on frames of a timeline"), true);
  s->footer("Example: gclk codecs cut.otio --volume /media/fast");
  s->add_option("--volume", a.volumes, "Volumes to hold them against; the shelf's when left out");
  s->add_option("--seconds", a.seconds, "Stop after about this long")->check(CLI::Range(1.0, 3600.0));
  s->add_flag("--network", a.network, "Volumes on a network too");
  s->callback([&] { code = cmd_codecs(c, a, interrupted); });

  s = stores(
      app.add_subcommand("advise", "Say what holds this seat back for a timeline, and what would help"), true);
  s->footer("Example: gclk advise cut.otio --seat colleague.json");
  s->add_option("--seat", a.others, "Other seats to try, beside those that ship");
  s->callback([&] { code = cmd_advise(c, a, interrupted); });
}

}  // namespace gc
