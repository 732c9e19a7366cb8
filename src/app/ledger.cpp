#include "app/ledger.h"

#include <QHeaderView>
#include <QVBoxLayout>

#include "app/style.h"
#include "base/timecode.h"

namespace gc {

std::vector<LedgerRow> ledger_rows(const Derived& d) {
  std::vector<LedgerRow> rows;
  const Forecast& f = d.plan.before;
  for (const auto& s : d.view.played->segments()) {
    LedgerRow r;
    r.id = s->segment->id;
    r.name = QString::fromStdString(s->segment->name), r.note = QString::fromStdString(s->segment->note);
    r.in = s->in, r.out = s->out;
    double frames = 0, worst_ms = 0;
    Frames sealed = 0, broken = 0;
    std::map<int, double> own;
    for (const IntervalCost& c : f.intervals) {
      const auto n = static_cast<double>(std::min(r.out, c.out) - std::max(r.in, c.in));
      if (n <= 0) continue;
      frames += n;
      r.load = std::max(r.load, c.load);
      r.estimated = r.estimated || !c.measured;
      if (c.sealed) sealed += static_cast<Frames>(n);
      if (c.broken) broken += static_cast<Frames>(n);
      for (const StageCost& stage : c.stages)
        if (stage.segment == r.id) r.ms += stage.ms * n, own[stage.owner] += stage.ms * n;
    }
    if (frames > 0) r.ms /= frames;
    for (const auto& [owner, ms] : own)
      if (ms > worst_ms)
        worst_ms = ms,
        r.worst = QString::fromStdString(d.view.played->owners()[static_cast<std::size_t>(owner)].label);
    for (Frames n = r.in; n < r.out; ++n) r.drops += f.miss[static_cast<std::size_t>(n)];
    for (const Span& span : f.spans)
      if (span.verdict > r.verdict && span.in < r.out && span.out > r.in &&
          (r.drops >= 0.3 || span.verdict == Verdict::unseen))
        r.verdict = span.verdict;
    if (f.trials && r.verdict != Verdict::unseen) {
      // A span reaches into its neighbours; each segment is called by its own probability.
      const Span by_itself = f.over({r.in, r.out});
      r.probability = by_itself.drop_probability;
      r.verdict = std::min(r.verdict, by_itself.verdict);
    }
    bool bypass = false;
    for (const Effect& e : s->segment->stack) bypass = bypass || bypassed(*d.view.timeline, r.id, e.id);
    const CompiledSegment* main = main_segment(*d.view.played, r.in);
    if (s->content == Content::offline) r.state = QObject::tr("offline");
    else if (bypass) r.state = QObject::tr("bypassed");
    else if (broken > 0 && main && main->segment->id == r.id) r.state = QObject::tr("seal broken");
    else if (sealed > 0 && static_cast<double>(sealed) >= frames) r.state = QObject::tr("sealed");
    else if (sealed > 0)
      r.state = QObject::tr("sealed %1 %").arg(100.0 * static_cast<double>(sealed) / frames, 0, 'f', 0);
    else r.state = r.estimated && r.load > 0 ? QObject::tr("estimated") : QObject::tr("live");
    rows.push_back(std::move(r));
  }
  return rows;
}

void LedgerModel::set(std::vector<LedgerRow> rows, const Timeline& t) {
  rate_ = t.rate, start_ = t.start;
  const bool same = rows.size() == rows_.size() &&
                    std::equal(rows.begin(), rows.end(), rows_.begin(),
                               [](const LedgerRow& a, const LedgerRow& b) { return a.id == b.id; });
  if (same) {
    rows_ = std::move(rows);
    emit dataChanged(index(0, 0), index(rowCount() - 1, kColumns - 1));
    return;
  }
  beginResetModel();
  rows_ = std::move(rows);
  endResetModel();
}

QVariant LedgerModel::data(const QModelIndex& i, int role) const {
  const LedgerRow& r = row(i.row());
  if (role == Qt::FontRole)
    return i.column() == kName || i.column() == kState || i.column() == kVerdict ? look::text_font(13)
                                                                                 : look::number_font(12);
  if (role == Qt::TextAlignmentRole)
    return static_cast<int>((i.column() >= kLoad && i.column() <= kDrops && i.column() != kVerdict
                                 ? Qt::AlignRight
                                 : Qt::AlignLeft) |
                            Qt::AlignVCenter);
  if (role == Qt::ToolTipRole)
    return QString("%1 · frame %2%3%4")
        .arg(r.name)
        .arg(r.in)
        .arg(r.worst.isEmpty() ? QString() : tr("\nDearest stage: %1").arg(r.worst),
             r.note.isEmpty() ? QString() : "\n" + r.note);
  const bool sort = role == Qt::UserRole;
  const bool unknown =
      r.estimated && r.load <= 0;  // nothing to go by yet: no number is better than a wrong one
  if (role != Qt::DisplayRole && !sort) return {};
  switch (i.column()) {
    case kName:
      return r.name;
    case kIn:
      return sort ? QVariant(static_cast<qlonglong>(r.in))
                  : QVariant(QString::fromStdString(timecode(start_ + r.in, rate_)));
    case kLoad:
      return sort ? QVariant(r.load) : unknown ? QVariant("–") : QVariant(QString::number(r.load, 'f', 2));
    case kMs:
      return sort ? QVariant(r.ms) : unknown ? QVariant("–") : QVariant(QString::number(r.ms, 'f', 1));
    case kVerdict:
      return sort      ? QVariant(static_cast<int>(r.verdict) * 2 + r.probability)
             : unknown ? QVariant(tr("not measured"))
             : r.verdict == Verdict::unseen
                 ? QVariant(tr("unseen"))
                 : QVariant(
                       QString("%1 %2 %").arg(verdict_name(r.verdict)).arg(r.probability * 100, 0, 'f', 0));
    case kDrops:
      return sort      ? QVariant(r.drops)
             : unknown ? QVariant("–")
                       : QVariant(r.drops < 0.05 ? QString("0")
                                                 : QString::number(r.drops, 'f', r.drops < 10 ? 1 : 0));
    case kState:
      return r.state;
    default:
      return {};
  }
}

QVariant LedgerModel::headerData(int section, Qt::Orientation o, int role) const {
  static const char* kHeads[] = {"Segment", "In", "Load", "ms", "Verdict", "Drops", "State"};
  static const char* kTips[] = {"",
                                "Timecode of the first frame",
                                "Greatest mean load: 1.0 is exactly real time",
                                "Milliseconds a frame of the segment's own stages",
                                "Whether frames drop, with the probability",
                                "Dropped frames expected",
                                ""};
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
      table_(new QTableView(this)),
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
  table_->setShowGrid(false);
  table_->setWordWrap(false);
  table_->verticalHeader()->hide();
  table_->verticalHeader()->setDefaultSectionSize(24);
  table_->horizontalHeader()->setHighlightSections(false);
  table_->setTabKeyNavigation(false);
  static constexpr int kWidths[] = {164, 98, 52, 56, 104, 54, 90};
  for (int c = 0; c < LedgerModel::kColumns; ++c) table_->setColumnWidth(c, kWidths[c]);
  table_->horizontalHeader()->setStretchLastSection(true);
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
            const LedgerRow& r = model_->row(proxy_->mapToSource(now).row());
            emit segment_chosen(QString::fromStdString(r.id), r.in);
          });
}

void Ledger::select(const std::string& id) {
  for (int i = 0; i < model_->rowCount(); ++i)
    if (model_->row(i).id == id) {
      const QModelIndex at = proxy_->mapFromSource(model_->index(i, 0));
      if (at.isValid() && table_->currentIndex().row() != at.row()) {
        const bool before = std::exchange(quiet_, true);
        table_->setCurrentIndex(at);
        quiet_ = before;
      }
      return;
    }
}

std::string Ledger::selected() const {
  const QModelIndex now = table_->currentIndex();
  return now.isValid() ? model_->row(proxy_->mapToSource(now).row()).id : std::string();
}

}  // namespace gc
