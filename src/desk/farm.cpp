#include "desk/farm.h"

#include <fmt/format.h>

#include <thread>

#include "base/clock.h"
#include "base/mean.h"
#include "desk/delivering.h"
#include "desk/handover.h"
#include "desk/queueing.h"
#include "desk/seats.h"
#include "measure/profile_book.h"
#include "queue/carry_out.h"
#include "render/agree.h"

namespace gc {
namespace {

constexpr const char *kParcel = "parcel.json", *kSnapshot = "timeline.otio", *kIncoming = "incoming";

/// A job opened on this seat: what is to be made of what.
struct Opened : OpenedJob {
  ProgramPtr rendered;
  std::optional<Form> form;        ///< in which pieces have to be; none: in any
  std::vector<FrameRange> pieces;  ///< of finished frames that are not on the shelf; else empty
};

bool on_shelf(const Opened& o, FrameRange piece) {
  for (Frames f = piece.in; f < piece.out; ++f) {
    const auto hit = o.stores.shelf->find(o.rendered->fingerprint(f));
    if (!hit || (o.form && hit->form != *o.form)) return false;
  }
  return true;
}

Result<Opened> opened(const Job& job) {
  auto job_here = open_job(job);
  if (!job_here) return std::unexpected(job_here.error());
  Opened o{std::move(*job_here), {}, {}, {}};
  o.rendered = program_rendered(o.view.played, o.stores.options.settings.rendering, *o.stores.media);
  if (!job.delivery.empty()) o.form = job.making.subject.form;
  if (job.making.what == Making::What::frames)
    for (const FrameRange& piece : pieces_of(*o.rendered, job.making.subject.frames))
      if (!on_shelf(o, piece)) o.pieces.push_back(piece);
  return o;
}

/// Seconds that each piece is said to take on one machine; one number where a job is not made of finished frames.
std::vector<double> said_seconds(const Job& job, const Opened& o) {
  if (job.making.what != Making::What::frames) return {std::max(1.0, job.price.said_s)};
  const Pricing pricing(o.rendered, *o.stores.notebook, {0, o.rendered->duration()}, o.stores.forecast_options());
  std::vector<double> all;
  for (const FrameRange& piece : o.pieces) all.push_back(std::max(1e-3, pricing.frames({piece}, job.making.subject.form)));
  return all;
}

/// The same on a node, by what the stages of each piece cost there and here.
Result<std::vector<double>> seconds_there(std::vector<double> seconds, const Opened& o, const FarmOptions& options) {
  if (options.nodes.empty()) return seconds;
  auto profile = find_profile(options.nodes);
  if (!profile) return std::unexpected(profile.error());
  const ProfileBook book(std::move(*profile), o.stores.notebook);
  for (std::size_t i = 0; i < seconds.size(); ++i) {
    const Frames middle = o.pieces.empty() ? o.rendered->duration() / 2 : (o.pieces[i].in + o.pieces[i].out) / 2;
    double here = 0, there = 0;
    for (const StageRef& r : o.rendered->stages(middle)) here += mean(o.stores.notebook->stage(r).ms), there += mean(book.stage(r).ms);
    if (here > 0) seconds[i] *= there / here;
  }
  return seconds;
}

std::string on_node(const std::string& path, const std::map<std::string, std::string>& roots) {
  for (const auto& [here, there] : roots)
    if (path == here || path.starts_with(here.ends_with('/') ? here : here + "/")) return there + path.substr(here.size());
  return path;
}

/// Where task `number` puts its pieces.
fs::path incoming(const fs::path& parcel, int number) { return parcel / kIncoming / fmt::format("task-{}", number); }

Result<fs::path> make_parcel(const Job& job, const Opened& o, const std::vector<Share>& shares, const FarmOptions& options) {
  const fs::path parcel = options.shared / fmt::format("glass-clock-{}", hash_text(fmt::format("{} {} {}", own_process(), job.id, now_utc())).hex().substr(0, 12));
  std::error_code e;
  fs::create_directories(parcel / kIncoming, e);
  if (e) return environment("the parcel cannot be made: " + e.message(), parcel.string(), "Name a shared folder that may be written to.");
  const auto snapshot = read_file(job.snapshot);
  if (!snapshot) return std::unexpected(snapshot.error());
  if (auto r = write_file_atomic(parcel / kSnapshot, *snapshot); !r) return std::unexpected(r.error());
  Json media = Json::array(), tasks = Json::array(), roots = Json::array();
  for (const auto& [id, m] : o.view.timeline->sources) media.push_back({{"source", id}, {"path", m->path}, {"content", file_identity(m->path).hex()}});
  for (const Look& look : looks_of(*o.view.timeline)) media.push_back({{"segment", look.segment}, {"effect", look.effect}, {"path", look.path}, {"content", file_identity(look.path).hex()}});
  for (const auto& [here, there] : options.roots) roots.push_back({here, there});
  for (const Share& s : shares) {
    Json pieces = Json::array();
    if (!o.pieces.empty())
      for (const std::size_t i : s.pieces) pieces.push_back({o.pieces[i].in, o.pieces[i].out});
    tasks.push_back({{"pieces", pieces}, {"seconds", s.seconds}});
  }
  const Json j{{"glass_clock", "parcel"}, {"version", 1}, {"renderer", kRendererVersion}, {"device", o.stores.options.settings.rendering == Device::accelerator ? "accelerator" : "processor"},
               {"making", to_json(job.making)}, {"roots", roots}, {"media", media}, {"tasks", tasks}};
  if (auto r = write_file_atomic(parcel / kParcel, j.dump(1) + "\n"); !r) return std::unexpected(r.error());
  const std::string program = options.program.empty() ? on_node(fs::read_symlink("/proc/self/exe", e).string(), options.roots) : options.program;
  const std::string script = fmt::format("#!/bin/sh\nexec '{}' work --pieces '{}' --task \"$SLURM_ARRAY_TASK_ID\"\n", program, on_node(parcel.string(), options.roots));
  if (auto r = write_file_atomic(parcel / "task.sh", script); !r) return std::unexpected(r.error());
  fs::permissions(parcel / "task.sh", fs::perms::owner_exec, fs::perm_options::add, e);
  return parcel;
}

/// What nodes have put there, taken onto the shelf. What was taken is not looked at again.
Result<void> take_in(const fs::path& parcel, std::size_t tasks, Opened& o, FarmReport& report) {
  for (std::size_t i = 0; i < tasks; ++i) {
    const fs::path folder = incoming(parcel, static_cast<int>(i));
    if (std::error_code e; !fs::is_directory(folder, e)) continue;
    const auto taken = o.stores.shelf->take(folder);
    if (!taken) return std::unexpected(taken.error());
    report.pieces += taken->pieces;
    for (const std::string& r : taken->refused)
      if (std::ranges::find(report.refused, r) == report.refused.end()) report.refused.push_back(r);
  }
  return {};
}

/// Tasks that have not delivered what they had to.
std::set<int> behind(const Job& job, const Opened& o, const fs::path& parcel, const std::vector<Share>& shares) {
  std::set<int> late;
  std::error_code e;
  for (std::size_t i = 0; i < shares.size(); ++i) {
    const int number = static_cast<int>(i);
    const bool there = job.making.what == Making::What::frames ? std::ranges::all_of(shares[i].pieces, [&](std::size_t p) { return on_shelf(o, o.pieces[p]); })
                                                                : fs::exists(incoming(parcel, number) / "whole", e);
    if (!there) late.insert(number);
  }
  return late;
}

Frames frames_done(const Opened& o) {
  Frames done = 0;
  for (const FrameRange& piece : o.pieces)
    if (on_shelf(o, piece)) done += piece.length();
  return done;
}

/// Why a task gave up, as it wrote it down; empty when it did not.
std::string complaint_of(const fs::path& parcel, int number) {
  const auto text = read_file(parcel / kIncoming / fmt::format("task-{}.refused", number), 1 << 16);
  return text ? fmt::format("task {}: {}", number, *text) : std::string();
}

}  // namespace

Result<FarmQuote> quote_farm(const Job& job, const FarmOptions& options) {
  const auto room = room_of(options.cluster);
  if (!room) return std::unexpected(room.error());
  const auto o = opened(job);
  if (!o) return std::unexpected(o.error());
  const std::vector<double> seconds = said_seconds(job, *o);
  const auto there = seconds_there(seconds, *o, options);
  if (!there) return std::unexpected(there.error());
  FarmQuote q;
  q.room = *room;
  const std::vector<Share> shares = share_out(*there, options.tasks > 0 ? options.tasks : std::max(1, room->nodes));
  q.tasks = static_cast<int>(shares.size());
  for (const double s : seconds) q.here_s += s;
  for (const Share& s : shares) q.there_s = std::max(q.there_s, s.seconds);
  q.bytes_back = job.bytes;
  return q;
}

Result<FarmReport> farm_out(const Job& job, const FarmOptions& options, const std::function<bool(Frames, Frames)>& progress) {
  const Stopwatch watch;
  FarmReport report;
  auto o = opened(job);
  if (!o) return std::unexpected(o.error());
  Frames all = 0;
  for (const FrameRange& piece : o->pieces) all += piece.length();
  if (job.making.what == Making::What::frames && o->pieces.empty()) {
    report.whole = true;
    return report;
  }
  int tasks = options.tasks;
  if (tasks <= 0) {
    const auto room = room_of(options.cluster);
    if (!room) return std::unexpected(room.error());
    tasks = std::max(1, room->nodes);
  }
  const std::vector<Share> shares = share_out(said_seconds(job, *o), tasks);
  const auto parcel = make_parcel(job, *o, shares, options);
  if (!parcel) return std::unexpected(parcel.error());
  std::set<int> late = behind(job, *o, *parcel, shares);
  for (int round = 0; round < options.rounds && !late.empty() && !report.cancelled; ++round) {
    if (round > 0) report.sent_again += static_cast<int>(late.size());
    std::error_code e;
    for (const int n : late) fs::remove(*parcel / kIncoming / fmt::format("task-{}.refused", n), e);
    const auto array = submit_array(options.cluster, *parcel / "task.sh", late, *parcel);
    if (!array) return std::unexpected(array.error());
    for (;;) {
      const auto state = state_of_array(options.cluster, *array);
      // Looked at before what came is taken, so that nothing comes between the two.
      const bool over = state && state->over();
      if (auto r = take_in(*parcel, shares.size(), *o, report); !r) {
        (void)cancel_array(options.cluster, *array);
        return std::unexpected(r.error());
      }
      if (progress && !progress(frames_done(*o), all)) {
        report.cancelled = true;
        (void)cancel_array(options.cluster, *array);
        break;
      }
      if (over) break;
      std::this_thread::sleep_for(std::chrono::duration<double>(options.look_s));
    }
    late = behind(job, *o, *parcel, shares);
  }
  for (const int n : late)
    if (const std::string why = complaint_of(*parcel, n); !why.empty()) report.refused.push_back(why);
  report.whole = late.empty();
  report.seconds = watch.ms() / 1000;
  // Made by this program, and needed by nobody any more.
  if (std::error_code e; report.whole || report.cancelled) fs::remove_all(*parcel, e);
  return report;
}

Result<RendererReport> run_on_cluster(Journal& journal, const FarmOptions& options, const std::function<bool(const Job&, Frames, Frames)>& progress) {
  RendererReport report;
  const std::string me = own_process();
  const auto lease = journal.lease(me);
  if (!lease) return std::unexpected(lease.error());
  if (!*lease) {
    report.busy_elsewhere = true;
    return report;
  }
  if (auto r = journal.note_staying(me); !r) return std::unexpected(r.error());
  const auto wait_again = [&]() -> Result<void> {
    const auto r = journal.reclaim(me);
    return r ? Result<void>{} : Result<void>(std::unexpected(r.error()));
  };
  Result<void> kept = wait_again();
  bool go_on = true;
  while (kept && go_on) {
    const auto job = journal.take(me);
    if (!job) {
      kept = std::unexpected(job.error());
      break;
    }
    if (!*job) break;
    const Job& j = **job;
    const auto sent = farm_out(j, options, [&](Frames done, Frames all) {
      (void)journal.progress(j.id, done), (void)journal.lease(me);
      const auto now = journal.job(j.id);
      if (!now || now->state == JobState::cancelled || now->paused) return false;
      return go_on = !progress || progress(j, done, all);
    });
    if (sent && sent->whole && !j.delivery.empty()) {
      // The file itself is put together here.
      bool ended = false;
      const auto delivered = do_delivery(journal, j, [&] {
        (void)journal.lease(me);
        const auto now = journal.job(j.id);
        if (!now || now->state == JobState::cancelled || now->paused) ended = true;
        else ended = !(go_on = !progress || progress(j, j.price.frames, j.price.frames));
        return !ended;
      });
      if (ended) kept = wait_again();
      else ++(delivered ? report.done : report.failed);
    } else if (sent && sent->whole) {
      ++report.done;
      kept = journal.end(j.id, JobState::done, "", sent->seconds);
    } else if (sent && sent->cancelled) {
      kept = wait_again();
    } else {
      std::string why = sent ? "Not everything came back from the cluster." : sent.error().text();
      if (sent)
        for (const std::string& r : sent->refused) why += " " + r + ".";
      if (const auto aside = journal.failed(j.id, why); aside) report.failed += *aside;
      else kept = std::unexpected(aside.error());
      // It waits for this seat: the cluster had its tries.
      go_on = go_on && sent.has_value();
      if (const auto now = journal.job(j.id); now && now->state == JobState::waiting) break;
    }
  }
  (void)journal.release(me);
  if (!kept) return std::unexpected(kept.error());
  return report;
}

namespace {

/// One task of a parcel on the node that has it.
class ParcelTask {
 public:
  ParcelTask(const fs::path& parcel, int number, const std::atomic<bool>& stop) : parcel_(parcel), number_(number), to_(incoming(parcel, number)), stop_(stop) {}

