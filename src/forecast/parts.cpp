#include "forecast/parts.h"

#include <tbb/parallel_for.h>

#include <algorithm>
#include <cmath>
#include <set>
#include <unordered_map>

#include "base/mean.h"
#include "effects/registry.h"

namespace gc {

std::vector<Alike> alike_frames(const Program& program, const Route& route, FrameRange range) {
  std::vector<Alike> parts;
  for (std::size_t i = 0; i < program.intervals().size(); ++i) {
    const CompiledInterval& interval = program.intervals()[i];
    const Frames in = std::max(range.in, interval.in), out = std::min(range.out, interval.out);
    for (Frames at = in; at < out;) {
      const auto n = static_cast<std::size_t>(at);
      Frames end = at + 1;
      while (end < out && route.alike(static_cast<std::size_t>(end), n)) ++end;
      parts.push_back({at, end, static_cast<int>(i), route[n], route.taps(n)});
      at = end;
    }
  }
  return parts;
}

namespace {

constexpr std::size_t kComposed = 96;  // draws when a frame's cost is put together from its stages

/// Whether a source is read at this interval that was not read just before it.
bool opens_source(const Program& program, int interval) {
  const auto sources = [&](int i) {
    std::set<std::string> ids;
    if (i < 0) return ids;
    const CompiledInterval& at = program.intervals()[static_cast<std::size_t>(i)];
    // Frames that a file does not have are not read from it.
    const auto reads = [&](const CompiledSegment& s) { return s.content != Content::source || !s.missing_at(at.in, program.timeline()->rate); };
    for (const CompiledLayer& l : at.layers) {
      if (reads(*l.from)) ids.insert(l.from->segment->id);
      if (l.to && reads(*l.to)) ids.insert(l.to->segment->id);
    }
    return ids;
  };
  const auto before = sources(interval - 1);
  for (const std::string& id : sources(interval))
    if (!before.contains(id)) return true;
  return false;
}

/// Calls `see` for each segment of an interval whose source is read at a frame, with the frame of the source. What lies
/// above rendered media is not read.
template <class F>
void each_source(const Program& program, const CompiledInterval& interval, Frames at, const TapPattern& taps,
                 const Hash128& outer, const F& see) {
  const auto look = [&](const CompiledSegment& s) {
    const Hash128 use = use_of(outer, s);
    if (tap_in(taps, use)) return;
    const Frames n = s.frame_at(at, program.timeline()->rate);
    if (s.content == Content::source && s.media.has(n)) see(s, n);
    if (s.inner)
      if (const int i = s.inner->interval_at(n); i >= 0)
        each_source(*s.inner, s.inner->intervals()[static_cast<std::size_t>(i)], n, taps, use, see);
  };
  for (const CompiledLayer& l : interval.layers) {
    look(*l.from);
    if (l.to) look(*l.to);
  }
}

/// Frames to decode before the first one of an interval when its sources are newly read there, as many as would take what the
/// pictures do. The dearest source counts: the others wait for it in the same turn, but as a rule only one opens at a cut.
Frames frames_to_reach(const Program& program, const CompiledInterval& interval, Frames at, const TapPattern& taps) {
  double most = 0;
  each_source(program, interval, at, taps, {}, [&](const CompiledSegment& s, Frames n) {
    most = std::max(most, static_cast<double>(frames_before(s.media, n)) / s.pictures);
  });
  return std::llround(most);
}

/// How much the seat's speed differs from one measuring run to the next, as Mood::spread: from the median over all blocks of how
/// far the medians of ten neighbouring samples are from the median of all samples of their kind, beyond what such
/// medians vary by themselves (π / 2 times as much as means; common knowledge of the normal distribution). A median, since
/// samples of another day stand beside those of today.
double spread_of(const std::vector<const CostPool*>& pools) {
  constexpr std::size_t kBlock = 10;
  constexpr double kHalf = 0.816;  // half of Student's distribution with two degrees of freedom
  std::vector<std::vector<float>> apart_in(pools.size());
  tbb::parallel_for(std::size_t{0}, pools.size(), [&](std::size_t i) {
    std::vector<float> totals;
    for (const FrameSample& f : pools[i]->frames) totals.push_back(f.fetch_ms + f.process_ms);
    if (totals.size() < 2 * kBlock) return;
    const double all = median_of(totals).median;
    if (all <= 0) return;
    for (std::size_t at = 0; at + kBlock <= totals.size(); at += kBlock) {
      const std::vector<float> block(totals.begin() + static_cast<std::ptrdiff_t>(at),
                                     totals.begin() + static_cast<std::ptrdiff_t>(at + kBlock));
      const double middle = median_of(block).median, d = std::log(middle / all);
      std::vector<float> apart;
      for (const float t : block) apart.push_back(std::abs(t - static_cast<float>(middle)));
      const double single = 1.4826 * static_cast<double>(median_of(apart).median) / all;
      apart_in[i].push_back(static_cast<float>(std::sqrt(std::max(0.0, d * d - 1.5708 * single * single / kBlock))));
    }
  });
  std::vector<float> apart;
  for (const std::vector<float>& of : apart_in) apart.insert(apart.end(), of.begin(), of.end());
  // In whole steps: one more kind of frames should not change what is drawn for all others.
  return apart.empty() ? 0.03 : std::clamp(std::round(static_cast<double>(median_of(std::move(apart)).median) / kHalf * 200) / 200, 0.01, 0.2);
}

bool has_long_gop(const Program& program, const CompiledInterval& interval, const TapPattern& taps) {
  bool is = false;
  each_source(program, interval, interval.in, taps, {}, [&](const CompiledSegment& s, Frames) { is = is || !s.media.intra; });
  return is;
}

/// The effects of a stack that are in what is fetched of it.
int rendered_effects(const TapUse* tap) { return tap && tap->kind == TapKind::stack ? tap->after : 0; }

/// Calls `see(segment, j, tap)` for each segment of an interval whose effect j looks at neighbours that are made; `tap`: what is
/// fetched of it, or null.
template <class F>
void each_window(const CompiledInterval& interval, const TapPattern& taps, const F& see) {
  for (const CompiledLayer& l : interval.layers)
    for (const CompiledSegment* s : {l.from.get(), l.to.get()}) {
      const int j = s ? s->last_temporal(s->effects.size()) : -1;
      if (j < 0) continue;
      const TapUse* tap = tap_in(taps, use_of({}, *s));
      if (rendered_effects(tap) <= j) see(*s, j, tap);
    }
}

/// Pictures besides its own that a frame needs, and what one more takes where all frames before it are made.
struct Neighbours {
  int count = 0;
  double ms = 0;
};

/// What it takes to have what a segment's effects start from, once it is read: decoding by the worker, converting.
template <class F>
double content_ms(const Program& program, const CompiledSegment& s, const TapUse* tap, const F& ms) {
  double all = 0;
  if (tap && tap->kind != TapKind::source) {
    for (const StageRef& r : program.rendered_stages(*tap))
      if (r.in_order == 0) all += ms(r);
    return all;
  }
  return ms(s.convert) + (s.content == Content::source && s.decode.in_order == 0 ? ms(s.decode) : 0);
}

/// Of a segment whose effect j looks at neighbours. Where effects below look at neighbours too, a picture for the upper one takes as
/// many of those below as the windows reach together: each level has a count of its own. All of them are told as one that takes
/// the same for one frame skipped, and for so many that nothing is left. `ms` gives a stage's cost.
template <class F>
Neighbours neighbours_of(const Program& program, const CompiledSegment& s, Frames frame, int j, const TapUse* tap, const F& ms) {
  const int rendered = rendered_effects(tap);
  std::set<Frames> frames{frame};
  double once = 0, all = 0;
  int most = 0;
  for (int below; j >= rendered; j = below) {
    const Window& window = s.effects[static_cast<std::size_t>(j)].window;
    std::set<Frames> seen;
    std::set<Hash128> pictures;
    for (const Frames f : frames)
      for (int d = -window.before; d <= window.after; ++d) seen.insert(s.neighbour(f, d, program.timeline()->rate));
    for (const Frames f : seen) pictures.insert(program.stack_key(s, f, static_cast<std::size_t>(j)));
    below = s.last_temporal(static_cast<std::size_t>(j));
    double cost = below < rendered ? content_ms(program, s, tap, ms) : 0;
    for (int i = std::max(rendered, below); i < j; ++i) cost += ms(s.effects[static_cast<std::size_t>(i)].stage_at(frame - s.in));
    const auto others = static_cast<int>(pictures.size()) - 1;
    once += others > 0 ? cost : 0, all += others * cost, most = std::max(most, others);
    frames = std::move(seen);
  }
  return {once > 0 ? static_cast<int>(std::lround(all / once)) : most, once};
}

/// Gathers pools of costs, each kind of frame once.
class Pools {
 public:
  Pools(const Program& program, const CostBook& book, Model& model)
      : program_(program), book_(book), model_(model) {}

