// What mezzanines and proxies have in common: copies of a source that are light to decode.
#include <fmt/format.h>

#include "remedy/kinds.h"
#include "render/copies.h"

namespace gc {
namespace {

void gather(const Program& program, FrameRange range, std::set<std::string>& seen, std::vector<CompiledSegmentPtr>& all) {
  for (const CompiledSegmentPtr& c : program.segments()) {
    if (c->in >= range.out || c->out <= range.in) continue;
    if (c->inner) gather(*c->inner, {0, c->inner->duration()}, seen, all);
    if (c->content == Content::source && seen.insert(c->segment->ref).second) all.push_back(c);
  }
}

void widen(const Program& program, const std::string& source, FrameRange& used) {
  const Rate rate = program.timeline()->rate;
  for (const CompiledSegmentPtr& c : program.segments()) {
    if (c->inner) widen(*c->inner, source, used);
    if (c->content != Content::source || c->segment->ref != source) continue;
    const Frames room = c->window.length() + 2;
    for (const Frames f : {c->live_in - room, c->live_out - 1 + room}) {
      const Frames n = std::clamp<Frames>(c->frame_at(f, rate), 0, std::max<Frames>(0, c->media.frames - 1));
      used.in = std::min(used.in, n), used.out = std::max(used.out, n + 1);
    }
  }
}

}  // namespace

std::vector<CompiledSegmentPtr> sources_in(const Program& program, FrameRange range) {
  std::set<std::string> seen;
  std::vector<CompiledSegmentPtr> all;
  gather(program, range, seen, all);
  return all;
}

FrameRange frames_used(const Program& program, const std::string& source) {
  FrameRange used{std::numeric_limits<Frames>::max(), 0};
  widen(program, source, used);
  return used.out > used.in ? used : FrameRange{};
}

Proposal copy_of(const Situation& s, const CompiledSegment& c, int size, const std::string& id) {
  Proposal p;
  p.id = id;
  p.subject.source = c.segment->ref, p.subject.size = size;
  const FrameRange used = frames_used(*s.rendered, c.segment->ref);
  p.subject.frames = {used};
  const CopyForm as = copy_form(c.media, size, s.form);
  p.subject.form = as.form, p.refused = as.refused;
  p.at = {s.rendered->duration(), 0};
  for (const CompiledSegmentPtr& top : s.rendered->segments()) {
    std::set<std::string> read;
    std::vector<CompiledSegmentPtr> inside;
    if (top->content == Content::source) read.insert(top->segment->ref);
    if (top->inner) gather(*top->inner, {0, top->inner->duration()}, read, inside);
    if (!read.contains(c.segment->ref)) continue;
    p.segments.push_back(top->segment->id);
    p.at.in = std::min(p.at.in, top->in), p.at.out = std::max(p.at.out, top->out);
  }
  // Each thread reads, decodes, scales and encodes by itself. What was not tried: scaling is about as fast as converting.
  const Hash128 content = copy_content(c);
  const auto tried = s.notebook->mean_encode(encode_key(as.form, as.width, as.height, content));
  const double scaled_ms =
      tried ? static_cast<double>(tried->cpu_ms)
            : mean_stage_ms(*s.notebook, c.convert) + encode_cost(*s.notebook, *s.timeline, as.form, as.width, as.height, c.content_identity).cpu_ms;
  // Decoders that play have threads of their own, which costs more than one thread's reading straight on.
  const auto reading = s.notebook->mean_encode(copy_reading_key(c));
  const double read_ms =
      reading ? static_cast<double>(reading->wall_ms)
              : (mean_stage_ms(*s.notebook, c.read) + mean_stage_ms(*s.notebook, c.decode)) / c.pictures + (c.joins_fields ? mean_stage_ms(*s.notebook, c.fields) : 0);
  const double each_ms = s.now->base * (read_ms + scaled_ms);
  const auto each = frame_bytes(*s.notebook, as.form, as.width, as.height, content);
  const std::vector<FrameRange> todo = not_copied(s.shelf, c, used, size);
  Frames missing = 0;
  double longest_ms = 0;
  for (const CopyWay& way : copy_ways(c.media, todo, s.forecast.workers)) {
    missing += way.frames;
    const auto frames = static_cast<double>(way.frames), pieces = static_cast<double>(way.pieces.size());
    longest_ms = std::max(longest_ms, frames * each_ms + s.now->base * static_cast<double>(way.before) * read_ms +
                                          pieces * piece_ms(*s.notebook, as.form, as.width, as.height, static_cast<double>(each) * frames / std::max(1.0, pieces), s.now->base));
  }
  if (missing == 0 && p.refused.empty()) p.refused = "it is on the shelf already.";
  p.quote = quote_of(s, longest_ms / 1000, each * static_cast<std::uint64_t>(missing),
                     static_cast<double>(each) * c.source_rate.fps() / 1e6);
  return p;
}

}  // namespace gc
