// What a forecast asks about costs: of this seat, or of another one.
#pragma once
#include <span>
#include <vector>

#include "measure/calibration.h"
#include "render/program.h"
#include "seat/law.h"

namespace gc {

/// The two parts of a frame's way through the pipeline, ms: fetching, one frame at a time in order (reading, and of
/// decoding what goes in order), and all other work, on whichever processor.
struct FrameSample {
  float fetch_ms = 0;
  float process_ms = 0;
  friend bool operator==(const FrameSample&, const FrameSample&) = default;
};

/// Where a cost comes from.
enum class Origin : std::uint8_t {
  unknown,   ///< nothing like it was ever measured; counted as nothing
  measured,  ///< this very work on this seat
  law,       ///< from the seat's law of such work
  scaled     ///< from another seat's measurement, by what both seats have in common
};
const char* origin_name(Origin o);

struct StageCosts {
  std::vector<float> ms;  ///< draws: as many as there are, in no order
  Origin origin = Origin::unknown;
  double error = 1;    ///< relative, half the width of nine in ten
  bool inside = true;  ///< of what the law has seen
};

/// What the outside took of one playout, or of frames made in a row to be measured: how often while a worker was busy, and
/// for how long.
struct Disturbance {
  double per_busy_ms = 0;
  std::vector<float> ms;  ///< lengths seen; never empty when per_busy_ms > 0
  /// How often, in the same measure, the display's thread itself was kept from looking for its frame, and how
  /// late it came: what lasts a period and more drops frames that lay ready.
  double looks_per_busy_ms = 0;
  std::vector<float> looks_ms;
  double shared = 0;   ///< share of the machine that others and the hypervisor took meanwhile, 0…1
  bool shown = true;   ///< a display looked for its frames; where none did, nothing is known of late looks
  friend bool operator==(const Disturbance&, const Disturbance&) = default;
};

/// How many times as long work takes, on the mean over its sorts, on a core that others work on too, most of them the seat's
/// own workers. Measured costs are divided by it and forecasts multiplied, so that what was measured in the state of now
/// counts as it was measured. Seen: laws of eleven sorts 1.10 to 1.89, mean 1.38; two playouts of the demo 1.33 and 1.28 with
/// 0.84 and 0.92 of the work on shared cores.
inline constexpr double kSharedCoreCosts = 1.35;

/// The same where this share of the work is done on such cores (crowding_of; −1: unknown). By its square: a core that is found
/// shared now and then is so for moments that cost next to nothing. Seen over 95 groups of playouts, median error on cores
/// with little of it: 2.9 % by the share itself, 1.9 % by its square.
inline double crowded(double crowding, double shared_core = kSharedCoreCosts) {
  return crowding > 0 ? 1 + (shared_core - 1) * crowding * crowding : 1;
}

/// How fast the seat is now, against costs that are known. What differs from it does so as Student's distribution with two
/// degrees of freedom: most by next to nothing, a few by much. Seen in 300 stretches on quiet cores: half within 1.7 %, eight
/// in ten within 4.7 %, one in twenty-five beyond 10 %.
struct Mood {
  double base = 1;    ///< known costs count so many times, as a rule
  double level = 0;   ///< by how much, of its logarithm, one playout differs from that: half of them by less than 0.82 times this
  double spread = 0;  ///< and stretches from each other within one, likewise
  friend bool operator==(const Mood&, const Mood&) = default;
};

/// The usual mood of a seat whose cores are so crowded now.
/// @param spread as much as samples of measuring differ from one run to the next
Mood usual_mood(double crowding, double spread);

class CostBook {
 public:
  virtual ~CostBook() = default;
  virtual std::vector<FrameSample> frames(const Hash128& key) const = 0;
  virtual std::vector<float> entries(const Hash128& key) const = 0;
  virtual StageCosts stage(const StageRef& stage) const = 0;
  /// What the outside took of playouts on this seat that went on like now; empty when none is known.
  virtual std::vector<Disturbance> lately() const { return {}; }
  /// What the seat's probabilities have been worth.
  virtual Calibration calibration() const { return {}; }
  /// How many times as wide as those of the trials alone ranges of drops have to be on this seat.
  virtual double widening() const { return 1; }
  /// The mood that the seat is in now, as far as this book can tell. `spread` as in usual_mood.
  virtual Mood mood(double spread) const { return usual_mood(crowding(), spread); }
  /// How crowded the cores are now, as crowding_of; −1: not known.
  virtual double crowding() const { return -1; }
};

/// What is known of frames of these stages without measuring them: mean milliseconds, and within how much of
/// the sum nine in ten lie.
struct KnownCost {
  double fetch_ms = 0, process_ms = 0, error_ms = 0;
  bool known = false;  ///< every stage, on this seat, and inside what its law has seen
  double ms() const { return fetch_ms + process_ms; }
};
KnownCost known_cost(const CostBook& book, std::span<const StageRef> stages, int workers = 2);

/// Load of a frame: what limits is either fetching, which goes one frame at a time, or all of its work spread
/// over the processors.
inline double load_of(double fetch_ms, double process_ms, int workers, double period_ms) {
  return std::max(fetch_ms, (fetch_ms + process_ms) / workers) / period_ms;
}

/// Whether laws alone say what frames of these stages cost, surely enough that measuring them can be left
/// out: every stage is known, and nine in ten frames lie within `tolerance` of the sum.
bool covered(const KnownCost& cost, double tolerance = 0.2);
inline bool covered(const CostBook& book, std::span<const StageRef> stages) {
  return covered(known_cost(book, stages));
}

/// What the cost of a whole frame depends on: the stages it goes through.
Hash128 frame_key(std::span<const StageRef> stages);

}  // namespace gc
