#include "app/stations.h"

#include <QEvent>
#include <QDoubleSpinBox>
#include <QPushButton>
#include <QScrollArea>
#include <algorithm>
#include <cmath>
#include <set>

#include "app/delivery_panel.h"
#include "app/gantt.h"
#include "app/plan_panel.h"
#include "app/style.h"
#include "app/text.h"
#include "base/clock.h"
#include "base/timecode.h"

namespace gc {
namespace {

constexpr int kSentenceLines = 5, kCardLines = 4;  ///< more than these scroll
constexpr int kLeastTable = 72;                    ///< pixels: a head and two rows


/// What would help a span, in a few lines.
QString gain_text(const std::vector<StageGain>& gains, const std::vector<StageGain>& least) {
  QStringList lines;
  if (!least.empty()) {
    QStringList names;
    for (const StageGain& g : least) names.push_back(text(g.label));
    lines.push_back(Stations::tr("Holds with the fewest bypasses: %1.").arg(names.join(", ")));
  } else if (!gains.empty()) {
    lines.push_back(Stations::tr("Bypasses alone do not make it hold; a pre-render does."));
  }
  // What changes little is no help.
  for (std::size_t i = 0; i < gains.size() && i < 2 && gains[i].drops < 0.7 * gains.back().drops; ++i)
    lines.push_back(Stations::tr("Without %1 (%2 ms a frame): %3, %4 dropped.")
                        .arg(text(gains[i].label))
                        .arg(number(gains[i].ms), verdict_name(gains[i].verdict), number(gains[i].drops, 0)));
  return lines.join('\n');
}

/// The stage that most work goes into; what limits is said where it is not the processor.
QString held_back_by(const Span& s) {
  if (!is_of_speed(s.verdict)) return s.verdict == Verdict::missing ? Stations::tr("media missing") : Stations::tr("shows after rendering");
  const QString stage = text(s.blame.label), cause = cause_name(s.cause);
  if (s.cause == Cause::processor && !stage.isEmpty()) return stage;
  return s.cause == Cause::outside || stage.isEmpty() ? cause : cause + ": " + stage;
}

}  // namespace

QString station_name(Station s) {
  static const char* kNames[] = {"Seat", "Timeline", "Forecast", "Plan", "Playout", "Release"};
  return kNames[static_cast<std::size_t>(s)];
}

StationPanel::StationPanel(const QString& name, const QStringList& heads, const QList<int>& wide, bool wrap,
                           QWidget* parent)
    : QWidget(parent),
      box_(new QVBoxLayout(this)),
      sentence_(new TextBox("panel-sentence", look::text_font(13), kSentenceLines, this)),
      table_(new RowTable(heads, wide, wrap, this)) {
  setObjectName(name);
  box_->setContentsMargins(0, 0, 0, 0);
  box_->setSpacing(4);
  table_->setMinimumHeight(kLeastTable);
  box_->addWidget(sentence_);
  box_->addWidget(table_, 1);
  box_->addStretch(0);  // what is short stays at the top while the table is hidden
  connect(table_, &RowTable::frame_chosen, this, &StationPanel::frame_chosen);
}

Stations::Stations(Session& session, QWidget* parent) : QStackedWidget(parent), session_(session) {
  const QStringList heads[kStations] = {{""},  // it has a panel of its own
                                        {"Medium", "Codec", "Raster", "Rate", "State"},
                                        {"In", "Verdict", "Drops", "Rate", "Held back by"},
                                        {"Remedy", "Of", "Saves", "Takes", "Size", "Done by", "Why"},
                                        {"Frame", "Late", "Cause", "Segment"},
                                        {"At", "Stops", "What", "To do"}};
  const QList<int> wide[kStations] = {{0}, {0, 4}, {4}, {6}, {3}, {2, 3}};
  for (int i = 0; i < kStations; ++i) {
    const auto station = static_cast<Station>(i);
    // What is to be done before a delivery must be readable in full.
    panels_[i] = new StationPanel("panel-" + station_name(station).toLower(), heads[i], wide[i],
                                  station == Station::release, this);
    addWidget(panels_[i]);
    connect(panels_[i], &StationPanel::frame_chosen, this, &Stations::frame_chosen);
  }
  effects_ = new EffectsPanel(session, this);
  auto* scroll = new QScrollArea(this);
  scroll->setWidgetResizable(true);
  scroll->setWidget(effects_);
  scroll->setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  panel(Station::timeline)->box()->insertWidget(0, scroll, 8);
  panel(Station::timeline)->box()->setStretch(2, 2);
  seat_ = new SeatPanel(session, this);
  panel(Station::seat)->box()->insertWidget(0, seat_, 1);
  panel(Station::seat)->table()->hide();
  panel(Station::seat)->sentence_box()->hide();
  connect(seat_, &SeatPanel::frame_chosen, this, &Stations::frame_chosen);
  gantt_ = new Gantt(session, this);
  panel(Station::playout)->box()->addWidget(gantt_);
  connect(panel(Station::playout), &StationPanel::frame_chosen, gantt_, &Gantt::show_frame);
  plan_ = new PlanPanel(session, this);
  panel(Station::plan)->box()->insertWidget(1, plan_, 3);
  panel(Station::plan)->box()->setStretch(2, 3);
  connect(panel(Station::plan)->table(), &QTableWidget::currentCellChanged, this, [this](int row) {
    const auto& d = session_.derived();
    plan_->set_chosen(d && row >= 0 && row < static_cast<int>(d->plan.remedies.size()) ? d->plan.remedies[static_cast<std::size_t>(row)].id : "");
  });
  delivery_ = new DeliveryPanel(session, this);
  panel(Station::release)->box()->addWidget(delivery_);
  connect(panel(Station::release)->table(), &QTableWidget::currentCellChanged, delivery_, &DeliveryPanel::set_chosen);
  connect(&session_, &Session::delivery_changed, this, [this] { refresh(); });
  card_ = new TextBox("span-card", look::text_font(13), kCardLines, this);
  panel(Station::forecast)->box()->addWidget(card_);
  remedies_ = new RowTable({tr("Remedy (Ctrl+Return)"), tr("Saves"), tr("Takes"), tr("Size"), tr("Hides")}, {0}, false, this);
  remedies_->setObjectName("remedies");
  remedies_->setMinimumHeight(kLeastTable);
  remedies_->setMouseTracking(true);
  const auto suppose = [this](int row) {
    const bool known = row >= 0 && row < static_cast<int>(remedy_ids_.size());
    session_.suppose_remedy(known ? remedy_ids_[static_cast<std::size_t>(row)] : "");
  };
  // Under the pointer, or in focus by keys: what nobody looks at leaves the load as it is.
  connect(remedies_, &QTableWidget::currentCellChanged, this, [this, suppose](int row) { suppose(remedies_->window()->focusWidget() == remedies_ ? row : -1); });
  connect(remedies_, &QTableWidget::cellEntered, this, [suppose](int row) { suppose(row); });
  remedies_->installEventFilter(this);
  remedies_->viewport()->installEventFilter(this);
  connect(&session_, &Session::remedies_found, this, [this](FrameRange span, const std::vector<Proposal>& found) {
    if (span == carded_) show_remedies(found);
  });
  connect(panel(Station::forecast)->table(), &QTableWidget::currentCellChanged, this,
          [this](int row) { show_card(row); });
  connect(panel(Station::timeline)->table(), &QTableWidget::currentCellChanged, this, [this](int row) { ask_for_copies(row); });
  connect(&session_, &Session::copies_found, this, &Stations::show_copies);
  connect(&session_, &Session::span_explained, this,
          [this](FrameRange span, const std::vector<StageGain>& gains, const std::vector<StageGain>& least) {
            if (span == carded_)
              card_->set_text(card_->text().section('\n', 0, 0) + "\n" + gain_text(gains, least));
          });
  connect(this, &QStackedWidget::currentChanged, this, [this] { refresh(); });
  connect(&session_, &Session::derived_changed, this, [this] { refresh(); });
  connect(&session_, &Session::coverage_counted, this, [this] { refresh(); });
}

namespace {
QString lateness(const FrameLog& l) {
  if (!l.made) return Stations::tr("not started");
  if (l.late_ms > 0) return Stations::tr("%1 ms").arg(l.late_ms, 0, 'f', 0);
  return Stations::tr("ready, not shown");
}
}  // namespace

void Stations::refresh_playout() {
  StationPanel* p = panel(Station::playout);
  const auto& playout = session_.playout();
  if (!playout || !session_.derived()) {
    p->set_sentence(
        tr("Nothing has been played yet. Space plays; missed frames are logged here with their cause."));
    p->set_rows({});
    p->table()->hide();
    gantt_->show_frame(-1);
    return;
  }
  const Derived& d = *session_.derived();
  QString line =
      tr("Played %1 frames, dropped %2%3; %4 of %5 frames a second.")
          .arg(playout->frames)
          .arg(playout->dropped)
          .arg(playout->dropped_outside ? tr(" (%1 taken by other programs)").arg(playout->dropped_outside)
                                        : QString())
          .arg(playout->rate_reached, 0, 'f', 2)
          .arg(playout->rate.fps(), 0, 'f', 2);
  if (const auto held =
          std::count_if(playout->log.begin(), playout->log.end(), [](const FrameLog& l) { return l.state == FrameState::remembered; });
      held > 0)
    line += " " + tr("%1 of them came from memory.").arg(held);
  if (const Frames offline = playout->offline(); offline > 0)
    line += " " + tr("%1 had no picture: media missing.").arg(offline);
  for (const std::string& w : warnings(*playout, session_.stores().options.settings.muted))
    line += "\n" + text(w);
  if (const auto& a = session_.last_audit()) line += "\n" + tr("Audit: ") + text(a->sentence);
  if (const auto& e = session_.explanation()) {
    // What the outside took is among the warnings already.
    const std::size_t from = e->outside > 0;
    for (std::size_t i = from; i < e->sentences.size() && i < from + 2; ++i)
      line += "\n" + text(e->sentences[i]);
  }
  p->set_sentence(line);
  std::vector<StationPanel::Row> rows;
  for (const FrameLog& l : playout->log) {
    if (!l.dropped) continue;
    const CompiledSegment* s = main_segment(*d.view.played, l.frame);
    rows.push_back({{text(timecode_at(*d.view.timeline, l.frame)), lateness(l),
                     cause_name(l.cause), s ? text(s->segment->name) : QString()},
                    l.frame,
                    tr("frame %1").arg(l.frame)});
    if (rows.size() == 500) break;
  }
  p->table()->setVisible(!rows.empty());  // headings over nothing say nothing
  p->set_rows(rows);
  gantt_->show_frame(rows.empty() ? -1 : rows.front().frame);
}

void Stations::show_card(int row) {
  carded_ = {};
  const auto& d = session_.derived();
  const auto* item = row >= 0 && d ? panel(Station::forecast)->table()->item(row, 0) : nullptr;
  if (!item) {
    list_no_remedies();
    return card_->set_text(tr("Choose a span to see why, and what would help."));
  }
  const qint64 in = item->data(Qt::UserRole).toLongLong();
  for (const Span& s : d->plan.before.spans)
    if (s.in == in) {
      carded_ = {s.in, s.out};
      const QString blame =
          s.cause == Cause::outside
              ? tr("other programs or the machine's host keep the display from frames that "
                   "lie ready")
              : tr("to blame is %1, %2 ms a frame").arg(held_back_by(s), number(s.blame.ms, 0));
      card_->set_text(tr("%1 to %2: %3.\nWorking out what would help.")
                         .arg(text(timecode_at(*d->view.timeline, s.in)),
                              text(timecode_at(*d->view.timeline, s.out)),
                              blame));
      session_.explain_span(carded_);
      // Of the same span as before the list stays until it comes anew: what is in focus there can be applied all the while.
      if (carded_ != listed_) list_no_remedies(tr("Working out what would help."));
      // The segment in focus may be another than the span's.
      remedies_->horizontalHeaderItem(0)->setText(tr("Remedy at %1 (Ctrl+Return)").arg(text(timecode_at(*d->view.timeline, s.in))));
      session_.look_for_remedies(carded_);
    }
}

/// Those of a span that went, or of another one, are none that could be applied.
void Stations::list_no_remedies(const QString& why) {
  remedies_->say_while_empty(why);
  remedies_->set_rows({}), remedy_ids_.clear(), listed_ = {};
  remedies_->horizontalHeaderItem(0)->setText(tr("Remedy (Ctrl+Return)"));
}

void Stations::show_remedies(const std::vector<Proposal>& found) {
  std::vector<RowTable::Row> rows;
  // Figures that come anew leave a person where they were.
  const int at = remedies_->currentRow();
  const std::string looked_at = listed_ == carded_ && at >= 0 && at < static_cast<int>(remedy_ids_.size()) ? remedy_ids_[static_cast<std::size_t>(at)] : "";
  remedy_ids_.clear(), listed_ = carded_;
  for (const Proposal& p : found) {
    const bool can = p.refused.empty();
    // What saves next to nothing is no help here.
    if (can && p.drops_saved < 0.5) continue;
    if (rows.size() == 40) break;
    rows.push_back({{text(can ? p.sentence : p.sentence + " Refused: " + p.refused), can ? number(p.drops_saved, 0) : QString("–"),
                     p.quote.known ? text(duration_text(p.quote.seconds)) : tr("not known"), p.quote.bytes > 0 ? text(bytes_text(p.quote.bytes)) : QString("–"),
                     p.hides.empty() ? tr("nothing") : text(p.hides)},
                    -1,
                    text(p.id)});
    remedy_ids_.push_back(can ? p.id : "");
  }
  remedies_->say_while_empty(tr("Nothing was found that saves a frame here."));
  remedies_->set_rows(std::move(rows));
  const auto same = looked_at.empty() ? remedy_ids_.end() : std::ranges::find(remedy_ids_, looked_at);
  if (!remedy_ids_.empty()) remedies_->selectRow(same == remedy_ids_.end() ? 0 : static_cast<int>(same - remedy_ids_.begin()));
}

void Stations::ask_for_copies(int row) {
  medium_ = row >= 0 && row < static_cast<int>(media_ids_.size()) ? media_ids_[static_cast<std::size_t>(row)] : "";
  if (medium_.empty()) panel(Station::timeline)->set_sentence(timeline_told_);
  else session_.look_for_copies(medium_);
}

void Stations::show_copies(const std::string& source, const std::vector<Proposal>& found) {
  if (source != medium_ || !session_.derived()) return;
  QString told = timeline_told_;
  for (const Proposal& p : found) {
    const QString what = text(p.sentence);
    if (!p.refused.empty()) told += "\n" + tr("%1 No: %2").arg(what, text(p.refused));
    else
      told += "\n" + tr("%1 Saves %2 of the dropped frames, takes %3 and %4, hides %5.")
                         .arg(what, number(p.drops_saved, 0), p.quote.known ? text(duration_text(p.quote.seconds)) : tr("a time that is not known"),
                              text(bytes_text(p.quote.bytes)), p.hides.empty() ? tr("nothing") : text(p.hides));
  }
  panel(Station::timeline)->set_sentence(told);
}

bool Stations::eventFilter(QObject* of, QEvent* event) {
  const bool looked_at = event->type() == QEvent::FocusIn || event->type() == QEvent::Leave, left = event->type() == QEvent::FocusOut;
  if ((of == remedies_ || of == remedies_->viewport()) && (looked_at || left)) {
    const int row = remedies_->currentRow();
    const bool in_focus = !left && (remedies_->window()->focusWidget() == remedies_ || event->type() == QEvent::FocusIn);
    session_.suppose_remedy(in_focus && row >= 0 && row < static_cast<int>(remedy_ids_.size()) ? remedy_ids_[static_cast<std::size_t>(row)] : "");
  }
  return QStackedWidget::eventFilter(of, event);
}

void Stations::apply_remedy() {
  const int row = std::max(0, remedies_->currentRow());
  if (row < static_cast<int>(remedy_ids_.size()) && !remedy_ids_[static_cast<std::size_t>(row)].empty())
    session_.apply_remedy(remedy_ids_[static_cast<std::size_t>(row)]);
}

void Stations::refresh() {
  if (!session_.derived()) return;
  switch (static_cast<Station>(currentIndex())) {
    case Station::seat:
      return;  // its panel looks after itself
    case Station::timeline:
      return refresh_timeline();
    case Station::forecast:
      return refresh_forecast();
    case Station::plan:
      return refresh_plan();
    case Station::playout:
      return refresh_playout();
    case Station::release:
      return refresh_release();
  }
}

void Stations::refresh_timeline() {
  const Derived& d = *session_.derived();
  const Timeline& t = *d.view.timeline;
  std::vector<StationPanel::Row> rows;
  media_ids_.clear();
  int offline = 0;
  std::set<std::string> seen;
  for (const auto& s : d.view.played->segments()) {
    const auto source = t.sources.find(s->segment->ref);
    if (s->content == Content::offline) {
      ++offline;
      rows.push_back(
          {{text(s->segment->name), {}, {}, {}, tr("offline: %1").arg(text(s->trouble))}, s->in, {}});
    } else if (s->content == Content::source && source != t.sources.end() &&
               seen.insert(source->first).second) {
      rows.push_back(
          {{text(source->second->name),
            text(s->media.codec) + (s->media.intra ? tr(", intra") : tr(", long GOP")),
            QString("%1 × %2").arg(s->media.width).arg(s->media.height), number(s->media.rate.fps(), 3),
            tr("online, %1").arg(text(bytes_text(s->media.bytes)))},
           s->in,
           text(s->path)});
      media_ids_.resize(rows.size());
      media_ids_.back() = source->first;
    }
  }
  for (const auto& s : d.view.played->segments())
    for (const std::string& remark : s->remarks)
      rows.push_back({{text(s->segment->name), {}, {}, {}, text(remark)}, s->in, text(remark)});
  for (const Coverage& c : session_.look().coverage ? session_.uncovered() : std::vector<Coverage>())
    rows.push_back(
        {{c.segment.empty() ? tr("Gap") : text(d.view.name_of(c.segment)),
          tr("uncovered"),
          tr("%1 pixels").arg(c.pixels),
          {},
          tr("left %1, top %2, right %3, bottom %4 px").arg(c.left).arg(c.top).arg(c.right).arg(c.bottom)},
         c.frame,
         tr("Worst at frame %1").arg(c.frame)});
  timeline_told_ = tr("%1: %2 × %3 at %4, %5 segments%6.")
                       .arg(text(t.name))
                       .arg(t.width)
                       .arg(t.height)
                       .arg(t.rate.fps(), 0, 'f', 3)
                       .arg(d.view.played->segments().size())
                       .arg(offline ? tr(", %1 offline").arg(offline) : tr(", nothing offline"));
  panel(Station::timeline)->set_sentence(timeline_told_);
  panel(Station::timeline)->set_rows(rows);
  ask_for_copies(panel(Station::timeline)->table()->currentRow());
}

void Stations::refresh_forecast() {
  const Derived& d = *session_.derived();
  const auto tc = [&t = *d.view.timeline](Frames f) { return text(timecode_at(t, f)); };
  std::vector<StationPanel::Row> rows;
  for (const Span& s : d.plan.before.spans) {
    if (s.verdict == Verdict::holds) continue;
    rows.push_back(
        {{tc(s.in),
          text(verdict_text(s.verdict, s.drop_probability)),
          tr("%1 (%2–%3)").arg(number(s.expected_drops, 0), number(s.drops_low, 0), number(s.drops_high, 0)),
          number(s.sustained_rate, 1), held_back_by(s)},
         s.in,
         tr("%1 to %2, frames %3 to %4").arg(tc(s.in), tc(s.out)).arg(s.in).arg(s.out)});
  }
  const Forecast& f = d.plan.before;
  panel(Station::forecast)
      ->set_sentence(rows.empty() ? text(d.plan.sentence)
                                  : tr("About %1 of %2 frames will be dropped (%3 to %4).%5%6 %7")
                                        .arg(f.expected_drops, 0, 'f', 0)
                                        .arg(f.range.length())
                                        .arg(f.drops_low, 0, 'f', 0)
                                        .arg(f.drops_high, 0, 'f', 0)
                                        .arg(f.fully_measured ? QString() : tr(" Some costs are estimated."))
                                        .arg(f.surcharge().empty() ? QString() : " " + text(f.surcharge()))
                                        .arg(text(d.track_record)));
  panel(Station::forecast)->set_rows(rows);
  // The worst span is on the card at once.
  int worst = -1;
  double most = -1;
  for (std::size_t i = 0, at = 0; i < f.spans.size(); ++i) {
    if (f.spans[i].verdict == Verdict::holds) continue;
    if (f.spans[i].expected_drops > most) most = f.spans[i].expected_drops, worst = static_cast<int>(at);
    ++at;
  }
  show_card(worst);
}

void Stations::refresh_plan() {
  const Derived& d = *session_.derived();
  const Timeline& t = *d.view.timeline;
  std::vector<StationPanel::Row> rows;
  const auto clock = [&](double seconds) {
    return std::isfinite(seconds) ? text(clock_text(d.plan.made_at + static_cast<std::int64_t>(std::lround(seconds)), d.plan.made_at)) : tr("never");
  };
  for (const Remedy& r : d.plan.remedies)
    rows.push_back({{tr("%1%2").arg(text(r.proposal.kind->label()), r.pinned ? tr(", pinned") : QString()), text(r.segment_name), number(r.drops_saved, 0),
                     text(duration_text(r.render_seconds)), text(bytes_text(r.bytes)), clock(r.ends), text(r.reason)},
                    r.range.in,
                    tr("At %1. %2").arg(text(timecode_at(t, r.range.in)), text(r.reason))});
  QString said;
  if (!rows.empty())
    said = tr("Plays without a drop with %1 %; no plan takes less than %2, this one at most %3 % more.")
               .arg(d.plan.holds_probability * 100, 0, 'f', 0)
               .arg(text(duration_text(d.plan.bound_seconds)))
               .arg(d.plan.gap * 100, 0, 'f', 1);
  // Weighed against drops, less work may be done for more of them.
  if (!rows.empty() && d.plan.drop_seconds < kNoLimit)
    said = tr("Plays without a drop with %1 %; what a dropped frame is not worth is left out.").arg(d.plan.holds_probability * 100, 0, 'f', 0);
  if (!d.plan.fits) {
    QStringList lacks;
    if (d.plan.short_seconds > 0) lacks << text(duration_text(d.plan.short_seconds));
    if (d.plan.short_bytes > 0) lacks << text(bytes_text(static_cast<std::uint64_t>(d.plan.short_bytes)));
    said = lacks.isEmpty() ? tr("It does not fit.") : tr("It does not fit: %1 short.").arg(lacks.join(tr(" and ")));
  }
  for (const std::string& way : d.plan.ways_out) said += "\n" + tr("What would do: %1").arg(text(way));
  panel(Station::plan)->set_sentence(said.isEmpty() ? text(d.plan.sentence) : said);
  panel(Station::plan)->set_rows(rows);
}

void Stations::refresh_release() {
  const Derived& d = *session_.derived();
  const auto tc = [&t = *d.view.timeline](Frames f) { return text(timecode_at(t, f)); };
  std::vector<StationPanel::Row> rows;
  for (const GateItem& i : session_.gate().items)
    rows.push_back({{tc(i.at), i.stops ? tr("yes") : i.accepted ? tr("accepted") : tr("no"), text(i.what),
                     i.accepted ? tr("%1: %2").arg(text(i.accepted->who), text(i.accepted->why)) : text(i.remedy)},
                    i.at,
                    {},
                    session_.gate_picture(i.at)});
  // Until the pictures were looked at, nobody knows.
  const bool looking = !session_.gate_is_whole() && session_.gate().may_deliver();
  panel(Station::release)->set_sentence(looking ? tr("Nothing temporary is left. Looking for uncovered pixels and for what flickers.") : text(session_.gate().sentence()));
  panel(Station::release)->set_rows(rows);
}

}  // namespace gc
