#pragma once

#include "canvas/overlay.h"
#include "canvas/plateview.h"
#include "session/livework.h"
#include "stages/inserts/inserthand.h"

#include <QImage>

#include <functional>
#include <map>
#include <memory>
#include <optional>

namespace pinion {

/// The held insert's outline, corners and turning handle; inserts that move at this moment, as quickly as the screen
/// takes them; and the places of those whose clip is missing.
class InsertsOverlay : public Overlay {
public:
    InsertsOverlay(Session& session, InsertHand& hand) : session_(session), hand_(hand) {}
    Layer layer() const override { return Layer::marks; }
    void paint(QPainter& painter, const PlateView& view) override;

    bool shown = false;  ///< while its card is open
    std::function<QString()> looked;

private:
    void paintMoving(QPainter& painter, const PlateView& view, const InsertScene::One& part) const;
    /// Read beside the interface; the one before stays meanwhile.
    const QImage& artOf(const InsertScene::One& part) const;
    void paintMissing(QPainter& painter, const PlateView& view, const Insert& insert, const Quad& corners) const;

    Session& session_;
    InsertHand& hand_;
    // The art of inserts that move, for the screen.
    struct Shown {
        QImage art;                 ///< null until it has been read
        std::optional<int> wanted;  ///< the frame that it is of, or is being read of
        std::unique_ptr<LiveWork> work;
    };
    mutable std::map<InsertId, Shown> arts_;
    mutable std::shared_ptr<const InsertScene> artsOf_;
};

/// The handle by which an insert is turned: above the middle of its upper edge, on the screen.
std::optional<QPointF> turnHandle(const PlateView& view, const Quad& corners);

}  // namespace pinion
