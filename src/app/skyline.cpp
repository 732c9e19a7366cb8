#include "app/skyline.h"

#include <fmt/format.h>

#include <QHelpEvent>
#include <QMouseEvent>
#include <QPainter>
#include <QToolTip>
#include <QWheelEvent>
#include <cmath>

#include "app/style.h"
#include "base/timecode.h"

namespace gc {
namespace {

QRgb rgb(int v) { return qRgb(std::clamp(v, 0, 255), std::clamp(v, 0, 255), std::clamp(v, 0, 255)); }

/// One pixel column of the picture, y counted upward from the bottom.
class Column {
 public:
  /// `bottom` is the pixel at the foot of the column, `stride` the pixels of a row.
  Column(QRgb* bottom, std::ptrdiff_t stride, int x, int height)
      : bottom_(bottom), stride_(stride), x_(x), height_(height) {}
  void set(int up, QRgb c) {
    if (up >= 0 && up < height_) bottom_[-stride_ * up] = c;
  }
  void blend(int up, int v, double alpha) {
    if (up < 0 || up >= height_) return;
    QRgb& at = bottom_[-stride_ * up];
    at = rgb(static_cast<int>(qRed(at) * (1 - alpha) + v * alpha));
  }
  int x() const { return x_; }
  int height() const { return height_; }