  /// @return frames made now
  Result<Frames> run() {
    for (const auto step : {&ParcelTask::read, &ParcelTask::look_at_the_node, &ParcelTask::open, &ParcelTask::look_at_the_media, &ParcelTask::make})
      if (auto r = (this->*step)(); !r) return std::unexpected(r.error());
    return made_;
  }

 private:
  /// Tells the seat that sent it why nothing comes of it.
  std::unexpected<Error> refuse(const std::string& what, const std::string& where, const std::string& remedy) const {
    (void)write_file_atomic(parcel_ / kIncoming / fmt::format("task-{}.refused", number_), what + (where.empty() ? "" : ": " + where));
    return bad_input(what, where, remedy);
  }

  Result<void> read() {
    const auto text = read_file(parcel_ / kParcel, std::size_t{256} << 20);
    if (!text) return std::unexpected(text.error());
    auto j = parse_json(*text, kParcel);
    if (!j) return std::unexpected(j.error());
    said_ = std::move(*j);
    if (!said_.is_object() || text_or(said_, "glass_clock", "") != "parcel" || !said_.contains("tasks") || !said_["tasks"].is_array() || number_ < 0 ||
        static_cast<std::size_t>(number_) >= said_["tasks"].size())
      return bad_input(fmt::format("it has no task {}", number_), parcel_.string(), "Send the job again.");
    return {};
  }

