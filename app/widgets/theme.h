#pragma once

#include <QApplication>
#include <QColor>
#include <QIcon>
#include <QString>

class QPainter;

namespace pinion::theme {

// Neutral around the picture; brass is the one accent. What fits recedes (slate), what needs a look glows (sand to
// coral).
inline const QColor kGround{0x1b, 0x1b, 0x1b};
inline const QColor kPanel{0x21, 0x21, 0x21};
inline const QColor kRaised{0x2b, 0x2b, 0x2b};
inline const QColor kLine{0x33, 0x33, 0x33};
inline const QColor kText{0xdd, 0xdd, 0xdd};
inline const QColor kDim{0xa2, 0xa2, 0xa2};
inline const QColor kBrass{0xd9, 0xa4, 0x41};
inline const QColor kSlate{0x7e, 0x8c, 0x8e};
inline const QColor kSand{0xe3, 0xb2, 0x78};
inline const QColor kCoral{0xf0, 0x7b, 0x5b};

/// Fonts, palette and style sheet for the whole application.
void apply(QApplication& application);

/// The ring around what has the keyboard's focus, where a widget paints itself.
void drawFocus(QPainter& painter, const QRectF& around);

/// An icon from the shipped set, in text colour, brass when checked, dim when disabled.
QIcon icon(const QString& name);

/// How a fit is shaded: slate where it is good, sand to coral where it needs a look. `badness` is 0 (perfect) to 1.
QColor fitColour(double badness);

/// The badness of a score (correlation) and of an error in pixels.
double badnessOfScore(double score);
double badnessOfError(double error_px);

}  // namespace pinion::theme
