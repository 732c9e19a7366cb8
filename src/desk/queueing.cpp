#include "desk/queueing.h"

#include <fmt/format.h>

#include <cmath>

#include "base/clock.h"
#include "base/crash.h"
#include "desk/delivering.h"

namespace gc {
namespace {

fs::path snapshots() { return data_folder() / "queue" / "snapshots"; }

}  // namespace

Result<fs::path> snapshot_of(const TimelinePtr& timeline) {
  auto t = std::make_shared<Timeline>(*timeline);
  for (auto& [id, source] : t->sources) {
    auto absolute = std::make_shared<MediaSource>(*source);
    absolute->url = source->path;
    source = absolute;
  }
  t->collection = Json(), t->place.clear();
  std::error_code e;
  fs::create_directories(snapshots(), e);
  const fs::path temporary = snapshots() / (".new-" + hash_text(own_process()).hex() + ".otio");
  if (auto r = save_timeline(*t, temporary); !r) return std::unexpected(r.error());
  const auto text = read_file(temporary);
  if (!text) return std::unexpected(text.error());
  const fs::path file = snapshots() / (hash_text(*text).hex() + ".otio");
  if (auto r = sync_and_rename(temporary, file); !r) return std::unexpected(r.error());
  return file;
}

Situation OpenedJob::situation() const {
  Situation s;
  s.timeline = view.timeline, s.played = view.played, s.route = view.seals, s.delivered = view.delivered;
  s.rendered = program_rendered(view.played, stores.options.settings.rendering, *stores.media);
  s.notebook = stores.notebook.get(), s.shelf = stores.shelf.get(), s.media = stores.media.get();
  return s;
}

Result<OpenedJob> open_job(const Job& job) {
  DeskOptions options;
  options.shelf = job.shelf, options.notebook = job.notebook;
  auto stores = Stores::open(options);
  if (!stores) return std::unexpected(stores.error());
  auto timeline = open_timeline(job.snapshot, stores->media);
  if (!timeline) return std::unexpected(timeline.error());
  OpenedJob o{std::move(*stores), {}};
  o.view = view_of(*timeline, o.stores);
  return o;
}

Result<std::vector<std::int64_t>> enqueue(Journal& journal, const Plan& plan, const View& view, const Stores& stores, const fs::path& file, int priority) {
  std::vector<std::int64_t> ids;
  const std::string whose = fs::absolute(file).string();
  if (auto r = journal.forget_waiting(whose); !r) return std::unexpected(r.error());
  const auto snapshot = snapshot_of(view.timeline);
  if (!snapshot) return std::unexpected(snapshot.error());
  for (const Remedy& r : plan.remedies) {
    const auto making = r.proposal.kind ? r.proposal.kind->making(r.proposal) : std::nullopt;
    if (!making) continue;  // a slip: nothing is rendered for it
    Job j;
    j.timeline = view.timeline->name, j.file = whose, j.snapshot = snapshot->string(), j.remedy = r.id;
    j.what = r.segment_name, j.making = *making, j.priority = priority, j.bytes = r.bytes;
    j.shelf = stores.shelf->folder().string(), j.notebook = stores.options.notebook.string();
    Frames frames = 0;
    for (const FrameRange& f : making->subject.frames) frames += f.length();
    j.price = {frames > 0 ? frames : r.range.length(), r.modelled_seconds, r.render_seconds};
    auto id = journal.add(std::move(j));
    if (!id) return std::unexpected(id.error());
    ids.push_back(*id);
  }
  return ids;
}

namespace {

/// Names that a cached stack or a baked composition of a program would get; empty where that cannot be told.
NameSet names_made(const Making& making, const Program& program) {
  NameSet names;
  const Subject& of = making.subject;
  const Rate rate = program.timeline()->rate;
  for (const CompiledSegmentPtr& s : program.segments())
    for (Frames f = s->live_in; f < s->live_out; ++f) {
      if (making.what == Making::What::stack && s->segment->id == of.segment) names.insert(program.tap_key(*s, f, of.after));
      if (making.what == Making::What::composition && s->inner && s->segment->ref == of.composition) names.insert(s->inner->composition_key(s->frame_at(f, rate)));
    }
  return names;
}

}  // namespace

Result<int> follow_edit(Journal& journal, const View& now, const Stores& stores, const fs::path& file) {
  const std::string whose = fs::absolute(file).string();
  const auto rendered = [&](const View& v) { return program_rendered(v.played, stores.options.settings.rendering, *stores.media); };
  std::vector<Job> jobs = journal.jobs();
  std::erase_if(jobs, [&](const Job& j) { return !j.open() || j.file != whose || !j.delivery.empty() || j.making.what == Making::What::source; });
  if (jobs.empty()) return 0;
  const ProgramPtr wanted = rendered(now);
  std::map<std::string, ProgramPtr> snapshots;
  int changed = 0;
  for (const Job& j : jobs) {
    ProgramPtr& was = snapshots[j.snapshot];
    if (!was) {
      const auto t = open_timeline(j.snapshot, stores.media);
      if (!t) continue;  // the job itself will say why
      was = rendered(view_of(*t, stores));
    }
    bool useless = false;
    if (j.making.what == Making::What::frames) {
      Making left = j.making;
      left.subject.frames = still_wanted(*was, j.making.subject.frames, *wanted);
      useless = left.subject.frames.empty();
      const Frames frames = DeliverySources::frames(left.subject.frames), before = DeliverySources::frames(j.making.subject.frames);
      if (!useless && frames < before && j.state == JobState::waiting) {
        if (auto r = journal.narrow(j.id, left, frames, static_cast<double>(frames) / static_cast<double>(before)); !r) return std::unexpected(r.error());
        ++changed;
      }
    } else {
      const NameSet made = names_made(j.making, *was), seen = names_made(j.making, *wanted);
      useless = !made.empty() && std::ranges::none_of(made, [&](const Hash128& n) { return seen.contains(n); });
    }
    if (!useless) continue;
    const auto gone = journal.cancel(j.id);
    if (!gone) return std::unexpected(gone.error());
    changed += *gone;
  }
  return changed;
}

Result<void> do_job(Journal& journal, std::int64_t id, const std::atomic<bool>& stop) {
  const auto job = journal.job(id);
  if (!job) return usage("there is no job " + std::to_string(id), "`gclk queue` lists them.");
  const CrashTeller tells(journal.crash_file(id));
  if (!job->delivery.empty()) return do_delivery(journal, *job, [&] { return !stop.load(); });
  const auto made = [&]() -> Result<PrerenderReport> {
    const auto o = open_job(*job);
    if (!o) return std::unexpected(o.error());
    const Situation s = o->situation();
    PrerenderOptions how = o->stores.prerender_options(job->price, *o->view.timeline);
    how.form = job->making.subject.form;
    Stopwatch told;
    return carry_out(s, job->making, *o->stores.shelf, how, [&](const PrerenderProgress& p) {
      if (told.ms() > 200) (void)journal.progress(id, p.done), told.restart();
      return !stop.load();
    });
  }();
  if (!made) {
    // A lasting fault: the same would happen again.
    if (auto r = journal.end(id, JobState::failed, made.error().text(), 0); !r) return r;
    return std::unexpected(made.error());
  }
  if (made->cancelled) return {};  // it waits again: whoever started this process says so
  if (auto r = journal.progress(id, made->frames + made->already_sealed); !r) return r;
  // Finished frames keep their price themselves.
  if (job->making.what != Making::What::frames && made->frames > 0 && made->already_sealed == 0)
    if (auto notebook = Notebook::open(job->notebook))
      (void)(*notebook)->add_price({now_utc(), made->frames, job->price.modelled_s, job->price.said_s, made->seconds});
  return journal.end(id, JobState::done, "", made->seconds);
}

QueueOutlook outlook(const std::vector<Job>& jobs, const std::vector<double>& ratios, double now) {
  QueueOutlook o;
  for (const Job& j : jobs) {
    o.failed += j.state == JobState::failed;
    if (!j.open() || j.paused) continue;
    ++o.open;
    o.seconds_left += j.seconds_left(), o.frames_left += std::max<Frames>(0, j.price.frames - j.done);
    const auto began = j.state == JobState::working ? seconds_of_utc(j.began) : std::nullopt;
    if (began && j.done > 0 && now > *began) o.frames_a_second = static_cast<double>(j.done) / (now - *began);
  }
  const auto at = [&](double share) { return ratios.empty() ? 1.0 : ratios[static_cast<std::size_t>(share * static_cast<double>(ratios.size() - 1))]; };
  o.soonest_s = o.seconds_left * at(0.1), o.latest_s = o.seconds_left * at(0.9);
  return o;
}

std::string QueueOutlook::sentence(std::int64_t now, bool works) const {
  if (open == 0) return "Nothing waits.";
  std::string s = fmt::format("{} to be done, {} frame{}, about {} of work", open, frames_left, frames_left == 1 ? "" : "s", duration_text(seconds_left));
  if (!works) return s + ".";
  if (frames_a_second) s += fmt::format(" at {:.1f} frames a second", *frames_a_second);
  const std::string from = clock_text(now + std::llround(soonest_s), now), to = clock_text(now + std::llround(latest_s), now);
  return s + (from == to ? fmt::format("; ends at {} if nothing holds it up.", from) : fmt::format("; ends between {} and {} if nothing holds it up.", from, to));
}

void sweep_snapshots(const Journal& journal) {
  std::set<std::string> needed;
  for (const Job& j : journal.jobs())
    if (j.state == JobState::waiting || j.state == JobState::working || j.state == JobState::failed) needed.insert(j.snapshot);
  std::error_code e;
  for (const auto& file : fs::directory_iterator(snapshots(), e))
    if (file.path().extension() == ".otio" && !needed.contains(file.path().string())) fs::remove(file.path(), e);
}

}  // namespace gc
