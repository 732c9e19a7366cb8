// Undo and redo over immutable timelines.
#pragma once
#include <string>
#include <vector>

#include "timeline/timeline.h"

namespace gc {

class History {
 public:
  /// `saved`: what the file holds, when `first` is not that.
  explicit History(TimelinePtr first, TimelinePtr saved = nullptr)
      : states_{{std::move(first), {}}}, saved_(saved ? std::move(saved) : states_.front().timeline) {}

  const TimelinePtr& now() const { return states_[at_].timeline; }
  /// Records an edit; what was undone before it is forgotten.
  void push(TimelinePtr next, std::string what);
  bool can_undo() const { return at_ > 0; }
  bool can_redo() const { return at_ + 1 < states_.size(); }
  std::string undo_text() const { return can_undo() ? states_[at_].what : std::string(); }
  std::string redo_text() const { return can_redo() ? states_[at_ + 1].what : std::string(); }
  void undo() {
    if (can_undo()) --at_;
  }
  void redo() {
    if (can_redo()) ++at_;
  }
  /// Whether the present state differs from the one last marked as saved.
  bool changed() const { return now() != saved_; }
  void mark_saved(TimelinePtr what) { saved_ = std::move(what); }

 private:
  struct State {
    TimelinePtr timeline;
    std::string what;
  };
  std::vector<State> states_;
  std::size_t at_ = 0;
  TimelinePtr saved_;
};

}  // namespace gc
