#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

namespace pinion {

StageReport worldReport(const Shot& shot);

/// Whether its unit is the metre: by lengths in the world, or by measures from the set that the solve took in.
bool isInMetres(const Shot& shot);

/// The world of the shot's solve; the solve's own where the decisions cannot be met.
Orientation orientationOf(const Shot& shot);

/// Where an object is in that world: on a frame, or the nearest on which it is solved. None without a solve.
std::optional<Eigen::Isometry3d> objectPose(const Shot& shot, ObjectId object, int frame);

/// Where a stand-in stands in the world on a frame, by whatever carries it.
Stance worldStance(const Shot& shot, const StandIn& standIn, int frame);

/// The scene as it stands in the world: what an object carries goes its way, and is there on its frames alone; what is
/// carried by an object that has no solve, or is gone, is not there.
SceneLook sceneInWorld(const Shot& shot);

}  // namespace pinion
