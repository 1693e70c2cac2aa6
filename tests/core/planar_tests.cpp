// Planes: their alignment on pictures moved by known homographies, their surfaces and ties, and what rides on them.
// Photographs are those of Debian's opencv-doc.

#include "base/files.h"
#include "camera/solve.h"
#include "exchange/corners.h"
#include "exchange/deliverables.h"
#include "jobs/planing.h"
#include "jobs/squaring.h"
#include "made.h"
#include "planar/alignment.h"
#include "planar/planartracking.h"
#include "planar/surface.h"
#include "planes/planecase.h"
#include "plate/framewriter.h"
#include "scratch.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/locatoredits.h"
#include "shot/edits/planeedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/planesstage.h"
#include "shot/stages/steadystage.h"
#include "steady/planemotion.h"
#include "matte/riding.h"

#include <catch2/catch.hpp>
#include <opencv2/calib3d.hpp>
#include <opencv2/imgproc.hpp>

using namespace pinion;
using Eigen::Matrix3d;
using Eigen::Vector2d;

namespace {

Quad quad(double x0, double y0, double x1, double y1) {
    return {Vector2d(x0, y0), Vector2d(x1, y0), Vector2d(x1, y1), Vector2d(x0, y1)};
}

/// A small version of a made-up case, quick enough for a test.
planes::PlaneCase smallCase() {
    planes::PlaneCase c;
    c.seed = 7;
    c.surface = "graf1.png";
    c.behind = "home.jpg";
    c.width = 320;
    c.height = 240;
    c.frames = 13;
    c.size_px = 130;
    c.travel = {22, 12};
    return c;
}

struct Tracked {
    PlanarTrack plane;
    double worst = 0, worstClear = 0;
    int frames = 0;
};

Tracked trackedCase(const planes::PlaneCase& c, PlanarTrack plane) {
    const auto plate = planes::plateOf(c);
    REQUIRE(plate);
    FrameCache frames(plate);
    const auto result = trackPlanes(frames, {plane}, plane.referenceFrame, {0, c.frames - 1}, Direction::both);
    INFO((result ? std::string() : result.error().message));
    REQUIRE(result);
    Tracked tracked{result->planes.front()};
    for (const PlaneSample& sample : tracked.plane.samples) {
        const double error = planes::apart(planes::trackedCorners(c, sample), planes::cornersAt(c, sample.frame));
        tracked.worst = std::max(tracked.worst, error);
        if (planes::visibleAt(c, sample.frame) > 0.97) tracked.worstClear = std::max(tracked.worstClear, error);
        ++tracked.frames;
    }
    return tracked;
}

Tracked trackedCase(const planes::PlaneCase& c) { return trackedCase(c, planes::planeOf(c)); }

/// A plane that moves evenly to the right and grows, tracked without an error: what surfaces and ties are tested on.
PlanarTrack movingPlane() {
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "board";
    plane.outlines = List<Polygon>({{{40, 30}, {140, 30}, {140, 110}, {40, 110}}});
    plane.referenceFrame = 10;
    std::vector<PlaneSample> samples;
    for (int frame = 0; frame <= 40; ++frame) {
        PlaneSample sample{.frame = frame};
        sample.pose.matrix = test::shift(1.5 * (frame - 10), -0.5 * (frame - 10));
        sample.pose.matrix(2, 0) = 1e-4 * (frame - 10);
        samples.push_back(sample);
    }
    plane.samples = List<PlaneSample>(std::move(samples));
    return plane;
}

Shot shotWith(const PlanarTrack& plane) {
    Shot shot;
    shot.name = "made";
    shot.plate.path = "made.mov";
    shot.plate.width = 200;
    shot.plate.height = 160;
    shot.plate.frames = shot.plate.range = {0, 40};
    shot.planes = List<PlanarTrack>({plane});
    shot.nextPlane = plane.id + 1;
    return shot;
}

/// How unevenly a corner moves: the largest change of its speed from frame to frame.
double jitter(const PlanarTrack& plane, std::size_t corner) {
    double most = 0;
    for (int frame = 1; frame < 40; ++frame) {
        const auto a = surfaceAt(plane, frame - 1), b = surfaceAt(plane, frame), c = surfaceAt(plane, frame + 1);
        if (a && b && c) most = std::max(most, ((*a)[corner] - 2 * (*b)[corner] + (*c)[corner]).norm());
    }
    return most;
}

}  // namespace

// ---- alignment

TEST_CASE("a plane is followed to a twentieth of a pixel by what it looks like") {
    const Tracked tracked = trackedCase(smallCase());
    CHECK(tracked.frames == 13);
    CHECK(tracked.worst < 0.05);
    CHECK(tracked.plane.startReason == PlaneEnd::rangeEnd);
    for (const PlaneSample& sample : tracked.plane.samples) CHECK(sample.fit > 0.98F);
}

TEST_CASE("a plane that tilts, grows and turns is followed, and its reference stays one") {
    planes::PlaneCase c = smallCase();
    c.tiltEnd = 0.9;
    c.tiltAxis = 1.1;
    c.scaleEnd = 1.35;
    c.turn = 0.25;
    const Tracked tracked = trackedCase(c);
    CHECK(tracked.frames == 13);
    CHECK(tracked.worst < 0.25);
}

TEST_CASE("grain, blur and changing light leave a plane where it is") {
    planes::PlaneCase c = smallCase();
    c.grain = 4;
    c.shutter = 0.5;
    c.defocus_px = 1.2;
    c.gainEnd = 0.7;
    c.shake_px = 3;
    const Tracked tracked = trackedCase(c);
    CHECK(tracked.frames == 13);
    CHECK(tracked.worst < 0.4);
}

TEST_CASE("a highlight that passes over a plane does not drag it along") {
    planes::PlaneCase c = smallCase();
    c.highlight = 120;
    const Tracked tracked = trackedCase(c);
    CHECK(tracked.frames == 13);
    CHECK(tracked.worst < 0.3);
}

TEST_CASE("what passes in front of a plane drops out, and how much is seen is said") {
    planes::PlaneCase c = smallCase();
    c.cover = 0.4;
    c.frames = 25;
    const Tracked tracked = trackedCase(c);
    CHECK(tracked.frames == 25);
    CHECK(tracked.worst < 1.0);
    CHECK(tracked.worstClear < 0.15);
    bool covered = false;
    for (const PlaneSample& sample : tracked.plane.samples) {
        const double visible = planes::visibleAt(c, sample.frame);
        covered = covered || visible < 0.7;
        CHECK(double(sample.seen) > visible - 0.3);
        if (visible < 0.7) CHECK(double(sample.seen) < visible + 0.25);
    }
    CHECK(covered);
}

