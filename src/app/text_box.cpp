#include "app/text_box.h"

#include <QScrollBar>

namespace gc {

TextBox::TextBox(const char* name, const QFont& font, int most_lines, QWidget* parent)
    : QScrollArea(parent), label_(new QLabel), most_lines_(most_lines) {
  label_->setObjectName(name);
  label_->setFont(font);
  label_->setWordWrap(true);
  label_->setTextFormat(Qt::PlainText);
  label_->setAlignment(Qt::AlignTop | Qt::AlignLeft);
  setWidget(label_);
  setWidgetResizable(true);
  setFrameShape(QFrame::NoFrame);
  setHorizontalScrollBarPolicy(Qt::ScrollBarAlwaysOff);
  setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Fixed);
  setFocusPolicy(Qt::StrongFocus);  // keys scroll it
}

void TextBox::set_text(const QString& text) {
  if (text == label_->text()) return;
  label_->setText(text);
  verticalScrollBar()->setValue(0);
  fit();
}

/// Asks for the height that its text takes at the present width. The width beside a scroll bar is counted always,
/// so that a bar that comes does not change how the text wraps.
void TextBox::fit() {
  label_->setMinimumHeight(label_->text().isEmpty() ? 0 : label_->heightForWidth(viewport()->width()));
  updateGeometry();
}

QSize TextBox::sizeHint() const {
  const int line = label_->fontMetrics().lineSpacing();
  const int wanted = label_->text().isEmpty() ? 0 : label_->heightForWidth(std::max(80, viewport()->width()));
  return {200, std::min(wanted, most_lines_ * line + 2)};
}

QSize TextBox::minimumSizeHint() const { return {0, std::min(sizeHint().height(), 2 * label_->fontMetrics().lineSpacing())}; }

void TextBox::resizeEvent(QResizeEvent* event) {
  QScrollArea::resizeEvent(event);
  fit();
}

}  // namespace gc
