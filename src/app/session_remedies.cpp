// Remedies as the window asks for them: found for a span, applied, and lifted again.
#include "app/session.h"
#include "base/clock.h"
#include "desk/remedies.h"

namespace gc {

void Session::look_for_remedies(FrameRange span) {
  if (!derived_ || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, span, stores = stores_] {
    if (quit_) return;
    auto found = worked_out([&] { return remedies_for(situation_of(d->view, stores), span); });
    post([this, d, span, found = std::move(found)] {
      if (d == derived_) emit remedies_found(span, found);
    });
  });
}

void Session::look_for_copies(const std::string& source) {
  if (!derived_ || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, source, stores = stores_] {
    if (quit_) return;
    auto found = worked_out([&] { return copies_for(situation_of(d->view, stores), source); });
    post([this, d, source, found = std::move(found)] {
      if (d == derived_) emit copies_found(source, found);
    });
  });
}

void Session::suppose_remedy(const std::string& id) {
  const int asked = ++*supposing_;
  if (id.empty() || !current() || elsewhere_ >= 0) {
    emit remedy_supposed(nullptr);
    return;
  }
  quick_.add([this, id, asked, latest = supposing_, d = derived_, stores = stores_] {
    if (quit_ || *latest != asked) return;
    const auto then = worked_out([&]() -> std::shared_ptr<const Forecast> {
      const Situation s = situation_of(d->view, stores, &d->plan.before);
      const auto p = proposal_of(s, id);
      if (!p || *latest != asked) return nullptr;
      const Supposed supposed = p->kind->suppose(s, *p);
      if (!supposed.program) return nullptr;
      return std::make_shared<const Forecast>(forecast(*supposed.program, *s.notebook, supposed.route, {0, supposed.program->duration()}, s.forecast));
    });
    post([this, asked, d, then] {
      if (asked == *supposing_ && d == derived_) emit remedy_supposed(then);
    });
  });
}

void Session::apply_remedy(const std::string& id) {
  if (!current() || elsewhere_ >= 0 || work_.kind == Work::Kind::rendering) return;
  stop_playing();
  stop_work();  // measuring makes way
  const std::stop_token stop = begin_labour(Work::Kind::rendering, tr("Applying %1").arg(QString::fromStdString(id)));
  labour_.add([this, id, d = derived_, stop, stores = stores_] {
    if (stop.stop_requested()) return;
    std::atomic<bool> stopped{false};
    const std::stop_callback tell_it(stop, [&] { stopped = true; });
    const Situation s = situation_of(d->view, stores);
    const auto p = proposal_of(s, id);
    if (!p) return tell(Error{Fault::usage, "the remedy is not there any more", "", "Choose another one."});
    auto applied = apply(s, *p, stores, "", "", "", [&, this](const PrerenderProgress& progress) {
      const QString text = tr("%1: %2 of %3 frames, %4 left")
                               .arg(QString::fromStdString(p->kind->label()))
                               .arg(progress.done)
                               .arg(progress.total)
                               .arg(QString::fromStdString(duration_text(progress.seconds_left)));
      const double share = progress.total > 0 ? static_cast<double>(progress.done) / static_cast<double>(progress.total) : 0;
      post([this, stop, text, share] {
        if (!stop.stop_requested()) set_work(Work::Kind::rendering, text, share);
      });
      return !stop.stop_requested();
    }, stopped);
    post([this, d, applied = std::move(applied), label = QString::fromStdString(p->sentence), stop] {
      if (!applied) emit failed(QString::fromStdString(applied.error().text()));
      end_labour(stop);
      // An edit that was made meanwhile stays; the slip can be opened again.
      if (applied && applied->timeline != d->view.timeline && history_ && history_->now() == d->view.timeline) edit(applied->timeline, label);
      else derive(false);
    });
  });
}

void Session::set_wishes(const Wishes& wishes) {
  if (!history_ || to_json(wishes) == to_json(wishes_)) return;
  wishes_ = wishes, wishes_given_ = true;
  // What follows is worked out from what is kept, so it is kept first.
  quick_.add([this, wishes, timeline = history_->now()] {
    if (auto r = keep_wishes(*timeline, wishes); !r) tell(r.error());
    post([this] { derive(false); });
  });
}

void Session::lift_all() {
  if (!history_) return;
  if (TimelinePtr lifted = with_lifted(*history_->now(), [](const Slip&) { return true; }, now_utc())) edit(std::move(lifted), tr("Lift every slip"));
}

void Session::set_truth(const std::string& segment, Truth truth) {
  if (!history_) return;
  if (TimelinePtr edited = with_truth(*history_->now(), {segment}, truth))
    edit(std::move(edited), tr("Judged for %1").arg(QString::fromLatin1(truth_name(truth))));
}

}  // namespace gc
