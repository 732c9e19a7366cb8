#include "desk/remedy_score.h"

#include <fmt/format.h>

#include <cmath>

#include "audit/foreign.h"
#include "audit/random.h"
#include "base/mean.h"
#include "desk/trial.h"

namespace gc {
namespace {

/// The best of each kind, those that are rendered first.
std::vector<Proposal> chosen(std::vector<Proposal> all, int most) {
  std::vector<Proposal> some;
  for (const bool made : {true, false})
    for (const char* kind : {"render", "tap", "bake", "mezzanine", "proxy", "bypass", "scale"}) {
      const Proposal* best = nullptr;
      for (const Proposal& p : all)
        if (p.refused.empty() && std::string(p.kind->name()) == kind && p.kind->making(p).has_value() == made &&
            (!best || p.drops_saved > best->drops_saved))
          best = &p;
      if (best && static_cast<int>(some.size()) < most) some.push_back(*best);
    }
  return some;
}

/// The timeline that a seed makes. Of foreign ones every other is odd in all that it holds, and light; the others have pictures
/// that are not ours and loads from 0.2 to 4.
Result<TimelinePtr> timeline_of(std::uint64_t seed, bool odd, bool foreign, const Stores& stores, const fs::path& folder, const std::atomic<bool>& stop) {
  if (foreign && odd) {
    const auto made = make_foreign(folder / fmt::format("foreign-{}", seed), {seed, 8, [&] { return stop.load(); }});
    if (!made) return std::unexpected(made.error());
    return open_timeline(made->timeline, stores.media);
  }
  RandomOptions random;
  random.seed = seed, random.foreign = foreign, random.workers = stores.options.workers;
  return random_timeline(random, *stores.notebook, folder);
}

/// Own drops are what is seen of a remedy, so what it saves is said of the timeline alone, with nothing taken by the outside.
double own_drops_saved(Situation s, const Proposal& p) {
  s.forecast.outside = false, s.forecast.before = nullptr;
  s.now = std::make_shared<const Forecast>(alone(*s.now, *s.played));
  return drops_saved(s, p);
}

/// Remedies of one timeline, tried one after the other.
class TimelineTrial {
 public:
  TimelineTrial(std::uint64_t seed, TimelinePtr timeline, const Stores& shared, fs::path shelves, const std::atomic<bool>& stop)
      : seed_(seed), timeline_(std::move(timeline)), stores_(shared), shelves_(std::move(shelves)), stop_(stop) {}

  Result<void> measure_it(double seconds) {
    if (auto m = measure(view_of(timeline_, stores_).played, *stores_.notebook, stores_.measure_options(seconds, false), {}); !m) return std::unexpected(m.error());
    auto empty = Shelf::open(shelves_ / "none");
    if (!empty) return std::unexpected(empty.error());
    empty_ = *empty, stores_.shelf = empty_;
    return {};
  }

  std::vector<Proposal> proposals(int most) const {
    const View view = view_of(timeline_, stores_);
    return chosen(remedies_for(situation_of(view, stores_), whole(view)), most);
  }

  /// Plays the timeline as it is; what it drops is the first that the next remedy is held against.
  Result<void> play_as_it_is() {
    stores_.shelf = empty_;
    const View view = view_of(timeline_, stores_);
    const Forecast expected = forecast(*view.played, *stores_.notebook, view.seals, whole(view), stores_.forecast_options());
    const Playout p = play_unseen(view, stores_, stop_);
    if (p.stopped) return {};
    as_it_is_ = static_cast<double>(own_drops(p));
    return note_playout(expected, p, *view.played, *stores_.notebook);
  }

  /// Nothing where there is no such remedy any more, or where it was stopped.
  Result<std::optional<TriedRemedy>> try_one(const Proposal& p) {
    const auto shelf = Shelf::open(shelves_ / std::to_string(number_++));
    if (!shelf) return std::unexpected(shelf.error());
    stores_.shelf = *shelf;
    const View view = view_of(timeline_, stores_);
    // As `gclk remedies` does.
    if (auto r = try_out(situation_of(view, stores_), {&p, 1}, stores_, [&] { return stop_.load(); }); !r) return std::unexpected(r.error());
    const Situation now = situation_of(view, stores_);
    const auto fresh = proposal_of(now, p.id);
    if (!fresh) return std::nullopt;
    TriedRemedy t{seed_, p.id, p.kind->name(), 0, 0, own_drops_saved(now, *fresh), 0, {as_it_is_}, {}, {}};
    const auto applied = apply(now, *fresh, stores_, "", "", "", {}, stop_);
    if (!applied) {
      t.failed = applied.error().text();
      return t;
    }
    if (applied->made.frames > 0) t.said_s = applied->said_seconds, t.taken_s = applied->taken_seconds;
    const auto play_with_it = [&] {
      stores_.shelf = *shelf;
      if (const Playout with = play_unseen(view_of(applied->timeline, stores_), stores_, stop_); !with.stopped) t.drops_with.push_back(static_cast<double>(own_drops(with)));
    };
    play_with_it();
    // In turn, so that a seat that gets slower or quicker meanwhile does so for both.
    while (!stop_ && !t.gain_seen_well()) {
      play_with_it();
      if (auto r = play_as_it_is(); !r) return std::unexpected(r.error());
      t.drops_without.push_back(as_it_is_);
    }
    if (stop_) return std::nullopt;
    t.gain_seen = mean(t.drops_without) - mean(t.drops_with);
    return t;
  }

