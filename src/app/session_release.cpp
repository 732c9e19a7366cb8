// Delivering, as the window asks for it.
#include <set>
#include <utility>

#include "app/session.h"
#include "app/text.h"
#include "base/clock.h"
#include "desk/delivering.h"
#include "desk/inspection.h"

namespace gc {

void Session::look_at_delivery(const std::string& form, bool tried) {
  if (!current() || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, form, tried, stores = stores_, file = file_.toStdString()] {
    if (quit_) return;
    const DeliveryOptions o = delivery_options(d->view, stores, fs::path(file).replace_extension(form_extension(form_named(form).value_or(Form::rdd36))), form);
    const auto quote = delivery_quote(d->view.delivered, stores.shelf.get(), *stores.notebook, *stores.media, o, stores.forecast_options());
    QString said;
    if (!quote) said = text(quote.error().text());
    else
      said = tr("%1 frames: %2 copied from what is rendered, %3 to be made. Takes %4 and %5.")
                 .arg(whole(d->view).length())
                 .arg(DeliverySources::frames(quote->sources.copied) + DeliverySources::frames(quote->sources.decoded))
                 .arg(DeliverySources::frames(quote->sources.live))
                 .arg(quote->known ? tr("about %1").arg(text(duration_text(quote->seconds))) : tr("a time that is not known"), text(bytes_text(quote->bytes)));
    post([this, d, said, form, o, stores, tried = tried || !quote] {
      if (d != derived_) return;
      delivery_said_ = said;
      emit delivery_changed();
      if (tried) return;
      // It is said at once what is known, and again when the form was tried.
      labour_.add([this, d, form, o, stores, stop = labour_stop_.get_token()] {
        const auto learnt = try_form(d->view, stores, o, stop);
        if (learnt && *learnt) post([this, d, form] {
          if (d == derived_) look_at_delivery(form, true);
        });
      });
    });
  });
}

void Session::look_at_gate() {
  if (!current() || elsewhere_ >= 0 || gate_is_whole() || looked_at_ == derived_) return;
  looked_at_ = derived_;
  check_pictures();
}

void Session::check_pictures() {
  labour_.add([this, d = derived_, stop = labour_stop_.get_token(), stores = stores_] {
    Gate gate;
    const auto go_on = [&] { return !stop.stop_requested(); };
    if (go_on()) {
      const Inspection found = inspect(d->view, stores, go_on);
      gate = check_gate(*d->view.delivered, stores.shelf.get(), &found);
    }
    post([this, d, whole = go_on(), gate] {
      if (looked_at_ == d) looked_at_.reset();
      if (d != derived_ || !whole) return;  // of an older state, or not all of it
      whole_gate_ = gate, gate_of_ = d, gate_pictures_.clear();
      emit delivery_changed();
      make_gate_pictures();
    });
  });
}

QImage Session::gate_picture(Frames at) const {
  const auto it = gate_is_whole() ? gate_pictures_.find(at) : gate_pictures_.end();
  return it == gate_pictures_.end() ? QImage() : it->second;
}

void Session::make_gate_pictures() {
  std::set<Frames> wanted;
  constexpr std::size_t kMost = 60;
  for (const GateItem& i : gate().items)
    if (wanted.size() < kMost && !gate_pictures_.contains(i.at)) wanted.insert(i.at);
  if (wanted.empty() || std::exchange(picturing_, true)) return;
  labour_.add([this, d = derived_, wanted, stop = labour_stop_.get_token(), stores = stores_] {
    constexpr int kWidth = 80, kHeight = 45;
    RenderOptions lower = d->view.delivered->options();
    lower.scale = 4, lower.draft = true;
    const ProgramPtr small = Program::compile(d->view.delivered->timeline(), *stores.media, lower);
    Decoders decoders;
    StageLog log;
    for (const Frames at : wanted) {
      if (stop.stop_requested()) break;
      if (at < 0 || at >= small->duration()) continue;
      ScreenImage screen;
      to_screen(render_frame(*small, at, nullptr, decoders, log), screen);
      const QImage shown(screen.bgra.data(), screen.width, screen.height, screen.width * 4, QImage::Format_RGB32);
      post([this, d, at, picture = shown.scaled(kWidth, kHeight, Qt::KeepAspectRatio, Qt::SmoothTransformation)] {
        if (d != derived_ || gate_of_ != d) return;  // of an older state
        gate_pictures_[at] = picture;
        emit delivery_changed();
      });
    }
    post([this, d, stopped = stop.stop_requested()] {
      picturing_ = false;
      // Other work came first; the rest follows it.
      if (stopped && d == derived_ && gate_of_ == d) make_gate_pictures();
    });
  });
}

