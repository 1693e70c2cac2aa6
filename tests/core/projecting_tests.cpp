// Pictures and mattes of one frame thrown on to surfaces of the scene, seen on others.

#include "jobs/gathering.h"
#include "jobs/projecting.h"
#include "jobs/standing.h"

#include "matte/coverage.h"
#include "picture/picture.h"
#include "plate/framewriter.h"
#include "render/projector.h"
#include "scratch.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/sceneedits.h"
#include "shot/file/shotfile.h"
#include "shot/layers/layers.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <catch2/catch.hpp>
#include <cmath>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kWide = 320, kHigh = 180;
constexpr double kFocal = 300;

/// A camera at eye height that goes sideways and ahead, turns, and looks down.
Solve walking(double k1 = 0) {
    Solve solve;
    solve.lens = pinholeLens(kWide, kHigh, kFocal);
    solve.lens.k1 = k1;
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1011; ++frame) {
        const double t = frame - 1001;
        Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
        pose.translate(Vector3d(0.25 * t - 1, 1.7 + 0.02 * t, 5 - 0.1 * t));
        pose.rotate(Eigen::AngleAxisd(0.04 * (t - 5), Vector3d::UnitY()) * Eigen::AngleAxisd(-0.4, Vector3d::UnitX()) *
                    Eigen::AngleAxisd(0.02 * t, Vector3d::UnitZ()));
        frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = kFocal});
    }
    solve.frames = List<SolvedFrame>(std::move(frames));
    return solve;
}

WorldEye eyeOn(const Solve& solve, int frame) {
    auto eye = WorldEye::of(solve, {}, frame);
    REQUIRE(eye);
    return *eye;
}

/// Takes the plate of `from` to that of `to` by a plane of the world, worked out by hand: K (R - t n'/d) K^-1 (Hartley
/// and Zisserman 2004, section 13.1), for a lens without distortion.
Matrix3d homographyBy(const Solve& solve, int from, int to, const Vector3d& at, const Vector3d& normal) {
    // Camera axes of the plate: x right, y down, z ahead.
    const Matrix3d flip = Vector3d(1, -1, -1).asDiagonal();
    const auto poseOf = [&](int frame) { return solvedFrameAt(solve, frame)->worldFromCamera; };
    const Matrix3d a = flip * poseOf(from).linear().transpose(), b = flip * poseOf(to).linear().transpose();
    const Vector3d centreA = poseOf(from).translation(), centreB = poseOf(to).translation();
    const Matrix3d rotation = b * a.transpose();
    const Vector3d shift = b * (centreA - centreB), n = a * normal;
    const double distance = normal.dot(at - centreA);
    Matrix3d k;
    k << kFocal, 0, solve.lens.cx, 0, kFocal, solve.lens.cy, 0, 0, 1;
    return k * (rotation + shift * n.transpose() / distance) * k.inverse();
}

/// Red tells how far right a place is, green how far down; linear.
std::shared_ptr<const SurfacePicture> ramp() {
    Picture picture{kWide, kHigh, Picture::Depth::float32, true, {}, {}};
    for (int y = 0; y < kHigh; ++y)
        for (int x = 0; x < kWide; ++x) {
            picture.floats.push_back(float((x + 0.5) / kWide));
            picture.floats.push_back(float((y + 0.5) / kHigh));
            picture.floats.push_back(0.5F);
        }
    return std::make_shared<const SurfacePicture>(picture);
}

std::shared_ptr<const SurfacePicture> plain(const std::array<double, 3>& colour, double alpha = 1) {
    ImageChannel covered(kWide, kHigh);
    std::fill(covered.values.begin(), covered.values.end(), float(alpha));
    return std::make_shared<const SurfacePicture>(plainPicture(colour, kWide, kHigh), &covered);
}

constexpr PixelBox kAll{0, 0, kWide, kHigh};

/// The whole frame: clear where the layer does not reach.
struct WholeFrame {
    std::vector<float> rgba = std::vector<float>(4 * std::size_t(kWide) * kHigh, 0.0F);
    explicit WholeFrame(const Layer& layer) {
        for (int y = layer.box.y0; y < layer.box.y1; ++y)
            for (int x = layer.box.x0; x < layer.box.x1; ++x)
                std::copy_n(layer.at(x, y), 4, rgba.data() + 4 * (std::size_t(y) * kWide + std::size_t(x)));
    }
    const float* at(int x, int y) const { return rgba.data() + 4 * (std::size_t(y) * kWide + std::size_t(x)); }
};

}  // namespace

