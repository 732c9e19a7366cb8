// What the queue's work costs whoever uses the machine meanwhile: how soon it sleeps after a key press, whether a playout beside
// it drops more, and how much longer an edit's picture takes while it works gently. The work is that of `gclk work`, in its own
// processes. And how evenly pieces are shared out among the nodes of a cluster. Writes build/bench-queue.json.
#include <fmt/ranges.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <atomic>
#include <fstream>
#include <random>
#include <thread>

#include "base/clock.h"
#include "desk/desk.h"
#include "desk/queueing.h"
#include "queue/cluster.h"
#include "queue/hush.h"
#include "queue/renderer.h"
#include "render/renderer.h"
#include "rows.h"

using namespace gc;

namespace {

constexpr int kWidth = 1280, kHeight = 720;

/// From the moment at which the machine is said to be used until the job's process is asleep.
void yielding(const fs::path& folder) {
  auto journal = *Journal::open(folder / "yield.sqlite");
  Job j;
  j.remedy = "render:0-1", j.price = {1, 1, 1};
  (void)journal.add(j);
  std::atomic<double> idle{1e9};
  std::atomic<int> child{0};
  std::atomic<bool> stop{false};
  RendererOptions o;
  o.without_input = [&] { return idle.load(); };
  o.start = [&](std::int64_t) {
    const pid_t pid = ::fork();
    if (pid == 0)
      for (std::atomic<std::uint64_t> n = 0;; ++n) continue;
    child = pid;
    return static_cast<int>(pid);
  };
  std::thread renderer([&] { (void)run_renderer(journal, o, stop); });
  const auto asleep = [&] {
    std::ifstream stat("/proc/" + std::to_string(child.load()) + "/stat");
    std::string all((std::istreambuf_iterator<char>(stat)), {});
    const std::size_t at = all.rfind(')');
    return at != std::string::npos && all[at + 2] == 'T';
  };
  while (child == 0) std::this_thread::sleep_for(std::chrono::milliseconds(5));
  std::vector<double> ms;
  for (int i = 0; i < 21; ++i) {
    while (asleep()) std::this_thread::sleep_for(std::chrono::milliseconds(2));
    std::this_thread::sleep_for(std::chrono::milliseconds(60 + 7 * i));
    idle = 0.05;
    const Stopwatch watch;
    while (!asleep()) std::this_thread::sleep_for(std::chrono::microseconds(500));
    ms.push_back(watch.ms());
    idle = 1e9;
  }
  std::sort(ms.begin(), ms.end());
  row("key_press_to_asleep", ms[ms.size() / 2], "ms", 100, false);
  row("key_press_to_asleep_worst", ms.back(), "ms", 100, false);
  stop = true;
  renderer.join();
}

/// One shot that is blurred by `sigma`; `grade` tells edits of it apart.
TimelinePtr blurred(const char* name, Frames length, Rate rate, double sigma, double grade = 0.2) {
  auto t = std::make_shared<Timeline>();
  t->name = name, t->width = kWidth, t->height = kHeight, t->rate = rate;
  auto s = std::make_shared<Segment>();
  s->id = s->name = "s", s->content = Content::generator, s->ref = "solid", s->duration = length;
  s->generator = {{"colour", {grade, 0.3, 0.4}}};
  s->stack.push_back({"b", "blur", {{"sigma", sigma}}, true, true, {}, {}});
  auto track = std::make_shared<Track>();
  track->id = "V1", track->items.push_back(SegmentPtr(s));
  t->tracks.push_back(track);
  return t;
}

/// `gclk work`, with more to render than the bench lasts.
class Work {
 public:
  explicit Work(const Stores& stores) : journal_(*Journal::open()) {
    const TimelinePtr t = blurred("Long", 50000, {24, 1}, 9);
    Job j;
    j.timeline = t->name, j.file = "/none/long.otio", j.snapshot = snapshot_of(t)->string(), j.remedy = "render:s", j.what = "s";
    j.making.subject.frames = {{0, 50000}};
    j.shelf = stores.shelf->folder().string(), j.notebook = stores.options.notebook.string();
    j.price = {50000, 5000, 5000};
    id_ = *journal_.add(j);
    QueueSettings s = journal_.settings();
    s.idle_s = 1, s.paused = true;
    (void)journal_.set_settings(s);
    pid_ = ::fork();
    if (pid_ == 0) {
      ::execl(GCLK_BUILD "/src/gclk", "gclk", "work", "--forever", static_cast<char*>(nullptr));
      ::_exit(4);
    }
  }
  ~Work() {
    ::kill(pid_, SIGTERM);
    ::waitpid(pid_, nullptr, 0);
  }
  Work(const Work&) = delete;
  Work& operator=(const Work&) = delete;

