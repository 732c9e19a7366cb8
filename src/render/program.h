// A timeline made ready to render: the timeline describes and can be edited, the program runs and cannot. One
// program serves any number of threads.
#pragma once
#include <algorithm>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <set>
#include <string>
#include <vector>

#include "effects/registry.h"
#include "media/blend.h"
#include "media/convert.h"
#include "media/reader.h"
#include "render/route.h"
#include "timeline/layout.h"

namespace gc {

/// Whoever keeps rendered media answers whether a frame is there. Called from several threads.
struct SealHit {
  std::string path;
  Frames index = 0;   ///< frame within the file
  Hash128 checksum{};  ///< of its coded picture; zero: not known
  Form form = Form::vc3_hqx;
  int width = 0, height = 0;  ///< of its pictures; 0: the program's raster
};
class SealLookup {
 public:
  virtual ~SealLookup() = default;
  virtual std::optional<SealHit> find(const Hash128& frame_fingerprint) const = 0;
  /// Whether there may be pictures of segments that are not finished.
  virtual bool has_taps() const { return false; }
  /// A sealed file could not be read; it must not be offered again.
  virtual void report_broken(const SealHit& hit) const = 0;
};

/// What is known about media files, asked once for each state of a file.
class MediaCatalog {
 public:
  Result<MediaInfo> info(const std::string& path);

 private:
  std::mutex mutex_;
  std::map<std::string, Result<MediaInfo>> known_;
};

/// A rectangle of the full raster, in its pixels.
struct Region {
  int x = 0, y = 0, width = 0, height = 0;
  bool operator==(const Region&) const = default;
};

/// How frames are made. The defaults are those of a delivery, except that what is unseen stays so.
struct RenderOptions {
  int scale = 1;       ///< 1, 2, 4, 8 or 16: the raster is this many times smaller on each side
  bool draft = false;  ///< quick scaling
  bool join_fields = true;  ///< interlaced media are made progressive; else both fields are seen at once
  bool half = false;   ///< pictures are rounded to half precision after each segment
  Device device = Device::processor;
  bool rendering = false;        ///< makes what is unseen in playback (flow)
  std::optional<Region> region;  ///< only these pixels; the rest stays black

  /// Whether frames made so may be kept as rendered media or delivered.
  bool full_quality() const { return scale == 1 && !draft && !half && !region; }
};

/// Whom a stage belongs to.
struct Owner {
  std::string segment;  ///< id; empty for the timeline itself (display, mix)
  std::string effect;   ///< id; empty for decoding and other stages of the segment as such
  std::string label;
  StageKind kind = StageKind::display;
  std::string placed;  ///< id of the segment on the timeline that it works for: its own, or the composition's
};

/// A stage that a frame will go through, by the key of its cost.
struct StageRef {
  StageKind kind = StageKind::display;
  Hash128 key;
  int owner = -1;
  const LawName* law = nullptr;  ///< of work of the same sort
  Terms terms{};                 ///< how much of it this is
  bool by_wall = false;          ///< its cost is time passed, not work of the thread
  bool elsewhere = false;        ///< done on the accelerator, or on the way there
  /// How many threads work on it side by side at most while frames are fetched in order; 0: it is no part of that, each
  /// worker does it for its own frame.
  int in_order = 0;
};

/// The share of a stage's work for which its frame holds the turn to fetch, on a seat with so many workers. The rest is
/// done by workers side by side, or by threads of the decoder's own.
inline double turn_share(const StageRef& stage, int workers) {
  return stage.in_order == 0 ? 0 : 1 / spread_of(std::min(stage.in_order, workers));
}

class Program;
using ProgramPtr = std::shared_ptr<const Program>;

struct CompiledEffect {
  const EffectType* type = nullptr;  ///< null for a colour transform of the timeline
  std::string id;
  std::shared_ptr<const EffectInstance> fixed;  ///< null when parameters have keys
  Json params;                                  ///< with keys, for this raster
  int width = 0, height = 0;
  StageRef stage, transfer;
  /// Where keys change what it costs: the stage from a frame of the segment on, in order. Else empty.
  std::vector<std::pair<Frames, StageRef>> pieces;
  Device device = Device::processor;
  Window window;
  int reach = 0;
  bool point = false, moving = false, whole = false;
  Hash128 identity;  ///< of the type and the values it has at every frame

