#include "exchange/objects.h"

#include "base/json.h"

#include <fmt/core.h>

namespace pinion {

using namespace jsonfile;

ObjectFile::Object objectOf(const std::string& name, const ObjectSolve& solve,
                            const std::function<std::string(TrackId)>& nameOf) {
    ObjectFile::Object object;
    object.name = name;
    object.scaleIsKnown = solve.scaleIsKnown();
    object.scaleDeviation = solve.scaleDeviation;
    object.rms_px = solve.rms_px;
    object.doubt = solve.doubt;
    for (const ObjectFrame& frame : solve.frames) object.frames.push_back({frame.frame, frame.worldFromObject});
    for (const ObjectPoint& point : solve.points) {
        object.tracks.push_back(nameOf(point.track));
        object.points.push_back({object.tracks.back(), point.xyz});
    }
    return object;
}

std::string objectsJson(const ObjectFile& file) {
    json document{{"format", "pinion.object"}, {"version", 1}, {"objects", json::array()}};
    for (const ObjectFile::Object& object : file.objects) {
        json frames = json::array(), points = json::array();
        for (const ObjectFile::Frame& frame : object.frames) {
            json matrix = json::array();
            for (int r = 0; r < 4; ++r)
                for (int c = 0; c < 4; ++c) matrix.push_back(frame.worldFromObject.matrix()(r, c));
            frames.push_back({{"frame", frame.frame}, {"world_from_object", std::move(matrix)}});
        }
        for (const ObjectFile::Point& point : object.points)
            points.push_back({{"name", point.name}, {"xyz", {point.xyz.x(), point.xyz.y(), point.xyz.z()}}});
        json entry{{"name", object.name},
                   {"tracks", object.tracks},
                   {"frames", std::move(frames)},
                   {"points", std::move(points)},
                   {"scale_known", object.scaleIsKnown},
                   {"rms_px", object.rms_px}};
        if (object.scaleDeviation > 0) entry["scale_deviation"] = object.scaleDeviation;
        if (!object.doubt.empty()) entry["doubt"] = object.doubt;
        document["objects"].push_back(std::move(entry));
    }
    return dumped(document) + "\n";
}

Expected<ObjectFile> readObjects(const std::filesystem::path& path) {
    return parseFile(path, [](const json& document) {
        expectFormat(document, "pinion.object", 1);
        ObjectFile file;
        for (std::size_t i = 0; const json& entry : list(document, "objects", "file")) {
            const std::string where = fmt::format("objects[{}]", i++);
            ObjectFile::Object object;
            object.name = text(entry, "name", where);
            for (std::size_t k = 0; const json& name : list(entry, "tracks", where)) {
                if (!name.is_string()) malformed(fmt::format("{}.tracks[{}]: is no name", where, k));
                object.tracks.push_back(name.get<std::string>());
                ++k;
            }
            for (std::size_t k = 0; const json& one : list(entry, "frames", where)) {
                const std::string at = fmt::format("{}.frames[{}]", where, k++);
                const json& matrix = list(one, "world_from_object", at);
                if (matrix.size() != 16) malformed(at + ".world_from_object: has not 16 numbers");
                ObjectFile::Frame frame{.frame = whole(one, "frame", at)};
                for (int r = 0; r < 3; ++r)
                    for (int c = 0; c < 4; ++c)
                        frame.worldFromObject.matrix()(r, c) =
                            number(matrix[std::size_t(r * 4 + c)], at + ".world_from_object");
                const Eigen::Matrix3d turn = frame.worldFromObject.linear();
                if (!(turn * turn.transpose()).isIdentity(1e-4)) malformed(at + ".world_from_object: is no rotation");
                if (!object.frames.empty() && frame.frame <= object.frames.back().frame)
                    malformed(at + ".frame: frames have to rise, each once");
                object.frames.push_back(frame);
            }
            for (std::size_t k = 0; const json& one : list(entry, "points", where)) {
                const std::string at = fmt::format("{}.points[{}]", where, k++);
                const json& xyz = list(one, "xyz", at);
                if (xyz.size() != 3) malformed(at + ".xyz: has not 3 numbers");
                object.points.push_back(
                    {text(one, "name", at),
                     {number(xyz[0], at + ".xyz"), number(xyz[1], at + ".xyz"), number(xyz[2], at + ".xyz")}});
            }
            object.scaleIsKnown = flagOr(entry, "scale_known", false, where);
            object.scaleDeviation = numberOr(entry, "scale_deviation", 0, where);
            object.rms_px = numberOr(entry, "rms_px", 0, where);
            if (entry.contains("doubt")) object.doubt = text(entry, "doubt", where);
            file.objects.push_back(std::move(object));
        }
        return file;
    });
}

}  // namespace pinion