TEST_CASE("a picture on the ground comes from where the homography of the ground says, through a plain lens") {
    const Solve solve = walking();
    const Projector projector({{1003, eyeOn(solve, 1003), ramp()}}, {}, kWide, kHigh);
    for (const int frame : {1003, 1001, 1009}) {
        const WholeFrame layer(projector.on(eyeOn(solve, frame), frame, kAll, true));
        const Matrix3d back = homographyBy(solve, 1003, frame, {0, 0, 0}, {0, 1, 0}).inverse();
        int checked = 0;
        double worst = 0;
        for (int y = 0; y < kHigh; y += 3)
            for (int x = 0; x < kWide; x += 3) {
                const Vector2d from = (back * Vector3d(x + 0.5, y + 0.5, 1)).hnormalized();
                const float* pixel = layer.at(x, y);
                if (from.x() < -3 || from.y() < -3 || from.x() > kWide + 3 || from.y() > kHigh + 3)
                    CHECK(pixel[3] == 0);
                if (from.x() < 3 || from.y() < 3 || from.x() > kWide - 3 || from.y() > kHigh - 3) continue;
                REQUIRE(pixel[3] == Approx(1).margin(1e-5));
                worst = std::max({worst, std::abs(double(pixel[0]) * kWide - from.x()),
                                  std::abs(double(pixel[1]) * kHigh - from.y())});
                ++checked;
            }
        INFO(frame << ": " << worst);
        CHECK(checked > 2000);
        CHECK(worst < 0.02);
    }
}

TEST_CASE("a matte of one frame lies on the ground of every frame, its edges where the homography takes them") {
    const Solve solve = walking();
    Matte matte;
    matte.keys = {{1005, {{90, 80}, {220, 92}, {240, 150}, {70, 140}}}};
    const std::vector<Matte> mattes{matte};
    const std::vector<int> from{1005};
    const auto thrown = mattesThrown(mattes, from, solve, {});
    REQUIRE(thrown);
    const Projector projector(*thrown, {}, kWide, kHigh);
    for (const int frame : {1002, 1009}) {
        const Matrix3d moved = homographyBy(solve, 1005, frame, {0, 0, 0}, {0, 1, 0});
        Matte expected = matte;
        for (Vector2d& corner : expected.keys[0].polygon) corner = (moved * corner.homogeneous()).hnormalized();
        const ImageChannel truth = coverageOf(expected, 1005, kWide, kHigh);
        const WholeFrame layer(projector.on(eyeOn(solve, frame), frame, kAll, true));
        double ours = 0, theirs = 0, off = 0, edge = 0;
        Vector2d ourMiddle(0, 0), theirMiddle(0, 0);
        for (int y = 0; y < kHigh; ++y)
            for (int x = 0; x < kWide; ++x) {
                const auto a = double(layer.at(x, y)[3]),
                           b = double(truth.values[std::size_t(y) * kWide + std::size_t(x)]);
                ours += a;
                theirs += b;
                ourMiddle += a * Vector2d(x, y);
                theirMiddle += b * Vector2d(x, y);
                off += std::abs(a - b);
                edge += b > 0.01 && b < 0.99 ? 1 : 0;
            }
        INFO(frame << ": " << ours << " of " << theirs << ", off " << off / edge);
        CHECK(ours == Approx(theirs).epsilon(0.003));
        CHECK((ourMiddle / ours - theirMiddle / theirs).norm() < 0.02);
        CHECK(off / edge < 0.3);  // an edge that was filtered twice is softer, and in its place
    }
}

