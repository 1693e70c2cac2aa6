#include "truth.h"

#include "base/files.h"

#include <nlohmann/json.hpp>

namespace pinion::bench {

using nlohmann::json;

Expected<Truth> readTruth(const std::filesystem::path& path) {
    const auto contents = readFile(path);
    if (!contents) return tl::unexpected(contents.error());
    try {
        const json document = json::parse(*contents);
        Truth truth;
        const json& lens = document.at("lens");
        truth.lens = pinholeLens(lens.at("width"), lens.at("height"), lens.at("focal_px"));
        truth.lens.k1 = lens.at("k1");
        truth.lens.k2 = lens.at("k2");
        truth.focal_mm = document.at("focal_mm");
        truth.sensorWidth_mm = document.at("sensor_width_mm");
        for (const json& frame : document.at("frames")) {
            const auto pose = [&](const char* name) {
                Eigen::Isometry3d matrix;
                for (int i = 0; i < 16; ++i) matrix.matrix()(i / 4, i % 4) = frame.at(name).at(std::size_t(i));
                return matrix;
            };
            truth.cameras[frame.at("frame")] = pose("world_from_camera");
            if (frame.contains("world_from_intended")) truth.intended[frame.at("frame")] = pose("world_from_intended");
        }
        for (const json& entry : document.at("points")) {
            Truth::Point point{entry.at("name"), entry.at("chosen_on"), {}, {}};
            for (int i = 0; i < 3; ++i) point.xyz[i] = entry.at("xyz").at(std::size_t(i));
            for (const json& sample : entry.at("samples"))
                if (sample.at(3) == 1) point.visible[sample.at(0)] = {double(sample.at(1)), double(sample.at(2))};
            truth.points.push_back(std::move(point));
        }
        return truth;
    } catch (const std::exception& error) {
        return failure(Fault::input, "{}: {}", path.string(), error.what());
    }
}

Eigen::Affine3d similarityBetween(const std::vector<Eigen::Vector3d>& from, const std::vector<Eigen::Vector3d>& to) {
    Eigen::Matrix3Xd a(3, Eigen::Index(from.size())), b(3, Eigen::Index(to.size()));
    for (std::size_t i = 0; i < from.size(); ++i) {
        a.col(Eigen::Index(i)) = from[i];
        b.col(Eigen::Index(i)) = to[i];
    }
    return Eigen::Affine3d(Eigen::umeyama(a, b, true));
}

}  // namespace pinion::bench
