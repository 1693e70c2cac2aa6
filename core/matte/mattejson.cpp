#include "matte/mattejson.h"

#include "matte/sequence.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>

namespace pinion {

using namespace jsonfile;

namespace {

constexpr std::array kModes{"exclude", "include"};
constexpr std::array kBetween{"linear", "smooth"};
constexpr std::size_t kMostPoints = 20000;
constexpr double kMost_px = 1000, kFarthestPoint_px = 1e6;
constexpr std::array kOps{"add", "subtract", "intersect"};
constexpr std::array kMotionKinds{"position", "similarity", "corner pin", "perspective"};

json pairs(const Polygon& points) {
    json list = json::array();
    for (const Eigen::Vector2d& one : points) list.push_back({one.x(), one.y()});
    return list;
}

/// How values beyond their bounds are met: refused in files from elsewhere, taken as far as they go in a shot's own.
using Bounds = MatteBounds;

/// `value`, or what the bounds make of it.
double within(double value, double most, Bounds bounds, const std::string& words) {
    if (std::abs(value) <= most) return value;
    if (bounds == Bounds::refused) malformed(words);
    return std::clamp(value, -most, most);
}

Polygon takePairs(const json& object, const char* name, const std::string& where, Bounds bounds) {
    Polygon points;
    for (const json& one : list(object, name, where)) {
        const std::string spot = fmt::format("{}.{}[{}]", where, name, points.size());
        if (!one.is_array() || one.size() != 2) malformed(spot + ": is not a pair of numbers");
        const std::string words = fmt::format("{}: lies farther than {:.0f} pixels off", spot, kFarthestPoint_px);
        points.emplace_back(within(number(one[0], spot), kFarthestPoint_px, bounds, words),
                            within(number(one[1], spot), kFarthestPoint_px, bounds, words));
    }
    return points;
}

/// As many as the points have, or none.
Polygon takeTangents(const json& key, const char* name, const Polygon& polygon, const std::string& where,
                     Bounds bounds) {
    if (!key.contains(name)) return {};
    Polygon tangents = takePairs(key, name, where, bounds);
    if (tangents.size() != polygon.size())
        malformed(fmt::format("{}.{}: has {} tangents for {} points", where, name, tangents.size(), polygon.size()));
    return tangents;
}

/// What each point adds to the feather: as many as the points, or none.
std::vector<double> takeFeather(const json& key, std::size_t points, const std::string& where, Bounds bounds) {
    std::vector<double> feather;
    if (!key.contains("feather")) return feather;
    for (const json& one : list(key, "feather", where)) {
        feather.push_back(within(number(one, fmt::format("{}.feather[{}]", where, feather.size())), kMost_px, bounds,
                                 fmt::format("{}.feather: a point adds at most {:.0f} pixels", where, kMost_px)));
    }
    if (feather.size() != points)
        malformed(fmt::format("{}.feather: has {} values for {} points", where, feather.size(), points));
    return feather;
}

std::vector<Matte::Key> takeKeys(const json& shape, const std::string& where, Bounds bounds) {
    std::vector<Matte::Key> keys;
    for (const json& key : list(shape, "keys", where)) {
        const std::string place = fmt::format("{}.keys[{}]", where, keys.size());
        Matte::Key taken{whole(key, "frame", place), takePairs(key, "polygon", place, bounds)};
        if (taken.polygon.size() < 3) malformed(place + ".polygon: has fewer than three corners");
        if (!keys.empty() && taken.frame <= keys.back().frame)
            malformed(place + ".frame: frames have to rise, each once");
        if (!keys.empty() && taken.polygon.size() != keys.front().polygon.size())
            malformed(place + ".polygon: has another number of corners than the first key");
        taken.in = takeTangents(key, "in", taken.polygon, place, bounds);
        taken.out = takeTangents(key, "out", taken.polygon, place, bounds);
        taken.feather = takeFeather(key, taken.polygon.size(), place, bounds);
        if (taken.polygon.size() > kMostPoints)
            malformed(fmt::format("{}.polygon: has {} points; {} at most", place, taken.polygon.size(), kMostPoints));
        keys.push_back(std::move(taken));
    }
    if (keys.empty()) malformed(where + ".keys: the list is empty");
    return keys;
}

template <std::size_t N>
std::size_t takeWord(const json& shape, const char* name, const std::array<const char*, N>& words,
                     const std::string& where) {
    if (!shape.contains(name)) return 0;
    const std::string found = text(shape, name, where);
    const auto place = std::find(words.begin(), words.end(), found);
    if (place != words.end()) return std::size_t(place - words.begin());
    std::string expected;
    for (std::size_t i = 0; i < N; ++i) expected += std::string(i == 0 ? "" : i + 1 < N ? ", " : " or ") + words[i];
    malformed(fmt::format("{}.{}: is '{}'; {} is expected", where, name, found, expected));
}

json keyValue(const Matte::Key& key) {
    json value{{"frame", key.frame}, {"polygon", pairs(key.polygon)}};
    if (!key.in.empty()) value["in"] = pairs(key.in);
    if (!key.out.empty()) value["out"] = pairs(key.out);
    if (!key.feather.empty()) value["feather"] = key.feather;
    return value;
}

std::uint32_t takeColour(const json& shape, const std::string& where) {
    if (!shape.contains("colour")) return 0;
    const std::string word = text(shape, "colour", where);
    std::uint32_t colour = 0;
    const char* end = word.data() + word.size();
    if (word.size() != 7 || word[0] != '#' || std::from_chars(word.data() + 1, end, colour, 16).ptr != end)
        malformed(fmt::format("{}.colour: is '{}'; six digits after a # are expected, #d9a441", where, word));
    return colour;
}

}  // namespace

json rideValue(const Ride& ride) {
    json value{{"reference_frame", ride.referenceFrame}};
    if (ride.on == "picture") value["picture"] = true;
    else if (ride.ids.empty() && ride.on == "tracks") value["tracks"] = ride.names;
    else if (ride.ids.empty() && ride.names.size() == 1) value[ride.on] = ride.names.front();
    else {
        value["on"] = ride.on;
        value["ids"] = ride.ids;
        if (!ride.names.empty()) value["names"] = ride.names;
    }
    if (ride.as) value["as"] = toString(*ride.as);
    return value;
}

Ride takeRide(const json& ride, const std::string& where) {
    Ride taken;
    taken.referenceFrame = whole(ride, "reference_frame", where);
    if (ride.contains("as")) taken.as = MotionKind(takeWord(ride, "as", kMotionKinds, where));
    const auto takeNames = [&](const char* member) {
        for (const json& name : list(ride, member, where)) {
            if (!name.is_string()) malformed(fmt::format("{}.{}: holds what is no name", where, member));
            taken.names.push_back(name.get<std::string>());
        }
    };
    if (ride.contains("on")) {
        taken.on = text(ride, "on", where);
        for (const json& id : list(ride, "ids", where)) {
            if (!id.is_number_integer()) malformed(where + ".ids: holds what is no id");
            taken.ids.push_back(id.get<std::int64_t>());
        }
        if (ride.contains("names")) takeNames("names");
        return taken;
    }
    // By the names of one shot's things, for whatever shot takes them.
    if (flagOr(ride, "picture", false, where)) {
        taken.on = "picture";
        return taken;
    }
    for (const char* kind : {"plane", "locator"})
        if (ride.contains(kind)) {
            taken.on = kind;
            taken.names = {text(ride, kind, where)};
            return taken;
        }
    takeNames("tracks");
    if (taken.names.empty()) malformed(where + ".tracks: the list is empty");
    return taken;
}

json turnsValue(const std::vector<Matte::Turn>& turns) {
    json value = json::array();
    for (const Matte::Turn& turn : turns) value.push_back({{"frame", turn.frame}, {"there", turn.there}});
    return value;
}

std::vector<Matte::Turn> takeTurns(const json& shape, const std::string& where) {
    std::vector<Matte::Turn> turns;
    if (!shape.contains("there")) return turns;
    for (const json& turn : list(shape, "there", where)) {
        const std::string place = fmt::format("{}.there[{}]", where, turns.size());
        turns.push_back({whole(turn, "frame", place), flagOr(turn, "there", true, place)});
        if (turns.size() > 1 && turns.back().frame <= turns[turns.size() - 2].frame)
            malformed(place + ".frame: frames have to rise, each once");
    }
    return turns;
}

json mattesValue(std::span<const Matte> mattes) {
    json shapes = json::array();
    for (const Matte& matte : mattes) {
        json shape{{"name", matte.name}, {"mode", kModes[std::size_t(matte.mode)]}, {"keys", json::array()}};
        if (matte.id != 0) shape["id"] = matte.id;
        for (const Matte::Key& key : matte.keys) shape["keys"].push_back(keyValue(key));
        if (matte.op != Matte::Op::add) shape["op"] = kOps[std::size_t(matte.op)];
        if (matte.invert) shape["invert"] = true;
        if (matte.feather_px != 0) shape["feather"] = matte.feather_px;
        if (matte.grow_px != 0) shape["grow"] = matte.grow_px;
        if (matte.between != Matte::Between::linear) shape["between"] = kBetween[std::size_t(matte.between)];
        if (matte.ride) shape["ride"] = rideValue(*matte.ride);
        if (!matte.turns.empty()) shape["there"] = turnsValue(matte.turns);
        if (matte.colour != 0) shape["colour"] = fmt::format("#{:06x}", matte.colour);
        if (matte.opacity != Matte{}.opacity) shape["opacity"] = matte.opacity;
        if (matte.hidden) shape["hidden"] = true;
        if (matte.locked) shape["locked"] = true;
        if (matte.pictures) shape["pictures"] = matte.pictures->path();
        shapes.push_back(std::move(shape));
    }
    return shapes;
}

std::vector<Matte> takeMattes(const json& shapes, const std::string& name, const std::filesystem::path& file,
                              MatteBounds bounds) {
    std::vector<Matte> mattes;
    for (const json& shape : shapes) {
        const std::string where = fmt::format("{}[{}]", name, mattes.size());
        Matte matte;
        matte.name = text(shape, "name", where);
        if (shape.contains("id") && bounds == MatteBounds::taken) matte.id = MatteId(jsonfile::key(shape, "id", where));
        matte.mode = Matte::Mode(takeWord(shape, "mode", kModes, where));
        matte.op = Matte::Op(takeWord(shape, "op", kOps, where));
        matte.between = Matte::Between(takeWord(shape, "between", kBetween, where));
        matte.invert = flagOr(shape, "invert", false, where);
        const std::string words = fmt::format("{}: feather and grow are at most {:.0f} pixels", where, kMost_px);
        matte.feather_px = within(numberOr(shape, "feather", 0, where), kMost_px, bounds, words);
        matte.grow_px = within(numberOr(shape, "grow", 0, where), kMost_px, bounds, words);
        matte.colour = takeColour(shape, where);
        matte.opacity = std::clamp(numberOr(shape, "opacity", Matte{}.opacity, where), 0.0, 1.0);
        matte.hidden = flagOr(shape, "hidden", false, where);
        matte.locked = flagOr(shape, "locked", false, where);
        matte.turns = takeTurns(shape, where);
        if (shape.contains("pictures")) {
            const std::filesystem::path path = text(shape, "pictures", where);
            matte.pictures = matteSequence(path.is_relative() ? (file.parent_path() / path).lexically_normal() : path);
        }
        // Pictures need no outline.
        if (!matte.pictures || (shape.contains("keys") && !shape["keys"].empty()))
            matte.keys = takeKeys(shape, where, bounds);
        if (shape.contains("ride")) matte.ride = takeRide(shape["ride"], where + ".ride");
        if (matte.ride && !matte.ride->ids.empty() && bounds == MatteBounds::refused)
            malformed(where + ".ride.ids: count in one shot alone; names are expected");
        mattes.push_back(std::move(matte));
    }
    return mattes;
}

}  // namespace pinion