 private:
  QRgb* bottom_;
  std::ptrdiff_t stride_;
  int x_, height_;
};

QRgb copper(int x, int up) {
  const int shade = (x + up) % 6 == 0 ? 12 : 0;
  return qRgb(look::kCopperR + shade, look::kCopperG + shade, look::kCopperB + shade);
}

/// Stages from the bottom upward to the column's load; copper above the budget.
void draw_stages(Column& c, const IntervalCost& cost, double load, double per_load, bool hatched_top) {
  const int top = static_cast<int>(std::lround(load * per_load)),
            line = static_cast<int>(std::lround(per_load));
  double of_kind[kStageKinds] = {}, total = 0, sum = 0;
  for (const StageCost& s : cost.stages) of_kind[static_cast<std::size_t>(s.kind)] += s.ms, total += s.ms;
  int up = 0;
  for (int k = 0; k < kStageKinds && total > 0; ++k) {
    sum += of_kind[k];
    const int end = static_cast<int>(std::lround(load * sum / total * per_load));
    const auto kind = static_cast<StageKind>(k);
    for (; up < end; ++up)
      c.set(up, up >= line ? copper(c.x(), up) : rgb(look::tone(kind) + look::texture(kind, c.x(), up)));
  }
  if (total <= 0)
    for (; up < top; ++up) c.set(up, rgb(88 + ((c.x() + up) % 6 == 0 ? 12 : 0)));
  if (hatched_top)
    for (int y = std::max(0, top - 10); y < top; ++y)
      if ((c.x() + y) % 5 < 2) c.set(y, rgb(look::kGround));
}

}  // namespace

void paint_columns(QImage& out, const Derived& d, double first, double frames_per_pixel, double top_load, const std::vector<IntervalCost>* loads) {
  out.fill(rgb(look::kGround - 6));
  const double per_load = out.height() / top_load;
  const Forecast& f = d.plan.before;
  const std::ptrdiff_t stride = out.bytesPerLine() / static_cast<std::ptrdiff_t>(sizeof(QRgb));
  QRgb* bottom = reinterpret_cast<QRgb*>(out.bits()) + stride * (out.height() - 1);
  std::size_t then = 0;
  for (int x = 0; x < out.width(); ++x) {
    const double from = first + x * frames_per_pixel;
    const auto in = static_cast<Frames>(std::floor(from));
    const Frames until = std::max(in + 1, static_cast<Frames>(std::floor(from + frames_per_pixel)));
    const LoadSummary s = d.pyramid.over(in, until);
    if (s.interval < 0) continue;
    const IntervalCost& cost = f.intervals[static_cast<std::size_t>(s.interval)];
    Column c(bottom + x, stride, x, out.height());
    if (s.verdict == Verdict::unseen && !cost.is(FrameState::sealed)) {
      // An empty column with a dashed outline, as high as the budget: no load can be said of what cannot be
      // shown.
      const int high = static_cast<int>(std::lround(per_load));
      const bool edge = cost.in == in || cost.out == until;
      if (x / 5 % 2 == 0) c.set(high - 1, rgb(200)), c.set(1, rgb(200));
      for (int up = 0; edge && up < high; ++up)
        if (up / 5 % 2 == 0) c.set(up, rgb(200));
      continue;
    }
    if (s.verdict == Verdict::missing && !cost.is(FrameState::sealed)) {
      // The bars that stand for its picture, as high as the budget.
      const int high = static_cast<int>(std::lround(per_load));
      for (int up = 0; up < high; ++up)
        if ((x + up) % 14 < 4) c.set(up, rgb(150));
      continue;
    }
    draw_stages(c, cost, s.load, per_load, s.verdict == Verdict::wavers && s.high > 0.9f);
    const int low = static_cast<int>(s.low * per_load), high = static_cast<int>(s.high * per_load),
              top = static_cast<int>(std::lround(s.load * per_load));
    for (int up = std::max(low, top); up < high; ++up)
      c.blend(up, 190, 0.38 * (high - up) / std::max(1, high - top));
    const auto dotted = [&](float level, int v) {
      const int y = static_cast<int>(std::lround(level * per_load));
      for (int up = top; up < y; ++up)
        if (x % 4 == 0 && up % 4 == 0) c.set(up, rgb(v));
      if (x % 4 < 2) c.set(std::min(y, out.height() - 1), rgb(v));
    };
    if (s.full > s.load + 0.02f && !cost.is(FrameState::sealed)) dotted(s.full, 150);
    if (cost.is(FrameState::sealed)) {
      // A lid on the lowered column, the former load as a faint outline.
      for (int up = top + 2; up < top + 5; ++up) c.set(up, rgb(236));
      c.set(std::min(static_cast<int>(std::lround(s.live * per_load)), out.height() - 1), rgb(112));
    }
    // A lid with a gap: every other stretch of it is missing.
    if (cost.is(FrameState::broken) && (x / 9) % 2 == 0)
      for (int up = top + 4; up < top + 7; ++up) c.set(up, rgb(236));
    if (!cost.measured && x % 3 == 0) c.set(top, rgb(220));
    if (!loads) continue;
    // What is taken away is hatched away, down to the load that is left.
    const std::vector<IntervalCost>& left = *loads;
    while (then < left.size() && left[then].out <= in) ++then;
    if (then == left.size() || left[then].load > cost.load * 0.97) continue;
    const int rest = static_cast<int>(std::lround(left[then].load * per_load));
    for (int up = rest; up < top; ++up)
      if ((x + up) % 4 < 3) c.set(up, rgb(look::kGround - 6));
    for (int up = rest; up < rest + 2; ++up) c.set(up, rgb(236));
  }
}

Skyline::Skyline(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("skyline");
  setAccessibleName(tr("Skyline: load over time"));
  setFocusPolicy(Qt::StrongFocus);
  setMouseTracking(true);
  setMinimumHeight(170);
  connect(&session_, &Session::derived_changed, this, [this] { refresh(); });
  connect(&session_, &Session::opened, this, [this] { zoom_all(); });
  connect(&session_, &Session::timeline_changed, this, [this] { update(); });
}

void Skyline::refresh() {
  if (fitted_) zoom_all();
  supposed_.reset();  // of another state
  stale_ = true;
  top_load_ = 1.45;
  if (session_.derived())
    for (const IntervalCost& c : session_.derived()->plan.before.intervals)
      top_load_ = std::max(top_load_, std::min(4.0, std::max({c.load_high, c.live_load}) * 1.06));
  update();
}

void Skyline::set_playhead(Frames f) {
  playhead_ = f;
  update();
}
void Skyline::set_marks(FrameRange m) {
  marks_ = m;
  update();
}
void Skyline::set_after(bool after) {
  if (after_ == after) return;
  after_ = after, stale_ = true;
  update();
}

void Skyline::set_supposed(std::shared_ptr<const Forecast> then) {
  if (supposed_ == then) return;
  supposed_ = std::move(then), stale_ = true;
  update();
}

void Skyline::set_segment(const std::string& id) {
  segment_ = id;
  update();
}

Frames Skyline::frame_at(double x) const {
  const Frames last = session_.derived() ? session_.derived()->view.played->duration() - 1 : 0;
  return std::clamp<Frames>(static_cast<Frames>(std::floor(first_ + x * frames_per_pixel_)), 0,
                            std::max<Frames>(0, last));
}

void Skyline::clamp_view() {
  const double frames =
      session_.derived() ? static_cast<double>(session_.derived()->view.played->duration()) : 1;
  const double all = std::max(1.0, frames) / std::max(1, width());
  frames_per_pixel_ = std::clamp(frames_per_pixel_, std::min(all, 1.0 / 24), all);
  first_ = std::clamp(first_, 0.0, std::max(0.0, frames - frames_per_pixel_ * width()));
  fitted_ = frames_per_pixel_ >= all * 0.999;
  stale_ = true;
  update();
}

void Skyline::zoom(double factor, double x) {
  const double frame = first_ + x * frames_per_pixel_;
  frames_per_pixel_ /= factor;
  first_ = frame - x * frames_per_pixel_;
  clamp_view();
}
void Skyline::zoom_all() {
  first_ = 0, frames_per_pixel_ = 1e12;
  clamp_view();
}
void Skyline::pan(double pixels) {
  first_ += pixels * frames_per_pixel_;
  clamp_view();
}

void Skyline::resizeEvent(QResizeEvent*) {
  if (fitted_) zoom_all();
  stale_ = true;
}

void Skyline::draw_spans(QPainter& p) const {
  const Derived& d = *session_.derived();
  p.setFont(look::text_font(12, true));
  const QFontMetrics metrics(p.font());
  double free_from = 0;
  for (const Span& s : d.plan.before.spans) {
    if (s.verdict == Verdict::holds) continue;
    const double in = x_of(static_cast<double>(s.in)), out = x_of(static_cast<double>(s.out));
    if (out < 0 || in > width()) continue;
    const QString text = QString::fromStdString(verdict_text(s.verdict, s.drop_probability));
    const int w = metrics.horizontalAdvance(text);
    const double at = std::clamp((in + out) / 2 - w / 2.0, std::max(2.0, free_from),
                                 std::max(2.0, static_cast<double>(width() - w - 2)));
    p.setPen(look::grey(120));
    p.drawLine(QPointF(in, 17), QPointF(out, 17));
    if (at > out + 30 || at < free_from) continue;
    p.setPen(look::grey(look::kText));
    p.drawText(QPointF(at, 13), text);
    free_from = at + w + 10;
  }
}

void Skyline::draw_ruler(QPainter& p) const {
  const Derived& d = *session_.derived();
  const Timeline& t = *d.view.timeline;
  const int base = plot().bottom() + 1;
  p.setFont(look::number_font(12));
  // Time marks at least 110 pixels apart, on whole seconds.
  const double fps = t.rate.fps();
  static constexpr double kSteps[] = {1, 2, 5, 10, 15, 30, 60, 120, 300, 600, 900, 1800, 3600};
  double step = 3600;
  for (const double s : kSteps)
    if (s * fps / frames_per_pixel_ >= 110) {
      step = s;
      break;
    }
  for (double s = std::floor(first_ / fps / step) * step;; s += step) {
    const double x = x_of(s * fps);
    if (x > width()) break;
    if (x < -100) continue;
    p.setPen(look::grey(96));
    p.drawLine(QPointF(x, base + 12), QPointF(x, height()));
    p.setPen(look::grey(look::kQuiet));
    if (x + 96 < width())
      p.drawText(
          QPointF(x + 4, height() - 5),
          QString::fromStdString(timecode_at(t, static_cast<Frames>(std::lround(s * fps)))));
  }
  // Cuts of the lowest track, as ticks; the selected segment as a bar.
  double last = -10;
  for (const auto& s : d.view.played->segments()) {
    const double in = x_of(static_cast<double>(s->in)), out = x_of(static_cast<double>(s->out));
    if (s->segment->id == segment_)
      p.fillRect(QRectF(in, base + 1, std::max(2.0, out - in), 4), look::grey(look::kText));
    else if (in - last >= 3) p.fillRect(QRectF(in, base + 1, 1, 4), look::grey(110)), last = in;
  }
  // Dropped frames of the last playout.
  if (const auto& playout = session_.playout()) {
    double drawn = -2;
    for (const FrameLog& l : playout->log) {
      if (!l.dropped) continue;
      const double x = x_of(static_cast<double>(l.frame) + 0.5);
      if (x - drawn < 1) continue;
      drawn = x;
      if (l.cause == Cause::outside) p.fillRect(QRectF(x, base + 9, 1, 2), look::grey(150));
      else p.fillRect(QRectF(x, base + 6, 1.4, 6), look::copper());
    }
  }
}

void Skyline::paintEvent(QPaintEvent*) {
  QPainter p(this);
  p.fillRect(rect(), look::grey(look::kGround - 6));
  if (!session_.derived()) {
    p.setPen(look::grey(look::kQuiet));
    p.setFont(look::text_font(14));
    p.drawText(rect(), Qt::AlignCenter,
               session_.work().kind == Work::Kind::opening ? session_.work().text
                                                           : tr("Open a timeline with Ctrl+O."));
    return;
  }
  const double ratio = devicePixelRatioF();
  const QSize wanted(static_cast<int>(plot().width() * ratio), static_cast<int>(plot().height() * ratio));
  if (stale_ || columns_.size() != wanted) {
    if (columns_.size() != wanted) columns_ = QImage(wanted, QImage::Format_RGB32);
    paint_columns(columns_, *session_.derived(), first_, frames_per_pixel_ / ratio, top_load_,
                  supposed_ ? &supposed_->intervals : after_ ? &session_.derived()->plan.after.intervals : nullptr);
    columns_.setDevicePixelRatio(ratio);
    stale_ = false;
  }
  p.drawImage(plot().topLeft(), columns_);
  const double line = plot().bottom() + 1 - plot().height() / top_load_;
  p.setPen(QPen(look::grey(236), 1.4));
  p.drawLine(QPointF(0, line), QPointF(width(), line));
  p.setFont(look::number_font(12));
  const QString budget =
      tr("1.0 budget %1 ms").arg(session_.derived()->plan.before.rate.frame_ms(), 0, 'f', 1);
  const QRectF box(2, line - 17, QFontMetrics(p.font()).horizontalAdvance(budget) + 8, 15);
  p.fillRect(box, QColor(24, 24, 24, 190));
  p.drawText(box, Qt::AlignCenter, budget);
  draw_spans(p);
  draw_ruler(p);
  if (marks_.length() > 0) {
    p.setPen(QPen(look::grey(200), 1, Qt::DashLine));
    for (const Frames m : {marks_.in, marks_.out})
      p.drawLine(QPointF(x_of(static_cast<double>(m)), 18),
                 QPointF(x_of(static_cast<double>(m)), height() - 20));
  }
  const double x = x_of(static_cast<double>(playhead_) + 0.5);
  p.setPen(QPen(look::grey(255), 1.5));
  p.drawLine(QPointF(x, 18), QPointF(x, height() - 18));
  if (!session_.current()) {
    p.fillRect(QRect(width() - 190, 24, 184, 22), QColor(16, 16, 16, 220));
    p.setFont(look::text_font(12));
    p.drawText(QRect(width() - 190, 24, 184, 22), Qt::AlignCenter, tr("Working out the new state"));
  }
  if (hasFocus()) {
    p.setPen(QPen(look::grey(150), 1));
    p.drawRect(rect().adjusted(0, 0, -1, -1));
  }
}

QString Skyline::describe(Frames frame) const {
  if (!session_.derived()) return {};
  const Derived& d = *session_.derived();
  const LoadSummary s = d.pyramid.over(frame, frame + 1);
  if (s.interval < 0) return {};
  const IntervalCost& c = d.plan.before.intervals[static_cast<std::size_t>(s.interval)];
  const Timeline& t = *d.view.timeline;
  QString text =
      QString("%1 · frame %2").arg(QString::fromStdString(timecode_at(t, frame))).arg(frame);
  if (const CompiledSegment* main = main_segment(*d.view.played, frame))
    text += "\n" + QString::fromStdString(main->segment->name);
  text += QString("\nload %1 (%2 to %3)%4")
              .arg(s.load, 0, 'f', 2)
              .arg(s.low, 0, 'f', 2)
              .arg(s.high, 0, 'f', 2)
              .arg(c.is(FrameState::sealed)     ? tr(", sealed; %1 live").arg(s.live, 0, 'f', 2)
                   : c.is(FrameState::half)     ? tr(", half sealed")
                   : c.is(FrameState::broken)   ? tr(", seal broken")
                   : c.measured ? QString()
                                : tr(", estimated"));
  text += QString("\nmissed with %1 % probability").arg(s.miss * 100, 0, 'f', 0);
  for (const StageCost& stage : c.stages)
    if (stage.ms >= 0.5)
      text += QString("\n%1 ms  %2").arg(stage.ms, 6, 'f', 1).arg(QString::fromStdString(stage.label));
  return text;
}

void Skyline::wheelEvent(QWheelEvent* e) {
  const QPoint delta = e->angleDelta();
  if (e->modifiers() & Qt::ShiftModifier || std::abs(delta.x()) > std::abs(delta.y()))
    pan(-(delta.x() ? delta.x() : delta.y()) * 0.5);
  else zoom(std::pow(1.0015, delta.y()), e->position().x());
  e->accept();
}

void Skyline::mousePressEvent(QMouseEvent* e) {
  drag_ = e->pos();
  if (e->button() == Qt::LeftButton && session_.derived()) emit frame_chosen(frame_at(e->position().x()));
}

void Skyline::mouseMoveEvent(QMouseEvent* e) {
  if (e->buttons() & Qt::MiddleButton) {
    pan(drag_.x() - e->pos().x());
    drag_ = e->pos();
  } else if (e->buttons() & Qt::LeftButton && session_.derived()) {
    emit frame_chosen(frame_at(e->position().x()));
  } else {
    QToolTip::showText(e->globalPosition().toPoint(), describe(frame_at(e->position().x())), this);
  }
}

void Skyline::keyPressEvent(QKeyEvent* e) {
  switch (e->key()) {
    case Qt::Key_Plus:
    case Qt::Key_Equal:
      zoom(1.5, x_of(static_cast<double>(playhead_)));
      break;
    case Qt::Key_Minus:
      zoom(1 / 1.5, x_of(static_cast<double>(playhead_)));
      break;
    case Qt::Key_0:
      zoom_all();
      break;
    case Qt::Key_PageUp:
      pan(-width() * 0.8);
      break;
    case Qt::Key_PageDown:
      pan(width() * 0.8);
      break;
    default:
      QWidget::keyPressEvent(e);
  }
}

}  // namespace gc
