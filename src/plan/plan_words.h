// What a plan says in words.
#pragma once
#include "plan/plan.h"

namespace gc {

/// The answer on the first screen: what drops, what fixes it, when it is ready, what is hidden meanwhile.
std::string sentence_of(const Plan& plan);

}  // namespace gc
