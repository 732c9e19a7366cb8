// Frames in flight: workers that fetch in order and process side by side, ahead of whoever consumes them. The
// same pipeline runs on the clock (playout), flat out (measuring) and in the background (queue).
#pragma once
#include <atomic>
#include <functional>
#include <optional>
#include <span>
#include <thread>

#include "pipeline/clock.h"
#include "pipeline/pacing.h"
#include "render/renderer.h"

namespace gc {

/// A finished frame with everything that is known of how it came about. Times by the pipeline's clock.
struct FrameResult {
  Frames frame = 0;
  Frames position = 0;  ///< in the list of frames to make
  Image image;          ///< when asked for
  ScreenImage screen;   ///< when asked for
  int worker = 0;
  double decided_ms = 0;  ///< when a worker took it on
  double at_ms = 0;       ///< from when on there was room for it ahead of the clock
  double started_ms = 0, fetch_began_ms = 0, fetched_ms = 0, done_ms = 0;
  double steady_fetch_ms = 0;    ///< what fetching in order takes of a frame that is reached from the one before it
  double beside_ms = 0;          ///< what decoders' own threads work on such a frame besides
  bool decodes_between = false;  ///< frames before it that were skipped had to be decoded all the same
  int neighbours = 0;            ///< other frames' pictures that it looks at
  double neighbour_ms = 0;       ///< of making one of them
  /// Of processing, what neighbours took beyond the one that each frame adds; below 0 where another frame
  /// made that one.
  double neighbours_ms = 0;
  double shared_wait_ms = 0;  ///< waited for pictures that other frames in flight were making
  long page_faults = 0;       ///< memory that had to come back from the drive
  StageLog stages;
  std::vector<std::string> trouble;  ///< what could not be read
  FrameState state = FrameState::live;  ///< how it was had: made, from rendered media, or from memory
  bool offline = false;  ///< something stands in for a picture that could not be had; never to be kept
  bool unseen = false;   ///< something in it shows only after rendering
  std::optional<Error> failed;  ///< why there is no picture at all
};

/// Wall time of its work that the frame's thread did not get, ms: nothing that it waited for itself.
double outside_ms(const FrameResult& frame);
/// Share of the frames' work, 0…1, that was done while others worked on the same core (base/gauge.h); −1
/// where nobody looked.
double crowding_of(std::span<const FrameResult> frames);

/// From this much of a frame on it is told; below lie the clock's grain and the scheduler's.
inline constexpr double kLeastOutsideMs = 4;

struct PipelineOptions {
  int workers = 2;
  int horizon = 12;                    ///< frames started ahead of the consumer
  bool screen = true;                  ///< make an 8-bit picture (a stage of playback)
  bool keep_image = false;             ///< hand over the working image
  bool background = false;             ///< gives way to what shows and asks
  bool gauge = false;                  ///< stages note how fast the core was around them
  int tiles = 1;                       ///< threads that work on each frame
  std::shared_ptr<MemoryCache> cache;  ///< for what frames share; none: the pipeline's own
  bool keep_frames = false;            ///< finished frames are offered to the cache and taken from it
  bool take_frames = false;            ///< frames that the cache has are taken from it
  bool prepare = false;                ///< sources of the next cut are opened ahead of it
  std::vector<CostKind> kinds;         ///< what is known of frames beforehand, by position
  int far = 0;                         ///< as in Pace
};

/// How many frames are made at once on this machine: one for each processor that this process may use.
int default_workers();

/// What makes the frames that a pipeline lets through.
class FrameMaker {
 public:
  /// What goes from fetching to processing.
  struct Work {
    virtual ~Work() = default;
  };
  virtual ~FrameMaker() = default;
  /// One frame at a time, in the order in which frames were started. `worker` is set.
  virtual std::unique_ptr<Work> fetch(Frames frame, FrameResult& result) = 0;
  /// Any number of frames at once.
  virtual void process(Work& work, FrameResult& result) = 0;
};

class Pipeline {
 public:
  using Done = std::function<void(FrameResult&&)>;
  /// Starts at once with `frames` in this order. `done` is called from worker threads, in any order, once for
  /// each frame that was started. Whatever making a frame throws becomes that frame's `failed`; what `done`
  /// throws stops the pipeline, and is told by failure().
  Pipeline(std::unique_ptr<FrameMaker> maker, PipelineOptions options, std::vector<Frames> frames, Done done,
           Clock& clock = real_clock());
  /// The frames of a program, really made.
  Pipeline(ProgramPtr program, const SealLookup* seals, const PipelineOptions& options,
           std::vector<Frames> frames, Done done);
  ~Pipeline();  ///< stops; waits for the frames in flight (at most one frame's time)
  Pipeline(const Pipeline&) = delete;
  Pipeline& operator=(const Pipeline&) = delete;

  /// From now on the pacing rule decides: frame number i of the list is due at `zero_ms + i × period_ms`.
  void start_clock(double zero_ms, double period_ms);
  /// The consumer has finished with everything before list position `position`. Ignored once the clock runs.
  void consumed(Frames position);
  void stop();
  /// What `done` threw, if it did.
  std::optional<Error> failure() const;
  /// Cadence in force, for display.
  Cadence cadence() const;

 private:
  void work(int worker);
  /// False when there is nothing left to do.
  bool make_one(int worker);
  std::optional<FrameStart> next_start(std::unique_lock<std::mutex>& lock);

  std::unique_ptr<FrameMaker> maker_;
  PipelineOptions options_;
  std::vector<Frames> frames_;
  Done done_;
  Clock& clock_;

  mutable std::mutex mutex_;
  std::condition_variable changed_;
  bool stop_ = false;
  std::optional<Error> failure_;
  std::optional<Pacer> pacer_;
  double zero_ms_ = 0;
  Frames next_ = 0, consumed_ = 0;
  std::uint64_t tickets_ = 0, fetching_ = 0;  ///< given out; whose turn it is to fetch
  int active_ = 0;

  std::vector<std::thread> workers_;
};

}  // namespace gc
