#include "cli/shelf.h"

#include <fmt/format.h>

#include <unordered_set>

#include "cli/print.h"

namespace gc {
namespace {

struct ShelfArguments {
  bool verify = false, rebuild = false, pieces = false;
  std::string timeline, segment, after;
};

/// Bytes of the pieces that nothing of a timeline is answered from.
std::uint64_t unmatched(const Shelf& shelf, const Program& program) {
  std::unordered_set<Hash128> wanted;
  for (Frames f = 0; f < program.duration(); ++f) {
    wanted.insert(program.fingerprint(f));
    if (const CompiledSegment* s = main_segment(program, f))
      for (std::size_t n = 1; n <= s->effects.size(); ++n) wanted.insert(program.tap_key(*s, f, n));
  }
  std::uint64_t bytes = 0;
  for (const Chunk& c : shelf.pieces())
    if (std::ranges::none_of(c.frames, [&](const Hash128& h) { return wanted.contains(h); })) bytes += c.bytes;
  return bytes;
}

std::string what_of(const Chunk& c) { return c.after > 0 ? fmt::format("a stack, {} effects of it", c.after) : "frames"; }

int cmd_shelf(const Common& c, const ShelfArguments& a, const std::atomic<bool>& interrupted) {
  auto stores = Stores::open(c.desk());
  if (!stores) return fail(stores.error(), c.json);
  Shelf& shelf = *stores->shelf;
  Json out;
  if (a.rebuild) {
    const auto taken = shelf.rebuild();
    if (!taken) return fail(taken.error(), c.json);
    out["taken_in"] = *taken;
    if (!c.json) fmt::print("{} pieces were taken in that the index did not have.\n", *taken);
  }
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
  std::error_code e;
  const bool available = fs::exists(shelf.folder() / "chunks", e);
  out["volumes"] = Json::array({{{"folder", shelf.folder().string()},
                                 {"bytes", shelf.bytes()},
                                 {"budget_bytes", nullptr},
                                 {"pieces", pieces.size()},
                                 {"available", available}}});
  out["unmatched_bytes"] = nullptr;
  if (!a.timeline.empty()) {
    Common with_file = c;
    with_file.file = a.timeline;
    auto timeline = load(with_file);
    if (!timeline) return fail(timeline.error(), c.json);
    const View view = view_of(*timeline, *stores);
    out["unmatched_bytes"] = unmatched(shelf, *view.played);
  }
  if (a.pieces) {
    Json list = Json::array();
    for (const Chunk& p : pieces)
      list.push_back({{"file", p.file},
                      {"timeline", p.timeline},
                      {"segment", p.segment},
                      {"frames", p.frames.size()},
                      {"effects_rendered", p.after},
                      {"bytes", p.bytes},
                      {"made", p.made}});
    out["pieces"] = list;
  }
  if (c.json) {
    put(out);
  } else {
    fmt::print("{}: {} pieces, {:.1f} MB{}\n", shelf.folder().string(), pieces.size(),
               static_cast<double>(shelf.bytes()) / 1e6, available ? "" : ", not available now");
    if (out["unmatched_bytes"].is_number())
      fmt::print("  {:.1f} MB of it answer nothing of {}\n", out["unmatched_bytes"].get<double>() / 1e6, a.timeline);
    if (a.pieces)
      for (const Chunk& p : pieces)
        fmt::print("  {}  {:<24} {:<16} {:>4} {}, {:.1f} MB, {}\n", p.file.substr(0, 12), p.timeline, p.segment,
                   p.frames.size(), what_of(p), static_cast<double>(p.bytes) / 1e6, p.made);
    for (const PieceCheck& b : broken)
      fmt::print("  damaged: {} ({}, {}): {}. Its frames are made live.\n", b.file, b.timeline, b.segment, b.wrong);
    if (a.verify && broken.empty()) fmt::print("  Every picture is what was written.\n");
  }
  return broken.empty() ? 0 : 1;
}

int cmd_cache(const Common& c, const ShelfArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const auto what = named(*o->view.timeline, a.segment, a.after);
  if (!what) return fail(what.error(), c.json);
  // Counted as the program runs them: without those that are off or do nothing.
  std::size_t after = 0;
  for (const auto& s : o->view.delivered->segments())
    if (s->segment->id == what->segment->id)
      for (std::size_t i = 0; i < s->effects.size(); ++i)
        if (s->effects[i].id == what->what().id) after = i + 1;
  if (after == 0)
    return fail(bad_input(fmt::format("'{}' does nothing in '{}' now", what->what().id, what->segment->name), c.file,
                          "Choose an effect that runs.")
                    .error(),
                c.json);
  auto report = cache_stack(o->view.played, *o->stores.shelf, what->segment->id, after, o->stores.prerender_options({}),
                            [&](const PrerenderProgress& p) {
                              show_progress(fmt::format("Caching: {} of {} frames", p.done, p.total));
                              return !interrupted.load();
                            });
  end_progress();
  if (!report) return fail(report.error(), c.json);
  if (c.json) put(to_json(*report));
  else {
    print(*report);
    fmt::print("What lies above '{}' in '{}' stays live: changing it loses nothing.\n", what->what().id, what->segment->name);
  }
  return report->cancelled ? 4 : 0;
}

}  // namespace

void add_shelf_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static ShelfArguments a;
  CLI::App* s = app.add_subcommand("shelf", "Say what rendered media there are, and whether they are whole");
  s->footer("Example: gclk shelf --verify");
  add_common(s, c, false);
  s->add_option("--timeline-file", a.timeline, "Say how much answers nothing of this timeline");
  s->add_flag("--verify", a.verify, "Read every picture and hold it against its checksum; exits with 1 when one is damaged");
  s->add_flag("--rebuild", a.rebuild, "Make the index again from what stands beside the pieces");
  s->add_flag("--pieces", a.pieces, "List every piece");
  s->callback([&] { code = cmd_shelf(c, a, interrupted); });
  s = app.add_subcommand("cache", "Render a segment's picture after an effect; what lies above stays live");
  s->footer("Example: gclk cache cut.otio ky-03 --after ky-03-clean");
  add_common(s, c, true);
  s->add_option("segment", a.segment, "Id, name or place of the segment")->required();
  s->add_option("--after", a.after, "Id, name or place of the effect")->required();
  s->callback([&] { code = cmd_cache(c, a, interrupted); });
}

}  // namespace gc
