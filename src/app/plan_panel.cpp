#include "app/plan_panel.h"

#include <QHBoxLayout>
#include <QKeyEvent>
#include <QMouseEvent>
#include <QLabel>
#include <QPainter>
#include <QSignalBlocker>
#include <QSlider>
#include <QVBoxLayout>
#include <algorithm>
#include <array>
#include <cmath>

#include "app/style.h"
#include "app/text.h"

namespace gc {
namespace {

/// Steps of an axis that a person reads easily: 1, 2 or 5 times a power of ten.
double step_for(double most, int about) {
  const double raw = std::max(1e-9, most / about), power = std::pow(10, std::floor(std::log10(raw)));
  for (const double k : {1.0, 2.0, 5.0})
    if (raw <= k * power) return k * power;
  return 10 * power;
}

/// A widget that keeps keys for itself which the window uses as well: Return in a field must not carry out the plan.
template <class Widget>
class KeepsKeys : public Widget {
 public:
  template <class... Arguments>
  explicit KeepsKeys(std::vector<int> keys, Arguments... arguments) : Widget(arguments...), keys_(std::move(keys)) {}

 protected:
  bool event(QEvent* e) override {
    if (e->type() == QEvent::ShortcutOverride && std::ranges::find(keys_, static_cast<QKeyEvent*>(e)->key()) != keys_.end()) {
      e->accept();
      return true;
    }
    return Widget::event(e);
  }

 private:
  std::vector<int> keys_;
};

/// Grey of a kind of remedy, dark to light as it makes more of the frame.
int grey_of(const Remedy& r) {
  const std::string kind = r.proposal.kind ? r.proposal.kind->name() : "";
  return kind == "mezzanine" ? 92 : kind == "bake" ? 120 : kind == "tap" ? 150 : kind == "render" ? 184 : 70;
}

}  // namespace

Frontier::Frontier(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("frontier");
  setAccessibleName(tr("Dropped frames left against time spent"));
  setToolTip(tr("Click: spend no more time than that"));
}

QRectF Frontier::plot() const { return QRectF(46, 28, width() - 62, height() - 50); }

QPointF Frontier::place(const FrontierPoint& p) const {
  const Plan& plan = session_.derived()->plan;
  const double time = std::max(1e-6, plan.frontier.back().seconds), drops = std::max(1e-6, plan.frontier.front().drops);
  const QRectF r = plot();
  return {r.left() + p.seconds / time * r.width(), r.bottom() - p.drops / drops * r.height()};
}

void Frontier::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.setRenderHint(QPainter::Antialiasing);
  p.fillRect(rect(), look::grey(look::kPanel));
  p.setFont(look::text_font(12));
  p.setPen(look::grey(look::kText));
  const DerivedPtr d = session_.derived();
  // No work takes those away that other programs cause, so they are in no point of the curve.
  const bool others = d && d->plan.drops_by_others >= 0.5;
  p.drawText(QRectF(8, 2, width() - 16, 18), Qt::AlignLeft | Qt::AlignVCenter,
             others ? tr("Dropped frames left, by time spent; without %1 to other programs").arg(d->plan.drops_by_others, 0, 'f', 0)
                    : tr("Dropped frames left, by time spent"));
  if (!d || d->plan.frontier.size() < 2 || d->plan.frontier.back().seconds <= 0) {
    p.setPen(look::grey(look::kQuiet));
    p.drawText(rect().adjusted(8, 20, -8, -8), Qt::AlignCenter | Qt::TextWordWrap, !d || d->plan.fits ? tr("Nothing has to be spent.") : tr("There is no time or room for anything that helps."));
    return;
  }
  const Plan& plan = d->plan;
  const QRectF r = plot();
  p.setFont(look::number_font(12));
  const double most = plan.frontier.front().drops, time = plan.frontier.back().seconds;
  for (double v = 0, step = step_for(most, 3); v <= most; v += step) {
    const double y = r.bottom() - v / std::max(1e-6, most) * r.height();
    p.setPen(look::grey(look::kLine));
    p.drawLine(QPointF(r.left(), y), QPointF(r.right(), y));
    p.setPen(look::grey(look::kQuiet));
    p.drawText(QRectF(0, y - 9, r.left() - 6, 18), Qt::AlignRight | Qt::AlignVCenter, QString::number(v));
  }
  p.setPen(look::grey(look::kQuiet));
  p.drawText(QRectF(r.left() - 10, r.bottom() + 2, 60, 18), Qt::AlignLeft, tr("0 s"));
  p.drawText(QRectF(r.right() - 110, r.bottom() + 2, 110, 18), Qt::AlignRight, text(duration_text(time)));
  p.drawText(QRectF(r.center().x() - 60, r.bottom() + 2, 120, 18), Qt::AlignHCenter, text(duration_text(time / 2)));
  // What is left falls only when something is done: steps, with what may be chosen as dots.
  QPolygonF steps;
  for (std::size_t i = 0; i < plan.frontier.size(); ++i) {
    const QPointF at = place(plan.frontier[i]);
    if (i > 0) steps << QPointF(at.x(), steps.back().y());
    steps << at;
  }
  p.setPen(QPen(look::grey(look::kText), 2));
  p.drawPolyline(steps);
  p.setBrush(look::grey(look::kText));
  for (const FrontierPoint& f : plan.frontier) p.drawEllipse(place(f), 3.5, 3.5);
  // What is really done next to it, in its order.
  p.setBrush(Qt::NoBrush);
  p.setPen(QPen(look::grey(look::kQuiet), 1));
  for (const FrontierPoint& f : plan.prefixes)
    if (f.seconds <= time) p.drawRect(QRectF(place(f) - QPointF(5, 5), QSizeF(10, 10)));
}

