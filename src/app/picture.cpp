#include "app/picture.h"

#include <QMouseEvent>
#include <QPainter>

#include "app/style.h"

namespace gc {

Picture::Picture(QWidget* parent) : QWidget(parent) {
  setObjectName("picture");
  setAccessibleName(tr("Picture"));
  setMinimumSize(240, 135);
  setAttribute(Qt::WA_OpaquePaintEvent);
}

void Picture::show_picture(const QImage& image, Frames frame, const QString& caption, StillKind kind) {
  image_ = image, frame_ = frame, caption_ = caption, kind_ = kind;
  waiting_ = false;
  update();
}

void Picture::expect(Frames frame, bool state_changed) {
  if (frame == frame_ && !state_changed) return;
  waiting_ = true;
  comparison_ = {};
  update();
}

void Picture::set_mode(CompareMode mode) {
  mode_ = mode;
  if (mode == CompareMode::off) comparison_ = {};
  update();
}

void Picture::show_comparison(const Comparison& comparison) {
  comparison_ = comparison;
  update();
}

void Picture::set_wipe(double share) {
  wipe_ = std::clamp(share, 0.0, 1.0);
  update();
}

void Picture::mousePressEvent(QMouseEvent* e) { mouseMoveEvent(e); }

void Picture::mouseMoveEvent(QMouseEvent* e) {
  if (mode_ != CompareMode::wipe || !comparing() || !(e->buttons() & Qt::LeftButton)) return;
  const QRect where = place(comparison_.live.size(), rect());
  set_wipe((e->position().x() - where.left()) / where.width());
}

QRect Picture::place(const QSize& image, const QRect& within) const {
  const QSize size = image.scaled(within.size(), Qt::KeepAspectRatio);
  return {within.left() + (within.width() - size.width()) / 2,
          within.top() + (within.height() - size.height()) / 2, size.width(), size.height()};
}

void Picture::paint_comparison(QPainter& p) const {
  const Comparison& c = comparison_;
  const auto name = [&](const QRect& where, const QString& text, bool right) {
    p.setFont(look::text_font(12, true));
    const int w = p.fontMetrics().horizontalAdvance(text) + 14;
    const QRect box(right ? where.right() - w : where.left(), where.top(), w, 20);
    p.fillRect(box, QColor(14, 14, 14, 205));
    p.setPen(look::grey(look::kText));
    p.drawText(box, Qt::AlignCenter, text);
  };
  if (mode_ == CompareMode::difference) {
    const QRect where = place(c.difference.size(), rect());
    p.drawImage(where, c.difference);
    name(where, tr("Difference × 8"), false);
  } else if (mode_ == CompareMode::side_by_side) {
    const QRect left(0, 0, width() / 2 - 1, height()),
        right(width() / 2 + 1, 0, width() - width() / 2 - 1, height());
    p.drawImage(place(c.live.size(), left), c.live);
    p.drawImage(place(c.other.size(), right), c.other);
    name(place(c.live.size(), left), tr("Live"), false);
    name(place(c.other.size(), right), tr("Remedy"), true);
  } else {
    const QRect where = place(c.live.size(), rect());
    const int at = where.left() + static_cast<int>(wipe_ * where.width());
    p.drawImage(where, c.live);
    p.save();
    p.setClipRect(QRect(at, where.top(), where.right() - at + 1, where.height()));
    p.drawImage(where, c.other);
    p.restore();
    p.fillRect(QRect(at - 1, where.top(), 1, where.height()), Qt::black);
    p.fillRect(QRect(at, where.top(), 1, where.height()), Qt::white);
    name(where, tr("Live"), false);
    name(where, tr("Remedy"), true);
  }
}

void Picture::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(14));
  p.setRenderHint(QPainter::SmoothPixmapTransform);
  if (comparing()) {
    paint_comparison(p);
  } else if (!image_.isNull()) {
    const QRect where = place(image_.size(), rect());
    p.drawImage(where, image_);
    // What is on screen is not the frame asked for: say so rather than let it pass for it.
    if (waiting_) p.fillRect(where, QColor(20, 20, 20, 150));
    if (kind_ == StillKind::unseen && !waiting_) {
      p.setFont(look::text_font(17, true));
      p.setPen(look::grey(look::kText));
      p.drawText(where, Qt::AlignCenter, tr("Unseen until rendered"));
    }
  }
  const auto plate = [&](const QRect& box, const QString& text, const QFont& font) {
    p.setFont(font);
    p.fillRect(box, QColor(14, 14, 14, 205));
    p.setPen(look::grey(look::kText));
    p.drawText(box.adjusted(8, 0, -8, 0), Qt::AlignVCenter | Qt::AlignLeft, text);
  };
  QString caption = waiting_ ? tr("Making the picture") : caption_;
  if (!waiting_ && kind_ == StillKind::preview) caption += tr("  lower scale, the sharp picture follows");
  if (comparing()) caption += "  " + comparison_.text;
  else if (mode_ != CompareMode::off && !waiting_ && kind_ == StillKind::sharp) caption += tr("  comparing");
  if (!caption.isEmpty()) {
    const int w = QFontMetrics(look::text_font(12)).horizontalAdvance(caption) + 18;
    plate({0, height() - 22, std::min(w, width()), 22}, caption, look::text_font(12));
  }
}

}  // namespace gc
