#pragma once

class QWidget;

namespace pinion {

class MattesStage;
class Session;

QWidget* makeMattesCard(Session& session, MattesStage& stage);

}  // namespace pinion
