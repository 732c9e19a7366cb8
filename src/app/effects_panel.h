// The stack of the selected segment: add, remove, order, bypass, device, values with units, keys.
#pragma once
#include <QDoubleSpinBox>
#include <QHBoxLayout>
#include <QVBoxLayout>
#include <QWidget>

#include "app/session.h"

namespace gc {

class EffectsPanel : public QWidget {
  Q_OBJECT
 public:
  EffectsPanel(Session& session, QWidget* parent);
  void set_segment(const std::string& id);
  /// Frame of the timeline at which values are shown and keys are set.
  void set_playhead(Frames frame);

 protected:
  void showEvent(QShowEvent*) override;

 private:
  /// Where new parameter fields go: as many to a line as the panel is wide.
  struct Lines {
    QVBoxLayout* all = nullptr;
    QHBoxLayout* line = nullptr;
    int used = 0, most = 0;  ///< pixels
    void room_for(int more);
  };
  void rebuild();  ///< at once when it is seen, else when it is shown
  void refresh_values();
  QWidget* effect_row(const Segment& segment, const Effect& effect, std::size_t place);
  void add_device(Lines& lines, QWidget* row, const Segment& segment, const Effect& effect);
  void add_switches(QHBoxLayout* line, QWidget* row, const Segment& segment, const Effect& effect,
                    std::size_t place);
  void add_number(Lines& lines, QWidget* row, const Effect& effect, const EffectType& type,
                  const ParamSpec& spec);
  void add_text(Lines& lines, QWidget* row, const Effect& effect, const ParamSpec& spec);
  void add_keys(Lines& lines, QWidget* row, const Effect& effect, const EffectType& type);
  QWidget* add_box(const Segment& segment);
  void set(const std::string& effect, const std::string& param, const Json& value, const QString& what);
  Frames frame_in_segment() const;
  /// Every parameter of an effect as it is at the playhead.
  Json values_now(const std::string& effect) const;
  SegmentPtr segment() const;

  Session& session_;
  std::string segment_;
  Frames playhead_ = 0;
  QVBoxLayout* box_;
  QWidget* content_ = nullptr;
  bool stale_ = true;
};

}  // namespace gc
