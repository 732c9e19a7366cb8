#include "app/shelf_panel.h"

#include <QHBoxLayout>
#include <QInputDialog>
#include <QVBoxLayout>

#include "app/style.h"

namespace gc {
namespace {

enum What { chosen, unmatched, closed, all };

QString bytes(std::uint64_t b) { return QString::fromStdString(bytes_text(b)); }
/// "2026-11-26 03:59" for an ISO 8601 time.
QString day(const std::string& iso) {
  return iso.size() < 16 ? QObject::tr("never") : QString::fromStdString(iso.substr(0, 10) + " " + iso.substr(11, 5));
}

}  // namespace

ShelfPanel::ShelfPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  auto* down = new QVBoxLayout(this);
  down->setContentsMargins(0, 0, 0, 0);
  down->setSpacing(6);
  sentence_ = new TextBox("shelf-sentence", look::text_font(13), 2, this);
  down->addWidget(sentence_);
  auto* row = new QHBoxLayout;
  what_ = new QComboBox(this);
  what_->setObjectName("shelf-what");
  what_->addItems({tr("The chosen row"), tr("What answers nothing here"), tr("Of other timelines"), tr("Everything")});
  clean_ = new QPushButton(tr("Clean away"), this);
  clean_->setObjectName("shelf-clean");
  clean_->setToolTip(tr("It can be brought back until its room is needed"));
  back_ = new QPushButton(tr("Bring back"), this);
  back_->setObjectName("shelf-back");
  pin_ = new QPushButton(tr("Pin"), this);
  pin_->setObjectName("shelf-pin");
  pin_->setToolTip(tr("The chosen row stays, whatever else needs the room"));
  budget_ = new QPushButton(tr("Budget…"), this);
  budget_->setObjectName("shelf-budget");
  for (QWidget* w : std::initializer_list<QWidget*>{what_, clean_, back_, pin_, budget_}) row->addWidget(w);
  row->addStretch(1);
  down->addLayout(row);
  frees_ = new QLabel(this);
  frees_->setObjectName("shelf-frees");
  frees_->setWordWrap(true);
  down->addWidget(frees_);
  table_ = new RowTable({tr("For"), tr("What"), tr("Size"), tr("Took"), tr("Last read"), tr("State")}, {0}, true, this);
  table_->setObjectName("shelf-table");
  down->addWidget(table_, 1);
  connect(what_, &QComboBox::currentIndexChanged, this, [this] { say_what(); });
  connect(table_, &QTableWidget::itemSelectionChanged, this, [this] { say_what(); });
  connect(clean_, &QPushButton::clicked, this, [this] { session_.clean_shelf(selection()); });
  connect(back_, &QPushButton::clicked, this, [this] { session_.restore_shelf(); });
  connect(pin_, &QPushButton::clicked, this, [this] {
    const int n = table_->currentRow();
    if (session_.shelf() && n >= 0 && n < static_cast<int>(session_.shelf()->groups.size())) {
      const ShelfGroup& g = session_.shelf()->groups[static_cast<std::size_t>(n)];
      session_.pin_on_shelf({Selection::What::chosen, {}, 0, g.files}, !g.pinned);
    }
  });
  connect(budget_, &QPushButton::clicked, this, [this] { ask_budget(); });
  connect(&session_, &Session::shelf_changed, this, [this] { refresh(); });
  connect(&session_, &Session::derived_changed, this, [this] {
    if (isVisible()) session_.look_at_shelf();
  });
  refresh();
}

void ShelfPanel::showEvent(QShowEvent* e) {
  QWidget::showEvent(e);
  session_.look_at_shelf();
}

