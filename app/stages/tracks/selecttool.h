#pragma once

#include "canvas/canvas.h"
#include "stages/tracks/trackhand.h"

namespace pinion {

/// Selects tracks by click and rubber band; moves hand-placed ones, their areas and their offset points.
class SelectTool : public Tool {
public:
    SelectTool(Session& session, TrackHand& hand, const Canvas& canvas)
        : session_(session), hand_(hand), canvas_(canvas), view_(canvas.view()) {}

    QString name() const override { return "select"; }
    Qt::CursorShape cursor() const override { return cursor_; }
    void press(const CanvasEvent& event) override;
    void drag(const CanvasEvent& event) override;
    void release(const CanvasEvent& event) override;
    bool hover(const CanvasEvent& event) override;
    void leave() override { hand_.hovered = 0; }
    void nudge(const Eigen::Vector2d& by) override { nudgeSelected(session_, by); }
    void putDown() override;
    void paint(QPainter& painter, const PlateView& view) override;

private:
    bool pressHandle(const CanvasEvent& event, const Track& track);
    void pressTrack(const CanvasEvent& event);
    void dropSize(const Track& track);
    void dropOffset(const Track& track);
    void selectBand(const CanvasEvent& event);
    TrackId trackNear(const QPointF& at) const;

    Session& session_;
    TrackHand& hand_;
    const Canvas& canvas_;
    const PlateView& view_;
    Qt::CursorShape cursor_ = Qt::ArrowCursor;
    bool bands_ = false;
    bool bandOnTrack_ = false;  ///< the press of a rubber band chose a track, which a click keeps
    QPointF from_, at_;
    std::optional<Eigen::Vector2d> plate_;  ///< under the cursor, at the last move
};

}  // namespace pinion
