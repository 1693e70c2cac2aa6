#include "planar/surface.h"
#include "shot/file/parts.h"
#include "shot/file/values.h"

#include <Eigen/LU>

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kEnds{"none", "range end", "left frame", "covered", "unlike", "edge-on", "cut", "turned away"};

json polygonsValue(const List<Polygon>& polygons) {
    json value = json::array();
    for (const Polygon& polygon : polygons) {
        json points = json::array();
        for (const Eigen::Vector2d& p : polygon) points.push_back({p.x(), p.y()});
        value.push_back(std::move(points));
    }
    return value;
}

List<Polygon> takePolygons(const json& object, const char* name, const std::string& where) {
    std::vector<Polygon> polygons;
    if (!object.contains(name)) return {};
    for (const json& points : list(object, name, where)) {
        const std::string place = fmt::format("{}.{}[{}]", where, name, polygons.size());
        if (!points.is_array() || points.size() < 3) malformed(place + ": has fewer than three corners");
        Polygon polygon;
        for (const json& p : points) polygon.push_back(vector2(p, place));
        polygons.push_back(std::move(polygon));
    }
    return List<Polygon>(std::move(polygons));
}

/// Of a cylinder: a turn, and then a shift.
void checkTurn(const SurfacePose& pose, const std::string& place) {
    if (!(pose.matrix * pose.matrix.transpose()).isIdentity(1e-6) || !(pose.matrix.determinant() > 0))
        malformed(place + ": its 3x3 is no turn");
}

json planeValue(const PlanarTrack& plane) {
    json samples = json::array(), ties = json::array();
    for (const PlaneSample& s : plane.samples) {
        json matrix = json::array();
        for (int i = 0; i < 9; ++i) matrix.push_back(s.pose.matrix(i / 3, i % 3));
        const auto rounded = [](float value) { return std::round(double(value) * 1e4) / 1e4; };
        samples.push_back({s.frame, std::move(matrix), rounded(s.seen), rounded(s.fit), rounded(s.deviation_px),
                           (s.renewed ? 1 : 0) | (s.anew ? 2 : 0)});
        if (plane.sides) samples.back().push_back({s.pose.shift.x(), s.pose.shift.y(), s.pose.shift.z()});
    }
    for (const PlaneTie& tie : plane.ties)
        ties.push_back({{"frame", tie.frame}, {"corners", cornersValue(tie.corners)}});
    json entry{{"id", plane.id},
               {"name", plane.name},
               {"outlines", polygonsValue(plane.outlines)},
               {"reference_frame", plane.referenceFrame},
               {"least_seen", plane.leastSeen},
               {"start", kEnds[std::size_t(plane.startReason)]},
               {"end", kEnds[std::size_t(plane.endReason)]},
               {"samples", std::move(samples)}};
    if (!plane.takenOut.isEmpty()) entry["taken_out"] = polygonsValue(plane.takenOut);
    if (plane.sides) entry["cylinder"] = cornersValue(*plane.sides);
    if (plane.lens) entry["lens"] = lensValues(*plane.lens);
    if (plane.motion) entry["motion"] = toString(*plane.motion);
    if (!plane.ties.isEmpty()) entry["surface"] = std::move(ties);
    if (plane.fromScene) entry["from_scene"] = true;
    if (plane.locked) entry["locked"] = true;
    if (plane.hidden) entry["hidden"] = true;
    return entry;
}

