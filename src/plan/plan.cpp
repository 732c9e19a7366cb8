#include "plan/plan.h"

#include <fmt/format.h>

#include <algorithm>
#include <cmath>
#include <ctime>

#include "base/clock.h"
#include "measure/measure.h"
#include "plan/judge.h"
#include "plan/plan_words.h"
#include "plan/problem.h"

namespace gc {
namespace {

constexpr int kTrialsOfJudge = 32;
/// Below this load, 95 frames of 100, a stretch never needs a remedy.
constexpr double kNeverNeeds = 0.7;
/// A way that is not lighter by this much is none.
constexpr double kLighter = 0.97;

int bad_spans(const Forecast& f) { return f.count(Verdict::spills) + f.count(Verdict::wavers) + f.count(Verdict::unseen); }
bool good(const Forecast& f, double most_drops) { return f.expected_drops <= most_drops && bad_spans(f) == 0; }

/// How much dearer than usual everything is on one day of ten, as this seat's playouts went (1.886 on Student's
/// distribution with two degrees of freedom), and at least so much.
double slow_day(const Notebook& notebook, double least) {
  constexpr double kMost = 0.5;
  return std::clamp(std::exp(1.886 * notebook.mood(0).level) - 1, least, std::max(least, kMost));
}

/// Whether one of the words is of a remedy by itself: its id, its kind, "kind:segment". Renders that touch are one line of a
/// plan, and a word about the line is about each of them.
bool says(const std::set<std::string>& words, const Proposal& p) {
  if (words.contains(p.id) || words.contains(p.kind->name())) return true;
  for (const std::string& word : words) {
    Frames in = 0, out = 0;
    if (p.id.starts_with("render:") && std::sscanf(word.c_str(), "render:%ld-%ld", &in, &out) == 2 && p.at.in >= in && p.at.out <= out) return true;
  }
  return std::any_of(p.segments.begin(), p.segments.end(), [&](const std::string& s) { return words.contains(std::string(p.kind->name()) + ":" + s); });
}

bool names_segment(const std::set<std::string>& words, const Proposal& p) {
  return std::any_of(p.segments.begin(), p.segments.end(), [&](const std::string& s) { return words.contains(s); });
}

/// A segment by itself is forbidden everything. Pinned, it is rendered, since there is no need for anything else then.
bool forbidden(const std::set<std::string>& words, const Proposal& p) { return says(words, p) || names_segment(words, p); }
bool pinned(const std::set<std::string>& words, const Proposal& p) {
  return says(words, p) || (p.kind->name() == std::string("render") && names_segment(words, p));
}

/// Why a stretch needs something.
std::string reason_of(const Forecast& f, FrameRange r) {
  const Span* worst = nullptr;
  for (const Span& s : f.spans)
    if (s.verdict != Verdict::holds && s.out > r.in && s.in < r.out && (!worst || s.expected_drops > worst->expected_drops)) worst = &s;
  if (!worst) return "Holds barely today and would not on a slower day.";
  if (worst->verdict == Verdict::unseen) return "Unseen: flow-based pictures show only after rendering.";
  return fmt::format("{} with {:.0f} % probability, about {:.0f} frames dropped; {} takes {:.0f} ms of a {:.1f} ms budget.",
                     worst->verdict == Verdict::spills ? "Spills" : "Wavers", worst->drop_probability * 100, worst->expected_drops,
                     worst->blame.label, worst->blame.ms, f.rate.frame_ms());
}

/// Turns a timeline's state into a problem, has it solved, and turns the choice into a plan.
class Planner {
 public:
  Planner(const Situation& s, FrameRange range, const PlanOptions& options, Plan& plan) : s_(s), range_(range), options_(options), plan_(plan) {
    slow_ = s.forecast, slow_.outside = false, slow_.before = nullptr;
    slow_.cost_scale *= 1 + plan.margin;
    factor_ = s.notebook->price_factor();
  }

