// The notebook: everything measured on this seat, kept from session to session. Opening it reads next to
// nothing; what is asked for is read when it is asked for.
#pragma once
#include <mutex>
#include <unordered_map>

#include "base/database.h"
#include "base/files.h"
#include "base/gauge.h"
#include "measure/costs.h"
#include "media/identity.h"
#include "seat/conditions.h"

namespace gc {

/// One audit as it is remembered.
struct AuditRecord {
  std::string timeline, at;
  double drops_forecast = 0, drops_observed = 0, span_f1 = 0;
  int spans_called = 0, spans_right = 0;  ///< spans called "spills", and how many of them did drop frames
};

/// What encoding a frame took.
struct EncodeSample {
  float wall_ms = 0;  ///< until the next one could begin
  float cpu_ms = 0;   ///< of all threads that the encoder has
};

/// What a render was said to take, and what it took.
struct PriceRecord {
  std::string at;  ///< ISO 8601, UTC
  Frames frames = 0;
  double modelled_s = 0;  ///< by costs alone
  double said_s = 0;      ///< as the person was told: held to how earlier ones went
  double taken_s = 0;
  bool within(double share) const { return std::abs(said_s - taken_s) <= share * taken_s; }
};

/// Something that a person should know about the seat's costs.
struct News {
  std::string at;    ///< ISO 8601, UTC
  std::string law;   ///< its id; empty for a new era
  std::string text;  ///< "Temporal noise reduction became 1.8 times slower since 2026-11-24."
  double factor = 1;
};

struct Era {
  int id = 0;
  std::string since, change;  ///< what made it begin
  Json identity;
};

/// Median with its 95 % interval from order statistics (binomial, normal approximation).
struct MedianEstimate {
  double median = 0, low = 0, high = 0;
  int count = 0;
  /// Half the interval's width over the median; large while there are few samples.
  double relative_error() const { return count < 5 || median <= 0 ? 1e9 : (high - low) / 2 / median; }
};
MedianEstimate median_of(std::vector<float> values);

class Notebook : public CostBook, public IdentityMemory {
 public:
  static constexpr std::size_t kVersion = 8;  ///< of its format
  /// Raised with every change of what the simulation says. What one said is no evidence of what the next one says: its
  /// probabilities and ranges are held to what happened anew.
  static constexpr std::int64_t kSimulation = 1;
  static Result<std::shared_ptr<Notebook>> open(const fs::path& file);

  /// A stage's samples: kept by its key, and the law of such work learns from them.
  void add_stage(const StageRef& stage, std::span<const StageSample> samples);
  /// The law alone learns from them: samples of frames that were rendered or played.
  void learn(const StageRef& stage, std::span<const StageSample> samples);
  void add_frames(const Hash128& key, std::span<const FrameSample> samples);
  /// Times of opening and seeking before the first frame after a cut; the decoding up to it is not in them.
  void add_entries(const Hash128& key, std::span<const float> fetch_ms);
  void add_encode(const Hash128& key, std::span<const EncodeSample> samples);
  /// Bytes that encoded frames took.
  void add_sizes(const Hash128& key, std::span<const float> bytes);
  // Each of these is recorded at once, whole or not at all.
  Result<void> add_audit(const AuditRecord& record);
  Result<void> add_price(const PriceRecord& price);
  /// What the outside took of a playout, of which the latest forty are kept, or while frames were measured: of those two.
  Result<void> add_disturbance(const Disturbance& d);
  /// How much of the machine others had while this program worked: what `lately` takes for now. A minute or
  /// so of such readings counts; one by one they say little.
  void note_shared(const Conditions& c);
  /// How crowded the cores were while this program worked, for `crowding`; negative ones say nothing.
  /// `weight` of this reading against those before it.
  void note_crowding(double crowding, double weight = 0.2);
  /// What was said of segments, as the simulation had it, and what came of it; the latest thousand are kept.
  Result<void> add_outcomes(std::span<const Said> outcomes);
  /// How wide the range of a forecast had to be to hold its playout; the latest sixty are kept.
  Result<void> add_range(const RangeNeeded& needed);
  /// What went on around the samples that are added from now on.
  void set_conditions(const Conditions& conditions);

