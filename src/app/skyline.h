// The skyline: load over time for the whole timeline.
#pragma once
#include <QImage>
#include <QWidget>

#include "app/session.h"

namespace gc {

/// Paints the columns of `view` (frames) into `out`: stages as stacked tones, what stands above the budget in
/// copper, lids, outlines, fringe. No text. `top_load` is the load at the upper edge.
void paint_columns(QImage& out, const Derived& derived, double first_frame, double frames_per_pixel,
                   double top_load, const std::vector<IntervalCost>* then = nullptr);

class Skyline : public QWidget {
  Q_OBJECT
 public:
  explicit Skyline(Session& session, QWidget* parent = nullptr);
  QSize sizeHint() const override { return {1100, 210}; }

  void set_playhead(Frames frame);
  void set_marks(FrameRange marks);  ///< in and out
  void set_segment(const std::string& id);
  /// Also what will be left of the load when the plan has been carried out.
  void set_after(bool after);
  /// What would be left of the load with a remedy that is looked at; null: none is. It goes before the plan.
  void set_supposed(std::shared_ptr<const Forecast> then);
  std::shared_ptr<const Forecast> supposed() const { return supposed_; }
  void zoom(double factor, double around_x);
  void zoom_all();
  void pan(double pixels);
  double frames_per_pixel() const { return frames_per_pixel_; }
  Frames frame_at(double x) const;
  double x_of(double frame) const { return (frame - first_) / frames_per_pixel_; }
  /// What is said of the frame, with numbers: the hover text.
  QString describe(Frames frame) const;

 signals:
  void frame_chosen(qint64 frame);

 protected:
  void paintEvent(QPaintEvent*) override;
  void resizeEvent(QResizeEvent*) override;
  void wheelEvent(QWheelEvent*) override;
  void mousePressEvent(QMouseEvent*) override;
  void mouseMoveEvent(QMouseEvent*) override;
  void keyPressEvent(QKeyEvent*) override;

 private:
  void refresh();
  void clamp_view();
  void draw_ruler(QPainter& p) const;
  void draw_spans(QPainter& p) const;
  QRect plot() const { return {0, 18, width(), height() - 18 - 34}; }

  Session& session_;
  bool after_ = false;
  std::shared_ptr<const Forecast> supposed_;
  QImage columns_;
  bool stale_ = true;
  double first_ = 0, frames_per_pixel_ = 1;
  bool fitted_ = true;
  double top_load_ = 2;
  Frames playhead_ = 0;
  FrameRange marks_;
  std::string segment_;
  QPoint drag_;
};

}  // namespace gc
