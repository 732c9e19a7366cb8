#include "measure/calibrate.h"

#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cmath>
#include <set>

#include "base/chance.h"
#include "base/clock.h"
#include "media/synthetic.h"
#include "media/writer.h"
#include "render/agree.h"
#include "render/device.h"

namespace gc {
namespace {

constexpr Frames kClip = 20;  // frames of a made-up source

/// Rasters that calibration uses. What is held back has others.
struct Raster {
  int width = 0, height = 0;
  double mpix() const { return width * height / 1e6; }
};
const std::vector<Raster>& rasters() {
  static const std::vector<Raster> all{{320, 180},  {400, 224},   {480, 270},   {640, 360},  {854, 480},
                                       {1024, 576}, {1280, 720},  {1440, 810},  {1600, 900}, {1920, 1080},
                                       {2048, 858}, {2560, 1440}, {3072, 1620}, {3840, 2160}};
  return all;
}
Raster any_raster(Rng& rng, double most) {
  const double least = 0.07, mpix = least * std::pow(most / least, unit(rng));
  const double shape = 4.0 / 3 + unit(rng) * (2.39 - 4.0 / 3);
  const int height = static_cast<int>(std::sqrt(mpix * 1e6 / shape)) / 2 * 2;
  return {static_cast<int>(height * shape) / 2 * 2, height};
}

/// Made-up media, written once for a run of the program.
class Probes {
 public:
  explicit Probes(fs::path folder) : folder_(std::move(folder)) {}
  Probes(const Probes&) = delete;
  Probes& operator=(const Probes&) = delete;

  Result<std::string> clip(Form form, Raster raster) {
    const fs::path file = folder_ / fmt::format("{}-{}x{}{}", static_cast<int>(form), raster.width,
                                                raster.height, form_extension(form));
    if (made_.contains(file.string())) return file.string();
    auto w = MovieWriter::create(file.string(), form, raster.width, raster.height, {24, 1});
    if (!w) return std::unexpected(w.error());
    for (Frames i = 0; i < kClip; ++i)
      if (auto r = (*w)->write(synthetic_frame("kiln", i, raster.width, raster.height, 11, 0.02f)); !r)
        return std::unexpected(r.error());
    if (auto r = (*w)->finish(); !r) return std::unexpected(r.error());
    made_.insert(file.string());
    return file.string();
  }
  std::string lut() {
    const fs::path file = folder_ / "probe.cube";
    if (!made_.contains(file.string())) {
      (void)write_file_atomic(file, made_up_cube(33));
      made_.insert(file.string());
    }
    return file.string();
  }

 private:
  fs::path folder_;
  std::set<std::string> made_;
};

/// A parameter within its range; large values of those that cost are rarer, since they cost.
double somewhere(Rng& rng, const ParamSpec& s) {
  const double t = unit(rng);
  return s.least + (s.most - s.least) * (s.most > 2 * std::max(1e-9, s.usual) ? t * t : t);
}

/// One made-up timeline: a picture with a stack, perhaps a second layer or a transition.
struct Trial {
  Raster raster;
  TimelinePtr timeline;
  Frames first = 0, count = 0;
  std::string what;
};

class Calibrator {
 public:
  Calibrator(Notebook& notebook, const CalibrateOptions& options, const fs::path& folder)
      : notebook_(notebook),
        options_(options),
        rng_(options.seed),
        probes_(folder) {
    for (const EffectType* t : effect_types())
      if (t != &shape_tracker() && t != &cost_card_effect() && wanted(*t) &&
          (t->accelerator || !options.accelerator))
        effects_.push_back(t);
    for (const EffectType* t : generator_types())
      if (wanted(*t)) generators_.push_back(t);
  }

