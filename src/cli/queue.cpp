#include "cli/queue.h"

#include <fmt/format.h>
#include <sys/prctl.h>
#include <sys/resource.h>
#include <sys/syscall.h>
#include <unistd.h>

#include <csignal>
#include <thread>

#include "cli/print.h"
#include "cli/table.h"
#include "desk/farm.h"
#include "desk/planning.h"
#include "desk/queueing.h"
#include "desk/remedies.h"
#include "queue/renderer.h"

namespace gc {
namespace {

struct QueueArguments {
  std::int64_t id = 0, one = 0;
  bool watch = false, all = false, first = false, last = false, forever = false;
  int priority = 0, task = -1, tasks = 0;
  double seconds = 0, gigabytes = 0, measure = 20, look = 2;
  std::string name, value, on, shared, partition, slurm, program, pieces, nodes;
  std::vector<std::string> roots;
  bool dry = false;
};

Json to_json(const Job& j) {
  return {{"id", j.id}, {"timeline", j.timeline}, {"file", j.file}, {"remedy", j.remedy}, {"what", j.what}, {"state", j.paused && j.state == JobState::waiting ? "paused" : state_name(j.state)},
          {"frames", j.price.frames}, {"frames_done", j.done}, {"said_seconds", j.price.said_s}, {"taken_seconds", j.taken_s}, {"bytes", j.bytes}, {"priority", j.priority},
          {"tries", j.tries}, {"trouble", j.trouble}, {"added", j.added}, {"began", j.began}, {"ended", j.ended}};
}

/// By the notebook of the first job that is left.
QueueOutlook outlook_of(const std::vector<Job>& jobs) {
  std::vector<double> ratios;
  for (const Job& j : jobs)
    if (std::error_code e; j.open() && fs::exists(j.notebook, e)) {
      if (const auto notebook = Notebook::open(j.notebook)) ratios = (*notebook)->price_ratios();
      break;
    }
  return outlook(jobs, ratios, seconds_now());
}

void print(const std::vector<Job>& jobs, const Journal& journal) {
  Table t({"Job", "State", "Remedy", "Of", "Timeline", "Done", "Said", "Took", "Trouble"});
  double left = 0;
  for (const Job& j : jobs) {
    const bool over = !j.open();
    left += j.seconds_left();
    t.row({std::to_string(j.id), j.paused && !over ? "paused" : state_name(j.state), j.remedy, j.what, j.timeline, fmt::format("{} of {}", j.done, j.price.frames),
           duration_text(j.price.said_s), over ? duration_text(j.taken_s) : "", j.trouble});
  }
  fmt::print("{}", t.text());
  if (left > 0) fmt::print("  {}{}\n", outlook_of(jobs).sentence(static_cast<std::int64_t>(seconds_now()), !journal.holder().empty() && journal.why().empty()), journal.holder().empty() ? " No renderer runs; `gclk work` is one." : journal.why().empty() ? "" : " It waits: " + journal.why() + ".");
}

template <class Does>
int with_journal(const Common& c, Does does) {
  auto journal = Journal::open();
  if (!journal) return fail(journal.error(), c.json);
  return does(*journal);
}

int cmd_list(const Common& c, const QueueArguments& a, const std::atomic<bool>& interrupted) {
  return with_journal(c, [&](Journal& journal) {
    do {
      Json list = Json::array();
      const std::vector<Job> jobs = journal.jobs();
      for (const Job& j : jobs) list.push_back(to_json(j));
      if (const QueueOutlook o = outlook_of(jobs); c.json)
        put({{"renderer", !journal.holder().empty()}, {"why", journal.why()}, {"jobs", list}, {"frames_left", o.frames_left}, {"seconds_left", o.seconds_left},
             {"soonest_seconds", o.soonest_s}, {"latest_seconds", o.latest_s}, {"frames_a_second", o.frames_a_second ? Json(*o.frames_a_second) : Json()}});
      else print(jobs, journal);
      if (!a.watch) break;
      std::this_thread::sleep_for(std::chrono::seconds(1));
      if (!c.json && !interrupted) fmt::print("\n");
    } while (!interrupted);
    return 0;
  });
}

int cmd_on_cluster(const Common& c, const QueueArguments& a, const std::atomic<bool>& interrupted) {
  FarmOptions o;
  o.cluster.programs = a.slurm, o.cluster.partition = a.partition, o.shared = fs::absolute(a.shared), o.program = a.program, o.tasks = a.tasks, o.look_s = a.look;
  o.nodes = a.nodes;
  if (a.shared.empty()) return fail(usage("it is not said what this seat and the nodes share", "Give --shared FOLDER.").error(), c.json);
  for (const std::string& r : a.roots) {
    const auto is = r.find('=');
    if (is == std::string::npos || is == 0) return fail(usage(fmt::format("'{}' maps nothing", r), "Give --root HERE=THERE.").error(), c.json);
    o.roots[r.substr(0, is)] = r.substr(is + 1);
  }
  return with_journal(c, [&](Journal& journal) {
    Json quotes = Json::array();
    for (const Job& j : journal.jobs()) {
      if (j.state != JobState::waiting || j.paused) continue;
      const auto q = quote_farm(j, o);
      if (!q) return fail(q.error(), c.json);
      quotes.push_back({{"job", j.id}, {"here_seconds", q->here_s}, {"there_seconds", q->there_s}, {"tasks", q->tasks}, {"nodes", q->room.nodes}, {"idle", q->room.idle}, {"tasks_waiting", q->room.waiting}, {"bytes_back", q->bytes_back}});
      if (!c.json)
        fmt::print("Job {}: {} here; {} as {} task{} on {} node{}, {} of them idle, {} tasks waiting; {} come back.\n", j.id, duration_text(q->here_s), duration_text(q->there_s), q->tasks, q->tasks == 1 ? "" : "s",
                   q->room.nodes, q->room.nodes == 1 ? "" : "s", q->room.idle, q->room.waiting, bytes_text(q->bytes_back));
    }
    if (a.dry) {
      if (c.json) put({{"quotes", quotes}});
      return 0;
    }
    const auto r = run_on_cluster(journal, o, [&](const Job& j, Frames done, Frames all) {
      show_progress(fmt::format("Job {} on the cluster: {} of {} frames are here", j.id, done, all));
      return !interrupted.load();
    });
    end_progress();
    sweep_snapshots(journal);
    if (!r) return fail(r.error(), c.json);
    if (c.json) put({{"quotes", quotes}, {"done", r->done}, {"failed", r->failed}, {"busy_elsewhere", r->busy_elsewhere}});
    else if (r->busy_elsewhere) fmt::print("Another renderer works for this seat already.\n");
    else fmt::print("{} jobs done, {} failed.\n", r->done, r->failed);
    const std::vector<Job> left = journal.jobs();
    return std::ranges::any_of(left, [](const Job& j) { return j.state == JobState::waiting && !j.paused; }) || r->failed > 0 ? 1 : 0;
  });
}

int cmd_add(const Common& c, const QueueArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  if (auto measured = measure_now(*o, a.measure, false, interrupted); !measured) return fail(measured.error(), c.json);
  const auto tried = tried_plan(o->view, o->stores, o->range, plan_options(*o->view.timeline, o->stores), [&] { return interrupted.load(); });
  if (!tried) return fail(tried.error(), c.json);
  const Plan& plan = *tried;
  return with_journal(c, [&](Journal& journal) {
    const auto ids = enqueue(journal, plan, o->view, o->stores, c.file, a.priority);
    if (!ids) return fail(ids.error(), c.json);
    if (const TimelinePtr slipped = with_slips_of(plan, o->view.timeline); slipped != o->view.timeline)
      if (auto r = save_timeline(*slipped, c.file); !r) return fail(r.error(), c.json);
    if (c.json) put({{"added", *ids}, {"sentence", plan.sentence}, {"said_seconds", plan.render_seconds}});
    else fmt::print("{}\n{} job{} wait{} now. `gclk work` does them.\n", plan.sentence, ids->size(), ids->size() == 1 ? "" : "s", ids->size() == 1 ? "s" : "");
    return 0;
  });
}

/// What a change of one job says.
int changed(const Common& c, const Result<bool>& r, std::int64_t id, const char* done) {
  if (!r) return fail(r.error(), c.json);
  if (!*r) return fail(usage(fmt::format("job {} is none that this can be done with", id), "`gclk queue` lists them.").error(), c.json);
  if (c.json) put({{"job", id}, {"done", done}});
  else fmt::print("Job {} is {}.\n", id, done);
  return 0;
}

int cmd_pause(const Common& c, const QueueArguments& a, bool pause) {
  return with_journal(c, [&](Journal& journal) {
    if (a.id > 0) return changed(c, journal.pause(a.id, pause), a.id, pause ? "paused" : "resumed");
    QueueSettings s = journal.settings();
    s.paused = pause;
    if (auto r = journal.set_settings(s); !r) return fail(r.error(), c.json);
    if (c.json) put({{"paused", pause}});
    else fmt::print("The queue is {}.\n", pause ? "paused" : "resumed");
    return 0;
  });
}

int cmd_cancel(const Common& c, const QueueArguments& a) {
  return with_journal(c, [&](Journal& journal) {
    if (!a.all) return changed(c, journal.cancel(a.id), a.id, "cancelled");
    int n = 0;
    for (const Job& j : journal.jobs())
      if (j.open())
        if (const auto r = journal.cancel(j.id)) n += *r;
    if (c.json) put({{"cancelled", n}});
    else fmt::print("{} jobs are cancelled. What they finished stays on the shelf.\n", n);
    return 0;
  });
}

int cmd_log(const Common& c, const QueueArguments& a) {
  return with_journal(c, [&](Journal& journal) {
    const auto j = journal.job(a.id);
    if (!j) return fail(usage(fmt::format("there is no job {}", a.id), "`gclk queue` lists them.").error(), c.json);
    if (c.json) put(to_json(*j));
    else
      fmt::print("Job {}: {} of '{}', {}\n  of {}\n  from {}\n  {} of {} frames, said {}, took {}, tried {} time{}\n  added {}, began {}, ended {}\n  {}\n", j->id, j->remedy,
                 j->what, state_name(j->state), j->file, j->snapshot, j->done, j->price.frames, duration_text(j->price.said_s), duration_text(j->taken_s), j->tries,
                 j->tries == 1 ? "" : "s", j->added, j->began, j->ended, j->trouble);
    return 0;
  });
}

int cmd_set(const Common& c, const QueueArguments& a) {
  return with_journal(c, [&](Journal& journal) {
    QueueSettings s = journal.settings();
    if (auto r = Journal::set(s, a.name, a.value); !r) return fail(r.error(), c.json);
    if (auto r = journal.set_settings(s); !r) return fail(r.error(), c.json);
    if (c.json) put({{"setting", a.name}, {"value", a.value}});
    else fmt::print("{} is {} now.\n", a.name, a.value);
    return 0;
  });
}

/// This very program, with a job to do by itself.
int start_job(std::int64_t job, bool always) {
  const std::string program = fs::read_symlink("/proc/self/exe").string(), number = std::to_string(job);
  const pid_t parent = ::getpid(), pid = ::fork();
  if (pid != 0) return pid;
  ::prctl(PR_SET_PDEATHSIG, SIGKILL);  // nobody would look after it
  if (::getppid() != parent) ::_exit(4);
  // Last at the processors and at the drives; one that may always work gets its small share of a busy machine.
  sched_param none{};
  if (always) ::setpriority(PRIO_PROCESS, 0, 15);
  else ::sched_setscheduler(0, SCHED_IDLE, &none);
  constexpr int kIdleClass = 3 << 13, kThisProcess = 1;
  ::syscall(SYS_ioprio_set, kThisProcess, 0, kIdleClass);
  ::execl(program.c_str(), program.c_str(), "work", "--one", number.c_str(), static_cast<char*>(nullptr));
  ::_exit(4);
}

int cmd_work(const Common& c, const QueueArguments& a, const std::atomic<bool>& interrupted) {
  return with_journal(c, [&](Journal& journal) {
    if (!a.pieces.empty()) {
      const auto made = do_parcel(a.pieces, a.task, interrupted);
      if (!made) return fail(made.error(), c.json);
      if (c.json) put({{"frames", *made}});
      else fmt::print("{} frames made.\n", *made);
      return interrupted ? 4 : 0;
    }
    if (a.one > 0) {
      if (auto r = do_job(journal, a.one, interrupted); !r) return fail(r.error(), c.json);
      return interrupted ? 4 : 0;
    }
    RendererOptions o;
    o.start = [&](std::int64_t job) { return start_job(job, journal.settings().when == QueueSettings::When::always); }, o.until_empty = !a.forever, o.most_seconds = a.seconds, o.most_bytes = a.gigabytes * 1e9;
    const auto r = run_renderer(journal, o, interrupted);
    sweep_snapshots(journal);
    if (!r) return fail(r.error(), c.json);
    if (c.json) put({{"done", r->done}, {"failed", r->failed}, {"busy_elsewhere", r->busy_elsewhere}});
    else if (r->busy_elsewhere) fmt::print("Another renderer works for this seat already.\n");
    else fmt::print("{} jobs done, {} failed.\n", r->done, r->failed);
    return r->failed > 0 ? 1 : 0;
  });
}

}  // namespace

void add_queue_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static QueueArguments a;
  CLI::App* queue = app.add_subcommand("queue", "What is to be rendered: now, next, done, failed and why");
  queue->footer("Example: gclk queue --watch");
  queue->add_flag("--json", c.json, "One JSON document");
  queue->add_flag("--watch", a.watch, "Say it again every second");
  queue->add_option("--on", a.on, "Do what waits on other machines: slurm")->check(CLI::IsMember({"slurm"}));
  queue->add_option("--shared", a.shared, "A folder that this seat and the nodes see");
  queue->add_option("--root", a.roots, "HERE=THERE: how paths that begin so here begin on the nodes");
  queue->add_option("--tasks", a.tasks, "At most so many tasks for a job; as many as nodes when left out")->check(CLI::PositiveNumber);
  queue->add_option("--partition", a.partition, "Of the cluster");
  queue->add_option("--programs", a.slurm, "Folder with sbatch, squeue, scancel and sinfo; PATH when left out");
  queue->add_option("--gclk", a.program, "gclk on the nodes; where it is here when left out");
  queue->add_option("--nodes", a.nodes, "Seat profile of the nodes, for what it takes there: a file, or the name of a seat that ships");
  queue->add_option("--look", a.look, "Seconds between two looks at the cluster")->check(CLI::Range(0.05, 600.0));
  queue->add_flag("--dry-run", a.dry, "Only say what it would take here and there");
  queue->require_subcommand(0, 1);
  queue->callback([&, queue] {
    if (queue->get_subcommands().empty()) code = a.on.empty() ? cmd_list(c, a, interrupted) : cmd_on_cluster(c, a, interrupted);
  });
  const auto add = [&](const char* name, const char* what, bool job) {
    CLI::App* s = queue->add_subcommand(name, what);
    s->add_flag("--json", c.json, "One JSON document");
    if (job) s->add_option("job", a.id, "Its number")->required();
    return s;
  };
  CLI::App* s = queue->add_subcommand("add", "Queue the plan of a timeline");
  add_common(s, c, true);
  s->add_option("--range", c.range, "IN-OUT, frames or timecodes");
  s->add_option("--measure", a.measure, "Seconds that measuring may take")->check(CLI::Range(0.1, 3600.0));
  s->add_option("--priority", a.priority, "Of this timeline against others; higher first");
  s->callback([&] { code = cmd_add(c, a, interrupted); });
  for (const bool pause : {true, false}) {
    s = add(pause ? "pause" : "resume", pause ? "Pause a job, or the whole queue" : "Go on with a job, or the whole queue", false);
    s->add_option("job", a.id, "Its number; all when left out");
    s->callback([&, pause] { code = cmd_pause(c, a, pause); });
  }
  s = add("cancel", "Cancel a job; what it finished stays", false);
  s->add_option("job", a.id, "Its number");
  s->add_flag("--all", a.all, "Everything that waits or runs");
  s->callback([&] { code = cmd_cancel(c, a); });
  s = add("move", "Do a job before all others, or after them", true);
  s->add_flag("--first", a.first, "This one now");
  s->add_flag("--last", a.last, "After all others");
  s->callback([&] {
    code = a.first == a.last ? fail(usage("it is not said where to", "Give --first or --last.").error(), c.json)
                             : with_journal(c, [&](Journal& j) { return changed(c, j.move(a.id, a.first), a.id, a.first ? "first" : "last"); });
  });
  s = add("log", "Everything about a job", true);
  s->callback([&] { code = cmd_log(c, a); });
  s = add("set", "When it may work: when, idle, hours, power, while-working, after-window, paused", false);
  s->add_option("name", a.name, "Name of the setting")->required();
  s->add_option("value", a.value, "Its value")->required();
  s->callback([&] { code = cmd_set(c, a); });
  s = app.add_subcommand("work", "Do the jobs of the queue, in idle time");
  s->footer("Example: gclk work");
  s->add_flag("--json", c.json, "One JSON document");
  s->add_flag("--forever", a.forever, "Wait for more when nothing is left");
  s->add_option("--seconds", a.seconds, "At most so much work");
  s->add_option("--gigabytes", a.gigabytes, "Write at most so much")->check(CLI::PositiveNumber);
  s->add_option("--one", a.one, "Only this job, in this process");
  s->add_option("--pieces", a.pieces, "Only a task of this parcel, in this process: what a node of a cluster does");
  s->add_option("--task", a.task, "Number of the task");
  s->callback([&] { code = cmd_work(c, a, interrupted); });
}

}  // namespace gc
