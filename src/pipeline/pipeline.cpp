#include "pipeline/pipeline.h"

#include <sched.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <chrono>
#include <opencv2/core.hpp>

#include "base/clock.h"
#include "base/gauge.h"

namespace gc {

int default_workers() {
  cpu_set_t set;
  CPU_ZERO(&set);
  if (sched_getaffinity(0, sizeof set, &set) == 0 && CPU_COUNT(&set) > 0) return CPU_COUNT(&set);
  return static_cast<int>(std::max(1U, std::thread::hardware_concurrency()));
}

namespace {

/// Room for the neighbours that the frames in flight can share, and no more.
std::size_t own_budget(const Program& program, const PipelineOptions& options) {
  std::size_t pictures = 0;
  for (const auto& s : program.segments())
    pictures = std::max(pictures, static_cast<std::size_t>(s->window.length()));
  const std::size_t bytes =
      static_cast<std::size_t>(program.width()) * static_cast<std::size_t>(program.height()) * 16;
  return bytes * (2 * pictures + static_cast<std::size_t>(2 * options.workers) + 2);
}

}  // namespace

Pipeline::Pipeline(ProgramPtr program, const SealLookup* seals, PipelineOptions options,
                   std::vector<Frames> frames, Done done)
    : program_(std::move(program)),
      seals_(seals),
      options_(options),
      frames_(std::move(frames)),
      done_(std::move(done)) {
  if (!options_.cache) options_.cache = std::make_shared<MemoryCache>(own_budget(*program_, options_));
  cv::setNumThreads(std::min(
      options_.tiles, default_workers()));  // as a rule frames run in parallel, not the insides of a frame
  for (int i = 0; i < options_.workers; ++i) workers_.emplace_back([this] { work(); });
}

Pipeline::~Pipeline() {
  stop();
  for (std::thread& t : workers_) t.join();
}

void Pipeline::stop() {
  const std::scoped_lock lock(mutex_, fetch_mutex_);
  stop_ = true;
  changed_.notify_all();
  fetch_turn_.notify_all();
}

void Pipeline::start_clock(double zero_ms, double period_ms) {
  const std::lock_guard lock(mutex_);
  zero_ms_ = zero_ms, period_ms_ = period_ms;
  Pacer pacer({options_.workers, options_.horizon, period_ms});
  pacer.skip_to(next_);
  pacer_ = pacer;
  changed_.notify_all();
}

void Pipeline::consumed(Frames position) {
  const std::lock_guard lock(mutex_);
  consumed_ = std::max(consumed_, position);
  changed_.notify_all();
}

Cadence Pipeline::cadence() const {
  const std::lock_guard lock(mutex_);
  return pacer_ ? pacer_->cadence() : Cadence{};
}

std::optional<FrameStart> Pipeline::next_start(std::unique_lock<std::mutex>& lock) {
  const auto count = static_cast<Frames>(frames_.size());
  // Before the clock runs: in order, bounded by what has been consumed.
  changed_.wait(lock,
                [&] { return stop_ || pacer_ || next_ >= count || next_ < consumed_ + options_.horizon; });
  if (stop_ || next_ >= count) return std::nullopt;
  FrameStart start{next_, 0};
  if (pacer_) {
    start = pacer_->next(now_ms() - zero_ms_);
    start.at_ms += zero_ms_;
  }
  next_ = start.frame + 1;
  if (start.frame >= count) return std::nullopt;
  return start;
}

void Pipeline::work() {
  const GaugeScope gauge(options_.gauge);
  if (options_.background) setpriority(PRIO_PROCESS, static_cast<id_t>(syscall(SYS_gettid)), 15);
  for (;;) {
    FrameResult result;
    Frames position = 0;
    std::uint64_t ticket = 0;
    {
      std::unique_lock lock(mutex_);
      const auto start = next_start(lock);
      if (!start) return;
      position = start->frame;
      ticket = tickets_++;
      // The decision is made and kept; only its execution may have to wait for room ahead of the clock.
      const double wait = start->at_ms - now_ms();
      if (wait > 0)
        changed_.wait_for(lock, std::chrono::duration<double, std::milli>(wait), [&] { return stop_; });
      if (stop_) return;
    }
    const Frames frame = frames_[static_cast<std::size_t>(position)];
    result.started_ms = now_ms();
    const Hash128 key = options_.keep_frames ? program_->picture_key(frame) : Hash128{};
    const MemoryCache::Picture known = options_.keep_frames ? options_.cache->find(key) : nullptr;
    FrameRecipe recipe = known ? FrameRecipe{frame, -1, {}, {}} : program_->recipe(frame, seals_);
    Decoded decoded;
    {
      std::unique_lock lock(fetch_mutex_);
      fetch_turn_.wait(lock, [&] { return stop_ || fetching_ == ticket; });
      if (stop_) return;
      gauge_again();
      result.fetch_began_ms = now_ms();
      decoded = decoders_.fetch(*program_, std::move(recipe), seals_, result.stages);
      result.fetched_ms = now_ms();
      ++fetching_;
      fetch_turn_.notify_all();
    }
    FrameNotes notes;
    notes.tiles = options_.tiles;
    gauge_again();
    const std::size_t fetched_stages = result.stages.size();
    const Stopwatch processing;
    const CpuStopwatch working;
    MemoryCache::Picture made = known;
    if (!made) {
      const Stopwatch making;
      made = std::make_shared<const Image>(
          process(*program_, decoded, result.stages, options_.cache.get(), &notes));
      if (options_.keep_frames && !notes.unseen && decoded.trouble.empty())
        options_.cache->offer(key, made, making.ms());
    }
    const Image& image = *made;
    if (!known && !decoded.recipe.seal) {
      const StageRef between = program_->between(frame);
      auto wall = static_cast<float>(processing.ms()), cpu = static_cast<float>(working.ms());
      float slowness = 0;
      for (std::size_t i = fetched_stages; i < result.stages.size(); ++i)
        wall -= result.stages[i].wall_ms, cpu -= result.stages[i].cpu_ms,
            slowness = std::max(slowness, result.stages[i].gauge);
      if (between.law)
        result.stages.push_back(
            {between.kind, between.key, std::max(0.0f, wall), std::max(0.0f, cpu), between.owner, slowness});
    }
    if (options_.screen) {
      const Stopwatch wall;
      const CpuStopwatch cpu;
      to_screen(image, result.screen);
      const StageRef stage = program_->display_stage();
      result.stages.push_back(
          {stage.kind, stage.key, static_cast<float>(wall.ms()), static_cast<float>(cpu.ms()), stage.owner});
      result.stages.back().gauge = gauge_around();
    }
    if (options_.keep_image) result.image = image.copy();
    made.reset();
    result.cached = known != nullptr, result.unseen = notes.unseen;
    result.frame = frame, result.position = position;
    result.sealed = decoded.recipe.seal.has_value();
    result.offline =
        std::any_of(decoded.pictures.begin(), decoded.pictures.end(), [](const FramePtr& p) { return !p; });
    result.trouble = std::move(decoded.trouble);
    result.trouble.insert(result.trouble.end(), notes.trouble.begin(), notes.trouble.end());
    result.steady_fetch_ms = decoded.steady_ms;
    result.done_ms = now_ms();
    {
      const std::lock_guard lock(mutex_);
      if (stop_) return;
      if (pacer_)
        pacer_->finished({result.fetch_began_ms - result.started_ms, decoded.steady_ms,
                          result.done_ms - result.fetched_ms, decoded.decodes_between});
    }
    done_(std::move(result));
  }
}

}  // namespace gc
