// Kills whoever works on a shelf at random instants, damages its files, takes its drive away, and looks each time
// whether anything was lost and whether a wrong picture is ever shown.
//
//   gclk_torture [--kills N] [--seed N] [WHAT...]     ends with "N passed, N failed"; exits with 1 when any failed
//
// A kill is one child process that does something to a shelf until it is killed, and a look at what is left.
#include <fmt/format.h>
#include <signal.h>
#include <sys/prctl.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <cstring>
#include <fstream>
#include <thread>

#include "base/log.h"
#include "base/slow_volume.h"
#include "desk/desk.h"
#include "media/synthetic.h"
#include "queue/prerender.h"
#include "queue/renderer.h"
#include "release/delivery.h"

namespace gc {
namespace {

constexpr int kWidth = 256, kHeight = 144;
constexpr Frames kLength = 72;
constexpr std::uint64_t kBudgetOverhead = 64 << 10;

struct Rng {
  std::uint64_t state;
  std::uint32_t operator()(std::uint32_t n) {
    state = state * 6364136223846793005ULL + 1442695040888963407ULL;
    return static_cast<std::uint32_t>(state >> 33) % n;
  }
};

ProgramPtr program(const fs::path& folder, int variant, MediaCatalog& media) {
  auto t = std::make_shared<Timeline>();
  t->name = fmt::format("Variant {}", variant);
  t->width = kWidth, t->height = kHeight;
  auto m = std::make_shared<MediaSource>();
  m->id = "m", m->path = m->url = (folder / "m.mov").string(), m->length = 100;
  t->sources["m"] = m;
  auto s = std::make_shared<Segment>();
  s->id = "a", s->name = "a", s->ref = "m", s->duration = kLength;
  s->stack.push_back({"b", "blur", {{"sigma", 1.0 + variant}}, true, true, {}, {}});
  s->stack.push_back({"g", "cdl", {{"saturation", 1.2}}, true, true, {}, {}});
  auto track = std::make_shared<Track>();
  track->id = "V1", track->items.push_back(SegmentPtr(s));
  t->tracks.push_back(track);
  return Program::compile(t, media);
}

std::uint64_t bytes_in(const fs::path& folder) {
  std::uint64_t bytes = 0;
  std::error_code e;
  for (const auto& entry : fs::directory_iterator(folder / "chunks", e)) bytes += entry.file_size(e);
  return bytes;
}

DeliveryOptions delivery_in(const fs::path& folder) {
  DeliveryOptions o;
  o.to = folder / "out" / "kiln.mov", o.form = "vc3-hqx", o.range = {0, kLength};
  return o;
}

Result<DeliveryReport> deliver_in(const fs::path& folder, MediaCatalog& media) {
  const auto notebook = Notebook::open(folder / "notebook.sqlite");
  const auto shelf = Shelf::open(folder / "shelf");
  if (!notebook || !shelf) return std::unexpected(!notebook ? notebook.error() : shelf.error());
  return deliver(program(folder, 1, media), shelf->get(), **notebook, media, delivery_in(folder), {}, {});
}

/// Works off the queue's jobs, each in a process that takes a moment and says in a file of its own that it began.
void work_off(const fs::path& folder, const std::atomic<bool>& stop) {
  auto journal = Journal::open(folder / "queue.sqlite");
  if (!journal) ::_exit(3);
  RendererOptions o;
  o.without_input = [] { return 1e9; };
  o.start = [&](std::int64_t id) {
    const pid_t parent = ::getpid(), pid = ::fork();
    if (pid != 0) return static_cast<int>(pid);
    ::prctl(PR_SET_PDEATHSIG, SIGKILL);
    if (::getppid() != parent) ::_exit(4);
    auto own = Journal::open(folder / "queue.sqlite");
    if (!own) ::_exit(3);
    for (Frames f = 1; f <= 8; ++f) (void)own->progress(id, f), std::this_thread::sleep_for(std::chrono::milliseconds(4));
    (void)own->end(id, JobState::done, "", 0.03);
    ::_exit(0);
  };
  (void)run_renderer(*journal, o, stop);
}

/// What a child does until it is killed. Each finished piece is told through the pipe.
void work(const std::string& what, const fs::path& folder, std::uint64_t seed, int tell) {
  Rng draw{seed};
  MediaCatalog media;
  const auto report = [&](int pieces) {
    for (int i = 0; i < pieces; ++i) (void)!::write(tell, ".", 1);
  };
  for (;;) {
    if (what == "deliver") {
      (void)deliver_in(folder, media);
      std::error_code e;
      fs::remove_all(folder / "out", e);
      continue;
    }
    if (what == "queue") {
      auto journal = Journal::open(folder / "queue.sqlite");
      if (!journal) ::_exit(3);
      for (int i = 0; i < 3; ++i) {
        Job j;
        j.timeline = "Torture", j.file = fmt::format("/{}.otio", draw(1 << 20)), j.remedy = "render:0-8", j.price = {8, 0.03, 0.03};
        j.making.subject.form = Form::vc3_hqx;
        if (journal->add(j)) report(1);
      }
      const std::atomic<bool> never{false};
      work_off(folder, never);
      continue;
    }
    auto opened = Shelf::open(folder / "shelf");
    if (!opened) ::_exit(3);
    Shelf& shelf = **opened;
    const auto render = [&](int variant) {
      int told = 0;
      (void)prerender(program(folder, variant, media), shelf, {{0, kLength}}, {}, [&](const PrerenderProgress& p) {
        if (p.pieces > told) report(p.pieces - told), told = p.pieces;
        return true;
      });
    };
    if (what == "encode" || what == "writers") {
      for (int v = 0; v < 3; ++v) render(v);
      if (what == "writers") (void)shelf.discard(*program(folder, static_cast<int>(draw(3)), media));
      else (void)shelf.purge(), (void)shelf.discard(*program(folder, 2, media));
    } else if (what == "evict") {
      render(static_cast<int>(draw(4)));
    } else if (what == "clean") {
      (void)shelf.clean({Selection::What::timeline, fmt::format("Variant {}", draw(2)), 0, {}});
      draw(3) == 0 ? (void)shelf.purge() : (void)shelf.restore();
      render(static_cast<int>(draw(2)));
    } else if (what == "rebuild" || what == "migrate") {
      (void)shelf.rebuild();
      (void)shelf.verify();
    } else if (what == "move") {
      (void)shelf.move_to(folder / (draw(2) ? "other" : "shelf"));
      render(static_cast<int>(draw(2)));
    }
  }
}

class Torture {
 public:
  Torture(std::string self, std::uint64_t seed) : self_(std::move(self)), draw_{seed} {
    auto made = ScratchFolder::make(fs::temp_directory_path(), "gclk-torture-");
    if (!made) throw std::runtime_error(made.error().text());
    scratch_.emplace(std::move(*made));
    folder_ = scratch_->path();
    auto w = MovieWriter::create((folder_ / "m.mov").string(), Form::vc3_hqx, kWidth, kHeight, {24, 1});
    for (Frames f = 0; f < 100; ++f) (void)(*w)->write(synthetic_frame("hands", f, kWidth, kHeight, 7, 0.02f));
    (void)(*w)->finish();
    // What each frame is when it is made live and when it comes from the shelf: there is nothing else that it may be.
    fresh();
    const auto shelf = *Shelf::open(folder_ / "shelf");
    for (int v = 0; v < 4; ++v) {
      const ProgramPtr p = program(folder_, v, media_);
      (void)prerender(p, *shelf, {{0, kLength}}, {}, {});
      for (Frames f = 0; f < kLength; f += kStep) truth_[{v, f}] = {picture(*p, f, nullptr), picture(*p, f, shelf.get())};
    }
    one_ = bytes_in(folder_ / "shelf") / 4;
    fresh();
    if (const auto done = deliver_in(folder_, media_)) delivered_ = packets();
  }

