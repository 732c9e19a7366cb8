// Small timelines, media and folders for tests.
#pragma once
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <fstream>

#include "desk/desk.h"
#include "media/synthetic.h"
#include "media/writer.h"

namespace gc::test {

/// A folder that is gone when the test is over.
class TempFolder {
 public:
  TempFolder() {
    std::string name = (fs::temp_directory_path() / "gclk-test-XXXXXX").string();
    path_ = ::mkdtemp(name.data());
  }
  ~TempFolder() {
    std::error_code e;
    fs::permissions(path_, fs::perms::owner_all, e);
    fs::remove_all(path_, e);
  }
  fs::path operator/(const std::string& name) const { return path_ / name; }
  const fs::path& path() const { return path_; }

 private:
  fs::path path_;
};

inline void put(const fs::path& file, const std::string& text) {
  std::ofstream(file, std::ios::binary) << text;
}

/// Writes `frames` frames of a synthetic scene.
inline std::string movie(const fs::path& file, Form form, int width, int height, Frames frames,
                         const std::string& scene = "hands") {
  auto w = MovieWriter::create(file.string(), form, width, height, {24, 1});
  EXPECT_TRUE(w) << (w ? "" : w.error().text());
  for (Frames i = 0; i < frames; ++i)
    EXPECT_TRUE((*w)->write(synthetic_frame(scene, i, width, height, 7, 0.02f)));
  EXPECT_TRUE((*w)->finish());
  return file.string();
}

/// Builds timelines of a few segments without files in between.
class Build {
 public:
  Build(int width = 256, int height = 144) : t_(std::make_shared<Timeline>()) {
    t_->name = "Test";
    t_->width = width, t_->height = height;
  }
  Build& media(const std::string& id, const std::string& path, Frames length = 100) {
    auto m = std::make_shared<MediaSource>();
    m->id = id, m->path = m->url = path, m->length = length, m->name = id;
    t_->sources[id] = m;
    return *this;
  }
  Build& track(const std::string& id) {
    tracks_.push_back(std::make_shared<Track>());
    tracks_.back()->id = tracks_.back()->name = id;
    return *this;
  }
  Build& segment(const std::string& id, const std::string& media, Frames in, Frames length,
                 std::vector<Effect> stack = {}) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = id, s->ref = media, s->source_in = in, s->duration = length,
    s->stack = std::move(stack);
    tracks_.back()->items.push_back(SegmentPtr(s));
    return *this;
  }
  Build& solid(const std::string& id, Frames length, double r, double g, double b,
               std::vector<Effect> stack = {}) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = id, s->content = Content::generator, s->ref = "solid",
    s->generator = {{"colour", {r, g, b}}}, s->duration = length, s->stack = std::move(stack);
    tracks_.back()->items.push_back(SegmentPtr(s));
    return *this;
  }
  Build& gap(Frames length) {
    tracks_.back()->items.push_back(Gap{length, {}});
    return *this;
  }
  Build& dissolve(Frames in, Frames out) {
    Transition t;
    t.id = "t", t.in_offset = in, t.out_offset = out;
    tracks_.back()->items.push_back(t);
    return *this;
  }
  Build& composition(const std::string& id, std::vector<TrackPtr> tracks) {
    auto c = std::make_shared<Composition>();
    c->id = c->name = id, c->tracks = std::move(tracks);
    t_->compositions[id] = c;
    return *this;
  }
  Build& use(const std::string& id, const std::string& composition, Frames length, std::vector<Effect> stack = {}) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = id, s->content = Content::composition, s->ref = composition, s->duration = length;
    s->stack = std::move(stack);
    tracks_.back()->items.push_back(SegmentPtr(s));
    return *this;
  }
  Build& adjustment(const std::string& id, Frames length, std::vector<Effect> stack) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = id, s->content = Content::adjustment, s->duration = length, s->stack = std::move(stack);
    tracks_.back()->items.push_back(SegmentPtr(s));
    return *this;
  }
  Build& generator(const std::string& id, const std::string& kind, Frames length, Json params,
                   std::vector<Effect> stack = {}) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = id, s->content = Content::generator, s->ref = kind, s->generator = std::move(params);
    s->duration = length, s->stack = std::move(stack);
    tracks_.back()->items.push_back(SegmentPtr(s));
    return *this;
  }
  Build& transition(const std::string& kind, Frames in, Frames out, Json params = Json::object()) {
    Transition t;
    t.id = "t", t.kind = kind, t.in_offset = in, t.out_offset = out, t.params = std::move(params);
    tracks_.back()->items.push_back(t);
    return *this;
  }
  /// Changes the segment that was added last.
  template <class Change>
  Build& with(Change&& change) {
    auto copy = std::make_shared<Segment>(*std::get<SegmentPtr>(tracks_.back()->items.back()));
    change(*copy);
    tracks_.back()->items.back() = SegmentPtr(copy);
    return *this;
  }
  Build& rate(Rate r) {
    t_->rate = r;
    return *this;
  }
  Build& spaces(const std::string& working, const std::string& display) {
    t_->working_space = working, t_->display_space = display;
    return *this;
  }
  Build& matte_only() {
    tracks_.back()->matte_only = true;
    return *this;
  }
  Timeline& timeline() { return *t_; }
  TimelinePtr done() {
    t_->tracks.assign(tracks_.begin(), tracks_.end());
    return t_;
  }

 private:
  std::shared_ptr<Timeline> t_;
  std::vector<std::shared_ptr<Track>> tracks_;
};

