#include "shot/stages/camerastage.h"

#include "shot/ingredients.h"

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
    print.add(s.sensorWidth_mm)
        .add(int(s.focal))
        .add(int(s.distortion))
        .add(shot.plate.range.first)
        .add(shot.plate.range.last);
    if (s.focal != Knowledge::unknown) print.add(s.focal_mm);
    if (s.focal == Knowledge::guessed) print.add(s.focalTrust_mm);
    if (s.basePair) print.add(s.basePair->first).add(s.basePair->second);
    // Only what differs from the usual, so that a shot solved before these choices were there stays fresh.
    if (s.axis != SolveOptions::Axis::automatic) print.add(101).add(int(s.axis));
    if (s.motion) print.add(102).add(int(*s.motion));
    if (s.zoom) print.add(*s.zoom ? 103 : 107);
    if (s.squeeze != 1.0) print.add(104).add(s.squeeze);
    if (s.distortion == SolveOptions::Distortion::known && shot.lens.lens) addLens(print.add(109), glassOf(shot));
    if (s.distortion == SolveOptions::Distortion::guessed && shot.lens.lens) addLens(print.add(110), glassOf(shot));
    for (const KnownDistance& known : s.distances)
        print.add(105).add(double(known.a)).add(double(known.b)).add(known.metres).add(known.trust);
    for (const KnownPlace& known : s.places)
        print.add(106)
            .add(double(known.track))
            .add(known.metres.x())
            .add(known.metres.y())
            .add(known.metres.z())
            .add(known.trust);
    return print.value();
}

SolveOptions solveOptionsOf(const Shot& shot) {
    const SolveSettings& s = shot.solveSettings;
    SolveOptions options;
    options.width = shot.plate.width;
    options.height = shot.plate.height;
    options.sensorWidth_mm = s.sensorWidth_mm;
    options.focal = s.focal;
    options.focal_mm = s.focal_mm;
    options.focalTrust_mm = s.focalTrust_mm;
    options.distortion = s.distortion;
    if (s.distortion == SolveOptions::Distortion::known || s.distortion == SolveOptions::Distortion::guessed)
        options.lens = shot.lens.lens;
    options.axis = s.axis;
    options.motion = s.motion;
    options.zoom = s.zoom;
    options.squeeze = s.squeeze;
    options.basePair = s.basePair;
    // A measure goes with its track.
    const auto isThere = [&](TrackId id) {
        return std::any_of(shot.tracks.begin(), shot.tracks.end(), [&](const Track& track) { return track.id == id; });
    };
    for (const KnownDistance& known : s.distances)
        if (isThere(known.a) && isThere(known.b)) options.distances.push_back(known);
    for (const KnownPlace& known : s.places)
        if (isThere(known.track)) options.places.push_back(known);
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
        }
    }
    return report;
}

}  // namespace pinion