TEST_CASE("a plane ends where too little of it is seen, and says why") {
    planes::PlaneCase c = smallCase();
    c.travel = {230, 0};  // out of the frame on both sides
    Tracked tracked = trackedCase(c);
    CHECK(tracked.frames < 13);
    CHECK(tracked.plane.startReason == PlaneEnd::leftFrame);
    CHECK(tracked.plane.endReason == PlaneEnd::leftFrame);
    CHECK(tracked.worst < 2);
    PlanarTrack demanding = planes::planeOf(c);
    demanding.leastSeen = 0.9;
    const Tracked shorter = trackedCase(c, demanding);
    CHECK(shorter.frames < tracked.frames);
}

TEST_CASE("parts taken out of a plane do not count") {
    // A bar that stands still in the picture on the reference frame and beside the surface: with it, texture is there
    // that does not move.
    planes::PlaneCase c = smallCase();
    c.travel = {30, 0};
    PlanarTrack plane = planes::planeOf(c);
    const Quad corners = planes::cornersAt(c, plane.referenceFrame);
    plane.takenOut =
        List<Polygon>({{corners[0], corners[1], 0.5 * (corners[1] + corners[2]), 0.5 * (corners[0] + corners[3])}});
    const Tracked half = trackedCase(c, plane);
    CHECK(half.frames == 13);
    CHECK(half.worst < 0.25);
    const auto plate = planes::plateOf(c);
    const auto pyramid = buildPyramid(**plate->read(6), Channel::luma, PreFilter::none, 3);
    const auto all = PlaneTexture::create(pyramid, planes::planeOf(c).region());
    const auto part = PlaneTexture::create(pyramid, plane.region());
    REQUIRE(all);
    REQUIRE(part);
    auto allTexture = *PlaneTexture::create(pyramid, planes::planeOf(c).region());
    auto partTexture = *PlaneTexture::create(pyramid, plane.region());
    const double share = double(partTexture.level(0, Eigen::Matrix2d::Zero()).count()) /
                         allTexture.level(0, Eigen::Matrix2d::Zero()).count();
    CHECK(share == Approx(0.5).margin(0.05));
}

TEST_CASE("what mattes take out does not count, on any frame") {
    planes::PlaneCase c = smallCase();
    c.travel = {0, 0};
    FrameCache frames(planes::plateOf(c));
    const PlanarTrack plane = planes::planeOf(c);
    // From frame 8 on the left half of the picture is taken out.
    Matte matte;
    matte.name = "left";
    matte.keys = {{0, {{0, 0}, {160, 0}, {160, 240}, {0, 240}}}};
    matte.turns = {{0, false}, {8, true}};
    const auto result = trackPlanes(frames, {plane}, 6, {0, 12}, Direction::both, Progress{}, {}, std::vector{matte});
    REQUIRE(result);
    REQUIRE(result->planes[0].samples.size() == 13);
    for (const PlaneSample& sample : result->planes[0].samples) {
        CHECK(planes::apart(planes::trackedCorners(c, sample), planes::cornersAt(c, sample.frame)) < 0.4);
        if (sample.frame >= 8) CHECK(sample.seen < 0.7F);
        else CHECK(sample.seen > 0.8F);
    }
}

TEST_CASE("on OpenCV's published pair of pictures a plane ends where the published homography says") {
    // graf1.png, graf3.png and H1to3p.xml, as in the test of patterns.
    const std::string folder = "/usr/share/doc/opencv-doc/examples/data/";
    const cv::FileStorage file(folder + "H1to3p.xml", cv::FileStorage::READ);
    cv::Mat published;
    file["H13"] >> published;
    REQUIRE(published.rows == 3);
    Matrix3d map, half = Matrix3d::Identity();
    for (int i = 0; i < 9; ++i) map(i / 3, i % 3) = published.at<double>(i / 3, i % 3);
    half(0, 2) = half(1, 2) = 0.5;
    map = half * map * half.inverse();
    const auto pyramidOf = [&](const std::string& name) {
        const auto still = readStill(folder + name);
        REQUIRE(still);
        return buildPyramid(**still, Channel::luma, PreFilter::none, 4);
    };
    const Pyramid first = pyramidOf("graf1.png"), second = pyramidOf("graf3.png");
    const Quad surface = quad(250, 150, 600, 500);
    PlaneRegion region;
    region.outlines = {Polygon(surface.begin(), surface.end())};
    auto aligner = PlaneAligner::create(first, region, MotionModel::perspective);
    REQUIRE(aligner);
    // From some pixels beside it, and sheared a little.
    Matrix3d start = Matrix3d::Identity();
    start.topRightCorner<2, 1>() = Vector2d(5, -4);
    start(0, 1) = 0.01;
    PlaneConditions conditions;
    const auto found = aligner->align(second, {start * map}, conditions);
    REQUIRE(found);
    CHECK(found->fit > 0.8);
    for (const Vector2d& corner : surface) {
        const Vector2d to = (map * corner.homogeneous()).hnormalized();
        // The published map is good to about half a pixel, and the wall is not quite flat.
        CHECK(((found->pose.matrix * corner.homogeneous()).hnormalized() - to).norm() < 2.5);
    }
}

TEST_CASE("the motion of a plane is what its texture supports") {
    const auto plate = planes::plateOf(smallCase());
    const auto large = buildPyramid(**plate->read(6), Channel::luma, PreFilter::none, 3);
    const auto rich = PlaneAligner::create(large, planes::planeOf(smallCase()).region(), MotionModel::perspective);
    REQUIRE(rich);
    CHECK(motionFor(*rich) == MotionModel::perspective);
    // A few pixels of faint waves say where they are, and no more.
    Picture faint = test::moved(Matrix3d::Identity());
    for (float& value : faint.floats) value = 0.5F + 0.06F * (value - 0.5F);
    const auto small = buildPyramid(faint, Channel::luma, PreFilter::none, 3);
    PlaneRegion region;
    region.outlines = {{{90, 70}, {112, 70}, {112, 92}, {90, 92}}};
    const auto poor = PlaneAligner::create(small, region, MotionModel::perspective);
    INFO((poor ? std::string() : poor.error().message));
    REQUIRE(poor);
    CHECK(poor->weakness(MotionModel::perspective) > 2 * poor->weakness(MotionModel::similarity));
    CHECK(motionFor(*poor) != MotionModel::perspective);
}

