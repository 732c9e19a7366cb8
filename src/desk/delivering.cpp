#include "desk/delivering.h"

#include <fmt/format.h>

#include "base/clock.h"
#include "desk/inspection.h"
#include "desk/queueing.h"
#include "measure/encoding.h"
#include "queue/hush.h"

namespace gc {
namespace {

Json to_json(const DeliveryOptions& o) {
  return {{"to", o.to.string()}, {"form", o.form}, {"in", o.range.in}, {"out", o.range.out}, {"burn_timecode", o.burn_timecode},
          {"burn_text", o.burn_text}, {"replace", o.replace}, {"sound", o.sound}, {"reuse_db", o.reuse_db}};
}

Result<DeliveryOptions> options_from(const std::string& text, const View& view, const Stores& stores) {
  const auto j = parse_json(text, "a delivery");
  if (!j) return std::unexpected(j.error());
  DeliveryOptions o = delivery_options(view, stores, text_or(*j, "to", ""), text_or(*j, "form", "rdd36"));
  o.range = {static_cast<Frames>(number_or(*j, "in", 0)), static_cast<Frames>(number_or(*j, "out", static_cast<double>(o.range.out)))};
  o.burn_timecode = j->value("burn_timecode", false), o.burn_text = text_or(*j, "burn_text", "");
  o.replace = j->value("replace", false), o.sound = j->value("sound", true), o.reuse_db = number_or(*j, "reuse_db", 0);
  return o;
}

/// Whether this very order was delivered already and ended while it was read back.
bool lies_there(const DeliveryOptions& o) {
  const auto text = o.order.empty() ? std::unexpected(Error{}) : read_file(delivery_note(o.to), std::size_t{1} << 20);
  const auto note = text ? parse_json(*text, "a delivery") : std::unexpected(Error{});
  return note && text_or(*note, "order", "") == o.order;
}

}  // namespace

DeliveryOptions delivery_options(const View& view, const Stores& stores, const fs::path& to, const std::string& form) {
  DeliveryOptions o;
  o.to = to, o.form = form, o.range = whole(view), o.workers = stores.options.workers;
  o.device = stores.options.settings.rendering, o.notebook = stores.notebook;
  return o;
}

Result<bool> try_form(const View& view, const Stores& stores, const DeliveryOptions& o, const std::stop_token& stop) {
  constexpr double kMostSeconds = 4;
  const auto quote = delivery_quote(view.delivered, stores.shelf.get(), *stores.notebook, *stores.media, o, stores.forecast_options());
  // What is wrong with the delivery itself is told by whoever asks what it takes.
  if (!quote || DeliverySources::frames(quote->sources.copied) == o.range.length()) return false;
  const Hush hush;
  const auto tried = quote->sequence ? measure_pictures(view.delivered, *stores.notebook, o.form, o.range, stores.options.workers, cache_folder(), kMostSeconds, stop)
                                     : measure_encoding(view.delivered, *stores.notebook, quote->form, o.range, stores.options.workers, cache_folder(), kMostSeconds, stop);
  if (!tried) return std::unexpected(tried.error());
  if (auto saved = stores.notebook->save(); !saved) return std::unexpected(saved.error());
  return *tried > 0;
}

fs::path readable(const DeliveryOptions& o, Rate rate) {
  if (o.to.filename().string().find('%') == std::string::npos) return o.to;
  return sequence_path(o.to.string(), 0, o.range.length() - 1, rate);
}

Result<Delivered> deliver_whole(const View& view, const Stores& stores, const DeliveryOptions& o, const std::function<bool(const DeliveryProgress&)>& progress) {
  const auto go_on = [&](const char* what, Frames done) { return !progress || progress({done, o.range.length(), what, 0}); };
  Delivered d;
  const Inspection found = inspect(view, stores, [&] { return go_on("Looking closer", 0); });
  if (!go_on("Looking closer", 0)) return environment("stopped", o.to.string(), "Start it again.");
  d.gate = check_gate(*view.delivered, stores.shelf.get(), &found);
  if (!d.gate.may_deliver()) return d;
  DeliveryReport earlier;
  earlier.frames = o.range.length(), earlier.file = o.to;
  auto report = lies_there(o) ? Result<DeliveryReport>(std::move(earlier))
                              : deliver(view.delivered, stores.shelf.get(), *stores.notebook, *stores.media, o, stores.forecast_options(), progress);
  if (!report) return std::unexpected(report.error());
  d.report = std::move(*report);
  VerifyOptions v;
  v.range = o.range, v.burnt_in = o.burn_timecode || !o.burn_text.empty();
  auto read = verify_delivery(readable(o, view.timeline->rate), view.delivered, *stores.media, v, [&](Frames n) { return go_on("Reading back", n); });
  if (read) d.read = std::move(*read);
  else d.unread = read.error().text();
  return d;
}

Result<std::int64_t> enqueue_delivery(Journal& journal, const View& view, const Stores& stores, const fs::path& file, const DeliveryOptions& o, int priority) {
  const Gate gate = check_gate(*view.delivered, stores.shelf.get());
  if (!gate.may_deliver()) return bad_input(gate.sentence(), view.timeline->name, "`gclk gate` lists what has to be put right.");
  const auto quote = delivery_quote(view.delivered, stores.shelf.get(), *stores.notebook, *stores.media, o, stores.forecast_options());
  if (!quote) return std::unexpected(quote.error());
  const auto snapshot = snapshot_of(view.timeline);
  if (!snapshot) return std::unexpected(snapshot.error());
  Job j;
  j.timeline = view.timeline->name, j.file = fs::absolute(file).string(), j.snapshot = snapshot->string(), j.priority = priority;
  j.remedy = "delivery", j.what = o.to.filename().string(), j.delivery = to_json(o).dump(), j.bytes = quote->bytes;
  j.shelf = stores.shelf->folder().string(), j.notebook = stores.options.notebook.string();
  j.price = {o.range.length(), quote->modelled_seconds, quote->seconds};
  j.making.subject.form = quote->form;
  if (quote->shared) j.making.subject.frames = quote->sources.live;
  return journal.add(std::move(j));
}

Result<void> do_delivery(Journal& journal, const Job& job, const std::function<bool()>& go_on) {
  const Stopwatch watch;
  Stopwatch told;
  const auto made = [&]() -> Result<Delivered> {
    const auto opened = open_job(job);
    if (!opened) return std::unexpected(opened.error());
    auto options = options_from(job.delivery, opened->view, opened->stores);
    if (!options) return std::unexpected(options.error());
    options->order = fmt::format("{} {}", job.id, job.added);
    return deliver_whole(opened->view, opened->stores, *options, [&](const DeliveryProgress& p) {
      if (told.ms() > 200 && p.what == "Rendering") (void)journal.progress(job.id, p.done), told.restart();
      return go_on();
    });
  }();
  if (!go_on()) return {};  // it waits again: whoever started this process says so
  const auto failed = [&](const Error& why) -> Result<void> {
    if (auto r = journal.end(job.id, JobState::failed, why.text(), 0); !r) return r;
    return std::unexpected(why);
  };
  if (!made) return failed(made.error());
  if (!made->gate.may_deliver()) return failed(Error{Fault::bad_input, made->gate.sentence(), job.timeline, "`gclk gate` lists what has to be put right."});
  if (!made->read) return failed(Error{Fault::environment, "the delivery was not read back: " + made->unread, made->report->file.string(), "`gclk verify` does it again."});
  if (!made->read->good())
    return failed(Error{Fault::environment, "the delivery is not right: " + made->read->findings.front().what, made->report->file.string(), "Deliver it again under another name."});
  if (auto r = journal.progress(job.id, made->report->frames); !r) return r;
  return journal.end(job.id, JobState::done, "", watch.ms() / 1000);
}

}  // namespace gc
