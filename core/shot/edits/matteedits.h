#pragma once

#include "shot/shot.h"
#include "matte/riding.h"

#include <Eigen/Core>
#include <functional>
#include <string>
#include <vector>

namespace pinion {

// Edits of mattes, which are meant by their place in the list: each gives the shot after it.

/// On top of the list, under a name that is free (its own, or "shape 1").
Shot withMatteAdded(const Shot& shot, Matte matte);
Shot withMatteEdited(const Shot& shot, std::size_t matte, const std::function<void(Matte&)>& edit);
Shot withMatteRenamed(const Shot& shot, std::size_t matte, const std::string& name);
Shot withMatteRemoved(const Shot& shot, std::size_t matte);
/// A copy above it.
Shot withMatteDuplicated(const Shot& shot, std::size_t matte);
/// To another place in the list.
Shot withMatteMoved(const Shot& shot, std::size_t from, std::size_t to);

/// What it looks like on `frame`, in pixels of the plate there: that becomes a keyframe. Its ride is taken out of it
/// again.
Shot withMatteShape(const Shot& shot, std::size_t matte, int frame, const Matte::Key& onPlate);
/// The last keyframe stays.
Shot withMatteKeyRemoved(const Shot& shot, std::size_t matte, int frame);
/// Onto another frame, where it takes the place of what is there; `copies` leaves the first where it is.
Shot withMatteKeyMoved(const Shot& shot, std::size_t matte, int from, int to, bool copies);

/// A point more on all keyframes, on the edge that leaves `point`; no outline changes.
Shot withMattePointAdded(const Shot& shot, std::size_t matte, std::size_t point, double t);
/// Points less on all keyframes; three stay.
Shot withMattePointsRemoved(const Shot& shot, std::size_t matte, const std::vector<std::size_t>& points);
/// Tangents along its neighbours, or none, on all keyframes.
Shot withMattePointsSmooth(const Shot& shot, std::size_t matte, const std::vector<std::size_t>& points, bool smooth);

/// From `frame` up to where that changes next it counts, or does not.
Shot withMatteThere(const Shot& shot, std::size_t matte, int frame, bool there);

/// Lets it ride, ride on something else, or on nothing: `ride`'s reference frame is taken from here. On each of its
/// keyframes it stays where it is; on `frame` too, which becomes a keyframe when it would move there otherwise.
Shot withMatteRide(const Shot& shot, std::size_t matte, int frame, std::optional<Ride> ride);
/// Rides on nothing, with a keyframe on every frame of the range: it goes on moving as it did.
Shot withMatteBaked(const Shot& shot, std::size_t matte);

/// Tracks are set aside on the frames on which mattes cover them; whole where too few frames are left to them.
Shot withCoveredSetAside(const Shot& shot);

}  // namespace pinion
