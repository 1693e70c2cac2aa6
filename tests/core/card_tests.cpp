// Stills, clips and words that stand in the solved scene: what is clear in them, their shadows, their time.

#include "base/files.h"
#include "exchange/scenefile.h"
#include "jobs/standing.h"
#include "plate/framewriter.h"
#include "render/scenerender.h"
#include "scratch.h"
#include "shot/edits/objectedits.h"
#include "shot/edits/sceneedits.h"
#include "shot/layers/layers.h"
#include "shot/stages/worldstage.h"

#include <catch2/catch.hpp>

#include <cmath>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kWide = 480, kHigh = 270;

/// A camera at eye height that goes sideways and looks down a little.
Solve walked() {
    Solve solve;
    solve.lens = pinholeLens(kWide, kHigh, 400);
    solve.lens.k1 = -0.08;
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1010; ++frame) {
        Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
        pose.translate(Vector3d(0.3 * (frame - 1001) - 1, 1.6, 5));
        pose.rotate(Eigen::AngleAxisd(-0.2, Vector3d::UnitX()));
        frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = solve.lens.focal_px});
    }
    solve.frames = List<SolvedFrame>(std::move(frames));
    return solve;
}

WorldEye eyeOn(const Solve& solve, int frame) {
    auto eye = WorldEye::of(solve, {}, frame);
    REQUIRE(eye);
    return *eye;
}

using Painting = std::function<std::array<double, 4>(double x, double y)>;  // of shares of its width and height

/// Red, green, blue as shown, and alpha, straight, to a file like "name.0001.png".
void paint(const std::filesystem::path& file, int width, int height, const Painting& painting) {
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    picture.bytes.resize(3 * std::size_t(width) * std::size_t(height));
    ImageChannel alpha(width, height);
    bool isClear = false;
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x) {
            const auto value = painting((x + 0.5) / width, (y + 0.5) / height);
            const auto i = std::size_t(y) * std::size_t(width) + std::size_t(x);
            for (std::size_t c = 0; c < 3; ++c) picture.bytes[3 * i + c] = std::uint8_t(std::lround(255 * value[c]));
            alpha.values[i] = float(value[3]);
            isClear = isClear || value[3] < 1;
        }
    std::string name = file.filename().string();
    const int frame = name[name.size() - 5] - '0';
    name.replace(name.size() - 8, 4, "####");
    auto writer = FrameWriter::create(file.parent_path() / name, width, height, {24, 1});
    REQUIRE(writer);
    REQUIRE((isClear ? (*writer)->write(frame, picture, alpha, AlphaKind::straight, AlphaKind::straight)
                     : (*writer)->write(frame, picture)));
    REQUIRE((*writer)->finish());
}

StandIn cardOf(const std::filesystem::path& file, const Stance& stance) {
    StandIn one;
    one.id = 1;
    one.name = "pilot";
    one.kind = StandInKind::card;
    one.file = file;
    one.stance = stance;
    return one;
}

struct Shown {
    SceneLook look;
    ArtShelf shelf;
    std::vector<std::string> problems;

    explicit Shown(std::vector<StandIn> all) { look.standIns = List<StandIn>(std::move(all)); }
    Layer on(const Solve& solve, int frame) {
        return SceneRenderer(look)
            .frame(eyeOn(solve, frame), frame,
                   {.box = {0, 0, kWide, kHigh}, .samples = 64, .fps = {24, 1}, .shelf = &shelf}, &problems)
            .layer;
    }
};

Eigen::Array4f seenAt(const Layer& layer, const WorldEye& eye, const Vector3d& world) {
    const Vector2d at = *eye.plateFromWorld(world);
    return Eigen::Map<const Eigen::Array4f>(layer.at(int(at.x()), int(at.y())));
}

}  // namespace