void Frontier::mousePressEvent(QMouseEvent* e) {
  const DerivedPtr d = session_.derived();
  if (!d || d->plan.frontier.size() < 2) return;
  // The point that is nearest to where was clicked.
  const FrontierPoint* best = nullptr;
  double least = 1e9;
  for (const FrontierPoint& f : d->plan.frontier)
    if (const double away = std::abs(place(f).x() - e->position().x()); away < least) least = away, best = &f;
  if (best) emit time_chosen(best == &d->plan.frontier.back() ? -1 : best->seconds);
}

Timetable::Timetable(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("timetable");
  setAccessibleName(tr("When what is made"));
}

void Timetable::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(look::kPanel));
  p.setFont(look::text_font(12));
  p.setPen(look::grey(look::kText));
  const DerivedPtr d = session_.derived();
  if (!d) return;
  const Plan& plan = d->plan;
  const std::int64_t now = plan.made_at;
  const double until = plan.review_at ? static_cast<double>(*plan.review_at - now) : 0;
  double end = std::max(plan.remedies.empty() ? 0.0 : plan.remedies.back().ends, until);
  if (!std::isfinite(end)) end = std::max(until, 3600.0);
  QString head = plan.remedies.empty() ? tr("Nothing is to be made.")
                 : std::isfinite(plan.ready_in)
                     ? tr("Done by %1").arg(text(clock_text(now + static_cast<std::int64_t>(std::lround(plan.ready_in)), now)))
                     : tr("Never done in the hours that are free");
  if (!plan.remedies.empty() && std::isfinite(plan.ready_in_high))
    head += tr(", at the latest %1 in nine cases of ten").arg(text(clock_text(now + static_cast<std::int64_t>(std::lround(plan.ready_in_high)), now)));
  p.drawText(QRectF(8, 2, width() - 16, 18), Qt::AlignLeft | Qt::AlignVCenter, head);
  if (end <= 0) return;
  const QRectF r(8, 24, width() - 24, height() - 46);
  const auto x_of = [&](double s) { return r.left() + std::clamp(s / end, 0.0, 1.0) * r.width(); };
  p.fillRect(r, look::grey(26));
  // Hours in which somebody works there.
  const Wishes& w = session_.wishes();
  for (const FreeTime& f : free_time(now, w.busy, w.idle_share)) {
    if (f.share >= 1 || f.from >= end) continue;
    const QRectF busy(x_of(f.from), r.top(), x_of(std::min(f.to, end)) - x_of(f.from), r.height());
    p.fillRect(busy, QBrush(look::grey(70), Qt::BDiagPattern));
    if (busy.width() > 110) {
      p.setPen(look::grey(look::kText));
      p.drawText(busy.adjusted(4, 0, -4, -2), Qt::AlignBottom | Qt::AlignHCenter, tr("somebody works: %1 %").arg(w.idle_share * 100, 0, 'f', 0));
    }
  }
  const double row = plan.remedies.empty() ? 0 : std::clamp(r.height() / static_cast<double>(plan.remedies.size()), 5.0, 18.0);
  double y = r.top() + 2;
  for (const Remedy& m : plan.remedies) {
    if (y + row > r.bottom()) break;
    const double from = x_of(m.begins), to = std::isfinite(m.ends) ? x_of(m.ends) : r.right();
    const QRectF bar(from, y, std::max(2.0, to - from), row - 2);
    p.fillRect(bar, look::grey(grey_of(m)));
    if (row >= 14) {
      const QString name = QString("%1: %2").arg(text(m.proposal.kind ? m.proposal.kind->label() : ""), text(m.segment_name));
      const double room = QFontMetricsF(p.font()).horizontalAdvance(name) + 10;
      const bool right = bar.right() + room < r.right();
      p.setPen(look::grey(look::kText));
      if (right) p.drawText(QRectF(bar.right() + 5, y - 1, room, row), Qt::AlignVCenter | Qt::AlignLeft, name);
      else if (bar.left() - room > r.left()) p.drawText(QRectF(bar.left() - room - 2, y - 1, room, row), Qt::AlignVCenter | Qt::AlignRight, name);
    }
    y += row;
  }
  p.setFont(look::number_font(12));
  p.setPen(look::grey(look::kQuiet));
  p.drawText(QRectF(r.left(), r.bottom() + 2, 80, 18), Qt::AlignLeft, text(clock_text(now, now)));
  p.setPen(QPen(look::grey(236), 2));
  for (const Review& review : plan.reviews)
    if (&review != &plan.reviews.back()) {
      const double at = x_of(static_cast<double>(review.at - now));
      p.drawLine(QPointF(at, r.top() - 2), QPointF(at, r.bottom() + 2));
    }
  if (plan.review_at) {
    const double at = x_of(until);
    p.setPen(QPen(look::grey(236), 2));
    p.drawLine(QPointF(at, r.top() - 2), QPointF(at, r.bottom() + 2));
    p.drawText(QRectF(at - 200, r.bottom() + 2, 198, 18), Qt::AlignRight, tr("review %1").arg(text(clock_text(*plan.review_at, now))));
  } else {
    p.drawText(QRectF(r.right() - 120, r.bottom() + 2, 120, 18), Qt::AlignRight, text(clock_text(now + static_cast<std::int64_t>(end), now)));
  }
}

