#pragma once

class QWidget;

namespace pinion {

class PlanesStage;
class Session;

QWidget* makePlanesCard(Session& session, PlanesStage& stage);

}  // namespace pinion
