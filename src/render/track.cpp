#include "render/track.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>
#include <opencv2/video.hpp>

#include "effects/motion.h"
#include "timeline/keys.h"

namespace gc {
namespace {

/// A window in pixels.
struct Shape {
  double x = 0, y = 0, w = 0, h = 0, turn = 0;
};

/// A move, turn and growth about the origin: p → (a p.x − b p.y + tx, b p.x + a p.y + ty).
struct Similarity {
  double a = 1, b = 0, tx = 0, ty = 0;
  cv::Point2d of(cv::Point2d p) const { return {a * p.x - b * p.y + tx, b * p.x + a * p.y + ty}; }
  double growth() const { return std::hypot(a, b); }
  double turn() const { return std::atan2(b, a) * 180 / std::numbers::pi; }
};

/// Least squares over point pairs, about their centres.
Similarity fit(const std::vector<cv::Point2f>& from, const std::vector<cv::Point2f>& to) {
  cv::Point2d cf(0, 0), ct(0, 0);
  const auto n = static_cast<double>(from.size());
  for (std::size_t i = 0; i < from.size(); ++i) cf += cv::Point2d(from[i]), ct += cv::Point2d(to[i]);
  cf *= 1 / n, ct *= 1 / n;
  double dot = 0, cross = 0, size = 0;
  for (std::size_t i = 0; i < from.size(); ++i) {
    const cv::Point2d p = cv::Point2d(from[i]) - cf, q = cv::Point2d(to[i]) - ct;
    dot += p.x * q.x + p.y * q.y, cross += p.x * q.y - p.y * q.x, size += p.x * p.x + p.y * p.y;
  }
  Similarity s;
  if (size > 1e-9) s.a = dot / size, s.b = cross / size;
  s.tx = ct.x - (s.a * cf.x - s.b * cf.y), s.ty = ct.y - (s.b * cf.x + s.a * cf.y);
  return s;
}

class Follower {
 public:
  Follower(const Program& program, Frames first) : program_(program), first_(first) {}

  cv::Mat luma(Frames frame) {
    StageLog log;
    return search_luma(render_frame(program_, first_ + frame, nullptr, decoders_, log), 1);
  }

  /// The shape one frame on; false when too little of it can be followed.
  bool step(const cv::Mat& from, const cv::Mat& to, Shape& shape, double& error) {
    cv::Mat mask = cv::Mat::zeros(from.size(), CV_8U);
    cv::ellipse(mask,
                cv::RotatedRect(cv::Point2f(static_cast<float>(shape.x), static_cast<float>(shape.y)),
                                cv::Size2f(static_cast<float>(shape.w), static_cast<float>(shape.h)),
                                static_cast<float>(shape.turn)),
                255, cv::FILLED);
    std::vector<cv::Point2f> points, moved, back;
    cv::goodFeaturesToTrack(from, points, 200, 0.01, 4, mask);
    if (points.size() < 6) return false;
    std::vector<std::uint8_t> there, again;
    std::vector<float> unused;
    cv::calcOpticalFlowPyrLK(from, to, points, moved, there, unused);
    cv::calcOpticalFlowPyrLK(to, from, moved, back, again, unused);
    std::vector<cv::Point2f> p, q;
    for (std::size_t i = 0; i < points.size(); ++i)
      if (there[i] && again[i] && cv::norm(points[i] - back[i]) < 0.7)
        p.push_back(points[i]), q.push_back(moved[i]);
    // What moves otherwise than the rest is not part of the shape: the worse half is left out twice.
    Similarity s;
    for (int round = 0; round < 3; ++round) {
      if (p.size() < 4) return false;
      s = fit(p, q);
      std::vector<double> off;
      for (std::size_t i = 0; i < p.size(); ++i) off.push_back(cv::norm(s.of(p[i]) - cv::Point2d(q[i])));
      std::vector<double> sorted = off;
      std::nth_element(sorted.begin(), sorted.begin() + static_cast<std::ptrdiff_t>(sorted.size() / 2),
                       sorted.end());
      const double median = sorted[sorted.size() / 2];
      error = median;
      std::vector<cv::Point2f> kept, kept_to;
      for (std::size_t i = 0; i < p.size(); ++i)
        if (off[i] <= std::max(0.25, 2 * median)) kept.push_back(p[i]), kept_to.push_back(q[i]);
      p = std::move(kept), q = std::move(kept_to);
    }
    if (s.growth() < 0.5 || s.growth() > 2) return false;
    const cv::Point2d centre = s.of({shape.x, shape.y});
    shape = {centre.x, centre.y, shape.w * s.growth(), shape.h * s.growth(), shape.turn + s.turn()};
    return true;
  }

