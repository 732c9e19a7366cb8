// What holds a seat back for a timeline, what would help, and what to do with what is there.
#pragma once
#include "forecast/forecast.h"
#include "measure/codecs.h"
#include "measure/profile_book.h"

namespace gc {

/// A seat with more of something. 1 is the seat as it is.
struct SeatChange {
  double processor_speed = 1;
  double disk_speed = 1;
  double memory_bandwidth = 1;
  double accelerator_speed = 1;
  int processors = 1;  ///< times as many
};

/// The costs of another book as they would be on the changed seat. Whole frames are put together from stages.
class ChangedBook : public CostBook {
 public:
  /// `copy_mb_s_per_worker`: memory bandwidth that one of several workers gets; 0 when unknown.
  ChangedBook(const CostBook& book, const SeatChange& change, double copy_mb_s_per_worker)
      : book_(book), change_(change), copy_mb_s_(copy_mb_s_per_worker) {}
  std::vector<FrameSample> frames(const Hash128&) const override { return {}; }
  std::vector<float> entries(const Hash128& key) const override;
  StageCosts stage(const StageRef& stage) const override;

 private:
  const CostBook& book_;
  SeatChange change_;
  double copy_mb_s_;
};

/// Least milliseconds that a stage can take when it reads and writes each pixel once (16 bytes each way): the
/// memory roof of the roofline model (Williams, Waterman and Patterson, 2009).
double memory_roof_ms(const StageRef& stage, double copy_mb_s);

struct Gain {
  std::string resource;  ///< "processors", "processor speed", "disk", "memory bandwidth", "accelerator"
  double factor = 2;
  double drops = 0;     ///< then expected
  int not_holding = 0;  ///< spans that then spill or waver
};

struct SeatVerdict {
  std::string seat;
  double drops = 0;
  int spilling = 0, wavering = 0;
  std::vector<std::string> taken_over;  ///< work that its profile has no law of
  bool holds() const { return spilling + wavering == 0; }
};

struct AdviceItem {
  std::string text;  ///< what to do or to know, with its numbers
  int weight = 0;    ///< larger comes first
};

struct Advice {
  double drops = 0;  ///< expected now
  int spilling = 0, wavering = 0;
  std::vector<Span> binding;       ///< spans that do not hold, with the resource that binds each
  std::vector<Gain> gains;         ///< of twice as much of each resource
  std::vector<SeatVerdict> seats;  ///< known other seats
  double least_speed = 0;    ///< processors this many times as fast hold everything; 0: not even 16 times
  int least_processors = 0;  ///< or this many of the present speed; 0: not even 64
  std::vector<AdviceItem> items;
  std::string sentence;  ///< the one that answers
};

struct AdviceOptions {
  ForecastOptions forecast;
  std::vector<SeatProfile> others;
};

/// The seat's profile may lack anything that was not measured; then nothing is said of it.
Advice advise(const Program& program, std::shared_ptr<const Notebook> notebook, const SeatProfile& seat,
              const Route& sealed, const AdviceOptions& options);

/// The same timeline on another seat: its costs, and as many workers as it has processors.
Forecast forecast_on(const Program& program, const ProfileBook& book, const Route& sealed,
                     FrameRange range, ForecastOptions options);

}  // namespace gc
