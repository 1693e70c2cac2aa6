#pragma once

// Motions fitted to pairs of places; what `motion` and `picturemotion` share.

#include <Eigen/Core>
#include <vector>

namespace pinion::fits {

struct Pair {
    Eigen::Vector2d from;
    Eigen::Vector2d to;
    double weight = 1.0;
};

/// The weighted least-squares similarity (Umeyama 1991, in the plane); a shift for one pair.
Eigen::Matrix3d similarityOf(const std::vector<Pair>& pairs);

/// The weighted least-squares homography of four pairs and more: the normalised direct linear solution (Hartley 1997),
/// then least distances in the second picture. The identity where the pairs do not determine one.
Eigen::Matrix3d homographyOf(const std::vector<Pair>& pairs);

/// Tukey's biweight.
double biweight(double residual, double width);

}  // namespace pinion::fits
