// The timeline as an immutable value. An edit copies what lies on the path to the change and shares the rest,
// so that background work may hold an old value without locks.
#pragma once
#include <array>
#include <map>
#include <memory>
#include <optional>
#include <functional>
#include <string>
#include <variant>
#include <vector>

#include "base/json.h"
#include "base/rational.h"

namespace gc {

/// One effect of a stack. `params` holds the values by name; what an effect does not know is kept untouched.
struct Effect {
  std::string id;
  std::string type;  ///< "cdl", "blur", ...; see effects/registry.h
  Json params = Json::object();
  bool enabled = true;
  bool ours =
      true;  ///< false for an effect of another program: passed through in the picture and kept in the file
  std::string device;  ///< "" as the setting says, "processor" or "accelerator"
  Json foreign;        ///< the object as read, for fields that are not ours
};

/// A file that frames come from. Width, height and codec are found when it is opened, not stored.
struct MediaSource {
  std::string id;  ///< unique in the timeline
  std::string name;
  std::string path;  ///< absolute
  std::string url;   ///< as written in the file
  Rate rate;
  Frames start = 0;  ///< number of the file's first frame in its own time
  Frames length = 0;
  std::string colour_space;  ///< a name of media/colour.h; empty: that of the timeline
};

/// An adjustment has no picture of its own: its stack works on everything below it.
enum class Content { source, composition, generator, offline, adjustment };

/// How a picture of another shape is brought to the raster: whole with bars, cut to cover it, distorted, or
/// pixel for pixel.
enum class Fit { fit, fill, stretch, centre };

/// What is shown between two source frames: the earlier, a blend of both, or a picture made by optical flow.
enum class Between { nearest, blend, flow };

/// Another track's picture as this segment's matte.
struct Matte {
  std::string track;  ///< id; empty for none
  bool luma = false;  ///< its Rec. 709 luma × alpha instead of its alpha
  bool inverted = false;
  bool operator==(const Matte&) const = default;
};

/// What a segment is judged for. Exact: noise, keys, grain, fine detail, so nothing may be hidden. Picture: composition and
/// colour. Timing: anything goes.
enum class Truth : std::uint8_t { timing, picture, exact };
const char* truth_name(Truth truth);
std::optional<Truth> truth_named(const std::string& name);

/// A source range, a composition or a generator placed on a track.
struct Segment {
  std::string id;
  std::string name;
  std::string note;  ///< review note
  Content content = Content::source;
  std::string ref;  ///< id of the source or of the composition, or the kind of generator ("title", "solid")
  Json generator;   ///< parameters of a generator
  Frames duration = 0;        ///< timeline frames
  Frames source_in = 0;       ///< first source frame, counted from the file's first
  Rate source_rate{0, 1};     ///< at which source_in is counted; 0: that of the source
  Ratio speed;                ///< 1 as shot, 0 frozen, negative backwards
  std::vector<Effect> stack;  ///< first is applied first
  bool enabled = true;
  std::string blend = "normal";  ///< a name of media/blend.h
  Json opacity = 1.0;            ///< 0…1, a number or keys
  Matte matte;
  Fit fit = Fit::fit;
  Between between = Between::nearest;
  Truth truth = Truth::picture;
  std::map<std::string, std::string> angles;  ///< media of the same moment: key in the file → id of the source
  std::string angle;                          ///< key of the one that is shown; its source is `ref`
  /// As it plays: from copies of its source up to so many times smaller, where there are some. Set by as_played() alone.
  int copies = 1;
  std::string trouble;  ///< of what was read and cannot be played: why, in a sentence; it is offline
  Json foreign;
};
using SegmentPtr = std::shared_ptr<const Segment>;

struct Gap {
  Frames duration = 0;
  Json foreign;
};

/// A change of picture around the cut it stands on: from cut − in_offset to cut + out_offset.
struct Transition {
  std::string id;
  std::string kind = "dissolve";  ///< "dissolve", "dip", "wipe" or "morph"; others play as a dissolve
  Frames in_offset = 0, out_offset = 0;
  Json params = Json::object();  ///< "colour" of a dip; "angle" and "softness" of a wipe
  Json foreign;
};

/// A track item of a schema that is not understood: it keeps its time and is written back unchanged.
struct Opaque {
  Frames duration = 0;
  std::string schema;
  Json foreign;
};

using Item = std::variant<SegmentPtr, Gap, Transition, Opaque>;

struct Track {
  std::string id;
  std::string name;
  bool video = true;
  bool enabled = true;
  bool matte_only = false;  ///< not seen itself; serves other tracks as their matte
  std::vector<Item> items;
  Json foreign;
};
using TrackPtr = std::shared_ptr<const Track>;

/// Tracks that may be used as the content of several segments.
struct Composition {
  std::string id;
  std::string name;
  std::vector<TrackPtr> tracks;
  Json foreign;
};

/// Kinds of slips. Slips of other kinds are kept and change nothing.
namespace slip_kind {
inline constexpr const char *bypass = "bypass",  ///< one effect of a segment
    *bypass_segment = "bypass segment", *bypass_type = "bypass type", *bypass_track = "bypass track", *bypass_all = "bypass all",
    *picture_off = "picture off", *scale = "scale", *proxy = "proxy", *region = "region", *draft = "draft", *half = "half";
}  // namespace slip_kind

/// Record of one temporary measure, open until lifted.
struct Slip {
  std::string id;
  std::string kind = slip_kind::bypass;
  std::string segment;
  std::string effect;
  std::string opened;   ///< ISO 8601, UTC
  std::string lifted;   ///< empty while open
  std::string subject;  ///< the type of effect, track or source that it is of
  int size = 1;         ///< of a scale or proxy: so many times smaller on each side
  Frames in = 0, out = 0;         ///< of a scale: frames of the timeline; both 0: all
  std::array<int, 4> region{};    ///< x, y, width, height in pixels of the raster
  std::string who, why, until;    ///< as a person gave them
  bool open() const { return lifted.empty(); }
  /// Whether it measures the same, whoever opened it and when.
  bool same_as(const Slip& other) const;
};

/// Somebody's word that a thing at which the gate stops may be delivered as it is.
struct Acceptance {
  std::string item;          ///< what is accepted, as the gate names it: "gap:24-48"
  std::string of;            ///< what it looked like then; once it looks otherwise, nobody has accepted it
  std::string at;            ///< ISO 8601, UTC
  std::string who, why;      ///< never empty
};

struct Timeline;
/// "Gaussian blur of 'Kiln' is bypassed" without effect names: what is measured, in words.
std::string slip_text(const Timeline& timeline, const Slip& slip);

/// What an effect that we cannot run costs, by hand or from a table: time a frame at a raster, and where it
/// is spent.
struct CostCard {
  double ms = 0;
  int width = 1920, height = 1080;
  std::string device = "processor";  ///< or "accelerator"
};

struct Timeline {
  std::string name;
  Rate rate;
  int width = 1920, height = 1080;         ///< raster in pixels
  Frames start = 0;                        ///< timecode of frame 0
  std::string working_space = "Rec. 709";  ///< in which pictures are processed; see media/colour.h
  std::string display_space = "Rec. 709";  ///< in which they are shown and delivered
  std::vector<TrackPtr> tracks;            ///< video tracks stack upward in order
  std::map<std::string, std::shared_ptr<const MediaSource>> sources;
  std::map<std::string, std::shared_ptr<const Composition>> compositions;
  std::map<std::string, CostCard> cards;  ///< by the name of the effect
  std::vector<Slip> slips;
  std::vector<Acceptance> acceptances;
  std::string folder;                ///< absolute; what relative URLs in it start from
  /// Of files that a handover copied: name from the folder on → where the original lay.
  std::map<std::string, std::string> home;
  std::string render_form;           ///< id of the form in which its pictures are kept; empty: as the seat's settings say
  std::optional<bool> drop_frame;    ///< whether its timecode drops numbers; not set: the file does not say
  bool rate_stated = true, raster_stated = true;  ///< else they are those of most of its media
  /// The document that it was read from where that holds more than this timeline, and where in it this one is (RFC
  /// 6901). Null: it is the whole document.
  Json collection;
  std::string place;
  std::vector<std::string> remarks;  ///< what was odd about the file it was read from, in sentences
  Json foreign;