TEST_CASE("what is thrown through a bent lens and seen through it comes back to its own place") {
    const Solve solve = walking(-0.15);
    const Projector projector({{1004, eyeOn(solve, 1004), ramp()}}, {}, kWide, kHigh);
    const WholeFrame own(projector.on(eyeOn(solve, 1004), 1004, kAll, true));
    const WorldEye other = eyeOn(solve, 1008);
    const WholeFrame seen(projector.on(other, 1008, kAll, true));
    int checked = 0;
    for (int y = 4; y < kHigh - 4; y += 5)
        for (int x = 4; x < kWide - 4; x += 5) {
            if (own.at(x, y)[3] > 0.999F) {
                CHECK(double(own.at(x, y)[0]) * kWide == Approx(x + 0.5).margin(0.02));
                CHECK(double(own.at(x, y)[1]) * kHigh == Approx(y + 0.5).margin(0.02));
            }
            // A place of the ground that both see has the colour of where the first sees it.
            const auto world = eyeOn(solve, 1004).rayThrough({x + 0.5, y + 0.5});
            REQUIRE(world);
            if (world->along.y() > -0.05) continue;
            const Vector3d place = world->from - world->from.y() / world->along.y() * world->along;
            const auto there = other.plateFromWorld(place);
            if (!there || there->x() < 3 || there->y() < 3 || there->x() > kWide - 3 || there->y() > kHigh - 3)
                continue;
            // Between the middles of four pixels.
            const int u = int(std::floor(there->x() - 0.5)), v = int(std::floor(there->y() - 0.5));
            const double a = there->x() - 0.5 - u, b = there->y() - 0.5 - v;
            const auto mixed = [&](std::size_t c) {
                const auto at = [&](int i, int j) { return double(seen.at(u + i, v + j)[c]); };
                return (1 - b) * ((1 - a) * at(0, 0) + a * at(1, 0)) + b * ((1 - a) * at(0, 1) + a * at(1, 1));
            };
            if (mixed(3) < 0.999) continue;
            CHECK(mixed(0) * kWide == Approx(x + 0.5).margin(0.03));
            CHECK(mixed(1) * kHigh == Approx(y + 0.5).margin(0.03));
            ++checked;
        }
    CHECK(checked > 500);
}

TEST_CASE("a picture on a box lies on the sides that its camera saw, goes with the box, and is nowhere else") {
    const Solve solve = walking();
    StandIn box;
    box.name = "crate";
    box.stance = {{0, 0, 0}, {0, 30, 0}, {1, 1, 1}};
    const auto thrownOn = [&](const StandIn& one) {
        ThrownOn onto;
        onto.standIn = one;
        return Projector({{1001, eyeOn(solve, 1001), ramp()}}, onto, kWide, kHigh);
    };
    const Projector projector = thrownOn(box);
    const WholeFrame own(projector.on(eyeOn(solve, 1001), 1001, kAll, true));
    const Vector2d front = *eyeOn(solve, 1001).plateFromWorld(box.stance.worldFromUnit() * Vector3d(0.2, 0.4, 0.5));
    const float* there = own.at(int(front.x()), int(front.y()));
    CHECK(there[3] == Approx(1));
    CHECK(double(there[0]) * kWide == Approx(front.x()).margin(0.6));
    CHECK(own.at(3, kHigh - 3)[3] == 0);  // the ground beside it
    // From behind, only what the first camera saw: not its own front.
    Solve behind = solve;
    Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
    pose.translate(Vector3d(0, 1.7, -5));
    pose.rotate(Eigen::AngleAxisd(3.14159265, Vector3d::UnitY()) * Eigen::AngleAxisd(-0.3, Vector3d::UnitX()));
    behind.frames = std::vector<SolvedFrame>{{.frame = 1001, .worldFromCamera = pose, .focal_px = kFocal}};
    const WorldEye back = eyeOn(behind, 1001);
    const WholeFrame seen(projector.on(back, 1001, kAll, true));
    const auto alphaAt = [&](const WholeFrame& layer, const WorldEye& eye, const Vector3d& unit, const Stance& stance) {
        const Vector2d at = *eye.plateFromWorld(stance.worldFromUnit() * unit);
        return layer.at(int(at.x()), int(at.y()))[3];
    };
    CHECK(alphaAt(seen, back, {0.1, 0.5, -0.5}, box.stance) == 0);       // the side turned away from the first
    CHECK(alphaAt(seen, back, {0.1, 1, 0.1}, box.stance) == Approx(1));  // its top, which both see
    // It moves: the picture stays on the same place of it.
    StandIn moving = box;
    const Stance later{{0.6, 0.2, 0.3}, {0, 70, 0}, {1, 1, 1}};
    moving.keys = std::vector<StanceKey>{{1001, box.stance}, {1006, later}};
    const WorldEye eye = eyeOn(solve, 1006);
    const WholeFrame moved(thrownOn(moving).on(eye, 1006, kAll, true));
    const Vector3d unit(0.1, 1, 0.2);
    const Vector2d was = *eyeOn(solve, 1001).plateFromWorld(box.stance.worldFromUnit() * unit),
                   is = *eye.plateFromWorld(later.worldFromUnit() * unit);
    const float* pixel = moved.at(int(is.x()), int(is.y()));
    REQUIRE(pixel[3] == Approx(1));
    CHECK(double(pixel[0]) * kWide == Approx(was.x()).margin(1.5));
    CHECK(double(pixel[1]) * kHigh == Approx(was.y()).margin(1.5));
}

