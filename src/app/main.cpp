// The desktop application.
#include <QCommandLineParser>
#include <QMessageBox>

#include "app/application.h"
#include "app/main_window.h"
#include "app/paper.h"
#include "app/style.h"
#include "base/log.h"

int main(int argc, char** argv) {
  using namespace gc;
  start_log();
  Application app(argc, argv);
  QApplication::setApplicationName("glass-clock");
  QApplication::setOrganizationName("glass-clock");
  QApplication::setApplicationDisplayName("Glass Clock");
  look::apply(app);
  QCommandLineParser parser;
  parser.setApplicationDescription(
      "Which parts of a timeline will drop frames on this seat, why, and the least work that makes them "
      "play.");
  parser.addHelpOption();
  parser.addPositionalArgument("timeline", "OpenTimelineIO timeline to open");
  const QCommandLineOption shelf("shelf", "Folder of rendered media", "folder"),
      notebook("notebook", "File of what was measured on this seat", "file");
  const QCommandLineOption print("print", "Write a report's page as PDF: --print PAGE.html OUT.pdf", "page");
  parser.addOptions({shelf, notebook, print});
  parser.process(app);
  if (parser.isSet(print)) {
    const auto page = read_file(parser.value(print).toStdString(), std::size_t{256} << 20);
    const QStringList to = parser.positionalArguments();
    const auto written = [&]() -> Result<void> {
      if (!page) return std::unexpected(page.error());
      if (to.size() != 1) return usage("it is not said where to", "Give --print PAGE.html OUT.pdf.");
      const fs::path paper = to.front().toStdString();
      if (auto r = must_be_free(paper); !r) return r;
      return write_pdf(QString::fromStdString(*page), paper);
    }();
    if (written) return 0;
    std::fprintf(stderr, "%s\n", written.error().text().c_str());
    return static_cast<int>(written.error().fault);
  }
  DeskOptions options;
  options.shelf = parser.value(shelf).toStdString();
  options.notebook = parser.value(notebook).toStdString();
  auto stores = Stores::open(options);
  if (!stores) {
    QMessageBox::critical(nullptr, "Glass Clock", QString::fromStdString(stores.error().text()));
    return static_cast<int>(stores.error().fault);
  }
  Session session(*stores);
  MainWindow window(session);
  window.show();
  session.look_for_recovery();
  session.go_on_with_queue();
  if (!parser.positionalArguments().isEmpty()) session.open(parser.positionalArguments().front());
  return QApplication::exec();
}
