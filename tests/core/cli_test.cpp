// The commands as a script uses them: exit codes, one JSON document, keys that stay.
#include "commands.h"

namespace gc {
namespace {

using test::Commands;
using test::Ran;

TEST_F(Commands, EffectsAreListedWithDevicesToleranceAndFeaturesAndChecked) {
  const Json all = gclk("effects --json").json();
  ASSERT_GE(all.size(), 29u);
  for (const Json& e : all) {
    for (const char* key : {"id", "label", "kind", "family", "stage", "devices", "tolerance", "features",
                            "frames_before", "params"})
      EXPECT_TRUE(e.contains(key)) << key;
    EXPECT_EQ(e["devices"][0], "processor");
    EXPECT_TRUE(e["devices"].size() == 2 || e.contains("processor_only_because")) << e["id"];
  }
  const Ran checked = gclk("effects --check --json --width 96 --height 54");
  const Json j = checked.json();
  EXPECT_EQ(checked.code, j["all_within"].get<bool>() ? 0 : 1);
  EXPECT_TRUE(j["all_within"].get<bool>());
  EXPECT_EQ(j["effects"].size(), all.size());
}

TEST_F(Commands, TheSeatIsToldMadeSlowComparedAndCarried) {
  const Ran plain = gclk("seat --json");
  ASSERT_EQ(plain.code, 0);
  EXPECT_GE(plain.json()["profile"]["machine"]["processors"].get<int>(), 1);
  EXPECT_EQ(plain.json()["profile"]["glass_clock"], "seat profile");
  const std::string slow = "'" + (dir_ / "slow").string() + "'";
  ASSERT_EQ(gclk("seat --slow-stand-in " + slow + " --read 60 --write 50 --latency 0 --json").code, 0);
  const Ran volume = gclk("seat --volume " + slow + " --json");
  ASSERT_EQ(volume.code, 0);
  EXPECT_LT(volume.json()["measured"][0]["read_mb_s"].get<double>(), 66);
  EXPECT_EQ(volume.json()["measured"][0]["type"], "slow stand-in");
  EXPECT_EQ(gclk("seat --volume /proc --json").code, 4);
  const std::string saved = "'" + (dir_ / "mine.json").string() + "'";
  EXPECT_EQ(gclk("seat --save " + saved + " --name Mine --json").code, 0);
  const Ran compared = gclk("seat compare " + saved + " 'Thin laptop' --json");
  EXPECT_EQ(compared.code, 0);
  EXPECT_EQ(compared.json()["first"], "Mine");
  EXPECT_GT(compared.json()["rows"].size(), 3u);
  test::put(dir_ / "cut.json", "{\"glass_clock\": \"seat pro");
  const Ran cut = gclk("seat compare '" + (dir_ / "cut.json").string() + "' this --json");
  EXPECT_EQ(cut.code, 3);
}

TEST_F(Commands, CodecsAdviceAndOtherSeatsForATimeline) {
  const std::string file = small();
  const Ran codecs = gclk("codecs " + file + " --json");
  ASSERT_EQ(codecs.code, 0);
  EXPECT_GE(codecs.json()["forms"].size(), 11u);
  EXPECT_EQ(codecs.json()["fits"].size(), codecs.json()["forms"].size());
  EXPECT_EQ(codecs.json()["best"].size(), 3u);
  const Ran advised = gclk("advise " + file + " --json");
  ASSERT_EQ(advised.code, 0);
  for (const char* key : {"sentence", "advice", "binding", "gains", "seats", "least_speed"})
    EXPECT_TRUE(advised.json().contains(key)) << key;
  EXPECT_EQ(advised.json()["seats"].size(), 3u) << "the seats that ship";
  EXPECT_FALSE(advised.json()["advice"].empty()) << "the codecs just tried are known";
  const Ran elsewhere = gclk("forecast " + file + " --seat 'Render node' --json");
  ASSERT_EQ(elsewhere.code, 0);
  EXPECT_EQ(elsewhere.json()["seat"], "Render node");
  EXPECT_EQ(gclk("forecast " + file + " --seat nowhere --json").code, 3);
}

TEST_F(Commands, StacksKeysAndDevicesAreEdited) {
  const std::string file = small();
  const Ran added = gclk("add " + file + " c glow --at 0 --json");
  EXPECT_EQ(added.code, 0);
  EXPECT_EQ(added.json()["effect"], "c-glow");
  EXPECT_EQ(gclk("key " + file + " c c-glow amount 0 0.5 --json").code, 0);
  EXPECT_EQ(gclk("key " + file + " c c-glow amount 12 2 --way smooth --json").code, 0);
  EXPECT_EQ(gclk("device " + file + " c c-glow accelerator --json").code, 0);
  EXPECT_EQ(gclk("move " + file + " a g 0 --json").code, 0);
  EXPECT_EQ(gclk("remove " + file + " a b --json").code, 0);
  const auto t = *load_timeline(dir_ / "cut.otio");
  EXPECT_EQ(find_segment(*t, "a")->stack.size(), 1u);
  const Effect& glow = find_segment(*t, "c")->stack[0];
  EXPECT_EQ(glow.device, "accelerator");
  EXPECT_EQ(glow.params["amount"]["keys"].size(), 2u);
  EXPECT_EQ(gclk("add " + file + " c sparkle").code, 2);
  EXPECT_EQ(gclk("remove " + file + " a nothing").code, 2);
}

TEST_F(Commands, CardsCoverageComparisonAndSettings) {
  const std::string file = small();
  test::put(dir_ / "costs.csv", "name,ms\nSparkle,12\n");
  EXPECT_EQ(gclk("cards " + file + " '" + (dir_ / "costs.csv").string() + "' --json").json()["cards"][0],
            "Sparkle");
  EXPECT_EQ(gclk("cards " + file + " /nowhere.csv").code, 3);
  const Ran covered = gclk("coverage " + file + " --json");
  EXPECT_EQ(covered.code, 0);
  EXPECT_TRUE(covered.json()["uncovered"].empty());
  const Json compared = gclk("compare " + file + " 5 --scale 4 --json").json();
  EXPECT_EQ(compared["remedy"], "scale 1/4");
  EXPECT_GT(compared["psnr_db"], 15);
  EXPECT_GT(compared["ssim"], 0.3);
  EXPECT_EQ(gclk("settings scale 2 --json").json()["scale"], 2);
  EXPECT_EQ(gclk("settings region 10,10,100,80 --json").json()["region"], "10,10,100,80");
  EXPECT_THAT(gclk("settings").out, testing::HasSubstr("10,10,100,80"));
  EXPECT_EQ(gclk("settings scale 3").code, 2);
  EXPECT_EQ(gclk("settings region 1,2,3").code, 2);
  EXPECT_EQ(gclk("settings --json").json()["scale"], 2) << "kept";
  EXPECT_EQ(gclk("playout " + file + " --range 0-12 --json").code, 0) << "a scaled region plays";
}

TEST_F(Commands, GoThroughTheWholeJobOnASmallTimeline) {
  const std::string file = small();
  const Json inspect = gclk("inspect " + file + " --json").json();
  EXPECT_EQ(inspect["frames"], 48);
  EXPECT_EQ(inspect["media"][0]["codec"], "H.264");
  const Ran measured = gclk("measure " + file + " --seconds 2 --json");
  EXPECT_EQ(measured.code, 0);
  EXPECT_GT(measured.json()["frames_timed"], 10);
  const Json f = gclk("forecast " + file + " --json").json();
  for (const char* key : {"rate", "frames", "expected_drops", "spans"}) EXPECT_TRUE(f.contains(key)) << key;
  for (const char* key :
       {"in", "out", "verdict", "drop_probability", "expected_drops", "sustained_rate", "cause", "segments"})
    EXPECT_TRUE(f["spans"][0].contains(key)) << key;
  EXPECT_TRUE(gclk("plan " + file + " --json").json().contains("remedies"));
  const Json run = gclk("run " + file + " --range 0-24 --json").json();
  EXPECT_EQ(run["frames"], 24);
  const Json p = gclk("playout " + file + " --json").json();
  for (const char* key : {"frames", "dropped", "drops", "segments"}) EXPECT_TRUE(p.contains(key)) << key;
  EXPECT_GE(p["sealed_frames"], 1);
  for (const char* key : {"id", "frames", "dropped", "sustained_rate"})
    EXPECT_TRUE(p["segments"][0].contains(key)) << key;
  const Json a = gclk("audit " + file + " --json").json();
  for (const char* key : {"span_precision", "span_recall", "span_f1", "drops_forecast", "drops_observed",
                          "forecast", "playout"})
    EXPECT_TRUE(a.contains(key)) << key;
  EXPECT_EQ(gclk("gate " + file).code, 0);
  EXPECT_EQ(gclk("bypass " + file + " a b").code, 0);
  const Ran gate = gclk("gate " + file + " --json");
  EXPECT_EQ(gate.code, 1);
  EXPECT_EQ(gate.json()["open_slips"], 1);
  EXPECT_EQ(gclk("bypass " + file + " a b --lift").code, 0);
  EXPECT_EQ(gclk("gate " + file).code, 0);
  EXPECT_EQ(gclk("set " + file + " a g saturation 1.3").code, 0);
  EXPECT_EQ(gclk("gate " + file + " --json").json()["broken_seals"], 1);
}

TEST_F(Commands, WhatIfAnswersWithoutMeasuringOrChangingAnything) {
  const std::string file = small();
  const std::string before = gclk("inspect " + file + " --json").out;
  const Ran r = gclk("what-if " + file + " --bypass a/b --rendered 24-48 --others 0.2 --json");
  ASSERT_EQ(r.code, 0) << r.out;
  for (const char* when : {"now", "then"}) {
    EXPECT_EQ(r.json()[when]["intervals"].size(), 2u);
    EXPECT_EQ(r.json()[when]["fully_measured"], false) << "nothing was measured for it";
  }
  EXPECT_EQ(r.json()["now"]["intervals"][1]["sealed"], false);
  EXPECT_EQ(r.json()["then"]["intervals"][1]["sealed"], true);
  EXPECT_THAT(gclk("what-if " + file + " --remembered 0-48").out, testing::HasSubstr("As it is: "));
  EXPECT_EQ(gclk("inspect " + file + " --json").out, before);
  EXPECT_EQ(gclk("what-if " + file + " --bypass a").code, 2);
  EXPECT_EQ(gclk("what-if " + file + " --bypass a/nothing").code, 2);
  EXPECT_EQ(gclk("what-if " + file + " --rendered 40-20").code, 2);
}

TEST_F(Commands, ExitCodesTellWhoseFaultItIs) {
  const std::string file = small();
  EXPECT_EQ(gclk("").code, 2);
  EXPECT_EQ(gclk("frobnicate").code, 2);
  EXPECT_EQ(gclk("forecast " + file + " --range 40-2").code, 2);
  EXPECT_EQ(gclk("bypass " + file + " a nothing").code, 2);
  EXPECT_EQ(gclk("inspect /no/such.otio").code, 3);
  EXPECT_EQ(gclk("score --keep '" + dir_.path().string() + "'").code, 2) << "what lies there is not written over";
  test::put(dir_ / "broken.otio", "{\"OTIO_SCHEMA\":\"Timeline.1\", ");
  EXPECT_EQ(gclk("forecast '" + (dir_ / "broken.otio").string() + "'").code, 3);
  EXPECT_EQ(gclk("inspect " + file + " --shelf /proc/shelf").code, 4);
  const std::vector<const char*> ahead(99, "SELECT 1");
  ASSERT_TRUE(Database::open(dir_ / "new.sqlite", ahead, "notebook"));
  const Ran newer = gclk("inspect " + file + " --notebook '" + (dir_ / "new.sqlite").string() + "' --json");
  EXPECT_EQ(newer.code, 3);
  EXPECT_THAT(newer.json()["error"].get<std::string>(), testing::HasSubstr("newer version"));
  for (const char* command : {"demo", "inspect", "measure", "forecast", "plan", "run", "playout", "audit",
                              "gate", "bypass", "set", "seat"}) {
    const Ran help = gclk(std::string(command) + " --help");
    EXPECT_EQ(help.code, 0) << command;
    EXPECT_THAT(help.out, testing::HasSubstr("Example: gclk")) << command;
  }
}

TEST_F(Commands, OfflineMediaAreSaidAndNotFatal) {
  const std::string file = small();
  fs::remove(dir_ / "m.mp4");
  const Json inspect = gclk("inspect " + file + " --json").json();
  EXPECT_EQ(inspect["media"][0]["online"], false);
  EXPECT_EQ(gclk("gate " + file).code, 1);
  const Json p = gclk("playout " + file + " --json").json();
  EXPECT_EQ(p["offline_frames"].get<int>() + p["dropped"].get<int>(), 48);
}

// The whole of the first light, on a short and small demo; the same job as ./dev demo --headless.
TEST_F(Commands, APlayoutGoesIntoATableATraceAndARecordThatTheModelIsHeldAgainst) {
  const std::string file = small();
  const Frames frames = 48;
  const std::string csv = (dir_ / "log.csv").string(), trace = (dir_ / "trace.json").string(),
                    record = (dir_ / "record.json").string();
  const Json played = gclk("playout " + file + " --csv '" + csv + "' --trace '" + trace + "' --record '" +
                           record + "' --json")
                          .json();
  EXPECT_EQ(played["frames"], frames);
  // A line for each frame, each with its fate.
  std::ifstream lines(csv);
  std::string line, head;
  std::getline(lines, head);
  EXPECT_THAT(head, testing::StartsWith("frame,timecode,fate,cause"));
  Frames count = 0, dropped = 0;
  for (; std::getline(lines, line); ++count) {
    dropped += line.find(",\"dropped, ") != std::string::npos;
    EXPECT_THAT(line, testing::StartsWith(std::to_string(count) + ","));
  }
  EXPECT_EQ(count, frames);
  EXPECT_EQ(dropped, played["dropped"].get<Frames>());
  // Chrome's trace-event format: complete events have a name, a begin, a duration and a worker (the published
  // "Trace Event Format").
  const Json events = Json::parse(std::ifstream(trace))["traceEvents"];
  std::size_t complete = 0;
  for (const Json& e : events) {
    ASSERT_TRUE(e.contains("ph") && e.contains("pid") && e.contains("tid") && e.contains("name"));
    if (e["ph"] != "X") continue;
    ++complete;
    EXPECT_GE(e["dur"].get<double>(), 0);
    EXPECT_TRUE(e["ts"].is_number());
  }
  EXPECT_GT(complete, static_cast<std::size_t>(frames)) << "each frame and its stages";

  const Ran replayed = gclk("replay '" + record + "' --json");
  ASSERT_TRUE(replayed.json().contains("agrees")) << replayed.out;
  EXPECT_EQ(replayed.code, replayed.json()["agrees"].get<bool>() ? 0 : 1);
  EXPECT_EQ(replayed.json()["observed"], played["dropped"]);
  // Cut off in the middle, as when the disk was full.
  fs::resize_file(record, fs::file_size(record) / 2);
  const Ran cut = gclk("replay '" + record + "'", (dir_ / "said").string());
  EXPECT_EQ(cut.code, 3);
  EXPECT_THAT(read_file(dir_ / "said").value_or(""), testing::HasSubstr("record.json"));
}

TEST_F(Commands, AnAuditThatIsRepeatedTellsEachPlayoutAndWhatProbabilitiesWereWorth) {
  const std::string file = small();
  const Json a = gclk("audit " + file + " --repeat 3 --json").json();
  ASSERT_EQ(a["runs"].size(), 3u);
  int segments = 0;
  for (const Json& bin : a["reliability"]["bins"]) {
    EXPECT_LE(bin["dropped"], bin["segments"]);
    segments += bin["segments"].get<int>();
  }
  EXPECT_EQ(segments, 3 * 2) << "two segments, three times";
  EXPECT_GE(a["reliability"]["brier"].get<double>(), 0);
  EXPECT_LE(a["reliability"]["brier"].get<double>(), 1);
  for (const Json& run : a["runs"]) {
    EXPECT_LE(run["drops_low"].get<double>(), run["drops_high"].get<double>());
    EXPECT_TRUE(run["explained"].contains("model"));
  }
  EXPECT_EQ(gclk("audit " + file + " --repeat 0").code, 2);
}

TEST_F(Commands, PlayoutsGoInLoopsFrameByFrameAroundAFrameAndIntoAMonitor) {
  const std::string file = small();
  EXPECT_EQ(gclk("playout " + file + " --range 0-12 --loops 3 --json").json()["frames"], 36);
  const Json every = gclk("playout " + file + " --every-frame --json").json();
  EXPECT_EQ(every["dropped"], 0);
  EXPECT_EQ(every["mode"], "every_frame");
  const Json around = gclk("playout " + file + " --around 24 --json").json();
  EXPECT_LE(around["in"].get<Frames>(), 24);
  EXPECT_GT(around["out"].get<Frames>(), 24);
  const Json monitor = gclk("playout " + file + " --range 0-24 --monitor --json").json();
  EXPECT_EQ(monitor["frames"], 24);
  EXPECT_EQ(gclk("playout " + file + " --around 4000").code, 2);
}

TEST_F(Commands, TheDemoJobIsReallyDone) {
  const Ran r =
      gclk("demo '" + (dir_ / "ky").string() + "' --job --stated --width 640 --height 360 --length 0.35 --json");
  const Json j = r.json();
  ASSERT_TRUE(j.is_object());
  EXPECT_EQ(r.code, 0) << j.value("drops_before", -1) << " before, " << j.value("drops_after", -1)
                       << " after";
  EXPECT_GE(j["demo"]["segments"], 22);
  EXPECT_GT(j["drops_before"], 0);
  EXPECT_LT(j["drops_after"].get<double>(), j["drops_before"].get<double>() / 3);
  EXPECT_GT(j["edit"]["own_frames_broken"], 0);
  EXPECT_EQ(j["edit"]["other_frames_broken"], 0);
  int spills = 0, holds = 0;
  for (const Json& s : j["forecast"]["spans"])
    spills += s["verdict"] == "spills", holds += s["verdict"] == "holds";
  EXPECT_GE(spills, 1);
  EXPECT_GE(holds, 1);
}

}  // namespace
}  // namespace gc
