#include "cli/remedies.h"

#include <fmt/format.h>

#include "base/clock.h"
#include "cli/print.h"
#include "cli/table.h"
#include "desk/angles.h"
#include "desk/remedies.h"

namespace gc {
namespace {

struct RemedyArguments {
  std::vector<std::string> ids;
  std::string span, form, who, why, until, kind, root, segment, angle, truth, out, from;
  int limit = 0, size = 2, automatic = 0;
  bool fidelity = false, all = false, every = false, grid = false;
};

std::string in_out(const Proposal& p, const View& v) { return timecode_at(*v.timeline, p.at.in) + " to " + timecode_at(*v.timeline, p.at.out); }

/// As the notebook has it now.
Result<Situation> situation_now(const Opened& o, const RemedyArguments& a) {
  Situation s = situation_of(o.view, o.stores);
  if (!a.form.empty()) {
    const auto form = form_named(a.form);
    if (!form) return usage("there is no form '" + a.form + "'", "Give vc3-hqx, rdd36, ffv1 or another that formats.md lists.");
    s.form = *form;
  }
  return s;
}

Result<Situation> situation(const Opened& o, const RemedyArguments& a, const std::atomic<bool>& interrupted) {
  if (auto measured = measure_now(o, 15, false, interrupted); !measured) return std::unexpected(measured.error());
  return situation_now(o, a);
}

int cmd_remedies(const Common& c, const RemedyArguments& a, const std::atomic<bool>& interrupted) {
  Common with_range = c;
  with_range.range = a.span;
  auto o = open(with_range);
  if (!o) return fail(o.error(), c.json);
  auto s = situation(*o, a, interrupted);
  if (!s) return fail(s.error(), c.json);
  std::vector<Proposal> all = remedies_for(*s, o->range);
  // Frames of those that bring most are tried; then everything is said anew. What could not be tried is said by laws.
  const auto tried = try_out(*s, all, o->stores, [&] { return interrupted.load(); });
  if (tried && *tried > 0) s = situation_now(*o, a), all = remedies_for(*s, o->range);
  if (!a.kind.empty()) std::erase_if(all, [&](const Proposal& p) { return a.kind != p.kind->name(); });
  if (a.limit > 0 && all.size() > static_cast<std::size_t>(a.limit)) all.resize(static_cast<std::size_t>(a.limit));
  Json list = Json::array();
  Table t({"Remedy", "Where", "Saves", "Takes", "Size", "Hides", "What"});
  for (const Proposal& p : all) {
    std::optional<RemedyFidelity> f;
    if (a.fidelity && p.refused.empty()) f = fidelity_of(*s, p, *o->stores.shelf);
    list.push_back(to_json(p, f));
    t.row({p.id, in_out(p, o->view), p.refused.empty() ? fmt::format("{:.1f}", p.drops_saved) : "-",
           p.quote.known ? duration_text(p.quote.seconds) : "not known", bytes_text(p.quote.bytes), p.hides,
           p.refused.empty() ? p.sentence : "Refused: " + p.refused});
  }
  if (!a.out.empty()) {
    Json file{{"glass_clock", "remedies"}, {"version", 1}, {"timeline", o->view.timeline->name}, {"remedies", list}};
    if (auto r = write_out(a.out, file.dump(1) + "\n"); !r) return fail(r.error(), c.json);
  }
  if (c.json)
    put({{"expected_drops", s->now->expected_drops}, {"in", o->range.in}, {"out", o->range.out}, {"remedies", list}});
  else
    fmt::print("{:.1f} frames dropped expected now.\n{}", s->now->expected_drops, t.text());
  return 0;
}

/// Ids of everything of one kind that is not refused; of copies those of a size.
std::vector<std::string> all_of_kind(const Situation& s, FrameRange range, const std::string& kind, int size) {
  std::vector<std::string> ids;
  for (const Proposal& p : remedies_for(s, range))
    if (p.refused.empty() && kind == p.kind->name() && (kind != "proxy" || p.subject.size == size)) ids.push_back(p.id);
  return ids;
}

int cmd_apply(const Common& c, RemedyArguments a, const std::atomic<bool>& interrupted) {
  if (!a.from.empty()) {
    const auto text = read_file(a.from, std::size_t{16} << 20);
    if (!text) return fail(text.error(), c.json);
    const auto j = parse_json(*text, a.from);
    if (!j) return fail(j.error(), c.json);
    if (!j->is_object() || text_or(*j, "glass_clock", "") != "remedies" || !j->contains("remedies") || !(*j)["remedies"].is_array())
      return fail(bad_input("it holds no remedies", a.from, "Write one with `gclk remedies --out`.").error(), c.json);
    for (const Json& r : (*j)["remedies"])
      if (r.is_object() && (!r.contains("refused") || r["refused"].is_null())) a.ids.push_back(text_or(r, "id", ""));
  }
  if (a.ids.empty() && a.automatic == 0 && a.kind.empty()) return fail(usage("it is not said which remedy", "Name some that `gclk remedies` lists.").error(), c.json);
  Json done = Json::array();
  int refused = 0;
  Common with_range = c;
  with_range.range = a.span;
  auto o = open(with_range);
  if (!o) return fail(o.error(), c.json);
  if (!a.kind.empty()) {
    auto s = situation(*o, a, interrupted);
    if (!s) return fail(s.error(), c.json);
    for (const std::string& id : all_of_kind(*s, o->range, a.kind, a.size)) a.ids.push_back(id);
    if (a.ids.empty()) return fail(usage(fmt::format("nothing of the kind '{}' can be done here", a.kind), "`gclk remedies --kind` says why.").error(), c.json);
  }
  if (a.automatic > 0) {
    auto s = situation(*o, a, interrupted);
    if (!s) return fail(s.error(), c.json);
    auto next = with_automatic_scale(*s, a.automatic, a.who);
    if (!next) return fail(next.error(), c.json);
    if (auto r = save_timeline(**next, c.file); !r) return fail(r.error(), c.json);
    for (const Slip& slip : (*next)->slips)
      if (slip.open() && slip.kind == slip_kind::scale) {
        done.push_back(to_json(slip, **next));
        if (!c.json) fmt::print("{}.\n", slip_text(**next, slip));
      }
    if (auto again = open(c)) o = std::move(again);
    else return fail(again.error(), c.json);
  }
  for (const std::string& id : a.ids) {
    auto s = situation(*o, a, interrupted);
    if (!s) return fail(s.error(), c.json);
    auto p = proposal_of(*s, id);
    if (p) {
      const auto tried = try_out(*s, {&*p, 1}, o->stores, [&] { return interrupted.load(); });
      if (tried && *tried > 0) s = situation_now(*o, a), p = proposal_of(*s, id);
    }
    if (!p) return fail(usage("there is no remedy '" + id + "' here", "`gclk remedies` lists them.").error(), c.json);
    auto applied = apply(*s, *p, o->stores, a.who, a.why, a.until,
                         [&](const PrerenderProgress& progress) {
                           show_progress(fmt::format("{}: {} of {} frames, {} left", id, progress.done, progress.total, duration_text(progress.seconds_left)));
                           return !interrupted.load();
                         },
                         interrupted);
    end_progress();
    if (!applied && !a.from.empty() && applied.error().fault == Fault::bad_input) {
      ++refused;
      done.push_back({{"id", id}, {"refused", applied.error().what}});
      if (!c.json) fmt::print("{}\n", applied.error().text());
      continue;
    }
    if (!applied) return fail(applied.error(), c.json);
    if (applied->timeline != o->view.timeline)
      if (auto r = save_timeline(*applied->timeline, c.file); !r) return fail(r.error(), c.json);
    Json j = to_json(*p, std::nullopt);
    j["made"] = to_json(applied->made), j["said_seconds"] = applied->said_seconds, j["taken_seconds"] = applied->taken_seconds;
    j["played"] = {{"frames", applied->played}, {"load_said", applied->load_said}, {"load_seen", applied->load_seen},
                   {"dropped_said", applied->dropped_said}, {"dropped_seen", applied->dropped_seen}};
    done.push_back(j);
    if (!c.json) {
      fmt::print("{}\n", p->sentence);
      if (applied->made.frames > 0)
        fmt::print("  {} frames, {}; said {}, took {}.\n", applied->made.frames, bytes_text(applied->made.bytes),
                   duration_text(applied->said_seconds), duration_text(applied->taken_seconds));
      if (applied->played > 0)
        fmt::print("  Played {} frames of it unseen: load {:.2f} said, {:.2f} seen; {} dropped said, {} seen.\n", applied->played,
                   applied->load_said, applied->load_seen, applied->dropped_said, applied->dropped_seen);
      if (p->kind->slip(*p)) fmt::print("  A slip is open for it; `gclk lift` ends it. The delivery never has it.\n");
    }
    if (applied->made.cancelled) return 4;
    if (&id != &a.ids.back()) {
      auto again = open(c);
      if (!again) return fail(again.error(), c.json);
      o = std::move(again);
    }
  }
  if (c.json) put({{"applied", done}});
  return refused > 0 ? 1 : 0;
}

int cmd_slips(const Common& c, const RemedyArguments& a) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  Json list = Json::array();
  for (const Slip& s : (*t)->slips)
    if (s.open() || a.every) list.push_back(to_json(s, **t));
  if (c.json) {
    put({{"slips", list}});
    return 0;
  }
  if (list.empty()) fmt::print("No slip is open.\n");
  for (const Json& j : list)
    fmt::print("{:<8} {} since {}{}{}{}{}\n", j["id"].get<std::string>(), j["text"].get<std::string>(), j["opened"].get<std::string>(),
               j["who"] == "" ? "" : ", by " + j["who"].get<std::string>(), j["why"] == "" ? "" : ": " + j["why"].get<std::string>(),
               j["until"] == "" ? "" : ", until " + j["until"].get<std::string>(), j["lifted"] == "" ? "" : ", lifted " + j["lifted"].get<std::string>());
  return 0;
}

int cmd_lift(const Common& c, const RemedyArguments& a) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  if (!a.all && a.kind.empty() && a.ids.empty()) return fail(usage("it is not said what to lift", "Give slips' ids, --kind KIND or --all.").error(), c.json);
  const TimelinePtr lifted = with_lifted(
      **t,
      [&](const Slip& s) { return a.all || s.kind == a.kind || std::ranges::find(a.ids, s.id) != a.ids.end(); }, now_utc());
  if (!lifted) return fail(usage("no open slip is meant by that", "`gclk slips` lists them.").error(), c.json);
  int before = 0, after = 0;
  for (const Slip& s : (*t)->slips) before += s.open();
  for (const Slip& s : lifted->slips) after += s.open();
  return save_edit(c, lifted, {{"lifted", before - after}, {"open_slips", after}}, fmt::format("{} lifted, {} still open.", before - after, after));
}

