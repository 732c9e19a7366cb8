// The notebook: everything measured on this seat, kept from session to session.
#pragma once
#include <mutex>
#include <span>
#include <unordered_map>

#include "base/database.h"
#include "base/files.h"
#include "effects/stage.h"
#include "render/program.h"

namespace gc {

/// The two parts of a frame's way through the pipeline, ms: fetching (read and decode, in order) and
/// processing.
struct FrameSample {
  float fetch_ms = 0;
  float process_ms = 0;
};

/// One audit as it is remembered.
struct AuditRecord {
  std::string timeline, at;
  double drops_forecast = 0, drops_observed = 0, span_f1 = 0;
  int spans_called = 0, spans_right = 0;  ///< spans called "spills", and how many of them did drop frames
};

/// Median with its 95 % interval from order statistics (binomial, normal approximation).
struct MedianEstimate {
  double median = 0, low = 0, high = 0;
  int count = 0;
  /// Half the interval's width over the median; large while there are few samples.
  double relative_error() const { return count < 5 || median <= 0 ? 1e9 : (high - low) / 2 / median; }
};
MedianEstimate median_of(std::vector<float> values);

class Notebook {
 public:
  static Result<std::shared_ptr<Notebook>> open(const fs::path& file);

  /// A stage's samples. `type` and `size` let work of the same sort be estimated from it.
  void add_stage(const StageRef& stage, std::span<const StageSample> samples);
  void add_frames(const Hash128& key, std::span<const FrameSample> samples);
  /// Times of opening and seeking before the first frame after a cut; the decoding up to it is not in them.
  void add_entries(const Hash128& key, std::span<const float> fetch_ms);
  void add_encode(const Hash128& key, std::span<const float> ms);
  void add_audit(const AuditRecord& record);

  /// The most recent samples, at most 256 of a kind; empty when never measured. Wall milliseconds.
  std::vector<float> stage(const Hash128& key) const;
  std::vector<FrameSample> frames(const Hash128& key) const;
  std::vector<float> entries(const Hash128& key) const;
  std::vector<float> encode(const Hash128& key) const;
  std::vector<AuditRecord> audits() const;

  /// Samples of the nearest measured work of the same sort, scaled by size; empty when there is none.
  std::vector<float> estimate(const StageRef& stage) const;

  /// Writes what was added since. Without it, samples live for this session only.
  Result<void> save();

 private:
  struct Series {
    std::vector<float> values;
    std::vector<float> second;  // process times beside fetch times
    std::size_t unsaved = 0;
    int kind = 0;
    Hash128 type;
    double size = 0;
  };
  enum What { kStage = 0, kFrame = 1, kEntry = 2, kEncode = 3 };
  Result<void> load();
  Series& series(What what, const Hash128& key);
  const Series* find(What what, const Hash128& key) const;

  Database database_;
  mutable std::mutex mutex_;
  std::unordered_map<Hash128, Series> all_[4];
  std::vector<AuditRecord> audits_;
};

/// What the cost of a whole frame depends on: the stages it goes through.
Hash128 frame_key(std::span<const StageRef> stages);

}  // namespace gc
