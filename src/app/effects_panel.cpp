#include "app/effects_panel.h"

#include <fmt/format.h>

#include <QComboBox>
#include <QLabel>
#include <QLineEdit>
#include <QMenu>
#include <QPushButton>
#include <QToolButton>

#include "app/style.h"
#include "app/text.h"
#include "base/clock.h"
#include "timeline/keys.h"

namespace gc {
namespace {

constexpr int kField = 58, kGap = 6;  // pixels

/// What a word parameter may be, where that is a short list.
QStringList choices(const ParamSpec& spec, const std::string& effect) {
  if (spec.name == "interpolation") return {"tetrahedral", "trilinear"};
  if (spec.name == "filter") return {"area", "nearest", "bilinear", "cubic", "lanczos"};
  if (spec.name == "device") return {"processor", "accelerator"};
  QStringList spaces;
  if (effect == "colour_space")
    for (const std::string& s : colour_spaces()) spaces << text(s);
  return spaces;
}

QPushButton* small(const QString& label, const QString& hint, QWidget* parent) {
  auto* b = new QPushButton(label, parent);
  b->setToolTip(hint);
  b->setProperty("small", true);
  return b;
}

}  // namespace

EffectsPanel::EffectsPanel(Session& session, QWidget* parent)
    : QWidget(parent), session_(session), box_(new QVBoxLayout(this)) {
  setObjectName("effects");
  box_->setContentsMargins(0, 0, 0, 0);
  connect(&session_, &Session::timeline_changed, this, [this] { rebuild(); });
  connect(&session_, &Session::opened, this, [this] { rebuild(); });
}

SegmentPtr EffectsPanel::segment() const {
  return session_.timeline() ? find_segment(*session_.timeline(), segment_) : nullptr;
}

Frames EffectsPanel::frame_in_segment() const {
  const SegmentPtr s = segment();
  if (!s || !session_.derived()) return 0;
  for (const auto& c : session_.derived()->view.played->segments())
    if (c->segment->id == segment_)
      return std::clamp<Frames>(playhead_ - c->in, 0, std::max<Frames>(0, s->duration - 1));
  return 0;
}

void EffectsPanel::set_segment(const std::string& id) {
  if (id == segment_) return;
  segment_ = id;
  rebuild();
}

void EffectsPanel::set_playhead(Frames frame) {
  if (frame == playhead_) return;
  playhead_ = frame;
  const SegmentPtr s = segment();
  // Only values with keys change with the frame.
  if (s && std::any_of(s->stack.begin(), s->stack.end(), [](const Effect& e) { return any_keys(e.params); }))
    refresh_values();
}

void EffectsPanel::refresh_values() {
  const SegmentPtr s = segment();
  if (!s || !content_) return;
  for (const Effect& e : s->stack) {
    const EffectType* type = effect_type(e.type);
    if (!type || !any_keys(e.params)) continue;
    const Json now = params_at(e.params, static_cast<double>(frame_in_segment()));
    for (const ParamSpec& spec : type->params)
      for (std::size_t i = 0; i < static_cast<std::size_t>(spec.values); ++i)
        if (auto* box = content_->findChild<QDoubleSpinBox*>(
                QString("param-%1-%2-%3").arg(text(e.id), text(spec.name)).arg(i))) {
          const QSignalBlocker quiet(box);
          box->setValue(param(*type, now, spec.name.c_str(), i));
        }
  }
}

Json EffectsPanel::values_now(const std::string& effect) const {
  if (const SegmentPtr s = segment())
    for (const Effect& e : s->stack)
      if (e.id == effect) return params_at(e.params, static_cast<double>(frame_in_segment()));
  return Json::object();
}

void EffectsPanel::set(const std::string& effect, const std::string& name, const Json& value,
                       const QString& what) {
  const SegmentPtr s = segment();
  if (!s) return;
  for (const Effect& e : s->stack) {
    if (e.id != effect) continue;
    // A value that has keys gets one here; others are simply set.
    const Json old = e.params.is_object() ? e.params.value(name, Json()) : Json();
    session_.edit(with_param(*session_.timeline(), segment_, effect, name,
                             has_keys(old) ? with_key(old, frame_in_segment(), value) : value),
                  what);
    return;
  }
}

void EffectsPanel::showEvent(QShowEvent* e) {
  QWidget::showEvent(e);
  if (stale_) rebuild();
}

void EffectsPanel::rebuild() {
  stale_ = !isVisible();
  if (stale_) return;
  // An edit made from inside one of the old rows is still on its way; it goes when the event is over.
  if (content_) content_->hide(), content_->deleteLater();
  content_ = new QWidget(this);
  auto* rows = new QVBoxLayout(content_);
  rows->setContentsMargins(0, 0, 0, 0);
  rows->setSpacing(3);
  const SegmentPtr s = segment();
  QString head = tr("Choose a segment to see its effects.");
  if (s) head = s->note.empty() ? text(s->name) : tr("%1 – %2").arg(text(s->name), text(s->note));
  auto* title = new QLabel(head, content_);
  title->setWordWrap(true);
  rows->addWidget(title);
  if (s) {
    std::size_t place = 0;
    for (const Effect& e : s->stack) rows->addWidget(effect_row(*s, e, place++));
    rows->addWidget(add_box(*s));
  }
  rows->addStretch(1);
  box_->addWidget(content_);
}

QWidget* EffectsPanel::add_box(const Segment& segment) {
  auto* row = new QWidget(content_);
  auto* line = new QHBoxLayout(row);
  line->setContentsMargins(0, 2, 0, 4);
  auto* kinds = new QComboBox(row);
  kinds->setObjectName("add-kind");
  kinds->setMaxVisibleItems(24);
  for (const EffectType* t : effect_types()) {
    if (t != &shape_tracker()) kinds->addItem(text(t->label), text(t->id));
  }
  auto* add = small(tr("Add effect"), tr("Put this effect at the end of the stack"), row);
  add->setObjectName("add-effect");
  connect(add, &QPushButton::clicked, this, [this, kinds, id = segment.id] {
    Effect e;
    e.type = kinds->currentData().toString().toStdString();
    session_.edit(with_effect_added(*session_.timeline(), id, e, 1000),
                  tr("Add %1").arg(kinds->currentText()));
  });
  line->addWidget(kinds);
  line->addWidget(add);
  line->addStretch(1);
  return row;
}

void EffectsPanel::Lines::room_for(int more) {
  if (line && used + kGap + more <= most) {
    used += kGap + more;
    return;
  }
  if (line) line->addStretch(1);
  line = new QHBoxLayout;
  line->setSpacing(kGap);
  all->addLayout(line);
  used = more;
}

void EffectsPanel::add_switches(QHBoxLayout* line, QWidget* row, const Segment& segment, const Effect& effect,
                                std::size_t place) {
  const std::string segment_id = segment.id, id = effect.id;
  const EffectType* type = effect_type(effect.type);
  const QString label = type ? text(type->label) : tr("%1 (not run here)").arg(text(effect.type));
  const bool off = bypassed(*session_.timeline(), segment_id, id);
  auto* toggle = small(
      off ? tr("Bypassed") : tr("On"),
      off ? tr("Lift the bypass (B)") : tr("Bypass this effect for playback; a slip keeps track of it (B)"),
      row);
  toggle->setObjectName("bypass-" + text(id));
  toggle->setCheckable(true);
  toggle->setChecked(off);
  toggle->setMinimumWidth(78);
  connect(toggle, &QPushButton::clicked, this, [this, segment_id, id, off, label] {
    session_.edit(with_bypass(*session_.timeline(), segment_id, id, !off, now_utc()),
                  off ? tr("Lift the bypass of %1").arg(label) : tr("Bypass %1").arg(label));
  });
  line->addWidget(toggle);
  auto* name = new QLabel(label, row);
  line->addWidget(name);
  line->addStretch(1);
  const auto move = [&](const QString& word, const QString& hint, bool possible, std::size_t to,
                        const char* object) {
    auto* b = small(word, hint, row);
    b->setObjectName(QString(object) + text(id));
    b->setEnabled(possible);
    connect(b, &QPushButton::clicked, this, [this, segment_id, id, to, label] {
      session_.edit(with_effect_moved(*session_.timeline(), segment_id, id, to), tr("Move %1").arg(label));
    });
    line->addWidget(b);
  };
  move(tr("Up"), tr("Apply it earlier"), place > 0, place - 1, "up-");
  move(tr("Down"), tr("Apply it later"), place + 1 < segment.stack.size(), place + 1, "down-");
  auto* remove = small(tr("Remove"), tr("Take it off the stack"), row);
  remove->setObjectName("remove-" + text(id));
  connect(remove, &QPushButton::clicked, this, [this, segment_id, id, label] {
    session_.edit(with_effect_removed(*session_.timeline(), segment_id, id, now_utc()), tr("Remove %1").arg(label));
  });
  line->addWidget(remove);
}

void EffectsPanel::add_device(Lines& lines, QWidget* row, const Segment& segment, const Effect& effect) {
  const EffectType& type = *effect_type(effect.type);
  const QString label = text(type.label);
  const std::string segment_id = segment.id, id = effect.id;
  lines.room_for(104);
  if (!type.accelerator) {
    auto* only = new QLabel(tr("processor only"), row);
    only->setToolTip(text(type.processor_only));
    only->setStyleSheet("color: #a4a4a4;");
    lines.line->addWidget(only);
    return;
  }
  auto* device = new QComboBox(row);
  device->setObjectName("device-" + text(id));
  device->addItems({tr("device as set"), tr("processor"), tr("accelerator")});
  device->setCurrentIndex(effect.device == "processor" ? 1 : effect.device == "accelerator" ? 2 : 0);
  device->setToolTip(tr("Where this effect runs"));
  device->setMaximumWidth(120);
  connect(device, &QComboBox::activated, this, [this, segment_id, id, label](int choice) {
    static constexpr const char* kWords[] = {"", "processor", "accelerator"};
    session_.edit(with_effect_device(*session_.timeline(), segment_id, id, kWords[choice]),
                  tr("Change the device of %1").arg(label));
  });
  lines.line->addWidget(device);
}

QWidget* EffectsPanel::effect_row(const Segment& segment, const Effect& effect, std::size_t place) {
  auto* row = new QWidget(content_);
  auto* all = new QVBoxLayout(row);
  all->setContentsMargins(0, 0, 0, 6);
  all->setSpacing(3);
  auto* first = new QHBoxLayout;
  first->setSpacing(6);
  all->addLayout(first);
  const EffectType* type = effect_type(effect.type);
  add_switches(first, row, segment, effect, place);
  if (!type) return row;
  Lines lines{all, nullptr, 0, std::max(360, width() - 24)};
  if (!type->params.empty()) add_keys(lines, row, effect, *type);
  add_device(lines, row, segment, effect);
  for (const ParamSpec& spec : type->params) {
    if (spec.values == 0) continue;  // points of a curve are set on the command line
    if (spec.text) add_text(lines, row, effect, spec);
    else add_number(lines, row, effect, *type, spec);
  }
  if (lines.line) lines.line->addStretch(1);
  return row;
}

void EffectsPanel::add_text(Lines& lines, QWidget* row, const Effect& effect, const ParamSpec& spec) {
  const std::string id = effect.id;
  const QString now = text(text_or(effect.params, spec.name.c_str(), ""));
  const QStringList words = choices(spec, effect.type);
  auto* label = new QLabel(text(spec.label), row);
  lines.room_for(label->sizeHint().width() + kGap + (words.isEmpty() ? lines.most / 2 : 116));
  label->setStyleSheet("color: #a4a4a4;");
  lines.line->addWidget(label);
  const QString object = QString("param-%1-%2").arg(text(id), text(spec.name));
  const QString what = tr("Change %1").arg(text(spec.label));
  if (words.isEmpty()) {
    auto* edit = new QLineEdit(now, row);
    edit->setObjectName(object);
    connect(edit, &QLineEdit::editingFinished, this, [this, edit, id, spec, now, what] {
      if (edit->text() != now) set(id, spec.name, edit->text().toStdString(), what);
    });
    lines.line->addWidget(edit, 1);
    return;
  }
  auto* box = new QComboBox(row);
  box->setObjectName(object);
  box->addItems(words);
  box->setCurrentIndex(std::max(0, static_cast<int>(words.indexOf(now))));
  connect(box, &QComboBox::activated, this,
          [this, box, id, spec, what](int) { set(id, spec.name, box->currentText().toStdString(), what); });
  lines.line->addWidget(box);
}

void EffectsPanel::add_number(Lines& lines, QWidget* row, const Effect& effect, const EffectType& type,
                              const ParamSpec& spec) {
  auto* label = new QLabel(text(spec.label), row);
  const bool unit = spec.unit == "px" || spec.unit == "°" || spec.unit == "ms" || spec.unit == "frames";
  lines.room_for(label->sizeHint().width() + spec.values * (kField + kGap) +
                 (unit ? 8 * static_cast<int>(spec.unit.size()) + kGap : 0));
  label->setStyleSheet("color: #a4a4a4;");
  lines.line->addWidget(label);
  const Json now = params_at(effect.params, static_cast<double>(frame_in_segment()));
  const double step = spec.most - spec.least > 50 ? 1 : 0.02;
  for (std::size_t i = 0; i < static_cast<std::size_t>(spec.values); ++i) {
    auto* value = new QDoubleSpinBox(row);
    value->setObjectName(QString("param-%1-%2-%3").arg(text(effect.id), text(spec.name)).arg(i));
    value->setRange(spec.least, spec.most);
    value->setDecimals(step == 1 ? 1 : spec.most <= 10 ? 3 : 2);
    value->setSingleStep(step);
    value->setButtonSymbols(QAbstractSpinBox::NoButtons);
    value->setKeyboardTracking(false);
    value->setFont(look::number_font(12));
    value->setFixedWidth(kField);
    value->setValue(param(type, now, spec.name.c_str(), i));
    value->setToolTip(
        tr("%1, %2 to %3 %4").arg(text(spec.label)).arg(spec.least).arg(spec.most).arg(text(spec.unit)));
    connect(value, &QDoubleSpinBox::valueChanged, this,
            [this, id = effect.id, spec, i, t = &type](double v) {
              Json changed = v;
              if (spec.values > 1) {
                // The others as they are at this frame now, not when the row was made.
                const Json here = values_now(id);
                changed = Json::array();
                for (std::size_t k = 0; k < static_cast<std::size_t>(spec.values); ++k)
                  changed.push_back(k == i ? v : param(*t, here, spec.name.c_str(), k));
              }
              set(id, spec.name, changed, tr("Change %1").arg(text(spec.label)));
            });
    lines.line->addWidget(value);
  }
  if (unit) lines.line->addWidget(new QLabel(text(spec.unit), row));
}

void EffectsPanel::add_keys(Lines& lines, QWidget* row, const Effect& effect, const EffectType& type) {
  std::size_t count = 0;
  for (const ParamSpec& spec : type.params)
    if (effect.params.is_object() && has_keys(effect.params.value(spec.name, Json())))
      count += effect.params[spec.name]["keys"].size();
  auto* button = new QToolButton(row);
  button->setObjectName("keys-" + text(effect.id));
  button->setText(count ? tr("%1 keys").arg(count) : tr("Keys"));
  button->setToolTip(tr("Set or take away a key at the playhead"));
  button->setPopupMode(QToolButton::InstantPopup);
  auto* menu = new QMenu(button);
  for (const ParamSpec& spec : type.params) {
    if (spec.text || spec.values == 0) continue;
    auto* action = menu->addAction(text(spec.label));
    action->setCheckable(true);
    const Json value = effect.params.is_object() ? effect.params.value(spec.name, Json()) : Json();
    action->setChecked(has_keys(value));
    connect(action, &QAction::triggered, this,
            [this, id = effect.id, spec, value, t = &type, params = effect.params] {
              const Frames f = frame_in_segment();
              const bool here = has_keys(value) && without_key(value, f) != value;
              Json now = Json::array();
              const Json plain = params_at(params, static_cast<double>(f));
              for (std::size_t i = 0; i < static_cast<std::size_t>(spec.values); ++i)
                now.push_back(param(*t, plain, spec.name.c_str(), i));
              if (spec.values == 1) now = Json(now[0]);
              session_.edit(with_param(*session_.timeline(), segment_, id, spec.name,
                                       here ? without_key(value, f) : with_key(value, f, now)),
                            here ? tr("Take away a key of %1").arg(text(spec.label))
                                 : tr("Set a key of %1").arg(text(spec.label)));
            });
  }
  if (effect.type == "secondary") {
    menu->addSeparator();
    connect(menu->addAction(tr("Follow the shape in the window from here")), &QAction::triggered, this,
            [this, id = effect.id] { session_.track(segment_, id, frame_in_segment()); });
  }
  button->setMenu(menu);
  lines.room_for(button->sizeHint().width());
  lines.line->addWidget(button);
}

}  // namespace gc
