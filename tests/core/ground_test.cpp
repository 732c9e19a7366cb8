// Nothing is lost, nothing of others is touched, and nothing wrong is kept: faults of the kinds that happen.
extern "C" {
#include <libavutil/frame.h>
#include <libavutil/pixfmt.h>
}
#include <sched.h>
#include <sys/stat.h>

#include <numeric>
#include <thread>

#include "commands.h"
#include "desk/recovery.h"
#include "pipeline/maker.h"
#include "pipeline/parallel.h"
#include "timeline/keys.h"

namespace gc {
namespace {

using test::Build;

// ---- Edits ---------------------------------------------------------------------------------------------

TEST(Slips, GoWithTheEffectThatTheyBypass) {
  const TimelinePtr t = Build().track("V1").solid("a", 10, 0, 0, 0, {test::blur("b", 2)}).done();
  const TimelinePtr off = with_bypass(*t, "a", "b", true, "2026-01-01T00:00:00Z");
  const TimelinePtr gone = with_effect_removed(*off, "a", "b", "2026-01-02T00:00:00Z");
  ASSERT_TRUE(gone);
  ASSERT_EQ(gone->slips.size(), 1u);
  EXPECT_FALSE(gone->slips[0].open());
  MediaCatalog media;
  EXPECT_TRUE(check_gate(*Program::compile(gone, media), nullptr).may_deliver());
}

TEST(Slips, OfAnEffectThatIsNotThereDoNotShutTheGateAndCanBeLifted) {
  auto t = std::make_shared<Timeline>(*Build().track("V1").solid("a", 10, 0, 0, 0).done());
  t->slips.push_back({"slip-1", "bypass", "a", "went-long-ago", "2026-01-01T00:00:00Z", ""});
  MediaCatalog media;
  const Gate gate = check_gate(*Program::compile(t, media), nullptr);
  EXPECT_TRUE(gate.may_deliver());
  ASSERT_EQ(gate.items.size(), 1u) << "it is said all the same";
  EXPECT_THAT(gate.items[0].what, testing::HasSubstr("went-long-ago"));
  const TimelinePtr lifted = with_bypass(*t, "a", "went-long-ago", false, "now");
  ASSERT_TRUE(lifted);
  EXPECT_FALSE(lifted->slips[0].open());
  EXPECT_FALSE(with_bypass(*t, "a", "went-long-ago", true, "now")) << "there is nothing to bypass";
}

// ---- Files ---------------------------------------------------------------------------------------------

/// Media beside the timeline, named by relative URLs of every kind.
class Saving : public testing::Test {
 protected:
  Saving() {
    fs::create_directories(dir_ / "job/media");
    fs::create_directories(dir_ / "elsewhere/deep");
    test::movie(dir_ / "job/media/m.mp4", Form::h264_intra, 128, 72, 12);
    for (int i = 1; i <= 3; ++i) fs::create_symlink(dir_ / "job/media/m.mp4", dir_ / ("job/f.000" + std::to_string(i) + ".mp4"));
    test::put(dir_ / "job/cut.otio", R"({"OTIO_SCHEMA":"Timeline.1","name":"Cut","tracks":{"OTIO_SCHEMA":"Stack.1","children":[
      {"OTIO_SCHEMA":"Track.1","kind":"Video","name":"V1","children":[
        {"OTIO_SCHEMA":"Clip.2","name":"a","source_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":0},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":8}},
         "media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"media/m.mp4"},
                             "other":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"/far/away.mov"},
                             "net":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"https://example.org/x.mov"}},
         "active_media_reference_key":"DEFAULT_MEDIA"},
        {"OTIO_SCHEMA":"Clip.2","name":"s","source_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":1},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":2}},
         "media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"ImageSequenceReference.1","target_url_base":"","name_prefix":"f.","name_suffix":".mp4","start_frame":1,"frame_step":1,"frame_zero_padding":4,"rate":24,"missing_frame_policy":"error","available_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":1},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":3}}}},
         "active_media_reference_key":"DEFAULT_MEDIA"},
        {"OTIO_SCHEMA":"Unheard.7","of":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"media/m.mp4"}}]}]}})");
  }
  static std::vector<std::string> paths(const Timeline& t) {
    std::vector<std::string> all;
    for (const auto& [id, m] : t.sources) all.push_back(m->path);
    std::sort(all.begin(), all.end());
    return all;
  }
  test::TempFolder dir_;
};

