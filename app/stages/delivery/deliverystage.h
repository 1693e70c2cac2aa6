#pragma once

#include "stages/stage.h"

#include <string>
#include <vector>

namespace pinion {

/// What is handed downstream: written, read back and checked.
class DeliveryStage : public Stage {
    Q_OBJECT
public:
    using Stage::Stage;
    QString id() const override { return "delivery"; }
    QString title() const override { return "Delivery"; }
    StageReport report() const override;
    QWidget* makeCard() override;
    void furnish(const Desk& desk) override;
    bool take(Errand errand) override;

    /// All that are listed when `names` is empty.
    void startDelivery(const std::vector<std::string>& names);
};

}  // namespace pinion