PlanPanel::PlanPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  auto* down = new QVBoxLayout(this);
  down->setContentsMargins(0, 0, 0, 0);
  down->setSpacing(6);
  auto* charts = new QHBoxLayout;
  charts->setSpacing(6);
  frontier_ = new Frontier(session, this);
  timetable_ = new Timetable(session, this);
  charts->addWidget(frontier_, 2);
  charts->addWidget(timetable_, 3);
  down->addLayout(charts, 1);
  auto* row = new QHBoxLayout;
  row->setSpacing(6);
  const auto field = [&](const QString& label, const char* name, const QString& like, int width) {
    auto* edit = new KeepsKeys<QLineEdit>({Qt::Key_Return, Qt::Key_Enter}, this);
    edit->setObjectName(name);
    edit->setPlaceholderText(like);
    edit->setFixedWidth(width);
    auto* said = new QLabel(label, this);
    said->setBuddy(edit);
    row->addWidget(said);
    row->addWidget(edit);
    return edit;
  };
  by_ = field(tr("Review at"), "review-at", tr("10:00"), 130);
  by_->setToolTip(tr("10:00, or parts with times of their own: 0-240@10:00, 240-480@11:30"));
  disk_ = field(tr("Room, GB"), "review-disk", tr("all"), 60);
  busy_ = field(tr("Somebody works"), "review-busy", tr("9:00-18:00"), 104);
  const auto button = [&](const QString& label, const char* name, const QString& tip) {
    auto* b = new QPushButton(label, this);
    b->setObjectName(name);
    b->setToolTip(tip);
    row->addWidget(b);
    return b;
  };
  row->addStretch(1);
  scale_ = button(tr("Half size: not allowed"), "allow-scale", tr("Whether spans may be played at half size; it hides detail and opens slips"));
  pin_ = button(tr("Pin"), "pin", tr("The chosen line must be made (Shift+P)"));
  forbid_ = button(tr("Forbid"), "forbid", tr("The chosen line must not be made (Shift+N)"));
  free_ = button(tr("Take back all words"), "no-words", tr("No pins, no bans, no limit of time"));
  down->addLayout(weighing());
  down->addLayout(row);
  connect(frontier_, &Frontier::time_chosen, this, [this](double s) {
    change([s](Wishes& w) { s < 0 ? w.most_seconds.reset() : void(w.most_seconds = s); });
  });
  connect(by_, &QLineEdit::editingFinished, this, [this] {
    const std::string said = by_->text().trimmed().toStdString();
    if (said.find('@') != std::string::npos) {
      std::vector<Wishes::Part> parts;
      for (const QString& one : by_->text().split(',', Qt::SkipEmptyParts))
        if (const auto part = session_.derived() ? part_from(one.trimmed().toStdString(), session_.derived()->view) : usage("nothing is open", ""))
          parts.push_back(*part);
      if (parts.size() == static_cast<std::size_t>(by_->text().split(',', Qt::SkipEmptyParts).size())) change([&](Wishes& w) { w.by.clear(), w.reviews = parts; });
      else refresh();
    } else if (said.empty() || clock_time(said, session_.derived() ? session_.derived()->plan.made_at : 0)) change([&](Wishes& w) { w.by = said, w.reviews.clear(); });
    else refresh();
  });
  connect(disk_, &QLineEdit::editingFinished, this, [this] {
    bool ok = false;
    const double gb = disk_->text().trimmed().toDouble(&ok);
    if (ok && gb >= 0) change([gb](Wishes& w) { w.disk_bytes = gb * 1e9; });
    else if (disk_->text().trimmed().isEmpty()) change([](Wishes& w) { w.disk_bytes.reset(); });
    else refresh();
  });
  connect(busy_, &QLineEdit::editingFinished, this, [this] {
    Json j = to_json(session_.wishes());
    j["busy"] = busy_->text().trimmed().isEmpty() ? Json::array() : Json::array({busy_->text().trimmed().toStdString()});
    if (const auto w = wishes_from(j, "")) change([&](Wishes& all) { all.busy = w->busy; });
    else refresh();
  });
  connect(pin_, &QPushButton::clicked, this, [this] { pin(); });
  connect(forbid_, &QPushButton::clicked, this, [this] { forbid(); });
  connect(scale_, &QPushButton::clicked, this, [this] {
    change([](Wishes& w) {
      if (!w.allow.erase("scale")) w.allow.insert("scale");
    });
  });
  connect(free_, &QPushButton::clicked, this, [this] { change([](Wishes& w) { w.pins.clear(), w.forbids.clear(), w.most_seconds.reset(); }); });
  connect(&session_, &Session::derived_changed, this, [this] { refresh(); });
  refresh();
}

