#pragma once

#include "canvas/overlay.h"
#include "canvas/plateview.h"
#include "stages/inserts/inserthand.h"

#include <QImage>

#include <functional>

namespace pinion {

/// The held insert's outline, corners and turning handle; an insert that is being dragged, as quickly as the screen
/// takes it; and the places of those whose clip is missing.
class InsertsOverlay : public Overlay {
public:
    InsertsOverlay(const Session& session, const InsertHand& hand) : session_(session), hand_(hand) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

    bool shown = false;  ///< while its card is open
    std::function<QString()> looked;

private:
    void paintDragged(QPainter& painter, const PlateView& view, const Insert& insert, const Quad& corners) const;
    void paintMissing(QPainter& painter, const PlateView& view, const Insert& insert, const Quad& corners) const;

    const Session& session_;
    const InsertHand& hand_;
    // The art of the insert that is dragged, for the screen.
    mutable QImage art_;
    mutable std::shared_ptr<const InsertScene> artOf_;
    mutable InsertId artInsert_ = 0;
};

/// The handle by which an insert is turned: above the middle of its upper edge, on the screen.
std::optional<QPointF> turnHandle(const PlateView& view, const Quad& corners);

}  // namespace pinion
