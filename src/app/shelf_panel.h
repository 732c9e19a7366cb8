// The shelf: what is there, for whom, how big and how old; cleaning it and bringing back what was cleaned away.
#pragma once
#include <QComboBox>
#include <QLabel>
#include <QPushButton>

#include "app/row_table.h"
#include "app/session.h"
#include "app/text_box.h"

namespace gc {

class ShelfPanel : public QWidget {
  Q_OBJECT
 public:
  explicit ShelfPanel(Session& session, QWidget* parent = nullptr);
  RowTable* table() const { return table_; }
  QString sentence() const { return sentence_->text(); }

 protected:
  void showEvent(QShowEvent*) override;

 private:
  void refresh();
  void say_what();
  void ask_budget();
  /// What is meant by the choice and the row that is chosen.
  Selection selection() const;
  CleanReport frees() const;

  Session& session_;
  TextBox* sentence_;
  QComboBox* what_;
  QPushButton* clean_;
  QPushButton* back_;
  QPushButton* pin_;
  QPushButton* budget_;
  QLabel* frees_;
  RowTable* table_;
};

}  // namespace gc
