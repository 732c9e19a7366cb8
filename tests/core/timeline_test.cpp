#include "support.h"
#include "timeline/history.h"
#include "timeline/layout.h"

namespace gc {
namespace {

using test::Build;

TEST(Layout, CutsTheTimelineWhereTheVisibleLayersChange) {
  const TimelinePtr t = Build()
                            .track("V1")
                            .solid("a", 20, 0, 0, 0)
                            .solid("b", 20, 1, 1, 1)
                            .track("V2")
                            .gap(10)
                            .solid("c", 20, 0, 1, 0)
                            .done();
  const Layout l = lay_out(*t);
  std::vector<Frames> cuts;
  for (const Interval& i : l.intervals) cuts.push_back(i.in);
  EXPECT_THAT(cuts, testing::ElementsAre(0, 10, 20, 30));
  EXPECT_EQ(l.intervals[1].layers.size(), 2u);
  EXPECT_EQ(l.interval_at(39), 3);
  EXPECT_EQ(l.interval_at(40), -1);
}

TEST(Layout, ADissolveOverlapsBothSegmentsAroundTheCut) {
  const TimelinePtr t =
      Build().track("V1").solid("a", 20, 0, 0, 0).dissolve(4, 6).solid("b", 20, 1, 1, 1).done();
  const Layout l = lay_out(*t);
  ASSERT_EQ(l.transitions.size(), 1u);
  EXPECT_EQ(l.transitions[0].in, 16);
  EXPECT_EQ(l.transitions[0].out, 26);
  EXPECT_EQ(l.placed[0].live_out, 26);
  EXPECT_EQ(l.placed[1].live_in, 16);
  ASSERT_EQ(l.intervals.size(), 3u);
  EXPECT_EQ(l.intervals[1].layers[0].transition, 0);
}

TEST(Edit, LeavesTheOldTimelineAndSharesWhatDidNotChange) {
  const TimelinePtr before = Build()
                                 .track("V1")
                                 .solid("a", 20, 0, 0, 0, {test::cdl("g", 1)})
                                 .track("V2")
                                 .solid("b", 20, 1, 1, 1)
                                 .done();
  const TimelinePtr after = with_param(*before, "a", "g", "saturation", 1.4);
  EXPECT_EQ(find_segment(*before, "a")->stack[0].params["saturation"], 1);
  EXPECT_EQ(find_segment(*after, "a")->stack[0].params["saturation"], 1.4);
  EXPECT_EQ(before->tracks[1], after->tracks[1]);
  EXPECT_EQ(with_param(*before, "a", "missing", "x", 1), nullptr);
}

TEST(Edit, UndoAndRedoWalkThroughTheStates) {
  const TimelinePtr first = Build().track("V1").solid("a", 20, 0, 0, 0, {test::cdl("g", 1)}).done();
  History h(first);
  EXPECT_FALSE(h.changed());
  h.push(with_param(*first, "a", "g", "saturation", 1.4), "Change saturation");
  EXPECT_TRUE(h.changed());
  EXPECT_EQ(h.undo_text(), "Change saturation");
  h.undo();
  EXPECT_EQ(h.now(), first);
  EXPECT_FALSE(h.changed());
  EXPECT_EQ(h.redo_text(), "Change saturation");
  h.redo();
  h.mark_saved(h.now());
  EXPECT_FALSE(h.changed());
  h.undo();
  h.push(first, "Other");
  EXPECT_FALSE(h.can_redo());
}

TEST(Slips, ABypassIsOpenUntilLiftedAndKeepsItsRecord) {
  const TimelinePtr t = Build().track("V1").solid("a", 20, 0, 0, 0, {test::blur("s", 3)}).done();
  const TimelinePtr off = with_bypass(*t, "a", "s", true, "2026-01-01T10:00:00Z");
  EXPECT_TRUE(bypassed(*off, "a", "s"));
  EXPECT_TRUE(find_segment(*off, "a")->stack[0].enabled) << "the timeline itself is not touched";
  EXPECT_FALSE(find_segment(*as_played(off), "a")->stack[0].enabled);
  EXPECT_EQ(with_bypass(*off, "a", "s", true, "later")->slips.size(), 1u);
  const TimelinePtr lifted = with_bypass(*off, "a", "s", false, "2026-01-01T11:00:00Z");
  EXPECT_FALSE(bypassed(*lifted, "a", "s"));
  ASSERT_EQ(lifted->slips.size(), 1u);
  EXPECT_EQ(lifted->slips[0].lifted, "2026-01-01T11:00:00Z");
}

}  // namespace
}  // namespace gc
