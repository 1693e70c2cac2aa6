#include "shot/solvesettings.h"

#include <algorithm>
#include <array>

namespace pinion {
namespace {

/// For a member that is an enumeration whose values stand in the order of the words.
template <auto member>
std::size_t chosenOf(const SolveSettings& settings) {
    return std::size_t(settings.*member);
}
template <auto member>
void chooseIn(SolveSettings& settings, std::size_t place) {
    settings.*member = std::decay_t<decltype(settings.*member)>(place);
}

std::size_t motionChosen(const SolveSettings& s) { return s.motion ? std::size_t(*s.motion) + 1 : 0; }
void chooseMotion(SolveSettings& s, std::size_t place) {
    s.motion = place == 0 ? std::nullopt : std::optional(CameraMotion(place - 1));
}

std::size_t zoomChosen(const SolveSettings& s) { return s.zoom ? (*s.zoom ? 1 : 2) : 0; }
void chooseZoom(SolveSettings& s, std::size_t place) { s.zoom = place == 0 ? std::nullopt : std::optional(place == 1); }

using S = SolveSettings;

// In the order of SettingId.
const std::array kSettings{
    SolveSetting{.key = "sensor_width_mm",
                 .option = "--sensor-width",
                 .label = "Sensor width",
                 .tip = "Of the sensor behind the plate",
                 .number = &S::sensorWidth_mm,
                 .least = 0.5,
                 .most = 1000,
                 .unit = "mm"},
    SolveSetting{.key = "focal",
                 .option = nullptr,
                 .label = "Focal length",
                 .tip = "Known: kept. Guessed: drawn to the value by its trust. Unknown: searched for",
                 .words = {"known", "guessed", "unknown"},
                 .labels = {"known", "guessed", "unknown"},
                 .chosen = chosenOf<&S::focal>,
                 .choose = chooseIn<&S::focal>},
    SolveSetting{.key = "distortion",
                 .option = nullptr,
                 .label = "Distortion",
                 .tip = "The Lens card's lens is kept as it is, or guessed from, or not looked at",
                 .words = {"none", "known", "unknown", "k1", "full", "guessed"},
                 .labels = {"none", "Lens card's", "find k1, k2", "find k1", "find all terms", "near Lens card's"},
                 .chosen = chosenOf<&S::distortion>,
                 .choose = chooseIn<&S::distortion>},
    SolveSetting{.key = "focal_mm",
                 .option = nullptr,
                 .label = "Value",
                 .tip = "The focal length",
                 .number = &S::focal_mm,
                 .least = 0.1,
                 .most = 10000,
                 .unit = "mm",
                 .counts = [](const S& s) { return s.focal != Knowledge::unknown; }},
    SolveSetting{.key = "focal_trust_mm",
                 .option = nullptr,
                 .label = "Trust ±",
                 .tip = "How far off the value may be: a standard deviation",
                 .number = &S::focalSigma_mm,
                 .least = 0,
                 .most = 10000,
                 .step = 0.5,
                 .unit = "mm",
                 .counts = [](const S& s) { return s.focal == Knowledge::guessed; }},
    SolveSetting{.key = "axis",
                 .option = "--axis",
                 .label = "Optical axis",
                 .tip = "Where the optical axis meets the plate. Automatic: near the middle, as far off as the tracks "
                        "say; free: for plates cropped off the middle",
                 .words = {"auto", "centre", "free"},
                 .labels = {"automatic", "middle", "free"},
                 .chosen = chosenOf<&S::axis>,
                 .choose = chooseIn<&S::axis>,
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(101).add(int(s.axis)); }},
    SolveSetting{.key = "motion",
                 .option = "--motion",
                 .label = "Camera",
                 .tip = "Travelling: it moves. Nodal: it only turns. Locked: it stands still",
                 .words = {"auto", "travelling", "nodal", "locked"},
                 .labels = {"find out", "travelling", "nodal", "locked"},
                 .chosen = motionChosen,
                 .choose = chooseMotion,
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(102).add(int(*s.motion)); }},
    SolveSetting{.key = "zoom",
                 .option = nullptr,
                 .label = "Zoom",
                 .tip = "A lens that zooms gets a focal length on every frame, smooth in time",
                 .words = {"auto", "zooms", "fixed"},
                 .labels = {"find out", "zooms", "does not"},
                 .chosen = zoomChosen,
                 .choose = chooseZoom,
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(*s.zoom ? 103 : 107); }},
    SolveSetting{.key = "squeeze",
                 .option = "--squeeze",
                 .label = "Squeeze",
                 .tip = "Pixels across over pixels down of one angle: 1 for a spherical lens, 0.5 for a plate squeezed "
                        "by two and not stretched again. Taken from the plate's pixels when it is opened",
                 .number = &S::squeeze,
                 .least = 0.05,
                 .most = 20,
                 .step = 0.05,
                 .decimals = 3,
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(104).add(s.squeeze); }},
    SolveSetting{.key = "reading",
                 .option = nullptr,
                 .label = "Rolling shutter",
                 .tip = "Most sensors are read row by row. Find out: taken where the tracks show it",
                 .words = {"auto", "none", "known"},
                 .labels = {"find out", "none", "known"},
                 .chosen = chosenOf<&S::reading>,
                 .choose = chooseIn<&S::reading>,
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(112).add(int(s.reading)); }},
    SolveSetting{.key = "readout",
                 .option = nullptr,
                 .label = "Readout",
                 .tip = "From the first row to the last, as a share of the time from frame to frame; below 0 where the "
                        "sensor is read from the bottom up",
                 .number = &S::readoutShare,
                 .least = -1,
                 .most = 1,
                 .step = 0.05,
                 .decimals = 3,
                 .unit = "frame",
                 .counts = [](const S& s) { return s.reading == S::Reading::known; },
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(113).add(s.readoutShare); }},
    SolveSetting{.key = "readout_trust",
                 .option = nullptr,
                 .label = "Trust ±",
                 .tip = "How far off the readout may be: a standard deviation",
                 .number = &S::readoutSigma,
                 .least = 0,
                 .most = 1,
                 .step = 0.01,
                 .decimals = 3,
                 .unit = "frame",
                 .counts = [](const S& s) { return s.reading == S::Reading::known; },
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(114).add(s.readoutSigma); }},
    SolveSetting{.key = "read_by",
                 .option = "--read-by",
                 .label = "Read by",
                 .tip =
                     "Columns: a telephone held upright, its picture turned. Where the readout is found out, this is "
                     "as well",
                 .words = {"rows", "columns"},
                 .labels = {"rows", "columns"},
                 .chosen = chosenOf<&S::readBy>,
                 .choose = chooseIn<&S::readBy>,
                 .counts = [](const S& s) { return s.reading == S::Reading::known; },
                 .isNew = true,
                 .addKey = [](Fingerprint& print, const S& s) { print.add(115).add(int(s.readBy)); }},
};

}  // namespace

