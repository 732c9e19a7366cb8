#include "queue/hush.h"

#include <chrono>
#include <condition_variable>
#include <mutex>

#include "base/clock.h"

namespace gc {

Hush::Hush(const fs::path& queue) {
  std::error_code e;
  if (!fs::exists(queue, e)) return;
  auto journal = Journal::open(queue);
  if (!journal || !journal->note_use(true)) return;
  // A renderer says why it does nothing once it does nothing.
  constexpr double kMostMs = 250;
  const Stopwatch watch;
  while (!journal->holder().empty() && journal->why().empty() && watch.ms() < kMostMs)
    std::this_thread::sleep_for(std::chrono::milliseconds(5));
  teller_ = std::jthread([own = std::move(*journal)](std::stop_token over) mutable {
    constexpr auto kAgain = std::chrono::milliseconds(400);
    std::mutex mutex;
    std::condition_variable_any end;
    std::unique_lock lock(mutex);
    while (!end.wait_for(lock, over, kAgain, [&] { return over.stop_requested(); })) (void)own.note_use(true);
  });
}

}  // namespace gc