TEST_CASE("a plane seen through a lens that bends is flat in the undistorted picture") {
    Lens lens = pinholeLens(200, 160, 200);
    lens.k1 = -0.25;
    const auto glass = std::make_shared<const Lens>(lens);
    // From the middle to the corner of the frame.
    const auto poseAt = [](int frame) { return test::shift(5.0 * (frame - 1), 4.0 * (frame - 1)); };
    const auto make = [&](int frame) {
        Picture picture{200, 160, Picture::Depth::float32, false, {}, std::vector<float>(200 * 160 * 3)};
        const Matrix3d back = poseAt(frame).inverse();
        for (int y = 0; y < 160; ++y)
            for (int x = 0; x < 200; ++x) {
                const Vector2d flat = (back * straightened(glass, {x + 0.5, y + 0.5}).homogeneous()).hnormalized();
                for (std::size_t c = 0; c < 3; ++c)
                    picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] =
                        float(test::texture(flat.x(), flat.y()) / 255);
            }
        return picture;
    };
    FrameCache frames(std::make_shared<test::MadePlate>(10, make));
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "wall";
    plane.referenceFrame = 1;
    plane.outlines = List<Polygon>({{{60, 40}, {130, 40}, {130, 110}, {60, 110}}});
    plane.ties = List<PlaneTie>({{1, quad(60, 40, 130, 110)}});
    const auto worst = [&](PlanarTrack tracked) {
        const auto result = trackPlanes(frames, {tracked}, 1, {1, 10}, Direction::both);
        REQUIRE(result);
        double most = 0;
        for (const PlaneSample& sample : result->planes[0].samples) {
            const auto corners = surfaceAt(result->planes[0], sample.frame);
            REQUIRE(corners);
            for (std::size_t i = 0; i < 4; ++i)
                most = std::max(
                    most, ((*corners)[i] - bent(glass, (poseAt(sample.frame) *
                                                        straightened(glass, plane.ties[0].corners[i]).homogeneous())
                                                           .hnormalized()))
                              .norm());
        }
        CHECK(result->planes[0].samples.size() == 10);
        return most;
    };
    const double flat = worst(plane);
    plane.lens = glass;
    const double seenThrough = worst(plane);
    CHECK(flat > 0.6);
    CHECK(seenThrough < 0.1);
}

TEST_CASE("several planes are tracked together, each as by itself") {
    planes::PlaneCase c = smallCase();
    const auto plate = planes::plateOf(c);
    FrameCache frames(plate);
    PlanarTrack one = planes::planeOf(c), two = one;
    two.id = 2;
    two.name = "plane2";
    const Quad corners = planes::cornersAt(c, 6);
    two.outlines =
        List<Polygon>({{corners[0], 0.5 * (corners[0] + corners[1]), 0.5 * (corners[2] + corners[3]), corners[3]}});
    const auto together = trackPlanes(frames, {one, two}, 6, {0, 12}, Direction::both);
    const auto alone = trackPlanes(frames, {two}, 6, {0, 12}, Direction::both);
    REQUIRE(together);
    REQUIRE(alone);
    REQUIRE(together->planes[1].samples.size() == 13);
    for (std::size_t i = 0; i < 13; ++i)
        CHECK(together->planes[1].samples[i].pose.matrix.isApprox(alone->planes[0].samples[i].pose.matrix, 1e-9));
}

TEST_CASE("a plane that is stopped keeps what it has, and goes on from there") {
    planes::PlaneCase c = smallCase();
    FrameCache frames(planes::plateOf(c));
    const PlanarTrack plane = planes::planeOf(c);
    const Progress stops;
    const auto result =
        trackPlanes(frames, {plane}, 6, {0, 12}, Direction::forward, stops, [&](int frame, const auto&) {
            if (frame == 9) stops.stop();
        });
    REQUIRE(result);
    CHECK(result->stopped);
    const PlanarTrack& held = result->planes[0];
    CHECK(held.lastFrame() == 9);
    CHECK(held.endReason == PlaneEnd::none);
    const auto on = trackPlanes(frames, {held}, 9, {0, 12}, Direction::forward);
    REQUIRE(on);
    CHECK(on->planes[0].lastFrame() == 12);
    CHECK(planes::apart(planes::trackedCorners(c, on->planes[0].samples.back()), planes::cornersAt(c, 12)) < 0.05);
}

TEST_CASE("a frame tracked again in the middle takes away nothing beyond it") {
    planes::PlaneCase c = smallCase();
    FrameCache frames(planes::plateOf(c));
    const auto whole = trackPlanes(frames, {planes::planeOf(c)}, 6, {0, 12}, Direction::both);
    REQUIRE(whole);
    for (const Direction way : {Direction::forward, Direction::backward}) {
        const auto again = trackPlanes(frames, whole->planes, 8, {7, 9}, way);
        REQUIRE(again);
        CHECK(again->planes[0].samples.size() == 13);
        CHECK(again->planes[0].startReason == PlaneEnd::rangeEnd);
        CHECK(again->planes[0].endReason == PlaneEnd::rangeEnd);
    }
}

TEST_CASE("outlines that cannot be tracked are refused in words") {
    const auto even = [](int) {
        Picture picture{200, 160, Picture::Depth::float32, false, {}, std::vector<float>(200 * 160 * 3, 0.4F)};
        return picture;
    };
    FrameCache frames(std::make_shared<test::MadePlate>(5, even));
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "sky";
    plane.referenceFrame = 2;
    plane.outlines = List<Polygon>({{{20, 20}, {150, 20}, {150, 120}, {20, 120}}});
    const auto bare = trackPlanes(frames, {plane}, 2, {1, 5}, Direction::both);
    REQUIRE_FALSE(bare);
    CHECK(bare.error().message.find("sky: the outline holds no texture") != std::string::npos);
    plane.outlines = List<Polygon>({{{-90, 20}, {-20, 20}, {-20, 120}}});
    const auto outside = trackPlanes(frames, {plane}, 2, {1, 5}, Direction::both);
    REQUIRE_FALSE(outside);
    CHECK(outside.error().message.find("hardly anything of the outline") != std::string::npos);
    const auto beyond = trackPlanes(frames, {plane}, 2, {3, 5}, Direction::both);
    REQUIRE_FALSE(beyond);
    CHECK(beyond.error().message.find("frame 2 lies outside the range 3-5") != std::string::npos);
}

TEST_CASE("an outline larger than the frame is tracked by what is in it") {
    const auto make = [](int frame) { return test::moved(test::shift(2.5 * frame, -1.0 * frame)); };
    FrameCache frames(std::make_shared<test::MadePlate>(6, make));
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "wall";
    plane.referenceFrame = 3;
    plane.outlines = List<Polygon>({{{-50, -40}, {260, -40}, {260, 220}, {-50, 220}}});
    const auto result = trackPlanes(frames, {plane}, 3, {1, 6}, Direction::both);
    REQUIRE(result);
    CHECK(result->planes[0].samples.size() == 6);
    const Vector2d to = (result->planes[0].samples.back().pose.matrix * Eigen::Vector3d(100, 80, 1)).hnormalized();
    CHECK((to - Vector2d(107.5, 77)).norm() < 0.05);
}

