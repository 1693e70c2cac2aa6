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