  /// One try; what went wrong, or nothing.
  std::string once(const std::string& what) {
    fresh();
    if (what == "damage") return damage();
    if (what == "full") return full();
    if (what == "gone") return gone();
    if (what == "clock") return clock();
    if (what == "deliver") return delivery();
    if (what == "queue") return queue();
    const std::uint64_t budget = what == "evict" ? one_ * 5 / 2 + kBudgetOverhead : 0;
    {
      const auto shelf = *Shelf::open(folder_ / "shelf");
      if (budget > 0) {
        ShelfVolume v = shelf->volumes().front();
        v.budget = budget;
        (void)shelf->set_volume(v);
      }
      if (what != "encode" && what != "writers")
        for (int v = 0; v < 2; ++v) (void)prerender(program(folder_, v, media_), *shelf, {{0, kLength}}, {}, {});
    }
    const std::size_t before = pieces();
    if (what == "rebuild") std::remove((folder_ / "shelf" / "index.sqlite").c_str());
    if (what == "migrate") make_old();
    int told = 0;
    const int children = what == "writers" ? 2 : 1;
    std::vector<std::pair<pid_t, int>> running;
    for (int i = 0; i < children; ++i) running.push_back(start(what));
    std::this_thread::sleep_for(std::chrono::milliseconds(40 + draw_(700)));
    for (const auto& [pid, pipe] : running) ::kill(pid, SIGKILL);
    for (const auto& [pid, pipe] : running) {
      int status = 0;
      ::waitpid(pid, &status, 0);
      char buffer[4096];
      for (ssize_t n = 0; (n = ::read(pipe, buffer, sizeof buffer)) > 0;) told += static_cast<int>(n);
      ::close(pipe);
      if (WIFEXITED(status)) return fmt::format("it ended by itself with {}", WEXITSTATUS(status));
    }
    if (auto wrong = look(budget); !wrong.empty()) return wrong;
    // Nothing finished may be lost where nothing is ever taken away.
    if (what == "rebuild" || what == "migrate")
      if (pieces() != before) return fmt::format("{} pieces were there, {} are left", before, pieces());
    if (what == "move" && pieces() < before) return fmt::format("{} pieces were there, {} are left", before, pieces());
    if (what == "encode" && told > 0 && pieces() == 0) return "finished pieces are gone";
    // And work goes on where it was.
    const auto shelf = *Shelf::open(folder_ / "shelf");
    const auto again = prerender(program(folder_, 1, media_), *shelf, {{0, kLength}}, {}, {});
    if (!again) return "work does not go on: " + again.error().text();
    return look(budget);
  }

