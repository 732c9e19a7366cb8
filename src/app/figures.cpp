#include "app/figures.h"

#include <QPainter>

#include "app/style.h"

namespace gc {
namespace {

constexpr int kLarge = 44, kSmall = 15;  ///< px; at 44 px a digit is a centimetre high on a usual desktop screen

QFont fitting(int px, const QString& text, int width) {
  QFont font = look::number_font(px, true);
  while (px > kSmall && QFontMetrics(font).horizontalAdvance(text) > width) font = look::number_font(--px, true);
  return font;
}

}  // namespace

Figures::Figures(QWidget* parent) : QWidget(parent) {
  setObjectName("figures");
  setFixedHeight(2 * (kLarge + 4) + kSmall + 8);
}

void Figures::set_figures(const PlayFigures& figures) {
  figures_ = figures;
  setAccessibleName(tr("%1, %2. %3").arg(figures.rate, figures.dropped, figures.loads));
  update();
}

void Figures::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(look::kPanel));
  paint_figures(p, rect().adjusted(10, 4, -10, -4), figures_);
}

void paint_figures(QPainter& p, const QRect& box, const PlayFigures& f) {
  p.setPen(look::grey(look::kText));
  const int line = kLarge + 4;
  p.setFont(fitting(kLarge, f.rate, box.width()));
  p.drawText(QRect(box.left(), box.top(), box.width(), line), Qt::AlignLeft | Qt::AlignVCenter, f.rate);
  p.setFont(fitting(kLarge, f.dropped, box.width()));
  p.drawText(QRect(box.left(), box.top() + line, box.width(), line), Qt::AlignLeft | Qt::AlignVCenter, f.dropped);
  p.setPen(look::grey(look::kQuiet));
  p.setFont(look::number_font(kSmall));
  p.drawText(QRect(box.left(), box.top() + 2 * line, box.width(), box.height() - 2 * line),
             Qt::AlignLeft | Qt::AlignTop | Qt::TextWordWrap, f.loads);
}

}  // namespace gc
