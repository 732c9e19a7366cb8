#include "measure/measure.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <chrono>
#include <set>
#include <stdexcept>

#include "base/clock.h"
#include "base/files.h"
#include "base/gauge.h"
#include "base/log.h"
#include "base/mean.h"
#include "media/compare.h"
#include "measure/encoding.h"
#include "measure/hold_ups.h"

namespace gc {
namespace {

constexpr int kLeastSamples = 12;

/// Frames of one kind: where in the timeline they are, and how well they are known.
struct Sort {
  Hash128 key;
  std::vector<FrameRange> where;
  std::vector<StageRef> stages;
  std::string name;
  const SealLookup* rendered = nullptr;  ///< what part of it is fetched from; null: it is made live
  std::size_t round = 0;
  bool known = false;  ///< within the tolerance
};

/// Whether laws need no measurement: they cover the frames, and what they may err by leaves no doubt of what
/// becomes of them. A stretch up to nearly twice too heavy can still be carried by what was made ahead.
bool settled_by_laws(const Notebook& notebook, std::span<const StageRef> stages, int workers,
                     double period_ms) {
  const KnownCost c = known_cost(notebook, stages, workers);
  if (!covered(c)) return false;
  const double load = load_of(c.fetch_ms, c.process_ms, workers, period_ms), off = c.error_ms / c.ms();
  return load * (1 + off) < 0.9 || load * (1 - off) > 2;
}

double error_of(const Notebook& notebook, const Hash128& key) {
  std::vector<float> totals;
  for (const FrameSample& s : notebook.frames(key)) totals.push_back(s.fetch_ms + s.process_ms);
  if (totals.size() < kLeastSamples) return 1e9;
  return median_of(std::move(totals)).relative_error();
}

/// How closely a sort has to be known: twice as closely where its cost decides how many frames drop. Near the budget and
/// above it one per cent of cost is three or four of drops.
double wanted_error(const Notebook& notebook, const Sort& s, const MeasureOptions& options, double period_ms) {
  constexpr double kDecides = 0.85;  // of the budget
  double load = 0;
  const std::vector<FrameSample> frames = notebook.frames(s.key);
  for (const FrameSample& f : frames)
    load += load_of(static_cast<double>(f.fetch_ms), static_cast<double>(f.process_ms), options.workers, period_ms) / static_cast<double>(frames.size());
  return load >= kDecides ? options.tolerance / 2 : options.tolerance;
}

/// Each sort once, in the order of their first frames.
class Sorts {
 public:
  explicit Sorts(const Program& program) : program_(program) {}

  void add(const CompiledInterval& interval, FrameRange where, const TapPattern& taps, const SealLookup* rendered) {
    std::vector<StageRef> stages = program_.stages(where.in, taps);
    const Hash128 key = frame_key(stages);
    const auto [it, fresh] = index_.try_emplace(key, all.size());
    if (fresh)
      all.push_back({key, {}, std::move(stages), interval.layers.empty() ? "Gap" : interval.layers.front().from->segment->name, rendered});
    all[it->second].where.push_back(where);
  }
  std::vector<Sort> all;

 private:
  const Program& program_;
  std::map<Hash128, std::size_t> index_;
};

/// What there is live, whatever is rendered; and of what is rendered the frames that are made of it and more, or kept in a form
/// of their own. Frames of the usual form are all alike, and measured apart.
std::vector<Sort> sorts_of(const Program& program, const MeasureOptions& options) {
  Sorts sorts(program);
  for (const CompiledInterval& i : program.intervals()) sorts.add(i, {i.in, i.out}, {}, nullptr);
  if (!options.route || !options.rendered) return std::move(sorts.all);
  const Route& route = *options.route;
  const auto at = [](Frames f) { return static_cast<std::size_t>(f); };
  for (const CompiledInterval& i : program.intervals())
    for (Frames in = i.in, out = in; in < i.out; in = out) {
      while (out < i.out && route.alike(at(out), at(in))) ++out;
      if (!route.taps(at(in)).empty()) sorts.add(i, {in, out}, route.taps(at(in)), options.rendered);
    }
  return std::move(sorts.all);
}

/// The form in which finished frames of the timeline are kept where nobody chose one. VC-3 does not take every raster.
Form usual_form(const Timeline& t) { return form_that_keeps(Form::vc3_hqx, false, t.width, t.height); }
/// What a frame goes through that is answered by media of this form and size.
std::vector<StageRef> stages_fetched(const Program& program, Form form, int width, int height) {
  const Timeline& t = *program.timeline();
  if (form == Form::vc3_hqx && width == t.width && height == t.height) return program.sealed_stages();
  return program.stages(0, {TapUse{{}, TapKind::frame, 0, form, width, height}});
}

/// Answers every frame from one file, in a circle.
class ProbeSeals : public SealLookup {
 public:
  explicit ProbeSeals(const ProbeMovie& movie) : movie_(movie) {}
  std::optional<SealHit> find(const Hash128&) const override {
    return SealHit{movie_.file.string(), next_++ % movie_.length, {}, movie_.form, movie_.width, movie_.height};
  }
  void report_broken(const SealHit&) const override {}

