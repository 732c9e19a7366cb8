// Interchange, against the OpenTimelineIO schemas as they are published (Timeline.1, Stack.1, Track.1,
// Clip.2, Gap.1, Transition.1, Effect.1, LinearTimeWarp.1, FreezeFrame.1, Marker.2, ExternalReference.1,
// MissingReference.1, GeneratorReference.1, RationalTime.1, TimeRange.1). The documents are written by hand
// after those schemas.
#include "interchange/otio.h"

#include "support.h"

namespace gc {
namespace {

std::string time_of(double value, double rate = 24) {
  return R"({"OTIO_SCHEMA":"RationalTime.1","rate":)" + std::to_string(rate) + R"(,"value":)" +
         std::to_string(value) + "}";
}
std::string range_of(double start, double length, double rate = 24) {
  return R"({"OTIO_SCHEMA":"TimeRange.1","start_time":)" + time_of(start, rate) + R"(,"duration":)" +
         time_of(length, rate) + "}";
}
std::string timeline_of(const std::string& items, const std::string& more = "") {
  return R"({"OTIO_SCHEMA":"Timeline.1","name":"T","metadata":{"other":{"keep":[1,2,{"x":null}]}},"unknown_field":7,"global_start_time":)" +
         time_of(86400) +
         R"(,"tracks":{"OTIO_SCHEMA":"Stack.1","name":"tracks","children":[{"OTIO_SCHEMA":"Track.1","name":"V1","kind":"Video","children":[)" +
         items + "]}" + more + "]}}";
}
std::string clip(const std::string& name, double start, double length, const std::string& extra = "") {
  return R"({"OTIO_SCHEMA":"Clip.2","name":")" + name + R"(","source_range":)" + range_of(start, length) +
         R"(,"media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"ExternalReference.1","target_url":"media/a.mov","available_range":)" +
         range_of(0, 200) + R"(,"metadata":{"reel":"A001"}}},"active_media_reference_key":"DEFAULT_MEDIA")" +
         extra + "}";
}

Result<TimelinePtr> read(const std::string& text) { return timeline_from_otio(text, "t.otio", "/work"); }

/// True when everything in `a` is in `b` with the same value; `b` may have more (our own metadata).
bool contains(const Json& b, const Json& a, std::string& path) {
  if (a.is_object()) {
    for (const auto& [key, value] : a.items()) {
      const std::string before = path;
      path += "/" + key;
      if (!b.is_object() || !b.contains(key) || !contains(b[key], value, path)) return false;
      path = before;
    }
    return true;
  }
  if (a.is_array()) {
    if (!b.is_array() || a.size() != b.size()) return false;
    for (std::size_t i = 0; i < a.size(); ++i) {
      const std::string before = path;
      path += "/" + std::to_string(i);
      if (!contains(b[i], a[i], path)) return false;
      path = before;
    }
    return true;
  }
  return a == b;
}

TEST(Otio, EverySchemaSurvivesARoundTripUnchanged) {
  const std::string effects =
      R"(,"effects":[{"OTIO_SCHEMA":"LinearTimeWarp.1","name":"","effect_name":"LinearTimeWarp","time_scalar":0.5,"metadata":{}},
      {"OTIO_SCHEMA":"FreezeFrame.1","name":"","effect_name":"FreezeFrame","time_scalar":0,"metadata":{}},
      {"OTIO_SCHEMA":"Effect.1","name":"Glow","effect_name":"someone.glow","metadata":{"vendor":{"amount":3}}},
      {"OTIO_SCHEMA":"Effect.1","name":"Grade","effect_name":"cdl","metadata":{"glass_clock":{"id":"g1","params":{"slope":[1.1,1,1],"strange":5}}}}],
      "markers":[{"OTIO_SCHEMA":"Marker.2","name":"m","color":"RED","marked_range":)" +
      range_of(3, 1) + "}]";
  const std::string text = timeline_of(
      clip("A", 10, 48, effects) +
      R"(,{"OTIO_SCHEMA":"Transition.1","name":"x","transition_type":"SMPTE_Dissolve","in_offset":)" +
      time_of(5) + R"(,"out_offset":)" + time_of(5) + R"(,"metadata":{"q":1}},)" + clip("B", 60, 48) +
      R"(,{"OTIO_SCHEMA":"Gap.1","name":"","source_range":)" + range_of(0, 12) +
      R"(},{"OTIO_SCHEMA":"Clip.2","name":"Lost","source_range":)" + range_of(0, 10) +
      R"(,"media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"MissingReference.1","name":"lost"}},"active_media_reference_key":"DEFAULT_MEDIA"},
      {"OTIO_SCHEMA":"Hologram.3","source_range":)" +
      range_of(0, 7) + R"(,"depth":[1,2]},
      {"OTIO_SCHEMA":"Clip.2","name":"Card","source_range":)" +
      range_of(0, 10) +
      R"(,"media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"GeneratorReference.1","generator_kind":"title","parameters":{"text":"Hi"}}},"active_media_reference_key":"DEFAULT_MEDIA"},
      {"OTIO_SCHEMA":"Stack.1","name":"Comp","source_range":)" +
      range_of(0, 20) +
      R"(,"metadata":{"glass_clock":{"composition":"c1"}},"children":[{"OTIO_SCHEMA":"Track.1","kind":"Video","name":"in","children":[)" +
      clip("C", 0, 20) + "]}]}");
  const auto t = read(text);
  ASSERT_TRUE(t) << t.error().text();
  const Json before = Json::parse(text), after = Json::parse(timeline_to_otio(**t));
  std::string path;
  EXPECT_TRUE(contains(after, before, path)) << "lost or changed at " << path;
  // And a second trip changes nothing at all.
  const auto again = read(after.dump());
  ASSERT_TRUE(again);
  EXPECT_EQ(Json::parse(timeline_to_otio(**again)), after);
}

