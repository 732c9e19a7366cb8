#include "cli/print.h"

#include <fmt/format.h>

#include <cmath>

#include "base/timecode.h"
#include "cli/table.h"

namespace gc {
namespace {

std::string at(Frames f, const View& v) { return timecode_at(*v.timeline, f); }
std::string names(const std::vector<std::string>& ids, const View& v) {
  std::string text;
  for (const std::string& id : ids) text += (text.empty() ? "" : ", ") + v.name_of(id);
  return text.size() > 60 ? text.substr(0, 57) + "..." : text;
}

}  // namespace

void print(const MeasureReport& r) {
  fmt::print(
      "Measured {} frames in {:.1f} s: {} of {} kinds of frames known within 5 %, {} of them from the "
      "notebook.\n",
      r.frames, r.seconds, r.within, r.kinds, r.from_notebook);
}

void print(const Forecast& f, const View& v) {
  Table t({"In", "Out", "Verdict", "Probability", "Drops", "Range", "Rate", "Limited by", "Dearest stage",
           "ms", "Segments"});
  for (const Span& s : f.spans)
    t.row({at(s.in, v), at(s.out, v), is_of_speed(s.verdict) ? verdict_name(s.verdict) : verdict_text(s.verdict, 0),
           fmt::format("{:.0f} %", s.drop_probability * 100), fmt::format("{:.1f}", s.expected_drops),
           fmt::format("{:.0f}–{:.0f}", s.drops_low, s.drops_high), fmt::format("{:.2f}", s.sustained_rate),
           cause_name(s.cause), s.blame.label, fmt::format("{:.1f}", s.blame.ms), names(s.segments, v)});
  fmt::print("{}  {} frames, {:.1f} dropped expected ({:.0f} to {:.0f}); forecast in {:.3f} s.\n", t.text(),
             f.range.length(), f.expected_drops, f.drops_low, f.drops_high, f.seconds);
  if (const std::string told = f.surcharge(); !told.empty()) fmt::print("  {}\n", told);
}

void print(const Plan& p, const View& v) {
  fmt::print("{}\n", p.sentence);
  if (p.remedies.empty()) return;
  Table t({"Remedy", "Of", "In", "Out", "Time", "Size", "Saves", "Reason"});
  for (const Remedy& r : p.remedies)
    t.row({r.id, r.segment_name, at(r.range.in, v), at(r.range.out, v), duration_text(r.render_seconds), bytes_text(r.bytes),
           fmt::format("{:.1f}", r.drops_saved), r.reason});
  fmt::print("{}  Dropped frames expected: {:.1f} before, {:.1f} after; plays without a drop with {:.0f} %.\n", t.text(), p.before.expected_drops,
             p.after.expected_drops, p.holds_probability * 100);
  for (const Restless& r : p.must_watch)
    fmt::print("  To be judged in real time: {} ({}), most of all at {}.\n", v.name_of(r.segment), r.effect, at(r.frame, v));
  // Weighed against drops, less work may be done for more of them.
  if (p.fits && p.drop_seconds == kNoLimit) fmt::print("  No plan takes less than {}; this one takes at most {:.1f} % more.\n", duration_text(p.bound_seconds), p.gap * 100);
  for (const std::string& way : p.ways_out) fmt::print("  It does not fit. What would do: {}\n", way);
  for (const WordCost& w : p.words) fmt::print("  Without '{}': {:+.1f} s, {:+.1f} dropped frames.\n", w.word, -w.seconds, -w.drops);
}

void print(const PrerenderReport& r) {
  fmt::print("{} {} frames in {} pieces, {}, in {}; {} frames were sealed already.\n",
             r.cancelled ? "Stopped after" : "Sealed", r.frames, r.pieces, bytes_text(r.bytes),
             duration_text(r.seconds), r.already_sealed);
}

void print(const Playout& p, const View& v) {
  Table t({"Segment", "Frames", "Dropped", "Rate"});
  for (const SegmentPlay& s : p.segments)
    if (s.dropped > 0)
      t.row({v.name_of(s.id), std::to_string(s.frames), std::to_string(s.dropped),
             fmt::format("{:.2f}", s.sustained_rate)});
  std::map<std::string, int> causes;
  for (const FrameLog& l : p.log)
    if (l.dropped) ++causes[cause_name(l.cause)];
  if (p.dropped > 0) fmt::print("{}", t.text());
  std::string why;
  for (const auto& [cause, n] : causes) why += fmt::format("{}{} by {}", why.empty() ? "" : ", ", n, cause);
  const Frames offline = p.offline();
  fmt::print("  Played {} frames in {:.1f} s, dropped {}{}{}; {:.2f} of {:.2f} frames a second.\n", p.frames,
             p.seconds, p.dropped, why.empty() ? "" : " (" + why + ")",
             offline == 0 ? "" : fmt::format(", {} had no picture", offline), p.rate_reached, p.rate.fps());
  if (offline > 0) print(missing_pictures(*v.played), p.range, v);
}

void print(const std::vector<MissingPicture>& all, FrameRange range, const View& v) {
  for (const MissingPicture& m : all)
    if (m.at.in < range.out && m.at.out > range.in)
      fmt::print("  No picture from {} to {}: '{}': {}\n", at(m.at.in, v), at(m.at.out, v), m.name, m.why);
}

void print(const Audit& a) {
  fmt::print("  {}\n", a.sentence);
  for (const std::string& d : a.disagreements) fmt::print("  {}\n", d);
}

void print(const Gate& g, const View& v) {
  fmt::print("{}\n", g.sentence());
  for (const GateItem& i : g.items) {
    fmt::print("  {} {}  {} {}\n", i.stops ? "stops" : i.accepted ? "taken" : "note ", at(i.at, v), i.what,
               i.accepted ? fmt::format("Accepted by {}: {}", i.accepted->who, i.accepted->why) : i.remedy);
    if (i.stops && !i.item.empty()) fmt::print("                     gclk accept FILE {} --by NAME --why REASON\n", i.item);
  }
}

void print(const Seat& s) {
  fmt::print(
      "{}\n  {} processors for this process, {} cores; {:.1f} GB memory, {:.1f} GB free; load {:.2f}; "
      "accelerator: {}\n",
      s.processor, s.processors, s.cores, static_cast<double>(s.memory_bytes) / 1e9,
      static_cast<double>(s.memory_free_bytes) / 1e9, s.load_1min,
      s.accelerator.empty() ? "none" : s.accelerator);
  Table t({"Volume", "File system", "Size", "Free", "Writable"});
  for (const Volume& v : s.volumes)
    t.row({v.mount, v.file_system, bytes_text(v.bytes), bytes_text(v.free_bytes), v.writable ? "yes" : "no"});
  fmt::print("{}", t.text());
}

void print(const Reliability& r, const char* what) {
  Table t({"Said", "Segments", what, "Share", "0 to 100 %"});
  for (const Reliability::Bin& b : r.bins) {
    if (b.segments == 0) continue;
    const double share = static_cast<double>(b.dropped) / b.segments;
    t.row({fmt::format("{:.0f} to {:.0f} %", b.from * 100, b.to * 100), std::to_string(b.segments), std::to_string(b.dropped), fmt::format("{:.0f} %", share * 100),
           std::string(static_cast<std::size_t>(std::lround(share * 20)), '#')});
  }
  fmt::print("{}Brier score by segment {:.3f}.\n", t.text(), r.brier);
}

void print(const std::vector<Goal>& goals) {
  Table t({"Figure", "Measured", "Goal", "Met"});
  for (const Goal& g : goals)
    t.row({g.name, std::isnan(g.value) ? "not measured" : fmt::format("{:.3g} {}", g.value, g.unit),
           g.least > 0 && g.most < 1e17 ? fmt::format("{:.3g} to {:.3g}", g.least, g.most)
           : g.least > 0                ? fmt::format("{:.3g} or more", g.least)
           : g.most > 1e17              ? "none"
                                        : fmt::format("{:.3g} or less", g.most),
           g.met() ? "yes" : "no"});
  fmt::print("{}", t.text());
}

}  // namespace gc
