#include "shots.h"

#include "base/units.h"

#include <cmath>

namespace ternholm {
namespace {

using Eigen::Vector3d;

/// A hand's unrest: a few sines whose rates share no beat; about -1 to 1.
double unrest(double seconds, int seed) {
    double sum = 0;
    for (int i = 0; i < 5; ++i) {
        const double rate = 0.31 + 0.63 * i + 0.17 * std::sin(double(seed * 13 + i * 7));
        sum += std::sin(6.283185 * rate * seconds + seed * 2.1 + i * 1.7) / (1.0 + 0.9 * i);
    }
    return sum / 2.0;
}

Eigen::Matrix3d turned(double angleDegrees, const Vector3d& axis) {
    return Eigen::AngleAxisd(pinion::radians(angleDegrees), axis).toRotationMatrix();
}

/// `worldFromCamera` of a camera at `eye` that looks at `target`, upright.
Eigen::Affine3d lookingAt(const Vector3d& eye, const Vector3d& target) {
    const Vector3d back = (eye - target).normalized();
    const Vector3d right = Vector3d::UnitY().cross(back).normalized();
    Eigen::Affine3d pose = Eigen::Affine3d::Identity();
    pose.linear() << right, back.cross(right), back;
    pose.translation() = eye;
    return pose;
}

pinion::Lens lensOf(const ShotSize& size, double focal_mm, double k1, double k2) {
    pinion::Lens lens = pinion::pinholeLens(size.width, size.height, pinion::focalPixels(focal_mm, 36.0, size.width));
    lens.k1 = k1;
    lens.k2 = k2;
    return lens;
}

// ---- landing: a handheld walk along the quay, 28 mm with a visible barrel distortion

pinion::Lens landingLens(const ShotSize& size, double) { return lensOf(size, 28.0, -0.112, 0.018); }

Eigen::Affine3d landingIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    return lookingAt({-2.1 + 3.4 * along, 1.62, 7.1 - 2.2 * along}, {-0.35 + 1.35 * along, 1.05 + 0.1 * along, -2.0});
}

Eigen::Affine3d landingCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double step = 6.283185 * 1.75 * seconds;  // paces a second
    Vector3d eye(-2.1 + 3.4 * along, 1.62, 7.1 - 2.2 * along);
    eye += Vector3d(0.022 * std::sin(step / 2) + 0.02 * unrest(seconds, 1),
                    0.024 * std::sin(step) + 0.012 * unrest(seconds, 2), 0.02 * unrest(seconds, 3));
    const Vector3d target(-0.35 + 1.35 * along, 1.05 + 0.1 * along, -2.0);
    Eigen::Affine3d pose = lookingAt(eye, target);
    pose.linear() = pose.linear() * turned(0.55 * unrest(seconds, 4) + 0.12 * std::sin(step), Vector3d::UnitX()) *
                    turned(0.70 * unrest(seconds, 5) + 0.10 * std::sin(step / 2), Vector3d::UnitY()) *
                    turned(0.5 * unrest(seconds, 6), Vector3d::UnitZ());
    return pose;
}

Eigen::Affine3d landingTrolley(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    // It enters from the left at a quarter of the shot and is out of the frame by four fifths.
    Eigen::Affine3d pose = Eigen::Affine3d::Identity();
    pose.translation() = Vector3d(-6.6 + 14.0 * (along - 0.15), 0, 2.3);
    return pose;
}

// ---- mooring: from the deck of a boat that lies at the quay, across the water; a slow pan, shaken by hand and swell

pinion::Lens mooringLens(const ShotSize& size, double) { return lensOf(size, 50.0, -0.03, 0.0); }

Eigen::Affine3d mooringIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double eased = along * along * (3 - 2 * along);
    Eigen::Affine3d pose = lookingAt({1.2, 1.7, -6.2}, {11.4, 2.1, -30.0});
    pose.linear() = turned(1.2 - 2.4 * eased, Vector3d::UnitY()) * pose.linear();
    return pose;
}