  /// Ready for a frame of the segment.
  std::shared_ptr<const EffectInstance> at(Frames frame) const;
  const StageRef& stage_at(Frames frame) const;
};

/// A placed segment, ready to make pictures.
struct CompiledSegment {
  SegmentPtr segment;
  Content content = Content::offline;
  Frames in = 0, out = 0;            ///< on the timeline, without handles
  Frames live_in = 0, live_out = 0;  ///< with the handles that transitions use
  std::string path;
  MediaInfo media;
  Placement placement;
  Rate source_rate;
  Ratio source_at{0, 1};  ///< where in the source it starts, in frames of the media (of the timeline: a composition)
  ProgramPtr inner;  ///< of a composition
  CompiledEffect generator;
  std::vector<CompiledEffect> effects;  ///< those that run: enabled, known and not without effect
  StageRef read, decode, convert;       ///< of a source; `convert` is also that of a generator
  /// Pictures of a source that are decoded for one frame of the timeline, on the mean: by its rate and speed, and of what is
  /// built on other pictures by what is decoded on the way.
  double pictures = 1;
  StageRef fields;                      ///< making one picture of two fields
  bool joins_fields = false;
  StageRef retime;                      ///< blending or flow between two frames
  StageRef matte_stage;
  bool retimes = false;  ///< falls between source frames and does not just take the earlier
  bool unseen = false;   ///< cannot be shown live
  Window window;         ///< frames of its content that one frame needs around its own
  Blend blend = Blend::normal;
  bool covers = false;  ///< hides everything below it
  bool opaque = false;
  bool varies = false;               ///< its stack changes the picture from frame to frame by itself
  Hash128 content_identity;          ///< of what the stack starts from, but the position in time
  Hash128 identity;                  ///< everything but the position in time
  std::string trouble;               ///< why it is offline
  std::vector<std::string> remarks;  ///< effects that pass the picture through although they should not

  /// Source (or inner) frame shown at a timeline frame.
  Frames frame_at(Frames timeline_frame, Rate timeline_rate) const;
  /// The same with the part of the way to the next one, 0 unless it retimes.
  SourcePosition position_at(Frames timeline_frame, Rate timeline_rate) const;
  float opacity_at(Frames timeline_frame) const;
  /// Whether there is no picture for a timeline frame: offline media, or frames that the file does not have. Layers
  /// of a composition count.
  bool missing_at(Frames timeline_frame, Rate timeline_rate) const;
  /// The frame `d` after this one, or the nearest towards it that the content has.
  Frames neighbour(Frames timeline_frame, int d, Rate timeline_rate) const;
  /// Index of the last effect below `count` that needs neighbours, or −1.
  int last_temporal(std::size_t count) const;
};
using CompiledSegmentPtr = std::shared_ptr<const CompiledSegment>;

enum class TransitionKind { dissolve, dip, wipe, morph };

struct CompiledLayer {
  CompiledSegmentPtr from, to;  ///< `to` only in a transition
  Frames in = 0, out = 0;       ///< of the transition
  TransitionKind kind = TransitionKind::dissolve;
  float colour[3] = {0, 0, 0};
  float angle = 0, softness = 0;
  StageRef transition;
  std::shared_ptr<const CompiledLayer> from_matte, to_matte;
  Hash128 identity;  ///< of the transition's kind and parameters
  StageRef mix;      ///< of putting it on what lies below

