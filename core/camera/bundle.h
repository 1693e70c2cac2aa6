#pragma once

#include "base/progress.h"
#include "camera/pose.h"
#include "lens/lens.h"

#include <Eigen/Core>
#include <optional>
#include <vector>

namespace pinion {

/// Everything a bundle adjustment moves, and what it compares with. Errors are measured on the plate as it was filmed, so the
/// lens is part of the model and the tracks stay as tracked.
struct Bundle {
    struct Observation {
        int camera = 0;
        int point = 0;
        Eigen::Vector2d plate;
    };
    Lens lens;
    std::vector<Pose> cameras;
    std::vector<Eigen::Vector3d> points;
    std::vector<Observation> observations;
};

struct BundleOptions {
    /// What of the lens may move. k2 needs tracks near the corners to be worth freeing.
    bool freeFocal = false;
    bool freeK1 = false;
    bool freeK2 = false;

    /// A known focal length with its standard deviation, as one more observation.
    std::optional<double> focalPrior_px;
    double focalTrust_px = 0.0;

    /// Width of the Cauchy loss in pixels (Triggs 2000): errors well above it hardly count. It should follow the tracks' noise.
    double robustWidth_px = 1.0;

    /// Steps at most, and the relative fall of the cost that is small enough to end.
    int rounds = 20;
    double settled = 1e-5;

    /// The camera that keeps its place; the rest moves about it.
    int heldCamera = 0;
};

/// Moves cameras, points and the lens to the least robust error: Levenberg-Marquardt with the points eliminated (Triggs et al.
/// 2000, section 6). Its time grows with the frames a point is seen on, squared, and with the cameras, cubed. False when
/// stopped; what it has by then is kept and usable.
bool adjust(Bundle& bundle, const BundleOptions& options, const Progress& progress = Progress{});

/// The distance on the plate, in pixels, between an observation and where the model puts it. Infinite behind the camera.
double errorOf(const Bundle& bundle, const Bundle::Observation& observation);

/// How sure the answer is: standard deviations from the inverse of the normal equations, for the gauge in which the first
/// camera and the distance to the farthest camera are exact.
struct BundleCovariance {
    double focal_px = 0.0;                  ///< 0 when the focal length was not free
    std::vector<Eigen::Vector3d> positions; ///< a standard deviation an axis and camera, in the solve's units
};
std::optional<BundleCovariance> covarianceOf(const Bundle& bundle, const BundleOptions& options);

}  // namespace pinion
