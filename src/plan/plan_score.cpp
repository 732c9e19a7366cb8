#include "plan/plan_score.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <numeric>
#include <random>

#include "base/clock.h"

namespace gc {

PlanCase random_plan_case(std::uint64_t seed, int units, int most_works) {
  std::mt19937_64 dice(seed);
  const auto between = [&](double a, double b) { return std::uniform_real_distribution<double>(a, b)(dice); };
  PlanCase c;
  Pace pace{2, 12, 1000.0 / 24, 24};
  const auto fresh = [&] {
    auto m = std::make_shared<Model>();
    m->pace = pace;
    return m;
  };
  const auto live = fresh(), tapped = fresh(), light_source = fresh(), rendered = fresh();
  const auto pool = [&](double fetch, double process) {
    CostPool p;
    for (int i = 0; i < 24; ++i) {
      const double wobble = std::exp(std::normal_distribution<double>(0, 0.06)(dice));
      p.frames.push_back({static_cast<float>(fetch * wobble), static_cast<float>(process * wobble)});
    }
    p.entries = {2, 3};
    return p;
  };
  const CostPool sealed = pool(6, 5);
  const auto put = [&](const std::shared_ptr<Model>& m, FrameRange at, CostPool p) {
    m->stretches.push_back({at.in, at.out, static_cast<std::uint32_t>(m->pools.size())});
    m->pools.push_back(std::move(p));
  };
  // Some units read one of two sources that are slow to decode; a light copy of it serves them all.
  std::vector<double> copied(2, 0);
  for (int k = 0; k < 2; ++k) c.problem.works.push_back({fmt::format("mezzanine:{}", k)});
  Frames at = 0;
  for (int u = 0; u < units; ++u) {
    const FrameRange here{at, at + static_cast<Frames>(between(10, 96))};
    at = here.out;
    c.units.push_back(here);
    const double budget = pace.period_ms * pace.workers;
    const bool room = most_works == 0 || static_cast<int>(c.problem.works.size()) + 2 <= most_works;
    const bool heavy = room && between(0, 1) < 0.5;
    const int source = heavy && between(0, 1) < 0.3 ? static_cast<int>(between(0, 2)) : -1;
    const double load = heavy ? between(0.75, 2.6) : between(0.2, 0.65);
    const double fetch = source >= 0 ? pace.period_ms * between(0.8, 1.5) : between(4, 14);
    const double process = std::max(4.0, load * budget - fetch), tap_leaves = between(0.1, 0.9);
    put(live, here, pool(fetch, process));
    put(tapped, here, pool(8, process * tap_leaves)), put(light_source, here, pool(7, process));
    put(rendered, here, sealed);
    Unit unit;
    std::vector<WayCosts> costs;
    const auto add = [&](const std::shared_ptr<Model>& m, std::vector<std::size_t> works) {
      const StretchLoad l = load_in(*m, here);
      unit.ways.push_back({l.mean, std::move(works)}), costs.push_back({m, l.high});
    };
    add(live, {});
    if (heavy) {
      const double seconds = static_cast<double>(here.length()) * (fetch + process + 12) / pace.workers / 1000;
      const auto length = static_cast<double>(here.length());
      c.problem.works.push_back({fmt::format("tap:{}", u), seconds * between(0.4, 0.95), 3e5 * length});
      const std::size_t tap = c.problem.works.size() - 1;
      c.problem.works.push_back({fmt::format("render:{}", u), seconds, 4e5 * length});
      const std::size_t render = tap + 1;
      add(tapped, {tap});
      if (source >= 0) {
        add(light_source, {static_cast<std::size_t>(source)});
        copied[static_cast<std::size_t>(source)] += length * 0.03;
      }
      add(rendered, {render});
    }
    // From the heaviest to the lightest, as it is first.
    std::vector<std::size_t> order(unit.ways.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin() + 1, order.end(), [&](std::size_t a, std::size_t b) { return unit.ways[a].load > unit.ways[b].load; });
    Unit sorted;
    std::vector<WayCosts> sorted_costs;
    for (const std::size_t i : order)
      if (i == 0 || unit.ways[i].load < unit.ways[0].load) sorted.ways.push_back(unit.ways[i]), sorted_costs.push_back(costs[i]);
    c.problem.units.push_back(std::move(sorted)), c.ways.push_back(std::move(sorted_costs));
  }
  for (std::size_t k = 0; k < 2; ++k) c.problem.works[k].seconds = copied[k] + 1, c.problem.works[k].bytes = 2e5 * copied[k] / 0.03;
  return c;
}

namespace {

/// Whether the chooser found what every choice there is says: the least work that holds, and the fewest drops in half of
/// its time.
bool equals_brute_force(const PlanCase& c) {
  SimulationJudge judge = c.judge();
  Chooser chooser(c.problem, judge);
  const Choice least = chooser.least_work({});
  Limits half;
  half.seconds = least.seconds / 2;
  const Choice fewest = chooser.least_drops(half);
  double work = kNoLimit, drops = kNoLimit;
  const std::size_t n = c.problem.works.size();
  for (std::size_t set = 0; set < std::size_t{1} << n; ++set) {
    std::vector<bool> works;
    for (std::size_t i = 0; i < n; ++i) works.push_back(set >> i & 1);
    const Choice one = chooser.with(works);
    if (one.counts < work && chooser.holds(one)) work = one.counts;
    if (one.seconds <= half.seconds) drops = std::min(drops, one.drops);
  }
  // More work is now and then a few trials worse, since it shifts what is read ahead: so near are drops known.
  return least.counts <= work + 1e-6 && chooser.holds(least) && fewest.drops <= drops + std::max(0.1, 0.01 * drops);
}

std::vector<std::size_t> renders_of(const PlanCase& c) {
  std::vector<std::size_t> all;
  for (std::size_t i = 0; i < c.problem.works.size(); ++i)
    if (c.problem.works[i].id.starts_with("render:")) all.push_back(i);
  return all;
}

double load_of_render(const PlanCase& c, std::size_t work) {
  for (const Unit& u : c.problem.units)
    for (const Way& w : u.ways)
      if (w.works == std::vector<std::size_t>{work}) return u.ways.front().load;
  return 0;
}

/// What people do by hand: renders alone, in some order, until it holds.
std::vector<std::size_t> until_it_holds(const PlanCase& c, Chooser& chooser, const std::vector<std::size_t>& order) {
  std::vector<bool> works(c.problem.works.size(), false);
  std::vector<std::size_t> done;
  for (const std::size_t i : order) {
    if (chooser.holds(chooser.with(works))) break;
    works[i] = true, done.push_back(i);
  }
  return done;
}

std::vector<std::size_t> backward(const PlanCase& c, Chooser& chooser, std::vector<std::size_t> order) {
  std::vector<bool> works(c.problem.works.size(), false);
  for (const std::size_t i : order) works[i] = true;
  for (const std::size_t i : order) {
    works[i] = false;
    if (!chooser.holds(chooser.with(works))) works[i] = true;
  }
  std::erase_if(order, [&](std::size_t i) { return !works[i]; });
  return order;
}

double drops_within(const PlanCase& c, Chooser& chooser, const std::vector<std::size_t>& order, double seconds) {
  std::vector<bool> works(c.problem.works.size(), false);
  double spent = 0;
  for (const std::size_t i : order) {
    if (spent + c.problem.works[i].seconds > seconds) break;
    spent += c.problem.works[i].seconds, works[i] = true;
  }
  return chooser.with(works).drops;
}

}  // namespace

PlanScore score_plans(const PlanScoreOptions& o, const std::function<bool(const std::string&)>& progress) {
  PlanScore s;
  bool go_on = true;
  const auto tell = [&](const std::string& text) { return go_on = go_on && (!progress || progress(text)); };
  for (int i = 0; i < o.small_cases; ++i) {
    if (i % 50 == 0 && !tell(fmt::format("Every choice of small case {} of {}", i, o.small_cases))) break;
    ++s.brute_force_cases;
    s.brute_force_equal += equals_brute_force(random_plan_case(o.seed * 1000003 + static_cast<std::uint64_t>(i), 8, 8));
  }
  double prefixes = 0, prefix_count = 0, compared = 0;
  for (int i = 0; i < o.cases && tell(fmt::format("Case {} of {}", i + 1, o.cases)); ++i) {
    const PlanCase c = random_plan_case(o.seed * 7919 + static_cast<std::uint64_t>(i), 60);
    const Stopwatch watch;
    SimulationJudge judge = c.judge();
    Chooser chooser(c.problem, judge);
    const Choice least = chooser.least_work({});
    s.seconds_worst = std::max(s.seconds_worst, watch.ms() / 1000), s.worst_gap = std::max(s.worst_gap, least.gap);
    ++s.cases;
    if (least.seconds <= 0) continue;  // there is nothing to be better at
    ++compared;
    Limits half;
    half.seconds = least.seconds / 2, half.thinking = 2;
    const double ours = chooser.least_drops(half).drops;
    std::vector<std::size_t> in_order = renders_of(c), dearest = in_order, slow;
    std::stable_sort(dearest.begin(), dearest.end(), [&](std::size_t a, std::size_t b) { return load_of_render(c, a) > load_of_render(c, b); });
    for (const std::size_t w : in_order)
      if (load_of_render(c, w) > 1) slow.push_back(w);
    for (const std::size_t w : in_order)  // what is slow only together with others comes after
      if (load_of_render(c, w) <= 1) slow.push_back(w);
    const std::map<std::string, std::vector<std::size_t>> peers{{"everything slow in timeline order", until_it_holds(c, chooser, slow)},
                                                                {"dearest first", until_it_holds(c, chooser, dearest)},
                                                                {"backward elimination", backward(c, chooser, dearest)}};
    for (const auto& [name, order] : peers) {
      double seconds = 0;
      for (const std::size_t w : order) seconds += c.problem.works[w].seconds;
      s.peers[name].time_ratio += seconds / least.seconds;
      s.peers[name].drops_ratio += (drops_within(c, chooser, order, half.seconds) + 1) / (ours + 1);
    }
    std::vector<bool> works(c.problem.works.size(), false);
    if (i % 4 != 0) continue;  // each place of the schedule is a search of its own
    for (const std::size_t w : chooser.in_order(least)) {
      works[w] = true;
      const Choice so_far = chooser.with(works);
      Limits part;
      part.seconds = so_far.seconds + 1e-6, part.thinking = 0.5;
      prefixes += (so_far.drops + 1) / (std::min(so_far.drops, chooser.least_drops(part).drops) + 1), ++prefix_count;
    }
  }
  for (auto& [name, p] : s.peers) p.time_ratio /= compared, p.drops_ratio /= compared;
  s.prefix_ratio = prefix_count > 0 ? prefixes / prefix_count : 0;
  for (const int units : o.large) {
    if (!tell(fmt::format("{} segments", units))) break;
    const PlanCase c = random_plan_case(o.seed + static_cast<std::uint64_t>(units), units);
    const Stopwatch watch;
    SimulationJudge judge = c.judge();
    Chooser chooser(c.problem, judge);
    const Choice least = chooser.least_work({});
    s.large.push_back({units, watch.ms() / 1000, least.gap});
    s.worst_gap = std::max(s.worst_gap, least.gap);
  }
  return s;
}

Json to_json(const PlanScore& s) {
  Json peers = Json::object(), large = Json::array();
  for (const auto& [name, p] : s.peers) peers[name] = {{"time_ratio", p.time_ratio}, {"drops_ratio", p.drops_ratio}};
  bool met = s.worst_gap <= 0.01 && s.brute_force_equal == s.brute_force_cases;
  for (const PlanScore::Large& l : s.large) {
    large.push_back({{"units", l.units}, {"seconds", l.seconds}, {"gap", l.gap}});
    met = met && l.seconds <= (l.units <= 300 ? 1 : 5);
  }
  for (const auto& [name, p] : s.peers) met = met && p.time_ratio >= 1 - 1e-9;
  return {{"cases", s.cases},
          {"worst_gap", s.worst_gap},
          {"brute_force_equal", s.brute_force_equal},
          {"brute_force_cases", s.brute_force_cases},
          {"seconds_worst", s.seconds_worst},
          {"peers", peers},
          {"prefix_ratio", s.prefix_ratio},
          {"large", large},
          {"met", met}};
}

}  // namespace gc
