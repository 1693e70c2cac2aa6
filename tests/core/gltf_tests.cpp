// glTF, PLY and stand-ins in USD as they are handed on, read by what the standards say.

#include "exchange/gltf.h"
#include "exchange/standins3d.h"
#include "exchange/usd.h"
#include "base/json.h"
#include "base/files.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>

#include <Eigen/Geometry>
#include <cstring>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;
using nlohmann::json;

CameraFile madeFile() {
    CameraFile file;
    file.width = 1280;
    file.height = 720;
    file.fps = {24, 1};
    file.lens = pinholeLens(1280, 720, 991.25);
    for (int i = 0; i < 5; ++i) {
        Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
        pose.translate(Vector3d(0.37 * i - 1, 1.61, 4.3 - 0.1 * i));
        // Through a half turn, where a quaternion's sign may jump.
        pose.rotate(Eigen::AngleAxisd(1.3 * i, Vector3d(0.1, 1, 0.05).normalized()));
        file.frames.push_back({.frame = 1001 + 2 * i, .worldFromCamera = pose, .focal_px = 991.25});
    }
    file.points = {{"corner \"1\"", {0.1, 0.2, -3.7}}, {"b", {-1.5, 0.3, -6.1}}, {"c", {2.2, 1.1, -5.3}}};
    return file;
}

std::uint32_t wordAt(const std::string& bytes, std::size_t at) {
    std::uint32_t word = 0;
    std::memcpy(&word, bytes.data() + at, 4);
    return word;
}

/// The floats of an accessor.
std::vector<float> valuesOf(const std::string& glb, const json& document, int accessor) {
    const json& what = document["accessors"][std::size_t(accessor)];
    const json& view = document["bufferViews"][what["bufferView"].get<std::size_t>()];
    const std::size_t start = 20 + wordAt(glb, 12) + 8 + view["byteOffset"].get<std::size_t>();
    std::vector<float> values(view["byteLength"].get<std::size_t>() / 4);
    std::memcpy(values.data(), glb.data() + start, values.size() * 4);
    return values;
}

}  // namespace

TEST_CASE("a .glb says where each point is seen on each frame, by the standard's own camera") {
    const CameraFile file = madeFile();
    const std::string glb = cameraGlb(file, "landing");
    // The container of the specification, 4.4.
    REQUIRE(wordAt(glb, 0) == 0x46546C67);
    CHECK(wordAt(glb, 4) == 2);
    CHECK(wordAt(glb, 8) == glb.size());
    CHECK(wordAt(glb, 12) % 4 == 0);
    CHECK(wordAt(glb, 16) == 0x4E4F534A);
    const json document = json::parse(glb.substr(20, wordAt(glb, 12)));
    CHECK(document["asset"]["version"] == "2.0");
    const json& perspective = document["cameras"][0]["perspective"];
    const json& animation = document["animations"][0];
    std::vector<float> times, places, turns;
    for (const json& channel : animation["channels"]) {
        const json& sampler = animation["samplers"][channel["sampler"].get<std::size_t>()];
        times = valuesOf(glb, document, sampler["input"]);
        (channel["target"]["path"] == "translation" ? places : turns) = valuesOf(glb, document, sampler["output"]);
    }
    const auto cloud =
        valuesOf(glb, document, document["meshes"][0]["primitives"][0]["attributes"]["POSITION"].get<int>());
    REQUIRE(times.size() == file.frames.size());
    CHECK(times[1] == Approx(2.0 / 24));
    CHECK(document["accessors"][0]["max"][0].get<double>() == Approx(8.0 / 24));
    for (std::size_t f = 0; f < file.frames.size(); ++f) {
        const Eigen::Quaterniond turn(turns[4 * f + 3], turns[4 * f], turns[4 * f + 1], turns[4 * f + 2]);
        CHECK(turn.norm() == Approx(1).margin(1e-6));
        if (f > 0) {
            const Eigen::Quaterniond before(turns[4 * f - 1], turns[4 * f - 4], turns[4 * f - 3], turns[4 * f - 2]);
            CHECK(turn.dot(before) > 0);
        }
        const Vector3d place(places[3 * f], places[3 * f + 1], places[3 * f + 2]);
        for (std::size_t p = 0; p < file.points.size(); ++p) {
            const Vector3d world(cloud[3 * p], cloud[3 * p + 1], cloud[3 * p + 2]);
            const Vector3d own = turn.conjugate() * (world - place);
            // The projection matrix of the specification, 3.10.3.3.
            const double tangent = std::tan(0.5 * perspective["yfov"].get<double>());
            const Vector2d clip(own.x() / -own.z() / (perspective["aspectRatio"].get<double>() * tangent),
                                own.y() / -own.z() / tangent);
            const Vector2d seen(640 * (1 + clip.x()), 360 * (1 - clip.y()));
            const Vector3d truth = file.frames[f].worldFromCamera.inverse() * file.points[p].xyz;
            const Vector2d expected(640 + 991.25 * truth.x() / -truth.z(), 360 - 991.25 * truth.y() / -truth.z());
            if (truth.z() > -0.5) continue;  // behind it
            CHECK((seen - expected).norm() < 0.01);
        }
    }
    CHECK(document["meshes"][0]["extras"]["names"][0] == "corner \"1\"");
    CHECK(document["cameras"][0]["extras"]["lens"]["focal_px"] == 991.25);
}