TEST_CASE("a plane ends at a cut, and says so") {
    const auto make = [](int frame) {
        return frame < 5 ? test::moved(test::shift(1.0 * frame, 0))
                         : test::moved(test::shift(911.0 + frame, 313) *
                                           Eigen::AngleAxisd(1.2, Eigen::Vector3d::UnitZ()).toRotationMatrix(),
                                       0.35, 20);
    };
    FrameCache frames(std::make_shared<test::MadePlate>(9, make));
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "wall";
    plane.referenceFrame = 2;
    plane.outlines = List<Polygon>({{{50, 40}, {150, 40}, {150, 120}, {50, 120}}});
    const auto result = trackPlanes(frames, {plane}, 2, {1, 9}, Direction::both);
    REQUIRE(result);
    CHECK(result->planes[0].lastFrame() == 4);
    CHECK(result->planes[0].endReason == PlaneEnd::cut);
}

// ---- surfaces

TEST_CASE("corners are put in order whichever way they were clicked, and what is no surface is refused") {
    const Quad wanted = quad(10, 20, 110, 90);
    for (const auto& order : {std::array<std::size_t, 4>{0, 1, 2, 3}, {2, 0, 3, 1}, {3, 2, 1, 0}, {0, 2, 1, 3}}) {
        const auto sorted = inOrder({wanted[order[0]], wanted[order[1]], wanted[order[2]], wanted[order[3]]});
        REQUIRE(sorted);
        CHECK(*sorted == wanted);
    }
    CHECK(troubleOf(wanted).empty());
    CHECK(troubleOf({wanted[0], wanted[2], wanted[1], wanted[3]}).find("edges cross") != std::string::npos);
    CHECK(troubleOf({wanted[0], wanted[1], Vector2d(40, 40), wanted[3]}).find("inside the other three") !=
          std::string::npos);
    CHECK(troubleOf({wanted[0], Vector2d(60, 20), wanted[1], wanted[3]}).find("on a line") != std::string::npos);
    CHECK(troubleOf({wanted[0], wanted[0], wanted[2], wanted[3]}).find("on one place") != std::string::npos);
    CHECK(troubleOf({wanted[3], wanted[2], wanted[1], wanted[0]}).find("mirrored") != std::string::npos);
    CHECK_FALSE(inOrder({wanted[0], wanted[1], Vector2d(40, 40), wanted[3]}));
}

TEST_CASE("the map between two quads is OpenCV's") {
    const Quad from{Vector2d(12, 9), {640, 31}, {602, 470}, {-8, 433}},
        to{Vector2d(300, 200), {420, 180}, {455, 330}, {290, 310}};
    const auto found = quadFromQuad(to, from);
    REQUIRE(found);
    std::vector<cv::Point2f> a, b;
    for (std::size_t i = 0; i < 4; ++i) {
        a.emplace_back(float(from[i].x()), float(from[i].y()));
        b.emplace_back(float(to[i].x()), float(to[i].y()));
    }
    const cv::Mat reference = cv::getPerspectiveTransform(a, b);
    for (int i = 0; i < 9; ++i)
        CHECK((*found)(i / 3, i % 3) == Approx(reference.at<double>(i / 3, i % 3)).epsilon(1e-3).margin(1e-6));
    for (std::size_t i = 0; i < 4; ++i) CHECK(((*found * from[i].homogeneous()).hnormalized() - to[i]).norm() < 1e-8);
    CHECK_FALSE(quadFromQuad(to, {Vector2d(0, 0), {1, 1}, {2, 2}, {5, 0}}));
}

TEST_CASE("a surface placed on any frame is carried by the plane, there to the bit") {
    const Shot shot = *withPlaneTie(shotWith(movingPlane()), 1, 25, quad(60, 30, 160, 100));
    const PlanarTrack& plane = shot.planes[0];
    CHECK(*surfaceAt(plane, 25) == quad(60, 30, 160, 100));
    const Matrix3d back = sampleAt(plane, 5)->pose.matrix * sampleAt(plane, 25)->pose.matrix.inverse();
    for (std::size_t i = 0; i < 4; ++i)
        CHECK(((*surfaceAt(plane, 5))[i] - (back * plane.ties[0].corners[i].homogeneous()).hnormalized()).norm() <
              1e-9);
    CHECK_FALSE(surfaceAt(plane, 99));
    const auto bad = withPlaneTie(shot, 1, 99, quad(60, 30, 160, 100));
    REQUIRE_FALSE(bad);
    CHECK(bad.error().message.find("board: is not tracked on frame 99") != std::string::npos);
    const auto crossed = withPlaneTie(shot, 1, 25, {Vector2d(60, 30), {160, 100}, {160, 30}, {60, 100}});
    REQUIRE_FALSE(crossed);
    CHECK(crossed.error().message.find("cross") != std::string::npos);
}

TEST_CASE("a corrected corner is spread to the neighbouring ties without a jump") {
    // Common practice, no published source: one corner corrected on one frame alone makes a jitter.
    Shot shot = *withPlaneTie(shotWith(movingPlane()), 1, 5, quad(20, 20, 150, 120));
    const double before = jitter(shot.planes[0], 2);
    for (const int frame : {20, 35}) {
        Quad corners = *surfaceAt(shot.planes[0], frame);
        if (frame == 20) corners[2] += Vector2d(3, -2);
        shot = *withPlaneTie(shot, 1, frame, corners);
    }
    const PlanarTrack& plane = shot.planes[0];
    REQUIRE(plane.ties.size() == 3);
    for (const PlaneTie& tie : plane.ties) CHECK(*surfaceAt(plane, tie.frame) == tie.corners);
    // 3.6 px over 15 frames and more: its speed never changes by more than a smooth step needs.
    CHECK(jitter(plane, 2) < before + 0.12);
    // The correction dies away from the tie, and the corner that was not touched stays.
    PlanarTrack untouched = plane;
    untouched.ties = List<PlaneTie>({plane.ties[0]});
    CHECK(((*surfaceAt(plane, 12))[2] - (*surfaceAt(untouched, 12))[2]).norm() < 3);
    CHECK(((*surfaceAt(plane, 12))[0] - (*surfaceAt(untouched, 12))[0]).norm() < 1e-9);
    CHECK(((*surfaceAt(plane, 40))[2] - (*surfaceAt(plane, 35))[2]).norm() < 20);
    shot = withPlaneTieRemoved(shot, 1, 20);
    CHECK(shot.planes[0].ties.size() == 2);
}

TEST_CASE("tracked anew from a correction, what lies before is bent to it and nothing jumps") {
    Shot shot = *withPlaneTie(shotWith(movingPlane()), 1, 8, quad(20, 20, 150, 120));
    Quad corners = *surfaceAt(shot.planes[0], 24);
    for (Vector2d& corner : corners) corner += Vector2d(4, 2);
    shot = *withPlaneTie(shot, 1, 24, corners);
    const PlanarTrack anew = begunAnew(shot.planes[0], 24);
    CHECK(anew.ties.size() == 1);
    REQUIRE(sampleAt(anew, 24));
    CHECK(sampleAt(anew, 24)->anew);
    for (const int frame : {8, 15, 20, 24})
        for (std::size_t i = 0; i < 4; ++i)
            CHECK(((*surfaceAt(anew, frame))[i] - (*surfaceAt(shot.planes[0], frame))[i]).norm() < 1e-6);
}