 private:
  const ProbeMovie& movie_;
  mutable std::atomic<Frames> next_{0};
};

/// How media of the sealed form play: a second of the timeline is rendered, written to where rendered media lie, and played
/// back from that volume.
Result<int> measure_sealed(const ProgramPtr& program, Notebook& notebook, int workers,
                           const fs::path& folder, const std::stop_token& stop) {
  const Timeline& t = *program->timeline();
  // Frames from all over, so that the pictures are as hard to code as the timeline's.
  constexpr Frames kLength = 18;
  std::vector<Frames> frames;
  for (Frames i = 0; i < kLength / 3; ++i)
    frames.push_back(program->duration() * (2 * i + 1) / (kLength / 3 * 2));
  std::vector<FrameResult> pictures = run_flat_out(program, nullptr, frames, workers, true, stop);
  if (stop.stop_requested()) return 0;
  const auto scratch = ScratchFolder::make(folder, ".probe-");
  if (!scratch) return std::unexpected(scratch.error());
  const Form form = usual_form(t);
  const fs::path file = scratch->path() / (std::string("writing") + form_extension(form));
  auto writer = MovieWriter::create(file.string(), form, t.width, t.height, t.rate);
  if (!writer) return std::unexpected(writer.error());
  // Rendered media have the whole raster, at whatever scale they play.
  for (FrameResult& r : pictures)
    if (r.image.width() != t.width) r.image = enlarged(r.image, t.width, t.height);
  for (Frames i = 0; i < kLength; ++i)
    if (auto r = (*writer)->write(pictures[static_cast<std::size_t>(i) % pictures.size()].image); !r) return std::unexpected(r.error());
  if (auto closed = (*writer)->finish(); !closed) return std::unexpected(closed.error());
  pictures.clear();
  // What the shelf does with each piece: read back, described, recorded, renamed, all of it durable.
  const fs::path kept = scratch->path() / (std::string("probe") + form_extension(form));
  const auto bytes = static_cast<std::uint64_t>(fs::file_size(file));
  const Stopwatch piece;
  const bool recorded = write_file_atomic(scratch->path() / "beside.json", "{}") && write_file_atomic(scratch->path() / "record", "{}");
  const std::array<EncodeSample, 1> records{EncodeSample{static_cast<float>(piece.ms()), 0}};
  const bool durable = recorded && picture_hashes(file.string()).has_value() && sync_and_rename(file, kept);
  if (!durable) return environment("a piece of rendered media cannot be kept", folder.string(), "Check its volume, and measure again.");
  notebook.add_encode(piece_key(), records);
  note_piece(notebook, piece.ms(), bytes);
  return measure_fetching(program, notebook, {kept, kLength, form, t.width, t.height}, 3, workers, stop);
}

}  // namespace

// The first frame pays for opening and seeking; the first ones of
// the other workers find the pipeline half empty. Neither is how playback runs.
void record_run(Notebook& notebook, const Hash128& frames_key, std::span<const StageRef> stages,
                const std::vector<FrameResult>& results, int workers) {
  std::vector<FrameSample> frames;
  std::set<Hash128> elsewhere;  // where others on the core do not matter
  for (const StageRef& s : stages)
    if (s.by_wall) elsewhere.insert(s.key);
  const bool enough = results.size() > static_cast<std::size_t>(2 * workers);
  for (std::size_t i = 0; i < results.size(); ++i) {
    const FrameResult& r = results[i];
    if (i == 0) {
      float decode = 0;
      for (const StageSample& s : r.stages)
        if (s.kind == StageKind::decode && s.ended_ms <= r.fetched_ms) decode += s.wall_ms;
      const auto open = static_cast<float>(std::max(0.0, r.fetched_ms - r.fetch_began_ms - decode));
      notebook.add_entries(frames_key, std::span(&open, 1));
      continue;
    }
    if (static_cast<int>(i) < workers && enough) continue;
    // What the outside took of it is no cost of the frame: the forecast adds the outside as it is lately.
    const double outside = outside_ms(r), process = r.done_ms - r.fetched_ms;
    const double taken = outside > kLeastOutsideMs ? std::min(outside, 0.9 * process) : 0;
    // Nor is what others on the same core add as a rule: the forecast adds that as crowded as the seat is lately. Nor are
    // neighbours that the frame before would have left: the forecast adds them after a cut and a skip.
    double fetching = 0, off_fetch = 0, off_process = 0;
    for (const StageSample& s : r.stages) {
      const bool fetches = (s.kind == StageKind::read || s.kind == StageKind::decode) && s.ended_ms <= r.fetched_ms;
      const double off = undisturbed(s) || elsewhere.contains(s.key)
                             ? 0
                             : static_cast<double>(std::min(s.wall_ms, s.cpu_ms)) * (1 - 1 / kSharedCoreCosts);
      (fetches ? off_fetch : off_process) += off;
      if (fetches) fetching += static_cast<double>(s.wall_ms);
    }
    const double fetch = fetching > 0 ? r.steady_fetch_ms * (1 - off_fetch / fetching) : r.steady_fetch_ms;
    frames.push_back({static_cast<float>(fetch),
                      static_cast<float>(std::max(process - taken - off_process - r.neighbours_ms, 0.1 * process) + r.beside_ms)});
  }
  notebook.add_frames(frames_key, frames);
  const auto by_stage =
      stage_samples(results, enough ? static_cast<std::size_t>(workers) : 1, results.size(), stages, enough);
  std::set<Hash128> seen;
  for (const StageRef& stage : stages)
    if (const auto it = by_stage.find(stage.key); it != by_stage.end() && seen.insert(stage.key).second)
      notebook.add_stage(stage, it->second);
}

std::map<Hash128, std::vector<StageSample>> stage_samples(const std::vector<FrameResult>& results,
                                                          std::size_t from, std::size_t to,
                                                          std::span<const StageRef> stages, bool in_a_row) {
  std::map<Hash128, std::vector<StageSample>> by_stage;
  std::map<Hash128, int> times;
  for (const StageRef& s : stages) ++times[s.key];
  for (const auto& [key, often] : times) {
    std::vector<StageSample> each;
    bool uneven = false;
    int turns = 0;
    for (std::size_t i = from; i < std::min(to, results.size()); ++i) {
      StageSample sum;
      int n = 0;
      for (const StageSample& s : results[i].stages)
        if (s.key == key) {
          sum.kind = s.kind, sum.key = key, sum.owner = s.owner, ++n;
          sum.gauge = std::max(sum.gauge, s.gauge);
          sum.wall_ms += s.cost_ms(), sum.cpu_ms += s.work_ms > 0 ? s.work_ms : s.cpu_ms;
        }
      uneven = uneven || n != often;
      turns += n;
      if (!in_a_row && n == 0) continue;
      const auto share = static_cast<float>(in_a_row ? often : n);
      sum.wall_ms /= share, sum.cpu_ms /= share;
      each.push_back(sum);
    }
    if (turns == 0) continue;
    constexpr std::size_t kRow = 4;
    if (uneven && in_a_row) {
      std::vector<StageSample> means;
      const std::size_t row = std::min(kRow, each.size());
      for (std::size_t i = 0; i + row <= each.size(); ++i) {
        StageSample m = each[i];
        m.key = key, m.gauge = m.wall_ms = m.cpu_ms = 0;
        const auto share = static_cast<float>(row);
        for (std::size_t k = i; k < i + row; ++k)
          m.wall_ms += each[k].wall_ms / share, m.cpu_ms += each[k].cpu_ms / share,
              m.gauge = std::max(m.gauge, each[k].gauge);
        if (m.wall_ms > 0) means.push_back(m);
      }
      each = std::move(means);
    }
    by_stage[key] = std::move(each);
  }
  return by_stage;
}

void Learner::see(const FrameResult& frame) {
  if (frame.state != FrameState::live || frame.offline) return;
  const int i = program_->interval_at(frame.frame);
  const std::lock_guard lock(mutex_);
  auto& stages = seen_[i];
  std::map<Hash128, std::pair<StageSample, int>> sums;
  for (const StageSample& s : frame.stages) {
    auto& [sum, n] = sums[s.key];
    sum.kind = s.kind, sum.key = s.key, sum.owner = s.owner, ++n;
    sum.wall_ms += s.wall_ms, sum.cpu_ms += s.cpu_ms, sum.gauge = std::max(sum.gauge, s.gauge);
  }
  for (auto& [key, sum] : sums) {
    // A frame that found a neighbour made by another one says nothing about what it costs to make.
    sum.first.wall_ms /= static_cast<float>(sum.second), sum.first.cpu_ms /= static_cast<float>(sum.second);
    stages[key].push_back(sum.first);
  }
}

Result<void> Learner::finish() {
  const std::lock_guard lock(mutex_);
  const Conditions around = conditions_between(began_, machine_times());
  notebook_.set_conditions(around), notebook_.note_shared(around);
  for (const auto& [i, stages] : seen_) {
    if (i < 0) continue;
    std::set<Hash128> done;
    for (const StageRef& ref : program_->stages(program_->intervals()[static_cast<std::size_t>(i)].in))
      // Reading and opening depend on where the reader stood; only runs made for measuring tell.
      if (ref.kind != StageKind::read && ref.kind != StageKind::decode)
        if (const auto it = stages.find(ref.key); it != stages.end() && done.insert(ref.key).second)
          notebook_.learn(ref, it->second);
  }
  seen_.clear();
  notebook_.set_conditions({});
  return notebook_.save();
}

std::vector<FrameResult> run_flat_out(const ProgramPtr& program, const SealLookup* seals,
                                      std::vector<Frames> frames, int workers, bool keep_image,
                                      const std::stop_token& stop) {
  std::mutex mutex;
  std::condition_variable finished;
  std::vector<FrameResult> results;
  const std::size_t count = frames.size();
  PipelineOptions options;
  options.workers = workers, options.horizon = static_cast<int>(count) + 1, options.keep_image = keep_image;
  options.gauge = true;
  {
    Pipeline pipeline(program, seals, options, std::move(frames), [&](FrameResult&& r) {
      const std::lock_guard lock(mutex);
      if (!keep_image) r.screen = {};
      results.push_back(std::move(r));
      if (results.size() == count) finished.notify_all();
    });
    const std::stop_callback wake(stop, [&] {
      const std::lock_guard lock(mutex);
      finished.notify_all();
    });
    std::unique_lock lock(mutex);
    const auto over = [&] { return results.size() == count || stop.stop_requested(); };
    while (!finished.wait_for(lock, std::chrono::milliseconds(200), over))
      if (const auto failure = pipeline.failure()) throw std::runtime_error(failure->text());
    lock.unlock();  // the pipeline's end waits for workers that may want the lock
  }
  for (const FrameResult& r : results)
    if (r.failed) throw std::runtime_error(r.failed->text());
  std::sort(results.begin(), results.end(),
            [](const FrameResult& a, const FrameResult& b) { return a.started_ms < b.started_ms; });
  return results;
}

bool fetching_is_known(const Program& program, const Notebook& notebook, Form form, int width, int height) {
  return notebook.frames(frame_key(stages_fetched(program, form, width, height))).size() >= 2 * kLeastSamples;
}

int measure_fetching(const ProgramPtr& program, Notebook& notebook, const ProbeMovie& movie, int rounds, int workers, const std::stop_token& stop) {
  constexpr std::size_t kRow = 18;
  const std::vector<StageRef> stages = stages_fetched(*program, movie.form, movie.width, movie.height);
  const ProbeSeals seals(movie);
  int timed = 0;
  for (int round = 0; round < rounds; ++round) {
    forget_cached(movie.file);
    const std::vector<FrameResult> results = run_flat_out(program, &seals, std::vector<Frames>(kRow, 0), workers, false, stop);
    if (stop.stop_requested()) break;
    record_run(notebook, frame_key(stages), stages, results, workers);
    timed += static_cast<int>(results.size());
  }
  return timed;
}

Hash128 piece_key() { return Hasher().add("recording a piece of rendered media").done(); }
Hash128 piece_bytes_key() { return Hasher().add("the bytes of pieces of rendered media").done(); }

std::optional<double> recording_ms(const Notebook& notebook) {
  return notebook.mean_encode(piece_key()).transform([](const EncodeSample& s) { return static_cast<double>(s.wall_ms); });
}

void note_piece(Notebook& notebook, double ms, std::uint64_t bytes) {
  constexpr std::uint64_t kFew = 1'000'000;
  if (bytes < kFew) return;
  const double own = std::max(0.0, ms - recording_ms(notebook).value_or(0));
  const std::array<EncodeSample, 1> each{EncodeSample{static_cast<float>(own * 1e6 / static_cast<double>(bytes)), 0}};
  notebook.add_encode(piece_bytes_key(), each);
}

namespace {

/// Round after round over the kinds of frames that are not known yet.
class Measuring {
 public:
  Measuring(const ProgramPtr& program, Notebook& notebook, const MeasureOptions& options, const std::function<bool(const MeasureProgress&)>& progress)
      : program_(program), notebook_(notebook), options_(options), progress_(progress), frame_ms_(program->timeline()->rate.frame_ms()),
        kinds_(sorts_of(*program, options)) {}

