#pragma once

#include "base/expected.h"
#include "lens/lens.h"

#include <Eigen/Geometry>
#include <filesystem>
#include <map>
#include <string>
#include <vector>

namespace pinion::bench {

/// What the renderer knows of a demo plate.
struct Truth {
    struct Point {
        std::string name;
        int chosenOn;
        Eigen::Vector3d xyz;
        std::map<int, Eigen::Vector2d> visible;  ///< by frame
    };
    Lens lens;
    double focal_mm;
    double sensorWidth_mm;
    std::map<int, Eigen::Isometry3d> cameras;   ///< worldFromCamera
    std::map<int, Eigen::Isometry3d> intended;  ///< the same without the hand's unrest, where the plate has it
    std::vector<Point> points;
};

Expected<Truth> readTruth(const std::filesystem::path& path);

/// The similarity that takes `from` to `to` with the least squared distance (Umeyama 1991).
Eigen::Affine3d similarityBetween(const std::vector<Eigen::Vector3d>& from, const std::vector<Eigen::Vector3d>& to);

}  // namespace pinion::bench
