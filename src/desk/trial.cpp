#include "desk/trial.h"

namespace gc {

Playout play_unseen(const View& v, const Stores& stores, const std::atomic<bool>& stop) {
  NullDisplay nowhere;
  return play(v.played, stores.shelf.get(), whole(v), stores.play_options(PlayMode::on_the_clock, v, whole(v)), nowhere, stop);
}

}  // namespace gc
