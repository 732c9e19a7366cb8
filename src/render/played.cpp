#include "render/played.h"

#include <algorithm>

namespace gc {

ProgramPtr played_program(const TimelinePtr& timeline, MediaCatalog& media, const RenderOptions& usual) {
  RenderOptions options = usual;
  std::vector<std::pair<FrameRange, int>> stretches;
  for (const Slip& s : timeline->slips) {
    if (!s.open()) continue;
    if (s.kind == slip_kind::draft) options.draft = true;
    if (s.kind == slip_kind::half) options.half = true;
    if (s.kind == slip_kind::region && s.region[2] > 0 && s.region[3] > 0)
      options.region = Region{s.region[0], s.region[1], s.region[2], s.region[3]};
    if (s.kind != slip_kind::scale) continue;
    if (s.out <= s.in) options.scale = std::max(options.scale, s.size);
    else stretches.push_back({{s.in, s.out}, s.size});
  }
  const TimelinePtr played = as_played(timeline);
  const ProgramPtr whole = Program::compile(played, media, options);
  if (stretches.empty()) return whole;
  std::map<int, ProgramPtr> at_scale;
  std::vector<std::pair<FrameRange, ProgramPtr>> others;
  for (auto& [range, size] : stretches) {
    if (size <= options.scale) continue;
    // What begins or ends within an interval keeps to its cuts.
    FrameRange cut{whole->duration(), 0};
    for (const CompiledInterval& i : whole->intervals())
      if (i.in < range.out && i.out > range.in) cut.in = std::min(cut.in, i.in), cut.out = std::max(cut.out, i.out);
    if (cut.length() <= 0) continue;
    ProgramPtr& scaled = at_scale[size];
    if (!scaled) {
      RenderOptions lower = options;
      lower.scale = size;
      scaled = Program::compile(played, media, lower);
    }
    others.emplace_back(cut, scaled);
  }
  return Program::with_stretches(whole, std::move(others));
}

}  // namespace gc