TEST_F(Saving, AsAnotherFileElsewhereStillNamesTheSameMedia) {
  const auto t = load_timeline(dir_ / "job/cut.otio");
  ASSERT_TRUE(t) << t.error().text();
  ASSERT_EQ(paths(**t).size(), 3u) << "another file as one of its angles among them";
  for (const char* to : {"elsewhere/cut.otio", "elsewhere/deep/cut.otio", "cut.otio", "job/media/cut.otio"}) {
    ASSERT_TRUE(save_timeline(**t, dir_ / to));
    const auto back = load_timeline(dir_ / to);
    ASSERT_TRUE(back) << to << ": " << back.error().text();
    EXPECT_EQ(paths(**back), paths(**t)) << to;
    const Json doc = Json::parse(*read_file(dir_ / to));
    const Json& clips = doc["tracks"]["children"][0]["children"];
    const Json& all = clips[0]["media_references"];
    EXPECT_EQ(all["other"]["target_url"], "/far/away.mov") << "what is absolute stays";
    EXPECT_EQ(all["net"]["target_url"], "https://example.org/x.mov");
    EXPECT_EQ((fs::path(dir_ / to).parent_path() / clips[2]["of"]["target_url"].get<std::string>()).lexically_normal(),
              dir_ / "job/media/m.mp4")
        << "in what is not understood, too";
    // And from there once more.
    ASSERT_TRUE(save_timeline(**back, dir_ / "job/again.otio"));
    EXPECT_EQ(paths(**load_timeline(dir_ / "job/again.otio")), paths(**t)) << to;
  }
}

TEST_F(Saving, InPlaceChangesNoUrl) {
  const auto t = load_timeline(dir_ / "job/cut.otio");
  ASSERT_TRUE(t);
  ASSERT_TRUE(save_timeline(**t, dir_ / "job/cut.otio"));
  const Json doc = Json::parse(*read_file(dir_ / "job/cut.otio"));
  EXPECT_EQ(doc["tracks"]["children"][0]["children"][0]["media_references"]["DEFAULT_MEDIA"]["target_url"],
            "media/m.mp4");
}

TEST_F(Saving, UnsavedEditsOfAKilledProgramAreOffered) {
  const fs::path folder = dir_ / "recovery", file = dir_ / "job/cut.otio";
  const auto t = load_timeline(file);
  ASSERT_TRUE(t);
  const std::string id = video_segments(**t)[0]->id;
  Effect e;
  e.type = "blur";
  const TimelinePtr edited = with_effect_added(**t, id, e, 0);
  ASSERT_TRUE(keep_recovery(folder, *edited, file, hash_text("as it was")));
  EXPECT_TRUE(recoverable(folder).empty()) << "this program is still there";
  // As if the program that wrote it had been killed.
  ASSERT_EQ(std::distance(fs::directory_iterator(folder), {}), 1);
  const fs::path copy = fs::directory_iterator(folder)->path();
  Json j = Json::parse(*read_file(copy));
  const std::string own = own_process();
  j["process"] = own.substr(0, own.rfind(' ')) + " 1";
  test::put(folder / "unsaved-of-another.json", j.dump());
  fs::remove(copy);
  test::put(folder / "unsaved-broken.json", "{ half");
  const auto found = recoverable(folder);
  ASSERT_EQ(found.size(), 1u);
  EXPECT_EQ(found[0].file, file.string());
  const auto back = recover(found[0], std::make_shared<MediaCatalog>());
  ASSERT_TRUE(back) << back.error().text();
  EXPECT_EQ(find_segment(*back->timeline, id)->stack.size(), 1u);
  EXPECT_EQ(paths(*back->timeline), paths(**t)) << "relative media are found from where the timeline lies";
  EXPECT_EQ(back->origin, hash_text("as it was"));
  EXPECT_TRUE(fs::exists(folder / "unsaved-broken.json")) << "what cannot be read is not removed";
  drop_recovery(folder, file);
  EXPECT_TRUE(fs::exists(folder / "unsaved-of-another.json")) << "another program's copy goes only when it was opened or given up";
}

