// How soon the interface thread answers while measuring, rendering, saving and editing go on at once, with the timeline,
// its media and its shelf on a drive that takes 300 ms for each access. Beside it: an idle event loop in the same program
// at the same time. Writes build/bench-window.json.
#include <fmt/format.h>

#include "../tests/app/answers.h"

using namespace gc;

int main(int argc, char** argv) {
  if (!qEnvironmentVariableIsSet("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
  testing::InitGoogleTest(&argc, argv);
  const QTemporaryDir data;
  qputenv("XDG_DATA_HOME", data.path().toUtf8());
  qputenv("XDG_CONFIG_HOME", data.path().toUtf8());
  QApplication application(argc, argv);
  QApplication::setApplicationName("glass-clock-bench");
  const QTemporaryDir folder;
  std::vector<std::string> said;
  const auto [busy, idle] = answers_when_busy(folder.path().toStdString(), said);
  for (const std::string& s : said) fmt::print(stderr, "{}\n", s);
  const auto row = [](const Answers& a) {
    return Json{{"answers", a.count}, {"over_50_ms", a.over_50}, {"longest_ms", a.longest_ms}, {"beyond_100_ms", a.lost_ms}};
  };
  const Json all{{"window_answers", row(busy)}, {"window_answers_idle", row(idle)}, {"complete", said.empty()}};
  fmt::print("window_answers: longest {:.0f} ms, {} of {} over 50 ms; an idle loop meanwhile: longest {:.0f} ms, {} of {}\n",
             busy.longest_ms, busy.over_50, busy.count, idle.longest_ms, idle.over_50, idle.count);
  const auto written = write_file_atomic(fs::path(GCLK_BUILD) / "bench-window.json", all.dump(1) + "\n");
  return written && said.empty() ? 0 : 1;
}
