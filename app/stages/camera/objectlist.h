#pragma once

class QWidget;

namespace pinion {

class CameraStage;
class Session;

/// Rigid things that move by themselves: made of chosen tracks or of what the solve told apart, solved against the
/// camera.
QWidget* makeObjectList(Session& session, CameraStage& stage);

}  // namespace pinion