// ---- Strangers' media ----------------------------------------------------------------------------------

TEST(StrangersMedia, OnlyLocalFilesOfKnownContainersAreOpened) {
  const test::TempFolder dir;
  const std::string good = test::movie(dir / "good.mp4", Form::h264_intra, 128, 72, 4);
  ASSERT_TRUE(FrameReader::open(good));
  const auto refused = [&](const std::string& path) {
    const auto r = FrameReader::open(path);
    EXPECT_FALSE(r) << path;
    return r ? std::string() : r.error().text();
  };
  // Lists that name other files: HTTP Live Streaming (RFC 8216), FFmpeg's concatenation and Matroska's chapters.
  test::put(dir / "list.m3u8", "#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\ngood.mp4\n#EXT-X-ENDLIST\n");
  test::put(dir / "list.mp4", "#EXTM3U\n#EXT-X-TARGETDURATION:1\n#EXTINF:1,\ngood.mp4\n#EXT-X-ENDLIST\n");
  test::put(dir / "list.txt", "ffconcat version 1.0\nfile good.mp4\n");
  test::put(dir / "list.mpd", "<?xml version=\"1.0\"?><MPD xmlns=\"urn:mpeg:dash:schema:mpd:2011\"></MPD>");
  for (const char* list : {"list.m3u8", "list.mp4", "list.txt", "list.mpd"})
    EXPECT_THAT(refused((dir / list).string()), testing::HasSubstr("none of the containers")) << list;
  // Protocols.
  const std::vector<std::string> urls{
      "http://127.0.0.1:9/x.mp4", "concat:" + good,    "subfile,,start,0,end,0,,:" + good, "async:" + good,
      "tcp://127.0.0.1:9",        "pipe:0",            "data:video/mp4,x"};
  for (const std::string& url : urls)
    EXPECT_THAT(refused(url), testing::HasSubstr("is missing")) << url;
  // Devices and folders.
  EXPECT_THAT(refused("/dev/zero"), testing::HasSubstr("no file"));
  EXPECT_THAT(refused(dir.path().string()), testing::HasSubstr("no file"));
  ASSERT_EQ(::mkfifo((dir / "fifo.mp4").c_str(), 0600), 0);
  EXPECT_THAT(refused((dir / "fifo.mp4").string()), testing::HasSubstr("no file")) << "it would wait for ever";
}

// ---- What nobody expected ------------------------------------------------------------------------------

/// Frames of which one cannot be made.
class FailingMaker : public FrameMaker {
 public:
  FailingMaker(Frames bad, bool fetching) : bad_(bad), fetching_(fetching) {}
  std::unique_ptr<Work> fetch(Frames f, FrameResult&) override {
    if (fetching_ && f == bad_) throw std::bad_alloc();
    return std::make_unique<Work>();
  }
  void process(Work&, FrameResult& r) override {
    if (!fetching_ && r.frame == bad_) throw std::runtime_error("a driver gave up");
  }

 private:
  Frames bad_;
  bool fetching_;
};

TEST(Workers, WhatTheyThrowIsAnErrorOfThatFrame) {
  for (const bool fetching : {true, false}) {
    std::mutex mutex;
    std::map<Frames, std::optional<Error>> seen;
    {
      std::vector<Frames> frames(20);
      std::iota(frames.begin(), frames.end(), 0);
      PipelineOptions o;
      o.horizon = 30;
      Pipeline pipeline(std::make_unique<FailingMaker>(7, fetching), o, frames, [&](FrameResult&& r) {
        const std::lock_guard lock(mutex);
        seen[r.frame] = r.failed;
      });
      for (int i = 0; i < 500; ++i) {
        std::this_thread::sleep_for(std::chrono::milliseconds(10));
        const std::lock_guard lock(mutex);
        if (seen.size() == 20) break;
      }
    }
    ASSERT_EQ(seen.size(), 20u) << "the others are made";
    for (const auto& [frame, failed] : seen) EXPECT_EQ(failed.has_value(), frame == 7);
    EXPECT_THAT(seen[7]->text(), testing::HasSubstr(fetching ? "not enough memory" : "a driver gave up"));
  }
}