  Result<void> look_at_the_node() {
    if (const std::string theirs = text_or(said_, "renderer", ""); theirs != kRendererVersion)
      return refuse(fmt::format("the renderer here is of version {} and {} was asked for", kRendererVersion, theirs), "", "Install the same version on the node.");
    on_accelerator_ = text_or(said_, "device", "") == "accelerator";
    if (on_accelerator_)
      for (const Agreement& a : check_devices(160, 90, ""))
        if (!a.within) return refuse(fmt::format("the accelerator here draws {} otherwise than the processor", a.type->label), "", "Leave this node out.");
    auto making = making_from(said_["making"]);
    if (!making) return refuse("it does not say what is to be made", "", "Send the job again.");
    making_ = std::move(*making);
    return {};
  }

  Result<void> open() {
    auto scratch = ScratchFolder::make(cache_folder(), "node-");
    if (!scratch) return std::unexpected(scratch.error());
    scratch_.emplace(std::move(*scratch));
    DeskOptions options;
    options.shelf = scratch_->path() / "shelf", options.notebook = scratch_->path() / "notebook.sqlite";
    options.settings.rendering = on_accelerator_ ? Device::accelerator : Device::processor;
    auto stores = Stores::open(options);
    if (!stores) return std::unexpected(stores.error());
    stores_.emplace(std::move(*stores));
    auto loaded = open_timeline(parcel_ / kSnapshot, stores_->media);
    if (!loaded) return std::unexpected(loaded.error());
    timeline_ = *loaded;
    return {};
  }