// ---- what hangs on a plane

TEST_CASE("mattes, locators and the steadied picture ride on a plane, and follow its name") {
    Shot shot = *withPlaneTie(shotWith(movingPlane()), 1, 10, quad(40, 30, 140, 110));
    Matte matte;
    matte.name = "glare";
    matte.keys = {{10, {{50, 40}, {80, 40}, {80, 60}}}};
    matte.ride = rideOnPlane(1, 10);
    shot.mattes = List<Matte>({matte});
    shot = withPlaneHandedOn(shot, 1, 10);
    shot.steady.steady = true;
    shot.steady.on = rideOnPlane(1);
    shot.steady.referenceFrame = 10;
    shot = withPlaneRenamed(shot, 1, "notice");
    for (const Ride& ride : ridesOf(shot)) CHECK(wordsOf(shot, ride) == "notice");
    CHECK(ridesOf(shot).size() == 3);
    const auto carrier = carrierOf(shot, *shot.mattes[0].ride);
    REQUIRE(carrier->problem().empty());
    const Matrix3d pose = sampleAt(shot.planes[0], 30)->pose.matrix;
    CHECK((carried(carrier->plateFromReference(30), Vector2d(50, 40)) - carried(pose, Vector2d(50, 40))).norm() < 1e-6);
    const auto pin = locatorMotion(shot, shot.locators[0]);
    REQUIRE(pin);
    CHECK(pin->kind == MotionKind::cornerPin);
    CHECK(pin->frames.size() == 41);
    const auto held = steadyMotion(shot);
    REQUIRE(held);
    CHECK(held->frames.size() == 41);
    const Shot gone = withPlaneRemoved(shot, 1);
    CHECK_FALSE(carrierOf(gone, *gone.mattes[0].ride)->problem().empty());
    CHECK_FALSE(steadyMotion(gone));
    // A new plane of the same name is another plane.
    const Shot anew =
        withPlaneRenamed(withPlaneAdded(gone, {{10, 10}, {60, 10}, {60, 60}}, 10), gone.nextPlane, "notice");
    REQUIRE(anew.planes.back().name == "notice");
    CHECK(carrierOf(anew, *anew.mattes[0].ride)->problem() == "rides on a plane that is gone");
    CHECK_FALSE(locatorMotion(anew, anew.locators[0]));
    CHECK_FALSE(steadyMotion(anew));
}

TEST_CASE("what hangs on a plane turns stale when its surface is corrected") {
    Shot shot = withPlaneHandedOn(*withPlaneTie(shotWith(movingPlane()), 1, 10, quad(40, 30, 140, 110)), 1, 10);
    const Deliverable pin = shot.deliverables.back();
    const auto before = deliveryKey(shot, pin);
    CHECK(deliveryKey(shot, pin) == before);
    shot = *withPlaneTie(shot, 1, 20, quad(56, 26, 157, 104));
    CHECK(deliveryKey(shot, pin) != before);
}

TEST_CASE("corners are written and read again, and what is no surface is refused with its place") {
    const test::Scratch scratch;
    const CornersFile corners{{1001, quad(1.25, 2, 30, 40)}, {1002, quad(2, 3, 31, 41.5)}};
    REQUIRE(writeFile(scratch / "c.json", cornersJson(corners)));
    const auto read = readCorners(scratch / "c.json");
    REQUIRE(read);
    REQUIRE(read->size() == 2);
    CHECK((*read)[1].corners == corners[1].corners);
    const auto refused = [&](const std::string& frames) {
        REQUIRE(
            writeFile(scratch / "bad.json", R"({"format":"pinion.corners","version":1,"frames":[)" + frames + "]}"));
        const auto bad = readCorners(scratch / "bad.json");
        REQUIRE_FALSE(bad);
        return bad.error().message;
    };
    CHECK(refused(R"({"frame":1,"corners":[[0,0],[9,0],[9,9]]})").find("has 3 corners") != std::string::npos);
    CHECK(refused(R"({"frame":1,"corners":[[0,0],[9,9],[9,0],[0,9]]})").find("frames[0].corners: its edges cross") !=
          std::string::npos);
    CHECK(refused(R"({"frame":1,"corners":[[0,0],[9,0],[4,4],[0,9]]})").find("inside the other three") !=
          std::string::npos);
    CHECK(refused("").find("frames") != std::string::npos);
}

TEST_CASE("a surface is squared up at the size asked for, and stands still") {
    planes::PlaneCase c = smallCase();
    FrameCache frames(planes::plateOf(c));
    const auto result = trackPlanes(frames, {planes::planeOf(c)}, 6, {0, 12}, Direction::both);
    REQUIRE(result);
    Shot shot = shotWith(result->planes[0]);
    shot.plate.range = {0, 12};
    shot = *withPlaneTie(shot, 1, 6, planes::cornersAt(c, 6));
    const test::Scratch scratch;
    const auto report = runSquared(*carrierOf(shot, rideOnPlane(1)), frames, scratch / "s.####.png", 144, 116);
    REQUIRE(report);
    CHECK(report->frames == 13);
    const auto first = readStill(scratch / "s.0000.png"), last = readStill(scratch / "s.0012.png");
    REQUIRE(first);
    REQUIRE(last);
    CHECK((*first)->width == 144);
    CHECK((*first)->height == 116);
    // Far more alike than the first is to itself three pixels along.
    double apart = 0, along = 0;
    for (std::size_t i = 0; i + 9 < (*first)->bytes.size(); ++i) {
        apart += std::abs(double((*first)->bytes[i]) - double((*last)->bytes[i]));
        along += std::abs(double((*first)->bytes[i]) - double((*first)->bytes[i + 9]));
    }
    CHECK(apart < 0.4 * along);
    CHECK_FALSE(runSquared(*carrierOf(shot, rideOnPlane(1)), frames, scratch / "s.####.png", 2, 64));
}

namespace {

/// One frame of a drawn surface, seen through a lens that bends it.
struct BentWall {
    static constexpr int kWidth = 320, kHeight = 240;
    test::Scratch scratch;
    Lens lens = pinholeLens(kWidth, kHeight, 260);
    Shot shot;
    PicturePtr plate;
    std::unique_ptr<FrameCache> frames;

    static double drawn(const Vector2d& at) { return 0.5 + 0.2 * std::sin(40 * at.x()) + 0.2 * std::sin(34 * at.y()); }

