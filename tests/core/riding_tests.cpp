// What carries a shape: tracks, locators, the whole picture; what is kept of it, and what its file may say.

#include "base/files.h"
#include "exchange/deliverables.h"
#include "exchange/formats.h"
#include "jobs/delivering.h"
#include "jobs/solving.h"
#include "matte/coverage.h"
#include "matte/drawing.h"
#include "matte/sequence.h"
#include "scratch.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/mattesstage.h"
#include "steady/riding.h"
#include "steady/steady.h"

#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <cmath>
#include <opencv2/imgproc.hpp>
#include <random>

using namespace pinion;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

constexpr FrameRange kRange{1001, 1040};

Matrix3d shaken(int frame) {
    const double t = frame - kRange.first;
    return MotionParts{{2.0 * t + 3 * std::sin(0.8 * t), -t}, 0.004 * t, 1 + 0.002 * t}.about({640, 360});
}

/// Many short tracks on one thing, none of which lives through all of it.
List<Track> shortTracks(int count, int length) {
    std::mt19937 random(5);
    std::uniform_real_distribution<double> x(200, 1000), y(150, 600);
    std::vector<Track> tracks;
    for (int i = 0; i < count; ++i) {
        Track track;
        track.id = i + 1;
        track.name = fmt::format("s-{}", i + 1);
        const Vector2d place(x(random), y(random));
        const int starts = kRange.count() - length;
        // Some live up to the very end.
        const int first = kRange.first + std::min(starts, i * (starts + 2) / std::max(1, count - 1));
        std::vector<Sample> samples;
        for (int frame = first; frame < first + length; ++frame)
            samples.push_back({.frame = frame, .at = carried(shaken(frame), place)});
        track.samples = List<Sample>(samples);
        track.referenceFrame = first;
        tracks.push_back(track);
    }
    return tracks;
}

Matte discOn(int frame) {
    Matte matte;
    matte.name = "disc";
    matte.keys = {ellipseShape({550, 280}, {730, 430})};
    matte.keys[0].frame = frame;
    return matte;
}

/// The farthest that the ride takes the outline beside where the motion does.
double astray(const Matte& matte, const Carriers& carriers, int reference) {
    const auto motion = rideMotion(*matte.ride, carriers);
    INFO(motion->problem);
    REQUIRE(motion->problem.empty());
    const Polygon drawn = flattened(matte.keys.front());
    double most = 0;
    for (int frame = kRange.first; frame <= kRange.last; ++frame) {
        const Matrix3d moved = shaken(frame) * shaken(reference).inverse();
        const Polygon shown = flattened(*riddenShape(matte, frame, motion.get()));
        for (std::size_t i = 0; i < drawn.size(); ++i)
            most = std::max(most, (shown[i] - carried(moved, drawn[i])).norm());
    }
    return most;
}

}  // namespace

TEST_CASE("many short tracks carry a shape through all frames, though not one of them lives through half of them") {
    const Carriers carriers{shortTracks(120, 14), {}, kRange};
    Matte matte = discOn(1020);
    Matte::Ride ride;
    for (const Track& track : carriers.tracks) ride.tracks.push_back(track.name);
    ride.referenceFrame = 1020;
    matte.ride = ride;
    CHECK(astray(matte, carriers, 1020) < 0.05);
}

TEST_CASE("a shape rides on the whole picture, however few of its tracks move by themselves, and on a locator") {
    List<Track> tracks = shortTracks(90, 25);
    tracks = tracks.edited([](auto& all) {
        for (std::size_t i = 5; i < all.size(); i += 10)  // movers
            all[i].samples = all[i].samples.edited([](auto& samples) {
                for (Sample& sample : samples) sample.at.x() += 5.0 * (sample.frame - 1001);
            });
    });
    Matte matte = discOn(1015);
    matte.ride = Matte::Ride{{}, 1015, Matte::Ride::On::picture};
    CHECK(astray(matte, {tracks, {}, kRange}, 1015) < 0.1);

    List<Track> long2 = shortTracks(2, kRange.count());
    Locator locator{"hook", List<TrackId>(std::vector<TrackId>{1, 2}), 1001, MotionKind::similarity};
    matte.ride = Matte::Ride{{}, 1015, Matte::Ride::On::locator, "hook"};
    const Carriers hung{long2, List<Locator>(std::vector<Locator>{locator}), kRange};
    CHECK(astray(matte, hung, 1015) < 0.01);
    CHECK_THAT(rideMotion(*matte.ride, {long2, {}, kRange})->problem, Catch::Contains("no such locator"));
}

