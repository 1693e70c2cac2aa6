#include "shot/file/parts.h"
#include "shot/file/values.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kKnowledge{"known", "guessed", "unknown"};
constexpr std::array kDistortion{"none", "known", "unknown", "k1", "full", "guessed"};
constexpr std::array kAxis{"auto", "centre", "free"};

void takeMeasures(const json& camera, SolveSettings& settings) {
    const auto positive = [](const json& entry, const char* name, const std::string& where) {
        const double value = number(entry, name, where);
        if (!(value > 0)) malformed(fmt::format("{}.{}: has to be above 0", where, name));
        return value;
    };
    std::vector<KnownDistance> distances;
    for (std::size_t i = 0; camera.contains("distances") && i < list(camera, "distances", "camera").size(); ++i) {
        const std::string where = fmt::format("camera.distances[{}]", i);
        const json& entry = camera["distances"][i];
        const json& pair = list(entry, "tracks", where);
        if (pair.size() != 2 || !pair[0].is_number_unsigned() || !pair[1].is_number_unsigned())
            malformed(where + ".tracks: has not 2 track numbers");
        distances.push_back({pair[0].get<TrackId>(), pair[1].get<TrackId>(), positive(entry, "metres", where),
                             positive(entry, "trust", where)});
    }
    std::vector<KnownPlace> places;
    for (std::size_t i = 0; camera.contains("places") && i < list(camera, "places", "camera").size(); ++i) {
        const std::string where = fmt::format("camera.places[{}]", i);
        const json& entry = camera["places"][i];
        places.push_back({TrackId(key(entry, "track", where)),
                          vector3(member(entry, "metres", where), where + ".metres"), positive(entry, "trust", where)});
    }
    settings.distances = List<KnownDistance>(std::move(distances));
    settings.places = List<KnownPlace>(std::move(places));
}

void putCameraPart(json& document, const Shot& shot, const fs::path&) {
    const SolveSettings& c = shot.solveSettings;
    document["camera"] = {{"sensor_width_mm", c.sensorWidth_mm},
                          {"focal", kKnowledge[std::size_t(c.focal)]},
                          {"focal_mm", c.focal_mm},
                          {"focal_trust_mm", c.focalTrust_mm},
                          {"distortion", kDistortion[std::size_t(c.distortion)]}};
    if (c.axis != SolveOptions::Axis::automatic) document["camera"]["axis"] = kAxis[std::size_t(c.axis)];
    if (c.motion) document["camera"]["motion"] = kMotionWords[std::size_t(*c.motion)];
    if (c.zoom) document["camera"]["zoom"] = *c.zoom;
    if (c.squeeze != 1.0) document["camera"]["squeeze"] = c.squeeze;
    if (c.basePair) document["camera"]["base_pair"] = {c.basePair->first, c.basePair->second};
    for (const KnownDistance& known : c.distances)
        document["camera"]["distances"].push_back(
            {{"tracks", {known.a, known.b}}, {"metres", known.metres}, {"trust", known.trust}});
    for (const KnownPlace& known : c.places)
        document["camera"]["places"].push_back(
            {{"track", known.track}, {"metres", vector3(known.metres)}, {"trust", known.trust}});
}

void takeCameraPart(const json& document, Shot& shot, const fs::path&) {
    const json& camera = member(document, "camera", "file");
    SolveSettings& c = shot.solveSettings;
    c.sensorWidth_mm = number(camera, "sensor_width_mm", "camera");
    c.focal = word<Knowledge>(camera, "focal", kKnowledge, "camera");
    c.focal_mm = number(camera, "focal_mm", "camera");
    c.focalTrust_mm = number(camera, "focal_trust_mm", "camera");
    c.distortion = word<SolveOptions::Distortion>(camera, "distortion", kDistortion, "camera");
    // Before there was a Lens card a known lens lay here.
    if (camera.contains("lens")) {
        shot.lens.lens = takeOwnLensValues(camera["lens"], "camera.lens");
        shot.lens.source = LensCard::Source::file;
    }
    if (camera.contains("axis")) c.axis = word<SolveOptions::Axis>(camera, "axis", kAxis, "camera");
    if (camera.contains("motion")) c.motion = word<CameraMotion>(camera, "motion", kMotionWords, "camera");
    if (camera.contains("zoom")) c.zoom = camera.value("zoom", false);
    if (camera.contains("squeeze")) c.squeeze = number(camera, "squeeze", "camera");
    if (!(c.squeeze > 0)) malformed("camera.squeeze: has to be above 0");
    if (camera.contains("base_pair")) c.basePair = twoFrames(camera["base_pair"], "camera.base_pair");
    takeMeasures(camera, c);
    if (!(c.sensorWidth_mm > 0) || !(c.focal_mm > 0))
        malformed("camera: sensor width and focal length have to be above 0");
}

}  // namespace

ShotFilePart cameraPart() { return {putCameraPart, takeCameraPart}; }

}  // namespace pinion