  Result<MeasureReport> run() {
    std::vector<Sort*> open = not_known();
    try_sealed();
    // Everything gets one round. Round after round, so that time runs out evenly.
    for (int round = 0; !open.empty() && !report_.cancelled; ++round) {
      std::vector<Sort*> still;
      for (Sort* k : open) {
        const bool in_time = round == 0 || watch_.ms() / 1000 <= options_.seconds;
        if (!go_on(k->name) || !in_time || wants_more(*k)) still.push_back(k);
      }
      // What a render takes can wait until something is known of every kind of frame.
      if (!report_.cancelled) try_encoding();
      if (watch_.ms() / 1000 > options_.seconds) break;
      open = std::move(still);
    }
    if (!report_.cancelled) try_encoding();
    // The first forecast knows of nothing else how others hold frames up here.
    if (auto seen = outside_.seen()) {
      seen->shared = others_ / outside_.frames(), seen->shown = false;
      if (auto kept = notebook_.add_disturbance(*seen); !kept) return std::unexpected(kept.error());
    }
    report_.seconds = watch_.ms() / 1000;
    if (auto saved = notebook_.save(); !saved) return std::unexpected(saved.error());
    return report_;
  }

 private:
  bool go_on(const std::string& what) {
    if (options_.stop.stop_requested()) report_.cancelled = true;
    if (progress_ && !progress_({report_.within, report_.kinds, watch_.ms() / 1000, options_.seconds, what})) report_.cancelled = true;
    return !report_.cancelled;
  }