  const PoolEntry& live(int interval, const TapPattern& taps = {}) {
    const CompiledInterval& i = program_.intervals()[static_cast<std::size_t>(interval)];
    return entry(program_.stages(i.in, taps), has_long_gop(program_, i, taps), interval, taps);
  }
  const PoolEntry& sealed(const TapPattern& taps) {
    return entry(taps.empty() ? program_.sealed_stages() : program_.stages(0, taps), false, -1, taps);
  }
  const PoolEntry& remembered() { return entry({program_.display_stage()}, false, -2, {}); }
  /// The neighbours that a part's first frame has to make: of segments that the part before has not made. A source that
  /// begins there has none before it.
  int neighbours_at_entry(const Alike& part, const Alike* before) {
    std::set<const CompiledSegment*> made;
    if (before && is_live(*before) && before->interval >= 0)
      each_window(program_.intervals()[static_cast<std::size_t>(before->interval)], before->taps, [&](const CompiledSegment& s, int, const TapUse*) { made.insert(&s); });
    int most = 0;
    each_window(program_.intervals()[static_cast<std::size_t>(part.interval)], part.taps, [&](const CompiledSegment& s, int j, const TapUse* tap) {
      if (!made.contains(&s)) most = std::max(most, neighbours_at(s, part.in, j, tap).count);
    });
    return most;
  }
  const PoolEntry& of(const Alike& part) {
    return part.state == FrameState::sealed       ? sealed(part.taps)
           : part.state == FrameState::remembered ? remembered()
                                                  : live(part.interval, part.taps);
  }

