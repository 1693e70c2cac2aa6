// Cylinders: their shape from two sides, tracks round them on photographs wrapped round made-up bodies, their surfaces.

#include "comp/bend.h"
#include "jobs/planing.h"
#include "jobs/squaring.h"
#include "shot/carriers/carriers.h"
#include "planar/planartracking.h"
#include "planar/surface.h"
#include "planes/roundcase.h"
#include "plate/framewriter.h"
#include "scratch.h"
#include "shot/edits/planeedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/planesstage.h"

#include <algorithm>
#include <catch2/catch.hpp>
#include <cmath>
#include <filesystem>
#include <nlohmann/json.hpp>

using namespace pinion;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

/// Quick enough for a test.
planes::RoundCase smallBody() {
    planes::RoundCase c;
    c.seed = 3;
    c.surface = "graf1.png";
    c.behind = "home.jpg";
    c.width = 320;
    c.height = 240;
    c.frames = 11;
    c.focal_px = 380;
    c.radius_px = 62;
    c.lean = 0.25;
    c.turnEnd = 0.55;
    c.travel = {24, 10};
    c.shake_px = 0.6;
    c.sidesOff_px = 0;
    return c;
}

int middleOfBody(const planes::RoundCase& c) { return (c.frames - 1) / 2; }

PlanarTrack tracked(const planes::RoundCase& c, bool freeFocal = false) {
    const auto plate = planes::plateOf(c);
    REQUIRE(plate);
    FrameCache frames(plate);
    const auto result = trackPlanes(frames, {planes::planeOf(c)}, middleOfBody(c), {0, c.frames - 1}, Direction::both,
                                    Progress{}, {}, {}, freeFocal);
    REQUIRE(result);
    return result->planes.front();
}

struct Wrong {
    double corner_px = 0, turn_deg = 0;  ///< the worst; corners that face the camera
};

Wrong wrongOf(const planes::RoundCase& c, const PlanarTrack& plane) {
    Wrong wrong;
    for (const PlaneSample& sample : plane.samples) {
        const auto quad = surfaceAt(plane, sample.frame);
        if (!quad) continue;
        const auto turn = turnAt(plane, sample.frame);
        REQUIRE(turn);
        wrong.turn_deg = std::max(wrong.turn_deg, std::abs(*turn - planes::turnAt(c, sample.frame)));
        for (std::size_t i = 0; i < 4; ++i) {
            double cosine = 0;
            const Vector2d place = planes::roundCorners(c)[i];
            const Vector2d truth = planes::placeAt(c, sample.frame, place.x(), place.y(), &cosine);
            if (cosine > 0.25) wrong.corner_px = std::max(wrong.corner_px, ((*quad)[i] - truth).norm());
        }
    }
    return wrong;
}

Shot shotWithBody(const PlanarTrack& plane, const planes::RoundCase& c) {
    Shot shot;
    shot.name = "made";
    shot.plate.path = "made.mov";
    shot.plate.width = c.width;
    shot.plate.height = c.height;
    shot.plate.frames = shot.plate.range = {0, c.frames - 1};
    shot.planes = List<PlanarTrack>({plane});
    shot.nextPlane = 2;
    return shot;
}

}  // namespace

TEST_CASE("a cylinder is told by its two sides, wherever it leans") {
    const Lens lens = pinholeLens(1280, 720, 1100);
    for (const double lean : {0.0, 0.6, -1.2, 1.5707963}) {
        const Vector3d axis(-std::sin(lean) * 0.98, std::cos(lean) * 0.98, 0.198997);
        const Cylinder made{axis.normalized(), Vector3d(0.7, -0.4, 6.5), Vector3d(0, 0, -1)};
        // Points of the contour: where the surface is seen edge-on.
        Cylinder round = made;
        round.front = (-made.middle + made.axis * made.axis.dot(made.middle)).normalized();
        const auto seen = [&](double side, double along) {
            return seenAt(lens, round.at({round.facing() + side * round.visible(), along}));
        };
        const std::array<Vector2d, 4> ends{seen(1, 1.3), seen(1, -1.3), seen(-1, -1.3), seen(-1, 1.3)};
        const auto found = Cylinder::fromSides(lens, sidesInOrder(ends));
        INFO("lean " << lean);
        REQUIRE(found);
        CHECK(std::abs(found->axis.dot(made.axis.normalized())) == Approx(1).epsilon(1e-9));
        // The same line for its axis.
        const Vector3d apart = found->middle - made.middle;
        CHECK((apart - made.axis.normalized() * made.axis.normalized().dot(apart)).norm() < 1e-6);
        // A place is found where it was put, its angle counted to the right.
        const Vector2d place(0.4, -0.7);
        CHECK((found->placeOf(found->met(rayOf(lens, seenAt(lens, found->at(place))))) - place).norm() < 1e-9);
        const Vector2d right = seenAt(lens, found->at({0.3, 0})) - seenAt(lens, found->at({-0.3, 0}));
        const Vector2d down = seenAt(lens, found->at({0, 0.3})) - seenAt(lens, found->at({0, -0.3}));
        CHECK(right.x() * down.y() - right.y() * down.x() > 0);
    }
}

