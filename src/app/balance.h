// The stage balance: one bar, the frame budget, filled by the stages of the selected segment; overflow in
// copper.
#pragma once
#include <QWidget>

#include "app/session.h"

namespace gc {

class Balance : public QWidget {
  Q_OBJECT
 public:
  explicit Balance(Session& session, QWidget* parent = nullptr);
  void set_segment(const std::string& id);
  QSize sizeHint() const override { return {600, 84}; }
  QString summary() const { return summary_; }

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  void work_out();
  Session& session_;
  std::string segment_;
  QString title_, summary_;
  struct Part {
    StageKind kind;
    QString label;
    double ms;  ///< of the budget: work spread over the workers
  };
  std::vector<Part> parts_;
  double budget_ = 0, total_ = 0;
};

}  // namespace gc
