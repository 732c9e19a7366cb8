#include "cli/interchange.h"

#include <fmt/format.h>

#include "cli/print.h"
#include "desk/grades.h"
#include "interchange/edl.h"

namespace gc {
namespace {

struct ListArguments {
  std::string edl, out, rate = "24", folder, grades, by = "name";
};

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
  std::error_code e;
  if (fs::exists(a.out, e)) return fail(bad_input("a file lies there already", a.out, "Give another name, or move that file away.").error(), c.json);
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

}  // namespace

void add_interchange_commands(CLI::App& app, Common& c, int& code) {
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
}

}  // namespace gc
