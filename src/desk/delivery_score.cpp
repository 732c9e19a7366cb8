#include "desk/delivery_score.h"

#include <fmt/format.h>

#include "audit/random.h"
#include "base/clock.h"
#include "base/files.h"
#include "desk/delivering.h"

namespace gc {
namespace {

/// Made up: a score has nobody who could answer for what is accepted.
constexpr const char* kNobody = "the score";

TimelinePtr with_all_accepted(const TimelinePtr& timeline, const Stores& stores) {
  TimelinePtr t = timeline;
  const Gate gate = check_gate(*view_of(timeline, stores).delivered, stores.shelf.get());
  for (const GateItem& item : gate.items)
    if (const auto accepted = acceptance_of(item, kNobody, "only its time is looked at", now_utc())) t = with_acceptance(*t, *accepted);
  return t;
}

/// As `gclk deliver` does it, without the closer look.
MadeDelivery made_in(const std::string& form, const View& view, FrameRange range, const Stores& stores, const fs::path& folder, const std::atomic<bool>& stop) {
  MadeDelivery m;
  m.form = form, m.frames = range.length();
  const auto movie = form_named(form);
  DeliveryOptions d = delivery_options(view, stores, folder / form / (movie ? "whole" + std::string(form_extension(*movie)) : "%06d." + form), form);
  d.range = range;
  const auto failed = [&](const Error& e) {
    m.failed = e.text();
    return m;
  };
  if (const auto tried = try_form(view, stores, d, {}); !tried) return failed(tried.error());
  const ForecastOptions costs = stores.forecast_options();
  const auto quote = delivery_quote(view.delivered, stores.shelf.get(), *stores.notebook, *stores.media, d, costs);
  if (!quote) return failed(quote.error());
  if (quote->known) m.said_s = quote->seconds;
  m.said_bytes = static_cast<double>(quote->bytes);
  const auto done = deliver(view.delivered, stores.shelf.get(), *stores.notebook, *stores.media, d, costs, [&](const DeliveryProgress&) { return !stop.load(); });
  if (!done) return failed(done.error());
  m.taken_s = done->seconds, m.bytes = static_cast<double>(done->bytes);
  return m;
}

}  // namespace

Result<std::vector<MadeDelivery>> make_deliveries(const Stores& shared, const DeliveryScoreOptions& o, const fs::path& folder,
                                                  const std::function<bool(const std::string&)>& progress, const std::atomic<bool>& stop) {
  std::vector<MadeDelivery> all;
  const std::vector<std::string> forms = delivery_forms();
  std::size_t next = 0;
  int tried = 0;
  // What lacks pictures may not be delivered whatever is accepted: the seed after it is taken.
  for (std::uint64_t seed = o.seed; tried < o.timelines && seed < o.seed + 10 * static_cast<std::uint64_t>(o.timelines) && !stop; ++seed) {
    RandomOptions random;
    random.seed = seed, random.foreign = o.foreign, random.workers = shared.options.workers;
    const auto timeline = random_timeline(random, *shared.notebook, folder);
    if (!timeline) return std::unexpected(timeline.error());
    const auto scratch = ScratchFolder::make(cache_folder(), "score-delivery-");
    if (!scratch) return std::unexpected(scratch.error());
    const auto shelf = Shelf::open(scratch->path() / "shelf");
    if (!shelf) return std::unexpected(shelf.error());
    Stores stores = shared;
    stores.shelf = *shelf;
    const View view = view_of(with_all_accepted(*timeline, stores), stores);
    if (!check_gate(*view.delivered, stores.shelf.get()).may_deliver()) continue;
    ++tried;
    if (progress && !progress(fmt::format("Timeline {}: measuring", random.seed))) break;
    if (auto m = measure(view.played, *stores.notebook, stores.measure_options(o.measure_seconds, false), {}); !m) return std::unexpected(m.error());
    const Frames all_frames = view.delivered->duration(), some = std::min(o.frames, all_frames), from = (all_frames - some) / 2;
    for (int n = 0; n < o.forms; ++n) {
      const std::string& form = forms[next++ % forms.size()];
      if (stop || (progress && !progress(fmt::format("Timeline {}: {}", random.seed, form)))) return all;
      MadeDelivery m = made_in(form, view, {from, from + some}, stores, scratch->path() / std::to_string(n), stop);
      if (stop) return all;
      m.timeline = random.seed;
      all.push_back(std::move(m));
    }
  }
  return all;
}

Json to_json(const std::vector<MadeDelivery>& all) {
  Json list = Json::array();
  int seconds = 0, bytes = 0;
  for (const MadeDelivery& m : all) {
    seconds += m.seconds_within(), bytes += m.bytes_within();
    list.push_back({{"timeline", m.timeline}, {"form", m.form}, {"frames", m.frames}, {"said_seconds", m.said_s ? Json(*m.said_s) : Json()},
                    {"taken_seconds", m.taken_s}, {"said_bytes", m.said_bytes}, {"bytes", m.bytes}, {"failed", m.failed.empty() ? Json() : Json(m.failed)}});
  }
  return {{"deliveries", list}, {"made", all.size()}, {"seconds_within", seconds}, {"bytes_within", bytes},
          {"met", !all.empty() && 10 * seconds >= 9 * static_cast<int>(all.size())}};
}

}  // namespace gc
