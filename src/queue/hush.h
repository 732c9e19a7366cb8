// Quiet on this seat: while something is played or measured, the queue's work sleeps.
#pragma once
#include <memory>
#include <thread>

#include "queue/journal.h"

namespace gc {

/// While it lives, the queue's work on this seat sleeps, whichever process does it. Costs next to nothing where nothing was ever
/// queued. Not on the interface thread: it waits for the work to fall asleep, a quarter of a second at most.
class Hush {
 public:
  explicit Hush(const fs::path& queue = data_folder() / "queue.sqlite");
  Hush(const Hush&) = delete;
  Hush& operator=(const Hush&) = delete;

 private:
  std::jthread teller_;  ///< says so again while it lasts
};

}  // namespace gc
