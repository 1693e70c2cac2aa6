#include "exchange/usd.h"

#include "base/files.h"
#include "base/units.h"
#include "comp/insertion.h"
#include "exchange/standins3d.h"
#include "picture/picture.h"
#include "plate/framewriter.h"
#include "plate/plate.h"
#include "plate/still.h"
#include "render/cardfile.h"
#include "render/meshfile.h"

#include <cctype>
#include <cstdlib>
#include <set>

namespace pinion {
namespace {

using Eigen::Matrix4d;
using Eigen::Vector3d;

std::string identifier(const std::string& name) {
    std::string result;
    for (char c : name) result += std::isalnum(static_cast<unsigned char>(c)) ? c : '_';
    if (result.empty() || std::isdigit(static_cast<unsigned char>(result.front()))) result.insert(result.begin(), '_');
    return result;
}

/// Names of the objects in the file, then of the stand-ins: no two alike, and none of what else lies there.
std::vector<std::string> namesOfObjects(const CameraFile& file) {
    std::vector<std::string> names;
    std::set<std::string> taken{"Camera", "Cloud", "Ground"};
    const auto add = [&](const std::string& wanted) {
        std::string name = identifier(wanted);
        for (int number = 2; !taken.insert(name).second; ++number)
            name = fmt::format("{}_{}", identifier(wanted), number);
        names.push_back(std::move(name));
    };
    for (const ObjectFile::Object& object : file.objects) add(object.name);
    for (const StandIn& one : file.scene.standIns) add(one.name);
    return names;
}

Eigen::Matrix3d axes(bool zUp) {
    Eigen::Matrix3d turn = Eigen::Matrix3d::Identity();
    if (zUp) turn << 1, 0, 0, 0, 0, -1, 0, 1, 0;
    return turn;
}

Matrix4d inFile(const Eigen::Isometry3d& worldFromCamera, bool zUp) {
    Matrix4d turn = Matrix4d::Identity();
    turn.topLeftCorner<3, 3>() = axes(zUp);
    // USD multiplies row vectors, so its rows are our columns.
    return (turn * worldFromCamera.matrix()).transpose();
}

/// An object's own points are turned as the world is.
Matrix4d objectInFile(const Eigen::Isometry3d& worldFromObject, bool zUp) {
    Eigen::Isometry3d turn = Eigen::Isometry3d::Identity();
    turn.linear() = axes(zUp);
    return inFile(worldFromObject * turn.inverse(), zUp);
}

std::string matrixText(const Matrix4d& m) {
    std::string text = "( ";
    for (int r = 0; r < 4; ++r)
        text += fmt::format("({:.10g}, {:.10g}, {:.10g}, {:.10g}){}", m(r, 0), m(r, 1), m(r, 2), m(r, 3),
                            r < 3 ? ", " : " )");
    return text;
}

std::string pointText(const Vector3d& p) { return fmt::format("({:.7g}, {:.7g}, {:.7g})", p.x(), p.y(), p.z()); }

std::string headText(const CameraFile& file, const UsdOptions& options) {
    const int first = file.frames.empty() ? 0 : file.frames.front().frame;
    const int last = file.frames.empty() ? 0 : file.frames.back().frame;
    std::string out = "#usda 1.0\n(\n";
    out += fmt::format("    defaultPrim = \"{}\"\n", identifier(options.name));
    out += fmt::format("    doc = \"\"\"Camera solved by Pinion. {}x{}, {} frames/s. {}\"\"\"\n", file.width,
                       file.height, toString(file.fps),
                       options.metres ? "Units are metres." : "The scale was not set: units are arbitrary.");
    out += fmt::format("    startTimeCode = {}\n    endTimeCode = {}\n", first, last);
    out += fmt::format("    timeCodesPerSecond = {:.10g}\n    framesPerSecond = {:.10g}\n", file.fps.perSecond(),
                       file.fps.perSecond());
    out += fmt::format("    metersPerUnit = 1\n    upAxis = \"{}\"\n)\n\n", options.zUp ? "Z" : "Y");
    out += fmt::format("def Xform \"{}\"\n{{\n", identifier(options.name));
    return out;
}

std::string cameraText(const CameraFile& file, const UsdOptions& options) {
    const Lens& lens = file.lens;
    // An anamorphic lens of a focal length sees as much more of the width as it squeezes: as if the sensor were wider.
    const double horizontalAperture = file.sensorWidth_mm / lens.squeeze;
    const double verticalAperture = file.sensorWidth_mm * file.height / file.width;
    std::string out;
    out += "    def Camera \"Camera\"\n    {\n";
    out += "        token projection = \"perspective\"\n        float2 clippingRange = (0.01, 100000)\n";
    bool zoom = false;
    for (const auto& frame : file.frames) zoom = zoom || std::abs(frame.focal_px - file.frames.front().focal_px) > 1e-9;
    const auto millimetres = [&](double focal_px) {
        return focalMillimetres(focal_px, file.sensorWidth_mm, file.width);
    };
    if (zoom) {
        out += "        float focalLength.timeSamples = {\n";
        for (const auto& frame : file.frames)
            out += fmt::format("            {}: {:.8g},\n", frame.frame, millimetres(frame.focal_px));
        out += "        }\n";
    } else {
        out += fmt::format("        float focalLength = {:.8g}\n", millimetres(lens.focal_px));
    }
    out += fmt::format("        float horizontalAperture = {:.8g}\n        float verticalAperture = {:.8g}\n",
                       horizontalAperture, verticalAperture);
    out +=
        fmt::format("        float horizontalApertureOffset = {:.8g}\n        float verticalApertureOffset = {:.8g}\n",
                    (file.width / 2.0 - lens.cx) / file.width * horizontalAperture,
                    (lens.cy - file.height / 2.0) / file.height * verticalAperture);
    for (const auto& [name, value] : {std::pair<const char*, double>{"k1", lens.k1},
                                      {"k2", lens.k2},
                                      {"k3", lens.k3},
                                      {"p1", lens.p1},
                                      {"p2", lens.p2},
                                      {"cx", lens.cx},
                                      {"cy", lens.cy},
                                      {"focal_px", lens.focal_px},
                                      {"squeeze", lens.squeeze}})
        if (!lens.field || (name[0] != 'k' && name[0] != 'p'))  // maps have no coefficients; ST maps hand them on
            out += fmt::format("        custom double pinion:lens:{} = {:.12g}\n", name, value);
    if (file.readout.isRolling()) {
        out += fmt::format("        custom double pinion:readout = {:.12g}\n", file.readout.share);
        out += fmt::format("        custom token pinion:readBy = \"{}\"\n", file.readout.columns ? "columns" : "rows");
    }
    out += fmt::format("        custom int2 pinion:plate:size = ({}, {})\n", file.width, file.height);
    out += "        matrix4d xformOp:transform.timeSamples = {\n";
    for (const auto& frame : file.frames)
        out +=
            fmt::format("            {}: {},\n", frame.frame, matrixText(inFile(frame.worldFromCamera, options.zUp)));
    out += "        }\n        uniform token[] xformOpOrder = [\"xformOp:transform\"]\n    }\n\n";
    return out;
}

/// Points with their names, indented by `in`.
template <class Point>
std::string pointsText(const char* prim, const std::vector<Point>& places, const Eigen::Matrix3d& turn,
                       const std::string& in) {
    Vector3d low = Vector3d::Constant(1e30), high = Vector3d::Constant(-1e30);
    std::string points, names, widths;
    for (std::size_t i = 0; i < places.size(); ++i) {
        const Vector3d p = turn * places[i].xyz;
        low = low.cwiseMin(p);
        high = high.cwiseMax(p);
        const char* comma = i + 1 < places.size() ? ", " : "";
        points += pointText(p) + comma;
        names += fmt::format("\"{}\"{}", identifier(places[i].name), comma);
        widths += std::string("0.03") + comma;
    }
    if (places.empty()) low = high = Vector3d::Zero();
    std::string out = fmt::format("{}def Points \"{}\"\n{}{{\n", in, prim, in);
    out += fmt::format("{}    float3[] extent = [{}, {}]\n", in, pointText(low), pointText(high));
    out += in + "    point3f[] points = [" + points + "]\n" + in + "    float[] widths = [" + widths + "]\n";
    out += in + "    custom string[] pinion:names = [" + names + "]\n" + in + "}\n";
    return out;
}

std::string cloudText(const CameraFile& file, const UsdOptions& options) {
    return pointsText("Cloud", file.points, axes(options.zUp), "    ");
}

/// Each an animated Xform with its points under it.
std::string objectsText(const CameraFile& file, const UsdOptions& options) {
    const Eigen::Matrix3d turn = axes(options.zUp);
    const std::vector<std::string> names = namesOfObjects(file);
    std::string out;
    for (std::size_t i = 0; i < file.objects.size(); ++i) {
        const ObjectFile::Object& object = file.objects[i];
        out += fmt::format("\n    def Xform \"{}\"\n    {{\n", names[i]);
        out += "        matrix4d xformOp:transform.timeSamples = {\n";
        for (const ObjectFile::Frame& frame : object.frames)
            out += fmt::format("            {}: {},\n", frame.frame,
                               matrixText(objectInFile(frame.worldFromObject, options.zUp)));
        out += "        }\n        uniform token[] xformOpOrder = [\"xformOp:transform\"]\n";
        out += fmt::format("        custom bool pinion:scaleIsKnown = {}\n", object.scaleIsKnown ? 1 : 0);
        out += pointsText("Points", object.points, turn, "        ") + "    }\n";
    }
    return out;
}

/// Values in one line, each by `words`.
template <class Values, class Words>
std::string listText(const Values& values, const Words& words) {
    std::string text = "[";
    for (std::size_t i = 0; i < values.size(); ++i) text.append(i > 0 ? ", " : "").append(words(values[i]));
    return text + "]";
}

/// A stand-in's own x, y and z stay as they are; the world about it is turned.
Matrix4d stanceInFile(const Stance& stance, bool zUp) {
    Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
    pose.linear() = stance.rotation();
    pose.translation() = stance.place;
    Matrix4d scaled = Matrix4d::Identity();
    scaled.topLeftCorner<3, 3>() = stance.size.asDiagonal();
    return scaled * inFile(pose, zUp);
}

constexpr std::size_t kMostTriangles = 200000;  // of a mesh that goes into the text

/// What lies on a surface: a picture's file, or, of a sequence, one for each frame; none: a plain colour.
struct PictureFiles {
    std::vector<std::pair<int, std::filesystem::path>> byFrame;
    bool repeats = false;  ///< beyond its sides
};

/// A colour or a picture as a surface (openusd.org, "UsdPreviewSurface Specification").
std::string lookText(const StandIn& one, const std::string& path, const std::string& name, const PictureFiles& files) {
    const std::string in = "            ";
    const bool shows = !files.byFrame.empty();
    std::string out = "\n        def Material \"" + name + "\"\n        {\n";
    out += in + "token outputs:surface.connect = <" + path + "/" + name + "/Surface.outputs:surface>\n\n";
    out += in + "def Shader \"Surface\"\n" + in + "{\n";
    out += in + "    uniform token info:id = \"UsdPreviewSurface\"\n";
    // A card's light was filmed with it.
    const char* colour = one.kind == StandInKind::card ? "emissiveColor" : "diffuseColor";
    if (one.kind == StandInKind::card) out += in + "    color3f inputs:diffuseColor = (0, 0, 0)\n";
    if (shows) {
        out += fmt::format("{}    color3f inputs:{}.connect = <{}/{}/Picture.outputs:rgb>\n", in, colour, path, name);
        out += fmt::format("{}    float inputs:opacity.connect = <{}/{}/Picture.outputs:a>\n", in, path, name);
    } else {
        out += fmt::format("{}    color3f inputs:{} = ({:.6g}, {:.6g}, {:.6g})\n", in, colour,
                           decodeSrgb(float(one.colour[0])), decodeSrgb(float(one.colour[1])),
                           decodeSrgb(float(one.colour[2])));
        out += fmt::format("{}    float inputs:opacity = {:.6g}\n", in, one.opacity);
    }
    out += in + "    float inputs:roughness = 0.9\n" + in + "    token outputs:surface\n" + in + "}\n";
    if (shows) {
        out += "\n" + in + "def Shader \"Picture\"\n" + in + "{\n";
        out += in + "    uniform token info:id = \"UsdUVTexture\"\n";
        // The first also stands where nothing plays.
        out += in + "    asset inputs:file = @" + files.byFrame.front().second.string() + "@\n";
        if (files.byFrame.size() > 1) {
            out += in + "    asset inputs:file.timeSamples = {\n";
            for (const auto& [frame, file] : files.byFrame)
                out += fmt::format("{}        {}: @{}@,\n", in, frame, file.string());
            out += in + "    }\n";
        }
        out += in + "    float2 inputs:st.connect = <" + path + "/" + name + "/Place.outputs:result>\n";
        out += in + "    token inputs:sourceColorSpace = \"sRGB\"\n";
        if (one.opacity < 1) out += fmt::format("{}    float4 inputs:scale = (1, 1, 1, {:.6g})\n", in, one.opacity);
        const std::string wrap = files.repeats ? "\"repeat\"\n" : "\"clamp\"\n";
        out += in + "    token inputs:wrapS = " + wrap + in + "    token inputs:wrapT = " + wrap;
        out += in + "    float3 outputs:rgb\n" + in + "    float outputs:a\n" + in + "}\n";
        out += "\n" + in + "def Shader \"Place\"\n" + in + "{\n";
        out += in + "    uniform token info:id = \"UsdPrimvarReader_float2\"\n";
        out += in + "    string inputs:varname = \"st\"\n" + in + "    float2 outputs:result\n" + in + "}\n";
    }
    return out + "        }\n";
}

/// The still that it shows, or the pictures of a sequence on the camera's frames. Of a video none: a surface here takes
/// pictures alone.
PictureFiles filesShown(const CameraFile& file, const StandIn& one) {
    PictureFiles files;
    if (!one.showsPictures()) return files;
    if (isStillPicture(one.file)) {
        files.byFrame.emplace_back(0, one.file);
        return files;
    }
    if (!isSequencePattern(one.file)) return files;
    const auto card = cardClipOf(one.file);
    const auto pictures = Plate::open(one.file);
    if (!card || !pictures) return files;
    for (const CameraFile::Frame& frame : file.frames) {
        const auto number = clipFrameAt(one.card.time, card->clip, frame.frame, file.fps);
        const auto wanted = number ? (*pictures)->fileOf(*number) : std::filesystem::path();
        if (!wanted.empty() && (files.byFrame.empty() || files.byFrame.back().second != wanted))
            files.byFrame.emplace_back(frame.frame, wanted);
    }
    return files;
}

/// `path`: of the prim that it lies in.
std::string shapeText(const CameraFile& file, const StandIn& one, const std::string& path) {
    const auto shape = handedOnShape(one, kMostTriangles);
    if (!shape) return {};
    const auto vector = [](const Eigen::Vector3f& v) { return pointText(v.cast<double>()); };
    // The pictures of its own materials, each on its triangles.
    std::vector<std::pair<std::string, PictureFiles>> looks;
    std::string subsets;
    const auto skins = skinsOf(one);
    for (std::size_t number = 1; number <= skins.size(); ++number) {
        std::vector<std::size_t> faces;
        for (std::size_t i = 0; i < shape->pictureOf.size(); ++i)
            if (shape->pictureOf[i] == number) faces.push_back(i);
        const std::filesystem::path& picture = skins[number - 1].file;
        if (faces.empty() || picture.empty()) continue;
        looks.emplace_back(fmt::format("Look{}", number), PictureFiles{{{0, picture}}, true});
        subsets += fmt::format(
            "\n            def GeomSubset \"Part{0}\" (\n"
            "                prepend apiSchemas = [\"MaterialBindingAPI\"]\n            )\n            {{\n"
            "                uniform token elementType = \"face\"\n"
            "                uniform token familyName = \"materialBind\"\n                int[] indices = {2}\n"
            "                rel material:binding = <{1}/Look{0}>\n            }}\n",
            number, path, listText(faces, [](std::size_t face) { return std::to_string(face); }));
    }
    // Colours of its own say more than a look of one.
    const bool hasLook = shape->colours.empty();
    std::string out = "\n        def Mesh \"Shape\"";
    if (hasLook) out += " (\n            prepend apiSchemas = [\"MaterialBindingAPI\"]\n        )";
    out += "\n        {\n            uniform token subdivisionScheme = \"none\"\n";
    if (hasLook) out += fmt::format("            rel material:binding = <{}/Look>\n", path);
    if (isUprightSheet(one.kind) || one.kind == StandInKind::grid) out += "            uniform bool doubleSided = 1\n";
    Eigen::Vector3f low = shape->places.front(), high = low;
    for (const Eigen::Vector3f& place : shape->places) {
        low = low.cwiseMin(place);
        high = high.cwiseMax(place);
    }
    out += fmt::format("            float3[] extent = [{}, {}]\n", vector(low), vector(high));
    out += "            int[] faceVertexCounts = " + listText(shape->triangles, [](const auto&) { return "3"; }) + "\n";
    out += "            int[] faceVertexIndices = " +
           listText(shape->triangles,
                    [](const Mesh::Triangle& t) { return fmt::format("{}, {}, {}", t[0], t[1], t[2]); }) +
           "\n";
    out += "            point3f[] points = " + listText(shape->places, vector) + "\n";
    if (!shape->normals.empty())
        out += "            normal3f[] normals = " + listText(shape->normals, vector) + " (\n" +
               "                interpolation = \"vertex\"\n            )\n";
    if (!shape->sheet.empty())
        out += "            texCoord2f[] primvars:st = " +
               listText(shape->sheet,
                        [](const Eigen::Vector2f& at) { return fmt::format("({:.7g}, {:.7g})", at.x(), 1 - at.y()); }) +
               " (\n                interpolation = \"vertex\"\n            )\n";
    const auto linear = [&](std::size_t c) { return decodeSrgb(float(one.colour[c])); };
    out += shape->colours.empty()
               ? fmt::format("            color3f[] primvars:displayColor = [({:.6g}, {:.6g}, {:.6g})]\n", linear(0),
                             linear(1), linear(2))
               : "            color3f[] primvars:displayColor = " + listText(shape->colours, vector) +
                     " (\n                interpolation = \"vertex\"\n            )\n";
    if (one.opacity < 1) out += fmt::format("            float[] primvars:displayOpacity = [{:.6g}]\n", one.opacity);
    if (!subsets.empty())
        out += "            uniform token subsetFamily:materialBind:familyType = \"nonOverlapping\"\n";
    out += subsets + "        }\n" + (hasLook ? lookText(one, path, "Look", filesShown(file, one)) : "");
    for (const auto& [name, picture] : looks) out += lookText(one, path, name, picture);
    return out;
}

std::string standInsText(const CameraFile& file, const UsdOptions& options) {
    const std::vector<std::string> names = namesOfObjects(file);
    std::string out;
    std::size_t at = file.objects.size();
    for (const StandIn& one : file.scene.standIns) {
        const std::string& name = names[at++];
        if (one.hidden) continue;
        const auto stances = handedOnStances(file, one);
        out += fmt::format("\n    def Xform \"{}\"\n    {{\n", name);
        if (stances.size() < 2) {
            out += "        matrix4d xformOp:transform = " +
                   matrixText(stanceInFile(stances.front().second, options.zUp)) + "\n";
        } else {
            out += "        matrix4d xformOp:transform.timeSamples = {\n";
            for (const auto& [frame, stance] : stances)
                out += fmt::format("            {}: {},\n", frame, matrixText(stanceInFile(stance, options.zUp)));
            out += "        }\n";
        }
        out += "        uniform token[] xformOpOrder = [\"xformOp:transform\"]\n";
        out += fmt::format("        custom token pinion:kind = \"{}\"\n", toString(one.kind));
        if (one.hasFile()) out += fmt::format("        custom asset pinion:file = @{}@\n", one.file.string());
        if (one.catchesOnly) out += "        custom bool pinion:catchesShadowOnly = 1\n";
        if (one.hides) out += "        custom bool pinion:hides = 1\n";
        out += shapeText(file, one, fmt::format("/{}/{}", identifier(options.name), name)) + "    }\n";
    }
    return out;
}

std::string groundText(const UsdOptions& options) {
    const Eigen::Matrix3d turn = axes(options.zUp);
    std::string out;
    constexpr int kCells = 10;
    std::string corners, counts, indices;
    for (int z = 0; z <= kCells; ++z)
        for (int x = 0; x <= kCells; ++x)
            corners +=
                (corners.empty() ? "" : ", ") + pointText(turn * Vector3d(x - kCells / 2.0, 0, z - kCells / 2.0));
    for (int z = 0; z < kCells; ++z)
        for (int x = 0; x < kCells; ++x) {
            const int at = z * (kCells + 1) + x;
            counts += counts.empty() ? "4" : ", 4";
            indices += fmt::format("{}{}, {}, {}, {}", indices.empty() ? "" : ", ", at, at + kCells + 1,
                                   at + kCells + 2, at + 1);
        }
    out +=
        "\n    def Mesh \"Ground\"\n    {\n        uniform token subdivisionScheme = \"none\"\n        uniform "
        "bool "
        "doubleSided = 1\n";
    out += fmt::format("        float3[] extent = [{}, {}]\n",
                       pointText((turn * Vector3d(-5, 0, -5)).cwiseMin(turn * Vector3d(5, 0, 5))),
                       pointText((turn * Vector3d(-5, 0, -5)).cwiseMax(turn * Vector3d(5, 0, 5))));
    out += "        int[] faceVertexCounts = [" + counts + "]\n        int[] faceVertexIndices = [" + indices +
           "]\n        point3f[] points = [" + corners + "]\n    }\n";
    return out;
}

}  // namespace

std::string cameraUsd(const CameraFile& file, const UsdOptions& options) {
    return headText(file, options) + cameraText(file, options) + cloudText(file, options) + objectsText(file, options) +
           standInsText(file, options) + (options.ground ? groundText(options) : "") + "}\n";
}

Expected<void> checkCameraUsd(const std::filesystem::path& path, const CameraFile& file, const UsdOptions& options) {
    const auto contents = readFile(path);
    if (!contents) return tl::unexpected(contents.error());
    const auto wrong = [&](const std::string& what) {
        return failure(Fault::system, "{}: read back, {}", path.string(), what);
    };
    if (!contents->starts_with("#usda 1.0")) return wrong("it does not begin as USD text");
    const auto value = [&](const std::string& name) -> double {
        const auto at = contents->find(name + " = ");
        return at == std::string::npos ? std::nan("") : std::strtod(contents->c_str() + at + name.size() + 3, nullptr);
    };
    if (!(std::abs(value("timeCodesPerSecond") - file.fps.perSecond()) < 1e-6)) return wrong("its frame rate differs");
    if (!file.frames.empty() && (int(value("startTimeCode")) != file.frames.front().frame ||
                                 int(value("endTimeCode")) != file.frames.back().frame))
        return wrong("its frame range differs");
    // Whether the matrices after `start` are these, by their frames.
    const auto holds = [&](std::size_t start, const auto& frames, const auto& expectedOf) {
        start = start == std::string::npos ? start : contents->find("xformOp:transform.timeSamples = {", start);
        if (start == std::string::npos) return false;
        const char* cursor = contents->c_str() + contents->find('{', start) + 1;
        for (const auto& frame : frames) {
            const Matrix4d expected = expectedOf(frame);
            char* next = nullptr;
            if (std::strtol(cursor, &next, 10) != frame.frame || *next != ':') return false;
            cursor = next + 1;
            for (int i = 0; i < 16; ++i) {
                while (*cursor && !std::isdigit(static_cast<unsigned char>(*cursor)) && *cursor != '-' &&
                       *cursor != '}')
                    ++cursor;
                const double read = std::strtod(cursor, &next);
                if (next == cursor || std::abs(read - expected(i / 4, i % 4)) > 1e-6 * (1 + std::abs(read)))
                    return false;
                cursor = next;
            }
            while (*cursor && *cursor != ',') ++cursor;
            if (*cursor) ++cursor;
        }
        return true;
    };
    if (!holds(0, file.frames,
               [&](const CameraFile::Frame& frame) { return inFile(frame.worldFromCamera, options.zUp); }))
        return wrong("the camera's motion differs");
    const std::vector<std::string> names = namesOfObjects(file);
    for (std::size_t i = 0; i < file.objects.size(); ++i)
        if (!holds(contents->find("def Xform \"" + names[i] + "\"\n    {"), file.objects[i].frames,
                   [&](const ObjectFile::Frame& frame) { return objectInFile(frame.worldFromObject, options.zUp); }))
            return wrong("the motion of " + file.objects[i].name + " differs");
    return {};
}

}  // namespace pinion
