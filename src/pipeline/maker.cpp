#include "pipeline/maker.h"

#include <array>
#include <cmath>
#include <condition_variable>
#include <deque>
#include <optional>

#include "base/clock.h"
#include "base/gauge.h"

namespace gc {
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

/// Opens sources ahead of the cut at which they are wanted, on a thread of its own. It does not give way: a decoder's own threads
/// give way to the thread that opens them, and would do so twice for as long as they live.
class Preparer {
 public:
  Preparer(const Program& program, const SealLookup* seals, Decoders& decoders)
      : program_(program), seals_(seals), decoders_(decoders), ahead_(prepared_ahead(program.timeline()->rate.frame_ms())), thread_([this](const std::stop_token& stop) { work(stop); }) {}

  /// Frame n is being fetched: the next cuts, and the next piece of rendered media, are looked after.
  void at(Frames n) {
    const int i = program_.interval_at(n);
    const auto& intervals = program_.intervals();
    std::vector<Frames> wanted;
    // All changes, not just the next one: a title may end a moment before the cut.
    for (auto next = static_cast<std::size_t>(i + 1); next < intervals.size() && intervals[next].in - n <= ahead_; ++next)
      wanted.push_back(intervals[next].in);
    constexpr Frames kPieces = 24, kEvery = 6;
    const std::lock_guard lock(mutex_);
    const auto ask = [&](Frames f, Frames& asked) {
      if (f > asked) queue_.push_back(f), asked = f, changed_.notify_one();
    };
    if (seals_ && n % kEvery == 0 && n + kPieces < program_.duration()) ask(n + kPieces, piece_asked_);
    for (const Frames f : wanted) ask(f, cut_asked_);
  }

 private:
  void work(const std::stop_token& stop) {
    std::unique_lock lock(mutex_);
    while (changed_.wait(lock, stop, [&] { return !queue_.empty(); })) {
      const Frames f = queue_.front();
      queue_.pop_front();
      lock.unlock();
      (void)caught([&] { decoders_.prepare(program_.recipe(f, seals_)); });
      lock.lock();
    }
  }

  const Program& program_;
  const SealLookup* seals_;
  Decoders& decoders_;
  const Frames ahead_;
  std::mutex mutex_;
  std::condition_variable_any changed_;
  std::deque<Frames> queue_;
  Frames cut_asked_ = -1, piece_asked_ = -1;
  std::jthread thread_;
};

struct ProgramWork : FrameMaker::Work {
  Hash128 key;
  MemoryCache::Picture known;
  Fetched fetched;
  Decoded decoded;
};

class ProgramMaker : public FrameMaker {
 public:
  ProgramMaker(ProgramPtr program, const SealLookup* seals, const PipelineOptions& options)
      : program_(std::move(program)), seals_(seals), options_(options), decoders_(12, options.workers) {
    if (options_.prepare) preparer_.emplace(*program_, seals_, decoders_);
    if (!options_.cache) options_.cache = std::make_shared<MemoryCache>(own_budget(*program_, options_));
  }

  std::unique_ptr<Work> fetch(Frames frame, FrameResult& result) override {
    auto work = std::make_unique<ProgramWork>();
    if (preparer_) preparer_->at(frame);
    if (options_.take_frames || options_.keep_frames) {
      work->key = program_->picture_key(frame);
      work->known = options_.cache->find(work->key);
    }
    FrameRecipe recipe = work->known ? FrameRecipe{frame, -1, {}, {}, {}, {}} : program_->recipe(frame, seals_);
    work->fetched = decoders_.fetch(*program_, std::move(recipe), seals_, result.stages);
    result.steady_fetch_ms = work->fetched.turn_ms, result.beside_ms = work->fetched.beside_ms;
    result.shared_wait_ms = work->fetched.waited_ms;
    result.decodes_between = work->fetched.decodes_between;
    return work;
  }

  void process(Work& in_hand, FrameResult& result) override {
    auto& work = static_cast<ProgramWork&>(in_hand);
    decode_into(work, result);
    const Decoded& decoded = work.decoded;
    if (options_.screen && !options_.keep_image && !options_.keep_frames && !work.known && decoded.trouble.empty())
      if (auto screen = straight_to_screen(*program_, decoded, result.stages)) {
        result.screen = std::move(*screen);
        result.state = state_of(decoded.recipe);
        return;
      }
    FrameNotes notes;
    notes.tiles = options_.tiles;
    MemoryCache::Picture made = work.known;
    if (!made) made = make(work, result, notes);
    if (options_.screen) show(*made, result);
    if (options_.keep_image) result.image = made->copy();
    result.state = work.known ? FrameState::remembered : state_of(decoded.recipe);
    result.unseen = notes.unseen;
    result.offline = notes.stand_in || std::any_of(decoded.pictures.begin(), decoded.pictures.end(),
                                                   [](const FramePtr& p) { return !p; });
    // Rendered media that do not turn into the picture they stand for are not asked again. What else is offline in the same
    // frame is no fault of theirs.
    const auto failed = [&](const Hash128& name) { return std::ranges::find(notes.not_kept, name) != notes.not_kept.end(); };
    if (decoded.recipe.seal && failed(request_name({}, decoded.recipe.frame))) seals_->report_broken(*decoded.recipe.seal);
    for (const Tap& tap : decoded.recipe.taps)
      if (failed(tap.name)) seals_->report_broken(tap.hit);
    result.trouble = decoded.trouble;
    result.trouble.insert(result.trouble.end(), notes.trouble.begin(), notes.trouble.end());
  }