  Result<CalibrateReport> run(const std::function<bool(const CalibrateProgress&)>& progress) {
    const Stopwatch watch;
    CalibrateReport report;
    int disturbed = 0;
    if (options_.accelerator && (effects_.empty() || !accelerator_working())) return report;
    while (watch.ms() / 1000 < options_.seconds) {
      auto trial = options_.only_tries ? held_trial() : next_trial();
      if (!trial) return std::unexpected(trial.error());
      if (progress &&
          !progress({watch.ms() / 1000, options_.seconds, report.runs, report.frames, trial->what})) {
        report.cancelled = true;
        break;
      }
      if (auto r = carry_out(*trial, report); !r) return std::unexpected(r.error());
      disturbed += last_disturbed_;
      ++report.runs;
    }
    report.seconds = watch.ms() / 1000;
    report.disturbed = report.runs > 0 ? static_cast<double>(disturbed) / report.runs : 0;
    judge(report);
    if (auto saved = notebook_.save(); !saved) return std::unexpected(saved.error());
    return report;
  }

 private:
  bool wanted(const EffectType& t) const {
    return options_.only.empty() ||
           std::find(options_.only.begin(), options_.only.end(), t.id) != options_.only.end();
  }

  /// Whether it runs on the accelerator here; generators never do.
  bool there(const EffectType& type) const { return options_.accelerator && type.accelerator; }

  /// How much is to be gained by another sample of this law here: unseen work first, then what is far from
  /// every place that was measured and of a law that errs.
  double need(const EffectType& type, const Json& params, const Raster& raster) {
    const LawName& name = *cost_law(type, params, there(type));
    const CostLaw& law = law_of(name);
    if (law.points().empty()) return 100;
    const Terms terms = cost_terms(type, params, raster.width, raster.height);
    const auto e = law.predict(terms);
    if (e && e->ms > kMostStageMs) return 0;  // one sample would take the time of twenty others
    double nearest = 1e9;
    for (const LawPoint& p : law.points()) {
      double d = 0;
      for (std::size_t i = 0; i < terms.size(); ++i)
        d += std::abs(
            std::log((static_cast<double>(terms[i]) + 1e-2) / (static_cast<double>(p.terms[i]) + 1e-2)));
      nearest = std::min(nearest, d);
    }
    const double few = 1.0 / std::sqrt(static_cast<double>(law.points().size()));
    return std::min(3.0, nearest) * (0.05 + law.fit().cv_error_90) * (0.2 + few);
  }
  double guess(const EffectType& type, const Json& params, const Raster& raster) {
    const auto e = law_of(*cost_law(type, params, there(type)))
                       .predict(cost_terms(type, params, raster.width, raster.height));
    return e ? e->ms : 30;
  }
  const CostLaw& law_of(const LawName& name) {
    auto& at = laws_[name.id];
    if (at.name().id.empty()) at = notebook_.law(name);
    return at;
  }

  Json safe_params(const EffectType& type, const Raster& raster) {
    // Of a law that knows nothing yet the cheapest of several is tried first.
    Json best;
    double least = 1e300, most = -1;
    const bool unseen = law_of(*cost_law(type, showing_params(type), there(type))).points().size() < 2;
    for (int i = 0; i < 10; ++i) {
      Json p = any_params(rng_, type, probes_.lut());
      double work = 0;
      for (const float t : cost_terms(type, p, raster.width, raster.height)) work += static_cast<double>(t);
      const double n = need(type, p, raster);
      if (unseen ? work < least : n > most) best = std::move(p), least = work, most = n;
    }
    return best;
  }

