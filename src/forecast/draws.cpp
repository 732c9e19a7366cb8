#include "forecast/draws.h"

#include <algorithm>
#include <cmath>

#include "base/mean.h"

namespace gc {
namespace {

/// How long until the next of what comes at random, once a unit of time on the mean.
double until_next(std::uint64_t draw) { return -std::log((static_cast<double>(draw >> 11) + 1) * 0x1p-53); }

/// The i-th of n evenly spread quantiles of Student's distribution with two degrees of freedom, in closed form (Jones, 2002:
/// Student's simplest distribution), times `scale`. A factor of a mood, by its logarithm.
double factor_at(std::size_t i, std::size_t n, double scale) {
  constexpr double kMost = 0.3365;  // ln 1.4: what is further off was misjudged, which is no mood
  const double p = (static_cast<double>(i) + 0.5) / static_cast<double>(n);
  return std::exp(std::clamp(scale * (2 * p - 1) / std::sqrt(2 * p * (1 - p)), -kMost, kMost));
}

}  // namespace

DrawTables::DrawTables(const Model& model) {
  for (std::size_t level = 0; level < kLevels; ++level) {
    const double whole = model.scale * model.mood.base * factor_at(level, kLevels, model.mood.level);
    std::vector<float> of_stretches(1024);
    for (std::size_t i = 0; i < of_stretches.size(); ++i)
      of_stretches[i] = static_cast<float>(whole * factor_at(i, of_stretches.size(), model.mood.spread));
    moods_.push_back(std::move(of_stretches));
  }
  for (const CostPool& p : model.pools) {
    skips_.emplace_back(p.frames.front().fetch_ms * (1 + p.beside), p.decodes_between, p.neighbour_ms, p.neighbours);
    FrameSample most;
    float total = 0;
    double sum = 0, fetch = 0;
    for (const FrameSample& f : p.frames) {
      fetch += static_cast<double>(f.fetch_ms);
      most.fetch_ms = std::max(most.fetch_ms, f.fetch_ms), total = std::max(total, f.fetch_ms + f.process_ms);
      sum += static_cast<double>(f.fetch_ms + f.process_ms);
    }
    most.process_ms = total - most.fetch_ms;
    dearest_.push_back(most), means_.push_back(sum / static_cast<double>(p.frames.size()));
    fetches_.push_back(fetch / static_cast<double>(p.frames.size()));
  }
  const double room = model.pace.workers * model.pace.period_ms / (model.scale * model.mood.base);
  for (std::size_t at = 0; at < model.stretches.size(); ++at) {
    const Frames in = model.stretches[at].in, frames = std::min<Frames>(prepared_ahead(model.pace.period_ms), in - model.stretches.front().in);
    double busy = 0;
    for (std::size_t k = at; k-- > 0 && model.stretches[k].out > in - frames;) {
      const CostStretch& s = model.stretches[k];
      busy += std::min(1.0, means_[s.pool] / room) * static_cast<double>(s.out - std::max(s.in, in - frames)) / static_cast<double>(frames);
    }
    prepared_.push_back({frames, busy});
  }
}

const std::vector<float>& DrawTables::moods_of(int trial) const {
  // Levels are gone through in another order than trials: what others take goes round with the trials too.
  return moods_[3 * static_cast<std::size_t>(trial) % kLevels];
}

Draws::Draws(const Model& model, const DrawTables& tables, std::uint64_t seed, int trial)
    : model_(model),
      tables_(tables),
      moods_(tables.moods_of(trial)),
      seed_(mixed(seed + static_cast<std::uint64_t>(trial) * 0x632be59bd9b4e019ULL)),
      outside_(model.lately.empty() ? nullptr
                                    : &model.lately[static_cast<std::size_t>(trial) % model.lately.size()]) {
  if (outside_ && (outside_->per_busy_ms <= 0 || outside_->ms.empty())) outside_ = nullptr;
  if (outside_) held_share_ = outside_->per_busy_ms * mean(outside_->ms);
  enter(0);
}

void Draws::go_to(Frames n) {
  const auto it = std::upper_bound(model_.stretches.begin(), model_.stretches.end(), n,
                                   [](Frames f, const CostStretch& s) { return f < s.out; });
  enter(static_cast<std::size_t>(std::min<std::ptrdiff_t>(
      it - model_.stretches.begin(), static_cast<std::ptrdiff_t>(model_.stretches.size()) - 1)));
}

void Draws::enter(std::size_t at) {
  at_ = at;
  stretch_ = &model_.stretches[at];
  in_ = stretch_->in, out_ = stretch_->out;
  const CostPool& pool = model_.pools[stretch_->pool];
  run_ = ~std::uint64_t{0};
  samples_ = pool.frames.data(), size_ = pool.frames.size(), between_ = pool.decodes_between;
  // Many pools are more than the nearer caches hold.
  for (std::size_t i = 0; i < size_; i += 64 / sizeof(FrameSample)) __builtin_prefetch(samples_ + i);
  skip_ = &tables_.skips()[stretch_->pool], skips_cost_ = skip_->any();
  mood_ = moods_[below(mixed(seed_ ^ (0xabcdef0123ULL + number_of(stretch_->in) * 31)),
                       moods_.size())];
  prepares_from_ = kNever, prepares_ms_ = 0;
  double meanwhile = 0;
  const Frames before = prepared_ahead(model_.pace.period_ms);
  for (std::size_t k = at + 1; k < model_.stretches.size() && model_.stretches[k].in - before < out_; ++k) {
    const double ahead = std::min(entry_ms(model_.stretches[k]), prepared_ms(k));
    if (ahead <= 0) continue;
    const Frames from = std::max<Frames>(in_, model_.stretches[k].in - before);
    meanwhile += ahead * static_cast<double>(out_ - from) / static_cast<double>(tables_.prepared_frames(k));
    prepares_from_ = std::min(prepares_from_, from);
  }
  if (meanwhile > 0) prepares_ms_ = meanwhile * static_cast<double>(mood_) / static_cast<double>(out_ - prepares_from_);
  light_ = static_cast<double>(tables_.dearest(stretch_->pool).fetch_ms * mood_) <= model_.pace.period_ms &&
           most_ms() <= model_.pace.period_ms * model_.pace.workers;
  if (!outside_) return;
  held_at_ = 0;
  held_draw_ = mixed(seed_ ^ (0x686f6c64ULL + number_of(in_) * 0x9e3779b97f4a7c15ULL));
  draw_hold_up();
}

double Draws::entry_ms(const CostStretch& s) const {
  if (!s.entry) return 0;
  const CostPool& pool = model_.pools[s.pool];
  double ms = 0;
  if (s.opens && !pool.entries.empty()) {
    for (const float e : pool.entries) ms += static_cast<double>(e);
    ms /= static_cast<double>(pool.entries.size());
  }
  return ms + static_cast<double>(s.entry_frames) * tables_.mean_fetch_ms(s.pool);
}

double Draws::prepared_ms(std::size_t at) const {
  // Decoders' own threads give way to the workers: with a nice value of 3 the scheduler weighs them 526 to 1024.
  constexpr double kWeight = 0.51;
  const double wanted = tables_.busy_before(at) + held_share_, spare = std::max(1 - wanted, kWeight / (kWeight + wanted));
  return static_cast<double>(tables_.prepared_frames(at)) * model_.pace.period_ms * spare;
}

void Draws::draw_hold_up() {
  held_draw_ = mixed(held_draw_);
  const double often = tables_.mean_ms(stretch_->pool) * static_cast<double>(mood_) * outside_->per_busy_ms;
  // One frame may be held up several times.
  held_at_ += until_next(held_draw_) / often;
  held_up_ = held_at_ < static_cast<double>(out_ - in_) ? in_ + static_cast<Frames>(held_at_) : kNever;
}

double Draws::hold_up(Frames n) {
  next_hold_up(n);
  double ms = 0;
  for (; held_up_ == n; draw_hold_up()) ms += static_cast<double>(outside_->ms[below(mixed(held_draw_), outside_->ms.size())]);
  return ms;
}

void Draws::reach(StepOf<double>& s, Frames last, Frames n, std::uint64_t draw) const {
  const CostPool& pool = model_.pools[stretch_->pool];
  const bool enters = last < stretch_->in && stretch_->entry;
  const Frames skipped = n - std::max(last + 1, stretch_->in);
  // Where the frame before was made of the same segment, a skip before the change counts like one after it.
  const Frames left_none = last >= stretch_->in ? skipped : stretch_->entry_neighbours > 0 ? skipped + stretch_->entry_neighbours : n - last - 1;
  const Frames wanting = std::min<Frames>(pool.neighbours, left_none);
  Frames decoded = between_ ? std::min(kMostCatchUp, skipped) : wanting;
  double opening = 0;
  if (enters) {
    if (stretch_->opens && !pool.entries.empty())
      opening = static_cast<double>(pool.entries[below(mixed(draw), pool.entries.size())] * mood_);
    for (Frames i = 0; i < stretch_->entry_frames; ++i)
      opening += static_cast<double>(
          samples_[below(mixed(draw + 0x9e37 + static_cast<std::uint64_t>(i)), size_)].fetch_ms * mood_);
    // Most of it as a rule was done ahead of the cut.
    s.catch_up += std::max(0.0, opening - prepared_ms(at_));
  }
  double between = 0;
  for (Frames i = 0; i < decoded; ++i)
    between += static_cast<double>(
        samples_[below(mixed(draw + static_cast<std::uint64_t>(i) + 1), size_)].fetch_ms * mood_);
  // The outside holds this work up like any other; so much of it comes in a row that the mean will do.
  s.catch_up = (s.catch_up + between) * (1 + held_share_);
  s.neighbours = (static_cast<double>(wanting) * static_cast<double>(pool.neighbour_ms * mood_) +
                  between * static_cast<double>(pool.beside)) * (1 + held_share_);
}

LateLooks::LateLooks(const Model& model, std::uint64_t seed) : model_(model), seed_(seed) {
  const double most = model.pace.workers * model.pace.period_ms;
  for (const CostPool& p : model.pools) {
    double sum = 0;
    for (const FrameSample& f : p.frames) sum += static_cast<double>(f.fetch_ms + f.process_ms);
    busy_.push_back(std::min(most, model.scale * model.mood.base * sum / static_cast<double>(p.frames.size())));
  }
  // Only those matter that last until the next frame is due.
  for (const Disturbance& d : model.lately) {
    Process p;
    for (const float ms : d.looks_ms)
      if (static_cast<double>(ms) >= model.pace.period_ms) p.ms.push_back(ms);
    if (!p.ms.empty())
      p.per_busy_ms =
          d.looks_per_busy_ms * static_cast<double>(p.ms.size()) / static_cast<double>(d.looks_ms.size());
    processes_.push_back(std::move(p));
  }
}

std::vector<std::uint32_t> LateLooks::frames(Frames in, Frames out, std::size_t trial,
                                             const std::uint64_t* late) const {
  std::vector<std::uint32_t> all;
  if (processes_.empty()) return all;
  const Process& process = processes_[trial % processes_.size()];
  if (process.per_busy_ms <= 0) return all;
  std::uint64_t state =
      mixed(mixed(seed_ ^ 0x6c6f6f6bULL) + static_cast<std::uint64_t>(in) * 0x10001 + trial);
  const auto draw = [&] { return state = mixed(state); };
  double left = until_next(draw());
  auto s = std::upper_bound(model_.stretches.begin(), model_.stretches.end(), in,
                            [](Frames f, const CostStretch& x) { return f < x.out; });
  for (Frames n = in; s != model_.stretches.end() && n < out; ++s) {
    const double often = process.per_busy_ms * busy_[s->pool];
    for (const Frames end = std::min(s->out, out); n < end;) {
      if (left >= often * static_cast<double>(end - n)) {
        left -= often * static_cast<double>(end - n), n = end;
        break;
      }
      n += static_cast<Frames>(left / often);
      const double held = static_cast<double>(process.ms[below(draw(), process.ms.size())]);
      const Frames missed = std::min(static_cast<Frames>(held / model_.pace.period_ms), out - n);
      for (Frames i = 0; i < missed; ++i, ++n)
        if (const auto k = static_cast<std::uint64_t>(n - in); !(late[k / 64] >> k % 64 & 1))
          all.push_back(static_cast<std::uint32_t>(n));
      left = until_next(draw());
    }
  }
  return all;
}

}  // namespace gc
