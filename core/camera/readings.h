#pragma once

#include "camera/reconstruction.h"

#include <vector>

namespace pinion::solving {

// Whether the scene that was found is the one that stands, and what else the tracks may show: a thing that moves by
// itself and lives as long as the shot has few tracks and many sightings, and an adjustment ends between two motions.

/// The part of the errors that neighbours in the picture share, in pixels: a standard deviation of one coordinate.
/// Errors of a tracker are each track's own, however large and lasting; those of a model that is wrong (of the path, of
/// the lens, of what stands and what moves) are alike where the picture is.
double sharedError(const Reconstruction& scene, const std::vector<int>& frames);

/// Whether the errors that neighbours share say that the model is wrong: above 0.3 of the noise, and enough to matter.
/// In made-up shots they were under 0.2 of the noise where the camera was right and above 0.45 where something that
/// moves bent it. Filmed plates may share blur or a rolling shutter, which was not measured.
/// A part of the frames that is bent by itself tells as well.
bool isBent(const Reconstruction& scene, const std::vector<int>& frames);

/// Tracks that go together and apart from others over many frames, by the change of the distances between them (as
/// Brox and Malik 2010, "Object segmentation by long term analysis of point trajectories", do by speeds): what may be
/// one thing that moves, or a part of what stands. Trails by number; those that stand out most come first.
std::vector<std::vector<int>> groupsApart(const Material& material, const std::vector<int>& keys);

/// Of the trails those that go as one thing, five or more together; the largest first. For trails that a scene does not
/// explain: among those of a scene what lies far off goes together as well.
/// A pan carries everything across alike: where the camera only turns (`turns`) a pace in common means nothing.
std::vector<std::vector<int>> bodiesAmong(const Material& material, const std::vector<int>& trails, bool turns);

/// The told trails and all that go as they do, by way of each other.
std::vector<int> goingWith(const Material& material, const std::vector<int>& keys, const std::vector<int>& told);

/// The same tracks without a group: they take no part, as if held out.
Material withoutTrails(const Material& material, const std::vector<int>& trails);

/// The share of all tracks that a scene explains on the frames, each track counting as one however long it lives, and
/// each part of the picture by what it holds: 0 to 1. `noise_px` is one for all scenes compared.
double explainedShare(const Reconstruction& scene, const Material& all, const std::vector<int>& frames,
                      double noise_px);

/// How well it explains the told ones of them, 0 to 1.
double explainedOfTold(const Reconstruction& scene, const Material& all, const std::vector<int>& frames,
                       double noise_px, const std::vector<int>& told);

/// Trails that go as one thing with others which the scene, as read on the frames, contradicts; also those that are too
/// short to be told by themselves.
std::vector<int> trailsOnMovers(const Reconstruction& scene, const Material& all, const std::vector<int>& frames);

/// What a scene does not explain of the tracks, as another scene.
struct OtherSide {
    std::vector<int> standing;  ///< trails that the scene explains
    double share = 0;           ///< of the parts of the picture, those in which most of what can be told contradicts it
};
OtherSide otherSideOf(const Reconstruction& scene, const Material& all, const std::vector<int>& frames);

/// Two scenes of the same tracks, each by what it alone explains.
struct Sides {
    struct Side {
        double share = 0;   ///< of the tracks that can be told
        double extent = 0;  ///< the part of the picture's area in which most of them lie, in the median of the frames
    };
    Side first, second;
};
Sides compareSides(const Reconstruction& first, const Reconstruction& second, const Material& all,
                   const std::vector<int>& frames, double noise_px);

/// In how many parts of the picture, each frame by itself, any of the trails is seen.
std::size_t partsCovered(const Material& material, const std::vector<int>& trails);

}  // namespace pinion::solving
