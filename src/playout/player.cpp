#include "playout/player.h"

#include <algorithm>
#include <cmath>
#include <deque>

#include "base/clock.h"
#include "base/log.h"
#include "measure/measure.h"

namespace gc {
namespace {

void sleep_until(double at_ms, const std::atomic<bool>& stop) {
  // In steps, so that stopping is prompt.
  for (double left = at_ms - now_ms(); left > 0 && !stop; left = at_ms - now_ms()) {
    const double step = std::min(left, 40.0);
    timespec t{0, static_cast<long>(step * 1e6)};
    nanosleep(&t, nullptr);
  }
}

/// What the pipeline hands over, kept until it is due; by position in the order of playing.
class Inbox {
 public:
  void put(FrameResult&& r) {
    const std::lock_guard lock(mutex_);
    const Frames position = r.position;
    frames_.emplace(position, std::move(r));
    ++received_;
    arrived_.notify_all();
  }
  void wait_for(Frames count, const std::atomic<bool>& stop) {
    std::unique_lock lock(mutex_);
    while (received_ < count && !stop) arrived_.wait_for(lock, std::chrono::milliseconds(20));
  }
  bool wait_for_frame(Frames position, const std::atomic<bool>& stop) {
    std::unique_lock lock(mutex_);
    while (!frames_.contains(position) && !stop) arrived_.wait_for(lock, std::chrono::milliseconds(20));
    return !stop;
  }
  /// Everything up to and including `position` that is done by now, oldest first.
  std::vector<FrameResult> take_until(Frames position) {
    const std::lock_guard lock(mutex_);
    std::vector<FrameResult> out;
    while (!frames_.empty() && frames_.begin()->first <= position) {
      out.push_back(std::move(frames_.begin()->second));
      frames_.erase(frames_.begin());
    }
    return out;
  }

 private:
  std::mutex mutex_;
  std::condition_variable arrived_;
  std::map<Frames, FrameResult> frames_;
  Frames received_ = 0;
};

/// How a finished frame's time was spent.
struct Spent {
  double occupied = 0, waited = 0, fetch = 0, read = 0, outside = 0;
};

Spent spent(const FrameResult& r) {
  Spent s;
  s.occupied = r.done_ms - r.started_ms;
  s.waited = r.fetch_began_ms - r.started_ms;
  s.fetch = r.fetched_ms - r.fetch_began_ms;
  double cpu = 0;
  for (const StageSample& stage : r.stages) {
    cpu += stage.cpu_ms;
    if (stage.kind == StageKind::read) s.read += stage.wall_ms;
  }
  s.outside = std::max(0.0, s.occupied - s.waited - cpu);
  return s;
}

/// Says why frames are missed, from how the latest frames spent their time.
class Diagnosis {
 public:
  Diagnosis(int workers, double period) : workers_(workers), period_(period) {}

  void add(const FrameResult& r) {
    latest_.push_back(spent(r));
    if (latest_.size() > 6) latest_.pop_front();
  }

  /// For a frame that was made but came late: without what the outside took, would it have been in time?
  Cause late(const FrameResult& r, double late_ms) const {
    const Spent s = spent(r);
    if (s.outside >= late_ms && s.outside > 0.25 * (s.occupied - s.waited)) return Cause::outside;
    return binding();
  }

  /// For a frame that was not started: what keeps frames from being made in time?
  Cause binding() const {
    Spent sum;
    for (const Spent& s : latest_)
      sum.occupied += s.occupied, sum.waited += s.waited, sum.fetch += s.fetch, sum.read += s.read,
          sum.outside += s.outside;
    const double n = std::max<double>(1, static_cast<double>(latest_.size()));
    const double own = (sum.occupied - sum.waited - sum.outside) / n / workers_;
    const double fetch = sum.fetch / n;
    if (std::max(own, fetch) < 0.97 * period_ && sum.outside / n / workers_ + own > 0.97 * period_)
      return Cause::outside;
    if (fetch > own) return sum.read > 0.6 * sum.fetch ? Cause::disk : Cause::decode;
    return Cause::processor;
  }

