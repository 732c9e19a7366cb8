// Other machines: what is shared out, what becomes of lost nodes and half pieces, and a real cluster of one node where there
// may be one.
#include <cmath>
#include <random>

#include "commands.h"
#include "desk/delivering.h"
#include "desk/farm.h"
#include "desk/handover.h"
#include "desk/seats.h"

namespace gc {
namespace {

using testing::HasSubstr;
using testing::IsEmpty;

// ---- Sharing out -----------------------------------------------------------------------------------------------

double makespan(const std::vector<Share>& shares) {
  double longest = 0;
  for (const Share& s : shares) longest = std::max(longest, s.seconds);
  return longest;
}

TEST(SharingOut, GivesEveryPieceToOneTask) {
  const std::vector<double> seconds{3, 1, 2, 5, 4};
  std::vector<int> given(seconds.size());
  for (const Share& s : share_out(seconds, 3)) {
    double sum = 0;
    for (const std::size_t p : s.pieces) ++given[p], sum += seconds[p];
    EXPECT_DOUBLE_EQ(sum, s.seconds);
  }
  EXPECT_THAT(given, testing::Each(1));
  EXPECT_THAT(share_out({}, 4), IsEmpty());
}

// Graham, "Bounds on multiprocessing timing anomalies", 1969: longest first is at most 4/3 − 1/(3 m) times the best there is.
// His own worst case for two machines: 3 3 2 2 2 takes 7, and 6 is possible.
TEST(SharingOut, IsWithinGrahamsBoundOfTheBestThereIs) {
  EXPECT_DOUBLE_EQ(makespan(share_out({3, 3, 2, 2, 2}, 2)), 7);
  std::mt19937 any(11);
  std::uniform_real_distribution<double> long_or_short(0.2, 5);
  for (int round = 0; round < 60; ++round) {
    const int tasks = 2 + round % 2;
    std::vector<double> seconds(8);
    for (double& s : seconds) s = long_or_short(any);
    double best = 1e9;  // of all ways
    for (int way = 0; way < static_cast<int>(std::pow(tasks, seconds.size())); ++way) {
      std::vector<double> sum(static_cast<std::size_t>(tasks));
      for (int p = 0, rest = way; p < 8; ++p, rest /= tasks) sum[static_cast<std::size_t>(rest % tasks)] += seconds[static_cast<std::size_t>(p)];
      best = std::min(best, *std::ranges::max_element(sum));
    }
    EXPECT_LE(makespan(share_out(seconds, tasks)), best * (4.0 / 3 - 1.0 / (3 * tasks)) + 1e-9);
    EXPECT_GE(best, least_makespan(seconds, tasks) - 1e-9);
  }
}

TEST(SharingOut, KeepsLargeClustersBusyToTheEnd) {
  std::mt19937 any(3);
  std::lognormal_distribution<double> cost(1.0, 0.6);
  for (const int nodes : {2, 5, 20, 100, 500}) {
    std::vector<double> seconds(static_cast<std::size_t>(nodes) * 20);
    for (double& s : seconds) s = cost(any);
    EXPECT_LE(makespan(share_out(seconds, nodes)), 1.1 * least_makespan(seconds, nodes)) << nodes;
  }
}

// ---- A cluster that fails ----------------------------------------------------------------------------------------

class OnACluster : public testing::Test {
 protected:
  OnACluster() {
    for (const char* name : {"sbatch", "squeue", "scancel", "sinfo"}) {
      fs::create_directories(dir_ / "slurm");
      fs::copy_file(fs::path(GCLK_SOURCE).parent_path() / "tests" / "cluster" / name, dir_ / "slurm" / name);
    }
    be("good");
    test::put(dir_ / "gclk", "#!/bin/sh\nXDG_CACHE_HOME='" + (dir_ / "node").string() + "' exec '" GCLK_BINARY "' \"$@\"\n");
    fs::permissions(dir_ / "gclk", fs::perms::owner_all);
    fs::create_directories(dir_ / "shared"), fs::create_directories(dir_ / "vol");
    test::movie(dir_ / "vol" / "m.mov", Form::rdd36, 160, 90, 100);
    timeline_ = test::Build(160, 90).media("m", (dir_ / "vol" / "m.mov").string(), 100).track("V1").segment("a", "m", 0, 96, {test::blur("b", 3)}).done();
    DeskOptions o;
    o.shelf = dir_ / "shelf", o.notebook = dir_ / "notebook.sqlite", o.workers = 2, o.settings = {};
    stores_ = *Stores::open(o);
    EXPECT_TRUE(save_timeline(*timeline_, dir_ / "cut.otio"));
    job_.id = 1, job_.timeline = "Test", job_.snapshot = (dir_ / "cut.otio").string(), job_.shelf = o.shelf.string(), job_.notebook = o.notebook.string();
    job_.making.what = Making::What::frames, job_.making.subject.frames = {{0, 96}}, job_.price = {96, 4, 4};
    options_.cluster.programs = dir_ / "slurm", options_.shared = dir_ / "shared", options_.program = (dir_ / "gclk").string();
    options_.tasks = 2, options_.look_s = 0.1;
  }
  void be(const std::string& mode) { test::put(dir_ / "slurm" / "mode", mode); }
  FarmReport sent(const std::function<bool(Frames, Frames)>& progress = {}) {
    auto r = farm_out(job_, options_, progress);
    EXPECT_TRUE(r) << (r ? "" : r.error().text());
    return r ? *r : FarmReport{};
  }
  /// Everything is on the shelf, every picture as it was written, and near the live one.
  void expect_all_here() {
    stores_ = *Stores::open(stores_.options);
    const View v = view_of(timeline_, stores_);
    EXPECT_EQ(v.seals.count(FrameState::sealed), 96u);
    for (const PieceCheck& c : stores_.shelf->verify()) EXPECT_EQ(c.wrong, "") << c.file;
  }

