// Areas that move by themselves, found on plates whose cameras are known exactly.

#include "jobs/proposing.h"
#include "made.h"
#include "matte/matte.h"
#include "matte/riding.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/matteedits.h"
#include "steady/movers.h"
#include "truth.h"

#include <catch2/catch.hpp>
#include <fstream>
#include <nlohmann/json.hpp>

using namespace pinion;
using namespace pinion::test;
using Eigen::Vector2d;

namespace {

const std::filesystem::path kPlates = std::filesystem::path(PINION_SOURCE_DIR) / "demo/plates";

/// The truth as if it had been solved.
Solve solveOf(const bench::Truth& truth) {
    Solve solve;
    solve.lens = truth.lens;
    std::vector<SolvedFrame> frames;
    for (const auto& [frame, camera] : truth.cameras)
        frames.push_back({.frame = frame, .worldFromCamera = camera, .focal_px = truth.lens.focal_px});
    solve.frames = List<SolvedFrame>(frames);
    std::vector<SolvedTrack> tracks;
    for (const auto& point : truth.points) {
        SolvedTrack track;
        track.xyz = point.xyz;
        tracks.push_back(track);
    }
    solve.tracks = List<SolvedTrack>(tracks);
    return solve;
}

std::vector<MoverProposal> foundOn(const std::string& shot) {
    const auto plate = Plate::open(kPlates / (shot + ".mp4"));
    const auto truth = bench::readTruth(kPlates / (shot + ".truth.json"));
    REQUIRE(plate);
    REQUIRE(truth);
    FrameCache frames(*plate);
    const PlateFacts& facts = frames.facts();
    const auto found = proposeMovers(frames, solveOf(*truth), {.range = {facts.firstFrame, facts.lastFrame}});
    REQUIRE(found);
    return *found;
}

/// A locked camera before a texture, and a patch of another that goes across it.
std::vector<MoverProposal> foundOnMade(double speed, double grain) {
    const auto plate = std::make_shared<MadePlate>(24, [=](int frame) {
        Picture picture = moved(shift(0, 0), 1, 0, grain, unsigned(frame));
        const Picture other = moved(shift(41.3 + speed * frame, 17.7), 1, 0, grain, unsigned(100 + frame));
        const double left = 40 + speed * frame;
        for (int y = 50; y < 110; ++y)
            for (int x = std::max(0, int(left)); x < std::min(200, int(left) + 60); ++x)
                for (std::size_t c = 0; c < 3; ++c) {
                    const std::size_t at = (std::size_t(y) * 200 + std::size_t(x)) * 3 + c;
                    picture.floats[at] = 0.7F * other.floats[at];
                }
        return picture;
    });
    FrameCache frames(plate);
    Solve solve;
    solve.lens = pinholeLens(200, 160, 220);
    std::vector<SolvedFrame> placed;
    for (int frame = 1; frame <= 24; ++frame) placed.push_back({.frame = frame, .focal_px = 220});
    solve.frames = List<SolvedFrame>(placed);
    const auto found = proposeMovers(frames, solve, {.range = {1, 24}, .step = 2});
    REQUIRE(found);
    return *found;
}

}  // namespace

TEST_CASE("on landing the trolley is proposed, and nothing else; its outline covers the truth's") {
    const auto proposals = foundOn("landing");
    REQUIRE(proposals.size() == 1);
    const MoverProposal& trolley = proposals.front();
    CHECK_THAT(trolley.reason, Catch::Contains("px a frame against the scene"));
    const auto carrier = carrierOf(shotOf(trolley), *trolley.matte.ride);
    REQUIRE(carrier->problem().empty());
    // Against the hull of the trolley as it was rendered, over all frames: what both cover of what either does.
    nlohmann::json truth;
    std::ifstream(kPlates / "landing.truth.json") >> truth;
    std::size_t both = 0, either = 0;
    for (const auto& frame : truth["frames"]) {
        Polygon outline;
        for (const auto& p : frame["trolley"]) outline.emplace_back(p[0].get<double>(), p[1].get<double>());
        const int number = frame["frame"].get<int>();
        const Polygon shape =
            isThere(trolley.matte, number) ? flattened(*riddenShape(trolley.matte, number, carrier.get())) : Polygon{};
        for (int y = 4; y < 720; y += 8)
            for (int x = 4; x < 1280; x += 8) {
                const Vector2d place(x, y);
                const bool a = outline.size() > 2 && contains(outline, place), b = contains(shape, place);
                both += a && b;
                either += a || b;
            }
    }
    CHECK(double(both) / double(either) > 0.7);
    // Accepted it is a matte that rides on its path, which is out of the solve.
    Shot shot;
    shot.plate.width = 1280;
    shot.plate.height = 720;
    shot.plate.range = {1001, 1120};
    const Shot accepted = withMoverAccepted(withMoverAccepted(shot, trolley), trolley);
    REQUIRE(accepted.mattes.size() == 2);
    CHECK(accepted.tracks[0].setAside);
    // Twice is odd, but each rides on its own.
    CHECK(accepted.mattes[1].ride->ids.front() == accepted.tracks[1].id);
    CHECK(accepted.tracks[0].name != accepted.tracks[1].name);
}

TEST_CASE("where nothing moves by itself nothing is proposed: a camera that turns, one that shakes over water") {
    CHECK(foundOn("pan").empty());
    CHECK(foundOn("mooring").empty());
}

TEST_CASE(
    "a patch that crosses a locked-off picture is found from one pixel a frame on, through grain; without it nothing") {
    for (const double speed : {1.0, 2.0, 4.0})
        for (const double grain : {0.0, 3.0}) {
            INFO(speed << " px a frame, grain " << grain);
            const auto proposals = foundOnMade(speed, grain);
            REQUIRE(proposals.size() == 1);
            const MoverProposal& one = proposals.front();
            CHECK(one.frames.count() >= 18);
            const Sample *first = sampleAt(one.path, 6), *last = sampleAt(one.path, 16);
            REQUIRE(first);
            REQUIRE(last);
            CHECK((last->at - first->at).x() / 10 == Approx(speed).epsilon(0.12));
        }
    CHECK(foundOnMade(0, 3).empty());
}
