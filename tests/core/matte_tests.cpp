// Shapes: curved, in time, riding on tracks; what they cover and what they take out.

#include "exchange/formats.h"
#include "riders.h"
#include "base/files.h"
#include "matte/coverage.h"
#include "matte/riding.h"
#include "scratch.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/tracksstage.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <cmath>
#include <numbers>
#include <random>

using namespace pinion;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

/// Four curves that are a circle to 0.03 % of its radius (the usual 0.5523 tangents).
Matte::Key circle(int frame, const Vector2d& middle, double radius) {
    Matte::Key key{frame};
    const double t = 0.5522847498 * radius;
    key.polygon = {middle + Vector2d(radius, 0), middle + Vector2d(0, radius), middle - Vector2d(radius, 0),
                   middle - Vector2d(0, radius)};
    key.out = {{0, t}, {-t, 0}, {0, -t}, {t, 0}};
    key.in = {{0, -t}, {t, 0}, {0, t}, {-t, 0}};
    return key;
}

Matte square(double x0, double y0, double x1, double y1) {
    return {.name = "square", .keys = {{1001, {{x0, y0}, {x1, y0}, {x1, y1}, {x0, y1}}}}};
}

double sumOf(const ImageChannel& plane) {
    double sum = 0;
    for (const float value : plane.values) sum += double(value);
    return sum;
}

/// Tracks of points that a homography carries, frame by frame.
std::vector<Track> carriedTracks(const std::vector<Vector2d>& points, const std::function<Matrix3d(int)>& at) {
    std::vector<Track> tracks;
    for (std::size_t i = 0; i < points.size(); ++i) {
        Track track;
        track.id = TrackId(i + 1);
        track.name = "p" + std::to_string(i + 1);
        std::vector<Sample> samples;
        for (int frame = 1001; frame <= 1010; ++frame) {
            Sample sample;
            sample.frame = frame;
            sample.at = (at(frame) * points[i].homogeneous()).hnormalized();
            samples.push_back(sample);
        }
        track.samples = List<Sample>(samples);
        tracks.push_back(track);
    }
    return tracks;
}

Expected<std::vector<Matte>> carriedBy(const std::vector<Matte>& mattes, const std::vector<Track>& tracks,
                                       const FrameRange& range) {
    const Shot shot = test::shotOf(tracks, range);
    std::vector<Matte> tiedMattes = mattes;
    for (Matte& matte : tiedMattes)
        if (matte.ride) matte.ride = tied(shot, *matte.ride);
    return ridden(tiedMattes, carriersOf(shot), range);
}

}  // namespace

TEST_CASE("a sharp shape covers exactly its area, wherever it lies between the pixels") {
    std::mt19937 random(7);
    std::uniform_real_distribution<double> any(0, 1);
    for (int i = 0; i < 40; ++i) {
        const Vector2d middle(30 + 3 * any(random), 25 + 3 * any(random));
        const double radius = 5 + 15 * any(random);
        Matte disc{.name = "disc", .keys = {circle(1001, middle, radius)}};
        const ImageChannel plane = coverageOf(disc, 1001, 64, 52);
        CHECK(sumOf(plane) == Approx(std::numbers::pi * radius * radius).epsilon(0.004));
        // A square across pixels: every pixel's own share.
        const double x0 = 4 + any(random), y0 = 5 + any(random), x1 = 40 + any(random), y1 = 30 + any(random);
        const ImageChannel cut = coverageOf(square(x0, y0, x1, y1), 1001, 64, 52);
        double worst = 0;
        for (int y = 0; y < 52; ++y)
            for (int x = 0; x < 64; ++x) {
                const double across = std::clamp(std::min(x1, x + 1.0) - std::max(x0, double(x)), 0.0, 1.0);
                const double down = std::clamp(std::min(y1, y + 1.0) - std::max(y0, double(y)), 0.0, 1.0);
                worst = std::max(worst, std::abs(double(cut.row(y)[x]) - across * down));
            }
        CHECK(worst < 0.025);
    }
}

