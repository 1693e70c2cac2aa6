#pragma once

class QWidget;

namespace pinion {

class Session;
class WorldStage;

/// How what stands in the scene is rendered, and to where. The Inserts card renders it with all other layers.
QWidget* makeSceneRenderForm(Session& session, WorldStage& stage);

}  // namespace pinion
