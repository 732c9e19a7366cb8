// The queue, one key away from every station: what is made now, what waits and why, what is done, what failed and what to do.
#pragma once
#include <QDialog>
#include <QLabel>
#include <QPushButton>
#include <QTimer>

#include "app/queue_rules.h"
#include "app/row_table.h"
#include "app/session.h"

namespace gc {

class QueueWindow : public QDialog {
  Q_OBJECT
 public:
  explicit QueueWindow(Session& session, QWidget* parent = nullptr);
  RowTable* table() const { return table_; }
  QString sentence() const { return sentence_->text(); }

 private:
  void refresh();
  /// The job of the chosen row; 0: none.
  std::int64_t chosen() const;
  void with_chosen(Result<bool> (*does)(Journal&, std::int64_t));
  Session& session_;
  std::size_t done_ = 0;
  QLabel* sentence_;
  RowTable* table_;
  QueueRules* rules_;
  QPushButton *pause_, *cancel_, *first_;
  QTimer timer_;
};

/// The queue in a few words, always in sight: what is left, until when, why it waits. Looks at it every few seconds, and tells
/// the desktop when something ended, failed, or will not be done in time. Not shown while there is nothing to say.
class QueueLine : public QLabel {
  Q_OBJECT
 public:
  explicit QueueLine(Session& session, QWidget* parent = nullptr);

 signals:
  void clicked();

 protected:
  void mouseReleaseEvent(QMouseEvent* event) override;

 private:
  void refresh();
  Session& session_;
  Session::QueueSeen before_;
  QTimer timer_;
};

/// Tells the queue that somebody uses the window, so that its work makes way.
class UseTeller : public QObject {
  Q_OBJECT
 public:
  explicit UseTeller(Session& session, QObject* parent = nullptr);
  bool eventFilter(QObject* of, QEvent* event) override;

 private:
  Session& session_;
  bool used_ = false;
  QTimer timer_;
};

}  // namespace gc