TEST_CASE("an edge fades over its feather, outwards or inwards, and grows by pixels") {
    Matte soft = square(20, 20, 60, 60);
    soft.feather_px = 8;
    const ImageChannel out = coverageOf(soft, 1001, 80, 80);
    CHECK(out.row(40)[21] == 1);
    CHECK(out.row(40)[15] == Approx(0.4).margin(0.06));  // 4.5 of 8 pixels outside
    CHECK(out.row(40)[11] < 0.02);
    soft.feather_px = -8;
    const ImageChannel in = coverageOf(soft, 1001, 80, 80);
    CHECK(in.row(40)[19] == 0);
    CHECK(in.row(40)[23] == Approx(0.4).margin(0.06));
    CHECK(in.row(40)[29] == 1);
    // Corners of an outward feather are round: by the distance, not by the box.
    soft.feather_px = 8;
    CHECK(coverageOf(soft, 1001, 80, 80).row(13)[13] == 0);
    Matte grown = square(20, 20, 60, 60);
    grown.grow_px = 5;
    const ImageChannel wide = coverageOf(grown, 1001, 80, 80);
    CHECK(wide.row(40)[15] == 1);
    CHECK(wide.row(40)[14] == 0);
    grown.grow_px = -5;
    CHECK(coverageOf(grown, 1001, 80, 80).row(40)[24] == 0);
    CHECK(coverageOf(grown, 1001, 80, 80).row(40)[25] == 1);
}

TEST_CASE("shapes are added, taken away, cut and turned round in their order, in pictures and in the analysis alike") {
    const auto with = [](Matte matte, Matte::Op op, bool invert = false) {
        matte.op = op;
        matte.invert = invert;
        return matte;
    };
    const Matte left = square(10, 10, 40, 40), right = square(30, 10, 60, 40), inner = square(34, 20, 36, 30);
    const std::vector<std::vector<Matte>> lists{
        {left, with(right, Matte::Op::add)},
        {left, with(right, Matte::Op::subtract)},
        {left, with(right, Matte::Op::intersect)},
        {left, with(right, Matte::Op::subtract), with(inner, Matte::Op::add)},
        {left, with(right, Matte::Op::intersect, true)},
        {with(left, Matte::Op::add, true), with(right, Matte::Op::subtract)},
    };
    for (std::size_t i = 0; i < lists.size(); ++i) {
        INFO("list " << i);
        const ImageChannel plane = coverageOf(lists[i], 1001, 70, 50);
        int differ = 0;
        for (int y = 0; y < 50; ++y)
            for (int x = 0; x < 70; ++x)
                differ += (plane.row(y)[x] > 0.5F) != isExcluded(lists[i], 1001, {x + 0.5, y + 0.5});
        CHECK(differ == 0);
    }
    CHECK(isExcluded(lists[3], 1001, {35, 25}));
    CHECK_FALSE(isExcluded(lists[3], 1001, {33, 25}));
    // Only what an inclusion covers is admitted, and an exclusion within it is not.
    Matte admitted = left;
    admitted.mode = Matte::Mode::include;
    const std::vector<Matte> both{admitted, square(12, 12, 20, 20)};
    CHECK_FALSE(isExcluded(both, 1001, {30, 30}));
    CHECK(isExcluded(both, 1001, {15, 15}));
    CHECK(isExcluded(both, 1001, {50, 30}));
}

TEST_CASE("between its keys a shape goes straight or smoothly, points and tangents, and stays beyond them") {
    Matte disc{.name = "disc",
               .keys = {circle(1001, {20, 20}, 5), circle(1005, {60, 20}, 10), circle(1009, {60, 80}, 5)}};
    const auto middle = [&](int frame) {
        const Polygon outline = outlineAt(disc, frame);
        Vector2d sum(0, 0);
        for (const Vector2d& p : outline) sum += p / double(outline.size());
        return sum;
    };
    CHECK((middle(1003) - Vector2d(40, 20)).norm() < 1e-9);
    CHECK((outlineAt(disc, 1003)[0] - middle(1003)).norm() == Approx(7.5));
    CHECK((middle(990) - Vector2d(20, 20)).norm() < 1e-9);
    CHECK((middle(2000) - Vector2d(60, 80)).norm() < 1e-9);
    disc.between = Matte::Between::smooth;
    for (const int frame : {1001, 1005, 1009}) {
        INFO(frame);
        CHECK((outlineAt(disc, frame)[0] - disc.keys[std::size_t(frame - 1001) / 4].polygon[0]).norm() < 1e-9);
    }
    // Smoothly: no jerk at the key in the middle, and off the straight way beside it.
    const Vector2d before = middle(1005) - middle(1004), after = middle(1006) - middle(1005);
    CHECK((after - before).norm() < 0.5 * Vector2d(10, 15).norm());
    CHECK(std::abs(middle(1004).y() - 20) > 0.5);
    // A key without tangents among curved ones has straight corners, and as many places.
    disc.keys[1].in.clear();
    disc.keys[1].out.clear();
    CHECK(outlineAt(disc, 1005).size() == outlineAt(disc, 1004).size());
}

