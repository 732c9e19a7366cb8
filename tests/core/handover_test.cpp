// A timeline goes to another seat and comes back: nothing is missing there, nothing is rendered twice, nothing of a stand-in
// stays.
#include <OpenColorIO/OpenColorIO.h>

#include "commands.h"
#include "desk/angles.h"
#include "desk/handover.h"
#include "desk/look_file.h"
#include "interchange/conform.h"
#include "interchange/markers.h"

namespace gc {
namespace {

namespace OCIO = OCIO_NAMESPACE;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;
using testing::IsEmpty;
using testing::SizeIs;

constexpr const char* kLook = "LUT_3D_SIZE 2\n0 0 0\n0.9 0 0\n0 1 0\n0.9 1 0\n0 0 0.8\n0.9 0 0.8\n0 1 0.8\n0.9 1 0.8\n";

class Handover : public testing::Test {
 protected:
  Handover() {
    fs::create_directories(dir_ / "vol" / "day 1");
    test::movie(dir_ / "vol" / "day 1" / "a #1.mov", Form::rdd36, 160, 90, 40);
    test::put(dir_ / "vol" / "look.cube", kLook);
    Effect lut = test::an("lut", {{"path", (dir_ / "vol" / "look.cube").string()}});
    lut.id = "lut";
    timeline_ = test::Build(160, 90).media("m", (dir_ / "vol" / "day 1" / "a #1.mov").string(), 40).track("V1").segment("a", "m", 4, 24, {lut, test::blur("b", 2)}).done();
    here_ = seat("here");
  }
  Stores seat(const std::string& name) {
    DeskOptions o;
    o.shelf = dir_ / name / "shelf", o.notebook = dir_ / name / "notebook.sqlite", o.workers = 2, o.settings = {};
    fs::create_directories(dir_ / name);
    return *Stores::open(o);
  }
  Packed packed(const PackOptions& options = {}) {
    const View v = view_of(timeline_, here_);
    auto p = pack(v, here_, dir_ / "travel", options);
    EXPECT_TRUE(p) << (p ? "" : p.error().text());
    return p ? *p : Packed{};
  }
  void render() {
    const View v = view_of(timeline_, here_);
    ASSERT_TRUE(prerender(v.played, *here_.shelf, {{0, 24}}, here_.prerender_options({}, *timeline_), {}));
  }
  /// What was here is out of reach, and what was packed lies elsewhere.
  void travel() {
    fs::rename(dir_ / "vol", dir_ / "unplugged");
    fs::rename(dir_ / "travel", dir_ / "arrived");
  }