TEST_CASE(
    "a card shows its picture as filmed where it is opaque, the plate where it is clear, and so falls its shadow") {
    const test::Scratch scratch;
    // The left half is there, the right half is not; its lower half is of another colour.
    paint(scratch / "half.0001.png", 200, 400, [](double x, double y) {
        return std::array<double, 4>{y < 0.5 ? 0.8 : 0.2, 0.4, 0.6, x < 0.5 ? 1.0 : 0.0};
    });
    const Solve solve = walked();
    const WorldEye eye = eyeOn(solve, 1004);
    Shown shown({cardOf(scratch / "half.0001.png", {{0, 0, 0}, {0, 0, 0}, {1, 2, 1}})});
    // From behind it, so that its shadow lies before it.
    shown.look.sun = {{0, 1, -1}, 0.5, 0.8};
    const Layer layer = shown.on(solve, 1004);
    CHECK(shown.problems.empty());
    const auto upper = seenAt(layer, eye, {-0.25, 1.5, 0}), lower = seenAt(layer, eye, {-0.25, 0.5, 0});
    CHECK(upper[3] == Approx(1));
    CHECK(upper[0] == Approx(0.8).margin(0.004));
    CHECK(lower[0] == Approx(0.2).margin(0.004));
    CHECK(lower[1] == Approx(0.4).margin(0.004));
    CHECK(seenAt(layer, eye, {0.25, 1.5, 0})[3] == 0);
    // The ground a metre before it has the shadow of what is a metre up.
    const float dark = seenAt(layer, eye, {-0.25, 0, 1})[3];
    CHECK(dark > 0.3F);
    CHECK(seenAt(layer, eye, {-0.25, 0, 1}).head<3>().maxCoeff() == 0);
    CHECK(seenAt(layer, eye, {0.25, 0, 1})[3] == 0);
    CHECK(seenAt(layer, eye, {-0.75, 0, 1})[3] == 0);
    // A board of the same picture throws it as well.
    shown.look.standIns = shown.look.standIns.edited([](auto& all) { all[0].kind = StandInKind::board; });
    const Layer board = shown.on(solve, 1004);
    CHECK(seenAt(board, eye, {-0.25, 0, 1})[3] == Approx(dark).margin(0.01));
    CHECK(seenAt(board, eye, {0.25, 0, 1})[3] == 0);
    CHECK(seenAt(board, eye, {0.25, 1.5, 0})[3] == 0);
}

TEST_CASE("a flat backing is found and keyed out of a card; what has none, or an alpha, keeps all") {
    const test::Scratch scratch;
    const auto actor = [](double x, double y) {
        const bool isIn = std::hypot((x - 0.5) / 0.2, (y - 0.6) / 0.35) < 1;
        return isIn ? std::array<double, 4>{0.75, 0.55, 0.45, 1}
                    : std::array<double, 4>{0.12 + 0.03 * x, 0.66 + 0.04 * y, 0.2, 1};
    };
    paint(scratch / "actor.0001.png", 320, 240, actor);
    const auto file = readCard(scratch / "actor.0001.png");
    REQUIRE(file);
    REQUIRE(file->key);
    CHECK(file->key->colour[1] == Approx(0.68).margin(0.02));
    StandIn card = withPictures(cardOf({}, {{0, 0, 0}, {0, 0, 0}, {1, 1.5, 1}}), *file);
    CHECK(card.stance.size.x() == Approx(2.0));
    const Solve solve = walked();
    const WorldEye eye = eyeOn(solve, 1002);
    Shown shown({card});
    shown.look.groundCatches = false;
    const Layer layer = shown.on(solve, 1002);
    const auto body = seenAt(layer, eye, {0, 0.6, 0}), beside = seenAt(layer, eye, {-0.8, 1.3, 0});
    CHECK(body[3] > 0.99F);
    CHECK(body[0] == Approx(0.75).margin(0.02));
    CHECK(beside[3] < 0.02F);

    paint(scratch / "room.0001.png", 64, 64, [](double x, double y) { return std::array<double, 4>{x, y, 1 - x, 1}; });
    CHECK_FALSE(readCard(scratch / "room.0001.png")->key);
    paint(scratch / "grey.0001.png", 64, 64, [](double, double) { return std::array<double, 4>{0.5, 0.52, 0.5, 1}; });
    CHECK_FALSE(readCard(scratch / "grey.0001.png")->key);
    paint(scratch / "cut.0001.png", 64, 64, [](double x, double) {
        return std::array<double, 4>{0.1, 0.7, 0.2, x < 0.5 ? 1.0 : 0.5};
    });
    CHECK_FALSE(readCard(scratch / "cut.0001.png")->key);
    CHECK(readCard(scratch / "none.png").error().message.find("none.png") != std::string::npos);
}