TEST(Otio, MeansWhatItSays) {
  const auto t = read(
      timeline_of(clip("A", 10, 48, R"(,"effects":[{"OTIO_SCHEMA":"LinearTimeWarp.1","time_scalar":0.5}])")));
  ASSERT_TRUE(t);
  const SegmentPtr s = std::get<SegmentPtr>((*t)->tracks[0]->items[0]);
  EXPECT_EQ(s->source_in, 10);
  EXPECT_EQ(s->duration, 48);
  EXPECT_EQ(s->speed, (Ratio{1, 2}));
  EXPECT_EQ((*t)->start, 86400);
  EXPECT_EQ((*t)->sources.begin()->second->path, "/work/media/a.mov");
  EXPECT_EQ((*t)->rate, (Rate{24, 1}));
}

TEST(Otio, SlipsAndBypassesAreKeptInTheFile) {
  const auto t = read(timeline_of(clip(
      "A", 0, 48,
      R"(,"effects":[{"OTIO_SCHEMA":"Effect.1","effect_name":"blur","metadata":{"glass_clock":{"id":"b","params":{"sigma":3}}}}],"metadata":{"glass_clock":{"id":"a"}})")));
  ASSERT_TRUE(t);
  const TimelinePtr off = with_bypass(**t, "a", "b", true, "now");
  const auto again = read(timeline_to_otio(*off));
  ASSERT_TRUE(again);
  EXPECT_TRUE(bypassed(**again, "a", "b"));
}

TEST(Otio, ACompositionMayBeUsedTwiceButNotInsideItself) {
  const std::string inner =
      R"({"OTIO_SCHEMA":"Track.1","kind":"Video","name":"in","children":[)" + clip("C", 0, 20) + "]}";
  const auto use = [&](const std::string& id, const std::string& children) {
    return R"({"OTIO_SCHEMA":"Stack.1","name":")" + id + R"(","source_range":)" + range_of(0, 20) +
           R"(,"metadata":{"glass_clock":{"composition":")" + id + R"("}},"children":[)" + children + "]}";
  };
  const auto shared = read(timeline_of(use("c", inner) + "," + use("c", "")));
  ASSERT_TRUE(shared);
  EXPECT_EQ((*shared)->compositions.size(), 1u);
  const std::string around =
      R"({"OTIO_SCHEMA":"Track.1","kind":"Video","name":"in","children":[)" +
      use("b", R"({"OTIO_SCHEMA":"Track.1","kind":"Video","children":[)" + use("a", "") + "]}") + "]}";
  const auto cycle = read(timeline_of(use("a", around)));
  ASSERT_FALSE(cycle);
  EXPECT_THAT(cycle.error().text(), testing::HasSubstr("contains itself"));
  EXPECT_THAT(cycle.error().text(), testing::HasSubstr("a → b → a"));
}