    BentWall() {
        lens.k1 = -0.18;
        const Quad straight{Vector2d(24, 26), {296, 14}, {288, 222}, {38, 214}};
        const auto sheetFrom = quadFromQuad(quad(0, 0, 1, 1), straight);
        REQUIRE(sheetFrom);
        Picture picture{kWidth, kHeight, Picture::Depth::bits8, false, {}, {}};
        for (int y = 0; y < kHeight; ++y)
            for (int x = 0; x < kWidth; ++x) {
                const auto at = undistortedFromPlate(lens, {x + 0.5, y + 0.5});
                const Vector2d place = at ? Vector2d((*sheetFrom * at->homogeneous()).hnormalized()) : Vector2d(0, 0);
                picture.bytes.insert(picture.bytes.end(), 3, std::uint8_t(255 * drawn(place) + 0.5));
            }
        frames = written("p.####.png", picture);
        PlanarTrack plane;
        plane.id = 1;
        plane.name = "wall";
        plane.lens = std::make_shared<const Lens>(lens);
        plane.samples = std::vector<PlaneSample>{{.frame = 0}};
        Quad seen = straight;
        for (Vector2d& corner : seen) corner = *plateFromUndistorted(lens, corner);
        plane.ties = std::vector<PlaneTie>{{0, seen}};
        shot = shotWith(plane);
        shot.plate.width = kWidth;
        shot.plate.height = kHeight;
        shot.plate.frames = shot.plate.range = {0, 0};
        plate = *frames->get(0);
    }
    std::unique_ptr<FrameCache> written(const char* pattern, const Picture& picture) {
        const auto writer = FrameWriter::create(scratch / pattern, picture.width, picture.height, FrameRate{24, 1});
        REQUIRE(writer);
        REQUIRE((*writer)->write(0, picture));
        REQUIRE((*writer)->finish());
        const auto opened = Plate::open(scratch / pattern);
        REQUIRE(opened);
        return std::make_unique<FrameCache>(*opened);
    }
};

}  // namespace

TEST_CASE("a surface seen through a lens that bends it is squared up straight") {
    BentWall wall;
    REQUIRE(runSquared(*carrierOf(wall.shot, rideOnPlane(1)), *wall.frames, wall.scratch / "s.####.png", 280, 210));
    const auto made = readStill(wall.scratch / "s.0000.png");
    REQUIRE(made);
    double squares = 0;
    for (int y = 0; y < 210; ++y)
        for (int x = 0; x < 280; ++x) {
            const double truth = 255 * BentWall::drawn({(x + 0.5) / 280, (y + 0.5) / 210});
            squares += std::pow(double((*made)->bytes[std::size_t(3 * (y * 280 + x))]) - truth, 2);
        }
    // Of 255; straight between its corners 20 and more.
    CHECK(std::sqrt(squares / (210 * 280)) < 1.5);
}

TEST_CASE("what was painted on a surface that a lens bends comes back where it was painted") {
    BentWall wall;
    REQUIRE(runSquared(*carrierOf(wall.shot, rideOnPlane(1)), *wall.frames, wall.scratch / "s.####.png", 280, 210));
    Picture painted = **readStill(wall.scratch / "s.0000.png");
    // A bar near the upper edge, where it is bent most.
    const auto isPainted = [](double x, double y) { return x >= 100 && x < 180 && y >= 8 && y < 30; };
    for (int y = 0; y < 210; ++y)
        for (int x = 0; x < 280; ++x)
            for (int k = 0; k < 3 && isPainted(x, y); ++k)
                painted.bytes[std::size_t(3 * (y * 280 + x) + k)] = k == 1 ? 250 : 10;
    const auto made = wall.written("q.####.png", painted);
    const auto report =
        runPutBackSurface(*carrierOf(wall.shot, rideOnPlane(1)), *wall.frames, *made, wall.scratch / "b.####.png");
    INFO((report ? "" : report.error().message));
    REQUIRE(report);
    const auto back = readStill(wall.scratch / "b.0000.png");
    REQUIRE(back);
    const auto sheet = SurfaceSheet::of(wall.shot.planes[0], 0);
    REQUIRE(sheet);
    int wrong = 0, green = 0, kept = 0;
    for (int y = 0; y < BentWall::kHeight; ++y)
        for (int x = 0; x < BentWall::kWidth; ++x) {
            const auto at = sheet->onSheet({x + 0.5, y + 0.5});
            const auto i = std::size_t(3 * (y * BentWall::kWidth + x));
            const bool isGreen = (*back)->bytes[i + 1] > 200 && (*back)->bytes[i] < 60;
            const bool isSame = std::equal(&(*back)->bytes[i], &(*back)->bytes[i] + 3, &wall.plate->bytes[i]);
            const double px = at ? 280 * at->x() : -100, py = at ? 210 * at->y() : -100;
            const bool isInside = isPainted(px - 4, py - 4) && isPainted(px + 4, py + 4);
            const bool isBeside = px < 92 || px > 188 || py < 0 || py > 38;
            green += isInside && isGreen;
            kept += isBeside && isSame;
            wrong += (isInside && !isGreen) || (isBeside && !isSame);
        }
    CHECK(green > 500);
    CHECK(kept > 50000);
    CHECK(wrong == 0);
}