 private:
  static constexpr Frames kStep = 7;
  struct Truth {
    Hash128 live, sealed;
  };

  void fresh() {
    for (const char* name : {"shelf", "other", "out", "queue.sqlite", "queue.sqlite-wal", "queue.sqlite-shm"}) fs::remove_all(folder_ / name);
  }
  static Hash128 picture(const Program& p, Frames f, const SealLookup* seals) {
    Decoders decoders;
    StageLog log;
    const Image image = render_frame(p, f, seals, decoders, log);
    return hash_bytes(image.data(), image.floats() * sizeof(float));
  }
  std::size_t pieces() const { return (*Shelf::open(folder_ / "shelf"))->pieces().size(); }

  std::pair<pid_t, int> start(const std::string& what) {
    int ends[2];
    if (::pipe(ends) != 0) throw std::runtime_error("no pipe");
    const std::string seed = std::to_string(draw_(1 << 30)), fd = std::to_string(ends[1]);
    const pid_t pid = ::fork();
    if (pid == 0) {
      ::close(ends[0]);
      ::execl(self_.c_str(), self_.c_str(), "--child", what.c_str(), folder_.c_str(), seed.c_str(), fd.c_str(), nullptr);
      ::_exit(127);
    }
    ::close(ends[1]);
    return {pid, ends[0]};
  }