  void pause() { set([](QueueSettings& s) { s.paused = true; }), until([&] { return journal_.why() == "paused"; }); }
  void go_on() {
    const Frames before = done();
    set([](QueueSettings& s) { s.paused = false; });
    until([&] { return journal_.why().empty() && done() > before; });
  }
  /// Of the machine, while somebody works.
  void gentle(double share) { set([&](QueueSettings& s) { s.while_working = share; }); }
  Frames done() const { return journal_.job(id_)->done; }
  const Journal& journal() const { return journal_; }
  /// A piece of rendering lasts at most a minute here.
  static void until(const std::function<bool()>& so) {
    for (int i = 0; i < 6000 && !so(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
    if (!so()) fmt::print("  the queue did not do what it was told\n");
  }

 private:
  void set(const std::function<void(QueueSettings&)>& change) {
    QueueSettings s = journal_.settings();
    change(s);
    (void)journal_.set_settings(s);
  }
  Journal journal_;
  std::int64_t id_ = 0;
  pid_t pid_ = 0;
};

Frames drops(const ProgramPtr& p) {
  NullDisplay nowhere;
  PlayOptions o;
  o.workers = default_workers();
  const std::atomic<bool> stop{false};
  const Hush hush;
  return play(p, nullptr, {0, p->duration()}, o, nowhere, stop).dropped;
}

/// A shot at nine tenths of what the seat does flat out, played with the queue paused and beside the queue at work.
void playing(Work& work) {
  constexpr double kSigma = 4;
  MediaCatalog media;
  const std::atomic<bool> stop{false};
  const ProgramPtr flat = Program::compile(blurred("Flat out", 200, {1000, 1}, kSigma), media);
  PlayOptions o;
  o.mode = PlayMode::every_frame, o.workers = default_workers();
  NullDisplay nowhere;
  const double fps = 0.9 * play(flat, nullptr, {0, 200}, o, nowhere, stop).rate_reached;
  const auto rate = Rate{std::lround(fps * 100), 100};
  const ProgramPtr p = Program::compile(blurred("Played", std::lround(fps * 8), rate, kSigma), media);
  std::vector<double> alone, beside;
  for (int round = 0; round < 7; ++round) {
    work.pause();
    alone.push_back(static_cast<double>(drops(p)));
    work.go_on();
    beside.push_back(static_cast<double>(drops(p)));
  }
  fmt::print("  drops of {} frames at {:.1f} a second, load 0.9: alone {}; beside the queue {}\n", p->duration(), fps, fmt::join(alone, " "), fmt::join(beside, " "));
  row("drops_beside_queue_more", median(beside) - median(alone), "", 0, false);
}

/// From an edit to its picture, with the queue paused and while it works gently, in turns.
void editing(Work& work) {
  MediaCatalog media;
  work.gentle(0.2);
  Journal own = *Journal::open();
  std::vector<double> alone, beside;
  int edits = 0;
  const auto ms = [&](std::vector<double>& into) {
    for (int i = 0; i < 20; ++i) {
      (void)own.note_use(false);  // a key press
      const Stopwatch watch;
      const ProgramPtr p = Program::compile(blurred("Edited", 24, {24, 1}, 4, 0.001 * ++edits), media);
      Decoders decoders;
      StageLog log;
      (void)render_frame(*p, 12, nullptr, decoders, log);
      into.push_back(watch.ms());
      std::this_thread::sleep_for(std::chrono::milliseconds(40));
    }
  };
  for (int round = 0; round < 5; ++round) {
    work.pause(), ms(alone);
    work.go_on(), ms(beside);
  }
  row("edit_beside_gentle_queue", median(beside) / median(alone), "×", 1.1, false);
}

/// Pieces shared out among the nodes of simulated clusters: how long until the last one is done, against the least there can be.
void sharing() {
  std::mt19937 any(3);
  std::lognormal_distribution<double> cost(1.0, 0.6);  // seconds: most short, a few long
  for (const int nodes : {2, 5, 20, 100, 500}) {
    std::vector<double> seconds(static_cast<std::size_t>(nodes) * 20);
    for (double& s : seconds) s = cost(any);
    double last = 0;
    for (const Share& share : share_out(seconds, nodes)) last = std::max(last, share.seconds);
    row(fmt::format("makespan_{}_nodes", nodes), last / least_makespan(seconds, nodes), "×", 1.1, false);
  }
}

}  // namespace

int main() {
  const auto scratch = ScratchFolder::make(fs::temp_directory_path(), "gclk-bench-");
  if (!scratch) return 4;
  // A queue of its own, and no desktop on which somebody types.
  for (const char* home : {"XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_CONFIG_HOME"}) ::setenv(home, scratch->path().c_str(), 1);
  ::unsetenv("DISPLAY");
  fmt::print("The queue's work beside a person\n");
  sharing();
  yielding(scratch->path());
  if (const auto stores = Stores::open({}); stores) {
    Work work(*stores);
    playing(work);
    editing(work);
  }
  if (auto r = write_file_atomic(fs::path(GCLK_BUILD) / "bench-queue.json", results.dump(1) + "\n"); !r) fmt::print("{}\n", r.error().text());
  return 0;
}
