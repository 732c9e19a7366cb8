#include "audit/foreign.h"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <cstdlib>
#include <random>
#include <set>

#include "interchange/media_url.h"
#include "render/renderer.h"

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
  };
  return all;
}

struct Source {
  std::string file, url, kind;  ///< url without its folder; of a sequence the pattern
  int width = 0, height = 0;    ///< as a person sees it
  std::int64_t num = 25, den = 1;
  int frames = 0;
  bool variable = false, sequence = false, missing = false;
  std::int64_t timecode = -1;

  /// The number that is shown at a frame's time.
  int number(std::int64_t n) const {
    if (variable && n % 7 >= 2 && n % 7 <= 4) n = n - n % 7 + 1;
    return static_cast<int>(n % 256);
  }
  double fps() const { return static_cast<double>(num) / static_cast<double>(den); }
};

__extension__ using Wide = __int128;
std::int64_t floor_of(Wide num, Wide den) {
  Wide q = num / den;
  if (num % den != 0 && (num < 0) != (den < 0)) --q;
  return static_cast<std::int64_t>(q);
}

class ForeignMaker {
 public:
  ForeignMaker(fs::path folder, const ForeignOptions& o) : folder_(std::move(folder)), o_(o), any_(o.seed) {}

  Result<ForeignReport> make() {
    std::error_code e;
    fs::create_directories(folder_ / "media", e);
    if (e) return environment("the folder cannot be made: " + e.message(), folder_.string(), "Choose another.");
    report_.timeline = folder_ / "foreign.otio", report_.shows = folder_ / "shows.json";
    static constexpr std::array<std::pair<int, int>, 6> kRates{
        {{24, 1}, {24000, 1001}, {25, 1}, {30000, 1001}, {50, 1}, {30, 1}}};
    std::tie(num_, den_) = kRates[pick(kRates.size())];
    static constexpr std::array<std::pair<int, int>, 4> kRasters{{{320, 180}, {256, 144}, {180, 320}, {321, 181}}};
    std::tie(width_, height_) = kRasters[pick(kRasters.size())];
    for (int i = 0; i < o_.files && !(o_.stop && o_.stop()); ++i) {
      auto made = source(i);
      if (!made) return std::unexpected(made.error());
      report_.kinds.push_back(made->kind);
      clip(*made, i);
      if (pick(6) == 0) gap(static_cast<int>(3 + pick(9)));
      else if (pick(5) == 0) transition();
    }
    // Nothing follows the last one.
    if (!children_.empty() && text_or(children_.back(), "OTIO_SCHEMA", "") == "Transition.1") gap(8);
    for (Json& show : shows_)
      if (mixed_.contains(show["frame"].get<Frames>())) show["number"] = nullptr, show["why"] = "transition";
    report_.files = static_cast<int>(report_.kinds.size());
    report_.frames = at_;
    if (auto r = write_file_atomic(report_.timeline, document().dump(1) + "\n"); !r) return std::unexpected(r.error());
    const Json shows = {{"width", width_}, {"height", height_}, {"rate", rate()}, {"frames", shows_}};
    if (auto r = write_file_atomic(report_.shows, shows.dump() + "\n"); !r) return std::unexpected(r.error());
    return report_;
  }

 private:
  std::size_t pick(std::size_t n) { return static_cast<std::size_t>(any_() % n); }
  bool one_in(std::size_t n) { return pick(n) == 0; }
  double rate() const { return static_cast<double>(num_) / den_; }

