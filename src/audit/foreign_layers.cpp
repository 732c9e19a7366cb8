#include "audit/foreign_layers.h"

#include <fmt/format.h>

#include <array>
#include <cmath>

#include "effects/registry.h"
#include "measure/calibrate.h"
#include "media/blend.h"

namespace gc {
namespace {

constexpr double kSize = 0.4, kAcross = 0.5, kDown = 0.76;  ///< of a picture in the picture: its scale and its middle

Json ours(const std::string& key, Json value) { return {{"glass_clock", {{key, std::move(value)}}}}; }

Json effect_object(const std::string& type, const Json& params) {
  return {{"OTIO_SCHEMA", "Effect.1"}, {"effect_name", type}, {"metadata", ours("params", params)}};
}

/// From one value to another over the first second.
Json keyed(const Json& from, const Json& to, const char* way) {
  return {{"keys", {{{"at", 0}, {"value", from}, {"way", way}}, {{"at", 10}, {"value", to}, {"way", way}}}}};
}

class LayerMaker {
 public:
  LayerMaker(const std::vector<ForeignFile>& files, const ForeignCut& cut, std::uint64_t seed)
      : cut_(cut), any_(seed * 6007 + 11), count_(static_cast<std::size_t>(seed) * 7) {
    for (const ForeignFile& f : files)
      if (!f.missing && !f.variable && !f.sequence && f.frames >= 30) files_.push_back(&f);
  }

  ForeignLayers make() {
    if (files_.empty() || cut_.length < 12) return {};
    Json over = Json::array();
    Frames at = gap(over, 2);
    while (at + 4 < cut_.length) {
      const auto length = std::min(cut_.length - at, static_cast<Frames>(6 + pick(10)));
      over.push_back(layer(count_++ % kKinds, at, length));
      at += length;
      at += gap(over, static_cast<Frames>(pick(4)));
    }
    Json matte = track("Matte", Json::array({generator("fractal_noise", {{"size", 20}}, cut_.length)}));
    matte["metadata"]["glass_clock"]["matte_only"] = true;
    out_.tracks.push_back(std::move(matte));
    out_.tracks.push_back(track("Over", std::move(over)));
    out_.tracks.push_back(adjustments());
    return out_;
  }

 private:
  static constexpr std::size_t kKinds = 8;

  std::size_t pick(std::size_t n) { return static_cast<std::size_t>(any_() % n); }
  Json time(double value, double fps) const { return {{"OTIO_SCHEMA", "RationalTime.1"}, {"value", value}, {"rate", fps}}; }
  Json range(double start, Frames length, double fps) const {
    return {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time(start, fps)}, {"duration", time(static_cast<double>(length), cut_.rate.fps())}};
  }
  Json track(const std::string& name, Json children) const {
    return {{"OTIO_SCHEMA", "Track.1"}, {"name", name}, {"kind", "Video"}, {"children", std::move(children)},
            {"metadata", ours("id", name)}};
  }
  Frames gap(Json& items, Frames length) const {
    if (length > 0) items.push_back({{"OTIO_SCHEMA", "Gap.1"}, {"source_range", range(0, length, cut_.rate.fps())}});
    return length;
  }

  Json clip(Json reference, double start, Frames length, double fps) {
    return {{"OTIO_SCHEMA", "Clip.2"},
            {"name", fmt::format("over {}", names_++)},
            {"source_range", range(start, length, fps)},
            {"media_references", {{"DEFAULT_MEDIA", std::move(reference)}}},
            {"active_media_reference_key", "DEFAULT_MEDIA"},
            {"metadata", {{"glass_clock", Json::object()}}},
            {"effects", Json::array()}};
  }
  static Json& mine(Json& object) { return object["metadata"]["glass_clock"]; }

  Json generator(const std::string& kind, const Json& params, Frames length) {
    return clip({{"OTIO_SCHEMA", "GeneratorReference.1"}, {"generator_kind", kind}, {"parameters", params}}, 0, length, cut_.rate.fps());
  }
  Json reference(const ForeignFile& f) const {
    Json available = {{"OTIO_SCHEMA", "TimeRange.1"}, {"start_time", time(0, f.fps())}, {"duration", time(f.frames, f.fps())}};
    return {{"OTIO_SCHEMA", "ExternalReference.1"}, {"target_url", f.file}, {"available_range", std::move(available)}};
  }
  const ForeignFile& file() { return *files_[pick(files_.size())]; }
  Json picture(const ForeignFile& f, Frames length) { return clip(reference(f), 0, length, f.fps()); }

  Json small(Json x = kAcross) const {
    return effect_object("transform", {{"scale", kSize}, {"x", std::move(x)}, {"y", kDown}});
  }
  /// The next effects in turn, so that each has its turn.
  void any_effects(Json& clip) {
    for (std::size_t k = 0; k < 3; ++k) {
      const EffectType& type = *effect_types()[effect_++ % effect_types().size()];
      if (&type == &cost_card_effect()) clip["effects"].push_back({{"OTIO_SCHEMA", "Effect.1"}, {"effect_name", "Somebody's glints"}});
      else clip["effects"].push_back(effect_object(type.id, any_params(any_, type, cut_.lut)));
    }
  }

