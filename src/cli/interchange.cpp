#include "cli/interchange.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/timecode.h"
#include "cli/print.h"
#include "desk/grades.h"
#include "desk/handover.h"
#include "desk/look_file.h"
#include "interchange/conform.h"
#include "interchange/edl.h"
#include "interchange/markers.h"

namespace gc {
namespace {

struct ListArguments {
  std::string edl, out, rate = "24", folder, grades, by = "name", segment, frame = "0", media = "originals", form;
  int size = 33, smaller = 2;
  bool without_renders = false;
};

/// A timeline, or a decision list that is read at the rate of `like`.
Result<TimelinePtr> cut_from(const std::string& file, const Timeline& like, const std::string& folder) {
  if (fs::path(file).extension() != ".edl") return open_timeline(fs::absolute(file), std::make_shared<MediaCatalog>());
  const auto text = read_file(file, std::size_t{64} << 20);
  if (!text) return std::unexpected(text.error());
  EdlOptions options;
  options.rate = like.rate, options.name = like.name;
  // Media lie where those of the old cut lie, unless it is said otherwise.
  const auto elsewhere = media_finder(folder.empty() ? fs::path(file).parent_path() : fs::path(folder), like.rate);
  options.find = [&like, elsewhere](const std::string& reel, const std::string& clip, const std::string& name) -> std::optional<EdlOptions::Medium> {
    for (const auto& [id, m] : like.sources)
      for (const std::string& called : {name, clip, reel})
        if (!called.empty() && (fs::path(m->path).filename() == called || fs::path(m->path).stem() == called || m->name == called))
          if (const auto info = probe(m->path)) return EdlOptions::Medium{m->path, info->timecode, info->frames};
    return elsewhere(reel, clip, name);
  };
  return timeline_from_edl(*text, file, options);
}

int cmd_import(const Common& c, const ListArguments& a) {
  const auto text = read_file(a.edl, std::size_t{64} << 20);
  if (!text) return fail(text.error(), c.json);
  char* end = nullptr;
  const double fps = std::strtod(a.rate.c_str(), &end);
  if (!(fps > 0) || *end != 0 || fps > 1000) return fail(usage("'" + a.rate + "' is no rate", "Give 24, 25, 29.97 and so on.").error(), c.json);
  EdlOptions options;
  options.rate = Rate::near(fps), options.name = fs::path(a.edl).stem().string();
  options.find = media_finder(a.folder.empty() ? fs::path(a.edl).parent_path() : fs::path(a.folder), options.rate);
  const auto t = timeline_from_edl(*text, a.edl, options);
  if (!t) return fail(t.error(), c.json);
  if (auto r = must_be_free(a.out); !r) return fail(r.error(), c.json);
  if (auto r = save_timeline(**t, a.out); !r) return fail(r.error(), c.json);
  const int segments = static_cast<int>(video_segments(**t).size());
  if (c.json) put({{"file", a.out}, {"segments", segments}, {"frames", (*t)->duration()}, {"remarks", (*t)->remarks}});
  else {
    fmt::print("{} segments, {} frames: {}\n", segments, (*t)->duration(), a.out);
    for (const std::string& r : (*t)->remarks) fmt::print("  {}\n", r);
  }
  return 0;
}

int cmd_edl(const Common& c, const ListArguments& a) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const EdlText list = edl_of(*o->view.timeline, [&](const MediaSource& m) {
    const auto info = probe(m.path);
    return info ? info->timecode : Frames{-1};
  });
  if (!a.out.empty())
    if (auto r = write_out(a.out, list.text); !r) return fail(r.error(), c.json);
  if (c.json) put({{"file", a.out}, {"text", a.out.empty() ? Json(list.text) : Json()}, {"left_out", list.left_out}});
  else {
    if (a.out.empty()) fmt::print("{}", list.text);
    for (const std::string& l : list.left_out) fmt::print(stderr, "  Not in the list: {}\n", l);
  }
  return 0;
}

int cmd_grades(const Common& c, const ListArguments& a) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  if (!a.grades.empty()) {
    const auto grades = read_grades(a.grades);
    if (!grades) return fail(grades.error(), c.json);
    const GradesTaken taken = with_grades(*t, *grades);
    if (taken.segments.empty()) return fail(bad_input("none of its grades is of a clip or reel of this timeline", a.grades, "Name the grades after clips, or reels.").error(), c.json);
    return save_edit(c, taken.timeline, {{"segments", taken.segments}, {"unused", taken.unused}}, fmt::format("{} segments graded, {} grades not used.", taken.segments.size(), taken.unused.size()));
  }
  std::vector<Grade> all;
  for (const SegmentPtr& s : video_segments(**t))
    if (const auto g = grade_of(*s)) all.push_back(*g);
  if (a.out.empty()) return fail(usage("it is not said where to", "Give --out grades.ccc, or --from grades.ccc.").error(), c.json);
  if (auto r = write_grades(all, a.out); !r) return fail(r.error(), c.json);
  if (c.json) put({{"file", a.out}, {"grades", all.size()}});
  else fmt::print("{} grades: {}\n", all.size(), a.out);
  return 0;
}

