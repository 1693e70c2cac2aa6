// Scenes as they are written: passes, motion blur, undistorted for a comp.

#include "base/files.h"
#include "exchange/gltf.h"
#include "exchange/standins3d.h"
#include "exchange/usd.h"
#include "jobs/lensing.h"
#include "jobs/standing.h"
#include "plate/framewriter.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

#include <cmath>
#include <cstring>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;
using nlohmann::json;

constexpr int kAcross = 320, kDown = 180;

/// Five grey frames, and a camera that goes sideways by 4 cm a frame.
struct Filmed {
    test::Scratch scratch;
    Solve solve;
    std::unique_ptr<FrameCache> frames;

    explicit Filmed(double k1 = 0) {
        solve.lens = pinholeLens(kAcross, kDown, 280);
        solve.lens.k1 = k1;
        solve.lens.cx += 3;
        std::vector<SolvedFrame> all;
        Picture grey{kAcross, kDown, Picture::Depth::bits8, false, {}, {}};
        grey.bytes.assign(std::size_t(kAcross) * kDown * 3, 90);
        auto writer = FrameWriter::create(scratch / "plate.####.png", kAcross, kDown, {24, 1});
        REQUIRE(writer);
        for (int frame = 1001; frame <= 1005; ++frame) {
            Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
            pose.translate(Vector3d(0.04 * (frame - 1003), 1.2, 4));
            pose.rotate(Eigen::AngleAxisd(-0.15, Vector3d::UnitX()));
            all.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = solve.lens.focal_px});
            REQUIRE((*writer)->write(frame, grey));
        }
        solve.frames = List<SolvedFrame>(std::move(all));
        auto plate = Plate::open(scratch / "plate.####.png");
        REQUIRE(plate);
        frames = std::make_unique<FrameCache>(*plate, std::size_t(64) << 20);
    }
    Expected<StandReport> stand(const SceneLook& look, const std::string& out, const StandOptions& options) {
        return runStand(*frames, {1003, 1003}, solve, {}, look, scratch / out, options);
    }
    WorldEye eye() const { return *WorldEye::of(solve, {}, 1003); }
};

SceneLook boxed(const Stance& stance, bool ground = false) {
    StandIn box;
    box.id = 1;
    box.name = "crate";
    box.stance = stance;
    SceneLook look;
    look.standIns = std::vector<StandIn>{box};
    look.groundCatches = ground;
    return look;
}

/// All channels of an EXR, by their names.
struct Exr {
    int x = 0, y = 0, width = 0, height = 0;
    std::vector<std::string> names;
    std::vector<float> values;

    explicit Exr(const std::filesystem::path& file) {
        const auto input = OIIO::ImageInput::open(file.string());
        REQUIRE(input);
        const OIIO::ImageSpec& spec = input->spec();
        x = spec.x;
        y = spec.y;
        width = spec.width;
        height = spec.height;
        names = spec.channelnames;
        values.resize(std::size_t(width) * std::size_t(height) * names.size());
        REQUIRE(input->read_image(0, 0, 0, int(names.size()), OIIO::TypeDesc::FLOAT, values.data()));
    }
    float at(const std::string& name, int px, int py) const {
        const auto found = std::find(names.begin(), names.end(), name);
        REQUIRE(found != names.end());
        return values[(std::size_t(py - y) * std::size_t(width) + std::size_t(px - x)) * names.size() +
                      std::size_t(found - names.begin())];
    }
};

}  // namespace

