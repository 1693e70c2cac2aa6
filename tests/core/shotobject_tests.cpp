// Objects of a shot: solved against its camera, carrying, kept apart from the camera, handed on.

#include "base/files.h"
#include "exchange/formats.h"
#include "exchange/objects.h"
#include "exchange/shotfiles.h"
#include "jobs/delivering.h"
#include "jobs/solving.h"
#include "movingbox.h"
#include "scratch.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/objectedits.h"
#include "shot/objects.h"
#include "shot/stages/camerastage.h"

#include <catch2/catch.hpp>

using namespace pinion;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr double kUnit = 0.4;  // of the solve's world, a metre

/// A shot whose camera is known in a world that is turned, moved and scaled; the cart's tracks, and three on the floor.
struct CartShot {
    test::Box box;
    Shot shot;
    Eigen::Isometry3d worldFromSolve = Eigen::Isometry3d::Identity();

    CartShot() : box({.seed = 4}) {
        worldFromSolve.linear() = Eigen::AngleAxisd(0.5, Vector3d(1, 2, 0.5).normalized()).toRotationMatrix();
        worldFromSolve.translation() = Vector3d(0.3, -0.2, 1.1);
        shot.name = "cart";
        shot.plate.path = "cart.mp4";
        shot.plate.width = 1920;
        shot.plate.height = 1080;
        shot.plate.fps = {24, 1};
        shot.plate.frames = shot.plate.range = {1001, 1100};
        Solve solve;
        solve.lens = box.cameras.front().lens;
        std::vector<SolvedFrame> frames;
        for (const CameraOnFrame& camera : box.cameras) {
            SolvedFrame frame{.frame = camera.frame, .focal_px = camera.lens.focal_px};
            frame.worldFromCamera.linear() = worldFromSolve.linear().transpose() * camera.worldFromCamera.linear();
            frame.worldFromCamera.translation() = inSolve(camera.worldFromCamera.translation());
            frames.push_back(frame);
        }
        solve.frames = List<SolvedFrame>(std::move(frames));
        std::vector<Track> tracks = box.tracks;
        std::vector<SolvedTrack> solved;
        const std::vector<Vector3d> floor{{-3, 0, -8}, {3, 0, -8}, {0, 0, -4}, {2, 0, -5}};
        for (std::size_t i = 0; i < floor.size(); ++i) {
            Track track;
            track.id = TrackId(100 + i);
            track.name = "f" + std::to_string(i + 1);
            tracks.push_back(track);
            solved.push_back({.track = track.id, .role = TrackRole::used, .xyz = inSolve(floor[i])});
        }
        solve.tracks = List<SolvedTrack>(std::move(solved));
        shot.tracks = List<Track>(std::move(tracks));
        shot.nextTrack = 200;
        shot.solve = std::make_shared<const Solve>(solve);
        shot.solveId = 1;
        shot.solvedKey = solveKey(shot);
    }
    Vector3d inSolve(const Vector3d& world) const { return kUnit * (worldFromSolve.inverse() * world); }

    ObjectId add() {
        ObjectId id = 0;
        shot = withObjectAdded(shot, box.ids, &id);
        return id;
    }
    void solve(ObjectId id) {
        const auto solved = runObject(shot, id);
        REQUIRE(solved);
        shot = withObjectSolved(shot, id, *solved, shot);
    }
};

}  // namespace

