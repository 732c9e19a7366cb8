#include "app/style.h"

#include <QFontDatabase>
#include <QIcon>

namespace gc::look {

int tone(StageKind kind) {
  static constexpr int kTones[kStageKinds] = {84, 132, 98, 156, 116, 176, 106, 144, 90, 124, 166};
  return kTones[static_cast<std::size_t>(kind)];
}

int texture(StageKind kind, int x, int y) {
  switch (kind) {
    case StageKind::decode:
      return y % 4 == 0 ? -16 : 0;
    case StageKind::convert:
      return y % 3 == 0 ? 9 : 0;
    case StageKind::repair:
      return (x + y) % 4 == 0 ? -20 : 0;
    case StageKind::grade:
      return x % 4 == 0 ? 12 : 0;
    case StageKind::effect:
      return (x - y) % 5 == 0 ? -24 : 0;
    case StageKind::composition:
      return x % 3 == 0 && y % 3 == 0 ? 22 : 0;
    case StageKind::transition:
      return (x + 2 * y) % 6 == 0 ? 18 : 0;
    case StageKind::mix:
      return x % 2 == 0 && y % 4 == 0 ? 16 : 0;
    default:
      return 0;
  }
}

QFont text_font(int px, bool strong) {
  QFont f("Inter");
  f.setPixelSize(px);
  f.setWeight(strong ? QFont::DemiBold : QFont::Normal);
  return f;
}

QFont number_font(int px, bool strong) {
  QFont f("JetBrains Mono");
  f.setPixelSize(px);
  f.setWeight(strong ? QFont::DemiBold : QFont::Normal);
  return f;
}

void apply(QApplication& app) {
  for (const char* file : {"Inter-Regular.otf", "Inter-Medium.otf", "Inter-SemiBold.otf",
                           "JetBrainsMono-Regular.ttf", "JetBrainsMono-SemiBold.ttf"})
    QFontDatabase::addApplicationFont(QString(":/fonts/") + file);
  app.setFont(text_font(13));
  app.setWindowIcon(QIcon(":/icons/glass-clock.svg"));
  app.setStyleSheet(R"(
    * { color: #d6d6d6; background: #1e1e1e; selection-background-color: #565656; selection-color: #ffffff; }
    QMainWindow::separator, QSplitter::handle { background: #1e1e1e; }
    QSplitter::handle:horizontal { width: 6px; } QSplitter::handle:vertical { height: 6px; }
    QMenuBar { background: #262626; } QMenuBar::item { padding: 4px 10px; background: transparent; }
    QMenuBar::item:selected, QMenu::item:selected { background: #464646; }
    QMenu { background: #2b2b2b; border: 1px solid #484848; } QMenu::item { padding: 5px 28px 5px 16px; background: transparent; }
    QMenu::item:disabled { color: #8c8c8c; }
    QPushButton { background: #3a3a3a; border: 1px solid #555555; border-radius: 3px; padding: 5px 12px; }
    QPushButton:hover { background: #464646; } QPushButton:pressed { background: #2e2e2e; }
    QPushButton:focus { border-color: #b4b4b4; } QPushButton:disabled { color: #8c8c8c; background: #2b2b2b; border-color: #3c3c3c; }
    QPushButton[small="true"], QToolButton { padding: 2px 8px; background: #333333; border: 1px solid #4a4a4a; border-radius: 3px; }
    QToolButton:hover { background: #464646; } QToolButton:focus { border-color: #b4b4b4; } QToolButton::menu-indicator { image: none; }
    QCheckBox::indicator { width: 13px; height: 13px; border: 1px solid #8c8c8c; border-radius: 2px; background: #161616; }
    QCheckBox::indicator:checked { background: #d6d6d6; border-color: #d6d6d6; } QCheckBox::indicator:focus { border-color: #ececec; }
    QComboBox { min-height: 18px; padding: 1px 6px; } QComboBox:focus { border-color: #b4b4b4; }
    QPushButton[main="true"] { background: #d6d6d6; color: #1a1a1a; border-color: #d6d6d6; font-weight: 600; padding: 8px 16px; }
    QPushButton[main="true"]:hover { background: #ececec; } QPushButton[main="true"]:disabled { background: #3a3a3a; color: #969696; border-color: #3a3a3a; }
    QPushButton[small="true"]:checked { background: #565656; border-color: #b4b4b4; color: #ffffff; font-weight: 600; }
    QPushButton[rail="true"] { text-align: left; border: none; border-left: 3px solid transparent; border-radius: 0; background: transparent; padding: 10px 8px; }
    QPushButton[rail="true"]:hover { background: #2e2e2e; }
    QPushButton[rail="true"]:checked { background: #333333; border-left: 3px solid #d6d6d6; font-weight: 600; }
    QPushButton[rail="true"]:focus { background: #3a3a3a; }
    QLineEdit, QDoubleSpinBox, QSpinBox, QComboBox { background: #161616; border: 1px solid #484848; border-radius: 3px; padding: 3px 6px; }
    QLineEdit:focus, QDoubleSpinBox:focus { border-color: #b4b4b4; }
    QTableView, QTreeView { background: #222222; alternate-background-color: #262626; gridline-color: transparent; border: 1px solid #363636; outline: none; }
    QTableView::item, QTreeView::item { padding: 2px 6px; background: transparent; } QTableView::item:selected, QTreeView::item:selected { background: #4a4a4a; color: #ffffff; }
    QTreeView::item { min-height: 20px; }
    QTableView:focus, QTreeView:focus { border-color: #8c8c8c; }
    QHeaderView::section { background: #2b2b2b; color: #b4b4b4; border: none; border-bottom: 1px solid #484848; padding: 4px 6px; }
    QTreeView QHeaderView::section { padding-right: 16px; }
    QScrollBar { background: #1e1e1e; } QScrollBar:vertical { width: 12px; } QScrollBar:horizontal { height: 12px; }
    QScrollBar::handle { background: #484848; border-radius: 4px; min-height: 24px; min-width: 24px; } QScrollBar::add-line, QScrollBar::sub-line { width: 0; height: 0; }
    QProgressBar { background: #161616; border: 1px solid #484848; border-radius: 3px; text-align: center; height: 16px; }
    QProgressBar::chunk { background: #787878; }
    QSlider::groove:horizontal { background: #4a4a4a; height: 4px; border-radius: 2px; }
    QSlider::handle:horizontal { background: #c0c0c0; width: 12px; margin: -6px 0; border-radius: 3px; }
    QSlider::handle:horizontal:focus { background: #ffffff; }
    QDialogButtonBox { dialogbuttonbox-buttons-have-icons: 0; }
    QToolTip { background: #101010; color: #d6d6d6; border: 1px solid #565656; padding: 4px; }
    QScrollArea { border: none; }
  )");
}

}  // namespace gc::look
