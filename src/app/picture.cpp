#include "app/picture.h"

#include <QPainter>

#include "app/style.h"

namespace gc {

Picture::Picture(QWidget* parent) : QWidget(parent) {
  setObjectName("picture");
  setAccessibleName(tr("Picture"));
  setMinimumSize(240, 135);
  setAttribute(Qt::WA_OpaquePaintEvent);
}

void Picture::show_picture(const QImage& image, Frames frame, const QString& caption) {
  image_ = image, frame_ = frame, caption_ = caption;
  waiting_ = false;
  update();
}

void Picture::expect(Frames frame, bool state_changed) {
  if (frame == frame_ && !state_changed) return;
  waiting_ = true;
  update();
}

void Picture::set_figures(const QString& rate, const QString& dropped) {
  rate_ = rate, dropped_ = dropped;
  update();
}

void Picture::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(14));
  if (!image_.isNull()) {
    const QSize size = image_.size().scaled(this->size(), Qt::KeepAspectRatio);
    const QRect where((width() - size.width()) / 2, (height() - size.height()) / 2, size.width(),
                      size.height());
    p.setRenderHint(QPainter::SmoothPixmapTransform);
    p.drawImage(where, image_);
    // What is on screen is not the frame asked for: say so rather than let it pass for it.
    if (waiting_) p.fillRect(where, QColor(20, 20, 20, 150));
  }
  const auto plate = [&](const QRect& box, const QString& text, const QFont& font) {
    p.setFont(font);
    p.fillRect(box, QColor(14, 14, 14, 205));
    p.setPen(look::grey(look::kText));
    p.drawText(box.adjusted(8, 0, -8, 0), Qt::AlignVCenter | Qt::AlignLeft, text);
  };
  const QString caption = waiting_ ? tr("Making the picture") : caption_;
  if (!caption.isEmpty()) {
    const int w = QFontMetrics(look::text_font(12)).horizontalAdvance(caption) + 18;
    plate({0, height() - 22, std::min(w, width()), 22}, caption, look::text_font(12));
  }
  if (!rate_.isEmpty()) {
    const QFont font = look::number_font(30, true);
    plate({0, 0, QFontMetrics(font).horizontalAdvance(rate_) + 18, 42}, rate_, font);
    const int w = QFontMetrics(font).horizontalAdvance(dropped_) + 18;
    plate({width() - w, 0, w, 42}, dropped_, font);
  }
}

}  // namespace gc