namespace {

/// Machine seconds that one dropped frame is as bad as, by the slider's steps; beyond the last none may drop.
constexpr std::array<double, 4> kWeights{1, 10, 60, 600};

int step_of(const std::optional<double>& drop_seconds) {
  if (!drop_seconds) return static_cast<int>(kWeights.size());
  const auto it = std::lower_bound(kWeights.begin(), kWeights.end(), *drop_seconds);
  return static_cast<int>(std::min<std::ptrdiff_t>(it - kWeights.begin(), std::ssize(kWeights) - 1));
}

}  // namespace

/// How bad a dropped frame is against the machine's time.
QLayout* PlanPanel::weighing() {
  auto* row = new QHBoxLayout;
  row->setSpacing(6);
  auto* said = new QLabel(tr("One dropped frame is as bad as"), this);
  weight_ = new KeepsKeys<QSlider>({Qt::Key_Left, Qt::Key_Right, Qt::Key_Home, Qt::Key_End, Qt::Key_PageUp, Qt::Key_PageDown}, Qt::Horizontal, this);
  weight_->setObjectName("drop-weight");
  weight_->setRange(0, static_cast<int>(kWeights.size()));
  weight_->setPageStep(1);
  weight_->setFixedWidth(180);
  said->setBuddy(weight_);
  weighed_ = new QLabel(this);
  weighed_->setObjectName("drop-weight-said");
  row->addWidget(said);
  row->addWidget(weight_);
  row->addWidget(weighed_, 1);
  connect(weight_, &QSlider::valueChanged, this, [this](int step) {
    change([step](Wishes& w) {
      if (step == static_cast<int>(kWeights.size())) w.drop_seconds.reset();
      else w.drop_seconds = kWeights[static_cast<std::size_t>(step)];
    });
  });
  return row;
}

