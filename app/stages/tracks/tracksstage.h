#pragma once

#include "stages/stage.h"
#include "stages/tracks/candidates.h"
#include "stages/tracks/follow.h"
#include "stages/tracks/spots.h"
#include "stages/tracks/trackhand.h"

namespace pinion {

class PlaceTool;

/// Point tracks: scattered, or placed by hand with ties.
class TracksStage : public Stage {
    Q_OBJECT
public:
    explicit TracksStage(Session& session);
    ~TracksStage() override;
    QString id() const override { return "tracks"; }
    QString title() const override { return "Tracks"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    bool toolsStay() const override { return true; }
    void leave() override { candidates.show(false); }
    void escape() override { spots.clear(); }

    Candidates candidates;
    Spots spots;
    TrackHand hand;
    Follow* follow() const { return follow_; }
    const PlaceTool* placeTool() const { return placeTool_; }

private:
    void addTools(const Desk& desk);
    void addToolCommands(const Desk& desk);
    void addRunCommands(const Desk& desk);
    void addTieCommands(const Desk& desk);
    void addListCommands(const Desk& desk);
    void addStateCommands(const Desk& desk);
    void addShownCommands(const Desk& desk);
    void addHoldCommand(const Desk& desk);
    void addMarkCommands(const Desk& desk);

    Follow* follow_ = nullptr;  ///< the canvas owns both
    PlaceTool* placeTool_ = nullptr;
};

}  // namespace pinion
