// Shapes under the hand: edits and their keyframes, rides joined and parted, drawing, and what tracks do at them.

#include "exchange/formats.h"
#include "exchange/svg.h"
#include "base/files.h"
#include "made.h"
#include "matte/coverage.h"
#include "matte/drawing.h"
#include "matte/sequence.h"
#include "jobs/solving.h"
#include "jobs/tracking.h"
#include "plate/framewriter.h"
#include "scratch.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/tracksstage.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <map>
#include <numbers>
#include <random>

using namespace pinion;
using namespace pinion::test;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

constexpr int kFirst = 1001, kLast = 1040;

/// Turns, grows and goes.
Matrix3d swung(int frame) {
    const double t = frame - 1010;
    return MotionParts{{4.0 * t, -1.5 * t}, 0.01 * t, 1 + 0.006 * t}.about({300, 200});
}

Track trackOf(const std::string& name, TrackId id, const Vector2d& place, int first = kFirst, int last = kLast) {
    Track track;
    track.id = id;
    track.name = name;
    track.byHand = true;
    std::vector<Sample> samples;
    for (int frame = first; frame <= last; ++frame)
        samples.push_back({.frame = frame, .at = carried(swung(frame), place)});
    track.samples = List<Sample>(std::move(samples));
    track.referenceFrame = first;
    return track;
}

/// A shot whose four tracks lie on one thing that swings, with a shape drawn on 1010.
Shot shotWithShape() {
    Shot shot;
    shot.name = "made";
    shot.plate.path = "made";
    shot.plate.width = 640;
    shot.plate.height = 480;
    shot.plate.frames = shot.plate.range = {kFirst, kLast};
    shot.tracks = std::vector<Track>{trackOf("a", 1, {260, 160}), trackOf("b", 2, {340, 170}),
                                     trackOf("c", 3, {345, 240}), trackOf("d", 4, {255, 235})};
    shot.nextTrack = 5;
    Matte matte;
    matte.keys = {ellipseShape({250, 150}, {350, 250})};
    matte.keys.front().frame = 1010;
    return withMatteAdded(shot, matte);
}

Polygon shownOn(const Shot& shot, int frame, std::size_t matte = 0) {
    const Matte& one = shot.mattes[matte];
    const auto carrier = one.ride ? carrierOf(shot, *one.ride) : nullptr;
    return flattened(*riddenShape(one, frame, carrier.get()));
}

double apart(const Polygon& one, const Polygon& other) {
    REQUIRE(one.size() == other.size());
    double most = 0;
    for (std::size_t i = 0; i < one.size(); ++i) most = std::max(most, (one[i] - other[i]).norm());
    return most;
}

/// The tracks of that shot by their letters, "a" the first.
Ride on(const std::vector<std::string>& tracks) {
    std::vector<TrackId> ids;
    for (const std::string& name : tracks) ids.push_back(name == "gap" ? 9 : name[0] - 'a' + 1);
    return rideOnTracks(ids);
}

}  // namespace

TEST_CASE("joined, parted and joined to something else a shape never moves on the frame shown nor on its keyframes") {
    const std::vector<std::optional<Ride>> rides{on({"a"}), on({"a", "c"}), on({"a", "b", "c", "d"}), std::nullopt,
                                                 on({"b"})};
    for (const int shown : {1001, 1010, 1027, 1040}) {
        Shot shot = shotWithShape();
        // A second keyframe, that differs.
        Matte::Key other = *shapeAt(shot.mattes[0], 1030);
        for (Vector2d& p : other.polygon) p += Vector2d(40, -20);
        shot = withMatteShape(shot, 0, 1030, other);
        for (const auto& ride : rides) {
            const Polygon here = shownOn(shot, shown), first = shownOn(shot, 1010), second = shownOn(shot, 1030);
            shot = withMatteRide(shot, 0, shown, ride);
            INFO("shown " << shown << ", on " << (ride ? ride->ids.size() : 0));
            CHECK(apart(shownOn(shot, shown), here) < 0.02);
            CHECK(apart(shownOn(shot, 1010), first) < 0.02);
            CHECK(apart(shownOn(shot, 1030), second) < 0.02);
        }
    }
}

