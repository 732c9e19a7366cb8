#include "app/delivery_panel.h"

#include <QFileDialog>
#include <QFileInfo>
#include <QHBoxLayout>
#include <QVBoxLayout>

#include "app/style.h"
#include "app/text.h"
#include "app/timeline_dialogs.h"

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
  queue_ = new QPushButton(tr("Queue it…  Shift+D"), this);
  queue_->setObjectName("queue-delivery");
  queue_->setToolTip(tr("Delivered and verified in idle time, as the timeline is now"));
  right_ = new QPushButton(tr("Put right  Shift+R"), this);
  right_->setObjectName("put-right");
  right_->setToolTip(tr("The chosen thing: lifts a slip, takes a card away, looks for media, or asks who accepts it"));
  all_right_ = new QPushButton(tr("Put all right  Shift+A"), this);
  all_right_->setObjectName("put-all-right");
  all_right_->setToolTip(tr("Everything that stops the delivery"));
  row->addWidget(new QLabel(tr("Form"), this));
  row->addWidget(form_);
  row->addWidget(deliver_);
  row->addWidget(queue_);
  row->addWidget(right_);
  row->addWidget(all_right_);
  row->addStretch(1);
  down->addLayout(row);
  said_ = new TextBox("delivery-said", look::text_font(13), kLines, this);
  down->addWidget(said_);
  connect(form_, &QComboBox::currentIndexChanged, this, [this] {
    if (isVisible()) session_.look_at_delivery(form());
  });
  connect(deliver_, &QPushButton::clicked, this, [this] { ask_where(); });
  connect(queue_, &QPushButton::clicked, this, [this] { ask_where(When::queued); });
  connect(right_, &QPushButton::clicked, this, [this] { put_right(); });
  connect(all_right_, &QPushButton::clicked, this, [this] { put_all_right(); });
  connect(&session_, &Session::delivery_changed, this, [this] { refresh(); });
  connect(&session_, &Session::derived_changed, this, [this] {
    refresh();
    if (isVisible()) session_.look_at_delivery(form()), session_.look_at_gate();
  });
  refresh();
}

std::string DeliveryPanel::form() const { return form_->currentData().toString().toStdString(); }

void DeliveryPanel::showEvent(QShowEvent* e) {
  QWidget::showEvent(e);
  session_.look_at_delivery(form());
  session_.look_at_gate();
}

void DeliveryPanel::set_chosen(int item) {
  chosen_ = item;
  refresh();
}

void DeliveryPanel::put_right() {
  if (!session_.current() || chosen_ < 0 || chosen_ >= static_cast<int>(session_.gate().items.size())) return;
  put_right({session_.gate().items[static_cast<std::size_t>(chosen_)]});
}

void DeliveryPanel::put_all_right() {
  if (session_.current()) put_right(session_.gate().items);
}

void DeliveryPanel::put_right(std::vector<GateItem> items) {
  std::erase_if(items, [](const GateItem& i) { return !i.stops; });
  items = session_.put_right(std::move(items));
  if (std::ranges::any_of(items, [](const GateItem& i) { return i.kind == GateKind::offline || i.kind == GateKind::proxy; }))
    return ask_where_media_are(window(), session_);
  std::erase_if(items, [](const GateItem& i) { return i.item.empty(); });
  if (!items.empty()) ask_who_accepts(window(), session_, items);
}

void DeliveryPanel::ask_where(When when) {
  if (!session_.current() || !session_.gate().may_deliver()) return;
  const QFileInfo timeline(session_.file());
  const char* ending = kForms[std::max(0, form_->currentIndex())].ending;
  auto* dialog = new QFileDialog(this, tr("Deliver to"), timeline.absolutePath());
  dialog->setObjectName("deliver-to");
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  dialog->setAcceptMode(QFileDialog::AcceptSave);
  dialog->setOption(QFileDialog::DontConfirmOverwrite);  // nothing is ever overwritten
  dialog->selectFile(timeline.completeBaseName() + ending);
  connect(dialog, &QFileDialog::fileSelected, this, [this, when](const QString& file) {
    when == When::queued ? session_.queue_delivery(file, form()) : session_.deliver(file, form());
  });
  dialog->open();
}

void DeliveryPanel::refresh() {
  const bool may = session_.current() && session_.gate().may_deliver() && session_.work().kind != Work::Kind::rendering;
  deliver_->setEnabled(may), queue_->setEnabled(may);
  // While a change is being worked out they stay where they are, and wait.
  const std::vector<GateItem> items = session_.derived() ? session_.gate().items : std::vector<GateItem>();
  const auto stops = [](const GateItem& i) { return i.stops; };
  all_right_->setVisible(std::ranges::any_of(items, stops));
  right_->setVisible(all_right_->isVisibleTo(this));
  queue_->setVisible(!all_right_->isVisibleTo(this));
  all_right_->setEnabled(session_.current());
  right_->setEnabled(session_.current() && chosen_ >= 0 && chosen_ < static_cast<int>(items.size()) && stops(items[static_cast<std::size_t>(chosen_)]));
  said_->set_text(session_.delivery_said());
}

}  // namespace gc
