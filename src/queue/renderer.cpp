#include "queue/renderer.h"

#include <fmt/format.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <chrono>
#include <cstring>
#include <ctime>
#include <thread>

#include "base/clock.h"
#include "base/crash.h"
#include "queue/idle.h"

namespace gc {
namespace {

/// How often it is looked whether somebody needs the machine: a key press puts the work to sleep within twice this.
constexpr int kLookMs = 40;
/// Of gentle work: so long at a time.
constexpr double kSpellMs = 200;
/// What was played or typed so long ago still counts as going on.
constexpr double kStillPlaying = 1.5;
/// Others wait for memory so much of the time: the machine is about to swap.
constexpr double kMemoryShort = 0.10;

int minute_now() {
  const std::time_t t = std::time(nullptr);
  std::tm local{};
  localtime_r(&t, &local);
  return local.tm_hour * 60 + local.tm_min;
}

/// What the job that would be taken next is said to take.
double bytes_of_next(const Journal& journal) {
  for (const Job& j : journal.jobs())
    if (j.state == JobState::waiting && !j.paused) return static_cast<double>(j.bytes);
  return 0;
}

/// A job's process, with everything that it started.
class Child {
 public:
  explicit Child(int pid) : pid_(pid) {}
  ~Child() {
    if (pid_ <= 0) return;
    run(true);
    ::kill(pid_, SIGTERM);
    ::waitpid(pid_, nullptr, 0);
  }
  Child(const Child&) = delete;
  Child& operator=(const Child&) = delete;
  void run(bool on) {
    if (on == running_) return;
    ::kill(pid_, on ? SIGCONT : SIGSTOP);
    running_ = on;
  }
  void end() { run(true), ::kill(pid_, SIGTERM); }
  /// Its status when it has ended.
  std::optional<int> ended() {
    int status = 0;
    if (::waitpid(pid_, &status, WNOHANG) != pid_) return std::nullopt;
    pid_ = 0;
    return status;
  }

 private:
  int pid_;
  bool running_ = true;
};

}  // namespace

Leave may_work(const QueueSettings& s, const Journal::Use& use, double without_input, bool mains, int minute, double memory_stalled) {
  if (s.paused) return {0, "paused"};
  if (memory_stalled > kMemoryShort) return {0, "memory is short", true};
  if (use.playing_s_ago < kStillPlaying) return {0, "something is played or measured"};
  if (s.when == QueueSettings::When::never) return {0, "it is set never to work"};
  if (s.mains_only && !mains) return {0, "the machine runs on battery"};
  if (s.when == QueueSettings::When::hours) {
    const auto hours = hours_in(s.hours);
    const bool within = hours && (hours->first < hours->second ? minute >= hours->first && minute < hours->second
                                                               : minute >= hours->first || minute < hours->second);
    return within ? Leave{} : Leave{0, "it is not " + (s.hours.empty() ? "any hour to work in" : s.hours)};
  }
  if (s.when == QueueSettings::When::idle && std::min(without_input, use.input_s_ago) < s.idle_s)
    return s.while_working > 0 ? Leave{s.while_working, ""} : Leave{0, "you are working"};
  return {};
}

Result<RendererReport> run_renderer(Journal& journal, const RendererOptions& o, const std::atomic<bool>& stop) {
  RendererReport report;
  const std::string me = own_process();
  const auto mine = journal.lease(me);
  if (!mine) return std::unexpected(mine.error());
  if (!*mine) {
    report.busy_elsewhere = true;
    return report;
  }
  if (auto r = journal.reclaim(me); !r) return std::unexpected(r.error());
  if (!o.until_empty)
    if (auto r = journal.note_staying(me); !r) return std::unexpected(r.error());
  std::optional<Child> child;
  std::int64_t job = 0;
  Stopwatch spell, worked;
  double counted = 0, written = 0;  ///< ms of work, and bytes as they were said
  bool ended_by_us = false;  ///< the job was told to end; it waits again
  QueueSettings settings = journal.settings();
  Stopwatch since_settings;
  while (!stop) {
    if (since_settings.ms() > 500) {
      settings = journal.settings(), since_settings.restart();
      if (o.until_empty && journal.asked_to_end(me)) break;
    }
    const Leave leave = may_work(settings, journal.use(), o.without_input ? o.without_input() : seconds_without_input(), on_mains(), minute_now(),
                                 o.memory_stalled ? o.memory_stalled() : memory_stalled());
    // Who is told why nothing is done may rely on it.
    if (child && leave.share <= 0) child->run(false);
    if (auto r = journal.set_why(leave.why); !r) return std::unexpected(r.error());
    const bool over = o.most_seconds > 0 && counted > o.most_seconds * 1000;
    if (child) {
      // Gentle: a part of each spell is slept through.
      const double in_spell = spell.ms() - kSpellMs * static_cast<double>(static_cast<int>(spell.ms() / kSpellMs));
      const bool run = leave.share > 0 && in_spell < leave.share * kSpellMs;
      child->run(run);
      counted += run ? worked.ms() : 0;
      const auto now = journal.job(job);
      if (over || leave.give_memory_back || !now || now->state == JobState::cancelled || now->paused) ended_by_us = true, child->end();
      if (const auto status = child->ended()) {
        child.reset();
        const auto ended = journal.job(job);
        if (ended && ended->state == JobState::done) ++report.done, written += static_cast<double>(ended->bytes);
        else if (ended && ended->state == JobState::failed) ++report.failed;
        else if (ended && ended->state == JobState::working) {
          // It did not say how it ended.
          if (ended_by_us) {
            if (auto r = journal.reclaim(me); !r) return std::unexpected(r.error());
          } else {
            const auto crash = take_crash(journal.crash_file(job));
            const std::string how = WIFSIGNALED(*status) ? fmt::format("ended by signal {} ({})", WTERMSIG(*status), ::strsignal(WTERMSIG(*status)))
                                                         : fmt::format("ended with code {}", WEXITSTATUS(*status));
            const std::string where = crash && crash->frame >= 0 ? fmt::format("in '{}', of frame {} of the timeline", crash->what, crash->frame)
                                                                 : fmt::format("at frame {} of {}", ended->done, ended->price.frames);
            const auto aside = journal.failed(job, fmt::format("Its process {} {}; `gclk work --one {}` does it again by itself, from {}.", how, where, job, ended->snapshot),
                                              crash && crash->frame >= 0 ? std::optional(crash->frame) : std::nullopt);
            if (!aside) return std::unexpected(aside.error());
            report.failed += *aside;
          }
        }
      }
    } else if (leave.share > 0 && !over) {
      if (o.most_bytes > 0 && written + bytes_of_next(journal) > o.most_bytes) break;
      const auto next = journal.take(me);
      if (!next) return std::unexpected(next.error());
      if (*next) {
        job = (*next)->id;
        const int pid = o.start(job);
        if (pid <= 0) {
          if (auto r = journal.failed(job, "No process can be started for it; free some memory."); !r) return std::unexpected(r.error());
        } else {
          child.emplace(pid);
          ended_by_us = false;
          spell.restart();
        }
      } else if (o.until_empty) {
        const auto all = journal.jobs();
        if (std::none_of(all.begin(), all.end(), [](const Job& j) { return j.state == JobState::waiting && !j.paused; })) break;
      }
    }
    if (over && !child) break;
    worked.restart();
    std::this_thread::sleep_for(std::chrono::milliseconds(kLookMs));
  }
  child.reset();
  if (auto r = journal.reclaim(me); !r) return std::unexpected(r.error());
  if (auto r = journal.release(me); !r) return std::unexpected(r.error());
  return report;
}

}  // namespace gc