TEST_CASE("a shape joined where it was drawn lies on what it covers on every frame, with the one keyframe it has") {
    for (const auto& names : {std::vector<std::string>{"a", "c"}, {"a", "b", "c", "d"}}) {
        const Shot shot = withMatteRide(shotWithShape(), 0, 1010, on(names));
        CHECK(shot.mattes[0].keys.size() == 1);
        const Polygon drawn = shownOn(shotWithShape(), 1010);
        for (int frame = kFirst; frame <= kLast; frame += 3) {
            const Polygon there = shownOn(shot, frame);
            double most = 0;
            for (std::size_t i = 0; i < drawn.size(); ++i)
                most = std::max(most, (there[i] - carried(swung(frame), drawn[i])).norm());
            CHECK(most < 0.3);  // a curve under perspective is carried by its control points
        }
    }
}

TEST_CASE("edited on a frame a riding shape gets a keyframe there, which holds only what differs") {
    Shot shot = withMatteRide(shotWithShape(), 0, 1010, on({"a", "c"}));
    Matte::Key wanted{0, {}};
    {
        const auto carrier = carrierOf(shot, *shot.mattes[0].ride);
        wanted = *riddenShape(shot.mattes[0], 1034, carrier.get());
    }
    // Unchanged, it is the same key in the pixels of the reference frame.
    const Shot same = withMatteShape(shot, 0, 1034, wanted);
    REQUIRE(same.mattes[0].keys.size() == 2);
    CHECK(apart(same.mattes[0].keys[0].polygon, same.mattes[0].keys[1].polygon) < 1e-6);
    for (Vector2d& p : wanted.polygon) p += Vector2d(7, 3);
    const Shot moved = withMatteShape(shot, 0, 1034, wanted);
    CHECK(apart(shownOn(moved, 1034), flattened(wanted)) < 1e-6);
    CHECK(apart(shownOn(moved, 1010), shownOn(shot, 1010)) < 1e-9);
}

TEST_CASE("a ride on what is gone or has a gap stays where it was on the nearest frame, and says so") {
    Shot shot = shotWithShape();
    Track gappy = trackOf("gap", 9, {300, 200});
    gappy.samples = gappy.samples.edited([](auto& samples) {
        std::erase_if(samples, [](const Sample& s) { return s.frame > 1018 && s.frame < 1026; });
    });
    shot.tracks = shot.tracks.edited([&](auto& tracks) { tracks.push_back(gappy); });
    shot = withMatteRide(shot, 0, 1010, on({"gap"}));
    CHECK(apart(shownOn(shot, 1020), shownOn(shot, 1018)) < 1e-9);
    CHECK(apart(shownOn(shot, 1024), shownOn(shot, 1026)) < 1e-9);
    CHECK_THAT(mattesReport(shot).message, Catch::Contains("1019-1025") && Catch::Contains("nearest frame"));
    // Where it does not count nobody misses it.
    const Shot off = withMatteThere(withMatteThere(shot, 0, 1019, false), 0, 1026, true);
    CHECK(mattesReport(off).message.empty());
    const Shot gone = withTracksRemoved(shot, {9});
    CHECK(apart(shownOn(gone, 1034), shownOn(gone, 1010)) < 1e-9);
    CHECK_THAT(mattesReport(gone).message, Catch::Contains("rides on a track that is gone"));
    // Renamed it is the same track.
    const Shot renamed = withTrackRenamed(shot, 9, "wheel");
    CHECK(wordsOf(renamed, *renamed.mattes[0].ride) == "wheel");
    CHECK(apart(shownOn(renamed, 1034), shownOn(shot, 1034)) < 1e-9);
    // A scatter keeps it.
    Track scattered = trackOf("s-001", 0, {10, 10});
    scattered.byHand = false;
    Shot again = shot;
    again.tracks = again.tracks.edited([](auto& tracks) {
        for (Track& track : tracks) track.byHand = false;
    });
    const Shot after = withScattered(again, {scattered});
    CHECK(after.tracks.size() == 2);
    CHECK(after.tracks[0].name == "gap");
}

