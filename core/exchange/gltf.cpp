#include "exchange/gltf.h"

#include "lens/lensjson.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cstring>

namespace pinion {
namespace {

using namespace jsonfile;

// Numbers of the standard.
constexpr int kFloat = 5126, kPoints = 0, kArrayBuffer = 34962;
constexpr std::uint32_t kMagic = 0x46546C67, kJsonChunk = 0x4E4F534A, kBinChunk = 0x004E4942;

void putWord(std::string& bytes, std::uint32_t value) {
    for (int i = 0; i < 4; ++i) bytes.push_back(char((value >> (8 * i)) & 0xFFU));
}
void putFloat(std::string& bytes, double value) {
    const auto narrow = float(value);
    std::uint32_t bits = 0;
    std::memcpy(&bits, &narrow, sizeof(bits));
    putWord(bytes, bits);
}

/// The buffer of a file, with what tells of its parts.
class Buffer {
public:
    /// Values of `width` floats each, of vertices or not; with their bounds where the standard asks for them.
    int add(const std::vector<double>& values, int width, bool bounds, bool vertices = false) {
        const std::size_t from = bytes.size();
        for (const double value : values) putFloat(bytes, value);
        views.push_back({{"buffer", 0}, {"byteOffset", from}, {"byteLength", bytes.size() - from}});
        if (vertices) views.back()["target"] = kArrayBuffer;
        static constexpr const char* kTypes[] = {"", "SCALAR", "VEC2", "VEC3", "VEC4"};
        json accessor{{"bufferView", views.size() - 1},
                      {"componentType", kFloat},
                      {"count", values.size() / std::size_t(width)},
                      {"type", kTypes[width]}};
        if (bounds) {
            std::vector<float> low(std::size_t(width), 1e30F), high(std::size_t(width), -1e30F);
            for (std::size_t i = 0; i < values.size(); ++i) {
                const std::size_t k = i % std::size_t(width);
                low[k] = std::min(low[k], float(values[i]));
                high[k] = std::max(high[k], float(values[i]));
            }
            accessor["min"] = low;
            accessor["max"] = high;
        }
        accessors.push_back(std::move(accessor));
        return int(accessors.size()) - 1;
    }
    std::string bytes;
    json views = json::array(), accessors = json::array();
};

json animationOf(const CameraFile& file, Buffer& buffer) {
    std::vector<double> times, places, turns;
    Eigen::Quaterniond before = Eigen::Quaterniond::Identity();
    for (const CameraFile::Frame& frame : file.frames) {
        times.push_back((frame.frame - file.frames.front().frame) / file.fps.perSecond());
        const Eigen::Vector3d place = frame.worldFromCamera.translation();
        places.insert(places.end(), {place.x(), place.y(), place.z()});
        Eigen::Quaterniond turn(frame.worldFromCamera.linear());
        // The nearer of the two that mean the same, so that what reads it goes the short way.
        if (turn.dot(before) < 0) turn.coeffs() *= -1;
        before = turn;
        turns.insert(turns.end(), {turn.x(), turn.y(), turn.z(), turn.w()});
    }
    const int time = buffer.add(times, 1, true), place = buffer.add(places, 3, false),
              turn = buffer.add(turns, 4, false);
    json samplers = json::array(), channels = json::array();
    for (const auto& [output, path] : {std::pair{place, "translation"}, {turn, "rotation"}}) {
        channels.push_back({{"sampler", samplers.size()}, {"target", {{"node", 0}, {"path", path}}}});
        samplers.push_back({{"input", time}, {"output", output}, {"interpolation", "LINEAR"}});
    }
    return {{"name", "camera"}, {"samplers", std::move(samplers)}, {"channels", std::move(channels)}};
}

}  // namespace

std::string cameraGlb(const CameraFile& file, const std::string& name) {
    Buffer buffer;
    const Lens& lens = file.lens;
    const double focal = file.frames.empty() ? lens.focal_px : file.frames.front().focal_px;
    json frames = json::array();
    for (const CameraFile::Frame& frame : file.frames)
        frames.push_back({{"frame", frame.frame}, {"focal_px", frame.focal_px}});
    json camera{
        {"name", "camera"},
        {"type", "perspective"},
        {"perspective",
         {{"yfov", 2 * std::atan(0.5 * lens.height / focal)},
          {"aspectRatio", double(lens.width) / lens.squeeze / lens.height},
          {"znear", 0.01}}},
        {"extras",
         {{"lens", lensValues(lens)}, {"sensor_width_mm", file.sensorWidth_mm}, {"frames", std::move(frames)}}}};
    json node{{"name", "camera"}, {"camera", 0}};
    json document{
        {"asset", {{"version", "2.0"}, {"generator", "Pinion"}}}, {"scene", 0}, {"cameras", {std::move(camera)}}};
    json nodes = json::array(), roots = {0};
    if (!file.frames.empty()) {
        const Eigen::Isometry3d& first = file.frames.front().worldFromCamera;
        const Eigen::Quaterniond turn(first.linear());
        node["translation"] = {first.translation().x(), first.translation().y(), first.translation().z()};
        node["rotation"] = {turn.x(), turn.y(), turn.z(), turn.w()};
        document["animations"] = {animationOf(file, buffer)};
    }
    nodes.push_back(std::move(node));
    if (!file.points.empty()) {
        std::vector<double> places;
        json names = json::array();
        for (const CameraFile::Point& point : file.points) {
            places.insert(places.end(), {point.xyz.x(), point.xyz.y(), point.xyz.z()});
            names.push_back(point.name);
        }
        const int cloud = buffer.add(places, 3, true, true);
        document["meshes"] = {{{"name", "cloud"},
                               {"primitives", {{{"attributes", {{"POSITION", cloud}}}, {"mode", kPoints}}}},
                               {"extras", {{"names", std::move(names)}}}}};
        nodes.push_back({{"name", "cloud"}, {"mesh", 0}});
        roots.push_back(1);
    }
    document["nodes"] = std::move(nodes);
    document["scenes"] = {{{"name", name}, {"nodes", std::move(roots)}}};
    if (!buffer.bytes.empty()) {
        document["buffers"] = {{{"byteLength", buffer.bytes.size()}}};
        document["bufferViews"] = buffer.views;
        document["accessors"] = buffer.accessors;
    }
    std::string text = dumped(document);
    while (text.size() % 4 != 0) text.push_back(' ');
    const bool hasBytes = !buffer.bytes.empty();
    std::string out;
    putWord(out, kMagic);
    putWord(out, 2);
    putWord(out, std::uint32_t(12 + 8 + text.size() + (hasBytes ? 8 + buffer.bytes.size() : 0)));
    putWord(out, std::uint32_t(text.size()));
    putWord(out, kJsonChunk);
    out += text;
    if (!hasBytes) return out;
    putWord(out, std::uint32_t(buffer.bytes.size()));  // of whole words: all values are floats
    putWord(out, kBinChunk);
    return out + buffer.bytes;
}

std::string cloudPly(const CameraFile& file) {
    std::string out = fmt::format(
        "ply\nformat binary_little_endian 1.0\ncomment the cloud of a camera, Y up\nelement vertex {}\n"
        "property float x\nproperty float y\nproperty float z\nend_header\n",
        file.points.size());
    for (const CameraFile::Point& point : file.points)
        for (int i = 0; i < 3; ++i) putFloat(out, point.xyz[i]);
    return out;
}

}  // namespace pinion
