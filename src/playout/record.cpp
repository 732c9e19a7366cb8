#include "playout/record.h"

#include <algorithm>
#include <cmath>

#include "base/json.h"

namespace gc {
namespace {

/// What a real machine adds between a frame's stages, by its name in a record.
struct MachineGap {
  const char* name;
  double FrameCost::*value;
};
constexpr MachineGap kMachineGaps[] = {{"starting_ms", &FrameCost::starting},
                                       {"turn_ms", &FrameCost::turn},
                                       {"arriving_ms", &FrameCost::arriving},
                                       {"handing_ms", &FrameCost::handing},
                                       {"looked_ms", &FrameCost::looked},
                                       {"neighbour_ms", &FrameCost::neighbour},
                                       {"all_neighbours_ms", &FrameCost::all_neighbours},
                                       {"beside_ms", &FrameCost::beside}};

constexpr const char* kOn[] = {"read", "decode", "process", "display", "accelerator", "transfer", "memory"};

std::unexpected<Error> bad(const std::string& where, const std::string& what) {
  return bad_input("is no usable playout record: " + what, where, "Record the playout again.");
}

/// Frames that take what the script says, on the script's clock.
class ScriptedMaker : public FrameMaker {
  struct ScriptedWork : Work {
    double neighbours_ms = 0;
  };

 public:
  ScriptedMaker(const PlayRecord& script, Clock& clock) : script_(script), clock_(clock) {}

  std::unique_ptr<Work> fetch(Frames, FrameResult& r) override {
    const FrameCost& cost = script_.costs[static_cast<std::size_t>(r.position)];
    const double read = stall(r.position, Stall::On::read), held = stall(r.position, Stall::On::decode);
    const double decode = std::max(0.0, cost.fetch + catch_up_of(script_.costs, last_, r.position));
    auto work = std::make_unique<ScriptedWork>();
    work->neighbours_ms = neighbours_of(script_.costs, last_, r.position);
    last_ = r.position;
    spend(r, StageKind::read, read, read);
    spend(r, StageKind::decode, decode + held, decode);
    r.steady_fetch_ms = cost.fetch, r.beside_ms = cost.beside, r.decodes_between = cost.decodes_between;
    return work;
  }
  void process(Work& work, FrameResult& r) override {
    const FrameCost& cost = script_.costs[static_cast<std::size_t>(r.position)];
    r.neighbours = cost.neighbours, r.neighbour_ms = cost.neighbour;
    r.neighbours_ms = static_cast<ScriptedWork&>(work).neighbours_ms;
    const double own = cost.process + r.neighbours_ms;
    spend(r, StageKind::effect, own + stall(r.position, Stall::On::process), own);
    for (const auto& [on, kind] : {std::pair{Stall::On::accelerator, StageKind::effect},
                                   std::pair{Stall::On::transfer, StageKind::transfer}})
      if (const double ms = stall(r.position, on); ms > 0) {
        spend(r, kind, ms, 0);
        r.stages.back().by_wall = true;
      }
    if (const double ms = stall(r.position, Stall::On::memory); ms > 0)
      spend(r, StageKind::effect, ms, 0), ++r.page_faults;
  }

 private:
  double stall(Frames position, Stall::On on) const {
    double ms = 0;
    for (const Stall& s : script_.stalls)
      if (s.position == position && s.on == on) ms += s.ms;
    return ms;
  }
  void spend(FrameResult& r, StageKind kind, double wall, double cpu) {
    if (wall <= 0) return;
    std::unique_lock lock(mutex_);
    clock_.wait(lock, never_, clock_.now() + wall, [] { return false; });
    StageSample s;
    s.kind = kind, s.wall_ms = static_cast<float>(wall), s.cpu_ms = static_cast<float>(cpu);
    s.ended_ms = clock_.now();
    r.stages.push_back(s);
  }

  const PlayRecord& script_;
  Clock& clock_;
  Frames last_ = -1;
  std::mutex mutex_;
  std::condition_variable never_;
};

/// Blocks where the script says so.
class ScriptedDisplay : public Display {
 public:
  ScriptedDisplay(const PlayRecord& script, FrameRange range, Clock& clock)
      : script_(script), range_(range), clock_(clock) {}
  bool present(Frames frame, ScreenImage&&, double) override {
    for (const Stall& s : script_.stalls)
      if (s.on == Stall::On::display && s.position == frame - range_.in) {
        std::unique_lock lock(mutex_);
        clock_.wait(lock, never_, clock_.now() + s.ms, [] { return false; });
      }
    return true;
  }

