#include "app/viewer.h"

#include <QGuiApplication>
#include <QMouseEvent>
#include <QPainter>
#include <QScreen>

#include "app/style.h"

namespace gc {
namespace {

constexpr int kSurround = 46;                 ///< a neutral grey, dark enough not to dazzle beside a night scene
constexpr int kFigures = 320, kFiguresHigh = 160;  ///< room for figures, px

}  // namespace

Viewer::Viewer(QWidget* main) : QWidget(main, Qt::Window | Qt::FramelessWindowHint), main_(main) {
  setObjectName("viewer");
  setWindowTitle(tr("Picture"));
  setAttribute(Qt::WA_OpaquePaintEvent);
}

void Viewer::next() {
  shows_ = static_cast<Shows>((static_cast<int>(shows_) + 1) % 3);
  if (shows_ == Shows::nothing) return leave();
  if (!isVisible()) {
    QScreen* on = main_->screen();
    for (QScreen* other : QGuiApplication::screens())
      if (other != on) {
        on = other;
        break;
      }
    moved_ = {};
    setGeometry(on->geometry());
    showFullScreen();
    if (on == main_->screen()) activateWindow();
  }
  update();
}

void Viewer::leave() {
  shows_ = Shows::nothing;
  hide();
  main_->activateWindow();  // the keys are the window's again
}

void Viewer::show_picture(const QImage& image) {
  const bool same = image.size() == image_.size() && !waiting_;
  waiting_ = false;
  image_ = image;
  // What lies around the picture stays as it is.
  if (isVisible()) update(same ? place() : rect());
}

void Viewer::set_waiting(bool waiting) {
  waiting_ = waiting;
  update();
}

void Viewer::set_figures(const PlayFigures& figures) {
  figures_ = figures;
  if (shows_ == Shows::picture_and_figures) update();
}

void Viewer::set_one_to_one(bool on) {
  one_to_one_ = on;
  moved_ = {};
  update();
}

QRect Viewer::place() const {
  if (image_.isNull()) return {};
  const QRect room = rect();
  const QSize size = one_to_one_ ? image_.size() : image_.size().scaled(room.size(), Qt::KeepAspectRatio);
  QPoint at((room.width() - size.width()) / 2, (room.height() - size.height()) / 2);
  if (one_to_one_) {
    const auto held = [](int way, int picture, int screen) {
      const int most = std::max(0, (picture - screen + 1) / 2);
      return std::clamp(way, -most, most);
    };
    at += QPoint(held(moved_.x(), size.width(), room.width()), held(moved_.y(), size.height(), room.height()));
  }
  return {at, size};
}

void Viewer::mousePressEvent(QMouseEvent* e) { grabbed_ = e->pos() - moved_; }

void Viewer::mouseMoveEvent(QMouseEvent* e) {
  if (!one_to_one_ || !(e->buttons() & Qt::LeftButton)) return;
  moved_ = e->pos() - grabbed_;
  update();
}

void Viewer::paintEvent(QPaintEvent* event) {
  QPainter p(this);
  const QRect where = place();
  for (const QRect& around : QRegion(event->rect()).subtracted(where)) p.fillRect(around, look::grey(kSurround));
  if (!image_.isNull()) {
    if (where.size() == image_.size()) {
      p.drawImage(where.topLeft(), image_);
    } else {
      p.setRenderHint(QPainter::SmoothPixmapTransform);
      p.drawImage(where, image_);
    }
  }
  if (waiting_) p.fillRect(where, QColor(20, 20, 20, 150));
  if (shows_ != Shows::picture_and_figures || figures_.empty()) return;
  // In the surround where it is wide or high enough, else in the corner that covers least.
  QRect box(16, 16, kFigures, kFiguresHigh);
  if (where.left() < kFigures + 32) box.moveTop(height() - kFiguresHigh - 16);
  p.fillRect(box, look::grey(look::kGround));
  paint_figures(p, box.adjusted(12, 8, -12, -8), figures_);
}

}  // namespace gc