  test::TempFolder dir_;
  TimelinePtr timeline_;
  Stores stores_;
  Job job_;
  FarmOptions options_;
};

TEST_F(OnACluster, SaysWhatItWouldTakeAndDoesIt) {
  const auto q = quote_farm(job_, options_);
  ASSERT_TRUE(q) << q.error().text();
  EXPECT_EQ(q->room.nodes, 3) << "the one that is down does not count";
  EXPECT_EQ(q->room.idle, 2);
  EXPECT_EQ(q->tasks, 2);
  // Nodes of which every law says three times what it says here.
  {
    auto notebook = *Notebook::open(dir_ / "notebook.sqlite");
    const ProgramPtr rendered = view_of(timeline_, stores_).played;
    for (const StageRef& s : rendered->stages(5)) notebook->add_stage(s, std::vector<StageSample>(8, {s.kind, s.key, 20, 20, s.owner, 0}));
    ASSERT_TRUE(notebook->save());
    SeatProfile nodes = known_profile(*Stores::open(stores_.options));
    nodes.name = "Slow nodes";
    for (auto& [name, law] : nodes.laws) law = law.scaled(3);
    ASSERT_TRUE(save_profile(nodes, dir_ / "nodes.json"));
  }
  const auto same = quote_farm(job_, options_);
  options_.nodes = (dir_ / "nodes.json").string();
  const auto slow = quote_farm(job_, options_);
  ASSERT_TRUE(same && slow) << slow.error().text();
  EXPECT_NEAR(slow->there_s / same->there_s, 3, 0.3);
  EXPECT_DOUBLE_EQ(slow->here_s, same->here_s);
  options_.nodes = "nobody's";
  EXPECT_FALSE(quote_farm(job_, options_));
  options_.nodes.clear();
  const FarmReport r = sent();
  EXPECT_TRUE(r.whole);
  EXPECT_EQ(r.sent_again, 0);
  EXPECT_EQ(r.pieces, 4u);
  expect_all_here();
  EXPECT_THAT(fs::is_empty(dir_ / "shared"), true) << "the parcel goes when everything came";
}

class FailingCluster : public OnACluster, public testing::WithParamInterface<const char*> {};
TEST_P(FailingCluster, BringsEverythingInTheEnd) {
  be(GetParam());
  const FarmReport r = sent();
  EXPECT_TRUE(r.whole);
  const bool again = GetParam() == std::string("lost") || GetParam() == std::string("half");
  EXPECT_EQ(r.sent_again, again ? 1 : 0);
  if (GetParam() == std::string("half")) EXPECT_FALSE(r.refused.empty()) << "the half piece is named";
  expect_all_here();
}
INSTANTIATE_TEST_SUITE_P(Ways, FailingCluster, testing::Values("lost", "preempted", "half", "twice"));

TEST_F(OnACluster, ANodeWithOtherMediaOrAnotherRendererRefuses) {
  // What the nodes see under that path is another file of the same name.
  fs::create_directories(dir_ / "elsewhere");
  test::movie(dir_ / "elsewhere" / "m.mov", Form::rdd36, 160, 90, 100, "kiln");
  options_.roots[(dir_ / "vol").string()] = (dir_ / "elsewhere").string();
  options_.rounds = 1;
  const FarmReport r = sent();
  EXPECT_FALSE(r.whole);
  ASSERT_FALSE(r.refused.empty());
  EXPECT_THAT(r.refused[0], HasSubstr("other content"));
  EXPECT_EQ(r.pieces, 0u);
  // The parcel stays for a look. Another version of the renderer takes nothing of it either.
  const fs::path parcel = fs::directory_iterator(dir_ / "shared")->path();
  std::string text = *read_file(parcel / "parcel.json");
  const std::string version = fmt::format("\"renderer\": \"{}\"", kRendererVersion);
  ASSERT_NE(text.find(version), std::string::npos);
  text.replace(text.find(version), version.size(), "\"renderer\": \"0\"");
  test::put(parcel / "parcel.json", text);
  const std::atomic<bool> stop{false};
  const auto made = do_parcel(parcel, 0, stop);
  ASSERT_FALSE(made);
  EXPECT_THAT(made.error().text(), HasSubstr("version"));
}

TEST_F(OnACluster, FindsMediaThroughMappedRoots) {
  // On the nodes the volume is mounted elsewhere; here it is only a copy that they read.
  fs::create_directories(dir_ / "mnt");
  fs::copy_file(dir_ / "vol" / "m.mov", dir_ / "mnt" / "m.mov");
  options_.roots[(dir_ / "vol").string()] = (dir_ / "mnt").string();
  EXPECT_TRUE(sent().whole);
  expect_all_here();
}

TEST_F(OnACluster, StoppedItIsCancelledThereAndWhatCameStays) {
  const FarmReport r = sent([](Frames done, Frames) { return done == 0; });
  EXPECT_TRUE(r.cancelled || r.whole);
  if (r.cancelled) EXPECT_TRUE(fs::exists(dir_ / "slurm" / "cancelled"));
  EXPECT_GT(Shelf::open(dir_ / "shelf").value()->chunks(), 0u);
}

TEST_F(OnACluster, AQueueIsSentAndItsJobsEnd) {
  auto journal = *Journal::open(dir_ / "queue.sqlite");
  const std::int64_t id = *journal.add(job_);
  const auto r = run_on_cluster(journal, options_, {});
  ASSERT_TRUE(r) << r.error().text();
  EXPECT_EQ(r->done, 1);
  EXPECT_EQ(journal.job(id)->state, JobState::done);
  EXPECT_EQ(journal.holder(), "") << "the seat is free again";
  expect_all_here();
}

// Slurm itself, on this machine alone, where it may be started.
// Nodes render what is missing in the delivery's form; this seat copies it together.
TEST_F(OnACluster, ADeliveryIsRenderedThereAndPutTogetherHere) {
  PrerenderOptions lossy = stores_.prerender_options({}, *timeline_);
  lossy.form = Form::motion_jpeg;
  ASSERT_TRUE(prerender(view_of(timeline_, stores_).played, *stores_.shelf, {{0, 24}}, lossy, {}));
  auto journal = *Journal::open(dir_ / "queue.sqlite");
  DeliveryOptions o = delivery_options(view_of(timeline_, stores_), stores_, dir_ / "kiln.mov", "rdd36");
  const auto id = enqueue_delivery(journal, view_of(timeline_, stores_), stores_, dir_ / "cut.otio", o);
  ASSERT_TRUE(id) << id.error().text();
  const auto r = run_on_cluster(journal, options_, {});
  ASSERT_TRUE(r) << r.error().text();
  EXPECT_EQ(r->done, 1) << journal.job(*id)->trouble;
  EXPECT_EQ(journal.job(*id)->state, JobState::done);
  const Json note = *parse_json(*read_file(delivery_note(o.to)), "note");
  EXPECT_EQ(note["copied"], Json::parse("[[0, 96]]")) << "nothing is left to be made here, though a part was there in another form";
}

TEST_F(OnACluster, ARealOneOfOneNode) {
  const std::string start = "'" + (fs::path(GCLK_SOURCE).parent_path() / "tests" / "cluster" / "single-node").string() + "'", where = " '" + (dir_ / "cluster").string() + "'";
  struct Stop {
    std::string command;
    ~Stop() { (void)test::shell(command); }
  } stop{start + " stop" + where};
  if (std::system((start + " start" + where + " >'" + (dir_ / "conf").string() + "' 2>'" + (dir_ / "why").string() + "'").c_str()) != 0)
    GTEST_SKIP() << "no cluster can be set up here: " << *read_file(dir_ / "why");
  ::setenv("SLURM_CONF", (dir_ / "cluster" / "slurm.conf").c_str(), 1);
  options_.cluster.programs.clear(), options_.tasks = 0, options_.look_s = 0.5;
  const auto q = quote_farm(job_, options_);
  ASSERT_TRUE(q) << q.error().text();
  EXPECT_EQ(q->room.nodes, 1);
  const FarmReport r = sent();
  EXPECT_TRUE(r.whole);
  EXPECT_EQ(r.pieces, 4u);
  expect_all_here();
  ::unsetenv("SLURM_CONF");
}

}  // namespace
}  // namespace gc
