// What an effect is. A description (EffectType) says which parameters there are and what the cost depends on;
// an instance is made once for fixed parameters and then runs on many frames, from several threads at once.
#pragma once
#include <memory>
#include <string>
#include <vector>

#include "base/json.h"
#include "effects/stage.h"
#include "media/image.h"

namespace gc {

struct ParamSpec {
  std::string name;
  std::string label;
  std::string unit;  ///< "px", "°", "" ...
  double least = 0, most = 1, usual = 0;
  int values = 1;      ///< length: 3 for a colour
  bool costs = false;  ///< whether the cost depends on it
  bool text = false;   ///< a string, not numbers
};

/// Ready to run. apply() changes the image in place and is called from several threads at once.
class EffectInstance {
 public:
  virtual ~EffectInstance() = default;
  virtual void apply(Image& image) const = 0;
  /// Whether the picture stays as it is, so that the stage can be left out.
  virtual bool identity() const { return false; }
};

struct EffectType {
  std::string id;
  std::string label;
  StageKind stage = StageKind::effect;
  std::vector<ParamSpec> params;
  /// A placing effect moves the layer on the canvas and leaves parts of it uncovered.
  bool places = false;
  std::unique_ptr<EffectInstance> (*make)(const Json& params, int width, int height) = nullptr;
};

/// A parameter clamped into its range; the usual value when missing or of the wrong type. `index` picks one
/// of several.
double param(const EffectType& type, const Json& params, const char* name, std::size_t index = 0);

/// Remarks on parameters that were out of range or not understood, as sentences. They are kept in the file.
std::vector<std::string> param_remarks(const EffectType& type, const Json& params);

/// What the cost of this effect depends on: its type and the parameters marked so.
Hash128 cost_key(const EffectType& type, const Json& params, int width, int height);

}  // namespace gc
