#include "app/timeline_dialogs.h"

#include <QCheckBox>
#include <QVBoxLayout>
#include <QComboBox>
#include <QDialog>
#include <QDialogButtonBox>
#include <QFileDialog>
#include <QFileInfo>
#include <QFormLayout>
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QSpinBox>

#include "app/row_table.h"
#include "app/style.h"
#include "app/text.h"
#include "base/timecode.h"

namespace gc {

void ask_where_media_are(QWidget* parent, Session& session) {
  if (!session.has_timeline()) return;
  auto* dialog = new QFileDialog(parent, Session::tr("Where are the missing media?"),
                                 QFileInfo(session.file()).absolutePath());
  dialog->setObjectName("relink");
  dialog->setFileMode(QFileDialog::Directory);
  dialog->setOption(QFileDialog::ShowDirsOnly);
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  QObject::connect(dialog, &QFileDialog::fileSelected, &session, [&session](const QString& f) { session.look_for_media(f, false); });
  dialog->open();
}

void show_media_found(QWidget* parent, Session& session, const QString& folder, bool mirrored, const RelinkReport& report) {
  auto* dialog = new QDialog(parent);
  dialog->setObjectName("media-found");
  dialog->setWindowTitle(Session::tr("Media found"));
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->resize(900, 420);
  auto* down = new QVBoxLayout(dialog);
  const auto found = static_cast<int>(report.found.size()), left = static_cast<int>(report.not_found.size());
  auto* said = new QLabel(found + left == 0 ? Session::tr("Nothing is missing.")
                          : left == 0     ? Session::tr("%1 of %1 found in %2.").arg(found).arg(folder)
                                          : Session::tr("%1 of %2 found in %3.").arg(found).arg(found + left).arg(folder),
                          dialog);
  said->setObjectName("media-said");
  said->setFont(look::text_font(15, true));
  said->setWordWrap(true);
  down->addWidget(said);
  auto* table = new RowTable({Session::tr("Was"), Session::tr("Is now, or why not")}, {0, 1}, true, dialog);
  table->setObjectName("media-table");
  std::vector<RowTable::Row> rows;
  // What needs a person comes first.
  for (const std::string& n : report.not_found) {
    const auto colon = n.rfind(": ");
    rows.push_back({{text(n.substr(0, colon)), text(colon == std::string::npos ? "" : n.substr(colon + 2))}, -1, {}});
  }
  for (const Relinked& r : report.found) rows.push_back({{text(r.from), text(r.to)}, -1, {}});
  table->set_rows(std::move(rows));
  down->addWidget(table, 1);
  auto* mirror = new QCheckBox(Session::tr("The folder mirrors where the media lie: take all of them from it, also those that are not missing"), dialog);
  mirror->setObjectName("media-mirrored");
  mirror->setChecked(mirrored);
  down->addWidget(mirror);
  auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel, dialog);
  auto* take = buttons->addButton(found == 1 ? Session::tr("Relink it") : Session::tr("Relink %1").arg(found), QDialogButtonBox::AcceptRole);
  take->setObjectName("media-take");
  take->setEnabled(found > 0);
  auto* elsewhere = buttons->addButton(Session::tr("Look elsewhere…"), QDialogButtonBox::ActionRole);
  down->addWidget(buttons);
  QObject::connect(mirror, &QCheckBox::toggled, dialog, [=, &session](bool on) {
    dialog->close();
    session.look_for_media(folder, on);
  });
  QObject::connect(elsewhere, &QPushButton::clicked, dialog, [=, &session] {
    dialog->close();
    ask_where_media_are(parent, session);
  });
  QObject::connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
  QObject::connect(buttons, &QDialogButtonBox::accepted, dialog, [=, &session] {
    session.take_media(report);
    dialog->accept();
  });
  dialog->open();
}

