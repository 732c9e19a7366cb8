#include "desk/remedy_score.h"

#include <fmt/format.h>

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

}  // namespace

Result<std::vector<TriedRemedy>> try_remedies(const Stores& shared, const RemedyScoreOptions& o, const fs::path& folder,
                                              const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop) {
  std::vector<TriedRemedy> tried;
  for (int i = 0; i < o.timelines && !stop; ++i) {
    const std::uint64_t seed = o.seed + static_cast<std::uint64_t>(i);
    Result<TimelinePtr> timeline = TimelinePtr{};
    // Of foreign ones every other is odd in all that it holds, and light; the others have pictures that are not ours and loads
    // from 0.2 to 4.
    if (o.foreign && i % 2 == 0) {
      const auto made = make_foreign(folder / fmt::format("foreign-{}", seed), {seed, 8, [&] { return stop.load(); }});
      if (!made) return std::unexpected(made.error());
      timeline = open_timeline(made->timeline, shared.media);
    } else {
      RandomOptions random;
      random.seed = seed, random.foreign = o.foreign, random.workers = shared.options.workers;
      timeline = random_timeline(random, *shared.notebook, folder);
    }
    if (!timeline) return std::unexpected(timeline.error());
    const auto scratch = ScratchFolder::make(cache_folder(), "score-shelf-");
    if (!scratch) return std::unexpected(scratch.error());
    Stores stores = shared;
    const View before = view_of(*timeline, stores);
    if (progress && !progress(fmt::format("Timeline {}: measuring", seed))) break;
    if (auto m = measure(before.played, *stores.notebook, stores.measure_options(o.measure_seconds, false), {}); !m) return std::unexpected(m.error());
    const auto empty = Shelf::open(scratch->path() / "none");
    if (!empty) return std::unexpected(empty.error());
    stores.shelf = *empty;
    const std::vector<Proposal> proposals = chosen(remedies_for(situation_of(view_of(*timeline, stores), stores), whole(before)), o.each);
    std::vector<double> without;  ///< own drops of the timeline as it is: before the first remedy, after it, after the second ...
    const auto play_as_it_is = [&] {
      const View view = view_of(*timeline, stores);
      const Forecast expected = forecast(*view.played, *stores.notebook, view.seals, whole(view), stores.forecast_options());
      const Playout p = play_unseen(view, stores, stop);
      if (p.stopped) return Result<void>();
      without.push_back(static_cast<double>(own_drops(p)));
      return note_playout(expected, p, *view.played, *stores.notebook);
    };
    if (auto r = play_as_it_is(); !r) return std::unexpected(r.error());
    int number = 0;
    for (const Proposal& p : proposals) {
      if (stop || (progress && !progress(fmt::format("Timeline {}: {}", seed, p.id)))) break;
      const auto shelf = Shelf::open(scratch->path() / std::to_string(number++));
      if (!shelf) return std::unexpected(shelf.error());
      stores.shelf = *shelf;
      const View view = view_of(*timeline, stores);
      // As `gclk remedies` does.
      if (auto r = try_out(situation_of(view, stores), {&p, 1}, stores, [&] { return stop.load(); }); !r) return std::unexpected(r.error());
      const Situation now = situation_of(view, stores);
      auto fresh = proposal_of(now, p.id);
      if (!fresh) continue;
      TriedRemedy t{seed, p.id, p.kind->name(), 0, 0, drops_saved(now, *fresh), 0, {}, {}, {}};
      auto applied = apply(now, *fresh, stores, "", "", "", {}, stop);
      if (!applied) {
        t.failed = applied.error().text();
        tried.push_back(t);
        continue;
      }
      if (applied->made.frames > 0) t.said_s = applied->said_seconds, t.taken_s = applied->taken_seconds;
      for (int again = 0; again < 2; ++again)
        if (const Playout with = play_unseen(view_of(applied->timeline, stores), stores, stop); !with.stopped) t.drops_with.push_back(static_cast<double>(own_drops(with)));
      if (t.drops_with.size() < 2) break;
      t.drops_without = {without.back()};
      stores.shelf = *empty;
      if (auto r = play_as_it_is(); !r) return std::unexpected(r.error());
      if (stop) break;
      t.drops_without.push_back(without.back());
      t.gain_seen = mean(t.drops_without) - mean(t.drops_with);
      tried.push_back(t);
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
    if (t.drops_without.size() == 2) ++pairs, agree += TriedRemedy::frames_within(t.drops_without[0], t.drops_without[1]);
  const auto share = [](int of, int all_of) { return all_of > 0 ? Json(static_cast<double>(of) / all_of) : Json(); };
  for (const auto& [kind, c] : counts)
    kinds.push_back({{"kind", kind}, {"tried", c[0]}, {"price_within", share(c[2], c[1])}, {"gain_within", share(c[3], c[0])}});
  const Json price = share(sum[2], sum[1]), gain = share(sum[3], sum[0]);
  return {{"tried", sum[0]}, {"price_within", price}, {"gain_within", gain}, {"playout_against_playout", share(agree, pairs)}, {"kinds", kinds}, {"remedies", all},
          {"met", sum[0] >= 40 && price.is_number() && price >= 0.9 && gain.is_number() && gain >= 0.9}};
}

}  // namespace gc
