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

TEST_CASE("areas about tracks that were told apart hold them, frame by frame, and are not there before and after") {
    // Eight tracks on something that crosses and grows from 1008 to 1031, one far out on a boom; one is lost in
    // between.
    std::vector<Track> tracks;
    for (int i = 0; i < 8; ++i) {
        Track track;
        track.id = i + 1;
        std::vector<Sample> samples;
        for (int f = 1008; f <= (i == 3 ? 1015 : 1031); ++f) {
            const double grown = 1 + 0.02 * (f - 1008);
            samples.push_back({.frame = f,
                               .at = Vector2d(200 + 11 * (f - 1008), 300) +
                                     grown * Vector2d(i == 5 ? 150 : 40 * std::cos(0.8 * i), 30 * std::sin(0.8 * i))});
        }
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(std::move(track));
    }
    // One of them is no more, and a second thing is never seen three at a time.
    const std::vector<MovingTracks> movers{{{1, 2, 3, 4, 5, 6, 7, 8, 77}, {1008, 1031}}, {{78, 79}, {1001, 1004}}};
    const auto proposed = proposeFromTracks(movers, tracks, {1001, 1050}, 960, 540);
    REQUIRE(proposed.size() == 1);
    const Matte& matte = proposed[0].matte;
    CHECK(proposed[0].reason == "9 tracks move as one thing of their own");
    CHECK(proposed[0].frames.first == 1008);
    CHECK(proposed[0].frames.last == 1031);
    CHECK_FALSE(matte.ride);
    for (int f = 1008; f <= 1031; ++f) {
        const Polygon outline = outlineAt(matte, f);
        CHECK(isThere(matte, f));
        for (const Track& track : tracks)
            if (const Sample* sample = sampleAt(track, f)) {
                INFO("track " << track.id << " on " << f);
                CHECK(contains(outline, sample->at));
            }
        CHECK(areaOf(outline) < 960 * 540 * 0.1);
    }
    CHECK_FALSE(isThere(matte, 1007));
    CHECK_FALSE(isThere(matte, 1032));

    // Accepted, it takes those tracks out and no path comes in.
    Shot shot;
    shot.plate.width = 960;
    shot.plate.height = 540;
    shot.plate.range = {1001, 1050};
    Track still;
    still.id = 20;
    still.samples = std::vector<Sample>{{.frame = 1001, .at = {700, 100}}, {.frame = 1002, .at = {700, 100}}};
    tracks.push_back(still);
    shot.tracks = List<Track>(tracks);
    const Shot masked = withMoverAccepted(shot, proposed[0]);
    REQUIRE(masked.mattes.size() == 1);
    CHECK(masked.tracks.size() == 9);
    for (const Track& track : masked.tracks) CHECK(track.setAside == (track.id != 20));
}
