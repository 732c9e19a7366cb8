#include "audit/foreign.h"

#include <fmt/format.h>

#include <array>
#include <cmath>
#include <cstdlib>
#include <random>
#include <set>

#include "audit/foreign_files.h"
#include "audit/foreign_layers.h"
#include "interchange/media_url.h"
#include "render/agree.h"
#include "render/renderer.h"

namespace gc {
namespace {

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
      // Every seed begins at another way, so that a run of seeds goes through all of them.
      const auto way = (static_cast<std::size_t>(o_.seed) * static_cast<std::size_t>(o_.files) + static_cast<std::size_t>(i)) % foreign_ways();
      auto made = make_foreign_file(folder_ / "media", i, way, any_);
      if (!made) return std::unexpected(made.error());
      report_.kinds.push_back(made->kind);
      clip(*made, i);
      made_.push_back(*made);
      if (more_() % 5 == 0) generator();
      if (pick(6) == 0) gap(static_cast<int>(3 + pick(9)));
      else if (pick(5) == 0) transition();
    }
    // Nothing follows the last one.
    if (!children_.empty() && text_or(children_.back(), "OTIO_SCHEMA", "") == "Transition.1") gap(8);
    for (Json& show : shows_)
      if (mixed_.contains(show["frame"].get<Frames>())) show["number"] = nullptr, show["why"] = "transition";
    const std::string lut = (folder_ / "media" / "look.cube").string();
    if (auto r = write_file_atomic(lut, made_up_cube(17)); !r) return std::unexpected(r.error());
    over_ = foreign_layers(made_, {at_, width_, height_, {num_, den_}, lut}, o_.seed);
    // Where the cut lacks its picture, the whole frame counts as without one.
    std::set<Frames> without;
    for (const Json& show : shows_)
      if (const std::string why = text_or(show, "why", ""); why == "missing" || why == "beyond the end") without.insert(show["frame"].get<Frames>());
    for (Json& show : over_.shows)
      if (!without.contains(show["frame"].get<Frames>())) shows_.push_back(std::move(show));
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

  std::string url_of(const ForeignFile& s) {
    switch (s.sequence ? 0 : pick(4)) {
      case 0: return "media/" + s.name;
      case 1: return url_of_path(s.file);
      case 2: return "file://localhost" + url_of_path(s.file).substr(7);
      default: return s.file;
    }
  }

  void clip(const ForeignFile& s, int index) {
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
                   {"name_prefix", s.name.substr(0, s.name.find('%'))}, {"name_suffix", s.name.substr(s.name.find("%04d") + 4)},
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
    Json e = gentle_effect(more_());
    if (one_in(2)) e["metadata"]["glass_clock"]["id"] = fmt::format("e{}", index);
    else e = {{"OTIO_SCHEMA", "Effect.1"}, {"effect_name", "Somebody's grade"}};
    return e;
  }

  /// A picture out of nothing, now and then of a kind that only another program knows.
  void generator() {
    static constexpr std::array<const char*, 4> kKinds{"gradient", "solid", "fractal_noise", "Somebody's bars"};
    const char* kind = kKinds[more_() % kKinds.size()];
    constexpr int kLength = 5;
    children_.push_back({{"OTIO_SCHEMA", "Clip.2"},
                         {"name", kind},
                         {"source_range", range(0, kLength, rate())},
                         {"active_media_reference_key", "DEFAULT_MEDIA"},
                         {"media_references", {{"DEFAULT_MEDIA", {{"OTIO_SCHEMA", "GeneratorReference.1"}, {"generator_kind", kind}, {"parameters", Json::object()}}}}}});
    nothing(kLength, kind == kKinds.back() ? "missing" : "generator");
  }

  /// Across the next cut: what it mixes is no single number.
  void transition() {
    constexpr int kHalf = 2;
    static constexpr std::array<const char*, 4> kKinds{"dissolve", "dip", "wipe", "morph"};
    const Json kind = {{"glass_clock", {{"kind", kKinds[more_() % kKinds.size()]}}}};
    children_.push_back({{"OTIO_SCHEMA", "Transition.1"},
                         {"metadata", more_() % 2 == 0 ? kind : Json::object()},
                         {"transition_type", one_in(3) ? "Custom_Transition" : "SMPTE_Dissolve"},
                         {"in_offset", time(kHalf, rate())},
                         {"out_offset", time(kHalf, rate())}});
    for (Frames f = at_ - kHalf; f < at_; ++f) mixed_.insert(f);
    for (Frames f = at_; f < at_ + kHalf; ++f) mixed_.insert(f);
  }

  void gap(int length) {
    children_.push_back({{"OTIO_SCHEMA", "Gap.1"}, {"source_range", range(0, length, rate())}});
    nothing(length, "gap");
  }
  /// Frames of the cut without a number.
  void nothing(int length, const char* why) {
    for (int f = 0; f < length; ++f)
      shows_.push_back({{"frame", at_ + f}, {"number", nullptr}, {"why", why}, {"box", {0, 0, width_, height_}}, {"kind", why}});
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
    t["tracks"] = {{"OTIO_SCHEMA", "Stack.1"}, {"name", "tracks"}, {"children", Json::array({track})}};
    Json& tracks = t["tracks"]["children"];
    for (const Json& above : over_.tracks) tracks.push_back(above);
    tracks.push_back(sound);
    return t;
  }

  fs::path folder_;
  ForeignOptions o_;
  std::mt19937_64 any_;
  std::mt19937_64 more_{o_.seed * 31 + 7};  ///< of what came later, so that older seeds keep their files and cuts
  std::vector<ForeignFile> made_;
  ForeignLayers over_;
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
  RenderOptions all;
  all.rendering = true;  // what playback cannot show has its frames too
  const ProgramPtr program = Program::compile(*timeline, media, all);
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
    // Whatever is missing of other layers: this one has its own place.
    const int shown = number_in(image, show["box"].get<std::array<int, 4>>());
    if (shown != wanted)
      check.wrong.push_back({f, wanted, shown,
                             text_or(show, "kind", "") + (notes.trouble.empty() ? "" : ": " + notes.trouble.front())});
  }
  return check;
}

}  // namespace gc