// A picture that was decoded and cannot be converted is no picture: bars stand for it, and that is never kept.
TEST(StandIn, IsTakenForWhatItIs) {
  const test::TempFolder dir;
  const std::string clip = test::movie(dir / "m.mov", Form::motion_jpeg, 128, 72, 4);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(
      Build(128, 72).media("m", clip, 4).track("V1").segment("a", "m", 0, 4, {test::cdl("g", 1.2)}).done(), media);
  Decoders decoders;
  StageLog log;
  FrameNotes whole, broken;
  Decoded d = fetch_and_decode(*p, 1, nullptr, decoders, log);
  (void)process(*p, d, log, nullptr, &whole);
  EXPECT_FALSE(whole.stand_in);
  // Pixels in a device's memory, which no conversion here reads.
  const std::shared_ptr<AVFrame> elsewhere(av_frame_alloc(), [](AVFrame* f) { av_frame_free(&f); });
  elsewhere->format = AV_PIX_FMT_DRM_PRIME, elsewhere->width = 128, elsewhere->height = 72;
  d.pictures[0] = elsewhere;
  (void)process(*p, d, log, nullptr, &broken);
  EXPECT_TRUE(broken.stand_in);
  EXPECT_FALSE(broken.trouble.empty()) << "and it is said why";
}

TEST(Workers, WhatTheConsumerThrowsEndsTheRun) {
  PipelineOptions o;
  o.horizon = 30;
  Pipeline pipeline(std::make_unique<FailingMaker>(-1, true), o, {0, 1, 2, 3, 4, 5},
                    [](FrameResult&& r) {
                      if (r.frame == 2) throw std::runtime_error("no room");
                    });
  for (int i = 0; i < 500 && !pipeline.failure(); ++i) std::this_thread::sleep_for(std::chrono::milliseconds(10));
  ASSERT_TRUE(pipeline.failure());
  EXPECT_THAT(pipeline.failure()->text(), testing::HasSubstr("no room"));
}

TEST(Workers, AFailedFrameIsADropAndIsTold) {
  const ProgramPtr p = [] {
    MediaCatalog media;
    return Program::compile(Build(64, 36).track("V1").solid("s", 40, 0, 0, 0).done(), media);
  }();
  PlayOptions o;
  o.maker = [] { return std::make_unique<FailingMaker>(20, false); };
  NullDisplay display;
  const std::atomic<bool> stop{false};
  const Playout played = play(p, nullptr, {0, 40}, o, display, stop);
  EXPECT_TRUE(played.log[20].dropped);
  EXPECT_THAT(played.failure, testing::HasSubstr("a driver gave up"));
}

// ---- The notebook --------------------------------------------------------------------------------------

class TwoPrograms : public testing::Test {
 protected:
  std::shared_ptr<Notebook> open() {
    auto n = Notebook::open(dir_ / "n.sqlite");
    EXPECT_TRUE(n) << n.error().text();
    return *n;
  }
  static StageRef stage(float mpix) {
    StageRef s;
    s.kind = StageKind::effect, s.key = Hasher().add(static_cast<std::int64_t>(mpix * 1000)).done();
    s.law = law_name("ground-test", "Ground test", StageKind::effect, {"Mpixel"}), s.terms = {mpix};
    return s;
  }
  static std::vector<StageSample> samples(const StageRef& s, float ms) {
    return std::vector<StageSample>(6, StageSample{s.kind, s.key, ms, ms, -1});
  }
  test::TempFolder dir_;
};

