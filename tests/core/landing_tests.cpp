// The main job on the landing plate as shipped, against the renderer's truth.

#include "camera/solve.h"
#include "track/tracking.h"
#include "truth.h"

#include <catch2/catch.hpp>

using namespace pinion;

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
