#include "app/delivery_panel.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QVBoxLayout>

#include "app/style.h"

namespace gc {
namespace {

constexpr int kLines = 4;

struct Offered {
  const char* id;
  const char* ending;
};
/// In the order in which they are asked for; pictures one by one are for the command line.
constexpr Offered kForms[] = {{"rdd36", ".mov"}, {"rdd36-alpha", ".mov"}, {"vc3-hqx", ".mov"}, {"vc3-444", ".mov"}, {"vc3-hq", ".mov"}, {"vc3-sq", ".mov"},
                              {"ffv1", ".mkv"},  {"v210", ".mov"},        {"h264", ".mp4"},    {"h265", ".mp4"}};

}  // namespace

DeliveryPanel::DeliveryPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("delivery");
  auto* down = new QVBoxLayout(this);
  down->setContentsMargins(0, 0, 0, 0);
  down->setSpacing(6);
  auto* row = new QHBoxLayout;
  form_ = new QComboBox(this);
  form_->setObjectName("delivery-form");
  for (const Offered& o : kForms) form_->addItem(QString::fromLatin1(form_name(*form_named(o.id))), QString::fromLatin1(o.id));
  deliver_ = new QPushButton(tr("Deliver and verify…  Ctrl+D"), this);
  deliver_->setObjectName("deliver");
  lift_ = new QPushButton(tr("Lift every slip  Shift+B"), this);
  lift_->setObjectName("lift-all");
  row->addWidget(new QLabel(tr("Form"), this));
  row->addWidget(form_);
  row->addWidget(deliver_);
  row->addWidget(lift_);
  row->addStretch(1);
  down->addLayout(row);
  said_ = new TextBox("delivery-said", look::text_font(13), kLines, this);
  down->addWidget(said_);
  connect(form_, &QComboBox::currentIndexChanged, this, [this] {
    if (isVisible()) session_.look_at_delivery(form());
  });
  connect(deliver_, &QPushButton::clicked, this, [this] { ask_where(); });
  connect(lift_, &QPushButton::clicked, this, [this] { session_.lift_all(); });
  connect(&session_, &Session::delivery_changed, this, [this] { refresh(); });
  connect(&session_, &Session::derived_changed, this, [this] {
    refresh();
    if (isVisible()) session_.look_at_delivery(form());
  });
  refresh();
}

std::string DeliveryPanel::form() const { return form_->currentData().toString().toStdString(); }

void DeliveryPanel::showEvent(QShowEvent* e) {
  QWidget::showEvent(e);
  session_.look_at_delivery(form());
}

void DeliveryPanel::ask_where() {
  if (!session_.current() || !session_.derived()->gate.may_deliver()) return;
  const QFileInfo timeline(session_.file());
  const char* ending = kForms[std::max(0, form_->currentIndex())].ending;
  auto* dialog = new QFileDialog(this, tr("Deliver to"), timeline.absolutePath());
  dialog->setObjectName("deliver-to");
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->setAcceptMode(QFileDialog::AcceptSave);
  dialog->setOption(QFileDialog::DontConfirmOverwrite);  // nothing is ever overwritten
  dialog->selectFile(timeline.completeBaseName() + ending);
  connect(dialog, &QFileDialog::fileSelected, this, [this](const QString& file) { session_.deliver(file, form()); });
  dialog->open();
}

void DeliveryPanel::refresh() {
  const bool may = session_.current() && session_.derived()->gate.may_deliver() && session_.work().kind != Work::Kind::rendering;
  deliver_->setEnabled(may);
  bool slips = false;
  if (session_.timeline())
    for (const Slip& s : session_.timeline()->slips) slips = slips || s.open();
  lift_->setVisible(slips);
  said_->set_text(session_.delivery_said());
}

}  // namespace gc