TEST_CASE("points are put in and taken out on all keyframes at once, without moving an outline") {
    Shot shot = shotWithShape();
    Matte::Key other = *shapeAt(shot.mattes[0], 1030);
    for (Vector2d& p : other.polygon) p = Vector2d(300, 200) + 1.4 * (p - Vector2d(300, 200));
    shot = withMatteShape(shot, 0, 1030, other);
    const Shot more = withMattePointAdded(shot, 0, 1, 0.3);
    for (const int frame : {1010, 1020, 1030}) {
        const ImageChannel before = coverageOf(shot.mattes[0], frame, 640, 480),
                           after = coverageOf(more.mattes[0], frame, 640, 480);
        double most = 0;
        for (std::size_t i = 0; i < before.values.size(); ++i)
            most = std::max(most, double(std::abs(before.values[i] - after.values[i])));
        CHECK(most < 0.06);  // both are flattened, into other pieces
        CHECK(more.mattes[0].keys.front().polygon.size() == 5);
    }
    CHECK(withMattePointsRemoved(more, 0, {2}).mattes[0].keys[1].polygon.size() == 4);
    // Three stay.
    CHECK(withMattePointsRemoved(shot, 0, {0, 1}).mattes[0].keys[0].polygon.size() == 4);
    const Shot corners = withMattePointsSmooth(shot, 0, {0, 1, 2, 3}, false);
    CHECK(areaOf(flattened(corners.mattes[0].keys[0])) == Approx(5000));
    const Shot round = withMattePointsSmooth(corners, 0, {0, 1, 2, 3}, true);
    CHECK(areaOf(flattened(round.mattes[0].keys[0])) > 6500);
}

TEST_CASE("keyframes are moved, copied and removed, the last one stays; a shape counts from frame to frame") {
    Shot shot = shotWithShape();
    shot = withMatteKeyMoved(shot, 0, 1010, 1020, true);
    CHECK(shot.mattes[0].keys.size() == 2);
    shot = withMatteKeyMoved(shot, 0, 1020, 1004, false);
    CHECK(shot.mattes[0].keys[0].frame == 1004);
    shot = withMatteKeyMoved(shot, 0, 1004, 1010, false);
    CHECK(shot.mattes[0].keys.size() == 1);
    CHECK(withMatteKeyRemoved(shot, 0, 1010).mattes[0].keys.size() == 1);
    shot = withMatteThere(shot, 0, kFirst, false);
    shot = withMatteThere(shot, 0, 1008, true);
    shot = withMatteThere(shot, 0, 1016, false);
    for (const auto& [frame, there] :
         {std::pair{1001, false}, {1007, false}, {1008, true}, {1015, true}, {1016, false}}) {
        CHECK(isThere(shot.mattes[0], frame) == there);
        CHECK(isExcluded(shot.mattes.vector(), frame, {300, 200}) == there);
        CHECK((coverageOf(shot.mattes.vector(), frame, 640, 480).row(200)[300] > 0) == there);
    }
    // A turn to what is there already says nothing.
    CHECK(withMatteThere(shot, 0, 1012, true).mattes[0].turns.size() == 3);
    CHECK(withMatteThere(shot, 0, 1016, true).mattes[0].turns.size() == 2);
}

TEST_CASE("the order of shapes, their copies and names") {
    Shot shot = shotWithShape();
    Matte second;
    second.name = "door";
    second.keys = {rectangleShape({10, 10}, {60, 60})};
    shot = withMatteAdded(shot, second);
    CHECK(shot.mattes[0].name == "shape 1");
    CHECK(shot.mattes[0].colour != shot.mattes[1].colour);
    CHECK(withMatteMoved(shot, 0, 1).mattes[0].name == "door");
    const Shot twice = withMatteDuplicated(shot, 1);
    CHECK(twice.mattes[2].name == "door 2");
    CHECK(withMatteRenamed(twice, 2, "door").mattes[2].name == "door 2");
    CHECK(withMatteRemoved(twice, 0).mattes.size() == 2);
}