TEST_CASE("sides that no cylinder has are refused with what to do") {
    const Lens lens = pinholeLens(1280, 720, 1100);
    const auto refused = [&](const Quad& sides) {
        const auto found = Cylinder::fromSides(lens, sides);
        REQUIRE_FALSE(found);
        return found.error().message;
    };
    const std::string crossed = refused({Vector2d(500, 200), {700, 200}, {500, 500}, {700, 500}});
    CHECK(crossed.find("sides of the cylinder cross") != std::string::npos);
    CHECK(crossed.find("along its left contour") != std::string::npos);
    CHECK_FALSE(refused({Vector2d(500, 200), {500, 200}, {500, 500}, {500, 500}}).empty());
    // A place that passes by is taken to the contour.
    const auto found = Cylinder::fromSides(lens, {Vector2d(500, 200), {700, 200}, {700, 500}, {500, 500}});
    REQUIRE(found);
    bool missed = false;
    const Vector3d met = found->met(rayOf(lens, {900, 350}), &missed);
    CHECK(missed);
    CHECK(seenAt(lens, met).x() == Approx(700).margin(3));
    found->met(rayOf(lens, {600, 350}), &missed);
    CHECK_FALSE(missed);
}

TEST_CASE("a photograph round a cylinder is followed with its turn") {
    planes::RoundCase c = smallBody();
    SECTION("leaning") {}
    SECTION("with grain and changing light, seen nearer") {
        c.grain = 3;
        c.gainEnd = 0.8;
        c.scaleEnd = 1.2;
    }
    SECTION("behind a bar") {
        c.cover = 0.4;
        c.turnEnd = -0.5;
    }
    const PlanarTrack plane = tracked(c);
    REQUIRE(plane.samples.size() == 11);
    const Wrong wrong = wrongOf(c, plane);
    CHECK(wrong.turn_deg < 0.5);
    CHECK(wrong.corner_px < 0.5);
    for (const PlaneSample& sample : plane.samples) CHECK(sample.fit > 0.95F);
}

TEST_CASE("sides drawn two pixels off, and an unknown focal length, are fitted to what was tracked") {
    planes::RoundCase c = smallBody();
    const Quad truth = *planes::planeOf(c).sides;
    c.sidesOff_px = 2;
    c.turnEnd = 0.7;
    SECTION("sides") {
        const PlanarTrack drawn = planes::planeOf(c), plane = tracked(c);
        double before = 0, after = 0;
        for (std::size_t i = 0; i < 4; ++i) {
            // Along the side an end may be anywhere.
            const Vector2d across = (truth[1] - truth[0]).normalized();
            before += std::abs(across.dot((*drawn.sides)[i] - truth[i]));
            after += std::abs(across.dot((*plane.sides)[i] - truth[i]));
        }
        CHECK(before > 2.5);
        CHECK(after < 0.6 * before);
        CHECK(wrongOf(c, plane).turn_deg < 0.5);
        CHECK(wrongOf(c, plane).corner_px < 0.7);
    }
    SECTION("focal length") {
        c.focalGuess = 1.2;
        const PlanarTrack plane = tracked(c, true);
        CHECK(plane.lens->focal_px == Approx(c.focal_px).epsilon(0.12));
        CHECK(wrongOf(c, plane).turn_deg < 1.0);
        CHECK(wrongOf(c, plane).corner_px < 0.8);
    }
}