 private:
  /// What the book says of a stage. The same stages come again in most intervals, and each answer takes sorting samples.
  struct Costs {
    StageCosts of;
    double mean = 0;
  };
  const Costs& costs_of(const StageRef& stage) {
    const auto [it, fresh] = costs_.try_emplace(stage.key);
    if (!fresh) return it->second;
    it->second.of = book_.stage(stage);
    if (it->second.of.origin == Origin::unknown) it->second.of = as_usual_form(stage);
    it->second.mean = mean(it->second.of.ms);
    return it->second;
  }

  Neighbours neighbours_at(const CompiledSegment& s, Frames frame, int j, const TapUse* tap) {
    return neighbours_of(program_, s, frame, j, tap, [&](const StageRef& r) { return costs_of(r).mean; });
  }
  /// The most that an effect of some layer looks at, and what one of each takes.
  Neighbours neighbours_in(const CompiledInterval& interval, const TapPattern& taps) {
    Neighbours all;
    each_window(interval, taps, [&](const CompiledSegment& s, int j, const TapUse* tap) {
      // Of pictures that stay, every second frame may see one more than the others.
      const Frames middle = (interval.in + interval.out) / 2;
      const Neighbours one = neighbours_at(s, middle, j, tap), next = neighbours_at(s, std::min(middle + 1, interval.out - 1), j, tap);
      all.count = std::max({all.count, one.count, next.count}), all.ms += std::max(one.ms, next.ms);
    });
    return all;
  }

