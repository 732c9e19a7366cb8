// The figures of a playout, beside the picture and readable from two metres.
#pragma once
#include <QWidget>

namespace gc {

/// What stands there while it plays; empty texts take no room.
struct PlayFigures {
  QString rate, dropped;
  QString loads;  ///< how busy processors and drives are
  bool empty() const { return rate.isEmpty() && dropped.isEmpty(); }
};

class Figures : public QWidget {
  Q_OBJECT
 public:
  explicit Figures(QWidget* parent = nullptr);
  void set_figures(const PlayFigures& figures);
  const PlayFigures& figures() const { return figures_; }

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  PlayFigures figures_;
};

/// Paints them into a box, as large as fits: one above the other.
void paint_figures(QPainter& painter, const QRect& box, const PlayFigures& figures);

}  // namespace gc