TEST_CASE("pictures of several frames are blended by the angle, and what one leaves clear the others show") {
    const Solve solve = walking();
    const auto seenOn = [&](std::vector<ThrownPicture> pictures, int frame) {
        const WholeFrame layer(
            Projector(std::move(pictures), {}, kWide, kHigh).on(eyeOn(solve, frame), frame, kAll, true));
        const float* pixel = layer.at(kWide / 2, kHigh - 50);
        return std::array<float, 4>{pixel[0], pixel[1], pixel[2], pixel[3]};
    };
    const auto red = plain({1, 0, 0}), blue = plain({0, 0, 1}), clear = plain({0, 1, 0}, 0);
    const auto pair = [&](int frame, const auto& last) {
        return seenOn({{1001, eyeOn(solve, 1001), red}, {1011, eyeOn(solve, 1011), last}}, frame);
    };
    const auto first = pair(1001, blue), middle = pair(1006, blue), last = pair(1011, blue);
    CHECK(first[0] > middle[0]);
    CHECK(middle[0] > last[0]);
    CHECK(last[2] > 0.5F);
    CHECK(first[0] > 0.5F);
    CHECK(middle[0] == Approx(0.5).margin(0.05));
    for (const auto& one : {first, middle, last}) {
        CHECK(one[3] == Approx(1));
        CHECK(one[0] + one[2] == Approx(1).margin(1e-5));
    }
    const auto through = pair(1006, clear);
    CHECK(through[0] == Approx(1).margin(1e-5));
    CHECK(through[1] == 0);
    CHECK(through[3] == Approx(1));
}

TEST_CASE("nothing is thrown edge-on, from a frame that does not see the surface, or by a picture of another shape") {
    const Solve solve = walking();
    const std::vector<int> from{1001}, none{1050};
    const auto refusal = [&](const ThrownOn& onto, const std::vector<int>& frames) {
        const auto checked = checkThrow(onto, frames, solve, {});
        return checked ? std::string() : checked.error().message;
    };
    CHECK(refusal({}, from).empty());
    CHECK(refusal({}, none).find("frame 1050 has no camera") != std::string::npos);
    // A wall before the camera that it looks along by 0.4 degrees, and one of 4.
    const WorldEye eye = eyeOn(solve, 1001);
    const auto wallBy = [&](double degrees) {
        ThrownOn wall;
        wall.isAbout = true;
        wall.at = eye.place() + 4 * eye.forward();
        wall.normal = Eigen::AngleAxisd(degrees * 0.0174533, Vector3d::UnitY()) *
                      eye.forward().cross(Vector3d::UnitY()).normalized();
        return wall;
    };
    CHECK(refusal(wallBy(0.4), from).find("edge-on on frame 1001 (by 0.4 degrees)") != std::string::npos);
    CHECK(refusal(wallBy(4), from).empty());
    ThrownOn sky;
    sky.at = {0, 30, 0};
    CHECK(refusal(sky, from).find("not seen on frame 1001") != std::string::npos);
    StandIn box;
    box.name = "crate";
    box.stance = {{0, 0, 30}, {0, 0, 0}, {1, 1, 1}};  // behind the camera
    ThrownOn hidden;
    hidden.standIn = box;
    CHECK(refusal(hidden, from).find("crate is not seen on frame 1001") != std::string::npos);
    const test::Scratch scratch;
    auto writer = FrameWriter::create(scratch / "a.####.png", 100, 100, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(1, plainPicture({1, 0, 0}, 100, 100)));
    REQUIRE((*writer)->finish());
    const auto clip = clipOf(scratch / "a.0001.png");
    REQUIRE(clip);
    ArtShelf shelf;
    const auto square = picturesThrown(*clip, from, solve, {}, shelf);
    REQUIRE_FALSE(square);
    CHECK(square.error().message.find("is 100x100, and does not fill a plate of 320x180") != std::string::npos);
    Matte nothing;
    nothing.keys = {{1001, {{-90, -80}, {-20, -92}, {-40, -15}}}};
    const std::vector<Matte> mattes{nothing};
    CHECK_FALSE(mattesThrown(mattes, from, solve, {}));
}