int cmd_truth(const Common& c, const RemedyArguments& a) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const auto truth = truth_named(a.truth);
  if (!truth) return fail(usage("'" + a.truth + "' is no truth", "Give exact, picture or timing.").error(), c.json);
  std::vector<std::string> segments;
  for (const std::string& name : a.ids) {
    const auto s = segment_called(*o->view.timeline, name);
    if (!s) return fail(s.error(), c.json);
    segments.push_back((*s)->id);
  }
  if (segments.empty())
    for (const CompiledSegmentPtr& s : segments_in(*o->view.delivered, o->range)) segments.push_back(s->segment->id);
  const TimelinePtr edited = with_truth(*o->view.timeline, segments, *truth);
  return save_edit(c, edited, {{"truth", a.truth}, {"segments", segments}}, fmt::format("{} segment{} judged for {}.", segments.size(), segments.size() == 1 ? " is" : "s are", a.truth));
}

int cmd_proxies(const Common& c, const RemedyArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const auto form = form_named(a.form.empty() ? "vc3-sq" : a.form);
  if (!form) return fail(usage("there is no form '" + a.form + "'", "Give vc3-sq, mjpeg or another that formats.md lists.").error(), c.json);
  const auto files = write_proxies(o->view, fs::absolute(a.root), a.size, *form, [&](const std::string& what, double share) {
    show_progress(fmt::format("Copying {}: {:.0f} %", what, share * 100));
    return !interrupted.load();
  });
  end_progress();
  if (!files) return fail(files.error(), c.json);
  Json list = Json::array();
  for (const ProxyFile& f : *files) {
    list.push_back({{"source", f.source}, {"from", f.from}, {"to", f.to}, {"trouble", f.trouble.empty() ? Json() : Json(f.trouble)}});
    if (!c.json) fmt::print("{}\n", f.trouble.empty() ? f.to : f.from + ": " + f.trouble);
  }
  if (c.json) put({{"root", fs::absolute(a.root).string()}, {"size", a.size}, {"proxies", list}});
  return 0;
}