  void run() {
    find_units();
    find_proposals();
    find_ways();
    if (problem_.works.empty()) {
      plan_.drops_by_others = drops_by_others({});
      return;
    }
    SimulationJudge judge(places_, costs_, kTrialsOfJudge, slow_.seed);
    Chooser chooser(problem_, judge, slow_.thresholds.wavers);
    Limits limits = limits_of();
    limits.thinking = options_.thinking, limits.drop_seconds = options_.drop_seconds;
    const bool trade = options_.drop_seconds < kNoLimit;
    Choice choice = trade ? chooser.best_trade(limits) : chooser.least_work(limits);
    plan_.fits = choice.possible;
    if (trade && choice.possible) {
      // Of work and drops together; said of the work, the drops being what they are.
      plan_.bound_seconds = std::max(0.0, (choice.bound - choice.drops) * options_.drop_seconds), plan_.bound_drops = choice.drops;
    } else if (!choice.possible) {
      Limits none;
      none.thinking = options_.thinking;
      const Choice needed = chooser.least_work(none);
      plan_.short_seconds = std::max(0.0, needed.seconds - limits.seconds);
      for (std::size_t k = 0; k < limits.until.size(); ++k) {
        double due = 0;
        for (std::size_t i = 0; i < problem_.works.size(); ++i)
          if (needed.works[i] && problem_.works[i].due <= k) due += problem_.works[i].seconds;
        plan_.short_seconds = std::max(plan_.short_seconds, due - limits.until[k]);
      }
      plan_.short_bytes = std::max(0.0, needed.bytes - limits.bytes);
      plan_.bound_seconds = needed.bound;
      choice = chooser.least_drops(limits);
      plan_.bound_drops = choice.bound;
      // The word of the person may leave nothing within the limits; then what must be made is all there is.
      if (!choice.possible) choice = chooser.with(musts());
    } else {
      plan_.bound_seconds = choice.bound;
    }
    if (options_.lp) plan_.lp = lp_text(chooser.latest());
    choice = verified(chooser, std::move(choice), limits);
    plan_.gap = choice.gap, plan_.rounds = choice.rounds;
    plan_.drops_by_others = drops_by_others(choice);
    tell(chooser, choice);
    if (options_.frontier) draw_frontier(chooser, choice, limits);
    if (options_.words) weigh_words(chooser, choice, limits);
  }

 private:
  Limits limits_of() const {
    Limits l;
    l.bytes = options_.disk_bytes, l.seconds = options_.most_seconds;
    if (plan_.review_at) l.seconds = std::min(l.seconds, work_until(free_, static_cast<double>(*plan_.review_at - plan_.made_at)));
    for (const Review& r : plan_.reviews) l.until.push_back(work_until(free_, static_cast<double>(r.at - plan_.made_at)));
    return l;
  }

  void find_units() {
    free_ = free_time(plan_.made_at, options_.busy, options_.idle_share);
    for (const IntervalCost& c : plan_.before.intervals) intervals_.push_back(&c), places_.push_back({c.in - range_.in, c.out - range_.in});
    base_ = std::make_shared<const Model>(model_of(*s_.played, *s_.notebook, s_.route, range_, slow_));
    slow_now_ = forecast(*s_.played, *s_.notebook, s_.route, range_, slow_);
  }

  bool is_watched(FrameRange r) const {
    return plan_.reviews.empty() || std::ranges::any_of(plan_.reviews, [&](const Review& w) { return w.range.in < r.out && w.range.out > r.in; });
  }
  /// The first review that what bears on these frames is for.
  std::size_t due(FrameRange r) const {
    for (std::size_t k = 0; k < plan_.reviews.size(); ++k)
      if (plan_.reviews[k].range.in < r.out && plan_.reviews[k].range.out > r.in) return k;
    return plan_.reviews.empty() ? 0 : plan_.reviews.size() - 1;
  }

  /// Whether frames of an interval can be in a stretch that drops, on a slow day.
  bool needs(std::size_t u) const {
    const IntervalCost& c = *intervals_[u];
    if (c.missing || c.is(FrameState::sealed) || !is_watched({c.in, c.out})) return false;
    return c.unseen || load_in(*base_, places_[u]).high >= kNeverNeeds;
  }

