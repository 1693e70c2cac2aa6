#pragma once

#include "base/expected.h"
#include "camera/object.h"

#include <Eigen/Geometry>
#include <filesystem>
#include <functional>
#include <string>
#include <utility>
#include <vector>

namespace pinion {

/// Things that move by themselves, `pinion.object` of docs/formats.md, in the world of the camera that they were solved
/// against.
struct ObjectFile {
    struct Frame {
        int frame = 0;
        Eigen::Isometry3d worldFromObject = Eigen::Isometry3d::Identity();
    };
    struct Point {
        std::string name;
        Eigen::Vector3d xyz{0, 0, 0};  ///< of the object
    };
    struct Object {
        std::string name;
        std::vector<std::string> tracks;
        std::vector<Frame> frames;  ///< by rising frame
        std::vector<Point> points;
        bool scaleIsKnown = false;
        double scaleDeviation = 0;  ///< a share of the size; 0: not said
        double rms_px = 0;
        std::string doubt;
    };
    std::vector<Object> objects;
};
/// A solved object by its name and those of its tracks.
ObjectFile::Object objectOf(const std::string& name, const ObjectSolve& solve,
                            const std::function<std::string(TrackId)>& nameOf);

std::string objectsJson(const ObjectFile& file);
Expected<ObjectFile> readObjects(const std::filesystem::path& path);

}  // namespace pinion
