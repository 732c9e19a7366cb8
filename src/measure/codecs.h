// What each form of cached media costs on this seat, on real frames of a timeline.
#pragma once
#include "measure/measure.h"
#include "media/writer.h"
#include "seat/profile.h"

namespace gc {

struct CodecOptions {
  int workers = 2;
  int frames = 8;       ///< different ones, from all over the timeline
  double seconds = 60;  ///< about; forms that do not fit into it are left out and named
  fs::path folder;      ///< for the files, which are removed; empty: the cache folder
  std::vector<Form> forms = cached_forms();
};

struct CodecReport {
  std::vector<FormCost> forms;
  std::vector<std::string> left_out;  ///< names of forms and why
  double seconds = 0;
};

/// Renders the frames at full quality, writes them in every form, reads them back on one thread and on all,
/// and holds the pictures against the originals. Decoding teaches the notebook's laws.
Result<CodecReport> measure_codecs(
    const ProgramPtr& program, Notebook* notebook, const CodecOptions& options,
    const std::function<bool(const std::string& form, double share)>& progress);

/// The same on made-up pictures of this raster.
Result<CodecReport> measure_codecs(
    int width, int height, Notebook* notebook, const CodecOptions& options,
    const std::function<bool(const std::string& form, double share)>& progress);

/// What to keep media in: the most economical form that plays from the volume with `margin` to spare and
/// loses little enough against uncompressed media: 6 dB for cutting (or 44 dB in all); for colour decisions 3
/// dB (or 48) and at least 10 bits; for a delivery 1.5 dB (or 54) and at least 10 bits. Null when none is.
enum class Purpose { cutting, colour, delivery };
const char* purpose_name(Purpose p);
const FormCost* best_form(const std::vector<FormCost>& forms, const VolumeSpeed& volume, double fps,
                          Purpose purpose, double margin = 1.5);

}  // namespace gc
