#include "forecast/advice.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>

namespace gc {
namespace {

/// Spans that do not hold, and the drops.
struct Totals {
  double drops = 0;
  int spilling = 0, wavering = 0;
};

Totals outcome_of(const Forecast& f) {
  return {f.expected_drops, f.count(Verdict::spills), f.count(Verdict::wavers)};
}

Forecast changed(const Program& program, const CostBook& book, const Route& sealed,
                 const SeatChange& change, const ForecastOptions& options, double copy_mb_s) {
  ForecastOptions o = options;
  o.workers *= change.processors;
  o.horizon = std::max(o.horizon, 2 * o.workers);
  const ChangedBook as_changed(book, change, copy_mb_s);
  return forecast(program, as_changed, sealed, {0, program.duration()}, o);
}

bool holds(const Forecast& f) { return f.count(Verdict::spills) + f.count(Verdict::wavers) == 0; }

std::string size_text(double bytes) {
  if (bytes < 1e5) return fmt::format("{:.0f} kB", bytes / 1e3);
  return bytes >= 1e7 ? fmt::format("{:.0f} MB", bytes / 1e6) : fmt::format("{:.1f} MB", bytes / 1e6);
}

void about_media(Advice& a, const SeatProfile& seat, const Timeline& t) {
  const double fps = t.rate.fps();
  if (!seat.forms.empty() && (seat.forms.front().width != t.width || seat.forms.front().height != t.height))
    a.items.push_back({fmt::format("Cached media were tried at {} × {}, not at this timeline's {} × {}: "
                                   "measure the seat with it open.",
                                   seat.forms.front().width, seat.forms.front().height, t.width, t.height),
                       62});
  for (const VolumeSpeed& v : seat.volumes) {
    const FormCost *colour = best_form(seat.forms, v, fps, Purpose::colour),
                   *cutting = best_form(seat.forms, v, fps, Purpose::cutting);
    if (colour) {
      const FormFit fit = fit_of(*colour, v, fps);
      a.items.push_back(
          {fmt::format(
               "Keep cached media for colour decisions on volume {} as {}: {} a frame needs {:.0f} MB/s, the "
               "volume reads {:.0f} MB/s ({:.1f} times), decoding is {:.1f} times as fast as needed.",
               v.label, colour->form, size_text(colour->bytes), colour->bytes * fps / 1e6, v.read_mb_s,
               fit.volume_margin, fit.decode_margin),
           60});
    } else if (!seat.forms.empty()) {
      // Why not: the form that this purpose wants most, and what stops it.
      const FormCost* wanted = seat.form("VC-3 HQX, 10 bit");
      if (!wanted) continue;
      const FormFit fit = fit_of(*wanted, v, fps);
      a.items.push_back({fit.volume_margin < fit.decode_margin
                             ? fmt::format("Volume {} at {:.0f} MB/s cannot feed {} at {} × {}: {} a frame "
                                           "needs {:.0f} MB/s, and half as much again "
                                           "to be sure.",
                                           v.label, v.read_mb_s, wanted->form, wanted->width, wanted->height,
                                           size_text(wanted->bytes), wanted->bytes * fps / 1e6)
                             : fmt::format("{} from volume {} decodes at {:.0f} frames a second, which "
                                           "leaves too little beside {:.3g}.",
                                           wanted->form, v.label, wanted->decode_fps, fps),
                         80});
    }
    if (cutting && cutting != colour)
      a.items.push_back({fmt::format("For cutting alone {} on volume {} is enough: {} a frame.",
                                     cutting->form, v.label, size_text(cutting->bytes)),
                         20});
    for (const std::string& note : v.notes)
      a.items.push_back({fmt::format("Volume {}: {}.", v.label, note), 40});
    if (const FormCost* big = seat.form("v210 uncompressed, 10 bit");
        big && fit_of(*big, v, fps).volume_margin < 1)
      a.items.push_back({fmt::format("Uncompressed media do not play from volume {}: {} a frame needs {:.0f} "
                                     "MB/s, it reads {:.0f}.",
                                     v.label, size_text(big->bytes), big->bytes * fps / 1e6, v.read_mb_s),
                         30});
  }
}

void about_machine(Advice& a, const SeatProfile& seat, const Timeline& t) {
  if (!seat.accelerator_trouble.empty() &&
      seat.accelerator_trouble.find("does not work") != std::string::npos)
    a.items.push_back({seat.accelerator_trouble +
                           ". Set playback and rendering to the processor until its driver is put right.",
                       90});
  if (seat.endurance && seat.endurance->seconds >= 20 && seat.endurance->ratio() < 0.93)
    a.items.push_back({fmt::format("After {:.0f} s of work the processors keep {:.0f} % of their speed: give "
                                   "them air, and trust the "
                                   "sustained figures for a long review.",
                                   seat.endurance->seconds, seat.endurance->ratio() * 100),
                       50});
  if (seat.shared > 0.15)
    a.items.push_back({fmt::format("Strangers work on this seat's cores {:.0f} % of the time, which takes up "
                                   "to half of their speed: "
                                   "playback will vary with them.",
                                   seat.shared * 100),
                       70});
  if (seat.endurance && seat.processors > 1 && seat.endurance->side_by_side < 0.85)
    a.items.push_back({fmt::format("The {} processors share cores: all at once they do the work of {:.1f}. "
                                   "Forecasts count with that.",
                                   seat.processors, seat.processors * seat.endurance->side_by_side),
                       25});
  if (seat.others + seat.stolen > 0.1)
    a.items.push_back(
        {fmt::format("Other programs take {:.0f} % of the processors: close them before the review.",
                     (seat.others + seat.stolen) * 100),
         75});
  if (seat.memory_bytes > 0) {
    const double gb = static_cast<double>(seat.memory_bytes) / 1e9, left = gb - seat.memory_left_gb;
    const double frame = 16.0 * t.width * t.height;
    if (gb < 16)
      a.items.push_back(
          {fmt::format("{:.0f} GB of memory is less than the 16 GB that such work usually wants.", gb), 45});
    a.items.push_back({fmt::format("{:.0f} GB of memory with {:.0f} GB left to other programs holds {:.0f} s "
                                   "of finished frames at {} × {}.",
                                   gb, seat.memory_left_gb, std::max(0.0, left) * 1e9 / frame / t.rate.fps(),
                                   t.width, t.height),
                       10});
  }
}

}  // namespace

double memory_roof_ms(const StageRef& stage, double copy_mb_s) {
  if (copy_mb_s <= 0 || stage.kind == StageKind::read || stage.kind == StageKind::decode) return 0;
  return 32.0 * static_cast<double>(stage.terms[0]) / copy_mb_s * 1000;
}

std::vector<float> ChangedBook::entries(const Hash128& key) const {
  std::vector<float> ms = book_.entries(key);
  for (float& v : ms) v /= static_cast<float>(change_.disk_speed);
  return ms;
}

StageCosts ChangedBook::stage(const StageRef& stage) const {
  StageCosts c = book_.stage(stage);
  const bool there = stage.elsewhere;
  const double roof = memory_roof_ms(stage, copy_mb_s_);
  for (float& v : c.ms) {
    double ms = static_cast<double>(v);
    if (stage.kind == StageKind::read) ms /= change_.disk_speed;
    else if (there) ms /= change_.accelerator_speed;
    else {
      // What waits for memory does not get faster with the processor, and the other way round.
      const double waits = std::min(ms, roof);
      ms = std::max((ms - waits) / change_.processor_speed + waits / change_.memory_bandwidth,
                    waits / change_.memory_bandwidth);
    }
    v = static_cast<float>(ms);
  }
  return c;
}

Forecast forecast_on(const Program& program, const ProfileBook& book, const Route& sealed,
                     FrameRange range, ForecastOptions options) {
  options.workers = std::max(1, book.profile().processors);
  options.horizon = std::max(options.horizon, 2 * options.workers);
  return forecast(program, book, sealed, range, options);
}

Advice advise(const Program& program, std::shared_ptr<const Notebook> notebook, const SeatProfile& seat,
              const Route& sealed, const AdviceOptions& options) {
  Advice a;
  const double copy = seat.memory ? seat.memory->copy_mb_s / std::max(1, options.forecast.workers) : 0;
  const auto with = [&](const SeatChange& c) {
    return changed(program, *notebook, sealed, c, options.forecast, copy);
  };
  const Forecast now = forecast(program, *notebook, sealed, {0, program.duration()}, options.forecast);
  const Totals today = outcome_of(now);
  a.drops = today.drops, a.spilling = today.spilling, a.wavering = today.wavering;
  // A changed seat's frames are put together from stages; compared with this one's put together likewise,
  // only the change makes a difference.
  const double base = outcome_of(with({})).drops;
  const auto drops_of = [&](const Totals& o) { return base > 0 ? today.drops * o.drops / base : o.drops; };
  for (const Span& s : now.spans)
    if (s.verdict == Verdict::spills || s.verdict == Verdict::wavers) a.binding.push_back(s);

  const Timeline& t = *program.timeline();
  if (!a.binding.empty()) {
    const std::pair<const char*, SeatChange> doubled[] = {{"processors", {1, 1, 1, 1, 2}},
                                                          {"processor speed", {2, 1, 1, 1, 1}},
                                                          {"disk", {1, 2, 1, 1, 1}},
                                                          {"memory bandwidth", {1, 1, 2, 1, 1}},
                                                          {"accelerator", {1, 1, 1, 2, 1}}};
    const bool elsewhere = std::any_of(now.intervals.begin(), now.intervals.end(), [](const IntervalCost& c) {
      return std::any_of(c.stages.begin(), c.stages.end(), [](const StageCost& s) { return s.elsewhere; });
    });
    for (const auto& [name, change] : doubled) {
      // What nothing runs on is no resource.
      if (change.accelerator_speed != 1 && !elsewhere) continue;
      const Totals o = outcome_of(with(change));
      a.gains.push_back({name, 2, drops_of(o), o.spilling + o.wavering});
    }
    std::stable_sort(a.gains.begin(), a.gains.end(),
                     [](const Gain& x, const Gain& y) { return x.drops < y.drops; });
    for (const double speed : {1.25, 1.5, 2.0, 3.0, 4.0, 6.0, 8.0, 12.0, 16.0})
      if (holds(with({speed, 1, speed, 1, 1}))) {
        a.least_speed = speed;
        break;
      }
    for (const int times : {2, 3, 4, 6, 8, 12, 16, 32})
      if (holds(with({1, 1, 1, 1, times}))) {
        a.least_processors = times * options.forecast.workers;
        break;
      }
  } else {
    a.least_speed = 1, a.least_processors = options.forecast.workers;
  }
  for (const SeatProfile& other : options.others) {
    const ProfileBook book(other, notebook);
    const Forecast f = forecast_on(program, book, sealed, {0, program.duration()}, options.forecast);
    const Totals o = outcome_of(f);
    SeatVerdict v{other.name, o.drops, o.spilling, o.wavering, {}};
    v.taken_over = book.taken_over(program);
    a.seats.push_back(std::move(v));
  }

  about_media(a, seat, t);
  about_machine(a, seat, t);
  std::string most;
  if (!a.gains.empty() && a.gains.front().drops < 0.9 * a.drops)
    most = fmt::format("Twice the {} would leave about {:.0f} of {:.0f} dropped frames.",
                       a.gains.front().resource, a.gains.front().drops, a.drops);
  if (a.binding.empty()) {
    a.sentence = "This seat plays the whole timeline; nothing holds it back.";
  } else {
    std::map<Cause, Frames> bound;
    for (const Span& s : a.binding) bound[s.cause] += s.out - s.in;
    const auto worst = std::max_element(bound.begin(), bound.end(),
                                        [](const auto& x, const auto& y) { return x.second < y.second; });
    a.sentence = fmt::format("{} back: {} of {} spans do not hold for its sake.{}{}",
                             worst->first == Cause::processor     ? "The processor holds this seat"
                             : worst->first == Cause::decode      ? "Decoding holds this seat"
                             : worst->first == Cause::disk        ? "The disk holds this seat"
                             : worst->first == Cause::accelerator ? "The accelerator holds this seat"
                             : worst->first == Cause::transfer    ? "Transfer to the accelerator holds this seat"
                                                                  : "Nothing single holds this seat",
                             std::count_if(a.binding.begin(), a.binding.end(),
                                           [&](const Span& s) { return s.cause == worst->first; }),
                             a.binding.size(), most.empty() ? "" : " ", most);
    const auto whole = std::find_if(a.seats.begin(), a.seats.end(), [](const SeatVerdict& v) { return v.holds(); });
    a.items.push_back(
        {a.least_speed > 0
             ? fmt::format("A seat whose processors and memory are {:.3g} times as fast would hold everything{}.", a.least_speed,
                           a.least_processors > 0
                               ? fmt::format("; so would {} processors of this speed", a.least_processors)
                               : "")
         : whole != a.seats.end()
             ? fmt::format("Faster processors alone would not hold everything; all of '{}' would.", whole->seat)
             : std::string("Processors 16 times as fast would not hold everything live either: pre-render, or take "
                           "effects off."),
         65});
  }
  if (const int missing = now.count(Verdict::missing); missing > 0)
    a.sentence = fmt::format("{} span{} cannot be played on any seat: media missing. {}", missing, missing == 1 ? "" : "s",
                             a.sentence);
  for (const SeatVerdict& v : a.seats)
    a.items.push_back({v.holds()
                           ? fmt::format("On '{}' everything holds.", v.seat)
                           : fmt::format("On '{}' about {:.0f} frames would be dropped.", v.seat, v.drops),
                       v.holds() ? 35 : 5});
  std::stable_sort(a.items.begin(), a.items.end(),
                   [](const AdviceItem& x, const AdviceItem& y) { return x.weight > y.weight; });
  return a;
}

}  // namespace gc
