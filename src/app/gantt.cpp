#include "app/gantt.h"

#include <QPainter>

#include "app/style.h"

namespace gc {

Gantt::Gantt(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("gantt");
  setAccessibleName(tr("The missed frame's stages"));
  setMinimumHeight(96);
  hide();
}

void Gantt::show_frame(Frames frame) {
  missed_.reset();
  if (const auto& p = session_.playout())
    for (std::size_t i = 0; i < p->log.size(); ++i)
      if (p->log[i].dropped && p->log[i].frame == frame) {
        missed_ = missed_frame(*p, static_cast<Frames>(i));
        workers_ = std::max(1, p->workers);
        break;
      }
  setVisible(missed_.has_value());  // without one the room is the table's
  update();
}

void Gantt::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(look::kPanel));
  p.setFont(look::text_font(12));
  if (!missed_) return;
  const MissedFrame& m = *missed_;
  const double left = 76, room = width() - left - 10, per_ms = room / std::max(1.0, m.to_ms - m.from_ms);
  const auto x_of = [&](double ms) { return left + (ms - m.from_ms) * per_ms; };
  const double top = 22, low = 17, row = std::min(30.0, (height() - top - low) / workers_);
  p.setPen(look::grey(look::kText));
  p.drawText(QRectF(10, 2, width() - 20, 18), Qt::AlignLeft | Qt::AlignVCenter,
             tr("Frame %1, %2; its own stages are light")
                 .arg(m.frame)
                 .arg(cause_name(m.cause)));
  for (int w = 0; w < workers_; ++w) {
    const QRectF line(left, top + w * row, room, row - 3);
    p.fillRect(line, look::grey(26));
    p.setPen(look::grey(look::kQuiet));
    p.drawText(QRectF(10, line.top(), left - 14, line.height()), Qt::AlignLeft | Qt::AlignVCenter,
               tr("Worker %1").arg(w + 1));
  }
  for (const MissedFrame::Bar& b : m.bars) {
    const double from = std::max(left, x_of(b.began_ms)), to = std::min(left + room, x_of(b.ended_ms));
    if (to <= from || b.worker < 0 || b.worker >= workers_) continue;
    const QRectF bar(from, top + b.worker * row + 1, std::max(1.0, to - from), row - 5);
    if (b.waiting) {
      p.setPen(QPen(look::grey(130), 1, Qt::DotLine));
      p.drawRect(bar);
      continue;
    }
    p.fillRect(bar, look::grey(b.own ? 200 : look::tone(b.kind)));
    // What lies behind the deadline is the overflow, as above the budget line.
    if (b.own && b.ended_ms > m.due_ms) {
      const double over = std::max(from, x_of(m.due_ms));
      p.fillRect(QRectF(over, bar.top(), to - over, bar.height()), look::copper());
    }
    p.setPen(look::grey(look::kGround));
    p.drawLine(bar.topRight(), bar.bottomRight());
    if (bar.width() > 44) {
      p.setPen(look::grey(b.own ? 20 : look::kText));
      p.drawText(bar.adjusted(4, 0, -2, 0), Qt::AlignLeft | Qt::AlignVCenter,
                 QFontMetrics(p.font()).elidedText(QString("%1 %2").arg(stage_name(b.kind)).arg(b.frame),
                                                   Qt::ElideRight, static_cast<int>(bar.width()) - 6));
    }
  }
  const double due = x_of(m.due_ms), bottom = top + workers_ * row;
  p.setPen(QPen(look::grey(236), 2));
  p.drawLine(QPointF(due, top - 2), QPointF(due, bottom));
  p.setPen(look::grey(look::kText));
  p.setFont(look::number_font(12));
  p.drawText(QRectF(due - 150, bottom + 1, 148, low - 2), Qt::AlignRight | Qt::AlignVCenter, tr("deadline"));
  p.setPen(look::grey(look::kQuiet));
  p.drawText(QRectF(left, bottom + 1, 200, low - 2), Qt::AlignLeft | Qt::AlignVCenter,
             tr("%1 ms shown").arg(m.to_ms - m.from_ms, 0, 'f', 0));
}

}  // namespace gc