bool SolveSetting::isUsual(const SolveSettings& settings) const {
    const SolveSettings usual;
    return isChoice() ? chosen(settings) == chosen(usual) : settings.*number == usual.*number;
}

std::span<const SolveSetting> solveSettings() { return kSettings; }
const SolveSetting& solveSetting(SettingId id) { return kSettings[std::size_t(id)]; }

std::optional<std::size_t> choiceNamed(const SolveSetting& setting, const std::string& word) {
    const auto found = std::find(setting.words.begin(), setting.words.end(), word);
    return found == setting.words.end() ? std::nullopt : std::optional(std::size_t(found - setting.words.begin()));
}

std::string wordsOf(const SolveSetting& setting) {
    std::string words;
    for (std::size_t i = 0; i < setting.words.size(); ++i)
        words += std::string(i == 0 ? "" : i + 1 < setting.words.size() ? ", " : " or ") + setting.words[i];
    return words;
}

void addSetting(Fingerprint& print, const SolveSettings& settings, SettingId id) {
    const SolveSetting& setting = solveSetting(id);
    if (setting.counts && !setting.counts(settings)) return;
    if (setting.addKey) setting.addKey(print, settings);
    else if (setting.isChoice()) print.add(int(setting.chosen(settings)));
    else print.add(settings.*setting.number);
}

void addLaterSettings(Fingerprint& print, const SolveSettings& settings) {
    for (std::size_t i = 0; i < kSettings.size(); ++i)
        if (kSettings[i].isNew && !kSettings[i].isUsual(settings)) addSetting(print, settings, SettingId(i));
}

}  // namespace pinion
