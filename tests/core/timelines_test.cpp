// Timelines as other programs write them.
#include <rapidcheck.h>

#include <random>

#include "desk/relink.h"
#include "documents.h"
#include "interchange/media_url.h"
#include "media/picture_file.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

// ---- Where media are (RFC 3986, RFC 8089) ---------------------------------------------------------------

TEST(MediaUrls, NameTheSameFileInEveryForm) {
  test::TempFolder dir;
  const std::string name = "a b#1 ü%.mov";
  test::put(dir / name, "x");
  const std::string path = (dir / name).string(), folder = dir.path().string();
  const std::string coded = "a%20b%231%20%C3%BC%25.mov";
  for (const std::string& url : {path, name, "./" + name, coded, "file://" + folder + "/" + coded,
                                 "file://localhost" + folder + "/" + coded, "file:" + folder + "/" + coded,
                                 "FILE://" + folder + "/" + coded, "file://" + path, url_of_path(path)}) {
    const MediaPath p = path_of_url(url, dir.path());
    EXPECT_EQ(p.path, path) << url << " " << p.remark;
  }
}

TEST(MediaUrls, OfOtherSystemsAreNoPathsAndSaySo) {
  for (const char* url : {"C:\\media\\a.mov", "file:///C:/media/a.mov", "C:/a.mov", "\\\\server\\share\\a.mov",
                          "file://server/share/a.mov", "http://host/a.mov", "rtsp://host/a", ""}) {
    const MediaPath p = path_of_url(url, "/work");
    EXPECT_EQ(p.path, "") << url;
    EXPECT_FALSE(p.remark.empty()) << url;
  }
}

TEST(MediaUrls, AnyPathComesBackFromItsUrl) {
  EXPECT_TRUE(rc::check([](const std::vector<std::uint8_t>& bytes) {
    std::string path = "/m";
    for (const std::uint8_t b : bytes)
      if (b != 0 && b != '/') path += static_cast<char>(b);
    RC_ASSERT(path_of_url(url_of_path(path), "/work").path == fs::path(path).lexically_normal().string());
  }));
}

// ---- What a file does not state -------------------------------------------------------------------------

Json time_of(double value, double rate) { return {{"OTIO_SCHEMA", "RationalTime.1"}, {"value", value}, {"rate", rate}}; }
Json range_of(double start, double length, double rate) {
  return {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time_of(start, rate)}, {"duration", time_of(length, rate)}};
}
Json clip_of(const std::string& url, const Json& range = nullptr, const Json& available = nullptr) {
  Json c = {{"OTIO_SCHEMA", "Clip.2"},
            {"name", "c"},
            {"source_range", range},
            {"media_references",
             {{"DEFAULT_MEDIA", {{"OTIO_SCHEMA", "ExternalReference.1"}, {"target_url", url}, {"available_range", available}}}}},
            {"active_media_reference_key", "DEFAULT_MEDIA"}};
  return c;
}
Json timeline_json(Json clips, const std::string& name = "T") {
  return {{"OTIO_SCHEMA", "Timeline.1"},
          {"name", name},
          {"tracks",
           {{"OTIO_SCHEMA", "Stack.1"},
            {"children", Json::array({{{"OTIO_SCHEMA", "Track.1"}, {"kind", "Video"}, {"name", "V1"}, {"children", std::move(clips)}}})}}}};
}
Result<TimelinePtr> open_json(const Json& j, const fs::path& folder, const std::string& which = "") {
  return timeline_from_otio(j.dump(), "t.otio", folder, reading_with(std::make_shared<MediaCatalog>(), which));
}
const Segment& only(const Timeline& t) { return *std::get<SegmentPtr>(t.tracks.front()->items.front()); }

