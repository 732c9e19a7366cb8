// Timelines and lists as other programs write them, by hand from the published forms: OpenTimelineIO's schemas (its document
// "Serialized Schema Documentation"), each at its version, and CMX 3600. What each holds was worked out by hand.
#include "commands.h"
#include "documents.h"
#include "interchange/edl.h"
#include "support.h"

namespace gc {
namespace {

/// A track's items one after another: name, frames @ first source frame (its own rate where it is another), and what is unusual.
std::string sketch_of(const Track& track) {
  std::string all = track.video ? "V:" : "A:";
  for (const Item& item : track.items) {
    all += all.size() > 2 ? ", " : " ";
    if (const auto* g = std::get_if<Gap>(&item)) all += fmt::format("gap {}", g->duration);
    else if (const auto* t = std::get_if<Transition>(&item)) all += fmt::format("{} {}+{}", t->kind, t->in_offset, t->out_offset);
    else if (const auto* o = std::get_if<Opaque>(&item)) all += fmt::format("{} {}", o->schema, o->duration);
    else {
      const Segment& s = **std::get_if<SegmentPtr>(&item);
      all += fmt::format("{} {}@{}", s.name, s.duration, s.source_in);
      if (s.content == Content::generator) all += " generator";
      if (s.content == Content::composition) all += " composition";
      if (s.content == Content::offline) all += " offline";
      if (s.speed != Ratio{1, 1}) all += fmt::format(" x{}/{}", s.speed.num, s.speed.den);
      if (!s.angles.empty()) all += fmt::format(" {} of {}", s.angle, s.angles.size());
      if (!s.stack.empty()) all += fmt::format(" {} effects", s.stack.size());
      if (!s.enabled) all += " off";
    }
  }
  return all;
}
std::string sketch_of(const Timeline& t) {
  std::string all = fmt::format("{}/{} from {}", t.rate.num, t.rate.den, t.start);
  for (const TrackPtr& track : t.tracks) all += "; " + sketch_of(*track);
  return all;
}

struct Example {
  const char* file;
  const char* holds;
};
constexpr Example kTimelines[] = {
    {"cuts.otio", "24/1 from 0; V: Bowl 24@10, Hands 36@0"},
    {"clip-1.otio", "24/1 from 0; V: Bowl 24@0, Hands 24@12"},
    {"gap.otio", "24/1 from 0; V: Bowl 24@0, gap 12, Hands 24@0"},
    {"missing.otio", "24/1 from 0; V: Lost 24@0 offline, Hands 24@0"},
    {"generator.otio", "24/1 from 0; V: Bars 48@0 generator"},
    {"sequence.otio", "24/1 from 0; V: Dust 24@5"},
    {"references.otio", "24/1 from 0; V: Wheel 24@0 second camera of 2"},
    {"stack-effects.otio", "24/1 from 0; V: Bowl 24@0"},
    {"nested.otio", "24/1 from 0; V: Before 12@0, Inner 24@6 composition"},
    {"nested-effects.otio", "24/1 from 0; V: Inner 48@0 composition 1 effects"},
    {"nested-track.otio", "24/1 from 0; V: Before 12@0, Inside 24@0 composition"},
    {"warp.otio", "24/1 from 0; V: Twice 24@0 x2/1 1 effects, Half 24@0 x1/2 1 effects"},
    {"freeze.otio", "24/1 from 0; V: Still 24@30 x0/1 1 effects"},
    {"backwards.otio", "24/1 from 0; V: Back 24@40 x-1/1 1 effects"},
    {"dissolve.otio", "24/1 from 0; V: Bowl 24@10, dissolve 6+4, Hands 24@20"},
    {"custom-transition.otio", "24/1 from 0; V: Bowl 24@10, Custom_Transition 6+4, Hands 24@20"},
    {"markers.otio", "24/1 from 0; V: Bowl 24@10"},
    {"bounds.otio", "24/1 from 0; V: Bowl 24@0"},
    {"collection.otio", "24/1 from 0; V: Bowl 24@0"},
    {"rates.otio", "24/1 from 0; V: Bowl 24@0, Fast 24@30"},
    {"start.otio", "30000/1001 from 107892; V: Bowl 30@0"},
    {"unknown.otio", "24/1 from 0; V: Bowl 24@0, SomebodysThing.7 12"},
    {"audio.otio", "24/1 from 0; V: Bowl 24@0; A: Bowl, sound 24@0"},
    {"trimmed-track.otio", "24/1 from 0; V: V1 24@12 composition"},
    {"disabled.otio", "24/1 from 0; V: Bowl 24@0; V: Hands 24@0 off"},
    {"whole-clips.otio", "24/1 from 0; V: Bowl 48@0, Hands 24@0"},
    {"infinite.otio", "24/1 from 0; V: Bowl 24@0"},
};

class CorpusTimelines : public testing::TestWithParam<Example> {};
INSTANTIATE_TEST_SUITE_P(Each, CorpusTimelines, testing::ValuesIn(kTimelines), [](const auto& p) {
  std::string name = p.param.file;
  std::ranges::replace_if(name, [](char c) { return !std::isalnum(static_cast<unsigned char>(c)); }, '_');
  return name;
});

TEST_P(CorpusTimelines, HoldWhatTheirDocumentsSayAndLoseNothing) {
  // Read and written in one folder: elsewhere relative addresses of media become others.
  const test::TempFolder dir;
  const fs::path file = dir / GetParam().file;
  fs::copy_file(fs::path(GCLK_CORPUS) / GetParam().file, file);
  const auto t = load_timeline(file);
  ASSERT_TRUE(t) << t.error().text();
  EXPECT_EQ(sketch_of(**t), GetParam().holds);
  ASSERT_TRUE(save_timeline(**t, dir / "back.otio"));
  bool ours = false;
  std::string where;
  const Json was = *parse_json(*read_file(file), "corpus"), is = test::without_ours(*parse_json(*read_file(dir / "back.otio"), "back"), ours);
  EXPECT_TRUE(test::same_document(was, is, "", where)) << "lost or changed at " << where;
  const auto again = load_timeline(dir / "back.otio");
  ASSERT_TRUE(again) << again.error().text();
  EXPECT_EQ(sketch_of(**again), GetParam().holds);
}

constexpr Example kLists[] = {
    {"cuts.edl", "24/1 from 86400; V: BOWL 24@240, HANDS 36@12"},
    {"dissolve.edl", "24/1 from 86400; V: KILN01 24@240, dissolve 0+10, HANDS 24@0"},
    {"wipe.edl", "24/1 from 86400; V: KILN01 24@240, wipe 0+12, KILN02 24@0"},
    {"speed.edl", "24/1 from 86400; V: KILN01 24@240 x2/1, KILN02 24@0 x1/2"},
    {"grades.edl", "24/1 from 86400; V: BOWL 24@240 1 effects, KILN02 24@0"},
    {"drop.edl", "30000/1001 from 1790; V: KILN01 20@1790, KILN02 30@0"},
    {"black.edl", "24/1 from 86400; V: BL 24@0 generator, KILN01 24@240, gap 24, KILN02 24@0"},
    {"sound.edl", "24/1 from 86400; V: KILN01 24@240, KILN02 24@0"},
};

class CorpusLists : public testing::TestWithParam<Example> {};
INSTANTIATE_TEST_SUITE_P(Each, CorpusLists, testing::ValuesIn(kLists), [](const auto& p) {
  std::string name = p.param.file;
  return name.substr(0, name.find('.'));
});

TEST_P(CorpusLists, HoldWhatTheyCount) {
  const fs::path file = fs::path(GCLK_CORPUS) / GetParam().file;
  EdlOptions o;
  const bool drop = std::string(GetParam().file) == "drop.edl";
  if (drop) o.rate = {30000, 1001};
  // Reel 1 begins at 01:00:00:00, that of dropped numbers at 00:00:00:00; reel 2 at 02:00:00:00 (SMPTE ST 12-1: 215 784 frames).
  o.find = [&](const std::string& reel, const std::string&, const std::string&) -> std::optional<EdlOptions::Medium> {
    return EdlOptions::Medium{"/media/" + reel + ".mov", reel == "KILN01" ? (drop ? 0 : 86400) : (drop ? 215784 : 172800), 10000};
  };
  const auto t = timeline_from_edl(*read_file(file), file.string(), o);
  ASSERT_TRUE(t) << t.error().text();
  EXPECT_EQ(sketch_of(**t), GetParam().holds);
}

}  // namespace
}  // namespace gc
