// Remedies: everything that can make a span play. One file for each kind says what it applies to, what it changes in the
// route or the timeline, what truth it hides, and how it is told. The rest of the program knows kinds through this alone.
#pragma once
#include <functional>

#include "remedy/pricing.h"
#include "render/restless.h"
#include "shelf/shelf.h"

namespace gc {

/// What a remedy is of. Only what its kind speaks of is set.
struct Subject {
  std::string segment, effect;  ///< ids
  std::string composition, source, track;
  std::string type;      ///< of effect: every one of this type
  std::size_t after = 0;  ///< effects of a stack, counted as the program runs them
  int size = 1;           ///< so many times smaller on each side
  Form form = Form::vc3_hqx;
  std::vector<FrameRange> frames;  ///< of the timeline, or of the source or composition; empty: all
  Region region;
  Device device = Device::processor;
};

/// What a remedy takes.
struct Quote {
  double modelled_seconds = 0;  ///< by costs alone
  double seconds = 0;           ///< as said: times what renders have lately taken against that
  std::uint64_t bytes = 0;
  std::string volume;      ///< folder that it goes to; empty: nothing is written
  double read_mb_s = 0;    ///< while it plays
  bool known = true;       ///< whether the seat knows what such work costs
};

class RemedyKind;
class SupposedSeals;

struct Proposal {
  std::string id;  ///< the same for the same kind and subject: "bake:smoke"
  const RemedyKind* kind = nullptr;
  Subject subject;
  FrameRange at;                       ///< frames of the timeline that it bears on, from the first to the last
  std::vector<std::string> segments;   ///< ids of those whose cost it lowers
  std::string sentence;                ///< "Noise reduction of 'Kiln' cached; the grade stays live."
  std::string hides;                   ///< what it hides, a few words; empty: nothing
  Truth serves = Truth::exact;         ///< the strictest truth that it leaves whole
  std::string refused;                 ///< why it cannot or should not be done, a sentence; empty: it can
  Quote quote;
  double drops_saved = 0;              ///< by it alone, of the whole range
};

/// One state of a timeline, seen for remedies.
struct Situation {
  TimelinePtr timeline;
  ProgramPtr played;     ///< open slips applied
  ProgramPtr rendered;   ///< the same as it is rendered: full quality, nothing unseen
  ProgramPtr delivered;  ///< the timeline itself, nothing bypassed
  Route route;
  std::shared_ptr<const Forecast> now;  ///< of `played` over the whole timeline
  const Notebook* notebook = nullptr;
  const Shelf* shelf = nullptr;
  MediaCatalog* media = nullptr;
  ForecastOptions forecast;
  RenderOptions usual;        ///< of playback, as the seat's settings say
  Form form = Form::vc3_hqx;  ///< in which things are kept
  std::vector<Restless> must_watch;  ///< segments that can be judged only in real time: they count as exact

  /// The strictest truth of the segments that lie in a range.
  Truth truth(FrameRange range) const;
  /// Of `rendered`; worked out when it is asked for first.
  const Pricing& pricing() const;

 private:
  mutable std::shared_ptr<const Pricing> pricing_;
};

/// The state of a program as it plays; `now` is forecast, and what it is rendered from compiled.
/// @param before a forecast of much the same timeline, for what need not be simulated again; may be null
Situation situation_for(const ProgramPtr& played, const Notebook& notebook, const Shelf* shelf, MediaCatalog& media, const Route& route,
                        const ForecastOptions& options, Device rendering, Form form, const Forecast* before = nullptr);

/// What is made for rendering: full quality, nothing unseen, whatever the options of playback are.
ProgramPtr program_rendered(const ProgramPtr& played, Device device, MediaCatalog& media);

/// How the timeline would play with a remedy.
struct Supposed {
  ProgramPtr program;
  Route route;
};

/// What has to be rendered for a remedy.
struct Making {
  enum class What { frames, stack, composition, source } what = What::frames;
  Subject subject;
};

class RemedyKind {
 public:
  virtual ~RemedyKind() = default;
  virtual const char* name() const = 0;   ///< on the command line: "tap"
  virtual const char* label() const = 0;  ///< on screen: "Cached stack"
  /// Everything of this kind that bears on frames of the range, what must be refused among it.
  virtual std::vector<Proposal> propose(const Situation& s, FrameRange range) const = 0;
  /// Of what is rendered: as if the shelf had what would_make() names.
  virtual Supposed suppose(const Situation& s, const Proposal& p) const;
  /// Names what it would put on the shelf for a frame of the timeline; nothing where it is a slip or an edit.
  virtual void would_make(const Situation&, const Proposal&, Frames, SupposedSeals&) const {}
  /// What is to be rendered; nothing where it is a slip or an edit.
  virtual std::optional<Making> making(const Proposal&) const { return std::nullopt; }
  /// The slip that it opens; nothing where it is rendered or an edit.
  virtual std::optional<Slip> slip(const Proposal&) const { return std::nullopt; }
  /// The edit that it is; null where it is not one.
  virtual TimelinePtr edit(const Situation&, const Proposal&) const { return nullptr; }
};

/// Every kind, in the order in which they are shown.
const std::vector<const RemedyKind*>& remedy_kinds();
const RemedyKind* remedy_kind(const std::string& name);

/// All remedies for a range with price and gain, best gain for its price first, refused ones last.
std::vector<Proposal> remedies_for(const Situation& s, FrameRange range);
/// Drops that a remedy saves by itself.
double drops_saved(const Situation& s, const Proposal& p);
/// A proposal by its id; refused ones too.
std::optional<Proposal> proposal_of(const Situation& s, const std::string& id);

// For the kinds.

/// Looks up what the shelf has, and as if it had these names as well.
class SupposedSeals : public SealLookup {
 public:
  explicit SupposedSeals(const Shelf* shelf) : shelf_(shelf) {}
  void add(const Hash128& name, Form form, int width, int height) { names_[name] = {"supposed", 0, {}, form, width, height}; }
  std::optional<SealHit> find(const Hash128& name) const override;
  bool has_taps() const override { return true; }
  void report_broken(const SealHit&) const override {}

 private:
  const Shelf* shelf_;
  absl::flat_hash_map<Hash128, SealHit, std::hash<Hash128>> names_;
};

/// The route with everything of these intervals looked up anew: of each one a frame in its middle stands for all that do not
/// look beyond the ends of a segment.
/// `suppose` names what there would be for a frame.
Route with_supposed(const Situation& s, FrameRange range,
                    const std::function<void(SupposedSeals& seals, Frames frame)>& suppose);

/// The route as it would be with all of these rendered: pre-renders, cached stacks, bakes and mezzanines together.
Route with_rendered(const Situation& s, const std::vector<Proposal>& proposals);

/// Rendering all frames of another program, as modelled.
double seconds_to_render(const Situation& s, const ProgramPtr& program, Form form, const Hash128& content);
Quote quote_of(const Situation& s, double modelled_seconds, std::uint64_t bytes, double read_mb_s);

/// Segments on the tracks that a frame range touches.
std::vector<CompiledSegmentPtr> segments_in(const Program& program, FrameRange range);
/// Whether frames of a segment are so light that rendering them gains nothing.
bool is_trivial(const Situation& s, const CompiledSegment& segment);
/// Name of a segment for a sentence: 'Kiln'.
std::string quoted(const CompiledSegment& s);

}  // namespace gc
