#pragma once

#include "session/session.h"
#include "sheet/curve.h"

namespace pinion {

/// The solved focal length over the frames, within three deviations: what it can hardly lie beyond.
class FocalCurve : public ShotCurve {
public:
    explicit FocalCurve(const Session& session) : session_(session) {}
    QString name() const override { return "focal"; }
    std::vector<CurveLine> lines() const override;
    QString whenEmpty() const override {
        return "No camera yet: the Camera card solves it, and its focal length stands here.";
    }

private:
    const Session& session_;
};

}  // namespace pinion