namespace {

Shot filmed(const Solve& solve) {
    Shot shot;
    shot.name = "walk";
    shot.plate.path = "/plates/walk.####.png";
    shot.plate.width = kWide;
    shot.plate.height = kHigh;
    shot.plate.frames = shot.plate.range = {1001, 1011};
    shot.plate.fps = {24, 1};
    shot.solve = std::make_shared<const Solve>(solve);
    return shot;
}

}  // namespace

TEST_CASE("what rides on the ground goes where the homography of the ground takes it, and says what is missing") {
    for (const double k1 : {0.0, -0.08}) {
        const Solve solve = walking(k1);
        Shot shot = filmed(solve);
        shot.scene.ground = 0.25;
        const auto carrier = carrierOf(shot, rideOnGround(1005));
        REQUIRE(carrier->problem().empty());
        CHECK(carrier->motion().frames.size() == 11);
        double worst = 0;
        for (const int frame : {1001, 1005, 1010})
            for (const Vector2d& at : {Vector2d(120, 110), Vector2d(200, 130), Vector2d(160, 95)}) {
                // By hand: the ray meets the level, and the other camera sees that place.
                const auto ray = eyeOn(solve, 1005).rayThrough(at);
                REQUIRE(ray);
                const Vector3d place = ray->from + (0.25 - ray->from.y()) / ray->along.y() * ray->along;
                const auto there = eyeOn(solve, frame).plateFromWorld(place);
                REQUIRE(there);
                const Vector2d carried = (carrier->plateFromReference(frame) * at.homogeneous()).hnormalized();
                worst = std::max(worst, (carried - *there).norm());
            }
        INFO("k1 " << k1 << ": " << worst);
        // One homography a frame for a picture that is bent: 0.4 % of its width beside the middle, as docs/accuracy.md
        // says.
        CHECK(worst < (k1 == 0 ? 0.01 : 0.005 * kWide));
    }
    Shot shot = filmed(walking());
    CHECK(wordsOf(shot, rideOnGround()) == "the ground");
    shot.scene.ground = 40;
    CHECK(carrierOf(shot, rideOnGround(1005))->problem().find("which frame 1005 does not see") != std::string::npos);
    CHECK(carrierOf(shot, rideOnGround(1050))->problem().find("not solved on frame 1050") != std::string::npos);
    shot.solve.reset();
    CHECK(carrierOf(shot, rideOnGround(1005))->problem().find("no solved camera") != std::string::npos);
}