TEST_CASE("what was painted on a rendered surface is put back, and nothing else of the plate changes") {
    planes::PlaneCase c = smallCase();
    FrameCache frames(planes::plateOf(c));
    const auto result = trackPlanes(frames, {planes::planeOf(c)}, 6, {0, 12}, Direction::both);
    REQUIRE(result);
    Shot shot = shotWith(result->planes[0]);
    shot.plate.width = c.width;
    shot.plate.height = c.height;
    shot.plate.frames = shot.plate.range = {3, 6};
    shot = *withPlaneTie(shot, 1, 6, planes::cornersAt(c, 6));
    const test::Scratch scratch;
    REQUIRE(runSquared(*carrierOf(shot, rideOnPlane(1)), frames, scratch / "s.####.png", 144, 116));
    // A patch in the middle, on all frames but one.
    for (int frame = 3; frame <= 5; ++frame) {
        const auto path = scratch / fmt::format("s.{:04}.png", frame);
        Picture picture = **readStill(path);
        for (int y = 40; y < 70; ++y)
            for (int x = 50; x < 90; ++x)
                for (int k = 0; k < 3; ++k) picture.bytes[std::size_t(3 * (y * 144 + x) + k)] = k == 1 ? 240 : 20;
        const auto writer = FrameWriter::create(scratch / "p.####.png", 144, 116, FrameRate{24, 1});
        REQUIRE(writer);
        REQUIRE((*writer)->write(frame, picture));
        REQUIRE((*writer)->finish());
    }
    const auto painted = Plate::open(scratch / "p.####.png");
    REQUIRE(painted);
    FrameCache made(*painted);
    const auto report = runPutBackSurface(*carrierOf(shot, rideOnPlane(1)), frames, made, scratch / "b.####.png");
    INFO((report ? "" : report.error().message));
    REQUIRE(report);
    CHECK(report->render.frames == 4);
    CHECK(report->unchanged == std::vector<int>{6});
    for (int frame = 3; frame <= 5; ++frame) {
        const auto back = readStill(scratch / fmt::format("b.{:04}.png", frame));
        const auto plate = frames.get(frame);
        REQUIRE(back);
        const auto quadNow = surfaceAt(shot.planes[0], frame);
        const auto flat = quadFromQuad(*quadNow, quad(0, 0, 144, 116));
        REQUIRE(flat);
        // The patch's middle is green where the surface is; well away from it the plate is itself.
        const Vector2d middle = (*flat * Eigen::Vector3d(70, 55, 1)).hnormalized();
        const auto at = std::size_t(3 * (int(middle.y()) * c.width + int(middle.x())));
        CHECK(int((*back)->bytes[at + 1]) > 230);
        CHECK(int((*back)->bytes[at]) < 30);
        int differ = 0;
        for (int y = 0; y < c.height; ++y)
            for (int x = 0; x < c.width; ++x) {
                const Vector2d on = (flat->inverse() * Eigen::Vector3d(x + 0.5, y + 0.5, 1)).hnormalized();
                if (on.x() > 44 && on.x() < 96 && on.y() > 34 && on.y() < 76) continue;
                const auto i = std::size_t(3 * (y * c.width + x));
                differ += !std::equal(&(*back)->bytes[i], &(*back)->bytes[i] + 3, &(*plate)->bytes[i]);
            }
        CHECK(differ == 0);
    }
    // Another shot's surface is refused.
    Shot elsewhere = *withPlaneTie(shot, 1, 6, quad(4, 4, 60, 50));
    const auto refused = runPutBackSurface(*carrierOf(elsewhere, rideOnPlane(1)), frames, made, scratch / "x.####.png");
    REQUIRE_FALSE(refused);
    CHECK(refused.error().message.find("another shot's") != std::string::npos);
}

TEST_CASE("the corners of a surface are point tracks for the camera, and are made again in their place") {
    Shot shot = shotWith(movingPlane());
    CHECK_FALSE(withCornersAsTracks(shot, 1));
    shot = *withPlaneTie(shot, 1, 10, quad(40, 30, 140, 110));
    const auto with = withCornersAsTracks(shot, 1);
    REQUIRE(with);
    REQUIRE(with->tracks.size() == 4);
    for (std::size_t i = 0; i < 4; ++i) {
        const Track& track = with->tracks[i];
        CHECK(track.locked);
        CHECK(track.group == shot.planes[0].name);
        CHECK(track.samples.size() > 5);
        for (const Sample& sample : track.samples)
            CHECK((sample.at - (*surfaceAt(shot.planes[0], sample.frame))[i]).norm() < 1e-9);
        for (const Sample& sample : track.samples) CHECK((sample.at.x() > 0 && sample.at.x() < 200));
    }
    CHECK(with->tracks[2].name == "board bottom right");
    const Shot corrected = *withPlaneTie(*with, 1, 10, quad(44, 30, 140, 110));
    const auto again = withCornersAsTracks(corrected, 1);
    REQUIRE(again);
    REQUIRE(again->tracks.size() == 4);
    CHECK(again->tracks[0].id == with->tracks[0].id);
    CHECK(sampleAt(again->tracks[0], 10)->at.x() == Approx(44));
}

TEST_CASE("a plane of the solved scene stands in for a planar track") {
    // Cameras that pass a wall, with points on it, some beside it, and some that disagreed.
    Solve solve;
    solve.lens = pinholeLens(640, 480, 600);
    std::vector<SolvedFrame> cameras;
    for (int frame = 10; frame <= 30; ++frame) {
        SolvedFrame camera;
        camera.frame = frame;
        camera.focal_px = 600;
        camera.worldFromCamera.linear() =
            Eigen::AngleAxisd(0.02 * (frame - 20), Eigen::Vector3d::UnitY()).toRotationMatrix();
        camera.worldFromCamera.translation() = Eigen::Vector3d(0.12 * (frame - 20), 0.05 * (frame - 20), 8);
        cameras.push_back(camera);
    }
    solve.frames = List<SolvedFrame>(cameras);
    const auto wall = [](double x, double y) { return Eigen::Vector3d(x, y, 0.3 * x - 0.1 * y); };
    const auto seen = [&](const SolvedFrame& camera, const Eigen::Vector3d& point) {
        const Eigen::Vector3d at = camera.worldFromCamera.inverse() * point;
        return Vector2d(320 + 600 * at.x() / -at.z(), 240 - 600 * at.y() / -at.z());
    };
    std::vector<SolvedTrack> points;
    for (int i = 0; i < 30; ++i) {
        SolvedTrack track;
        track.track = i;
        track.role = i % 7 == 6 ? TrackRole::disagreed : TrackRole::used;
        track.xyz = wall(std::sin(1.7 * i), std::cos(2.9 * i));
        if (i % 5 == 4) *track.xyz += Eigen::Vector3d(0, 0, 1.5);  // in front of it
        points.push_back(track);
    }
    solve.tracks = List<SolvedTrack>(points);
    const Quad corners{seen(cameras[10], wall(-1.2, 1.2)), seen(cameras[10], wall(1.2, 1.2)),
                       seen(cameras[10], wall(1.2, -1.2)), seen(cameras[10], wall(-1.2, -1.2))};
    PlanarTrack drawn;
    drawn.id = 1;
    drawn.name = "plane 1";
    drawn.referenceFrame = 20;
    drawn.outlines = List<Polygon>({Polygon(corners.begin(), corners.end())});
    drawn.ties = List<PlaneTie>({{20, corners}});
    Shot shot = shotWith(drawn);
    shot.plate.width = 640;
    shot.plate.height = 480;
    CHECK_FALSE(withPlaneFromScene(shot, 1));
    shot.solve = std::make_shared<const Solve>(solve);
    const auto with = withPlaneFromScene(shot, 1);
    INFO((with ? "" : with.error().message));
    REQUIRE(with);
    const PlanarTrack& plane = with->planes[0];
    CHECK(plane.fromScene);
    CHECK(wordsOf(plane, shot.plate.range).find("by the solved scene") != std::string::npos);
    REQUIRE(plane.samples.size() == 21);
    for (const SolvedFrame& camera : cameras) {
        const auto surface = surfaceAt(plane, camera.frame);
        REQUIRE(surface);
        CHECK(((*surface)[0] - seen(camera, wall(-1.2, 1.2))).norm() < 1e-6);
        CHECK(((*surface)[2] - seen(camera, wall(1.2, -1.2))).norm() < 1e-6);
    }
    // Too little of the scene inside it; a frame that is not solved; a round body.
    const auto refused = [&](const std::function<void(PlanarTrack&)>& change) {
        const auto bad = withPlaneFromScene(withPlaneEdited(shot, 1, change), 1);
        REQUIRE_FALSE(bad);
        return bad.error().message;
    };
    CHECK(refused([](PlanarTrack& p) {
              p.outlines = List<Polygon>({{{1, 1}, {9, 1}, {9, 9}}});
          }).find("0 solved points lie inside its outline on frame 20, four are needed") != std::string::npos);
    CHECK(refused([](PlanarTrack& p) { p.referenceFrame = 5; }).find("its reference frame 5 is not solved") !=
          std::string::npos);
    CHECK(refused([&](PlanarTrack& p) { p.sides = corners; }).find("is a cylinder") != std::string::npos);
}

