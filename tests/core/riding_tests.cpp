// What carries a shape: tracks, locators, the whole picture; what is kept of it, and what its file may say.

#include "base/files.h"
#include "matte/riding.h"
#include "riders.h"
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
double astray(const Matte& matte, const Shot& shot, int reference) {
    const auto carrier = carrierOf(shot, *matte.ride);
    INFO(carrier->problem());
    REQUIRE(carrier->problem().empty());
    const Polygon drawn = flattened(matte.keys.front());
    double most = 0;
    for (int frame = kRange.first; frame <= kRange.last; ++frame) {
        const Matrix3d moved = shaken(frame) * shaken(reference).inverse();
        const Polygon shown = flattened(*riddenShape(matte, frame, carrier.get()));
        for (std::size_t i = 0; i < drawn.size(); ++i)
            most = std::max(most, (shown[i] - carried(moved, drawn[i])).norm());
    }
    return most;
}

}  // namespace

TEST_CASE("many short tracks carry a shape through all frames, though not one of them lives through half of them") {
    const Shot shot = test::shotOf(shortTracks(120, 14), kRange);
    Matte matte = discOn(1020);
    std::vector<TrackId> all;
    for (const Track& track : shot.tracks) all.push_back(track.id);
    matte.ride = rideOnTracks(all, 1020);
    CHECK(astray(matte, shot, 1020) < 0.05);
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
    matte.ride = rideOnPicture(1015);
    CHECK(astray(matte, test::shotOf(tracks, kRange), 1015) < 0.1);

    const List<Track> long2 = shortTracks(2, kRange.count());
    Ride on = rideOnTracks({1, 2}, 1001);
    on.as = MotionKind::similarity;
    matte.ride = rideOnLocator(4, 1015);
    CHECK(astray(matte, test::shotOf(long2, kRange, {}, std::vector<Locator>{{4, "hook", on}}), 1015) < 0.01);
    CHECK_THAT(carrierOf(test::shotOf(long2, kRange), *matte.ride)->problem(),
               Catch::Contains("a locator that is gone"));
    // Of the two it takes what the locator is to hand on.
    on.as = MotionKind::position;
    CHECK(astray(matte, test::shotOf(long2, kRange, {}, std::vector<Locator>{{4, "hook", on}}), 1015) > 1);
    // A file may tie locators in a ring.
    const Shot ring =
        test::shotOf(long2, kRange, {}, std::vector<Locator>{{4, "a", rideOnLocator(5)}, {5, "b", rideOnLocator(4)}});
    CHECK_FALSE(carrierOf(ring, rideOnLocator(4))->problem().empty());
    CHECK(tracksCarrying(ring, rideOnLocator(4)).empty());
}

TEST_CASE("what rides on the picture from a frame that was trimmed off lies where it was drawn all the same") {
    Shot shot = test::shotOf(shortTracks(90, 25), kRange);
    Matte matte = discOn(1003);
    matte.ride = rideOnPicture(1003);
    shot.plate.range = {1012, kRange.last};
    const auto carrier = carrierOf(shot, *matte.ride);
    REQUIRE(carrier->problem().empty());
    for (const int frame : {1012, 1020, kRange.last}) {
        const Vector2d truth = carried(Matrix3d(shaken(frame) * shaken(1003).inverse()), Vector2d(640, 355));
        CHECK((carried(carrier->plateFromReference(frame), Vector2d(640, 355)) - truth).norm() < 0.1);
    }
}

TEST_CASE("a carrier lets go of what it was made from once its motion is known") {
    const auto held = std::make_shared<int>(3);
    const Carrier carrier({1, 2}, [held]() -> Expected<PlateMotion> {
        PlateMotion motion;
        motion.frames = {{1}, {2}};
        return motion;
    });
    CHECK_FALSE(carrier.isWorkedOut());
    CHECK(held.use_count() == 2);
    CHECK(carrier.missing().empty());
    CHECK(carrier.isWorkedOut());
    CHECK(held.use_count() == 1);
}

