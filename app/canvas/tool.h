#pragma once

#include "canvas/plateview.h"

#include <QObject>
#include <QPointF>
#include <QString>

class QPainter;

namespace pinion {

/// The mouse over the canvas: where it is on the screen, and on the plate where a ray comes.
struct CanvasEvent {
    QPointF at;
    std::optional<Eigen::Vector2d> plate;
    Qt::KeyboardModifiers modifiers;
};

/// Turns mouse and keys into edits while it is in hand. It knows nothing of other tools.
class Tool {
public:
    virtual ~Tool() = default;
    virtual QString name() const = 0;  ///< by which the canvas and the commands ask for it
    virtual Qt::CursorShape cursor() const { return Qt::CrossCursor; }

    virtual void press(const CanvasEvent&) {}  ///< the left button, on an open plate
    virtual void drag(const CanvasEvent&) {}
    virtual void release(const CanvasEvent&) {}
    virtual void doubleClick(const CanvasEvent& event) { press(event); }
    /// The mouse moves with no button down; whether what is drawn has changed.
    virtual bool hover(const CanvasEvent&) { return false; }
    virtual void leave() {}
    /// The frame or its picture changed under the cursor.
    virtual void refresh() {}
    /// Moves what it holds, in pixels of the plate.
    virtual void nudge(const Eigen::Vector2d&) {}
    /// Enter: what has been begun is done. Whether there was anything.
    virtual bool finish() { return false; }
    /// Delete: what it holds goes. Whether it held anything.
    virtual bool remove() { return false; }
    /// Whether it would do either now; the key is then the tool's, before any command has it.
    virtual bool finishes() const { return false; }
    virtual bool removes() const { return false; }
    /// Another tool is taken, or Escape was pressed.
    virtual void putDown() {}
    /// What it shows of its own, above all overlays.
    virtual void paint(QPainter&, const PlateView&) {}
};

}  // namespace pinion
