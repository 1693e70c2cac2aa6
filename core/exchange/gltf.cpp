#include "exchange/gltf.h"

#include "exchange/standins3d.h"
#include "lens/lensjson.h"
#include "picture/picture.h"
#include "render/meshfile.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cstring>

namespace pinion {
namespace {

using namespace jsonfile;

// Numbers of the standard.
constexpr int kFloat = 5126, kUnsigned = 5125, kPoints = 0, kLines = 1, kTriangles = 4, kArrayBuffer = 34962,
              kElementBuffer = 34963, kClamp = 33071, kRepeat = 10497;
constexpr std::uint32_t kMagic = 0x46546C67, kJsonChunk = 0x4E4F534A, kBinChunk = 0x004E4942;

constexpr std::size_t kMostTriangles = 2000000;  // of a mesh that goes into the file

void putWord(std::string& bytes, std::uint32_t value) {
    for (int i = 0; i < 4; ++i) bytes.push_back(char((value >> (8 * i)) & 0xFFU));
}
void putFloat(std::string& bytes, double value) {
    const auto narrow = float(value);
    std::uint32_t bits = 0;
    std::memcpy(&bits, &narrow, sizeof(bits));
    putWord(bytes, bits);
}

/// What a binary file holds, with what tells of its parts.
class Parts {
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
    int addCorners(const std::vector<Mesh::Triangle>& triangles) {
        const std::size_t from = bytes.size();
        for (const Mesh::Triangle& triangle : triangles)
            for (const std::uint32_t corner : triangle) putWord(bytes, corner);
        views.push_back(
            {{"buffer", 0}, {"byteOffset", from}, {"byteLength", bytes.size() - from}, {"target", kElementBuffer}});
        accessors.push_back({{"bufferView", views.size() - 1},
                             {"componentType", kUnsigned},
                             {"count", 3 * triangles.size()},
                             {"type", "SCALAR"}});
        return int(accessors.size()) - 1;
    }
    /// Beyond its sides the picture is held (`kClamp`) or repeated.
    int addPng(const std::string& png, int beyond = kClamp) {
        views.push_back({{"buffer", 0}, {"byteOffset", bytes.size()}, {"byteLength", png.size()}});
        bytes += png;
        while (bytes.size() % 4 != 0) bytes.push_back('\0');
        images.push_back({{"bufferView", views.size() - 1}, {"mimeType", "image/png"}});
        const json sampler{{"wrapS", beyond}, {"wrapT", beyond}};
        const auto known = std::find(wraps.begin(), wraps.end(), sampler);
        const auto number = known - wraps.begin();
        if (known == wraps.end()) wraps.push_back(sampler);
        textures.push_back({{"source", images.size() - 1}, {"sampler", number}});
        return int(textures.size()) - 1;
    }
    int addMesh(const std::string& name, json attributes, int mode, int material = -1, int indices = -1) {
        json primitive{{"attributes", std::move(attributes)}};
        if (mode != kTriangles) primitive["mode"] = mode;
        if (material >= 0) primitive["material"] = material;
        if (indices >= 0) primitive["indices"] = indices;
        meshes.push_back({{"name", name}, {"primitives", {std::move(primitive)}}});
        return int(meshes.size()) - 1;
    }
    /// More triangles of the same places.
    void addPart(int mesh, int material, int indices) {
        json& primitives = meshes[std::size_t(mesh)]["primitives"];
        json primitive = primitives.front();
        primitive["material"] = material;
        primitive["indices"] = indices;
        primitives.push_back(std::move(primitive));
    }
    int addNode(json node, bool isRoot = true) {
        nodes.push_back(std::move(node));
        if (isRoot) roots.push_back(nodes.size() - 1);
        return int(nodes.size()) - 1;
    }
    /// One node's way over the frames; the scale where it changes.
    struct Way {
        std::vector<double> times, places, turns, scales;
        void add(double time, const Eigen::Vector3d& place, Eigen::Quaterniond turn) {
            times.push_back(time);
            places.insert(places.end(), {place.x(), place.y(), place.z()});
            // The nearer of the two that mean the same, so that what reads it goes the short way.
            if (turns.size() >= 4 &&
                turn.coeffs().dot(Eigen::Map<const Eigen::Vector4d>(turns.data() + turns.size() - 4)) < 0)
                turn.coeffs() *= -1;
            turns.insert(turns.end(), {turn.x(), turn.y(), turn.z(), turn.w()});
        }
    };
    void animate(int node, const Way& way) {
        const int time = add(way.times, 1, true);
        const auto channel = [&](const std::vector<double>& values, int width, const char* path) {
            if (values.empty()) return;
            channels.push_back({{"sampler", samplers.size()}, {"target", {{"node", node}, {"path", path}}}});
            samplers.push_back({{"input", time}, {"output", add(values, width, false)}, {"interpolation", "LINEAR"}});
        };
        channel(way.places, 3, "translation");
        channel(way.turns, 4, "rotation");
        channel(way.scales, 3, "scale");
    }
    std::string bytes;
    json views = json::array(), accessors = json::array(), images = json::array(), textures = json::array(),
         materials = json::array(), meshes = json::array(), nodes = json::array(), roots = json::array(),
         channels = json::array(), samplers = json::array(), wraps = json::array();
    bool usesUnlit = false;
};

json asJson(const Eigen::Vector3d& v) { return {v.x(), v.y(), v.z()}; }
json asJson(const Eigen::Quaterniond& q) { return {q.x(), q.y(), q.z(), q.w()}; }

double secondsOf(const CameraFile& file, int frame) {
    return file.frames.empty() ? 0 : (frame - file.frames.front().frame) / file.fps.perSecond();
}

std::vector<double> valuesOf(const std::vector<Eigen::Vector3f>& vectors) {
    std::vector<double> values;
    for (const Eigen::Vector3f& v : vectors) values.insert(values.end(), {double(v.x()), double(v.y()), double(v.z())});
    return values;
}

/// Points with their names in the mesh's extras.
template <class Point>
int addCloud(Parts& parts, const std::string& name, const std::vector<Point>& points,
             std::span<const PointColour> colours = {}) {
    std::vector<double> places;
    json names = json::array();
    for (const Point& point : points) {
        places.insert(places.end(), {point.xyz.x(), point.xyz.y(), point.xyz.z()});
        names.push_back(point.name);
    }
    json attributes{{"POSITION", parts.add(places, 3, true, true)}};
    if (colours.size() == points.size() && !points.empty()) {
        std::vector<double> linear;
        for (const PointColour& colour : colours)
            for (const std::uint8_t part : colour) linear.push_back(double(decodeSrgb(float(part) / 255.0F)));
        attributes["COLOR_0"] = parts.add(linear, 3, false, true);
    }
    const int mesh = parts.addMesh(name, std::move(attributes), kPoints);
    parts.meshes.back()["extras"] = {{"names", std::move(names)}};
    return mesh;
}

/// Lines a unit apart over the level, as far as told to each side of its middle.
int addGrid(Parts& parts, const std::string& name, double width, double depth) {
    std::vector<double> ends;
    const double across = 0.5 * width, along = 0.5 * depth;
    for (double x = -std::floor(across); x <= across; ++x) ends.insert(ends.end(), {x, 0, -along, x, 0, along});
    for (double z = -std::floor(along); z <= along; ++z) ends.insert(ends.end(), {-across, 0, z, across, 0, z});
    return parts.addMesh(name, {{"POSITION", parts.add(ends, 3, true, true)}}, kLines);
}

int addMaterial(Parts& parts, const StandIn& one) {
    json surface{{"metallicFactor", 0.0}, {"roughnessFactor", 0.9}};
    bool isClear = one.opacity < 1;
    std::array<double, 4> base{1, 1, 1, one.opacity};
    if (const auto picture = handedOnPicture(one)) {
        if (const auto png = pngOf(*picture)) surface["baseColorTexture"] = {{"index", parts.addPng(*png)}};
        isClear = isClear || one.kind != StandInKind::board;
    } else {
        for (std::size_t c = 0; c < 3; ++c) base[c] = double(decodeSrgb(float(one.colour[c])));
    }
    surface["baseColorFactor"] = base;
    json material{{"name", one.name}, {"pbrMetallicRoughness", std::move(surface)}};
    if (isClear) material["alphaMode"] = "BLEND";
    if (isUprightSheet(one.kind)) material["doubleSided"] = true;
    // A card's light was filmed with it.
    if (one.kind == StandInKind::card || one.kind == StandInKind::text) {
        material["extensions"]["KHR_materials_unlit"] = json::object();
        parts.usesUnlit = true;
    }
    parts.materials.push_back(std::move(material));
    return int(parts.materials.size()) - 1;
}

/// A picture of the mesh's own materials.
int addSkin(Parts& parts, const StandIn& one, const std::string& png, std::size_t number) {
    json surface{{"metallicFactor", 0.0},
                 {"roughnessFactor", 0.9},
                 {"baseColorFactor", {1.0, 1.0, 1.0, one.opacity}},
                 {"baseColorTexture", {{"index", parts.addPng(png, kRepeat)}}}};
    json material{{"name", fmt::format("{} {}", one.name, number)}, {"pbrMetallicRoughness", std::move(surface)}};
    if (one.opacity < 1) material["alphaMode"] = "BLEND";
    // What is cut out of a leaf is clear in its picture.
    else material["alphaMode"] = "MASK";
    parts.materials.push_back(std::move(material));
    return int(parts.materials.size()) - 1;
}

int addShape(Parts& parts, const StandIn& one, const Mesh& mesh) {
    json attributes{{"POSITION", parts.add(valuesOf(mesh.places), 3, true, true)}};
    if (!mesh.normals.empty()) {
        std::vector<Eigen::Vector3f> normals = mesh.normals;
        for (Eigen::Vector3f& normal : normals)
            normal = normal.norm() > 0 ? Eigen::Vector3f(normal.normalized()) : Eigen::Vector3f::UnitY();
        attributes["NORMAL"] = parts.add(valuesOf(normals), 3, false, true);
    }
    if (!mesh.colours.empty()) attributes["COLOR_0"] = parts.add(valuesOf(mesh.colours), 3, false, true);
    if (!mesh.sheet.empty()) {
        std::vector<double> sheet;
        for (const Eigen::Vector2f& at : mesh.sheet) sheet.insert(sheet.end(), {double(at.x()), double(at.y())});
        attributes["TEXCOORD_0"] = parts.add(sheet, 2, false, true);
    }
    StandIn material = one;
    if (!mesh.colours.empty()) material.colour = {1, 1, 1};
    if (mesh.pictureOf.empty())
        return parts.addMesh(one.name, std::move(attributes), kTriangles, addMaterial(parts, material),
                             parts.addCorners(mesh.triangles));
    const auto skins = skinsOf(one);
    int made = -1;
    for (std::size_t number = 0; number <= skins.size(); ++number) {
        std::vector<Mesh::Triangle> triangles;
        for (std::size_t i = 0; i < mesh.triangles.size(); ++i)
            if (mesh.pictureOf[i] == number) triangles.push_back(mesh.triangles[i]);
        if (triangles.empty()) continue;
        const auto png =
            number > 0 && skins[number - 1].picture ? pngOf(*skins[number - 1].picture) : tl::unexpected(Error{});
        const int look = png ? addSkin(parts, one, *png, number) : addMaterial(parts, material);
        const int corners = parts.addCorners(triangles);
        if (made < 0) made = parts.addMesh(one.name, attributes, kTriangles, look, corners);
        else parts.addPart(made, look, corners);
    }
    // The file was replaced meanwhile: its shape without pictures.
    return made >= 0 ? made
                     : parts.addMesh(one.name, std::move(attributes), kTriangles, addMaterial(parts, material),
                                     parts.addCorners(mesh.triangles));
}

void addStandIn(Parts& parts, const CameraFile& file, const StandIn& one) {
    const auto stances = handedOnStances(file, one);
    const Stance& first = stances.front().second;
    json node{{"name", one.name},
              {"translation", asJson(first.place)},
              {"rotation", asJson(Eigen::Quaterniond(first.rotation()))},
              {"extras", {{"kind", std::string(toString(one.kind))}}}};
    if (one.hasFile()) node["extras"]["file"] = one.file.string();
    if (one.catchesOnly) node["extras"]["catches_shadow_only"] = true;
    if (one.hides) node["extras"]["hides"] = true;
    const bool isGrid = one.kind == StandInKind::grid;
    if (isGrid) node["mesh"] = addGrid(parts, one.name, first.size.x(), first.size.z());
    else node["scale"] = asJson(first.size);
    if (const auto shape = isGrid ? nullptr : handedOnShape(one, kMostTriangles))
        node["mesh"] = addShape(parts, one, *shape);
    const int number = parts.addNode(std::move(node));
    if (stances.size() < 2) return;
    Parts::Way way;
    for (const auto& [frame, stance] : stances) {
        way.add(secondsOf(file, frame), stance.place, Eigen::Quaterniond(stance.rotation()));
        if (!isGrid) way.scales.insert(way.scales.end(), {stance.size.x(), stance.size.y(), stance.size.z()});
    }
    parts.animate(number, way);
}

void addObject(Parts& parts, const CameraFile& file, const ObjectFile::Object& object) {
    json node{{"name", object.name}, {"extras", {{"scale_known", object.scaleIsKnown}}}};
    // Where it is while nothing plays.
    if (!object.frames.empty()) {
        const Eigen::Isometry3d& first = object.frames.front().worldFromObject;
        node["translation"] = asJson(Eigen::Vector3d(first.translation()));
        node["rotation"] = asJson(Eigen::Quaterniond(first.linear()));
    }
    if (!object.points.empty()) node["mesh"] = addCloud(parts, object.name, object.points);
    Parts::Way way;
    for (const ObjectFile::Frame& frame : object.frames) {
        // Frames before the camera's first have no time in the file.
        if (frame.frame < (file.frames.empty() ? frame.frame : file.frames.front().frame)) continue;
        way.add(secondsOf(file, frame.frame), frame.worldFromObject.translation(),
                Eigen::Quaterniond(frame.worldFromObject.linear()));
    }
    const int number = parts.addNode(std::move(node));
    if (!way.times.empty()) parts.animate(number, way);
}

/// A light without a place shines along its node's own -z.
void addSun(Parts& parts, json& document, const Sun& sun) {
    if (sun.strength <= 0 || !(sun.towards.norm() > 0)) return;
    const Eigen::Quaterniond turn = Eigen::Quaterniond::FromTwoVectors(Eigen::Vector3d::UnitZ(), sun.towards);
    parts.addNode(
        {{"name", "sun"}, {"rotation", asJson(turn)}, {"extensions", {{"KHR_lights_punctual", {{"light", 0}}}}}});
    document["extensions"]["KHR_lights_punctual"]["lights"] = {
        {{"name", "sun"}, {"type", "directional"}, {"intensity", 4 * sun.strength}}};
    document["extensionsUsed"].push_back("KHR_lights_punctual");
}

}  // namespace

std::string cameraGlb(const CameraFile& file, const std::string& name, std::span<const PointColour> colours) {
    Parts parts;
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
    Parts::Way way;
    for (const CameraFile::Frame& frame : file.frames)
        way.add(secondsOf(file, frame.frame), frame.worldFromCamera.translation(),
                Eigen::Quaterniond(frame.worldFromCamera.linear()));
    if (!file.frames.empty()) {
        node["translation"] = asJson(Eigen::Vector3d(file.frames.front().worldFromCamera.translation()));
        node["rotation"] = asJson(Eigen::Quaterniond(file.frames.front().worldFromCamera.linear()));
    }
    const int number = parts.addNode(std::move(node));
    if (!file.frames.empty()) parts.animate(number, way);
    if (!file.points.empty())
        parts.addNode({{"name", "cloud"}, {"mesh", addCloud(parts, "cloud", file.points, colours)}});
    if (!file.points.empty() && file.motion == "travelling")
        parts.addNode({{"name", "ground"},
                       {"mesh", addGrid(parts, "ground", 10, 10)},
                       {"translation", {0.0, file.scene.ground, 0.0}}});
    for (const ObjectFile::Object& object : file.objects) addObject(parts, file, object);
    for (const StandIn& one : file.scene.standIns)
        if (!one.hidden && one.stance.size.minCoeff() > 0) addStandIn(parts, file, one);
    if (!file.scene.standIns.isEmpty()) addSun(parts, document, file.scene.sun);
    if (parts.usesUnlit) document["extensionsUsed"].push_back("KHR_materials_unlit");
    if (!parts.wraps.empty()) document["samplers"] = parts.wraps;
    if (!parts.channels.empty())
        document["animations"] = {{{"name", name}, {"samplers", parts.samplers}, {"channels", parts.channels}}};
    for (const auto& [word, values] : {std::pair{"bufferViews", &parts.views},
                                       {"accessors", &parts.accessors},
                                       {"images", &parts.images},
                                       {"textures", &parts.textures},
                                       {"materials", &parts.materials},
                                       {"meshes", &parts.meshes},
                                       {"nodes", &parts.nodes}})
        if (!values->empty()) document[word] = *values;
    document["scenes"] = {{{"name", name}, {"nodes", parts.roots}}};
    const bool hasBytes = !parts.bytes.empty();
    if (hasBytes) document["buffers"] = {{{"byteLength", parts.bytes.size()}}};
    std::string text = dumped(document);
    while (text.size() % 4 != 0) text.push_back(' ');
    std::string out;
    putWord(out, kMagic);
    putWord(out, 2);
    putWord(out, std::uint32_t(12 + 8 + text.size() + (hasBytes ? 8 + parts.bytes.size() : 0)));
    putWord(out, std::uint32_t(text.size()));
    putWord(out, kJsonChunk);
    out += text;
    if (!hasBytes) return out;
    putWord(out, std::uint32_t(parts.bytes.size()));
    putWord(out, kBinChunk);
    return out + parts.bytes;
}

std::string cloudPly(const CameraFile& file, std::span<const PointColour> colours) {
    const bool isColoured = !colours.empty() && colours.size() == file.points.size();
    std::string out = fmt::format(
        "ply\nformat binary_little_endian 1.0\ncomment the cloud of a camera, Y up\nelement vertex {}\n"
        "property float x\nproperty float y\nproperty float z\n{}end_header\n",
        file.points.size(), isColoured ? "property uchar red\nproperty uchar green\nproperty uchar blue\n" : "");
    for (std::size_t i = 0; i < file.points.size(); ++i) {
        for (int c = 0; c < 3; ++c) putFloat(out, file.points[i].xyz[c]);
        for (std::size_t c = 0; isColoured && c < 3; ++c) out.push_back(char(colours[i][c]));
    }
    return out;
}

}  // namespace pinion
