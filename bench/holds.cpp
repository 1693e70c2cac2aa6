#include "holds.h"

#include <Eigen/LU>
#include <array>
#include <cmath>
#include <random>

namespace pinion::bench {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

std::optional<Vector2d> ShakenShot::seen(int frame, const Vector3d& place) const {
    const Vector3d at = cameras[std::size_t(frame)] * place;
    if (at.z() < 0.1) return std::nullopt;
    const auto plate = plateFromPlane(lens, at.hnormalized());
    if (!plate || plate->x() < 0 || plate->y() < 0 || plate->x() > width || plate->y() > height) return std::nullopt;
    return plate;
}

double ShakenShot::jitter(const std::vector<Matrix3d>& plateFromReference) const {
    double squares = 0, count = 0;
    for (const Vector3d& point : points) {
        std::vector<Vector2d> places;
        Vector2d mean(0, 0);
        for (int f = 0; f < frames; ++f)
            if (const auto at = seen(f, point)) {
                places.push_back(carried(plateFromReference[std::size_t(f)].inverse(), *at));
                mean += places.back();
            }
        if (int(places.size()) < frames / 2) continue;
        mean /= double(places.size());
        for (const Vector2d& place : places) {
            squares += (place - mean).squaredNorm();
            ++count;
        }
    }
    return count > 0 ? std::sqrt(squares / count) : 0;
}

double ShakenShot::jitter(const PlateMotion& motion) const {
    std::vector<Matrix3d> matrices;
    for (const FrameMotion& frame : motion.frames) matrices.push_back(frame.plateFromReference);
    return jitter(matrices);
}

std::vector<Matrix3d> ShakenShot::undoneByTruth() const {
    Matrix3d pinhole;
    pinhole << lens.focal_px, 0, lens.cx, 0, lens.focal_px, lens.cy, 0, 0, 1;
    std::vector<Matrix3d> matrices;
    for (const Eigen::Isometry3d& camera : cameras) {
        const Matrix3d matrix = pinhole * camera.linear() * cameras.front().linear().transpose() * pinhole.inverse();
        matrices.push_back(matrix / matrix(2, 2));
    }
    return matrices;
}

ShakenShot shakenShot(const std::string& scene, unsigned seed, double focal_mm, double shake_degrees) {
    std::mt19937 random(seed * 7919 + unsigned(scene.size()));
    std::uniform_real_distribution<double> unit(0, 1);
    std::normal_distribution<double> normal;
    ShakenShot shot;
    shot.lens = pinholeLens(shot.width, shot.height, focal_mm / 36 * shot.width);
    shot.lens.k1 = -0.03;
    struct Wave {
        double frequency, phase, size;
    };
    std::array<std::array<Wave, 4>, 6> waves;
    for (auto& axis : waves)
        for (std::size_t k = 0; k < axis.size(); ++k)
            axis[k] = {0.06 + 0.5 * double(k) / 4 + 0.1 * unit(random), 2 * M_PI * unit(random), 1.0 / double(k + 1)};
    const auto sway = [&](std::size_t axis, int frame) {
        double value = 0;
        for (const Wave& wave : waves[axis]) value += wave.size * std::sin(wave.frequency * frame + wave.phase);
        return value / 1.2;
    };
    const double turn = shake_degrees * M_PI / 180;
    for (int f = 0; f < shot.frames; ++f) {
        Eigen::Isometry3d camera = Eigen::Isometry3d::Identity();
        camera.linear() = (Eigen::AngleAxisd(turn * sway(0, f), Vector3d::UnitX()) *
                           Eigen::AngleAxisd(turn * sway(1, f), Vector3d::UnitY()) *
                           Eigen::AngleAxisd(0.5 * turn * sway(2, f), Vector3d::UnitZ()))
                              .toRotationMatrix();
        camera.translation() = camera.linear() * Vector3d(0.006 * sway(3, f), 0.006 * sway(4, f), 0.006 * sway(5, f));
        shot.cameras.push_back(camera);
    }
    const auto place = [&] {
        // A direction of the reference view, a little beyond its borders, at the scene's depth.
        const double x = (1.1 * unit(random) - 0.55) * shot.width / shot.lens.focal_px,
                     y = (1.1 * unit(random) - 0.55) * shot.height / shot.lens.focal_px;
        const double depth = scene == "far"    ? 150 * std::pow(10, unit(random))
                             : scene == "near" ? 4 / (1 + 0.15 * x)
                                               : 3 * std::pow(100, unit(random));
        return Vector3d(x * depth, y * depth, depth);
    };
    for (int i = 0; i < 150; ++i) shot.points.push_back(place());
    for (int i = 0; i < 900; ++i) {
        const Vector3d at = place();
        const int first = int(unit(random) * (shot.frames + 30)) - 30;
        const int length = 8 + int(-30 * std::log(1 - 0.98 * unit(random)));
        const bool wrong = i % 8 == 3;
        const Vector2d drift = wrong ? Vector2d(normal(random), normal(random)) * 0.4 : Vector2d(0, 0);
        std::vector<Sample> samples;
        for (int f = std::max(0, first); f < std::min(shot.frames, first + length); ++f) {
            const auto seen = shot.seen(f, at);
            if (!seen) continue;
            samples.push_back(
                {.frame = f, .at = *seen + 0.12 * Vector2d(normal(random), normal(random)) + drift * (f - first)});
        }
        if (samples.size() < 5) continue;
        Track track;
        track.id = i + 1;
        track.name = "f-" + std::to_string(i + 1);
        track.referenceFrame = samples.front().frame;
        track.samples = std::move(samples);
        shot.tracks.push_back(std::move(track));
    }
    return shot;
}

}  // namespace pinion::bench
