// When the queue may work: the settings of the queue, one row of words and fields.
#pragma once
#include <QCheckBox>
#include <QComboBox>
#include <QLineEdit>
#include <QSpinBox>

#include "app/session.h"

namespace gc {

class QueueRules : public QWidget {
  Q_OBJECT
 public:
  explicit QueueRules(Session& session, QWidget* parent = nullptr);
  /// Shows what holds; a field that is being written in is left alone.
  void show_settings(const QueueSettings& s);

 private:
  /// Changes what the fields say, and nothing else of the settings.
  void set();
  Session& session_;
  bool showing_ = false;
  QComboBox *when_, *after_window_;
  QSpinBox *idle_, *gently_;
  QLineEdit* hours_;
  QCheckBox* mains_;
  QWidget *idle_words_, *hours_words_;
};

}  // namespace gc
