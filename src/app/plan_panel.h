// The Plan station's own pictures: drops left against time spent, the timetable against the clock, and the person's word.
#pragma once
#include <QLabel>
#include <QLineEdit>
#include <QPushButton>
#include <QWidget>

#include "app/session.h"

namespace gc {

/// Dropped frames that are left against time spent. A click chooses how much time may be spent.
class Frontier : public QWidget {
  Q_OBJECT
 public:
  explicit Frontier(Session& session, QWidget* parent = nullptr);
  QSize sizeHint() const override { return {380, 150}; }
  /// Where a point of the frontier is drawn.
  QPointF place(const FrontierPoint& point) const;

 signals:
  void time_chosen(double seconds);

 protected:
  void paintEvent(QPaintEvent*) override;
  void mousePressEvent(QMouseEvent*) override;

 private:
  QRectF plot() const;
  Session& session_;
};

/// What is made when, from now to the review.
class Timetable : public QWidget {
  Q_OBJECT
 public:
  explicit Timetable(Session& session, QWidget* parent = nullptr);
  QSize sizeHint() const override { return {560, 150}; }

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  Session& session_;
};

/// Both, and the line in which review, room and word are given.
class PlanPanel : public QWidget {
  Q_OBJECT
 public:
  explicit PlanPanel(Session& session, QWidget* parent = nullptr);
  Frontier* frontier() const { return frontier_; }
  /// The remedy that a pin or a ban is of; empty: none is chosen.
  void set_chosen(const std::string& id);
  /// Pins or forbids the chosen remedy, or takes that back.
  void pin();
  void forbid();

 private:
  void refresh();
  void change(const std::function<void(Wishes&)>& how);
  QLayout* weighing();
  Session& session_;
  Frontier* frontier_;
  Timetable* timetable_;
  QLineEdit *by_, *disk_, *busy_;
  QPushButton *pin_, *forbid_, *free_, *scale_;
  QSlider* weight_;
  QLabel* weighed_;
  std::string chosen_;
};

}  // namespace gc