int cmd_conform(const Common& c, const ListArguments& a) {
  auto was = load(c);
  if (!was) return fail(was.error(), c.json);
  const auto now = cut_from(a.edl, **was, a.folder);
  if (!now) return fail(now.error(), c.json);
  const Conform done = conform(**was, **now);
  if (!a.out.empty()) {
    if (auto r = must_be_free(a.out); !r) return fail(r.error(), c.json);
    if (auto r = save_timeline(*done.timeline, a.out); !r) return fail(r.error(), c.json);
  }
  Json changes = Json::array();
  for (const Conformed& k : done.changes) {
    const bool old = k.what != Conformed::What::added, kept = k.what != Conformed::What::gone;
    changes.push_back({{"what", conformed_name(k.what)}, {"segment", k.segment}, {"name", k.name}, {"was", old ? Json({k.was.in, k.was.out}) : Json()},
                       {"now", kept ? Json({k.now.in, k.now.out}) : Json()}});
    if (c.json || k.what == Conformed::What::same) continue;
    fmt::print("  {:<8} '{}'{}{}\n", conformed_name(k.what), k.name, old ? ", was " + timecode_at(**was, k.was.in) : "", kept ? ", now " + timecode_at(*done.timeline, k.now.in) : "");
  }
  using What = Conformed::What;
  if (c.json)
    put({{"file", a.out}, {"same", done.count(What::same)}, {"moved", done.count(What::moved)}, {"trimmed", done.count(What::trimmed)}, {"added", done.count(What::added)},
         {"gone", done.count(What::gone)}, {"changes", changes}, {"remarks", done.remarks}});
  else {
    for (const std::string& r : done.remarks) fmt::print("  {}\n", r);
    fmt::print("{} as they were, {} moved, {} trimmed, {} new, {} gone{}\n", done.count(What::same), done.count(What::moved), done.count(What::trimmed), done.count(What::added),
               done.count(What::gone), a.out.empty() ? ". Nothing is written without --out." : ": " + a.out);
  }
  return 0;
}

int cmd_markers(const Common& c, const ListArguments& a) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  if (!a.grades.empty()) {
    const auto text = read_file(a.grades, std::size_t{16} << 20);
    if (!text) return fail(text.error(), c.json);
    const auto markers = markers_from_csv(*text, a.grades, **t);
    if (!markers) return fail(markers.error(), c.json);
    return save_edit(c, with_markers(**t, *markers), {{"added", markers->size()}}, fmt::format("{} markers set.", markers->size()));
  }
  const std::vector<Marker> all = markers_of(**t);
  const std::string csv = csv_of(all, **t);
  if (!a.out.empty())
    if (auto r = write_out(a.out, csv); !r) return fail(r.error(), c.json);
  Json list = Json::array();
  for (const Marker& m : all) list.push_back({{"name", m.name}, {"in", m.at.in}, {"out", m.at.out}, {"note", m.note}, {"colour", m.colour}, {"of", m.of}});
  if (c.json) put({{"markers", list}});
  else if (a.out.empty()) fmt::print("{}", csv);
  else fmt::print("{} markers: {}\n", all.size(), a.out);
  return 0;
}

