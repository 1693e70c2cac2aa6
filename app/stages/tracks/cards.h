#pragma once

#include "stages/tracks/candidates.h"

#include <QWidget>

namespace pinion {

/// The settings of a scatter; while tracks are selected, their own choices.
QWidget* makeTracksCard(Session& session, Candidates& candidates);
/// The choices of the selected tracks.
QWidget* makeTrackChoices(Session& session);

}  // namespace pinion
