// The journal of the queue: every job of this seat, whoever asked for it, and what became of it. A SQLite file (WAL), so
// that nothing is lost whoever is killed when.
#pragma once
#include <optional>

#include "base/database.h"
#include "base/files.h"
#include "remedy/price.h"
#include "remedy/remedy.h"

namespace gc {

enum class JobState { waiting, working, done, failed, cancelled };
const char* state_name(JobState s);

/// Something to be rendered, with a snapshot of the timeline that it is of.
struct Job {
  std::int64_t id = 0;
  std::string timeline;         ///< its name
  std::string file;             ///< the person's
  std::string snapshot;         ///< a file of the queue's own that the job is made from
  std::string remedy, what;     ///< the remedy's id, and a sentence
  Making making;                ///< of a delivery: what machines without its file may render for it
  std::string delivery;         ///< what has to be delivered, as desk/delivering.h writes it; empty: nothing
  std::string shelf, notebook;  ///< where it goes, and who learns from it
  RenderPrice price;
  std::uint64_t bytes = 0;      ///< that it will take
  JobState state = JobState::waiting;
  bool paused = false;
  int priority = 0;             ///< of its timeline; higher first
  double place = 0;             ///< within a priority, lowest first
  int tries = 0;
  Frames done = 0;              ///< frames so far
  std::string trouble;          ///< why it failed, with what to do
  std::string by;               ///< process that works on it
  std::string added, began, ended;  ///< ISO 8601, UTC
  double taken_s = 0;

  bool open() const { return state == JobState::waiting || state == JobState::working; }
  /// Seconds of work that are said to be left of it.
  double seconds_left() const {
    const double share = price.frames > 0 ? static_cast<double>(done) / static_cast<double>(price.frames) : 0;
    return open() && share < 1 ? price.said_s * (1 - share) : 0;
  }
};

/// When the queue may work.
struct QueueSettings {
  enum class When { idle, always, never, hours } when = When::idle;
  double idle_s = 5;            ///< after so many seconds without input, 1 to 600
  std::string hours;            ///< "22:00-6:00"
  bool mains_only = false;      ///< not on battery
  double while_working = 0;     ///< share of the machine that it may take while somebody works; 0: none
  enum class AfterWindow { ask, go_on, stop } after_window = AfterWindow::ask;  ///< what becomes of the work when the last window closes
  bool paused = false;
};

/// Minutes of the day from when until when "22:00-6:00" is; nothing when it says no hours.
std::optional<std::pair<int, int>> hours_in(const std::string& text);

class Journal {
 public:
  static Result<Journal> open(const fs::path& file = data_folder() / "queue.sqlite");

  Result<std::int64_t> add(Job job);
  /// In the order in which they are done: what is worked on, what waits, what is over with the latest first.
  std::vector<Job> jobs() const;
  std::optional<Job> job(std::int64_t id) const;
  /// Waiting jobs of a timeline's file go; deliveries stay, and what is worked on. How many.
  Result<int> forget_waiting(const std::string& file);

  /// The job to be done next, now worked on by this process; nothing when none may be.
  Result<std::optional<Job>> take(const std::string& process);
  Result<void> progress(std::int64_t id, Frames done);
  Result<void> end(std::int64_t id, JobState state, const std::string& trouble, double taken_s);
  /// The job is done again in a fresh process. When that was tried twice it is set aside: where it is known `at` which frame
  /// it failed, half a second around that, as a job of its own, and the rest waits again. Whether something was set aside.
  Result<bool> failed(std::int64_t id, const std::string& trouble, std::optional<Frames> at = {});
  /// Where the process of a job tells that it crashed (base/crash.h).
  fs::path crash_file(std::int64_t id) const;
  /// Jobs whose process is not there any more wait again, and those of `own`, which does nothing at the moment. How many.
  Result<int> reclaim(const std::string& own);

  /// Less is to be made than was said: `share` of the seconds and bytes.
  Result<void> narrow(std::int64_t id, const Making& making, Frames frames, double share);

  Result<bool> pause(std::int64_t id, bool paused);
  Result<bool> cancel(std::int64_t id);
  /// To the front of all that wait, or behind the others.
  Result<bool> move(std::int64_t id, bool first);

  QueueSettings settings() const;
  Result<void> set_settings(const QueueSettings& s);
  /// Sets one by its name and a word; errors say what may be given.
  static Result<void> set(QueueSettings& s, const std::string& name, const std::string& value);

  /// One scheduler for a seat: true when this process has the lease now. It is another's as long as that is alive.
  Result<bool> lease(const std::string& process);
  Result<void> release(const std::string& process);
  std::string holder() const;  ///< who has it; empty: nobody alive
  /// Asks the renderer that has the seat to end. What it works on waits again, and nothing finished is lost.
  Result<void> ask_to_end();
  bool asked_to_end(const std::string& process) const;
  /// A renderer that was started to stay does not end with the windows.
  Result<void> note_staying(const std::string& process);
  bool stays() const;

  /// A window of this process is open, or not any more.
  Result<void> note_window(const std::string& process, bool open);
  /// Whether another process has one open.
  bool other_windows(const std::string& process) const;

  /// Somebody used the keyboard or mouse in the window, or plays; it is said anew while it lasts.
  Result<void> note_use(bool playing);
  struct Use {
    double input_s_ago = 1e9, playing_s_ago = 1e9;
  };
  Use use() const;
  /// Why nothing is done at the moment, for people; empty: something is.
  Result<void> set_why(const std::string& why);
  std::string why() const;
  /// "ok", or what SQLite finds wrong.
  std::string check() const;

 private:
  std::string value(const char* key) const;
  Result<void> set_value(const char* key, const std::string& value);
  Result<std::int64_t> insert(const Job& job, double place);
  fs::path file_;
  Database database_;
};

Json to_json(const Making& m);
std::optional<Making> making_from(const Json& j);

}  // namespace gc