TEST_CASE(
    "a thrown picture is a layer of the shot: seen on other frames, kept in its file, told when it lacks something") {
    const test::Scratch scratch;
    const Solve solve = walking(-0.1);
    auto writer = FrameWriter::create(scratch / "patch.####.png", kWide, kHigh, {24, 1});
    REQUIRE(writer);
    ImageChannel alpha(kWide, kHigh);
    for (int y = 100; y < 140; ++y)
        for (int x = 120; x < 220; ++x) alpha.values[std::size_t(y) * kWide + std::size_t(x)] = 1;
    REQUIRE((*writer)->write(1, plainPicture({0.9, 0.1, 0.7}, kWide, kHigh), alpha, AlphaKind::straight,
                             AlphaKind::straight));
    REQUIRE((*writer)->finish());
    const auto clip = clipOf(scratch / "patch.0001.png");
    REQUIRE(clip);
    Shot shot = withPictureThrown(filmed(solve), *clip, {1004}, 0);
    REQUIRE(shot.inserts.size() == 1);
    CHECK(shot.inserts[0].name == clip->name);
    const auto layerOn = [&](const Shot& of, int frame, std::vector<std::string>* notes = nullptr) {
        const InsertScene scene = insertSceneOf(of);
        if (notes) *notes = scene.notes;
        ArtShelf shelf;
        return scene.inserts.at(0).source->laid(
            {.frame = frame, .width = kWide, .height = kHigh, .fps = {24, 1}, .linear = false}, shelf, notes);
    };
    const auto pixel = [](const Layer& layer, const Vector2d& at) {
        const int x = int(at.x()), y = int(at.y());
        const bool isIn = x >= layer.box.x0 && y >= layer.box.y0 && x < layer.box.x1 && y < layer.box.y1;
        return isIn ? layer.at(x, y)[3] : 0.0F;
    };
    std::vector<std::string> notes;
    const Layer own = layerOn(shot, 1004, &notes);
    CHECK(notes.empty());
    CHECK(pixel(own, {170, 120}) == Approx(1));
    CHECK(own.at(170, 120)[0] == Approx(0.9).margin(0.01));
    CHECK(pixel(own, {100, 120}) == 0);
    const auto ray = eyeOn(solve, 1004).rayThrough({170, 120});
    const Vector3d place = ray->from - ray->from.y() / ray->along.y() * ray->along;
    CHECK(pixel(layerOn(shot, 1009), *eyeOn(solve, 1009).plateFromWorld(place)) == Approx(1));

    const auto saved = saveShot(shot, scratch / "s.pinion");
    INFO((saved ? std::string() : saved.error().message));
    REQUIRE(saved);
    const auto loaded = loadShot(scratch / "s.pinion");
    REQUIRE(loaded);
    REQUIRE(loaded->inserts.size() == 1);
    CHECK(loaded->inserts[0].kind == kThrownLayer);
    CHECK(loaded->inserts[0].time.start == 1004);
    CHECK(loaded->inserts[0].clip == shot.inserts[0].clip);

    // On a box it follows the box; without the box it says so.
    StandIn box;
    StandInId id = 0;
    box.stance = {{0, 0, 1}, {0, 30, 0}, {1, 1, 1}};
    Shot onBox = withStandInAdded(filmed(solve), box, &id);
    onBox.inserts = {};
    onBox = withPictureThrown(onBox, *clip, {1004}, id);
    const Vector3d top(0.05, 1, 0.1);
    const auto seenTop = [&](const Shot& of, int frame) {
        const Stance stance = of.scene.standIns[0].at(frame);
        return pixel(layerOn(of, frame), *eyeOn(solve, frame).plateFromWorld(stance.worldFromUnit() * top));
    };
    const Vector2d onPlate = *eyeOn(solve, 1004).plateFromWorld(box.stance.worldFromUnit() * top);
    INFO("the top is seen at " << onPlate.transpose());
    const float before = seenTop(onBox, 1004);
    Shot moved = withStanceKey(onBox, id, 1004);
    moved = withStance(moved, id, 1004, box.stance);
    moved = withStance(withStanceKey(moved, id, 1008), id, 1008, {{0.4, 0.1, 1.2}, {0, 60, 0}, {1, 1, 1}});
    CHECK(seenTop(moved, 1008) == Approx(before).margin(0.02));
    layerOn(withStandInRemoved(onBox, id), 1004, &notes);
    REQUIRE(notes.size() == 1);
    CHECK(notes[0].find("what it is thrown on is gone") != std::string::npos);
    Shot sky = shot;
    sky.scene.ground = 50;
    layerOn(sky, 1004, &notes);
    CHECK(notes.at(0).find("not seen on frame 1004") != std::string::npos);
    // What it shows depends on the ground, the camera and its frame.
    const auto keyOf = [](const Shot& of) {
        Fingerprint print;
        addInserts(print, of);
        return print.value();
    };
    CHECK(keyOf(sky) != keyOf(shot));
    Shot later = shot;
    later.inserts = later.inserts.edited([](auto& all) { all[0].time.start = 1005; });
    CHECK(keyOf(later) != keyOf(shot));
}

