// Playing every frame once, slower, and holding them in memory: after that the range plays from there.
#include <fmt/format.h>
#include <unistd.h>

#include "remedy/kinds.h"

namespace gc {
namespace {

class Memory : public RemedyKind {
 public:
  const char* name() const override { return "memory"; }
  const char* label() const override { return "Held in memory"; }

  std::vector<Proposal> propose(const Situation& s, FrameRange range) const override {
    std::vector<Proposal> all;
    const double each = static_cast<double>(s.played->width()) * s.played->height() * 16;
    const double free = static_cast<double>(::sysconf(_SC_AVPHYS_PAGES)) * static_cast<double>(::sysconf(_SC_PAGESIZE));
    const double seconds_that_fit = std::max(0.0, free - 4e9) / each / s.now->rate.fps();
    for (const Span& span : s.now->spans) {
      if (span.verdict == Verdict::holds || span.in >= range.out || span.out <= range.in) continue;
      Proposal p;
      p.at = {span.in, span.out}, p.subject.frames = {p.at};
      p.id = fmt::format("memory:{}-{}", span.in, span.out);
      p.sentence = fmt::format("{} frames played once slower and held; {:.0f} s fit.", p.at.length(), seconds_that_fit);
      double ms = 0;
      for (const IntervalCost& c : s.now->intervals) {
        const double n = static_cast<double>(std::min(p.at.out, c.out) - std::max(p.at.in, c.in));
        if (n > 0) ms += n * std::max(1.0, c.load) * s.now->rate.frame_ms();
      }
      p.quote.modelled_seconds = p.quote.seconds = ms / 1000;
      if (static_cast<double>(p.at.length()) / s.now->rate.fps() > seconds_that_fit)
        p.refused = fmt::format("{:.0f} s fit into memory, it is {:.0f} s long.", seconds_that_fit,
                                static_cast<double>(p.at.length()) / s.now->rate.fps());
      all.push_back(std::move(p));
    }
    return all;
  }
  Supposed suppose(const Situation& s, const Proposal& p) const override {
    return {s.played, with_state(s.route, p.at, FrameState::remembered)};
  }
};

}  // namespace

const RemedyKind& memory_kind() {
  static const Memory kind;
  return kind;
}

}  // namespace gc