  Result<Trial> next_trial() {
    // Most rasters are small, where a sample is cheap; each size gets its turn.
    Raster raster;
    do raster = pick(rng_, rasters());
    while (raster.mpix() > options_.most_mpix || unit(rng_) > 0.3 / (0.2 + raster.mpix()));
    std::vector<std::pair<double, std::pair<const EffectType*, Json>>> choices;
    for (const EffectType* t : effects_) {
      Json p = safe_params(*t, raster);
      const double ms = guess(*t, p, raster);
      const double n = need(*t, p, raster) * (0.7 + 0.6 * unit(rng_)) / std::sqrt(4 + ms);
      choices.push_back({n, {t, std::move(p)}});
    }
    std::sort(choices.begin(), choices.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
    const std::size_t n = std::min<std::size_t>(choices.size(), 3 + static_cast<std::size_t>(unit(rng_) * 4));
    std::vector<std::pair<const EffectType*, Json>> stack;
    double ms = 0;
    for (std::size_t i = 0; i < n && ms < kMostRunMs; ++i) {
      ms += guess(*choices[i].second.first, choices[i].second.second, raster);
      stack.push_back(std::move(choices[i].second));
    }
    std::shuffle(stack.begin(), stack.end(), rng_);
    return make(raster, std::move(stack));
  }

  /// A random segment of 2 to 6 stages on a raster that calibration never uses.
  Result<Trial> held_trial() {
    const Raster raster = any_raster(rng_, 0.9 * options_.most_mpix);
    std::vector<std::pair<const EffectType*, Json>> stack;
    const std::size_t n = 1 + static_cast<std::size_t>(unit(rng_) * 4);
    for (int turns = 0; !effects_.empty() && stack.size() < n && turns < 40; ++turns) {
      const EffectType* t = pick(rng_, effects_);
      Json p;
      for (int tries = 0; tries < 20; ++tries) {
        p = any_params(rng_, *t, probes_.lut());
        const auto e = law_of(*cost_law(*t, p, options_.accelerator))
                           .predict(cost_terms(*t, p, raster.width, raster.height));
        if (e && e->ms < kMostStageMs) break;
        p = nullptr;
      }
      if (p.is_null()) continue;
      stack.emplace_back(t, std::move(p));
    }
    return make(raster, std::move(stack));
  }

  Result<Trial> make(const Raster& raster, std::vector<std::pair<const EffectType*, Json>> stack) {
    auto t = std::make_shared<Timeline>();
    t->name = "Calibration", t->width = raster.width, t->height = raster.height;
    Trial trial;
    trial.raster = raster;
    auto track = std::make_shared<Track>();
    track->id = "V1";
    auto s = std::make_shared<Segment>();
    s->id = "probe", s->duration = kClip;
    if (!generators_.empty() && unit(rng_) < 0.25) {
      const auto [g, params] = generator(raster);
      s->content = Content::generator, s->ref = g->id, s->generator = params;
      if (g->places) s->generator["text"] = "The Kiln Year";
      trial.what = g->label;
    } else {
      static const std::vector<Raster> kSources{
          {640, 360}, {960, 540}, {1280, 720}, {1600, 900}, {1920, 1080}};
      static const std::vector<Form> kForms{Form::h264_intra, Form::vc3_hqx, Form::motion_jpeg, Form::vc3_sq};
      Raster source;
      do source = pick(rng_, kSources);
      while (source.mpix() > options_.most_mpix && source.width > 640);
      // Sources are often of the raster's own size.
      for (const Raster& r : kSources)
        if (r.width == raster.width && r.height == raster.height && r.mpix() <= options_.most_mpix &&
            unit(rng_) < 0.7)
          source = r;
      auto path = probes_.clip(pick(rng_, kForms), source);
      if (!path) return std::unexpected(path.error());
      auto m = std::make_shared<MediaSource>();
      m->id = m->name = "probe", m->path = m->url = *path, m->length = kClip;
      t->sources["probe"] = m;
      s->ref = "probe";
    }
    std::string names;
    for (auto& [type, params] : stack) {
      Effect e;
      e.id = fmt::format("e{}", s->stack.size()), e.type = type->id, e.params = std::move(params);
      if (there(*type)) e.device = "accelerator";
      s->stack.push_back(std::move(e));
      names += (names.empty() ? "" : ", ") + type->label;
    }
    if (!names.empty()) trial.what = names;
    track->items.push_back(SegmentPtr(s));
    t->tracks.push_back(track);
    const double extra = unit(rng_);
    if (extra < 0.2) over(*t, extra < 0.1);
    else if (extra < 0.35) {
      Transition x;
      static const std::vector<std::string> kKinds{"dissolve", "dip", "wipe"};
      x.id = "x", x.kind = pick(rng_, kKinds), x.in_offset = x.out_offset = kClip / 2;
      track->items.push_back(x);
      track->items.push_back(SegmentPtr(gradient("to")));
    }
    trial.timeline = t;
    return trial;
  }
  /// Of one of each, the one whose law gains most by it.
  std::pair<const EffectType*, Json> generator(const Raster& raster) {
    std::pair<const EffectType*, Json> best;
    double most = -1;
    for (const EffectType* g : generators_) {
      Json p = safe_params(*g, raster);
      const double n = need(*g, p, raster) * (0.5 + unit(rng_));
      if (n > most) most = n, best = {g, std::move(p)};
    }
    return best;
  }
  static std::shared_ptr<Segment> gradient(const char* id) {
    auto s = std::make_shared<Segment>();
    s->id = id, s->duration = kClip, s->content = Content::generator, s->ref = "gradient";
    s->generator = showing_params(gradient_generator());
    return s;
  }
  static void over(Timeline& t, bool matte) {
    auto upper = std::make_shared<Track>();
    upper->id = "V2";
    auto s = gradient("over");
    s->opacity = 0.6;
    if (matte) s->matte = {"V1", true, false};
    upper->items.push_back(SegmentPtr(s));
    t.tracks.push_back(upper);
  }

  Result<void> carry_out(const Trial& trial, CalibrateReport& report) {
    const ProgramPtr program = Program::compile(trial.timeline, media_);
    if (program->intervals().empty()) return {};
    const CompiledInterval& interval = program->intervals().front();
    const std::vector<StageRef> stages = program->stages(interval.in);
    // As many frames as fit into a third of a second, but enough for a median: another place tells more than
    // another frame of the same.
    double expected = 0;
    for (const StageRef& s : stages)
      if (s.law)
        if (const auto e = law_of(*s.law).predict(s.terms)) expected += e->ms;
    const int wanted =
        options_.only_tries
            ? 12
            : std::clamp(static_cast<int>(150 * options_.workers / std::max(20.0, expected)), 4, 8);
    std::vector<Frames> frames;
    // Near the end neighbours were all made before: that is not how a segment plays.
    Frames after = 0;
    for (const auto& s : program->segments()) after = std::max<Frames>(after, s->window.after);
    for (Frames f = interval.in;
         f < interval.out - after && static_cast<int>(frames.size()) < wanted + 2 * options_.workers + 1; ++f)
      frames.push_back(f);
    const MachineTimes before = machine_times();
    const std::vector<FrameResult> results = run_flat_out(program, nullptr, frames, options_.workers);
    const Conditions c = conditions_between(before, machine_times());
    last_disturbed_ = c.disturbed();
    notebook_.note_crowding(crowding_of(results));
    report.frames += static_cast<int>(results.size());
    const auto fill = static_cast<std::size_t>(options_.workers);
    const std::map<Hash128, std::vector<StageSample>> samples =
        stage_samples(results, fill, results.size() - std::min(results.size(), fill - 1), stages);
    if (options_.only_tries) {
      if (!last_disturbed_) keep(stages, samples);
      return {};
    }
    notebook_.set_conditions(c);
    std::set<Hash128> seen;
    for (const StageRef& s : stages)
      if (const auto it = samples.find(s.key); it != samples.end() && seen.insert(s.key).second) {
        notebook_.learn(s, it->second);
        if (s.law) laws_.erase(s.law->id);
      }
    notebook_.set_conditions({});
    return {};
  }

  void keep(const std::vector<StageRef>& stages, const std::map<Hash128, std::vector<StageSample>>& samples) {
    Whole whole;
    std::set<Hash128> seen;
    for (const StageRef& s : stages) {
      const auto it = samples.find(s.key);
      if (it == samples.end() || !s.law) return;
      std::vector<float> ms;
      for (const StageSample& x : it->second)
        if (undisturbed(x)) ms.push_back(cost_ms(s, x));
      if (ms.size() < 3) return;  // too few to say what was measured
      whole.parts.push_back({s, median_of(ms).median, seen.insert(s.key).second});
    }
    whole_.push_back(std::move(whole));
  }

  /// What the laws, as they are at the end, say of everything that was held back.
  void judge(CalibrateReport& report) {
    for (const Whole& w : whole_) {
      HeldOut segment;
      segment.stages = 0;
      bool known = true;
      for (const auto& [s, ms, first] : w.parts) {
        const auto e = notebook_.predict(*s.law, s.terms);
        known = known && e;
        if (!e) continue;
        segment.measured_ms += ms;
        segment.predicted.ms += e->ms, segment.predicted.low += e->low, segment.predicted.high += e->high;
        ++segment.stages;
        // What takes less than a fiftieth of a frame budget decides nothing; what a frame goes through twice
        // was measured once.
        if (ms > kLeastStageMs && first) report.held_out.push_back({s.law->id, 1, ms, *e, s.terms});
      }
      if (known && segment.measured_ms > 0) report.held_out.push_back(segment);
    }
    for (const CostLaw& law : notebook_.laws()) {
      ++report.laws;
      if (law.points().size() < 4) report.not_known.push_back(law.name().label);
      else if (law.fit().cv_error_90 > 0.15) report.not_sure.push_back(law.name().label);
    }
  }

  struct Whole {
    struct Part {
      StageRef stage;
      double ms = 0;
      bool first = true;  ///< time that the frame goes through it
    };
    std::vector<Part> parts;
  };
  static constexpr double kLeastStageMs = 0.8;
  static constexpr double kMostStageMs = 150;  ///< of a stage that calibration times
  static constexpr double kMostRunMs = 120;    ///< of a frame, roughly

  Notebook& notebook_;
  const CalibrateOptions& options_;
  Rng rng_;
  Probes probes_;
  MediaCatalog media_;
  std::vector<const EffectType*> effects_, generators_;
  std::map<std::string, CostLaw> laws_;
  std::vector<Whole> whole_;
  bool last_disturbed_ = false;
};

}  // namespace

Json any_params(Rng& rng, const EffectType& type, const std::string& lut) {
  Json p = showing_params(type);
  for (const ParamSpec& s : type.params) {
    if (s.text || s.values == 0) continue;
    if (s.costs && s.unit == "0 or 1") p[s.name] = unit(rng) < 0.5 ? 0 : 1;
    else if (s.costs) p[s.name] = somewhere(rng, s);
    else if (s.values == 1 && unit(rng) < 0.4)
      p[s.name] = param(type, p, s.name.c_str()) * (0.7 + 0.6 * unit(rng));
  }
  if (type.id == "lut") p["path"] = lut;
  if (type.id == "secondary" && p["use_key"] == 0) p["use_window"] = 1;
  if (type.id == "transform") {
    p["scale"] = 0.25 + 1.5 * unit(rng);
    p["rotation"] = unit(rng) < 0.5 ? 0.0 : 40 * unit(rng) - 20;
  }
  if (type.id == "cdl") {
    for (int c = 0; c < 3; ++c)
      p["power"][static_cast<std::size_t>(c)] = unit(rng) < 0.5 ? 1.0 : 0.8 + 0.4 * unit(rng);
    p["saturation"] = unit(rng) < 0.4 ? 1.0 : 1.3;
  }
  if (type.id == "lens") p["k1"] = 0.02 + 0.3 * unit(rng);
  return p;
}

Result<CalibrateReport> calibrate(Notebook& notebook, const CalibrateOptions& options,
                                  const std::function<bool(const CalibrateProgress&)>& progress) {
  const auto scratch = ScratchFolder::make(cache_folder(), "calibrate-");
  if (!scratch) return std::unexpected(scratch.error());
  return Calibrator(notebook, options, scratch->path()).run(progress);
}

}  // namespace gc