TEST_CASE("passes are layers of the EXR, each the value of what a pixel's middle sees") {
    Filmed f(-0.1);
    SceneLook look = boxed({{0, 0, 0}, {0, 30, 0}, {1, 1, 1}}, true);
    look.sun = {{0, 1, -0.8}, 0, 0.8};
    using enum ScenePass;
    REQUIRE(f.stand(look, "p.####.exr", {.alone = true, .passes = {shadow, depth, position, normal, mask}}));
    const Exr exr(f.scratch / "p.1003.exr");
    CHECK(exr.width == kAcross);
    CHECK(exr.names.size() == 4 + 1 + 1 + 3 + 3 + 1);
    const WorldEye eye = f.eye();
    const Vector2d top = *eye.plateFromWorld({0.1, 1, 0.1});
    const int x = int(top.x()), y = int(top.y());
    CHECK(exr.at("A", x, y) == 1);
    CHECK(exr.at("normal.Y", x, y) == Approx(1).margin(1e-5));
    CHECK(exr.at("position.Y", x, y) == Approx(1).margin(1e-4));
    const Vector3d place(exr.at("position.X", x, y), exr.at("position.Y", x, y), exr.at("position.Z", x, y));
    CHECK((*eye.plateFromWorld(place) - Vector2d(x + 0.5, y + 0.5)).norm() < 0.01);
    CHECK(exr.at("depth.Z", x, y) == Approx(eye.depthOf(place)).epsilon(1e-4));
    CHECK(exr.at("mask.A", x, y) == 1);
    // Its shadow lies before it: dark, and nothing that has a depth.
    const Vector2d before = *eye.plateFromWorld({0, 0, 1.1});
    CHECK(exr.at("shadow.A", int(before.x()), int(before.y())) > 0.3F);
    CHECK(exr.at("depth.Z", int(before.x()), int(before.y())) == 0);
    CHECK(exr.at("shadow.A", 5, kDown - 5) == 0);
    const auto refused = [&](const std::string& out, const StandOptions& options) {
        const auto report = f.stand(look, out, options);
        return report ? std::string() : report.error().message;
    };
    CHECK(refused("p.####.png", {.alone = true, .passes = {depth}}).find("layers of EXR") != std::string::npos);
    CHECK(refused("p.####.exr", {.passes = {depth}}).find("alone") != std::string::npos);
    CHECK(refused("p.####.exr", {.undistorted = true}).find("alone") != std::string::npos);
    f.solve.readout = {0.5, false};
    CHECK(refused("p.####.exr", {.alone = true, .undistorted = true}).find("rows") != std::string::npos);
}

TEST_CASE("an open shutter blurs by the way of the camera and of keys: a ramp as long as that") {
    Filmed f;
    // Faced squarely, two metres before the camera on frame 1003, where 4 cm are 5.6 px.
    Stance stance{{0, 0.2, 1.5}, {0, 0, 0}, {0.6, 1.6, 1}};
    const SceneLook look = boxed(stance);
    const auto rampOf = [&](const SceneLook& scene, double shutter) {
        REQUIRE(f.stand(scene, "s.####.exr", {.alone = true, .shutter = shutter}));
        const Exr exr(f.scratch / "s.1003.exr");
        // The first moment of the fall of alpha along a row: its width, as a box of that length has it.
        const Vector2d side = *f.eye().plateFromWorld({0.3, 1.0, 2.0});
        const int y = int(side.y());
        double sum = 0, first = 0, second = 0;
        for (int x = int(side.x()) - 30; x < int(side.x()) + 30; ++x) {
            const double fall = double(exr.at("A", x, y)) - double(exr.at("A", x + 1, y));
            sum += fall;
            first += fall * x;
            second += fall * x * x;
        }
        CHECK(sum == Approx(1).margin(1e-3));
        return std::sqrt(12 * std::max(0.0, second / sum - std::pow(first / sum, 2)));
    };
    const double still = rampOf(look, 0);
    CHECK(still < 1.9);
    // The near face is 2 m away: 0.04 m are 280 * 0.04 / 2 = 5.6 px a frame, more or less as it is looked down at.
    const auto wayOf = [&](double shutter) {
        const Vector3d corner(0.3, 1.0, 2.0);
        const auto a = WorldEye::of(f.solve, {}, 1003, -shutter / 2), b = WorldEye::of(f.solve, {}, 1003, shutter / 2);
        return std::abs(a->plateFromWorld(corner)->x() - b->plateFromWorld(corner)->x());
    };
    CHECK(wayOf(1) == Approx(5.6).epsilon(0.03));
    CHECK(rampOf(look, 1) == Approx(std::hypot(wayOf(1), still)).epsilon(0.06));
    CHECK(rampOf(look, 0.5) == Approx(std::hypot(wayOf(0.5), still)).epsilon(0.12));
    // With the camera it stands still in the picture.
    SceneLook along = look;
    along.standIns = along.standIns.edited([&](auto& all) {
        Stance early = stance, late = stance;
        early.place.x() -= 0.08;
        late.place.x() += 0.08;
        all[0].keys = std::vector<StanceKey>{{1001, early}, {1005, late}};
    });
    CHECK(rampOf(along, 1) == Approx(still).margin(0.25));
}

