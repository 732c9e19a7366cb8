#include "cli/files.h"

#include <fmt/format.h>

#include <cstdio>

#include "base/timecode.h"
#include "cli/print.h"
#include "desk/relink.h"
#include "media/picture_file.h"

namespace gc {
namespace {

struct FileArguments {
  std::string folder, source, file, by = "name", frame, out, route = "live", raster, rate, timecode, start, root, form;
  bool dry_run = false;
};

/// Relinking or other edits of what the file states, written back.
int cmd_relink(const Common& c, FileArguments a) {
  // A root alone: a tree of copies, or of originals, that mirrors where the files lay.
  if (!a.root.empty()) a.folder = a.root, a.by = "mirrored";
  auto timeline = load(c);
  if (!timeline) return fail(timeline.error(), c.json);
  MediaCatalog media;
  if (a.source.empty() == a.folder.empty())
    return fail(Error{Fault::usage, "say where to look, or which source is which file", c.file,
                      "Give --folder DIR, or --source ID --to FILE."},
                c.json);
  auto report = a.folder.empty() ? relink_one(*timeline, media, a.source, a.file)
                                 : relink(*timeline, media, a.folder,
                                          a.by == "content" ? RelinkBy::content : a.by == "mirrored" ? RelinkBy::mirrored : RelinkBy::name);
  if (!report) return fail(report.error(), c.json);
  Json found = Json::array();
  for (const Relinked& r : report->found) found.push_back({{"source", r.source}, {"from", r.from}, {"to", r.to}});
  if (!report->found.empty() && !a.dry_run)
    if (auto saved = save_timeline(*report->timeline, c.file); !saved) return fail(saved.error(), c.json);
  if (c.json) {
    put({{"relinked", found}, {"not_found", report->not_found}, {"dry_run", a.dry_run}});
  } else {
    for (const Relinked& r : report->found) fmt::print("  {} {} {}\n", r.from, a.dry_run ? "would be" : "is now", r.to);
    for (const std::string& n : report->not_found) fmt::print("  not found: {}\n", n);
    fmt::print("{} of {} {}media {}.\n", report->found.size(),
               report->found.size() + report->not_found.size(), a.by == "mirrored" ? "" : "missing ", a.dry_run ? "would be relinked" : "relinked");
  }
  return report->not_found.empty() ? 0 : 1;
}

int cmd_frame(const Common& c, const FileArguments& a) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  auto range = parse_range(a.frame + "-", o->view);
  if (!range) return fail(range.error(), c.json);
  if (auto r = must_be_free(a.out); !r) return fail(r.error(), c.json);
  const Frames n = range->in;
  const bool played = a.route == "played";
  RenderOptions whole;
  whole.rendering = true, whole.join_fields = o->stores.options.settings.join_fields;
  const ProgramPtr program =
      played ? o->view.played : Program::compile(o->view.timeline, *o->stores.media, whole);
  Decoders decoders;
  StageLog log;
  FrameNotes notes;
  const Image image =
      render_frame(*program, n, played ? o->stores.shelf.get() : nullptr, decoders, log, nullptr, &notes);
  if (auto r = write_picture(image, a.out); !r) return fail(r.error(), c.json);
  const bool sealed = played && program->recipe(n, o->stores.shelf.get()).seal.has_value();
  std::vector<std::string> why = notes.trouble;
  // Only of what is seen: a segment that another one covers may lack its picture.
  if (notes.stand_in)
    for (const MissingPicture& m : missing_pictures(*program))
      if (n >= m.at.in && n < m.at.out) why.push_back(fmt::format("'{}': {}", m.name, m.why));
  const bool whole_picture = why.empty() && !notes.stand_in && !notes.unseen;
  if (c.json) {
    put({{"frame", n},
         {"timecode", timecode_at(*o->view.timeline, n)},
         {"file", a.out},
         {"route", a.route},
         {"sealed", sealed},
         {"width", image.width()},
         {"height", image.height()},
         {"whole", whole_picture},
         {"trouble", why}});
  } else {
    fmt::print("Frame {} ({}), {}x{}, {}: {}\n", n, timecode_at(*o->view.timeline, n), image.width(), image.height(),
               sealed ? "from rendered media" : "made live", a.out);
    if (notes.unseen) fmt::print("  Something in it shows only after rendering.\n");
    for (const std::string& w : why) fmt::print("  No picture: {}\n", w);
  }
  return whole_picture ? 0 : 1;
}

int cmd_set_timeline(const Common& c, const FileArguments& a) {
  auto loaded = load(c);
  if (!loaded) return fail(loaded.error(), c.json);
  TimelinePtr now = *loaded;
  const auto media = std::make_shared<MediaCatalog>();
  if (!a.rate.empty()) {
    char* end = nullptr;
    double fps = std::strtod(a.rate.c_str(), &end);
    if (end && *end == '/') fps /= std::strtod(end + 1, &end);
    if (end == a.rate.c_str() || *end || !(fps >= 1 && fps <= 480))
      return fail(Error{Fault::usage, fmt::format("'{}' is no rate", a.rate), "", "Give 24, 29.97 or 30000/1001."},
                  c.json);
    auto changed = with_rate(*now, Rate::near(fps), reading_with(media));
    if (!changed) return fail(changed.error(), c.json);
    now = *changed;
  }
  auto t = std::make_shared<Timeline>(*now);
  if (!a.raster.empty()) {
    int used = 0;
    if (std::sscanf(a.raster.c_str(), "%dx%d%n", &t->width, &t->height, &used) != 2 ||
        static_cast<std::size_t>(used) != a.raster.size() || t->width < 16 || t->height < 16 || t->width > 16384 ||
        t->height > 16384)
      return fail(Error{Fault::usage, fmt::format("'{}' is no raster", a.raster), "", "Give 1920x1080; 16 to 16384."},
                  c.json);
  }
  if (!a.form.empty() && a.form != "seat" && !form_named(a.form))
    return fail(usage("there is no form '" + a.form + "'", "Give vc3-hqx, rdd36 or another that formats.md lists; or seat.").error(), c.json);
  if (!a.form.empty()) t->render_form = a.form == "seat" ? "" : a.form;
  if (!a.timecode.empty()) t->drop_frame = a.timecode == "drop";
  if (!a.start.empty()) {
    const auto start = parse_timecode(a.start, t->rate, t->drop_frame);
    if (!start) return fail(Error{Fault::usage, fmt::format("'{}' is no timecode", a.start), "", "Give 01:00:00:00."}, c.json);
    t->start = *start;
    t->foreign["global_start_time"] = {
        {"OTIO_SCHEMA", "RationalTime.1"}, {"rate", t->rate.fps()}, {"value", static_cast<double>(*start)}};
  }
  return save_edit(c, t,
                   {{"width", t->width}, {"height", t->height}, {"rate", t->rate.fps()}, {"timecode_start", timecode_at(*t, 0)}, {"render_form", t->render_form}},
                   fmt::format("{}x{} at {:.6g} frames a second, from {}.", t->width, t->height, t->rate.fps(),
                               timecode_at(*t, 0)));
}

}  // namespace

