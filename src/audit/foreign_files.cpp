#include "audit/foreign_files.h"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <cstdlib>

namespace gc {
namespace {

/// A way to write a file. `odd`: rasters with odd sides work. `pixels`: layouts, one of which is taken.
struct Way {
  const char* extension;
  const char* codec;  ///< arguments of the ffmpeg program
  std::vector<const char*> pixels;
  bool odd = false, variable = false, turned = false, offset = false, timecode = false, aspect = false;
  const char* fixed_raster = nullptr;  ///< the only one that the form has
  bool sequence = false;
  double fixed_rate = 0;
};

const std::vector<Way>& ways() {
  static const std::vector<Way> all{
      {"mp4", "-c:v libx264 -bf 3 -g 30", {"yuv420p", "yuv422p", "yuv444p"}, false, true, true, true, false, true},
      {"mov", "-c:v libx264 -bf 2 -g 12", {"yuv420p", "yuv420p10le"}, false, true, true, true, true, true},
      {"mkv", "-c:v libx264 -bf 3 -g 50", {"yuv420p", "yuv444p"}, false, true, false, true, false, true},
      {"mp4", "-c:v libx264 -x264-params open-gop=1:keyint=24", {"yuv420p"}, false, false, false, true, false, false},
      {"mp4", "-c:v libx265 -x265-params log-level=none:keyint=30 -tag:v hvc1", {"yuv420p", "yuv420p10le"}, false, true, true, false, false, true},
      {"mkv", "-c:v libx265 -x265-params log-level=none:keyint=24", {"yuv420p10le", "yuv422p10le"}, false, false, false, true, false, false},
      {"ts", "-c:v libx264 -bf 3 -g 25", {"yuv420p"}, false, false, false, true, false, true},
      {"ts", "-c:v libx265 -x265-params log-level=none:keyint=25", {"yuv420p"}, false, false, false, false, false, false},
      {"m2ts", "-c:v mpeg2video -bf 2 -b:v 4M -g 15", {"yuv420p", "yuv422p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"mpg", "-c:v mpeg2video -bf 2 -b:v 4M -g 15", {"yuv420p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"mpg", "-c:v mpeg1video -bf 2 -b:v 4M -g 15", {"yuv420p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"h264", "-c:v libx264 -bf 3 -g 30", {"yuv420p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"hevc", "-c:v libx265 -x265-params log-level=none:keyint=30", {"yuv420p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"avi", "-c:v mpeg4 -bf 2 -b:v 4M -g 20", {"yuv420p"}, true, false, false, false, false, false},
      {"avi", "-c:v mjpeg -q:v 2", {"yuvj420p", "yuvj422p", "yuvj444p"}, true, false, false, false, false, false},
      {"avi", "-c:v huffyuv", {"yuv422p", "rgb24"}, false, false, false, false, false, false},
      {"avi", "-c:v rawvideo", {"bgr24", "yuv420p"}, false, false, false, false, false, false},
      {"avi", "-c:v ffvhuff", {"yuv420p", "yuv422p10le"}, false, false, false, false, false, false},
      {"mov", "-c:v mjpeg -q:v 2", {"yuvj420p", "yuvj422p"}, true, true, false, true, true, true},
      {"mov", "-c:v prores_ks -profile:v 3", {"yuv422p10le"}, false, false, true, true, true, true},
      {"mov", "-c:v prores_ks -profile:v 4444 -alpha_bits 0", {"yuv444p10le"}, false, false, false, false, true, false},
      {"mov", "-c:v png", {"rgb24", "rgba"}, true, false, false, false, false, false},
      {"mov", "-c:v qtrle", {"rgb24"}, true, false, false, false, false, false},
      {"mov", "-c:v v210", {"yuv422p10le"}, false, false, false, false, true, false},
      {"mov", "-c:v jpeg2000", {"yuv420p", "rgb24"}, true, false, false, false, false, false},
      {"mov", "-c:v dnxhd -profile:v dnxhr_hqx", {"yuv422p10le"}, false, false, false, false, true, false, "320x192"},
      {"mxf", "-c:v dnxhd -profile:v dnxhr_sq", {"yuv422p"}, false, false, false, false, true, false, "320x192", false, 25},
      {"mxf", "-c:v mpeg2video -bf 2 -b:v 8M -g 12", {"yuv422p"}, false, false, false, false, true, false, nullptr, false, 25},
      {"mkv", "-c:v ffv1 -level 3", {"yuv420p", "yuv422p10le", "gray", "gbrp", "yuv410p", "yuv411p", "gray16le"}, true, false, false, true, false, true},
      {"mkv", "-c:v utvideo", {"yuv420p", "gbrp"}, false, false, false, false, false, false},
      {"nut", "-c:v rawvideo", {"yuv422p", "nv12", "yuyv422", "rgb565le", "gbrp10le"}, false, false, false, false, false, false},
      {"y4m", "", {"yuv420p", "yuv444p"}, true, false, false, false, false, false},
      {"webm", "-c:v libvpx -b:v 2M -g 30", {"yuv420p"}, true, false, false, false, false, false},
      {"webm", "-c:v libvpx-vp9 -b:v 2M -g 30 -cpu-used 8 -deadline realtime", {"yuv420p", "yuv444p"}, true, false, false, true, false, false},
      {"ogv", "-c:v libtheora -q:v 8", {"yuv420p"}, false, false, false, false, false, false},
      {"flv", "-c:v libx264 -bf 3 -g 30", {"yuv420p"}, false, false, false, false, false, false},
      {"asf", "-c:v wmv2 -b:v 4M", {"yuv420p"}, false, false, false, false, false, false},
      {"dv", "-c:v dvvideo -aspect 4:3", {"yuv420p"}, false, false, false, false, false, false, "720x576", false, 25},
      {"png", "-c:v png", {"rgb24", "rgb48be", "gray"}, true, false, false, false, false, false, nullptr, true},
      {"tif", "-c:v tiff", {"rgb24", "rgb48le"}, true, false, false, false, false, false, nullptr, true},
      {"dpx", "-c:v dpx", {"rgb24", "gbrp10be"}, true, false, false, false, false, false, nullptr, true},
      {"jpg", "-c:v mjpeg -q:v 2", {"yuvj420p", "yuvj444p"}, true, false, false, false, false, false, nullptr, true},
      {"bmp", "-c:v bmp", {"bgr24"}, true, false, false, false, false, false, nullptr, true},
      {"m2v", "-c:v mpeg2video -bf 2 -b:v 4M -g 15", {"yuv420p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"m4v", "-c:v mpeg4 -bf 2 -b:v 4M -g 20", {"yuv420p"}, false, false, false, false, false, false},
      {"mov", "-c:v mpeg4 -b:v 4M -g 1", {"yuv420p"}, true, false, true, false, true, false},
      {"mp4", "-f m4v -c:v mpeg4 -bf 2 -b:v 4M -g 20", {"yuv420p"}, false, false, false, false, false, false, nullptr, false, 25},
      {"mjpeg", "-c:v mjpeg -q:v 2", {"yuvj422p"}, true, false, false, false, false, false, nullptr, false, 25},
      {"ivf", "-c:v libvpx -b:v 2M -g 30", {"yuv420p"}, true, false, false, false, false, false},
      {"mkv", "-c:v libaom-av1 -cpu-used 8 -usage realtime -g 30", {"yuv420p", "yuv420p10le"}, false, false, false, false, false, false},
      {"apng", "-c:v apng -plays 1", {"rgb24", "rgba"}, true, false, false, false, false, false},
      {"exr", "-c:v exr", {"gbrpf32le"}, true, false, false, false, false, false, nullptr, true},
      {"webp", "-c:v libwebp -lossless 1", {"bgra"}, true, false, false, false, false, false, nullptr, true},
      {"jp2", "-c:v jpeg2000", {"rgb24"}, true, false, false, false, false, false, nullptr, true},
      {"sgi", "-c:v sgi", {"rgb24"}, true, false, false, false, false, false, nullptr, true},
      {"ppm", "-c:v ppm", {"rgb24", "rgb48be"}, true, false, false, false, false, false, nullptr, true},
  };
  return all;
}

}  // namespace

int ForeignFile::number(std::int64_t n) const {
  if (variable && n % 7 >= 2 && n % 7 <= 4) n = n - n % 7 + 1;
  return static_cast<int>(n % 256);
}

std::size_t foreign_ways() { return ways().size(); }

Result<ForeignFile> make_foreign_file(const fs::path& folder, int index, std::size_t way, std::mt19937_64& any, bool plain,
                                      const std::string& picture) {
  const auto pick = [&](std::size_t n) { return static_cast<std::size_t>(any() % n); };
  const auto one_in = [&](std::size_t n) { return pick(n) == 0 && !plain; };
  const Way& w = ways()[way];
  ForeignFile s;
  static constexpr std::array<std::pair<int, int>, 9> kRates{{{24, 1}, {24000, 1001}, {25, 1}, {30000, 1001}, {30, 1}, {50, 1}, {60000, 1001}, {60, 1}, {12, 1}}};
  std::tie(s.num, s.den) = kRates[pick(kRates.size())];
  if (w.fixed_rate > 0) s.num = static_cast<int>(w.fixed_rate), s.den = 1;
  static constexpr std::array<std::pair<int, int>, 5> kEven{{{160, 96}, {192, 108}, {96, 160}, {320, 240}, {352, 288}}};
  static constexpr std::array<std::pair<int, int>, 4> kOdd{{{161, 97}, {159, 96}, {160, 97}, {97, 161}}};
  std::tie(s.width, s.height) = w.odd && one_in(2) ? kOdd[pick(kOdd.size())] : kEven[pick(kEven.size())];
  if (w.fixed_raster && std::sscanf(w.fixed_raster, "%dx%d", &s.width, &s.height) != 2) s.width = 320;
  const char* pixels = w.pixels[pick(w.pixels.size())];
  s.variable = w.variable && one_in(4);
  s.sequence = w.sequence;
  const int turned = w.turned && !s.variable && one_in(3) ? 90 * static_cast<int>(1 + pick(3)) : 0;
  s.frames = plain ? 24 : static_cast<int>(30 + pick(40));
  const std::string stem = fmt::format("{:02}{}", index, one_in(3) ? " shot #1 ü%" : "-shot");
  s.name = w.sequence ? fmt::format("{:02}-plate.%04d.{}", index, w.extension) : stem + "." + w.extension;
  s.file = (folder / s.name).string();
  std::string filters;
  // A picture that will be turned is stored the other way round, so that it is upright when it is obeyed.
  if (turned == 90) filters = "transpose=clock,";
  if (turned == 270) filters = "transpose=cclock,";
  if (turned == 180) filters = "hflip,vflip,";
  if (s.variable) filters += "select='not(between(mod(n,7),2,4))',";
  double aspect = 1;
  if (w.aspect && turned == 0 && one_in(4)) aspect = 1.5, filters += "setsar=3/2,";
  if (w.fixed_raster && std::string_view(w.fixed_raster) == "720x576") aspect = 16.0 / 15;
  if (w.timecode && one_in(2)) s.timecode = 3600 * ((s.num + s.den / 2) / s.den);
  const bool late = w.offset && one_in(3);
  // FFmpeg's scaler makes float pictures of grey ones green.
  const char* by_way_of = std::string_view(w.extension) == "exr" ? ",format=gbrp" : "";
  std::string command = fmt::format(
      "ffmpeg -v error -y -f lavfi -i \"color=black:s={}x{}:r={}/{}:d={:.4f},{}{}\" -frames:v {} {}-pix_fmt {} {} {} {} '{}' 1>&2",
      s.width, s.height, s.num, s.den, s.frames / s.fps() + 1, picture, by_way_of, s.variable ? 1000 : s.frames,
      filters.empty() ? "" : "-vf \"" + filters.substr(0, filters.size() - 1) + "\" ", pixels, w.codec,
      s.variable ? "-vsync vfr -t " + fmt::format("{:.5f}", s.frames / s.fps()) : "",
      s.timecode >= 0 ? "-timecode 01:00:00:00" : s.sequence ? "-start_number 1" : "", s.file);
  if (std::system(command.c_str()) != 0)
    return environment("ffmpeg could not make a file", s.file, "Is the ffmpeg program there? It was told: " + command);
  if (turned != 0 || late) {
    const std::string as_made = s.file + ".as-made." + w.extension;
    fs::rename(s.file, as_made);
    command = fmt::format("ffmpeg -v error -y {} -i '{}' -c copy {} '{}'", late ? "-itsoffset 2.5" : "", as_made,
                          turned != 0 ? fmt::format("-metadata:s:v rotate={}", turned) : "", s.file);
    if (std::system(command.c_str()) != 0)
      return environment("ffmpeg could not change a file", s.file, "It was told: " + command);
    fs::remove(as_made);
  }
  // The last pictures of a variable rate may be among those that are left out.
  if (s.variable) s.frames = (s.frames - 5) / 7 * 7;
  s.kind = fmt::format("{} {}, {}, {}x{}, {:.3f}{}{}{}{}{}", w.extension, w.codec, pixels, s.width, s.height, s.fps(),
                       s.variable ? ", variable" : "", turned ? fmt::format(", turned {}", turned) : "",
                       late ? ", begins late" : "", s.timecode >= 0 ? ", timecode" : "",
                       aspect != 1 ? ", pixel aspect" : "");
  s.width = static_cast<int>(std::lround(s.width * aspect));
  if (!w.sequence && one_in(12)) fs::remove(s.file), s.missing = true;
  return s;
}

}  // namespace gc