  Json time(double value, double fps) const {
    return {{"OTIO_SCHEMA", "RationalTime.1"}, {"value", value}, {"rate", fps}};
  }
  Json range(double start, double length, double fps) const {
    return {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time(start, fps)}, {"duration", time(length, fps)}};
  }

  /// Every seed begins at another way, so that a run of seeds goes through all of them.
  Result<Source> source(int i) {
    const Way& w = ways()[(static_cast<std::size_t>(o_.seed) * static_cast<std::size_t>(o_.files) + static_cast<std::size_t>(i)) % ways().size()];
    Source s;
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
    s.frames = static_cast<int>(30 + pick(40));
    const std::string stem = fmt::format("{:02}{}", i, one_in(3) ? " shot #1 ü%" : "-shot");
    s.url = w.sequence ? fmt::format("{:02}-plate.%04d.{}", i, w.extension) : stem + "." + w.extension;
    s.file = (folder_ / "media" / s.url).string();
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
    const std::string before = w.offset && one_in(3) ? "offset" : "";
    std::string command = fmt::format(
        "ffmpeg -v error -y -f lavfi -i \"color=black:s={}x{}:r={}/{}:d={:.4f},format=gray,"
        "geq=lum='if(lt(Y,H/2),255*mod(floor(N/pow(2,floor(X*8/W))),2),128)'\" -frames:v {} {}-pix_fmt {} {} {} {} '{}' 1>&2",
        s.width, s.height, s.num, s.den, s.frames / s.fps() + 1, s.variable ? 1000 : s.frames,
        filters.empty() ? "" : "-vf \"" + filters.substr(0, filters.size() - 1) + "\" ", pixels, w.codec,
        s.variable ? "-vsync vfr -t " + fmt::format("{:.5f}", s.frames / s.fps()) : "",
        s.timecode >= 0 ? "-timecode 01:00:00:00" : s.sequence ? "-start_number 1" : "", s.file);
    if (std::system(command.c_str()) != 0)
      return environment("ffmpeg could not make a file", s.file, "Is the ffmpeg program there? It was told: " + command);
    if (turned != 0 || !before.empty()) {
      const std::string plain = s.file + ".plain." + w.extension;
      fs::rename(s.file, plain);
      command = fmt::format("ffmpeg -v error -y {} -i '{}' -c copy {} '{}'", before.empty() ? "" : "-itsoffset 2.5", plain,
                            turned != 0 ? fmt::format("-metadata:s:v rotate={}", turned) : "", s.file);
      if (std::system(command.c_str()) != 0)
        return environment("ffmpeg could not change a file", s.file, "It was told: " + command);
      fs::remove(plain);
    }
    // The last pictures of a variable rate may be among those that are left out.
    if (s.variable) s.frames = (s.frames - 5) / 7 * 7;
    s.kind = fmt::format("{} {}, {}, {}x{}, {:.3f}{}{}{}{}{}", w.extension, w.codec, pixels, s.width, s.height, s.fps(),
                         s.variable ? ", variable" : "", turned ? fmt::format(", turned {}", turned) : "",
                         before.empty() ? "" : ", begins late", s.timecode >= 0 ? ", timecode" : "",
                         aspect != 1 ? ", pixel aspect" : "");
    s.width = static_cast<int>(std::lround(s.width * aspect));
    if (!w.sequence && one_in(12)) fs::remove(s.file), s.missing = true;
    return s;
  }

  std::string url_of(const Source& s) {
    switch (s.sequence ? 0 : pick(4)) {
      case 0: return "media/" + s.url;
      case 1: return url_of_path(s.file);
      case 2: return "file://localhost" + url_of_path(s.file).substr(7);
      default: return s.file;
    }
  }

  void clip(const Source& s, int index) {
    static constexpr std::array<std::pair<int, int>, 5> kSpeeds{{{1, 1}, {2, 1}, {1, 2}, {-1, 1}, {0, 1}}};
    const auto [speed_num, speed_den] = one_in(2) ? kSpeeds[0] : kSpeeds[pick(kSpeeds.size())];
    // Where it starts, in frames of the media; enough of them for what is shown.
    const double per_frame = s.fps() / rate() * std::abs(static_cast<double>(speed_num) / speed_den);
    const int most = static_cast<int>((s.frames - 4) / std::max(per_frame, 0.2));
    const int length = std::clamp(static_cast<int>(6 + pick(20)), 1, std::max(1, most / 2));
    const int used = static_cast<int>(std::ceil(length * per_frame)) + 1;
    int start = static_cast<int>(pick(static_cast<std::size_t>(std::max(1, s.frames - used - 1))));
    if (speed_num < 0) start = std::min(s.frames - 1, start + used);
    const bool with_range = s.sequence || !one_in(3);
    const double first = s.timecode >= 0 && !one_in(3) ? static_cast<double>(s.timecode) : s.sequence ? 1 : 0;
    Json c = {{"OTIO_SCHEMA", one_in(4) ? "Clip.1" : "Clip.2"}, {"name", fmt::format("clip {}", index)}, {"metadata", {{"maker", {{"index", index}}}}}};
    Json reference = {{"OTIO_SCHEMA", "ExternalReference.1"}, {"target_url", url_of(s)}};
    if (s.sequence)
      reference = {{"OTIO_SCHEMA", "ImageSequenceReference.1"}, {"target_url_base", "media/"},
                   {"name_prefix", s.url.substr(0, s.url.find('%'))}, {"name_suffix", s.url.substr(s.url.find("%04d") + 4)},
                   {"start_frame", 1}, {"frame_step", 1}, {"rate", s.fps()}, {"frame_zero_padding", 4},
                   {"missing_frame_policy", "error"}};
    if (with_range) reference["available_range"] = range(first, s.frames, s.fps());
    // Most programs state starts at the media's rate, and lengths at the timeline's.
    const double origin = with_range ? first : s.timecode >= 0 ? static_cast<double>(s.timecode) : 0;
    c["source_range"] = {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time(origin + start, s.fps())}, {"duration", time(length, rate())}};
    if (c["OTIO_SCHEMA"] == "Clip.1") c["media_reference"] = reference;
    else c["media_references"] = {{"DEFAULT_MEDIA", reference}}, c["active_media_reference_key"] = "DEFAULT_MEDIA";
    if (speed_num == 0) c["effects"] = Json::array({{{"OTIO_SCHEMA", "FreezeFrame.1"}, {"effect_name", "FreezeFrame"}}});
    else if (speed_num != 1 || speed_den != 1)
      c["effects"] = Json::array({{{"OTIO_SCHEMA", "LinearTimeWarp.1"}, {"effect_name", "LinearTimeWarp"},
                                   {"time_scalar", static_cast<double>(speed_num) / speed_den}}});
    else if (one_in(3)) c["effects"] = Json::array({effect(index)});
    const bool off = one_in(15);
    if (off) c["enabled"] = false;
    const bool nested = one_in(6);
    if (nested) {
      Json track = {{"OTIO_SCHEMA", "Track.1"}, {"name", "inner"}, {"kind", "Video"}, {"children", Json::array({c})}};
      children_.push_back({{"OTIO_SCHEMA", "Stack.1"}, {"name", fmt::format("nest {}", index)}, {"children", Json::array({track})}});
    } else {
      children_.push_back(c);
    }
    const double scale = std::min(static_cast<double>(width_) / s.width, static_cast<double>(height_) / s.height);
    const int w = static_cast<int>(std::lround(s.width * scale)), h = static_cast<int>(std::lround(s.height * scale));
    for (int f = 0; f < length; ++f) {
      // Frames of one name in the trade are counted, others go by time.
      const std::int64_t n = floor_of(Wide{start} * speed_den * s.den * num_ + Wide{f} * speed_num * s.num * den_,
                                      Wide{speed_den} * s.den * num_);
      Json show = {{"frame", at_ + f}, {"box", {(width_ - w) / 2, (height_ - h) / 2, w, h}}, {"kind", s.kind}};
      if (off) show["number"] = nullptr, show["why"] = "gap";
      else if (s.missing || n < 0 || n >= s.frames) show["number"] = nullptr, show["why"] = s.missing ? "missing" : "beyond the end";
      else show["number"] = s.number(n);
      shows_.push_back(std::move(show));
    }
    at_ += length;
  }

  /// One that leaves the number readable.
  Json effect(int index) {
    static constexpr std::array<const char*, 3> kTypes{"cdl", "sharpen", "contrast"};
    Json e = {{"OTIO_SCHEMA", "Effect.1"}, {"effect_name", kTypes[pick(kTypes.size())]}};
    if (one_in(2)) e["metadata"]["glass_clock"] = {{"id", fmt::format("e{}", index)}, {"params", Json::object()}};
    else e["effect_name"] = "Somebody's grade";
    return e;
  }

  /// Across the next cut: what it mixes is no single number.
  void transition() {
    constexpr int kHalf = 2;
    children_.push_back({{"OTIO_SCHEMA", "Transition.1"},
                         {"transition_type", one_in(3) ? "Custom_Transition" : "SMPTE_Dissolve"},
                         {"in_offset", time(kHalf, rate())},
                         {"out_offset", time(kHalf, rate())}});
    for (Frames f = at_ - kHalf; f < at_; ++f) mixed_.insert(f);
    for (Frames f = at_; f < at_ + kHalf; ++f) mixed_.insert(f);
  }

  void gap(int length) {
    children_.push_back({{"OTIO_SCHEMA", "Gap.1"}, {"source_range", range(0, length, rate())}});
    for (int f = 0; f < length; ++f)
      shows_.push_back({{"frame", at_ + f}, {"number", nullptr}, {"why", "gap"}, {"box", {0, 0, width_, height_}}, {"kind", "gap"}});
    at_ += length;
  }

  Json document() {
    Json t = {{"OTIO_SCHEMA", "Timeline.1"},
              {"name", fmt::format("Foreign {}", o_.seed)},
              {"global_start_time", time(one_in(2) ? 0 : 86400, rate())},
              {"metadata", {{"maker", {{"note", "made of numbered pictures"}}}}}};
    // No raster is stated by the standard; ours is, so that the boxes are known.
    t["metadata"]["glass_clock"] = {{"width", width_}, {"height", height_}};
    Json track = {{"OTIO_SCHEMA", "Track.1"}, {"name", "V1"}, {"kind", "Video"}, {"children", children_}};
    Json sound = {{"OTIO_SCHEMA", "Track.1"}, {"name", "A1"}, {"kind", "Audio"}, {"children", Json::array()}};
    t["tracks"] = {{"OTIO_SCHEMA", "Stack.1"}, {"name", "tracks"}, {"children", Json::array({track, sound})}};
    return t;
  }

  fs::path folder_;
  ForeignOptions o_;
  std::mt19937_64 any_;
  int width_ = 320, height_ = 180, num_ = 25, den_ = 1;
  Frames at_ = 0;
  std::set<Frames> mixed_;
  Json children_ = Json::array(), shows_ = Json::array();
  ForeignReport report_;
};