  /// Opens what is left: everything recorded is whole, no wrong frame is shown, the budget holds, nothing half made lies
  /// about.
  std::string look(std::uint64_t budget, bool damaged = false) {
    auto opened = Shelf::open(folder_ / "shelf");
    if (!opened) return "the shelf does not open: " + opened.error().text();
    const auto& shelf = *opened;
    if (budget > 0 && bytes_in(folder_ / "shelf") > budget)
      return fmt::format("{} bytes lie there, the budget is {}", bytes_in(folder_ / "shelf"), budget);
    for (int v = 0; v < 4; ++v) {
      const ProgramPtr p = program(folder_, v, media_);
      for (Frames f = 0; f < kLength; f += kStep) {
        const Truth& truth = truth_.at({v, f});
        const Hash128 seen = picture(*p, f, shelf.get());
        if (seen != truth.live && seen != truth.sealed) return fmt::format("a wrong picture: variant {}, frame {}", v, f);
      }
    }
    if (!damaged)
      for (const PieceCheck& c : shelf->verify())
        // A record without its file is what a kill between the two leaves; it answers nothing and is made again.
        if (!c.wrong.empty() && fs::exists(folder_ / "shelf" / "chunks" / c.file)) return "a piece is not whole: " + c.wrong;
    Statement check = Database::open(folder_ / "shelf" / "index.sqlite", std::span<const char* const>(kNoSteps, 3), "index")
                          .value()
                          .prepare("PRAGMA integrity_check");
    if (!check.step() || check.text(0) != "ok") return "the index is not sound";
    for (const char* name : {"shelf", "other"}) {
      std::error_code e;
      for (const auto& entry : fs::directory_iterator(folder_ / name / "chunks", e))
        if (const std::string n = entry.path().filename().string(); n.starts_with("writing-") && !is_alive(entry.path())) return "something half written is left: " + entry.path().string();
    }
    return "";
  }
  static constexpr const char* kNoSteps[] = {"", "", ""};
  /// A lease of this process itself.
  static bool is_alive(const fs::path& file) {
    const auto process = read_file(file, 4096);
    return file.extension() == ".lease" && process && may_be_alive(*process);
  }

  /// Hashes of all coded pictures of the delivery; nothing when it cannot be read.
  std::vector<Hash128> packets() const {
    const auto hashes = picture_hashes((folder_ / "out" / "kiln.mov").string());
    return hashes ? *hashes : std::vector<Hash128>{};
  }

  /// Runs a child for a random while and kills it.
  std::string killed(const std::string& what) {
    const auto [pid, pipe] = start(what);
    std::this_thread::sleep_for(std::chrono::milliseconds(40 + draw_(900)));
    ::kill(pid, SIGKILL);
    int status = 0;
    ::waitpid(pid, &status, 0);
    told_ = 0;
    char buffer[4096];
    for (ssize_t n = 0; (n = ::read(pipe, buffer, sizeof buffer)) > 0;) told_ += static_cast<int>(n);
    ::close(pipe);
    return WIFEXITED(status) ? fmt::format("it ended by itself with {}", WEXITSTATUS(status)) : "";
  }

  /// A delivery is whole or not there, and goes on to be the very same.
  std::string delivery() {
    if (draw_(2)) {
      const auto shelf = *Shelf::open(folder_ / "shelf");
      (void)prerender(program(folder_, 1, media_), *shelf, {{0, kLength / 2}}, {}, {});
    }
    if (auto wrong = killed("deliver"); !wrong.empty()) return wrong;
    const fs::path to = folder_ / "out" / "kiln.mov";
    if (fs::exists(to) && packets() != delivered_) return "a file that looks finished is not";
    if (fs::exists(to)) fs::remove_all(folder_ / "out");
    if (const auto again = deliver_in(folder_, media_); !again) return "the delivery does not go on: " + again.error().text();
    if (packets() != delivered_) return "the delivery that went on is another one";
    return fs::exists(folder_ / "out" / ".kiln.mov.parts") ? "its parts are left" : "";
  }

  /// No job is lost, and none is done that nobody asked for.
  std::string queue() {
    if (auto wrong = killed("queue"); !wrong.empty()) return wrong;
    auto journal = Journal::open(folder_ / "queue.sqlite");
    if (!journal) return journal.error().text();
    if (journal->check() != "ok") return "the journal is not sound: " + journal->check();
    if (static_cast<int>(journal->jobs().size()) < told_) return fmt::format("{} jobs were added, {} are there", told_, journal->jobs().size());
    const std::atomic<bool> never{false};
    work_off(folder_, never);
    for (const Job& j : journal->jobs())
      if (j.state != JobState::done) return fmt::format("job {} is {} in the end: {}", j.id, state_name(j.state), j.trouble);
    return journal->check() == "ok" ? "" : "the journal is not sound afterwards";
  }

