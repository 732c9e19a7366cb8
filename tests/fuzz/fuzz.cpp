// One fuzzed entrance a program, chosen by GCLK_FUZZ_… at compile time. Whatever comes in is read or refused; nothing
// crashes, hangs or takes memory without bounds. What was read is used as the program would use it.
#include <unistd.h>

#include <cstdint>
#include <string>

#include "base/files.h"
#include "base/json.h"

#if defined(GCLK_FUZZ_OTIO)
#include "interchange/otio.h"
#include "timeline/layout.h"
#elif defined(GCLK_FUZZ_LUT)
#include "media/colour.h"
#elif defined(GCLK_FUZZ_CARDS)
#include "interchange/cards.h"
#elif defined(GCLK_FUZZ_RECORD)
#include "playout/record.h"
#elif defined(GCLK_FUZZ_PROFILE)
#include "seat/profile.h"
#elif defined(GCLK_FUZZ_SETTINGS)
#include "desk/settings.h"
#elif defined(GCLK_FUZZ_MEDIA)
#include "media/convert.h"
extern "C" {
#include <libavutil/frame.h>
}
#endif

namespace {

/// The input as a file in memory, of one name for each process.
std::string as_file(const std::string& bytes, const char* extension) {
  const std::string path = "/dev/shm/gclk-fuzz-" + std::to_string(::getpid()) + extension;
  if (FILE* f = std::fopen(path.c_str(), "wb")) {
    std::fwrite(bytes.data(), 1, bytes.size(), f);
    std::fclose(f);
  }
  return path;
}

void take(const std::string& bytes) {
  using namespace gc;
#if defined(GCLK_FUZZ_OTIO)
  const auto t = timeline_from_otio(bytes, "fuzz.otio", "/nowhere");
  if (!t) return;
  const std::string written = timeline_to_otio(**t);
  const auto again = timeline_from_otio(written, "again.otio", "/nowhere", {{}, (*t)->place});
  if (!again) __builtin_trap();  // what was written can be read
  if ((*t)->duration() < 100'000) (void)lay_out(**t);
#elif defined(GCLK_FUZZ_LUT)
  const auto lut = lut_transform(as_file(bytes, ".cube"), true);
  float pixels[8] = {0, 0.5f, 1, 1, -3, 7, 0.2f, 0};
  if (lut) (*lut)->apply(pixels, 2);
#elif defined(GCLK_FUZZ_CARDS)
  (void)cards_from_csv(bytes, "fuzz.csv");
#elif defined(GCLK_FUZZ_RECORD)
  if (const auto j = parse_json(bytes, "fuzz"))
    if (const auto r = record_from_json(*j, "fuzz")) (void)r;
#elif defined(GCLK_FUZZ_PROFILE)
  if (const auto j = parse_json(bytes, "fuzz"))
    if (const auto p = profile_from_json(*j, "fuzz")) (void)p;
#elif defined(GCLK_FUZZ_SETTINGS)
  (void)load_settings(as_file(bytes, ".json"));
#elif defined(GCLK_FUZZ_MEDIA)
  auto reader = FrameReader::open(as_file(bytes, ".bin"));
  if (!reader) return;
  const MediaInfo& info = (*reader)->info();
  if (static_cast<std::int64_t>(info.width) * info.height > 1 << 20) return;
  for (const Frames n : {Frames{0}, Frames{2}, info.frames / 2})
    if (const auto f = (*reader)->read(n)) (void)to_image(**f, 64, 36);
#endif
}

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  take({reinterpret_cast<const char*>(data), size});
  return 0;
}