TEST_F(TwoPrograms, DoNotLoseEachOthersMeasurements) {
  const auto a = open(), b = open();
  const StageRef small = stage(1), large = stage(4), both = stage(2);
  a->add_stage(small, samples(small, 10)), a->add_stage(both, samples(both, 20));
  b->add_stage(large, samples(large, 40)), b->add_stage(both, samples(both, 22));
  ASSERT_TRUE(a->save());
  ASSERT_TRUE(b->save());
  const auto later = open();
  EXPECT_EQ(later->law(*small.law).points().size(), 3u) << "places of both";
  EXPECT_EQ(later->stage_samples(both.key).size(), 12u);
  EXPECT_EQ(later->stage_samples(small.key).size(), 6u);
  EXPECT_EQ(later->samples(), 24);
  // The one that saved last knows of the other's too; the first one learns of it at its next save.
  EXPECT_EQ(b->law(*small.law).points().size(), 3u);
  a->add_stage(small, samples(small, 11));
  ASSERT_TRUE(a->save());
  EXPECT_EQ(a->law(*small.law).points().size(), 3u);
  EXPECT_EQ(open()->law(*small.law).points().size(), 3u);
}

TEST_F(TwoPrograms, AnotherMachinesEraReplacesNothing) {
  const StageRef s = stage(1);
  const Json here = era_identity();
  Json other = here;
  other["kernel"] = "99.9";
  auto n = open();
  n->add_stage(s, samples(s, 10));
  ASSERT_TRUE(n->save());
  ASSERT_TRUE(n->begin_era(other));
  n->add_stage(s, samples(s, 50));
  ASSERT_TRUE(n->save());
  auto d = Database::open(dir_ / "n.sqlite", std::vector<const char*>(Notebook::kVersion, "SELECT 1"), "notebook");
  ASSERT_TRUE(d) << d.error().text();
  Statement q = d->prepare("SELECT count(DISTINCT era), count(*) FROM series");
  ASSERT_TRUE(q.step());
  EXPECT_EQ(q.integer(0), 2) << "the first era's series is still there";
}

TEST_F(TwoPrograms, RefusedWritesAreToldAndLeaveNothingHalf) {
  auto n = open();
  // A second connection holds the right to write for as long as this lasts.
  auto d = Database::open(dir_ / "n.sqlite", std::vector<const char*>(Notebook::kVersion, "SELECT 1"), "notebook");
  ASSERT_TRUE(d);
  ASSERT_TRUE(d->run("CREATE TRIGGER no BEFORE INSERT ON late_look BEGIN SELECT RAISE(ABORT, 'no room'); END"));
  Disturbance dist;
  dist.ms = {20, 30}, dist.per_busy_ms = 0.001;
  const auto r = n->add_disturbance(dist);
  ASSERT_FALSE(r);
  EXPECT_THAT(r.error().text(), testing::HasSubstr("no room"));
  EXPECT_TRUE(n->lately().empty()) << "the first of the three rows stayed";
}

