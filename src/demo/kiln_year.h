// The Kiln Year on paper: its sources, its segments, and how heavy each is to be.
#pragma once
#include "demo/demo.h"
#include "media/writer.h"
#include "timeline/timeline.h"

namespace gc::kiln {

struct SourcePlan {
  const char* name;
  const char* scene;
  Form form;
  Frames frames;
  float grain;
};

inline constexpr SourcePlan kSources[] = {
    {"bowl-turning", "bowl", Form::h264_long_gop, 288, 0.03f},
    {"kiln-glow", "kiln", Form::vc3_sq, 192, 0.0f},
    {"rain-window", "rain", Form::h264_intra, 240, 0.02f},
    {"dust-beam", "dust", Form::motion_jpeg, 192, 0.0f},
    {"hands-wheel", "hands", Form::h264_long_gop, 288, 0.02f},
    {"night-firing", "firing", Form::h264_long_gop, 240, 0.035f},
};

/// How heavy a segment is made, as a target load; 0 leaves it light.
struct SegmentPlan {
  const char* name;
  int source;  ///< −1: the composition, −2: a solid
  Frames in, length;
  bool graded;
  double target;
  bool soft;  ///< its heavy part is blur rather than noise reduction
  const char* note;
};

inline constexpr SegmentPlan kMain[] = {
    {"Morning at the pottery", 2, 0, 96, true, 0, false, "Open on the window. Keep it quiet."},
    {"Bowl, first turn", 0, 24, 84, true, 0, false, ""},
    {"Bowl, glaze close", 0, 120, 96, true, 1.55, false,
     "Noise danced in the glaze; judge the clean-up in motion."},
    {"Hands, centring", 4, 0, 96, false, 0, false, ""},
    {"Hands, opening", 4, 100, 84, true, 0.97, false, "Skin a touch warmer, please."},
    {"Dust in the beam", 3, 0, 96, true, 0, false, ""},
    {"Dust, slow haze", 3, 60, 72, true, 2.3, true, "Softness agreed. Watch the beam for banding."},
    {"Kiln, door ajar", 1, 0, 84, true, 0, false, ""},
    {"Kiln, glow and smoke", 1, 60, 96, true, 1.3, false, "Does the glow flicker? Only real time shows it."},
    {"Shelf of bowls", -1, 0, 96, true, 0, false, "Inset is a placeholder."},
    {"Rain, second pass", 2, 96, 72, false, 0, false, ""},
    {"Firing, sparks", 5, 0, 96, true, 1.0, false, "Sparks must stay sharp."},
    {"Firing, first flame", 5, 96, 72, true, 0, false, ""},
    {"Firing, long watch", 5, 120, 96, true, 1.8, false, "Darkest shot of the reel; noise in the hillside."},
    {"Hands, lifting the wall", 4, 180, 90, true, 0, false, ""},
    {"Bowl on the bench", 0, 24, 72, false, 0, false, ""},
    {"Window, evening", 2, 150, 84, true, 0, false, ""},
    {"Kiln, cooling", 1, 96, 84, true, 0, false, ""},
    {"Dust settles", 3, 96, 90, false, 0, false, ""},
    {"Last bowl", 0, 150, 96, true, 0, false, "Hold for the music."},
    {"Night, embers", 5, 30, 96, true, 0, false, ""},
    {"End card", -2, 0, 48, false, 0, false, ""},
};

/// The heavy layer of the composition, which is shown twice: baking it once serves both.
inline constexpr SegmentPlan kShelf{"Bowl, for the shelf", 0, 60, 96, false, 1.05, false, ""};

inline fs::path source_file(const fs::path& folder, const SourcePlan& s) {
  return folder / "media" / (std::string(s.name) + form_extension(s.form));
}

inline Effect effect(const std::string& id, const char* type, Json params) {
  return {id, type, std::move(params), true, true, {}};
}
inline Effect grade(const std::string& id) {
  return effect(id, "cdl",
                {{"slope", {1.06, 1.0, 0.94}},
                 {"offset", {-0.01, -0.005, 0.0}},
                 {"power", {1.0, 1.0, 1.02}},
                 {"saturation", 1.08}});
}
inline Effect noise_reduction(const std::string& id, int radius) {
  return effect(id, "spatial_nr", {{"radius", radius}, {"strength", 0.1}});
}
inline Effect blur(const std::string& id, double sigma) { return effect(id, "blur", {{"sigma", sigma}}); }

}  // namespace gc::kiln
