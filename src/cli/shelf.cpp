#include "cli/shelf.h"

#include <fmt/format.h>

#include <cmath>

#include "cli/print.h"
#include "cli/table.h"

namespace gc {
namespace {

struct ShelfArguments {
  bool verify = false, rebuild = false, pieces = false, dry_run = false, restore = false, purge = false;
  std::string timeline, segment, after, clean, pin, unpin, move, volume, budget, floor, form = "vc3-hqx";
  double read_mb_s = -1;
  int size = 1;
};

/// "500 MB", "40GB", "1.5 TB" or bytes.
Result<std::uint64_t> bytes_named(const std::string& text) {
  char* end = nullptr;
  const double v = std::strtod(text.c_str(), &end);
  std::string unit;
  for (; *end; ++end)
    if (*end != ' ') unit += static_cast<char>(std::toupper(*end));
  const double factor = unit.empty() || unit == "B" ? 1 : unit == "KB" ? 1e3 : unit == "MB" ? 1e6 : unit == "GB" ? 1e9 : unit == "TB" ? 1e12 : 0;
  if (factor == 0 || !(v >= 0) || v * factor > 9e18 || text.empty())
    return usage("'" + text + "' is no amount of bytes", "Give for example 40GB, 500MB or a number of bytes.");
  return static_cast<std::uint64_t>(std::llround(v * factor));
}

Result<Selection> selection_named(const std::string& text, const std::string& timeline) {
  using What = Selection::What;
  if (text == "all") return Selection{What::all, {}, 0, {}};
  if (text == "closed") return Selection{What::closed, {}, 0, {}};
  if (text == "unmatched" || text == "timeline") {
    if (timeline.empty()) return usage("it is not said which timeline", "Name it with --timeline-file.");
    return Selection{text == "timeline" ? What::timeline : What::unmatched, {}, 0, {}};
  }
  if (text.starts_with("older=")) {
    char* end = nullptr;
    const long days = std::strtol(text.c_str() + 6, &end, 10);
    if (*end || end == text.c_str() + 6 || days < 0 || days > 36500) return usage("'" + text + "' names no days", "Give older=30, for example.");
    return Selection{What::older, {}, static_cast<int>(days), {}};
  }
  if (text.size() < 4) return usage("'" + text + "' names no pieces", "Give all, timeline, closed, unmatched, older=DAYS or how a piece's name begins.");
  return Selection{What::chosen, {}, 0, {text}};
}

Json json_of(const CleanReport& r) {
  return {{"pieces", r.pieces}, {"frames", r.frames}, {"bytes", r.bytes}, {"seconds_to_make", r.seconds_to_make}, {"files", r.files}};
}
void tell(const char* did, const CleanReport& r, const char* after) {
  fmt::print("{} {} pieces, {} frames, {}; making them again takes about {}.{}\n", did, r.pieces, r.frames, bytes_text(r.bytes),
             duration_text(r.seconds_to_make), after);
}

std::string what_of(const Chunk& c) {
  return c.kind == TapKind::stack ? fmt::format("stack up to effect {}", c.after) : c.kind == TapKind::frame ? "frames" : tap_name(c.kind);
}

Json json_of(const Chunk& p) {
  return {{"file", p.file},
          {"volume", p.volume},
          {"timeline", p.timeline},
          {"segment", p.segment},
          {"frames", p.frames.size()},
          {"taken_at", tap_name(p.kind)},
          {"effects_rendered", p.after},
          {"form", form_id(p.form)},
          {"width", p.width},
          {"height", p.height},
          {"bytes", p.footprint()},
          {"made", p.made},
          {"seconds", p.seconds},
          {"used", p.used},
          {"pinned", p.pinned}};
}

/// Changes that a call asks for, before it says what is there.
Result<Json> carry_out(const ShelfArguments& a, Shelf& shelf, const std::vector<ProgramPtr>& open, bool quiet,
                       const std::atomic<bool>& interrupted) {
  Json out = Json::object();
  const auto progress = [&](const char* what) {
    return [&interrupted, what](std::size_t done, std::size_t all) {
      show_progress(fmt::format("{}: {} of {} pieces", what, done, all));
      return !interrupted.load();
    };
  };
  if (!a.volume.empty() || !a.budget.empty() || !a.floor.empty() || a.read_mb_s >= 0) {
    ShelfVolume wanted;
    wanted.folder = a.volume.empty() ? shelf.folder().string() : fs::absolute(a.volume).lexically_normal().string();
    wanted.own = a.volume.empty();
    for (const ShelfVolume& v : shelf.volumes())
      if (v.folder == wanted.folder || (wanted.own && v.own)) wanted = v;
    if (a.budget == "none") wanted.budget.reset();
    else if (!a.budget.empty()) {
      auto bytes = bytes_named(a.budget);
      if (!bytes) return std::unexpected(bytes.error());
      wanted.budget = *bytes;
    }
    if (!a.floor.empty()) {
      auto bytes = bytes_named(a.floor);
      if (!bytes) return std::unexpected(bytes.error());
      wanted.floor = *bytes;
    }
    if (a.read_mb_s >= 0) wanted.read_mb_s = a.read_mb_s;
    if (auto r = shelf.set_volume(wanted); !r) return std::unexpected(r.error());
  }
  if (a.rebuild) {
    const auto taken = shelf.rebuild();
    if (!taken) return std::unexpected(taken.error());
    out["taken_in"] = *taken;
    if (!quiet) fmt::print("{} pieces were taken in that the index did not have.\n", *taken);
  }
  for (const auto& [text, pinned] : {std::pair(a.pin, true), std::pair(a.unpin, false)}) {
    if (text.empty()) continue;
    const auto what = selection_named(text, a.timeline);
    if (!what) return std::unexpected(what.error());
    const auto n = shelf.pin(*what, pinned);
    if (!n) return std::unexpected(n.error());
    out[pinned ? "pinned" : "unpinned"] = *n;
    if (!quiet) fmt::print("{} pieces {}.\n", *n, pinned ? "stay whatever happens" : "may go again");
  }
  if (!a.clean.empty()) {
    auto what = selection_named(a.clean, a.timeline);
    if (!what) return std::unexpected(what.error());
    if (what->what == Selection::What::timeline) what->timeline = open.front()->timeline()->name;
    const auto r = a.dry_run ? Result<CleanReport>(shelf.look(*what, open)) : shelf.clean(*what, open);
    if (!r) return std::unexpected(r.error());
    out["cleaned"] = json_of(*r), out["dry_run"] = a.dry_run;
    if (!quiet)
      tell(a.dry_run ? "Would clean away" : "Cleaned away", *r,
           a.dry_run ? "" : " --restore brings them back until their room is needed; --purge deletes them now.");
  }
  if (a.restore) {
    const auto r = shelf.restore();
    if (!r) return std::unexpected(r.error());
    out["restored"] = json_of(*r);
    if (!quiet) tell("Brought back", *r, "");
  }
  if (a.purge) {
    const auto r = shelf.purge();
    if (!r) return std::unexpected(r.error());
    out["purged"] = json_of(*r);
    if (!quiet) tell("Deleted", *r, "");
  }
  if (!a.move.empty()) {
    const auto r = shelf.move_to(a.move, progress("Moving"));
    end_progress();
    if (!r) return std::unexpected(r.error());
    out["moved"] = json_of(*r);
    if (!quiet) fmt::print("Moved {} pieces, {}, to {}.\n", r->pieces, bytes_text(r->bytes), a.move);
  }
  return out;
}

int cmd_shelf(const Common& c, const ShelfArguments& a, const std::atomic<bool>& interrupted) {
  auto stores = Stores::open(c.desk());
  if (!stores) return fail(stores.error(), c.json);
  Shelf& shelf = *stores->shelf;
  std::vector<ProgramPtr> open;
  if (!a.timeline.empty()) {
    Common with_file = c;
    with_file.file = a.timeline;
    auto timeline = load(with_file);
    if (!timeline) return fail(timeline.error(), c.json);
    open.push_back(view_of(*timeline, *stores).played);
    shelf.want(open.back());
  }
  auto changed = carry_out(a, shelf, open, c.json, interrupted);
  if (!changed) return fail(changed.error(), c.json);
  Json out = std::move(*changed);
  std::vector<PieceCheck> broken;
  if (a.verify) {
    const auto checks = shelf.verify([&](std::size_t done, std::size_t all) {
      show_progress(fmt::format("Verifying: {} of {} pieces", done, all));
      return !interrupted.load();
    });
    end_progress();
    for (const PieceCheck& check : checks)
      if (!check.wrong.empty()) broken.push_back(check);
    Json list = Json::array();
    for (const PieceCheck& b : broken)
      list.push_back({{"file", b.file}, {"timeline", b.timeline}, {"segment", b.segment}, {"frames", b.frames}, {"wrong", b.wrong}});
    out["checked"] = checks.size(), out["broken"] = list;
  }
  const std::vector<Chunk> pieces = shelf.pieces();
  const std::vector<ShelfVolume> volumes = shelf.volumes();
  Json list = Json::array();
  for (const ShelfVolume& v : volumes)
    list.push_back({{"folder", v.folder},
                    {"bytes", v.bytes},
                    {"budget_bytes", v.budget ? Json(*v.budget) : Json()},
                    {"floor_bytes", v.floor},
                    {"read_mb_s", v.read_mb_s > 0 ? Json(v.read_mb_s) : Json()},
                    {"pieces", v.pieces},
                    {"available", v.available}});
  out["volumes"] = list, out["writable"] = shelf.writable();
  out["unmatched_bytes"] = open.empty() ? Json() : Json(shelf.unmatched_bytes(open));
  if (a.pieces) {
    out["pieces"] = Json::array();
    for (const Chunk& p : pieces) out["pieces"].push_back(json_of(p));
  }
  if (c.json) {
    put(out);
    return broken.empty() ? 0 : 1;
  }
  for (const ShelfVolume& v : volumes)
    fmt::print("{}: {} pieces, {}{}{}\n", v.folder, v.pieces, bytes_text(v.bytes),
               v.budget ? " of " + bytes_text(*v.budget) : std::string(), v.available ? "" : ", not available now");
  if (!open.empty()) fmt::print("  {} of it answer nothing of {}\n", bytes_text(out["unmatched_bytes"].get<std::uint64_t>()), a.timeline);
  if (a.pieces) {
    Table t({"Piece", "For", "Of", "What", "Frames", "Size", "Form", "Took", "Made", "Last read"});
    for (const Chunk& p : pieces)
      t.row({p.file.substr(0, 12) + (p.pinned ? " pinned" : ""), p.timeline, p.segment, what_of(p), std::to_string(p.frames.size()),
             bytes_text(p.footprint()), form_name(p.form), p.seconds > 0 ? fmt::format("{:.1f} s", p.seconds) : "-", p.made,
             p.used.empty() ? "never" : p.used});
    fmt::print("{}", t.text());
  }
  for (const PieceCheck& b : broken)
    fmt::print("  damaged: {} ({}, {}): {}. Its frames are made live.\n", b.file, b.timeline, b.segment, b.wrong);
  if (a.verify && broken.empty()) fmt::print("  Every picture is what was written.\n");
  return broken.empty() ? 0 : 1;
}

/// The first segment that reads a source of this id or name, also within compositions.
const CompiledSegment* reads(const Program& program, const std::string& source) {
  for (const auto& s : program.segments()) {
    if (s->inner)
      if (const CompiledSegment* inside = reads(*s->inner, source)) return inside;
    if (s->content != Content::source) continue;
    const auto& m = program.timeline()->sources.at(s->segment->ref);
    if (m->id == source || m->name == source) return s.get();
  }
  return nullptr;
}

int cmd_cache(const Common& c, const ShelfArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  PrerenderOptions options = o->stores.prerender_options({}, *o->view.timeline);
  const auto form = form_named(a.form);
  if (!form) return fail(usage("there is no form '" + a.form + "'", "Name one that 'codecs' lists.").error(), c.json);
  options.form = *form;
  const auto progress = [&](const PrerenderProgress& p) {
    show_progress(fmt::format("Caching: {} of {} frames", p.done, p.total));
    return !interrupted.load();
  };
  std::string said;
  const Timeline& t = *o->view.timeline;
  const auto composition = std::ranges::find_if(
      t.compositions, [&](const auto& each) { return each.first == a.segment || each.second->name == a.segment; });
  Result<PrerenderReport> report = PrerenderReport{};
  if (const CompiledSegment* s = a.after.empty() ? reads(*o->view.delivered, a.segment) : nullptr) {
    report = copy_source(*s, *o->stores.shelf, {}, a.size, options, progress);
    said = fmt::format("{} plays from the copy wherever it is used; the delivery reads the original.", a.segment);
  } else if (a.after.empty() && composition != t.compositions.end()) {
    report = bake(o->view.delivered, *o->stores.shelf, composition->first, {}, options, progress);
    said = fmt::format("Every use of '{}' is answered by it; changing something inside makes it live again.", composition->second->name);
  } else {
    const auto what = named(t, a.segment, a.after.empty() ? "1" : a.after);
    if (!what) return fail(what.error(), c.json);
    // Counted as the program runs them: without those that are off or do nothing.
    std::size_t after = 0;
    for (const auto& each : o->view.delivered->segments())
      if (each->segment->id == what->segment->id)
        for (std::size_t i = 0; i < each->effects.size(); ++i)
          if (each->effects[i].id == what->what().id) after = i + 1;
    if (after == 0)
      return fail(bad_input(fmt::format("'{}' does nothing in '{}' now", what->what().id, what->segment->name), c.file,
                            "Choose an effect that runs.")
                      .error(),
                  c.json);
    report = cache_stack(o->view.played, *o->stores.shelf, what->segment->id, after, options, progress);
    said = fmt::format("What lies above '{}' in '{}' stays live: changing it loses nothing.", what->what().id, what->segment->name);
  }
  end_progress();
  if (!report) return fail(report.error(), c.json);
  if (c.json) put(to_json(*report));
  else {
    print(*report);
    fmt::print("{}\n", said);
  }
  return report->cancelled ? 4 : 0;
}

}  // namespace

void add_shelf_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static ShelfArguments a;
  CLI::App* s = app.add_subcommand("shelf", "Say what rendered media there are, keep them in bounds, and look whether they are whole");
  s->footer("Examples: gclk shelf --verify\n          gclk shelf --budget 200GB\n          gclk shelf --clean older=30 --dry-run");
  add_common(s, c, false);
  s->add_option("--timeline-file", a.timeline, "Count what answers something of this timeline as matched");
  s->add_flag("--verify", a.verify, "Read every picture and hold it against its checksum; exits with 1 when one is damaged");
  s->add_flag("--rebuild", a.rebuild, "Make the index again from what stands beside the pieces");
  s->add_flag("--pieces", a.pieces, "List every piece, largest first");
  s->add_option("--clean", a.clean, "Clean away: all, timeline, closed, unmatched, older=DAYS, or a piece by how its name begins");
  s->add_flag("--dry-run", a.dry_run, "Say what --clean would free and what it would cost to make again");
  s->add_flag("--restore", a.restore, "Bring back what was cleaned away and whose room was not needed since");
  s->add_flag("--purge", a.purge, "Delete what was cleaned away now");
  s->add_option("--pin", a.pin, "Pieces that stay whatever happens, named as for --clean");
  s->add_option("--unpin", a.unpin, "And those that may go again");
  s->add_option("--move", a.move, "Move all pieces to this folder");
  s->add_option("--volume", a.volume, "A further folder for pieces; with --budget and the others what holds for it");
  s->add_option("--budget", a.budget, "Most that rendered media may take there: 200GB; none takes the budget away");
  s->add_option("--floor", a.floor, "What stays free on its drive: 5GB");
  s->add_option("--read-mb-s", a.read_mb_s, "How fast it reads, MB/s; forms that need more go elsewhere");
  s->callback([&] { code = cmd_shelf(c, a, interrupted); });
  s = app.add_subcommand("cache", "Render a picture from the middle of the work; what lies above it stays live");
  s->footer("Examples: gclk cache cut.otio ky-03 --after ky-03-clean\n          gclk cache cut.otio \"Kiln and smoke\"    (a composition, for all its uses)\n"
            "          gclk cache cut.otio kiln_wide.mp4       (a source, as a light copy)");
  add_common(s, c, true);
  s->add_option("what", a.segment, "Segment, composition or source: id, name or place")->required();
  s->add_option("--after", a.after, "Of a segment: id, name or place of the effect");
  s->add_option("--form", a.form, "Form to keep it in, as 'codecs' names them: vc3-hqx, rdd36, ffv1, ...");
  s->add_option("--size", a.size, "Of a source: 1, or 2, 4, 8 or 16 times smaller on each side")->check(CLI::IsMember({1, 2, 4, 8, 16}));
  s->callback([&] { code = cmd_cache(c, a, interrupted); });
}

}  // namespace gc
