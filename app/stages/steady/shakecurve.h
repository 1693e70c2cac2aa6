#pragma once

#include "sheet/curve.h"
#include "stages/steady/steadystage.h"

namespace pinion {

/// The shake that is lent, or the motion that the steadying takes out.
class ShakeCurve : public ShotCurve {
public:
    ShakeCurve(const Session& session, const SteadyStage& stage) : session_(session), stage_(stage) {}
    QString name() const override { return "shake"; }
    std::vector<CurveLine> lines() const override;
    QString whenEmpty() const override {
        return "No shake is lent and nothing is steadied: the Steady card holds both.";
    }

private:
    const Session& session_;
    const SteadyStage& stage_;
};

}  // namespace pinion
