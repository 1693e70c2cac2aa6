#pragma once

#include <QPainter>
#include <QRect>
#include <QString>

namespace pinion {

class ThreadSheet;

/// The mouse over a strip: on which frame, how far below the strip's top.
struct StripEvent {
    int frame = 0;
    double y = 0;
    Qt::KeyboardModifiers modifiers;
};

/// A strip along the frames, above the tracks: what a stage knows of every frame.
class SheetStrip {
public:
    virtual ~SheetStrip() = default;
    virtual int height() const = 0;  ///< 0: there is nothing to show
    virtual void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) = 0;
    /// What it knows of the place, in words.
    virtual QString whatIsAt(const StripEvent& at) const = 0;
    /// Its names were clicked, so far below its top.
    virtual void click(double) {}
    /// Whether it takes a press on a frame; else the playhead goes there. What it has taken goes on with the rest.
    virtual bool press(const StripEvent&) { return false; }
    virtual void drag(const StripEvent&) {}
    virtual void release(const StripEvent&) {}
};

}  // namespace pinion
