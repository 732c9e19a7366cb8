// Rendered media cannot show a lie: what is read is what was written, a lost index loses nothing, and a picture from the
// middle of a stack is used exactly as long as what it was made of is the same.
#include <fstream>

#include "audit/random.h"
#include "desk/desk.h"
#include "media/compare.h"
#include "queue/prerender.h"
#include "support.h"

namespace gc {
namespace {

using test::Build;

Effect blur(const std::string& id, double sigma) { return {id, "blur", {{"sigma", sigma}}, true, true, {}, {}}; }

class ShelfOf : public testing::Test {
 protected:
  ShelfOf() {
    clip_ = test::movie(dir_ / "m.mov", Form::vc3_hqx, 256, 144, 60);
    shelf_ = *Shelf::open(dir_ / "shelf");
  }
  TimelinePtr timeline(double sigma = 3, double saturation = 1.2, Frames at = 0, const std::string& clip = {}) const {
    Build b(256, 144);
    b.media("m", clip.empty() ? clip_ : clip, 60).track("V1");
    if (at > 0) b.gap(at);
    return b.segment("a", "m", 5, 30, {blur("soft", sigma), test::cdl("grade", saturation)}).done();
  }
  ProgramPtr program(const TimelinePtr& t) { return Program::compile(t, media_); }
  Image shown(const ProgramPtr& p, Frames f, bool live = false) {
    Decoders decoders;
    StageLog log;
    return render_frame(*p, f, live ? nullptr : shelf_.get(), decoders, log);
  }
  fs::path first_piece() const {
    for (const auto& e : fs::directory_iterator(dir_ / "shelf" / "chunks"))
      if (e.path().extension() == ".mov") return e.path();
    return {};
  }
  PrerenderReport render(const ProgramPtr& p) {
    auto r = prerender(p, *shelf_, {{0, 30}}, {}, {});
    EXPECT_TRUE(r) << r.error().text();
    return *r;
  }
  static int count(const Route& route, FrameState s) { return static_cast<int>(route.count(s)); }
  static int tapped(const Route& route) { return count(route, FrameState::half); }

