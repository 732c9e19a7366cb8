// A finished delivery, read back and held against the timeline.
#pragma once
#include "release/delivery.h"

namespace gc {

struct VerifyOptions {
  FrameRange range;          ///< of the timeline, that the file is of
  int samples = 12;          ///< frames that are held against a live render, besides those that look odd
  double least_psnr_db = 0;  ///< 0: what the file's codec can be expected to keep
  bool burnt_in = false;     ///< the lower edge is not looked at
  bool manifest = true;      ///< written beside the file
};

/// One thing that is wrong with it.
struct Finding {
  Frames frame = -1;  ///< of the timeline; −1: of the whole
  std::string what;   ///< one sentence
};

struct Verification {
  std::vector<Finding> findings;
  Frames frames = 0;             ///< read back
  int sampled = 0;
  double psnr_db_worst = 0, psnr_db_mean = 0;
  double sound_seconds = 0;
  fs::path manifest;
  bool good() const { return findings.empty(); }
};

/// Reads every frame: count, rate, raster, colour tags, timecode, length of the sound; frames that are black, the same as
/// the one before, or hatched are held against a live render, and some others too. Writes a manifest with a hash of every
/// frame in the format of FFmpeg's framehash; one that lies there already is compared with and stays. Errors: the file cannot be opened.
Result<Verification> verify_delivery(const fs::path& file, const ProgramPtr& delivered, MediaCatalog& media, const VerifyOptions& options,
                                     const std::function<bool(Frames done)>& progress);

fs::path manifest_of(const fs::path& file);

/// PSNR of a picture as it was read to the live one of a frame, as such a file can keep it: its chroma subsampled, its codes
/// whole numbers; dB, 100 at most. Errors: it cannot be looked at.
/// @param whole false: the lower edge is not looked at
Result<double> psnr_to_live(const Program& program, Frames frame, const AVFrame& there, Decoders& decoders, StageLog& log, bool whole = true);

}  // namespace gc
