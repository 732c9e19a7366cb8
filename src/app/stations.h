// What each station shows below the picture. Each panel reads the session and says what to do.
#pragma once
#include <QStackedWidget>
#include <QVBoxLayout>

#include "app/effects_panel.h"
#include "app/row_table.h"
#include "app/seat_panel.h"
#include "app/text_box.h"

namespace gc {

/// A sentence and a table: the shape that most stations share.
class StationPanel : public QWidget {
  Q_OBJECT
 public:
  /// `wide` are the columns that take the room that is left.
  StationPanel(const QString& name, const QStringList& heads, const QList<int>& wide, bool wrap,
               QWidget* parent);
  void set_sentence(const QString& text) { sentence_->set_text(text); }
  QString sentence() const { return sentence_->text(); }
  using Row = RowTable::Row;
  void set_rows(std::vector<Row> rows) { table_->set_rows(std::move(rows)); }
  RowTable* table() const { return table_; }
  TextBox* sentence_box() const { return sentence_; }
  QVBoxLayout* box() const { return box_; }

 signals:
  void frame_chosen(qint64 frame);

 private:
  QVBoxLayout* box_;
  TextBox* sentence_;
  RowTable* table_;
};

enum class Station { seat, timeline, forecast, plan, playout, release };
inline constexpr int kStations = 6;
QString station_name(Station s);

class Gantt;
class PlanPanel;
class DeliveryPanel;

class Stations : public QStackedWidget {
  Q_OBJECT
 public:
  explicit Stations(Session& session, QWidget* parent = nullptr);
  void set_segment(const std::string& id) { effects_->set_segment(id); }
  void set_playhead(Frames frame) { effects_->set_playhead(frame); }
  SeatPanel* seat() const { return seat_; }
  RowTable* remedies() const { return remedies_; }
  PlanPanel* plan() const { return plan_; }
  DeliveryPanel* delivery() const { return delivery_; }
  bool eventFilter(QObject* of, QEvent* event) override;
  /// Applies the remedy in focus; the first when none is.
  void apply_remedy();
  StationPanel* panel(Station s) const { return panels_[static_cast<std::size_t>(s)]; }
  /// What the pages hold scrolls or folds; none of them makes the window higher.
  QSize minimumSizeHint() const override { return {320, 120}; }

 signals:
  void frame_chosen(qint64 frame);

 private:
  /// Only what is seen is filled; another station is when it is turned to.
  void refresh();
  void refresh_timeline();
  void refresh_forecast();
  void refresh_plan();
  void refresh_playout();
  void refresh_release();
  void show_card(int row);
  void show_remedies(const std::vector<Proposal>& found);
  void list_no_remedies(const QString& why = {});
  /// Asks what copies of the medium in a row would bring.
  void ask_for_copies(int row);
  void show_copies(const std::string& source, const std::vector<Proposal>& found);
  Session& session_;
  StationPanel* panels_[kStations] = {};
  EffectsPanel* effects_;
  SeatPanel* seat_;
  Gantt* gantt_;
  PlanPanel* plan_;
  DeliveryPanel* delivery_;
  TextBox* card_;
  RowTable* remedies_;
  std::vector<std::string> remedy_ids_;  ///< of its rows; empty: refused
  FrameRange listed_;             ///< span that they are of
  QString timeline_told_;                ///< of the timeline, above what is told of a medium
  std::vector<std::string> media_ids_;   ///< of the rows of media; empty: no source
  std::string medium_;                   ///< the one that is told of
  FrameRange carded_;  ///< the span on the card
};

}  // namespace gc