  void find_proposals() {
    std::set<std::string> seen;
    const auto take = [&](Proposal p, const RemedyKind* kind) {
      p.kind = kind;
      if (!p.refused.empty() || s_.truth(p.at) > p.serves || !seen.insert(p.id).second) return;
      p.quote.seconds = p.quote.modelled_seconds * factor_;
      proposals_.push_back(std::move(p));
    };
    // What is forbidden is among them, so that it can be said what the ban costs.
    const auto wanted = [&](const char* kind) { return options_.kinds.contains(kind); };
    for (const Span& span : slow_now_.spans) {
      if (span.verdict == Verdict::holds || span.verdict == Verdict::missing) continue;
      for (const char* name : {"tap", "bake", "mezzanine"})
        if (const RemedyKind* kind = remedy_kind(name); wanted(name))
          for (Proposal& p : kind->propose(s_, {span.in, span.out}))
            if (!p.id.starts_with("tap:all:")) take(std::move(p), kind);  // each of its segments is there by itself
    }
    if (wanted("scale")) {
      Situation as = s_;
      as.now = std::make_shared<const Forecast>(slow_now_);
      for (Proposal& p : remedy_kind("scale")->propose(as, range_))
        if (p.subject.size == 2 && p.id.find('-') != std::string::npos) take(std::move(p), remedy_kind("scale"));
    }
    for (const std::string& pin : options_.pins)
      if (auto p = proposal_of(s_, pin); p && p->refused.empty() && p->kind->name() != std::string("render")) take(*p, p->kind);
    for (const Proposal& p : proposals_) {
      WorkItem w{p.id, p.quote.seconds, static_cast<double>(p.quote.bytes), 0, pinned(options_.pins, p), forbidden(options_.forbids, p)};
      if (p.kind->slip(p)) w.seconds = 0, w.weight = 1;  // it takes no machine, but hides something
      else w.weight = weight_of(p, w.seconds);
      w.due = due(p.at);
      problem_.works.push_back(w);
    }
  }

  /// Lost work counts as work that has to be done again.
  double weight_of(const Proposal& p, double seconds) const {
    if (!options_.unsettled || p.segments.size() != 1) return seconds;
    const std::size_t from = p.kind->name() == std::string("tap") ? p.subject.after : std::numeric_limits<std::size_t>::max();
    return seconds * (1 + options_.unsettled(p.segments.front(), from));
  }

  /// Proposals that change what answers the frames of an interval, by a frame in its middle.
  std::vector<std::size_t> bearing(std::size_t u, const std::vector<Route>& alone) const {
    std::vector<std::size_t> all;
    const auto middle = static_cast<std::size_t>((intervals_[u]->in + intervals_[u]->out) / 2);
    for (std::size_t i = 0; i < alone.size(); ++i)
      if (alone[i].taps(middle) != s_.route.taps(middle) || alone[i][middle] != s_.route[middle]) all.push_back(i);
    return all;
  }