TEST(Unstated, RateRasterAndLengthComeFromTheMedia) {
  test::TempFolder dir;
  ASSERT_TRUE(test::shell("ffmpeg -v error -f lavfi -i testsrc2=s=200x120:r=30000/1001:d=2 -c:v libx264 -pix_fmt yuv420p '" +
                          (dir / "a.mov").string() + "'"));
  const auto t = open_json(timeline_json({clip_of("a.mov"), clip_of("a.mov")}), dir.path());
  ASSERT_TRUE(t) << t.error().text();
  EXPECT_EQ((*t)->rate, (Rate{30000, 1001}));
  EXPECT_EQ((*t)->width, 200);
  EXPECT_EQ((*t)->height, 120);
  EXPECT_EQ(only(**t).duration, 60);
  EXPECT_FALSE((*t)->rate_stated);
  EXPECT_THAT((*t)->remarks, testing::Contains(testing::HasSubstr("no raster")));
  EXPECT_THAT((*t)->remarks, testing::Contains(testing::HasSubstr("no rate")));
  // And when the media are away it still opens.
  const auto away = open_json(timeline_json({clip_of("b.mov"), clip_of("c.mov", range_of(0, 48, 25))}), dir.path());
  ASSERT_TRUE(away) << away.error().text();
  EXPECT_EQ((*away)->rate, (Rate{25, 1}));
  EXPECT_EQ(only(**away).content, Content::offline);
  EXPECT_FALSE(only(**away).trouble.empty());
}

TEST(Unstated, TheRasterAndRateCanBeSet) {
  const auto t = open_json(timeline_json({clip_of("a.mov", range_of(50, 100, 25), range_of(0, 500, 25))}), "/work");
  ASSERT_TRUE(t);
  const auto faster = with_rate(**t, {50, 1});
  ASSERT_TRUE(faster) << faster.error().text();
  EXPECT_EQ((*faster)->rate, (Rate{50, 1}));
  EXPECT_EQ(only(**faster).duration, 200) << "four seconds stay four seconds";
  const auto again = timeline_from_otio(timeline_to_otio(**faster), "t", "/work");
  EXPECT_EQ((*again)->rate, (Rate{50, 1}));
}

// Media at 59.94 in a timeline at 24, starting at 30/24 s: frame floor(1.25 × 60000/1001) = 74.
TEST(WhichFrame, BetweenRatesIsTheOneWhoseTimeContainsTheMoment) {
  test::TempFolder dir;
  ASSERT_TRUE(test::shell("ffmpeg -v error -f lavfi -i testsrc2=s=64x36:r=60000/1001:d=4 -c:v libx264 -pix_fmt yuv420p '" +
                          (dir / "a.mov").string() + "'"));
  Json j = timeline_json({clip_of("a.mov", range_of(30, 24, 24))});
  j["global_start_time"] = time_of(0, 24);
  for (const Json& available : {Json(nullptr), range_of(0, 239, 59.94)}) {
    j["tracks"]["children"][0]["children"][0] = clip_of("a.mov", range_of(30, 24, 24), available);
    const auto t = open_json(j, dir.path());
    ASSERT_TRUE(t) << t.error().text();
    MediaCatalog media;
    const ProgramPtr p = Program::compile(*t, media);
    const CompiledSegment& s = *p->segments()[0];
    EXPECT_EQ(s.frame_at(0, p->timeline()->rate), 74);
    EXPECT_EQ(s.frame_at(1, p->timeline()->rate), 77);  // 31/24 × 60000/1001 = 77.4
    EXPECT_EQ(s.frame_at(23, p->timeline()->rate), 132);  // 53/24 × 60000/1001 = 132.4
  }
}

