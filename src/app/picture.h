// The picture and what is true of it.
#pragma once
#include <QImage>
#include <QWidget>

#include "base/rational.h"

namespace gc {

class Picture : public QWidget {
  Q_OBJECT
 public:
  explicit Picture(QWidget* parent = nullptr);
  void show_picture(const QImage& image, Frames frame, const QString& caption);
  /// The frame that should be shown; until its picture comes, what is there is marked as not yet it.
  void expect(Frames frame, bool state_changed);
  Frames frame() const { return frame_; }
  bool waiting() const { return waiting_; }
  /// Large figures over the picture while it plays; empty hides them.
  void set_figures(const QString& rate, const QString& dropped);

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  QImage image_;
  Frames frame_ = -1;
  QString caption_, rate_, dropped_;
  bool waiting_ = false;
};

}  // namespace gc
