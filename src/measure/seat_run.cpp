#include "measure/seat_run.h"

#include <fmt/format.h>

#include <chrono>
#include <thread>

#include "base/clock.h"
#include "measure/contention.h"
#include "media/writer.h"

namespace gc {

SeatProfile profile_of(const Notebook& notebook, double memory_left_gb) {
  SeatProfile p;
  const Seat seat = look_at_seat();
  p.name = "This seat", p.made = now_utc();
  p.processor = seat.processor, p.processors = seat.processors, p.cores = seat.cores;
  p.memory_bytes = seat.memory_bytes, p.last_level_cache_bytes = seat.last_level_cache_bytes;
  p.memory_left_gb = memory_left_gb;
  for (CostLaw& law : notebook.laws()) {
    const std::string id = law.name().id;
    p.laws.insert_or_assign(id, std::move(law));
  }
  for (const Era& e : notebook.eras())
    p.eras.push_back({{"since", e.since}, {"change", e.change}, {"identity", e.identity}});
  return p;
}

namespace {
constexpr double kAcceleratorShare = 0.15;  ///< of the time that is left for calibration
}

Result<SeatRunReport> measure_seat(Notebook& notebook, const SeatRunOptions& options,
                                   const std::function<bool(const SeatRunProgress&)>& progress) {
  const Stopwatch watch;
  // A little less than promised, for what comes after the last look at the clock.
  const double limit = options.full ? 350 : 50;
  SeatRunReport report;
  const auto go_on = [&](const std::string& what) {
    if (progress && !progress({what, watch.ms() / 1000, limit})) report.cancelled = true;
    return !report.cancelled;
  };
  std::vector<std::string> unknown;
  SeatProfile p;

  if (go_on("Looking at what else runs here")) {
    const MachineTimes before = machine_times();
    std::this_thread::sleep_for(std::chrono::milliseconds(700));
    const Conditions c = conditions_between(before, machine_times());
    p.others = c.others, p.stolen = c.stolen;
    if (c.disturbed())
      unknown.push_back(
          fmt::format("Other programs took {:.0f} % of the processors while nothing was measured yet: close "
                      "them and measure again; "
                      "until then intervals are wide.",
                      (c.others + c.stolen) * 100));
  }
  if (go_on("Memory")) {
    const Seat seat = look_at_seat();
    // Four times the last-level cache, as STREAM asks for; bounded by what is free.
    const double wanted = std::max(64.0, 4e-6 * static_cast<double>(seat.last_level_cache_bytes));
    const double most = 0.15 * static_cast<double>(seat.memory_free_bytes) / 1e6;
    p.memory = measure_memory(
        options.workers, static_cast<int>(std::clamp(wanted, 16.0, std::max(16.0, std::min(most, 400.0)))),
        options.full ? 10 : 5);
  }
  if (go_on("How long it keeps its speed")) {
    p.endurance = measure_endurance(options.workers, options.full ? 60 : 4,
                                    [&] { return go_on("How long it keeps its speed"); });
    p.shared = p.endurance->shared;
    if (!options.full)
      unknown.push_back("Whether the speed lasts was looked at for 4 s only; measure in full to know.");
  }
  if (go_on("What frames do to each other"))
    p.contention = measure_contention(options.workers, options.full ? 10 : 2,
                                      [&] { return go_on("What frames do to each other"); });
  if (go_on("The accelerator")) {
    auto a = measure_accelerator();
    if (a) p.accelerator = *a;
    else p.accelerator_trouble = a.error().what;
  }
  char label = 'A';
  for (const fs::path& folder : options.volumes) {
    if (!go_on("Volume " + folder.string())) break;
    VolumeOptions o;
    o.network = options.network;
    o.seconds = options.full ? 12 : 5, o.bytes = options.full ? 256u << 20 : 96u << 20;
    o.chunk = static_cast<std::size_t>(vc3_frame_bytes(options.width, options.height, kVc3Hqx));
    auto v = measure_volume(folder, o, [&] { return go_on("Volume " + folder.string()); });
    if (v) {
      v->label = std::string(1, label++);
      remember_fills(*v, options.known_volumes);
      p.volumes.push_back(std::move(*v));
    } else {
      unknown.push_back(v.error().text());
    }
  }
  if (go_on("Cached media")) {
    CodecOptions o;
    o.workers = options.workers;
    o.frames = options.full ? 8 : 3;
    o.seconds = options.full ? 60 : 8;
    if (!options.full)
      o.forms = {Form::vc3_sq, Form::vc3_hqx, Form::motion_jpeg, Form::h264_intra, Form::v210, Form::rdd36};
    const auto tell = [&](const std::string& form, double) { return go_on("Cached media: " + form); };
    auto forms = options.program ? measure_codecs(options.program, &notebook, o, tell)
                                 : measure_codecs(options.width, options.height, &notebook, o, tell);
    if (forms) {
      p.forms = forms->forms;
      unknown.insert(unknown.end(), forms->left_out.begin(), forms->left_out.end());
    } else {
      unknown.push_back(forms.error().text());
    }
  }
  if (!report.cancelled) {
    CalibrateOptions o;
    o.workers = options.workers, o.seed = options.seed;
    if (options.full && p.accelerator) {
      // Before the rest: building kernels takes its time, and what is left over goes to the processor.
      o.accelerator = true, o.seconds = kAcceleratorShare * std::max(0.0, limit - watch.ms() / 1000);
      auto r = calibrate(notebook, o, [&](const CalibrateProgress& c) {
        return go_on("What effects cost on the accelerator: " + c.what);
      });
      if (!r) return std::unexpected(r.error());
      o.accelerator = false;
    } else if (p.accelerator) {
      unknown.push_back("What effects cost on the accelerator: measure in full to know.");
    }
    o.seconds = std::max(3.0, limit - watch.ms() / 1000 - 2);
    if (!options.full) o.most_mpix = 1;  // small rasters are quick to make media for
    auto r = calibrate(notebook, o,
                       [&](const CalibrateProgress& c) { return go_on("What effects cost: " + c.what); });
    if (!r) return std::unexpected(r.error());
    report.calibration = std::move(*r);
    for (const std::string& law : report.calibration.not_known)
      unknown.push_back("Too little was seen of: " + law + ".");
    if (report.calibration.disturbed > 0.5)
      unknown.push_back(
          "Others took so much of the machine that most runs were thrown away; what is told is little and "
          "wide.");
  }
  SeatProfile known = profile_of(notebook, options.memory_left_gb);
  known.memory = p.memory, known.endurance = p.endurance, known.contention = p.contention,
  known.accelerator = p.accelerator;
  known.accelerator_trouble = p.accelerator_trouble, known.others = p.others, known.stolen = p.stolen,
  known.shared = p.shared;
  known.volumes = std::move(p.volumes), known.forms = std::move(p.forms), known.unknown = std::move(unknown);
  known.screen_width = options.screen_width, known.screen_height = options.screen_height;
  report.profile = std::move(known);
  report.seconds = watch.ms() / 1000;
  if (auto saved = notebook.save(); !saved) return std::unexpected(saved.error());
  return report;
}

}  // namespace gc