// A start that makes sense only as the file's own timecode is one (SMPTE ST 12-1, carried in a tmcd track).
TEST(WhichFrame, EmbeddedTimecodeCountsWhereTheTimelineMeansIt) {
  test::TempFolder dir;
  ASSERT_TRUE(test::shell("ffmpeg -v error -f lavfi -i testsrc2=s=64x36:r=25:d=4 -timecode 10:00:00:00 -c:v libx264 -pix_fmt yuv420p '" +
                          (dir / "a.mov").string() + "'"));
  const double ten = 10 * 3600 * 25;
  const auto at = [&](double start, const Json& available) {
    const auto t = open_json(timeline_json({clip_of("a.mov", range_of(start, 24, 25), available)}), dir.path());
    EXPECT_TRUE(t);
    return only(**t).source_in;
  };
  EXPECT_EQ(at(ten + 12, nullptr), 12) << "no range is stated: the media's own time";
  EXPECT_EQ(at(12, nullptr), 12) << "which may be counted from 0";
  EXPECT_EQ(at(ten + 12, range_of(ten, 100, 25)), 12) << "as the standard has it";
  EXPECT_EQ(at(12, range_of(0, 100, 25)), 12);
  EXPECT_EQ(at(ten + 12, range_of(0, 100, 25)), 12) << "a range that leaves the timecode out";
}

TEST(Timecode, DropsNumbersAsTheFileSays) {
  Json j = timeline_json({clip_of("a.mov", range_of(0, 100, 29.97), range_of(0, 500, 29.97))});
  j["global_start_time"] = time_of(107892, 29.97);
  EXPECT_EQ(timecode_at(**open_json(j, "/"), 0), "01:00:00;00");
  j["metadata"] = {{"editor", {{"dropFrame", false}}}};
  const TimelinePtr t = *open_json(j, "/");
  EXPECT_EQ(timecode_at(*t, 0), "00:59:56:12");  // 107892 = 3596 × 30 + 12
  EXPECT_EQ(parse_timecode("00:59:56:12", t->rate, t->drop_frame), 107892);
  auto own = std::make_shared<Timeline>(*t);
  own->drop_frame = true;
  EXPECT_EQ(timecode_at(**timeline_from_otio(timeline_to_otio(*own), "t", "/"), 0), "01:00:00;00");
}

// ---- Shapes ---------------------------------------------------------------------------------------------

TEST(Collections, OpenTheTimelineThatIsChosenAndKeepTheRest) {
  Json note = {{"OTIO_SCHEMA", "Marker.2"}, {"name", "n"}};
  Json c = {{"OTIO_SCHEMA", "SerializableCollection.1"},
            {"metadata", {{"who", 1}}},
            {"children", Json::array({note, timeline_json({clip_of("a.mov", range_of(0, 10, 24))}, "One"),
                                      timeline_json({clip_of("b.mov", range_of(0, 20, 24))}, "Two")})}};
  EXPECT_EQ(timelines_in(c.dump()), (std::vector<std::string>{"One", "Two"}));
  const auto unclear = open_json(c, "/w");
  ASSERT_FALSE(unclear);
  EXPECT_THAT(unclear.error().text(), testing::HasSubstr("1 'One', 2 'Two'"));
  for (const char* which : {"Two", "2"}) {
    const auto t = open_json(c, "/w", which);
    ASSERT_TRUE(t) << t.error().text();
    EXPECT_EQ(only(**t).duration, 20);
    const Json back = Json::parse(timeline_to_otio(**t));
    EXPECT_EQ(back["children"][0], c["children"][0]);
    EXPECT_EQ(back["children"][1], c["children"][1]);
    EXPECT_EQ(back["children"][2]["name"], "Two");
    EXPECT_EQ(back["metadata"], c["metadata"]);
  }
}