/// All angles of a moment: forecast side by side, written as a timeline of their own, or copied in one step.
int angles_at_once(const Common& c, const Timeline& t, const RemedyArguments& a, const std::atomic<bool>& interrupted) {
  const auto s = segment_called(t, a.segment);
  if (!s) return fail(s.error(), c.json);
  const auto grid = angles_side_by_side(t, (*s)->id);
  if (!grid) return fail(grid.error(), c.json);
  if (!a.out.empty()) {
    if (auto r = write_angles(t, (*s)->id, a.out); !r) return fail(r.error(), c.json);
  }
  auto stores = Stores::open(c.desk());
  if (!stores) return fail(stores.error(), c.json);
  const View view = view_of(*grid, *stores);
  Opened o{std::move(*stores), view, whole(view)};
  Json made = Json::array();
  if (!a.kind.empty()) {
    auto before = situation(o, a, interrupted);
    if (!before) return fail(before.error(), c.json);
    for (const std::string& id : all_of_kind(*before, o.range, a.kind, a.size)) {
      const auto now = situation(o, a, interrupted);
      if (!now) return fail(now.error(), c.json);
      const auto p = proposal_of(*now, id);
      const auto applied = !p ? Result<Applied>(usage("it is not there any more", "Try again."))
                              : apply(*now, *p, o.stores, a.who, a.why, a.until,
                                      [&](const PrerenderProgress& progress) {
                                        show_progress(fmt::format("{}: {} of {} frames", id, progress.done, progress.total));
                                        return !interrupted.load();
                                      },
                                      interrupted);
      end_progress();
      if (!applied) return fail(applied.error(), c.json);
      made.push_back({{"id", id}, {"frames", applied->made.frames}, {"bytes", applied->made.bytes}, {"seconds", applied->taken_seconds}});
      if (!c.json) fmt::print("{} {} frames, {}.\n", p->sentence, applied->made.frames, bytes_text(applied->made.bytes));
      if (applied->made.cancelled) return 4;
      o.view = view_of(applied->timeline, o.stores);
    }
  }
  if (auto measured = measure_now(o, 15, false, interrupted); !measured) return fail(measured.error(), c.json);
  const Forecast f = forecast(*o.view.played, *o.stores.notebook, o.view.seals, o.range, o.stores.forecast_options());
  if (c.json) {
    put({{"segment", (*s)->id}, {"angles", (*s)->angles.size()}, {"file", a.out}, {"made", made}, {"forecast", to_json(f)}});
    return 0;
  }
  fmt::print("{} angles side by side:\n", (*s)->angles.size());
  print(f, o.view);
  return 0;
}

