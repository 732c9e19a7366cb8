#include "base/json.h"

#include <fmt/format.h>

#include <algorithm>

namespace gc {
namespace {

/// Depth of the brackets outside strings: parsing is recursive at destruction, so depth has to be bounded
/// first.
int depth_of(std::string_view text) {
  int depth = 0, deepest = 0;
  bool quoted = false;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (quoted) {
      if (c == '\\') ++i;
      else if (c == '"') quoted = false;
    } else if (c == '"') {
      quoted = true;
    } else if (c == '{' || c == '[') {
      deepest = std::max(deepest, ++depth);
    } else if (c == '}' || c == ']') {
      --depth;
    }
  }
  return deepest;
}

}  // namespace

Result<Json> parse_json(std::string_view text, const std::string& where, int max_depth) {
  if (text.empty())
    return bad_input("is empty", where, "Choose another file or restore this one from a backup.");
  if (depth_of(text) > max_depth)
    return bad_input(fmt::format("nests deeper than {} levels", max_depth), where,
                     "Flatten the nested compositions in the program that wrote it.");
  try {
    return Json::parse(text);
  } catch (const Json::parse_error& e) {
    const std::size_t at = std::min(e.byte, text.size());
    const auto line = 1 + std::count(text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n');
    return bad_input(fmt::format("is not valid JSON at line {} (byte {})", line, e.byte), where,
                     "The file may be cut short; export it again or restore it from a backup.");
  } catch (const Json::exception& e) {
    return bad_input(std::string("holds a value that cannot be read: ") + e.what(), where,
                     "Export the file again.");
  }
}

double number_or(const Json& object, const char* key, double fallback) {
  if (!object.is_object()) return fallback;
  const auto it = object.find(key);
  return it != object.end() && it->is_number() ? it->get<double>() : fallback;
}
std::string text_or(const Json& object, const char* key, std::string fallback) {
  if (!object.is_object()) return fallback;
  const auto it = object.find(key);
  return it != object.end() && it->is_string() ? it->get<std::string>() : fallback;
}
bool flag_or(const Json& object, const char* key, bool fallback) {
  if (!object.is_object()) return fallback;
  const auto it = object.find(key);
  return it != object.end() && it->is_boolean() ? it->get<bool>() : fallback;
}
const Json* object_at(const Json& object, const char* key) {
  if (!object.is_object()) return nullptr;
  const auto it = object.find(key);
  return it != object.end() && it->is_object() ? &*it : nullptr;
}

}  // namespace gc