TEST_CASE(
    "a filmed actor is keyed through grain and compression, whole on each frame, and nothing of his cloth is left") {
    const auto file = readCard(std::string(PINION_SOURCE_DIR) + "/demo/deckhand.mp4");
    REQUIRE(file);
    REQUIRE(file->key);
    StandIn card = withPictures(cardOf({}, {{0, 0, 0}, {0, 0, 0}, {1, 2, 1}}), *file);
    CHECK(card.stance.size.x() == Approx(1.4));
    const Solve solve = walked();
    const WorldEye eye = eyeOn(solve, 1002);
    const auto placeOf = [](double x, double y) { return Vector3d((x - 280) / 560 * 1.4, (800 - y) / 800 * 2, 0); };
    for (int picture = 0; picture < 72; picture += 13) {
        INFO("picture " << picture);
        card.card.time.start = 1002 - picture;
        Shown shown({card});
        shown.look.groundCatches = false;
        const Layer layer = shown.on(solve, 1002);
        CHECK(shown.problems.empty());
        for (const auto& [x, y] : {std::pair{250, 420}, {310, 480}, {315, 760}, {246, 760}, {285, 330}})
            CHECK(seenAt(layer, eye, placeOf(x, y))[3] > 0.94F);
        for (const auto& [x, y] : {std::pair{60, 80}, {80, 400}, {480, 600}, {40, 770}, {280, 700}})
            CHECK(seenAt(layer, eye, placeOf(x, y))[3] < 0.02F);
        // Nothing greener than it is red or blue, not at his edges either.
        float green = 0;
        for (int y = 0; y < kHigh; ++y)
            for (int x = 0; x < kWide; ++x)
                green = std::max(green, layer.at(x, y)[1] - std::max(layer.at(x, y)[0], layer.at(x, y)[2]));
        CHECK(green < 0.03F);
    }
}

TEST_CASE("a card that faces the camera is as wide on every frame, stays on its place, and another turns away") {
    const Solve solve = walked();
    StandIn card = cardOf({}, {{0.4, 0, 0.5}, {0, 35, 0}, {1, 2, 1}});
    card.card.facesCamera = true;
    for (const int frame : {1001, 1005, 1010}) {
        const WorldEye eye = eyeOn(solve, frame);
        const Stance stance = card.at(frame, eye.place());
        CHECK(stance.place == card.stance.place);
        const Vector3d normal = stance.rotation().col(2), towards = eye.place() - stance.place;
        CHECK(normal.y() == Approx(0).margin(1e-12));
        CHECK(normal.cross(Vector3d(towards.x(), 0, towards.z()).normalized()).norm() < 1e-9);
        CHECK(normal.dot(towards) > 0);
        // Its box is where it is seen, not where it would stand by its own turn.
        const PixelBox box = boxOfScene(Shown({card}).look, eye, frame, kWide, kHigh);
        const auto side = eye.plateFromWorld(stance.worldFromUnit() * Vector3d(-0.5, 0.5, 0));
        CHECK(box.x0 <= side->x());
    }
    card.card.facesCamera = false;
    CHECK(card.at(1001, {9, 9, 9}) == card.stance);
    // Right above it there is no way to face.
    card.card.facesCamera = true;
    CHECK(card.at(1001, {0.4, 9, 0.5}) == card.stance);
}