void ask_who_accepts(QWidget* parent, Session& session, const std::vector<GateItem>& items) {
  constexpr std::size_t kShown = 6;
  auto* dialog = new QDialog(parent);
  dialog->setObjectName("who-accepts");
  dialog->setWindowTitle(Session::tr("Deliver it as it is"));
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->setMinimumWidth(560);
  auto* form = new QFormLayout(dialog);
  QString what;
  for (std::size_t i = 0; i < std::min(items.size(), kShown); ++i) what += (i > 0 ? "\n" : "") + text(items[i].what);
  if (items.size() > kShown) what += "\n" + Session::tr("and %1 more").arg(items.size() - kShown);
  auto* list = new QLabel(what, dialog);
  list->setWordWrap(true);
  form->addRow(list);
  auto* who = new QLineEdit(dialog);
  who->setObjectName("who");
  auto* why = new QLineEdit(dialog);
  why->setObjectName("why");
  form->addRow(Session::tr("Who accepts it"), who);
  form->addRow(Session::tr("Why"), why);
  auto* note = new QLabel(Session::tr("Both stand in the report. It counts until the thing looks otherwise."), dialog);
  form->addRow(note);
  auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel, dialog);
  auto* accept = buttons->addButton(Session::tr("Accept"), QDialogButtonBox::AcceptRole);
  accept->setObjectName("accept");
  form->addRow(buttons);
  const auto said = [=] { accept->setEnabled(!who->text().trimmed().isEmpty() && !why->text().trimmed().isEmpty()); };
  QObject::connect(who, &QLineEdit::textChanged, dialog, said);
  QObject::connect(why, &QLineEdit::textChanged, dialog, said);
  said();
  QObject::connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
  QObject::connect(buttons, &QDialogButtonBox::accepted, dialog, [=, &session] {
    session.accept(items, who->text().trimmed(), why->text().trimmed());
    dialog->accept();
  });
  dialog->open();
}

void ask_where_angles_go(QWidget* parent, Session& session, const std::string& segment) {
  if (!session.has_timeline()) return;
  const QFileInfo timeline(session.file());
  auto* dialog = new QFileDialog(parent, QObject::tr("Angles side by side, as a timeline"), timeline.absolutePath(), QObject::tr("OpenTimelineIO timelines (*.otio)"));
  dialog->setObjectName("angles-to");
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->setAcceptMode(QFileDialog::AcceptSave);
  dialog->setDefaultSuffix("otio");
  dialog->setOption(QFileDialog::DontConfirmOverwrite);  // nothing is ever overwritten
  dialog->selectFile(timeline.completeBaseName() + QObject::tr(", angles.otio"));
  QObject::connect(dialog, &QFileDialog::fileSelected, &session, [&session, segment](const QString& file) { session.open_angles(segment, file); });
  dialog->open();
}

void ask_raster_and_rate(QWidget* parent, Session& session) {
  if (!session.has_timeline()) return;
  const Timeline& t = *session.timeline();
  auto* dialog = new QDialog(parent);
  dialog->setObjectName("raster-and-rate");
  dialog->setWindowTitle(Session::tr("Raster and rate"));
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  auto* form = new QFormLayout(dialog);
  const auto pixels = [&](const char* name, int value) {
    auto* box = new QSpinBox(dialog);
    box->setObjectName(name);
    box->setRange(16, 16384);
    box->setValue(value);
    return box;
  };
  auto* width = pixels("width", t.width);
  auto* height = pixels("height", t.height);
  form->addRow(Session::tr("Width, pixels"), width);
  form->addRow(Session::tr("Height, pixels"), height);
  auto* rate = new QComboBox(dialog);
  rate->setObjectName("rate");
  static constexpr Rate kRates[] = {{24000, 1001}, {24, 1}, {25, 1}, {30000, 1001}, {30, 1},
                                    {48, 1},       {50, 1}, {60000, 1001}, {60, 1}};
  for (const Rate& r : kRates) rate->addItem(QString::number(r.fps(), 'g', 5));
  const auto known = std::find(std::begin(kRates), std::end(kRates), t.rate);
  if (known == std::end(kRates)) rate->addItem(QString::number(t.rate.fps(), 'g', 6));
  rate->setCurrentIndex(static_cast<int>(known - std::begin(kRates)));
  form->addRow(Session::tr("Frames a second"), rate);
  auto* timecode = new QComboBox(dialog);
  timecode->setObjectName("timecode");
  timecode->addItems({Session::tr("Drop frame"), Session::tr("Non-drop")});
  timecode->setCurrentIndex(t.drop_frame.value_or(true) ? 0 : 1);
  form->addRow(Session::tr("Timecode at 29.97 and 59.94"), timecode);
  auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, dialog);
  form->addRow(buttons);
  QObject::connect(buttons, &QDialogButtonBox::rejected, dialog, &QDialog::reject);
  QObject::connect(buttons, &QDialogButtonBox::accepted, dialog, [=, &session, was = t.rate] {
    const int i = rate->currentIndex();
    const Rate chosen = i < static_cast<int>(std::size(kRates)) ? kRates[i] : was;
    session.set_counted_in(width->value(), height->value(), chosen, timecode->currentIndex() == 0);
    dialog->accept();
  });
  dialog->open();
}

}  // namespace gc