  /// Rendered media in a form that this seat has never played are not free: by their pixels they take what the usual form
  /// does, and half as much again, which is a guess: what a plan would render is tried and played. Any other stage stays unknown.
  StageCosts as_usual_form(const StageRef& stage) {
    constexpr float kDearer = 1.5f;
    const Form form = form_that_keeps(Form::vc3_hqx, false, program_.timeline()->width, program_.timeline()->height);
    for (const StageRef& usual : program_.rendered_stages({{}, TapKind::frame, 0, form}))
      if (usual.kind == stage.kind && usual.owner == stage.owner && usual.terms[0] > 0) {
        StageCosts c = book_.stage(usual);
        for (float& ms : c.ms) ms *= kDearer * stage.terms[0] / usual.terms[0];
        if (c.origin != Origin::unknown) c.origin = Origin::law, c.error = 1, c.inside = false;
        return c;
      }
    return {};
  }

  const PoolEntry& entry(const std::vector<StageRef>& stages, bool between, int interval, const TapPattern& taps) {
    if (const auto it = known_.find({interval, taps}); it != known_.end()) return it->second;
    PoolEntry e;
    const Hash128 key = frame_key(stages);
    CostPool pool;
    pool.frames = book_.frames(key);
    pool.entries = book_.entries(key);
    pool.decodes_between = between;
    std::vector<const std::vector<float>*> samples;
    std::vector<float> shares;
    double in_turn = 0, beside = 0;
    for (const StageRef& s : stages) {
      const Costs& costs = costs_of(s);
      const bool estimated = costs.of.origin != Origin::measured;
      const Owner& owner = program_.owners()[static_cast<std::size_t>(s.owner)];
      const double share = turn_share(s, model_.pace.workers);
      e.stages.push_back({s.owner, s.kind, owner.segment, owner.effect, owner.label, costs.mean, estimated,
                          s.elsewhere, owner.placed, costs.mean * share});
      shares.push_back(static_cast<float>(share));
      in_turn += costs.mean * share, beside += share > 0 ? costs.mean * (1 - share) : 0;
      samples.push_back(&costs.of.ms);
    }
    if (in_turn > 0) pool.beside = static_cast<float>(beside / in_turn);
    if (pool.frames.size() < 4 && !taps.empty() && interval >= 0)
      pool.frames = as_live_but_for(stages, live(interval), program_.stages(program_.intervals()[static_cast<std::size_t>(interval)].in));
    if (pool.frames.size() < 4) {
      e.measured = covered(book_, stages);
      pool.frames.clear();
      std::uint64_t state = 0x9e3779b97f4a7c15ULL;
      for (std::size_t n = 0; n < kComposed; ++n) {
        FrameSample f;
        for (std::size_t i = 0; i < stages.size(); ++i) {
          if (samples[i]->empty()) continue;
          state = state * 6364136223846793005ULL + 1442695040888963407ULL;
          const float v = (*samples[i])[static_cast<std::size_t>(state >> 33) % samples[i]->size()];
          f.fetch_ms += v * shares[i], f.process_ms += v * (1 - shares[i]);
        }
        pool.frames.push_back(f);
      }
    }
    if (interval >= 0) {
      const Neighbours n = neighbours_in(program_.intervals()[static_cast<std::size_t>(interval)], taps);
      pool.neighbours = n.count, pool.neighbour_ms = static_cast<float>(n.ms);
    }
    e.pool = static_cast<std::uint32_t>(model_.pools.size());
    model_.pools.push_back(std::move(pool));
    return known_.emplace(std::pair(interval, taps), std::move(e)).first->second;
  }

