#include "app/seat_panel.h"

#include <QFileDialog>
#include <QHBoxLayout>
#include <QVBoxLayout>
#include <algorithm>

#include "app/style.h"
#include "app/text.h"

namespace gc {
namespace {

QString percent(double share, int digits = 0) { return QString::number(share * 100, 'f', digits) + " %"; }

}  // namespace

SeatPanel::SeatPanel(Session& session, QWidget* parent) : QWidget(parent), session_(session) {
  setObjectName("seat-panel");
  auto* down = new QVBoxLayout(this);
  down->setContentsMargins(0, 0, 0, 0);
  down->setSpacing(8);
  headline_ = new TextBox("seat-headline", look::text_font(16, true), 3, this);
  news_ = new TextBox("seat-news", look::text_font(13), 2, this);
  down->addWidget(headline_);
  down->addWidget(news_);

  auto* does = new QHBoxLayout;
  quick_ = new QPushButton(tr("Measure, 1 min"), this);
  quick_->setObjectName("seat-quick");
  quick_->setToolTip(tr("Memory, volumes, cached media and what effects cost, within a minute"));
  full_ = new QPushButton(tr("In full, 6 min"), this);
  full_->setObjectName("seat-full");
  full_->setToolTip(
      tr("The same with a minute of steady load, every form of cached media and many more places of the cost "
         "laws"));
  auto* save = new QPushButton(tr("Save profile…"), this);
  auto* load = new QPushButton(tr("Load profile…"), this);
  save->setToolTip(
      tr("This seat in a file that another seat can try its timelines on; no paths, no host name"));
  load->setToolTip(tr("A colleague's seat, to try this timeline on"));
  for (QPushButton* b : {quick_, full_, save, load}) does->addWidget(b);
  does->addStretch(1);
  down->addLayout(does);
  auto* on = new QHBoxLayout;
  auto* label = new QLabel(tr("Forecast on"), this);
  seats_ = new QComboBox(this);
  seats_->setObjectName("seat-choice");
  seats_->setMinimumWidth(220);
  label->setBuddy(seats_);
  on->addWidget(label);
  on->addWidget(seats_);
  on->addStretch(1);
  down->addLayout(on);

  auto* row = new QHBoxLayout;
  row->setSpacing(2);
  pages_ = new QButtonGroup(this);
  pages_->setExclusive(true);
  stack_ = new QStackedWidget(this);
  const QString names[kPages] = {tr("What to do"), tr("Cached media"), tr("Machine"), tr("Cost laws"),
                                 tr("Other seats"), tr("Shelf")};
  const QStringList heads[kTables] = {
      {tr("Advice, the weightiest first")},
      {tr("Form"), tr("MB"), tr("Encode"), tr("Decode"), tr("PSNR"), tr("Plays from")},
      {tr("What"), tr("Measured"), tr("What it means")},
      {tr("Work"), tr("ms"), tr("Mpixel"), tr("Places"), tr("Error"), tr("9 in 10"), tr("Shared")},
      {tr("Seat"), tr("Dropped"), tr("Not holding"), tr("Taken over from here")}};
  const int wide[kTables] = {0, 0, 2, 0, 3};
  for (int i = 0; i < kPages; ++i) {
    auto* b = new QPushButton(names[i], this);
    b->setObjectName(QString("seat-page-%1").arg(i));
    b->setProperty("small", true);
    b->setCheckable(true);
    pages_->addButton(b, i);
    row->addWidget(b);
    if (i >= kTables) {
      stack_->addWidget(shelf_ = new ShelfPanel(session_, stack_));
      continue;
    }
    RowTable* t = tables_[i] = new RowTable(heads[i], {wide[i]}, true, stack_);
    connect(t, &RowTable::frame_chosen, this, &SeatPanel::frame_chosen);
    stack_->addWidget(t);
  }
  const QString hints[] = {tr("The sort of work, the dearest first"),
                           tr("What it takes, at the raster beside it"),
                           tr("The raster it was seen at most often, in millions of pixels"),
                           tr("Different rasters and parameters it was measured at"),
                           tr("Error of the law at places it had not seen: the median"),
                           tr("Nine in ten of these errors are smaller"),
                           tr("How much longer it takes while strangers share the core")};
  for (int c = 0; c < static_cast<int>(std::size(hints)); ++c)
    table(Page::laws)->horizontalHeaderItem(c)->setToolTip(hints[c]);
  row->addStretch(1);
  down->addLayout(row);
  down->addWidget(stack_, 1);
  connect(pages_, &QButtonGroup::idClicked, this, [this](int id) { show_page(static_cast<Page>(id)); });
  connect(quick_, &QPushButton::clicked, this, [this] { session_.measure_seat(false); });
  connect(full_, &QPushButton::clicked, this, [this] { session_.measure_seat(true); });
  connect(save, &QPushButton::clicked, this, [this] { save_dialog(); });
  connect(load, &QPushButton::clicked, this, [this] { load_dialog(); });
  connect(seats_, &QComboBox::activated, this, [this](int i) { session_.forecast_on(i - 1); });
  connect(&session_, &Session::seat_changed, this, [this] { refresh(); });
  connect(&session_, &Session::derived_changed, this, [this] { refresh(); });
  connect(&session_, &Session::work_changed, this, [this] {
    const bool free = session_.work().kind == Work::Kind::none && !session_.playing();
    quick_->setEnabled(free), full_->setEnabled(free);
  });
  show_page(Page::advice);
  refresh();
}

void SeatPanel::show_page(Page page) {
  pages_->button(static_cast<int>(page))->setChecked(true);
  stack_->setCurrentIndex(static_cast<int>(page));
  refresh_page();
}

void SeatPanel::showEvent(QShowEvent* e) {
  QWidget::showEvent(e);
  refresh();
  session_.want_advice(true);
}
void SeatPanel::hideEvent(QHideEvent* e) {
  QWidget::hideEvent(e);
  session_.want_advice(false);
}

void SeatPanel::fill(Page page, std::vector<QStringList> rows, const std::vector<qint64>& frames) {
  std::vector<RowTable::Row> all(rows.size());
  for (std::size_t i = 0; i < rows.size(); ++i)
    all[i] = {std::move(rows[i]), i < frames.size() ? frames[i] : -1, {}};
  table(page)->set_rows(std::move(all));
}

void SeatPanel::refresh() {
  if (!isVisible()) return;
  const Advice* a = session_.advice();
  if (session_.elsewhere() >= 0)
    headline_->set_text(
        tr("The skyline shows the timeline on another seat: %1.")
            .arg(text(session_.other_seats()[static_cast<std::size_t>(session_.elsewhere())].name)));
  else if (a) headline_->set_text(text(a->sentence));
  else if (!session_.has_timeline())
    headline_->set_text(tr("Open a timeline to see what holds this seat back for it."));
  else headline_->set_text(tr("Working out what holds this seat back for this timeline."));
  news_->setVisible(!session_.news().empty());
  if (!session_.news().empty()) news_->set_text(tr("News: %1").arg(text(session_.news().front().text)));
  const QSignalBlocker quiet(seats_);
  seats_->clear();
  seats_->addItem(tr("This seat"));
  for (const SeatProfile& s : session_.other_seats())
    seats_->addItem(text(s.name) + (s.invented ? tr(" (made up)") : QString()));
  seats_->setCurrentIndex(session_.elsewhere() + 1);
  refresh_page();
}

void SeatPanel::refresh_page() {
  if (!session_.profile()) return;
  switch (static_cast<Page>(stack_->currentIndex())) {
    case Page::advice:
      return refresh_advice();
    case Page::media:
      return refresh_media();
    case Page::machine:
      return refresh_machine();
    case Page::laws:
      return refresh_laws();
    case Page::shelf:
      break;  // it looks for itself
    case Page::seats:
      return refresh_seats();
  }
}

void SeatPanel::refresh_advice() {
  std::vector<QStringList> rows;
  std::vector<qint64> frames;
  const SeatProfile& p = *session_.profile();
  if (p.forms.empty() || p.volumes.empty()) {
    rows.push_back(
        {tr("Measure this seat once: its volumes and the forms that cached media can have are not known yet. "
            "It takes a minute.")});
    frames.push_back(-1);
  }
  if (const Advice* a = session_.advice()) {
    for (const AdviceItem& i : a->items) rows.push_back({text(i.text)}), frames.push_back(-1);
    for (const Gain& g : a->gains)
      rows.push_back({tr("Twice the %1: about %2 dropped frames instead of %3, %4 spans not holding.")
                          .arg(text(g.resource))
                          .arg(g.drops, 0, 'f', 0)
                          .arg(a->drops, 0, 'f', 0)
                          .arg(g.not_holding)}),
          frames.push_back(-1);
    for (const Span& s : a->binding)
      rows.push_back({tr("%1, %2 s: held back by %3; dearest is %4 with %5 ms a frame.")
                          .arg(s.segments.empty() || !session_.derived()
                                   ? tr("A span")
                                   : text(session_.derived()->view.name_of(s.segments.front())))
                          .arg(static_cast<double>(s.out - s.in) / session_.timeline()->rate.fps(), 0, 'f', 1)
                          .arg(cause_name(s.cause), text(s.blame.label))
                          .arg(s.blame.ms, 0, 'f', 0)}),
          frames.push_back(s.in);
  }
  fill(Page::advice, rows, frames);
}

void SeatPanel::refresh_media() {
  const SeatProfile& p = *session_.profile();
  const double fps = session_.timeline() ? session_.timeline()->rate.fps() : 24;
  std::vector<QStringList> rows;
  for (const FormCost& f : p.forms) {
    QStringList where;
    for (const VolumeSpeed& v : p.volumes) {
      const FormFit fit = fit_of(f, v, fps);
      where << (fit.margin() >= 1 ? tr("%1 %2×").arg(text(v.label)).arg(fit.margin(), 0, 'f', 1)
                                  : tr("%1 no").arg(text(v.label)));
    }
    rows.push_back({text(f.form), number(f.bytes / 1e6, 2), number(f.encode_ms) + " ms",
                    number(f.decode_ms) + " ms", f.psnr_db >= 1000 ? tr("equal") : number(f.psnr_db) + " dB",
                    where.join("  ")});
  }
  const std::size_t tried = rows.size();
  for (const VolumeSpeed& v : p.volumes) {
    QStringList best;
    for (const Purpose purpose : {Purpose::cutting, Purpose::colour, Purpose::delivery})
      if (const FormCost* f = best_form(p.forms, v, fps, purpose))
        best << tr("for %1 %2").arg(purpose_name(purpose), text(f->form));
    rows.push_back({best.isEmpty()
                        ? tr("Volume %1: nothing plays from it with room to spare.").arg(text(v.label))
                        : tr("Best on volume %1: %2.").arg(text(v.label), best.join("; "))});
  }
  if (rows.empty()) rows.push_back({tr("Not measured yet")});
  QTableWidget* t = table(Page::media);
  t->clearSpans();
  fill(Page::media, rows);
  for (std::size_t r = tried; r < rows.size(); ++r) t->setSpan(static_cast<int>(r), 0, 1, t->columnCount());
}

void SeatPanel::refresh_machine() {
  const SeatProfile& p = *session_.profile();
  std::vector<QStringList> rows;
  rows.push_back({tr("Processor"), tr("%1 frames at once").arg(p.processors), text(p.processor)});
  rows.push_back({tr("Memory"), tr("%1 GB").arg(static_cast<double>(p.memory_bytes) / 1e9, 0, 'f', 0),
                  tr("%1 GB are left to other programs (gclk settings memory_left_gb)")
                      .arg(p.memory_left_gb, 0, 'f', 0)});
  if (p.memory)
    rows.push_back({tr("Memory bandwidth"), tr("%1 GB/s copy").arg(p.memory->copy_mb_s / 1e3, 0, 'f', 1),
                    tr("%1 GB/s triad, all processors together").arg(p.memory->triad_mb_s / 1e3, 0, 'f', 1)});
  if (p.endurance)
    rows.push_back({tr("Lasting speed"), percent(p.endurance->ratio()),
                    tr("of the burst, after %1 s").arg(p.endurance->seconds, 0, 'f', 0)});
  if (p.endurance)
    rows.push_back({tr("Strangers on its cores"), percent(p.shared),
                    tr("of the time; frames take up to twice as long then")});
  if (p.endurance)
    rows.push_back(
        {tr("All at once"), percent(p.endurance->side_by_side),
         tr("of what %1 times one processor would do; less means that they share cores").arg(p.processors)});
  for (const Contention& c : p.contention)
    rows.push_back({c.work == "computes" ? tr("Computing, side by side") : tr("Copying, side by side"),
                    tr("%1 times as long").arg(c.same(), 0, 'f', 2),
                    tr("as alone (%1 ms a frame); beside the other sort %2 times")
                        .arg(c.alone_ms, 0, 'f', 1)
                        .arg(c.other(), 0, 'f', 2)});
  rows.push_back({tr("Other programs"), percent(p.others + p.stolen),
                  tr("of the processors while nothing was measured")});
  rows.push_back(
      {tr("Accelerator"),
       p.accelerator ? tr("%1 GB/s there").arg(p.accelerator->up_mb_s / 1e3, 0, 'f', 1) : tr("none"),
       p.accelerator ? tr("%1 GB/s back. %2")
                           .arg(p.accelerator->down_mb_s / 1e3, 0, 'f', 1)
                           .arg(text(p.accelerator->name))
                     : text(p.accelerator_trouble)});
  if (p.screen_width > 0)
    rows.push_back({tr("Screen"), QString("%1 × %2").arg(p.screen_width).arg(p.screen_height), {}});
  for (const VolumeSpeed& v : p.volumes)
    rows.push_back(
        {tr("Volume %1").arg(text(v.label)), tr("%1 MB/s reading").arg(v.read_mb_s, 0, 'f', 0),
         tr("%1 MB/s writing, slowest in a hundred %2 ms a frame; %3; %4 GB free; page cache %5. %6")
             .arg(v.write_mb_s, 0, 'f', 0)
             .arg(v.write_ms_99, 0, 'f', 1)
             .arg(text(v.type))
             .arg(static_cast<double>(v.free_bytes) / 1e9, 0, 'f', 0)
             .arg(v.direct ? tr("kept out") : tr("helped"))
             .arg(text(v.folder))});
  for (const std::string& u : p.unknown) rows.push_back({tr("Not known"), {}, text(u)});
  fill(Page::machine, rows);
}

void SeatPanel::refresh_laws() {
  std::vector<std::pair<double, QStringList>> laws;
  for (const auto& [id, law] : session_.profile()->laws) {
    if (law.points().empty()) continue;
    const auto most =
        std::max_element(law.points().begin(), law.points().end(),
                         [](const LawPoint& x, const LawPoint& y) { return x.count < y.count; });
    const auto e = law.predict(most->terms);
    const CostLaw::Fit& f = law.fit();
    const bool known = f.places >= 4;
    laws.push_back({e ? e->ms : 0,
                    {text(law.name().label), e ? number(e->ms) : QString(),
                     number(static_cast<double>(most->terms[0]), 2), QString::number(f.places),
                     known ? QString::fromStdString(error_text(f.cv_error)) : tr("few"),
                     known ? QString::fromStdString(error_text(f.cv_error_90)) : QString(),
                     number(f.shared_factor, 2) + "×"}});
  }
  std::stable_sort(laws.begin(), laws.end(), [](const auto& a, const auto& b) { return a.first > b.first; });
  std::vector<QStringList> rows;
  for (auto& [ms, row] : laws) rows.push_back(std::move(row));
  if (rows.empty()) rows.push_back({tr("Nothing was measured yet")});
  fill(Page::laws, rows);
}

void SeatPanel::refresh_seats() {
  std::vector<QStringList> rows;
  if (const Advice* a = session_.advice())
    for (const SeatVerdict& v : a->seats) {
      QStringList taken;
      for (const std::string& t : v.taken_over) taken << text(t);
      rows.push_back({text(v.seat), number(v.drops, 0),
                      v.holds() ? tr("everything holds") : QString::number(v.spilling + v.wavering),
                      taken.join(", ")});
    }
  fill(Page::seats, rows);
}

void SeatPanel::save_dialog() {
  auto* dialog =
      new QFileDialog(this, tr("Save this seat's profile"), "this-seat.json", tr("Seat profiles (*.json)"));
  dialog->setAcceptMode(QFileDialog::AcceptSave);
  dialog->setDefaultSuffix("json");
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  connect(dialog, &QFileDialog::fileSelected, this, [this](const QString& f) { session_.save_seat(f); });
  dialog->open();
}

void SeatPanel::load_dialog() {
  auto* dialog =
      new QFileDialog(this, tr("Load a seat's profile"), {}, tr("Seat profiles (*.json);;All files (*)"));
  dialog->setAttribute(Qt::WA_DeleteOnClose);
  connect(dialog, &QFileDialog::fileSelected, this, [this](const QString& f) { session_.load_seat(f); });
  dialog->open();
}

}  // namespace gc