TEST_CASE("each point fades as widely as it says, and between points the feather changes along the edge") {
    Matte matte;
    matte.keys = {rectangleShape({40, 40}, {140, 100})};
    matte.keys[0].feather = {0, 20, 20, 0};  // left sharp, right soft
    const ImageChannel plane = coverageOf(matte, 0, 200, 140);
    const auto fadeAt = [&](int x) {  // pixels between a full and an empty one, down from the lower edge
        int partly = 0;
        for (int y = 95; y < 140; ++y) partly += plane.row(y)[x] > 0.01F && plane.row(y)[x] < 0.99F;
        return partly;
    };
    CHECK(fadeAt(42) <= 2);
    CHECK(fadeAt(90) == Approx(10).margin(2));
    CHECK(fadeAt(138) == Approx(19).margin(2));
    // By definition, at one place: the raised cosine of the distance over the feather there.
    const double feather = 20 * 50.5 / 100, away = 3.5;
    CHECK(double(plane.row(103)[90]) == Approx(0.5 + 0.5 * std::cos(std::numbers::pi * away / feather)).margin(0.02));
    // Half way between keyframes it is half as wide.
    matte.keys.push_back(matte.keys[0]);
    matte.keys[0].feather.clear();
    matte.keys[1].frame = 10;
    const ImageChannel half = coverageOf(matte, 5, 200, 140);
    CHECK(double(half.row(102)[138]) == Approx(0.5 + 0.5 * std::cos(std::numbers::pi * 2.5 / 9.85)).margin(0.03));
}

TEST_CASE("a freehand stroke becomes a smooth shape of few points that stays by the stroke, and keeps its corners") {
    std::mt19937 random(11);
    std::normal_distribution<double> shake(0, 0.3);
    for (int round = 0; round < 12; ++round) {
        const double a = 40 + 12 * round, b = 90 - 3 * round;
        std::vector<Vector2d> stroke;
        for (int i = 0; i < 260; ++i) {
            const double t = 2 * std::numbers::pi * i / 260;
            stroke.emplace_back(300 + a * std::cos(t) + 6 * std::cos(3 * t) + shake(random),
                                200 + b * std::sin(t) + shake(random));
        }
        const Matte::Key shape = smoothShape(stroke, 1.5);
        INFO("round " << round << ": " << shape.polygon.size() << " points");
        CHECK(shape.polygon.size() >= 3);
        CHECK(shape.polygon.size() <= 24);
        double most = 0;
        const Polygon outline = flattened(shape);
        for (const Vector2d& place : stroke) most = std::max(most, std::abs(depthIn(outline, place)));
        CHECK(most < 4);
        CHECK_FALSE(crossesItself(outline));
    }
    // A square by hand: four corners.
    std::vector<Vector2d> square;
    for (int side = 0; side < 4; ++side)
        for (int i = 0; i < 50; ++i) {
            const Vector2d corners[] = {{100, 100}, {200, 100}, {200, 200}, {100, 200}, {100, 100}};
            square.push_back(corners[side] + i / 50.0 * (corners[side + 1] - corners[side]));
        }
    const Matte::Key shape = smoothShape(square, 1.5);
    CHECK(areaOf(flattened(shape)) == Approx(10000).epsilon(0.02));
    CHECK(shape.polygon.size() <= 8);
    CHECK(smoothShape({{1, 1}, {1, 1}, {2, 2}}, 1).polygon.empty());
}

