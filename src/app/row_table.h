// A table of text rows that lead to frames: the shape of every station's list.
#pragma once
#include <QImage>
#include <QTableWidget>

namespace gc {

class RowTable : public QTableWidget {
  Q_OBJECT
 public:
  /// `wide` are the columns that take the room that is left; with `wrap` rows grow with their text.
  RowTable(const QStringList& heads, const QList<int>& wide, bool wrap, QWidget* parent);

  /// Each row's cells, the frame it leads to (−1: none), and a hint (empty: the cell's own text).
  struct Row {
    QStringList cells;
    qint64 frame = -1;
    QString hint;
    QImage picture = {};  ///< in the first cell, before its text
    bool operator==(const Row&) const = default;
  };
  /// Does nothing when the rows are those that are shown: a table is refreshed far more often than it
  /// changes.
  void set_rows(std::vector<Row> rows);
  /// What stands where the rows would be as long as there are none.
  void say_while_empty(const QString& why);
  const QString& while_empty() const { return while_empty_; }

 signals:
  void frame_chosen(qint64 frame);

 protected:
  void paintEvent(QPaintEvent* event) override;

 private:
  QList<int> wide_;
  bool resizing_ = false;  ///< heights follow once all widths are known
  std::vector<Row> rows_;
  QString while_empty_;
};

}  // namespace gc
