#include "desk/planning.h"

#include <fmt/format.h>

#include <ctime>

#include "base/clock.h"
#include "base/files.h"
#include "desk/remedies.h"
#include "desk/report.h"
#include "desk/settled.h"

namespace gc {
namespace {

std::string hours_text(const BusyHours& b) {
  return fmt::format("{}:{:02}-{}:{:02}", b.from / 60, b.from % 60, b.to / 60, b.to % 60);
}

std::optional<BusyHours> hours_from(const std::string& text) {
  int a = 0, b = 0, c = 0, d = 0, read = 0;
  if (std::sscanf(text.c_str(), "%2d:%2d-%2d:%2d%n", &a, &b, &c, &d, &read) != 4 || static_cast<std::size_t>(read) != text.size()) return std::nullopt;
  if (a < 0 || a > 24 || c < 0 || c > 24 || b < 0 || b > 59 || d < 0 || d > 59) return std::nullopt;
  return BusyHours{a * 60 + b, c * 60 + d};
}

std::set<std::string> words_in(const Json& j, const char* name) {
  std::set<std::string> all;
  if (const auto it = j.find(name); it != j.end() && it->is_array())
    for (const Json& w : *it)
      if (w.is_string()) all.insert(w.get<std::string>());
  return all;
}

Frames frames_of(const Remedy& r) {
  Frames n = 0;
  for (const FrameRange& f : r.proposal.subject.frames) n += f.length();
  return std::max<Frames>(1, n > 0 ? n : r.range.length());
}

}  // namespace

Json to_json(const Wishes& w) {
  Json busy = Json::array(), reviews = Json::array();
  for (const Wishes::Part& r : w.reviews) reviews.push_back({{"in", r.range.in}, {"out", r.range.out}, {"by", r.by}});
  for (const BusyHours& b : w.busy) busy.push_back(hours_text(b));
  return {{"glass_clock", "review"}, {"version", 1},        {"by", w.by},         {"disk_bytes", w.disk_bytes ? Json(*w.disk_bytes) : Json()},
          {"most_seconds", w.most_seconds ? Json(*w.most_seconds) : Json()},
          {"reviews", reviews},
          {"drop_seconds", w.drop_seconds ? Json(*w.drop_seconds) : Json()},
          {"busy", busy},            {"idle_share", w.idle_share}, {"pins", w.pins}, {"forbids", w.forbids},
          {"allow", w.allow}};
}

Result<Wishes> wishes_from(const Json& j, const std::string& where) {
  if (!j.is_object()) return bad_input("it describes no review", where, "Write {\"by\": \"10:00\", \"pins\": []}; formats.md has all of it.");
  Wishes w;
  w.by = text_or(j, "by", "");
  if (!w.by.empty() && !clock_time(w.by, std::time(nullptr)))
    return bad_input(fmt::format("'by' says '{}', which is no time", w.by), where, "Give 10:00 or 2026-11-30T10:00.");
  if (const auto it = j.find("reviews"); it != j.end() && it->is_array())
    for (const Json& r : *it) {
      const auto frame = [&](const char* name) { return r.is_object() && r.contains(name) && r[name].is_number_integer() ? r[name].get<Frames>() : Frames{-1}; };
      const FrameRange range{frame("in"), frame("out")};
      const std::string by = r.is_object() ? text_or(r, "by", "") : "";
      if (range.in < 0 || range.length() <= 0 || !clock_time(by, std::time(nullptr)))
        return bad_input(fmt::format("'reviews' has {}, which is no part with a time", r.dump()), where, R"(Give {"in": 0, "out": 240, "by": "10:00"}.)");
      w.reviews.push_back({range, by});
    }
  if (const auto it = j.find("disk_bytes"); it != j.end() && it->is_number()) {
    if (it->get<double>() < 0) return bad_input("'disk_bytes' is below 0", where, "Give the bytes that may be written.");
    w.disk_bytes = it->get<double>();
  }
  if (const auto it = j.find("most_seconds"); it != j.end() && it->is_number()) w.most_seconds = std::max(0.0, it->get<double>());
  if (const auto it = j.find("drop_seconds"); it != j.end() && it->is_number()) {
    if (it->get<double>() <= 0) return bad_input("'drop_seconds' is not above 0", where, "Give the seconds of machine time that one dropped frame is as bad as.");
    w.drop_seconds = it->get<double>();
  }
  if (const auto it = j.find("busy"); it != j.end() && it->is_array())
    for (const Json& b : *it) {
      const auto hours = b.is_string() ? hours_from(b.get<std::string>()) : std::nullopt;
      if (!hours) return bad_input(fmt::format("'busy' has {}, which are no hours", b.dump()), where, "Give \"9:00-18:00\".");
      w.busy.push_back(*hours);
    }
  if (const auto it = j.find("idle_share"); it != j.end() && it->is_number()) w.idle_share = std::clamp(it->get<double>(), 0.0, 1.0);
  w.pins = words_in(j, "pins"), w.forbids = words_in(j, "forbids"), w.allow = words_in(j, "allow");
  return w;
}

Result<Wishes> read_wishes(const fs::path& file) {
  const auto text = read_file(file, std::size_t{1} << 20);
  if (!text) return std::unexpected(text.error());
  const auto j = parse_json(*text, file.string());
  if (!j) return std::unexpected(j.error());
  return wishes_from(*j, file.string());
}

fs::path wishes_file(const Timeline& t) { return data_folder() / "reviews" / (hash_text(t.folder + "\n" + t.name).hex() + ".json"); }

Wishes wishes_of(const Timeline& t) {
  std::error_code e;
  if (!fs::exists(wishes_file(t), e)) return {};
  const auto w = read_wishes(wishes_file(t));
  return w ? *w : Wishes{};
}

Result<void> keep_wishes(const Timeline& t, const Wishes& w) {
  std::error_code e;
  fs::create_directories(wishes_file(t).parent_path(), e);
  return write_file_atomic(wishes_file(t), to_json(w).dump(1) + "\n");
}

Result<Wishes::Part> part_from(const std::string& text, const View& view) {
  const std::size_t at = text.rfind('@');
  if (at == std::string::npos || !clock_time(text.substr(at + 1), std::time(nullptr)))
    return usage(fmt::format("'{}' says no time", text), "Give IN-OUT@TIME, as 0-240@10:00.");
  const auto range = parse_range(text.substr(0, at), view);
  if (!range) return std::unexpected(range.error());
  return Wishes::Part{*range, text.substr(at + 1)};
}

std::string text_of(const Wishes::Part& part, const View& view) {
  return fmt::format("{}-{}@{}", timecode_at(*view.timeline, part.range.in), timecode_at(*view.timeline, part.range.out), part.by);
}

Result<PlanOptions> plan_options(const Wishes& w) {
  PlanOptions o;
  o.now = std::time(nullptr);
  if (!w.by.empty()) {
    o.review_at = clock_time(w.by, o.now);
    if (!o.review_at) return usage(fmt::format("'{}' is no time", w.by), "Give 10:00 or 2026-11-30T10:00.");
  }
  for (const Wishes::Part& r : w.reviews)
    if (const auto at = clock_time(r.by, o.now)) o.reviews.push_back({r.range, *at});
  if (w.disk_bytes) o.disk_bytes = *w.disk_bytes;
  if (w.most_seconds) o.most_seconds = *w.most_seconds;
  if (w.drop_seconds) o.drop_seconds = *w.drop_seconds;
  o.busy = w.busy, o.idle_share = w.idle_share, o.pins = w.pins, o.forbids = w.forbids;
  for (const std::string& kind : w.allow) {
    if (!remedy_kind(kind)) return usage(fmt::format("'{}' is no kind of remedy", kind), "Allow scale.");
    o.kinds.insert(kind);
  }
  return o;
}

void know_settledness(PlanOptions& o, const Timeline& t) {
  std::error_code e;
  if (!fs::exists(EditLog::usual_file(), e)) return;
  auto log = EditLog::open(EditLog::usual_file());
  if (!log) return;
  constexpr double kUsualHours = 12;  // until a review that nobody has set
  const double now = seconds_now(), hours = o.review_at ? std::max(0.0, static_cast<double>(*o.review_at) - now) / 3600 : kUsualHours;
  auto timeline = std::make_shared<Timeline>();
  timeline->name = t.name, timeline->folder = t.folder;
  o.unsettled = [log = std::make_shared<EditLog>(std::move(*log)), timeline, hours, now](const std::string& segment, std::size_t below) {
    return log->chance(*timeline, segment, below, hours, now);
  };
}

PlanOptions plan_options(const Timeline& t, const Stores& stores) {
  PlanOptions o = plan_options(wishes_of(t)).value_or(PlanOptions{});
  know_settledness(o, t);
  // No plan asks for more than its volume has room for.
  if (stores.shelf && !stores.shelf->volumes().empty()) {
    const ShelfVolume& v = stores.shelf->volumes().front();
    if (v.budget) o.disk_bytes = std::min(o.disk_bytes, static_cast<double>(*v.budget));
  }
  return o;
}

Result<Plan> tried_plan(const View& view, const Stores& stores, FrameRange range, const PlanOptions& options,
                        const std::function<bool()>& stopped) {
  // What trying shows can make another plan the least, with remedies that nobody has looked at in turn.
  constexpr int kRounds = 3;
  Situation s = situation_of(view, stores);
  Plan plan = make_plan(s, range, options);
  for (int round = 0; round < kRounds; ++round) {
    std::vector<Proposal> all;
    for (const Remedy& r : plan.remedies) all.push_back(r.proposal);
    const auto tried = try_out(s, all, stores, stopped);
    // Where nothing could be tried (a full cache folder) the plan says its times less surely.
    if (!tried || *tried == 0 || stopped()) break;
    s = situation_of(view, stores);
    plan = make_plan(s, range, options);
  }
  return plan;
}

namespace {

/// With the slip that a proposal opens; the same where it opens none, or there is nothing left for it.
TimelinePtr with_slip_of(const Proposal& p, const TimelinePtr& timeline) {
  auto slip = p.kind->making(p) ? std::nullopt : p.kind->slip(p);
  if (!slip) return timeline;
  slip->why = "so that the review plays";
  const TimelinePtr with = with_slip(*timeline, *slip, now_utc());
  return with ? with : timeline;
}

}  // namespace

TimelinePtr with_slips_of(const Plan& plan, TimelinePtr timeline) {
  for (const Remedy& r : plan.remedies)
    if (r.proposal.kind) timeline = with_slip_of(r.proposal, timeline);
  return timeline;
}

Result<CarriedOut> carry_out(const Plan& plan, const View& accepted, const View& now, const Stores& stores,
                             const std::function<bool(const PrerenderProgress&)>& progress) {
  const Stopwatch watch;
  CarriedOut all;
  all.timeline = now.timeline;
  Frames total = 0, done = 0;
  int pieces = 0;
  for (const Remedy& r : plan.remedies) total += frames_of(r);
  double seconds_after = plan.render_seconds;
  const bool changed = now.timeline != accepted.timeline;
  std::optional<Situation> s;  // looked at only where something else than frames is made
  for (std::size_t i = 0; i < plan.remedies.size() && !all.made.cancelled;) {
    const Remedy& r = plan.remedies[i];
    Frames frames = frames_of(r);
    double said = r.render_seconds, modelled = r.modelled_seconds;
    const auto passed_on = [&](const PrerenderProgress& p) {
      PrerenderProgress whole = p;
      whole.done = done + std::min(p.done, frames), whole.total = total, whole.pieces = pieces + p.pieces;
      whole.seconds = watch.ms() / 1000, whole.seconds_left = p.seconds_left + std::max(0.0, seconds_after - said);
      return !progress || progress(whole);
    };
    Result<PrerenderReport> made = PrerenderReport{};
    std::size_t next = i + 1;
    if (r.renders_frames()) {
      // Renders in a row are one job, so that no worker waits at its seams.
      std::vector<FrameRange> ranges{r.range};
      for (; next < plan.remedies.size() && plan.remedies[next].renders_frames(); ++next) {
        ranges.push_back(plan.remedies[next].range);
        frames += frames_of(plan.remedies[next]), said += plan.remedies[next].render_seconds, modelled += plan.remedies[next].modelled_seconds;
      }
      if (changed) ranges = still_wanted(*accepted.played, ranges, *now.played);
      made = prerender(accepted.played, *stores.shelf, ranges, stores.prerender_options({changed ? 0 : frames, modelled, said}, *accepted.timeline), passed_on);
    } else {
      if (!s) s = situation_of(now, stores);
      const auto p = proposal_of(*s, r.id);
      if (!p || (!p->refused.empty() && p->kind->making(*p) && p->quote.bytes > 0)) {
        all.left_out.push_back(r.id);
      } else if (const auto making = p->kind->making(*p); making && p->refused.empty()) {
        PrerenderOptions options = stores.prerender_options({}, *now.timeline);
        options.form = p->subject.form;
        made = carry_out(*s, *making, *stores.shelf, options, passed_on);
        if (made && !made->cancelled && made->frames > 0 && made->already_sealed == 0)
          if (auto kept = stores.notebook->add_price({now_utc(), made->frames, modelled, said, made->seconds}); !kept) return std::unexpected(kept.error());
      } else {
        all.timeline = with_slip_of(*p, all.timeline);
      }
    }
    if (!made) return std::unexpected(made.error());
    all.made.frames += made->frames, all.made.already_sealed += made->already_sealed, all.made.pieces += made->pieces;
    all.made.bytes += made->bytes, all.made.cancelled = made->cancelled;
    done += frames, pieces += made->pieces, seconds_after -= said;
    i = next;
  }
  all.made.seconds = watch.ms() / 1000;
  return all;
}

Json plan_file(const Plan& plan, const View& view) {
  Json j = to_json(plan);
  j["glass_clock"] = "plan", j["version"] = 1, j["timeline"] = view.timeline->name;
  return j;
}

namespace {

Result<Json> read_plan(const fs::path& file) {
  const auto text = read_file(file, std::size_t{64} << 20);
  if (!text) return std::unexpected(text.error());
  auto j = parse_json(*text, file.string());
  if (!j) return j;
  if (!j->is_object() || text_or(*j, "glass_clock", "") != "plan" || !j->contains("remedies") || !(*j)["remedies"].is_array())
    return bad_input("it holds no plan", file.string(), "Write one with `gclk plan --out`.");
  return j;
}

double number_in(const Json& j, const char* name) {
  const auto it = j.find(name);
  return it != j.end() && it->is_number() ? it->get<double>() : 0;
}

}  // namespace

Result<std::vector<std::string>> remedies_in(const fs::path& file) {
  const auto j = read_plan(file);
  if (!j) return std::unexpected(j.error());
  std::vector<std::string> ids;
  for (const Json& r : (*j)["remedies"])
    if (r.is_object()) ids.push_back(text_or(r, "id", ""));
  return ids;
}

Result<Json> compared(const Plan& plan, const View& view, const fs::path& other) {
  const auto was = read_plan(other);
  if (!was) return std::unexpected(was.error());
  const auto ids = remedies_in(other);
  const Json is = plan_file(plan, view);
  Json added = Json::array(), removed = Json::array();
  std::set<std::string> now;
  for (const Remedy& r : plan.remedies) {
    now.insert(r.id);
    if (std::ranges::find(*ids, r.id) == ids->end()) added.push_back(r.id);
  }
  for (const std::string& id : *ids)
    if (!now.contains(id)) removed.push_back(id);
  const auto more = [&](const char* name) { return number_in(is, name) - number_in(*was, name); };
  return Json{{"added", added}, {"removed", removed}, {"seconds", more("render_seconds")}, {"bytes", more("bytes")}, {"drops_after", more("drops_after")}};
}

}  // namespace gc
