#include "playout/player.h"

#include <algorithm>
#include <cmath>
#include <deque>

#include "base/log.h"
#include "measure/measure.h"
#include "pipeline/maker.h"

namespace gc {
namespace {

/// What the pipeline hands over, kept until it is due; by position in the order of playing.
class Inbox {
 public:
  Inbox(Clock& clock, const std::atomic<bool>& stop) : clock_(clock), stop_(stop) {}

  /// A finished frame and when it came.
  struct Arrival {
    FrameResult frame;
    double at_ms = 0;
  };
  void put(FrameResult&& r) {
    const std::lock_guard lock(mutex_);
    const Frames position = r.position;
    frames_.emplace(position, Arrival{std::move(r), clock_.now()});
    ++received_;
    changed_.notify_all();
  }
  void wait_for(Frames count) {
    std::unique_lock lock(mutex_);
    const auto ready = [&] { return received_ >= count || stop_; };
    while (!ready()) clock_.wait(lock, changed_, clock_.now() + 20, ready);
  }
  void wait_for_frame(Frames position) {
    std::unique_lock lock(mutex_);
    const auto ready = [&] { return frames_.contains(position) || stop_; };
    while (!ready()) clock_.wait(lock, changed_, clock_.now() + 20, ready);
  }
  void sleep_until(double at_ms) {
    std::unique_lock lock(mutex_);
    clock_.wait(lock, changed_, at_ms, [&] { return stop_.load(); });
  }
  /// Everything up to and including `position` that is done by now, oldest first.
  std::vector<Arrival> take_until(Frames position) {
    const std::lock_guard lock(mutex_);
    std::vector<Arrival> out;
    while (!frames_.empty() && frames_.begin()->first <= position) {
      out.push_back(std::move(frames_.begin()->second));
      frames_.erase(frames_.begin());
    }
    return out;
  }

 private:
  Clock& clock_;
  const std::atomic<bool>& stop_;
  std::mutex mutex_;
  std::condition_variable changed_;
  std::map<Frames, Arrival> frames_;
  Frames received_ = 0;
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

std::vector<Frames> order_of(FrameRange range, const PlayOptions& options) {
  std::vector<Frames> once, all;
  for (Frames f = range.in; f < range.out; ++f) once.push_back(f);
  if (options.backwards) std::reverse(once.begin(), once.end());
  for (int pass = 0; pass < std::max(1, options.passes); ++pass)
    all.insert(all.end(), once.begin(), once.end());
  return all;
}

/// One playout on its way.
class Playback {
 public:
  Playback(const Program& program, FrameRange range, const PlayOptions& options, Display& display,
      const std::atomic<bool>& stop)
      : options_(options),
        display_(display),
        stop_(stop),
        clock_(options.clock ? *options.clock : real_clock()),
        inbox_(clock_, stop),
        period_(program.timeline()->rate.frame_ms()),
        frames_(order_of(range, options)) {
    p_.range = range, p_.mode = options.mode;
    p_.rate = program.timeline()->rate, p_.start = program.timeline()->start;
    p_.drop_frame = program.timeline()->drop_frame;
    p_.workers = options.workers, p_.horizon = options.horizon;
    p_.far = options.far >= 0 ? options.far : far_of(program.width(), program.height(), options.horizon);
    for (int pass = 0; pass < std::max(1, options.passes) && !options.backwards; ++pass)
      for (CostKind k : options.kinds) k.from += pass * range.length(), p_.kinds.push_back(k);
  }

  Playout play(const ProgramPtr& program, const SealLookup* seals,
               const std::function<void(const PlayState&)>& tell) {
    if (frames_.empty()) return std::move(p_);
    PipelineOptions running;
    running.prepare = !options_.backwards;
    running.workers = options_.workers, running.horizon = options_.horizon;
    running.cache = options_.cache, running.kinds = p_.kinds, running.far = p_.far;
    running.take_frames = options_.cache != nullptr;
    running.keep_frames = options_.cache && options_.mode == PlayMode::every_frame;
    running.gauge = true;
    std::optional<Learner> learner;
    if (options_.notebook) learner.emplace(program, *options_.notebook);
    const auto done = [&](FrameResult&& r) {
      if (learner) learner->see(r);
      inbox_.put(std::move(r));
    };
    const MachineTimes before = machine_times();
    const double began = clock_.now();
    {
      std::unique_ptr<FrameMaker> maker =
          options_.maker ? options_.maker() : make_frames_of(program, seals, running);
      Pipeline pipeline(std::move(maker), running, frames_, done, clock_);
      inbox_.wait_for(std::min<Frames>(static_cast<Frames>(frames_.size()), options_.horizon));
      zero_ = clock_.now();
      p_.preroll_seconds = (zero_ - began) / 1000;
      if (clocked()) pipeline.start_clock(zero_, period_);
      run(pipeline, tell);
      pipeline.stop();
    }
    finish(*program);
    p_.around = conditions_between(before, machine_times());
    if (learner)
      if (auto r = learner->finish(); !r) spdlog::warn("{}", r.error().text());
    return std::move(p_);
  }

 private:
  bool clocked() const { return options_.mode == PlayMode::on_the_clock; }
  FrameLog& log(Frames position) { return p_.log[static_cast<std::size_t>(position)]; }

  void run(Pipeline& pipeline, const std::function<void(const PlayState&)>& tell) {
    const auto count = static_cast<Frames>(frames_.size());
    p_.log.resize(frames_.size());
    double tick = zero_;
    for (Frames i = 0; i < count && !stop_; ++i) {
      if (clocked()) tick = zero_ + static_cast<double>(i) * period_;
      else if (i > 0) tick = std::max(tick + period_, clock_.now());
      inbox_.sleep_until(tick);
      if (!clocked()) inbox_.wait_for_frame(i);
      if (stop_) break;
      show(i, tick);
      if (!clocked()) pipeline.consumed(i + 1);
      if (tell) {
        look_at_machine(tick);
        tell({frames_[static_cast<std::size_t>(i)], p_.dropped, rate_now(tick), busy_, reads_mb_s_});
      }
    }
  }