TEST_CASE("a .glb without points or without frames is whole all the same") {
    CameraFile file = madeFile();
    file.points.clear();
    const std::string without = cameraGlb(file, "a");
    CHECK(json::parse(without.substr(20, wordAt(without, 12))).contains("meshes") == false);
    file.frames.clear();
    const std::string empty = cameraGlb(file, "a");
    CHECK(wordAt(empty, 8) == empty.size());
    CHECK(json::parse(empty.substr(20, wordAt(empty, 12))).contains("buffers") == false);
}

TEST_CASE("the cloud has the colours that the plate has under its tracks") {
    const auto plate = Plate::open(std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4");
    REQUIRE(plate);
    FrameCache frames(*plate);
    Shot shot;
    shot.plate.range = {1001, 1020};
    std::vector<Track> tracks;
    const auto add = [&](const char* name, int first, int last, const Eigen::Vector2d& at) {
        Track track;
        track.id = TrackId(tracks.size() + 1);
        track.name = name;
        std::vector<Sample> samples;
        for (int frame = first; frame <= last; ++frame) samples.push_back({.frame = frame, .at = at});
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(std::move(track));
    };
    add("roof", 1001, 1001, {1000.5, 200.5});
    add("late", 1007, 1008, {640.5, 500.5});
    add("beyond", 1021, 1030, {100, 100});
    shot.tracks = List<Track>(std::move(tracks));
    const auto meanAt = [&](int frame, int x, int y, std::size_t c) {
        const auto picture = frames.get(frame);
        REQUIRE(picture);
        double sum = 0;
        for (int v = y - 1; v <= y + 1; ++v)
            for (int u = x - 1; u <= x + 1; ++u)
                sum += (*picture)->bytes[(std::size_t(v) * 1280 + std::size_t(u)) * 3 + c];
        return sum / 9;
    };
    const auto known = trackColours(shot.tracks, shot.plate.range, frames);
    REQUIRE(known.size() == 2);
    for (std::size_t c = 0; c < 3; ++c) {
        CHECK(std::abs(known.at(1)[c] - meanAt(1001, 1000, 200, c)) <= 0.5);
        CHECK(std::abs(known.at(2)[c] - meanAt(1007, 640, 500, c)) <= 0.5);
    }
    // Of two frames alone the second track is on neither.
    CHECK(trackColours(shot.tracks, shot.plate.range, frames, 2).size() == 1);
    CameraFile file;
    file.points = {{"late", {0, 0, 0}}, {"nobody", {1, 0, 0}}, {"beyond", {2, 0, 0}}};
    const auto colours = pointColours(file, shot, frames);
    REQUIRE(colours.size() == 3);
    CHECK(colours[0] == known.at(2));
    CHECK(colours[1] == PointColour{128, 128, 128});
    CHECK(colours[2] == PointColour{128, 128, 128});
}

TEST_CASE("a .ply holds the cloud as its header says") {
    const CameraFile file = madeFile();
    const std::string ply = cloudPly(file);
    const auto end = ply.find("end_header\n") + 11;
    CHECK(ply.find("element vertex 3\n") != std::string::npos);
    REQUIRE(ply.size() == end + 36);
    float x = 0;
    std::memcpy(&x, ply.data() + end + 12, 4);
    CHECK(x == -1.5F);

    const std::vector<PointColour> colours{{10, 20, 30}, {200, 100, 50}, {0, 255, 128}};
    const std::string coloured = cloudPly(file, colours);
    const auto from = coloured.find("end_header\n") + 11;
    CHECK(coloured.find("property uchar red\nproperty uchar green\nproperty uchar blue\n") != std::string::npos);
    REQUIRE(coloured.size() == from + 45);
    std::memcpy(&x, coloured.data() + from + 15, 4);
    CHECK(x == -1.5F);
    CHECK(std::uint8_t(coloured[from + 15 + 12]) == 200);
    CHECK(std::uint8_t(coloured[from + 44]) == 128);
    // In a .glb they are linear.
    const std::string glb = cameraGlb(file, "a", colours);
    const json document = json::parse(glb.substr(20, wordAt(glb, 12)));
    const auto& accessor =
        document["accessors"][document["meshes"][0]["primitives"][0]["attributes"]["COLOR_0"].get<std::size_t>()];
    CHECK(accessor["type"] == "VEC3");
    CHECK(accessor["count"] == 3);
    float green = 0;
    std::memcpy(
        &green,
        glb.data() + 28 + wordAt(glb, 12) +
            document["bufferViews"][accessor["bufferView"].get<std::size_t>()]["byteOffset"].get<std::size_t>() + 16,
        4);
    CHECK(green == Approx(0.1274).margin(0.001));  // 100 of 255 by IEC 61966-2-1
}

namespace {

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
    const json document = json::parse(glb.substr(20, wordAt(glb, 12)));
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
    const std::size_t start = 20 + wordAt(glb, 12) + 8 + view["byteOffset"].get<std::size_t>();
    CHECK(glb.substr(start + 1, 3) == "PNG");
    CHECK(document["extensionsUsed"].size() == 2);
    CHECK(wordAt(glb, 8) == glb.size());
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