TEST_CASE("a riding shape lies as drawn on its reference frame and is carried by its tracks on all others") {
    const auto moved = [](int frame) {
        Matrix3d m = Matrix3d::Identity();
        const double t = frame - 1004;
        const double angle = 0.02 * t, scale = 1 + 0.03 * t;
        m.topLeftCorner<2, 2>() = scale * Eigen::Rotation2Dd(angle).toRotationMatrix();
        m(0, 2) = 6 * t;
        m(1, 2) = -2 * t;
        return m;
    };
    const auto tilted = [&](int frame) {
        Matrix3d m = moved(frame);
        m(2, 0) = 2e-4 * (frame - 1004);
        m(2, 1) = -1e-4 * (frame - 1004);
        return m;
    };
    const std::vector<Vector2d> points{{100, 100}, {220, 90}, {230, 200}, {95, 210}, {160, 150}, {130, 190}};
    Matte disc{.name = "disc", .keys = {circle(1004, {150, 140}, 30)}};
    const auto check = [&](std::size_t count, const std::function<Matrix3d(int)>& motion, double tolerance) {
        Matte riding = disc;
        std::vector<std::string> names;
        for (std::size_t i = 0; i < count; ++i) names.push_back("p" + std::to_string(i + 1));
        riding.ride = test::rideByNames(names, 1004);
        const auto carried = carriedBy({riding}, carriedTracks(points, motion), {1001, 1010});
        INFO(count << " tracks: " << (carried ? std::string() : carried.error().message));
        REQUIRE(carried);
        const Matte& baked = carried->front();
        CHECK_FALSE(baked.ride);
        CHECK(baked.keys.size() == 10);
        const Polygon drawn = outlineAt(disc, 1004);
        double worst = 0;
        for (int frame = 1001; frame <= 1010; ++frame) {
            const Polygon outline = outlineAt(baked, frame);
            REQUIRE(outline.size() == drawn.size());
            for (std::size_t i = 0; i < drawn.size(); ++i)
                worst = std::max(worst, (outline[i] - (motion(frame) * drawn[i].homogeneous()).hnormalized()).norm());
        }
        CHECK(worst < tolerance);
        for (std::size_t i = 0; i < drawn.size(); ++i) CHECK((outlineAt(baked, 1004)[i] - drawn[i]).norm() < 1e-6);
    };
    check(
        1,
        [&](int frame) {
            // One track tells its place alone.
            Matrix3d shift = Matrix3d::Identity();
            shift.topRightCorner<2, 1>() = Vector2d(5, -3) * (frame - 1004);
            return shift;
        },
        1e-6);
    check(2, moved, 1e-4);
    check(3, moved, 1e-4);
    check(4, tilted, 1e-4);
    check(6, tilted, 1e-3);

    // What cannot be carried is said with its name.
    Matte lost = disc;
    lost.ride = test::rideByNames({"p1", "nobody"}, 1004);
    const auto refused = carriedBy({lost}, carriedTracks(points, moved), {1001, 1010});
    REQUIRE_FALSE(refused);
    CHECK_THAT(refused.error().message, Catch::Contains("disc") && Catch::Contains("nobody"));
    lost.ride = test::rideByNames({"p1"}, 1090);
    CHECK_FALSE(carriedBy({lost}, carriedTracks(points, moved), {1001, 1010}));
    // Keys of its own are what differs, in the pixels of the reference frame.
    Matte keyed = disc;
    keyed.keys.push_back(circle(1008, {170, 140}, 30));
    keyed.ride = test::rideByNames({"p1", "p2"}, 1004);
    const auto both = carriedBy({keyed}, carriedTracks(points, moved), {1001, 1010});
    REQUIRE(both);
    const Vector2d expected = (moved(1006) * outlineAt(keyed, 1006)[0].homogeneous()).hnormalized();
    CHECK((outlineAt(both->front(), 1006)[0] - expected).norm() < 1e-4);
}

TEST_CASE("a frame larger than the drawing library has room for is covered all the same") {
    const ImageChannel tall = coverageOf(square(1, 30000, 3, 33000), 1001, 4, 34000);
    CHECK(sumOf(tall) == Approx(2 * 3000).epsilon(0.001));
    const ImageChannel wide = coverageOf(square(100, 1, 33900, 3), 1001, 34000, 4);
    CHECK(sumOf(wide) == Approx(33800 * 2).epsilon(0.001));
    CHECK(wide.row(2)[33000] == 1);
    // Far outside it does what it does near by.
    CHECK(sumOf(coverageOf(square(-1e6, -1e6, 10, 1e6), 1001, 40, 20)) == Approx(200));
}