  /// Kinds that neither the notebook nor a law settles.
  std::vector<Sort*> not_known() {
    report_.kinds = static_cast<int>(kinds_.size());
    std::vector<Sort*> open;
    for (Sort& k : kinds_) {
      if (!options_.again && error_of(notebook_, k.key) <= options_.tolerance) ++report_.from_notebook;
      else if (!options_.again && notebook_.frames(k.key).empty() && settled_by_laws(notebook_, k.stages, options_.workers, frame_ms_))
        ++report_.from_notebook, ++report_.by_law;
      else open.push_back(&k);
    }
    report_.within = report_.from_notebook;
    return open;
  }

  fs::path media_folder() const { return options_.media_folder.empty() ? cache_folder() : options_.media_folder; }

  /// How rendered media play, where that is not known. What it takes is of renders, not of the kinds of frames.
  void try_sealed() {
    const Timeline& t = *program_->timeline();
    if (program_->duration() == 0) return;
    if (!options_.again && fetching_is_known(*program_, notebook_, usual_form(t), t.width, t.height)) return;
    if (!go_on("Sealed media")) return;
    const Stopwatch taken;
    const auto timed = measure_sealed(program_, notebook_, options_.workers, media_folder(), options_.stop);
    if (timed) report_.frames += *timed;
    else spdlog::warn("sealed media of this raster could not be measured: {}", timed.error().text());
    report_.renders_seconds += taken.ms() / 1000;
  }