int cmd_look(const Common& c, const ListArguments& a) {
  auto t = load(c);
  if (!t) return fail(t.error(), c.json);
  const auto s = segment_called(**t, a.segment);
  if (!s) return fail(s.error(), c.json);
  const auto at = parse_timecode(a.frame, (*t)->rate);
  if (!at || *at < 0 || *at >= (*s)->duration) return fail(usage(fmt::format("'{}' is no frame of '{}'", a.frame, (*s)->name), "Count from the segment's first.").error(), c.json);
  const auto look = write_look(**s, *at, a.size, a.out);
  if (!look) return fail(look.error(), c.json);
  if (c.json) put({{"file", a.out}, {"segment", (*s)->id}, {"taken", look->taken}, {"left_out", look->left_out}, {"worst", look->worst}});
  else {
    fmt::print("{} of '{}', between its points at most {:.4f} off: {}\n", fmt::join(look->taken, ", "), (*s)->name, look->worst, a.out);
    for (const std::string& l : look->left_out) fmt::print("  Not in it: {}\n", l);
  }
  return 0;
}

std::function<bool(const std::string&, double)> shown(const std::atomic<bool>& interrupted) {
  return [&interrupted](const std::string& what, double share) {
    show_progress(fmt::format("{:3.0f} %  {}", share * 100, what));
    return !interrupted.load();
  };
}

int cmd_pack(const Common& c, const ListArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  PackOptions options;
  options.media = a.media == "proxies" ? PackOptions::Media::proxies : a.media == "none" ? PackOptions::Media::none : PackOptions::Media::originals;
  options.size = a.smaller, options.renditions = !a.without_renders;
  if (!a.form.empty()) {
    const auto form = form_named(a.form);
    if (!form) return fail(usage("there is no form '" + a.form + "'", "Give vc3-sq, mjpeg or another that formats.md lists.").error(), c.json);
    options.form = *form;
  }
  const auto packed = pack(o->view, o->stores, a.out, options, shown(interrupted));
  end_progress();
  if (!packed) return fail(packed.error(), c.json);
  if (c.json)
    put({{"folder", a.out}, {"timeline", packed->timeline.string()}, {"media", packed->media}, {"looks", packed->looks}, {"pieces", packed->pieces}, {"bytes", packed->bytes}, {"missing", packed->missing}});
  else if (packed->missing.empty())
    fmt::print("{} media, {} files of effects, {} pieces of rendered media, {}: {}\n", packed->media, packed->looks, packed->pieces, bytes_text(packed->bytes), packed->timeline.string());
  else {
    fmt::print("Nothing is packed, because something is missing. `gclk relink` finds it, or let no media go along with --media none.\n");
    for (const std::string& m : packed->missing) fmt::print("  {}\n", m);
  }
  return packed->missing.empty() ? 0 : 1;
}

int cmd_open(const Common& c, const ListArguments& a, const std::atomic<bool>& interrupted) {
  auto stores = Stores::open(c.desk());
  if (!stores) return fail(stores.error(), c.json);
  const auto u = unpack(a.folder, *stores, shown(interrupted));
  end_progress();
  if (!u) return fail(u.error(), c.json);
  const bool good = u->damaged.empty() && u->offline.empty() && u->pieces.refused.empty();
  if (c.json)
    put({{"timeline", u->timeline.string()}, {"files", u->files}, {"pieces", u->pieces.pieces}, {"pieces_known", u->pieces.known}, {"refused", u->pieces.refused}, {"damaged", u->damaged}, {"offline", u->offline}});
  else {
    fmt::print("{} files are as they were packed. {} pieces of rendered media taken onto the shelf, {} were there.\n{}\n", u->files - u->damaged.size(), u->pieces.pieces, u->pieces.known, u->timeline.string());
    for (const auto* list : {&u->damaged, &u->pieces.refused, &u->offline})
      for (const std::string& d : *list) fmt::print("  {}\n", d);
    if (!good) fmt::print("Have what is named above sent again.\n");
  }
  return good ? 0 : 1;
}

}  // namespace

