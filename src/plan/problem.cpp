#include "plan/problem.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/clock.h"

namespace gc {
namespace {

/// Of the fewest drops the least work: all work together counts as much as this many drops.
constexpr double kWorkAsDrops = 0.02;
/// A search for the fewest drops is over when it is this near to what is least, in drops and relatively.
constexpr double kNearEnough = 0.02, kNearEnoughOf = 0.005;

}  // namespace

Chooser::Chooser(const Problem& problem, Judge& judge, double wavers)
    : problem_(problem), judge_(judge), wavers_(wavers), touched_(problem.units.size(), false) {
  for (const Unit& u : problem_.units) lightest_.push_back(u.ways.size() - 1);
  const std::vector<std::size_t> live(problem_.units.size(), 0);
  for (const auto& [first, last] : judge_.runs(live))
    for (std::size_t u = first; u <= last; ++u) touched_[u] = problem_.units[u].ways.size() > 1;
  alone_.resize(problem_.units.size());
  // What each does by itself.
  for (std::size_t u = 0; u < problem_.units.size(); ++u) {
    if (!touched_[u]) continue;
    std::vector<std::size_t> ways = lightest_;
    alone_[u].assign(problem_.units[u].ways.size(), 0);
    for (std::size_t w = 0; w < problem_.units[u].ways.size(); ++w) {
      ways[u] = w;
      for (const auto& [first, last] : judge_.runs(ways)) {
        if (u < first || u > last) continue;
        const Judged j = played(first, last, ways);
        const double more = j.drops - played(first, last, lightest_).drops;
        alone_[u][w] = std::max(0.0, more);
        if (bad(first, last, j)) conditions_.push_back({{{u, w}}, 0, true});
      }
    }
  }
}

Judged Chooser::played(std::size_t first, std::size_t last, const std::vector<std::size_t>& ways) {
  std::vector<std::size_t> key(ways.begin() + static_cast<std::ptrdiff_t>(first), ways.begin() + static_cast<std::ptrdiff_t>(last) + 1);
  const auto it = known_.find({first, key});
  if (it != known_.end()) return it->second;
  return known_[{first, std::move(key)}] = judge_.play(first, last, ways);
}

bool Chooser::bad(std::size_t first, std::size_t last, const Judged& j) {
  const Judged floor = played(first, last, lightest_);
  return j.any > floor.any + wavers_;
}

Choice Chooser::finish(const std::vector<bool>& works) {
  Choice c;
  c.possible = true, c.works = works;
  for (const Unit& u : problem_.units) {
    std::size_t best = 0;
    for (std::size_t w = 0; w < u.ways.size(); ++w)
      if (std::all_of(u.ways[w].works.begin(), u.ways[w].works.end(), [&](std::size_t i) { return works[i]; })) best = w;
    c.ways.push_back(best);
  }
  for (std::size_t i = 0; i < works.size(); ++i)
    if (works[i]) c.seconds += problem_.works[i].seconds, c.bytes += problem_.works[i].bytes, c.counts += problem_.works[i].counts();
  for (const auto& [first, last] : judge_.runs(c.ways)) c.drops += played(first, last, c.ways).drops;
  return c;
}

Choice Chooser::with(const std::vector<bool>& works) { return finish(works); }

bool Chooser::holds(const Choice& choice) {
  for (const auto& [first, last] : judge_.runs(choice.ways))
    if (bad(first, last, played(first, last, choice.ways))) return false;
  return true;
}

std::vector<std::size_t> Chooser::in_order(const Choice& choice) {
  std::vector<std::size_t> left, done;
  for (std::size_t i = 0; i < choice.works.size(); ++i)
    if (choice.works[i]) left.push_back(i);
  std::vector<bool> works(choice.works.size(), false);
  // What a work saved when it was last looked at. What others save changes little by little, so the best of the old
  // figures is looked at anew until it stays the best.
  std::vector<double> rate(choice.works.size(), kNoLimit);
  while (!left.empty()) {
    const double drops = finish(works).drops;
    std::vector<bool> fresh(choice.works.size(), false);
    while (true) {
      const auto best = std::max_element(left.begin(), left.end(), [&](std::size_t a, std::size_t b) { return rate[a] < rate[b]; });
      const std::size_t i = *best;
      if (fresh[i]) {
        works[i] = true, done.push_back(i), left.erase(best);
        break;
      }
      works[i] = true;
      const double saved = drops - finish(works).drops;
      works[i] = false, fresh[i] = true;
      // What by itself saves nothing, but is needed together with another, waits for it.
      rate[i] = (std::max(0.0, saved) + 1e-3) / std::max(0.05, problem_.works[i].counts()) * (problem_.works[i].must ? 1e3 : 1);
    }
  }
  return done;
}

bool Chooser::blame(const std::vector<std::size_t>& ways, std::size_t first, std::size_t last) {
  constexpr std::size_t kFew = 6;
  std::vector<std::size_t> at = lightest_;
  for (std::size_t u = first; u <= last; ++u) at[u] = ways[u];
  bool any = false;
  for (const auto& [a, b] : judge_.runs(at)) {
    if (b < first || a > last || !bad(a, b, played(a, b, at))) continue;
    any = true;
    if (b - a >= kFew) {
      const std::size_t middle = a + (b - a) / 2;
      const bool left = blame(at, a, middle), right = blame(at, middle + 1, b);
      if (left || right) continue;
    }
    // What is not to blame may stay as it is.
    std::vector<std::size_t> few = at;
    for (std::size_t u = a; u <= b; ++u) {
      const std::size_t was = std::exchange(few[u], lightest_[u]);
      if (was != few[u] && !bad(a, b, played(a, b, few))) few[u] = was;
    }
    Condition c;
    c.bad = true;
    for (std::size_t u = a; u <= b; ++u)
      if (touched_[u] && few[u] != lightest_[u]) c.ways.emplace_back(u, few[u]);
    if (!c.ways.empty() && std::none_of(conditions_.begin(), conditions_.end(), [&](const Condition& k) { return k.bad && k.ways == c.ways; }))
      conditions_.push_back(std::move(c));
  }
  return any;
}

bool Chooser::learn(const std::vector<std::size_t>& ways, bool hold) {
  const std::size_t before = conditions_.size();
  for (const auto& [first, last] : judge_.runs(ways)) {
    const Judged j = played(first, last, ways);
    if (hold) {
      if (bad(first, last, j)) blame(ways, first, last);
      continue;
    }
    Condition c;
    for (std::size_t u = first; u <= last; ++u)
      if (touched_[u] && ways[u] != lightest_[u]) c.ways.emplace_back(u, ways[u]);
    c.drops = std::max(0.0, j.drops - played(first, last, lightest_).drops);
    if (c.ways.empty() || c.drops < kNearEnough) continue;
    if (std::none_of(conditions_.begin(), conditions_.end(), [&](const Condition& k) { return k.ways == c.ways && k.drops >= c.drops - 1e-9; }))
      conditions_.push_back(std::move(c));
  }
  return conditions_.size() > before;
}

Mip Chooser::program(const Limits& limits, bool hold) const {
  Mip mip;
  const double a_second = work_as_drops(limits);
  std::vector<int> done;
  Mip::Row seconds{-kNoLimit, limits.seconds, {}}, bytes{-kNoLimit, limits.bytes / 1e6, {}};
  for (std::size_t i = 0; i < problem_.works.size(); ++i) {
    const WorkItem& w = problem_.works[i];
    // The person's word goes before the limits of what is chosen: what must be made is there, whatever it takes.
    done.push_back(mip.add(fmt::format("y{}", i), hold ? w.counts() : a_second * w.counts(), w.must ? 1 : 0,
                           w.never && !w.must ? 0 : 1));
    seconds.terms.emplace_back(done.back(), w.seconds), bytes.terms.emplace_back(done.back(), w.bytes / 1e6);
  }
  if (limits.seconds < kNoLimit) mip.rows.push_back(seconds);
  for (std::size_t k = 0; k < limits.until.size(); ++k) {
    if (limits.until[k] >= kNoLimit) continue;
    Mip::Row due{-kNoLimit, limits.until[k], {}};
    for (std::size_t i = 0; i < problem_.works.size(); ++i)
      if (problem_.works[i].due <= k) due.terms.emplace_back(done[i], problem_.works[i].seconds);
    if (!due.terms.empty()) mip.rows.push_back(std::move(due));
  }
  if (limits.bytes < kNoLimit) mip.rows.push_back(bytes);
  const auto may = [&](const Way& w) {
    return std::none_of(w.works.begin(), w.works.end(),
                        [&](std::size_t i) { return problem_.works[i].never && !problem_.works[i].must; });
  };
  std::vector<std::vector<int>> played_so(problem_.units.size());
  std::vector<int> dropped(problem_.units.size(), -1);
  for (std::size_t u = 0; u < problem_.units.size(); ++u) {
    if (!touched_[u]) continue;
    Mip::Row one{1, 1, {}};
    for (std::size_t w = 0; w < problem_.units[u].ways.size(); ++w) {
      const Way& way = problem_.units[u].ways[w];
      const int z = mip.add(fmt::format("z{}_{}", u, w), hold ? 0 : alone_[u][w], 0, may(way) ? 1 : 0);
      played_so[u].push_back(z), one.terms.emplace_back(z, 1);
      for (const std::size_t i : way.works) mip.rows.push_back({0, kNoLimit, {{done[i], 1}, {z, -1}}});
    }
    mip.rows.push_back(one);
    // What it drops with others beyond what it drops by itself.
    if (!hold) dropped[u] = mip.add(fmt::format("d{}", u), 1, 0, kNoLimit, false);
  }
  for (const Condition& c : conditions_) {
    if (hold ? !c.bad : c.drops <= 0) continue;
    Mip::Row row{hold ? 1 : c.drops, kNoLimit, {}};
    bool helps = false;
    for (const auto& [u, at] : c.ways)
      for (std::size_t w = 0; w < played_so[u].size(); ++w) {
        const bool lighter = w > at;
        const double by_itself = hold ? 0 : alone_[u][w];
        if (lighter || by_itself > 0) row.terms.emplace_back(played_so[u][w], (lighter ? hold ? 1 : c.drops : 0) + by_itself);
        helps = helps || (lighter && may(problem_.units[u].ways[w]));
      }
    // What nothing allowed can help is forgiven.
    if (hold && !helps) continue;
    if (!hold)
      for (const auto& [u, at] : c.ways) row.terms.emplace_back(dropped[u], 1);
    mip.rows.push_back(std::move(row));
  }
  return mip;
}

double Chooser::work_as_drops(const Limits& limits) const {
  if (limits.drop_seconds < kNoLimit) return 1 / std::max(limits.drop_seconds, 1e-3);
  double all = 0;
  for (const WorkItem& w : problem_.works) all += w.counts();
  return kWorkAsDrops / std::max(all, 1e-9);
}

Choice Chooser::search(const Limits& limits, bool hold) {
  const CpuStopwatch watch;  // a busy machine gives the same plan
  const bool trade = !hold && limits.drop_seconds < kNoLimit;
  const double a_second = work_as_drops(limits);
  const auto badness = [&](const Choice& c) { return hold ? c.counts : trade ? c.drops + a_second * c.counts : c.drops; };
  Choice best;
  double bound = 0;
  for (int round = 1;; ++round) {
    const double left = limits.thinking - watch.ms() / 1000;
    latest_ = program(limits, hold);
    const MipAnswer answer = solve(latest_, std::max(0.1, left), hold ? 0 : kNearEnough / 2);
    if (!answer.solved) return best;
    std::vector<bool> works;
    for (std::size_t i = 0; i < problem_.works.size(); ++i) works.push_back(answer.x[i] > 0.5);
    Choice now = finish(works);
    bound = std::max(bound, hold || trade ? answer.bound : answer.bound - kWorkAsDrops);
    const bool news = learn(now.ways, hold);
    const bool better = !best.possible || badness(now) < badness(best) - 1e-9 || (badness(now) < badness(best) + 1e-9 && now.counts < best.counts);
    if (hold ? !news || left < 0 : better) best = now;
    best.bound = bound, best.rounds = round;
    const double found = badness(best);
    best.gap = found > 1e-9 ? std::max(0.0, found - bound) / found : 0;
    const bool near = !hold && found - bound < std::max(kNearEnough, kNearEnoughOf * found);
    if (!news || near || left < 0) return best;
  }
}

Choice Chooser::without_needless(Choice choice) {
  std::vector<std::size_t> done;
  for (std::size_t i = 0; i < choice.works.size(); ++i)
    if (choice.works[i] && !problem_.works[i].must) done.push_back(i);
  std::ranges::stable_sort(done, std::greater{}, [&](std::size_t i) { return problem_.works[i].counts(); });
  for (const std::size_t i : done) {
    std::vector<bool> fewer = choice.works;
    fewer[i] = false;
    Choice less = finish(fewer);
    if (!holds(less)) continue;
    less.rounds = choice.rounds, less.bound = std::min(choice.bound, less.counts);
    less.gap = less.counts > 1e-9 ? (less.counts - less.bound) / less.counts : 0;
    choice = std::move(less);
  }
  return choice;
}

Choice Chooser::least_work(const Limits& limits) {
  Choice choice = search(limits, true);
  return choice.possible && holds(choice) ? without_needless(std::move(choice)) : choice;
}
Choice Chooser::least_drops(const Limits& limits) {
  Limits whatever_it_takes = limits;
  whatever_it_takes.drop_seconds = kNoLimit;
  return search(whatever_it_takes, false);
}
Choice Chooser::best_trade(const Limits& limits) { return search(limits, false); }

}  // namespace gc
