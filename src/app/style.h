// The look: a neutral surround (equal R, G and B), light grey text, one accent.
#pragma once
#include <QApplication>
#include <QColor>
#include <QFont>

#include "effects/stage.h"

namespace gc::look {

inline constexpr int kGround = 30, kPanel = 38, kRaised = 50, kLine = 72, kText = 214, kQuiet = 164;
inline constexpr int kCopperR = 214, kCopperG = 137, kCopperB = 84;

inline QColor grey(int v) { return QColor(v, v, v); }
inline QColor copper() { return QColor(kCopperR, kCopperG, kCopperB); }

/// Fixed tone of a kind of stage in the skyline and the stage balance, 0…255.
int tone(StageKind kind);
/// Fine texture of a kind of stage: how much lighter or darker the pixel at (x, y) is than its tone.
int texture(StageKind kind, int x, int y);

QFont text_font(int px, bool strong = false);
QFont number_font(int px, bool strong = false);  ///< figures of one width

/// Loads the shipped fonts and sets the style sheet.
void apply(QApplication& app);

}  // namespace gc::look
