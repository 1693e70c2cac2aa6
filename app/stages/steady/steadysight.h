#pragma once

#include "canvas/sight.h"
#include "stages/steady/steadystage.h"

#include <list>

namespace pinion {

/// The plate as it is steadied or shaken.
class SteadySight : public Sight {
public:
    SteadySight(const Session& session, const SteadyStage& stage) : session_(session), stage_(stage) {}
    QString name() const override { return "steady"; }
    PlateWarp warpAt(int frame) const override;
    std::shared_ptr<const Rendering> rendering(int frame) const override;
    QString words(int frame) const override;
    bool isTroubled() const override { return !stage_.planProblem().isEmpty(); }
    bool showsBorder(int frame) const override { return mapAt(frame) != nullptr; }
    bool fills() const override { return stage_.plan() && stage_.plan()->fills; }

private:
    const FrameMap* mapAt(int frame) const;

    const Session& session_;
    const SteadyStage& stage_;
    struct Made {
        int frame;
        std::shared_ptr<const RowWarp> rows;
        std::shared_ptr<const Rendering> rendering;
    };
    mutable std::list<Made> made_;  ///< the latest first
};

}  // namespace pinion