TEST(Otio, HostileFilesAreRefusedWithAPlace) {
  const std::vector<std::pair<std::string, std::string>> bad{
      {"", "empty"},
      {"[]", "not a timeline"},
      {"{\"OTIO_SCHEMA\":\"Clip.2\"}", "not a timeline"},
      {timeline_of(clip("A", 0, 10)).substr(0, 400), "JSON"},
      {timeline_of(R"({"OTIO_SCHEMA":"Gap.1","source_range":{"duration":{"value":1e400,"rate":24}}})"), ""},
      {R"({"OTIO_SCHEMA":"Timeline.1","tracks":{"OTIO_SCHEMA":"Stack.1","children":{}}})", "not a list"},
      {R"({"OTIO_SCHEMA":"Timeline.1","metadata":{"glass_clock":{"version":99}},"tracks":{"OTIO_SCHEMA":"Stack.1","children":[]}})",
       "newer version"},
      {R"({"OTIO_SCHEMA":"Timeline.1","metadata":{"glass_clock":{"width":-4}},"tracks":{"OTIO_SCHEMA":"Stack.1","children":[]}})",
       "width"},
      {std::string(3000, '{'), ""},
  };
  for (const auto& [text, expected] : bad) {
    const auto r = read(text);
    ASSERT_FALSE(r) << text.substr(0, 80);
    EXPECT_EQ(r.error().fault, Fault::bad_input);
    EXPECT_THAT(r.error().text(), testing::HasSubstr("t.otio"));
    EXPECT_THAT(r.error().text(), testing::HasSubstr(expected)) << r.error().text();
    EXPECT_FALSE(r.error().remedy.empty());
  }
}

// One bad item is one offline segment, or a gap, with its reason; the file opens, and is written back as it was.
TEST(Otio, ABadItemIsOfflineWithItsReasonAndTheRestPlays) {
  const std::string no_url = R"({"OTIO_SCHEMA":"Clip.2","name":"B","source_range":)" + range_of(0, 10) +
                             R"(,"media_references":{"DEFAULT_MEDIA":{"OTIO_SCHEMA":"ExternalReference.1","target_url":""}}})";
  const std::string no_length = R"({"OTIO_SCHEMA":"Clip.2","name":"C","media_references":{"DEFAULT_MEDIA":)"
                                R"({"OTIO_SCHEMA":"ExternalReference.1","target_url":"nowhere.mov"}}})";
  const std::vector<std::pair<std::string, std::string>> bad{
      {clip("A", 0, -10), "negative duration"},
      {clip("A", 0, 1e11), "frames"},
      {R"({"OTIO_SCHEMA":"Gap.1","source_range":{"duration":{"value":10,"rate":0}}})", "rate"},
      {"5", "children[1]"},
      {no_url, "names no file"},
      {no_length, "how long"},
      {R"({"OTIO_SCHEMA":"Clip.2","name":"D","source_range":5,"effects":[7]})", ""},
  };
  for (const auto& [item, expected] : bad) {
    const std::string text = timeline_of(clip("before", 0, 10) + "," + item + "," + clip("after", 20, 30));
    const auto t = read(text);
    ASSERT_TRUE(t) << item << ": " << t.error().text();
    EXPECT_THAT((*t)->remarks, testing::Contains(testing::HasSubstr(expected))) << item;
    const auto segments = video_segments(**t);
    ASSERT_GE(segments.size(), 2u) << item;
    EXPECT_EQ(segments.front()->name, "before");
    EXPECT_EQ(segments.back()->name, "after");
    EXPECT_EQ(segments.back()->source_in, 20);
    std::string path;
    EXPECT_TRUE(contains(Json::parse(timeline_to_otio(**t)), Json::parse(text), path)) << item << " at " << path;
  }
}

TEST(Otio, CutOffAnywhereItNeverCrashes) {
  const std::string whole = timeline_of(clip("A", 0, 10) + "," + clip("B", 0, 10));
  for (std::size_t n = 0; n < whole.size(); n += 3) EXPECT_FALSE(read(whole.substr(0, n)));
  // One byte changed anywhere: read or refused, never worse.
  for (std::size_t n = 0; n < whole.size(); n += 5) {
    std::string changed = whole;
    changed[n] = static_cast<char>(changed[n] ^ 0x15);
    (void)read(changed);
  }
}

TEST(Otio, AReadOnlyFolderLeavesTheFileAsItWas) {
  const test::TempFolder dir;
  const auto t = read(timeline_of(clip("A", 0, 10)));
  ASSERT_TRUE(t);
  const auto r = save_timeline(**t, dir / "missing/x.otio");
  ASSERT_FALSE(r);
  EXPECT_EQ(r.error().fault, Fault::environment);
}

}  // namespace
}  // namespace gc