  /// The tick of the frame at position i.
  void show(Frames i, double tick) {
    FrameLog& now = log(i);
    now.frame = frames_[static_cast<std::size_t>(i)], now.due_ms = tick - zero_;
    ++p_.frames;
    // This thread itself may come too late: a display that blocked, a machine that slept.
    const double looked = clock_.now();
    now.looked_ms = looked - zero_;
    const bool overslept = clocked() && looked >= tick + period_;
    std::vector<Inbox::Arrival> done = inbox_.take_until(i);
    bool on_time = false;
    for (const Inbox::Arrival& r : done) on_time = note(r, i) || on_time;
    if (overslept || !on_time) {
      now.dropped = true, ++p_.dropped;
      // Other causes are told at the end, when it is known what became of the frames in work.
      if (overslept) now.cause = display_blocked_ ? Cause::display : Cause::outside;
    }
    if (!overslept) display_blocked_ = false;
    // A frame that comes late is still better than a frozen picture; it stays counted as dropped.
    bool fresh = false;
    if (!overslept && !done.empty() && done.back().frame.position > newest_) {
      newest_ = done.back().frame.position;
      fresh = present(done.back().frame, tick);
      if (!fresh && !now.dropped) now.dropped = true, now.cause = Cause::display, ++p_.dropped;
    }
    now.presented = !now.dropped;
    now.repeated = !fresh;
    while (!shown_.empty() && shown_.front() <= tick - 1000) shown_.pop_front();
  }

  /// Puts what is known of a finished frame into the log. True when it is the one that is due now.
  bool note(const Inbox::Arrival& arrival, Frames due) {
    const FrameResult& r = arrival.frame;
    FrameLog& of = log(r.position);
    note_making(of, r, arrival.at_ms, zero_);
    if (r.failed) {
      if (p_.failure.empty()) p_.failure = r.failed->text();
      return false;
    }
    if (r.position == due) return true;
    if (of.dropped) of.late_ms = of.done_ms - of.due_ms;
    return false;
  }

  bool present(FrameResult& r, double tick) {
    if (r.failed) return false;
    const double before = clock_.now();
    const bool taken = display_.present(r.frame, std::move(r.screen), tick);
    display_blocked_ = clock_.now() - before > period_ / 2;
    if (taken) shown_.push_back(tick);
    return taken;
  }

  /// How busy processors and drives are, once a second.
  void look_at_machine(double tick) {
    if (tick < looked_ms_ + 1000) return;
    looked_ms_ = tick;
    const MachineTimes now = machine_times();
    const double all = now.busy_s - looked_.busy_s + now.idle_s - looked_.idle_s;
    if (looked_.at_s > 0 && all > 0 && now.at_s > looked_.at_s) {
      busy_ = std::clamp((now.busy_s - looked_.busy_s) / all, 0.0, 1.0);
      reads_mb_s_ = (now.read_mb - looked_.read_mb) / (now.at_s - looked_.at_s);
    }
    looked_ = now;
  }

  double rate_now(double tick) const {
    const double since = tick - zero_;
    return std::min(p_.rate.fps(), static_cast<double>(shown_.size()) *
                                       (since < 1000 ? 1000 / std::max(period_, since + period_) : 1.0));
  }

  void finish(const Program& program) {
    p_.stopped = stop_;
    p_.log.resize(static_cast<std::size_t>(p_.frames));
    p_.seconds = (clock_.now() - zero_) / 1000;
    const auto frames = static_cast<double>(std::max<Frames>(1, p_.frames));
    p_.rate_reached = clocked() ? p_.rate.fps() * (1 - static_cast<double>(p_.dropped) / frames)
                                : std::min(p_.rate.fps(), frames / std::max(1e-3, p_.seconds));
    tell_causes(p_.log, p_.workers, p_.horizon, period_);
    p_.dropped_outside = p_.count(Cause::outside);
    // Frames are fetched in the order of their positions.
    Frames before = -1;
    for (Frames i = 0; i < p_.frames; ++i)
      if (log(i).made) log(i).after = before, before = i;
    count_segments(p_, program);
  }

  const PlayOptions& options_;
  Display& display_;
  const std::atomic<bool>& stop_;
  Clock& clock_;
  Inbox inbox_;
  double period_, zero_ = 0;
  std::vector<Frames> frames_;
  Playout p_;
  std::deque<double> shown_;  ///< times of the last second's presentations
  MachineTimes looked_;
  double looked_ms_ = -1e12, busy_ = 0, reads_mb_s_ = 0;
  Frames newest_ = -1;  ///< position of the newest frame that has been on the display
  bool display_blocked_ = false;
};

}  // namespace

Playout play(const ProgramPtr& program, const SealLookup* seals, FrameRange range, const PlayOptions& options,
             Display& display, const std::atomic<bool>& stop,
             const std::function<void(const PlayState&)>& tell) {
  const FrameRange inside{std::clamp<Frames>(range.in, 0, program->duration()),
                          std::clamp<Frames>(range.out, 0, program->duration())};
  return Playback(*program, inside, options, display, stop).play(program, seals, tell);
}

FrameRange around(Frames playhead, double before_s, double after_s, Rate rate, Frames duration) {
  const auto frames = [&](double s) { return static_cast<Frames>(std::lround(s * rate.fps())); };
  return {std::max<Frames>(0, playhead - frames(before_s)), std::min(duration, playhead + frames(after_s))};
}

}  // namespace gc
