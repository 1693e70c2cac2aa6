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

FrameRange takeRange(const json& object, const char* name, const std::string& where) {
    const json& value = list(object, name, where);
    if (value.size() != 2) malformed(where + "." + name + ": has not 2 frames");
    const FrameRange range{int(number(value[0], where)), int(number(value[1], where))};
    if (range.last < range.first || range.count() > 10'000'000)
        malformed(where + "." + name + ": its last frame lies before its first");
    return range;
}

json cornersValue(const Quad& quad) {
    json corners = json::array();
    for (const Eigen::Vector2d& corner : quad) corners.push_back({corner.x(), corner.y()});
    return corners;
}

Quad takeCorners(const json& object, const char* name, const std::string& where) {
    const json& corners = list(object, name, where);
    Quad quad;
    if (corners.size() != 4) malformed(fmt::format("{}.{}: has not four corners", where, name));
    for (std::size_t i = 0; i < 4; ++i) quad[i] = vector2(corners[i], fmt::format("{}.{}", where, name));
    return quad;
}

std::string writtenPath(const std::filesystem::path& path, const std::filesystem::path& file) {
    std::error_code code;
    const auto folder = std::filesystem::absolute(file, code).parent_path();
    const auto relative = std::filesystem::absolute(path, code).lexically_relative(folder);
    return (!relative.empty() && *relative.begin() != ".." ? relative : std::filesystem::absolute(path, code)).string();
}

std::filesystem::path takenPath(const std::filesystem::path& path, const std::filesystem::path& file) {
    return path.is_relative() ? (file.parent_path() / path).lexically_normal() : path;
}

}  // namespace pinion::shotfile