void ShelfPanel::ask_budget() {
  auto* dialog = new QInputDialog(this);
  dialog->setObjectName("shelf-budget-dialog");
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->setWindowTitle(tr("Budget of the shelf"));
  dialog->setLabelText(tr("Most gigabytes that rendered media may take in %1. 0: as much as the drive has.")
                           .arg(QString::fromStdString(session_.stores().shelf->folder().string())));
  dialog->setInputMode(QInputDialog::DoubleInput);
  dialog->setDoubleRange(0, 1e6);
  dialog->setDoubleDecimals(1);
  if (session_.shelf() && session_.shelf()->volumes.front().budget)
    dialog->setDoubleValue(static_cast<double>(*session_.shelf()->volumes.front().budget) / 1e9);
  connect(dialog, &QInputDialog::doubleValueSelected, this, [this](double gb) { session_.set_shelf_budget(gb); });
  dialog->open();
}

Selection ShelfPanel::selection() const {
  switch (what_->currentIndex()) {
    case unmatched: return {Selection::What::unmatched, {}, 0, {}};
    case closed: return {Selection::What::closed, {}, 0, {}};
    case all: return {Selection::What::all, {}, 0, {}};
    default: break;
  }
  const int n = table_->currentRow();
  if (!session_.shelf() || n < 0 || n >= static_cast<int>(session_.shelf()->groups.size())) return {};
  return {Selection::What::chosen, {}, 0, session_.shelf()->groups[static_cast<std::size_t>(n)].files};
}

CleanReport ShelfPanel::frees() const {
  const ShelfReport& r = *session_.shelf();
  switch (what_->currentIndex()) {
    case unmatched: return r.unmatched;
    case closed: return r.closed;
    case all: return r.all;
    default: break;
  }
  CleanReport one;
  const int n = table_->currentRow();
  if (n < 0 || n >= static_cast<int>(r.groups.size())) return one;
  const ShelfGroup& g = r.groups[static_cast<std::size_t>(n)];
  one.pieces = g.pieces, one.frames = g.frames, one.bytes = g.bytes, one.seconds_to_make = g.seconds;
  return one;
}

void ShelfPanel::say_what() {
  if (!session_.shelf()) return;
  const CleanReport f = frees();
  const CleanReport& gone = session_.shelf()->removed;
  clean_->setEnabled(f.pieces > 0);
  back_->setEnabled(gone.pieces > 0);
  const int n = table_->currentRow();
  const bool row = n >= 0 && n < static_cast<int>(session_.shelf()->groups.size());
  pin_->setEnabled(row);
  pin_->setText(row && session_.shelf()->groups[static_cast<std::size_t>(n)].pinned ? tr("Unpin") : tr("Pin"));
  QString text = f.pieces == 0 ? tr("Nothing to clean away there.")
                               : tr("Cleaning frees %1; making it again takes about %2.").arg(bytes(f.bytes), QString::fromStdString(duration_text(f.seconds_to_make)));
  if (gone.pieces > 0) text += tr(" %1 can be brought back.").arg(bytes(gone.bytes));
  frees_->setText(text);
}

void ShelfPanel::refresh() {
  if (!session_.shelf()) {
    sentence_->set_text(tr("Looking at the shelf …"));
    return;
  }
  const ShelfReport& r = *session_.shelf();
  sentence_->set_text(r.groups.empty() ? tr("Nothing is rendered yet. %1").arg(QString::fromStdString(r.sentence()))
                                       : tr("Rendered media: %1").arg(QString::fromStdString(r.sentence())));
  std::vector<RowTable::Row> rows;
  for (const ShelfGroup& g : r.groups)
    rows.push_back({{QString::fromStdString(g.timeline + ": " + g.of),
                     QString::fromStdString(g.what) + "\n" + QString::fromStdString(g.form),
                     bytes(g.bytes), g.seconds > 0 ? QString::fromStdString(duration_text(g.seconds)) : tr("not known"), day(g.used),
                     (g.matches ? tr("answers") : tr("unmatched")) + (g.pinned ? tr(", pinned") : QString())},
                    -1,
                    tr("%1 pieces, %2 frames").arg(g.pieces).arg(g.frames)});
  table_->set_rows(std::move(rows));
  say_what();
}

}  // namespace gc
