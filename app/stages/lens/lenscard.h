#pragma once

class QWidget;

namespace pinion {

class LensStage;
class Session;

QWidget* makeLensCard(Session& session, LensStage& stage);

}  // namespace pinion