TEST_CASE("a ride is said in words, and the plane that carries it is found through a locator too") {
    using On = Matte::Ride::On;
    const auto words = [](On on, std::vector<std::string> tracks = {}) {
        Matte::Ride ride{std::move(tracks), 1001, on, "hook"};
        ride.plane = "board";
        return wordsOf(ride);
    };
    CHECK(words(On::picture) == "the whole picture");
    CHECK(words(On::locator) == "the locator hook");
    CHECK(words(On::plane) == "board");
    CHECK(words(On::tracks) == "nothing");
    CHECK(words(On::tracks, {"a"}) == "a");
    CHECK(words(On::tracks, {"a", "b"}) == "a and b");
    CHECK(words(On::tracks, {"a", "b", "c", "d"}) == "4 tracks");

    PlanarTrack board;
    board.name = "board";
    Locator hook{"hook", {}, 1001, MotionKind::similarity};
    hook.plane = "board";
    const Carriers carriers{{}, std::vector<Locator>{hook}, kRange, std::vector<PlanarTrack>{board}};
    Matte::Ride ride{{}, 1001, On::locator, "hook"};
    const PlanarTrack* found = planeCarrying(ride, carriers);
    REQUIRE(found);
    CHECK(found->name == "board");
    ride.locator = "gone";
    CHECK(planeCarrying(ride, carriers) == nullptr);
    ride = {{}, 1001, On::plane};
    ride.plane = "board";
    CHECK(planeCarrying(ride, carriers) == found);
    CHECK(planeCarrying(ride, {{}, {}, kRange}) == nullptr);
    CHECK(planeCarrying({std::vector<std::string>{"s-1"}, 1001}, carriers) == nullptr);
}

TEST_CASE("a ride is worked out once for a version of the tracks; what takes long is not waited for") {
    const Carriers carriers{shortTracks(60, 25), {}, kRange};
    const Matte::Ride picture{{}, 1015, Matte::Ride::On::picture}, one{{"s-30"}, 1020};
    CHECK(quickRideMotion(picture, carriers) == nullptr);
    const auto made = rideMotion(picture, carriers);
    CHECK(rideMotion(picture, carriers) == made);
    CHECK(quickRideMotion(picture, carriers) == made);
    CHECK(quickRideMotion(one, carriers) != nullptr);
    // From another frame it is the same motion, told anew: nobody waits for it again.
    const Matte::Ride later{{}, 1032, Matte::Ride::On::picture};
    const auto again = quickRideMotion(later, carriers);
    REQUIRE(again != nullptr);
    CHECK(again->plateFromReference(1032).isIdentity(1e-9));
    CHECK((again->plateFromReference(1020) * again->plateFromReference(1015).inverse())
              .isApprox(made->plateFromReference(1020), 1e-6));
    // Another version, another range, another reference: another motion.
    Carriers edited = carriers;
    edited.tracks = carriers.tracks.edited([](auto&) {});
    CHECK(quickRideMotion(picture, edited) == nullptr);
    Carriers shorter = carriers;
    shorter.range = {1005, 1030};
    CHECK(rideMotion(one, shorter) != rideMotion(one, carriers));
}

TEST_CASE("four tracks squared up: what lies between them is an upright rectangle on every frame") {
    const Vector2d corners[] = {{500, 250}, {760, 280}, {740, 470}, {520, 440}};
    const auto tilted = [](int frame) {
        Matrix3d m = shaken(frame);
        m(2, 0) = 1e-5 * (frame - kRange.first);
        return m;
    };
    std::vector<Track> tracks;
    for (const Vector2d& corner : corners) {
        Track track;
        track.id = TrackId(tracks.size() + 1);
        std::vector<Sample> samples;
        for (int frame = kRange.first; frame <= kRange.last; ++frame)
            samples.push_back({.frame = frame, .at = carried(tilted(frame), corner)});
        track.samples = List<Sample>(samples);
        tracks.push_back(track);
    }
    const auto motion = motionOf(tracks, kRange.first, kRange, MotionKind::cornerPin);
    REQUIRE(motion);
    const auto maps = squaredUp(*motion, 1280, 720);
    REQUIRE(maps.size() == std::size_t(kRange.count()));
    for (const FrameMap& map : maps) {
        const Matrix3d outputFromSource = map.sourceFromOutput.inverse();
        Vector2d seen[4];
        for (std::size_t i = 0; i < 4; ++i) seen[i] = carried(outputFromSource, carried(tilted(map.frame), corners[i]));
        CHECK(std::abs(seen[0].x() - seen[3].x()) < 1e-3);
        CHECK(std::abs(seen[0].y() - seen[1].y()) < 1e-3);
        CHECK(std::abs(seen[2].x() - seen[1].x()) < 1e-3);
        CHECK(std::abs(seen[2].y() - seen[3].y()) < 1e-3);
        CHECK((seen[0] + seen[2]).isApprox(Vector2d(1280, 720), 1e-4));
        // As large as it is on the reference frame.
        CHECK((seen[1] - seen[0]).norm() ==
              Approx(0.5 * ((corners[1] - corners[0]).norm() + (corners[2] - corners[3]).norm())).epsilon(0.001));
    }
}