  Json layer(std::size_t kind, Frames at, Frames length) {
    const ForeignFile& f = file();
    // At half speed each of its frames serves twice; so does a slower rate.
    const auto enough = std::min(length, static_cast<Frames>(static_cast<double>(f.frames - 1) * cut_.rate.fps() / f.fps()));
    Json c;
    switch (kind) {
      case 0:  // plain: its number can be read
        c = picture(f, length);
        c["effects"] = Json::array({small()});
        for (Frames n = 0; n < enough; ++n) show(f, at + n, n);
        return c;
      case 1:
        c = picture(f, length);
        any_effects(c);
        mine(c)["blend"] = blend_names()[pick(blend_names().size())];
        break;
      case 2: {
        const EffectType& type = *generator_types()[count_ % generator_types().size()];
        Json params = any_params(any_, type, cut_.lut);
        if (type.places) params["text"] = "The Kiln Year";
        c = generator(type.id, params, length);
        any_effects(c);
        break;
      }
      case 3:
        c = picture(f, length);
        mine(c)["matte"] = {{"track", "Matte"}, {"kind", pick(2) == 0 ? "luma" : "alpha"}, {"inverted", pick(2) == 0}};
        break;
      case 4: {
        // The same nest again where it was made before.
        const std::string name = "lower third";
        c = {{"OTIO_SCHEMA", "Stack.1"}, {"name", name}, {"metadata", ours("composition", name)}, {"children", Json::array()},
             {"source_range", range(0, length, cut_.rate.fps())}, {"effects", Json::array()}};
        if (!nested_) {
          Json upper = picture(file(), 16);
          any_effects(upper);
          mine(upper)["opacity"] = 0.6;
          c["children"] = {track("N1", Json::array({picture(f, 16)})), track("N2", Json::array({std::move(upper)}))};
        }
        nested_ = true;
        break;
      }
      case 5:
        c = picture(f, length);
        mine(c)["opacity"] = keyed(0.0, 1.0, "smooth");
        c["effects"] = Json::array({effect_object("cdl", {{"slope", keyed({0.5, 0.5, 0.5}, {1.5, 1.2, 1.0}, "linear")}}),
                                    small(keyed(0.3, 0.7, "hold"))});
        return c;
      case 6:
        c = picture(f, length);
        c["effects"] = Json::array({{{"OTIO_SCHEMA", "LinearTimeWarp.1"}, {"effect_name", "LinearTimeWarp"}, {"time_scalar", pick(2) == 0 ? 0.5 : -0.75}}});
        if (c["effects"][0]["time_scalar"] < 0) c["source_range"] = range(f.frames - 1, length, f.fps());
        mine(c)["between"] = pick(2) == 0 ? "blend" : "flow";
        break;
      default:  // two cameras of one moment
        c = picture(f, length);
        c["media_references"]["other camera"] = reference(file());
        c["active_media_reference_key"] = pick(2) == 0 ? "DEFAULT_MEDIA" : "other camera";
        mine(c)["fit"] = pick(2) == 0 ? "fill" : "stretch";
    }
    c["effects"].push_back(small());
    return c;
  }

  /// Gentle grades on everything below them, some of them changing.
  Json adjustments() {
    Json items = Json::array();
    gap(items, cut_.length / 4);
    Json c = generator("adjustment", Json::object(), cut_.length / 2);
    c["effects"] = Json::array({gentle_effect(count_), effect_object("cdl", {{"slope", keyed({0.9, 0.9, 0.9}, {1.1, 1.05, 1.0}, "linear")}})});
    items.push_back(std::move(c));
    return track("Adjustments", std::move(items));
  }

  /// The picture's own frame n · its rate ÷ ours, in the box where it lies.
  void show(const ForeignFile& f, Frames frame, Frames n) {
    const double fit = std::min(static_cast<double>(cut_.width) / f.width, static_cast<double>(cut_.height) / f.height) * kSize;
    const auto w = static_cast<int>(std::lround(f.width * fit)), h = static_cast<int>(std::lround(f.height * fit));
    const std::int64_t number = n * f.num * cut_.rate.den / (f.den * cut_.rate.num);
    out_.shows.push_back({{"frame", frame},
                          {"box", {static_cast<int>(cut_.width * kAcross) - w / 2, static_cast<int>(cut_.height * kDown) - h / 2, w, h}},
                          {"kind", "over: " + f.kind},
                          {"number", f.number(number)}});
  }

  const ForeignCut& cut_;
  std::mt19937_64 any_;
  std::size_t count_, effect_ = count_, names_ = 0;
  std::vector<const ForeignFile*> files_;
  bool nested_ = false;
  ForeignLayers out_;
};

}  // namespace

// Not among them: repairs that look at neighbours. A number's lowest bit changes with every frame, which is dust to them.
Json gentle_effect(std::size_t index) {
  static const std::vector<std::pair<const char*, Json>> all{
      {"cdl", {{"slope", {1.05, 1.0, 0.95}}}},
      {"sharpen", {{"amount", 0.5}, {"sigma", 1}}},
      {"contrast", {{"contrast", 1.2}}},
      {"saturation", {{"amount", 0.5}}},
      {"blur", {{"sigma", 0.8}}},
      {"spatial_nr", {{"radius", 1}, {"strength", 0.05}}},
      {"strong_nr", {{"search", 1}, {"strength", 0.02}}},
      {"grain", {{"amount", 0.02}}},
      {"vignette", {{"amount", 0.1}}},
      {"lens", {{"k1", 0.01}}},
      {"defocus", {{"radius", 1}}},
      {"directional_blur", {{"length", 1}}},
      {"glow", {{"threshold", 0.9}, {"sigma", 2}, {"amount", 0.1}}},
      {"stylise", {{"radius", 1}}},
      {"curves", {{"master", {{0, 0}, {0.5, 0.55}, {1, 1}}}}},
      {"colour_space", {{"from", "Rec. 709"}, {"to", "Rec. 709"}}},
  };
  const auto& [type, params] = all[index % all.size()];
  return effect_object(type, params);
}

ForeignLayers foreign_layers(const std::vector<ForeignFile>& files, const ForeignCut& cut, std::uint64_t seed) {
  return LayerMaker(files, cut, seed).make();
}

}  // namespace gc
