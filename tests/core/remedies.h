// A timeline with something for every kind of remedy: a long-GOP source, a composition used twice, a stage that takes a
// stated time, far over the budget on any seat.
#pragma once
#include "desk/remedies.h"
#include "media/compare.h"
#include "support.h"

namespace gc::test {

class AllKinds : public testing::Test {
 protected:
  AllKinds() {
    const std::string clip = (dir_ / "camera" / "day1" / "m.mp4").string();
    fs::create_directories(dir_ / "camera" / "day1");
    EXPECT_TRUE(shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=320x180:r=24:d=3 -pix_fmt yuv420p -c:v libx264 -g 24 '" + clip + "'"));
    over_ = movie(dir_ / "o.mov", Form::rdd36_alpha, 320, 180, 40, "kiln");
    Build inner(320, 180);
    inner.media("m", clip, 72).media("o", over_, 40).track("low").segment("s1", "o", 2, 24, {an("transform", {{"scale", 0.5}}), blur("b", 2)});
    Build b(320, 180);
    b.media("m", clip, 72).media("o", over_, 40).composition("comp", inner.done()->tracks);
    // A stage that takes a stated time, far over the budget on any seat.
    Effect heavy = an("Slow spell", Json::object());
    heavy.id = "heavy";
    b.track("V1").segment("a", "m", 5, 24, {blur("soft", 3), heavy, cdl("grade", 1.2)}).segment("c", "m", 30, 24, {cdl("g2", 1.1)});
    b.track("V2").use("c1", "comp", 24).use("c2", "comp", 24);
    auto t = std::make_shared<Timeline>(*b.done());
    t->cards["Slow spell"] = {200, 320, 180, "processor"};
    timeline_ = t;
    DeskOptions o;
    o.shelf = dir_ / "shelf", o.notebook = dir_ / "notebook.sqlite", o.workers = 2, o.settings = {};
    stores_ = *Stores::open(o);
  }
  Situation situation(const TimelinePtr& t) { return situation_of(view_of(t, stores_), stores_); }
  Situation situation() { return situation(timeline_); }
  Proposal proposal(const std::string& id) {
    const Situation s = situation();
    auto p = proposal_of(s, id);
    EXPECT_TRUE(p) << id;
    if (p) p->drops_saved = p->refused.empty() ? drops_saved(s, *p) : 0;
    return p ? *p : Proposal{};
  }
  Applied applied(const std::string& id) {
    const Situation s = situation();
    const auto p = proposal_of(s, id);
    EXPECT_TRUE(p) << id;
    if (!p) return {};
    auto r = apply(s, *p, stores_, "a tester", "to see it", "", {}, stop_);
    EXPECT_TRUE(r) << id << ": " << (r ? "" : r.error().text());
    return r ? *r : Applied{};
  }
  Image delivered(const TimelinePtr& t, Frames f) {
    Decoders decoders;
    StageLog log;
    return render_frame(*view_of(t, stores_).delivered, f, nullptr, decoders, log);
  }
  Image played(const TimelinePtr& t, Frames f) {
    Decoders decoders;
    StageLog log;
    const View v = view_of(t, stores_);
    Image image = render_frame(*v.played, f, stores_.shelf.get(), decoders, log);
    return image.width() == 320 ? std::move(image) : enlarged(image, 320, 180);
  }

  TempFolder dir_;
  std::string over_;
  TimelinePtr timeline_;
  Stores stores_;
  std::atomic<bool> stop_{false};
};

/// The same with what its frames cost.
class Remedies : public AllKinds {
 protected:
  Remedies() { EXPECT_TRUE(measure(view_of(timeline_, stores_).played, *stores_.notebook, stores_.measure_options(2, false), {})); }
};

}  // namespace gc::test
