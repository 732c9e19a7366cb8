#include "app/paper.h"

#include <QFont>
#include <QPdfWriter>
#include <QRegularExpression>
#include <QTextDocument>

namespace gc {
namespace {

// Dark letters on white, whatever the page has on a screen.
constexpr const char* kOnPaper =
    "h1 { font-size: 18pt; } h2 { font-size: 13pt; margin-top: 14px; }"
    "td, th { padding: 3px 10px 3px 0; text-align: left; } small { color: #505050; }";

}  // namespace

Result<void> write_pdf(const QString& html, const fs::path& file) {
  QString page = html;
  page.remove(QRegularExpression("<style>.*?</style>", QRegularExpression::DotMatchesEverythingOption));
  const fs::path temporary = temporary_name_for(file);
  {
    QPdfWriter writer(QString::fromStdString(temporary.string()));
    writer.setPageSize(QPageSize(QPageSize::A4));
    writer.setPageMargins(QMarginsF(15, 15, 15, 15), QPageLayout::Millimeter);
    writer.setCreator("Glass Clock");
    QTextDocument document;
    document.setDefaultFont(QFont("Inter", 10));  // in points: a screen's pixels are dust on paper
    document.setDefaultStyleSheet(kOnPaper);
    document.setHtml(page);
    writer.setTitle(document.metaInformation(QTextDocument::DocumentTitle));
    document.print(&writer);
  }
  std::error_code e;
  if (fs::file_size(temporary, e) == 0 || e) {
    fs::remove(temporary, e);
    return environment("the page cannot be written", file.string(), "Choose a folder you may write to, and free some space.");
  }
  return sync_and_rename(temporary, file);
}

}  // namespace gc
