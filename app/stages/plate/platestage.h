#pragma once

#include "plate/platecheck.h"
#include "stages/stage.h"

#include <optional>

namespace pinion {

/// The plate: what it is, how it is shown, and the check of its frames.
class PlateStage : public Stage {
    Q_OBJECT
public:
    explicit PlateStage(Session& session);
    QString id() const override { return "plate"; }
    QString title() const override { return "Plate"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;

    /// Sharpness, motion, brightness, noise and cuts of every frame, in a job; derived, never part of the shot.
    void startCheck();
    const std::optional<PlateCheck>& check() const { return check_; }

signals:
    void checkChanged();

private:
    std::optional<PlateCheck> check_;
};

}  // namespace pinion