TEST_CASE("a card's clip runs from its start at the plate's pace, holds, begins again, or is gone with its shadow") {
    const test::Scratch scratch;
    for (int i = 1; i <= 3; ++i)
        paint(scratch / fmt::format("run.000{}.png", i), 40, 80, [i](double, double) {
            return std::array<double, 4>{0.2 * i, 0.1, 0.1, 1};
        });
    const Solve solve = walked();
    StandIn card = cardOf(scratch / "run.####.png", {{0, 0, 0}, {0, 0, 0}, {1, 2, 1}});
    card.card.time.start = 1003;
    Shown shown({card});
    shown.look.sun = {{0, 1, -1}, 0.5, 0.8};
    const auto redOn = [&](int frame) { return seenAt(shown.on(solve, frame), eyeOn(solve, frame), {0, 1, 0})[0]; };
    CHECK(redOn(1003) == Approx(0.2).margin(0.004));
    CHECK(redOn(1005) == Approx(0.6).margin(0.004));
    CHECK(redOn(1008) == Approx(0.6).margin(0.004));
    const auto isEmpty = [&](int frame) {
        const Layer layer = shown.on(solve, frame);
        return std::all_of(layer.rgba.begin(), layer.rgba.end(), [](float v) { return v == 0; });
    };
    CHECK(isEmpty(1002));
    const auto setAfter = [&](ClipTime::After after) {
        shown.look.standIns = shown.look.standIns.edited([&](auto& all) { all[0].card.time.after = after; });
    };
    setAfter(ClipTime::After::loop);
    CHECK(redOn(1006) == Approx(0.2).margin(0.004));
    setAfter(ClipTime::After::end);
    CHECK(isEmpty(1006));
    CHECK(shown.problems.empty());
    // A frame that is gone is said, and a plain card stands for it.
    std::filesystem::remove(scratch / "run.0002.png");
    setAfter(ClipTime::After::hold);
    CHECK(seenAt(shown.on(solve, 1004), eyeOn(solve, 1004), {0, 1, 0})[3] == Approx(1));
    REQUIRE(shown.problems.size() == 1);
    CHECK(shown.problems[0].find("pilot") != std::string::npos);
}

TEST_CASE("words stand in the scene in their colour, readable from the front, clear between the letters") {
    const Solve solve = walked();
    const WorldEye eye = eyeOn(solve, 1004);
    StandIn words;
    words.id = 2;
    words.kind = StandInKind::text;
    words.words = "I L";
    words.colour = {0.9, 0.2, 0.1};
    words.stance = {{0, 0.4, 0}, {0, 0, 0}, {2, 1, 1}};
    Shown shown({words});
    shown.look.groundCatches = false;
    const Layer layer = shown.on(solve, 1004);
    // Columns with ink: I is narrow and on the left, L has its foot at the lower right.
    const auto ink = [&](double x, double y) { return seenAt(layer, eye, {x, 0.4 + y, 0})[3]; };
    double left = 9, right = -9;
    for (double x = -0.99; x < 0.99; x += 0.01)
        if (ink(x, 0.5) > 0.5F) {
            left = std::min(left, x);
            right = std::max(right, x);
        }
    CHECK(left < -0.3);
    CHECK(right > 0.0);
    CHECK(ink(0.5 * (left + right), 0.5) == 0);
    // The stroke of L goes up from the foot's left end.
    double footEnd = right;
    for (double x = right; x < 0.99; x += 0.01)
        if (ink(x, 0.13) > 0.5F) footEnd = x;
    CHECK(footEnd > right + 0.1);
    CHECK(ink(footEnd - 0.02, 0.7) == 0);
    const auto red = seenAt(layer, eye, {left + 0.03, 0.9, 0});
    CHECK(red[0] == Approx(0.9).margin(0.02));
    CHECK(red[1] == Approx(0.2).margin(0.02));
}