TEST_CASE("what is wrong with a shape is said: no area, outside, crossing itself, covering everything") {
    const auto reportOf = [](const Matte::Key& key) {
        Shot shot;
        shot.plate.width = 640;
        shot.plate.height = 480;
        shot.plate.range = shot.plate.frames = {kFirst, kLast};
        Matte matte;
        matte.keys = {key};
        return mattesReport(withMatteAdded(shot, matte));
    };
    CHECK_THAT(reportOf({1001, {{10, 10}, {50, 50}, {90, 90}}}).message, Catch::Contains("no area"));
    CHECK_THAT(reportOf(rectangleShape({700, 10}, {800, 90})).message, Catch::Contains("outside"));
    CHECK_THAT(reportOf({1001, {{10, 10}, {90, 90}, {90, 10}, {10, 60}}}).message, Catch::Contains("crosses itself"));
    CHECK_THAT(reportOf(rectangleShape({-10, -10}, {900, 900})).message, Catch::Contains("cover all"));
    CHECK(reportOf(rectangleShape({10, 10}, {90, 90})).message.empty());
    // Ten thousand points are many, but they are drawn.
    Matte::Key many{1001, {}};
    for (int i = 0; i < 10000; ++i)
        many.polygon.emplace_back(300 + 100 * std::cos(i * 6.283185 / 10000),
                                  200 + 100 * std::sin(i * 6.283185 / 10000));
    CHECK(reportOf(many).message.empty());
}

TEST_CASE("a track that runs into a matte ends there with that reason; one that was placed inside runs on") {
    // The texture goes to the right, three pixels a frame.
    const auto plate = std::make_shared<MadePlate>(20, [](int frame) { return moved(shift(3.0 * (frame - 1), 0)); });
    FrameCache frames(plate);
    Matte matte;
    matte.keys = {rectangleShape({90, 0}, {200, 160})};
    const std::vector<Matte> mattes{matte};
    const auto runs = trackPoints(frames, {placed(1, {60, 80}, MotionModel::translation)}, {1, 20}, Direction::both,
                                  Progress{}, {}, mattes);
    REQUIRE(runs);
    const Track& track = runs->tracks.front();
    CHECK(track.endReason == EndReason::excluded);
    CHECK(track.lastFrame() == 11);  // at 60 + 3 * 10 = 90 the matte begins
    CHECK(toString(track.endReason) == "ran into a matte");
    const auto inside = trackPoints(frames, {placed(1, {110, 80}, MotionModel::translation)}, {1, 20}, Direction::both,
                                    Progress{}, {}, mattes);
    REQUIRE(inside);
    CHECK(inside->tracks.front().lastFrame() > 15);
    ScatterOptions options;
    options.range = {1, 20};
    options.startFrame = 1;
    options.candidates.leastDistance_px = 8;
    options.mattes = mattes;
    const auto scattered = scatter(frames, options);
    REQUIRE(scattered);
    int ended = 0;
    for (const Track& one : scattered->tracks) {
        for (const Sample& sample : one.samples) CHECK(sample.at.x() < 90.01);
        ended += one.endReason == EndReason::excluded;
    }
    CHECK(ended > 5);
}

TEST_CASE(
    "tracks under a matte are set aside on those frames alone, whole where nothing is left; its carriers are not") {
    Shot shot = shotWithShape();
    shot.tracks = shot.tracks.edited([](auto& tracks) {
        Track still = tracks[0];
        still.id = 20;
        still.name = "still";
        still.samples = still.samples.edited([](auto& samples) {
            for (Sample& sample : samples) sample.at = {300, 200};
        });
        Track passes = still;
        passes.id = 21;
        passes.name = "passes";
        passes.samples = passes.samples.edited([](auto& samples) {
            for (Sample& sample : samples) sample.at = {202.5 + 5 * (sample.frame - 1001), 200};
        });
        Track far = still;
        far.id = 22;
        far.name = "far";
        far.samples = far.samples.edited([](auto& samples) {
            for (Sample& sample : samples) sample.at = {30, 30};
        });
        tracks.insert(tracks.end(), {still, passes, far});
    });
    const auto covered = tracksInMattes(shot);
    std::map<TrackId, std::size_t> frames;
    for (const CoveredTrack& one : covered) frames[one.track] = one.frames.size();
    CHECK(frames[20] == 40);
    CHECK(frames[21] == 20);  // 250 to 350
    CHECK_FALSE(frames.contains(22));
    const Shot after = withCoveredSetAside(shot);
    CHECK(findTrack(after, 20)->setAside);
    CHECK_FALSE(findTrack(after, 21)->setAside);
    CHECK(asideFrames(*findTrack(after, 21)) == 20);
    CHECK(tracksInMattes(after).empty());
    // Neither the solve nor the counts see them any more, and a solve made before is stale.
    CHECK(solveKey(after) != solveKey(shot));
    CHECK(tracksPerFrame(after)[15] < tracksPerFrame(shot)[15]);
    CHECK(asideFrames(*findTrack(withSetAside(after, {21}, false), 21)) == 0);
    // What carries the shape is meant to lie in it.
    const Shot riding = withMatteRide(shot, 0, 1010, on({"a", "b", "c", "d"}));
    for (const CoveredTrack& one : tracksInMattes(riding)) CHECK(one.track >= 20);
}

