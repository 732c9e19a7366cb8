#include "app/text_box.h"

#include <QRegularExpression>
#include <QScrollBar>

namespace gc {
namespace {

/// No line begins with the unit of a number that ends the line before.
QString with_units_kept(QString text) {
  static const QRegularExpression before_unit(R"((?<=\d) (?=(?:s|ms|min|h|kB|MB|GB)\b|%))");
  return text.replace(before_unit, QChar(QChar::Nbsp));
}

}  // namespace

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
  const QString shown = with_units_kept(text);
  if (shown == label_->text()) return;
  label_->setText(shown);
  verticalScrollBar()->setValue(0);
  fit();
}

int TextBox::text_height(int width) const {
  if (label_->text().isEmpty()) return 0;
  // The label itself would never say less than the height it has been given.
  const QRect room(0, 0, std::max(80, width), 1'000'000);
  return label_->fontMetrics().boundingRect(room, Qt::TextWordWrap, label_->text()).height() + 1;
}

/// A scroll bar takes room from the text, so it is there only where the text does not fit without it.
void TextBox::fit() {
  const bool scrolls = text_height(width()) > height();
  setVerticalScrollBarPolicy(scrolls ? Qt::ScrollBarAlwaysOn : Qt::ScrollBarAlwaysOff);
  const int room = width() - (scrolls ? verticalScrollBar()->sizeHint().width() : 0);
  label_->setFixedHeight(std::max(text_height(room), height()));
  updateGeometry();
}

QSize TextBox::sizeHint() const {
  return {200, std::min(text_height(width()), most_lines_ * label_->fontMetrics().lineSpacing() + 2)};
}

QSize TextBox::minimumSizeHint() const {
  constexpr int kLeastLines = 3;  // lists and graphs beside it get smaller first
  return {0, std::min(sizeHint().height(), kLeastLines * label_->fontMetrics().lineSpacing() + 2)};
}

void TextBox::resizeEvent(QResizeEvent* event) {
  QScrollArea::resizeEvent(event);
  fit();
}

}  // namespace gc
