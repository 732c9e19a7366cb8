#include "app/balance.h"

#include <QPainter>

#include "app/style.h"

namespace gc {

Balance::Balance(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("balance");
  setAccessibleName(tr("Stage balance"));
  setMinimumHeight(80);
  connect(&session_, &Session::derived_changed, this, [this] { work_out(); });
}

void Balance::set_segment(const std::string& id) {
  segment_ = id;
  work_out();
}

void Balance::work_out() {
  parts_.clear();
  title_.clear(), summary_.clear();
  total_ = budget_ = 0;
  if (!session_.derived()) return;
  const Derived& d = *session_.derived();
  const Forecast& f = d.plan.before;
  budget_ = f.rate.frame_ms();
  const CompiledSegment* segment = nullptr;
  for (const auto& s : d.view.played->segments())
    if (s->segment->id == segment_) segment = s.get();
  if (!segment) {
    update();
    return;
  }
  const std::vector<StageCost> stages = stages_over(f, {segment->in, segment->out});
  double load = 0, fetch = 0, all = 0;
  bool sealed = true, measured = true;
  for (const IntervalCost& c : f.intervals) {
    if (c.in >= segment->out || c.out <= segment->in) continue;
    load = std::max(load, c.load);
    sealed = sealed && c.is(FrameState::sealed), measured = measured && c.measured;
  }
  for (const StageCost& s : stages) {
    all += s.ms, fetch += s.turn_ms;
  }
  // What limits: reading, and decoding that goes in order, against one frame's time; or all of the work against what the
  // processors have together. The stages' figures are those of the ledger in both.
  const int workers = session_.stores().options.workers;
  const bool by_fetching = fetch > all / workers;
  budget_ = f.rate.frame_ms() * (by_fetching ? 1 : workers), total_ = by_fetching ? fetch : all;
  title_ = QString::fromStdString(segment->segment->name);
  for (const StageCost& s : stages) {
    if (const double ms = by_fetching ? s.turn_ms : s.ms; ms > 0)
      parts_.push_back({s.kind,
                        s.kind == StageKind::read      ? tr("Read")
                        : s.kind == StageKind::convert ? tr("Convert")
                                                       : QString::fromStdString(s.label),
                        ms});
  }
  summary_ = (by_fetching ? tr("load %1: reading and decoding in order take %2 of %3 ms a frame%4")
                          : tr("load %1: %2 ms of work, %5 processors have %3%4"))
                 .arg(load, 0, 'f', 2)
                 .arg(total_, 0, 'f', 1)
                 .arg(budget_, 0, 'f', 1)
                 .arg(sealed     ? tr(", sealed")
                      : measured ? QString()
                                 : tr(", estimated"));
  if (!by_fetching) summary_ = summary_.arg(workers);
  update();
}

void Balance::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(look::kPanel));
  p.setFont(look::text_font(13, true));
  p.setPen(look::grey(look::kText));
  if (parts_.empty()) {
    p.setFont(look::text_font(13));
    p.drawText(rect(), Qt::AlignCenter, tr("Choose a segment to see where its time goes."));
    return;
  }
  p.drawText(QRect(10, 4, width() - 20, 18), Qt::AlignLeft | Qt::AlignVCenter, title_);
  const int name_width = QFontMetrics(p.font()).horizontalAdvance(title_) + 18;
  p.setFont(look::text_font(12));
  p.setPen(look::grey(look::kQuiet));
  p.drawText(QRect(10 + name_width, 4, width() - 20 - name_width, 18), Qt::AlignRight | Qt::AlignVCenter,
             QFontMetrics(p.font()).elidedText(summary_, Qt::ElideRight, width() - 20 - name_width));
  // The whole width is the budget, or the total when that is more.
  const double left = 10, room = width() - 20, full = std::max(budget_ * 1.06, total_ * 1.02),
               per_ms = room / full;
  const int top = 28, high = 22;
  p.fillRect(QRectF(left, top, budget_ * per_ms, high), look::grey(26));
  const double limit = left + budget_ * per_ms;
  double x = left, label_free = left;
  for (const Part& part : parts_) {
    const double w = part.ms * per_ms;
    if (const int from = static_cast<int>(x), until = static_cast<int>(x + w); until > from) {
      QImage filled(until - from, high, QImage::Format_RGB32);
      for (int y = 0; y < high; ++y)
        for (int px = from; px < until; ++px)
          reinterpret_cast<QRgb*>(filled.scanLine(y))[px - from] =
              (px >= limit ? look::copper()
                           : look::grey(look::tone(part.kind) + look::texture(part.kind, px, y)))
                  .rgb();
      p.drawImage(from, top, filled);
    }
    p.setPen(look::grey(look::kGround));
    p.drawLine(QPointF(x + w, top), QPointF(x + w, top + high));
    const QString label = QString("%1 %2").arg(part.label).arg(part.ms, 0, 'f', 1);
    const int wanted = QFontMetrics(look::text_font(12)).horizontalAdvance(label);
    if (part.ms >= 0.02 * full && std::max(x, label_free) + wanted < left + room + 2) {
      const double at = std::max(x, label_free);
      p.setFont(look::text_font(12));
      p.setPen(look::grey(look::kText));
      p.drawText(QPointF(at, top + high + 17), label);
      p.setPen(look::grey(120));
      p.drawLine(QPointF(x + std::min(3.0, w / 2), top + high), QPointF(at + 3, top + high + 5));
      label_free = at + wanted + 14;
    }
    x += w;
  }
  p.setPen(QPen(look::grey(236), 2));
  p.drawLine(QPointF(limit, top - 4), QPointF(limit, top + high + 4));
}

}  // namespace gc