TEST_CASE("a matte made elsewhere comes in as pictures; frames without one cover nothing, another size is refused") {
    const Scratch scratch;
    Matte matte;
    matte.keys = {ellipseShape({10, 10}, {90, 60})};
    const auto writer = FrameWriter::create(scratch / "in.####.png", 120, 80, FrameRate{24, 1});
    REQUIRE(writer);
    for (const int frame : {1001, 1002, 1004}) REQUIRE((*writer)->write(frame, coverageOf(matte, frame, 120, 80)));
    const std::string pattern = (scratch / "in.####.png").string();
    const auto missing = checkMatteSequence(pattern, 120, 80);
    REQUIRE(missing);
    CHECK(*missing == std::vector<int>{1003});
    const auto wrong = checkMatteSequence(pattern, 1280, 720);
    REQUIRE_FALSE(wrong);
    CHECK_THAT(wrong.error().message, Catch::Contains("120x80") && Catch::Contains("1280x720"));
    Matte brought;
    brought.name = "brought";
    brought.pictures = matteSequence(pattern);
    const ImageChannel own = coverageOf(matte, 1002, 120, 80), read = coverageOf(brought, 1002, 120, 80);
    for (std::size_t i = 0; i < own.values.size(); ++i) CHECK(std::abs(own.values[i] - read.values[i]) < 1e-4F);
    CHECK(isExcluded(std::vector<Matte>{brought}, 1002, {50, 35}));
    CHECK_FALSE(isExcluded(std::vector<Matte>{brought}, 1002, {2, 2}));
    CHECK_FALSE(isExcluded(std::vector<Matte>{brought}, 1003, {50, 35}));
    // Through the file, and without its pictures: it covers nothing, and the file is still read.
    const auto back = mattesFromJson(mattesJson(std::vector<Matte>{brought}), "text");
    REQUIRE(back);
    CHECK(back->front().pictures->path() == pattern);
    Matte lost;
    lost.pictures = matteSequence(scratch / "nothing.####.png");
    CHECK(coverageOf(lost, 1002, 120, 80).row(35)[50] == 0);
}

TEST_CASE("shapes as SVG are closed paths of cubic curves, named, and what does not count is left out") {
    Matte disc;
    disc.name = "a <disc>";
    disc.colour = 0x7FB7BE;
    disc.feather_px = 4;
    disc.keys = {ellipseShape({10, 10}, {90, 60})};
    Matte square;
    square.name = "square";
    square.op = Matte::Op::subtract;
    square.keys = {rectangleShape({20, 20}, {30, 30})};
    square.turns = {{1010, false}};
    const std::string svg = mattesSvg(std::vector<Matte>{disc, square}, 1001, 120, 80);
    CHECK_THAT(svg, Catch::Contains("viewBox=\"0 0 120 80\"") && Catch::Contains("a &lt;disc>") &&
                        Catch::Contains("#7fb7be") && Catch::Contains("data-feather=\"4\""));
    CHECK_THAT(svg, Catch::Contains("M 90.0000 35.0000 C 90.0000 48.8071 72.0914 60.0000 50.0000 60.0000"));
    CHECK_THAT(svg, Catch::Contains("M 20.0000 20.0000 L 30.0000 20.0000 L 30.0000 30.0000 L 20.0000 30.0000 Z"));
    CHECK_THAT(mattesSvg(std::vector<Matte>{disc, square}, 1010, 120, 80), !Catch::Contains("square"));
}