TEST_CASE("a cylinder stepped by a frame first is fitted all the same when it is tracked") {
    planes::RoundCase c = smallBody();
    c.sidesOff_px = 2;
    FrameCache frames(planes::plateOf(c));
    const int middle = middleOfBody(c);
    const PlanarTrack drawn = planes::planeOf(c);
    const auto step = trackPlanes(frames, {drawn}, middle, {middle - 1, middle + 1}, Direction::forward);
    REQUIRE(step);
    CHECK(step->planes[0].samples.size() == 2);
    const auto all = trackPlanes(frames, step->planes, middle, {0, c.frames - 1}, Direction::both);
    REQUIRE(all);
    CHECK(all->planes[0].samples.size() == 11);
    CHECK(all->planes[0].sides != drawn.sides);
    CHECK(wrongOf(c, all->planes[0]).turn_deg < 0.5);
    CHECK(wrongOf(c, all->planes[0]).corner_px < 0.7);
    // Once it is fitted to enough, its sides stay.
    const auto again = trackPlanes(frames, all->planes, middle, {0, c.frames - 1}, Direction::both);
    REQUIRE(again);
    CHECK(again->planes[0].sides == all->planes[0].sides);
}

TEST_CASE("a cylinder that turns on is followed by what comes into view, or ends where that is bare") {
    planes::RoundCase c = smallBody();
    c.frames = 25;
    c.turnEnd = 2.6;
    c.span = 0.8;
    SECTION("texture all round") {
        const PlanarTrack plane = tracked(c);
        REQUIRE(plane.samples.size() == 25);
        CHECK(std::any_of(plane.samples.begin(), plane.samples.end(), [](const PlaneSample& s) { return s.renewed; }));
        double worst = 0;
        for (const PlaneSample& sample : plane.samples)
            worst = std::max(
                worst, std::abs(std::remainder(*turnAt(plane, sample.frame) - planes::turnAt(c, sample.frame), 360.0)));
        CHECK(worst < 3);
        // The surface is not there while the body shows its other side.
        CHECK(surfaceAt(plane, middleOfBody(c) + 2));
        CHECK_FALSE(surfaceAt(plane, 24));
        CHECK_FALSE(surfaceAt(plane, 0));
        // Rendered it is left out there.
        const auto seen = planes::plateOf(c);
        FrameCache shown(seen);
        const test::Scratch scratch;
        const auto report =
            runSquared(*carrierOf(shotWithBody(plane, c), rideOnPlane(1)), shown, scratch / "s.####.png", 40, 40);
        REQUIRE(report);
        CHECK(report->frames > 6);
        CHECK(report->frames < 25);
        CHECK(std::filesystem::exists(scratch / "s.0012.png"));
        CHECK_FALSE(std::filesystem::exists(scratch / "s.0000.png"));
        // Taken up again where its reference was taken anew, it goes on the same way.
        const auto plate = planes::plateOf(c);
        FrameCache frames(plate);
        const auto again = trackPlanes(frames, {plane}, 23, {0, 24}, Direction::forward);
        REQUIRE(again);
        CHECK(*turnAt(again->planes[0], 24) == Approx(*turnAt(plane, 24)).margin(0.5));
    }
    SECTION("bare beyond what is drawn on it") {
        c.bare = true;
        const PlanarTrack plane = tracked(c);
        CHECK(plane.endReason == PlaneEnd::turnedAway);
        CHECK(plane.startReason == PlaneEnd::turnedAway);
        CHECK(plane.lastFrame() > middleOfBody(c) + 3);
        CHECK(plane.lastFrame() < 24);
        CHECK(wordsOf(plane, {0, 24}).find("turned away") != std::string::npos);
    }
}

