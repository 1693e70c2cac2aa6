#pragma once

#include "base/progress.h"
#include "camera/pose.h"
#include "camera/rowposes.h"
#include "lens/lens.h"

#include <Eigen/Core>
#include <array>
#include <cstdint>
#include <functional>
#include <optional>
#include <vector>

namespace pinion {

/// What all frames share and may move: terms of the lens, and the time in which the sensor is read. The order is that
/// of the columns in the normal equations.
enum class LensTerm { focal, k1, k2, k3, p1, p2, cx, cy, k1Slope, readout };
constexpr std::size_t kLensTerms = 10;

/// A set of lens terms.
class LensTerms {
public:
    constexpr LensTerms(std::initializer_list<LensTerm> terms = {}) {
        for (const LensTerm term : terms) add(term);
    }
    constexpr bool has(LensTerm term) const { return (bits_ >> int(term)) & 1U; }
    constexpr LensTerms& add(LensTerm term) {
        bits_ |= 1U << int(term);
        return *this;
    }
    constexpr LensTerms& remove(LensTerm term) {
        bits_ &= ~(1U << int(term));
        return *this;
    }
    constexpr LensTerms without(LensTerm term) const {
        LensTerms rest = *this;
        return rest.remove(term);
    }
    int count() const { return __builtin_popcount(bits_); }
    bool operator==(const LensTerms&) const = default;

private:
    std::uint32_t bits_ = 0;
};

/// A focal length per frame: the focal lengths are the bundle's `focals`, and the first distortion term goes with their
/// logarithm: k1(f) = lens.k1 + k1Slope * ln(f / lens.focal_px). Everything else of the lens is shared.
Lens zoomed(const Lens& lens, double k1Slope, double focal_px);

/// A term of the lens, for reading and writing; `k1Slope` and `readout` are no part of it.
double& termOf(Lens& lens, LensTerm term);

/// Everything a bundle adjustment moves, and what it compares with. Errors are measured on the plate as it was filmed,
/// so the lens is part of the model and the tracks stay as tracked.
struct Bundle {
    struct Observation {
        int camera = 0;
        int point = 0;
        Eigen::Vector2d plate;
        double weight = 1.0;  ///< multiplies the error: 2 counts like a track of half the noise
        double row = 0.0;     ///< of the place as filmed, in the order of reading: -0.5 the first, 0.5 the last
    };
    Lens lens;
    double k1Slope = 0.0;        ///< of a zoom
    std::vector<Pose> cameras;   ///< in order of time
    std::vector<int> times;      ///< frame number of each camera
    std::vector<double> focals;  ///< of a zoom, pixels, one a camera; empty: lens.focal_px for all
    std::vector<Eigen::Vector4d>
        points;  ///< homogeneous, of length 1; the last is 0 for a point at infinity, a mere direction
    std::vector<Observation> observations;

    /// The time from the first row to the last, as a share of that from frame to frame: a row is seen by the pose at
    /// its own time (RowPoses), `cameras` are those of the middle row. 0: all is read at once.
    double readout = 0.0;

    bool isZoom() const { return !focals.empty(); }
    Lens lensOf(std::size_t camera) const { return isZoom() ? zoomed(lens, k1Slope, focals[camera]) : lens; }
};

/// Moves one term of all that the frames share.
void moveTerm(Bundle& bundle, LensTerm term, double step);

/// A value that is known, with its standard deviation, in the unit of the term.
struct LensPrior {
    LensTerm term = LensTerm::focal;
    double value = 0.0;
    double sigma = 0.0;
};

struct BundleOptions {
    LensTerms free;
    std::vector<LensPrior> priors;

    /// False for a camera that only turns: every place stays, every point is a direction.
    bool freePlaces = true;

    /// Width of the Cauchy loss in pixels (Triggs 2000): errors well above it hardly count. It should follow the
    /// tracks' noise.
    double robustWidth_px = 1.0;

    /// Standard deviation of a good track's error on one axis. It turns what is known (priors) into pixels.
    double noise_px = 0.2;

    /// How much a zoom's focal length may speed up, as a share of it per frame squared (standard deviation).
    double zoomJerk = 0.002;