  void find_ways() {
    // What each kind by itself answers, and all of them in every combination.
    std::vector<Route> alone;
    for (const Proposal& p : proposals_) alone.push_back(p.kind->slip(p) ? s_.route : with_rendered(s_, {p}));
    struct Scenario {
      std::set<std::string> kinds;
      std::shared_ptr<const Model> model;
      Route route;
    };
    std::vector<std::string> kinds;
    for (const Proposal& p : proposals_)
      if (!p.kind->slip(p) && std::find(kinds.begin(), kinds.end(), p.kind->name()) == kinds.end()) kinds.emplace_back(p.kind->name());
    std::vector<Scenario> scenarios;
    for (std::size_t mask = 1; mask < std::size_t{1} << kinds.size(); ++mask) {
      Scenario n;
      for (std::size_t k = 0; k < kinds.size(); ++k)
        if (mask >> k & 1) n.kinds.insert(kinds[k]);
      std::vector<Proposal> some;
      for (const Proposal& p : proposals_)
        if (n.kinds.contains(p.kind->name())) some.push_back(p);
      n.route = with_rendered(s_, some);
      n.model = std::make_shared<const Model>(model_of(*s_.played, *s_.notebook, n.route, range_, slow_));
      scenarios.push_back(std::move(n));
    }
    const auto scale = std::find_if(proposals_.begin(), proposals_.end(), [](const Proposal& p) { return p.kind->slip(p).has_value(); });
    std::shared_ptr<const Model> scaled;
    if (scale != proposals_.end()) {
      Proposal everywhere = *scale;
      everywhere.id = "scale:2", everywhere.at = {0, s_.played->duration()};
      const Supposed then = everywhere.kind->suppose(s_, everywhere);
      if (then.program) scaled = std::make_shared<const Model>(model_of(*then.program, *s_.notebook, then.route, range_, slow_));
    }
    Route all = s_.route;
    all.resize(static_cast<std::size_t>(s_.played->duration()));
    all = with_state(std::move(all), range_, FrameState::sealed);
    const auto sealed = std::make_shared<const Model>(model_of(*s_.played, *s_.notebook, all, range_, slow_));

    for (std::size_t u = 0; u < places_.size(); ++u) {
      struct Option {
        Way way;
        WayCosts costs;
      };
      std::vector<Option> options;
      const IntervalCost& c = *intervals_[u];
      const auto add = [&](const std::shared_ptr<const Model>& model, std::vector<std::size_t> works, bool unseen) {
        const StretchLoad load = load_in(*model, places_[u]);
        options.push_back({{load.mean + (unseen ? 1e6 : 0), std::move(works)}, {model, load.high, unseen}});
      };
      add(base_, {}, c.unseen);
      if (needs(u)) {
        const double live = options.front().way.load;
        const std::vector<std::size_t> here = bearing(u, alone);
        for (const Scenario& n : scenarios) {
          std::vector<std::size_t> works;
          std::set<std::string> covered;
          for (const std::size_t i : here)
            if (n.kinds.contains(proposals_[i].kind->name())) works.push_back(i), covered.insert(proposals_[i].kind->name());
          if (covered.size() != n.kinds.size()) continue;
          const auto middle = (c.in + c.out) / 2;
          add(n.model, std::move(works), c.unseen && s_.played->unseen(middle, n.route.taps(static_cast<std::size_t>(middle))));
        }
        for (std::size_t i = 0; scaled && i < alone.size(); ++i)
          if (proposals_[i].kind->slip(proposals_[i]) && proposals_[i].at.in <= c.in && proposals_[i].at.out >= c.out) add(scaled, {i}, c.unseen);
        std::erase_if(options, [&](const Option& o) { return !o.way.works.empty() && o.way.load > live * kLighter; });
        if (options_.kinds.contains("render")) add(sealed, {render_work(c)}, false);
        std::stable_sort(options.begin(), options.end(), [](const Option& a, const Option& b) { return a.way.load > b.way.load; });
        // As it is comes first, even where a render would be no lighter.
        const auto live_at = std::find_if(options.begin(), options.end(), [](const Option& o) { return o.way.works.empty(); });
        options.erase(options.begin(), live_at);
      }
      Unit unit;
      std::vector<WayCosts> costs;
      for (Option& o : options) unit.ways.push_back(std::move(o.way)), costs.push_back(std::move(o.costs));
      problem_.units.push_back(std::move(unit)), costs_.push_back(std::move(costs));
    }
  }

  /// The work of rendering an interval, made known.
  std::size_t render_work(const IntervalCost& c) {
    Proposal p;
    p.kind = remedy_kind("render"), p.id = fmt::format("render:{}-{}", c.in, c.out), p.at = {c.in, c.out};
    p.subject.frames = {p.at}, p.subject.form = s_.form;
    if (const CompiledSegment* main = main_segment(*s_.played, c.in)) p.segments = {main->segment->id};
    const Timeline& t = *s_.timeline;
    p.quote.modelled_seconds = s_.pricing().frames({p.at}, s_.form), p.quote.seconds = p.quote.modelled_seconds * factor_;
    p.quote.bytes = s_.pricing().bytes({p.at}, form_that_keeps(s_.form, false, t.width, t.height));
    problem_.works.push_back({p.id, p.quote.seconds, static_cast<double>(p.quote.bytes), weight_of(p, p.quote.seconds), pinned(options_.pins, p),
                              forbidden(options_.forbids, p), due(p.at)});
    proposals_.push_back(std::move(p));
    return proposals_.size() - 1;
  }

  std::vector<bool> musts() const {
    std::vector<bool> works;
    for (const WorkItem& w : problem_.works) works.push_back(w.must);
    return works;
  }

