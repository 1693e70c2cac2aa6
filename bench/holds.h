#pragma once

#include "lens/lens.h"
#include "steady/motion.h"

#include <Eigen/Geometry>
#include <string>
#include <vector>

namespace pinion::bench {

/// A plate shaken by a hand, as tracks, for what holding it still leaves.
struct ShakenShot {
    int width = 1920, height = 1080, frames = 96;
    Lens lens;
    std::vector<Eigen::Isometry3d> cameras;  ///< camera from world, looking along +Z, Y down
    std::vector<Track> tracks;
    std::vector<Eigen::Vector3d> points;  ///< places in the world that a hold should keep still

    std::optional<Eigen::Vector2d> seen(int frame, const Eigen::Vector3d& place) const;
    /// RMS distance of the points from their mean places, shown through plateFromReference of each frame, in pixels.
    double jitter(const std::vector<Eigen::Matrix3d>& plateFromReference) const;
    double jitter(const PlateMotion& motion) const;
    /// What undoing the camera's own turns leaves: the camera's sway and the lens.
    std::vector<Eigen::Matrix3d> undoneByTruth() const;
};

/// "far" (nothing nearer than 150 m), "near" (a wall at 4 m), "deep" (from 3 m to 300 m); one track in eight is wrong.
ShakenShot shakenShot(const std::string& scene, unsigned seed, double focal_mm = 42, double shake_degrees = 0.5);

}  // namespace pinion::bench
