// What the shelf takes: looking a frame up among a million, the route of two hours after an edit, opening 50 000 pieces,
// and fetching through it against decoding the same file alone. Writes build/bench-shelf.json.
#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <cstdio>
#include <fstream>
#include <iostream>

#include "base/clock.h"
#include "rows.h"
#include "desk/desk.h"
#include "media/synthetic.h"
#include "queue/prerender.h"

using namespace gc;

namespace {

constexpr int kRounds = 5;
constexpr std::size_t kPieces = 50000, kFramesEach = 24;

Hash128 name_of(std::size_t piece, std::size_t frame) {
  return Hasher().add(static_cast<std::int64_t>(piece)).add(static_cast<std::int64_t>(frame)).done();
}

/// A shelf of so many pieces whose files are there and hold nothing: it is only looked up.
void make_many(const fs::path& folder) {
  { const auto shelf = Shelf::open(folder); }
  constexpr const char* kNoSteps[] = {"", "", ""};
  auto db = Database::open(folder / "index.sqlite", std::span<const char* const>(kNoSteps, 3), "index").value();
  (void)db.change([&]() -> Result<void> {
    Statement q = db.prepare(
        "INSERT INTO chunk(file, frames, bytes, timeline, segment, \"offset\", made, sums, kind) VALUES(?,?,?,?,?,?,?,?,3)");
    for (std::size_t i = 0; i < kPieces; ++i) {
      std::vector<Hash128> names;
      for (std::size_t f = 0; f < kFramesEach; ++f) names.push_back(name_of(i, f));
      const std::string blob(reinterpret_cast<const char*>(names.data()), names.size() * sizeof(Hash128));
      const std::string file = names.front().hex() + ".mov";
      std::ofstream(folder / "chunks" / file) << "x";
      std::ofstream(folder / "chunks" / (file + ".json")) << "{}";
      if (auto r = q.bind(std::string_view(file)).blob(blob).bind(std::int64_t{1}).bind(std::string_view("A feature"))
                       .bind(std::string_view("s")).bind(static_cast<std::int64_t>(i * kFramesEach)).bind(std::string_view("2026-01-01T00:00:00Z")).blob(blob).run();
          !r)
        return r;
    }
    return {};
  });
}

/// Two hours at 24: 2 400 segments with two effects each.
TimelinePtr two_hours(double last) {
  auto t = std::make_shared<Timeline>();
  t->name = "A feature", t->width = 1280, t->height = 720;
  auto track = std::make_shared<Track>();
  track->id = "V1";
  for (int i = 0; i < 2400; ++i) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = fmt::format("s-{}", i), s->content = Content::generator, s->ref = "solid", s->duration = 72;
    s->generator = {{"colour", {0.2, 0.2, 0.001 * i}}};
    s->stack.push_back({s->id + "-b", "blur", {{"sigma", i == 1200 ? last : 1.5}}, true, true, {}, {}});
    s->stack.push_back({s->id + "-g", "grain", Json::object(), true, true, {}, {}});
    track->items.push_back(SegmentPtr(s));
  }
  t->tracks.push_back(track);
  return t;
}

/// Keeps the stack of one segment after its first effect.
void tap(Shelf& shelf, const ProgramPtr& program) {
  if (const auto made = cache_stack(program, shelf, "s-7", 1, {}, {}); !made) fmt::print("  {}\n", made.error().text());
}

/// Milliseconds until it is open, and until its files have been looked at, in a program that was just started, as it always is: one after another in the same program
/// would leave its memory in pieces.
std::pair<double, double> opened_by_another(const std::string& self, const fs::path& folder) {
  FILE* said = ::popen(fmt::format("'{}' --open '{}'", self, folder.string()).c_str(), "r");
  double ms = NAN, looked_at = NAN;
  if (!said || std::fscanf(said, "%lf %lf", &ms, &looked_at) != 2) fmt::print(stderr, "opening a shelf in another program did not work\n");
  if (said) ::pclose(said);
  return {ms, looked_at};
}

}  // namespace

