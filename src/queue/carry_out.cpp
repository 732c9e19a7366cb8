#include "queue/carry_out.h"

#include <fmt/format.h>

#include "remedy/kinds.h"

namespace gc {
namespace {

void add(PrerenderReport& all, const PrerenderReport& one) {
  all.frames += one.frames, all.already_sealed += one.already_sealed, all.pieces += one.pieces;
  all.bytes += one.bytes, all.seconds += one.seconds, all.cancelled = all.cancelled || one.cancelled;
}

}  // namespace

std::vector<std::pair<std::string, std::size_t>> stacks_in(const Situation& s, const Subject& of) {
  if (of.type.empty()) return {{of.segment, of.after}};
  std::vector<std::pair<std::string, std::size_t>> all;
  for (const CompiledSegmentPtr& c : s.rendered->segments()) {
    const std::size_t after = effects_up_to(*c, of.type);
    if (after > 0 && after < c->effects.size()) all.emplace_back(c->segment->id, after);
  }
  return all;
}

namespace {

Result<PrerenderReport> stacks(const Situation& s, const Subject& of, Shelf& shelf, const PrerenderOptions& options,
                               const std::function<bool(const PrerenderProgress&)>& progress) {
  PrerenderReport all;
  for (const auto& [segment, after] : stacks_in(s, of)) {
    if (all.cancelled) break;
    auto one = cache_stack(s.rendered, shelf, segment, after, options, progress);
    if (!one) return one;
    add(all, *one);
  }
  return all;
}

}  // namespace

Result<PrerenderReport> carry_out(const Situation& s, const Making& making, Shelf& shelf, const PrerenderOptions& options,
                                  const std::function<bool(const PrerenderProgress&)>& progress) {
  const Subject& of = making.subject;
  switch (making.what) {
    case Making::What::frames: return prerender(s.rendered, shelf, of.frames, options, progress);
    case Making::What::stack: return stacks(s, of, shelf, options, progress);
    case Making::What::composition: return bake(s.rendered, shelf, of.composition, {}, options, progress);
    case Making::What::source:
      for (const CompiledSegmentPtr& c : sources_in(*s.rendered, {0, s.rendered->duration()}))
        if (c->segment->ref == of.source)
          return copy_source(*c, shelf, of.frames.empty() ? FrameRange{} : of.frames.front(), of.size, options, progress);
      return bad_input(fmt::format("no segment reads the source '{}'", of.source), s.timeline->name, "Name one that 'inspect' lists.");
  }
  return PrerenderReport{};
}

}  // namespace gc
