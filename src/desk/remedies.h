// Remedies for a timeline that is open: what there are, doing one, and looking whether it did what was said.
#pragma once
#include <span>

#include "desk/desk.h"
#include "queue/carry_out.h"

namespace gc {

/// @param before a forecast of much the same timeline; may be null
Situation situation_of(const View& view, const Stores& stores, const Forecast* before = nullptr);

/// How near the picture with a remedy comes to the true one, on frames sampled from where it bears.
struct RemedyFidelity {
  int frames = 0;  ///< looked at; 0: none could be
  double psnr_db_worst = 0, psnr_db_mean = 0, ssim_worst = 0;
};
/// Of remedies whose picture can be made now: slips, edits and what is on the shelf.
RemedyFidelity fidelity_of(const Situation& s, const Proposal& p, const Shelf& shelf, int frames = 2);

/// What became of a remedy that was applied.
struct Applied {
  TimelinePtr timeline;  ///< with its slip or edit; the same when it is only rendered
  PrerenderReport made;  ///< no frames: there was nothing to render
  double said_seconds = 0, taken_seconds = 0;
  double load_said = 0, load_seen = 0;  ///< of the second that was played unseen afterwards; 0: not played
  Frames played = 0, dropped_said = 0, dropped_seen = 0;
};
/// Renders what it needs, opens its slip or makes its edit, and plays a second of it unseen, from which the notebook
/// learns. Refused remedies fail with why.
Result<Applied> apply(const Situation& s, const Proposal& p, const Stores& stores, const std::string& who, const std::string& why,
                      const std::string& until, const std::function<bool(const PrerenderProgress&)>& progress,
                      const std::atomic<bool>& stop);

/// Tries frames of what these would have rendered and nobody has looked at yet, in their order, for about four seconds: what
/// they cost is then known by sight. How many were tried.
Result<int> try_out(const Situation& s, std::span<const Proposal> proposals, const Stores& stores, const std::function<bool()>& stopped);

/// What a light copy of a source would bring: at full size and at half of each side.
std::vector<Proposal> copies_for(const Situation& s, const std::string& source);

/// For each span that does not hold the highest scale down to 1/limit at which it does, as slips.
Result<TimelinePtr> with_automatic_scale(const Situation& s, int limit, const std::string& who);

Json to_json(const Proposal& p, const std::optional<RemedyFidelity>& fidelity);
Json to_json(const Slip& slip, const Timeline& timeline);

/// Copies of every source that the timeline reads, in a tree that mirrors where the originals lie, so that anyone relinks
/// them by its root. Existing files are left alone when they are whole copies, else refused.
struct ProxyFile {
  std::string source, from, to;
  std::string trouble;  ///< why there is none; empty: it is there
};
Result<std::vector<ProxyFile>> write_proxies(const View& view, const fs::path& root, int size, Form form,
                                             const std::function<bool(const std::string& what, double share)>& progress);
/// Where a source's copy lies below a root: its own path without what a root is called, `.mov` at its end.
fs::path mirrored(const fs::path& root, const fs::path& original, Form form);

}  // namespace gc