TEST_F(TwoPrograms, ANotebookOfVersionTwoKeepsAllThatItHad) {
  // As the version before wrote it.
  {
    constexpr const char* kOld[] = {R"(
      CREATE TABLE series(what INTEGER NOT NULL, key TEXT NOT NULL, kind INTEGER NOT NULL, type TEXT NOT NULL,
        size REAL NOT NULL, first BLOB NOT NULL, second BLOB NOT NULL, at TEXT NOT NULL, PRIMARY KEY(what, key));
      CREATE TABLE audit(at TEXT NOT NULL, timeline TEXT NOT NULL, drops_forecast REAL, drops_observed REAL, span_f1 REAL, spans_called INTEGER, spans_right INTEGER);)",
                                    R"(
      CREATE TABLE law(id TEXT PRIMARY KEY, name TEXT NOT NULL, places BLOB NOT NULL);
      CREATE TABLE sample(at TEXT NOT NULL, era INTEGER NOT NULL, law TEXT NOT NULL, conditions TEXT NOT NULL, terms BLOB NOT NULL, undisturbed INTEGER NOT NULL, ms BLOB NOT NULL);
      CREATE TABLE era(id INTEGER PRIMARY KEY, since TEXT NOT NULL, change TEXT NOT NULL, identity TEXT NOT NULL);
      CREATE TABLE news(at TEXT NOT NULL, law TEXT NOT NULL, text TEXT NOT NULL, factor REAL NOT NULL);
      CREATE TABLE total(samples INTEGER NOT NULL); INSERT INTO total VALUES(77);
      CREATE TABLE outcome(at TEXT NOT NULL, probability REAL NOT NULL, dropped INTEGER NOT NULL);)"};
    auto d = Database::open(dir_ / "n.sqlite", kOld, "notebook");
    ASSERT_TRUE(d) << d.error().text();
    ASSERT_TRUE(d->prepare("INSERT INTO era VALUES(4, 'then', '', ?)")
                    .bind(std::string_view(era_identity().dump()))
                    .run());
    const float ms[2] = {12, 14};
    ASSERT_TRUE(d->prepare("INSERT INTO series VALUES(0, ?, 4, '', 0, ?, '', 'then')")
                    .bind(std::string_view(stage(1).key.hex()))
                    .blob({reinterpret_cast<const char*>(ms), sizeof ms})
                    .run());
    ASSERT_TRUE(d->run("INSERT INTO audit VALUES('then', 'T', 1, 2, 0.5, 3, 2)"));
  }
  for (int i = 0; i < 2; ++i) {  // and a second start migrates nothing again
    const auto n = open();
    EXPECT_EQ(n->stage_samples(stage(1).key), (std::vector<float>{12, 14}));
    EXPECT_EQ(n->audits().size(), 1u);
    EXPECT_EQ(n->samples(), 77);
    EXPECT_EQ(n->eras().size(), 1u);
  }
}

TEST(Era, IsThatOfTheMachineNotOfTheProcessorsThisProcessMayUse) {
  const Json all = era_identity();
  cpu_set_t before, one;
  ASSERT_EQ(sched_getaffinity(0, sizeof before, &before), 0);
  CPU_ZERO(&one);
  for (int i = 0; i < CPU_SETSIZE; ++i)
    if (CPU_ISSET(i, &before)) {
      CPU_SET(i, &one);
      break;
    }
  ASSERT_EQ(sched_setaffinity(0, sizeof one, &one), 0);
  const Json pinned = era_identity();
  sched_setaffinity(0, sizeof before, &before);
  EXPECT_EQ(era_change(all, pinned), "");
}

TEST_F(TwoPrograms, RendersThatTookLongerMakeTheNextOnesSaidLonger) {
  auto n = open();
  EXPECT_DOUBLE_EQ(n->price_factor(), 1);
  ASSERT_TRUE(n->add_price({"t", 48, 10, 10, 18}));
  EXPECT_NEAR(n->price_factor(), 1.4, 1e-9) << "ten seconds that went as said are put in beforehand";
  ASSERT_TRUE(n->add_price({"t", 96, 20, 20, 36}));
  EXPECT_NEAR(n->price_factor(), 1.8, 1e-9);
  ASSERT_TRUE(n->add_price({"t", 60, 12, 12, 40}));
  EXPECT_NEAR(n->price_factor(), 1.8, 1e-9) << "one that others made three times as long says nothing of the next";
  EXPECT_FALSE(n->prices()[0].within(0.15));
  EXPECT_EQ(open()->prices().size(), 3u);
}

// ---- Commands ------------------------------------------------------------------------------------------

class TheCommands : public test::Commands {};