 private:
  int workers_;
  double period_;
  std::deque<Spent> latest_;
};

void count_segments(Playout& p, const Program& program) {
  std::map<std::string, SegmentPlay> by_id;
  std::vector<std::string> order;
  for (const FrameLog& f : p.log) {
    const int i = program.interval_at(f.frame);
    if (i < 0) continue;
    for (const CompiledLayer& l : program.intervals()[static_cast<std::size_t>(i)].layers)
      for (const auto& s : {l.from, l.to}) {
        if (!s) continue;
        SegmentPlay& play = by_id[s->segment->id];
        if (play.id.empty()) play.id = s->segment->id, order.push_back(play.id);
        ++play.frames;
        play.dropped += f.dropped;
      }
  }
  for (const std::string& id : order) {
    SegmentPlay& s = by_id[id];
    s.sustained_rate = p.rate.fps() * (1 - static_cast<double>(s.dropped) / static_cast<double>(s.frames));
    p.segments.push_back(s);
  }
}

}  // namespace

std::vector<float> Playout::missed() const {
  std::vector<float> m(static_cast<std::size_t>(range.length()), 0.0f);
  for (const FrameLog& f : log)
    if (f.dropped) m[static_cast<std::size_t>(f.frame - range.in)] = 1;
  return m;
}

Playout play(const ProgramPtr& program, const SealLookup* seals, FrameRange range, const PlayOptions& options,
             Display& display, const std::atomic<bool>& stop,
             const std::function<void(const PlayState&)>& tell) {
  Playout p;
  p.range = {std::clamp<Frames>(range.in, 0, program->duration()),
             std::clamp<Frames>(range.out, 0, program->duration())};
  p.rate = program->timeline()->rate;
  p.mode = options.mode;
  const double period = p.rate.frame_ms();
  std::vector<Frames> frames;
  for (Frames f = p.range.in; f < p.range.out; ++f) frames.push_back(f);
  if (options.backwards) std::reverse(frames.begin(), frames.end());
  const auto count = static_cast<Frames>(frames.size());
  if (count == 0) return p;

  Inbox inbox;
  const Stopwatch preroll;
  PipelineOptions running;
  running.workers = options.workers, running.horizon = options.horizon;
  // Played every frame, slower, a stretch fills the memory cache on the way.
  running.cache = options.cache, running.keep_frames = options.cache && options.mode == PlayMode::every_frame;
  std::optional<Learner> learner;
  if (options.notebook) learner.emplace(program, *options.notebook), running.gauge = true;
  Pipeline pipeline(program, seals, running, frames, [&](FrameResult&& r) {
    if (learner) learner->see(r);
    inbox.put(std::move(r));
  });
  inbox.wait_for(std::min<Frames>(count, options.horizon), stop);
  p.preroll_seconds = preroll.ms() / 1000;
  const double zero = now_ms();
  const bool clocked = options.mode == PlayMode::on_the_clock;
  if (clocked) pipeline.start_clock(zero, period);

  Diagnosis diagnosis(options.workers, period);
  std::deque<double> shown;  // times of the last second's presentations
  Frames newest = -1;        // position of the newest frame that has been on the display
  double tick = zero;
  p.log.resize(static_cast<std::size_t>(count));
  for (Frames i = 0; i < count && !stop; ++i) {
    const Frames frame = frames[static_cast<std::size_t>(i)];
    if (clocked) tick = zero + static_cast<double>(i) * period;
    else if (i > 0) tick = std::max(tick + period, now_ms());
    sleep_until(tick, stop);
    if (!clocked) inbox.wait_for_frame(i, stop);
    if (stop) break;
    FrameLog& log = p.log[static_cast<std::size_t>(i)];
    log.frame = frame, log.due_ms = tick - zero;
    std::vector<FrameResult> done = inbox.take_until(i);
    bool on_time = false;
    for (FrameResult& r : done) {
      FrameLog& of = p.log[static_cast<std::size_t>(r.position)];
      const Spent s = spent(r);
      of.done_ms = r.done_ms - zero;
      of.sealed = r.sealed, of.offline = r.offline, of.outside_ms = s.outside;
      if (r.position == i) on_time = true;
      else if (of.dropped) {
        of.late_ms = of.done_ms - of.due_ms;
        of.cause = diagnosis.late(r, of.late_ms);
      }
      diagnosis.add(r);
    }
    ++p.frames;
    if (on_time) {
      log.presented = true;
    } else {
      log.dropped = true;
      log.cause = diagnosis.binding();
      ++p.dropped;
    }
    // A frame that comes late is still better than a frozen picture; it stays counted as dropped.
    if (!done.empty() && done.back().position > newest) {
      newest = done.back().position;
      shown.push_back(tick);
      display.present(done.back().frame, std::move(done.back().screen));
    }
    while (!shown.empty() && shown.front() <= tick - 1000) shown.pop_front();
    if (!clocked) pipeline.consumed(i + 1);
    if (tell)
      tell({frame, p.dropped,
            std::min(p.rate.fps(),
                     static_cast<double>(shown.size()) *
                         (tick - zero < 1000 ? 1000 / std::max(period, tick - zero + period) : 1.0))});
  }
  p.stopped = stop;
  p.log.resize(static_cast<std::size_t>(p.frames));
  p.seconds = (now_ms() - zero) / 1000;
  for (const FrameLog& f : p.log) p.dropped_outside += f.dropped && f.cause == Cause::outside;
  p.rate_reached =
      clocked ? p.rate.fps() *
                    (1 - static_cast<double>(p.dropped) / static_cast<double>(std::max<Frames>(1, p.frames)))
              : std::min(p.rate.fps(), static_cast<double>(p.frames) / std::max(1e-3, p.seconds));
  pipeline.stop();
  count_segments(p, *program);
  pipeline.stop();
  if (learner)
    if (auto r = learner->finish(); !r) spdlog::warn("{}", r.error().text());
  return p;
}

}  // namespace gc