std::vector<GateItem> Session::put_right(std::vector<GateItem> items) {
  if (!history_) return items;
  TimelinePtr now = history_->now();
  std::erase_if(items, [&](const GateItem& i) {
    TimelinePtr edited = gc::put_right(*now, i, now_utc());
    if (!edited) return false;
    now = std::move(edited);
    return true;
  });
  if (now != history_->now()) edit(std::move(now), tr("Put right for the delivery"));
  return items;
}

void Session::accept(const std::vector<GateItem>& items, const QString& who, const QString& why) {
  if (!history_) return;
  TimelinePtr edited = history_->now();
  for (const GateItem& i : items) {
    const auto word = acceptance_of(i, who.toStdString(), why.toStdString(), now_utc());
    if (!word) return tell(word.error());
    edited = with_acceptance(*edited, *word);
  }
  if (edited != history_->now()) edit(std::move(edited), tr("Accepted for the delivery"));
}

void Session::deliver(const QString& file, const std::string& form) {
  if (!current() || elsewhere_ >= 0 || work_.kind == Work::Kind::rendering) return;
  stop_playing();
  stop_work();  // measuring makes way
  const std::stop_token stop = begin_labour(Work::Kind::rendering, tr("Delivering"));
  labour_.add([this, d = derived_, to = file.toStdString(), form, stop, stores = stores_] {
    if (stop.stop_requested()) return;
    const DeliveryOptions o = delivery_options(d->view, stores, to, form);
    const auto done = deliver_whole(d->view, stores, o, [&](const DeliveryProgress& p) {
      const QString what = p.what == "Rendering" ? tr("Delivering") : text(p.what);
      const QString told = p.seconds_left > 0 ? tr("%1: %2 of %3 frames, %4 left").arg(what).arg(p.done).arg(p.total).arg(text(duration_text(p.seconds_left)))
                                              : tr("%1: %2 of %3 frames").arg(what).arg(p.done).arg(p.total);
      post([this, stop, told, share = static_cast<double>(p.done) / static_cast<double>(p.total)] {
        if (!stop.stop_requested()) set_work(Work::Kind::rendering, told, share);
      });
      return !stop.stop_requested();
    });
    if (done && !done->report) {
      post([this, d, gate = done->gate, stop] {
        if (d == derived_) whole_gate_ = gate, gate_of_ = d;
        emit failed(text(gate.sentence()));
        end_labour(stop);
        emit delivery_changed();
      });
      return;
    }
    QString said;
    if (!done) said = text(done.error().text());
    else {
      const DeliveryReport& report = *done->report;
      said = tr("Delivered %1 frames in %2, %3: %4.").arg(report.frames).arg(text(duration_text(report.seconds)), text(bytes_text(report.bytes)), text(report.file.string()));
      if (!done->read) said += " " + tr("It was not read back: %1").arg(text(done->unread));
      else if (done->read->good()) said += " " + tr("Verified: every frame read back, %1 held against a live one.").arg(done->read->sampled);
      else said += " " + tr("Not right: %1").arg(text(done->read->findings.front().what));
      for (const std::string& r : report.remarks) said += " " + text(r);
    }
    post([this, said, failed = !done, stop] {
      delivery_said_ = said;
      if (failed && !stop.stop_requested()) emit this->failed(said);
      end_labour(stop);
      emit delivery_changed();
    });
  });
}

void Session::queue_delivery(const QString& file, const std::string& form) {
  if (!current() || elsewhere_ >= 0) return;
  quick_.add([this, d = derived_, to = file.toStdString(), form, stores = stores_, mine = file_.toStdString()] {
    auto journal = Journal::open();
    if (!journal) return tell(journal.error());
    const auto id = enqueue_delivery(*journal, d->view, stores, mine, delivery_options(d->view, stores, to, form));
    if (!id) return tell(id.error());
    post([this, id = *id, file = text(to), runs = !journal->holder().empty()] {
      delivery_said_ = tr("Job %1 of the queue delivers the timeline as it is now: %2.").arg(id).arg(file);
      start_renderer(runs);
      emit queue_changed();
      emit delivery_changed();
    });
  });
}

}  // namespace gc
