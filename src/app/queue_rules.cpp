#include "app/queue_rules.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QVBoxLayout>

namespace gc {
namespace {

using When = QueueSettings::When;
using After = QueueSettings::AfterWindow;

QWidget* in_a_row(QWidget* parent, const QList<QWidget*>& parts) {
  auto* row = new QWidget(parent);
  auto* along = new QHBoxLayout(row);
  along->setContentsMargins(0, 0, 0, 0);
  for (QWidget* w : parts) along->addWidget(w);
  return row;
}

}  // namespace

QueueRules::QueueRules(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  auto* down = new QVBoxLayout(this);
  down->setContentsMargins(0, 0, 0, 0);
  when_ = new QComboBox(this);
  when_->setObjectName("queue-when");
  when_->addItem(tr("when nobody uses the machine"), static_cast<int>(When::idle));
  when_->addItem(tr("at given hours"), static_cast<int>(When::hours));
  when_->addItem(tr("always"), static_cast<int>(When::always));
  when_->addItem(tr("never"), static_cast<int>(When::never));
  idle_ = new QSpinBox(this);
  idle_->setObjectName("queue-idle");
  idle_->setRange(1, 600);
  idle_->setSuffix(tr(" s"));
  gently_ = new QSpinBox(this);
  gently_->setObjectName("queue-gently");
  gently_->setRange(0, 100);
  gently_->setSuffix(tr(" %"));
  gently_->setSpecialValueText(tr("nothing"));
  hours_ = new QLineEdit(this);
  hours_->setObjectName("queue-hours");
  hours_->setPlaceholderText("22:00-6:00");
  hours_->setMaximumWidth(110);
  idle_words_ = in_a_row(this, {new QLabel(tr("for"), this), idle_, new QLabel(tr("and while I work at most"), this), gently_, new QLabel(tr("of it"), this)});
  hours_words_ = in_a_row(this, {hours_});
  mains_ = new QCheckBox(tr("not on battery"), this);
  mains_->setObjectName("queue-mains");
  after_window_ = new QComboBox(this);
  after_window_->setObjectName("queue-after-window");
  after_window_->addItem(tr("ask whether it goes on"), static_cast<int>(After::ask));
  after_window_->addItem(tr("it goes on"), static_cast<int>(After::go_on));
  after_window_->addItem(tr("it stops until the next start"), static_cast<int>(After::stop));
  auto *works = new QLabel(tr("The queue works"), this), *closes = new QLabel(tr("When the window closes"), this);
  works->setMinimumWidth(closes->sizeHint().width());
  auto* first = new QHBoxLayout;
  for (QWidget* w : std::initializer_list<QWidget*>{works, when_, idle_words_, hours_words_, mains_}) first->addWidget(w);
  first->addStretch(1);
  auto* second = new QHBoxLayout;
  for (QWidget* w : std::initializer_list<QWidget*>{closes, after_window_}) second->addWidget(w);
  second->addStretch(1);
  down->addLayout(first);
  down->addLayout(second);
  for (QComboBox* c : {when_, after_window_}) connect(c, &QComboBox::currentIndexChanged, this, [this] { set(); });
  for (QSpinBox* s : {idle_, gently_}) {
    s->setKeyboardTracking(false);
    s->setButtonSymbols(QAbstractSpinBox::NoButtons);
    connect(s, &QSpinBox::valueChanged, this, [this] { set(); });
  }
  connect(hours_, &QLineEdit::editingFinished, this, [this] { set(); });
  connect(mains_, &QCheckBox::toggled, this, [this] { set(); });
  show_settings({});
}

void QueueRules::show_settings(const QueueSettings& s) {
  showing_ = true;
  when_->setCurrentIndex(when_->findData(static_cast<int>(s.when)));
  after_window_->setCurrentIndex(after_window_->findData(static_cast<int>(s.after_window)));
  if (!idle_->hasFocus()) idle_->setValue(static_cast<int>(s.idle_s));
  if (!gently_->hasFocus()) gently_->setValue(static_cast<int>(std::lround(s.while_working * 100)));
  if (!hours_->hasFocus()) hours_->setText(QString::fromStdString(s.hours));
  mains_->setChecked(s.mains_only);
  idle_words_->setVisible(s.when == When::idle);
  hours_words_->setVisible(s.when == When::hours);
  showing_ = false;
}

void QueueRules::set() {
  if (showing_) return;
  const auto when = static_cast<When>(when_->currentData().toInt());
  const auto after = static_cast<After>(after_window_->currentData().toInt());
  const double idle = idle_->value(), gently = gently_->value() / 100.0;
  const std::string hours = hours_->text().trimmed().toStdString();
  session_.look_at_queue([=, mains = mains_->isChecked()](Journal& j) -> Result<void> {
    QueueSettings s = j.settings();
    s.when = when, s.after_window = after, s.idle_s = idle, s.while_working = gently, s.mains_only = mains;
    // Hours that are none are told, and the others hold.
    const auto told = Journal::set(s, "hours", hours);
    if (auto r = j.set_settings(s); !r) return r;
    return told;
  });
}

}  // namespace gc
