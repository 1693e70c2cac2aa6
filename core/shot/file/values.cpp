#include "shot/file/values.h"

namespace pinion::shotfile {

using namespace jsonfile;

json vector3(const Eigen::Vector3d& v) { return {v.x(), v.y(), v.z()}; }

Eigen::Vector3d vector3(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 3) malformed(where + ": has not 3 numbers");
    return {number(value[0], where), number(value[1], where), number(value[2], where)};
}

Eigen::Vector2d vector2(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 2) malformed(where + ": has not 2 numbers");
    return {number(value[0], where), number(value[1], where)};
}

std::uint64_t key(const json& object, const char* name, const std::string& where) {
    const json& value = member(object, name, where);
    if (!value.is_number_unsigned() && !(value.is_number_integer() && value.get<std::int64_t>() >= 0))
        malformed(where + "." + name + ": is not a key");
    return value.get<std::uint64_t>();
}

json lensValues(const Lens& lens) {
    return {{"width", lens.width}, {"height", lens.height},  {"focal_px", lens.focal_px},
            {"k1", lens.k1},       {"k2", lens.k2},          {"k3", lens.k3},
            {"p1", lens.p1},       {"p2", lens.p2},          {"cx", lens.cx},
            {"cy", lens.cy},       {"squeeze", lens.squeeze}};
}

Lens takeLensValues(const json& object, const std::string& where) {
    Lens lens;
    lens.width = whole(object, "width", where);
    lens.height = whole(object, "height", where);
    for (const auto& [name, value] : {std::pair<const char*, double*>{"focal_px", &lens.focal_px},
                                      {"k1", &lens.k1},
                                      {"k2", &lens.k2},
                                      {"k3", &lens.k3},
                                      {"p1", &lens.p1},
                                      {"p2", &lens.p2},
                                      {"cx", &lens.cx},
                                      {"cy", &lens.cy},
                                      {"squeeze", &lens.squeeze}})
        *value = number(object, name, where);
    if (const auto checked = checkLens(lens); !checked) malformed(where + ": " + checked.error().message);
    return lens;
}

std::pair<int, int> twoFrames(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 2) malformed(where + ": has not 2 frames");
    return {int(number(value[0], where)), int(number(value[1], where))};
}

List<TrackId> takeIds(const json& object, const char* name, const std::string& where) {
    std::vector<TrackId> ids;
    for (const json& id : list(object, name, where)) ids.push_back(TrackId(number(id, where + "." + name)));
    return List<TrackId>(std::move(ids));
}

}  // namespace pinion::shotfile