TEST_CASE("the shot's own mattes keep the scatter away where their tracks carry them") {
    const auto shifted = [](int frame) {
        Matrix3d shift = Matrix3d::Identity();
        shift(0, 2) = 10 * (frame - 1001);
        return shift;
    };
    Shot shot;
    shot.plate.range = {1001, 1010};
    shot.tracks = std::vector<Track>(carriedTracks({{100, 100}}, shifted));
    Matte riding = square(90, 90, 110, 110);
    riding.ride = tied(shot, test::rideByNames({"p1"}, 1001));
    shot.mattes = std::vector<Matte>{riding};
    const auto options = scatterOptionsOf(shot, 1001);
    CHECK(isExcluded(options.mattes, 1001, {100, 100}));
    CHECK(isExcluded(options.mattes, 1006, {150, 100}));
    CHECK_FALSE(isExcluded(options.mattes, 1006, {100, 100}));
    // Without its track it stays as it was drawn, and that is said.
    shot.tracks = {};
    CHECK(isExcluded(scatterOptionsOf(shot, 1001).mattes, 1006, {100, 100}));
    CHECK_THAT(mattesReport(shot).message, Catch::Contains("square") && Catch::Contains("a track that is gone"));
}

TEST_CASE("a shape that a perspective takes to its horizon is refused with the frame, not drawn inside out") {
    const auto tilted = [](int frame) {
        Matrix3d m = Matrix3d::Identity();
        m(2, 0) = -1e-3 * (frame - 1001);
        return m;
    };
    Matte wide = square(20, 20, 180, 180);
    wide.ride = test::rideByNames({"p1", "p2", "p3", "p4"}, 1001);
    const auto tracks = carriedTracks({{50, 50}, {90, 50}, {90, 90}, {50, 90}}, tilted);
    CHECK(carriedBy({wide}, tracks, {1001, 1006}));
    const auto refused = carriedBy({wide}, tracks, {1001, 1010});
    REQUIRE_FALSE(refused);
    CHECK_THAT(refused.error().message, Catch::Contains("horizon") && Catch::Contains("frame 1007"));
}

TEST_CASE("mattes with all they hold go through their file; what is wrong in one is named with its place") {
    const test::Scratch scratch;
    const auto read = [&](const std::string& shape) {
        REQUIRE(writeFile(scratch / "m.json", R"({"format":"pinion.mattes","version":1,"shapes":[)" + shape + "]}"));
        return readMattes(scratch / "m.json");
    };
    const std::string keys =
        R"("keys":[{"frame":1001,"polygon":[[0,0],[9,0],[9,9]],"in":[[-1,0],[0,1],[1,1]],"out":[[1,0],[0,-1],[2,2]]}])";
    const auto full = read(
        R"({"name":"a","mode":"include","op":"intersect","invert":true,"feather":3.5,"grow":-2,"between":"smooth",)" +
        keys + R"(,"ride":{"tracks":["p1","p2"],"reference_frame":1003}})");
    INFO((full ? std::string() : full.error().message));
    REQUIRE(full);
    const Matte& matte = full->front();
    CHECK(matte.op == Matte::Op::intersect);
    CHECK(matte.invert);
    CHECK(matte.feather_px == 3.5);
    CHECK(matte.grow_px == -2);
    CHECK(matte.between == Matte::Between::smooth);
    CHECK(matte.keys[0].out[2] == Vector2d(2, 2));
    REQUIRE(matte.ride);
    CHECK(matte.ride->names == std::vector<std::string>{"p1", "p2"});
    const auto refused = [&](const std::string& shape, const std::string& part) {
        const auto wrong = read(shape);
        REQUIRE_FALSE(wrong);
        INFO(wrong.error().message);
        CHECK(wrong.error().message.find(part) != std::string::npos);
    };
    refused(R"({"name":"a","op":"melt",)" + keys + "}", "shapes[0].op: is 'melt'; add, subtract or intersect");
    refused(R"({"name":"a","keys":[{"frame":1,"polygon":[[0,0],[9,0],[9,9]],"in":[[1,1]]}]})",
            "shapes[0].keys[0].in: has 1 tangents for 3 points");
    refused(R"({"name":"a",)" + keys + R"(,"ride":{"tracks":[],"reference_frame":1}})", "shapes[0].ride.tracks");
    refused(R"({"name":"a",)" + keys + R"(,"ride":{"tracks":["p1"]}})", "reference_frame");
    refused(R"({"name":"a","keys":[{"frame":1,"polygon":[[0,0],[9e7,0],[9,9]]}]})", "polygon[1]: lies farther than");
    refused(R"({"name":"a","feather":1e9,)" + keys + "}", "at most 1000 pixels");
}
