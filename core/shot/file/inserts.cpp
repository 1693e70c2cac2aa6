#include "matte/mattejson.h"
#include "picture/clipjson.h"
#include "planar/surface.h"
#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kShows{"clip", "colour", "test"};
constexpr std::array kLost{"ends", "holds", "fades"};

template <std::size_t N, class Number>
std::array<Number, N> numbers(const json& object, const char* name, const std::string& where) {
    const json& values = list(object, name, where);
    if (values.size() != N) malformed(fmt::format("{}.{}: has not {} numbers", where, name, N));
    std::array<Number, N> taken;
    for (std::size_t i = 0; i < N; ++i) taken[i] = Number(number(values[i], fmt::format("{}.{}", where, name)));
    return taken;
}

/// Ids of mattes; older files name them. 0 stands for one that is gone.
List<MatteId> takeMatteIds(const json& object, const char* name, const std::string& where, const Shot& shot) {
    if (!object.contains(name)) return {};
    std::vector<MatteId> ids;
    for (const json& one : list(object, name, where)) {
        if (!one.is_string() && !one.is_number_integer())
            malformed(fmt::format("{}.{}: holds what is no id", where, name));
        if (one.is_number_integer()) {
            ids.push_back(one.get<MatteId>());
            continue;
        }
        const auto matte = std::find_if(shot.mattes.begin(), shot.mattes.end(),
                                        [&](const Matte& m) { return m.name == one.get<std::string>(); });
        ids.push_back(matte == shot.mattes.end() ? 0 : matte->id);
    }
    return List<MatteId>(std::move(ids));
}

// ---- clips

json clipValue(const Clip& clip, const fs::path& file) {
    json entry{{"id", clip.id},       {"name", clip.name},     {"path", writtenPath(clip.path, file)},
               {"width", clip.width}, {"height", clip.height}, {"frames", {clip.frames.first, clip.frames.last}}};
    if (clip.pixelAspect != 1) entry["pixel_aspect"] = clip.pixelAspect;
    putRate(entry, clip.fps);
    if (clip.still) entry["still"] = true;
    if (clip.hasAlpha) entry["has_alpha"] = true;
    if (clip.alpha) entry["alpha"] = *clip.alpha == AlphaKind::straight ? "straight" : "premultiplied";
    return entry;
}

Clip takeClip(const json& entry, const fs::path& file, const std::string& where) {
    Clip clip;
    clip.id = ClipId(key(entry, "id", where));
    clip.name = text(entry, "name", where);
    clip.path = takenPath(text(entry, "path", where), file);
    clip.width = whole(entry, "width", where);
    clip.height = whole(entry, "height", where);
    if (clip.width < 1 || clip.height < 1) malformed(where + ": the size is not above 0");
    if (entry.contains("pixel_aspect")) clip.pixelAspect = takeAspect(entry, where);
    clip.fps = takeRate(entry, where);
    clip.frames = takeRange(entry, "frames", where);
    clip.still = flagOr(entry, "still", false, where);
    clip.hasAlpha = flagOr(entry, "has_alpha", false, where);
    if (entry.contains("alpha")) {
        const std::string kind = text(entry, "alpha", where);
        if (kind != "straight" && kind != "premultiplied") malformed(where + ".alpha: '" + kind + "' is not known");
        clip.alpha = kind == "straight" ? AlphaKind::straight : AlphaKind::premultiplied;
    }
    return clip;
}

// ---- inserts

json placingValue(const Placing& placing) {
    json value{{"centre", {placing.centre.x(), placing.centre.y()}},
               {"scale", {placing.scale.x(), placing.scale.y()}},
               {"turn_deg", placing.turn_deg}};
    if (placing.trims != Placing{}.trims) value["trims"] = cornersValue(placing.trims);
    return value;
}

Placing takePlacing(const json& value, const std::string& where) {
    Placing placing;
    placing.centre = vector2(member(value, "centre", where), where + ".centre");
    placing.scale = vector2(member(value, "scale", where), where + ".scale");
    placing.turn_deg = numberWithin(value, "turn_deg", -36000, 36000, where);
    if (value.contains("trims")) placing.trims = takeCorners(value, "trims", where);
    return placing;
}

json shapeValue(const ArtShape& shape) {
    return {{"crop", {shape.left, shape.top, shape.right, shape.bottom}},
            {"round", shape.round},
            {"soft_edge_px", shape.softEdge_px}};
}

ArtShape takeShape(const json& value, const std::string& where) {
    auto crop = numbers<4, double>(value, "crop", where);
    for (double& side : crop) side = std::clamp(side, 0.0, 0.999);
    return {crop[0],
            crop[1],
            crop[2],
            crop[3],
            numberWithin(value, "round", 0, 0.5, where),
            numberWithin(value, "soft_edge_px", 0, 10000, where)};
}

