#include "shot/stages/camerastage.h"

#include "shot/ingredients.h"
#include "shot/objects.h"
#include "shot/solvesettings.h"

#include <algorithm>

namespace pinion {
namespace {

/// The Lens card's lens told at one focal length, to the digits that matter: its own does not count, the same glass
/// bends the same pixels.
Lens glassOf(const Shot& shot) {
    Lens glass = atFocal(*shot.lens.lens, shot.plate.width);
    for (double Lens::*term : {&Lens::k1, &Lens::k2, &Lens::k3, &Lens::p1, &Lens::p2})
        glass.*term = double(float(glass.*term));
    return glass;
}

}  // namespace

std::uint64_t solveKey(const Shot& shot) {
    Fingerprint print;
    addTracks(print, shot.tracks, AsideTracks::leftOut);
    const SolveSettings& s = shot.solveSettings;
    // Those that came later count only where they differ from the usual, so that a shot solved before stays fresh.
    for (const SettingId id : {SettingId::sensorWidth, SettingId::focal, SettingId::distortion})
        addSetting(print, s, id);
    print.add(shot.plate.range.first).add(shot.plate.range.last);
    for (const SettingId id : {SettingId::focalValue, SettingId::focalSigma}) addSetting(print, s, id);
    if (s.basePair) print.add(s.basePair->first).add(s.basePair->second);
    addLaterSettings(print, s);
    if (s.distortion == SolveOptions::Distortion::known && shot.lens.lens) addLens(print.add(109), glassOf(shot));
    if (s.distortion == SolveOptions::Distortion::guessed && shot.lens.lens) addLens(print.add(110), glassOf(shot));
    for (const TrackId track : tracksOnObjects(shot)) print.add(116).add(double(track));
    for (const TrackId track : s.sceneOf) print.add(111).add(double(track));
    for (const KnownDistance& known : s.distances)
        print.add(105).add(double(known.a)).add(double(known.b)).add(known.metres).add(known.sigma);
    for (const KnownPlace& known : s.places)
        print.add(106)
            .add(double(known.track))
            .add(known.metres.x())
            .add(known.metres.y())
            .add(known.metres.z())
            .add(known.sigma);
    return print.value();
}

SolveOptions solveOptionsOf(const Shot& shot) {
    const SolveSettings& s = shot.solveSettings;
    SolveOptions options;
    static_cast<SolveSettings&>(options) = s;
    options.width = shot.plate.width;
    options.height = shot.plate.height;
    if (s.distortion == SolveOptions::Distortion::known || s.distortion == SolveOptions::Distortion::guessed)
        options.lens = shot.lens.lens;
    // A measure goes with its track, and so does what is said of it.
    const auto isThere = [&](TrackId id) {
        return std::any_of(shot.tracks.begin(), shot.tracks.end(), [&](const Track& track) { return track.id == id; });
    };
    options.distances = s.distances.edited([&](auto& all) {
        std::erase_if(all, [&](const KnownDistance& known) { return !isThere(known.a) || !isThere(known.b); });
    });
    options.places = s.places.edited(
        [&](auto& all) { std::erase_if(all, [&](const KnownPlace& known) { return !isThere(known.track); }); });
    options.sceneOf =
        s.sceneOf.edited([&](auto& all) { std::erase_if(all, [&](TrackId track) { return !isThere(track); }); });
    return options;
}

StageReport cameraReport(const Shot& shot) {
    StageReport report{StageState::empty, "not solved", ""};
    if (shot.solve) {
        report.state = StageState::done;
        report.number = fmt::format("{:.2f} px · {}", shot.solve->rms_px, heldOutWords(*shot.solve, 2));
        if (shot.solvedKey != solveKey(shot)) {
            report.state = StageState::stale;
            report.message = "Tracks or settings changed since the solve. Solve again.";
        } else if (int(shot.solve->frames.size()) < shot.plate.range.count()) {
            std::vector<int> open;
            for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
                if (!solvedFrameAt(*shot.solve, frame)) open.push_back(frame);
            report.state = StageState::attention;
            report.message = fmt::format("Not solved: {}. Track more points there.", frameRanges(open));
        } else if (!shot.solve->doubt.empty()) {
            report.state = StageState::attention;
            report.message = fmt::format("Not sure: {}.", shot.solve->doubt);
        } else if (shot.solve->rms_px > 1.0) {
            report.state = StageState::attention;
            report.message = "The error is above 1 px. Set the worst tracks aside and solve again.";
        } else if (std::string lack = lackOfObjects(shot); !lack.empty()) {
            report.state = StageState::attention;
            report.message = std::move(lack);
        }
    }
    return report;
}

}  // namespace pinion
