#include "app/ledger.h"

#include <QHeaderView>
#include <QVBoxLayout>

#include "app/style.h"
#include "base/timecode.h"
#include "desk/answered.h"

namespace gc {

namespace {

/// What the layers inside a composition cost, by the same figures as the composition itself.
std::vector<LedgerRow> layer_rows(const CompiledSegment& outer, const std::vector<StageCost>& stages,
                                  const std::string& placed) {
  std::vector<LedgerRow> rows;
  if (!outer.inner) return rows;
  for (const CompiledSegmentPtr& s : outer.inner->segments()) {
    LedgerRow r;
    r.id = s->segment->id;
    r.name = QString::fromStdString(s->segment->name), r.note = QString::fromStdString(s->segment->note);
    r.in = s->in, r.out = s->out;
    r.from = s->content == Content::offline ? QObject::tr("offline") : QObject::tr("layer");
    r.truth = QString::fromLatin1(truth_name(s->segment->truth));
    r.layers = layer_rows(*s, stages, placed);
    double worst = 0;
    for (const StageCost& stage : stages)
      if (stage.placed == placed && stage.segment == r.id) {
        r.ms += stage.ms;
        if (stage.ms > worst) worst = stage.ms, r.worst = QString::fromStdString(stage.label);
      }
    for (const LedgerRow& deeper : r.layers) r.ms += deeper.ms;
    rows.push_back(std::move(r));
  }
  return rows;
}

}  // namespace

std::vector<LedgerRow> ledger_rows(const Derived& d) {
  std::vector<LedgerRow> rows;
  const Forecast& f = d.plan.before;
  for (const auto& s : d.view.played->segments()) {
    LedgerRow r;
    r.id = s->segment->id;
    r.name = QString::fromStdString(s->segment->name), r.note = QString::fromStdString(s->segment->note);
    r.in = s->in, r.out = s->out;
    for (const IntervalCost& c : f.intervals) {
      if (std::min(r.out, c.out) <= std::max(r.in, c.in)) continue;
      r.load = std::max(r.load, c.load);
      r.estimated = r.estimated || !c.measured;
    }
    const std::vector<StageCost> stages = stages_over(f, {r.in, r.out});
    r.ms = ms_of(stages, r.id);
    double worst_ms = 0;
    for (const StageCost& stage : stages)
      if (stage.placed == r.id && stage.ms > worst_ms)
        worst_ms = stage.ms, r.worst = QString::fromStdString(stage.label);
    r.layers = layer_rows(*s, stages, r.id);
    for (Frames n = r.in; n < r.out; ++n) r.drops += f.miss[static_cast<std::size_t>(n)];
    for (const Span& span : f.spans)
      if (span.verdict > r.verdict && span.in < r.out && span.out > r.in &&
          (r.drops >= 0.3 || !is_of_speed(span.verdict)))
        r.verdict = span.verdict;
    if (f.trials && is_of_speed(r.verdict)) {
      // A span reaches into its neighbours; each segment is called by its own probability.
      const Span by_itself = f.over({r.in, r.out});
      r.probability = by_itself.drop_probability;
      r.verdict = std::min(r.verdict, by_itself.verdict);
    }
    r.from = QString::fromStdString(answered_from(d.view, f, *s));
    r.truth = QString::fromLatin1(truth_name(s->segment->truth));
    rows.push_back(std::move(r));
  }
  return rows;
}

void LedgerModel::number(const std::vector<LedgerRow>& rows, int parent) {
  for (std::size_t i = 0; i < rows.size(); ++i) {
    const int here = static_cast<int>(nodes_.size());
    nodes_.push_back({&rows[i], parent, static_cast<int>(i), {}});
    nodes_[static_cast<std::size_t>(parent)].inner.push_back(here);
    number(rows[i].layers, here);
  }
}

QModelIndex LedgerModel::index(int row, int column, const QModelIndex& parent) const {
  const std::vector<int>& inner = node(parent).inner;
  if (row < 0 || row >= static_cast<int>(inner.size()) || column < 0 || column >= kColumns) return {};
  return createIndex(row, column, static_cast<quintptr>(inner[static_cast<std::size_t>(row)]));
}

QModelIndex LedgerModel::parent(const QModelIndex& index) const {
  const int up = node(index).parent;
  if (!index.isValid() || up == 0) return {};
  return createIndex(nodes_[static_cast<std::size_t>(up)].place, 0, static_cast<quintptr>(up));
}

int LedgerModel::rowCount(const QModelIndex& parent) const {
  return parent.column() > 0 ? 0 : static_cast<int>(node(parent).inner.size());
}

namespace {
/// Whether these are the same segments with the same layers, whatever they cost.
bool same_tree(const std::vector<LedgerRow>& a, const std::vector<LedgerRow>& b) {
  return a.size() == b.size() && std::equal(a.begin(), a.end(), b.begin(), [](const auto& x, const auto& y) {
           return x.id == y.id && same_tree(x.layers, y.layers);
         });
}
}  // namespace

void LedgerModel::set(std::vector<LedgerRow> rows, const Timeline& t) {
  rate_ = t.rate, start_ = t.start, drop_frame_ = t.drop_frame;
  const bool same = same_tree(rows, rows_);
  if (!same) beginResetModel();
  rows_ = std::move(rows);
  nodes_.assign(1, {});
  number(rows_, 0);
  if (!same) return endResetModel();
  // Every place keeps its number, so that what is open stays open.
  for (std::size_t n = 0; n < nodes_.size(); ++n) {
    if (nodes_[n].inner.empty()) continue;
    const QModelIndex up = n == 0 ? QModelIndex() : createIndex(nodes_[n].place, 0, static_cast<quintptr>(n));
    emit dataChanged(index(0, 0, up), index(rowCount(up) - 1, kColumns - 1, up));
  }
}

QVariant LedgerModel::data(const QModelIndex& i, int role) const {
  if (!i.isValid()) return {};
  const LedgerRow& r = row(i);
  const bool layer = i.parent().isValid();
  if (role == Qt::FontRole)
    return i.column() == kName || i.column() >= kTruth || i.column() == kVerdict ? look::text_font(13)
                                                                                 : look::number_font(12);
  if (role == Qt::TextAlignmentRole)
    return static_cast<int>((i.column() >= kLoad && i.column() <= kDrops && i.column() != kVerdict
                                 ? Qt::AlignRight
                                 : Qt::AlignLeft) |
                            Qt::AlignVCenter);
  if (role == Qt::ToolTipRole)
    return QString("%1 · frame %2 · %3%4%5")
        .arg(r.name)
        .arg(r.in)
        .arg(r.from)
        .arg(r.worst.isEmpty() ? QString() : tr("\nDearest stage: %1").arg(r.worst),
             r.note.isEmpty() ? QString() : "\n" + r.note);
  const bool sort = role == Qt::UserRole;
  const bool unknown =
      !layer && r.estimated && r.load <= 0;  // nothing to go by yet: no number is better than a wrong one
  if (role != Qt::DisplayRole && !sort) return {};
  // Whether frames drop is known of the composition, not of a layer by itself.
  if (layer && !sort && i.column() != kName && i.column() != kMs && i.column() < kTruth) return {};
  switch (i.column()) {
    case kName:
      return r.name;
    case kIn:
      return sort ? QVariant(static_cast<qlonglong>(r.in))
                  : QVariant(QString::fromStdString(timecode(start_ + r.in, rate_, drop_frame_)));
    case kLoad:
      return sort ? QVariant(r.load) : unknown ? QVariant("–") : QVariant(QString::number(r.load, 'f', 2));
    case kMs:
      return sort ? QVariant(r.ms) : unknown ? QVariant("–") : QVariant(QString::number(r.ms, 'f', 1));
    case kVerdict:
      return sort      ? QVariant(static_cast<int>(r.verdict) * 2 + r.probability)
             : unknown && r.verdict != Verdict::missing ? QVariant(tr("not measured"))
                       : QVariant(QString::fromStdString(verdict_text(r.verdict, r.probability)));
    case kDrops:
      return sort      ? QVariant(r.drops)
             : unknown ? QVariant("–")
                       : QVariant(r.drops < 0.05 ? QString("0")
                                                 : QString::number(r.drops, 'f', r.drops < 10 ? 1 : 0));
    case kTruth:
      return r.truth;
    case kFrom:
      return r.from;
    default:
      return {};
  }
}

QVariant LedgerModel::headerData(int section, Qt::Orientation o, int role) const {
  static const char* kHeads[] = {"Segment", "In", "Load", "ms", "Verdict", "Drops", "Truth", "Plays from"};
  static const char* kTips[] = {"",
                                "Timecode of the first frame",
                                "Greatest mean load: 1.0 is exactly real time",
                                "Milliseconds of work a frame: the segment's own stages, and its layers where it is a composition",
                                "Whether frames drop, with the probability",
                                "Dropped frames expected",
                                "What the segment is judged for: exact, picture or timing",
                                "What answers its frames in playback: made live, sealed, or what of their making is fetched"};
  if (o != Qt::Horizontal) return {};
  if (role == Qt::DisplayRole) return QString(kHeads[section]);
  if (role == Qt::ToolTipRole) return QString(kTips[section]);
  if (role == Qt::TextAlignmentRole)
    return static_cast<int>(
        (section == kLoad || section == kMs || section == kDrops ? Qt::AlignRight : Qt::AlignLeft) |
        Qt::AlignVCenter);
  return {};
}

Ledger::Ledger(Session& session, QWidget* parent)
    : QWidget(parent),
      session_(session),
      model_(new LedgerModel(this)),
      proxy_(new QSortFilterProxyModel(this)),
      table_(new QTreeView(this)),
      filter_(new QLineEdit(this)) {
  proxy_->setSourceModel(model_);
  proxy_->setSortRole(Qt::UserRole);
  proxy_->setFilterKeyColumn(-1);
  proxy_->setFilterCaseSensitivity(Qt::CaseInsensitive);
  table_->setObjectName("ledger");
  table_->setAccessibleName(tr("Ledger of segments"));
  table_->setModel(proxy_);
  table_->setSortingEnabled(true);
  table_->sortByColumn(LedgerModel::kMs, Qt::DescendingOrder);
  table_->setSelectionBehavior(QAbstractItemView::SelectRows);
  table_->setSelectionMode(QAbstractItemView::SingleSelection);
  table_->setAlternatingRowColors(true);
  table_->setWordWrap(false);
  table_->setUniformRowHeights(true);
  table_->setIndentation(14);
  table_->setAllColumnsShowFocus(true);
  table_->setEditTriggers(QAbstractItemView::NoEditTriggers);
  table_->setExpandsOnDoubleClick(true);
  table_->header()->setHighlightSections(false);
  proxy_->setRecursiveFilteringEnabled(true);
  static constexpr int kWidths[] = {130, 98, 54, 55, 102, 60, 64, 84};
  for (int c = 0; c < LedgerModel::kColumns; ++c) table_->setColumnWidth(c, kWidths[c]);
  table_->header()->setStretchLastSection(true);
  filter_->setObjectName("filter");
  filter_->setPlaceholderText(tr("Filter segments  (Ctrl+F)"));
  filter_->setClearButtonEnabled(true);
  auto* box = new QVBoxLayout(this);
  box->setContentsMargins(0, 0, 0, 0);
  box->setSpacing(4);
  box->addWidget(filter_);
  box->addWidget(table_);
  connect(filter_, &QLineEdit::textChanged, proxy_, &QSortFilterProxyModel::setFilterFixedString);
  connect(&session_, &Session::derived_changed, this, [this] {
    if (!session_.derived()) return;
    const std::string id = selected();
    quiet_ = true;
    model_->set(ledger_rows(*session_.derived()), *session_.derived()->view.timeline);
    if (!id.empty()) select(id);
    quiet_ = false;
  });
  connect(table_->selectionModel(), &QItemSelectionModel::currentRowChanged, this,
          [this](const QModelIndex& now) {
            if (quiet_ || !now.isValid()) return;
                        // A layer leads to the composition that it is in: its frames are those of the timeline.
            QModelIndex top = now;
            while (top.parent().isValid()) top = top.parent();
            const LedgerRow& r = model_->row(proxy_->mapToSource(top));
            emit segment_chosen(QString::fromStdString(r.id), r.in);
          });
}

void Ledger::select(const std::string& id) {
  for (int i = 0; i < model_->rowCount(); ++i)
    if (const QModelIndex here = model_->index(i, 0); model_->row(here).id == id) {
      const QModelIndex at = proxy_->mapFromSource(here);
      if (at.isValid() && selected() != id) {
        const bool before = std::exchange(quiet_, true);
        table_->setCurrentIndex(at);
        quiet_ = before;
      }
      return;
    }
}

void Ledger::open_or_close() {
  QModelIndex now = table_->currentIndex();
  if (now.isValid() && !table_->model()->hasChildren(now.siblingAtColumn(0)) && now.parent().isValid())
    now = now.parent();
  now = now.siblingAtColumn(0);
  if (now.isValid()) table_->setExpanded(now, !table_->isExpanded(now));
}

std::string Ledger::selected() const {
  QModelIndex now = table_->currentIndex();
  while (now.parent().isValid()) now = now.parent();
  return now.isValid() ? model_->row(proxy_->mapToSource(now)).id : std::string();
}

}  // namespace gc
