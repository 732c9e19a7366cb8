// A timeline made ready to render: the timeline describes and can be edited, the program runs and cannot. One
// program serves any number of threads.
#pragma once
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "effects/registry.h"
#include "media/reader.h"
#include "timeline/layout.h"

namespace gc {

/// Whoever keeps rendered media answers whether a frame is there. Called from several threads.
struct SealHit {
  std::string path;
  Frames index = 0;  ///< frame within the file
};
class SealLookup {
 public:
  virtual ~SealLookup() = default;
  virtual std::optional<SealHit> find(const Hash128& frame_fingerprint) const = 0;
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

/// Whom a stage belongs to.
struct Owner {
  std::string segment;  ///< id; empty for the timeline itself (display, mix)
  std::string effect;   ///< id; empty for decoding and other stages of the segment as such
  std::string label;
  StageKind kind = StageKind::display;
};

/// A stage that a frame will go through, by the key of its cost.
struct StageRef {
  StageKind kind = StageKind::display;
  Hash128 key;
  int owner = -1;
  Hash128 type_key;  ///< the same without parameters: work of the same sort
  double size = 0;   ///< the parameter that the cost grows with, 0 when there is none
};

class Program;
using ProgramPtr = std::shared_ptr<const Program>;

struct CompiledEffect {
  std::shared_ptr<const EffectInstance> run;
  StageRef stage;
};

/// A placed segment, ready to make pictures.
struct CompiledSegment {
  SegmentPtr segment;
  Content content = Content::offline;
  Frames in = 0, out = 0;            ///< on the timeline, without handles
  Frames live_in = 0, live_out = 0;  ///< with the handles that transitions use
  std::string path;
  MediaInfo media;
  Rate source_rate;
  ProgramPtr inner;  ///< of a composition
  std::shared_ptr<const EffectInstance> generator;
  std::vector<CompiledEffect> effects;  ///< those that run: enabled, known and not without effect
  StageRef read, decode, convert;       ///< of a source; `convert` is also that of a generator
  bool covers = false;                  ///< hides everything below it
  bool opaque = false;
  Hash128 identity;     ///< everything but the position in time
  std::string trouble;  ///< why it is offline

  /// Source (or inner) frame shown at a timeline frame.
  Frames frame_at(Frames timeline_frame, Rate timeline_rate) const;
};

struct CompiledLayer {
  std::shared_ptr<const CompiledSegment> from, to;  ///< `to` only in a transition
  Frames in = 0, out = 0;                           ///< of the transition
  float mix_at(Frames frame) const;
};

struct CompiledInterval {
  Frames in = 0, out = 0;
  std::vector<CompiledLayer> layers;  ///< those that can be seen, lowest first
};

/// One picture to fetch before a frame can be processed.
struct DecodeRequest {
  std::string path;
  Frames frame = 0;
  Hash128 lane;  ///< who reads: each use of a source has its own reader
  StageRef read, decode;
  bool offline = false;
};

struct FrameRecipe {
  Frames frame = 0;
  int interval = -1;
  std::optional<SealHit> seal;
  std::vector<DecodeRequest> requests;
};

class Program {
 public:
  /// Compiles the timeline as it is given; pass `as_played(timeline)` for playback. Media that are missing or
  /// unusable make their segments offline, which is no error.
  static ProgramPtr compile(const TimelinePtr& timeline, MediaCatalog& media);

  const TimelinePtr& timeline() const { return timeline_; }
  Frames duration() const { return duration_; }
  const std::vector<CompiledInterval>& intervals() const { return intervals_; }
  int interval_at(Frames frame) const;
  const std::vector<Owner>& owners() const { return owners_; }
  const std::vector<std::shared_ptr<const CompiledSegment>>& segments() const { return segments_; }

  /// Covers exactly what the frame's picture depends on.
  Hash128 fingerprint(Frames frame) const;
  FrameRecipe recipe(Frames frame, const SealLookup* seals) const;
  /// The stages that the frame goes through when it is made live.
  std::vector<StageRef> stages(Frames frame) const;
  /// The stages of a frame that is answered by sealed media of this program's raster.
  std::vector<StageRef> sealed_stages() const;
  StageRef display_stage() const { return display_; }
  StageRef mix_stage() const { return mix_; }
  StageRef transition_stage() const { return transition_; }

 private:
  friend class Compiler;
  void gather(Frames frame, std::vector<DecodeRequest>& out, const Hash128& lane) const;

  TimelinePtr timeline_;
  Frames duration_ = 0;
  std::vector<CompiledInterval> intervals_;
  std::vector<std::shared_ptr<const CompiledSegment>> segments_;
  std::vector<Owner> owners_;
  StageRef display_, mix_, transition_, sealed_read_, sealed_decode_, sealed_convert_;
};

/// Changes when the same timeline would give other pixels than before, which breaks every seal.
inline constexpr const char* kRendererVersion = "1";

}  // namespace gc