TEST_F(TheCommands, TheDemosJobRemovesNothingThatItDidNotMake) {
  // The shelf that is named is somebody's folder; the job is stopped long before its end.
  const fs::path folder = dir_ / "precious";
  fs::create_directories(folder / "photos");
  test::put(folder / "photos/one.jpg", "x");
  test::put(folder / "index.txt", "y");
  // Stopped by hand after a while: what it removes, it removes before it plays.
  (void)std::system(("XDG_CACHE_HOME='" + (dir_ / "cache").string() + "' XDG_CONFIG_HOME='" +
                     (dir_ / "config").string() + "' XDG_DATA_HOME='" + (dir_ / "data").string() +
                     "' timeout -s INT 120 '" GCLK_BINARY "' demo '" + (dir_ / "demo").string() +
                     "' --job --stated --width 320 --height 180 --length 0.1 --shelf '" + folder.string() +
                     "' >/dev/null 2>&1 & p=$!; for i in $(seq 200); do [ -e '" + (folder / "index.sqlite").string() +
                     "' ] && break; sleep 0.5; done; sleep 3; kill -INT $p; wait $p")
                        .c_str());
  ASSERT_TRUE(fs::exists(folder / "index.sqlite")) << "it never came to the shelf";
  EXPECT_TRUE(fs::exists(folder / "photos/one.jpg"));
  EXPECT_TRUE(fs::exists(folder / "index.txt"));
}

/// SQLite's own check (PRAGMA integrity_check) of a file as it lies: nothing is laid out in it, as opening it by its version
/// would, since a program may have been killed before it had done so.
std::string integrity(const fs::path& file) {
  sqlite3* opened = nullptr;
  const int code = sqlite3_open_v2(file.c_str(), &opened, SQLITE_OPEN_READWRITE, nullptr);
  const std::unique_ptr<sqlite3, int (*)(sqlite3*)> database(opened, sqlite3_close);
  if (code != SQLITE_OK) return "it cannot be opened";
  // A killed process keeps its locks until the system has taken it apart, which on a busy machine is later than its end is told.
  sqlite3_busy_timeout(opened, 60000);
  std::string said;
  const auto note = [](void* to, int, char** values, char**) {
    *static_cast<std::string*>(to) += values[0];
    return 0;
  };
  if (sqlite3_exec(opened, "PRAGMA integrity_check", note, &said, nullptr) != SQLITE_OK) return sqlite3_errmsg(opened);
  return said;
}

// Renderers are killed at any instant.
TEST_F(TheCommands, KilledAtAnyInstantTheIndexesStayWhole) {
  // Each frame takes 60 ms, so that all of them take some seconds.
  const TimelinePtr t =
      Build().track("V1").generator("a", "fractal_noise", 240, {}, {test::an("cost_card", {{"name", "x"}, {"ms", 60}, {"width", 256}, {"height", 144}})}).done();
  ASSERT_TRUE(save_timeline(*t, dir_ / "cut.otio"));
  const std::string file = "'" + (dir_ / "cut.otio").string() + "'";
  const fs::path shelf = dir_ / "shelf", notebook = dir_ / "notebook.sqlite";
  int killed = 0;
  for (int i = 0; i < 8; ++i) {
    const std::string command = "XDG_CACHE_HOME='" + (dir_ / "cache").string() + "' XDG_CONFIG_HOME='" +
                                (dir_ / "config").string() + "' XDG_DATA_HOME='" + (dir_ / "data").string() +
                                "' timeout -s KILL " + std::to_string(0.5 + 0.4 * i) + " '" GCLK_BINARY "' run " +
                                file + " --range 0-240 --shelf '" + shelf.string() + "' --notebook '" +
                                notebook.string() + "' --json >/dev/null 2>&1";
    killed += WEXITSTATUS(std::system(command.c_str())) == 137;
    for (const fs::path& f : {shelf / "index.sqlite", notebook})
      if (fs::exists(f)) EXPECT_EQ(integrity(f), "ok") << f;
  }
  EXPECT_GT(killed, 2) << "hardly any was still at work";
  // What is recorded is whole, the rest is made, and nothing half made lies about.
  const auto rest = gclk("run " + file + " --range 0-240 --shelf '" + shelf.string() + "' --json");
  ASSERT_EQ(rest.code, 0);
  EXPECT_EQ(rest.json()["frames"].get<int>() + rest.json()["already_sealed_frames"].get<int>(), 240);
  auto opened = Shelf::open(shelf);
  ASSERT_TRUE(opened);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(*load_timeline(dir_ / "cut.otio"), media);
  EXPECT_EQ(static_cast<int>((*opened)->route(*p).count(FrameState::sealed)), 240);
  for (const auto& entry : fs::directory_iterator(shelf / "chunks"))
    if (entry.path().extension() == ".mov") EXPECT_FALSE(entry.path().filename().string().starts_with("writing-"));
}

