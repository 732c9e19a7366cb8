#include "plan/night.h"

#include <fmt/format.h>

#include <algorithm>
#include <random>

#include "plan/schedule.h"

namespace gc {
namespace {

constexpr int kUnits = 40;
/// Of ten units two are being worked on: an edit falls on one of them in four of five cases.
constexpr double kWorkedOn = 0.2, kFallsThere = 0.8;

struct Edit {
  double at = 0;
  std::size_t unit = 0;
  bool below = false;  ///< below the cached stack, which it makes stale too
};

struct Night {
  PlanCase c;
  double review = 0;                ///< seconds until it
  std::vector<FreeTime> free;       ///< somebody works at first; then the machine is alone, and some hours are slow
  std::vector<Edit> edits;          ///< in order
  std::vector<bool> worked_on;      ///< units
};

Night random_night(std::uint64_t seed) {
  Night n;
  n.c = random_plan_case(seed, kUnits);
  std::mt19937_64 dice(seed * 2654435761u + 1);
  const auto between = [&](double a, double b) { return std::uniform_real_distribution<double>(a, b)(dice); };
  SimulationJudge judge = n.c.judge();
  Chooser chooser(n.c.problem, judge);
  const double work = std::max(10.0, chooser.least_work({}).seconds);
  // From too little time to more than enough: 0.7 to 2.5 times the least work at the speeds there are.
  const double busy = work * between(0.2, 0.8), alone = work * between(0.6, 2.2);
  n.review = busy + alone;
  n.free.push_back({0, busy, between(0.2, 0.5)});
  for (double at = busy; at < n.review;) {
    const double to = std::min(n.review, at + work * between(0.2, 0.6));
    n.free.push_back({at, to, between(0, 1) < 0.3 ? between(0.5, 0.8) : 1});
    at = to;
  }
  n.worked_on.resize(n.c.units.size());
  std::vector<std::size_t> these, others;
  for (std::size_t u = 0; u < n.worked_on.size(); ++u) {
    n.worked_on[u] = between(0, 1) < kWorkedOn;
    (n.worked_on[u] ? these : others).push_back(u);
  }
  const int edits = static_cast<int>(between(0, 9));
  for (int i = 0; i < edits; ++i) {
    const auto& from = !these.empty() && between(0, 1) < kFallsThere ? these : others;
    n.edits.push_back({between(0, busy), from[static_cast<std::size_t>(between(0, static_cast<double>(from.size())))], between(0, 1) < 0.3});
  }
  std::ranges::stable_sort(n.edits, {}, &Edit::at);
  return n;
}

/// What an edit makes stale: the unit's render, and its cached stack when it is below that.
bool makes_stale(const Edit& e, const std::string& work) {
  return work == fmt::format("render:{}", e.unit) || (e.below && work == fmt::format("tap:{}", e.unit));
}

/// The order in which somebody would do what is left, as things stand.
using Policy = std::function<std::vector<std::size_t>(const Night&, const std::vector<bool>& done, double now)>;

NightScore::Way lived_through(const Night& n, const Policy& policy) {
  NightScore::Way w;
  const auto& works = n.c.problem.works;
  std::vector<bool> done(works.size(), false);
  std::vector<double> spent(works.size(), 0);  // on what is done or begun
  double clock = 0;
  auto edit = n.edits.begin();
  std::vector<std::size_t> order = policy(n, done, clock);
  const auto stale = [&](const Edit& e) {
    for (std::size_t i = 0; i < works.size(); ++i)
      if (makes_stale(e, works[i].id)) w.wasted += spent[i], spent[i] = 0, done[i] = false;
  };
  while (clock < n.review) {
    const auto next = std::ranges::find_if(order, [&](std::size_t i) { return !done[i]; });
    const double until = edit == n.edits.end() ? n.review : edit->at;
    if (next != order.end()) {
      const double had = work_until(n.free, clock), needs = works[*next].seconds - spent[*next], ends = done_at(n.free, had + needs);
      if (ends <= until) {
        w.worked += needs, spent[*next] += needs, done[*next] = true, clock = ends;
        continue;
      }
      const double part = work_until(n.free, until) - had;
      w.worked += part, spent[*next] += part;
    }
    clock = until;
    if (edit == n.edits.end()) break;
    stale(*edit++);
    order = policy(n, done, clock);
  }
  SimulationJudge judge = n.c.judge();
  Chooser chooser(n.c.problem, judge);
  const Choice at_the_review = chooser.with(done);
  w.played = chooser.holds(at_the_review), w.drops = at_the_review.drops;
  return w;
}

/// As the plan does it: the least work that holds from where things stand, what will likely be changed counting more; what
/// fits until the review when not all does.
std::vector<std::size_t> planned(const Night& n, const std::vector<bool>& done, double now) {
  Problem p = n.c.problem;
  const bool edits_come = now < n.free.front().to;
  for (std::size_t i = 0; i < p.works.size(); ++i) {
    WorkItem& w = p.works[i];
    if (done[i]) {
      w.seconds = 1e-6, w.weight = 0;
      continue;
    }
    for (std::size_t u = 0; edits_come && u < n.worked_on.size(); ++u) {
      const double chance = n.worked_on[u] ? 0.5 : 0.05;
      if (w.id == fmt::format("render:{}", u)) w.weight = w.seconds * (1 + chance);
      if (w.id == fmt::format("tap:{}", u)) w.weight = w.seconds * (1 + 0.3 * chance);
    }
  }
  SimulationJudge judge = n.c.judge();
  Chooser chooser(p, judge);
  Limits until;
  until.seconds = work_until(n.free, n.review) - work_until(n.free, now), until.thinking = 20;  // enough on any machine: the same seed gives the same nights
  Choice c = chooser.least_work(until);
  if (!c.possible) c = chooser.least_drops(until);
  std::vector<std::size_t> order = chooser.in_order(c);
  // What is settled first: the rest may wait until nobody edits any more.
  if (edits_come)
    std::ranges::stable_partition(order, [&](std::size_t i) { return p.works[i].weight <= 1.2 * p.works[i].seconds; });
  return order;
}

double live_load(const PlanCase& c, std::size_t work) {
  for (const Unit& u : c.problem.units)
    for (const Way& w : u.ways)
      if (w.works == std::vector<std::size_t>{work}) return u.ways.front().load;
  return 0;
}

std::vector<std::size_t> renders(const PlanCase& c) {
  std::vector<std::size_t> all;
  for (std::size_t i = 0; i < c.problem.works.size(); ++i)
    if (c.problem.works[i].id.starts_with("render:")) all.push_back(i);
  return all;
}

/// Everything that is slow by itself, as it lies in the timeline, then the rest.
std::vector<std::size_t> slow_in_order(const Night& n, const std::vector<bool>&, double) {
  std::vector<std::size_t> all = renders(n.c);
  std::ranges::stable_partition(all, [&](std::size_t i) { return live_load(n.c, i) > 1; });
  return all;
}

std::vector<std::size_t> dearest_first(const Night& n, const std::vector<bool>&, double) {
  std::vector<std::size_t> all = renders(n.c);
  std::ranges::stable_sort(all, std::greater{}, [&](std::size_t i) { return live_load(n.c, i); });
  return all;
}

/// Renders without which it would not hold, each left out once to see.
std::vector<std::size_t> backward_elimination(const Night& n, const std::vector<bool>&, double) {
  SimulationJudge judge = n.c.judge();
  Chooser chooser(n.c.problem, judge);
  std::vector<std::size_t> all = dearest_first(n, {}, 0);
  std::vector<bool> works(n.c.problem.works.size(), false);
  for (const std::size_t i : all) works[i] = true;
  for (const std::size_t i : all) {
    works[i] = false;
    if (!chooser.holds(chooser.with(works))) works[i] = true;
  }
  std::erase_if(all, [&](std::size_t i) { return !works[i]; });
  return all;
}

}  // namespace

NightScore score_nights(int nights, std::uint64_t seed, const std::function<bool(const std::string&)>& progress) {
  const std::map<std::string, Policy> policies{{"the plan", planned},
                                               {"everything slow in timeline order", slow_in_order},
                                               {"dearest first", dearest_first},
                                               {"backward elimination", backward_elimination}};
  NightScore s;
  for (int i = 0; i < nights && (i % 10 != 0 || !progress || progress(fmt::format("Night {} of {}", i + 1, nights))); ++i) {
    const Night n = random_night(seed * 1000003 + static_cast<std::uint64_t>(i));
    ++s.nights;
    Night quiet = n;
    quiet.edits.clear(), quiet.worked_on.assign(n.worked_on.size(), false);
    s.possible += lived_through(quiet, planned).played;
    for (const auto& [name, policy] : policies) {
      const NightScore::Way w = lived_through(n, policy);
      NightScore::Way& sum = s.ways[name];
      sum.played += w.played, sum.wasted += w.wasted, sum.worked += w.worked, sum.drops += w.drops;
    }
  }
  return s;
}

Json to_json(const NightScore& s) {
  Json ways = Json::object();
  const auto share = [](double part, double of) { return of > 0 ? Json(part / of) : Json(); };
  for (const auto& [name, w] : s.ways)
    ways[name] = {{"reviews_that_play", share(w.played, s.nights)},
                  {"wasted_seconds", w.wasted},
                  {"wasted_share", share(w.wasted, w.worked)},
                  {"worked_seconds", w.worked},
                  {"drops_left", w.drops}};
  return {{"nights", s.nights}, {"possible_without_edits", share(s.possible, s.nights)}, {"ways", ways}};
}

}  // namespace gc
