// Holding a document that was read and written against the one that somebody else wrote.
#pragma once
#include <string>

#include "base/json.h"

namespace gc::test {

/// Our own part of the metadata is no edit of what others wrote.
inline Json without_ours(Json j, bool& had) {
  if (j.is_object()) {
    if (j.contains("metadata") && j["metadata"].is_object()) had |= j["metadata"].erase("glass_clock") > 0;
    for (auto& [key, value] : j.items()) value = without_ours(value, had);
  } else if (j.is_array()) {
    for (Json& value : j) value = without_ours(value, had);
  }
  return j;
}
/// "metadata" that was not there, or was no object, holds ours; nothing else may differ.
inline bool same_document(const Json& was, const Json& is, const std::string& at, std::string& where) {
  where = at;
  if (was.is_object() && is.is_object()) {
    for (const auto& [key, value] : was.items()) {
      if (key == "metadata" && !value.is_object()) continue;
      if (!is.contains(key) || !same_document(value, is[key], at + "/" + key, where)) return false;
    }
    for (const auto& [key, value] : is.items())
      if (!was.contains(key) && key != "metadata") return where = at + "/" + key + " is new", false;
    return true;
  }
  if (was.is_array() && is.is_array() && was.size() == is.size()) {
    for (std::size_t i = 0; i < was.size(); ++i)
      if (!same_document(was[i], is[i], at + "/" + std::to_string(i), where)) return false;
    return true;
  }
  where = at;
  return was == is;
}

}  // namespace gc::test
