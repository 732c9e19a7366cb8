#include "media/colour.h"

#include <OpenColorIO/OpenColorIO.h>
#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <map>
#include <mutex>
#include <sstream>

namespace OCIO = OCIO_NAMESPACE;

namespace gc {
namespace {

// The reference is ACES2065-1, as the library's built-in transforms have it. Rec. 709 is display-referred by
// BT.1886 (power 2.4), the way finished pictures are watched; chromatic adaptation by Bradford.
constexpr const char* kConfig = R"(ocio_profile_version: 2
environment: {}
search_path: ""
roles: {default: Rec. 709, scene_linear: ACEScg}
file_rules:
  - !<Rule> {name: Default, colorspace: Rec. 709}
displays:
  Screen:
    - !<View> {name: Plain, colorspace: Rec. 709}
colorspaces:
  - !<ColorSpace>
    name: ACES2065-1
    isdata: false
  - !<ColorSpace>
    name: ACEScg
    to_scene_reference: !<BuiltinTransform> {style: ACEScg_to_ACES2065-1}
  - !<ColorSpace>
    name: ACEScct
    to_scene_reference: !<BuiltinTransform> {style: ACEScct_to_ACES2065-1}
  - !<ColorSpace>
    name: Linear Rec. 709
    from_scene_reference: !<GroupTransform>
      children:
        - !<BuiltinTransform> {style: UTILITY - ACES-AP0_to_CIE-XYZ-D65_BFD}
        - !<MatrixTransform> {matrix: [3.2409699419045226, -1.537383177570094, -0.4986107602930034, 0, -0.9692436362808796, 1.8759675015077202, 0.04155505740717559, 0, 0.05563007969699366, -0.20397695888897652, 1.0569715142428786, 0, 0, 0, 0, 1]}
  - !<ColorSpace>
    name: Rec. 709
    from_scene_reference: !<GroupTransform>
      children:
        - !<BuiltinTransform> {style: UTILITY - ACES-AP0_to_CIE-XYZ-D65_BFD}
        - !<BuiltinTransform> {style: DISPLAY - CIE-XYZ-D65_to_REC.1886-REC.709}
  - !<ColorSpace>
    name: Rec. 2020
    from_scene_reference: !<GroupTransform>
      children:
        - !<BuiltinTransform> {style: UTILITY - ACES-AP0_to_CIE-XYZ-D65_BFD}
        - !<BuiltinTransform> {style: DISPLAY - CIE-XYZ-D65_to_REC.1886-REC.2020}
  - !<ColorSpace>
    name: PQ
    from_scene_reference: !<GroupTransform>
      children:
        - !<BuiltinTransform> {style: UTILITY - ACES-AP0_to_CIE-XYZ-D65_BFD}
        - !<BuiltinTransform> {style: DISPLAY - CIE-XYZ-D65_to_REC.2100-PQ}
  - !<ColorSpace>
    name: HLG
    from_scene_reference: !<GroupTransform>
      children:
        - !<BuiltinTransform> {style: UTILITY - ACES-AP0_to_CIE-XYZ-D65_BFD}
        - !<BuiltinTransform> {style: DISPLAY - CIE-XYZ-D65_to_REC.2100-HLG-1000nit}
)";

OCIO::ConstConfigRcPtr config() {
  static const OCIO::ConstConfigRcPtr c = [] {
    OCIO::SetLoggingLevel(OCIO::LOGGING_LEVEL_NONE);
    std::istringstream text(kConfig);
    auto read = OCIO::Config::CreateFromStream(text);
    read->validate();
    return read;
  }();
  return c;
}

class Ready : public ColourTransform {
 public:
  explicit Ready(const OCIO::ConstProcessorRcPtr& processor)
      : cpu_(processor->getOptimizedCPUProcessor(OCIO::BIT_DEPTH_F32, OCIO::BIT_DEPTH_F32,
                                                 OCIO::OPTIMIZATION_LOSSLESS)),
        identity_(processor->isNoOp()) {
    find_cube(processor);
  }
  void apply(float* rgba, std::size_t pixels) const override {
    OCIO::PackedImageDesc desc(rgba, static_cast<long>(pixels), 1, 4);
    cpu_->apply(desc);
  }
  bool identity() const override { return identity_; }
  const std::vector<float>& cube() const override { return cube_; }
  int cube_edge() const override { return edge_; }