  /// Each file is where the node has it, and holds what the seat has.
  Result<void> look_at_the_media() {
    std::map<std::string, std::string> roots;
    for (const Json& r : said_.value("roots", Json::array()))
      if (r.is_array() && r.size() == 2 && r[0].is_string() && r[1].is_string()) roots[r[0].get<std::string>()] = r[1].get<std::string>();
    for (const Json& m : said_.value("media", Json::array())) {
      if (!m.is_object()) continue;
      const std::string path = on_node(text_or(m, "path", ""), roots);
      const Hash128 content = Hash128::from_hex(text_or(m, "content", ""));
      // What the seat could not open either is no matter.
      if (content == Hash128{}) continue;
      if (const Hash128 here = file_identity(path); here != content)
        return refuse(here == Hash128{} ? "a file is not on the node" : "a file has other content on the node", path, "Mount the same folder there, or say with --root how paths begin there.");
      const TimelinePtr named = m.contains("source") ? with_media(*timeline_, text_or(m, "source", ""), path, path)
                                                     : with_param(*timeline_, text_or(m, "segment", ""), text_or(m, "effect", ""), "path", path);
      if (named) timeline_ = named;
    }
    return {};
  }

  Result<void> make() {
    const Situation s = OpenedJob{*stores_, view_of(timeline_, *stores_)}.situation();
    std::error_code e;
    fs::create_directories(to_, e);
    if (making_.what != Making::What::frames) {
      const auto whole = make_part(s, making_);
      if (!whole) return std::unexpected(whole.error());
      return *whole ? write_file_atomic(to_ / "whole", "") : Result<void>();
    }
    const NameSet there = made_before();
    for (const Json& piece : said_["tasks"][static_cast<std::size_t>(number_)].value("pieces", Json::array())) {
      if (!piece.is_array() || piece.size() != 2 || !piece[0].is_number() || !piece[1].is_number()) continue;
      const FrameRange range{piece[0].get<Frames>(), piece[1].get<Frames>()};
      if (range.in < 0 || range.out > s.rendered->duration() || range.length() <= 0) continue;
      bool known = true;
      for (Frames f = range.in; f < range.out && known; ++f) known = there.contains(s.rendered->fingerprint(f));
      if (known) continue;
      Making part = making_;
      part.subject.frames = {range};
      const auto whole = make_part(s, part);
      if (!whole) return std::unexpected(whole.error());
      if (!*whole) break;
    }
    return {};
  }

