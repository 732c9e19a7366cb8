#include "render/agree.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <functional>
#include <opencv2/core/ocl.hpp>

#include "base/clock.h"
#include "media/synthetic.h"
#include "render/device.h"

namespace gc {

Json showing_params(const EffectType& type) {
  const std::string& id = type.id;
  if (id == "cdl")
    return {{"slope", {1.3, 1.0, 0.75}},
            {"offset", {0.02, 0, -0.02}},
            {"power", {0.9, 1, 1.1}},
            {"saturation", 1.3}};
  if (id == "contrast") return {{"contrast", 1.6}};
  if (id == "saturation") return {{"amount", 0.2}};
  if (id == "curves")
    return {{"master", {{0, 0}, {0.25, 0.15}, {0.75, 0.88}, {1, 1}}}, {"blue", {{0, 0.06}, {1, 0.9}}}};
  if (id == "colour_space") return {{"from", "Rec. 709"}, {"to", "ACEScct"}};
  if (id == "secondary")
    return {{"hue", 25},
            {"hue_width", 70},
            {"saturation_range", {0.15, 1}},
            {"clean_up", 1.5},
            {"use_window", 1},
            {"window_width", 0.7},
            {"window_height", 0.8},
            {"slope", {0.5, 0.9, 1.6}},
            {"saturation", 1.6}};
  if (id == "spatial_nr") return {{"radius", 4}, {"strength", 0.15}};
  if (id == "strong_nr") return {{"search", 4}, {"strength", 0.06}};
  if (id == "temporal_nr") return {{"frames", 2}, {"strength", 0.08}};
  if (id == "sharpen") return {{"amount", 2.0}, {"sigma", 2.0}};
  if (id == "blur") return {{"sigma", 6}};
  if (id == "directional_blur") return {{"length", 40}, {"angle", 20}};
  if (id == "glow") return {{"threshold", 0.35}, {"sigma", 14}, {"amount", 2}};
  if (id == "lens") return {{"k1", 0.35}, {"scale", 0.9}};
  if (id == "vignette") return {{"amount", 0.85}, {"size", 0.35}};
  if (id == "grain") return {{"amount", 0.12}};
  if (id == "stylise") return {{"radius", 6}};
  if (id == "transform") return {{"scale", 0.6}, {"rotation", 12}, {"x", 0.55}, {"y", 0.48}};
  if (id == "cost_card")
    return {{"name", "Another program's effect"}, {"ms", 2}, {"width", 1280}, {"height", 720}};
  if (id == "title") return {{"text", "The Kiln Year"}, {"size", 0.16}, {"y", 0.5}};
  if (id == "solid") return {{"colour", {0.35, 0.2, 0.12}}};
  if (id == "gradient") return {{"from", {0.05, 0.04, 0.06}}, {"to", {0.75, 0.4, 0.2}}, {"angle", 60}};
  if (id == "fractal_noise") return {{"size", 220}, {"from", {0.04, 0.03, 0.03}}, {"to", {0.7, 0.65, 0.6}}};
  if (id == "particles") return {{"colour", {0.9, 0.5, 0.2}}, {"size", 4}, {"count", 4000}};
  return Json::object();
}

std::string made_up_cube(int edge) {
  std::string text = fmt::format("TITLE \"Warm lights, cool shadows\"\nLUT_3D_SIZE {}\n", edge);
  for (int b = 0; b < edge; ++b)
    for (int g = 0; g < edge; ++g)
      for (int r = 0; r < edge; ++r) {
        const double n = edge - 1, red = r / n, green = g / n, blue = b / n;
        const double y = 0.2126 * red + 0.7152 * green + 0.0722 * blue, warm = 0.12 * (y - 0.4);
        text += fmt::format("{:.6f} {:.6f} {:.6f}\n", std::clamp(red + warm, 0.0, 1.0),
                            std::clamp(std::pow(green, 1.05), 0.0, 1.0), std::clamp(blue - warm, 0.0, 1.0));
      }
  return text;
}

Image show_effect(const EffectType& type, const Json& params, const std::function<Image(Frames)>& picture,
                  Frames frame, double* ms) {
  Image image = picture(frame);
  const auto run = type.make(params, image.width(), image.height());
  FrameContext at;
  at.frame = frame, at.width = image.width(), at.height = image.height();
  std::vector<Image> held;
  std::vector<const Image*> window;
  const Window w = run->window();
  if (w.length() > 1) {
    for (int d = -w.before; d <= w.after; ++d) held.push_back(picture(frame + d));
    for (const Image& i : held) window.push_back(&i);
    at.window = window;
  }
  const Stopwatch watch;
  run->apply(image, at);
  if (ms) *ms = watch.ms();
  return image;
}

std::vector<Agreement> check_devices(int width, int height, const std::string& lut, const std::function<bool(const EffectType&)>& wanted) {
  std::vector<const EffectType*> all = effect_types();
  all.insert(all.end(), generator_types().begin(), generator_types().end());
  const auto picture = [&](Frames n) { return synthetic_frame("firing", 30 + n, width, height, 7, 0.03f); };
  std::vector<Agreement> found;
  for (const EffectType* type : all) {
    if (wanted && !wanted(*type)) continue;
    Agreement a;
    a.type = type;
    Json params = showing_params(*type);
    if (type->id == "lut" && !lut.empty()) params["path"] = lut;
    Image here;
    for (int run = 0; run < 2; ++run) {
      here = show_effect(*type, params, picture, 5, &a.processor_ms);
    }
    a.ran_on_processor = true;
    if (!type->accelerator) a.why_not = type->processor_only;
    else if (!accelerator_available()) a.why_not = "there is no accelerator on this seat";
    else {
      const auto run = type->make(params, width, height);
      FrameContext at;
      at.frame = 5, at.width = width, at.height = height;
      const Image start = picture(5);
      Image there(width, height);
      try {
        for (int again = 0; again < 2; ++again) {
          cv::UMat image;
          as_mat<cv::Mat>(start).copyTo(image);
          const Stopwatch watch;
          a.ran_on_accelerator = run->apply(image, true, at);
          cv::ocl::finish();
          a.accelerator_ms = watch.ms();
          cv::Mat to = as_mat<cv::Mat>(there);
          image.copyTo(to);
        }
      } catch (const cv::Exception& e) {
        a.ran_on_accelerator = false;
        a.why_not = e.what();
      }
      if (!a.ran_on_accelerator) {
        a.within = false;
        if (a.why_not.empty()) a.why_not = "the accelerator failed";
      } else {
        for (std::size_t i = 0; i < here.floats(); ++i)
          a.greatest = std::max(a.greatest, static_cast<double>(std::abs(here.data()[i] - there.data()[i])));
        a.within = a.greatest <= type->tolerance;
      }
    }
    found.push_back(std::move(a));
  }
  return found;
}

}  // namespace gc