TEST_CASE("what frames show of a flat stand-in is gathered without what passes before it, and lies there as it was") {
    const test::Scratch scratch;
    const Solve solve = walking(-0.1);
    // A painted mat on the ground, a box that goes across it, and the plates that shows them.
    const auto painted = [](double x, double y) {
        return std::array<double, 3>{0.5 + 0.4 * std::sin(9 * x), 0.5 + 0.4 * std::cos(7 * y), 0.3 + 0.4 * x * y};
    };
    Picture mat{300, 200, Picture::Depth::float32, false, {}, {}};
    for (int y = 0; y < mat.height; ++y)
        for (int x = 0; x < mat.width; ++x)
            for (const double value : painted((x + 0.5) / mat.width, (y + 0.5) / mat.height))
                mat.floats.push_back(float(value));
    auto matWriter = FrameWriter::create(scratch / "mat.####.png", mat.width, mat.height, {24, 1});
    REQUIRE(matWriter);
    REQUIRE((*matWriter)->write(1, mat));
    REQUIRE((*matWriter)->finish());
    auto greyWriter = FrameWriter::create(scratch / "grey.####.png", kWide, kHigh, {24, 1});
    REQUIRE(greyWriter);
    for (int frame = 1001; frame <= 1011; ++frame)
        REQUIRE((*greyWriter)->write(frame, plainPicture({0.4, 0.4, 0.4}, kWide, kHigh)));
    REQUIRE((*greyWriter)->finish());
    StandIn lying;
    lying.name = "mat";
    lying.kind = StandInKind::card;
    lying.file = scratch / "mat.0001.png";
    lying.stance = {{0.2, 0, 2.2}, {-90, 15, 0}, {2.4, 1.6, 1}};
    StandIn box;
    box.id = 2;
    box.name = "trolley";
    box.colour = {0.95, 0.1, 0.8};
    box.casts = false;
    box.keys = std::vector<StanceKey>{{1001, {{-1.6, 0, 1.8}, {0, 0, 0}, {0.5, 0.5, 0.5}}},
                                      {1011, {{1.8, 0, 1.8}, {0, 0, 0}, {0.5, 0.5, 0.5}}}};
    SceneLook look;
    look.standIns = std::vector<StandIn>{lying, box};
    const auto grey = Plate::open(scratch / "grey.####.png");
    REQUIRE(grey);
    FrameCache greys(*grey);
    REQUIRE(runStand(greys, {1001, 1011}, solve, {}, look, scratch / "shot.####.png"));
    const auto plate = Plate::open(scratch / "shot.####.png");
    REQUIRE(plate);
    FrameCache frames(*plate);
    const auto report = runGather(frames, {1001, 1011}, solve, {}, lying, scratch / "gathered.png");
    REQUIRE(report);
    CHECK(report->frames == 11);
    CHECK(report->seen > 0.98);
    CHECK(std::abs(double(report->width) / report->height - 1.5) < 0.02);
    CHECK_FALSE(std::filesystem::exists(scratch / ".gathered-part.0001.png"));
    const auto clip = clipOf(scratch / "gathered.png");
    REQUIRE(clip);
    ArtShelf shelf;
    const auto art = shelf.art(*clip, clip->frames.first, true);
    REQUIRE(art);
    const SurfacePicture gathered(*art);
    double off = 0, worst = 0;
    int count = 0;
    for (int y = 1; y < 20; ++y)
        for (int x = 1; x < 30; ++x) {
            const Vector2d at(x / 30.0, y / 20.0);
            const auto own = gathered.at(at, {0, 0}, {0, 0});
            const auto truth = painted(at.x(), at.y());
            for (int c = 0; c < 3; ++c) {
                const double error = std::abs(double(encodeSrgb(own[c])) - truth[std::size_t(c)]);
                off += error;
                worst = std::max(worst, error);
                ++count;
            }
        }
    INFO("mean " << off / count << ", worst " << worst);
    CHECK(off / count < 0.01);
    CHECK(worst < 0.08);

    StandIn turning = lying;
    turning.card.facesCamera = true;
    const auto refusal = [&](const StandIn& one, const char* name) {
        const auto gatheredOf = runGather(frames, {1001, 1011}, solve, {}, one, scratch / name);
        return gatheredOf ? std::string() : gatheredOf.error().message;
    };
    CHECK(refusal(turning, "g.png").find("faces the camera") != std::string::npos);
    CHECK(refusal(box, "g.png").find("is not flat") != std::string::npos);
    CHECK(refusal(lying, "g.jpg").find(".png, .tif or .exr") != std::string::npos);
    StandIn turned = lying;
    turned.stance.turn_deg.x() = 90;  // its face to the floor
    CHECK(refusal(turned, "g.png").find("no frame of 1001-1011 sees its front") != std::string::npos);
}

}  // namespace pinion
