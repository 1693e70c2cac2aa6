#pragma once

#include "base/progress.h"
#include "camera/hypotheses.h"

#include <Eigen/Core>
#include <vector>

namespace pinion::solving {

/// A turn and a shift (over the plane's distance) with the plane's normal that make one homography.
struct PlaneMotion {
    Eigen::Matrix3d rotation;
    Eigen::Vector3d shift, normal;
};

/// The motions behind a homography of a plane from one camera to another, each with both signs of the normal: two in
/// general (Ma, Soatto, Kosecka and Sastry 2004, algorithm 5.2). Empty when it hardly differs from a turn.
std::vector<PlaneMotion> motionsOf(Eigen::Matrix3d homography);

/// What else the same pictures may show: depth turned inside out, or the other motion and normal of a plane.
enum class Reading { mirror, plane };

/// Keyframes first..last, as indices into the keys, that can be read otherwise.
struct Stretch {
    std::size_t first = 0, last = 0;
    Reading reading = Reading::mirror;
};

/// Stretches of keyframes that explain their tracks about as well when depth is turned inside out (little perspective,
/// or one flat wall in view: the two readings of a plane, Longuet-Higgins 1986). Only what joins them to the rest tells
/// which is right, and a chain of frames can go wrong there. In order of time; those that reach over nearly all of the
/// shot are left to the mirror image of the whole.
std::vector<Stretch> stretchesInDoubt(const Reconstruction& scene, const std::vector<int>& keys,
                                      const Progress& progress);

/// The scene with one stretch turned inside out, joined to what comes before it (else after it), and all that lies
/// beyond grown again.
Reconstruction turnedInsideOut(const Reconstruction& scene, const std::vector<int>& keys, const Stretch& stretch,
                               const LensPlan& plan, const Progress& progress);

}  // namespace pinion::solving
