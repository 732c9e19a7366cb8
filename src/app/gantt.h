// Why one frame was missed: what the workers did while it could have been made, against its deadline.
#pragma once
#include <QWidget>
#include <optional>

#include "app/session.h"
#include "playout/trace.h"

namespace gc {

class Gantt : public QWidget {
  Q_OBJECT
 public:
  explicit Gantt(Session& session, QWidget* parent = nullptr);
  /// The latest playout's frame; one that was not dropped, or no playout, clears it.
  void show_frame(Frames frame);
  const std::optional<MissedFrame>& shown() const { return missed_; }
  QSize sizeHint() const override { return {200, 130}; }

 protected:
  void paintEvent(QPaintEvent*) override;

 private:
  Session& session_;
  std::optional<MissedFrame> missed_;
  int workers_ = 1;
};

}  // namespace gc