TEST(Tracks, ThatShowAPartOfThemselvesAreTrimmed) {
  Json j = timeline_json({clip_of("a.mov", range_of(0, 30, 24), range_of(0, 90, 24)), clip_of("b.mov", range_of(0, 30, 24), range_of(0, 90, 24))});
  j["tracks"]["children"][0]["source_range"] = range_of(20, 25, 24);
  const auto t = open_json(j, "/w");
  ASSERT_TRUE(t) << t.error().text();
  EXPECT_EQ((*t)->duration(), 25);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(*t, media);
  const CompiledSegment& outer = *p->segments()[0];
  ASSERT_TRUE(outer.inner);
  EXPECT_EQ(outer.frame_at(0, p->timeline()->rate), 20);
  EXPECT_EQ(outer.inner->segments()[1]->in, 30) << "the second clip begins at frame 10 of what is shown";
  // It is written as it was read.
  const Json back = Json::parse(timeline_to_otio(**t));
  EXPECT_EQ(back["tracks"]["children"].size(), 1u);
  EXPECT_EQ(back["tracks"]["children"][0]["source_range"], j["tracks"]["children"][0]["source_range"]);
  EXPECT_EQ(back["tracks"]["children"][0]["children"].size(), 2u);
  // And so is the whole.
  Json whole = timeline_json({clip_of("a.mov", range_of(0, 30, 24), range_of(0, 90, 24))});
  whole["tracks"]["source_range"] = range_of(5, 10, 24);
  const auto w = open_json(whole, "/w");
  EXPECT_EQ((*w)->duration(), 10);
  EXPECT_EQ(Json::parse(timeline_to_otio(**w))["tracks"]["children"][0]["children"].size(), 1u);
}

TEST(Tracks, InTracksAndOfUnknownKindsAreKept) {
  Json inner = {{"OTIO_SCHEMA", "Track.1"}, {"name", "in"}, {"kind", "Video"},
                {"children", Json::array({clip_of("a.mov", range_of(0, 30, 24), range_of(0, 90, 24))})}};
  Json j = timeline_json({inner});
  j["tracks"]["children"].push_back({{"OTIO_SCHEMA", "Track.1"}, {"name", "S1"}, {"kind", "Subtitle"}, {"children", Json::array()},
                                     {"effects", Json::array()}});
  j["tracks"]["children"][0]["effects"] = Json::array({{{"OTIO_SCHEMA", "Effect.1"}, {"effect_name", "x"}}});
  const auto t = open_json(j, "/w");
  ASSERT_TRUE(t) << t.error().text();
  EXPECT_EQ((*t)->duration(), 30);
  EXPECT_EQ(only(**t).content, Content::composition);
  EXPECT_FALSE((*t)->tracks[1]->video);
  EXPECT_THAT((*t)->remarks, testing::Contains(testing::HasSubstr("Subtitle")));
  EXPECT_THAT((*t)->remarks, testing::Contains(testing::HasSubstr("not played")));
  const Json back = Json::parse(timeline_to_otio(**t));
  EXPECT_EQ(back["tracks"]["children"][1]["kind"], "Subtitle");
  EXPECT_EQ(back["tracks"]["children"][0]["children"][0]["OTIO_SCHEMA"], "Track.1");
  EXPECT_EQ(back["tracks"]["children"][0]["children"][0]["children"].size(), 1u);
}

// ---- Everything unknown survives ------------------------------------------------------------------------

/// Documents of the schema (OpenTimelineIO, "Serialized Schema Documentation"), with things in them that no one knows.
class Documents {
 public:
  explicit Documents(std::uint64_t seed) : any_(seed) {}
  Json timeline() {
    Json t = object("Timeline.1");
    if (often()) t["global_start_time"] = maybe_null(time());
    Json stack = object("Stack.1");
    stack["children"] = Json::array();
    for (int n = upto(3); n >= 0; --n) stack["children"].push_back(child_of_stack(3));
    t["tracks"] = std::move(stack);
    return t;
  }

