#include "exchange/transforms.h"

#include "base/json.h"
#include "base/units.h"

#include <Eigen/LU>

namespace pinion {
namespace {

using namespace jsonfile;
using Eigen::Matrix3d;
using Eigen::Vector2d;

/// The motion of one frame as it is handed on: only what is asked for, in the direction and from the origin asked for.
struct Delivered {
    int frame;
    Matrix3d matrix;
    MotionParts parts;
};

Vector2d fromOrigin(const Vector2d& p, const TransformOptions& options, int height) {
    return options.origin == Origin::topLeft ? p : Vector2d(p.x(), height - p.y());
}

std::vector<Delivered> delivered(const PlateMotion& motion, const TransformSource& source,
                                 const TransformOptions& options, bool partsOnly) {
    Matrix3d flip = Matrix3d::Identity();
    if (options.origin == Origin::bottomLeft) flip << 1, 0, 0, 0, -1, source.height, 0, 0, 1;
    std::vector<Delivered> result;
    const Vector2d pivot = fromOrigin(motion.pivot, options, source.height);
    for (const FrameMotion& frame : motion.frames) {
        Matrix3d matrix = frame.plateFromReference;
        if (partsOnly || !options.position || !options.rotation || !options.scale) {
            MotionParts parts = partsOf(matrix, motion.pivot);
            if (!options.position) parts.shift.setZero();
            if (!options.rotation) parts.angle = 0;
            if (!options.scale) parts.scale = 1;
            matrix = parts.about(motion.pivot);
        }
        if (options.inverse) matrix = matrix.inverse().eval();
        matrix = flip * matrix * flip;
        matrix /= matrix(2, 2);
        result.push_back({frame.frame, matrix, partsOf(matrix, pivot)});
    }
    return result;
}

std::string components(const TransformOptions& options) {
    std::string words;
    for (const auto& [on, word] :
         {std::pair{options.position, "position"}, {options.rotation, "rotation"}, {options.scale, "scale"}})
        if (on) words.append(words.empty() ? "" : " ").append(word);
    return words;
}

json header(const char* format, const PlateMotion& motion, const TransformSource& source,
            const TransformOptions& options) {
    json document{{"format", format},
                  {"version", 1},
                  {"name", source.name},
                  {"width", source.width},
                  {"height", source.height},
                  {"first_frame", motion.frames.empty() ? 0 : motion.frames.front().frame},
                  {"last_frame", motion.frames.empty() ? 0 : motion.frames.back().frame},
                  {"reference_frame", motion.referenceFrame},
                  {"origin", toString(options.origin)},
                  {"use", options.inverse ? "inverse" : "match-move"},
                  {"components", components(options)}};
    putRate(document, source.fps);
    return document;
}

std::string csvHeader(const char* format, const PlateMotion& motion, const TransformSource& source,
                      const TransformOptions& options) {
    std::string words = components(options);
    std::replace(words.begin(), words.end(), ' ', '+');
    return fmt::format(
        "# {} version=1 width={} height={} fps={} first_frame={} last_frame={} reference_frame={} origin={} use={} "
        "components={}\n",
        format, source.width, source.height, toString(source.fps),
        motion.frames.empty() ? 0 : motion.frames.front().frame, motion.frames.empty() ? 0 : motion.frames.back().frame,
        motion.referenceFrame, toString(options.origin), options.inverse ? "inverse" : "match-move", words);
}

json matrixValue(const Matrix3d& matrix) {
    json rows = json::array();
    for (int i = 0; i < 9; ++i) rows.push_back(matrix(i / 3, i % 3));
    return rows;
}

/// Top-left, top-right, bottom-right, bottom-left as the artist sees them, whatever the origin.
std::vector<Vector2d> referenceCorners(const PlateMotion& motion, const TransformSource& source) {
    if (motion.corners.size() == 4) return motion.corners;
    return {
        {0, 0}, {double(source.width), 0}, {double(source.width), double(source.height)}, {0, double(source.height)}};
}

std::vector<Vector2d> cornersOn(const Delivered& frame, const PlateMotion& motion, const TransformSource& source,
                                const TransformOptions& options) {
    std::vector<Vector2d> corners;
    for (const Vector2d& corner : referenceCorners(motion, source))
        corners.push_back((frame.matrix * fromOrigin(corner, options, source.height).homogeneous()).hnormalized());
    return corners;
}

double cleaned(double value) { return std::abs(value) < 5e-10 ? 0.0 : value; }

}  // namespace

std::string transformsJson(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options) {
    json document = header("pinion.transforms", motion, source, options);
    const Vector2d pivot = fromOrigin(motion.pivot, options, source.height);
    json& frames = document["frames"] = json::array();
    for (const Delivered& frame : delivered(motion, source, options, motion.kind != MotionKind::perspective))
        frames.push_back({{"frame", frame.frame},
                          {"translate", {frame.parts.shift.x(), frame.parts.shift.y()}},
                          {"rotate", degrees(frame.parts.angle)},
                          {"scale", frame.parts.scale},
                          {"pivot", {pivot.x(), pivot.y()}},
                          {"matrix", matrixValue(frame.matrix)}});
    return dumped(document, 1) + "\n";
}

std::string transformsCsv(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options) {
    const bool recedes = motion.kind == MotionKind::perspective;  // its parts are not all of it
    std::string csv = csvHeader("pinion.transforms", motion, source, options) +
                      "frame,translate_x,translate_y,rotate,scale,pivot_x,pivot_y" +
                      (recedes ? ",m11,m12,m13,m21,m22,m23,m31,m32,m33\n" : "\n");
    const Vector2d pivot = fromOrigin(motion.pivot, options, source.height);
    for (const Delivered& frame : delivered(motion, source, options, motion.kind != MotionKind::perspective)) {
        csv += fmt::format("{},{:.5f},{:.5f},{:.6f},{:.8f},{:.4f},{:.4f}", frame.frame, cleaned(frame.parts.shift.x()),
                           cleaned(frame.parts.shift.y()), cleaned(degrees(frame.parts.angle)), frame.parts.scale,
                           pivot.x(), pivot.y());
        if (recedes)
            for (int i = 0; i < 9; ++i) csv += fmt::format(",{:.12g}", frame.matrix(i / 3, i % 3));
        csv += "\n";
    }
    return csv;
}

std::string cornerPinJson(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options) {
    json document = header("pinion.cornerpin", motion, source, options);
    json& frames = document["frames"] = json::array();
    for (const Delivered& frame : delivered(motion, source, options, false)) {
        json corners = json::array();
        for (const Vector2d& corner : cornersOn(frame, motion, source, options))
            corners.push_back({corner.x(), corner.y()});
        frames.push_back({{"frame", frame.frame}, {"corners", corners}, {"matrix", matrixValue(frame.matrix)}});
    }
    return dumped(document, 1) + "\n";
}

std::string cornerPinCsv(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options) {
    std::string csv = csvHeader("pinion.cornerpin", motion, source, options) +
                      "frame,tl_x,tl_y,tr_x,tr_y,br_x,br_y,bl_x,bl_y,m11,m12,m13,m21,m22,m23,m31,m32,m33\n";
    for (const Delivered& frame : delivered(motion, source, options, false)) {
        csv += fmt::format("{}", frame.frame);
        for (const Vector2d& corner : cornersOn(frame, motion, source, options))
            csv += fmt::format(",{:.4f},{:.4f}", cleaned(corner.x()), cleaned(corner.y()));
        for (int i = 0; i < 9; ++i) csv += fmt::format(",{:.12g}", frame.matrix(i / 3, i % 3));
        csv += "\n";
    }
    return csv;
}

Expected<std::vector<FrameMotion>> readMatrices(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        std::vector<FrameMotion> frames;
        for (std::size_t i = 0; const json& entry : list(document, "frames", "file")) {
            const std::string where = fmt::format("frames[{}]", i++);
            const json& values = list(entry, "matrix", where);
            if (values.size() != 9) malformed(where + ".matrix: has not 9 numbers");
            FrameMotion frame{whole(entry, "frame", where), Matrix3d::Identity(), 0, 0};
            for (int k = 0; k < 9; ++k)
                frame.plateFromReference(k / 3, k % 3) = number(values[std::size_t(k)], where + ".matrix");
            frames.push_back(frame);
        }
        return frames;
    });
}