  float mix_at(Frames frame) const;
  /// An adjustment that is mixed with what is below it, which is copied for that.
  bool counts_partly(Frames frame) const;
  bool missing_at(Frames frame, Rate rate) const;
  bool unseen() const { return from->unseen || (to && (to->unseen || kind == TransitionKind::morph)); }
};

struct CompiledInterval {
  Frames in = 0, out = 0;
  std::vector<CompiledLayer> layers;  ///< those that can be seen, lowest first
  bool unseen = false;                ///< something in it cannot be shown live
  bool missing = false;               ///< something in it has no picture
  StageRef between;                   ///< what a frame costs besides its stages: copies, memory
  /// Where nothing is done to a picture on its way from the decoder to the screen: the stage that converts it.
  std::optional<StageRef> straight;
  /// Names everything that its frames depend on, but not where it lies on the timeline: the same after a ripple.
  Hash128 identity{};
  /// Names pictures that are about equally hard to encode: what the layers start from, and what their stacks do to detail.
  Hash128 texture{};
};

/// One picture to fetch before a frame can be processed.
struct DecodeRequest {
  std::string path;
  Frames frame = 0;
  Hash128 use;  ///< who reads: each use of a source has its own reader
  StageRef read, decode;
  bool offline = false;
  int keep = 0;  ///< frames of the reader that will be asked for again soon
  const StageRef* fields = nullptr;  ///< the stage of making one picture of two fields, where that is done
  Hash128 checksum{};                ///< of the coded picture; zero: not known
  bool rendered = false;             ///< rendered media, which are given up when they cannot be read
  Hash128 name{};                    ///< by which its picture is found, see request_name()
  float pictures = 1;                ///< decoded for one frame on the mean, as of its segment
  bool backwards = false;
};
/// Names the picture of frame n for a use: of its source, or of rendered media that stand for the segment's.
Hash128 request_name(const Hash128& use, Frames n);

/// Rendered media that are fetched for a frame. Those of a stack or a composition stand in for the segment's picture at
/// `frame`; those of a source are found as its pictures are.
struct Tap {
  TapUse is;
  Frames frame = 0;  ///< of the program that the segment lies in
  SealHit hit;
  Hash128 name;      ///< of the request for it
};

struct FrameRecipe {
  Frames frame = 0;
  int interval = -1;
  std::optional<SealHit> seal;
  std::vector<Tap> taps;
  std::vector<DecodeRequest> requests;
  std::vector<Hash128> live;  ///< uses of segments whose content is made, for some frame that is looked at

  /// What stands for a segment's picture at a frame; null when it is made.
  const Tap* tap_of(const Hash128& use, Frames at) const;
  /// What is fetched where it is the same for all frames that are looked at.
  TapPattern pattern() const;
};

class Program {
 public:
  /// Compiles the timeline as it is given; pass `as_played(timeline)` for playback. Media that are missing or
  /// unusable make their segments offline, which is no error.
  static ProgramPtr compile(const TimelinePtr& timeline, MediaCatalog& media,
                            const RenderOptions& options = {});

  /// The same with some frames made by other programs: the same timeline at another scale. Ranges begin and end at cuts;
  /// of several that hold a frame the smallest picture counts.
  static ProgramPtr with_stretches(const ProgramPtr& program, std::vector<std::pair<FrameRange, ProgramPtr>> others);
  /// The program that makes a frame: this one, or that of a stretch.
  const Program& playing(Frames frame) const;

  const TimelinePtr& timeline() const { return timeline_; }
  const RenderOptions& options() const { return options_; }
  /// The region that layers can be cut to: none where an adjustment needs pixels around it.
  const std::optional<Region>& working_region() const { return working_region_; }
  /// Raster at the options' scale.
  int width() const { return width_; }
  int height() const { return height_; }
  Frames duration() const { return duration_; }
  const std::vector<CompiledInterval>& intervals() const { return intervals_; }
  int interval_at(Frames frame) const;
  const std::vector<Owner>& owners() const { return owners_; }
  const std::vector<CompiledSegmentPtr>& segments() const { return segments_; }

  /// Covers exactly what the frame's picture depends on, at full quality whatever the options are.
  Hash128 fingerprint(Frames frame) const;
  /// The same for the picture as these options make it.
  Hash128 picture_key(Frames frame) const;
  /// Of a segment's picture after the first `count` effects of its stack.
  Hash128 stack_key(const CompiledSegment& s, Frames frame, std::size_t count) const;
  /// What an effect that looks at neighbouring frames sees at one. Where a picture stays, as that of a still or of a source with
  /// fewer pictures than the timeline has frames, neighbours are one picture.
  struct WindowPictures {
    int others = 0;      ///< different pictures besides the first
    bool fresh = false;  ///< the latest is none of those that the frame before looked at
  };
  WindowPictures window_pictures(const CompiledSegment& s, Frames frame, std::size_t effect) const;

  /// Names of pictures as rendered media have them: what they depend on and no more. Of a segment's stack after its first
  /// effects: moving or renaming the segment, and effects above, change nothing.
  Hash128 tap_key(const CompiledSegment& s, Frames frame, std::size_t count) const;
  /// Of all tracks before the display's colours, with alpha: what a segment shows whose composition this program is.
  Hash128 composition_key(Frames frame) const;
  /// Of a source's frame, `size` times smaller on each side, wherever the file lies and whatever plays it.
  static Hash128 source_key(const MediaInfo& media, bool joins_fields, Frames frame, int size);