int number_in(const Image& image, const std::array<int, 4>& box) {
  int n = 0;
  for (int k = 0; k < 8; ++k) {
    const int x = std::clamp(box[0] + (2 * k + 1) * box[2] / 16, 0, image.width() - 1),
              y = std::clamp(box[1] + box[3] / 4, 0, image.height() - 1);
    if (image.row(y)[4 * x + 1] > 0.5f) n |= 1 << k;
  }
  return n;
}

}  // namespace

Result<ForeignReport> make_foreign(const fs::path& folder, const ForeignOptions& options) {
  return ForeignMaker(fs::absolute(folder), options).make();
}

Result<ForeignCheck> check_foreign(const ForeignReport& report, int every, const ReadOptions& options) {
  const auto text = read_file(report.shows);
  if (!text) return std::unexpected(text.error());
  const auto shows = parse_json(*text, report.shows.string());
  if (!shows) return std::unexpected(shows.error());
  MediaCatalog media;
  const auto timeline = load_timeline(report.timeline, options);
  if (!timeline) return std::unexpected(timeline.error());
  const ProgramPtr program = Program::compile(*timeline, media);
  Decoders decoders;
  ForeignCheck check;
  const Json& frames = (*shows)["frames"];
  for (std::size_t i = 0; i < frames.size(); ++i) {
    const Json& show = frames[i];
    const bool edge = i == 0 || i + 1 == frames.size() || frames[i - 1]["kind"] != show["kind"] || frames[i + 1]["kind"] != show["kind"];
    if (!edge && i % static_cast<std::size_t>(every) != 0) continue;
    const Frames f = show["frame"].get<Frames>();
    ++check.looked_at;
    FrameNotes notes;
    StageLog log;
    const Image image = render_frame(*program, f, nullptr, decoders, log, nullptr, &notes);
    const bool none = notes.stand_in || !notes.trouble.empty();
    if (show["number"].is_null()) {
      const std::string why = text_or(show, "why", "");
      if ((why == "missing" || why == "beyond the end") && !none)
        check.wrong.push_back({f, -1, number_in(image, show["box"].get<std::array<int, 4>>()), text_or(show, "kind", "")});
      continue;
    }
    const int wanted = show["number"].get<int>();
    const int shown = none ? -1 : number_in(image, show["box"].get<std::array<int, 4>>());
    if (shown != wanted)
      check.wrong.push_back({f, wanted, shown,
                             text_or(show, "kind", "") + (notes.trouble.empty() ? "" : ": " + notes.trouble.front())});
  }
  return check;
}

}  // namespace gc
