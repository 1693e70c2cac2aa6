#include "stages/stages.h"

#include "stages/camera/camerastage.h"
#include "stages/delivery/deliverystage.h"
#include "stages/inserts/insertsstage.h"
#include "stages/lens/lensstage.h"
#include "stages/mattes/mattesstage.h"
#include "stages/planes/planesstage.h"
#include "stages/plate/platestage.h"
#include "stages/steady/steadystage.h"
#include "stages/tracks/tracksstage.h"
#include "stages/world/worldstage.h"

namespace pinion {
namespace {

template <class... Kinds>
std::vector<std::unique_ptr<Stage>> made(Session& session) {
    std::vector<std::unique_ptr<Stage>> stages;
    (stages.push_back(std::make_unique<Kinds>(session)), ...);
    return stages;
}

}  // namespace

std::vector<std::unique_ptr<Stage>> makeStages(Session& session) {
    return made<PlateStage, LensStage, MattesStage, TracksStage, PlanesStage, CameraStage, WorldStage, SteadyStage,
                InsertsStage, DeliveryStage>(session);
}

}  // namespace pinion
