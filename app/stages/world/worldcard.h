#pragma once

#include "stages/world/worldstage.h"

namespace pinion {

QWidget* makeWorldCard(Session& session, WorldStage& stage);

}  // namespace pinion
