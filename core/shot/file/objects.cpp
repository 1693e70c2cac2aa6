#include "camera/object.h"
#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kScales{"free", "unrest", "ground", "length"};

json solveValue(const ObjectSolve& solve) {
    json frames = json::array(), points = json::array();
    for (const ObjectFrame& frame : solve.frames) {
        frames.push_back({{"frame", frame.frame},
                          {"world_from_object", poseValue(frame.worldFromObject)},
                          {"rms_px", frame.rms_px},
                          {"tracks", frame.tracks}});
    }
    for (const ObjectPoint& point : solve.points)
        points.push_back({{"track", point.track}, {"xyz", vector3(point.xyz)}, {"rms_px", point.rms_px}});
    return {{"frames", std::move(frames)},
            {"points", std::move(points)},
            {"scale", kScales[std::size_t(solve.scale)]},
            {"scale_deviation", solve.scaleDeviation},
            {"rms_px", solve.rms_px},
            {"held_out_rms_px", solve.heldOutRms_px},
            {"doubt", solve.doubt}};
}

ObjectSolve takeSolve(const json& value, const std::string& at) {
    ObjectSolve solve;
    for (std::size_t i = 0; const json& entry : list(value, "frames", at)) {
        const std::string where = fmt::format("{}.frames[{}]", at, i++);
        const ObjectFrame frame{.frame = whole(entry, "frame", where),
                                .worldFromObject = takePose(entry, "world_from_object", where),
                                .rms_px = number(entry, "rms_px", where),
                                .tracks = whole(entry, "tracks", where)};
        if (!solve.frames.empty() && frame.frame <= solve.frames.back().frame)
            malformed(where + ".frame: frames have to rise, each once");
        solve.frames.push_back(frame);
    }
    for (std::size_t i = 0; const json& entry : list(value, "points", at)) {
        const std::string where = fmt::format("{}.points[{}]", at, i++);
        solve.points.push_back({TrackId(key(entry, "track", where)),
                                vector3(member(entry, "xyz", where), where + ".xyz"), number(entry, "rms_px", where)});
    }
    solve.scale = word<ObjectScale>(value, "scale", kScales, at);
    solve.scaleDeviation = number(value, "scale_deviation", at);
    solve.rms_px = number(value, "rms_px", at);
    solve.heldOutRms_px = number(value, "held_out_rms_px", at);
    solve.doubt = text(value, "doubt", at);
    return solve;
}

void putObjectsPart(json& document, const Shot& shot, const fs::path&) {
    if (shot.objects.isEmpty() && shot.nextObject == 1) return;
    document["next_object"] = shot.nextObject;
    json& objects = document["objects"] = json::array();
    for (const ShotObject& object : shot.objects) {
        json entry{{"id", object.id},
                   {"name", object.name},
                   {"tracks", object.tracks.vector()},
                   {"on_ground", object.onGround.vector()},
                   {"key", object.solvedKey}};
        if (object.solve) entry["solve"] = solveValue(*object.solve);
        objects.push_back(std::move(entry));
    }
}

void takeObjectsPart(const json& document, Shot& shot, const fs::path&) {
    if (!document.contains("objects")) return;
    std::vector<ShotObject> objects;
    for (const json& entry : list(document, "objects", "file")) {
        const std::string where = fmt::format("objects[{}]", objects.size());
        ShotObject object;
        object.id = ObjectId(key(entry, "id", where));
        object.name = text(entry, "name", where);
        object.tracks = takeIds(entry, "tracks", where);
        object.onGround = takeIds(entry, "on_ground", where);
        object.solvedKey = key(entry, "key", where);
        if (entry.contains("solve"))
            object.solve = std::make_shared<const ObjectSolve>(takeSolve(entry["solve"], where + ".solve"));
        for (const ShotObject& other : objects)
            if (other.id == object.id) malformed(where + ".id: another object has it");
        shot.nextObject = std::max(shot.nextObject, object.id + 1);
        objects.push_back(std::move(object));
    }
    shot.nextObject = std::max(shot.nextObject, ObjectId(key(document, "next_object", "file")));
    shot.objects = List<ShotObject>(std::move(objects));
}

}  // namespace

ShotFilePart objectsPart() { return {putObjectsPart, takeObjectsPart}; }

}  // namespace pinion
