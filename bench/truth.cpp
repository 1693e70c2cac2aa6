#include "truth.h"

#include "base/files.h"

#include <Eigen/LU>
#include <Eigen/SVD>
#include <cmath>
#include <nlohmann/json.hpp>

namespace pinion::bench {

using Eigen::Vector3d;
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

Errors againstTrueCameras(std::span<const Track> tracks, const Truth& truth, std::size_t* movers) {
    Errors errors;
    for (const Track& track : tracks) {
        Eigen::Matrix3d normal = Eigen::Matrix3d::Zero();
        Vector3d right = Vector3d::Zero();
        for (const Sample& sample : track.samples) {
            const auto plane = planeFromPlate(truth.lens, sample.at);
            const Eigen::Isometry3d& pose = truth.cameras.at(sample.frame);
            const Vector3d direction = (pose.linear() * Vector3d(plane->x(), -plane->y(), -1)).normalized();
            const Eigen::Matrix3d across = Eigen::Matrix3d::Identity() - direction * direction.transpose();
            normal += across;
            right += across * pose.translation();
        }
        const Vector3d point = normal.inverse() * right;
        Errors own;
        for (const Sample& sample : track.samples) {
            const Vector3d seen = truth.cameras.at(sample.frame).inverse() * point;
            if (const auto at = plateFromPlane(truth.lens, {seen.x() / -seen.z(), seen.y() / seen.z()}))
                own.values.push_back((*at - sample.at).norm());
        }
        if (own.rms() > 2) {
            ++*movers;
        } else {
            errors.values.insert(errors.values.end(), own.values.begin(), own.values.end());
        }
    }
    return errors;
}

CameraErrors againstTruth(const Solve& solve, const Truth& truth) {
    CameraErrors errors;
    std::vector<Vector3d> found, real;
    for (const SolvedFrame& frame : solve.frames) {
        found.push_back(frame.worldFromCamera.translation());
        real.push_back(truth.cameras.at(frame.frame).translation());
        if (real.size() > 1) errors.length_m += (real.back() - real[real.size() - 2]).norm();
    }
    Eigen::Affine3d realFromFound = similarityBetween(found, real);
    // A walk is nearly a line and leaves the turn about it open: the cameras' axes, a metre long, join the comparison.
    const double scale = std::cbrt(realFromFound.linear().determinant());
    for (const SolvedFrame& frame : solve.frames)
        for (int axis = 0; axis < 3; ++axis) {
            found.push_back(frame.worldFromCamera.translation() + frame.worldFromCamera.linear().col(axis) / scale);
            real.push_back(truth.cameras.at(frame.frame).translation() +
                           truth.cameras.at(frame.frame).linear().col(axis));
        }
    realFromFound = similarityBetween(found, real);
    double squares = 0;
    for (std::size_t i = 0; i < solve.frames.size(); ++i) squares += (realFromFound * found[i] - real[i]).squaredNorm();
    errors.path_m = std::sqrt(squares / double(solve.frames.size()));
    // The true points through the found camera.
    const Eigen::Affine3d foundFromReal = realFromFound.inverse();
    for (const auto& point : truth.points)
        for (const auto& [frame, at] : point.visible)
            if (const auto plate = projected(solve, frame, foundFromReal * point.xyz))
                errors.points.values.push_back((*plate - at).norm());
    return errors;
}

}  // namespace pinion::bench