TEST_F(TheCommands, DisagreementsAreSaidInTheTimelinesOwnTimecode) {
  Forecast f;
  f.range = {0, 96}, f.rate = {24, 1}, f.miss.assign(96, 0);
  Playout p;
  p.range = f.range, p.rate = f.rate, p.start = 24 * 3600, p.frames = 96, p.log.resize(96);
  for (Frames i = 0; i < 96; ++i) {
    p.log[static_cast<std::size_t>(i)].frame = i;
    if (i >= 24 && i < 60) p.log[static_cast<std::size_t>(i)].dropped = i % 2, ++p.dropped;
  }
  const Audit a = audit(f, f, p);
  ASSERT_FALSE(a.disagreements.empty());
  EXPECT_THAT(a.disagreements[0], testing::StartsWith("01:00:01:"));
}

// The launcher asks for real packages only, needs no network once they are there, and says what is missing to
// those who may not install.
/// The launcher in a folder of its own, with stand-ins for what it calls.
class Launcher : public testing::Test {
 protected:
  Launcher() {
    fs::copy_file(fs::path(GCLK_SOURCE).parent_path() / "dev", dir / "dev");
    fs::create_directories(dir / "bin");
  }
  void stand_in(const std::string& name, const std::string& does) {
    test::put(dir / "bin" / name, "#!/bin/sh\n" + does + "\n");
    fs::permissions(dir / "bin" / name, fs::perms::owner_all);
  }
  int run(const std::string& what, const std::string& says = "out.txt") {
    const std::string command = "cd '" + dir.path().string() + "' && env -u CI PATH='" + (dir / "bin").string() +
                                ":/usr/bin:/bin' ./dev " + what + " >" + says + " 2>&1 </dev/null";
    return WEXITSTATUS(std::system(command.c_str()));
  }
  const test::TempFolder dir;
};

TEST_F(Launcher, AsksNobodyWhenEverythingIsThere) {
  stand_in("apt-get", "echo called >>'" + (dir / "asked").string() + "'; exit 1");
  stand_in("cmake", "exit 0");
  stand_in("sudo", "exit 1");
  EXPECT_EQ(run("build"), 0) << *read_file(dir / "out.txt");
  EXPECT_FALSE(fs::exists(dir / "asked")) << "with all packages there it went to the network";
  // A person without sudo is told what to ask for.
  stand_in("dpkg-query", "case \"$*\" in *ninja-build*) exit 1;; esac; echo 'install ok installed'");
  stand_in("id", "echo 1000");
  EXPECT_EQ(run("build"), 4);
  EXPECT_FALSE(fs::exists(dir / "asked"));
  EXPECT_THAT(*read_file(dir / "out.txt"), testing::HasSubstr("apt-get install ninja-build"));
}

// Two commands given at once would write the same files of the build.
TEST_F(Launcher, TwoCommandsAtOnceBuildOneAfterTheOther) {
  stand_in("dpkg-query", "echo 'install ok installed'");
  // Fails when another one is at it. The folder is the lock that the launcher should make needless.
  stand_in("cmake", "mkdir '" + (dir / "at-it").string() + "' || exit 9; sleep 0.3; rmdir '" + (dir / "at-it").string() + "'; echo built >>'" +
                        (dir / "built").string() + "'");
  int first = -1;
  std::jthread other([&] { first = run("build", "first.txt"); });
  const int second = run("build", "second.txt");
  other.join();
  EXPECT_EQ(first, 0) << *read_file(dir / "first.txt");
  EXPECT_EQ(second, 0) << *read_file(dir / "second.txt");
  // Each configures and builds.
  EXPECT_EQ(*read_file(dir / "built"), "built\nbuilt\nbuilt\nbuilt\n");
}

}  // namespace
}  // namespace gc