 private:
  const Program& program_;
  Frames first_;
  Decoders decoders_;
};

/// The segment alone, with the stack below the effect.
TimelinePtr alone(const Timeline& timeline, const Segment& segment, std::size_t below) {
  auto t = std::make_shared<Timeline>(timeline);
  auto s = std::make_shared<Segment>(segment);
  s->stack.resize(below);
  s->matte = {}, s->opacity = 1.0, s->blend = "normal";
  auto track = std::make_shared<Track>();
  track->items = {SegmentPtr(s)};
  t->tracks = {track};
  return t;
}

}  // namespace

Result<TrackReport> track_shape(const TimelinePtr& timeline, MediaCatalog& media, const std::string& segment,
                                const std::string& effect, Frames at,
                                const std::function<bool(double)>& progress) {
  const SegmentPtr s = find_segment(*timeline, segment);
  const auto place =
      s ? std::find_if(s->stack.begin(), s->stack.end(), [&](const Effect& e) { return e.id == effect; })
        : std::vector<Effect>::const_iterator{};
  if (!s || place == s->stack.end() || place->type != "secondary")
    return usage(fmt::format("'{}' has no secondary '{}'", segment, effect),
                 "Name a secondary with a window.");
  if (at < 0 || at >= s->duration)
    return usage(fmt::format("frame {} is outside the segment", at),
                 fmt::format("Give 0 to {}.", s->duration - 1));
  const ProgramPtr program =
      Program::compile(alone(*timeline, *s, static_cast<std::size_t>(place - s->stack.begin())), media);
  const EffectType& type = secondary_effect();
  const Json now = params_at(place->params, static_cast<double>(at));
  const int w = program->width(), h = program->height();
  const Shape start{param(type, now, "window_x") * w, param(type, now, "window_y") * h,
                    param(type, now, "window_width") * w, param(type, now, "window_height") * h,
                    param(type, now, "window_rotation")};
  std::map<Frames, Shape> shapes{{at, start}};
  TrackReport report;
  Follower follower(*program, 0);
  for (const int way : {1, -1}) {
    Shape shape = start;
    cv::Mat from = follower.luma(at);
    for (Frames f = at + way; f >= 0 && f < s->duration; f += way) {
      const cv::Mat to = follower.luma(f);
      double error = 0;
      if (!follower.step(from, to, shape, error)) break;
      shapes[f] = shape;
      report.worst_error = std::max(report.worst_error, error);
      from = to;
      if (progress && !progress(static_cast<double>(shapes.size()) / static_cast<double>(s->duration)))
        return environment("the tracker was stopped", "", "Start it again; nothing was changed.");
    }
  }
  if (shapes.size() < 2)
    return bad_input("nothing in the window can be followed", segment,
                     "Put the window over something with corners or texture.");
  auto changed = std::make_shared<Segment>(*s);
  Effect& target = *std::find_if(changed->stack.begin(), changed->stack.end(),
                                 [&](const Effect& e) { return e.id == effect; });
  const auto write = [&](const char* name, auto&& value) {
    Json keys = Json::array();
    for (const auto& [f, shape] : shapes)
      keys.push_back({{"at", f}, {"value", value(shape)}, {"way", "linear"}});
    target.params[name] = {{"keys", std::move(keys)}};
  };
  const auto rounded = [](double v) { return std::round(v * 1e6) / 1e6; };
  write("window_x", [&](const Shape& v) { return rounded(v.x / w); });
  write("window_y", [&](const Shape& v) { return rounded(v.y / h); });
  write("window_width", [&](const Shape& v) { return rounded(v.w / w); });
  write("window_height", [&](const Shape& v) { return rounded(v.h / h); });
  write("window_rotation", [&](const Shape& v) { return rounded(v.turn); });
  target.params["use_window"] = 1;
  report.timeline = with_segment(*timeline, std::move(changed));
  report.frames = static_cast<Frames>(shapes.size());
  return report;
}

}  // namespace gc
