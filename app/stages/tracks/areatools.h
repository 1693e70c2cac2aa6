#pragma once

#include "canvas/canvas.h"
#include "matte/matte.h"

#include <functional>
#include <vector>

namespace pinion {

/// Draws the outline of what belongs to the selected track's pattern, corner by corner.
class OutlineTool : public Tool {
public:
    OutlineTool(Session& session, Canvas& canvas) : session_(session), canvas_(canvas) {}

    QString name() const override { return "outline"; }
    void press(const CanvasEvent& event) override;
    void doubleClick(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void putDown() override { corners_.clear(); }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    Session& session_;
    Canvas& canvas_;
    std::vector<Eigen::Vector2d> corners_;  ///< in pixels of the plate
    QPointF at_;
};

/// A box in which the best spots to track are looked for.
class SpotsTool : public Tool {
public:
    SpotsTool(Session& session, Canvas& canvas, std::function<void(const Polygon&)> search)
        : session_(session), canvas_(canvas), search_(std::move(search)) {}

    QString name() const override { return "spots"; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override { at_ = event.at; }
    void release(const CanvasEvent& event) override;
    void putDown() override { drags_ = false; }
    void paint(QPainter& painter, const PlateView& view) override;

private:
    Session& session_;
    Canvas& canvas_;
    std::function<void(const Polygon&)> search_;
    bool drags_ = false;
    QPointF from_, at_;
};

}  // namespace pinion
