// Values that change in time. A parameter is either a value or keys:
//   {"keys": [{"at": 0, "value": 1.0, "way": "linear"}, {"at": 48, "value": 2.0}]}
// `at` counts frames from the segment's first. `way` says how the value goes on from its key to the next one:
//   hold    stays until the next key
//   linear  a straight line (the default)
//   smooth  a cubic Hermite piece whose slopes follow Fritsch and Butland (1984), so that it is smooth
//   through
//           the keys and never leaves the range between two of them
// Before the first key and after the last the value stays. A value may be a list; its entries go each for
// itself.
#pragma once
#include "base/json.h"
#include "base/rational.h"

namespace gc {

/// Whether the value has keys.
bool has_keys(const Json& value);
/// Whether any of the parameters has keys.
bool any_keys(const Json& params);
/// The value at a frame: itself when it has no keys, null when its keys are unusable.
Json value_at(const Json& value, double frame);
/// Every parameter as it is at a frame.
Json params_at(const Json& params, double frame);
/// The value with a key set at a frame, replacing one that is there. A plain value becomes keys.
Json with_key(const Json& value, Frames at, const Json& set, const std::string& way = "linear");
/// The value with all its keys so many frames later.
Json with_keys_moved(Json value, Frames by);
/// The value without the key at a frame; the last key that goes leaves its value.
Json without_key(const Json& value, Frames at);

}  // namespace gc