int cmd_angles(const Common& c, const RemedyArguments& a, const std::atomic<bool>& interrupted) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  if (!a.angle.empty()) {
    const auto s = segment_called(**t, a.segment);
    if (!s) return fail(s.error(), c.json);
    const TimelinePtr edited = with_angle(**t, (*s)->id, a.angle);
    if (!edited) return fail(usage(fmt::format("'{}' has no angle '{}'", (*s)->name, a.angle), "`gclk angles` lists them.").error(), c.json);
    return save_edit(c, edited, {{"segment", (*s)->id}, {"angle", a.angle}}, fmt::format("'{}' shows {} now.", (*s)->name, a.angle));
  }
  if (a.grid || !a.kind.empty()) return angles_at_once(c, **t, a, interrupted);
  Json list = Json::array();
  for (const SegmentPtr& s : video_segments(**t)) {
    if (s->angles.empty()) continue;
    Json angles = Json::array();
    for (const auto& [key, source] : s->angles) angles.push_back({{"key", key}, {"source", source}, {"path", (*t)->sources.at(source)->path}, {"shown", key == s->angle}});
    list.push_back({{"segment", s->id}, {"name", s->name}, {"angles", angles}});
    if (c.json) continue;
    fmt::print("{} ({})\n", s->name, s->id);
    for (const Json& g : angles) fmt::print("  {} {}  {}\n", g["shown"].get<bool>() ? "*" : " ", g["key"].get<std::string>(), g["path"].get<std::string>());
  }
  if (c.json) put({{"segments", list}});
  else if (list.empty()) fmt::print("No segment has more than one angle.\n");
  return 0;
}

}  // namespace

