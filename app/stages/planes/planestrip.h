#pragma once

#include "sheet/strip.h"
#include "stages/planes/planehand.h"

namespace pinion {

/// A row each plane in the thread sheet: how much of it is seen on each frame (the height), and how well that fits (the
/// colour); ties, the reference and where it was taken anew.
class PlaneStrip : public SheetStrip {
public:
    PlaneStrip(Session& session, PlaneHand& hand) : session_(session), hand_(hand) {}
    int height() const override;
    void paint(QPainter& painter, const QRect& area, const ThreadSheet& sheet) override;
    QString whatIsAt(const StripEvent& at) const override;
    void click(double y) override;

    bool shown = false;  ///< while its card is open

private:
    std::size_t rows() const;
    const PlanarTrack* planeAt(double y) const;

    Session& session_;
    PlaneHand& hand_;
};

}  // namespace pinion
