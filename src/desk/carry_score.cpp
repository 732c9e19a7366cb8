#include "desk/carry_score.h"

#include <fmt/format.h>

#include "audit/random.h"
#include "desk/planning.h"
#include "desk/trial.h"

namespace gc {

bool CarriedPlan::plays() const {
  return failed.empty() && !dropped_after.empty() && std::ranges::all_of(dropped_after, [](Frames n) { return n == 0; });
}

namespace {

/// Own drops of a playout by segment and cause, with the first frame of each.
std::vector<std::string> drops_in_words(const Playout& p, const Program& program) {
  std::map<std::pair<std::string, std::string>, std::pair<Frames, Frames>> counts;  // first frame, how many
  for (const FrameLog& l : p.log) {
    if (!l.dropped || l.cause == Cause::outside) continue;
    const CompiledSegment* segment = main_segment(program, l.frame);
    auto& [first, count] = counts.try_emplace({segment ? segment->segment->id : "", cause_name(l.cause)}, l.frame, 0).first->second;
    ++count;
  }
  std::vector<std::string> all;
  for (const auto& [what, n] : counts) all.push_back(fmt::format("{}: {} by {}, from frame {} on", what.first, n.second, what.second, n.first));
  return all;
}

}  // namespace

Result<std::vector<CarriedPlan>> carry_out_plans(const Stores& shared, const CarryScoreOptions& o, const fs::path& folder,
                                                 const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop) {
  std::vector<CarriedPlan> all;
  const auto goes_on = [&](std::uint64_t seed, const char* what) { return !stop && (!progress || progress(fmt::format("Timeline {}: {}", seed, what))); };
  for (int i = 0; i < o.timelines; ++i) {
    CarriedPlan c;
    c.timeline = o.seed + static_cast<std::uint64_t>(i);
    RandomOptions random;
    random.seed = c.timeline, random.foreign = o.foreign, random.workers = shared.options.workers;
    const auto timeline = random_timeline(random, *shared.notebook, folder);
    if (!timeline) return std::unexpected(timeline.error());
    const auto scratch = ScratchFolder::make(cache_folder(), "score-shelf-");
    if (!scratch) return std::unexpected(scratch.error());
    const auto shelf = Shelf::open(scratch->path());
    if (!shelf) return std::unexpected(shelf.error());
    Stores stores = shared;
    stores.shelf = *shelf;
    View view = view_of(*timeline, stores);
    c.frames = view.played->duration();
    if (!goes_on(c.timeline, "measuring")) break;
    if (auto m = measure(view.played, *stores.notebook, stores.measure_options(o.measure_seconds, false), {}); !m) return std::unexpected(m.error());
    const auto played = [&](const View& v) {
      const Forecast f = forecast(*v.played, *stores.notebook, v.seals, whole(v), stores.forecast_options());
      const Playout p = play_unseen(v, stores, stop);
      if (!p.stopped) (void)note_playout(f, p, *v.played, *stores.notebook);
      return p;
    };
    if (!goes_on(c.timeline, "playing")) break;
    c.dropped_before = own_drops(played(view));
    const auto made = tried_plan(view, stores, whole(view), PlanOptions{}, [&] { return stop.load(); });
    if (!made) return std::unexpected(made.error());
    const Plan& plan = *made;
    c.remedies = static_cast<int>(plan.remedies.size()), c.sentence = plan.sentence, c.holds = plan.holds;
    c.said_s = plan.render_seconds, c.said_bytes = static_cast<double>(plan.bytes);
    if (!goes_on(c.timeline, "carrying out the plan")) break;
    const auto done = carry_out(plan, view, view, stores, [&](const PrerenderProgress&) { return !stop.load(); });
    if (!done) {
      c.failed = done.error().text();
      all.push_back(c);
      continue;
    }
    c.taken_s = done->made.seconds, c.bytes = static_cast<double>(done->made.bytes);
    view = view_of(done->timeline, stores);
    // As the window does, so that what is noted of the playouts is held against what is known of the frames as they are now.
    if (auto m = measure(view.played, *stores.notebook, stores.measure_options(o.measure_seconds, false, &view), {}); !m) return std::unexpected(m.error());
    if (!goes_on(c.timeline, "playing again")) break;
    for (int n = 0; n < o.repeat && !stop; ++n) {
      const Playout p = played(view);
      c.dropped_after.push_back(own_drops(p));
      for (std::string& s : drops_in_words(p, *view.played)) c.left.push_back(std::move(s));
    }
    if (stop) break;
    all.push_back(c);
  }
  return all;
}

Json to_json(const std::vector<CarriedPlan>& all) {
  Json list = Json::array();
  int play = 0, seconds = 0, bytes = 0, made = 0;
  for (const CarriedPlan& c : all) {
    play += c.plays();
    if (c.failed.empty() && c.taken_s > 0) ++made, seconds += c.seconds_within(), bytes += c.bytes_within();
    list.push_back({{"timeline", c.timeline}, {"frames", c.frames}, {"dropped_before", c.dropped_before}, {"remedies", c.remedies}, {"sentence", c.sentence},
                    {"said_seconds", c.said_s}, {"taken_seconds", c.taken_s}, {"said_bytes", c.said_bytes}, {"bytes", c.bytes}, {"holds", c.holds},
                    {"dropped_after", c.dropped_after}, {"left", c.left}, {"failed", c.failed.empty() ? Json() : Json(c.failed)}});
  }
  return {{"timelines", list}, {"play", play}, {"rendered", made}, {"seconds_within", seconds}, {"bytes_within", bytes},
          {"met", !all.empty() && 6 * play >= 5 * static_cast<int>(all.size()) && 10 * seconds >= 9 * made && 10 * bytes >= 9 * made}};
}

}  // namespace gc