Eigen::Affine3d mooringCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    const double swell = 6.283185 * 0.55 * seconds;
    Eigen::Affine3d pose = mooringIntended(size, frame);
    pose.translation() +=
        Vector3d(0.004 * unrest(seconds, 11), 0.006 * std::sin(swell) + 0.003 * unrest(1.6 * seconds, 12),
                 0.003 * unrest(seconds, 13));
    pose.linear() = pose.linear() *
                    turned(0.42 * unrest(1.7 * seconds, 14) + 0.16 * std::sin(swell + 0.6), Vector3d::UnitX()) *
                    turned(0.46 * unrest(1.6 * seconds, 15), Vector3d::UnitY()) *
                    turned(0.55 * unrest(1.2 * seconds, 16) + 0.2 * std::sin(swell), Vector3d::UnitZ());
    return pose;
}

// ---- breakwater: the same water from the quay, locked off

pinion::Lens breakwaterLens(const ShotSize& size, double) { return lensOf(size, 35.0, -0.06, 0.0); }

Eigen::Affine3d breakwaterCamera(const ShotSize&, double) { return lookingAt({-0.9, 1.75, -3.4}, {8.4, 0.55, -20.0}); }

// ---- pan: from the quay's end, a slow pan over the landing by hand; the camera only turns

pinion::Lens panLens(const ShotSize& size, double) { return lensOf(size, 32.0, -0.07, 0.0); }

Eigen::Affine3d panIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double eased = along * along * (3 - 2 * along);
    Eigen::Affine3d pose = lookingAt({-3.4, 1.66, 6.4}, {-0.6, 1.0, -2.0});
    pose.linear() = turned(14.0 - 34.0 * eased, Vector3d::UnitY()) * pose.linear();
    return pose;
}

Eigen::Affine3d panCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    Eigen::Affine3d pose = panIntended(size, frame);
    pose.linear() = pose.linear() * turned(0.35 * unrest(seconds, 21), Vector3d::UnitX()) *
                    turned(0.3 * unrest(seconds, 22), Vector3d::UnitY()) *
                    turned(0.25 * unrest(seconds, 23), Vector3d::UnitZ());
    return pose;
}

// ---- zoom: the landing's walk, shorter, while the lens goes from 28 to 46 mm; its barrel fades as it does

pinion::Lens zoomLens(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? std::clamp(frame / (size.frames - 1), 0.0, 1.0) : 0;
    const double through = std::clamp((along - 0.12) / 0.76, 0.0, 1.0);
    const double focal_mm = 28.0 * std::pow(46.0 / 28.0, through * through * (3 - 2 * through));
    return lensOf(size, focal_mm, -0.112 + 0.09 * std::log(focal_mm / 28.0), 0.018);
}

Eigen::Affine3d noTrolley(const ShotSize&, double) { return Eigen::Affine3d(Eigen::Translation3d(0, -50, 40)); }

// ---- board: past the notice board from near by, behind a mast; its right side leaves the frame, a lamp shines in it

pinion::Lens boardLens(const ShotSize& size, double) { return lensOf(size, 35.0, -0.03, 0.0); }

Eigen::Affine3d boardIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double late = std::max(0.0, along - 0.62) / 0.38;
    return lookingAt({1.45 + 2.6 * along, 1.60, 3.45 - 0.75 * along},
                     {2.85 + 0.25 * along - 1.85 * late * late * (3 - 2 * late), 1.52, -1.33});
}

Eigen::Affine3d boardCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    const double step = 6.283185 * 1.6 * seconds;
    Eigen::Affine3d pose = boardIntended(size, frame);
    pose.translation() += Vector3d(0.012 * unrest(seconds, 31) + 0.010 * std::sin(step / 2),
                                   0.014 * std::sin(step) + 0.008 * unrest(seconds, 32), 0.012 * unrest(seconds, 33));
    pose.linear() = pose.linear() * turned(0.45 * unrest(seconds, 34), Vector3d::UnitX()) *
                    turned(0.5 * unrest(seconds, 35), Vector3d::UnitY()) *
                    turned(0.7 * unrest(seconds, 36), Vector3d::UnitZ());
    return pose;
}