TEST_CASE("a scene rendered without distortion, and bent by the lens, is the one rendered through the lens") {
    Filmed f(-0.12);
    SceneLook look = boxed({{0.5, 0, 0.5}, {0, 25, 0}, {1, 1.2, 1}});
    StandIn ball;
    ball.id = 2;
    ball.kind = StandInKind::ball;
    ball.stance = {{-1.3, 0, 0.8}, {0, 0, 0}, {0.9, 0.9, 0.9}};
    look.standIns = look.standIns.edited([&](auto& all) { all.push_back(ball); });
    REQUIRE(f.stand(look, "through.####.exr", {.alone = true}));
    REQUIRE(f.stand(look, "straight.####.exr", {.alone = true, .undistorted = true}));
    const Exr straight(f.scratch / "straight.1003.exr"), through(f.scratch / "through.1003.exr");
    // A barrel's corners reach beyond the plate.
    CHECK(straight.x < 0);
    CHECK(straight.width > kAcross);
    auto plate = Plate::open(f.scratch / "straight.1003.exr", {.overscan = true});
    REQUIRE(plate);
    FrameCache overscanned(*plate, std::size_t(64) << 20);
    const auto bent = redistortPictures(overscanned, {1003, 1003}, f.solve.lens, f.scratch / "bent.####.exr");
    REQUIRE(bent);
    const Exr back(f.scratch / "bent.1003.exr");
    double squares = 0, edge = 0, off = 0;
    for (int y = 2; y < kDown - 2; ++y)
        for (int x = 2; x < kAcross - 2; ++x) {
            const double a = double(back.at("R", x, y)), b = double(through.at("R", x, y));
            squares += (a - b) * (a - b);
            const double slope = std::abs(double(through.at("R", x + 1, y)) - double(through.at("R", x - 1, y))) / 2;
            if (slope > 0.1) {
                edge += slope;
                off += (a - b) * (through.at("R", x + 1, y) > through.at("R", x - 1, y) ? 1 : -1);
            }
        }
    const double decibels = -10 * std::log10(squares / (double(kAcross - 4) * (kDown - 4)));
    INFO(decibels);
    CHECK(decibels > 40);
    CHECK(std::abs(off / edge) < 0.05);
}

namespace {

std::uint32_t wordOf(const std::string& bytes, std::size_t at) {
    std::uint32_t word = 0;
    std::memcpy(&word, bytes.data() + at, 4);
    return word;
}

CameraFile sceneFile() {
    CameraFile file;
    file.width = 1280;
    file.height = 720;
    file.fps = {24, 1};
    file.lens = pinholeLens(1280, 720, 1000);
    for (int i = 0; i < 4; ++i) {
        Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
        pose.translate(Vector3d(0.5 * i, 1.6, 5));
        file.frames.push_back({.frame = 1001 + i, .worldFromCamera = pose, .focal_px = 1000});
    }
    file.points = {{"a", {0, 0, 0}}};
    StandIn box, card, words, gone;
    box.name = "crate";
    box.stance = {{1, 0, -1}, {10, 20, 30}, {0.5, 0.75, 1.25}};
    box.colour = {0.5, 0.25, 1};
    card.name = "board \"A\"";
    card.kind = StandInKind::board;
    card.card.facesCamera = true;
    card.stance = {{0, 0, 0}, {0, 0, 0}, {1, 2, 1}};
    words.name = "sign";
    words.kind = StandInKind::text;
    words.words = "Ternholm";
    gone.name = "hidden";
    gone.hidden = true;
    file.scene.standIns = std::vector<StandIn>{box, card, words, gone};
    return file;
}

}  // namespace

