#pragma once

// A cart that rolls by, filmed from the hand: what moves by itself, with its truth.

#include "camera/object.h"
#include "camera/rowposes.h"

#include <catch2/catch.hpp>
#include <random>
#include <string>

namespace pinion::test {

using Eigen::AngleAxisd;
using Eigen::Isometry3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

struct BoxPlan {
    int frames = 100, tracks = 40;
    double noise_px = 0.15;
    double unrest_m = 0.006;  ///< of the camera, from frame to frame; 0: it stands still
    double own_m = 0;         ///< unrest of the cart itself: a bad road
    double unsure_m = 0;      ///< by which the camera's places are wrong, as a solve's are
    bool zooms = false;
    double readout = 0;  ///< of the sensor, row by row: the share of a frame
    unsigned seed = 1;
};

/// A cart of 1.6 x 1 x 0.9 m that rolls by on the ground and turns, filmed from the hand.
struct Box {
    std::vector<CameraOnFrame> cameras;
    std::vector<Isometry3d> poses;  ///< world from the box, a frame
    std::vector<Vector3d> points;   ///< of the box; the first four are where it stands
    std::vector<Track> tracks;
    std::vector<TrackId> ids;

    explicit Box(const BoxPlan& plan) {
        std::mt19937 random(plan.seed);
        const auto unit = [&] { return double(random() % 100000) / 100000; };
        const auto normal = [&] {
            double sum = 0;
            for (int i = 0; i < 12; ++i) sum += unit();
            return sum - 6;
        };
        points = {{-0.8, 0, -0.45}, {0.8, 0, -0.45}, {0.8, 0, 0.45}, {-0.8, 0, 0.45}};
        while (int(points.size()) < plan.tracks) {
            Vector3d p(1.6 * unit() - 0.8, unit(), 0.9 * unit() - 0.45);
            if (const int side = int(random() % 3); side == 1) p.y() = 1;
            else if (side == 0) p.x() = p.x() < 0 ? -0.8 : 0.8;
            else p.z() = p.z() < 0 ? -0.45 : 0.45;
            points.push_back(p);
        }
        Vector3d sway = Vector3d::Zero(), speed = Vector3d::Zero();
        for (int f = 0; f < plan.frames; ++f) {
            const double t = double(f) / plan.frames;
            speed = 0.7 * speed + plan.unrest_m * Vector3d(normal(), normal(), normal()) - 0.05 * sway;
            sway += speed;
            CameraOnFrame camera;
            camera.frame = 1001 + f;
            camera.worldFromCamera.translation() =
                Vector3d(plan.unrest_m > 0 ? 1.2 * t : 0, 1.6, plan.unrest_m > 0 ? 0.3 * t : 0) + sway;
            camera.worldFromCamera.linear() = (AngleAxisd(0.12 * (plan.unrest_m > 0 ? t : 0), Vector3d::UnitY()) *
                                               AngleAxisd(-0.15 + 2 * sway.y(), Vector3d::UnitX()))
                                                  .toRotationMatrix();
            camera.lens = pinholeLens(1920, 1080, plan.zooms ? 1600 + 500 * t : 1800);
            camera.lens.k1 = -0.06;
            camera.lens.cx = 966;
            cameras.push_back(camera);
            Isometry3d pose = Isometry3d::Identity();
            pose.linear() = AngleAxisd(0.4 + 0.7 * t * t, Vector3d::UnitY()).toRotationMatrix();
            pose.translation() =
                Vector3d(-1.5 + 3 * t, 0, -6 + 0.8 * std::sin(2.5 * t)) + plan.own_m * Vector3d(normal(), 0, normal());
            poses.push_back(pose);
        }
        const std::vector<Pose> before = beforeCamera();
        const RowPoses rows(before, {});
        for (std::size_t i = 0; i < points.size(); ++i) {
            Track track;
            track.id = TrackId(i + 1);
            track.name = "b" + std::to_string(i + 1);
            std::vector<Sample> samples;
            for (int f = 0; f < plan.frames; ++f)
                samples.push_back({.frame = 1001 + f,
                                   .at = (plan.readout == 0 ? seen(f, points[i]) : read(rows, plan, f, points[i])) +
                                         plan.noise_px * Vector2d(normal(), normal())});
            track.samples = List<Sample>(std::move(samples));
            ids.push_back(track.id);
            tracks.push_back(std::move(track));
        }
        for (CameraOnFrame& camera : cameras)
            camera.worldFromCamera.translation() += plan.unsure_m * Vector3d(normal(), normal(), normal());
    }
    Vector2d seen(int f, const Vector3d& point) const {
        const CameraOnFrame& camera = cameras[std::size_t(f)];
        const Vector3d at = camera.worldFromCamera.inverse() * (poses[std::size_t(f)] * point);
        return *plateFromPlane(camera.lens, {at.x() / -at.z(), -at.y() / -at.z()});
    }
    /// By the row that reads it.
    Vector2d read(const RowPoses& rows, const BoxPlan& plan, int f, const Vector3d& point) const {
        const Lens& lens = cameras[std::size_t(f)].lens;
        Vector2d at = seen(f, point);
        for (int round = 0; round < 8; ++round) {
            const Pose pose = rows.at(std::size_t(f), plan.readout * rowOf(at, false, lens.width, lens.height));
            const Vector3d own = pose.rotation * point + pose.translation;
            at = *plateFromPlane(lens, own.head<2>() / own.z());
        }
        return at;
    }
    /// The cart in the camera's axes, which look along z with y down.
    std::vector<Pose> beforeCamera() const {
        std::vector<Pose> result;
        const Eigen::Matrix3d turned = Vector3d(1, -1, -1).asDiagonal();
        for (std::size_t f = 0; f < poses.size(); ++f) {
            const Isometry3d own = cameras[f].worldFromCamera.inverse() * poses[f];
            result.push_back({Eigen::Quaterniond(turned * own.linear()), turned * own.translation()});
        }
        return result;
    }
    /// Of its own points as solved, against where the true ones are seen; RMS in pixels.
    double off(const ObjectSolve& object) const {
        double squares = 0;
        int count = 0;
        for (const ObjectPoint& point : object.points)
            for (int f = 0; f < int(cameras.size()); ++f) {
                const auto at = projected(object, cameras, 1001 + f, point.xyz);
                REQUIRE(at);
                squares += (*at - seen(f, points[std::size_t(point.track - 1)])).squaredNorm();
                ++count;
            }
        return std::sqrt(squares / count);
    }
    /// The size that was found over the true one, by the distances between the points.
    double sizeRatio(const ObjectSolve& object) const {
        double found = 0, real = 0;
        for (const ObjectPoint& a : object.points)
            for (const ObjectPoint& b : object.points) {
                found += (a.xyz - b.xyz).norm();
                real += (points[std::size_t(a.track - 1)] - points[std::size_t(b.track - 1)]).norm();
            }
        return found / real;
    }
};

}  // namespace pinion::test