void add_remedy_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static RemedyArguments a;
  const auto add = [&](const char* name, const char* what, const char* example) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, true);
    return s;
  };
  CLI::App* s = add("remedies", "List what can make a range play, with its price, its gain and what it hides", "gclk remedies cut.otio --span 0-240");
  s->add_option("--span", a.span, "IN-OUT, frames or timecodes; all when left out");
  s->add_option("--kind", a.kind, "Only this kind: render, tap, bake, mezzanine, proxy, scale, bypass, region, device, memory, seat");
  s->add_option("--form", a.form, "Form to keep rendered pictures in");
  s->add_option("--limit", a.limit, "At most so many");
  s->add_flag("--fidelity", a.fidelity, "Look how near each comes to the true picture, where its picture can be made now");
  s->add_option("--out", a.out, "Write them to a file that another seat carries out");
  s->callback([&] { code = cmd_remedies(c, a, interrupted); });
  s = add("apply", "Apply remedies: render what they need, open their slips", "gclk apply cut.otio tap:ky-03:2 scale:2:240-480 --why \"client at ten\"");
  s->add_option("ids", a.ids, "As `remedies` lists them");
  s->add_option("--from", a.from, "Those of a file that `remedies --out` wrote");
  s->add_option("--kind", a.kind, "All of this kind that is not refused: mezzanine copies every source that is heavy to decode");
  s->add_option("--span", a.span, "With --kind: only what bears on IN-OUT");
  s->add_option("--size", a.size, "With --kind proxy: so many times smaller on each side")->check(CLI::IsMember({2, 4, 8, 16}));
  s->add_option("--automatic-scale", a.automatic, "Of each span that does not hold the highest scale that does, down to 1 by this")->check(CLI::IsMember({2, 4, 8, 16}));
  s->add_option("--form", a.form, "Form to keep rendered pictures in");
  s->add_option("--who", a.who, "Who applies it; kept in the slip");
  s->add_option("--why", a.why, "Why; kept in the slip");
  s->add_option("--until", a.until, "Until when; kept in the slip");
  s->callback([&] { code = cmd_apply(c, a, interrupted); });
  s = add("slips", "List everything temporary that is open", "gclk slips cut.otio");
  s->add_flag("--all", a.every, "Lifted ones too");
  s->callback([&] { code = cmd_slips(c, a); });
  s = add("lift", "End temporary measures", "gclk lift cut.otio --all");
  s->add_option("ids", a.ids, "Ids of slips");
  s->add_option("--kind", a.kind, "Every open slip of a kind");
  s->add_flag("--all", a.all, "Every open slip");
  s->callback([&] { code = cmd_lift(c, a); });
  s = add("truth", "Say what segments are judged for: exact, picture or timing", "gclk truth cut.otio exact ky-03 ky-07");
  s->add_option("truth", a.truth, "exact: nothing may be hidden; picture: down to half size; timing: anything")->required();
  s->add_option("segments", a.ids, "Id, name or place; all of the range when left out");
  s->add_option("--range", c.range, "IN-OUT");
  s->callback([&] { code = cmd_truth(c, a); });
  s = add("proxies", "Copy every source smaller, into folders that mirror the originals'", "gclk proxies cut.otio --to /volumes/proxies --size 2");
  s->add_option("--to", a.root, "Root of the tree")->required();
  s->add_option("--size", a.size, "So many times smaller on each side")->check(CLI::IsMember({1, 2, 4, 8, 16}));
  s->add_option("--form", a.form, "Form of the copies; vc3-sq when left out");
  s->callback([&] { code = cmd_proxies(c, a, interrupted); });
  s = add("angles", "List several media of one moment, or show another one", "gclk angles cut.otio --segment talk --show CAM-B");
  s->add_option("--segment", a.segment, "Id, name or place of the segment");
  s->add_option("--show", a.angle, "Key of the angle");
  s->add_flag("--grid", a.grid, "Say how all angles of the segment play side by side");
  s->add_option("--out", a.out, "Write them, side by side, as a timeline of their own");
  s->add_option("--copies", a.kind, "Make a copy of each angle: mezzanine or proxy")->check(CLI::IsMember({"mezzanine", "proxy"}));
  s->add_option("--size", a.size, "Of proxies: so many times smaller on each side")->check(CLI::IsMember({2, 4, 8, 16}));
  s->callback([&] { code = cmd_angles(c, a, interrupted); });
}

}  // namespace gc