TEST_CASE("the surface of a cylinder is unrolled, and stands still") {
    const planes::RoundCase c = smallBody();
    const PlanarTrack plane = tracked(c);
    const auto sheet = SurfaceSheet::of(plane, middleOfBody(c));
    REQUIRE(sheet);
    CHECK(sheet->isCurved());
    // Twice 0.9 of the span round, twice 0.9 along.
    CHECK(sheet->widthToHeight() == Approx(c.span).epsilon(0.03));
    const Vector2d somewhere(0.3, 0.8);
    CHECK((*sheet->onSheet(sheet->onPlate(somewhere)) - somewhere).norm() < 1e-6);
    CHECK(sheet->faces({0.5, 0.5}));
    FrameCache frames(planes::plateOf(c));
    const test::Scratch scratch;
    const auto report =
        runSquared(*carrierOf(shotWithBody(plane, c), rideOnPlane(1)), frames, scratch / "s.####.png", 120, 120);
    REQUIRE(report);
    CHECK(report->frames == 11);
    const auto first = readStill(scratch / "s.0003.png"), last = readStill(scratch / "s.0007.png");
    REQUIRE(first);
    REQUIRE(last);
    CHECK((*first)->width == 120);
    double apart = 0, along = 0;
    for (std::size_t i = 0; i + 9 < (*first)->bytes.size(); ++i) {
        apart += std::abs(double((*first)->bytes[i]) - double((*last)->bytes[i]));
        along += std::abs(double((*first)->bytes[i]) - double((*first)->bytes[i + 9]));
    }
    CHECK(apart < 0.5 * along);
}

