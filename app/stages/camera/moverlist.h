#pragma once

class QWidget;

namespace pinion {

class CameraStage;
class Session;

/// What a solve told apart as moving by itself, one at a time: its tracks can be chosen, masked, or said to
/// be the scene. Hidden while there is none.
QWidget* makeMoverList(Session& session, CameraStage& stage);

}  // namespace pinion