TEST_CASE("soft edges follow the distance from the outline as a reference library measures it") {
    // cv::distanceTransform (Felzenszwalb and Huttenlocher 2004, exact) on the shape drawn sixteen times as large.
    constexpr int kWide = 150, kHigh = 110, kTimes = 16;
    std::mt19937 random(21);
    std::uniform_real_distribution<double> radius(25, 45);
    for (int round = 0; round < 3; ++round) {
        Matte matte;
        Matte::Key key{1001, {}};
        for (int i = 0; i < 9; ++i) {
            const double angle = 2 * M_PI * i / 9, reach = radius(random);
            key.polygon.emplace_back(75 + reach * std::cos(angle), 55 + reach * std::sin(angle));
        }
        matte.keys = {key};
        cv::Mat mask(kHigh * kTimes, kWide * kTimes, CV_8U, cv::Scalar(255));
        std::vector<cv::Point> corners;
        for (const Vector2d& p : key.polygon)
            corners.emplace_back(int(std::lround(p.x() * kTimes)), int(std::lround(p.y() * kTimes)));
        cv::fillPoly(mask, std::vector{corners}, cv::Scalar(0));
        cv::Mat distance;
        cv::distanceTransform(mask, distance, cv::DIST_L2, cv::DIST_MASK_PRECISE);
        matte.feather_px = 12;
        const Plane plane = coverageOf(matte, 1001, kWide, kHigh);
        double worst = 0;
        for (int y = 2; y < kHigh - 2; ++y)
            for (int x = 2; x < kWide - 2; ++x) {
                const double away =
                    double(distance.at<float>(y * kTimes + kTimes / 2, x * kTimes + kTimes / 2)) / kTimes;
                if (away <= 0) continue;
                const double share = std::clamp(1 - away / 12, 0.0, 1.0);
                const double expected = 0.5 - 0.5 * std::cos(M_PI * share);
                worst = std::max(worst, std::abs(double(plane.row(y)[x]) - expected));
            }
        CHECK(worst < 0.02);
    }
}

TEST_CASE("what is set aside on some frames alone is not there for the solve") {
    Shot shot;
    shot.plate.width = 1280;
    shot.plate.height = 720;
    shot.plate.range = shot.plate.frames = kRange;
    shot.tracks = shortTracks(30, kRange.count());
    shot.tracks = shot.tracks.edited([](auto& tracks) {
        for (Track& track : tracks)
            track.samples = track.samples.edited([](auto& samples) {
                for (Sample& sample : samples) sample.aside = sample.frame > 1010;
            });
    });
    // Of the rest of the shot it knows nothing any more.
    const auto solved = runSolve(shot);
    if (solved)
        for (const SolvedFrame& frame : solved->frames) CHECK(frame.frame <= 1010);
    else CHECK_FALSE(solved.error().message.empty());
}

TEST_CASE("what is wrong in a shape's file is named: feathers, turns, colours, rides; and what is right is kept") {
    const auto read = [](const std::string& shape) {
        return mattesFromJson(R"({"format":"pinion.mattes","version":1,"shapes":[)" + shape + "]}", "text");
    };
    const std::string keys = R"("keys":[{"frame":1001,"polygon":[[0,0],[9,0],[9,9]]}])";
    const auto full = read(
        R"({"name":"a","colour":"#7fb7be","opacity":0.5,"hidden":true,"locked":true,
"there":[{"frame":1003,"there":false}],
"keys":[{"frame":1001,"polygon":[[0,0],[9,0],[9,9]],"feather":[0,2,4]}],"ride":{"picture":true,
"reference_frame":1003}})");
    INFO((full ? std::string() : full.error().message));
    REQUIRE(full);
    const Matte& matte = full->front();
    CHECK(matte.colour == 0x7FB7BE);
    CHECK(matte.opacity == 0.5);
    CHECK((matte.hidden && matte.locked));
    CHECK_FALSE(isThere(matte, 1003));
    CHECK(matte.keys[0].feather == std::vector<double>{0, 2, 4});
    CHECK(matte.ride->on == Matte::Ride::On::picture);
    CHECK(mattesJson(*full) == mattesJson(*mattesFromJson(mattesJson(*full), "again")));
    const auto refused = [&](const std::string& shape, const std::string& part) {
        const auto wrong = read(shape);
        REQUIRE_FALSE(wrong);
        INFO(wrong.error().message);
        CHECK(wrong.error().message.find(part) != std::string::npos);
    };
    refused(R"({"name":"a","keys":[{"frame":1,"polygon":[[0,0],[9,0],[9,9]],"feather":[1]}]})",
            "feather: has 1 values for 3 points");
    refused(R"({"name":"a","keys":[{"frame":1,"polygon":[[0,0],[9,0],[9,9]],"feather":[1,2,1e9]}]})", "at most 1000");
    refused(R"({"name":"a","there":[{"frame":3,"there":true},{"frame":3,"there":false}],)" + keys + "}",
            "there[1].frame: frames have to rise");
    refused(R"({"name":"a","colour":"brass",)" + keys + "}", "six digits after a #");
    refused(R"({"name":"a","keys":[{"frame":1,"polygon":[[0,0],[9,0]]}]})", "fewer than three corners");
    refused(R"({"name":"a","keys":[]})", "the list is empty");
    std::string many = R"({"name":"a","keys":[{"frame":1,"polygon":[)";
    for (int i = 0; i < 20001; ++i) many += std::string(i ? "," : "") + "[" + std::to_string(i % 100) + ",1]";
    refused(many + "]}]}", "has 20001 points; 20000 at most");
}