// ---- bollard: half round a painted bollard, close by

pinion::Lens bollardLens(const ShotSize& size, double) { return lensOf(size, 32.0, -0.05, 0.0); }

Eigen::Affine3d bollardIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double angle = -0.62 + 1.24 * along, reach = 1.75 - 0.2 * along;
    const Vector3d foot(0.35, 0, 1.9);
    return lookingAt(foot + Vector3d(reach * std::sin(angle), 1.25 - 0.1 * along, reach * std::cos(angle)),
                     foot + Vector3d(0.05 - 0.1 * along, 0.52, 0));
}

Eigen::Affine3d bollardCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    Eigen::Affine3d pose = bollardIntended(size, frame);
    pose.translation() += 0.006 * Vector3d(unrest(seconds, 41), unrest(seconds, 42), unrest(seconds, 43));
    pose.linear() = pose.linear() * turned(0.5 * unrest(seconds, 44), Vector3d::UnitX()) *
                    turned(0.5 * unrest(seconds, 45), Vector3d::UnitY()) *
                    turned(0.8 * unrest(seconds, 46), Vector3d::UnitZ());
    return pose;
}

// ---- ferry: it comes in while the camera walks along the quay, and fills a third of the picture

pinion::Lens ferryLens(const ShotSize& size, double) { return lensOf(size, 30.0, -0.06, 0.0); }

Eigen::Affine3d ferryIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    return lookingAt({-3.6 + 2.6 * along, 1.64, 4.4 - 0.7 * along}, {-2.4 + 1.5 * along, 1.5, -6.0});
}

Eigen::Affine3d ferryCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    const double step = 6.283185 * 1.7 * seconds;
    Eigen::Affine3d pose = ferryIntended(size, frame);
    pose.translation() += Vector3d(0.018 * unrest(seconds, 51) + 0.012 * std::sin(step / 2),
                                   0.02 * std::sin(step) + 0.01 * unrest(seconds, 52), 0.015 * unrest(seconds, 53));
    pose.linear() = pose.linear() * turned(0.45 * unrest(seconds, 54), Vector3d::UnitX()) *
                    turned(0.5 * unrest(seconds, 55), Vector3d::UnitY()) *
                    turned(0.45 * unrest(seconds, 56), Vector3d::UnitZ());
    return pose;
}

/// Along the quay, ever slower, its bow swung in; the swell lifts it a little.
Eigen::Affine3d ferryTrolley(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    const double seconds = frame / size.fps;
    Eigen::Affine3d pose = Eigen::Affine3d::Identity();
    pose.translation() = Vector3d(-12.5 + 10.5 * along - 3.2 * along * along, -1.1 + 0.03 * std::sin(2.3 * seconds),
                                  -12.6 + 0.9 * along);
    pose.linear() =
        turned(7.0 - 7.5 * along, Vector3d::UnitY()) * turned(0.5 * std::sin(1.9 * seconds), Vector3d::UnitX());
    return pose;
}

// ---- van: the camera trucks along the quay beside a luggage van, and what stands passes within a second or two

pinion::Lens vanLens(const ShotSize& size, double) { return lensOf(size, 38.0, -0.05, 0.0); }

double vanPlace(const ShotSize& size, double frame) { return -5.4 + 2.8 * frame / size.fps; }

Eigen::Affine3d vanIntended(const ShotSize& size, double frame) {
    const double x = vanPlace(size, frame);
    return lookingAt({x + 0.5, 1.6, 7.4}, {x + 0.3, 1.25, 0});
}

Eigen::Affine3d vanCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    Eigen::Affine3d pose = vanIntended(size, frame);
    pose.translation() +=
        Vector3d(0.04 * unrest(0.6 * seconds, 71), 0.012 * unrest(seconds, 72), 0.02 * unrest(seconds, 73));
    pose.linear() = pose.linear() * turned(0.3 * unrest(seconds, 74), Vector3d::UnitX()) *
                    turned(0.4 * unrest(seconds, 75), Vector3d::UnitY()) *
                    turned(0.25 * unrest(seconds, 76), Vector3d::UnitZ());
    return pose;
}

