#pragma once

#include "stages/composedsight.h"
#include "stages/world/standinhand.h"

namespace pinion {

/// The plate with what stands in its scene, as it will be rendered; with fewer rays while something is dragged, or
/// while it plays.
class StandInSight : public ComposedSight {
public:
    StandInSight(const Session& session, const StandInHand& hand) : ComposedSight(session), hand_(hand) {}
    QString name() const override { return "stand-ins"; }
    QString words(int frame) const override;
    bool showsTracks() const override { return false; }  // it is looked through for what slides

protected:
    std::shared_ptr<const InsertScene> laid() const override { return hand_.sceneNow(); }
    std::shared_ptr<const InsertScene> whole() const override { return hand_.scene(); }
    std::shared_ptr<ArtShelf> shelf() const override { return hand_.shelf(); }

private:
    const StandInHand& hand_;
};

}  // namespace pinion
