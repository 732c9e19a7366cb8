#include "cli/plan.h"

#include <fmt/format.h>

#include "cli/print.h"
#include "cli/table.h"
#include "base/clock.h"
#include "desk/settled.h"
#include "desk/planning.h"
#include "desk/remedies.h"
#include "desk/watched.h"

namespace gc {
namespace {

struct PlanArguments {
  std::string by, review, why, compare, out, lp, from;
  std::vector<std::string> pins, forbids, allow, busy, parts;
  double disk = -1, measure = 20, drop_seconds = 0;
  bool frontier = false, keep = false;
};

/// What is kept for the timeline, then the review file, then what the command line says.
Result<Wishes> wishes_for(const View& view, const PlanArguments& a) {
  const Timeline& t = *view.timeline;
  Wishes w = wishes_of(t);
  if (!a.review.empty()) {
    auto read = read_wishes(a.review);
    if (!read) return read;
    w = *read;
  }
  Json said = to_json(w);
  if (!a.by.empty()) said["by"] = a.by;
  for (const std::string& text : a.parts) {
    const auto part = part_from(text, view);
    if (!part) return std::unexpected(part.error());
    said["reviews"].push_back({{"in", part->range.in}, {"out", part->range.out}, {"by", part->by}});
  }
  if (a.disk >= 0) said["disk_bytes"] = a.disk;
  if (!a.busy.empty()) said["busy"] = a.busy;
  if (a.drop_seconds > 0) said["drop_seconds"] = a.drop_seconds;
  for (const std::string& p : a.pins) said["pins"].push_back(p);
  for (const std::string& f : a.forbids) said["forbids"].push_back(f);
  for (const std::string& k : a.allow) said["allow"].push_back(k);
  auto all = wishes_from(said, "the command line");
  if (all && a.keep)
    if (auto r = keep_wishes(t, *all); !r) return std::unexpected(r.error());
  return all;
}

Result<Plan> plan_for(const Opened& o, const PlanArguments& a, const std::atomic<bool>& interrupted) {
  auto wishes = wishes_for(o.view, a);
  if (!wishes) return std::unexpected(wishes.error());
  auto options = plan_options(*wishes);
  if (!options) return std::unexpected(options.error());
  options->words = !wishes->pins.empty() || !wishes->forbids.empty();
  know_settledness(*options, *o.view.timeline);
  options->lp = !a.lp.empty(), options->thinking = 5;
  if (auto measured = measure_now(o, a.measure, false, interrupted); !measured) return std::unexpected(measured.error());
  // A few frames of each segment that has a key or a repair; what was looked at once is known.
  constexpr double kLooking = 4;
  look_for_must_watch(o.view, o.stores, kLooking, [&] { return !interrupted.load(); });
  return tried_plan(o.view, o.stores, o.range, *options, [&] { return interrupted.load(); });
}

void print_frontier(const Plan& p) {
  Table t({"Time", "Size", "Dropped frames left"});
  for (const FrontierPoint& f : p.frontier) t.row({duration_text(f.seconds), bytes_text(f.bytes), fmt::format("{:.1f}", f.drops)});
  fmt::print("{}", t.text());
}

int explain(const Plan& p, const std::string& id, const Common& c) {
  for (const Remedy& r : p.remedies) {
    if (r.id != id && r.segment != id) continue;
    if (c.json) put({{"id", r.id}, {"reason", r.reason}, {"drops_saved", r.drops_saved}, {"seconds", r.render_seconds}, {"hides", r.proposal.hides}});
    else
      fmt::print("{}\n  {}\n  Left out, about {:.1f} more frames would be dropped; it takes {} and {}.{}\n", r.id, r.reason, r.drops_saved,
                 duration_text(r.render_seconds), bytes_text(r.bytes), r.pinned ? " Pinned." : "");
    return 0;
  }
  return fail(usage(fmt::format("the plan has no '{}'", id), "`gclk plan` lists what it has.").error(), c.json);
}

int cmd_plan(const Common& c, const PlanArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  auto plan = plan_for(*o, a, interrupted);
  if (!plan) return fail(plan.error(), c.json);
  if (!a.lp.empty())
    if (auto r = write_out(a.lp, plan->lp); !r) return fail(r.error(), c.json);
  if (!a.out.empty())
    if (auto r = write_out(a.out, plan_file(*plan, o->view).dump(1) + "\n"); !r) return fail(r.error(), c.json);
  if (!a.why.empty()) return explain(*plan, a.why, c);
  Json j = to_json(*plan);
  if (!a.compare.empty()) {
    const auto other = compared(*plan, o->view, a.compare);
    if (!other) return fail(other.error(), c.json);
    j["compared"] = *other;
    if (!c.json)
      fmt::print("Against {}: {} new, {} gone; {:+.1f} s, {:+.0f} MB, {:+.1f} dropped frames.\n", a.compare, (*other)["added"].size(),
                 (*other)["removed"].size(), (*other)["seconds"].get<double>(), (*other)["bytes"].get<double>() / 1e6,
                 (*other)["drops_after"].get<double>());
  }
  if (c.json) put(j);
  else print(*plan, o->view);
  if (!c.json && a.frontier) print_frontier(*plan);
  return plan->fits ? 0 : 1;
}

int cmd_run(const Common& c, const PlanArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  Plan plan;
  if (!a.from.empty()) {
    const auto ids = remedies_in(a.from);
    if (!ids) return fail(ids.error(), c.json);
    PlanArguments as_written = a;
    as_written.pins = *ids;
    auto made = plan_for(*o, as_written, interrupted);
    if (!made) return fail(made.error(), c.json);
    plan = std::move(*made);
  } else if (c.range.empty()) {
    auto made = plan_for(*o, a, interrupted);
    if (!made) return fail(made.error(), c.json);
    plan = std::move(*made);
  } else {
    Remedy r;
    r.proposal.kind = remedy_kind("render"), r.proposal.subject.frames = {o->range}, r.range = o->range;
    r.id = fmt::format("render:{}-{}", o->range.in, o->range.out);
    plan.remedies = {r};
  }
  auto done = carry_out(plan, o->view, o->view, o->stores, [&](const PrerenderProgress& p) {
    show_progress(fmt::format("Rendering: {} of {} frames, {} left", p.done, p.total, duration_text(p.seconds_left)));
    return !interrupted.load();
  });
  end_progress();
  if (!done) return fail(done.error(), c.json);
  if (done->timeline != o->view.timeline)
    if (auto r = save_timeline(*done->timeline, c.file); !r) return fail(r.error(), c.json);
  if (c.json) {
    Json j = to_json(done->made);
    j["left_out"] = done->left_out, j["said_seconds"] = plan.render_seconds;
    put(j);
  } else {
    print(done->made);
  }
  return done->made.cancelled ? 4 : 0;
}

int cmd_settled(const Common& c, const PlanArguments& a) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  auto log = EditLog::open(EditLog::usual_file());
  if (!log) return fail(log.error(), c.json);
  for (const bool lock : {true, false})
    for (const std::string& name : lock ? a.pins : a.forbids) {
      const auto s = segment_called(**t, name);
      if (!s) return fail(s.error(), c.json);
      if (auto r = log->lock(**t, (*s)->id, lock); !r) return fail(r.error(), c.json);
    }
  constexpr double kHours = 12;
  Json list = Json::array();
  Table table({"Segment", "Name", "Changed again within 12 h", "Below its top effect"});
  for (const SegmentPtr& s : video_segments(**t)) {
    const double all = log->chance(**t, s->id, 1 << 20, kHours, seconds_now());
    const double below = log->chance(**t, s->id, s->stack.empty() ? 0 : s->stack.size() - 1, kHours, seconds_now());
    const bool locked = log->locked(**t, s->id);
    list.push_back({{"segment", s->id}, {"name", s->name}, {"chance", all}, {"chance_below_top", below}, {"locked", locked}});
    table.row({s->id, s->name, locked ? "locked" : fmt::format("{:.0f} %", all * 100), fmt::format("{:.0f} %", below * 100)});
  }
  if (c.json) put({{"segments", list}});
  else fmt::print("{}", table.text());
  return 0;
}

}  // namespace

