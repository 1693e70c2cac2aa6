#pragma once

class QWidget;

namespace pinion {

class InsertsStage;
class Session;

QWidget* makeInsertsCard(Session& session, InsertsStage& stage);

}  // namespace pinion