  std::vector<Proposal> chosen(const Choice& c) const {
    std::vector<Proposal> all;
    for (std::size_t i = 0; i < proposals_.size(); ++i)
      if (c.works[i]) all.push_back(proposals_[i]);
    return all;
  }
  Forecast forecast_with(const Choice& c, const ForecastOptions& options) const {
    std::vector<Proposal> made;
    Situation as = s_;
    for (const Proposal& p : chosen(c)) {
      if (!p.kind->slip(p)) {
        made.push_back(p);
        continue;
      }
      const Supposed then = p.kind->suppose(as, p);
      if (then.program) as.played = then.program, as.route = then.route;
    }
    return forecast(*as.played, *s_.notebook, with_rendered(as, made), range_, options);
  }

  /// The whole is played once more, with what comes from outside. Where it does not hold after all, what is there is
  /// rendered as well, and that is chosen among what is allowed.
  Choice verified(Chooser& chooser, Choice choice, const Limits& limits) {
    ForecastOptions now = s_.forecast;
    now.before = &plan_.before;
    plan_.after = forecast_with(choice, now);
    if (!plan_.fits || options_.drop_seconds < kNoLimit) return choice;
    const Forecast floor = floor_forecast();
    for (int again = 0; again < 2; ++again) {
      const Forecast slow = forecast_with(choice, slow_);
      if (slow.expected_drops <= floor.expected_drops + options_.most_drops && bad_spans(slow) <= bad_spans(floor)) break;
      std::vector<bool> works = choice.works;
      bool more = false;
      for (std::size_t u = 0; u < places_.size(); ++u) {
        const bool in_bad = std::any_of(slow.spans.begin(), slow.spans.end(), [&](const Span& span) {
          return span.verdict != Verdict::holds && span.in < intervals_[u]->out && span.out > intervals_[u]->in;
        });
        const Way& best = problem_.units[u].ways.back();
        if (!in_bad || !is_watched({intervals_[u]->in, intervals_[u]->out}) || choice.ways[u] + 1 == problem_.units[u].ways.size()) continue;
        for (const std::size_t i : best.works)
          if (!problem_.works[i].never && !works[i]) works[i] = more = true;
      }
      if (!more) break;
      Choice next = chooser.with(works);
      if (next.seconds > limits.seconds || next.bytes > limits.bytes) break;
      next.bound = choice.bound, next.rounds = choice.rounds;
      next.gap = next.counts > 0 ? std::max(0.0, next.counts - next.bound) / next.counts : 0;
      choice = std::move(next);
      plan_.after = forecast_with(choice, now);
    }
    return choice;
  }
  /// Of the drops that a choice leaves, those that are none where nothing else works on this machine.
  double drops_by_others(const Choice& choice) const {
    if (plan_.after.expected_drops < 1 || s_.notebook->lately().empty()) return 0;
    ForecastOptions alone = s_.forecast;
    alone.outside = false, alone.before = nullptr;
    return std::max(0.0, plan_.after.expected_drops - forecast_with(choice, alone).expected_drops);
  }
  Forecast floor_forecast() const {
    Choice all;
    for (const WorkItem& w : problem_.works) all.works.push_back(!w.never || w.must);
    for (std::size_t i = 0; i < proposals_.size(); ++i)
      if (proposals_[i].kind->slip(proposals_[i])) all.works[i] = false;
    return forecast_with(all, slow_);
  }

  /// The order of the works, and what is left after each.
  std::vector<std::size_t> order(Chooser& chooser, const Choice& choice) {
    std::vector<std::size_t> all = chooser.in_order(choice);
    // What only playing can judge comes first, and above that what is due first.
    std::stable_partition(all.begin(), all.end(), [&](std::size_t i) { return must_watch(proposals_[i]) != nullptr; });
    std::ranges::stable_sort(all, {}, [&](std::size_t i) { return problem_.works[i].due; });
    std::vector<bool> works(choice.works.size(), false);
    plan_.prefixes.push_back({0, 0, chooser.with(works).drops});
    for (const std::size_t i : all) {
      works[i] = true;
      const Choice so_far = chooser.with(works);
      plan_.prefixes.push_back({so_far.seconds, static_cast<std::uint64_t>(so_far.bytes), so_far.drops});
    }
    return all;
  }

