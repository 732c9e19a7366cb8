// Measuring what frames cost, in the pipeline that plays them, at the parallelism of playback.
#pragma once
#include <functional>
#include <map>
#include <mutex>
#include <stop_token>

#include "measure/notebook.h"
#include "pipeline/pipeline.h"
#include "render/route.h"

namespace gc {

struct MeasureOptions {
  double seconds = 20;      ///< stop after this long, whatever is known by then
  double tolerance = 0.05;  ///< wanted half-width of the median's interval, relative
  int workers = 2;
  bool again = false;  ///< measure also what the notebook knows well enough
  std::stop_token stop = {};  ///< within the time of the frames in flight
  fs::path media_folder;      ///< folder in which rendered media will lie; empty: the cache folder
  /// What is rendered already, and which frames it answers: those that are part fetched are measured too, as they play. Null:
  /// frames are measured live only.
  const SealLookup* rendered = nullptr;
  const Route* route = nullptr;
};

struct MeasureProgress {
  int known = 0, wanted = 0;  ///< kinds of frames
  double seconds = 0, limit_seconds = 0;
  std::string what;  ///< name of the segment that is being measured
};

struct MeasureReport {
  int kinds = 0;          ///< different kinds of frames in the timeline
  int within = 0;         ///< of them, with a median known within the tolerance
  int from_notebook = 0;  ///< of them, known before
  int by_law = 0;         ///< of those, never measured themselves: the seat's cost laws say it
  int frames = 0;         ///< frames timed now
  double seconds = 0;
  double renders_seconds = 0;  ///< of these, how rendered media play and what encoding takes
  bool cancelled = false;
};

/// Fills the notebook until every kind of frame is known or the time is spent. Also measures how sealed media
/// of this raster play and encode. `progress` returning false cancels.
Result<MeasureReport> measure(const ProgramPtr& program, Notebook& notebook, const MeasureOptions& options,
                              const std::function<bool(const MeasureProgress&)>& progress);

/// Runs these frames flat out through the pipeline and returns them in the order in which they were started.
/// Stopped before its end it returns those that are done. Throws std::runtime_error when one of them could not be made for want of memory or the like.
std::vector<FrameResult> run_flat_out(const ProgramPtr& program, const SealLookup* seals,
                                      std::vector<Frames> frames, int workers, bool keep_image = false,
                                      const std::stop_token& stop = {});

/// Puts one run's frames into the notebook: costs of frames and of the stages that they go through.
void record_run(Notebook& notebook, const Hash128& frames_key, std::span<const StageRef> stages,
                const std::vector<FrameResult>& results, int workers);

/// What each stage took of a frame, by its key, for frames [from, to) of a run: all its turns in a frame
/// together, shared out over how often `stages` has it. Where frames share the work of a stage (neighbours
/// that one makes and others use), the means of four frames in a row stand for each. Of a run too short for
/// that (`in_a_row` false) the first frames made all the neighbours: what one turn takes is all that is known.
std::map<Hash128, std::vector<StageSample>> stage_samples(const std::vector<FrameResult>& results,
                                                          std::size_t from, std::size_t to,
                                                          std::span<const StageRef> stages, bool in_a_row = true);

/// Learns from frames that are rendered or played anyway. Give it every frame; `finish` writes what was
/// learnt.
class Learner {
 public:
  Learner(ProgramPtr program, Notebook& notebook) : program_(std::move(program)), notebook_(notebook) {}
  void see(const FrameResult& frame);  ///< from any thread
  Result<void> finish();

 private:
  ProgramPtr program_;
  Notebook& notebook_;
  std::mutex mutex_;
  MachineTimes began_ = machine_times();
  std::map<int, std::map<Hash128, std::vector<StageSample>>> seen_;  ///< by interval and stage
};

/// Rendered media in one file, from whose frames every frame of a timeline is answered in a circle while it is measured.
struct ProbeMovie {
  fs::path file;
  Frames length = 0;
  Form form = Form::vc3_hqx;
  int width = 0, height = 0;
};
/// Whether it was measured how media of this form and size play in this program.
bool fetching_is_known(const Program& program, const Notebook& notebook, Form form, int width, int height);
/// Measures how such media play: each round reads the file from its drive. How many frames were timed.
int measure_fetching(const ProgramPtr& program, Notebook& notebook, const ProbeMovie& movie, int rounds, int workers,
                     const std::stop_token& stop = {});

/// Where the notebook keeps what a piece of rendered media takes besides its frames: being described and recorded, ms, and
/// being read back and made durable, ms for each of its million bytes.
Hash128 piece_key();
Hash128 piece_bytes_key();
/// What describing and recording a piece takes, ms; nothing where it was not measured.
std::optional<double> recording_ms(const Notebook& notebook);
/// Notes what a finished piece took: all that is no recording is for its bytes. Of few bytes it would tell of the volume rather
/// than of bytes, and is not noted.
void note_piece(Notebook& notebook, double ms, std::uint64_t bytes);

}  // namespace gc