  // The most recent samples, at most 256 of a kind; empty when never measured. Wall milliseconds.
  std::vector<float> stage_samples(const Hash128& key) const;
  std::vector<FrameSample> frames(const Hash128& key) const override;
  std::vector<float> entries(const Hash128& key) const override;
  std::vector<EncodeSample> encode(const Hash128& key) const;
  /// Their mean; nothing where there are none.
  std::optional<EncodeSample> mean_encode(const Hash128& key) const;
  std::vector<float> sizes(const Hash128& key) const;  ///< bytes
  std::vector<AuditRecord> audits() const;
  /// Taken ÷ said of earlier renders, sorted, with those put in beforehand that a seat without any goes by.
  std::vector<double> price_ratios() const;
  std::vector<PriceRecord> prices() const;  ///< oldest first, at most the latest two hundred
  /// How many times as long renders have lately taken as their costs said. 1 while none was made.
  double price_factor() const;
  /// Mean costs of played stretches over those that are known; the latest few hundred are kept. `crowding`
  /// before the playout.
  Result<void> add_moods(std::span<const float> ratios, double crowding = -1);
  /// The playouts that others disturbed about as much as they do now, and the latest few, since that changes.
  /// The latest dozen where nothing is known of now.
  std::vector<Disturbance> lately() const override;
  Mood mood(double spread) const override;
  double crowding() const override;
  /// How many times as long this work takes on a core that others work on.
  double shared_core_factor(const StageRef& stage) const;
  Calibration calibration() const override;
  double widening() const override;
  StageCosts stage(const StageRef& stage) const override;

  std::optional<Hash128> content(const Hash128& state) const override;
  void keep_content(const Hash128& state, const Hash128& content) override;

  std::optional<CostEstimate> predict(const LawName& law, const Terms& terms) const;
  CostLaw law(const LawName& name) const;  ///< without places when nothing is known
  std::vector<CostLaw> laws() const;       ///< by name
  std::vector<News> news() const;          ///< newest first
  std::vector<Era> eras() const;           ///< oldest first; the last one is the present
  std::int64_t samples() const;            ///< ever kept

  /// Empty when its file is whole; else what is wrong with it.
  std::string damage() const { return database_.damage(); }

  /// For tests: another machine than this one.
  Result<void> begin_era(const Json& identity);

  /// Writes what was added since; without it, samples live for this session only. What other programs have
  /// written to the same notebook meanwhile stays, and counts here from now on.
  Result<void> save();

 private:
  struct Series {
    std::vector<float> values;
    std::vector<float> second;  // process times beside fetch times
    std::size_t unsaved = 0;    // of the values, the last ones
    Hash128 stored;             // of what the file had when it was last read or written
  };
  struct Kept {
    CostLaw law;
    bool unsaved = false;
    Hash128 stored;
  };
  struct Samples {
    std::vector<float> clean, disturbed;
  };
  static Samples sorted(const StageRef& stage, std::span<const StageSample> samples);
  struct Batch {
    std::string law;
    Terms terms{};
    Samples ms;
    Conditions conditions;
    double at_s = 0;
  };
  enum What { kStage = 0, kFrame = 1, kEntry = 2, kEncode = 3, kSize = 4, kWhats = 5 };
  Series& series(What what, const Hash128& key) const;
  Kept& kept(const LawName& name) const;
  void learn_locked(const StageRef& stage, Samples samples);
  void notice(const CostLaw& law, const Terms& terms, const std::vector<float>& ms);
  Result<void> add_news(const News& news);
  Result<void> save_series(What what, const Hash128& key, Series& series, const std::string& at);
  Result<void> save_law(const std::string& id, Kept& kept);
  Result<void> save_batches(const std::string& at);
  std::vector<Era> read_eras() const;

  Database database_;
  mutable std::mutex mutex_;
  mutable std::optional<Calibration> calibration_;  ///< until an outcome is added
  /// What one playout took against known costs, over its stretches.
  struct Played {
    double crowding = -1;  ///< before it began; −1: unknown
    double usual = 1;      ///< median
    double spread = 0;     ///< median of how far the stretches' logarithms are from that
    double weight = 1;     ///< less than 1 where few stretches tell
  };
  mutable std::optional<std::vector<Played>> played_;  ///< latest first; read once
  const std::vector<Played>& played() const;        ///< with the mutex held
  /// A number that no playout in this table has.
  std::int64_t next_playout(const char* table);
  mutable std::unordered_map<Hash128, Series> all_[kWhats];
  mutable std::unordered_map<std::string, Kept> laws_;
  std::vector<Batch> batches_;
  Conditions conditions_;
  /// What was told lately of something that changes from minute to minute: a moving mean.
  struct Lately {
    double value = 0, at_s = 0;
    void note(double reading, double weight, double now_s);
    bool known(double now_s) const;
  };
  Lately shared_, crowding_;
  void keep_lately(const char* what, const Lately& l);
  int era_ = 0;
};

/// Whether nobody else worked on the core, as far as it was looked at.
inline bool undisturbed(const StageSample& s) {
  return s.gauge == 0 || s.gauge < static_cast<float>(kSharedCore);
}

/// What a sample says the work costs: the thread's own time, or the time that passed where the work is done
/// elsewhere.
inline float cost_ms(const StageRef& stage, const StageSample& sample) {
  return stage.by_wall ? sample.wall_ms : sample.cpu_ms;
}

}  // namespace gc