TEST_CASE("cards and words are read from scene.json, as wide as their pictures, and refused by their place") {
    const test::Scratch scratch;
    paint(scratch / "wide.0001.png", 90, 30, [](double, double) { return std::array<double, 4>{1, 1, 1, 1}; });
    const auto read = [&](const std::string& object) {
        REQUIRE(writeFile(scratch / "s.json", R"({"format":"pinion.scene","version":1,"objects":[)" + object + "]}"));
        return readScene(scratch / "s.json", 1001);
    };
    const auto card = read(R"({"name":"a","kind":"card","file":"wide.0001.png","faces_camera":true,
                               "key":{"colour":[0.1,0.8,0.2],"spill":0.5}})");
    REQUIRE(card);
    const StandIn one = card->standIns[0];
    CHECK(one.file == scratch / "wide.0001.png");
    CHECK(one.stance.size.x() == Approx(3 * 1.75));
    CHECK(one.card.facesCamera);
    CHECK(one.card.time.start == 1001);
    REQUIRE(one.card.key);
    CHECK(one.card.key->spill == 0.5F);
    CHECK(one.card.key->clears == ColourKey{}.clears);
    const auto board =
        read(R"({"name":"b","kind":"board","file":"wide.0001.png","size":[2,2,1],"time":{"start":1004}})");
    REQUIRE(board);
    CHECK(board->standIns[0].stance.size.x() == 2);
    CHECK(board->standIns[0].card.time.start == 1004);
    CHECK(read(R"({"name":"b","kind":"board"})")->standIns[0].file.empty());
    const auto refusal = [&](const std::string& object) {
        const auto scene = read(object);
        return scene ? std::string() : scene.error().message;
    };
    CHECK(refusal(R"({"name":"a","kind":"card"})").find("file") != std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"card","file":"gone.png"})").find("objects[0].file: ") != std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"text"})").find("text") != std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"box","object":4})").find("objects[0].object: a scene by itself has no") !=
          std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"card","file":"wide.0001.png","key":{"colour":[1]}})")
              .find("objects[0].key.colour: has not 3 numbers") != std::string::npos);
    CHECK(refusal(R"({"name":"a","kind":"card","file":"wide.0001.png","time":{"start":1,"after":"never"}})")
              .find("'never' is not known") != std::string::npos);
}

TEST_CASE("other pictures in the place of a card's leave its width and its key; the first ones set both") {
    const test::Scratch scratch;
    const auto green = [](double x, double) {
        return x > 0.4 && x < 0.6 ? std::array<double, 4>{0.9, 0.2, 0.7, 1} : std::array<double, 4>{0.1, 0.7, 0.2, 1};
    };
    paint(scratch / "a.0001.png", 90, 30, green);
    paint(scratch / "b.0001.png", 40, 80, green);
    const auto first = readCard(scratch / "a.0001.png"), second = readCard(scratch / "b.0001.png");
    REQUIRE((first && second));
    StandIn one;
    one.kind = StandInKind::card;
    one.stance.size = usualSize(StandInKind::card);
    one = withPictures(one, *first);
    REQUIRE(one.card.key);
    CHECK(one.stance.size.x() == Approx(3 * one.stance.size.y()));
    one.card.key->clears = 0.123F;
    one.stance.size.x() = 0.77;
    const StandIn relinked = withPictures(one, *second);
    CHECK(relinked.file == second->clip.path);
    REQUIRE(relinked.card.key);
    CHECK(relinked.card.key->clears == 0.123F);
    CHECK(relinked.stance.size.x() == 0.77);
    one.card.key.reset();  // it was to show all of it
    CHECK_FALSE(withPictures(one, *second).card.key);
}

