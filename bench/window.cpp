// How soon the interface thread answers while measuring, rendering, saving and editing go on at once, with the timeline,
// its media and its shelf on a drive that takes 300 ms for each access. Beside it: an idle event loop in the same program
// at the same time. Then a timeline at about nine tenths of the seat's load is played to nowhere and to the picture on a
// whole screen, in turns. Writes build/bench-window.json.
#include <fmt/format.h>

#include <thread>

#include "../tests/app/answers.h"
#include "app/application.h"
#include "app/viewer.h"
#include "media/synthetic.h"
#include "media/writer.h"

using namespace gc;

namespace {

/// Hands pictures to the viewer as the window does: never more than one on its way.
class ToViewer : public gc::Display {
 public:
  explicit ToViewer(Viewer& viewer) : viewer_(viewer) {}
  bool present(Frames, ScreenImage&& screen, double) override {
    const std::lock_guard lock(mutex_);
    const bool waiting = pending_.has_value();
    pending_ = std::move(screen);
    if (!waiting) QMetaObject::invokeMethod(&viewer_, [this] { show(); }, Qt::QueuedConnection);
    return true;
  }
  int shown = 0;

 private:
  void show() {
    std::optional<ScreenImage> now;
    {
      const std::lock_guard lock(mutex_);
      now.swap(pending_);
    }
    if (!now) return;
    auto* kept = new ScreenImage(std::move(*now));
    viewer_.show_picture(QImage(kept->bgra.data(), kept->width, kept->height, QImage::Format_RGB32,
                                [](void* p) { delete static_cast<ScreenImage*>(p); }, kept));
    ++shown;
  }
  Viewer& viewer_;
  std::mutex mutex_;
  std::optional<ScreenImage> pending_;
};

Frames dropped(const ProgramPtr& p, gc::Display& display) {
  std::atomic<bool> over{false}, stop{false};
  Frames n = 0;
  std::thread player([&] {
    PlayOptions o;
    o.workers = default_workers();
    n = play(p, nullptr, {0, p->duration()}, o, display, stop).dropped;
    over = true;
  });
  while (!over) QCoreApplication::processEvents(QEventLoop::AllEvents, 10);
  player.join();
  return n;
}

/// Drops with the null display and with the viewer, medians of five, in turns.
Json presenting(const std::string& folder, int width, int height, double sigma) {
  const std::string file = fmt::format("{}/p{}.mov", folder, height);
  auto writer = MovieWriter::create(file, Form::vc3_sq, width, height, {24, 1});
  if (!writer) return nullptr;
  for (Frames n = 0; n < 24; ++n) (void)(*writer)->write(synthetic_frame("bowl", n, width, height, 7, 0.02f));
  if (!(*writer)->finish()) return nullptr;
  auto t = std::make_shared<Timeline>();
  t->width = width, t->height = height, t->rate = {24, 1};
  auto m = std::make_shared<MediaSource>();
  m->id = "m", m->path = m->url = file, m->length = 24;
  t->sources["m"] = m;
  auto track = std::make_shared<Track>();
  for (int i = 0; i < 8; ++i) {
    auto s = std::make_shared<Segment>();
    s->id = fmt::format("s{}", i), s->ref = "m", s->duration = 24;
    s->stack = {{"b", "blur", {{"sigma", sigma}}, true, true, {}, {}}};
    track->items.push_back(SegmentPtr(s));
  }
  t->tracks.push_back(track);
  MediaCatalog media;
  const ProgramPtr p = Program::compile(t, media);
  QWidget main;
  Viewer viewer(&main);
  viewer.next();
  viewer.setGeometry(0, 0, width, height);
  NullDisplay nowhere;
  ToViewer screen(viewer);
  std::vector<Frames> without, with;
  for (int round = 0; round < 5; ++round) without.push_back(dropped(p, nowhere)), with.push_back(dropped(p, screen));
  std::sort(without.begin(), without.end()), std::sort(with.begin(), with.end());
  fmt::print("present_{}: {} of {} dropped with the picture on the screen, {} with no display; {} pictures were painted\n", height,
             with[2], p->duration(), without[2], screen.shown);
  return {{"dropped", with[2]}, {"dropped_null_display", without[2]}, {"met", with[2] <= without[2]}};
}

}  // namespace

int main(int argc, char** argv) {
  if (!qEnvironmentVariableIsSet("QT_QPA_PLATFORM")) qputenv("QT_QPA_PLATFORM", "offscreen");
  testing::InitGoogleTest(&argc, argv);
  const QTemporaryDir data;
  qputenv("XDG_DATA_HOME", data.path().toUtf8());
  qputenv("XDG_CONFIG_HOME", data.path().toUtf8());
  Application application(argc, argv);
  QApplication::setApplicationName("glass-clock-bench");
  const QTemporaryDir folder;
  std::vector<std::string> said;
  const auto [busy, idle] = answers_when_busy(folder.path().toStdString(), said);
  for (const std::string& s : said) fmt::print(stderr, "{}\n", s);
  const auto row = [](const Answers& a) {
    return Json{{"answers", a.count}, {"over_50_ms", a.over_50}, {"longest_ms", a.longest_ms}, {"beyond_100_ms", a.lost_ms}, {"longest_blocked_ms", a.longest_blocked_ms}};
  };
  const Json small = presenting(folder.path().toStdString(), 1280, 720, 5),
             large = presenting(folder.path().toStdString(), 1920, 1080, 3);
  const Json all{{"present_720", small}, {"present_1080", large}, {"window_answers", row(busy)}, {"window_answers_idle", row(idle)}, {"complete", said.empty()}};
  fmt::print("window_answers: longest {:.0f} ms, {} of {} over 50 ms; an idle loop meanwhile: longest {:.0f} ms, {} of {}\n",
             busy.longest_ms, busy.over_50, busy.count, idle.longest_ms, idle.over_50, idle.count);
  const auto written = write_file_atomic(fs::path(GCLK_BUILD) / "bench-window.json", all.dump(1) + "\n");
  return written && said.empty() ? 0 : 1;
}
