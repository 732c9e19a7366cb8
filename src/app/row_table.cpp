#include "app/row_table.h"

#include <QHeaderView>
#include <QPainter>
#include <QPixmap>
#include <QStyledItemDelegate>
#include <utility>

#include "app/style.h"

namespace gc {
namespace {

/// Rows as high as their text is where it wraps. Qt's own measure forgets the style sheet's padding, and the
/// last words are lost.
class WrappedText : public QStyledItemDelegate {
 public:
  using QStyledItemDelegate::QStyledItemDelegate;
  QSize sizeHint(const QStyleOptionViewItem& option, const QModelIndex& index) const override {
    constexpr int kSides = 2 * (6 + 4), kAboveAndBelow = 2 * 2;
    const auto* table = qobject_cast<const QTableWidget*>(option.widget);
    const QSize plain = QStyledItemDelegate::sizeHint(option, index);
    if (!table) return plain;
    QStyleOptionViewItem o = option;
    initStyleOption(&o, index);
    const int width = std::max(40, table->columnWidth(index.column()) - kSides);
    const QRect needed = o.fontMetrics.boundingRect(QRect(0, 0, width, 10'000), Qt::TextWordWrap, o.text);
    const int picture = (o.features & QStyleOptionViewItem::HasDecoration) ? o.decorationSize.height() + kAboveAndBelow : 0;
    return {plain.width(), std::max({23, needed.height() + kAboveAndBelow, picture})};
  }
};

}  // namespace

RowTable::RowTable(const QStringList& heads, const QList<int>& wide, bool wrap, QWidget* parent)
    : QTableWidget(0, static_cast<int>(heads.size()), parent), wide_(wide) {
  setHorizontalHeaderLabels(heads);
  verticalHeader()->hide();
  verticalHeader()->setDefaultSectionSize(23);
  // Text that wraps gets other heights with every width.
  if (wrap) {
    setItemDelegate(new WrappedText(this));
    verticalHeader()->setSectionResizeMode(QHeaderView::ResizeToContents);
    connect(horizontalHeader(), &QHeaderView::sectionResized, this, [this] {
      if (std::exchange(resizing_, true)) return;
      QMetaObject::invokeMethod(
          this, [this] { resizing_ = false, resizeRowsToContents(); }, Qt::QueuedConnection);
    });
  }
  setIconSize({80, 45});
  setShowGrid(false);
  setAlternatingRowColors(true);
  setWordWrap(wrap);
  setSelectionBehavior(QAbstractItemView::SelectRows);
  setSelectionMode(QAbstractItemView::SingleSelection);
  setEditTriggers(QAbstractItemView::NoEditTriggers);
  setTabKeyNavigation(false);
  setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  horizontalHeader()->setHighlightSections(false);
  horizontalHeader()->setDefaultAlignment(Qt::AlignLeft | Qt::AlignVCenter);
  // Measuring the text of hundreds of rows would hold the window up; the first hundred tell the width.
  horizontalHeader()->setResizeContentsPrecision(100);
  for (int c = 0; c < columnCount(); ++c)
    horizontalHeader()->setSectionResizeMode(
        c, wide_.contains(c) ? QHeaderView::Stretch : QHeaderView::ResizeToContents);
  connect(this, &QTableWidget::currentCellChanged, this, [this](int row) {
    if (row >= 0 && row < static_cast<int>(rows_.size()))
      if (const qint64 frame = rows_[static_cast<std::size_t>(row)].frame; frame >= 0)
        emit frame_chosen(frame);
  });
}

void RowTable::set_rows(std::vector<Row> rows) {
  if (rows == rows_) return;
  rows_ = std::move(rows);
  const QSignalBlocker quiet(this);
  const QFont figures = look::number_font(12), words = look::text_font(13);
  setRowCount(static_cast<int>(rows_.size()));
  for (int r = 0; r < rowCount(); ++r)
    for (int c = 0; c < columnCount(); ++c) {
      const Row& row = rows_[static_cast<std::size_t>(r)];
      auto* item = new QTableWidgetItem(c < row.cells.size() ? row.cells[c] : QString());
      // What takes the room that is left is words, even when they begin with a number.
      const bool figure = !wide_.contains(c) && !item->text().isEmpty() &&
                          (item->text()[0].isDigit() || item->text()[0] == '-');
      item->setFont(figure ? figures : words);
      item->setData(Qt::UserRole, row.frame);
      if (c == 0 && !row.picture.isNull()) item->setData(Qt::DecorationRole, QPixmap::fromImage(row.picture));
      item->setToolTip(row.hint.isEmpty() ? item->text() : row.hint);
      setItem(r, c, item);
    }
}

void RowTable::say_while_empty(const QString& why) {
  if (why == while_empty_) return;
  while_empty_ = why;
  if (rows_.empty()) viewport()->update();
}

void RowTable::paintEvent(QPaintEvent* event) {
  QTableWidget::paintEvent(event);
  if (!rows_.empty() || while_empty_.isEmpty()) return;
  QPainter p(viewport());
  p.setFont(look::text_font(13));
  p.setPen(look::grey(170));
  p.drawText(viewport()->rect().adjusted(10, 8, -10, -8), Qt::AlignTop | Qt::AlignLeft | Qt::TextWordWrap, while_empty_);
}

}  // namespace gc