TEST_CASE("an object of a shot is solved in the world of its camera, and handed on as that is oriented and scaled") {
    CartShot cart;
    const ObjectId id = cart.add();
    CHECK(cart.shot.objects.front().name == "object 1");
    CHECK(lackOfObjects(cart.shot) == "object 1 is not solved yet. Solve it.");
    cart.shot.world.ground = std::vector<TrackId>{100, 101, 102, 103};
    cart.shot.world.measures = std::vector<World::Measure>{{100, 101, 6.0}};
    cart.shot = withObjectEdited(cart.shot, id, [](ShotObject& one) {
        one.onGround = std::vector<TrackId>{1, 2, 3, 4};
    });
    cart.solve(id);
    CHECK(lackOfObjects(cart.shot).empty());
    const ObjectSolve& solve = *findObject(cart.shot, id)->solve;
    CHECK(solve.scale == ObjectScale::ground);
    // In the units of the solve.
    CHECK(cart.box.sizeRatio(solve) == Approx(kUnit).epsilon(0.01));
    const auto file = objectFileOf(cart.shot);
    REQUIRE(file);
    REQUIRE(file->objects.size() == 1);
    const ObjectFile::Object& object = file->objects.front();
    double apart = 0, real = 0;
    for (std::size_t i = 1; i < object.points.size(); ++i) {
        apart += (object.points[i].xyz - object.points[0].xyz).norm();
        real += (cart.box.points[std::size_t(solve.points[i].track - 1)] -
                 cart.box.points[std::size_t(solve.points[0].track - 1)])
                    .norm();
    }
    CHECK(apart == Approx(real).epsilon(0.01));  // metres
    // It stands on the floor, y = 0, on every frame, and goes as far as it did.
    for (const auto& frame : object.frames)
        for (std::size_t i = 0; i < object.points.size(); ++i)
            if (solve.points[i].track <= 4) CHECK(std::abs((frame.worldFromObject * object.points[i].xyz).y()) < 0.02);
    const double went =
        (object.frames.back().worldFromObject.translation() - object.frames.front().worldFromObject.translation())
            .norm();
    const Vector3d middle(0, 0.45, 0);
    CHECK(went == Approx((cart.box.poses.back() * middle - cart.box.poses.front() * middle).norm()).epsilon(0.03));

    SECTION("as JSON, and in the camera's USD as a moving Xform with its points") {
        const test::Scratch scratch;
        REQUIRE(deliver(
            cart.shot,
            {.name = "o", .kind = DeliverableKind::objects, .format = DeliverableFormat::json, .place = "o.json"},
            scratch.path()));
        const auto read = readObjects(scratch / "o.json");
        REQUIRE(read);
        CHECK(read->objects.front().points.size() == object.points.size());
        const Deliverable camera{.name = "c", .kind = DeliverableKind::camera, .place = "c.usda"};
        REQUIRE(deliver(cart.shot, camera, scratch.path()));
        const std::string text = *readFile(scratch / "c.usda");
        const auto at = text.find("def Xform \"object_1\"");
        REQUIRE(at != std::string::npos);
        CHECK(text.find("1100: ( (", at) != std::string::npos);
        CHECK(text.find("def Points \"Points\"", at) != std::string::npos);
        CHECK(text.find("pinion:scaleIsKnown = 1", at) != std::string::npos);
        // Under names that the file has already, or that read alike there, each is a thing of its own.
        Shot alike = withObjectRenamed(cart.shot, id, "Camera");
        for (const char* name : {"a b", "a_b"}) {
            ShotObject copy = *findObject(cart.shot, id);
            copy.id = alike.nextObject++;
            copy.name = name;
            alike.objects = alike.objects.edited([&](auto& all) { all.push_back(copy); });
        }
        REQUIRE(deliver(alike, {.name = "c", .kind = DeliverableKind::camera, .place = "d.usda"}, scratch.path()));
        const std::string three = *readFile(scratch / "d.usda");
        for (const char* prim : {"Camera_2", "a_b", "a_b_2"})
            CHECK(three.find(std::string("def Xform \"") + prim + "\"") != std::string::npos);
        const auto before = deliveryKey(cart.shot, camera);
        CHECK(deliveryKey(withObjectRemoved(cart.shot, id), camera) != before);
        CHECK(deliveryKey(withObjectRenamed(cart.shot, id, "cart"), camera) != before);
    }
    SECTION("it is stale once its tracks, the camera or the ground change") {
        Shot moved = cart.shot;
        moved.tracks = moved.tracks.edited([](auto& all) {
            all.front().samples = all.front().samples.edited([](auto& samples) { samples[3].at.x() += 1; });
        });
        CHECK(lackOfObjects(moved).find("before its tracks or the camera changed") != std::string::npos);
        Shot tilted = cart.shot;
        tilted.world.ground = std::vector<TrackId>{100, 101, 102};
        CHECK_FALSE(lackOfObjects(tilted).empty());
        Shot other = cart.shot;
        Solve longer = *other.solve;
        longer.lens.focal_px += 1;
        other.solve = std::make_shared<const Solve>(longer);
        CHECK_FALSE(lackOfObjects(other).empty());
    }
}