json lookValue(const InsertLook& look) {
    json value{{"blend", toString(look.blend)}, {"opacity", look.opacity}, {"blur_px", look.blur_px}};
    if (look.grade != Grade{})
        value["grade"] = {{"gain", look.grade.gain},
                          {"lift", look.grade.lift},
                          {"gamma", look.grade.gamma},
                          {"saturation", look.grade.saturation}};
    if (look.wrap != LightWrap{})
        value["light_wrap"] = {{"amount", look.wrap.amount}, {"width_px", look.wrap.width_px}};
    return value;
}

InsertLook takeLook(const json& value, const std::string& where) {
    InsertLook look;
    const auto blend = blendFrom(text(value, "blend", where));
    if (!blend) malformed(where + ".blend: is not known");
    look.blend = *blend;
    look.opacity = numberWithin(value, "opacity", 0, 1, where);
    look.blur_px = numberWithin(value, "blur_px", 0, 500, where);
    if (value.contains("grade")) {
        const json& grade = value["grade"];
        const std::string place = where + ".grade";
        look.grade = {numbers<3, double>(grade, "gain", place), numbers<3, double>(grade, "lift", place),
                      numberWithin(grade, "gamma", 0.01, 100, place), numberWithin(grade, "saturation", 0, 100, place)};
    }
    if (value.contains("light_wrap"))
        look.wrap = {numberWithin(value["light_wrap"], "amount", 0, 10, where + ".light_wrap"),
                     numberWithin(value["light_wrap"], "width_px", 0, 1000, where + ".light_wrap")};
    return look;
}

json insertValue(const Insert& insert) {
    json entry{{"id", insert.id},
               {"name", insert.name},
               {"shows", kShows[std::size_t(insert.shows)]},
               {"carrier", cornersValue(insert.carrier)},
               {"placing", placingValue(insert.placing)},
               {"look", lookValue(insert.look)},
               {"time", timeValue(insert.time)},
               {"lost", kLost[std::size_t(insert.lost)]},
               {"fade_frames", insert.fadeFrames}};
    if (insert.kind != Insert{}.kind) entry["kind"] = insert.kind;
    if (insert.of != 0) entry["of"] = insert.of;
    if (!insert.thrownFrom.isEmpty()) entry["thrown_from"] = insert.thrownFrom.vector();
    if (insert.clip != 0) entry["clip"] = insert.clip;
    if (insert.colour != Insert{}.colour) entry["colour"] = insert.colour;
    if (insert.wholeFrame) entry["whole_frame"] = true;
    if (insert.ride) entry["on_surface"] = insert.onSurface;
    if (insert.ride) entry["ride"] = rideValue(*insert.ride);
    if (insert.shape != ArtShape{}) entry["shape"] = shapeValue(insert.shape);
    if (insert.key) entry["key"] = keyColourValue(*insert.key);
    if (insert.shutter > 0) entry["shutter"] = insert.shutter;
    if (!insert.heldOut.isEmpty()) entry["held_out"] = insert.heldOut.vector();
    if (!insert.within.isEmpty()) entry["within"] = insert.within.vector();
    if (insert.frames) entry["frames"] = {insert.frames->first, insert.frames->last};
    for (const OpacityKey& key : insert.opacityKeys) entry["opacity_keys"].push_back({key.frame, key.opacity});
    if (!insert.turns.isEmpty()) entry["there"] = turnsValue(insert.turns.vector());
    if (insert.hidden) entry["hidden"] = true;
    return entry;
}

List<OpacityKey> takeOpacityKeys(const json& entry, const std::string& where) {
    std::vector<OpacityKey> keys;
    if (!entry.contains("opacity_keys")) return {};
    for (const json& value : list(entry, "opacity_keys", where)) {
        const std::string place = fmt::format("{}.opacity_keys[{}]", where, keys.size());
        if (!value.is_array() || value.size() != 2) malformed(place + ": is not a frame and an opacity");
        const int frame = whole(value[0], place);
        if (!keys.empty() && frame <= keys.back().frame) malformed(place + ": frames have to rise, each once");
        keys.push_back({frame, std::clamp(number(value[1], place), 0.0, 1.0)});
    }
    return List<OpacityKey>(std::move(keys));
}

List<int> takeFrames(const json& entry, const char* name, const std::string& where) {
    std::vector<int> frames;
    for (const json& value : list(entry, name, where)) {
        const std::string place = fmt::format("{}.{}[{}]", where, name, frames.size());
        const int frame = whole(value, place);
        if (!frames.empty() && frame <= frames.back()) malformed(place + ": frames have to rise, each once");
        frames.push_back(frame);
    }
    return List<int>(std::move(frames));
}

