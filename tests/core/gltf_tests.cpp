// glTF and PLY as they are handed on, read by what the standards say.

#include "exchange/gltf.h"
#include "base/json.h"
#include "scratch.h"

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

TEST_CASE("a .ply holds the cloud as its header says") {
    const CameraFile file = madeFile();
    const std::string ply = cloudPly(file);
    const auto end = ply.find("end_header\n") + 11;
    CHECK(ply.find("element vertex 3\n") != std::string::npos);
    REQUIRE(ply.size() == end + 36);
    float x = 0;
    std::memcpy(&x, ply.data() + end + 12, 4);
    CHECK(x == -1.5F);
}

}  // namespace pinion