 private:
  static FrameState state_of(const FrameRecipe& r) {
    return r.seal ? FrameState::sealed : r.taps.empty() ? FrameState::live : FrameState::half;
  }

  void decode_into(ProgramWork& work, FrameResult& result) {
    auto decoded = decode(work.fetched, seals_, result.stages);
    // Rendered media that cannot be decoded: the live frame is always the truth.
    work.decoded = decoded ? std::move(*decoded) : fetch_and_decode(*program_, result.frame, nullptr, decoders_, result.stages);
    work.fetched.pictures.clear();
    result.shared_wait_ms += work.decoded.waited_ms;
  }

  MemoryCache::Picture make(ProgramWork& work, FrameResult& result, FrameNotes& notes) {
    const std::size_t fetched_stages = result.stages.size();
    const Stopwatch making;
    const CpuStopwatch working;
    const double waited = MemoryCache::waited_ms();
    auto made = std::make_shared<const Image>(
        gc::process(*program_, work.decoded, result.stages, options_.cache.get(), &notes));
    const double shared_wait = MemoryCache::waited_ms() - waited;
    result.shared_wait_ms += shared_wait;
    note_neighbours(notes, work.decoded, result);
    if (options_.keep_frames && !notes.unseen && !notes.stand_in && work.decoded.trouble.empty())
      options_.cache->offer(work.key, made, making.ms());
    if (work.decoded.recipe.seal) return made;
    const StageRef between = program_->between(result.frame);
    // Waiting for a neighbour that another frame makes is no work, and no law says how long it takes.
    auto wall = static_cast<float>(making.ms() - shared_wait),
         cpu = static_cast<float>(working.ms());
    float slowness = 0;
    for (std::size_t i = fetched_stages; i < result.stages.size(); ++i)
      wall -= result.stages[i].wall_ms, cpu -= result.stages[i].cpu_ms,
          slowness = std::max(slowness, result.stages[i].gauge);
    if (between.law)
      result.stages.push_back(
          {between.kind, between.key, std::max(0.0f, wall), std::max(0.0f, cpu), between.owner, slowness});
    return made;
  }

  void note_neighbours(const FrameNotes& notes, const Decoded& decoded, FrameResult& result) {
    if (notes.windows == 0) return;
    if (notes.below[0].made > 0) neighbour_fetch_ms_ = decoded.one_ms;
    double once = 0, all = 0, beyond = 0;
    for (std::size_t i = 0; i < notes.below.size(); ++i) {
      const WindowNotes& n = notes.below[i];
      Level& level = levels_[i];
      // Where the frame found all of its neighbours made, the last one that was made tells.
      if (n.made > 0) level.ms = n.made_ms / n.made;
      if (i == 0 || n.neighbours > 0) level.neighbours = n.neighbours;
      if (level.neighbours > 0) once += level.ms, all += level.ms * level.neighbours;
      // Where another frame has made what would have been this one's to make, it took that much less than such
      // frames take; unless it had to wait for it.
      beyond += level.ms * (n.made - notes.fresh);
    }
    // As the forecast tells them: one count that takes the same for one frame skipped, and for so many that none is left.
    result.neighbours = once > 0 ? static_cast<int>(std::lround(all / once)) : notes.below[0].neighbours;
    result.neighbour_ms = once + neighbour_fetch_ms_;
    result.neighbours_ms = beyond + decoded.further_ms;
    if (result.neighbours_ms < 0)
      result.neighbours_ms = std::min(0.0, result.neighbours_ms + result.shared_wait_ms);
  }

  void show(const Image& image, FrameResult& result) {
    const Stopwatch wall;
    const CpuStopwatch cpu;
    to_screen(image, result.screen);
    const StageRef stage = program_->display_stage();
    result.stages.push_back(
        {stage.kind, stage.key, static_cast<float>(wall.ms()), static_cast<float>(cpu.ms()), stage.owner});
    result.stages.back().ended_ms = now_ms();
    result.stages.back().gauge = gauge_around();
  }

  ProgramPtr program_;
  const SealLookup* seals_;
  PipelineOptions options_;
  Decoders decoders_;
  std::optional<Preparer> preparer_;  ///< gone before what it works with
  /// What is known of the pictures that effects find below them, by levels as FrameNotes has them.
  struct Level {
    std::atomic<double> ms{0};  ///< of making one
    std::atomic<int> neighbours{0};
  };
  std::array<Level, std::tuple_size_v<decltype(FrameNotes::below)>> levels_;
  std::atomic<double> neighbour_fetch_ms_{0};
};

}  // namespace

std::unique_ptr<FrameMaker> make_frames_of(ProgramPtr program, const SealLookup* seals,
                                           const PipelineOptions& options) {
  return std::make_unique<ProgramMaker>(std::move(program), seals, options);
}

}  // namespace gc
