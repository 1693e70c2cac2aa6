#pragma once

#include "canvas/overlay.h"
#include "canvas/plateview.h"
#include "stages/inserts/inserthand.h"

#include <QImage>

#include <functional>
#include <map>
#include <memory>

namespace pinion {

/// The held insert's outline, corners and turning handle; inserts that move at this moment, as quickly as the screen
/// takes them; and the places of those whose clip is missing.
class InsertsOverlay : public Overlay {
public:
    InsertsOverlay(const Session& session, const InsertHand& hand) : session_(session), hand_(hand) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

    bool shown = false;  ///< while its card is open
    std::function<QString()> looked;

private:
    void paintMoving(QPainter& painter, const PlateView& view, const InsertScene::One& part) const;
    const QImage& artOf(const InsertScene::One& part) const;
    void paintMissing(QPainter& painter, const PlateView& view, const Insert& insert, const Quad& corners) const;

    const Session& session_;
    const InsertHand& hand_;
    // The art of inserts that move, for the screen.
    struct Shown {
        int frame = 0;
        QImage art;
    };
    mutable std::map<InsertId, Shown> arts_;
    mutable std::shared_ptr<const InsertScene> artsOf_;
};

/// The handle by which an insert is turned: above the middle of its upper edge, on the screen.
std::optional<QPointF> turnHandle(const PlateView& view, const Quad& corners);

}  // namespace pinion
