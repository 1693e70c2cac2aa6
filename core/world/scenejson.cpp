#include "world/scenejson.h"

#include "picture/clipjson.h"

#include <algorithm>

namespace pinion {
namespace {

using namespace jsonfile;
using Eigen::Vector3d;

constexpr double kFarthest = 1e6, kLargest = 1e5;  // of a place, of a size

json threeValues(const Vector3d& v) { return {v.x(), v.y(), v.z()}; }

Vector3d takeThree(const json& object, const char* name, const std::string& where, double low, double high) {
    const json& value = member(object, name, where);
    const std::string place = where + "." + name;
    if (!value.is_array() || value.size() != 3) malformed(place + ": has not 3 numbers");
    Vector3d v;
    for (std::size_t i = 0; i < 3; ++i)
        v[Eigen::Index(i)] = std::clamp(number(value[i], fmt::format("{}[{}]", place, i)), low, high);
    return v;
}

json stanceValue(const Stance& stance) {
    return {{"place", threeValues(stance.place)},
            {"turn", threeValues(stance.turn_deg)},
            {"size", threeValues(stance.size)}};
}

Stance takeStance(const json& object, const Stance& otherwise, const std::string& where) {
    Stance stance = otherwise;
    if (object.contains("place")) stance.place = takeThree(object, "place", where, -kFarthest, kFarthest);
    if (object.contains("turn")) stance.turn_deg = takeThree(object, "turn", where, -kFarthest, kFarthest);
    if (object.contains("size")) stance.size = takeThree(object, "size", where, 0, kLargest);
    return stance;
}

json standInValue(const StandIn& one) {
    json value = stanceValue(one.stance);
    value["id"] = one.id;
    value["name"] = one.name;
    value["kind"] = std::string(toString(one.kind));
    value["colour"] = one.colour;
    value["opacity"] = one.opacity;
    value["catches_shadow_only"] = one.catchesOnly;
    value["hides"] = one.hides;
    value["casts"] = one.casts;
    if (one.hasFile()) value["file"] = one.file.string();
    if (one.kind == StandInKind::text) value["text"] = one.words;
    if (one.card.key) value["key"] = keyColourValue(*one.card.key);
    if (one.card.time != ClipTime{}) value["time"] = timeValue(one.card.time);
    if (one.card.facesCamera) value["faces_camera"] = true;
    if (one.hidden) value["hidden"] = true;
    if (one.carrier != 0) value["object"] = one.carrier;
    if (one.group != 0) value["group"] = one.group;
    if (one.frames) value["frames"] = {one.frames->first, one.frames->last};
    if (!one.keys.isEmpty()) {
        json& keys = value["keys"] = json::array();
        for (const StanceKey& key : one.keys) {
            json entry = stanceValue(key.stance);
            entry["frame"] = key.frame;
            keys.push_back(std::move(entry));
        }
    }
    return value;
}

StandIn takeStandIn(const json& entry, const std::string& where, int firstFrame) {
    StandIn one;
    one.name = text(entry, "name", where);
    const std::string kind = text(entry, "kind", where);
    const auto found = std::find(kStandInKinds.begin(), kStandInKinds.end(), kind);
    if (found == kStandInKinds.end()) {
        std::string known;
        for (const char* word : kStandInKinds) known += (known.empty() ? "" : ", ") + std::string(word);
        malformed(fmt::format("{}.kind: '{}' is not known; there are {}", where, kind, known));
    }
    one.kind = StandInKind(found - kStandInKinds.begin());
    one.stance = takeStance(entry, {{0, 0, 0}, {0, 0, 0}, usualSize(one.kind)}, where);
    if (one.kind == StandInKind::board && entry.contains("file")) one.file = text(entry, "file", where);
    else if (one.hasFile()) one.file = text(entry, "file", where);
    if (one.kind == StandInKind::text) one.words = text(entry, "text", where);
    if (entry.contains("key")) one.card.key = takeColourKey(entry["key"], where + ".key");
    one.card.time.start = one.showsPictures() ? firstFrame : 0;
    if (entry.contains("time")) one.card.time = takeTime(entry["time"], where + ".time");
    one.card.facesCamera = flagOr(entry, "faces_camera", false, where);
    if (entry.contains("colour")) {
        const Vector3d colour = takeThree(entry, "colour", where, 0, 1);
        one.colour = {colour.x(), colour.y(), colour.z()};
    }
    one.opacity = std::clamp(numberOr(entry, "opacity", 1, where), 0.0, 1.0);
    one.catchesOnly = flagOr(entry, "catches_shadow_only", false, where);
    one.hides = flagOr(entry, "hides", false, where);
    one.casts = flagOr(entry, "casts", true, where);
    one.hidden = flagOr(entry, "hidden", false, where);
    if (entry.contains("object")) one.carrier = whole(entry, "object", where);
    if (entry.contains("group")) one.group = whole(entry, "group", where);
    if (entry.contains("frames")) {
        const json& frames = list(entry, "frames", where);
        if (frames.size() != 2) malformed(where + ".frames: has not a first and a last frame");
        one.frames = FrameRange{whole(frames[0], where + ".frames[0]"), whole(frames[1], where + ".frames[1]")};
        if (one.frames->last < one.frames->first) malformed(where + ".frames: ends before it begins");
    }
    if (!entry.contains("keys")) return one;
    std::vector<StanceKey> keys;
    for (const json& key : list(entry, "keys", where)) {
        const std::string at = fmt::format("{}.keys[{}]", where, keys.size());
        const StanceKey taken{whole(key, "frame", at), takeStance(key, one.stance, at)};
        if (!keys.empty() && taken.frame <= keys.back().frame) malformed(at + ".frame: frames have to rise, each once");
        keys.push_back(taken);
    }
    one.keys = List<StanceKey>(std::move(keys));
    return one;
}

}  // namespace

json sceneValue(const SceneLook& look) {
    json objects = json::array();
    for (const StandIn& one : look.standIns) objects.push_back(standInValue(one));
    return {{"objects", std::move(objects)},
            {"sun",
             {{"towards", threeValues(look.sun.towards)},
              {"softness", look.sun.softness_deg},
              {"strength", look.sun.strength},
              {"sky_shadow", look.sun.skyShadow}}},
            {"ground", look.ground},
            {"ground_catches", look.groundCatches}};
}

SceneLook takeScene(const json& object, const std::string& where, int firstFrame) {
    SceneLook look;
    std::vector<StandIn> standIns;
    for (const json& entry : list(object, "objects", where)) {
        const std::string at = fmt::format("{}objects[{}]", where.empty() ? "" : where + ".", standIns.size());
        StandIn one = takeStandIn(entry, at, firstFrame);
        one.id = entry.contains("id") ? StandInId(key(entry, "id", at)) : StandInId(standIns.size() + 1);
        for (const StandIn& other : standIns)
            if (other.id == one.id) malformed(at + ".id: another object has it");
        standIns.push_back(std::move(one));
    }
    look.standIns = List<StandIn>(std::move(standIns));
    if (object.contains("sun")) {
        const json& sun = object["sun"];
        const std::string at = where.empty() ? "sun" : where + ".sun";
        if (sun.contains("towards")) look.sun.towards = takeThree(sun, "towards", at, -kFarthest, kFarthest);
        look.sun.softness_deg = std::clamp(numberOr(sun, "softness", look.sun.softness_deg, at), 0.0, 90.0);
        look.sun.strength = std::clamp(numberOr(sun, "strength", look.sun.strength, at), 0.0, 1.0);
        look.sun.skyShadow = std::clamp(numberOr(sun, "sky_shadow", look.sun.skyShadow, at), 0.0, 1.0);
    }
    look.ground = std::clamp(numberOr(object, "ground", 0, where.empty() ? "file" : where), -kFarthest, kFarthest);
    look.groundCatches = flagOr(object, "ground_catches", true, where.empty() ? "file" : where);
    return look;
}

}  // namespace pinion