  /// The segment that must be watched and plays easier with it; null: none.
  const Restless* must_watch(const Proposal& p) const {
    for (const Restless& r : s_.must_watch)
      for (const auto& c : segments_in(*s_.played, p.at))
        if (c->segment->id == r.segment) return &r;
    return nullptr;
  }

  void tell(Chooser& chooser, const Choice& choice) {
    std::vector<Task> tasks;
    for (const std::size_t i : order(chooser, choice)) {
      const Proposal& p = proposals_[i];
      const bool render = p.kind->name() == std::string("render");
      plan_.render_seconds += problem_.works[i].seconds, plan_.modelled_seconds += p.quote.modelled_seconds;
      plan_.bytes += p.quote.bytes;
      if (render) plan_.frames += p.at.length();
      std::vector<bool> without = choice.works;
      without[i] = false;
      Remedy r;
      r.id = p.id, r.proposal = p, r.range = p.at, r.bytes = p.quote.bytes, r.pinned = problem_.works[i].must;
      r.render_seconds = problem_.works[i].seconds, r.modelled_seconds = p.quote.modelled_seconds;
      r.drops_saved = std::max(0.0, chooser.with(without).drops - choice.drops);
      const CompiledSegment* main = main_segment(*s_.played, p.at.in);
      r.segment = !p.segments.empty() ? p.segments.front() : main ? main->segment->id : "";
      r.segment_name = name_of(p, main);
      r.reason = render ? reason_of(plan_.before, p.at) : p.sentence + " " + reason_of(plan_.before, p.at);
      if (const Restless* watch = must_watch(p)) {
        r.must_watch = true;
        r.reason = fmt::format("To be judged in real time ({}, at {}). ", watch->effect, timecode_at(*s_.timeline, watch->frame)) + r.reason;
      }
      if (render && joined(r)) continue;
      plan_.remedies.push_back(std::move(r));
    }
    // What is made of others' pictures waits for them: a bake before what shows it, a mezzanine before what reads it.
    for (const Remedy& r : plan_.remedies) {
      Task t{r.id, r.render_seconds, {}};
      for (const Remedy& other : plan_.remedies) {
        const bool inside = &other != &r && rank(other) < rank(r) && other.range.in < r.range.out && other.range.out > r.range.in &&
                            std::ranges::find_first_of(other.proposal.segments, r.proposal.segments) != other.proposal.segments.end();
        if (inside) t.after.push_back(other.id);
      }
      tasks.push_back(std::move(t));
    }
    tasks = dependencies_first(tasks);
    std::vector<Remedy> ordered;
    for (const TimeSlot& at : placed(tasks, free_)) {
      const auto it = std::find_if(plan_.remedies.begin(), plan_.remedies.end(), [&](const Remedy& r) { return r.id == at.id; });
      ordered.push_back(*it);
      ordered.back().begins = at.begins, ordered.back().ends = at.ends;
    }
    plan_.remedies = std::move(ordered);
    for (std::size_t k = 0; k < plan_.reviews.size(); ++k)
      for (const Remedy& r : plan_.remedies)
        if (due(r.range) <= k) plan_.reviews[k].ready_in = std::max(plan_.reviews[k].ready_in, r.ends);
    plan_.ready_in = done_at(free_, plan_.render_seconds);
  }
  static int rank(const Remedy& r) {
    const std::string kind = r.proposal.kind->name();
    return kind == "mezzanine" ? 0 : kind == "bake" ? 1 : kind == "tap" ? 2 : 3;
  }
  std::string name_of(const Proposal& p, const CompiledSegment* main) const {
    if (!p.subject.composition.empty()) return s_.timeline->compositions.at(p.subject.composition)->name;
    if (!p.subject.source.empty()) return s_.timeline->sources.at(p.subject.source)->name;
    for (const auto& c : s_.played->segments())
      if (!p.segments.empty() && c->segment->id == p.segments.front()) return c->segment->name;
    return main ? main->segment->name : "Gap";
  }
  /// Renders of one segment that touch are one line.
  bool joined(const Remedy& r) {
    for (Remedy& there : plan_.remedies) {
      if (!there.renders_frames() || there.segment != r.segment || (there.range.out != r.range.in && there.range.in != r.range.out)) continue;
      there.range = {std::min(there.range.in, r.range.in), std::max(there.range.out, r.range.out)};
      there.id = fmt::format("render:{}-{}", there.range.in, there.range.out);
      there.proposal.id = there.id, there.proposal.at = there.range, there.proposal.subject.frames = {there.range};
      there.render_seconds += r.render_seconds, there.modelled_seconds += r.modelled_seconds, there.bytes += r.bytes;
      there.drops_saved += r.drops_saved, there.pinned = there.pinned || r.pinned;
      return true;
    }
    return false;
  }