  Frames duration() const;
};
using TimelinePtr = std::shared_ptr<const Timeline>;

/// Length of a track in frames.
Frames duration(const Track& track);
/// Timecode of a frame of the timeline, counted from its first.
std::string timecode_at(const Timeline& timeline, Frames frame);

/// A segment anywhere in the timeline or its compositions, by id.
SegmentPtr find_segment(const Timeline& timeline, const std::string& id);

/// The timeline with one segment replaced (by id, in tracks and compositions alike).
TimelinePtr with_segment(const Timeline& timeline, SegmentPtr replacement);

/// The timeline with one source's file replaced; null when there is no such source. `url` as it is to be written.
TimelinePtr with_media(const Timeline& timeline, const std::string& source, const std::string& path,
                       const std::string& url);

/// The timeline with one effect's parameter changed; null when there is no such effect.
TimelinePtr with_param(const Timeline& timeline, const std::string& segment, const std::string& effect,
                       const std::string& param, const Json& value);

/// Edits of a stack; null when there is no such segment or effect. `at` is a place in the stack, clamped.
TimelinePtr with_effect_added(const Timeline& timeline, const std::string& segment, Effect effect,
                              std::size_t at);
/// Lifts the slips of the effect too: a bypass of what is not there cannot be lifted by anyone.
TimelinePtr with_effect_removed(const Timeline& timeline, const std::string& segment,
                                const std::string& effect, const std::string& now_utc);
TimelinePtr with_effect_moved(const Timeline& timeline, const std::string& segment, const std::string& effect,
                              std::size_t to);
TimelinePtr with_effect_device(const Timeline& timeline, const std::string& segment,
                               const std::string& effect, const std::string& device);
/// An id that no effect of the segment has yet.
std::string free_effect_id(const Segment& segment, const std::string& type);

/// The timeline with an open slip for this effect, or with that slip lifted. Null when there is no such effect
/// to bypass; a slip can be lifted whether its effect is there or not.
TimelinePtr with_bypass(const Timeline& timeline, const std::string& segment, const std::string& effect,
                        bool bypassed, const std::string& now_utc);

/// The timeline with a slip opened; the same again when one like it is open. Null when there is nothing that it could be of.
TimelinePtr with_slip(const Timeline& timeline, Slip slip, const std::string& now_utc);
/// Lifts open slips that `which` picks; null when there are none.
TimelinePtr with_lifted(const Timeline& timeline, const std::function<bool(const Slip&)>& which, const std::string& now_utc);

/// The timeline with something accepted, in place of what was accepted of the same item before.
TimelinePtr with_acceptance(const Timeline& timeline, Acceptance acceptance);
/// Takes an acceptance back; null when there is none of this item.
TimelinePtr with_acceptance_withdrawn(const Timeline& timeline, const std::string& item);

/// The timeline with segments judged for something else; null when one of them is not there.
TimelinePtr with_truth(const Timeline& timeline, const std::vector<std::string>& segments, Truth truth);
/// The timeline with another of a segment's angles shown; null when it has no such angle.
TimelinePtr with_angle(const Timeline& timeline, const std::string& segment, const std::string& angle);

/// Whether what the slip measures is in the timeline.
bool has_subject(const Timeline& timeline, const Slip& slip);
/// Whether an open slip bypasses the effect.
bool bypassed(const Timeline& timeline, const std::string& segment, const std::string& effect);

/// The timeline as it plays: with every open slip applied. The delivery uses the timeline itself.
TimelinePtr as_played(const TimelinePtr& timeline);

/// Number of segments on enabled and disabled video tracks, compositions not counted.
std::vector<SegmentPtr> video_segments(const Timeline& timeline);

}  // namespace gc