  test::TempFolder dir_;
  TimelinePtr timeline_;
  Stores here_;
};

TEST_F(Handover, ArrivesWholeAndIsNotRenderedAgain) {
  render();
  const Image true_picture = test::frame_of(*view_of(timeline_, here_).delivered, 7);
  const Packed p = packed();
  EXPECT_EQ(p.media, 1u);
  EXPECT_EQ(p.looks, 1u);
  EXPECT_GT(p.pieces, 0u);
  travel();
  Stores there = seat("there");
  const auto u = unpack(dir_ / "arrived", there);
  ASSERT_TRUE(u) << u.error().text();
  EXPECT_THAT(u->damaged, IsEmpty());
  EXPECT_THAT(u->offline, IsEmpty());
  EXPECT_EQ(u->pieces.pieces, p.pieces);
  const auto t = open_timeline(u->timeline, there.media);
  ASSERT_TRUE(t);
  const View v = view_of(*t, there);
  EXPECT_EQ(v.seals.count(FrameState::sealed), 24u) << "what was rendered here answers there";
  EXPECT_EQ(test::greatest_difference(test::frame_of(*v.delivered, 7), true_picture), 0) << "media and look are the same";
  // A second time takes nothing twice.
  const auto again = unpack(dir_ / "arrived", there);
  ASSERT_TRUE(again);
  EXPECT_EQ(again->pieces.pieces, 0u);
  EXPECT_EQ(again->pieces.known, p.pieces);
}

TEST_F(Handover, WhatWasDamagedOnTheWayIsNamedAndNotShown) {
  render();
  packed();
  const fs::path medium = dir_ / "travel" / "media" / (dir_ / "vol" / "day 1" / "a #1.mov").relative_path();
  ASSERT_TRUE(fs::exists(medium));
  const auto flip = [](const fs::path& file) {
    std::string bytes = *read_file(file);
    for (std::size_t i = bytes.size() / 2; i < bytes.size() / 2 + 200; ++i) bytes[i] = static_cast<char>(~bytes[i]);
    test::put(file, bytes);
  };
  flip(medium);
  for (const auto& piece : fs::directory_iterator(dir_ / "travel" / "renditions"))
    if (piece.path().extension() != ".json") flip(piece.path());
  travel();
  Stores there = seat("there");
  const auto u = unpack(dir_ / "arrived", there);
  ASSERT_TRUE(u) << u.error().text();
  ASSERT_THAT(u->damaged, SizeIs(1));
  EXPECT_THAT(u->damaged[0], HasSubstr("not what was packed"));
  EXPECT_FALSE(u->pieces.refused.empty());
  EXPECT_EQ(u->pieces.pieces, 0u);
  EXPECT_EQ(there.shelf->chunks(), 0u);
}

TEST_F(Handover, OnlyTheTimelineComesBackAndReadsTheOriginals) {
  PackOptions o;
  o.media = PackOptions::Media::proxies, o.form = Form::vc3_sq;
  packed(o);
  // On the other seat it is graded, from the copies.
  Stores there = seat("there");
  const auto away = open_timeline(dir_ / "travel" / "Test.otio", there.media);
  ASSERT_TRUE(away);
  const View v = view_of(*away, there);
  ASSERT_THAT(v.delivered->segments(), SizeIs(1));
  EXPECT_EQ(v.delivered->segments()[0]->media.copy_size, 2);
  const Gate gate = check_gate(*v.delivered, there.shelf.get());
  EXPECT_FALSE(gate.may_deliver()) << "a copy is never delivered";
  ASSERT_TRUE(save_timeline(*with_param(**away, "a", "b", "sigma", 3.0), dir_ / "back.otio"));
  fs::rename(dir_ / "travel", dir_ / "far away");
  const auto home = open_timeline(dir_ / "back.otio", here_.media);
  ASSERT_TRUE(home);
  EXPECT_EQ((*home)->sources.at(find_segment(**home, "a")->ref)->path, timeline_->sources.at("m")->path);
  EXPECT_EQ(find_segment(**home, "a")->stack[0].params["path"], (dir_ / "vol" / "look.cube").string());
  EXPECT_EQ(find_segment(**home, "a")->stack[1].params["sigma"], 3.0) << "the work came along";
  EXPECT_EQ(view_of(*home, here_).delivered->segments()[0]->media.copy_size, 1);
}

TEST_F(Handover, WithoutItsMediaNothingIsWritten) {
  fs::remove(dir_ / "vol" / "look.cube");
  const Packed p = packed();
  ASSERT_THAT(p.missing, SizeIs(1));
  EXPECT_THAT(p.missing[0], HasSubstr("look.cube"));
  EXPECT_FALSE(fs::exists(dir_ / "travel"));
}

TEST_F(Handover, WhatLiesInTheFolderStays) {
  fs::create_directories(dir_ / "travel");
  test::put(dir_ / "travel" / "letter.txt", "dear");
  EXPECT_FALSE(pack(view_of(timeline_, here_), here_, dir_ / "travel", {}));
  EXPECT_EQ(*read_file(dir_ / "travel" / "letter.txt"), "dear");
  EXPECT_EQ(std::distance(fs::directory_iterator(dir_ / "travel"), fs::directory_iterator()), 1);
}

TEST_F(Handover, AListThatNamesOtherFoldersIsRefused) {
  fs::create_directories(dir_ / "arrived");
  test::put(dir_ / "secret", "x");
  test::put(dir_ / "arrived" / "handover.json", R"({"glass_clock":"handover","version":1,"timeline":"t.otio","files":[{"file":"../secret","bytes":1}]})");
  const auto u = unpack(dir_ / "arrived", here_);
  ASSERT_FALSE(u);
  EXPECT_THAT(u.error().text(), HasSubstr("outside"));
}

// ---- A new cut -----------------------------------------------------------------------------------------------

TimelinePtr graded_cut() {
  Effect moving = test::an("blur", {{"sigma", {{"keys", {{{"at", 0}, {"value", 1.0}}, {{"at", 10}, {"value", 5.0}}}}}}});
  moving.id = "moving";
  return test::Build().media("m", "/v/m.mov", 200).media("n", "/v/n.mov", 100).track("V1").segment("a", "m", 0, 24, {test::cdl("g", 1.2)}).segment("b", "m", 50, 48, {moving}).segment("c", "n", 0, 24, {test::blur("x", 3)}).done();
}

std::map<std::string, std::string> told(const Conform& c) {
  std::map<std::string, std::string> all;
  for (const Conformed& k : c.changes) all[k.segment] = conformed_name(k.what);
  return all;
}

TEST(ANewCut, KeepsWhatWasDoneToEachPicture) {
  const TimelinePtr was = graded_cut();
  auto slipped = with_slip(*was, [] {
    Slip s;
    s.kind = slip_kind::bypass, s.segment = "b", s.effect = "moving";
    return s;
  }(), "2026-01-01T00:00:00Z");
  slipped = with_truth(*slipped, {"b"}, Truth::exact);
  // b first and five frames shorter at its head, a as it was, c left out, something new. Its media lie elsewhere.
  const TimelinePtr now = test::Build().media("1", "/other/m.mov", 200).media("2", "/other/new.mov", 100).track("V1").segment("s1", "1", 55, 43).segment("s2", "1", 0, 24).segment("s3", "2", 0, 10).done();
  const Conform c = conform(*slipped, *now);
  EXPECT_EQ(told(c), (std::map<std::string, std::string>{{"b", "trimmed"}, {"a", "moved"}, {"s3", "added"}, {"c", "gone"}}));
  const SegmentPtr a = find_segment(*c.timeline, "a"), b = find_segment(*c.timeline, "b");
  ASSERT_TRUE(a && b);
  EXPECT_EQ(a->stack[0].params, test::cdl("g", 1.2).params);
  EXPECT_EQ(b->truth, Truth::exact);
  // A key at the segment's tenth frame was on source frame 60, which is the fifth now.
  EXPECT_EQ(b->stack[0].params["sigma"]["keys"][1]["at"], 5);
  EXPECT_EQ(b->ref, "1") << "the new cut's medium";
  EXPECT_TRUE(bypassed(*c.timeline, "b", "moving")) << "the slip stays with its segment";
}

TEST(ANewCut, BothHalvesOfACutSegmentHaveItsStackAndOneHasItsName) {
  const TimelinePtr was = graded_cut();
  const TimelinePtr now = test::Build().media("m", "/v/m.mov", 200).track("V1").segment("b", "m", 80, 18).segment("y", "m", 50, 30).done();
  const Conform c = conform(*was, *now);
  const std::vector<SegmentPtr> all = video_segments(*c.timeline);
  ASSERT_THAT(all, SizeIs(2));
  EXPECT_EQ(all[1]->id, "b") << "the larger part";
  EXPECT_NE(all[0]->id, "b");
  for (const SegmentPtr& s : all) EXPECT_THAT(s->stack, SizeIs(1));
}

TEST(ANewCut, ThatIsTheOldOneChangesNothing) {
  const TimelinePtr was = graded_cut();
  const Conform c = conform(*was, *was);
  EXPECT_EQ(c.count(Conformed::What::same), 3);
  EXPECT_THAT(c.changes, SizeIs(3));
  EXPECT_EQ(timeline_to_otio(*c.timeline), timeline_to_otio(*was));
}

// ---- Markers -------------------------------------------------------------------------------------------------

TEST(Markers, OfOtherProgramsAreReadWhereTheyStand) {
  // A clip that begins at frame 100 of its medium has its marker at 110: ten frames in, 34 on the timeline.
  const char* text = R"({"OTIO_SCHEMA":"Timeline.1","name":"t","tracks":{"OTIO_SCHEMA":"Stack.1",
    "markers":[{"OTIO_SCHEMA":"Marker.2","name":"Review","color":"RED","comment":"the client","marked_range":{"OTIO_SCHEMA":"TimeRange.1",
      "start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":12},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":24}}}],
    "children":[{"OTIO_SCHEMA":"Track.1","kind":"Video","children":[
      {"OTIO_SCHEMA":"Gap.1","source_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":0},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":24}}},
      {"OTIO_SCHEMA":"Clip.2","name":"kiln","source_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":100},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":24,"value":48}},
       "markers":[{"OTIO_SCHEMA":"Marker.2","name":"dust","color":"","marked_range":{"OTIO_SCHEMA":"TimeRange.1","start_time":{"OTIO_SCHEMA":"RationalTime.1","rate":48,"value":220},"duration":{"OTIO_SCHEMA":"RationalTime.1","rate":48,"value":0}}}],
       "media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"/v/a.mov"}},"active_media_reference_key":"DEFAULT_MEDIA"}]}]}})";
  const auto t = timeline_from_otio(text, "t.otio", "/v");
  ASSERT_TRUE(t) << t.error().text();
  const std::vector<Marker> all = markers_of(**t);
  ASSERT_THAT(all, SizeIs(2));
  EXPECT_EQ(all[0].name, "Review");
  EXPECT_EQ(all[0].at, (FrameRange{12, 36}));
  EXPECT_EQ(all[1].at, (FrameRange{34, 34}));
  EXPECT_EQ(all[1].of, "kiln");
  EXPECT_EQ(marked_range(**t, "Review"), (FrameRange{12, 36}));
  EXPECT_EQ(marked_range(**t, "dust"), (FrameRange{34, 72})) << "to the end, as nothing comes after it";
  EXPECT_EQ(marked_range(**t, "nothing"), std::nullopt);
}

TEST(Markers, OfATableAreSetAndKept) {
  auto t = std::make_shared<Timeline>(*test::Build().track("V1").solid("a", 96, 0, 0, 0).done());
  t->start = 86400;  // 01:00:00:00
  const auto read = markers_from_csv("\xef\xbb\xbfIn;Name;Out;Note\r\n01:00:01:00;\"one; \"\"two\"\"\";01:00:02:00;see it\r\n12;three;;\r\n", "notes.csv", *t);
  ASSERT_TRUE(read) << read.error().text();
  ASSERT_THAT(*read, SizeIs(2));
  EXPECT_EQ((*read)[0].name, "one; \"two\"");
  EXPECT_EQ((*read)[0].at, (FrameRange{24, 48}));
  EXPECT_EQ((*read)[1].at, (FrameRange{12, 12}));
  const TimelinePtr set = with_markers(*t, *read);
  const auto again = timeline_from_otio(timeline_to_otio(*set), "t", "/");
  ASSERT_TRUE(again);
  const std::vector<Marker> all = markers_of(**again);
  ASSERT_THAT(all, SizeIs(2));
  EXPECT_EQ(all[1].name, "one; \"two\"");
  EXPECT_EQ(all[1].note, "see it");
  const auto round = markers_from_csv(csv_of(all, **again), "again.csv", **again);
  ASSERT_TRUE(round) << round.error().text();
  EXPECT_EQ((*round)[1].name, all[1].name);
  EXPECT_EQ((*round)[1].at, all[1].at);
  const auto bad = markers_from_csv("name,in\nx,12:99:99:99\n", "bad.csv", *t);
  ASSERT_FALSE(bad);
  EXPECT_THAT(bad.error().text(), HasSubstr("line 2"));
}

// ---- A look for other programs --------------------------------------------------------------------------------

/// What OpenColorIO makes of a colour with a table that was written.
std::array<float, 3> by_table(const fs::path& file, std::array<float, 3> rgb) {
  auto transform = OCIO::FileTransform::Create();
  transform->setSrc(file.c_str());
  transform->setInterpolation(OCIO::INTERP_LINEAR);
  OCIO::Config::CreateRaw()->getProcessor(transform)->getDefaultCPUProcessor()->applyRGB(rgb.data());
  return rgb;
}

// The published formula of ASC CDL 1.2 (out = clamp(in × slope + offset) ^ power, then saturation about Rec. 709 luma),
// through a file that OpenColorIO reads.
TEST(Looks, AreWhatOtherProgramsMakeOfThem) {
  test::TempFolder dir;
  Segment s;
  s.id = s.name = "kiln";
  s.stack = {test::an("cdl", {{"slope", {1.1, 0.9, 1.0}}, {"offset", {0.02, 0.0, -0.01}}, {"power", {0.9, 1.1, 1.0}}, {"saturation", 0.8}}), test::blur("soft", 2), test::an("vignette", {{"amount", 0.5}})};
  for (const char* name : {"kiln.cube", "kiln.clf"}) {
    SCOPED_TRACE(name);
    const auto look = write_look(s, 0, 33, dir / name);
    ASSERT_TRUE(look) << look.error().text();
    EXPECT_THAT(look->taken, ElementsAre("cdl"));
    ASSERT_THAT(look->left_out, SizeIs(2));
    EXPECT_THAT(look->left_out[0], HasSubstr("mixes pixels"));
    EXPECT_THAT(look->left_out[1], HasSubstr("place"));
    EXPECT_LT(look->worst, 0.02);
    for (const auto& rgb : {std::array{0.25f, 0.5f, 0.75f}, {0.1f, 0.7f, 0.3f}, {0.9f, 0.9f, 0.2f}}) {
      const double slope[] = {1.1, 0.9, 1.0}, offset[] = {0.02, 0, -0.01}, power[] = {0.9, 1.1, 1};
      double graded[3], luma = 0;
      const double weight[] = {0.2126, 0.7152, 0.0722};
      for (int c = 0; c < 3; ++c) graded[c] = std::pow(std::clamp(rgb[c] * slope[c] + offset[c], 0.0, 1.0), power[c]), luma += weight[c] * graded[c];
      const auto made = by_table(dir / name, rgb);
      for (int c = 0; c < 3; ++c) EXPECT_NEAR(made[c], std::clamp(luma + 0.8 * (graded[c] - luma), 0.0, 1.0), 0.004) << c;
    }
  }
  EXPECT_FALSE(write_look(s, 0, 33, dir / "kiln.cube")) << "what lies there stays";
  s.stack.erase(s.stack.begin());
  EXPECT_FALSE(write_look(s, 0, 33, dir / "nothing.cube"));
}

// ---- Several cameras -------------------------------------------------------------------------------------------

TEST(AnglesSideBySide, ShowEachCameraInItsPlace) {
  test::TempFolder dir;
  test::Build b(160, 90);
  const std::vector<std::array<double, 3>> colours{{1, 0, 0}, {0, 1, 0}, {0, 0, 1}};
  Segment moment;
  b.track("V1").segment("talk", "0", 2, 12, {test::cdl("g", 0)}).with([&](Segment& s) {
    s.angles = {{"A", "0"}, {"B", "1"}, {"C", "2"}}, s.angle = "A";
  });
  for (std::size_t i = 0; i < 3; ++i) {
    const std::string file = (dir / fmt::format("{}.mov", i)).string();
    auto w = MovieWriter::create(file, Form::rdd36, 160, 90, {24, 1});
    ASSERT_TRUE(w);
    for (int n = 0; n < 20; ++n)
      ASSERT_TRUE((*w)->write(Image::filled(160, 90, static_cast<float>(colours[i][0]), static_cast<float>(colours[i][1]), static_cast<float>(colours[i][2]), 1)));
    ASSERT_TRUE((*w)->finish());
    b.media(std::to_string(i), file, 20);
  }
  const TimelinePtr cut = b.done();
  const auto grid = angles_side_by_side(*cut, "talk");
  ASSERT_TRUE(grid) << grid.error().text();
  EXPECT_EQ((*grid)->duration(), 12);
  MediaCatalog media;
  const ProgramPtr program = Program::compile(*grid, media, {});
  const Image picture = test::frame_of(*program, 3);
  // Two columns, two rows: A and B above, C below on the left, nothing below on the right.
  const auto strongest = [&](int x, int y) {
    const auto p = test::pixel(picture, x, y);
    return p[3] < 0.5f ? -1 : static_cast<int>(std::max_element(p.begin(), p.begin() + 3) - p.begin());
  };
  EXPECT_EQ(strongest(40, 22), 0);
  EXPECT_EQ(strongest(120, 22), 1);
  EXPECT_EQ(strongest(40, 67), 2);
  EXPECT_EQ(strongest(120, 67), -1);
  ASSERT_TRUE(write_angles(*cut, "talk", dir / "angles.otio"));
  EXPECT_EQ((*load_timeline(dir / "angles.otio"))->tracks.size(), 3u);
  EXPECT_FALSE(write_angles(*cut, "talk", dir / "angles.otio")) << "what lies there stays";
  EXPECT_FALSE(angles_side_by_side(*cut, "nobody"));
  EXPECT_FALSE(angles_side_by_side(*test::Build().track("V1").solid("one", 5, 0, 0, 0).done(), "one"));
}

// ---- The commands ----------------------------------------------------------------------------------------------

class HandoverCommands : public test::Commands {};

TEST_F(HandoverCommands, PackAndOpen) {
  const std::string file = small(), folder = (dir_ / "travel").string();
  const test::Ran packed = gclk("pack " + file + " --to '" + folder + "' --json");
  ASSERT_EQ(packed.code, 0) << packed.out;
  EXPECT_EQ(packed.json()["media"], 1);
  const test::Ran opened = gclk("open '" + folder + "' --json");
  EXPECT_EQ(opened.code, 0) << opened.out;
  EXPECT_EQ(gclk("gate '" + opened.json()["timeline"].get<std::string>() + "' --quick").code, 0);
  fs::remove(dir_ / "travel" / "media" / (dir_ / "m.mp4").relative_path());
  EXPECT_EQ(gclk("open '" + folder + "' --json").code, 1) << "a file is gone";
  EXPECT_EQ(gclk("pack " + file + " --to '" + folder + "'").code, 3) << "the folder is not empty";
}

TEST_F(HandoverCommands, ConformMarkersAndLook) {
  const std::string file = small();
  const std::string list = "TITLE: CUT 2\nFCM: NON-DROP FRAME\n\n001  m  V  C  00:00:01:00 00:00:02:00 00:00:00:00 00:00:01:00\n* FROM CLIP NAME: m.mp4\n";
  test::put(dir_ / "cut2.edl", list);
  const test::Ran conformed = gclk("conform " + file + " '" + (dir_ / "cut2.edl").string() + "' --out '" + (dir_ / "cut2.otio").string() + "' --json");
  ASSERT_EQ(conformed.code, 0) << conformed.out;
  EXPECT_EQ(conformed.json()["moved"], 1) << conformed.out;
  EXPECT_EQ(conformed.json()["gone"], 1);
  test::put(dir_ / "notes.csv", "name,in,out\nReview,12,36\n");
  ASSERT_EQ(gclk("markers " + file + " --from '" + (dir_ / "notes.csv").string() + "'").code, 0);
  EXPECT_EQ(gclk("markers " + file + " --json").json()["markers"][0]["out"], 36);
  const test::Ran forecast = gclk("forecast " + file + " --range marker:Review --json");
  ASSERT_EQ(forecast.code, 0) << forecast.out;
  EXPECT_EQ(forecast.json()["in"], 12) << forecast.out;
  EXPECT_EQ(gclk("look " + file + " a --out '" + (dir_ / "a.cube").string() + "' --json").json()["taken"], Json({"g"}));
  EXPECT_EQ(gclk("set-timeline " + file + " --form rdd36 --json").json()["render_form"], "rdd36");
  EXPECT_EQ(gclk("set-timeline " + file + " --form tape").code, 2);
}

// A page of paper is read by poppler, as most viewers here do.
TEST_F(HandoverCommands, TheReportOnPaper) {
  const std::string file = small(), pdf = (dir_ / "report.pdf").string(), picture = (dir_ / "page").string();
  const test::Ran r = gclk("report " + file + " --out '" + pdf + "'", "'" + (dir_ / "why").string() + "'");
  ASSERT_EQ(r.code, 0) << r.out << *read_file(dir_ / "why");
  ASSERT_TRUE(test::shell("pdftoppm -r 50 -png -singlefile '" + pdf + "' '" + picture + "'"));
  ASSERT_TRUE(test::shell("pdftotext '" + pdf + "' '" + picture + ".txt'"));
  EXPECT_THAT(*read_file(picture + ".txt"), HasSubstr("What plays on this seat"));
  // Its letters can be read: a line of ten points is 11 to 14 points high.
  ASSERT_TRUE(test::shell("pdftotext -bbox '" + pdf + "' '" + picture + ".html'"));
  const std::string boxes = *read_file(picture + ".html");
  const auto word = boxes.find(">plays</word>"), line = boxes.rfind("<word", word);
  ASSERT_NE(word, std::string::npos);
  double top = 0, bottom = 0;
  ASSERT_EQ(std::sscanf(boxes.c_str() + boxes.find("yMin=", line), "yMin=\"%lf\"", &top), 1);
  ASSERT_EQ(std::sscanf(boxes.c_str() + boxes.find("yMax=", line), "yMax=\"%lf\"", &bottom), 1);
  EXPECT_GT(bottom - top, 11);
  const Image page = test::load_picture(picture + ".png");
  EXPECT_NEAR(static_cast<double>(page.height()) / page.width(), 297.0 / 210, 0.01) << "A4, ISO 216";
  int drawn = 0, white = 0;
  for (int y = 0; y < page.height(); ++y)
    for (int x = 0; x < page.width(); ++x) {
      const auto p = test::pixel(page, x, y);
      drawn += p[0] < 0.45f && p[0] > 0.05f && p[2] < 0.45f, white += p[0] > 0.95f;
    }
  EXPECT_GT(white, page.width() * page.height() / 3) << "dark letters on white";
  EXPECT_GT(drawn, 500) << "the load over time is drawn, dark on the white page";
  EXPECT_EQ(gclk("report " + file + " --out '" + pdf + "'").code, 3) << "what lies there stays";
}

}  // namespace
}  // namespace gc