  /// At the times at which the schedule has something done, so that the two can be compared.
  void draw_frontier(Chooser& chooser, const Choice& choice, const Limits& limits) {
    constexpr std::size_t kPoints = 8;
    plan_.frontier.push_back(plan_.prefixes.front());
    const std::size_t inner = plan_.prefixes.size() - 1, step = std::max<std::size_t>(1, inner / kPoints);
    for (std::size_t k = step; k < inner; k += step) {
      Limits part = limits;
      part.seconds = plan_.prefixes[k].seconds + 1e-6, part.thinking = options_.thinking / kPoints;
      Choice c = chooser.least_drops(part);
      if (c.possible && c.drops < plan_.frontier.back().drops - 1e-6) plan_.frontier.push_back({c.seconds, static_cast<std::uint64_t>(c.bytes), c.drops});
    }
    plan_.frontier.push_back({choice.seconds, static_cast<std::uint64_t>(choice.bytes), choice.drops});
  }

  void weigh_words(Chooser& chooser, const Choice& choice, const Limits& limits) {
    Problem& problem = chooser.problem();
    const std::vector<WorkItem> as_said = problem.works;
    const auto without = [&](const std::string& word, bool WorkItem::* of, const std::set<std::string>& others) {
      for (std::size_t i = 0; i < problem.works.size(); ++i)
        problem.works[i].*of = of == &WorkItem::must ? pinned(others, proposals_[i]) : forbidden(others, proposals_[i]);
      Choice c = chooser.least_work(limits);
      if (!c.possible) c = chooser.least_drops(limits);
      problem.works = as_said;
      if (c.possible) plan_.words.push_back({word, choice.seconds - c.seconds, choice.drops - c.drops});
    };
    const auto but = [](std::set<std::string> all, const std::string& one) {
      all.erase(one);
      return all;
    };
    for (const std::string& pin : options_.pins) without("pin " + pin, &WorkItem::must, but(options_.pins, pin));
    for (const std::string& f : options_.forbids) without("forbid " + f, &WorkItem::never, but(options_.forbids, f));
  }