void PlanPanel::change(const std::function<void(Wishes&)>& how) {
  Wishes w = session_.wishes();
  how(w);
  session_.set_wishes(w);
}

void PlanPanel::set_chosen(const std::string& id) {
  chosen_ = id;
  refresh();
}

void PlanPanel::pin() {
  if (chosen_.empty()) return;
  change([this](Wishes& w) {
    if (!w.pins.erase(chosen_)) w.pins.insert(chosen_), w.forbids.erase(chosen_);
  });
}

void PlanPanel::forbid() {
  if (chosen_.empty()) return;
  change([this](Wishes& w) {
    if (!w.forbids.erase(chosen_)) w.forbids.insert(chosen_), w.pins.erase(chosen_);
  });
}

void PlanPanel::refresh() {
  const Wishes& w = session_.wishes();
  const auto show = [](QLineEdit* edit, const QString& text) {
    if (!edit->hasFocus() || !edit->isModified()) edit->setText(text);
  };
  QString by = text(w.by);
  if (session_.derived())
    for (const Wishes::Part& part : w.reviews) by += (by.isEmpty() ? "" : ", ") + text(text_of(part, session_.derived()->view));
  show(by_, by);
  show(disk_, w.disk_bytes ? QString::number(*w.disk_bytes / 1e9) : QString());
  const QSignalBlocker quiet(weight_);
  weight_->setValue(step_of(w.drop_seconds));
  weighed_->setText(w.drop_seconds ? tr("%1 of the machine's time: what takes more for it is left").arg(text(duration_text(*w.drop_seconds)))
                                   : tr("any work: none may drop"));
  const Json busy = to_json(w)["busy"];
  show(busy_, busy.empty() ? QString() : text(busy[0].get<std::string>()));
  scale_->setText(w.allow.contains("scale") ? tr("Half size: allowed") : tr("Half size: not allowed"));
  pin_->setEnabled(!chosen_.empty());
  forbid_->setEnabled(!chosen_.empty());
  pin_->setText(w.pins.contains(chosen_) ? tr("Unpin") : tr("Pin"));
  forbid_->setText(tr("Forbid"));
  const std::size_t words = w.pins.size() + w.forbids.size() + w.most_seconds.has_value();
  free_->setText(words == 0 ? tr("No words given") : tr("Take back %n word(s)", nullptr, static_cast<int>(words)).replace("(s)", words == 1 ? "" : "s"));
  free_->setEnabled(words > 0);
  frontier_->update(), timetable_->update();
}

}  // namespace gc