std::string shakeJson(const ShakeProfile& profile) {
    json document{{"format", "pinion.shake"}, {"version", 1}, {"name", profile.name}, {"above_hz", profile.above_hz}};
    putRate(document, profile.fps);
    json& samples = document["samples"] = json::array();
    for (const ShakeSample& s : profile.samples)
        samples.push_back({{"x", s.x}, {"y", s.y}, {"rotation", s.angleDegrees}, {"scale", s.scale}});
    return dumped(document, 1) + "\n";
}

Expected<ShakeProfile> readShake(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.shake", 1);
        ShakeProfile profile;
        profile.name = text(document, "name", "file");
        profile.fps = takeRate(document, "file");
        profile.above_hz = numberOr(document, "above_hz", 0, "file");
        for (std::size_t i = 0; const json& entry : list(document, "samples", "file")) {
            const std::string where = fmt::format("samples[{}]", i++);
            ShakeSample sample{number(entry, "x", where), number(entry, "y", where), number(entry, "rotation", where),
                               number(entry, "scale", where)};
            if (!(sample.scale > 0.01 && sample.scale < 100)) malformed(where + ".scale: has to be above 0");
            if (std::abs(sample.angleDegrees) > 3600) malformed(where + ".rotation: is more than ten turns");
            if (std::abs(sample.x) > 10 || std::abs(sample.y) > 10)
                malformed(where + ": x and y are shares of the plate's width; these are far outside");
            profile.samples.push_back(sample);
        }
        if (profile.samples.empty()) malformed("samples: the list is empty");
        return profile;
    });
}

}  // namespace pinion