int main(int argc, char** argv) {
  if (argc == 3 && std::string_view(argv[1]) == "--open") {
    const Stopwatch watch;
    const auto shelf = *Shelf::open(argv[2]);
    const double opened = watch.ms();
    // Anything but looking a frame up waits until every file has been looked at.
    (void)shelf->chunks();
    fmt::print("{} {}\n", opened, watch.ms());
    return 0;
  }
  const auto scratch = ScratchFolder::make(fs::temp_directory_path(), "gclk-bench-");
  if (!scratch) {
    fmt::print(stderr, "{}\n", scratch.error().text());
    return 4;
  }
  fmt::print("The shelf, {} pieces with {} frames:\n", kPieces, kPieces * kFramesEach);
  const fs::path many = scratch->path() / "many";
  make_many(many);
  std::vector<double> opening, looked_at, looking, routing, routing_tapped;
  for (int round = 0; round < kRounds; ++round) {
    const auto [open, files] = opened_by_another(argv[0], many);
    opening.push_back(open), looked_at.push_back(files);
  }
  for (int round = 0; round < kRounds; ++round) {
    const auto shelf = *Shelf::open(many);
    std::vector<Hash128> names;
    for (std::size_t i = 0; i < 200000; ++i) names.push_back(name_of(i * 7919 % kPieces, i % kFramesEach));
    (void)shelf->chunks();  // nothing goes on in the background
    std::size_t found = 0;
    const Stopwatch look;
    for (const Hash128& n : names) found += shelf->find(n).has_value();
    looking.push_back(look.ms() * 1000 / static_cast<double>(names.size()));
    if (found != names.size()) fmt::print("  only {} of {} were found\n", found, names.size());
    MediaCatalog media;
    (void)shelf->route(*Program::compile(two_hours(1), media));
    const ProgramPtr edited = Program::compile(two_hours(2 + round), media);
    const Stopwatch route;
    (void)shelf->route(*edited);
    routing.push_back(route.ms());
  }
  {
    // With something on the shelf that is no finished frame every stack of every frame is looked up.
    const auto shelf = *Shelf::open(many);
    MediaCatalog media;
    tap(*shelf, Program::compile(two_hours(1), media));
    (void)shelf->route(*Program::compile(two_hours(1), media));
    for (int round = 0; round < kRounds; ++round) {
      const ProgramPtr edited = Program::compile(two_hours(12 + round), media);
      const Stopwatch watch;
      const Route r = shelf->route(*edited);
      routing_tapped.push_back(watch.ms());
      if (r.count(FrameState::half) == 0) fmt::print("  the cached stack answers nothing\n");
    }
  }
  row("shelf_open_50000", median(opening), "ms", 300, false);
  fmt::print("  {:.0f} ms until each of its files has been looked at, in the background\n", median(looked_at));
  row("shelf_look_up", median(looking), "µs", 1, false);
  row("route_after_edit", median(routing), "ms", 20, false);
  row("route_after_edit_with_taps", median(routing_tapped), "ms", 20, false);

  // Fetching: the same pieces, read in order, one after another. Through the shelf each is looked up, opened and held
  // against its checksum.
  const fs::path file = scratch->path() / "m.mov";
  auto w = MovieWriter::create(file.string(), Form::vc3_hqx, 1280, 720, {24, 1});
  for (Frames f = 0; f < 96; ++f) (void)(*w)->write(synthetic_frame("hands", f, 1280, 720, 7, 0.02f));
  (void)(*w)->finish();
  auto t = std::make_shared<Timeline>();
  t->width = 1280, t->height = 720, t->name = "Fetching";
  auto m = std::make_shared<MediaSource>();
  m->id = "m", m->path = m->url = file.string(), m->length = 96;
  t->sources["m"] = m;
  auto s = std::make_shared<Segment>();
  s->id = "a", s->ref = "m", s->duration = 96;
  auto track = std::make_shared<Track>();
  track->id = "V1", track->items.push_back(SegmentPtr(s));
  t->tracks.push_back(track);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media);
  const auto shelf = *Shelf::open(scratch->path() / "shelf");
  if (auto r = prerender(p, *shelf, {{0, 96}}, {}, {}); !r) fmt::print("{}\n", r.error().text());
  std::vector<double> ratios;
  for (int round = 0; round < kRounds * 2 + 1; ++round) {
    double ms[2] = {};
    for (const int side : {round % 2, 1 - round % 2}) {
      const Stopwatch watch;
      if (side == 0) {
        std::string open;
        std::unique_ptr<FrameReader> reader;
        for (Frames f = 0; f < 96; ++f) {
          const auto hit = shelf->find(p->fingerprint(f));
          if (hit->path != open) reader = std::move(*FrameReader::open(hit->path)), open = hit->path;
          (void)reader->read(hit->index);
        }
      } else {
        Decoders decoders;
        StageLog log;
        for (Frames f = 0; f < 96; ++f) (void)fetch_and_decode(*p, f, shelf.get(), decoders, log);
      }
      ms[side] = watch.ms();
    }
    ratios.push_back(ms[0] / ms[1]);
  }
  row("fetch_through_shelf", median(ratios), "×", 0.97, true);
  if (auto r = write_file_atomic(fs::path(GCLK_BUILD) / "bench-shelf.json", results.dump(1) + "\n"); !r) fmt::print("{}\n", r.error().text());
  return 0;
}
