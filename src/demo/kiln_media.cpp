#include "demo/kiln_media.h"

#include <fmt/format.h>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <mutex>
#include <thread>

#include "demo/kiln_year.h"
#include "media/synthetic.h"
#include "pipeline/pipeline.h"

namespace gc::kiln {
namespace {

Result<void> make_source(const fs::path& file, const SourcePlan& plan, const DemoOptions& o,
                         std::atomic<Frames>& done) {
  const fs::path temporary = file.string() + ".making" + form_extension(plan.form);
  auto writer = MovieWriter::create(temporary.string(), plan.form, o.width, o.height, {24, 1});
  if (!writer) return std::unexpected(writer.error());
  for (Frames n = 0; n < plan.frames; ++n) {
    if (auto r = (*writer)->write(synthetic_frame(plan.scene, n, o.width, o.height, o.seed, plan.grain)); !r)
      return r;
    ++done;
  }
  if (auto r = (*writer)->finish(); !r) return r;
  return sync_and_rename(temporary, file);
}

Result<void> make_tone(const fs::path& file, std::uint32_t seed, double brightness) {
  // Room tone: brown noise, very low.
  std::vector<std::int16_t> samples(48000 * 20);
  std::uint32_t state = seed | 1U;
  double level = 0;
  for (std::int16_t& s : samples) {
    state ^= state << 13, state ^= state >> 17, state ^= state << 5;
    level = level * (1 - brightness) + (static_cast<double>(state) / 4294967296.0 - 0.5) * brightness;
    s = static_cast<std::int16_t>(level * 9000);
  }
  return write_wav(file.string(), samples);
}

}  // namespace

Result<bool> make_media(const fs::path& folder, const DemoOptions& o,
                        const std::function<void(double, const std::string&)>& progress) {
  std::error_code e;
  fs::create_directories(folder / "media", e);
  if (e)
    return environment("the demo folder cannot be made: " + e.message(), folder.string(),
                       "Choose a folder that may be written to.");
  std::vector<const SourcePlan*> missing;
  Frames total = 0;
  // A stamp says of which seed and raster the media are, so that they are made once.
  const std::string stamp = fmt::format("seed {} raster {}x{} pictures 3\n", o.seed, o.width, o.height);
  const auto found = read_file(folder / "media" / "made-from.txt");
  const bool same = found && *found == stamp;
  for (const SourcePlan& s : kSources)
    if (!same || !fs::exists(source_file(folder, s))) missing.push_back(&s), total += s.frames;
  if (missing.empty()) return false;
  std::sort(missing.begin(), missing.end(),
            [](const SourcePlan* a, const SourcePlan* b) { return a->frames > b->frames; });
  std::atomic<std::size_t> next{0};
  std::atomic<Frames> done{0};
  std::mutex mutex;
  std::optional<Error> error;
  std::vector<std::thread> threads;
  for (int i = 0; i < default_workers(); ++i)
    threads.emplace_back([&] {
      for (std::size_t n = next++; n < missing.size(); n = next++) {
        if (progress && i == 0)
          progress(0.8 * static_cast<double>(done) / static_cast<double>(total),
                   fmt::format("Painting {}", missing[n]->name));
        if (auto r = make_source(source_file(folder, *missing[n]), *missing[n], o, done); !r) {
          const std::lock_guard lock(mutex);
          error = r.error();
          return;
        }
      }
    });
  for (std::thread& t : threads) t.join();
  if (error) return std::unexpected(*error);
  for (const auto& [name, brightness] : {std::pair{"room-tone.wav", 0.01}, std::pair{"rain.wav", 0.2}})
    if (auto r = make_tone(folder / "media" / name, o.seed, brightness); !r)
      return std::unexpected(r.error());
  if (auto r = write_file_atomic(folder / "media" / "made-from.txt", stamp); !r)
    return std::unexpected(r.error());
  return true;
}

}  // namespace gc::kiln