  /// The index as an older version of the program left it, with everything but what it did not know.
  void make_old() {
    const fs::path file = folder_ / "shelf" / "index.sqlite";
    auto db = Database::open(file, std::span<const char* const>(kNoSteps, 3), "index").value();
    (void)db.run("CREATE TABLE old AS SELECT file, frames, bytes, timeline, segment, \"offset\", made, \"after\", sums FROM chunk");
    (void)db.run("DROP TABLE chunk");
    (void)db.run("DROP TABLE volume");
    (void)db.run("DROP TABLE room");
    (void)db.run(
        "CREATE TABLE chunk(file TEXT PRIMARY KEY, frames BLOB NOT NULL, bytes INTEGER NOT NULL, timeline TEXT NOT NULL, segment TEXT "
        "NOT NULL, \"offset\" INTEGER NOT NULL, made TEXT NOT NULL, \"after\" INTEGER NOT NULL DEFAULT 0, sums BLOB NOT NULL DEFAULT x'')");
    (void)db.run("INSERT INTO chunk SELECT * FROM old");
    (void)db.run("DROP TABLE old");
    (void)db.run("PRAGMA user_version=2");
  }

  std::string damage() {
    {
      const auto shelf = *Shelf::open(folder_ / "shelf");
      for (int v = 0; v < 2; ++v) (void)prerender(program(folder_, v, media_), *shelf, {{0, kLength}}, {}, {});
    }
    std::vector<fs::path> files;
    for (const auto& e : fs::directory_iterator(folder_ / "shelf" / "chunks"))
      if (e.path().extension() == ".mov") files.push_back(e.path());
    const fs::path& one = files[draw_(static_cast<std::uint32_t>(files.size()))];
    const fs::path& two = files[draw_(static_cast<std::uint32_t>(files.size()))];
    const auto size = fs::file_size(one);
    switch (draw_(4)) {
      case 0:
        fs::resize_file(one, draw_(static_cast<std::uint32_t>(size)));
        break;
      case 1: {  // a swapped name
        const fs::path aside = folder_ / "aside";
        fs::rename(one, aside);
        if (fs::exists(two)) fs::rename(two, one), fs::rename(aside, two);
        else fs::rename(aside, one);
        break;
      }
      case 2:
        fs::remove(one);
        break;
      default: {  // flipped bits, size and time kept
        const auto time = fs::last_write_time(one);
        std::fstream f(one, std::ios::in | std::ios::out | std::ios::binary);
        for (std::uint32_t i = 0, n = 1 + draw_(3); i < n; ++i) {
          const auto at = static_cast<std::streamoff>(draw_(static_cast<std::uint32_t>(size)));
          f.seekg(at);
          const char c = static_cast<char>(f.get() ^ (1 << draw_(8)));
          f.seekp(at);
          f.put(c);
        }
        f.close();
        fs::last_write_time(one, time);
      }
    }
    return look(0, true);
  }

  std::string full() {
    SlowVolume drive{1e5, 1e5};
    drive.full_after_mb = 0.2 + draw_(30) / 10.0;
    fs::create_directories(folder_ / "shelf");
    (void)make_slow_volume(folder_ / "shelf", drive);
    {
      const auto shelf = *Shelf::open(folder_ / "shelf");
      const auto r = prerender(program(folder_, 1, media_), *shelf, {{0, kLength}}, {}, {});
      if (!r && r.error().text().find("pace") == std::string::npos) return "a full drive is not told: " + r.error().text();
    }
    fs::remove(folder_ / "shelf" / kSlowVolumeMarker);
    return look(0);
  }

