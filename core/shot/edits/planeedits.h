#pragma once

#include "planar/planartracking.h"
#include "planar/surface.h"
#include "shot/shot.h"

#include <functional>
#include <string>
#include <vector>

namespace pinion {

// Edits of planar tracks: each gives the shot after it.

/// A plane with that outline on that frame, which is its reference.
Shot withPlaneAdded(const Shot& shot, const Polygon& outline, int frame, PlaneId* id = nullptr);
/// Another outline, or a part that does not count, drawn on `frame`: carried to the reference frame. The shot as it is
/// where the plane is not.
Shot withPlaneOutlineAdded(const Shot& shot, PlaneId plane, int frame, const Polygon& outline, bool takenOut);
/// A corner of its `outline`th outline (those that are taken out follow the others) to a place on `frame`.
Shot withPlaneCornerMoved(const Shot& shot, PlaneId plane, std::size_t outline, std::size_t corner, int frame,
                          const Eigen::Vector2d& to);
/// A cylinder with those sides, as they are seen on `frame`, which has to be its reference frame; without them a plane
/// again. What was tracked is of another surface then, and goes. Fails with what is wrong with the sides.
Expected<Shot> withPlaneSides(const Shot& shot, PlaneId plane, const std::optional<Quad>& sides);
Shot withPlaneOutlineRemoved(const Shot& shot, PlaneId plane, std::size_t outline);
Shot withPlaneEdited(const Shot& shot, PlaneId plane, const std::function<void(PlanarTrack&)>& edit);
/// Under a free name.
Shot withPlaneRenamed(const Shot& shot, PlaneId plane, const std::string& name);
Shot withPlaneRemoved(const Shot& shot, PlaneId plane);

/// The surface's corners on a frame, as placed there: a tie. Fails with what is wrong with them, or where the plane is
/// not.
Expected<Shot> withPlaneTie(const Shot& shot, PlaneId plane, int frame, const Quad& corners);
/// The last tie takes the surface with it.
Shot withPlaneTieRemoved(const Shot& shot, PlaneId plane, int frame);
Shot withSurfaceRemoved(const Shot& shot, PlaneId plane);

/// The four corners of the surface as point tracks, locked, by which they join the camera solve and are delivered: on
/// the frames on which they are seen. Made again they take the place of those made before. Fails without a surface.
Expected<Shot> withCornersAsTracks(const Shot& shot, PlaneId plane);
/// The plane's samples by the solved scene (`planeFromScene`).
Expected<Shot> withPlaneFromScene(const Shot& shot, PlaneId plane);

/// Planes, found by their ids, take on new samples, as long as they are there and not locked.
Shot withPlanesTracked(const Shot& shot, const std::vector<PlanarTrack>& planes);

}  // namespace pinion
