// JSON helpers. nlohmann::json is used as it is; these only turn its surprises into errors.
#pragma once
#include <nlohmann/json.hpp>
#include <string>
#include <string_view>

#include "base/error.h"

namespace gc {

using Json = nlohmann::json;

/// Parses a document. Errors name the line and column; nesting deeper than `max_depth` is refused before it
/// can exhaust the stack.
Result<Json> parse_json(std::string_view text, const std::string& where, int max_depth = 200);

/// A field with a default when it is missing or of another type.
double number_or(const Json& object, const char* key, double fallback);
std::string text_or(const Json& object, const char* key, std::string fallback);
bool flag_or(const Json& object, const char* key, bool fallback);
const Json* object_at(const Json& object, const char* key);  ///< null unless it is an object

}  // namespace gc
