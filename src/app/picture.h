// The picture and what is true of it.
#pragma once
#include <QImage>
#include <QWidget>

#include "app/session.h"

namespace gc {

/// How a remedy's picture is held against the live one.
enum class CompareMode { off, side_by_side, wipe, difference };

class Picture : public QWidget {
  Q_OBJECT
 public:
  explicit Picture(QWidget* parent = nullptr);
  void show_picture(const QImage& image, Frames frame, const QString& caption,
                    StillKind kind = StillKind::sharp);
  /// The frame that should be shown; until its picture comes, what is there is marked as not yet it.
  void expect(Frames frame, bool state_changed);
  Frames frame() const { return frame_; }
  bool waiting() const { return waiting_; }
  StillKind kind() const { return kind_; }
  void set_mode(CompareMode mode);
  CompareMode mode() const { return mode_; }
  void show_comparison(const Comparison& comparison);
  const Comparison& comparison() const { return comparison_; }
  /// Where the wipe stands, part of the width.
  double wipe() const { return wipe_; }
  void set_wipe(double share);

 protected:
  void paintEvent(QPaintEvent*) override;
  void mousePressEvent(QMouseEvent*) override;
  void mouseMoveEvent(QMouseEvent*) override;

 private:
  bool comparing() const { return mode_ != CompareMode::off && !waiting_ && comparison_.frame == frame_; }
  QRect place(const QSize& image, const QRect& within) const;
  void paint_comparison(QPainter& p) const;

  QImage image_;
  Frames frame_ = -1;
  StillKind kind_ = StillKind::sharp;
  QString caption_;
  bool waiting_ = false;
  CompareMode mode_ = CompareMode::off;
  Comparison comparison_;
  double wipe_ = 0.5;
};

}  // namespace gc
