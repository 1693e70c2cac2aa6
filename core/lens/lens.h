#pragma once

#include "base/expected.h"
#include "lens/lensfield.h"

#include <Eigen/Core>
#include <optional>

namespace pinion {

/// A lens as Brown and Conrady describe it (Brown 1971), or by a field in place of their coefficients, on a plate of
/// `width` x `height` pixels. "Plane" is the normalised image plane (x right, y down, a point at depth z lies at X/z,
/// Y/z); "plate" is in pixels, (0,0) the outer corner of the top-left pixel; "undistorted" is in pixels of the picture
/// the same lens would give without its distortion.
struct Lens {
    int width = 0;
    int height = 0;
    double focal_px = 0.0;
    double k1 = 0.0, k2 = 0.0, k3 = 0.0;
    double p1 = 0.0, p2 = 0.0;
    double cx = 0.0, cy = 0.0;  ///< the optical axis on the plate
    double squeeze = 1.0;       ///< anamorphic squeeze, 1 for spherical
    SharedField field;          ///< between plate and undistorted, whatever the focal length; no coefficients then

    bool isDistorted() const { return field || k1 != 0 || k2 != 0 || k3 != 0 || p1 != 0 || p2 != 0; }
    bool operator==(const Lens&) const = default;
};

/// How sure the terms of a lens are: standard deviations, 0 where that is not known or the term was not free.
struct LensDeviations {
    double focal_px = 0;
    double k1 = 0, k2 = 0, k3 = 0;
    Eigen::Vector2d axis_px{0, 0};
    /// Of the mapping where it is least sure, on the frame's border, in pixels of the plate.
    double border_px = 0;
};

/// The same glass told at another focal length: every pixel is bent as before.
Lens atFocal(const Lens& lens, double focal_px);

/// The lens for the same picture at another size, which has the same shape.
Lens atSize(const Lens& lens, int width, int height);

/// A lens without distortion whose axis meets the middle of the plate.
Lens pinholeLens(int width, int height, double focal_px);

/// The distorted plane position. The polynomial means nothing beyond `planeRadiusLimit`: check there first.
Eigen::Vector2d distort(const Lens& lens, const Eigen::Vector2d& plane);

/// The derivative of `distort` at `plane`.
Eigen::Matrix2d distortionJacobian(const Lens& lens, const Eigen::Vector2d& plane);

/// The largest plane radius up to which the radial polynomial grows; beyond it the lens would fold the picture over.
double planeRadiusLimit(const Lens& lens);

/// The plane position that `distort` takes to `distorted`, by Newton's method to 1e-12. None when `distorted` lies
/// where no ray of this lens arrives.
std::optional<Eigen::Vector2d> undistort(const Lens& lens, const Eigen::Vector2d& distorted);

std::optional<Eigen::Vector2d> planeFromPlate(const Lens& lens, const Eigen::Vector2d& plate);

/// None beyond the radius limit (see above), so that what is far outside the frame is not drawn inside it.
std::optional<Eigen::Vector2d> plateFromPlane(const Lens& lens, const Eigen::Vector2d& plane);

std::optional<Eigen::Vector2d> undistortedFromPlate(const Lens& lens, const Eigen::Vector2d& plate);
std::optional<Eigen::Vector2d> plateFromUndistorted(const Lens& lens, const Eigen::Vector2d& undistorted);

/// Whether the numbers make a lens: a size, a positive focal length, finite values, the whole plate undistortable.
Expected<void> checkLens(const Lens& lens);
/// Only whether its values are numbers that can be reckoned with, and its field is whole.
Expected<void> checkLensValues(const Lens& lens);

}  // namespace pinion