TEST_CASE("what an object carries goes its way, is there on its frames, and stays where it is when that changes") {
    Shot shot;
    shot.solve = std::make_shared<const Solve>(walked());
    shot.world.turn_deg = 30;  // the object's way turns with the world
    ObjectSolve way;
    for (int frame = 1003; frame <= 1007; ++frame) {
        ObjectFrame one{.frame = frame};
        one.worldFromObject.translate(Vector3d(0.4 * (frame - 1003), 0.2, -1));
        one.worldFromObject.rotate(Eigen::AngleAxisd(0.9 * (frame - 1003), Vector3d(0.1, 1, -0.2).normalized()));
        way.frames.push_back(one);
    }
    shot.objects =
        std::vector<ShotObject>{{.id = 4, .name = "ferry", .solve = std::make_shared<const ObjectSolve>(way)}};
    StandIn crate;
    crate.stance = {{1, 0.5, 0.25}, {10, 20, -30}, {0.5, 0.75, 1}};
    StandInId id = 0;
    shot = withStandInAdded(shot, crate, &id);
    const Shot carried = withStandInCarried(shot, id, 4, 1005);
    const auto cornerOn = [&](const Shot& of, int frame, const Vector3d& unit) -> Vector3d {
        return sceneInWorld(of).standIns[0].at(frame).worldFromUnit() * unit;
    };
    const Orientation orientation = orientationOf(shot);
    for (const Vector3d& unit : {Vector3d(0.5, 1, 0.5), Vector3d(-0.5, 0, 0.5), Vector3d(0.5, 0, -0.5)}) {
        const Vector3d on1005 = crate.stance.worldFromUnit() * unit;
        CHECK((cornerOn(carried, 1005, unit) - on1005).norm() < 1e-9);
        // On the others it is where the object takes it.
        const auto poseOn = [&](int frame) {
            return orientation.apply(way.frames[std::size_t(frame - 1003)].worldFromObject);
        };
        for (const int frame : {1003, 1004, 1007})
            CHECK((cornerOn(carried, frame, unit) - poseOn(frame) * (poseOn(1005).inverse() * on1005)).norm() < 1e-9);
    }
    const StandIn shown = sceneInWorld(carried).standIns[0];
    CHECK(shown.isOn(1003));
    CHECK_FALSE(shown.isOn(1002));
    CHECK_FALSE(shown.isOn(1008));
    // Moved on a frame by a stance of the world.
    const Stance there{{2, 1, -3}, {0, 45, 0}, {1, 1, 1}};
    const Shot moved = withWorldStance(carried, id, 1004, there);
    CHECK((worldStance(moved, moved.scene.standIns[0], 1004).place - there.place).norm() < 1e-9);
    CHECK((worldStance(moved, moved.scene.standIns[0], 1004).rotation() - there.rotation()).norm() < 1e-9);
    // Given back to the world, it stays; and when the object goes.
    const Shot back = withStandInCarried(carried, id, 0, 1005);
    CHECK((back.scene.standIns[0].stance.place - crate.stance.place).norm() < 1e-9);
    CHECK((back.scene.standIns[0].stance.rotation() - crate.stance.rotation()).norm() < 1e-9);
    const Shot without = withObjectRemoved(carried, 4);
    CHECK(without.scene.standIns[0].carrier == 0);
    CHECK((without.scene.standIns[0].stance.worldFromUnit() * Vector3d(0.5, 1, 0.5) -
           cornerOn(carried, 1003, {0.5, 1, 0.5}))
              .norm() < 1e-9);
    // An object without a solve carries nothing that is seen, and it is said.
    const Shot open = withObjectEdited(carried, 4, [](ShotObject& one) { one.solve = nullptr; });
    CHECK(sceneInWorld(open).standIns[0].hidden);
    const auto notes = insertSceneOf(open).notes;
    REQUIRE(notes.size() == 1);
    CHECK(notes[0].find("solve ferry") != std::string::npos);
    const auto keyOf = [](const Shot& of) {
        Fingerprint print;
        addInserts(print, of);
        return print.value();
    };
    CHECK(keyOf(open) != keyOf(carried));
}

}  // namespace pinion