 private:
  int upto(int n) { return static_cast<int>(any_() % static_cast<unsigned>(n + 1)); }
  bool often() { return any_() % 4 != 0; }
  bool seldom() { return any_() % 6 == 0; }
  Json maybe_null(Json j) { return seldom() ? Json(nullptr) : std::move(j); }
  Json anything(int depth = 0) {
    switch (upto(depth > 2 ? 5 : 7)) {
      case 0: return nullptr;
      case 1: return seldom();
      case 2: return static_cast<std::int64_t>(any_()) - (std::int64_t{1} << 40);
      case 3: return static_cast<double>(any_()) / 977;
      case 4: return "t\u00fc\"xt\n" + std::to_string(any_() % 100);
      case 5: return "";
      case 6: {
        Json a = Json::array();
        for (int n = upto(3); n > 0; --n) a.push_back(anything(depth + 1));
        return a;
      }
      default: {
        Json o = Json::object();
        for (int n = upto(3); n > 0; --n) o["k" + std::to_string(any_() % 50)] = anything(depth + 1);
        return o;
      }
    }
  }
  Json object(const char* schema) {
    Json o = {{"OTIO_SCHEMA", schema}};
    if (often()) o["name"] = maybe_null("n" + std::to_string(any_() % 9));
    if (often()) o["metadata"] = seldom() ? anything() : Json{{"someone", anything()}};
    if (seldom()) o["unknown_" + std::to_string(any_() % 9)] = anything();
    if (seldom()) o["enabled"] = maybe_null(seldom());
    if (seldom()) o["color"] = anything();
    if (seldom()) o["markers"] = anything();
    return o;
  }
  Json time() { return {{"OTIO_SCHEMA", "RationalTime.1"}, {"value", upto(200)}, {"rate", upto(1) ? 24.0 : 30.0}}; }
  Json range() {
    Json r = {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time()}, {"duration", time()}};
    if (seldom()) r["note"] = anything();
    return r;
  }
  Json reference() {
    switch (upto(4)) {
      case 0: return object("MissingReference.1");
      case 1: {
        Json g = object("GeneratorReference.1");
        g["generator_kind"] = "bars", g["parameters"] = Json::object();
        return g;
      }
      case 2: {
        Json s = object("ImageSequenceReference.1");
        s["target_url_base"] = "seq", s["name_prefix"] = "p.", s["name_suffix"] = ".exr", s["start_frame"] = upto(9);
        s["frame_step"] = 1, s["rate"] = 24, s["frame_zero_padding"] = 4, s["available_range"] = maybe_null(range());
        return s;
      }
      default: {
        Json e = object(seldom() ? "ExternalReference.9" : "ExternalReference.1");
        e["target_url"] = maybe_null("m" + std::to_string(any_() % 3) + ".mov");
        e["available_range"] = maybe_null(range());
        return e;
      }
    }
  }
  Json item(int depth) {
    Json o;
    switch (upto(depth > 0 ? 6 : 4)) {
      case 0:
        o = object("Gap.1");
        break;
      case 1: {
        o = object("Transition.1");
        o["transition_type"] = seldom() ? "Custom" : "SMPTE_Dissolve", o["in_offset"] = time(), o["out_offset"] = time();
        return o;
      }
      case 2: {
        o = object(seldom() ? "Widget.3" : "Clip.1");
        o["media_reference"] = maybe_null(reference());
        break;
      }
      case 5:
      case 6:
        return child_of_stack(depth - 1);
      default: {
        o = object("Clip.2");
        o["media_references"] = {{"DEFAULT_MEDIA", reference()}};
        if (seldom()) o["media_references"]["proxy"] = reference();
        o["active_media_reference_key"] = seldom() ? "proxy" : "DEFAULT_MEDIA";
      }
    }
    if (often()) o["source_range"] = maybe_null(range());
    if (seldom()) o["effects"] = maybe_null(Json::array({effect()}));
    return o;
  }
  Json effect() {
    Json e = object(upto(2) ? "Effect.1" : "LinearTimeWarp.1");
    e["effect_name"] = "whatever", e["time_scalar"] = 0.5;
    return e;
  }
  Json child_of_stack(int depth) {
    Json t = object(upto(3) ? "Track.1" : "Stack.1");
    if (often() && t["OTIO_SCHEMA"] == "Track.1") t["kind"] = seldom() ? "Captions" : "Video";
    if (seldom()) t["source_range"] = maybe_null(range());
    if (seldom()) t["effects"] = Json::array({effect()});
    t["children"] = Json::array();
    for (int n = upto(4); n > 0; --n) t["children"].push_back(seldom() && depth > 0 ? anything() : item(depth));
    return t;
  }

  std::mt19937_64 any_;
};

