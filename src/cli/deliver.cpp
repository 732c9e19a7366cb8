#include "cli/deliver.h"

#include <fmt/format.h>

#include "base/log.h"
#include "cli/print.h"
#include "desk/delivering.h"
#include "desk/inspection.h"
#include "desk/print_page.h"
#include "desk/report_page.h"
#include "release/verification.h"

namespace gc {
namespace {

struct DeliverArguments {
  std::string to, form = "rdd36", text, file, who, why;
  std::vector<std::string> items;
  bool withdraw = false, quick = false;
  bool verify = false, burn = false, replace = false, silent = false, dry = false, queue = false;
  double reuse_db = 0;
  int priority = 0;
};

/// The gate after a closer look, which takes a few frames of every stretch that may leave pixels uncovered or flicker.
Result<Gate> whole_gate(const Opened& o, const std::atomic<bool>& interrupted) {
  show_progress("Looking for uncovered pixels and what flickers");
  const Inspection found = inspect(o.view, o.stores, [&] { return !interrupted.load(); });
  end_progress();
  if (interrupted) return std::unexpected(Error{Fault::environment, "the gate was not checked to its end", "", "Start it again."});
  return check_gate(*o.view.delivered, o.stores.shelf.get(), &found);
}

int cmd_gate(const Common& c, const DeliverArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const Result<Gate> g = a.quick ? check_gate(*o->view.delivered, o->stores.shelf.get()) : whole_gate(*o, interrupted);
  if (!g) return fail(g.error(), c.json);
  if (c.json) put(to_json(*g));
  else print(*g, o->view);
  return g->may_deliver() ? 0 : 1;
}

int cmd_accept(const Common& c, const DeliverArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  TimelinePtr t = o->view.timeline;
  Json done = Json::array();
  if (a.withdraw) {
    for (const std::string& item : a.items) {
      t = with_acceptance_withdrawn(*t, item);
      if (!t) return fail(usage("nobody accepted '" + item + "'", "`gclk gate` lists what is accepted.").error(), c.json);
      done.push_back(item);
    }
    return save_edit(c, t, {{"withdrawn", done}}, fmt::format("{} taken back.", done.size()));
  }
  const Result<Gate> gate = whole_gate(*o, interrupted);
  if (!gate) return fail(gate.error(), c.json);
  for (const std::string& said : a.items) {
    bool any = false;
    for (const GateItem& i : gate->items) {
      if (i.item != said && name_of(i.kind) != said) continue;
      const auto accepted = acceptance_of(i, a.who, a.why, now_utc());
      if (!accepted) return fail(accepted.error(), c.json);
      t = with_acceptance(*t, *accepted);
      done.push_back(i.item), any = true;
    }
    if (!any) return fail(usage("the gate has nothing that is called '" + said + "'", "`gclk gate` says what each thing is called.").error(), c.json);
  }
  return save_edit(c, t, {{"accepted", done}, {"who", a.who}, {"why", a.why}}, fmt::format("{} accepted by {}.", done.size(), a.who));
}

Json to_json(const Verification& v) {
  Json findings = Json::array();
  for (const Finding& f : v.findings) findings.push_back({{"frame", f.frame}, {"what", f.what}});
  return {{"good", v.good()}, {"frames", v.frames}, {"sampled", v.sampled}, {"psnr_db_worst", v.sampled > 0 ? Json(v.psnr_db_worst) : Json()},
          {"psnr_db_mean", v.sampled > 0 ? Json(v.psnr_db_mean) : Json()}, {"sound_seconds", v.sound_seconds}, {"manifest", v.manifest.string()},
          {"findings", findings}};
}

void print(const Verification& v) {
  if (v.good()) fmt::print("Verified: {} frames read back, {} held against a live render, {:.1f} dB at worst.\n", v.frames, v.sampled, v.psnr_db_worst);
  for (const Finding& f : v.findings) fmt::print("  {}\n", f.what);
  if (!v.manifest.empty()) fmt::print("  Hashes of all frames: {}\n", v.manifest.string());
}

Result<Verification> verified(const fs::path& file, const Opened& o, VerifyOptions options, const std::atomic<bool>& interrupted) {
  options.range = o.range;
  auto v = verify_delivery(file, o.view.delivered, *o.stores.media, options, [&](Frames n) {
    show_progress(fmt::format("Reading back: {} of {} frames", n, o.range.length()));
    return !interrupted.load();
  });
  end_progress();
  return v;
}

/// Puts a delivery that may be made into the queue.
int queued(const Common& c, const DeliverArguments& a, const Opened& o, const DeliveryOptions& d, Json j) {
  auto journal = Journal::open();
  if (!journal) return fail(journal.error(), c.json);
  const auto id = enqueue_delivery(*journal, o.view, o.stores, c.file, d, a.priority);
  if (!id) return fail(id.error(), c.json);
  j["job"] = *id;
  if (c.json) put(j);
  else fmt::print("Job {} delivers {} as it is now. `gclk work` does it, `gclk queue --on slurm` with other machines.\n", *id, o.view.timeline->name);
  return 0;
}

int cmd_deliver(const Common& c, const DeliverArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  const Result<Gate> checked = whole_gate(*o, interrupted);
  if (!checked) return fail(checked.error(), c.json);
  const Gate& gate = *checked;
  DeliveryOptions d = delivery_options(o->view, o->stores, fs::absolute(a.to), a.form);
  d.range = o->range;
  d.burn_timecode = a.burn, d.burn_text = a.text, d.replace = a.replace, d.sound = !a.silent, d.reuse_db = a.reuse_db;
  Json j{{"gate", to_json(gate)}};
  if (!gate.may_deliver()) {
    j["frames"] = 0, j["verified"] = false;
    if (c.json) put(j);
    else print(gate, o->view);
    return 1;
  }
  // What making them takes is known by measuring alone; a delivery that begins without it would be said by laws.
  constexpr double kMostSeconds = 10;
  if (auto measured = measure_now(*o, kMostSeconds, false, interrupted); !measured) return fail(measured.error(), c.json);
  show_progress("Trying the form on some pictures");
  const auto tried = try_form(o->view, o->stores, d, {});
  end_progress();
  // It is delivered all the same; only its time is said less surely.
  if (!tried) spdlog::warn("{}", tried.error().text());
  if (a.queue) return queued(c, a, *o, d, std::move(j));
  const ForecastOptions costs = o->stores.forecast_options();
  const auto quote = delivery_quote(o->view.delivered, o->stores.shelf.get(), *o->stores.notebook, *o->stores.media, d, costs);
  if (!quote) return fail(quote.error(), c.json);
  const auto n = [](const std::vector<FrameRange>& r) { return DeliverySources::frames(r); };
  if (!c.json)
    fmt::print("{} frames: {} copied, {} decoded, {} made; {}, about {}.\n", o->range.length(), n(quote->sources.copied), n(quote->sources.decoded),
               n(quote->sources.live), quote->known ? "takes about " + duration_text(quote->seconds) : "how long is not known", bytes_text(quote->bytes));
  j["said_seconds"] = quote->known ? Json(quote->seconds) : Json(), j["said_bytes"] = quote->bytes;
  if (a.dry) {
    j["copied_frames"] = n(quote->sources.copied), j["decoded_frames"] = n(quote->sources.decoded), j["live_frames"] = n(quote->sources.live);
    if (c.json) put(j);
    return 0;
  }
  const auto done = deliver(o->view.delivered, o->stores.shelf.get(), *o->stores.notebook, *o->stores.media, d, costs, [&](const DeliveryProgress& p) {
    show_progress(fmt::format("{}: {} of {} frames{}", p.what, p.done, p.total, p.seconds_left > 0 ? ", " + duration_text(p.seconds_left) + " left" : ""));
    return !interrupted.load();
  });
  end_progress();
  if (!done) return fail(done.error(), c.json);
  j["frames"] = done->frames, j["copied_frames"] = n(done->sources.copied), j["decoded_frames"] = n(done->sources.decoded);
  j["near_frames"] = n(done->sources.near);
  j["live_frames"] = n(done->sources.live), j["seconds"] = done->seconds, j["bytes"] = done->bytes, j["file"] = done->file.string();
  j["remarks"] = done->remarks, j["verified"] = Json(), j["manifest"] = Json();
  if (!c.json) {
    fmt::print("Delivered {} frames in {}, {}: {}\n", done->frames, duration_text(done->seconds), bytes_text(done->bytes), done->file.string());
    for (const std::string& r : done->remarks) fmt::print("  {}\n", r);
  }
  bool good = true;
  if (a.verify) {
    VerifyOptions v;
    v.burnt_in = a.burn || !a.text.empty();
    const auto read = verified(readable(d, o->view.timeline->rate), *o, v, interrupted);
    if (!read) return fail(read.error(), c.json);
    good = read->good(), j["verified"] = good, j["manifest"] = read->manifest.string(), j["verification"] = to_json(*read);
    if (!c.json) print(*read);
  }
  if (c.json) put(j);
  return good ? 0 : 1;
}

int cmd_verify(const Common& c, const DeliverArguments& a, const std::atomic<bool>& interrupted) {
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  VerifyOptions v;
  v.burnt_in = a.burn;
  const auto read = verified(a.file, *o, v, interrupted);
  if (!read) return fail(read.error(), c.json);
  if (c.json) put(to_json(*read));
  else print(*read);
  return read->good() ? 0 : 1;
}

int cmd_report(const Common& c, const DeliverArguments& a, const std::atomic<bool>& interrupted) {
  if (!a.to.empty())
    if (auto r = must_be_free(a.to); !r) return fail(r.error(), c.json);
  auto o = open(c);
  if (!o) return fail(o.error(), c.json);
  // What plays here is known by measuring alone.
  if (auto measured = measure_now(*o, 20, false, interrupted); !measured) return fail(measured.error(), c.json);
  const auto page = report_page(o->view, o->stores, a.file.empty() ? fs::path() : fs::absolute(a.file));
  if (!page) return fail(page.error(), c.json);
  if (a.to.ends_with(".pdf")) {
    if (auto r = print_page(page->html, a.to); !r) return fail(r.error(), c.json);
  } else if (!a.to.empty())
    if (auto r = write_out(a.to, a.to.ends_with(".csv") ? page->csv : a.to.ends_with(".json") ? page->json.dump(1) + "\n" : page->html); !r) return fail(r.error(), c.json);
  if (c.json) put(page->json);
  else if (a.to.empty()) return fail(usage("it is not said where to", "Give --out report.html, .pdf, .csv or .json.").error(), false);
  else fmt::print("{}\n", a.to);
  return 0;
}

}  // namespace

void add_deliver_commands(CLI::App& app, Common& c, int& code, std::atomic<bool>& interrupted) {
  static DeliverArguments a;
  CLI::App* s = app.add_subcommand("deliver", "Deliver the timeline itself, at full quality, with nothing temporary in it");
  s->footer("Example: gclk deliver cut.otio --to out/kiln.mov --form rdd36 --verify");
  add_common(s, c, true);
  std::string forms;
  for (const std::string& id : delivery_forms()) forms += (forms.empty() ? "" : ", ") + id;
  s->add_option("--to", a.to, "The file; of pictures a name with %0Nd in it")->required();
  s->add_option("--form", a.form, "One of " + forms);
  s->add_option("--range", c.range, "IN-OUT, frames or timecodes");
  s->add_flag("--verify", a.verify, "Read it back and hold it against the timeline");
  s->add_flag("--burn-timecode", a.burn, "Timecode in the picture, for review copies");
  s->add_option("--burn-text", a.text, "A name in the picture, for review copies");
  s->add_flag("--replace", a.replace, "An earlier delivery at the same place is replaced");
  s->add_flag("--silent", a.silent, "Without sound");
  s->add_flag("--dry-run", a.dry, "Only say what it would take");
  s->add_option("--reuse", a.reuse_db, "Reuse renditions that lose a little: a frame of each piece has to be so near its live picture, dB")->check(CLI::Range(20.0, 100.0));
  s->add_flag("--queue", a.queue, "Leave it to the queue; it is verified too");
  s->add_option("--priority", a.priority, "In the queue, against other timelines; higher first");
  s->callback([&] { code = cmd_deliver(c, a, interrupted); });
  s = app.add_subcommand("gate", "Say whether the timeline may be delivered");
  s->footer("Example: gclk gate cut.otio");
  add_common(s, c, true);
  s->add_flag("--quick", a.quick, "Without looking at pictures");
  s->callback([&] { code = cmd_gate(c, a, interrupted); });
  s = app.add_subcommand("accept", "Accept things at which the gate stops, by name and with a reason; both stand in the report");
  s->footer("Example: gclk accept cut.otio gap:0-24 --by 'Ines Tal' --why 'black before the first picture'");
  add_common(s, c, true);
  s->add_option("items", a.items, "As the gate calls them, or a kind: gap, uncovered, effect, unwatched")->required();
  s->add_option("--by", a.who, "Who accepts it");
  s->add_option("--why", a.why, "The reason");
  s->add_flag("--withdraw", a.withdraw, "Take an acceptance back");
  s->callback([&] { code = cmd_accept(c, a, interrupted); });
  s = app.add_subcommand("report", "One page of what plays, what was rendered, what is hidden and what was delivered");
  s->footer("Example: gclk report cut.otio --out report.html --delivery out/kiln.mov");
  add_common(s, c, true);
  s->add_option("--out", a.to, "The page: .html or .pdf; or .csv, .json");
  s->add_option("--delivery", a.file, "A delivered file, to be told of");
  s->callback([&] { code = cmd_report(c, a, interrupted); });
  s = app.add_subcommand("verify", "Read a delivery back and hold it against the timeline");
  s->footer("Example: gclk verify out/kiln.mov cut.otio");
  s->add_option("delivery", a.file, "The delivered file")->required();
  add_common(s, c, true);
  s->add_option("--range", c.range, "IN-OUT of the timeline, that it is of");
  s->add_flag("--burn-timecode", a.burn, "Something is burnt into its lower edge");
  s->callback([&] { code = cmd_verify(c, a, interrupted); });
}

}  // namespace gc
