// The main job on plates as shipped, against the renderer's truth.

#include "base/files.h"
#include "camera/object.h"
#include "camera/solve.h"
#include "track/tracking.h"
#include "truth.h"

#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

using namespace pinion;

namespace {

const std::filesystem::path kPlates = std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates";

struct Scattered {
    bench::Truth truth;
    std::vector<Track> tracks;
    SolveOptions options;
    explicit Scattered(const std::string& name, int features = 400) {
        const auto plate = Plate::open(kPlates / (name + ".mp4"));
        REQUIRE(plate);
        truth = *bench::readTruth(kPlates / (name + ".truth.json"));
        FrameCache frames(*plate);
        ScatterOptions scattering;
        scattering.candidates.features = features;
        scattering.range = {(*plate)->facts().firstFrame, (*plate)->facts().lastFrame};
        scattering.startFrame = scattering.range.first;
        auto found = scatter(frames, scattering);
        REQUIRE(found);
        tracks = std::move(found->tracks);
        for (std::size_t i = 0; i < tracks.size(); ++i) tracks[i].id = TrackId(i + 1);
        options.width = 1280;
        options.height = 720;
    }
    /// From the solve's world to the truth's, by the cameras' places and axes: a walk is nearly a line.
    Eigen::Affine3d realFrom(const Solve& solve) const {
        std::vector<Eigen::Vector3d> found, real;
        for (const SolvedFrame& frame : solve.frames) {
            found.push_back(frame.worldFromCamera.translation());
            real.push_back(truth.cameras.at(frame.frame).translation());
        }
        const auto spreadOf = [](const std::vector<Eigen::Vector3d>& places) {
            return (places.back() - places.front()).norm();
        };
        const double own = spreadOf(found), truly = spreadOf(real);
        for (const SolvedFrame& frame : solve.frames)
            for (int axis = 0; axis < 3; ++axis) {
                found.emplace_back(frame.worldFromCamera.translation() +
                                   own * frame.worldFromCamera.linear().col(axis));
                const Eigen::Isometry3d& camera = truth.cameras.at(frame.frame);
                real.emplace_back(camera.translation() + truly * camera.linear().col(axis));
            }
        return bench::similarityBetween(found, real);
    }
    /// How far its places are off, RMS, as a share of the way from the first to the last.
    double offPath(const Solve& solve) const {
        const Eigen::Affine3d realFromFound = realFrom(solve);
        double squares = 0;
        for (const SolvedFrame& frame : solve.frames)
            squares +=
                (realFromFound * frame.worldFromCamera.translation() - truth.cameras.at(frame.frame).translation())
                    .squaredNorm();
        return std::sqrt(squares / double(solve.frames.size())) /
               (truth.cameras.rbegin()->second.translation() - truth.cameras.begin()->second.translation()).norm();
    }
    /// Where the truth's points are seen by the solved cameras of the middle row, against where they are by the true
    /// ones: RMS in pixels.
    double offPoints(const Solve& solve) const {
        const Eigen::Affine3d foundFromReal = realFrom(solve).inverse();
        Solve atOnce = solve;
        atOnce.readout = {};
        double squares = 0;
        int count = 0;
        for (const auto& point : truth.points)
            for (const auto& [frame, at] : point.visible)
                if (const auto seen = projected(atOnce, frame, foundFromReal * point.xyz)) {
                    squares += (*seen - at).squaredNorm();
                    ++count;
                }
        REQUIRE(count > 1000);
        return std::sqrt(squares / count);
    }
};

}  // namespace

TEST_CASE("a telephone carried along the quay: its readout, lens and path through the rolling shutter") {
    const Scattered shot("telephone");
    const auto solve = solveCamera(shot.tracks, shot.options);
    REQUIRE(solve);
    CHECK(solve->doubt == "");
    CHECK(solve->frames.size() == 75);
    CHECK(solve->readout.share == Approx(0.62).margin(0.03));
    CHECK(std::abs(solve->readout.share - 0.62) < 3 * solve->readoutDeviation);
    CHECK(solve->lens.focal_px == Approx(shot.truth.lens.focal_px).epsilon(0.005));
    CHECK(shot.offPoints(*solve) < 0.5);
}

