#pragma once

#include "canvas/sight.h"
#include "stages/lens/lensstage.h"

namespace pinion {

/// A picture of the chart in place of the plate, with the corners that were found.
class ChartSight : public Sight {
public:
    ChartSight(Session& session, const LensStage& stage) : session_(session), stage_(stage) {}
    QString name() const override { return "chart"; }
    PlateWarp warpAt(int) const override { return {}; }
    std::shared_ptr<const Rendering> rendering(int) const override;
    QString words(int frame) const override;
    bool isTroubled() const override;
    bool isOfPlate() const override { return false; }
    void paint(QPainter& painter, const PlateView& view) const override;

private:
    const ChartView* view() const;

    Session& session_;
    const LensStage& stage_;
    mutable std::shared_ptr<const Rendering> rendering_;
    mutable std::string path_;
    mutable std::optional<int> frame_;
};

}  // namespace pinion
