#include "playout/log.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>

namespace gc {

std::vector<float> Playout::missed() const {
  std::vector<float> m(static_cast<std::size_t>(range.length()), 0.0f);
  for (const FrameLog& f : log)
    if (f.dropped) m[static_cast<std::size_t>(f.frame - range.in)] = 1;
  return m;
}

int Playout::count(Cause cause) const {
  return static_cast<int>(std::count_if(log.begin(), log.end(),
                                        [&](const FrameLog& f) { return f.dropped && f.cause == cause; }));
}

Spent spent_on(const FrameResult& r) {
  Spent s;
  s.occupied = r.done_ms - r.started_ms;
  s.waited = r.fetch_began_ms - r.started_ms + r.shared_wait_ms;
  s.fetch = r.fetched_ms - r.fetch_began_ms;
  s.faulted = r.page_faults > 0;
  for (const StageSample& stage : r.stages) {
    const double ms = static_cast<double>(stage.by_wall ? stage.wall_ms : stage.cpu_ms);
    // Of a frame that others were skipped for, all pictures count that were decoded; `work_ms` is its own share.
    if (stage.kind == StageKind::decode && stage.wall_ms > 0) s.decode += static_cast<double>(std::max(stage.work_ms, stage.cpu_ms));
    if (stage.kind == StageKind::read) s.read += ms;
    else if (stage.kind == StageKind::transfer) s.transfer += ms;
    else if (stage.by_wall && stage.cpu_ms < 0.5f * stage.wall_ms) s.accelerator += ms;
  }
  s.outside = outside_ms(r), s.beside = r.beside_ms;
  return s;
}

void note_making(FrameLog& log, const FrameResult& r, double arrived_ms, double zero_ms) {
  log.made = true, log.spent = spent_on(r), log.arrived_ms = arrived_ms - zero_ms;
  log.decided_ms = r.decided_ms - zero_ms, log.at_ms = r.at_ms - zero_ms;
  log.started_ms = r.started_ms - zero_ms, log.fetch_began_ms = r.fetch_began_ms - zero_ms;
  log.fetched_ms = r.fetched_ms - zero_ms, log.done_ms = r.done_ms - zero_ms;
  log.crowding = crowding_of({&r, 1});
  log.steady_fetch_ms = r.steady_fetch_ms, log.beside_ms = r.beside_ms;
  log.decodes_between = r.decodes_between;
  log.neighbours = r.neighbours, log.neighbour_ms = r.neighbour_ms, log.neighbours_ms = r.neighbours_ms;
  log.worker = static_cast<std::int16_t>(r.worker);
  log.state = r.state, log.offline = r.offline;
  for (const StageSample& x : r.stages)
    if (x.ended_ms > 0)
      log.stages.push_back(
          {x.kind, x.owner, x.wall_ms, x.cpu_ms, x.cost_ms(), x.ended_ms - zero_ms - static_cast<double>(x.wall_ms)});
}

double own_ms(const FrameLog& l) {
  const double outside = l.spent.outside > kLeastOutsideMs ? l.spent.outside : 0, process = l.process_ms(), work = std::max(0.0, process - outside);
  // The outside held the making of neighbours up as it did the rest: that was its time already.
  const double neighbours = l.neighbours_ms > 0 && process > 0 ? work * std::min(1.0, l.neighbours_ms / process) : l.neighbours_ms;
  return l.steady_fetch_ms + l.beside_ms + work - neighbours;
}

namespace {

/// Why a frame was missed: what of the timeline bound it, what else there was, and what share of drops like it the timeline
/// would have had by itself.
struct Blame {
  Cause own = Cause::processor, other = Cause::outside;
  double own_share = 1;
};

/// Share of the drops that a timeline would have had by itself. Of frames that take `load` frame budgets 1 ÷ load are shown.
double own_share(double own_load, double whole_load) {
  const auto dropped = [](double load) { return std::max(0.0, 1 - 1 / load); };
  return dropped(whole_load) > 0 ? std::min(1.0, dropped(own_load) / dropped(whole_load)) : 1;
}

Blame blame_of(const std::vector<FrameLog>& log, Frames position, int workers, int horizon, double period_ms) {
  const FrameLog& f = log[static_cast<std::size_t>(position)];
  // A frame that was made and lost more than it was late by.
  if (f.made && f.spent.outside >= f.late_ms && f.spent.outside > kLeastOutsideMs)
    return {Cause::none, f.spent.faulted ? Cause::memory : Cause::outside, 0};
  // Those in work, or just done, when it should have been.
  const double from = f.due_ms - horizon * period_ms, to = std::max(f.due_ms, f.made ? f.done_ms : f.due_ms);
  Spent sum;
  double n = 0, faulted = 0, steady = 0, steady_fetch = 0;
  const Frames reach = 6 * static_cast<Frames>(horizon) + 4 * workers;
  const auto last = std::min(static_cast<Frames>(log.size()), position + reach);
  for (Frames i = std::max<Frames>(0, position - reach); i < last; ++i) {
    const FrameLog& o = log[static_cast<std::size_t>(i)];
    if (!o.made || o.done_ms < from || o.started_ms > to) continue;
    const Spent& s = o.spent;
    sum.occupied += s.occupied, sum.waited += s.waited, sum.fetch += s.fetch, sum.read += s.read;
    sum.accelerator += s.accelerator, sum.transfer += s.transfer, sum.outside += s.outside;
    sum.decode += s.decode, sum.beside += s.beside;
    faulted += s.faulted, ++n;
    steady += own_ms(o), steady_fetch += o.steady_fetch_ms;
  }
  Blame blame;
  if (n == 0) return blame;
  const double work = sum.occupied - sum.waited - sum.outside + sum.beside;
  // What passed while pictures were fetched is more than what was read and decoded where others held that up.
  const double own = work / n / workers, fetch = std::min(sum.fetch, sum.read + sum.decode) / n;
  if (sum.outside > period_ms) {
    // With less than this a timeline holds by itself.
    constexpr double kHolds = 0.97;
    const double budget = kHolds * period_ms, whole = std::max((work + sum.outside) / n / workers, sum.fetch / n);
    blame.own_share = own_share(std::max(own, fetch) / budget, std::max(own, std::max(fetch, whole)) / budget);
    // After skipped frames the next one decodes theirs too. Where none would be skipped but for the outside, that work is the outside's.
    if (std::max(own, fetch) < budget || std::max(steady / n / workers, steady_fetch / n) < budget) blame.own_share = 0;
  }
  blame.other = 2 * faulted > n ? Cause::memory : Cause::outside;
  const double elsewhere = sum.accelerator + sum.transfer;
  if (fetch > own) blame.own = sum.read > 0.6 * sum.fetch ? Cause::disk : Cause::decode;
  else if (2 * sum.decode > work) blame.own = Cause::decode;
  else if (elsewhere > sum.occupied - sum.waited - sum.outside - elsewhere)
    blame.own = sum.transfer > sum.accelerator ? Cause::transfer : Cause::accelerator;
  return blame;
}

}  // namespace

void tell_causes(std::vector<FrameLog>& log, int workers, int horizon, double period_ms) {
  // What is due to the timeline and was not told yet: shares add up to whole frames.
  double due = 0.5;
  for (std::size_t i = 0; i < log.size(); ++i) {
    if (!log[i].dropped || log[i].cause != Cause::none) continue;
    const Blame b = blame_of(log, static_cast<Frames>(i), workers, horizon, period_ms);
    // Nothing of one that is all the outside's, or all the timeline's, is carried on to its neighbours.
    if (b.own_share <= 0 || b.own_share >= 1) {
      log[i].cause = b.own_share <= 0 ? b.other : b.own;
      continue;
    }
    due += b.own_share;
    log[i].cause = due >= 1 ? b.own : b.other;
    if (due >= 1) due -= 1;
  }
}

Frames Playout::offline() const {
  return std::count_if(log.begin(), log.end(), [](const FrameLog& l) { return l.offline && !l.dropped; });
}

std::vector<std::string> warnings(const Playout& p, const std::vector<std::string>& muted) {
  struct Advice {
    Cause cause;
    const char* what;
  };
  static constexpr std::array kAdvice{
      Advice{Cause::processor, "the processors had more to do than fits. Render these spans ahead."},
      Advice{Cause::decode, "decoding could not keep up. Render these spans ahead into a lighter form."},
      Advice{Cause::disk,
             "the drive did not read fast enough. Move the media or the shelf to a faster volume."},
      Advice{Cause::accelerator, "the accelerator had more to do than fits. Render these spans ahead."},
      Advice{Cause::transfer,
             "pictures travelled too long to the accelerator and back. Set their effects to the processor."},
      Advice{Cause::memory,
             "memory had to come back from the drive. Close other programs or leave more memory to them."},
      Advice{Cause::display,
             "the display did not take pictures in time. Check its rate against the timeline's."},
      Advice{Cause::outside,
             "other programs or the machine's host took the time. The timeline is not to blame."}};
  std::vector<std::pair<int, std::string>> found;
  for (const Advice& a : kAdvice) {
    const int n = p.count(a.cause);
    if (n == 0 || std::find(muted.begin(), muted.end(), cause_name(a.cause)) != muted.end()) continue;
    found.emplace_back(n, fmt::format("{} frame{} dropped: {}", n, n == 1 ? "" : "s", a.what));
  }
  std::stable_sort(found.begin(), found.end(),
                   [](const auto& a, const auto& b) { return a.first > b.first; });
  std::vector<std::string> sentences;
  for (auto& [n, s] : found) sentences.push_back(std::move(s));
  return sentences;
}

}  // namespace gc
