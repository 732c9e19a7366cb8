// The seat: what holds it back, what to do, and the numbers behind; other seats to try the timeline on.
#pragma once
#include <QButtonGroup>
#include <QComboBox>
#include <QLabel>
#include <QPushButton>
#include <QStackedWidget>

#include "app/row_table.h"
#include "app/shelf_panel.h"
#include "app/text_box.h"
#include "app/session.h"

namespace gc {

class SeatPanel : public QWidget {
  Q_OBJECT
 public:
  explicit SeatPanel(Session& session, QWidget* parent = nullptr);
  enum class Page { advice, media, machine, laws, seats, shelf };
  static constexpr int kPages = 6;
  static constexpr int kTables = 5;  ///< pages that are one table
  void show_page(Page page);
  RowTable* table(Page page) const { return page == Page::shelf ? shelf_->table() : tables_[static_cast<std::size_t>(page)]; }
  ShelfPanel* shelf() const { return shelf_; }
  QString headline() const { return headline_->text(); }

 signals:
  void frame_chosen(qint64 frame);

 protected:
  void showEvent(QShowEvent*) override;
  void hideEvent(QHideEvent*) override;

 private:
  void refresh();  ///< only when it is seen
  void refresh_advice();
  void refresh_media();
  void refresh_machine();
  void refresh_laws();
  void refresh_seats();
  void refresh_page();
  void fill(Page page, std::vector<QStringList> rows, const std::vector<qint64>& frames = {});
  void save_dialog();
  void load_dialog();

  Session& session_;
  TextBox* headline_;
  TextBox* news_;
  QPushButton* quick_;
  QPushButton* full_;
  QComboBox* seats_;
  QButtonGroup* pages_;
  QStackedWidget* stack_;
  RowTable* tables_[kTables] = {};
  ShelfPanel* shelf_;
};

}  // namespace gc
