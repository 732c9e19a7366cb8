// What an effect is. A description (EffectType) says which parameters there are, what the cost depends on and
// where it can run; an instance is made once for fixed parameters and then runs on many frames, from several
// threads at once. Parameters with keys are resolved before an instance is made, so that no effect knows of
// them.
#pragma once
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/json.h"
#include "base/rational.h"
#include "effects/stage.h"
#include "media/image.h"

namespace cv {
class UMat;
}

namespace gc {

enum class Device { processor, accelerator };

struct ParamSpec {
  std::string name;
  std::string label;
  std::string unit;  ///< "px" (of the full raster), "°", "" ...
  double least = 0, most = 1, usual = 0;
  int values = 1;      ///< length: 3 for a colour; 0 for a list of any length
  bool costs = false;  ///< whether the cost depends on it
  bool text = false;   ///< a string, not numbers
};

/// Frames an effect needs besides the one it makes.
struct Window {
  int before = 0, after = 0;
  int length() const { return before + 1 + after; }
  bool operator==(const Window&) const = default;
};

/// Which frame is being made, and which part of it.
struct FrameContext {
  Frames frame = 0;           ///< counted from the segment's first
  int left = 0, top = 0;      ///< place of the image's first pixel on the raster
  int width = 0, height = 0;  ///< of the whole raster at this scale
  double scale = 1;           ///< pixels of this raster ÷ pixels of the full one, of a side
  bool draft = false;         ///< quick scaling rather than good
  int tiles = 1;              ///< threads that may work on this picture at once
  /// The pictures of the window, earliest first, the frame itself at [before]. Empty for effects without one.
  std::span<const Image* const> window;
};

/// Ready to run. Called from several threads at once.
class EffectInstance {
 public:
  virtual ~EffectInstance() = default;
  /// Changes the image in place (premultiplied).
  virtual void apply(Image& image, const FrameContext& at) const = 0;
  /// For an effect that makes a new picture of its window, so that none has to be copied for it first. Nothing: apply()
  /// changes a copy of the middle one.
  virtual std::optional<Image> of_window(const FrameContext&) const { return {}; }
  /// The same on the accelerator (CV_32FC4). False when it could not; the image is then unusable.
  virtual bool apply(cv::UMat& image, bool opaque, const FrameContext& at) const;
  /// Whether it can run there with these parameters, where its type can at all.
  virtual bool on_accelerator() const { return true; }
  /// Whether the picture stays as it is, so that the stage can be left out.
  virtual bool identity() const { return false; }
  /// Frames needed around the one that is made.
  virtual Window window() const { return {}; }
  /// How far, in pixels of this raster, a pixel depends on others.
  virtual int reach() const { return 0; }
  /// Why it passes the picture through although it should not, as an error's sentence; empty when all is
  /// well.
  virtual std::string trouble() const { return {}; }
};

/// An effect whose pixels depend on nothing but themselves and their place. Runs of these are fused.
class PointInstance : public EffectInstance {
 public:
  /// `count` RGBA pixels of row `y` from column `x` of the raster, not premultiplied.
  virtual void pixels(float* rgba, std::size_t count, int x, int y, const FrameContext& at) const = 0;
  void apply(Image& image, const FrameContext& at) const override;
};

struct EffectType;

/// The raster that a cost is asked for.
struct WorkSize {
  int width = 0, height = 0;
  double mpix = 0;
};

/// What the cost grows with besides the pixels: names of the terms and their amounts at a raster, from the
/// second place on. Parameters are those of the raster.
struct Growth {
  std::vector<std::string> names{};
  void (*amounts)(const EffectType& type, const Json& params, const WorkSize& at, Terms& terms) = nullptr;
};

struct EffectType {
  std::string id;
  std::string label;
  StageKind stage = StageKind::effect;
  std::vector<ParamSpec> params;
  /// A placing effect moves the layer on the canvas or leaves parts of it uncovered.
  bool places = false;
  std::unique_ptr<EffectInstance> (*make)(const Json& params, int width, int height) = nullptr;

  bool point = false;               ///< instances are PointInstance
  bool accelerator = false;         ///< instances run there too
  const char* processor_only = "";  ///< why they do not
  double tolerance = 0;             ///< greatest difference of a pixel value between the devices
  bool moving = false;              ///< differs from frame to frame with the same parameters
  bool whole = false;               ///< needs the whole picture, however small the region that is wanted
  Growth growth;                    ///< of the cost on the processor and the accelerator alike
  bool by_wall = false;             ///< its cost is time passed, not work of the thread
  bool makes_new = false;           ///< of its window, so that no picture is copied for it (of_window)
  const char* family = "";          ///< "grade", "repair", "detail", "generator", "analysis", "card"
};

/// A parameter clamped into its range; the usual value when missing or of the wrong type. `index` picks one
/// of several.
double param(const EffectType& type, const Json& params, const char* name, std::size_t index = 0);

/// The parameters for a raster that is smaller by `scale`: those in px are multiplied.
Json scaled_params(const EffectType& type, const Json& params, double scale);

/// Remarks on parameters that were out of range or not understood, as sentences. They are kept in the file.
std::vector<std::string> param_remarks(const EffectType& type, const Json& params);

/// What the cost of this effect depends on: its type and the parameters marked so.
Hash128 cost_key(const EffectType& type, const Json& params, int width, int height);

/// The last two terms of a point operation. Both count only for the first operation of a run of them, which pays
/// for the whole run: it waits for the picture to come from memory, and where the picture has alpha it divides the
/// alpha out, to be multiplied in again after the last one.
inline constexpr const char* kLoadedFirst = "Mpixel loaded first";
inline constexpr const char* kWithAlpha = "Mpixel with alpha";
/// Terms of the effect's cost law at a raster, and the law's name. Parameters that are words choose the law.
Terms cost_terms(const EffectType& type, const Json& params, int width, int height);
const LawName* cost_law(const EffectType& type, const Json& params, bool accelerator);

// Helpers for effects.

/// The work of a separable filter: megapixels × taps, and the same again for each doubling of the rows that
/// it holds (taps × width) beyond half a megabyte, where they leave the nearest caches. Fills two terms.
void separable_terms(const WorkSize& at, int taps, Terms& terms, std::size_t first);
/// The work of a filter with a square kernel, as OpenCV 4's filter2D does it on floats: tap by tap while the
/// kernel has fewer than 130 places, by Fourier transforms of blocks above. Fills two terms from `first`:
/// megapixels × taps, and megapixels of the transforms.
void filter_terms(const WorkSize& at, double taps, int side, Terms& terms, std::size_t first);

/// The image's memory as a matrix, without a copy. `cv::Mat` is only named here; include opencv2/core.hpp.
template <class Mat>
Mat as_mat(const Image& image) {
  constexpr int kFloat4 = 5 + (3 << 3);  // CV_32FC4
  return Mat(image.height(), image.width(), kFloat4, const_cast<float*>(image.data()));
}

/// The usual maker: T(type, params, width, height).
template <class T, const EffectType& (*Type)()>
std::unique_ptr<EffectInstance> make_instance(const Json& p, int width, int height) {
  return std::make_unique<T>(Type(), p, width, height);
}

inline float param_f(const EffectType& type, const Json& p, const char* name, std::size_t index = 0) {
  return static_cast<float>(param(type, p, name, index));
}

void unpremultiply(float* rgba, std::size_t pixels);
void premultiply(float* rgba, std::size_t pixels);

}  // namespace gc