  /// What has to be fetched for a frame. With seals, rendered media stand in wherever there are some: the finished frame's,
  /// else of each segment those that are furthest in its making.
  FrameRecipe recipe(Frames frame, const SealLookup* seals) const;
  /// The stages that the frame goes through on its way to a screen, with these pictures fetched and all else live.
  std::vector<StageRef> stages(Frames frame, const TapPattern& taps = {}) const;
  /// Reading, decoding and converting rendered media of this form and size.
  std::vector<StageRef> rendered_stages(const TapUse& tap) const;
  /// Whether something of the frame cannot be shown, with these pictures fetched.
  bool unseen(Frames frame, const TapPattern& taps) const;
  /// Calls `see` for each segment that counts at a frame, also within compositions, with its use and the frame there.
  using See = std::function<void(const Program& program, const CompiledSegment& s, Frames frame, const Hash128& use)>;
  void each_segment(Frames frame, const See& see, const Hash128& use = {}) const;
  /// The segment whose picture goes straight from the decoder to the screen at this frame; null: it has to be made.
  const CompiledSegment* straight(Frames frame) const;
  /// And the stage that does it, with these pictures fetched.
  std::optional<StageRef> straight_stage(Frames frame, const TapPattern& taps = {}) const;
  /// The same of sealed media: the stage that converts them; null where they have to be made.
  const StageRef* straight_sealed() const { return sealed_straight_ ? &*sealed_straight_ : nullptr; }
  /// The stages of a frame that is answered by sealed media of this program's raster.
  std::vector<StageRef> sealed_stages() const;
  const StageRef& sealed_convert() const { return sealed_convert_; }
  /// What a live frame costs besides its stages.
  StageRef between(Frames frame) const;
  StageRef display_stage() const { return display_; }
  /// From the working space to that of the screen; null when they are the same.
  const CompiledEffect* output() const { return output_ ? &*output_ : nullptr; }

 private:
  friend class Compiler;
  void add_layer(Hasher& h, const CompiledLayer& l, Frames frame) const;
  /// `fetched`: a segment that is also its own or another's matte is fetched once.
  using Fetched = std::set<const CompiledSegment*>;
  std::vector<StageRef> made_stages(Frames frame, const TapPattern& taps, const Hash128& use) const;
  void add_stages(std::vector<StageRef>& all, const CompiledSegment& s, Frames frame, Fetched& fetched,
                  const TapPattern& taps, const Hash128& use) const;
  void add_stages(std::vector<StageRef>& all, const CompiledLayer& l, Frames frame, Fetched& fetched,
                  const TapPattern& taps, const Hash128& use) const;

  TimelinePtr timeline_;
  RenderOptions options_;
  std::optional<Region> working_region_;
  int width_ = 0, height_ = 0;
  Frames duration_ = 0;
  std::vector<CompiledInterval> intervals_;
  std::vector<CompiledSegmentPtr> segments_;
  std::vector<Owner> owners_;
  std::optional<CompiledEffect> output_;
  StageRef display_, sealed_read_, sealed_decode_, sealed_convert_;
  int sealed_owner_ = -1;
  std::optional<StageRef> sealed_straight_;
  std::vector<std::pair<FrameRange, ProgramPtr>> stretches_;
};

/// Which reader a segment's source is read by.
Hash128 use_of(const Hash128& outer, const CompiledSegment& s);
/// Calls `see` for the layer's segment, the incoming one of a transition, and their mattes.
void each_segment_of(const CompiledLayer& layer, const std::function<void(const CompiledSegment&)>& see);

/// Changes when the same timeline would give other pixels than before, which breaks every seal.
inline constexpr const char* kRendererVersion = "4";

/// A stretch of the timeline for which a segment has no picture.
struct MissingPicture {
  std::string segment, name;  ///< of the segment that lacks it
  std::string inside;         ///< names of the compositions that it lies in, outermost first: "A, B"
  FrameRange at;              ///< timeline frames; of a composition that is retimed the whole of it
  std::string why;            ///< one sentence, with what to do
};
/// Every one of them, by place. Seals are not looked at: rendered media may stand for the picture in playback.
std::vector<MissingPicture> missing_pictures(const Program& program);

/// The segment that stands for a frame when one has to: the lowest visible layer's. Null in gaps.
const CompiledSegment* main_segment(const Program& program, Frames frame);

}  // namespace gc
