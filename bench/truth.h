#pragma once

#include "base/expected.h"
#include "camera/result.h"
#include "lens/lens.h"
#include "track/track.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <filesystem>
#include <map>
#include <span>
#include <string>
#include <vector>

namespace pinion::bench {

struct Errors {
    std::vector<double> values;
    double at(double share) {
        if (values.empty()) return 0;
        std::sort(values.begin(), values.end());
        return values[std::min(values.size() - 1, std::size_t(share * double(values.size())))];
    }
    double rms() const {
        double sum = 0;
        for (double v : values) sum += v * v;
        return values.empty() ? 0 : std::sqrt(sum / double(values.size()));
    }
};

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

/// What the true cameras leave of tracks: each one's point where its rays by them meet best, and how far its samples
/// are from where they see that. Tracks that are off by more than 2 px RMS are `movers`.
Errors againstTrueCameras(std::span<const Track> tracks, const Truth& truth, std::size_t* movers);

/// A solved camera in the truth's own world: laid over it by its places and axes.
struct CameraErrors {
    double path_m = 0, length_m = 0;  ///< RMS of the places, and the length of the true path
    Errors points;                    ///< of the truth's points as the solved camera sees them, in pixels
};
CameraErrors againstTruth(const Solve& solve, const Truth& truth);

}  // namespace pinion::bench
