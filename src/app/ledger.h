// The ledger: every segment and what it costs, sortable and filterable. A composition opens to its layers.
#pragma once
#include <QAbstractItemModel>
#include <QLineEdit>
#include <QSortFilterProxyModel>
#include <QTreeView>

#include "app/session.h"

namespace gc {

/// One segment's line.
struct LedgerRow {
  std::string id;
  QString name, note, truth, from, worst;
  Frames in = 0, out = 0;
  double load = 0, ms = 0, drops = 0, probability = 0;
  Verdict verdict = Verdict::holds;
  bool estimated = false;
  /// Of a composition: what its layers cost. What they cost is in the composition's own figures.
  std::vector<LedgerRow> layers;
};
std::vector<LedgerRow> ledger_rows(const Derived& derived);

class LedgerModel : public QAbstractItemModel {
  Q_OBJECT
 public:
  enum Column { kName, kIn, kLoad, kMs, kVerdict, kDrops, kTruth, kFrom, kColumns };
  using QAbstractItemModel::QAbstractItemModel;
  void set(std::vector<LedgerRow> rows, const Timeline& timeline);
  const LedgerRow& row(const QModelIndex& index) const { return *node(index).row; }
  QModelIndex index(int row, int column, const QModelIndex& parent = {}) const override;
  QModelIndex parent(const QModelIndex& index) const override;
  int rowCount(const QModelIndex& parent = {}) const override;
  int columnCount(const QModelIndex& = {}) const override { return kColumns; }
  QVariant data(const QModelIndex& index, int role) const override;
  QVariant headerData(int section, Qt::Orientation o, int role) const override;

 private:
  /// A row with its place in the tree; the first node stands for the whole.
  struct Node {
    const LedgerRow* row = nullptr;
    int parent = 0, place = 0;
    std::vector<int> inner;
  };
  const Node& node(const QModelIndex& index) const {
    return nodes_[index.isValid() ? static_cast<std::size_t>(index.internalId()) : 0];
  }
  void number(const std::vector<LedgerRow>& rows, int parent);

  std::vector<LedgerRow> rows_;
  std::vector<Node> nodes_ = std::vector<Node>(1);
  Rate rate_;
  Frames start_ = 0;
  std::optional<bool> drop_frame_;
};

class Ledger : public QWidget {
  Q_OBJECT
 public:
  explicit Ledger(Session& session, QWidget* parent = nullptr);
  void select(const std::string& id);
  std::string selected() const;
  QTreeView* table() const { return table_; }
  QLineEdit* filter() const { return filter_; }
  /// Shows or hides the layers of the chosen composition.
  void open_or_close();

 signals:
  void segment_chosen(const QString& id, qint64 in);

 private:
  Session& session_;
  LedgerModel* model_;
  QSortFilterProxyModel* proxy_;
  QTreeView* table_;
  QLineEdit* filter_;
  bool quiet_ = false;
};

}  // namespace gc