TEST(Unknown, EverythingSurvivesASave) {
  EXPECT_TRUE(rc::check([](std::uint64_t seed) {
    const Json document = Documents(seed).timeline();
    const auto t = timeline_from_otio(document.dump(), "r.otio", "/w");
    if (!t) RC_FAIL("refused: " + t.error().text() + "\n" + document.dump(1));
    bool had = false;
    std::string where;
    const Json back = test::without_ours(Json::parse(timeline_to_otio(**t)), had);
    RC_ASSERT(had);
    if (!test::same_document(document, back, "", where)) RC_FAIL(where + "\n" + document.dump(1));
    // And a second time, from what was written.
    const auto again = timeline_from_otio(timeline_to_otio(**t), "r.otio", "/w");
    RC_ASSERT(again.has_value());
    bool had_again = false;
    if (!test::same_document(document, test::without_ours(Json::parse(timeline_to_otio(**again)), had_again), "", where)) RC_FAIL("again: " + where + "\n" + document[Json::json_pointer(where)].dump(1) + "\n" + Json::parse(timeline_to_otio(**again))[Json::json_pointer(where)].dump(1));
  }));
}

// ---- Relinking ------------------------------------------------------------------------------------------

TEST(Relinking, FindsFilesByNameAndByContent) {
  test::TempFolder dir;
  fs::create_directories(dir / "new/deep");
  const std::string a = test::movie(dir / "new/deep/a.mp4", Form::h264_intra, 64, 36, 20);
  test::movie(dir / "new/other name.mp4", Form::h264_intra, 64, 36, 31);
  const Json j = timeline_json({clip_of("old/a.mp4", range_of(0, 10, 24), range_of(0, 20, 24)),
                                clip_of("old/b.mp4", range_of(0, 10, 24), range_of(0, 31, 24)),
                                clip_of("old/c.mp4", range_of(0, 10, 24), range_of(0, 77, 24))});
  const TimelinePtr t = *open_json(j, dir.path());
  MediaCatalog media;
  const auto by_name = relink(t, media, dir / "new", RelinkBy::name);
  ASSERT_TRUE(by_name) << by_name.error().text();
  ASSERT_EQ(by_name->found.size(), 1u);
  EXPECT_EQ(by_name->found[0].to, a);
  EXPECT_EQ(by_name->not_found.size(), 2u);
  const auto by_content = relink(by_name->timeline, media, dir / "new", RelinkBy::content);
  ASSERT_EQ(by_content->found.size(), 1u);
  EXPECT_EQ(by_content->found[0].to, (dir / "new/other name.mp4").string());
  // Written, and nothing else changed.
  const Json back = Json::parse(timeline_to_otio(*by_content->timeline));
  const Json& clips = back["tracks"]["children"][0]["children"];
  EXPECT_EQ(clips[1]["media_references"]["DEFAULT_MEDIA"]["target_url"], url_of_path((dir / "new/other name.mp4").string()));
  EXPECT_EQ(clips[2]["media_references"], j["tracks"]["children"][0]["children"][2]["media_references"]);
  const auto again = timeline_from_otio(back.dump(), "t", dir.path());
  EXPECT_EQ((*again)->sources.at(only(**again).ref)->path, a);
}

// ---- Pictures as files ----------------------------------------------------------------------------------

TEST(PictureFiles, ComeBackAsTheyWere) {
  test::TempFolder dir;
  Image picture = synthetic_frame("hands", 3, 96, 54, 7, 0);
  for (const auto& [name, tolerance] : {std::pair("p.png", 1.0 / 65535), std::pair("p.tif", 1.0 / 65535),
                                        std::pair("p.exr", 1e-6), std::pair("p.dpx", 0.6 / 1023)}) {
    ASSERT_TRUE(write_picture(picture, dir / name)) << name;
    EXPECT_LT(test::greatest_difference(test::load_picture(dir / name), picture), tolerance) << name;
  }
  EXPECT_EQ(write_picture(picture, dir / "p.xyz").error().fault, Fault::usage);
}

}  // namespace
}  // namespace gc
