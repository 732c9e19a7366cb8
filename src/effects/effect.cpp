#include "effects/effect.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <opencv2/core.hpp>

namespace gc {
namespace {

const ParamSpec* spec_of(const EffectType& type, const std::string& name) {
  for (const ParamSpec& s : type.params)
    if (s.name == name) return &s;
  return nullptr;
}

const Json* number_at(const Json& params, const std::string& name, std::size_t index) {
  const auto it = params.find(name);
  if (it == params.end()) return nullptr;
  if (it->is_number()) return &*it;
  if (it->is_array() && index < it->size() && (*it)[index].is_number()) return &(*it)[index];
  return nullptr;
}

}  // namespace

double param(const EffectType& type, const Json& params, const char* name, std::size_t index) {
  const ParamSpec* s = spec_of(type, name);
  if (!s) return 0;
  const Json* v = params.is_object() ? number_at(params, name, index) : nullptr;
  const double value = v ? v->get<double>() : s->usual;
  return std::isfinite(value) ? std::clamp(value, s->least, s->most) : s->usual;
}

std::vector<std::string> param_remarks(const EffectType& type, const Json& params) {
  std::vector<std::string> remarks;
  if (!params.is_object()) return remarks;
  for (const auto& [name, value] : params.items()) {
    const ParamSpec* s = spec_of(type, name);
    if (!s) {
      remarks.push_back(fmt::format("{} has no parameter '{}'; it is kept and not used.", type.label, name));
      continue;
    }
    if (s->text || s->values == 0) continue;
    if (value.is_object() && value.contains("keys")) {
      if (!value["keys"].is_array() || value["keys"].empty())
        remarks.push_back(
            fmt::format("{}: '{}' has no usable keys; {} is used.", type.label, name, s->usual));
      continue;
    }
    for (std::size_t i = 0; i < static_cast<std::size_t>(s->values); ++i) {
      const Json* v = number_at(params, name, i);
      if (!v)
        remarks.push_back(fmt::format("{}: '{}' is not a number; {} is used.", type.label, name, s->usual));
      else if (const double x = v->get<double>(); !(x >= s->least && x <= s->most))
        remarks.push_back(fmt::format("{}: '{}' is {}, outside {} to {}; the nearest is used.", type.label,
                                      name, x, s->least, s->most));
    }
  }
  return remarks;
}

Json scaled_params(const EffectType& type, const Json& params, double scale) {
  if (scale == 1) return params;
  Json out = params.is_object() ? params : Json::object();
  for (const ParamSpec& s : type.params)
    if (s.unit == "px" && !s.text) {
      if (s.values <= 1) out[s.name] = param(type, params, s.name.c_str()) * scale;
      else
        for (std::size_t i = 0; i < static_cast<std::size_t>(s.values); ++i)
          out[s.name][i] = param(type, params, s.name.c_str(), i) * scale;
    }
  return out;
}

Hash128 cost_key(const EffectType& type, const Json& params, int width, int height) {
  Hasher h;
  h.add(type.id).add(width).add(height);
  for (const ParamSpec& s : type.params)
    if (s.costs)
      h.add(s.name).add(s.text ? text_or(params, s.name.c_str(), "")
                               : fmt::format("{:.4g}", param(type, params, s.name.c_str())));
  for (const float t : cost_terms(type, params, width, height)) h.add(fmt::format("{:.4g}", t));
  return h.done();
}

Terms cost_terms(const EffectType& type, const Json& params, int width, int height) {
  Terms t{};
  const WorkSize at{width, height, static_cast<double>(width) * height / 1e6};
  t[0] = static_cast<float>(at.mpix);
  if (type.growth.amounts) type.growth.amounts(type, params, at, t);
  return t;
}

const LawName* cost_law(const EffectType& type, const Json& params, bool accelerator) {
  std::string id = type.id, label = type.label;
  for (const ParamSpec& s : type.params)
    if (s.costs && s.text)
      if (const std::string word = text_or(params, s.name.c_str(), ""); !word.empty())
        id += " " + word, label += ", " + word;
  if (accelerator) id += ", accelerator", label += ", accelerator";
  std::vector<std::string> names{"Mpixel"};
  names.insert(names.end(), type.growth.names.begin(), type.growth.names.end());
  if (type.point && !accelerator) names.insert(names.end(), {kLoadedFirst, kWithAlpha});
  return law_name(id, label, type.stage, std::move(names));
}

void separable_terms(const WorkSize& at, int taps, Terms& terms, std::size_t first) {
  const double work = at.mpix * taps, held = taps * at.width * 16.0 / (512 << 10);
  terms[first] = static_cast<float>(work);
  terms[first + 1] = static_cast<float>(held > 1 ? work * std::log2(held) : 0);
}

void filter_terms(const WorkSize& at, double taps, int side, Terms& terms, std::size_t first) {
  constexpr int kTransformFrom = 130;
  if (side * side < kTransformFrom) {
    terms[first] = static_cast<float>(at.mpix * taps), terms[first + 1] = 0;
    return;
  }
  // The sizes of its blocks, as in OpenCV's crossCorr.
  double work = 1e-6;
  for (const int length : {at.width, at.height}) {
    const int block = std::min(std::max(static_cast<int>(std::lround(side * 4.5)), 256 - side + 1), length);
    const int transform = cv::getOptimalDFTSize(std::max(block + side - 1, 2));
    const int used = std::min(transform - side + 1, length);
    work *= static_cast<double>((length + used - 1) / used) * transform;
  }
  terms[first] = 0, terms[first + 1] = static_cast<float>(work);
}

}  // namespace gc