void add_interchange_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static ListArguments a;
  CLI::App* s = app.add_subcommand("import", "Make a timeline of an edit decision list (CMX 3600)");
  s->footer("Example: gclk import cut.edl --rate 24 --folder media --out cut.otio");
  s->add_flag("--json", c.json, "One JSON document");
  s->add_option("list", a.edl, "The list")->required();
  s->add_option("--out", a.out, "The timeline to write")->required();
  s->add_option("--rate", a.rate, "Frames a second that it counts in");
  s->add_option("--folder", a.folder, "Where to look for media, by clip name, reel or source file; beside the list when left out");
  s->callback([&] { code = cmd_import(c, a); });
  s = app.add_subcommand("edl", "Write the lowest track as an edit decision list, grades as ASC CDL comments");
  s->footer("Example: gclk edl cut.otio --out cut.edl");
  add_common(s, c, true);
  s->add_option("--out", a.out, "The list to write; standard output when left out");
  s->callback([&] { code = cmd_edl(c, a); });
  s = app.add_subcommand("grades", "Write the grades of all segments as .ccc, .cc or .cdl, or take grades over");
  s->footer("Example: gclk grades cut.otio --from dailies.ccc");
  add_common(s, c, true);
  s->add_option("--out", a.out, "The file to write: .ccc");
  s->add_option("--from", a.grades, "Grades to take over, by clip name or reel: .ccc, .cc or .cdl");
  s->callback([&] { code = cmd_grades(c, a); });
  s = app.add_subcommand("conform", "Take over what was done to a timeline into a new cut of it");
  s->footer("Example: gclk conform cut-3.otio cut-4.edl --out cut-4.otio");
  add_common(s, c, true);
  s->add_option("new", a.edl, "The new cut: .otio or .edl")->required();
  s->add_option("--out", a.out, "The timeline to write; only told when left out");
  s->add_option("--folder", a.folder, "Where to look for media that the old cut does not have");
  s->callback([&] { code = cmd_conform(c, a); });
  s = app.add_subcommand("markers", "List markers, write them as a table, or set those of a table");
  s->footer("Example: gclk markers cut.otio --from notes.csv");
  add_common(s, c, true);
  s->add_option("--out", a.out, "The table to write: .csv");
  s->add_option("--from", a.grades, "A table with columns name and in; also out, duration, note, colour");
  s->callback([&] { code = cmd_markers(c, a); });
  s = app.add_subcommand("look", "Write what a segment's effects make of colours as a table for other programs");
  s->footer("Example: gclk look cut.otio ky-03 --out kiln.cube");
  add_common(s, c, true);
  s->add_option("segment", a.segment, "Id, name or place of the segment")->required();
  s->add_option("--out", a.out, "The file to write: .cube or .clf")->required();
  s->add_option("--size", a.size, "Points on a side");
  s->add_option("--at", a.frame, "The frame at which keys are taken, counted from the segment's first");
  s->callback([&] { code = cmd_look(c, a); });
  s = app.add_subcommand("pack", "Make a folder with a timeline and everything that it needs, for another seat");
  s->footer("Example: gclk pack cut.otio --to /volumes/travel/cut --media proxies --size 4");
  add_common(s, c, true);
  s->add_option("--to", a.out, "The folder; it must not be there yet")->required();
  s->add_option("--media", a.media, "originals, proxies or none")->check(CLI::IsMember({"originals", "proxies", "none"}));
  s->add_option("--size", a.smaller, "Of proxies: so many times smaller on each side")->check(CLI::IsMember({2, 4, 8, 16}));
  s->add_option("--form", a.form, "Of proxies; vc3-sq when left out");
  s->add_flag("--without-renders", a.without_renders, "Leave rendered media here");
  s->callback([&] { code = cmd_pack(c, a, interrupted); });
  s = app.add_subcommand("open", "Receive such a folder: look whether it is whole, take rendered media onto this shelf");
  s->footer("Example: gclk open /volumes/travel/cut");
  add_common(s, c, false);
  s->add_option("folder", a.folder, "What `gclk pack` made")->required();
  s->callback([&] { code = cmd_open(c, a, interrupted); });
}

}  // namespace gc