TEST_CASE("what rides on an object goes over the plate as the object does") {
    CartShot cart;
    const ObjectId id = cart.add();
    const Ride ride = rideOnObject(id, 1050);
    CHECK(carrierOf(cart.shot, ride)->problem() == "rides on object 1, which is not solved");
    cart.solve(id);
    const auto carrier = carrierOf(cart.shot, ride);
    REQUIRE(carrier->problem().empty());
    CHECK(carrier->missing().empty());
    // The middle of the cart, as it is truly seen.
    Vector3d middle = Vector3d::Zero();
    for (const ObjectPoint& point : findObject(cart.shot, id)->solve->points)
        middle +=
            cart.box.points[std::size_t(point.track - 1)] / double(findObject(cart.shot, id)->solve->points.size());
    const Vector3d from = cart.box.seen(49, middle).homogeneous();
    for (const int f : {0, 20, 80, 99}) {
        const Vector2d to = (carrier->plateFromReference(1001 + f) * from).hnormalized();
        INFO("frame " << 1001 + f);
        CHECK((to - cart.box.seen(f, middle)).norm() < 1.5);
    }
    // It grows as it comes nearer: not by its place alone.
    const auto width = [&](int f) {
        const Eigen::Matrix3d& plate = carrier->plateFromReference(1001 + f);
        return ((plate * (from + Vector3d(40, 0, 0))).hnormalized() - (plate * from).hnormalized()).norm();
    };
    CHECK(std::abs(width(99) / width(49) - 1) > 0.02);
    // Another solve of it is another carrier; one that is gone carries nothing.
    ObjectSolve shifted = *findObject(cart.shot, id)->solve;
    for (ObjectFrame& frame : shifted.frames) frame.worldFromObject.translation().x() += 0.05 * (frame.frame - 1050);
    const Shot other = withObjectSolved(cart.shot, id, shifted, cart.shot);
    CHECK((carrierOf(other, ride)->plateFromReference(1100) - carrier->plateFromReference(1100)).norm() > 1e-3);
    CHECK(lackOf(withObjectRemoved(cart.shot, id), ride) == "rides on an object that is gone");
    CHECK(referenceForRide(cart.shot, ride, 1200) == 1100);
}

TEST_CASE("tracks on an object never count for the camera, and belong to one object alone") {
    CartShot cart;
    const auto before = solveKey(cart.shot);
    const ObjectId first = cart.add();
    CHECK(solveKey(cart.shot) != before);
    // All that was left for the camera are tracks on the floor, without a sample.
    const auto solve = runSolve(cart.shot);
    REQUIRE_FALSE(solve);
    CHECK(solve.error().message.find("only 0 tracks") != std::string::npos);
    ObjectId second = 0;
    cart.shot = withObjectAdded(cart.shot, {1, 2, 3}, &second);
    CHECK(findObject(cart.shot, second)->name == "object 2");
    CHECK(findObject(cart.shot, first)->tracks.size() == cart.box.ids.size() - 3);
    const auto few = runObject(cart.shot, second);
    REQUIRE_FALSE(few);
    CHECK(few.error().message.starts_with("object 2: "));
    cart.shot = withObjectRenamed(cart.shot, second, "object 1");
    CHECK(findObject(cart.shot, second)->name == "object 1 2");
    cart.shot = withObjectAdded(cart.shot, {1, 2, 3});  // all have left: it goes
    CHECK(findObject(cart.shot, second) == nullptr);
    CHECK(cart.shot.objects.size() == 2);
    CHECK(solveKey(withObjectRemoved(withObjectRemoved(cart.shot, first), cart.shot.objects[1].id)) == before);
    CHECK_FALSE(runObject(cart.shot, 77));
    Shot unsolved = cart.shot;
    unsolved.solve = nullptr;
    CHECK(runObject(unsolved, first).error().message.find("solve that first") != std::string::npos);
    cart.shot = withObjectEdited(cart.shot, first, [](ShotObject& one) { one.onGround = std::vector<TrackId>{4}; });
    CHECK(runObject(cart.shot, first).error().message.find("lay it on the World card") != std::string::npos);
}
