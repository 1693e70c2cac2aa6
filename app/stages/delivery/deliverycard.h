#pragma once

#include "stages/delivery/deliverystage.h"

namespace pinion {

QWidget* makeDeliveryCard(Session& session, DeliveryStage& stage);

}  // namespace pinion