TEST_CASE("a ride is said in words and by the names of the moment, whatever it is on") {
    PlanarTrack board;
    board.id = 3;
    board.name = "board";
    const List<Track> tracks = shortTracks(4, 10);
    const Shot shot = test::shotOf(tracks, kRange, std::vector<PlanarTrack>{board},
                                   std::vector<Locator>{{2, "hook", rideOnPlane(3)}});
    const auto words = [&](const Ride& ride) { return wordsOf(shot, ride); };
    CHECK(words(rideOnPicture()) == "the whole picture");
    CHECK(words(rideOnLocator(2)) == "locator hook");
    CHECK(words(rideOnPlane(3)) == "board");
    CHECK(words(rideOnTracks({})) == "nothing");
    CHECK(words(rideOnTracks({1})) == "s-1");
    CHECK(words(rideOnTracks({1, 2})) == "s-1 and s-2");
    CHECK(words(rideOnTracks({1, 2, 3, 4})) == "4 tracks");
    CHECK(words(rideOnPlane(9)) == "a plane that is gone");
    CHECK(words(rideOnLocator(9)) == "a locator that is gone");
    CHECK(words(rideOnTracks({9})) == "a track that is gone");
    // What there is to choose from, and what carries behind it.
    std::vector<std::string> offered;
    for (const CarrierKind& kind : carrierKinds())
        if (kind.offered)
            for (const Ride& ride : kind.offered(shot)) offered.push_back(words(ride));
    CHECK(offered == std::vector<std::string>{"the whole picture", "board", "locator hook"});
    const Shot hung = test::shotOf(tracks, kRange, {}, std::vector<Locator>{{2, "hook", rideOnTracks({1, 3})}});
    CHECK(tracksCarrying(hung, rideOnLocator(2)) == std::vector<TrackId>{1, 3});
    CHECK(tracksCarrying(shot, rideOnLocator(2)).empty());
}

TEST_CASE("names in a file are tied to what the shot has, all of them or none") {
    const Shot shot = test::shotOf(shortTracks(3, 10), kRange);
    const Ride tiedRide = test::rideOnNamed(shot, {"s-3", "s-1"}, 1004);
    CHECK(tiedRide == rideOnTracks({3, 1}, 1004));
    CHECK(named(shot, tiedRide) == test::rideByNames({"s-3", "s-1"}, 1004));
    const Ride half = test::rideOnNamed(shot, {"s-3", "nobody"}, 1004);
    CHECK(half.ids.empty());
    CHECK(carrierOf(shot, half)->problem() == "rides on the track nobody, and there is no such track");
    Ride later{"balloon", {4}};
    CHECK(carrierOf(shot, later)->problem() == "rides on a balloon, which this version does not know");
}

TEST_CASE("a ride is worked out once for what it is made from; what takes long is not waited for") {
    Shot shot = test::shotOf(shortTracks(60, 25), kRange);
    const Ride picture = rideOnPicture(1015), one = rideOnTracks({30}, 1020);
    CHECK(quickCarrierOf(shot, picture) == nullptr);
    const auto made = carrierOf(shot, picture);
    CHECK(carrierOf(shot, picture) == made);
    CHECK(quickCarrierOf(shot, picture) == made);
    CHECK(quickCarrierOf(shot, one) != nullptr);
    // From another frame it is the same motion, told anew: nobody waits for it again.
    const auto again = quickCarrierOf(shot, rideOnPicture(1032));
    REQUIRE(again != nullptr);
    CHECK(again->plateFromReference(1032).isIdentity(1e-9));
    CHECK((again->plateFromReference(1020) * again->plateFromReference(1015).inverse())
              .isApprox(made->plateFromReference(1020), 1e-6));
    // What does not count makes no other motion; a moved sample and another range do.
    Shot renamed = shot;
    renamed.tracks = shot.tracks.edited([](auto& tracks) { tracks[0].name = "mast"; });
    CHECK(quickCarrierOf(renamed, picture) == made);
    CHECK(quickCarrierOf(withTrackMoved(shot, 4, shot.tracks[3].firstFrame(), {5, 5}), picture) == nullptr);
    CHECK(quickCarrierOf(withSetAside(shot, {4}, true), picture) == nullptr);
    Shot shorter = shot;
    shorter.plate.range = {1005, 1030};
    CHECK(carrierOf(shorter, one) != carrierOf(shot, one));
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
        const ImageChannel plane = coverageOf(matte, 1001, kWide, kHigh);
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
    CHECK(matte.ride->on == "picture");
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
    const ImageChannel wanted = coverageOf(shot.mattes[0], 1002, 160, 90);
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
    const Shot riding = withMatteRide(shot, 0, 1001, rideOnTracks({1}, 1001));
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
    CHECK_THAT(deliver(gone, items[0], scratch / "out").error().message,
               Catch::Contains("rides on a track that is gone"));
    CHECK_FALSE(deliverableText(shot, items[0]));
    CHECK(deliverableText(shot, items[3]));
}
