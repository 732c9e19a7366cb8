#include "audit/random_media.h"

#include <fmt/format.h>
#include <tbb/parallel_for.h>

#include <cstdlib>

#include "media/picture_file.h"
#include "media/reader.h"
#include "media/synthetic.h"
#include "media/writer.h"

namespace gc {
namespace {

constexpr Frames kOwnFrames = 96;
constexpr int kForeignSeconds = 5;

struct Own {
  Form form;
  int width, height;
};
constexpr Own kOwn[] = {{Form::h264_long_gop, 1280, 720}, {Form::h264_long_gop, 640, 360}, {Form::h264_intra, 960, 540},
                        {Form::motion_jpeg, 1280, 720},   {Form::vc3_sq, 1280, 720},       {Form::vc3_hqx, 960, 540}};

/// And pictures, one file each.
constexpr int kSequenceWidth = 320, kSequenceHeight = 180;

struct Foreign {
  const char *extension, *source, *codec;
  int width, height, rate;
};
constexpr Foreign kForeign[] = {
    {"mp4", "testsrc2", "-pix_fmt yuv420p -c:v libx264 -g 50 -bf 3", 1280, 720, 25},
    {"mkv", "testsrc2", "-pix_fmt yuv420p10le -c:v libx265 -x265-params log-level=none:keyint=48", 960, 540, 24},
    {"mov", "testsrc", "-pix_fmt yuv422p -c:v dnxhd -profile:v dnxhr_sq", 1280, 720, 25},
    {"mov", "testsrc2", "-pix_fmt yuv422p10le -c:v prores_ks -profile:v 3", 1280, 720, 24},
    {"avi", "smptehdbars", "-pix_fmt yuvj422p -c:v mjpeg -q:v 3", 1280, 720, 30},
    {"mov", "testsrc2", "-pix_fmt yuv422p10le -c:v libx264 -g 1", 960, 540, 50},
    {"mp4", "testsrc", "-pix_fmt yuv420p -c:v libx264 -g 120", 640, 360, 24},
    {"ts", "testsrc2", "-pix_fmt yuv420p -c:v libx264 -g 25", 1920, 1080, 25},
    {"mov", "testsrc2", "-pix_fmt yuv420p -c:v libx265 -x265-params log-level=none:keyint=1 -tag:v hvc1", 640, 360, 60},
};

Result<void> write_own(const fs::path& file, const Own& c) {
  auto w = MovieWriter::create(file.string(), c.form, c.width, c.height, {24, 1});
  if (!w) return std::unexpected(w.error());
  for (Frames i = 0; i < kOwnFrames; ++i)
    if (auto r = (*w)->write(synthetic_frame("hands", i, c.width, c.height, 5, 0.02f)); !r) return r;
  return (*w)->finish();
}

Result<void> write_sequence(const fs::path& folder) {
  std::error_code e;
  fs::create_directories(folder, e);
  for (Frames i = 0; i < kOwnFrames; ++i)
    if (auto r = write_picture(synthetic_frame("kiln", i, kSequenceWidth, kSequenceHeight, 5, 0.02f), folder / fmt::format("f.{:04}.png", i)); !r) return r;
  return {};
}

Result<void> write_foreign(const fs::path& file, const Foreign& c) {
  const std::string command = fmt::format("ffmpeg -v error -y -f lavfi -i {}=s={}x{}:r={}:d={} {} '{}' 1>&2", c.source, c.width, c.height,
                                          c.rate, kForeignSeconds, c.codec, file.string());
  if (std::system(command.c_str()) != 0)
    return environment("ffmpeg could not make a file", file.string(), "Is the ffmpeg program there? It was told: " + command);
  return {};
}

}  // namespace

Result<std::vector<RandomClip>> random_media(const fs::path& folder, bool foreign) {
  std::error_code e;
  fs::create_directories(folder, e);
  std::vector<RandomClip> all;
  if (foreign)
    for (std::size_t i = 0; i < std::size(kForeign); ++i) {
      const Foreign& c = kForeign[i];
      all.push_back({(folder / fmt::format("foreign-{}-{}x{}.{}", i, c.width, c.height, c.extension)).string(), c.width, c.height,
                     {c.rate, 1}, c.rate * kForeignSeconds});
    }
  else
    for (const Own& c : kOwn)
      all.push_back({(folder / fmt::format("made-up-{}-{}x{}{}", static_cast<int>(c.form), c.width, c.height, form_extension(c.form))).string(),
                     c.width, c.height, {24, 1}, kOwnFrames});
  const fs::path pictures = folder / "made-up-pictures";
  std::vector<Result<void>> written(all.size() + 1);
  tbb::parallel_for(std::size_t{0}, all.size(), [&](std::size_t i) {
    const fs::path file = all[i].path;
    if (std::error_code none; fs::exists(file, none)) return;
    const fs::path making = folder / ("making-" + file.filename().string());
    written[i] = foreign ? write_foreign(making, kForeign[i]) : write_own(making, kOwn[i]);
    std::error_code moved;
    if (written[i]) fs::rename(making, file, moved);
  });
  if (!foreign) {
    if (!fs::exists(pictures, e)) {
      const fs::path making = folder / "making-pictures";
      written.back() = write_sequence(making);
      if (written.back()) fs::rename(making, pictures, e);
    }
    all.push_back({sequence_path((pictures / "f.%04d.png").string(), 0, kOwnFrames - 1, {24, 1}), kSequenceWidth, kSequenceHeight, {24, 1}, kOwnFrames});
  }
  for (const Result<void>& r : written)
    if (!r) return std::unexpected(r.error());
  return all;
}

}  // namespace gc
