// A seat profile: what a machine can do, as measured, in an open file that can be carried anywhere. The
// format is in docs/formats.md. It holds no host name and no paths unless asked for.
#pragma once
#include <map>
#include <optional>

#include "seat/law.h"
#include "seat/machine.h"
#include "seat/volumes.h"

namespace gc {

/// What one form of cached media costs here, on real frames.
struct FormCost {
  std::string form;  ///< as form_name() gives it
  int width = 0, height = 0;
  int bits = 8;
  bool alpha = false;
  double bytes = 0;                       ///< of a frame, mean
  double encode_ms = 0, decode_ms = 0;    ///< of a frame on one thread
  int threads = 1;                        ///< frames at once when the next was measured
  double encode_fps = 0, decode_fps = 0;  ///< all of them together
  double psnr_db = 0, ssim = 0;           ///< against the original; psnr_db ≥ 1000: no difference
};

struct SeatProfile {
  static constexpr int kVersion = 1;
  std::string name;  ///< for people: "Thin laptop"
  std::string made;  ///< ISO 8601, UTC
  bool invented = false;
  std::string processor;
  int processors = 1, cores = 1;
  std::uint64_t memory_bytes = 0, last_level_cache_bytes = 0;
  double memory_left_gb = 4;  ///< to other programs
  std::optional<MemoryBandwidth> memory;
  std::optional<Endurance> endurance;
  std::vector<Contention> contention;
  std::optional<AcceleratorSpeed> accelerator;
  std::string accelerator_trouble;  ///< why there is none, or what is wrong with it
  int screen_width = 0, screen_height = 0;
  double others = 0, stolen = 0,
         shared = 0;  ///< background: shares of the processors, and of the time on shared cores
  std::vector<VolumeSpeed> volumes;
  std::vector<FormCost> forms;
  std::map<std::string, CostLaw> laws;
  Json eras = Json::array();
  std::vector<std::string> unknown;  ///< what was not measured, as sentences

  const CostLaw* law(const std::string& id) const;
  const FormCost* form(const std::string& name) const;
};

Json to_json(const SeatProfile& profile, bool with_paths = false);
/// Refuses files that are cut off, of a newer version, or with impossible numbers, and says which.
Result<SeatProfile> profile_from_json(const Json& json, const std::string& where);
Result<SeatProfile> load_profile(const fs::path& file);
Result<void> save_profile(const SeatProfile& profile, const fs::path& file, bool with_paths = false);

/// How much slower `theirs` is than `ours` where both have laws: the median ratio of what they predict at the
/// places of ours, and how far single laws lie from it (median absolute deviation of logarithms).
struct SeatRatio {
  double factor = 1, spread = 0.5;
  int laws = 0;
};
SeatRatio ratio_between(const SeatProfile& ours, const SeatProfile& theirs, StageKind kind);

/// Whether media of this form play in real time from a volume: how many times faster than needed the slower
/// of reading and decoding is. Frames at `fps`; decoding may use all of the seat's threads.
struct FormFit {
  double volume_margin = 0, decode_margin = 0;
  double margin() const { return std::min(volume_margin, decode_margin); }
};
FormFit fit_of(const FormCost& form, const VolumeSpeed& volume, double fps);

}  // namespace gc
