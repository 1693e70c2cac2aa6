#include "shot/file/parts.h"
#include "shot/file/values.h"
#include "shot/solvesettings.h"

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

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

void takeSetting(const json& camera, const SolveSetting& setting, SolveSettings& settings) {
    if (!setting.isChoice()) {
        settings.*setting.number = number(camera, setting.key, "camera");
        return;
    }
    // Older files have a flag where there is a word now.
    if (camera.contains(setting.key) && camera[setting.key].is_boolean()) {
        setting.choose(settings, camera[setting.key].get<bool>() ? 1 : 2);
        return;
    }
    const std::string word = text(camera, setting.key, "camera");
    const auto choice = choiceNamed(setting, word);
    if (!choice) malformed(fmt::format("camera.{}: is '{}'; {} is expected", setting.key, word, wordsOf(setting)));
    setting.choose(settings, *choice);
}

void putCameraPart(json& document, const Shot& shot, const fs::path&) {
    const SolveSettings& c = shot.solveSettings;
    json& camera = document["camera"] = json::object();
    for (const SolveSetting& setting : solveSettings()) {
        if (setting.isNew && setting.isUsual(c)) continue;
        if (setting.isChoice()) camera[setting.key] = setting.words[setting.chosen(c)];
        else camera[setting.key] = c.*setting.number;
    }
    if (c.basePair) camera["base_pair"] = {c.basePair->first, c.basePair->second};
    for (const KnownDistance& known : c.distances)
        camera["distances"].push_back(
            {{"tracks", {known.a, known.b}}, {"metres", known.metres}, {"trust", known.sigma}});
    for (const KnownPlace& known : c.places)
        camera["places"].push_back({{"track", known.track}, {"metres", vector3(known.metres)}, {"trust", known.sigma}});
}

void takeCameraPart(const json& document, Shot& shot, const fs::path&) {
    const json& camera = member(document, "camera", "file");
    SolveSettings& c = shot.solveSettings;
    for (const SolveSetting& setting : solveSettings())
        if (!setting.isNew || camera.contains(setting.key)) takeSetting(camera, setting, c);
    // Before there was a Lens card a known lens lay here.
    if (camera.contains("lens")) {
        shot.lens.lens = takeOwnLensValues(camera["lens"], "camera.lens");
        shot.lens.source = LensCard::Source::file;
    }
    if (!(c.squeeze > 0)) malformed("camera.squeeze: has to be above 0");
    if (camera.contains("base_pair")) c.basePair = twoFrames(camera["base_pair"], "camera.base_pair");
    takeMeasures(camera, c);
    if (!(c.sensorWidth_mm > 0) || !(c.focal_mm > 0))
        malformed("camera: sensor width and focal length have to be above 0");
}

}  // namespace

ShotFilePart cameraPart() { return {putCameraPart, takeCameraPart}; }

}  // namespace pinion
