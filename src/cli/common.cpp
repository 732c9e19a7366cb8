#include "cli/common.h"

#include <fmt/format.h>
#include <unistd.h>

#include <iostream>

#include "base/clock.h"
#include "desk/queueing.h"
#include "desk/settled.h"
#include "queue/hush.h"

namespace gc {

DeskOptions Common::desk() const {
  DeskOptions o;
  o.shelf = shelf, o.notebook = notebook;
  return o;
}

int fail(const Error& e, bool json) {
  if (json) std::cout << Json{{"error", e.text()}}.dump(1) << "\n";
  std::cerr << e.text() << "\n";
  return static_cast<int>(e.fault);
}

void put(const Json& j) { std::cout << j.dump(1, ' ', false, Json::error_handler_t::replace) << "\n"; }

Result<Opened> open(const Common& c) {
  // The file first: a mistyped path makes no folders.
  if (std::error_code e; !fs::exists(c.file, e)) return std::unexpected(load_timeline(c.file).error());
  auto stores = Stores::open(c.desk());
  if (!stores) return std::unexpected(stores.error());
  auto timeline = open_timeline(c.file, stores->media, c.timeline);
  if (!timeline) return std::unexpected(timeline.error());
  Opened o{*stores, view_of(*timeline, *stores), {}};
  auto range = parse_range(c.range, o.view);
  if (!range) return std::unexpected(range.error());
  o.range = *range;
  return o;
}

Result<TimelinePtr> load(const Common& c) {
  return open_timeline(c.file, std::make_shared<MediaCatalog>(), c.timeline);
}

Result<void> write_out(const std::string& file, const std::string& text) {
  if (auto r = must_be_free(file); !r) return r;
  return write_file_atomic(file, text);
}

Result<MeasureReport> measure_now(const Opened& o, double seconds, bool again, const std::atomic<bool>& interrupted) {
  const Hush hush;
  auto report = measure(o.view.played, *o.stores.notebook, o.stores.measure_options(seconds, again, &o.view), [&](const MeasureProgress& p) {
    show_progress(fmt::format("Measuring {}: {} of {} kinds of frames known, {:.0f} of at most {:.0f} s", p.what, p.known, p.wanted, p.seconds,
                              p.limit_seconds));
    return !interrupted.load();
  });
  end_progress();
  return report;
}

namespace {

/// Jobs that an edit made useless go. That the queue cannot be looked at is no reason to fail.
void queue_follows(const Common& c, const TimelinePtr& edited) {
  std::error_code e;
  if (!fs::exists(data_folder() / "queue.sqlite", e)) return;
  auto journal = Journal::open();
  const auto jobs = journal ? journal->jobs() : std::vector<Job>{};
  const std::string whose = fs::absolute(c.file).string();
  if (std::ranges::none_of(jobs, [&](const Job& j) { return j.open() && j.file == whose; })) return;
  if (const auto o = open(c)) (void)follow_edit(*journal, view_of(edited, o->stores), o->stores, c.file);
}

}  // namespace

int save_edit(const Common& c, const TimelinePtr& edited, Json done, const std::string& sentence) {
  const auto before = load(c);
  if (auto r = save_timeline(*edited, c.file); !r) return fail(r.error(), c.json);
  // How often a segment is edited says how settled it is. A log that cannot be kept is no reason to fail.
  if (before)
    if (auto log = EditLog::open(EditLog::usual_file())) (void)log->note(*edited, changes_between(**before, *edited), seconds_now());
  queue_follows(c, edited);
  if (c.json) put(done);
  else fmt::print("{}\n", sentence);
  return 0;
}

void add_common(CLI::App* command, Common& c, bool file) {
  command->add_flag("--json", c.json, "One JSON document on standard output");
  if (file) {
    command->add_option("file", c.file, "OpenTimelineIO timeline")->required();
    command->add_option("--timeline", c.timeline, "Which, where the file holds several: its name or number");
  }
  command->add_option("--shelf", c.shelf, "Folder of rendered media");
  command->add_option("--notebook", c.notebook, "File of what was measured on this seat");
}

Result<Named> named(const Timeline& timeline, const std::string& segment, const std::string& effect) {
  auto s = segment_called(timeline, segment);
  if (!s) return std::unexpected(s.error());
  auto e = effect_called(**s, effect);
  if (!e) return std::unexpected(e.error());
  return Named{*s, *e};
}

namespace {
double told_ms = -1;
const Stopwatch since_start;
}  // namespace

void show_progress(const std::string& line) {
  if (isatty(2)) {
    std::cerr << "\r\033[K" << line << std::flush;
    return;
  }
  const double now = since_start.ms();
  if (told_ms >= 0 ? now - told_ms < 10'000 : now < 700) return;
  told_ms = now;
  std::cerr << line << std::endl;
}
void end_progress() {
  if (isatty(2)) std::cerr << "\r\033[K" << std::flush;
}

}  // namespace gc