  test::TempFolder dir_;
  std::string clip_;
  MediaCatalog media_;
  std::shared_ptr<Shelf> shelf_;
};

// Two thousand bytes in the middle of a piece, its size and time as they were: nobody is shown what they decode to.
TEST_F(ShelfOf, InvertedBytesAreFoundAndTheFrameIsMadeLive) {
  const ProgramPtr p = program(timeline());
  render(p);
  ASSERT_EQ(count(shelf_->route(*p), FrameState::sealed), 30);
  EXPECT_TRUE(std::ranges::all_of(shelf_->verify(), [](const PieceCheck& c) { return c.wrong.empty(); }));
  const fs::path piece = first_piece();
  const auto time = fs::last_write_time(piece);
  const auto size = static_cast<std::streamoff>(fs::file_size(piece));
  {
    std::fstream f(piece, std::ios::in | std::ios::out | std::ios::binary);
    std::string part(2000, 0);
    f.seekg(size / 2), f.read(part.data(), 2000);
    for (char& b : part) b = static_cast<char>(~b);
    f.seekp(size / 2), f.write(part.data(), 2000);
  }
  fs::last_write_time(piece, time);
  ASSERT_EQ(fs::file_size(piece), static_cast<std::uintmax_t>(size));
  shelf_ = *Shelf::open(dir_ / "shelf");  // as at the next start
  EXPECT_EQ(count(shelf_->route(*p), FrameState::sealed), 30) << "nothing was read yet";
  for (Frames f = 0; f < 30; ++f) EXPECT_GT(psnr(shown(p, f), shown(p, f, true)), 38) << f;
  EXPECT_LT(count(shelf_->route(*p), FrameState::sealed), 30) << "the piece is set aside";
  shelf_ = *Shelf::open(dir_ / "shelf");
  const auto checks = shelf_->verify();
  EXPECT_EQ(std::ranges::count_if(checks, [](const PieceCheck& c) { return !c.wrong.empty(); }), 1);
  EXPECT_LT(count(shelf_->route(*p), FrameState::sealed), 30);
}

TEST_F(ShelfOf, ALostIndexLosesNothing) {
  const ProgramPtr p = program(timeline());
  const PrerenderReport made = render(p);
  shelf_.reset();
  for (const char* name : {"index.sqlite", "index.sqlite-wal", "index.sqlite-shm"}) fs::remove(dir_ / "shelf" / name);
  shelf_ = *Shelf::open(dir_ / "shelf");
  EXPECT_EQ(count(shelf_->route(*p), FrameState::sealed), 30) << "the pieces tell all that it knew";
  EXPECT_EQ(shelf_->pieces().size(), static_cast<std::size_t>(made.pieces));
  const auto taken = shelf_->rebuild();
  ASSERT_TRUE(taken) << taken.error().text();
  EXPECT_EQ(*taken, 0) << "what it has is not taken in twice";
  EXPECT_TRUE(std::ranges::all_of(shelf_->verify(), [](const PieceCheck& c) { return c.wrong.empty(); }));
}

// What stands beside a piece is from a stranger's hand as likely as from ours.
TEST_F(ShelfOf, ADescriptionThatNamesOtherFoldersIsNotBelieved) {
  render(program(timeline()));
  const fs::path beside = first_piece().string() + ".json";
  std::ifstream in(beside);
  Json j = Json::parse(in);
  j["file"] = "../../m.mov";
  std::ofstream(dir_ / "shelf" / "chunks" / "other.mov.json") << j.dump();
  std::ofstream(dir_ / "shelf" / "chunks" / "empty.mov.json") << "{}";
  EXPECT_EQ(*shelf_->rebuild(), 0);
}

// A copy of the source elsewhere is the same source.
TEST_F(ShelfOf, ACopiedOrMovedSourceStillMatches) {
  const ProgramPtr p = program(timeline());
  render(p);
  fs::create_directories(dir_ / "elsewhere");
  const std::string copy = (dir_ / "elsewhere" / "renamed.mov").string();
  fs::copy_file(clip_, copy);
  EXPECT_EQ(count(shelf_->route(*program(timeline(3, 1.2, 0, copy))), FrameState::sealed), 30);
  // Other pictures under the old name are another source.
  fs::remove(clip_);
  ASSERT_TRUE(test::shell("ffmpeg -v error -y -f lavfi -i testsrc2=s=256x144:r=24:d=2.5 -c:v dnxhd -profile:v dnxhr_hq '" + clip_ + "'"));
  EXPECT_EQ(count(shelf_->route(*program(timeline())), FrameState::sealed), 0);
}

TEST_F(ShelfOf, AStackCachedBelowTheGradeKeepsWhenTheGradeChanges) {
  const ProgramPtr p = program(timeline());
  const auto made = cache_stack(p, *shelf_, "a", 1, {}, {});
  ASSERT_TRUE(made) << made.error().text();
  EXPECT_EQ(made->frames, 30);
  EXPECT_EQ(tapped(shelf_->route(*p)), 30);
  ASSERT_EQ(shelf_->route(*p).taps(7).size(), 1u);
  EXPECT_EQ(shelf_->route(*p).taps(7).front().after, 1);
  // Graded anew, moved and renamed: still answered. Blurred otherwise: not.
  EXPECT_EQ(tapped(shelf_->route(*program(timeline(3, 0.8)))), 30);
  EXPECT_EQ(tapped(shelf_->route(*program(timeline(3, 1.2, 17)))), 30);
  EXPECT_EQ(tapped(shelf_->route(*program(timeline(3.5)))), 0);
  for (const Frames f : {0, 1, 14, 29}) {
    const ProgramPtr graded = program(timeline(3, 0.8));
    EXPECT_GT(psnr(shown(graded, f), shown(graded, f, true)), 40) << f << ": the form's loss, and nothing else";
  }
  // What the forecast counts is what the frame goes through.
  const FrameRecipe r = p->recipe(3, shelf_.get());
  ASSERT_EQ(r.taps.size(), 1u);
  EXPECT_EQ(r.taps.front().is.after, 1);
  EXPECT_EQ(r.requests.size(), 1u) << "the source is not read";
  Decoders decoders;
  StageLog log;
  (void)render_frame(*p, 3, shelf_.get(), decoders, log);
  const std::vector<StageRef> counted = p->stages(3, r.pattern());
  for (const StageSample& s : log)
    EXPECT_TRUE(std::ranges::any_of(counted, [&](const StageRef& c) { return c.key == s.key; })) << stage_name(s.kind);
  EXPECT_LT(counted.size(), p->stages(3).size() + 1);
  EXPECT_TRUE(std::ranges::none_of(counted, [&](const StageRef& c) { return c.law && c.law->label == "Gaussian blur"; }));
}

TEST_F(ShelfOf, AFinishedFrameGoesBeforeAHalfFinishedOne) {
  const ProgramPtr p = program(timeline());
  ASSERT_TRUE(cache_stack(p, *shelf_, "a", 1, {}, {}));
  render(p);
  EXPECT_EQ(count(shelf_->route(*p), FrameState::sealed), 30);
  EXPECT_TRUE(p->recipe(0, shelf_.get()).taps.empty());
}

TEST_F(ShelfOf, ADamagedCacheOfAStackIsMadeLive) {
  const ProgramPtr p = program(timeline());
  ASSERT_TRUE(cache_stack(p, *shelf_, "a", 1, {}, {}));
  for (const auto& e : fs::directory_iterator(dir_ / "shelf" / "chunks"))
    if (e.path().extension() == ".mov") fs::resize_file(e.path(), fs::file_size(e.path()) / 2);
  for (const Frames f : {0, 20}) EXPECT_GT(psnr(shown(p, f), shown(p, f, true)), 90) << f;
  EXPECT_LT(tapped(shelf_->route(*p)), 30);
}

TEST_F(ShelfOf, WhatTheFormCannotKeepGoesIntoOneThatDoes) {
  // Far beyond white: what lies above would see a picture that is cut off there.
  const TimelinePtr bright = Build(256, 144).media("m", clip_, 60).track("V1").segment("a", "m", 0, 10, {test::an("sharpen", {{"amount", 5}}), blur("soft", 3)}).done();
  ASSERT_TRUE(cache_stack(program(bright), *shelf_, "a", 1, {}, {}));
  ASSERT_EQ(shelf_->chunks(), 1u);
  EXPECT_EQ(shelf_->pieces().front().form, Form::exr_half);
}

TEST_F(ShelfOf, AStackThatIsNotThereIsRefused) {
  EXPECT_FALSE(cache_stack(program(timeline()), *shelf_, "a", 7, {}, {}));
  EXPECT_FALSE(cache_stack(program(timeline()), *shelf_, "nobody", 1, {}, {}));
  EXPECT_EQ(shelf_->chunks(), 0u);
}

// On edits at random: it is used exactly when the picture below the tap is the same to the last bit.
TEST_F(ShelfOf, ACacheBreaksExactlyWhenThePictureBelowItDiffers) {
  ASSERT_TRUE(cache_stack(program(timeline()), *shelf_, "a", 1, {}, {}));
  const auto below = [&](double sigma, Frames in) {
    const TimelinePtr t = Build(256, 144).media("m", clip_, 60).track("V1").segment("a", "m", in, 30, {blur("soft", sigma)}).done();
    return shown(program(t), 4, true);
  };
  const Image made = below(3, 5);
  std::uint32_t state = 3;
  const auto draw = [&](std::uint32_t n) { return (state = state * 1664525 + 1013904223) / 65536 % n; };
  int kept = 0, broken = 0;
  for (int i = 0; i < 24; ++i) {
    const double sigma = draw(3) == 0 ? 3.0 + draw(4) : 3.0, saturation = 0.5 + 0.1 * draw(10);
    const Frames in = draw(4) == 0 ? 5 + draw(3) : 5;
    const TimelinePtr t = Build(256, 144)
                              .media("m", clip_, 60)
                              .track("V1")
                              .segment("a", "m", in, 30, {blur("soft", sigma), test::cdl("grade", saturation)})
                              .done();
    const bool same = psnr(below(sigma, in), made) > 200;
    const auto hit = program(t)->recipe(4, shelf_.get());
    // Moved by a frame or two the source is another one at this place, and the cache still has that frame elsewhere.
    const bool used = !hit.taps.empty();
    if (in == 5) EXPECT_EQ(used, same) << sigma << " " << saturation;
    else EXPECT_EQ(used, sigma == 3.0);
    (used ? kept : broken) += 1;
    if (used) EXPECT_GT(psnr(shown(program(t), 4), shown(program(t), 4, true)), 38);
  }
  EXPECT_GT(kept, 3);
  EXPECT_GT(broken, 3);
}

}  // namespace
}  // namespace gc
