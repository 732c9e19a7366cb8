#include "app/queue_window.h"

#include <QApplication>
#include <QDateTime>
#include <QEvent>
#include <QHBoxLayout>
#include <QMouseEvent>
#include <QVBoxLayout>

#include "app/news.h"
#include "app/style.h"
#include "app/text.h"
#include "desk/queueing.h"

namespace gc {
namespace {

constexpr int kEveryMs = 1000, kLineEveryMs = 4000, kTellMs = 250;

QString state_of(const Job& j) {
  if (j.paused && j.state == JobState::waiting) return QueueWindow::tr("paused");
  return QString::fromLatin1(state_name(j.state));
}

/// What is made, in the words that the plan has for it.
QString kind_of(const Job& j) {
  const std::string name = j.remedy.substr(0, j.remedy.find(':'));
  const RemedyKind* kind = remedy_kind(name);
  return text(kind ? kind->label() : name);
}

}  // namespace

QueueWindow::QueueWindow(Session& session, QWidget* parent) : QDialog(parent), session_(session) {
  setObjectName("queue");
  setWindowTitle(tr("Queue"));
  resize(900, 420);
  auto* down = new QVBoxLayout(this);
  sentence_ = new QLabel(this);
  sentence_->setObjectName("queue-sentence");
  sentence_->setWordWrap(true);
  sentence_->setFont(look::text_font(15, true));
  down->addWidget(sentence_);
  table_ = new RowTable({tr("State"), tr("What"), tr("Of"), tr("Timeline"), tr("Frames"), tr("Takes"), tr("Why, and what to do")}, {6}, true, this);
  table_->setObjectName("queue-table");
  down->addWidget(table_, 1);
  rules_ = new QueueRules(session_, this);
  down->addWidget(rules_);
  auto* row = new QHBoxLayout;
  pause_ = new QPushButton(this);
  pause_->setObjectName("queue-pause");
  pause_->setText(tr("Pause the queue"));
  first_ = new QPushButton(tr("This one now"), this);
  first_->setObjectName("queue-first");
  cancel_ = new QPushButton(tr("Cancel the job"), this);
  cancel_->setObjectName("queue-cancel");
  auto* close = new QPushButton(tr("Close"), this);
  for (QPushButton* b : {pause_, first_, cancel_}) row->addWidget(b);
  row->addStretch(1);
  row->addWidget(close);
  down->addLayout(row);
  connect(close, &QPushButton::clicked, this, &QDialog::close);
  connect(pause_, &QPushButton::clicked, this, [this] {
    session_.look_at_queue([](Journal& j) {
      QueueSettings s = j.settings();
      s.paused = !s.paused;
      return j.set_settings(s);
    });
  });
  connect(first_, &QPushButton::clicked, this, [this] { with_chosen([](Journal& j, std::int64_t id) { return j.move(id, true); }); });
  connect(cancel_, &QPushButton::clicked, this, [this] { with_chosen([](Journal& j, std::int64_t id) { return j.cancel(id); }); });
  connect(table_, &QTableWidget::itemSelectionChanged, this, [this] {
    first_->setEnabled(chosen() > 0), cancel_->setEnabled(chosen() > 0);
  });
  connect(&session_, &Session::queue_seen, this, [this] { refresh(); });
  connect(&timer_, &QTimer::timeout, this, [this] {
    if (isVisible()) session_.look_at_queue();
  });
  timer_.start(kEveryMs);
}

std::int64_t QueueWindow::chosen() const {
  const std::vector<Job>& jobs = session_.queue().jobs;
  const int row = table_->currentRow();
  return row >= 0 && row < static_cast<int>(jobs.size()) ? jobs[static_cast<std::size_t>(row)].id : 0;
}

void QueueWindow::with_chosen(Result<bool> (*does)(Journal&, std::int64_t)) {
  session_.look_at_queue([id = chosen(), does](Journal& j) -> Result<void> {
    if (auto r = does(j, id); !r) return std::unexpected(r.error());
    return {};
  });
}

void QueueWindow::refresh() {
  const Session::QueueSeen& seen = session_.queue();
  if (!seen.readable) {
    sentence_->setText(tr("The queue's journal cannot be opened. See that the data folder may be written to."));
    return;
  }
  std::vector<RowTable::Row> rows;
  const std::int64_t now = QDateTime::currentSecsSinceEpoch();
  const QueueOutlook ahead = outlook(seen.jobs, seen.ratios, static_cast<double>(now));
  const int waiting = ahead.open, failed = ahead.failed;
  std::size_t done = 0;
  for (const Job& j : seen.jobs) {
    done += j.state == JobState::done;
    rows.push_back({{state_of(j), kind_of(j), text(j.what), text(j.timeline), tr("%1 of %2").arg(j.done).arg(j.price.frames),
                     j.open() ? text(duration_text(j.price.said_s)) : text(duration_text(j.taken_s)), text(j.trouble)},
                    -1,
                    text(j.file)});
  }
  table_->set_rows(std::move(rows));
  QString said = text(ahead.sentence(now, seen.runs && seen.why.empty()));
  if (waiting > 0 && !seen.runs) said += " " + tr("No renderer runs; Shift+Return queues the plan and starts one.");
  else if (waiting > 0 && !seen.why.empty()) said += " " + tr("It waits: %1.").arg(text(seen.why));
  if (failed > 0) said += " " + tr("%1 failed.").arg(failed);
  sentence_->setText(said);
  rules_->show_settings(seen.settings);
  pause_->setText(seen.settings.paused ? tr("Resume the queue") : tr("Pause the queue"));
  first_->setEnabled(chosen() > 0), cancel_->setEnabled(chosen() > 0);
  // What another process has put on the shelf answers frames here too.
  if (std::exchange(done_, done) != done) session_.look_for_others();
}

QueueLine::QueueLine(Session& session, QWidget* parent) : QLabel(parent), session_(session) {
  setObjectName("queue-line");
  setWordWrap(true);
  setContentsMargins(11, 6, 4, 6);
  setCursor(Qt::PointingHandCursor);
  setToolTip(tr("Show the queue (Q)"));
  hide();
  connect(&session_, &Session::queue_seen, this, [this] { refresh(); });
  connect(&timer_, &QTimer::timeout, this, [this] { session_.look_at_queue(); });
  timer_.start(kLineEveryMs);
}

void QueueLine::refresh() {
  const Session::QueueSeen& seen = session_.queue();
  const std::int64_t now = QDateTime::currentSecsSinceEpoch();
  const auto review = session_.derived() ? session_.derived()->plan.review_at : std::optional<std::int64_t>();
  for (const QueueNews& n : news_between(before_, seen, review, now)) tell_desktop(n);
  before_ = seen;
  const QueueOutlook ahead = outlook(seen.jobs, seen.ratios, static_cast<double>(now));
  const auto open = std::ranges::count_if(seen.jobs, [](const Job& j) { return j.open(); });
  const int failed = ahead.failed;
  QStringList lines;
  if (open > 0) {
    lines += tr("Queue: %1 left").arg(open);
    if (seen.settings.paused) lines += tr("paused");
    else if (!seen.runs) lines += tr("not running");
    else if (!seen.why.empty()) lines += gc::text(seen.why);
    else {
      const QString from = gc::text(clock_text(now + std::llround(ahead.soonest_s), now)), to = gc::text(clock_text(now + std::llround(ahead.latest_s), now));
      lines += from == to ? tr("until %1").arg(from) : tr("until %1 to %2").arg(from, to);
    }
  }
  if (failed > 0) lines += tr("%1 failed").arg(failed);
  setText(lines.join("\n"));
  setVisible(!lines.isEmpty());
}

void QueueLine::mouseReleaseEvent(QMouseEvent* event) {
  if (rect().contains(event->position().toPoint())) emit clicked();
}

UseTeller::UseTeller(Session& session, QObject* parent) : QObject(parent), session_(session) {
  qApp->installEventFilter(this);
  connect(&timer_, &QTimer::timeout, this, [this] {
    if (std::exchange(used_, false)) session_.tell_queue();
  });
  timer_.start(kTellMs);
}

bool UseTeller::eventFilter(QObject* of, QEvent* event) {
  switch (event->type()) {
    case QEvent::KeyPress:
    case QEvent::MouseButtonPress:
    case QEvent::MouseMove:
    case QEvent::Wheel:
      used_ = true;
      break;
    default:
      break;
  }
  return QObject::eventFilter(of, event);
}

}  // namespace gc