  const Situation& s_;
  FrameRange range_;
  const PlanOptions& options_;
  Plan& plan_;
  ForecastOptions slow_;
  Forecast slow_now_;
  double factor_ = 1;
  std::vector<FreeTime> free_;
  std::vector<const IntervalCost*> intervals_;
  std::vector<FrameRange> places_;  ///< of the units, from the range's first frame
  std::shared_ptr<const Model> base_;
  Problem problem_;
  std::vector<Proposal> proposals_;  ///< one for each work
  std::vector<std::vector<WayCosts>> costs_;
};

/// Said against taken of the seat's latest renders: how likely is it that so much work is done by then.
void say_when(Plan& p, const Notebook& notebook, const std::vector<FreeTime>& free) {
  const std::vector<double> ratios = notebook.price_ratios();
  p.ready_in_high = done_at(free, p.render_seconds * ratios[static_cast<std::size_t>(0.9 * static_cast<double>(ratios.size() - 1))]);
  const auto chance = [&](double work, std::int64_t at) {
    double sum = 0;
    for (const double r : ratios) sum += done_at(free, work * r) <= static_cast<double>(at - p.made_at);
    return sum / static_cast<double>(ratios.size());
  };
  if (p.review_at) p.ready_probability = chance(p.render_seconds, *p.review_at);
  for (Review& r : p.reviews) {
    r.ready_probability = chance(work_until(free, r.ready_in), r.at);
    r.drops = p.after.trials ? p.after.over(r.range).expected_drops : 0;
    p.ready_probability = std::min(p.ready_probability, r.ready_probability);
  }
}

/// What would do when there is too little time or room.
void find_ways_out(Plan& p, const std::vector<FreeTime>& free, const Situation& s) {
  if (p.fits) return;
  if (p.short_bytes > 0) p.ways_out.push_back(fmt::format("{} more on the disk.", bytes_text(static_cast<std::uint64_t>(p.short_bytes))));
  if (p.short_seconds > 0 && p.review_at) {
    const double until = static_cast<double>(*p.review_at - p.made_at), needed = work_until(free, until) + p.short_seconds;
    if (const double at = done_at(free, needed); at < kNever) {
      // The next whole minute: clocks show no more.
      const std::int64_t minute = (p.made_at + static_cast<std::int64_t>(std::ceil(at)) + 59) / 60 * 60;
      p.ways_out.push_back(fmt::format("a review at {} or later.", clock_text(minute, p.made_at)));
    }
    if (work_until({{0, kNever, 1}}, until) >= needed) p.ways_out.push_back("the machine left alone until then.");
    p.ways_out.push_back(fmt::format("another seat for {} of the work.", duration_text(p.short_seconds)));
  }
  for (const Span& span : p.after.spans) {
    if (span.verdict == Verdict::holds || !is_of_speed(span.verdict) || s.truth({span.in, span.out}) > Truth::picture) continue;
    p.ways_out.push_back(fmt::format("playing {} frames from {} at half size; it hides detail and opens a slip.", span.out - span.in,
                                     timecode_at(*s.timeline, span.in)));
  }
}

}  // namespace

bool Remedy::renders_frames() const {
  const auto making = proposal.kind ? proposal.kind->making(proposal) : std::nullopt;
  return making && making->what == Making::What::frames;
}

std::vector<FrameRange> Plan::ranges() const {
  std::vector<FrameRange> all;
  for (const Remedy& r : remedies)
    if (r.renders_frames()) all.push_back(r.range);
  return all;
}

Plan make_plan(const Situation& s, FrameRange range, const PlanOptions& options) {
  const Stopwatch watch;
  Plan plan;
  plan.made_at = options.now > 0 ? options.now : static_cast<std::int64_t>(std::time(nullptr));
  plan.reviews = options.reviews;
  for (Review& r : plan.reviews) r.range = {std::clamp(r.range.in, range.in, range.out), std::clamp(r.range.out, range.in, range.out)};
  std::ranges::stable_sort(plan.reviews, {}, &Review::at);
  plan.review_at = !plan.reviews.empty() ? std::optional(plan.reviews.back().at) : options.review_at, plan.drop_seconds = options.drop_seconds;
  for (const Restless& r : s.must_watch)
    if (r.frame >= range.in && r.frame < range.out) plan.must_watch.push_back(r);
  plan.margin = slow_day(*s.notebook, options.margin);
  plan.before = s.now && s.now->range == range ? *s.now : forecast(*s.played, *s.notebook, s.route, range, s.forecast);
  plan.after = plan.before;
  plan.priced = encode_cost(*s.notebook, *s.timeline, s.form, s.timeline->width, s.timeline->height).wall_ms > 0;
  const bool asked = !options.pins.empty();
  if ((!good(plan.before, options.most_drops) || asked) && plan.priced) Planner(s, range, options, plan).run();
  plan.holds = good(plan.after, options.most_drops) && plan.after.count(Verdict::missing) == 0;
  if (!plan.reviews.empty() && plan.after.trials)
    plan.holds = std::ranges::all_of(plan.reviews, [&](const Review& r) {
      const bool plays = std::ranges::none_of(plan.after.spans, [&](const Span& span) { return span.verdict != Verdict::holds && span.in < r.range.out && span.out > r.range.in; });
      return plays && plan.after.over(r.range).expected_drops <= options.most_drops;
    });
  if (plan.after.trials) {
    const auto drops = plan.after.trials->drops(plan.after.before, plan.after.before + range.length());
    plan.holds_probability = static_cast<double>(std::count(drops.begin(), drops.end(), 0u)) / static_cast<double>(std::max<std::size_t>(1, drops.size()));
  }
  const std::vector<FreeTime> free = free_time(plan.made_at, options.busy, options.idle_share);
  say_when(plan, *s.notebook, free);
  find_ways_out(plan, free, s);
  plan.sentence = sentence_of(plan);
  plan.thought_seconds = watch.ms() / 1000;
  return plan;
}


}  // namespace gc
