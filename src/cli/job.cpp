#include "cli/job.h"

#include <fmt/format.h>

#include <set>

#include "cli/print.h"
#include "desk/half_sealed.h"
#include "desk/planning.h"
#include "desk/remedies.h"
#include "desk/trial.h"
#include "queue/hush.h"

namespace gc {
namespace {

int broken_or_gone(const View& before, const View& after, const std::string& segment, bool own) {
  int n = 0;
  for (std::size_t f = 0; f < before.seals.size(); ++f) {
    if (before.seals[f] != FrameState::sealed || after.seals[f] == FrameState::sealed) continue;
    const CompiledSegment* s = main_segment(*after.played, static_cast<Frames>(f));
    n += (s && s->segment->id == segment) == own;
  }
  return n;
}

}  // namespace

Result<bool> whole_job(const DemoReport& made, const std::function<Result<DemoReport>()>& scale_again,
                       const DeskOptions& options, bool quiet, Json& result,
                       const std::atomic<bool>& stop) {
  const auto say = [&](const std::string& text) {
    if (!quiet) fmt::print("\n{}\n", text);
  };
  const Hush hush;
  DemoReport demo = made;
  say(fmt::format("The Kiln Year: {} segments, {:.0f} s of picture, ready in {:.1f} s. {}", demo.segments,
                  demo.seconds_of_picture, demo.seconds_taken, demo.scaling));
  auto timeline = load_timeline(demo.timeline);
  if (!timeline) return std::unexpected(timeline.error());
  auto stores = Stores::open(options);
  if (!stores) return std::unexpected(stores.error());
  View view = view_of(*timeline, *stores);
  // The job starts from the live timeline, also when it was run here before. Whatever else is on the shelf stays.
  if (auto r = stores->shelf->discard(*view.played); !r) return std::unexpected(r.error());
  view = view_of(*timeline, *stores);

  Plan plan;
  for (bool scaled_again = false;; scaled_again = true) {
    auto measured = measure(view.played, *stores->notebook, stores->measure_options(25, false, &view),
                            [&](const MeasureProgress&) { return !stop.load(); });
    if (!measured) return std::unexpected(measured.error());
    result["measure"] = to_json(*measured);
    say("1  What frames cost here");
    if (!quiet) print(*measured);
    plan = make_plan(situation_of(view, *stores), whole(view), PlanOptions{});
    // A seat that became faster since the demo was scaled to it would show nothing.
    if (plan.before.count(Verdict::spills) > 0 || scaled_again || stop) break;
    say("Nothing would drop: this seat is faster now than when the demo was scaled to it. Scaling it again.");
    auto scaled = scale_again();
    if (!scaled) return std::unexpected(scaled.error());
    demo = *scaled;
    timeline = load_timeline(demo.timeline);
    if (!timeline) return std::unexpected(timeline.error());
    view = view_of(*timeline, *stores);
  }
  result["demo"] = to_json(demo);
  result["forecast"] = to_json(plan.before), result["plan"] = to_json(plan);
  say("2  Forecast and plan");
  if (!quiet) print(plan.before, view), print(plan, view);

  say("3  Playing it live, as it is");
  const Playout live = play_unseen(view, *stores, stop);
  const Audit live_audit = audit(plan.before, alone(plan.before, *view.played), live);
  result["live"] = to_json(live_audit, plan.before, live);
  if (!quiet) print(live, view), print(live_audit);
  if (auto r = remember(live_audit, view, *stores->notebook); !r) return std::unexpected(r.error());
  if (auto r = note_playout(plan.before, live, *view.played, *stores->notebook); !r)
    return std::unexpected(r.error());

  say("4  Carrying out the plan");
  auto rendered = carry_out(plan, view, view, *stores, [&](const PrerenderProgress&) { return !stop.load(); });
  if (!rendered) return std::unexpected(rendered.error());
  result["run"] = to_json(rendered->made);
  if (!quiet) print(rendered->made);
  view = view_of(view.timeline, *stores);
  // Frames of which part is fetched now are measured as they play.
  if (auto m = measure(view.played, *stores->notebook, stores->measure_options(10, false, &view), [&](const MeasureProgress&) { return !stop.load(); }); !m)
    return std::unexpected(m.error());

  say("5  Playing again");
  // What a playout taught may ask for more: then the plan is made again, carried out, and it is played again. A bounded
  // number of times; every one is reported.
  const Frames tolerated = std::max<Frames>(3, live.dropped / 10);
  Frames left = live.frames;  ///< of the latest playout
  result["sealed"] = Json::array();
  for (int attempt = 0; attempt < 3 && left > tolerated && !stop; ++attempt) {
    const Forecast after =
        forecast(*view.played, *stores->notebook, view.seals, whole(view), stores->forecast_options());
    const Playout p = play_unseen(view, *stores, stop);
    const Audit a = audit(after, alone(after, *view.played), p);
    result["sealed"].push_back(to_json(a, after, p));
    if (!quiet) print(p, view), print(a);
    if (auto r = remember(a, view, *stores->notebook); !r) return std::unexpected(r.error());
    left = own_drops(p);
    if (left <= tolerated || stop) break;
    if (auto r = note_playout(after, p, *view.played, *stores->notebook); !r) return std::unexpected(r.error());
    const Plan more = make_plan(situation_of(view, *stores), whole(view), PlanOptions{});
    if (more.remedies.empty()) continue;
    say("   It dropped more than was said. The plan, with what that taught");
    if (!quiet) print(more, view);
    auto done = carry_out(more, view, view, *stores, [&](const PrerenderProgress&) { return !stop.load(); });
    if (!done) return std::unexpected(done.error());
    view = view_of(view.timeline, *stores);
  }

  say("6  Changing the grade of a sealed segment");
  std::string changed, effect;
  FrameRange at;
  for (const Remedy& r : plan.remedies)
    if (const SegmentPtr s = find_segment(*view.timeline, r.segment); s && changed.empty())
      for (const Effect& e : s->stack)
        if (e.type == "cdl") changed = s->id, effect = e.id, at = r.range;
  int own = 0, others = 0;
  if (!changed.empty()) {
    // Where the plan has it kept below its grade only, it is sealed for this.
    auto whole_of = prerender(view.played, *stores->shelf, {at}, stores->prerender_options({}, *view.timeline), [&](const PrerenderProgress&) { return !stop.load(); });
    if (!whole_of) return std::unexpected(whole_of.error());
    view = view_of(view.timeline, *stores);
  }
  if (!changed.empty()) {
    const View edited = view_of(with_param(*view.timeline, changed, effect, "saturation", 1.31), *stores);
    own = broken_or_gone(view, edited, changed, true), others = broken_or_gone(view, edited, changed, false);
    const Gate gate = check_gate(*edited.delivered, stores->shelf.get());
    result["edit"] = {{"segment", changed},
                      {"own_frames_broken", own},
                      {"other_frames_broken", others},
                      {"gate", to_json(gate)}};
    if (!quiet) {
      fmt::print("  '{}' was changed: {} of its frames lost their seal, {} of others did.\n",
                 view.name_of(changed), own, others);
      print(gate, edited);
    }
  }
  say("7  The same segment half sealed: what lies below the grade is rendered, the grade stays live");
  const Result<HalfSealed> half = half_sealed(view, *stores, changed, effect, stop);
  if (!half) return std::unexpected(half.error());
  result["half_sealed"] = {{"segment", half->segment},
                           {"effects_rendered", half->after},
                           {"frames", half->frames},
                           {"frames_kept_after_a_new_grade", half->kept},
                           {"psnr_db", half->psnr_db}};
  if (!quiet && half->frames > 0)
    fmt::print("  '{}' is rendered after {} of its effects: {} frames. Graded again, {} of them are still answered so, {:.1f} dB "
               "from the live picture.\n",
               view.name_of(half->segment), half->after, half->frames, half->kept, half->psnr_db);
  const bool called = plan.before.count(Verdict::spills) > 0 && own_drops(live) > 0;
  const bool cured = left <= tolerated;
  const bool kept = half->frames > 0 && half->kept == half->frames && half->psnr_db > 35;
  const bool done = called && cured && own > 0 && others == 0 && kept && !stop;
  result["drops_before"] = live.dropped, result["drops_after"] = left, result["done"] = done;
  say(fmt::format("{}  Dropped before: {} of {}; after: {} by the timeline itself.",
                  done ? "Done." : "Not done.", live.dropped, live.frames, left));
  return done;
}

}  // namespace gc
