#include "desk/report_page.h"

#include <fmt/format.h>

#include <cmath>

#include "base/clock.h"
#include "desk/answered.h"
#include "desk/planning.h"
#include "desk/remedies.h"
#include "desk/report.h"
#include "desk/seats.h"
#include "desk/shelf_report.h"
#include "media/picture_file.h"
#include "release/delivery.h"

namespace gc {
namespace {

std::string escaped(const std::string& s) {
  std::string out;
  for (const char c : s) {
    if (c == '<') out += "&lt;";
    else if (c == '>') out += "&gt;";
    else if (c == '&') out += "&amp;";
    else if (c == '"') out += "&quot;";
    else out += c;
  }
  return out;
}

std::string quoted_csv(const std::string& s) {
  std::string out = "\"";
  for (const char c : s) out += c == '"' ? "\"\"" : std::string(1, c);
  return out + "\"";
}

/// RFC 4648.
std::string base64(const std::string& bytes) {
  static constexpr char kDigits[] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/";
  std::string out;
  for (std::size_t i = 0; i < bytes.size(); i += 3) {
    std::uint32_t v = 0;
    for (std::size_t k = 0; k < 3; ++k) v = v << 8 | (i + k < bytes.size() ? static_cast<unsigned char>(bytes[i + k]) : 0u);
    for (std::size_t k = 0; k < 4; ++k) out += i + k > bytes.size() ? '=' : kDigits[v >> (18 - 6 * k) & 63];
  }
  return out;
}

/// Load over time as the window draws it: grey up to the budget, copper above.
std::string skyline(const Forecast& f) {
  constexpr double kWidth = 960, kHeight = 150;
  double top = 1.4;
  for (const IntervalCost& c : f.intervals) top = std::max(top, c.load_high * 1.05);
  const double frames = static_cast<double>(std::max<Frames>(1, f.range.length()));
  std::string svg = fmt::format("<svg xmlns='http://www.w3.org/2000/svg' viewBox='0 0 {0} {1}' width='{0}' height='{1}'><rect width='{0}' height='{1}' fill='#181818'/>", kWidth, kHeight);
  const double line = kHeight * (1 - 1 / top);
  for (const IntervalCost& c : f.intervals) {
    const double x = static_cast<double>(c.in - f.range.in) / frames * kWidth, w = std::max(0.4, static_cast<double>(c.out - c.in) / frames * kWidth - 0.4);
    const double y = kHeight * (1 - c.load / top);
    svg += fmt::format("<rect x='{:.1f}' y='{:.1f}' width='{:.1f}' height='{:.1f}' fill='{}'/>", x, std::max(y, line), w, kHeight - std::max(y, line), c.is(FrameState::sealed) ? "#a0a0a0" : "#6c6c6c");
    if (y < line) svg += fmt::format("<rect x='{:.1f}' y='{:.1f}' width='{:.1f}' height='{:.1f}' fill='#d68954'/>", x, y, w, line - y);
  }
  svg += fmt::format("<line x1='0' x2='{}' y1='{:.1f}' y2='{:.1f}' stroke='#ececec'/></svg>", kWidth, line, line);
  return fmt::format("<p><img class='wide' width='640' alt='Load over time' src='data:image/svg+xml;base64,{}'></p>", base64(svg));
}

std::string picture(const Program& program, Frames frame, const SealLookup* seals) {
  const auto scratch = ScratchFolder::make(cache_folder(), "report-");
  if (!scratch) return {};
  Decoders decoders;
  StageLog log;
  if (!write_picture(render_frame(program, frame, seals, decoders, log), scratch->path() / "f.png")) return {};
  const auto bytes = read_file(scratch->path() / "f.png");
  return bytes ? base64(*bytes) : std::string();
}

}  // namespace

Result<ReportPage> report_page(const View& view, const Stores& stores, const fs::path& delivery) {
  ReportPage page;
  const Timeline& t = *view.timeline;
  const Situation s = situation_of(view, stores);
  const Forecast& f = *s.now;
  const Gate gate = check_gate(*view.delivered, stores.shelf.get());
  const ShelfReport shelf = shelf_report(*stores.shelf, &view);
  const SeatProfile seat = known_profile(stores);
  const auto tc = [&](Frames n) { return timecode_at(t, n); };
  Json spans = Json::array(), segments = Json::array(), slips = Json::array(), rendered = Json::array(), items = Json::array();

  std::string& h = page.html;
  h = fmt::format("<!doctype html><html lang='en'><meta charset='utf-8'><title>{0}</title><style>body{{background:#1e1e1e;color:#d6d6d6;font:15px/1.45 Inter,sans-serif;max-width:980px;"
                  "margin:2em auto;padding:0 1em}}h1{{font-size:24px}}h2{{font-size:18px;margin-top:1.6em}}table{{border-collapse:collapse;width:100%}}td,th{{text-align:left;padding:4px 10px 4px 0;"
                  "border-bottom:1px solid #484848;vertical-align:top}}img{{width:320px;margin:4px 8px 4px 0}}img.wide{{width:100%}}small{{color:#a4a4a4}}@media print{{body{{background:#fff;color:#000}}}}</style><h1>{0}</h1>",
                  escaped(t.name));
  h += fmt::format("<p>{} × {} at {:.3f} frames a second, {} frames. Made {} UTC on {}.</p>", t.width, t.height, t.rate.fps(), view.played->duration(), now_utc().substr(0, 16), escaped(seat.name));
  h += "<h2>What plays on this seat</h2>" + skyline(f);
  const std::string said = f.count(Verdict::spills) + f.count(Verdict::wavers) + f.count(Verdict::unseen) + f.count(Verdict::missing) == 0
                               ? (f.fully_measured ? "Everything holds." : "Nothing is known to drop, but not everything has been measured on this seat.")
                               : fmt::format("About {:.0f} of {} frames will be dropped ({:.0f} to {:.0f}).", f.expected_drops, f.range.length(), f.drops_low, f.drops_high);
  h += fmt::format("<p>{} {}</p><table><tr><th>Where</th><th>Verdict</th><th>Dropped</th><th>Held back by</th></tr>", escaped(said), escaped(track_record(*stores.notebook)));
  const Span* worst = nullptr;
  for (const Span& span : f.spans) {
    spans.push_back({{"in", span.in}, {"out", span.out}, {"verdict", verdict_name(span.verdict)}, {"probability", span.drop_probability}, {"drops", span.expected_drops}});
    if (span.verdict == Verdict::holds) continue;
    if (!worst || span.expected_drops > worst->expected_drops) worst = &span;
    h += fmt::format("<tr><td>{} to {}</td><td>{}</td><td>{:.0f} ({:.0f} to {:.0f})</td><td>{}, {:.0f} ms</td></tr>", tc(span.in), tc(span.out), verdict_text(span.verdict, span.drop_probability),
                     span.expected_drops, span.drops_low, span.drops_high, escaped(span.blame.label), span.blame.ms);
  }
  h += "</table>";
  if (worst)
    if (const std::string png = picture(*view.delivered, (worst->in + worst->out) / 2, stores.shelf.get()); !png.empty())
      h += fmt::format("<p><img width='320' alt='The worst span' src='data:image/png;base64,{}'><br><small>The worst span, {}.</small></p>", png, tc((worst->in + worst->out) / 2));

  page.csv = "segment,name,in,out,verdict,drop_probability,expected_drops,ms_a_frame,state\r\n";
  for (const CompiledSegmentPtr& c : view.played->segments()) {
    const Span over = f.over({c->in, c->out});
    const double ms = ms_of(stages_over(f, {c->in, c->out}), c->segment->id);
    const std::string state = answered_from(view, f, *c);
    segments.push_back({{"id", c->segment->id}, {"name", c->segment->name}, {"in", c->in}, {"out", c->out}, {"verdict", verdict_name(over.verdict)}, {"drops", over.expected_drops}, {"ms_a_frame", ms}, {"state", state}});
    page.csv += fmt::format("{},{},{},{},{},{:.4f},{:.2f},{:.2f},{}\r\n", quoted_csv(c->segment->id), quoted_csv(c->segment->name), tc(c->in), tc(c->out), verdict_name(over.verdict), over.drop_probability,
                            over.expected_drops, ms, state);
  }

  h += "<h2>What was rendered</h2>";
  h += shelf.groups.empty() ? "<p>Nothing.</p>" : "<table><tr><th>Of</th><th>What</th><th>Form</th><th>Size</th><th>Answers</th></tr>";
  for (const ShelfGroup& g : shelf.groups) {
    rendered.push_back({{"timeline", g.timeline}, {"of", g.of}, {"what", g.what}, {"form", g.form}, {"frames", g.frames}, {"bytes", g.bytes}, {"matches", g.matches}});
    h += fmt::format("<tr><td>{}: {}</td><td>{}</td><td>{}</td><td>{}</td><td>{}</td></tr>", escaped(g.timeline), escaped(g.of), escaped(g.what), escaped(g.form), bytes_text(g.bytes), g.matches ? "yes" : "no longer");
  }
  if (!shelf.groups.empty()) h += "</table>";

  h += "<h2>What is temporary</h2>";
  bool any = false;
  for (const Slip& slip : t.slips) {
    slips.push_back(to_json(slip, t));
    any = true;
    h += fmt::format("<p>{}: {}{}{}</p>", slip.open() ? "Open" : "Lifted", escaped(slip_text(t, slip)), slip.who.empty() ? "" : ", by " + escaped(slip.who), slip.why.empty() ? "" : ": " + escaped(slip.why));
  }
  if (!any) h += "<p>Nothing was bypassed, scaled or played from a proxy.</p>";
  h += fmt::format("<h2>Gate</h2><p>{}</p>", escaped(gate.sentence()));
  for (const GateItem& i : gate.items) {
    items.push_back({{"at", i.at}, {"what", i.what}, {"stops", i.stops}, {"accepted_by", i.accepted ? Json(i.accepted->who) : Json()}, {"why", i.accepted ? Json(i.accepted->why) : Json()}});
    h += fmt::format("<p>{} {}{}{}</p>", tc(i.at), escaped(i.what), i.stops ? " <b>Stops the delivery.</b>" : "",
                     i.accepted ? fmt::format(" Accepted by {}, {}: {}", escaped(i.accepted->who), escaped(i.accepted->at.substr(0, 10)), escaped(i.accepted->why)) : "");
  }
  Json delivered;
  if (!delivery.empty()) {
    const auto note = read_file(delivery_note(delivery), 1 << 24);
    if (!note) return bad_input("no delivery of this program's lies there", delivery.string(), "Name the file that `gclk deliver` wrote.");
    auto parsed = parse_json(*note, delivery_note(delivery).string());
    if (!parsed) return std::unexpected(parsed.error());
    delivered = *parsed;
    std::error_code e;
    h += fmt::format("<h2>Delivery</h2><p>{}<br>{}, {}, made {}.{}</p>", escaped(delivery.string()), escaped(text_or(delivered, "form", "")), bytes_text(fs::file_size(delivery, e)), escaped(text_or(delivered, "made", "")),
                     fs::exists(delivery.string() + ".framehash", e) ? " Hashes of every frame stand beside it." : " It was not read back.");
    for (const Json& remark : delivered.value("remarks", Json::array()))
      if (remark.is_string()) h += fmt::format("<p>{}</p>", escaped(remark.get<std::string>()));
  }
  h += fmt::format("<h2>The seat</h2><p>{}, {} processors, {}.</p></html>\n", escaped(seat.processor), seat.processors, bytes_text(seat.memory_bytes));
  page.json = {{"timeline", t.name}, {"sentence", said}, {"expected_drops", f.expected_drops}, {"spans", spans}, {"segments", segments}, {"rendered", rendered}, {"slips", slips},
               {"gate", {{"sentence", gate.sentence()}, {"items", items}}}, {"delivery", delivered}, {"seat", seat.name}};
  return page;
}

}  // namespace gc
