#pragma once

#include <QPainter>
#include <QRect>
#include <QString>

namespace pinion {

class ThreadSheet;

/// A strip along the frames, above the tracks: what a stage knows of every frame.
class SheetStrip {
public:
    virtual ~SheetStrip() = default;
    virtual int height() const = 0;  ///< 0: there is nothing to show
    virtual void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) = 0;
    /// What it knows of the frame, in words.
    virtual QString whatIsAt(int frame) const = 0;
    /// Its name was clicked.
    virtual void click() {}
};

}  // namespace pinion