TEST_CASE("the ferry comes in while the camera walks: the quay is the scene, and the ferry an object of its own") {
    const Scattered shot("ferry");
    const auto solve = solveCamera(shot.tracks, shot.options);
    REQUIRE(solve);
    CHECK(solve->frames.size() == 80);
    CHECK_FALSE(solve->readout.isRolling());
    CHECK(solve->lens.focal_px == Approx(shot.truth.lens.focal_px).epsilon(0.005));
    CHECK(shot.offPath(*solve) < 0.002);
    REQUIRE_FALSE(solve->movers.isEmpty());
    CHECK(solve->movers[0].tracks.size() > 20);

    // In metres, so that its way can be compared with where it truly went.
    const Eigen::Affine3d realFromFound = shot.realFrom(*solve);
    const double scale = std::cbrt(realFromFound.linear().determinant());
    std::vector<CameraOnFrame> cameras = camerasOf(*solve);
    for (CameraOnFrame& camera : cameras) {
        camera.worldFromCamera.translation() = realFromFound * camera.worldFromCamera.translation();
        camera.worldFromCamera.linear() = realFromFound.linear() / scale * camera.worldFromCamera.linear();
    }
    const auto object = solveObject(cameras, shot.tracks, {.tracks = solve->movers[0].tracks, .usualDistance = 15});
    REQUIRE(object);
    CHECK(object->rms_px < 0.5);
    // Turned as it truly turned.
    const auto document = nlohmann::json::parse(*readFile(kPlates / "ferry.truth.json"));
    const auto truly = [&](int frame) {
        const auto& matrix = document["frames"][std::size_t(frame - 1001)]["world_from_trolley"];
        Eigen::Isometry3d pose;
        for (int i = 0; i < 16; ++i) pose.matrix()(i / 4, i % 4) = matrix[std::size_t(i)].get<double>();
        return pose;
    };
    const ObjectFrame &first = object->frames.front(), &last = object->frames.back();
    REQUIRE(last.frame - first.frame > 50);
    const Eigen::Matrix3d own = last.worldFromObject.linear() * first.worldFromObject.linear().transpose(),
                          real = truly(last.frame).linear() * truly(first.frame).linear().transpose();
    CHECK(Eigen::AngleAxisd(own * real.transpose()).angle() < 0.01);
    // Its size: how many times as far off its middle would have to lie on the first frame for the true motion to take
    // it to where it is seen on the last.
    const Eigen::Vector3d eye = shot.truth.cameras.at(first.frame).translation(),
                          then = shot.truth.cameras.at(last.frame).translation();
    const Eigen::Vector3d away = first.worldFromObject.translation() - eye,
                          ahead = last.worldFromObject.translation() - then;
    const Eigen::Isometry3d went = truly(last.frame) * truly(first.frame).inverse();
    const Eigen::Vector3d slope = went.linear() * away - ahead, rest = went * eye - then;
    const double size = -slope.dot(rest) / slope.squaredNorm();
    WARN("the ferry's size by " << toString(object->scale) << ": " << 1 / size << " of the true one, ± "
                                << object->scaleDeviation);
    CHECK(std::abs(1 / size - 1) < 3 * object->scaleDeviation);
}

TEST_CASE("a camera that trucks beside a van, whose tracks outlive what stands: the quay is the scene") {
    const Scattered shot("van");
    const auto solve = solveCamera(shot.tracks, shot.options);
    REQUIRE(solve);
    CHECK(solve->frames.size() == 96);
    CHECK(solve->motion == CameraMotion::travelling);
    CHECK_FALSE(solve->zoom);
    CHECK(solve->lens.focal_px == Approx(shot.truth.lens.focal_px).epsilon(0.01));
    CHECK(shot.offPath(*solve) < 0.005);
    // The van fills as much of the picture: that is said, and it is the largest thing that moves.
    CHECK_THAT(solve->doubt, Catch::Contains("say which are the scene's"));
    REQUIRE_FALSE(solve->movers.isEmpty());
    CHECK(solve->movers[0].tracks.size() > 100);
}

TEST_CASE("the landing plate is tracked and solved within the design's targets") {
    const std::filesystem::path folder = std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates";
    const auto plate = Plate::open(folder / "landing.mp4");
    REQUIRE(plate);
    const auto truth = bench::readTruth(folder / "landing.truth.json");
    REQUIRE(truth);
    REQUIRE(truth->points.size() >= 100);
    FrameCache frames(*plate);

    std::vector<Track> byHand;
    for (const auto& point : truth->points) {
        if (point.chosenOn != 1001 || point.visible.size() < 60 || byHand.size() >= 40) continue;
        Track track;
        track.name = point.name;
        track.byHand = true;
        track.referenceFrame = 1001;
        track.samples = List<Sample>({{.frame = 1001, .at = point.visible.at(1001), .tie = true}});
        byHand.push_back(track);
    }
    const auto tracked = trackPoints(frames, byHand, {1001, 1120}, Direction::both);
    REQUIRE(tracked);
    std::vector<double> errors;
    std::size_t covered = 0;
    for (const Track& track : tracked->tracks)
        for (const auto& point : truth->points)
            if (point.name == track.name)
                for (const Sample& sample : track.samples) {
                    const auto at = point.visible.find(sample.frame);
                    if (at == point.visible.end()) ++covered;
                    else errors.push_back((sample.at - at->second).norm());
                }
    std::sort(errors.begin(), errors.end());
    REQUIRE(errors.size() > 2500);
    CHECK(errors[errors.size() / 2] < 0.1);
    CHECK(errors[errors.size() * 95 / 100] < 0.5);
    CHECK(covered <= errors.size() / 200);

    ScatterOptions options;
    options.candidates.features = 300;
    options.range = {1001, 1120};
    options.startFrame = 1001;
    auto scattered = scatter(frames, options);
    REQUIRE(scattered);
    for (std::size_t i = 0; i < scattered->tracks.size(); ++i) scattered->tracks[i].id = TrackId(i + 1);
    SolveOptions solveOptions;
    solveOptions.width = 1280;
    solveOptions.height = 720;
    const auto solve = solveCamera(scattered->tracks, solveOptions);
    REQUIRE(solve);
    CHECK(solve->frames.size() == 120);
    CHECK(solve->rms_px < 0.5);
    CHECK(solve->heldOutRms_px < 0.6);
    CHECK(std::abs(solve->lens.focal_px / truth->lens.focal_px - 1) < 0.005);
    std::vector<Eigen::Vector3d> found, real;
    double length = 0;
    for (const SolvedFrame& frame : solve->frames) {
        found.push_back(frame.worldFromCamera.translation());
        real.push_back(truth->cameras.at(frame.frame).translation());
        if (real.size() > 1) length += (real.back() - real[real.size() - 2]).norm();
    }
    const Eigen::Affine3d realFromFound = bench::similarityBetween(found, real);
    double squares = 0;
    for (std::size_t i = 0; i < found.size(); ++i) squares += (realFromFound * found[i] - real[i]).squaredNorm();
    CHECK(std::sqrt(squares / double(found.size())) < 0.005 * length);
}
