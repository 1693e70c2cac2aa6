#pragma once

#include "matte/matte.h"
#include "planar/planartrack.h"
#include "steady/locator.h"
#include "track/tracking.h"

#include <memory>
#include <string>
#include <vector>

namespace pinion {

/// What a shape may ride on.
struct Carriers {
    List<Track> tracks;
    List<Locator> locators{};
    FrameRange range;  ///< over which their motion is worked out
    List<PlanarTrack> planes{};
    PlaneLens lens{};        ///< that bends what is flat; null: none is known
    double pixelAspect = 1;  ///< width of a pixel of the plate to its height
};

/// In words: "the whole picture", "a and b", "4 tracks".
std::string wordsOf(const Matte::Ride& ride);

/// The planar track that a ride is on, by itself or through a locator; null: on none, or it is gone.
const PlanarTrack* planeCarrying(const Matte::Ride& ride, const Carriers& carriers);

/// Where a ride takes a shape, frame by frame.
struct RideMotion {
    PlateMotion motion;
    std::string problem;         ///< why nothing carries it: it stays as it was drawn
    std::vector<int> missing{};  ///< frames on which its tracks are not

    /// Of the nearest frame on which its tracks are; the identity when nothing carries it.
    Eigen::Matrix3d plateFromReference(int frame) const;
};

/// The motion of a ride: one track by its place, two and three with turn and size, four by perspective, more by the
/// homography nearest to them, or, when they are not all on the reference frame, by a similarity a frame that their
/// short lives are joined to; a locator as it says; a planar track as its surface; the whole picture as its tracks
/// move. Worked out once for each version of the tracks. Safe to call from several threads.
std::shared_ptr<const RideMotion> rideMotion(const Matte::Ride& ride, const Carriers& carriers);

/// The same if it is known or quickly worked out, else null: for an interface, which cannot wait for the motion of a
/// whole picture.
std::shared_ptr<const RideMotion> quickRideMotion(const Matte::Ride& ride, const Carriers& carriers);

/// "what it rides on is not there on 1040-1052: it stays where it was on the nearest frame"; empty where the matte does
/// not count on those frames.
std::string gapNote(const Matte& matte, const RideMotion& motion);

/// Points and tangents on the plate of one frame, with its ride taken in; none without keys.
std::optional<Matte::Key> riddenShape(const Matte& matte, int frame, const RideMotion* motion);

/// The mattes with their rides taken in, exactly: one that rides gets a key on every frame of `range`. On its
/// reference frame it lies as it was drawn; where its tracks are not, it stays where it was on the nearest frame.
/// Fails, naming shape and track, when a track is not there at all or not on the reference frame, and where a
/// perspective takes the shape to its horizon; with `notes` such a shape stays as it was drawn, and the note says why.
Expected<std::vector<Matte>> ridden(std::vector<Matte> mattes, const Carriers& carriers, const FrameRange& range,
                                    std::vector<std::string>* notes = nullptr);

}  // namespace pinion