  std::string gone() {
    {
      const auto shelf = *Shelf::open(folder_ / "shelf");
      (void)prerender(program(folder_, 1, media_), *shelf, {{0, kLength}}, {}, {});
      (void)shelf->move_to(folder_ / "other");
      fs::rename(folder_ / "other", folder_ / "away");
      const ProgramPtr p = program(folder_, 1, media_);
      for (Frames f = 0; f < kLength; f += kStep)
        if (picture(*p, f, shelf.get()) != truth_.at({1, f}).live) return "a picture from a drive that is gone";
      if (draw_(2)) (void)shelf->verify();
    }
    fs::rename(folder_ / "away", folder_ / "other");
    const auto shelf = *Shelf::open(folder_ / "shelf");
    const std::size_t sealed = shelf->route(*program(folder_, 1, media_)).count(FrameState::sealed);
    if (sealed != kLength) return fmt::format("{} frames of {} came back with the drive", sealed, kLength);
    return look(0);
  }

  /// The clock jumps: pieces from the future and from long ago.
  std::string clock() {
    {
      const auto shelf = *Shelf::open(folder_ / "shelf");
      for (int v = 0; v < 2; ++v) (void)prerender(program(folder_, v, media_), *shelf, {{0, kLength}}, {}, {});
    }
    {
      auto db = Database::open(folder_ / "shelf" / "index.sqlite", std::span<const char* const>(kNoSteps, 3), "index").value();
      (void)db.run(draw_(2) ? "UPDATE chunk SET made='2091-01-01T00:00:00Z', used='2091-01-01T00:00:00Z'"
                            : "UPDATE chunk SET made='1970-01-01T00:00:00Z', used=''");
    }
    const std::uint64_t budget = one_ * 5 / 2 + kBudgetOverhead;
    const auto shelf = *Shelf::open(folder_ / "shelf");
    ShelfVolume v = shelf->volumes().front();
    v.budget = budget;
    (void)shelf->set_volume(v);
    const auto r = prerender(program(folder_, 3, media_), *shelf, {{0, kLength}}, {}, {});
    if (!r) return r.error().text();
    return look(budget);
  }

  std::string self_;
  Rng draw_;
  std::optional<ScratchFolder> scratch_;
  fs::path folder_;
  MediaCatalog media_;
  std::map<std::pair<int, Frames>, Truth> truth_;
  std::uint64_t one_ = 0;
  std::vector<Hash128> delivered_;
  int told_ = 0;  ///< by the child that was killed last
};

}  // namespace
}  // namespace gc

int main(int argc, char** argv) {
  using namespace gc;
  spdlog::set_level(spdlog::level::off);
  if (argc == 6 && std::strcmp(argv[1], "--child") == 0)
    work(argv[2], argv[3], std::strtoull(argv[4], nullptr, 10), std::atoi(argv[5]));
  const std::vector<std::string> all{"encode", "evict", "clean", "rebuild", "migrate", "move", "writers", "damage", "full", "gone", "clock", "deliver", "queue"};
  std::vector<std::string> what;
  int kills = 200;
  std::uint64_t seed = 1;
  for (int i = 1; i < argc; ++i) {
    const std::string arg = argv[i];
    if (arg == "--kills" && i + 1 < argc) kills = std::atoi(argv[++i]);
    else if (arg == "--seed" && i + 1 < argc) seed = std::strtoull(argv[++i], nullptr, 10);
    else if (std::ranges::find(all, arg) != all.end()) what.push_back(arg);
    else if (arg == "shelf" || arg == "all") what = all;
    else {
      fmt::print(stderr, "there is no torture '{}'. Give --kills N, --seed N, shelf, or some of: ", arg);
      for (const std::string& each : all) fmt::print(stderr, "{} ", each);
      fmt::print(stderr, "\n");
      return 2;
    }
  }
  if (what.empty()) what = all;
  Torture torture(fs::read_symlink("/proc/self/exe").string(), seed);
  int passed = 0, failed = 0;
  for (int i = 0; i < kills; ++i) {
    const std::string& each = what[static_cast<std::size_t>(i) % what.size()];
    std::string wrong;
    if (const auto threw = caught([&] { wrong = torture.once(each); })) wrong = threw->text();
    if (wrong.empty()) ++passed;
    else ++failed, fmt::print("{} ({}): {}\n", each, i, wrong);
  }
  fmt::print("{} passed, {} failed\n", passed, failed);
  return failed == 0 ? 0 : 1;
}