TEST_CASE("stand-ins in a .glb stand where they stand in the scene, with their material, picture and way") {
    const CameraFile file = sceneFile();
    const std::string glb = cameraGlb(file, "landing");
    const json document = json::parse(glb.substr(20, wordOf(glb, 12)));
    const auto nodeOf = [&](const std::string& name) {
        for (std::size_t i = 0; i < document["nodes"].size(); ++i)
            if (document["nodes"][i]["name"] == name) return int(i);
        return -1;
    };
    CHECK(nodeOf("hidden") == -1);
    const int at = nodeOf("crate");
    REQUIRE(at >= 0);
    const json& crate = document["nodes"][std::size_t(at)];
    const auto q = crate["rotation"].get<std::vector<double>>();
    const Eigen::Quaterniond turn(q[3], q[0], q[1], q[2]);
    const auto t = crate["translation"].get<std::vector<double>>(), s = crate["scale"].get<std::vector<double>>();
    const Stance& stance = file.scene.standIns[0].stance;
    for (const Vector3d& unit : {Vector3d(0.5, 1, 0.5), Vector3d(-0.5, 0, 0.5)})
        CHECK((turn * Vector3d(unit.x() * s[0], unit.y() * s[1], unit.z() * s[2]) + Vector3d(t[0], t[1], t[2]) -
               stance.worldFromUnit() * unit)
                  .norm() < 1e-9);
    const json& mesh = document["meshes"][crate["mesh"].get<std::size_t>()]["primitives"][0];
    CHECK(document["accessors"][mesh["indices"].get<std::size_t>()]["count"] == 36);
    const json& material = document["materials"][mesh["material"].get<std::size_t>()];
    CHECK(material["pbrMetallicRoughness"]["baseColorFactor"][0].get<double>() == Approx(0.2140).margin(1e-3));
    // The board turns to the camera on every frame, and its picture lies inside.
    const int board = nodeOf("board \"A\"");
    REQUIRE(board >= 0);
    int ways = 0;
    for (const json& channel : document["animations"][0]["channels"]) ways += channel["target"]["node"] == board;
    CHECK(ways == 3);
    REQUIRE(document["images"].size() == 2);
    const json& view = document["bufferViews"][document["images"][0]["bufferView"].get<std::size_t>()];
    const std::size_t start = 20 + wordOf(glb, 12) + 8 + view["byteOffset"].get<std::size_t>();
    CHECK(glb.substr(start + 1, 3) == "PNG");
    CHECK(document["extensionsUsed"].size() == 2);
    CHECK(wordOf(glb, 8) == glb.size());
}

TEST_CASE("a PNG of art has its alpha straight, and whole colours where it is opaque") {
    ImageChannel alpha(4, 2, 1.0F);
    alpha.values[1] = 0.5F;
    alpha.values[2] = 0.0F;
    const auto art = Art::create(plainPicture({0.8, 0.4, 0.2}, 4, 2), &alpha, AlphaKind::straight, false);
    REQUIRE(art);
    const auto png = pngOf(*art);
    REQUIRE(png);
    const test::Scratch scratch;
    REQUIRE(writeFile(scratch / "a.png", *png));
    const auto input = OIIO::ImageInput::open((scratch / "a.png").string());
    REQUIRE(input);
    OIIO::ImageSpec straight;
    REQUIRE(input->spec().nchannels == 4);
    std::vector<std::uint8_t> bytes(4 * 2 * 4);
    REQUIRE(input->read_image(0, 0, 0, 4, OIIO::TypeDesc::UINT8, bytes.data()));
    CHECK(std::abs(int(bytes[0]) - 204) <= 1);
    CHECK(std::abs(int(bytes[2]) - 51) <= 1);
    CHECK(bytes[3] == 255);
    CHECK(std::abs(int(bytes[7]) - 128) <= 1);
    CHECK(bytes[11] == 0);
}

TEST_CASE("stand-ins in USD have their own names, matrices and shapes") {
    const CameraFile file = sceneFile();
    const std::string text = cameraUsd(file, {.name = "landing"});
    const auto at = text.find("def Xform \"crate\"");
    REQUIRE(at != std::string::npos);
    const auto matrix = text.find("xformOp:transform = ( (", at);
    REQUIRE(matrix != std::string::npos);
    // Row vectors: the first row is where the unit's x goes.
    const Eigen::Matrix4d expected = file.scene.standIns[0].stance.worldFromUnit().matrix().transpose();
    const char* cursor = text.c_str() + matrix + std::strlen("xformOp:transform = ");
    for (int i = 0; i < 16; ++i) {
        while (*cursor != '-' && !std::isdigit(static_cast<unsigned char>(*cursor))) ++cursor;
        char* next = nullptr;
        CHECK(std::strtod(cursor, &next) == Approx(expected(i / 4, i % 4)).margin(1e-6));
        cursor = next;
    }
    CHECK(text.find("def Xform \"board__A_\"") != std::string::npos);
    CHECK(text.find("hidden") == std::string::npos);
    CHECK(text.find("int[] faceVertexIndices", at) != std::string::npos);
    // Z up, the same place is turned with the world.
    const std::string up = cameraUsd(file, {.name = "landing", .zUp = true});
    const auto row = up.find("xformOp:transform = ( (", up.find("def Xform \"crate\""));
    const auto last = up.rfind('(', up.find(" )\n", row));
    double x = 0, y = 0, z = 0;
    REQUIRE(std::sscanf(up.c_str() + last, "(%lf, %lf, %lf", &x, &y, &z) == 3);
    CHECK(x == Approx(1));
    CHECK(y == Approx(1));
    CHECK(z == Approx(0).margin(1e-9));
}

}  // namespace pinion
