#include "pipeline/pipeline.h"

#include <sched.h>
#include <sys/resource.h>

#include <limits>
#include <opencv2/core.hpp>

#include "base/gauge.h"
#include "base/priority.h"
#include "pipeline/maker.h"

namespace gc {
namespace {

constexpr double kForever = std::numeric_limits<double>::infinity();

long page_faults() {
  rusage u{};
  getrusage(RUSAGE_THREAD, &u);
  return u.ru_majflt;
}

}  // namespace

int default_workers() {
  cpu_set_t set;
  CPU_ZERO(&set);
  if (sched_getaffinity(0, sizeof set, &set) == 0 && CPU_COUNT(&set) > 0) return CPU_COUNT(&set);
  return static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
}

double outside_ms(const FrameResult& r) {
  double own = 0;
  for (const StageSample& s : r.stages) own += static_cast<double>(s.by_wall ? s.wall_ms : s.cpu_ms);
  const double waited = r.fetch_began_ms - r.started_ms + r.shared_wait_ms;
  return std::max(0.0, r.done_ms - r.started_ms - waited - own);
}

double crowding_of(std::span<const FrameResult> frames) {
  double shared = 0, all = 0;
  for (const FrameResult& f : frames)
    for (const StageSample& s : f.stages)
      if (s.gauge > 0) all += s.cpu_ms, shared += s.gauge >= static_cast<float>(kSharedCore) ? s.cpu_ms : 0;
  return all > 0 ? shared / all : -1;
}

Pipeline::Pipeline(std::unique_ptr<FrameMaker> maker, PipelineOptions options, std::vector<Frames> frames,
                   Done done, Clock& clock)
    : maker_(std::move(maker)),
      options_(std::move(options)),
      frames_(std::move(frames)),
      done_(std::move(done)),
      clock_(clock),
      active_(options_.workers) {
  cv::setNumThreads(std::min(
      options_.tiles, default_workers()));  // as a rule frames run in parallel, not the insides of a frame
  for (int i = 0; i < options_.workers; ++i) clock_.expect(i);
  for (int i = 0; i < options_.workers; ++i) workers_.emplace_back([this, i] { work(i); });
}

Pipeline::Pipeline(ProgramPtr program, const SealLookup* seals, const PipelineOptions& options,
                   std::vector<Frames> frames, Done done)
    : Pipeline(make_frames_of(std::move(program), seals, options), options, std::move(frames),
               std::move(done)) {}

Pipeline::~Pipeline() {
  stop();
  {
    std::unique_lock lock(mutex_);
    clock_.wait(lock, changed_, kForever, [&] { return active_ == 0; });
  }
  for (std::thread& t : workers_) t.join();
}

void Pipeline::stop() {
  const std::lock_guard lock(mutex_);
  stop_ = true;
  changed_.notify_all();
}

void Pipeline::start_clock(double zero_ms, double period_ms) {
  const std::lock_guard lock(mutex_);
  zero_ms_ = zero_ms;
  Pacer pacer({options_.workers, options_.horizon, period_ms, options_.far});
  pacer.skip_to(next_);
  pacer_ = pacer;
  changed_.notify_all();
}

void Pipeline::consumed(Frames position) {
  const std::lock_guard lock(mutex_);
  consumed_ = std::max(consumed_, position);
  changed_.notify_all();
}

std::optional<Error> Pipeline::failure() const {
  const std::lock_guard lock(mutex_);
  return failure_;
}

Cadence Pipeline::cadence() const {
  const std::lock_guard lock(mutex_);
  return pacer_ ? pacer_->cadence() : Cadence{};
}

std::optional<FrameStart> Pipeline::next_start(std::unique_lock<std::mutex>& lock) {
  const auto count = static_cast<Frames>(frames_.size());
  // Before the clock runs: in order, bounded by what has been consumed.
  clock_.wait(lock, changed_, kForever,
              [&] { return stop_ || pacer_ || next_ >= count || next_ < consumed_ + options_.horizon; });
  if (stop_ || next_ >= count) return std::nullopt;
  FrameStart start{next_, 0};
  if (pacer_) {
    start = pacer_->next(clock_.now() - zero_ms_, options_.kinds);
    start.at_ms += zero_ms_;
  }
  next_ = start.frame + 1;
  if (start.frame >= count) return std::nullopt;
  return start;
}

void Pipeline::work(int worker) {
  clock_.enter(worker);
  {
    const GaugeScope gauge(options_.gauge);
    if (options_.background) give_way();
    while (make_one(worker)) {
    }
  }
  {
    const std::lock_guard lock(mutex_);
    --active_;
    changed_.notify_all();
  }
  clock_.leave();
}

bool Pipeline::make_one(int worker) {
  FrameResult result;
  result.worker = worker;
  std::int64_t kind = 0;
  {
    std::unique_lock lock(mutex_);
    const auto start = next_start(lock);
    if (!start) return false;
    result.position = start->frame, kind = start->kind;
    result.frame = frames_[static_cast<std::size_t>(start->frame)];
    const std::uint64_t ticket = tickets_++;
    result.decided_ms = clock_.now();
    // The decision is made and kept; only its execution may have to wait for room ahead of the clock.
    result.at_ms = std::max(start->at_ms, result.decided_ms);
    if (start->at_ms > result.decided_ms) clock_.wait(lock, changed_, start->at_ms, [&] { return stop_; });
    result.started_ms = clock_.now();
    clock_.wait(lock, changed_, kForever, [&] { return stop_ || fetching_ == ticket; });
    if (stop_) return false;
  }
  gauge_again();
  const long faults = page_faults();
  result.fetch_began_ms = clock_.now();
  std::unique_ptr<FrameMaker::Work> work;
  result.failed = caught([&] { work = maker_->fetch(result.frame, result); });
  result.fetched_ms = clock_.now();
  {
    const std::lock_guard lock(mutex_);
    ++fetching_;
    changed_.notify_all();
  }
  gauge_again();
  if (!result.failed) result.failed = caught([&] { maker_->process(*work, result); });
  if (result.failed) result.offline = true, result.trouble.push_back(result.failed->text());
  result.page_faults += page_faults() - faults;
  result.done_ms = clock_.now();
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return false;
    if (pacer_)
      pacer_->finished(
          {result.fetch_began_ms - result.started_ms, result.steady_fetch_ms,
           std::max(0.0, result.done_ms - result.fetched_ms - result.neighbours_ms) + result.beside_ms, kind},
          {result.steady_fetch_ms + result.beside_ms, result.decodes_between, result.neighbour_ms, result.neighbours});
  }
  if (auto threw = caught([&] { done_(std::move(result)); })) {
    const std::lock_guard lock(mutex_);
    if (!failure_) failure_ = std::move(threw);
    stop_ = true;
    changed_.notify_all();
    return false;
  }
  return true;
}

}  // namespace gc
