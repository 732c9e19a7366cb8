// The picture alone on the whole of a screen.
#pragma once
#include <QImage>
#include <QWidget>

#include "app/figures.h"

namespace gc {

class Viewer : public QWidget {
  Q_OBJECT
 public:
  /// @param main the window whose screen is left free where there is another one
  explicit Viewer(QWidget* main);

  enum class Shows { nothing, picture, picture_and_figures };
  Shows shows() const { return shows_; }
  /// From nothing to the picture, to the picture with figures, to nothing.
  void next();
  void leave();

  void show_picture(const QImage& image);
  /// The picture that is there is not the one asked for: it is darkened until that one comes.
  void set_waiting(bool waiting);
  void set_figures(const PlayFigures& figures);
  /// 1:1, pixel for pixel; else as large as the screen allows.
  void set_one_to_one(bool on);
  /// Where the picture lies, in pixels of the screen.
  QRect place() const;

 protected:
  void paintEvent(QPaintEvent*) override;
  void mousePressEvent(QMouseEvent*) override;
  void mouseMoveEvent(QMouseEvent*) override;

 private:
  QWidget* main_;
  QImage image_;
  PlayFigures figures_;
  Shows shows_ = Shows::nothing;
  bool one_to_one_ = false, waiting_ = false;
  QPoint moved_, grabbed_;  ///< at 1:1, how far a picture larger than the screen was moved
};

}  // namespace gc