void add_file_commands(CLI::App& app, Common& c, int& code) {
  static FileArguments a;
  const auto add = [&](const char* name, const char* what, const char* example) {
    CLI::App* s = app.add_subcommand(name, what);
    s->footer(std::string("Example: ") + example);
    add_common(s, c, true);
    return s;
  };
  CLI::App* s = add("relink", "Find the files that missing media have become",
                    "gclk relink cut.otio --folder /volumes/camera --by content");
  s->add_option("--folder", a.folder, "Where to look, with everything in it");
  s->add_option("--by", a.by, "By file name, or by rate, length and timecode")->check(CLI::IsMember({"name", "content", "mirrored"}));
  s->add_option("root", a.root, "Root of a tree of copies that mirrors where the files lie, as `proxies` makes it: every source is relinked");
  s->add_flag("--dry-run", a.dry_run, "Only say what would be what");
  s->add_option("--source", a.source, "Id of one source");
  s->add_option("--to", a.file, "Its file");
  s->callback([&] { code = cmd_relink(c, a); });
  s = add("frame", "Write one frame as a picture", "gclk frame cut.otio 01:00:04:12 --out still.png --route played");
  s->add_option("frame", a.frame, "Frame of the timeline from 0, or a timecode")->required();
  s->add_option("--out", a.out, "PNG, TIFF, EXR or DPX, by its extension")->required();
  s->add_option("--route", a.route, "live: made at full quality, nothing bypassed; played: as playback shows it")
      ->check(CLI::IsMember({"live", "played"}));
  s->callback([&] { code = cmd_frame(c, a); });
  s = add("set-timeline", "Set the raster, the rate, and how timecode is counted",
          "gclk set-timeline cut.otio --raster 1920x1080 --rate 29.97 --timecode non-drop");
  s->add_option("--raster", a.raster, "WIDTHxHEIGHT");
  s->add_option("--rate", a.rate, "Frames a second");
  s->add_option("--timecode", a.timecode, "At 29.97 and 59.94")->check(CLI::IsMember({"drop", "non-drop"}));
  s->add_option("--start", a.start, "Timecode of the first frame");
  s->add_option("--form", a.form, "Form in which its pictures are kept; seat: as this seat's settings say");
  s->callback([&] { code = cmd_set_timeline(c, a); });
}

}  // namespace gc