void add_plan_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static PlanArguments a;
  const auto add = [&](const char* name, const char* what, const char* example) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, true);
    s->add_option("--range", c.range, "IN-OUT, frames or timecodes");
    s->add_option("--by", a.by, "When the review is: 10:00 or 2026-11-30T10:00");
    s->add_option("--measure", a.measure, "Seconds that measuring may take")->check(CLI::Range(0.1, 3600.0));
    s->add_option("--part", a.parts, "A part and when it is watched, as 0-240@10:00; several, one after another");
    s->add_option("--disk", a.disk, "Bytes that may be written")->check(CLI::NonNegativeNumber);
    s->add_option("--drop-seconds", a.drop_seconds, "One dropped frame is as bad as so many seconds of machine time (left out: none may drop)")->check(CLI::Range(0.001, 1e7));
    s->add_option("--busy", a.busy, "When somebody works at the machine, as 9:00-18:00");
    s->add_option("--review", a.review, "A file that says all this");
    s->add_option("--pin", a.pins, "Must be made: a remedy's id, a kind, a segment or KIND:SEGMENT");
    s->add_option("--forbid", a.forbids, "Must not be made");
    s->add_option("--allow", a.allow, "Kinds that hide something and may be used all the same: scale");
    s->add_flag("--keep", a.keep, "Keep what is said here for this timeline");
    return s;
  };
  CLI::App* s = add("plan", "Find the least work that makes it play, with proof, and when it will be done", "gclk plan cut.otio --by 10:00 --json");
  s->add_flag("--frontier", a.frontier, "Also what is left for less time");
  s->add_option("--why", a.why, "Why this remedy is in it");
  s->add_option("--compare", a.compare, "What is other than in this plan file");
  s->add_option("--out", a.out, "Write the plan to a file");
  s->add_option("--lp", a.lp, "Write the problem in LP format");
  s->callback([&] { code = cmd_plan(c, a, interrupted); });
  CLI::App* settled = app.add_subcommand("settled", "Say how likely each segment is changed again, or lock some");
  settled->footer("Example: gclk settled cut.otio --lock ky-05");
  add_common(settled, c, true);
  settled->add_option("--lock", a.pins, "Segments that stay as they are");
  settled->add_option("--unlock", a.forbids, "Segments that may change again");
  settled->callback([&] { code = cmd_settled(c, a); });
  s = add("run", "Carry out the plan, or pre-render a range", "gclk run cut.otio");
  s->add_option("--from", a.from, "Carry out this plan file");
  s->callback([&] { code = cmd_run(c, a, interrupted); });
}

}  // namespace gc