 private:
  void find_cube(const OCIO::ConstProcessorRcPtr& processor) {
    const auto group = processor->createGroupTransform();
    if (group->getNumTransforms() != 1) return;
    const auto lut = std::dynamic_pointer_cast<const OCIO::Lut3DTransform>(group->getTransform(0));
    if (!lut || lut->getDirection() != OCIO::TRANSFORM_DIR_FORWARD || lut->getGridSize() < 2) return;
    edge_ = static_cast<int>(lut->getGridSize());
    cube_.reserve(static_cast<std::size_t>(edge_) * static_cast<std::size_t>(edge_) *
                  static_cast<std::size_t>(edge_) * 3);
    for (unsigned long r = 0; r < lut->getGridSize(); ++r)
      for (unsigned long g = 0; g < lut->getGridSize(); ++g)
        for (unsigned long b = 0; b < lut->getGridSize(); ++b) {
          float v[3];
          lut->getValue(r, g, b, v[0], v[1], v[2]);
          cube_.insert(cube_.end(), v, v + 3);
        }
  }

  OCIO::ConstCPUProcessorRcPtr cpu_;
  bool identity_;
  std::vector<float> cube_;
  int edge_ = 0;
};

}  // namespace

const std::vector<std::string>& colour_spaces() {
  static const std::vector<std::string> names{"Rec. 709", "Linear Rec. 709", "Rec. 2020", "PQ", "HLG",
                                              "ACEScg",   "ACEScct",         "ACES2065-1"};
  return names;
}

ColourCodes colour_codes(const std::string& space) {
  if (space == "Rec. 2020") return {9, 14};
  if (space == "PQ") return {9, 16};
  if (space == "HLG") return {9, 18};
  if (space == "Linear Rec. 709") return {1, 8};
  return {};
}

bool is_light(const std::string& space) { return space == "Linear Rec. 709" || space == "ACEScg" || space == "ACES2065-1"; }

bool is_colour_space(const std::string& name) {
  const auto& names = colour_spaces();
  return std::find(names.begin(), names.end(), name) != names.end();
}

Result<ColourTransformPtr> colour_transform(const std::string& from, const std::string& to) {
  for (const std::string& name : {from, to})
    if (!is_colour_space(name))
      return bad_input(fmt::format("the colour space '{}' is not known", name), "",
                       fmt::format("Choose one of: {}.", fmt::join(colour_spaces(), ", ")));
  static std::mutex mutex;
  static auto* ready = new std::map<std::pair<std::string, std::string>, ColourTransformPtr>;
  const std::lock_guard lock(mutex);
  ColourTransformPtr& t = (*ready)[{from, to}];
  if (!t) t = std::make_shared<Ready>(config()->getProcessor(from.c_str(), to.c_str()));
  return t;
}

Result<ColourTransformPtr> lut_transform(const std::string& path, bool tetrahedral) {
  std::error_code e;
  if (!std::filesystem::is_regular_file(path, e))
    return bad_input("the LUT is missing", path,
                     "Put the file back or choose another; the picture passes unchanged.");
  try {
    const auto file = OCIO::FileTransform::Create();
    file->setSrc(path.c_str());
    file->setInterpolation(tetrahedral ? OCIO::INTERP_TETRAHEDRAL : OCIO::INTERP_LINEAR);
    return std::make_shared<Ready>(config()->getProcessor(file));
  } catch (const std::exception& x) {
    std::string why = x.what();
    why = why.substr(0, why.find('\n'));
    return bad_input("the LUT cannot be read: " + why, path,
                     "Export it again; the picture passes unchanged until then.");
  }
}

}  // namespace gc