TEST_CASE("what the docket says of planes") {
    Shot shot = shotWith(movingPlane());
    shot.planes = {};
    CHECK(planesReport(shot).state == StageState::empty);
    shot = withPlaneAdded(shot, {{10, 10}, {90, 10}, {90, 80}}, 5);
    CHECK(planesReport(shot).state == StageState::attention);
    CHECK(planesReport(shot).message == "plane 1: is not tracked yet.");
    shot.planes = List<PlanarTrack>({movingPlane()});
    CHECK(planesReport(shot).state == StageState::done);
    CHECK(planesReport(shot).number == "1 plane");
    PlanarTrack poor = movingPlane();
    poor.samples = poor.samples.edited([](auto& samples) { samples[4].fit = samples[5].fit = 0.8F; });
    poor.endReason = PlaneEnd::covered;
    shot.planes = List<PlanarTrack>({poor});
    CHECK(planesReport(shot).message.find("fits poorly on 4-5") != std::string::npos);
    // Ended before the range: what to do is said, by the reason.
    PlanarTrack early = movingPlane();
    early.samples = early.samples.edited([](auto& samples) { samples.resize(samples.size() / 2); });
    early.endReason = PlaneEnd::unlike;
    shot.planes = List<PlanarTrack>({early});
    CHECK(planesReport(shot).message.find("A mirror shows another picture on each frame") != std::string::npos);
    early.endReason = PlaneEnd::covered;
    shot.planes = List<PlanarTrack>({early});
    CHECK(planesReport(shot).message.find("can be taken out (Shift+W)") != std::string::npos);
}

// ---- edits and the shot's file

TEST_CASE("outlines drawn on any frame lie on the reference frame, and a plane keeps its last") {
    const Shot shot = shotWith(movingPlane());
    const Polygon drawn{{70, 20}, {90, 20}, {80, 45}};
    const Shot more = withPlaneOutlineAdded(shot, 1, 20, drawn, false);
    REQUIRE(more.planes[0].outlines.size() == 2);
    const Matrix3d pose = sampleAt(more.planes[0], 20)->pose.matrix;
    for (std::size_t i = 0; i < 3; ++i)
        CHECK(((pose * more.planes[0].outlines[1][i].homogeneous()).hnormalized() - drawn[i]).norm() < 1e-9);
    const Shot less = withPlaneOutlineAdded(more, 1, 10, drawn, true);
    REQUIRE(less.planes[0].takenOut.size() == 1);
    CHECK(less.planes[0].takenOut[0] == drawn);
    CHECK_FALSE(less.planes[0].region().holds({80, 35}));
    CHECK(shot.planes[0].region().holds({80, 35}));
    // A corner of the part taken out is the third outline's.
    const Shot moved = withPlaneCornerMoved(less, 1, 2, 1, 20, {95, 18});
    CHECK(((pose * moved.planes[0].takenOut[0][1].homogeneous()).hnormalized() - Vector2d(95, 18)).norm() < 1e-9);
    CHECK(withPlaneOutlineRemoved(moved, 1, 2).planes[0].takenOut.isEmpty());
    CHECK(withPlaneOutlineRemoved(shot, 1, 0).planes[0].outlines.size() == 1);
    // Where the plane is not, nothing is drawn.
    CHECK(withPlaneOutlineAdded(shot, 1, 99, drawn, false).planes[0].outlines.size() == 1);
}

TEST_CASE("planes get free names, and tracked ones are merged by their ids unless they are locked") {
    Shot shot = withPlaneAdded(shotWith(movingPlane()), {{10, 10}, {90, 10}, {90, 80}}, 5);
    shot = withPlaneAdded(shot, {{10, 10}, {90, 10}, {90, 80}}, 6);
    REQUIRE(shot.planes.size() == 3);
    CHECK(shot.planes[1].name == "plane 1");
    CHECK(shot.planes[2].name == "plane 2");
    shot = withPlaneRenamed(shot, shot.planes[2].id, "board");
    CHECK(shot.planes[2].name == "board 2");
    PlanarTrack tracked = shot.planes[1];
    tracked.samples = movingPlane().samples;
    tracked.endReason = PlaneEnd::covered;
    CHECK(withPlanesTracked(shot, {tracked}).planes[1].samples.size() == 41);
    shot = withPlaneEdited(shot, tracked.id, [](PlanarTrack& plane) { plane.locked = true; });
    CHECK(withPlanesTracked(shot, {tracked}).planes[1].samples.isEmpty());
    FrameCache frames(planes::plateOf(smallCase()));
    const auto locked = runPlanes(shot, frames, {tracked.id}, 5, Direction::both);
    REQUIRE_FALSE(locked);
    CHECK(locked.error().message == "plane plane 1 is locked; unlock it to track it");
    const auto none = runPlanes(shot, frames, {99}, 5, Direction::both);
    REQUIRE_FALSE(none);
    CHECK(none.error().message.find("no plane is chosen") != std::string::npos);
}

TEST_CASE("a shot's planes that make no sense are refused with their place") {
    const Shot shot = *withPlaneTie(shotWith(movingPlane()), 1, 10, quad(40, 30, 140, 110));
    const std::string whole = shotJson(shot, "made.pinion");
    REQUIRE(parseShot(whole, "made.pinion"));
    const auto refused = [&](const std::string& from, const std::string& to) {
        std::string contents = whole;
        const auto at = contents.find(from);
        REQUIRE(at != std::string::npos);
        contents.replace(at, from.size(), to);
        const auto read = parseShot(contents, "made.pinion");
        REQUIRE_FALSE(read);
        return read.error().message;
    };
    CHECK(refused("\"end\":\"none\",\"id\":1", "\"end\":\"tired\",\"id\":1").find("planes[0].end") !=
          std::string::npos);
    CHECK(refused("\"reference_frame\":10,\"samples\"", "\"reference_frame\":1.5,\"samples\"")
              .find("planes[0].reference_frame") != std::string::npos);
}