 private:
  const PlayRecord& script_;
  FrameRange range_;
  Clock& clock_;
  std::mutex mutex_;
  std::condition_variable never_;
};

/// Runs of positions with the same segment.
template <class F>
void each_run(const std::vector<std::string>& segments, std::size_t count, F&& f) {
  for (std::size_t at = 0; at < count;) {
    std::size_t end = at + 1;
    while (end < count && !segments.empty() && segments[end] == segments[at]) ++end;
    if (segments.empty()) end = count;
    f(at, end);
    at = end;
  }
}

/// From when the worker of the frame at `position` was done until it took on its next one; for its first one
/// after the clock started, when that was.
void hand_over(PlayRecord& r, const Playout& p, std::size_t position) {
  const FrameLog& f = p.log[position];
  // Frames are taken on in order, so the worker's last one is among the few before.
  for (std::size_t k = position; k-- > static_cast<std::size_t>(p.horizon);) {
    const FrameLog& before = p.log[k];
    if (!before.made || before.worker != f.worker) continue;
    r.costs[k].handing = f.decided_ms - before.done_ms;
    return;
  }
  r.begins.push_back(f.decided_ms);
}

}  // namespace

PlayRecord record_of(const Playout& p, const Program& program) {
  PlayRecord r;
  r.rate = p.rate, r.workers = p.workers, r.horizon = p.horizon, r.kinds = p.kinds, r.far = p.far;
  const std::size_t count = p.log.size();
  r.costs.resize(count), r.dropped.resize(count), r.segments.resize(count);
  std::vector<int> interval(count);
  for (std::size_t i = 0; i < count; ++i) {
    const FrameLog& f = p.log[i];
    r.dropped[i] = f.dropped;
    interval[i] = program.interval_at(f.frame);
    if (const CompiledSegment* s = main_segment(program, f.frame)) r.segments[i] = s->segment->id;
    r.costs[i].looked = f.looked_ms - f.due_ms;
    if (!f.made) continue;
    FrameCost& c = r.costs[i];
    // Below 0 where decoders' own threads had worked ahead.
    c.fetch = f.steady_fetch_ms, c.catch_up = f.fetched_ms - f.fetch_began_ms - f.steady_fetch_ms;
    c.beside = f.beside_ms;
    c.process = std::max(0.0, f.process_ms() - f.neighbours_ms), c.all_neighbours = f.neighbours_ms;
    c.neighbours = f.neighbours, c.neighbour = f.neighbour_ms;
    c.after = f.after, c.decodes_between = f.decodes_between;
    // Before the clock started nothing was in a hurry.
    if (static_cast<Frames>(i) < p.horizon) continue;
    const double turn_free =
        f.after >= p.horizon ? p.log[static_cast<std::size_t>(f.after)].fetched_ms : f.started_ms;
    c.starting = f.started_ms - f.at_ms;
    c.turn = f.fetch_began_ms - std::max(f.started_ms, turn_free);
    c.arriving = f.arrived_ms - f.done_ms;
    hand_over(r, p, i);
  }
  // What was never started: from the nearest that was, those of the same interval first.
  for (std::size_t i = 0; i < count; ++i) {
    if (p.log[i].made) continue;
    std::size_t best = count;
    for (const bool same : {true, false}) {
      for (std::size_t d = 1; d < count && best == count; ++d)
        for (const std::size_t k : {i - d, i + d})
          if (k < count && p.log[k].made && (!same || interval[k] == interval[i]) && best == count) best = k;
      if (best != count) break;
    }
    if (best == count) continue;
    // The machine's gaps between stages were that frame's own.
    const FrameCost& like = r.costs[best];
    const double looked = r.costs[i].looked;
    r.costs[i] = {like.fetch, 0, like.process, -2, like.decodes_between};
    r.costs[i].looked = looked, r.costs[i].neighbours = like.neighbours,
    r.costs[i].neighbour = like.neighbour, r.costs[i].beside = like.beside;
  }
  return r;
}

std::vector<FrameCost> costs_with_stalls(const PlayRecord& r) {
  std::vector<FrameCost> costs = r.costs;
  for (const Stall& s : r.stalls) {
    if (s.position < 0 || static_cast<std::size_t>(s.position) >= costs.size()) continue;
    FrameCost& c = costs[static_cast<std::size_t>(s.position)];
    if (s.on == Stall::On::read || s.on == Stall::On::decode) c.stall += s.ms;
    else if (s.on != Stall::On::display) c.process += s.ms;
  }
  return costs;
}

bool Replay::Part::agrees() const {
  return std::abs(static_cast<double>(observed - modelled)) <=
         std::max(1.0, 0.02 * static_cast<double>(frames));
}
int Replay::agreeing() const {
  return static_cast<int>(
      std::count_if(parts.begin(), parts.end(), [](const Part& p) { return p.agrees(); }));
}

Replay replay(const PlayRecord& r) {
  const std::vector<Outcome> model =
      play_costs({r.workers, r.horizon, r.rate.frame_ms(), r.far}, costs_with_stalls(r), r.begins, r.kinds);
  Replay result;
  each_run(r.segments, model.size(), [&](std::size_t from, std::size_t to) {
    Replay::Part part;
    if (!r.segments.empty()) part.segment = r.segments[from];
    part.frames = static_cast<Frames>(to - from);
    for (std::size_t i = from; i < to; ++i)
      part.observed += !r.dropped.empty() && r.dropped[i], part.modelled += model[i].dropped;
    result.observed += part.observed, result.modelled += part.modelled;
    result.parts.push_back(part);
  });
  return result;
}

Json to_json(const PlayRecord& r) {
  Json frames = Json::array(), stalls = Json::array();
  for (std::size_t i = 0; i < r.costs.size(); ++i) {
    const FrameCost& c = r.costs[i];
    Json f{{"fetch_ms", c.fetch}, {"process_ms", c.process}};
    if (c.catch_up != 0) f["catch_up_ms"] = c.catch_up;
    if (c.after != -1) f["after"] = c.after;
    for (const MachineGap& g : kMachineGaps)
      if (c.*g.value != 0) f[g.name] = c.*g.value;
    if (c.decodes_between) f["decodes_between"] = true;
    if (c.neighbours > 0) f["neighbours"] = c.neighbours;
    if (!r.dropped.empty() && r.dropped[i]) f["dropped"] = true;
    if (!r.segments.empty() && (i == 0 || r.segments[i] != r.segments[i - 1])) f["segment"] = r.segments[i];
    frames.push_back(std::move(f));
  }
  Json kinds = Json::array();
  for (const CostKind& k : r.kinds)
    kinds.push_back({{"from", k.from},
                     {"occupied_ms", k.occupied_ms},
                     {"deviation_ms", k.deviation_ms},
                     {"decode_ms", k.skip.decode},
                     {"neighbour_fetch_ms", k.skip.neighbour_fetch},
                     {"neighbour_ms", k.skip.neighbour},
                     {"neighbours", k.skip.neighbours}});
  for (const Stall& s : r.stalls)
    stalls.push_back({{"position", s.position}, {"ms", s.ms}, {"on", kOn[static_cast<std::size_t>(s.on)]}});
  return {{"glass_clock", "playout record"},
          {"version", PlayRecord::kVersion},
          {"rate", {r.rate.num, r.rate.den}},
          {"workers", r.workers},
          {"read_ahead", r.horizon},
          {"read_far_ahead", r.far},
          {"observed", !r.dropped.empty()},
          {"begins_ms", r.begins},
          {"kinds", kinds},
          {"frames", frames},
          {"stalls", stalls}};
}

Result<PlayRecord> record_from_json(const Json& j, const std::string& where) {
  if (!j.is_object() || text_or(j, "glass_clock", "") != "playout record")
    return bad(where, "it does not say that it is one");
  if (number_or(j, "version", 0) > PlayRecord::kVersion)
    return bad_input("is a playout record of a newer version", where, "Update the program.");
  PlayRecord r;
  const Json rate = j.value("rate", Json());
  if (!rate.is_array() || rate.size() != 2 || !rate[0].is_number_integer() || !rate[1].is_number_integer() ||
      rate[0].get<int>() < 1 || rate[1].get<int>() < 1)
    return bad(where, "it has no frame rate");
  r.rate = {rate[0].get<int>(), rate[1].get<int>()};
  r.workers = static_cast<int>(number_or(j, "workers", 0)),
  r.horizon = static_cast<int>(number_or(j, "read_ahead", 12));
  r.far = static_cast<int>(std::clamp(number_or(j, "read_far_ahead", 0), 0.0, 10000.0));
  if (r.workers < 1 || r.workers > 64 || r.horizon < 1 || r.horizon > 10000)
    return bad(where, "the number of workers or the read-ahead is impossible");
  for (const Json& ms : j.value("begins_ms", Json::array())) {
    if (!ms.is_number() || !(std::abs(ms.get<double>()) < 1e7))
      return bad(where, "the times at which workers begin are impossible");
    r.begins.push_back(ms.get<double>());
  }
  for (const Json& k : j.value("kinds", Json::array())) {
    CostKind kind{static_cast<std::int64_t>(number_or(k, "from", -1)),
                  number_or(k, "occupied_ms", -1),
                  number_or(k, "deviation_ms", -1),
                  {}};
    kind.skip.decode = number_or(k, "decode_ms", 0), kind.skip.neighbour = number_or(k, "neighbour_ms", 0);
    kind.skip.neighbour_fetch = number_or(k, "neighbour_fetch_ms", 0);
    kind.skip.neighbours = static_cast<int>(std::clamp(number_or(k, "neighbours", 0), 0.0, 1000.0));
    if (kind.from < 0 || (!r.kinds.empty() && kind.from <= r.kinds.back().from) ||
        !(kind.occupied_ms >= 0 && kind.occupied_ms < 1e7) ||
        !(kind.deviation_ms >= 0 && kind.deviation_ms < 1e7) ||
        !(kind.skip.after(100) >= 0 && kind.skip.after(100) < 1e8))
      return bad(where, "what was known beforehand is impossible");
    r.kinds.push_back(kind);
  }
  const Json frames = j.value("frames", Json());
  if (!frames.is_array() || frames.empty()) return bad(where, "it has no frames");
  std::string segment;
  const bool observed = flag_or(j, "observed", false);
  for (const Json& f : frames) {
    const double fetch = number_or(f, "fetch_ms", -1), process = number_or(f, "process_ms", -1),
                 catch_up = number_or(f, "catch_up_ms", 0);
    if (!(fetch >= 0 && fetch < 1e7) || !(process >= 0 && process < 1e7) ||
        !(std::abs(catch_up) < 1e7))
      return bad(where, "frame " + std::to_string(r.costs.size()) + " has impossible times");
    const double neighbours = number_or(f, "neighbours", 0);
    if (!(neighbours >= 0 && neighbours < 1000))
      return bad(where,
                 "frame " + std::to_string(r.costs.size()) + " has an impossible number of neighbours");
    segment = text_or(f, "segment", segment);
    r.costs.push_back({fetch, catch_up, process, static_cast<Frames>(number_or(f, "after", -1)),
                       flag_or(f, "decodes_between", false)});
    r.costs.back().neighbours = static_cast<int>(neighbours);
    for (const MachineGap& g : kMachineGaps) {
      const double ms = number_or(f, g.name, 0);
      if (!(std::abs(ms) < 1e7))
        return bad(where, "frame " + std::to_string(r.costs.size() - 1) + " has impossible times");
      r.costs.back().*g.value = ms;
    }
    r.segments.push_back(segment);
    if (observed) r.dropped.push_back(flag_or(f, "dropped", false));
  }
  for (const Json& s : j.value("stalls", Json::array())) {
    const std::string on = text_or(s, "on", "process");
    const auto at = std::find_if(std::begin(kOn), std::end(kOn), [&](const char* k) { return on == k; });
    if (at == std::end(kOn)) return bad(where, "a stall is on '" + on + "', which is nothing that can stall");
    r.stalls.push_back({static_cast<Frames>(number_or(s, "position", 0)), number_or(s, "ms", 0),
                        static_cast<Stall::On>(at - std::begin(kOn))});
  }
  return r;
}

Result<PlayRecord> load_record(const fs::path& file) {
  const auto text = read_file(file);
  if (!text) return std::unexpected(text.error());
  const auto json = parse_json(*text, file.string());
  if (!json) return std::unexpected(json.error());
  return record_from_json(*json, file.string());
}

Result<void> save_record(const PlayRecord& record, const fs::path& file) {
  return write_file_atomic(file, to_json(record).dump() + "\n");
}

Playout play_script(const ProgramPtr& program, const PlayRecord& script, FrameRange range,
                    PlayOptions options) {
  ScriptClock clock;
  options.workers = script.workers, options.horizon = script.horizon, options.clock = &clock;
  if (!script.kinds.empty()) options.kinds = script.kinds;
  options.far = script.far;
  options.maker = [&] { return std::make_unique<ScriptedMaker>(script, clock); };
  ScriptedDisplay display(script, range, clock);
  const std::atomic<bool> stop{false};
  return play(program, nullptr, range, options, display, stop);
}

}  // namespace gc