 private:
  std::uint64_t seed_;
  TimelinePtr timeline_;
  Stores stores_;
  fs::path shelves_;
  const std::atomic<bool>& stop_;
  std::shared_ptr<Shelf> empty_;
  double as_it_is_ = 0;  ///< own drops of the latest playout of the timeline as it is
  int number_ = 0;
};

}  // namespace

bool TriedRemedy::gain_seen_well() const {
  constexpr std::size_t kLeast = 2, kMost = 6;
  const double n = static_cast<double>(drops_with.size()), m = static_cast<double>(drops_without.size());
  if (drops_with.size() < kLeast || drops_without.size() < kLeast) return false;
  if (drops_with.size() >= kMost) return true;
  // Student's standard error of a difference of two means, from the variance that they have in common.
  double squares = 0;
  for (const double d : drops_with) squares += (d - mean(drops_with)) * (d - mean(drops_with));
  for (const double d : drops_without) squares += (d - mean(drops_without)) * (d - mean(drops_without));
  const double error = std::sqrt(squares / (n + m - 2) * (1 / n + 1 / m));
  return error <= tolerance(mean(drops_without) - mean(drops_with)) / 2;
}

Result<std::vector<TriedRemedy>> try_remedies(const Stores& shared, const RemedyScoreOptions& o, const fs::path& folder,
                                              const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop) {
  std::vector<TriedRemedy> tried;
  for (int i = 0; i < o.timelines && !stop; ++i) {
    const std::uint64_t seed = o.seed + static_cast<std::uint64_t>(i);
    const auto timeline = timeline_of(seed, i % 2 == 0, o.foreign, shared, folder, stop);
    if (!timeline) return std::unexpected(timeline.error());
    const auto scratch = ScratchFolder::make(cache_folder(), "score-shelf-");
    if (!scratch) return std::unexpected(scratch.error());
    TimelineTrial trial(seed, *timeline, shared, scratch->path(), stop);
    if (progress && !progress(fmt::format("Timeline {}: measuring", seed))) break;
    if (auto r = trial.measure_it(o.measure_seconds); !r) return std::unexpected(r.error());
    const std::vector<Proposal> proposals = trial.proposals(o.each);
    if (auto r = trial.play_as_it_is(); !r) return std::unexpected(r.error());
    for (const Proposal& p : proposals) {
      if (stop || (progress && !progress(fmt::format("Timeline {}: {}", seed, p.id)))) break;
      auto t = trial.try_one(p);
      if (!t) return std::unexpected(t.error());
      if (*t) tried.push_back(std::move(**t));
    }
  }
  return tried;
}

Json to_json(const std::vector<TriedRemedy>& tried) {
  Json kinds = Json::array(), all = Json::array();
  std::map<std::string, std::array<int, 4>> counts;  // tried, priced, price within, gain within
  std::array<int, 4> sum{};
  for (const TriedRemedy& t : tried) {
    all.push_back({{"timeline", t.timeline}, {"id", t.id}, {"kind", t.kind}, {"said_seconds", t.said_s}, {"taken_seconds", t.taken_s},
                   {"gain_said", t.gain_said}, {"gain_seen", t.gain_seen}, {"drops_without", t.drops_without}, {"drops_with", t.drops_with}, {"failed", t.failed.empty() ? Json() : Json(t.failed)}});
    const bool priced = t.taken_s > 0, ok = t.failed.empty();
    for (auto* c : {&counts[t.kind], &sum})
      (*c)[0] += 1, (*c)[1] += priced, (*c)[2] += priced && t.price_within(), (*c)[3] += ok && t.gain_within();
  }
  int pairs = 0, agree = 0;
  for (const TriedRemedy& t : tried)
    if (t.drops_without.size() >= 2) ++pairs, agree += TriedRemedy::frames_within(t.drops_without[0], t.drops_without[1]);
  const auto share = [](int of, int all_of) { return all_of > 0 ? Json(static_cast<double>(of) / all_of) : Json(); };
  for (const auto& [kind, c] : counts)
    kinds.push_back({{"kind", kind}, {"tried", c[0]}, {"price_within", share(c[2], c[1])}, {"gain_within", share(c[3], c[0])}});
  const Json price = share(sum[2], sum[1]), gain = share(sum[3], sum[0]);
  return {{"tried", sum[0]}, {"price_within", price}, {"gain_within", gain}, {"playout_against_playout", share(agree, pairs)}, {"kinds", kinds}, {"remedies", all},
          {"met", sum[0] >= 40 && price.is_number() && price >= 0.9 && gain.is_number() && gain >= 0.9}};
}

}  // namespace gc
