#pragma once

class QWidget;

namespace pinion {

class Session;
class WorldStage;

/// What stands in the scene: put there, listed, placed by numbers, and its light.
QWidget* makeStandInList(Session& session, WorldStage& stage);

}  // namespace pinion
