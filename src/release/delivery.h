// The delivery: the timeline itself in full quality, from what is rendered already where that loses nothing.
//
// A movie is made of pieces that are durable one by one, in a folder of its own beside the file, and put together packet
// by packet at the end. Whatever ends it early, the next call goes on from the last whole piece. The file has its name
// only when it is whole.
#pragma once
#include "media/join.h"
#include "queue/prerender.h"
#include "release/gate.h"

namespace gc {

struct DeliveryOptions {
  fs::path to;                    ///< a movie; of a sequence one name with %0Nd in it: "out/kiln.%06d.dpx"
  std::string form = "rdd36";     ///< a form's id, or "dpx", "tiff", "png", "exr"
  FrameRange range;
  int workers = 2;
  Device device = Device::processor;
  std::shared_ptr<Notebook> notebook = {};
  bool burn_timecode = false;     ///< drawn into the picture, for review copies
  std::string burn_text;          ///< the same: a name, "review copy"
  bool replace = false;           ///< an earlier delivery of this program's at the same place may be replaced
  bool sound = true;
  /// Renditions that lose something may be decoded for it where a frame of each piece is at least so near its live picture,
  /// dB; 0: never.
  double reuse_db = 0;
  std::string order = {};  ///< whose delivery it is, kept in the note beside it; empty: nobody's in particular
};

/// Where the frames of a delivery come from.
struct DeliverySources {
  std::vector<FrameRange> copied;   ///< packets of renditions in the same form
  std::vector<FrameRange> decoded;  ///< renditions that lose nothing against the form
  std::vector<FrameRange> near;     ///< renditions that lose a little, as a person allowed
  std::vector<FrameRange> live;
  static Frames frames(const std::vector<FrameRange>& ranges);
};

/// What it will take.
struct DeliveryQuote {
  DeliverySources sources;
  Form form = Form::rdd36;
  bool sequence = false;
  bool shared = false;            ///< what is made of it are pieces that any shelf can keep, and that other machines can make
  double modelled_seconds = 0, seconds = 0;
  std::uint64_t bytes = 0;        ///< of the finished file, about
  std::uint64_t needed_bytes = 0; ///< on its volume while it is made
  std::uint64_t free_bytes = 0;
  bool known = true;              ///< whether the seat knows what such work costs
};

struct DeliveryProgress {
  Frames done = 0, total = 0;
  std::string what;          ///< "Looking closer", "Comparing", "Rendering", "Putting together", "Reading back"
  double seconds_left = 0;
};

struct DeliveryReport {
  DeliverySources sources;
  Frames frames = 0;
  double seconds = 0, said_seconds = 0;
  std::uint64_t bytes = 0;
  fs::path file, manifest;            ///< the manifest is written by verification
  std::vector<std::string> remarks;   ///< what could not be carried and what loses a little, in sentences
};

/// Errors: an unknown form, one that does not keep the raster. What `reuse_db` allows is found when it is delivered: here it
/// counts as made live.
Result<DeliveryQuote> delivery_quote(const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                                     const DeliveryOptions& options, const ForecastOptions& forecast);

/// Delivers. Refuses what the gate refuses, and what lies at `to` and is not a delivery of this program's.
Result<DeliveryReport> deliver(const ProgramPtr& delivered, const Shelf* shelf, const Notebook& notebook, MediaCatalog& media,
                               const DeliveryOptions& options, const ForecastOptions& forecast,
                               const std::function<bool(const DeliveryProgress&)>& progress);

/// The timeline's sound, mixed. What cannot be heard rightly is said in `remarks`. Empty when it has none.
std::vector<float> mixed_sound(const Timeline& timeline, FrameRange range, std::vector<std::string>& remarks);

/// Ids of all forms that may be delivered.
std::vector<std::string> delivery_forms();

/// Beside a finished delivery: what it is, by which it is known to be this program's.
fs::path delivery_note(const fs::path& file);

}  // namespace gc
