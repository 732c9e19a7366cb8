// The house keeps one direction of dependence: a room includes only rooms below it, and the core knows no
// interface.
#include "support.h"

namespace gc {
namespace {

const std::vector<std::string> kRooms{"base",    "timeline", "interchange", "media",   "effects",
                                      "render",  "pipeline", "seat",        "measure", "forecast",
                                      "playout", "shelf",    "remedy",      "queue",       "plan",    "audit",
                                      "release", "demo",     "desk",        "cli",     "app"};

TEST(Rooms, IncludeOnlyDownward) {
  const auto level = [](const std::string& room) {
    return std::find(kRooms.begin(), kRooms.end(), room) - kRooms.begin();
  };
  int files = 0;
  for (const auto& entry : fs::recursive_directory_iterator(GCLK_SOURCE)) {
    const std::string ext = entry.path().extension().string();
    if (ext != ".cpp" && ext != ".h") continue;
    ++files;
    const std::string room = fs::relative(entry.path(), GCLK_SOURCE).begin()->string();
    ASSERT_LT(level(room), static_cast<std::ptrdiff_t>(kRooms.size())) << room << " is no known room";
    std::ifstream in(entry.path());
    for (std::string line; std::getline(in, line);) {
      if (room != "app") EXPECT_EQ(line.find("#include <Q"), std::string::npos) << entry.path();
      if (!line.starts_with("#include \"")) continue;
      const std::string target = line.substr(10, line.find('/') - 10);
      EXPECT_LE(level(target), level(room)) << entry.path() << " includes " << line;
      EXPECT_FALSE(room == "app" && target == "cli") << entry.path();
    }
  }
  EXPECT_GT(files, 60);
}

// WCAG 2.1: contrast of text 4.5:1 or more, from the colours of the style sheet.
TEST(Look, TextIsReadableAndTheSurroundIsNeutral) {
  const std::string style = *read_file(fs::path(GCLK_SOURCE) / "app/style.cpp");
  const auto luminance = [](int v) {
    const double s = v / 255.0;
    return s <= 0.04045 ? s / 12.92 : std::pow((s + 0.055) / 1.055, 2.4);
  };
  int colours = 0;
  for (std::size_t at = style.find('#'); at != std::string::npos; at = style.find('#', at + 1)) {
    const std::string hex = style.substr(at + 1, 6);
    if (hex.find_first_not_of("0123456789abcdef") != std::string::npos) continue;
    ++colours;
    EXPECT_TRUE(hex.substr(0, 2) == hex.substr(2, 2) && hex.substr(2, 2) == hex.substr(4, 2))
        << "#" << hex << " is not neutral";
  }
  EXPECT_GT(colours, 30);
  const auto contrast = [&](int text, int ground) {
    return (luminance(std::max(text, ground)) + 0.05) / (luminance(std::min(text, ground)) + 0.05);
  };
  for (const auto& [text, ground] : {std::pair{0xd6, 0x1e}, std::pair{0xd6, 0x3a}, std::pair{0xb4, 0x2b},
                                     std::pair{0xa4, 0x26}, std::pair{0xff, 0x4a}, std::pair{0x1a, 0xd6}})
    EXPECT_GE(contrast(text, ground), 4.5) << std::hex << text << " on " << ground;
}

}  // namespace
}  // namespace gc