Insert takeInsert(const json& entry, const std::string& where, const Shot& shot) {
    Insert insert;
    insert.id = InsertId(key(entry, "id", where));
    insert.name = text(entry, "name", where);
    insert.shows = word<Insert::Shows>(entry, "shows", kShows, where);
    if (entry.contains("kind")) insert.kind = text(entry, "kind", where);
    if (entry.contains("of")) insert.of = std::int64_t(key(entry, "of", where));
    if ((insert.shows == Insert::Shows::clip && insert.kind == "art") || entry.contains("clip"))
        insert.clip = ClipId(key(entry, "clip", where));
    if (entry.contains("thrown_from")) insert.thrownFrom = takeFrames(entry, "thrown_from", where);
    if (entry.contains("colour")) insert.colour = numbers<3, double>(entry, "colour", where);
    if (entry.contains("ride")) insert.ride = takeRide(entry["ride"], where + ".ride");
    insert.wholeFrame = flagOr(entry, "whole_frame", false, where);
    insert.onSurface = flagOr(entry, "on_surface", false, where);
    insert.carrier = takeCorners(entry, "carrier", where);
    insert.placing = takePlacing(member(entry, "placing", where), where + ".placing");
    if (entry.contains("shape")) insert.shape = takeShape(entry["shape"], where + ".shape");
    if (entry.contains("key")) insert.key = takeColourKey(entry["key"], where + ".key");
    insert.look = takeLook(member(entry, "look", where), where + ".look");
    if (entry.contains("shutter")) insert.shutter = numberWithin(entry, "shutter", 0, 2, where);
    insert.heldOut = takeMatteIds(entry, "held_out", where, shot);
    insert.within = takeMatteIds(entry, "within", where, shot);
    insert.time = takeTime(member(entry, "time", where), where + ".time");
    if (entry.contains("frames")) insert.frames = takeRange(entry, "frames", where);
    insert.opacityKeys = takeOpacityKeys(entry, where);
    insert.turns = List<Matte::Turn>(takeTurns(entry, where));
    insert.lost = word<Insert::Lost>(entry, "lost", kLost, where);
    insert.fadeFrames = whole(entry, "fade_frames", where);
    insert.hidden = flagOr(entry, "hidden", false, where);
    return insert;
}

void putInsertsPart(json& document, const Shot& shot, const fs::path& file) {
    for (const Clip& clip : shot.clips) document["clips"].push_back(clipValue(clip, file));
    if (shot.nextClip > 1) document["next_clip"] = shot.nextClip;
    for (const Insert& insert : shot.inserts) document["inserts"].push_back(insertValue(insert));
    if (shot.nextInsert > 1) document["next_insert"] = shot.nextInsert;
    if (!shot.insertsPath.empty() || shot.insertsAlone)
        document["insert_render"] = {{"place", shot.insertsPath}, {"alone", shot.insertsAlone}};
}

/// The items of a list, each with an id of its own; `next` comes after all of them.
template <class Item, class Take>
List<Item> takeAll(const json& document, const char* name, const char* nextName, std::int64_t& next, const Take& take) {
    std::vector<Item> items;
    if (document.contains(name))
        for (const json& entry : list(document, name, "file")) {
            const std::string where = fmt::format("{}[{}]", name, items.size());
            Item item = take(entry, where);
            for (const Item& other : items)
                if (other.id == item.id) malformed(where + ".id: is there twice");
            next = std::max(next, item.id + 1);
            items.push_back(std::move(item));
        }
    if (document.contains(nextName)) next = std::max(next, std::int64_t(key(document, nextName, "file")));
    return List<Item>(std::move(items));
}

/// Older files do not say which inserts were placed within a surface: their carrier is then the whole frame.
void markOnSurfaces(const json& document, Shot& shot) {
    const double w = shot.plate.width, h = shot.plate.height;
    const Quad frame{Eigen::Vector2d(0, 0), {w, 0}, {w, h}, {0, h}};
    std::size_t i = 0;
    shot.inserts = shot.inserts.edited([&](auto& inserts) {
        for (Insert& insert : inserts)
            if (const json& entry = document["inserts"][i++]; !entry.contains("on_surface"))
                insert.onSurface =
                    insert.ride && insert.ride->on != "picture" && !insert.wholeFrame && insert.carrier == frame;
    });
}

void takeInsertsPart(const json& document, Shot& shot, const fs::path& file) {
    shot.clips =
        takeAll<Clip>(document, "clips", "next_clip", shot.nextClip,
                      [&](const json& entry, const std::string& where) { return takeClip(entry, file, where); });
    shot.inserts =
        takeAll<Insert>(document, "inserts", "next_insert", shot.nextInsert,
                        [&](const json& entry, const std::string& where) { return takeInsert(entry, where, shot); });
    markOnSurfaces(document, shot);
    if (document.contains("insert_render")) {
        const json& render = document["insert_render"];
        shot.insertsPath = text(render, "place", "insert_render");
        shot.insertsAlone = flagOr(render, "alone", false, "insert_render");
    }
}

}  // namespace

ShotFilePart insertsPart() { return {putInsertsPart, takeInsertsPart}; }

}  // namespace pinion