TEST_CASE("what was painted on an unrolled surface goes back round the cylinder") {
    const planes::RoundCase c = smallBody();
    const PlanarTrack plane = tracked(c);
    Shot shot = shotWithBody(plane, c);
    shot.plate.range = {3, 7};
    FrameCache frames(planes::plateOf(c));
    const test::Scratch scratch;
    REQUIRE(runSquared(*carrierOf(shot, rideOnPlane(1)), frames, scratch / "s.####.png", 120, 120));
    Picture picture = **readStill(scratch / "s.0004.png");
    for (int y = 50; y < 70; ++y)
        for (int x = 50; x < 70; ++x)
            for (int k = 0; k < 3; ++k) picture.bytes[std::size_t(3 * (y * 120 + x) + k)] = k == 0 ? 250 : 10;
    const auto writer = FrameWriter::create(scratch / "p.####.png", 120, 120, FrameRate{24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(4, picture));
    REQUIRE((*writer)->finish());
    const auto painted = Plate::open(scratch / "p.####.png");
    REQUIRE(painted);
    FrameCache made(*painted);
    const auto report = runPutBackSurface(*carrierOf(shot, rideOnPlane(1)), frames, made, scratch / "b.####.png");
    REQUIRE(report);
    CHECK(report->unchanged == std::vector<int>{3, 5, 6, 7});
    const auto back = readStill(scratch / "b.0004.png");
    const auto plate = frames.get(4);
    REQUIRE(back);
    const auto sheet = SurfaceSheet::of(plane, 4);
    const Vector2d middle = sheet->onPlate({0.5, 0.5});
    CHECK(int((*back)->bytes[std::size_t(3 * (int(middle.y()) * c.width + int(middle.x())))]) > 240);
    int differ = 0, changed = 0;
    for (int y = 0; y < c.height; ++y)
        for (int x = 0; x < c.width; ++x) {
            const auto on = sheet->onSheet({x + 0.5, y + 0.5});
            const auto i = std::size_t(3 * (y * c.width + x));
            const bool same = std::equal(&(*back)->bytes[i], &(*back)->bytes[i] + 3, &(*plate)->bytes[i]);
            const bool near = on && (*on - Vector2d(0.5, 0.5)).cwiseAbs().maxCoeff() < 0.14;
            (near ? changed : differ) += !same;
        }
    CHECK(differ == 0);
    CHECK(changed > 200);
}

TEST_CASE("ties on a cylinder are spread round it, and a corrected one is tracked on from") {
    const planes::RoundCase c = smallBody();
    const PlanarTrack plane = tracked(c);
    Shot shot = shotWithBody(plane, c);
    Quad corrected = *surfaceAt(plane, 8);
    for (Vector2d& corner : corrected) corner += Vector2d(2.5, -1);
    const auto tied = withPlaneTie(shot, 1, 8, corrected);
    REQUIRE(tied);
    const PlanarTrack& now = tied->planes[0];
    CHECK(((*surfaceAt(now, 8))[1] - corrected[1]).norm() < 1e-9);
    const double half = ((*surfaceAt(now, 6))[1] - (*surfaceAt(plane, 6))[1]).norm();
    CHECK(half > 0.3);
    CHECK(half < 2.5);
    // Anew: the pose itself takes the correction in.
    const PlanarTrack begun = begunAnew(now, 8);
    REQUIRE(begun.ties.size() == 1);
    CHECK(sampleAt(begun, 8)->anew);
    for (std::size_t i = 0; i < 4; ++i) CHECK(((*surfaceAt(begun, 8))[i] - corrected[i]).norm() < 1.2);
}

TEST_CASE("a shot keeps a cylinder, and refuses poses that are none") {
    const planes::RoundCase c = smallBody();
    PlanarTrack plane = planes::planeOf(c);
    SurfacePose pose;
    pose.matrix = Eigen::AngleAxisd(0.4, Vector3d(0.2, 1, 0.1).normalized()).toRotationMatrix();
    pose.shift = {0.25, -0.5, 1.125};
    plane.samples = List<PlaneSample>({{.frame = 5, .pose = pose}});
    plane.endReason = PlaneEnd::turnedAway;
    const Shot shot = shotWithBody(plane, c);
    const std::string whole = shotJson(shot, "made.pinion");
    const auto read = parseShot(whole, "made.pinion");
    REQUIRE(read);
    const PlanarTrack& again = read->planes[0];
    CHECK(again.sides == plane.sides);
    CHECK(again.endReason == PlaneEnd::turnedAway);
    CHECK(again.samples[0].pose.matrix == pose.matrix);
    CHECK(again.samples[0].pose.shift == pose.shift);
    const auto refused = [&](const Shot& bad) {
        const auto found = parseShot(shotJson(bad, "made.pinion"), "made.pinion");
        REQUIRE_FALSE(found);
        return found.error().message;
    };
    PlanarTrack bent = plane;
    pose.matrix(0, 0) += 0.5;
    bent.samples = List<PlaneSample>({{.frame = 5, .pose = pose}});
    CHECK(refused(shotWithBody(bent, c)).find("its 3x3 is no turn") != std::string::npos);
    // With its sides taken out of the file, or its lens.
    const auto without = [&](const std::string& key) {
        auto document = nlohmann::json::parse(whole);
        document["planes"][0].erase(key);
        const auto found = parseShot(document.dump(), "made.pinion");
        REQUIRE_FALSE(found);
        return found.error().message;
    };
    CHECK(without("cylinder").find("planes[0].samples[0]") != std::string::npos);
    CHECK(without("lens").find("planes[0].lens") != std::string::npos);
}

TEST_CASE("drawing sides makes a cylinder of a plane, and lets go of what was tracked as another surface") {
    const planes::RoundCase c = smallBody();
    PlanarTrack plane = planes::planeOf(c);
    const Quad sides = *plane.sides;
    plane.sides.reset();
    plane.samples = List<PlaneSample>({{.frame = 5}, {.frame = 6}});
    plane.ties = List<PlaneTie>({plane.ties[0], {6, plane.ties[0].corners}});
    const Shot shot = shotWithBody(plane, c);
    const auto round = withPlaneSides(shot, 1, sides);
    REQUIRE(round);
    CHECK(round->planes[0].samples.isEmpty());
    REQUIRE(round->planes[0].ties.size() == 1);
    CHECK(round->planes[0].ties[0].frame == 5);
    CHECK_FALSE(withPlaneSides(shot, 1, Quad{sides[0], sides[1], sides[3], sides[2]}));
    CHECK_FALSE(withPlaneSides(shot, 7, sides));
    const auto flat = withPlaneSides(*round, 1, std::nullopt);
    REQUIRE(flat);
    CHECK_FALSE(flat->planes[0].sides);
    // The focal length that a cylinder is seen with is told, measured or the usual one.
    CHECK_FALSE(knowsFocal(shot));
    Shot told = shot;
    told.solveSettings.focal = Knowledge::known;
    told.solveSettings.focal_mm = 36;
    told.solveSettings.sensorWidth_mm = 36;
    CHECK(knowsFocal(told));
    CHECK(cylinderLens(told).focal_px == Approx(c.width));
}
