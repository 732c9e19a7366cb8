#include "timeline/history.h"

namespace gc {

void History::push(TimelinePtr next, std::string what) {
  states_.resize(at_ + 1);
  states_.push_back({std::move(next), std::move(what)});
  ++at_;
}

}  // namespace gc