/// Beside the camera, a little ahead and behind as its driver pleases; the planks shake it.
Eigen::Affine3d vanTrolley(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    Eigen::Affine3d pose = Eigen::Affine3d::Identity();
    pose.translation() = Vector3d(vanPlace(size, frame) + 0.25 * std::sin(0.9 * seconds),
                                  0.006 * unrest(1.7 * seconds, 77), 1.25 + 0.05 * std::sin(0.7 * seconds));
    pose.linear() = turned(1.2 * std::sin(0.8 * seconds), Vector3d::UnitY()) *
                    turned(0.25 * unrest(1.5 * seconds, 78), Vector3d::UnitZ());
    return pose;
}

// ---- telephone: carried along the quay at arm's length; its sensor is read row by row over 0.62 of a frame

pinion::Lens telephoneLens(const ShotSize& size, double) { return lensOf(size, 27.0, -0.045, 0.006); }

Eigen::Affine3d telephoneIntended(const ShotSize& size, double frame) {
    const double along = size.frames > 1 ? frame / (size.frames - 1) : 0;
    return lookingAt({-2.4 + 3.0 * along, 1.55, 6.4 - 1.9 * along}, {-0.5 + 1.5 * along, 1.0, -2.0});
}

Eigen::Affine3d telephoneCamera(const ShotSize& size, double frame) {
    const double seconds = frame / size.fps;
    const double step = 6.283185 * 1.85 * seconds;
    Eigen::Affine3d pose = telephoneIntended(size, frame);
    pose.translation() +=
        Vector3d(0.025 * unrest(1.4 * seconds, 61) + 0.015 * std::sin(step / 2),
                 0.028 * std::sin(step) + 0.012 * unrest(1.6 * seconds, 62), 0.02 * unrest(seconds, 63));
    pose.linear() = pose.linear() * turned(0.7 * unrest(1.9 * seconds, 64) + 0.25 * std::sin(step), Vector3d::UnitX()) *
                    turned(0.9 * unrest(1.8 * seconds, 65) + 0.2 * std::sin(step / 2), Vector3d::UnitY()) *
                    turned(0.8 * unrest(1.5 * seconds, 66), Vector3d::UnitZ());
    return pose;
}

constexpr DemoShot kShots[] = {
    {"landing", 28.0, 120, 24.0, buildLanding, landingLens, false, landingCamera, landingIntended, landingTrolley},
    {"mooring", 50.0, 96, 24.0, buildHarbour, mooringLens, false, mooringCamera, mooringIntended, noTrolley},
    {"breakwater", 35.0, 125, 25.0, buildHarbour, breakwaterLens, false, breakwaterCamera, breakwaterCamera, noTrolley},
    {"pan", 32.0, 100, 24.0, buildLanding, panLens, false, panCamera, panIntended, noTrolley},
    {"zoom", 28.0, 60, 24.0, buildLanding, zoomLens, true, landingCamera, landingIntended, noTrolley},
    {"board", 35.0, 90, 24.0, buildBoard, boardLens, false, boardCamera, boardIntended, noTrolley, boardCorners},
    {"bollard", 32.0, 60, 24.0, buildBollard, bollardLens, false, bollardCamera, bollardIntended, noTrolley,
     bollardPlaces},
    {"ferry", 30.0, 80, 24.0, buildFerry, ferryLens, false, ferryCamera, ferryIntended, ferryTrolley},
    {"van", 38.0, 96, 24.0, buildVan, vanLens, false, vanCamera, vanIntended, vanTrolley},
    {"telephone", 27.0, 75, 30.0, buildLanding, telephoneLens, false, telephoneCamera, telephoneIntended, noTrolley,
     nullptr, 0.62},
};

}  // namespace

std::span<const DemoShot> demoShots() { return kShots; }

const DemoShot* demoShot(const std::string& name) {
    for (const DemoShot& shot : kShots)
        if (name == shot.name) return &shot;
    return nullptr;
}

}  // namespace ternholm
