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
  /// Asks where to, then delivers.
  void ask_where();
  /// The form that is chosen: "rdd36".
  std::string form() const;
  QString said() const { return said_->text(); }

 protected:
  void showEvent(QShowEvent*) override;

 private:
  void refresh();
  Session& session_;
  QComboBox* form_;
  QPushButton *deliver_, *lift_;
  TextBox* said_;
};

}  // namespace gc