  /// Frames of pieces that an earlier try of this task left.
  NameSet made_before() const {
    NameSet there;
    std::error_code e;
    for (const auto& file : fs::directory_iterator(to_, e))
      if (file.path().extension() == ".json")
        if (const auto beside = read_file(file.path(), 8 << 20))
          if (const auto chunk = chunk_of(*beside)) there.insert(chunk->frames.begin(), chunk->frames.end());
    return there;
  }

  /// False when it was stopped.
  Result<bool> make_part(const Situation& s, const Making& part) {
    PrerenderOptions how = stores_->prerender_options({}, *timeline_);
    how.form = making_.subject.form;
    const auto r = carry_out(s, part, *stores_->shelf, how, [&](const PrerenderProgress&) { return !stop_.load(); });
    if (!r) {
      (void)refuse(r.error().what, r.error().where, r.error().remedy);
      return std::unexpected(r.error());
    }
    made_ += r->frames;
    if (auto given = hand_over(); !given) return std::unexpected(given.error());
    return !r->cancelled;
  }

  /// Puts whole pieces where the seat that sent the parcel looks for them.
  Result<void> hand_over() const {
    NameSet fresh;
    std::error_code e;
    for (const Chunk& c : stores_->shelf->pieces())
      if (!fs::exists(to_ / (c.file + ".json"), e)) {
        fs::remove(to_ / c.file, e);  // half of an earlier try's
        fresh.insert(c.frames.begin(), c.frames.end());
      }
    const auto given = stores_->shelf->give(fresh, to_);
    return given ? Result<void>{} : Result<void>(std::unexpected(given.error()));
  }

  fs::path parcel_;
  int number_;
  fs::path to_;
  const std::atomic<bool>& stop_;
  Json said_;
  Making making_;
  bool on_accelerator_ = false;
  std::optional<ScratchFolder> scratch_;
  std::optional<Stores> stores_;
  TimelinePtr timeline_;
  Frames made_ = 0;
};

}  // namespace

Result<Frames> do_parcel(const fs::path& parcel, int number, const std::atomic<bool>& stop) { return ParcelTask(parcel, number, stop).run(); }

}  // namespace gc
