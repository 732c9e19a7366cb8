// The ledger: every segment and what it costs, sortable and filterable.
#pragma once
#include <QAbstractTableModel>
#include <QLineEdit>
#include <QSortFilterProxyModel>
#include <QTableView>

#include "app/session.h"

namespace gc {

/// One segment's line.
struct LedgerRow {
  std::string id;
  QString name, note, state, worst;
  Frames in = 0, out = 0;
  double load = 0, ms = 0, drops = 0, probability = 0;
  Verdict verdict = Verdict::holds;
  bool estimated = false;
};
std::vector<LedgerRow> ledger_rows(const Derived& derived);

class LedgerModel : public QAbstractTableModel {
  Q_OBJECT
 public:
  enum Column { kName, kIn, kLoad, kMs, kVerdict, kDrops, kState, kColumns };
  using QAbstractTableModel::QAbstractTableModel;
  void set(std::vector<LedgerRow> rows, const Timeline& timeline);
  const LedgerRow& row(int i) const { return rows_[static_cast<std::size_t>(i)]; }
  int rowCount(const QModelIndex& = {}) const override { return static_cast<int>(rows_.size()); }
  int columnCount(const QModelIndex& = {}) const override { return kColumns; }
  QVariant data(const QModelIndex& index, int role) const override;
  QVariant headerData(int section, Qt::Orientation o, int role) const override;

 private:
  std::vector<LedgerRow> rows_;
  Rate rate_;
  Frames start_ = 0;
};

class Ledger : public QWidget {
  Q_OBJECT
 public:
  explicit Ledger(Session& session, QWidget* parent = nullptr);
  void select(const std::string& id);
  std::string selected() const;
  QTableView* table() const { return table_; }
  QLineEdit* filter() const { return filter_; }

 signals:
  void segment_chosen(const QString& id, qint64 in);

 private:
  Session& session_;
  LedgerModel* model_;
  QSortFilterProxyModel* proxy_;
  QTableView* table_;
  QLineEdit* filter_;
  bool quiet_ = false;
};

}  // namespace gc