  /// What encoding finished frames takes; once.
  void try_encoding() {
    constexpr double kMostSeconds = 3;
    if (std::exchange(encoding_tried_, true) || program_->duration() == 0 || !go_on("Encoding")) return;
    const Stopwatch taken;
    const auto tried = measure_encoding(program_, notebook_, usual_form(*program_->timeline()), {0, program_->duration()}, options_.workers,
                                        media_folder(), kMostSeconds, options_.stop);
    if (!tried) spdlog::warn("what encoding takes could not be measured: {}", tried.error().text());
    report_.renders_seconds += taken.ms() / 1000;
  }

  /// Frames in a row; each round at another place of another stretch of this kind.
  std::vector<Frames> next_row(Sort& k) const {
    static constexpr int kSpread[] = {1, 3, 0, 2, 4};
    const auto [in, out] = k.where[k.round % k.where.size()];
    const Frames length = std::min<Frames>(out - in, 10 + options_.workers);
    const Frames start = in + (out - in - length) * kSpread[(k.round / k.where.size()) % 5] / 4;
    ++k.round;
    std::vector<Frames> frames;
    for (Frames f = start; f < start + length; ++f) frames.push_back(f);
    return frames;
  }

  /// Plays a row of this kind and notes what it took. Whether that leaves it less known than the forecast wants.
  bool wants_more(Sort& k) {
    const MachineTimes before = machine_times();
    const std::vector<FrameResult> results = run_flat_out(program_, k.rendered, next_row(k), options_.workers, false, options_.stop);
    if (options_.stop.stop_requested()) {
      report_.cancelled = true;
      return true;
    }
    // Rendered media that cannot be read were made live instead, which says nothing of them.
    if (k.rendered && std::ranges::any_of(results, [](const FrameResult& r) { return r.state == FrameState::live; })) return false;
    const Conditions around = conditions_between(before, machine_times());
    notebook_.set_conditions(around), notebook_.note_shared(around);
    notebook_.note_crowding(crowding_of(results));
    for (const FrameResult& r : results) {
      const double taken = outside_ms(r);
      outside_.add(r.done_ms - r.fetch_began_ms - r.shared_wait_ms + r.beside_ms - taken, taken);
    }
    others_ += static_cast<double>(results.size()) * (around.others + around.stolen);
    record_run(notebook_, k.key, k.stages, results, options_.workers);
    notebook_.set_conditions({});
    report_.frames += static_cast<int>(results.size());
    const double error = error_of(notebook_, k.key);
    if (error <= options_.tolerance && !std::exchange(k.known, true)) ++report_.within;
    return error > wanted_error(notebook_, k, options_, frame_ms_);
  }

  const ProgramPtr& program_;
  Notebook& notebook_;
  const MeasureOptions& options_;
  const std::function<bool(const MeasureProgress&)>& progress_;
  const double frame_ms_;
  std::vector<Sort> kinds_;
  Stopwatch watch_;
  MeasureReport report_;
  bool encoding_tried_ = false;
  HoldUps outside_;
  double others_ = 0;  ///< share of the machine that others had, summed over frames
};

}  // namespace

Result<MeasureReport> measure(const ProgramPtr& program, Notebook& notebook, const MeasureOptions& options,
                              const std::function<bool(const MeasureProgress&)>& progress) {
  return Measuring(program, notebook, options, progress).run();
}

}  // namespace gc
