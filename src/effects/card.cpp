// A cost card stands for an effect that cannot be run here: the picture passes through with a hatched band
// along its foot that says so, and the stage takes the time that the card states. On the processor it keeps
// the processor busy, on the accelerator it waits, so that measuring, forecast and playout see the cost as
// they would see any other.
#include <algorithm>
#include <chrono>
#include <thread>

#include "base/clock.h"
#include "effects/registry.h"

namespace gc {
namespace {

class Card : public EffectInstance {
 public:
  Card(const EffectType& type, const Json& p, int width, int height)
      : waits_(text_or(p, "device", "processor") == "accelerator") {
    // Cost grows with the pixels.
    const double pixels = static_cast<double>(width) * height;
    ms_ = param(type, p, "ms") * pixels / (param(type, p, "width") * param(type, p, "height"));
  }
  void apply(Image& image, const FrameContext& at) const override {
    const Stopwatch watch;
    mark(image, at);
    if (waits_)
      std::this_thread::sleep_for(std::chrono::duration<double, std::milli>(std::max(0.0, ms_ - watch.ms())));
    else
      while (watch.ms() < ms_) {
      }
  }

 private:
  static void mark(Image& image, const FrameContext& at) {
    const int band = std::max(4, at.height / 40);
    for (int y = 0; y < image.height(); ++y) {
      if (at.top + y < at.height - band) continue;
      float* p = image.row(y);
      for (int x = 0; x < image.width(); ++x, p += 4) {
        const float v = (at.left + x + at.top + y) / std::max(2, band / 2) % 2 ? 0.75f : 0.12f;
        p[0] = p[1] = p[2] = v * p[3];
      }
    }
  }
  double ms_;
  bool waits_;
};

/// Writes keys for a window and draws nothing; render/track.h does the work.
class NoPicture : public EffectInstance {
 public:
  NoPicture(const EffectType&, const Json&, int, int) {}
  void apply(Image&, const FrameContext&) const override {}
  bool apply(cv::UMat&, bool, const FrameContext&) const override { return true; }
  bool identity() const override { return true; }
};

}  // namespace

const EffectType& cost_card_effect() {
  static const EffectType type = [] {
    EffectType t{"cost_card",
                 "Cost card",
                 StageKind::effect,
                 {{"name", "Stands for", "", 0, 0, 0, 1, true, true},
                  {"ms", "Time a frame", "ms", 0, 100000, 20, 1, true},
                  {"width", "At width", "pixels", 16, 32768, 1920, 1, true},
                  {"height", "At height", "pixels", 16, 32768, 1080, 1, true},
                  {"device", "On", "processor or accelerator", 0, 0, 0, 1, true, true}},
                 false,
                 make_instance<Card, cost_card_effect>};
    t.processor_only = "it stands for another program's effect; its time is spent where the card says";
    t.growth = {{"ms as told"}, [](const EffectType& e, const Json& p, const WorkSize& at, Terms& out) {
                  const double own = param(e, p, "width") * param(e, p, "height") / 1e6;
                  out[1] = static_cast<float>(param(e, p, "ms") * at.mpix / own);
                }};
    t.by_wall = true;
    t.family = "card";
    return t;
  }();
  return type;
}

const EffectType& shape_tracker() {
  static const EffectType type = [] {
    EffectType t{"shape_tracker",
                 "Shape tracker",
                 StageKind::effect,
                 {},
                 false,
                 make_instance<NoPicture, shape_tracker>};
    t.accelerator = true;
    t.family = "analysis";
    return t;
  }();
  return type;
}

}  // namespace gc
