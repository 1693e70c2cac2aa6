#include "shot/file/parts.h"
#include "shot/file/values.h"
#include "shot/solvesettings.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

void takeMeasures(const json& camera, const std::string& at, SolveSettings& settings) {
    const auto positive = [](const json& entry, const char* name, const std::string& where) {
        const double value = number(entry, name, where);
        if (!(value > 0)) malformed(fmt::format("{}.{}: has to be above 0", where, name));
        return value;
    };
    std::vector<KnownDistance> distances;
    for (std::size_t i = 0; camera.contains("distances") && i < list(camera, "distances", at).size(); ++i) {
        const std::string where = fmt::format("{}.distances[{}]", at, i);
        const json& entry = camera["distances"][i];
        const json& pair = list(entry, "tracks", where);
        if (pair.size() != 2 || !pair[0].is_number_unsigned() || !pair[1].is_number_unsigned())
            malformed(where + ".tracks: has not 2 track numbers");
        distances.push_back({pair[0].get<TrackId>(), pair[1].get<TrackId>(), positive(entry, "metres", where),
                             positive(entry, "trust", where)});
    }
    std::vector<KnownPlace> places;
    for (std::size_t i = 0; camera.contains("places") && i < list(camera, "places", at).size(); ++i) {
        const std::string where = fmt::format("{}.places[{}]", at, i);
        const json& entry = camera["places"][i];
        places.push_back({TrackId(key(entry, "track", where)),
                          vector3(member(entry, "metres", where), where + ".metres"), positive(entry, "trust", where)});
    }
    settings.distances = List<KnownDistance>(std::move(distances));
    settings.places = List<KnownPlace>(std::move(places));
}

void takeSetting(const json& camera, const std::string& at, const SolveSetting& setting, SolveSettings& settings) {
    if (!setting.isChoice()) {
        settings.*setting.number = number(camera, setting.key, at);
        return;
    }
    // Older files have a flag where there is a word now.
    if (camera.contains(setting.key) && camera[setting.key].is_boolean()) {
        setting.choose(settings, camera[setting.key].get<bool>() ? 1 : 2);
        return;
    }
    const std::string word = text(camera, setting.key, at);
    const auto choice = choiceNamed(setting, word);
    if (!choice) malformed(fmt::format("{}.{}: is '{}'; {} is expected", at, setting.key, word, wordsOf(setting)));
    setting.choose(settings, *choice);
}

void putCameraPart(json& document, const Shot& shot, const fs::path&) {
    document["camera"] = settingsValue(shot.solveSettings);
}

void takeCameraPart(const json& document, Shot& shot, const fs::path&) {
    const json& camera = member(document, "camera", "file");
    shot.solveSettings = takeSettings(camera, "camera");
    // Before there was a Lens card a known lens lay here.
    if (camera.contains("lens")) {
        shot.lens.lens = takeOwnLensValues(camera["lens"], "camera.lens");
        shot.lens.source = LensCard::Source::file;
    }
}

}  // namespace

namespace shotfile {

json settingsValue(const SolveSettings& settings) {
    json value = json::object();
    for (const SolveSetting& setting : solveSettings()) {
        if (setting.isNew && setting.isUsual(settings)) continue;
        if (setting.isChoice()) value[setting.key] = setting.words[setting.chosen(settings)];
        else value[setting.key] = settings.*setting.number;
    }
    if (settings.basePair) value["base_pair"] = {settings.basePair->first, settings.basePair->second};
    for (const KnownDistance& known : settings.distances)
        value["distances"].push_back(
            {{"tracks", {known.a, known.b}}, {"metres", known.metres}, {"trust", known.sigma}});
    for (const KnownPlace& known : settings.places)
        value["places"].push_back({{"track", known.track}, {"metres", vector3(known.metres)}, {"trust", known.sigma}});
    for (const TrackId track : settings.sceneOf) value["scene_of"].push_back(track);
    return value;
}

SolveSettings takeSettings(const json& value, const std::string& where) {
    SolveSettings settings;
    for (const SolveSetting& setting : solveSettings())
        if (!setting.isNew || value.contains(setting.key)) takeSetting(value, where, setting, settings);
    if (!(settings.squeeze > 0)) malformed(where + ".squeeze: has to be above 0");
    if (value.contains("base_pair")) settings.basePair = twoFrames(value["base_pair"], where + ".base_pair");
    takeMeasures(value, where, settings);
    if (value.contains("scene_of")) settings.sceneOf = takeIds(value, "scene_of", where);
    if (!(settings.sensorWidth_mm > 0) || !(settings.focal_mm > 0))
        malformed(where + ": sensor width and focal length have to be above 0");
    return settings;
}

}  // namespace shotfile

ShotFilePart cameraPart() { return {putCameraPart, takeCameraPart}; }

}  // namespace pinion
