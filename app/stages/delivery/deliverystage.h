#pragma once

#include "stages/stage.h"

#include <QStringList>

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

    /// All that are listed when `names` is empty. Asks by `outsideAsked` first when something would be written outside
    /// the delivery folder.
    void startDelivery(const std::vector<std::string>& names, bool outsideAllowed = false);

signals:
    void outsideAsked(const std::vector<std::string>& names, const QStringList& paths);

private:
    void askOutside(const std::vector<std::string>& names, const QStringList& paths);
};

}  // namespace pinion
