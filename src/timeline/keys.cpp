#include "timeline/keys.h"

#include <algorithm>
#include <cmath>
#include <vector>

#include "base/smooth.h"

namespace gc {
namespace {

struct Key {
  double at = 0;
  Json value;
  std::string way = "linear";
};

/// The usable keys in order of time.
std::vector<Key> keys_of(const Json& value) {
  std::vector<Key> keys;
  if (!has_keys(value)) return keys;
  for (const Json& k : value["keys"]) {
    if (!k.is_object() || !k.contains("value")) continue;
    const double at = number_or(k, "at", NAN);
    if (std::isfinite(at)) keys.push_back({at, k["value"], text_or(k, "way", "linear")});
  }
  std::stable_sort(keys.begin(), keys.end(), [](const Key& a, const Key& b) { return a.at < b.at; });
  return keys;
}

double number_in(const Json& v, std::size_t i) {
  if (v.is_number()) return v.get<double>();
  if (v.is_array() && i < v.size() && v[i].is_number()) return v[i].get<double>();
  return NAN;
}

/// Slope at key i; at an end, a three-point estimate that keeps the shape.
double slope_at(const std::vector<Key>& k, std::size_t i, std::size_t entry) {
  const auto width = [&](std::size_t n) { return k[n + 1].at - k[n].at; };
  const auto chord = [&](std::size_t n) {
    return (number_in(k[n + 1].value, entry) - number_in(k[n].value, entry)) / width(n);
  };
  const std::size_t last = k.size() - 1;
  if (last == 1) return chord(0);
  if (i > 0 && i < last) return smooth_slope(chord(i - 1), chord(i), width(i - 1), width(i));
  const std::size_t n = i == 0 ? 0 : last - 1, next = i == 0 ? 1 : last - 2;
  const double d =
      ((2 * width(n) + width(next)) * chord(n) - width(n) * chord(next)) / (width(n) + width(next));
  if (d * chord(n) <= 0) return 0;
  if (chord(n) * chord(next) <= 0 && std::abs(d) > 3 * std::abs(chord(n))) return 3 * chord(n);
  return d;
}

double between(const std::vector<Key>& k, std::size_t i, double frame, std::size_t entry) {
  const double a = number_in(k[i].value, entry), b = number_in(k[i + 1].value, entry);
  const double width = k[i + 1].at - k[i].at, t = (frame - k[i].at) / width;
  if (k[i].way == "hold") return a;
  if (k[i].way != "smooth") return a + (b - a) * t;
  const double m0 = slope_at(k, i, entry) * width, m1 = slope_at(k, i + 1, entry) * width;
  return hermite(t, a, m0, b, m1);
}

}  // namespace

bool has_keys(const Json& value) {
  return value.is_object() && value.contains("keys") && value["keys"].is_array();
}

bool any_keys(const Json& params) {
  return params.is_object() &&
         std::any_of(params.begin(), params.end(), [](const Json& v) { return has_keys(v); });
}

Json value_at(const Json& value, double frame) {
  if (!has_keys(value)) return value;
  std::vector<Key> keys = keys_of(value);
  // Two keys on one frame would be a jump without a width; the later one counts.
  for (std::size_t i = 0; i + 1 < keys.size();)
    if (keys[i].at == keys[i + 1].at) keys.erase(keys.begin() + static_cast<std::ptrdiff_t>(i));
    else ++i;
  if (keys.empty()) return nullptr;
  if (frame <= keys.front().at) return keys.front().value;
  if (frame >= keys.back().at) return keys.back().value;
  std::size_t i = 0;
  while (keys[i + 1].at <= frame) ++i;
  const Json& v = keys[i].value;
  if (v.is_number() && keys[i + 1].value.is_number()) return between(keys, i, frame, 0);
  if (v.is_array() && keys[i + 1].value.is_array() && v.size() == keys[i + 1].value.size()) {
    Json list = Json::array();
    for (std::size_t e = 0; e < v.size(); ++e) list.push_back(between(keys, i, frame, e));
    return list;
  }
  return v;
}

Json params_at(const Json& params, double frame) {
  if (!any_keys(params)) return params;
  Json plain = Json::object();
  for (const auto& [name, value] : params.items())
    if (Json v = value_at(value, frame); !v.is_null()) plain[name] = std::move(v);
  return plain;
}

Json with_key(const Json& value, Frames at, const Json& set, const std::string& way) {
  Json keyed = has_keys(value) ? value : Json{{"keys", Json::array()}};
  Json& keys = keyed["keys"];
  const auto key = Json{{"at", at}, {"value", set}, {"way", way}};
  for (Json& k : keys)
    if (number_or(k, "at", NAN) == static_cast<double>(at)) {
      k = key;
      return keyed;
    }
  keys.push_back(key);
  std::stable_sort(keys.begin(), keys.end(), [](const Json& a, const Json& b) {
    return number_or(a, "at", 0) < number_or(b, "at", 0);
  });
  return keyed;
}

Json with_keys_moved(Json value, Frames by) {
  if (by != 0 && has_keys(value))
    for (Json& key : value["keys"])
      if (key.is_object() && key.contains("at") && key["at"].is_number()) key["at"] = key["at"].get<double>() + static_cast<double>(by);
  return value;
}

Json without_key(const Json& value, Frames at) {
  if (!has_keys(value)) return value;
  Json left = value;
  Json& keys = left["keys"];
  const Json here = value_at(value, static_cast<double>(at));
  for (std::size_t i = 0; i < keys.size();)
    if (number_or(keys[i], "at", NAN) == static_cast<double>(at)) keys.erase(i);
    else ++i;
  return keys.empty() ? here : left;
}

}  // namespace gc
