#include "shot/file/parts.h"
#include "shot/file/values.h"

#include <set>

namespace pinion {
namespace {

using namespace jsonfile;
using namespace shotfile;
namespace fs = std::filesystem;

constexpr std::array kRoles{"used", "held out", "disagreed", "unplaced"};

json solveValue(const KeptSolve& kept) {
    const Solve& solve = *kept.solve;
    json frames = json::array();
    for (const SolvedFrame& frame : solve.frames) {
        frames.push_back({{"frame", frame.frame},
                          {"world_from_camera", poseValue(frame.worldFromCamera)},
                          {"focal_px", frame.focal_px},
                          {"rms_px", frame.rms_px},
                          {"tracks", frame.tracks},
                          {"deviation", vector3(frame.deviation)}});
        if (frame.focalDeviation_px > 0) frames.back()["focal_deviation_px"] = frame.focalDeviation_px;
    }
    json tracks = json::array();
    for (const SolvedTrack& track : solve.tracks) {
        json entry{{"track", track.track},
                   {"role", kRoles[std::size_t(track.role)]},
                   {"rms_px", track.rms_px},
                   {"frames", track.frames}};
        if (track.xyz) entry["xyz"] = vector3(*track.xyz);
        if (track.direction) entry["direction"] = vector3(*track.direction);
        if (track.deviation != Eigen::Vector3d::Zero()) entry["deviation"] = vector3(track.deviation);
        if (track.goodFrames) entry["good_frames"] = {track.goodFrames->first, track.goodFrames->second};
        tracks.push_back(std::move(entry));
    }
    json value{{"lens", lensValues(solve.lens)},
               {"sensor_width_mm", solve.sensorWidth_mm},
               {"frames", frames},
               {"tracks", tracks},
               {"rms_px", solve.rms_px},
               {"held_out_rms_px", solve.heldOutRms_px},
               {"used", solve.used},
               {"disagreed", solve.disagreed},
               {"held_out", solve.heldOut},
               {"base_pair", {solve.basePair.first, solve.basePair.second}},
               {"median_angle_degrees", solve.medianAngleDegrees},
               {"key", kept.key},
               {"id", kept.id},
               {"asked", settingsValue(kept.settings)}};
    if (solve.focalDeviation_mm) value["focal_deviation_mm"] = *solve.focalDeviation_mm;
    value["motion"] = kMotionWords[std::size_t(solve.motion)];
    value["reason"] = solve.reason;
    value["noise_px"] = solve.noise_px;
    if (solve.zoom) value["zoom"] = {{"k1_slope", solve.k1Slope}};
    if (solve.readout.isRolling() || solve.readout.columns)
        value["readout"] = {
            {"share", solve.readout.share}, {"columns", solve.readout.columns}, {"deviation", solve.readoutDeviation}};
    if (solve.focalRange_mm) value["focal_range_mm"] = {solve.focalRange_mm->first, solve.focalRange_mm->second};
    value["lens_deviation"] = {{"k1", solve.k1Deviation},
                               {"k2", solve.k2Deviation},
                               {"cx", solve.axisDeviation_px.x()},
                               {"cy", solve.axisDeviation_px.y()}};
    if (solve.duplicates > 0) value["duplicates"] = solve.duplicates;
    if (solve.inMetres) value["in_metres"] = true;
    for (const MovingTracks& mover : solve.movers)
        value["movers"].push_back({{"tracks", mover.tracks}, {"frames", {mover.frames.first, mover.frames.second}}});
    if (!solve.doubt.empty()) value["doubt"] = solve.doubt;
    return value;
}

List<SolvedFrame> takeFrames(const json& value, const std::string& at) {
    std::vector<SolvedFrame> frames;
    for (std::size_t i = 0; const json& entry : list(value, "frames", at)) {
        const std::string where = fmt::format("{}.frames[{}]", at, i++);
        SolvedFrame frame;
        frame.frame = whole(entry, "frame", where);
        frame.worldFromCamera = takePose(entry, "world_from_camera", where);
        frame.focal_px = number(entry, "focal_px", where);
        frame.rms_px = number(entry, "rms_px", where);
        frame.tracks = whole(entry, "tracks", where);
        frame.deviation = vector3(member(entry, "deviation", where), where + ".deviation");
        if (entry.contains("focal_deviation_px")) frame.focalDeviation_px = number(entry, "focal_deviation_px", where);
        if (!(frame.focal_px > 0)) malformed(where + ".focal_px: has to be above 0");
        if (!frames.empty() && frame.frame <= frames.back().frame)
            malformed(where + ".frame: frames have to rise, each once");
        frames.push_back(frame);
    }
    if (frames.empty()) malformed(at + ".frames: the list is empty");
    return List<SolvedFrame>(std::move(frames));
}

List<SolvedTrack> takeSolvedTracks(const json& value, const std::string& at) {
    std::vector<SolvedTrack> tracks;
    for (std::size_t i = 0; const json& entry : list(value, "tracks", at)) {
        const std::string where = fmt::format("{}.tracks[{}]", at, i++);
        SolvedTrack track;
        track.track = TrackId(key(entry, "track", where));
        track.role = word<TrackRole>(entry, "role", kRoles, where);
        track.rms_px = number(entry, "rms_px", where);
        track.frames = whole(entry, "frames", where);
        if (entry.contains("xyz")) track.xyz = vector3(entry["xyz"], where + ".xyz");
        if (entry.contains("direction")) track.direction = vector3(entry["direction"], where + ".direction");
        if (entry.contains("deviation")) track.deviation = vector3(entry["deviation"], where + ".deviation");
        if (entry.contains("good_frames")) track.goodFrames = twoFrames(entry["good_frames"], where + ".good_frames");
        tracks.push_back(track);
    }
    return List<SolvedTrack>(std::move(tracks));
}

List<MovingTracks> takeMovers(const json& value, const std::string& at) {
    std::vector<MovingTracks> movers;
    for (std::size_t i = 0; value.contains("movers") && i < list(value, "movers", at).size(); ++i) {
        const std::string where = fmt::format("{}.movers[{}]", at, i);
        const json& entry = value["movers"][i];
        movers.push_back(
            {takeIds(entry, "tracks", where).vector(), twoFrames(member(entry, "frames", where), where + ".frames")});
    }
    return List<MovingTracks>(std::move(movers));
}

std::shared_ptr<const Solve> takeSolve(const json& value, const std::string& at) {
    auto solve = std::make_shared<Solve>();
    solve->lens = takeOwnLensValues(member(value, "lens", at), at + ".lens");
    solve->sensorWidth_mm = number(value, "sensor_width_mm", at);
    solve->frames = takeFrames(value, at);
    solve->tracks = takeSolvedTracks(value, at);
    solve->rms_px = number(value, "rms_px", at);
    solve->heldOutRms_px = number(value, "held_out_rms_px", at);
    solve->used = whole(value, "used", at);
    solve->disagreed = whole(value, "disagreed", at);
    solve->heldOut = whole(value, "held_out", at);
    solve->medianAngleDegrees = number(value, "median_angle_degrees", at);
    if (value.contains("focal_deviation_mm")) solve->focalDeviation_mm = number(value, "focal_deviation_mm", at);
    const json& pair = list(value, "base_pair", at);
    if (pair.size() != 2) malformed(at + ".base_pair: has not 2 frames");
    solve->basePair = {whole(pair[0], at + ".base_pair"), whole(pair[1], at + ".base_pair")};
    if (value.contains("motion")) solve->motion = word<CameraMotion>(value, "motion", kMotionWords, at);
    solve->reason = textOr(value, "reason", "", at);
    if (value.contains("noise_px")) solve->noise_px = number(value, "noise_px", at);
    if (value.contains("zoom")) {
        solve->zoom = true;
        solve->k1Slope = number(value["zoom"], "k1_slope", at + ".zoom");
    }
    if (value.contains("readout")) {
        const json& readout = value["readout"];
        const std::string where = at + ".readout";
        solve->readout = {number(readout, "share", where), flagOr(readout, "columns", false, where)};
        solve->readoutDeviation = number(readout, "deviation", where);
        if (!(std::abs(solve->readout.share) <= 1)) malformed(where + ".share: has to be from -1 to 1");
    }
    if (value.contains("focal_range_mm")) {
        const json& range = list(value, "focal_range_mm", at);
        if (range.size() != 2) malformed(at + ".focal_range_mm: has not 2 numbers");
        solve->focalRange_mm = {number(range[0], at + ".focal_range_mm"), number(range[1], at + ".focal_range_mm")};
    }
    if (value.contains("lens_deviation")) {
        const json& deviation = value["lens_deviation"];
        solve->k1Deviation = number(deviation, "k1", at + ".lens_deviation");
        solve->k2Deviation = number(deviation, "k2", at + ".lens_deviation");
        solve->axisDeviation_px = {number(deviation, "cx", at + ".lens_deviation"),
                                   number(deviation, "cy", at + ".lens_deviation")};
    }
    if (value.contains("duplicates")) solve->duplicates = whole(value, "duplicates", at);
    solve->inMetres = flagOr(value, "in_metres", false, at);
    solve->movers = takeMovers(value, at);
    solve->doubt = textOr(value, "doubt", "", at);
    return solve;
}

KeptSolve takeKept(const json& value, const std::string& at, const SolveSettings& usual) {
    KeptSolve kept{.solve = takeSolve(value, at), .key = key(value, "key", at), .settings = usual};
    if (value.contains("id")) kept.id = SolveId(key(value, "id", at));
    if (value.contains("asked")) kept.settings = takeSettings(value["asked"], at + ".asked");
    return kept;
}

void putSolvePart(json& document, const Shot& shot, const fs::path&) {
    if (shot.solve) document["solve"] = solveValue({shot.solveId, shot.solve, shot.solvedKey, shot.solvedWith});
    for (const KeptSolve& kept : shot.keptSolves) document["kept_solves"].push_back(solveValue(kept));
    if (shot.nextSolve > 1) document["next_solve"] = shot.nextSolve;
}

void takeSolvePart(const json& document, Shot& shot, const fs::path&) {
    std::set<SolveId> ids;
    const auto isGivenTwice = [&](SolveId id) { return id == 0 || !ids.insert(id).second; };
    if (document.contains("next_solve"))
        shot.nextSolve = std::max(shot.nextSolve, SolveId(key(document, "next_solve", "file")));
    if (document.contains("solve")) {
        // Before solves were kept they had no id, and were asked with what the card held.
        KeptSolve counts = takeKept(document["solve"], "solve", shot.solveSettings);
        shot.solve = counts.solve;
        shot.solvedKey = counts.key;
        shot.solveId = counts.id == 0 ? 1 : counts.id;
        shot.solvedWith = counts.settings;
        ids.insert(shot.solveId);
    }
    std::vector<KeptSolve> kept;
    for (std::size_t i = 0; document.contains("kept_solves") && i < list(document, "kept_solves", "file").size(); ++i) {
        const std::string at = fmt::format("kept_solves[{}]", i);
        kept.push_back(takeKept(document["kept_solves"][i], at, shot.solveSettings));
        if (isGivenTwice(kept.back().id)) malformed(at + ".id: has to be above 0, and each once");
    }
    shot.keptSolves = List<KeptSolve>(std::move(kept));
    for (const SolveId id : ids) shot.nextSolve = std::max(shot.nextSolve, id + 1);
}

}  // namespace

ShotFilePart solvePart() { return {putSolvePart, takeSolvePart}; }

}  // namespace pinion