    /// How far a step from one camera to the next may change at once, in the solve's units, where tracks do not
    /// determine it (a pan within a walk): a stiffness without a pull. In the covariance it is the deviation of such a
    /// step. 0: none.
    double step = 0.0;

    /// Steps at most, and the relative fall of the cost that is small enough to end.
    int rounds = 20;
    double settled = 1e-5;

    /// Of the first step. Small when the bundle is nearly there: only then does a step go along the valley of focal
    /// length and depth.
    double damping = 1e-4;

    /// Called after each step that helped, from the adjusting thread.
    std::function<void(const Bundle&)> watch;
};

/// Moves cameras, points and the lens to the least robust error: Levenberg-Marquardt with the points eliminated (Triggs
/// et al. 2000, section 6), the cameras in an envelope. Time and memory grow with the frames times the frames a track
/// lives. Nothing is held: the damping keeps the seven freedoms no picture tells. False when stopped; what it has by
/// then is kept and usable.
bool adjust(Bundle& bundle, const BundleOptions& options, const Progress& progress = Progress{});

/// Where the model puts what was observed, in the observations' order; not finite behind the camera.
std::vector<Eigen::Vector2d> modelledPlaces(const Bundle& bundle);

/// The sum of the robust losses, priors included, that `adjust` lowers.
double costOf(const Bundle& bundle, const BundleOptions& options);

/// Which derivatives are worked out: most of what is projected needs one of them or none.
enum class Derived { nothing, byPoint, byCamera, all };

/// The place on the plate of a homogeneous point, and the derivatives by the camera's turn and shift (exp(turn) R, t +
/// shift), the point, and the lens (a column a term, the focal length the one of this camera). What was not asked for
/// holds nothing.
struct Projection {
    Eigen::Vector2d plate;
    Eigen::Matrix<double, 2, 6> byCamera;
    Eigen::Matrix<double, 2, 4> byPoint;
    Eigen::Matrix<double, 2, int(kLensTerms)> byLens;
    bool inFront = false;
};
/// `logZoom`: ln of this camera's focal length over the lens' one, for the slope's column; `k1Slope` for the focal
/// length's.
Projection project(const Lens& lens, const Eigen::Matrix3d& rotation, const Eigen::Vector3d& translation,
                   const Eigen::Vector4d& point, Derived derived, double logZoom = 0.0, double k1Slope = 0.0);

/// The lens while a row is read, and how a zoom's focal length changes then, pixels a frame.
struct RowLens {
    Lens lens;
    double logZoom = 0.0;  ///< as for `project`
    double focalByTime = 0.0;
};
RowLens rowLens(const Bundle& bundle, std::size_t camera, const RowPoses::Slopes& slopes);

/// A frame for the points' tangent: columns 4x3, orthogonal to the unit vector `point`.
Eigen::Matrix<double, 4, 3> tangentOf(const Eigen::Vector4d& point);

/// How sure the answer is. Standard deviations follow from the inverse of the normal equations and from the errors that
/// are left (Huber's formula for robust estimates: Huber and Ronchetti 2009, section 7.6). Places are those of the free
/// network: what remains after the similarity that best lays them on themselves, so no frame is exact by choice.
struct BundleCovariance {
    double noise_px = 0.0;                   ///< of one coordinate of a good observation
    double factor = 0.0;                     ///< of the inverse of the normal equations, pixels squared
    std::vector<LensTerm> terms;             ///< those that were free
    Eigen::MatrixXd lens;                    ///< of those terms, in their order
    std::vector<double> focals_px;           ///< of a zoom, one a camera
    std::vector<Eigen::Matrix3d> positions;  ///< a camera, in the solve's units; empty when places are not free
    std::vector<std::optional<Eigen::Matrix3d>> points;  ///< of finite points
    double deviationOf(LensTerm term) const;             ///< 0 when it was not free
};
/// None when the equations are singular beyond the freedoms of a similarity: the tracks do not determine the answer.
/// `lensOnly` leaves cameras and points out, which costs less.
std::optional<BundleCovariance> covarianceOf(const Bundle& bundle, const BundleOptions& options, bool lensOnly = false);

}  // namespace pinion
