#pragma once

#include "stages/steady/steadystage.h"

namespace pinion {

/// Hold and ease, the shake that is taken and lent, and rendering.
QWidget* makeSteadyCard(Session& session, SteadyStage& stage);

}  // namespace pinion