TEST_CASE("mattes are delivered in each format, read back, and stale when a shape or what carries it changes") {
    const test::Scratch scratch;
    Shot shot;
    shot.name = "quay";
    shot.plate.path = "made";
    shot.plate.width = 160;
    shot.plate.height = 90;
    shot.plate.range = shot.plate.frames = {1001, 1003};
    shot.tracks = shortTracks(3, 40);
    Matte matte;
    matte.keys = {ellipseShape({20, 20}, {100, 70})};
    matte.keys[0].frame = 1001;
    matte.feather_px = 5;
    shot = withMatteAdded(shot, matte);
    const auto item = [](DeliverableFormat format, const char* place) {
        Deliverable made;
        made.name = place;
        made.kind = DeliverableKind::mattes;
        made.format = format;
        made.place = place;
        return made;
    };
    const std::vector<Deliverable> items{
        item(DeliverableFormat::exr, "m/e.####.exr"), item(DeliverableFormat::png, "m/p.####.png"),
        item(DeliverableFormat::tiff, "m/t.####.tif"), item(DeliverableFormat::json, "s.json"),
        item(DeliverableFormat::svg, "s.####.svg")};
    const Plane wanted = coverageOf(shot.mattes[0], 1002, 160, 90);
    for (const Deliverable& one : items) {
        INFO(one.name);
        const auto report = deliver(shot, one, scratch / "out");
        INFO((report ? std::string() : report.error().message));
        REQUIRE(report);
        const bool isShapes = one.format == DeliverableFormat::json || one.format == DeliverableFormat::svg;
        CHECK(report->files.size() == (isShapes ? 1 : 3));
        for (const auto& file : report->files) CHECK(std::filesystem::exists(file));
        if (isShapes) continue;
        const auto read = matteSequence(scratch / "out" / one.place)->at(1002);
        REQUIRE(read);
        double worst = 0;
        for (std::size_t i = 0; i < wanted.values.size(); ++i)
            worst = std::max(worst, double(std::abs(read->values[i] - wanted.values[i])));
        CHECK(worst < 1e-3);
        const auto key = deliveryKey(shot, one);
        CHECK(deliveryKey(withTrackRenamed(shot, 1, "x"), one) == key);
        CHECK(deliveryKey(withMatteThere(shot, 0, 1002, false), one) != key);
    }
    const Shot riding = withMatteRide(shot, 0, 1001, Matte::Ride{{"s-1"}, 1001});
    CHECK(deliveryKey(withTrackMoved(riding, 1, 1002, {5, 5}), items[0]) != deliveryKey(riding, items[0]));
    // Rides are taken in for whoever has no tracks.
    REQUIRE(deliver(riding, items[3], scratch / "out"));
    const auto shapes = readMattes(scratch / "out" / "s.json");
    REQUIRE(shapes);
    CHECK_FALSE(shapes->front().ride);
    CHECK(shapes->front().keys.size() == 3);
    // None, and a ride that leads nowhere, are said.
    Shot none = shot;
    none.mattes = {};
    CHECK_THAT(deliver(none, items[0], scratch / "out").error().message, Catch::Contains("no shapes to deliver"));
    const Shot gone = withTracksRemoved(riding, {1});
    CHECK_THAT(deliver(gone, items[0], scratch / "out").error().message, Catch::Contains("s-1"));
    CHECK_FALSE(deliverableText(shot, items[0]));
    CHECK(deliverableText(shot, items[3]));
}
