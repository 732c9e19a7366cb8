// The Release station's delivery: in which form, how long it takes, how it went.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/session.h"
#include "app/text_box.h"

namespace gc {

class DeliveryPanel : public QWidget {
  Q_OBJECT
 public:
  explicit DeliveryPanel(Session& session, QWidget* parent = nullptr);
  /// Puts the gate's chosen item right, or asks what a person must say of it.
  void put_right();
  /// The same for everything that stops the delivery: at once what a key can do, then one question for the rest.
  void put_all_right();
  /// The row of the gate's list that is chosen; −1: none.
  void set_chosen(int item);
  /// Asks where to, then delivers: at once, or when the queue has time for it.
  enum class When { now, queued };
  void ask_where(When when = When::now);
  /// The form that is chosen: "rdd36".
  std::string form() const;
  QString said() const { return said_->text(); }

 protected:
  void showEvent(QShowEvent*) override;

 private:
  void refresh();
  void put_right(std::vector<GateItem> items);
  Session& session_;
  QComboBox* form_;
  QPushButton *deliver_, *queue_, *right_, *all_right_;
  int chosen_ = -1;
  TextBox* said_;
};

}  // namespace gc