List<PlaneSample> takePlaneSamples(const json& entry, bool isCylinder, const std::string& where) {
    std::vector<PlaneSample> samples;
    for (const json& value : list(entry, "samples", where)) {
        const std::string place = fmt::format("{}.samples[{}]", where, samples.size());
        if (!value.is_array() || value.size() != (isCylinder ? 7 : 6) || !value[1].is_array() || value[1].size() != 9)
            malformed(place + (isCylinder ? ": is not a frame, a 3x3, three numbers, marks and a shift"
                                          : ": is not a frame, a 3x3, three numbers and marks"));
        const int frame = whole(value[0], place);
        const double marks = number(value[5], place);
        if (marks != std::floor(marks) || marks < 0 || marks > 3) malformed(place + ": its marks are not known");
        PlaneSample sample{.frame = frame};
        for (int i = 0; i < 9; ++i) sample.pose.matrix(i / 3, i % 3) = number(value[1][std::size_t(i)], place);
        // One that has no inverse says of no place where it is: the frame is open.
        if (!(std::abs(sample.pose.matrix.determinant()) > 1e-15)) continue;
        sample.seen = float(number(value[2], place));
        sample.fit = float(number(value[3], place));
        sample.deviation_px = float(number(value[4], place));
        sample.renewed = int(marks) & 1;
        sample.anew = int(marks) & 2;
        if (isCylinder) {
            if (!value[6].is_array() || value[6].size() != 3) malformed(place + ": its shift is not three numbers");
            for (int i = 0; i < 3; ++i) sample.pose.shift[i] = number(value[6][std::size_t(i)], place);
            checkTurn(sample.pose, place);
        }
        if (!samples.empty() && sample.frame <= samples.back().frame)
            malformed(place + ": frames have to rise, each once");
        samples.push_back(sample);
    }
    return List<PlaneSample>(std::move(samples));
}

List<PlaneTie> takeTies(const json& entry, const std::string& where) {
    std::vector<PlaneTie> ties;
    if (!entry.contains("surface")) return {};
    for (const json& value : list(entry, "surface", where)) {
        const std::string place = fmt::format("{}.surface[{}]", where, ties.size());
        PlaneTie tie;
        tie.frame = whole(value, "frame", place);
        tie.corners = takeCorners(value, "corners", place);
        if (!ties.empty() && tie.frame <= ties.back().frame) malformed(place + ": frames have to rise, each once");
        ties.push_back(tie);
    }
    return List<PlaneTie>(std::move(ties));
}

void putPlanesPart(json& document, const Shot& shot, const fs::path&) {
    if (shot.planes.isEmpty()) return;
    for (const PlanarTrack& plane : shot.planes) document["planes"].push_back(planeValue(plane));
    document["next_plane"] = shot.nextPlane;
}

void takePlanesPart(const json& document, Shot& shot, const fs::path&) {
    if (!document.contains("planes")) return;
    std::vector<PlanarTrack> planes;
    for (const json& entry : list(document, "planes", "file")) {
        const std::string where = fmt::format("planes[{}]", planes.size());
        PlanarTrack plane;
        plane.id = PlaneId(key(entry, "id", where));
        plane.name = text(entry, "name", where);
        plane.outlines = takePolygons(entry, "outlines", where);
        if (plane.outlines.isEmpty()) malformed(where + ".outlines: the list is empty");
        plane.takenOut = takePolygons(entry, "taken_out", where);
        plane.referenceFrame = whole(entry, "reference_frame", where);
        plane.leastSeen = numberWithin(entry, "least_seen", 0, 1, where);
        if (entry.contains("lens")) {
            plane.lens = std::make_shared<const Lens>(takeOwnLensValues(entry["lens"], where + ".lens"));
        }
        if (entry.contains("motion")) {
            plane.motion = motionModelFrom(text(entry, "motion", where));
            if (!plane.motion) malformed(where + ".motion: is not known");
        }
        plane.startReason = word<PlaneEnd>(entry, "start", kEnds, where);
        plane.endReason = word<PlaneEnd>(entry, "end", kEnds, where);
        if (entry.contains("cylinder")) plane.sides = takeCorners(entry, "cylinder", where);
        if (plane.sides && !plane.lens && entry.contains("samples") && !entry["samples"].empty())
            malformed(where + ".lens: is missing; a cylinder is tracked through one");
        plane.samples = takePlaneSamples(entry, plane.sides.has_value(), where);
        plane.ties = takeTies(entry, where);
        plane.fromScene = flagOr(entry, "from_scene", false, where);
        plane.locked = flagOr(entry, "locked", false, where);
        plane.hidden = flagOr(entry, "hidden", false, where);
        for (const PlanarTrack& other : planes)
            if (other.id == plane.id) malformed(where + ".id: is there twice");
        planes.push_back(std::move(plane));
    }
    PlaneId largest = 0;
    for (const PlanarTrack& plane : planes) largest = std::max(largest, plane.id);
    shot.nextPlane = std::max(PlaneId(key(document, "next_plane", "file")), largest + 1);
    shot.planes = List<PlanarTrack>(std::move(planes));
}

}  // namespace

ShotFilePart planesPart() { return {putPlanesPart, takePlanesPart}; }

}  // namespace pinion
