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
  Build& use(const std::string& id, const std::string& composition, Frames length) {
    auto s = std::make_shared<Segment>();
    s->id = s->name = id, s->content = Content::composition, s->ref = composition, s->duration = length;
    tracks_.back()->items.push_back(SegmentPtr(s));
    return *this;
  }
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
inline Effect blur(const std::string& id, double sigma) {
  return {id, "blur", {{"sigma", sigma}}, true, true, {}};
}

/// The context of a whole picture, frame 0.
inline FrameContext context_of(const Image& image, Frames frame = 0) {
  FrameContext c;
  c.frame = frame, c.width = image.width(), c.height = image.height();
  return c;
}

inline Image frame_of(const Program& p, Frames f, const SealLookup* seals = nullptr) {
  Decoders d;
  StageLog log;
  return render_frame(p, f, seals, d, log);
}

}  // namespace gc::test
