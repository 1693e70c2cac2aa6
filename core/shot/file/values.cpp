#include "shot/file/values.h"

#include <algorithm>

namespace pinion::shotfile {

using namespace jsonfile;

namespace {

constexpr double kFarthest = 1e6;  // pixels, or shares, beyond which nothing is placed

}  // namespace

json vector3(const Eigen::Vector3d& v) { return {v.x(), v.y(), v.z()}; }

Eigen::Vector3d vector3(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 3) malformed(where + ": has not 3 numbers");
    return {number(value[0], where), number(value[1], where), number(value[2], where)};
}

json poseValue(const Eigen::Isometry3d& pose) {
    json rows = json::array();
    for (int i = 0; i < 12; ++i) rows.push_back(pose.matrix()(i / 4, i % 4));
    return rows;
}

Eigen::Isometry3d takePose(const json& object, const char* name, const std::string& where) {
    const json& rows = list(object, name, where);
    const std::string place = where + "." + name;
    if (rows.size() != 12) malformed(place + ": has not 12 numbers");
    Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
    for (int i = 0; i < 12; ++i) pose.matrix()(i / 4, i % 4) = number(rows[std::size_t(i)], place);
    if (!(pose.linear() * pose.linear().transpose()).isIdentity(1e-4)) malformed(place + ": is no rotation");
    return pose;
}

Eigen::Vector2d vector2(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 2) malformed(where + ": has not 2 numbers");
    return {std::clamp(number(value[0], where), -kFarthest, kFarthest),
            std::clamp(number(value[1], where), -kFarthest, kFarthest)};
}

double numberWithin(const json& object, const char* name, double low, double high, const std::string& where) {
    return std::clamp(number(object, name, where), low, high);
}

std::pair<int, int> twoFrames(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 2) malformed(where + ": has not 2 frames");
    return {whole(value[0], where), whole(value[1], where)};
}

TrackId takeId(const json& value, const std::string& where) {
    if (!value.is_number_integer()) malformed(where + ": is not the number of a track");
    return value.get<TrackId>();
}

List<TrackId> takeIds(const json& object, const char* name, const std::string& where) {
    std::vector<TrackId> ids;
    for (const json& id : list(object, name, where)) ids.push_back(takeId(id, where + "." + name));
    return List<TrackId>(std::move(ids));
}

double takeAspect(const json& object, const std::string& where) {
    const double aspect = number(object, "pixel_aspect", where);
    if (!(aspect >= 0.01 && aspect <= 100)) malformed(where + ".pixel_aspect: is not from 0.01 to 100");
    return aspect;
}

FrameRange takeRange(const json& object, const char* name, const std::string& where) {
    const json& value = list(object, name, where);
    if (value.size() != 2) malformed(where + "." + name + ": has not 2 frames");
    const FrameRange range{whole(value[0], where + "." + name), whole(value[1], where + "." + name)};
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
