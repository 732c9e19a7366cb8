// Text that wraps within the room it is given. What is longer scrolls; it never makes the window grow.
#pragma once
#include <QLabel>
#include <QScrollArea>

namespace gc {

class TextBox : public QScrollArea {
  Q_OBJECT
 public:
  /// As high as its text, and no higher than `most_lines` of it. `name` is that of the label within.
  TextBox(const char* name, const QFont& font, int most_lines, QWidget* parent = nullptr);
  void set_text(const QString& text);
  QString text() const { return label_->text(); }
  QLabel* label() const { return label_; }
  QSize sizeHint() const override;
  QSize minimumSizeHint() const override;

 protected:
  void resizeEvent(QResizeEvent* event) override;

 private:
  int text_height(int width) const;
  void fit();
  QLabel* label_;
  int most_lines_;
};

}  // namespace gc
