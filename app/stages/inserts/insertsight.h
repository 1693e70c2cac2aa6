#pragma once

#include "stages/composedsight.h"
#include "stages/inserts/inserthand.h"

namespace pinion {

/// The plate with its inserts, as they will be rendered. While one is dragged the others alone: that one is drawn over
/// them at the view's resolution.
class InsertSight : public ComposedSight {
public:
    InsertSight(const Session& session, const InsertHand& hand) : ComposedSight(session), hand_(hand) {}
    QString name() const override { return "inserts"; }
    QString words(int frame) const override;

protected:
    std::shared_ptr<const InsertScene> laid() const override {
        return hand_.isMoving() ? hand_.sceneBelow() : hand_.scene();
    }
    std::shared_ptr<const InsertScene> whole() const override { return hand_.scene(); }
    std::shared_ptr<ArtShelf> shelf() const override { return hand_.shelf(); }

private:
    const InsertHand& hand_;
};

}  // namespace pinion