inline Effect cdl(const std::string& id, double saturation) {
  return {id, "cdl", {{"saturation", saturation}}, true, true, {}};
}
inline Effect an(const std::string& type, Json params) {
  return {type, type, std::move(params), true, true, {}};
}
inline Effect blur(const std::string& id, double sigma) {
  return {id, "blur", {{"sigma", sigma}}, true, true, {}};
}

/// The context of a whole picture, frame 0.
inline FrameContext context_of(const Image& image, Frames frame = 0) {
  FrameContext c;
  c.frame = frame, c.width = image.width(), c.height = image.height();
  return c;
}

/// One pixel's four values.
inline std::vector<float> pixel(const Image& image, int x, int y) {
  const float* p = image.row(y) + 4 * x;
  return {p[0], p[1], p[2], p[3]};
}
inline testing::Matcher<std::vector<float>> near(std::vector<float> v, float within = 1e-5f) {
  std::vector<testing::Matcher<float>> all;
  for (const float x : v) all.push_back(testing::FloatNear(x, within));
  return testing::ElementsAreArray(all);
}
inline double greatest_difference(const Image& a, const Image& b) {
  EXPECT_EQ(a.width(), b.width());
  EXPECT_EQ(a.height(), b.height());
  double most = 0;
  for (std::size_t i = 0; i < std::min(a.floats(), b.floats()); ++i)
    most = std::max(most, static_cast<double>(std::abs(a.data()[i] - b.data()[i])));
  return most;
}
/// A picture file as an image of its own size.
inline Image load_picture(const fs::path& file) {
  auto reader = FrameReader::open(file.string());
  EXPECT_TRUE(reader) << (reader ? "" : reader.error().text());
  const auto frame = (*reader)->read(0);
  EXPECT_TRUE(frame);
  auto image = to_image(**frame, (*reader)->info().width, (*reader)->info().height);
  EXPECT_TRUE(image);
  return std::move(*image);
}
inline fs::path golden(const std::string& name) { return fs::path(GCLK_GOLDEN) / name; }
/// Runs a command of another program; false when it failed.
inline bool shell(const std::string& command) {
  return std::system((command + " >/dev/null 2>&1").c_str()) == 0;
}

inline Image frame_of(const Program& p, Frames f, const SealLookup* seals = nullptr) {
  Decoders d;
  StageLog log;
  return render_frame(p, f, seals, d, log);
}

}  // namespace gc::test
