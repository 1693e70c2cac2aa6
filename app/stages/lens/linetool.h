#pragma once

#include "canvas/tool.h"
#include "picture/picture.h"
#include "session/derived.h"
#include "session/session.h"

#include <optional>

namespace pinion {

class Canvas;

/// Draws lines along what is straight in life. A click adds a place to the line in hand, a double click or Enter ends
/// it; places are dragged, and taken out with Ctrl. They snap to the edge under them unless the Lens card says
/// otherwise.
class LineTool : public Tool {
public:
    LineTool(Session& session, Canvas& canvas) : session_(session), canvas_(canvas), plane_(session.jobs, [] {}) {}
    QString name() const override { return "line"; }

    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    void doubleClick(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override;
    void refresh() override;
    void nudge(const Eigen::Vector2d& by) override;
    void putDown() override { endLine(); }
    void paint(QPainter& painter, const PlateView& view) override;

    /// The line in hand, or the one touched last; none when there is none.
    std::optional<std::size_t> line() const;
    bool isOpen() const { return open_; }
    void endLine();
    void removeLast();
    void removeLine();

private:
    struct Grip {
        std::size_t line, point;
    };
    std::optional<Grip> gripNear(const QPointF& at) const;
    bool mayDraw();
    /// `change` gets the lines; then the changed one snaps, if that is wanted, and it becomes an edit.
    template <class Change>
    void edit(const QString& name, Change change, bool snaps, bool amends = false);
    void snap(LensLine& line);
    void addPoint(const Eigen::Vector2d& at);

    Session& session_;
    Canvas& canvas_;
    std::optional<std::size_t> touched_;
    std::size_t point_ = 0;  ///< of the touched line
    bool open_ = false;      ///< the next click adds to it
    std::optional<Grip> grip_, hovered_;
    bool dragged_ = false;
    QPointF at_;
    Derived<ImageChannel, PicturePtr> plane_;  ///< where edges are looked for, made while the mouse is on its way
};

}  // namespace pinion
