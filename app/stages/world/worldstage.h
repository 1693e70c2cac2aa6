#pragma once

#include "stages/stage.h"
#include "world/world.h"

namespace pinion {

class GroundOverlay;

/// The world of the solve: ground, origin and scale from tracks.
class WorldStage : public Stage {
    Q_OBJECT
public:
    using Stage::Stage;
    QString id() const override { return "world"; }
    QString title() const override { return "World"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;

    /// An edit, refused in words where the solve cannot meet it.
    void apply(const QString& name, const World& world);
    void setGround();

private:
    GroundOverlay* ground_ = nullptr;  ///< the canvas owns it
};

}  // namespace pinion