  /// Frames of which some is fetched, from frames that were measured live: what is left out comes off each of them, what is
  /// fetched goes on. Frames in the running pipeline take more or less than their stages together, and so this is that of
  /// both. Empty where none were measured, or where most of the work is left out.
  std::vector<FrameSample> as_live_but_for(std::vector<StageRef> with, const PoolEntry& live, const std::vector<StageRef>& without) {
    if (book_.frames(frame_key(without)).size() < 4) return {};
    FrameSample change;
    double all = 0, off = 0;
    const auto add = [&](const StageRef& s, float sign) {
      const auto ms = static_cast<float>(costs_of(s).mean), share = static_cast<float>(turn_share(s, model_.pace.workers));
      change.fetch_ms += sign * ms * share, change.process_ms += sign * ms * (1 - share);
      if (sign < 0) off += static_cast<double>(ms);
    };
    for (const StageRef& s : without) {
      all += costs_of(s).mean;
      const auto same = std::find_if(with.begin(), with.end(), [&](const StageRef& w) { return w.key == s.key; });
      if (same == with.end()) add(s, -1);
      else with.erase(same);
    }
    for (const StageRef& s : with) add(s, 1);
    constexpr double kMost = 0.6;
    if (off > kMost * all) return {};
    std::vector<FrameSample> frames = model_.pools[live.pool].frames;
    for (FrameSample& f : frames) {
      f.fetch_ms = std::max(0.02f, f.fetch_ms + change.fetch_ms);
      f.process_ms = std::max(0.1f, f.process_ms + change.process_ms);
    }
    return frames;
  }

  const Program& program_;
  const CostBook& book_;
  Model& model_;
  std::map<std::pair<int, TapPattern>, PoolEntry> known_;
  std::unordered_map<Hash128, Costs> costs_;
};

}  // namespace

Model model_of_parts(const Program& program, const CostBook& book, const std::vector<Alike>& parts, FrameRange range,
                     const ForecastOptions& options, std::vector<PoolEntry>* entries, std::vector<PoolEntry>* live_entries) {
  Model model;
  model.first = range.in;
  model.scale = options.cost_scale;
  model.pace = {options.workers, options.horizon, program.timeline()->rate.frame_ms(),
                far_of(program.width(), program.height(), options.horizon)};
  Pools pools(program, book, model);
  const Alike* before = nullptr;
  for (const Alike& part : parts) {
    const PoolEntry& e = pools.of(part);
    if (entries) entries->push_back(e), live_entries->push_back(pools.live(part.interval));
    const Frames in = part.in - range.in, out = part.out - range.in;
    if (part.state == FrameState::sealed) {
      // Every sealed piece is a file of its own, opened in its turn.
      constexpr Frames kPiece = 24;
      for (Frames at = in; at < out; at += kPiece)
        model.stretches.push_back({at, std::min(out, at + kPiece), e.pool, true, 0});
    } else if (part.state == FrameState::remembered) {
      model.stretches.push_back({in, out, e.pool, false, 0});
    } else {
      const bool entry = !before || !is_live(*before) ||
                         (before->interval != part.interval && opens_source(program, part.interval));
      model.stretches.push_back(
          {in, out, e.pool, entry,
           entry
               ? frames_to_reach(program, program.intervals()[static_cast<std::size_t>(part.interval)], part.in, part.taps)
               : 0,
           true, pools.neighbours_at_entry(part, before)});
    }
    before = &part;
  }
  // From the frames as they are made live, whatever is fetched: so a remedy changes what it is of and nothing else.
  std::set<std::uint32_t> made;
  for (const Alike& part : parts) made.insert(pools.live(part.interval).pool);
  std::vector<const CostPool*> live;
  for (const std::uint32_t pool : made) live.push_back(&model.pools[pool]);
  // In whole steps, so that an edit can be forecast from the state before.
  const auto steps = [](double v, double each) { return std::round(v / each) * each; };
  const Mood mood = book.mood(spread_of(live));
  model.mood = {steps(mood.base, 0.01), steps(mood.level, 0.005), steps(mood.spread, 0.005)};
  model.kinds = kinds_told(model);
  if (options.outside) model.lately = book.lately();
  return model;
}

void repeat(Model& model) {
  const Frames length = model.frames();
  const std::size_t stretches = model.stretches.size(), kinds = model.kinds.size();
  for (std::size_t i = 0; i < stretches; ++i) {
    CostStretch s = model.stretches[i];
    s.in += length, s.out += length, s.opens = false;
    model.stretches.push_back(s);
  }
  for (std::size_t i = 0; i < kinds; ++i) {
    model.kinds.push_back(model.kinds[i]);
    model.kinds.back().from += length;
  }
}

}  // namespace gc
