#include "shot/shotfile.h"

#include "base/json.h"
#include "matte/mattejson.h"

#include <array>
#include <set>

namespace pinion {
namespace {

using namespace jsonfile;
namespace fs = std::filesystem;

constexpr std::array<const char*, 3> kKnowledge{"known", "guessed", "unknown"};
constexpr std::array<const char*, 5> kDistortion{"none", "known", "unknown", "k1", "full"};
constexpr std::array<const char*, 3> kAxis{"auto", "centre", "free"};
constexpr std::array<const char*, 3> kMotion{"travelling", "nodal", "locked"};
constexpr std::array<const char*, 4> kRoles{"used", "held out", "disagreed", "unplaced"};
constexpr std::array<const char*, 5> kKinds{"camera", "tracks", "st maps", "transforms", "corner pin"};
constexpr std::array<const char*, 4> kMotionKinds{"position", "similarity", "corner pin", "perspective"};
constexpr std::array<const char*, 4> kPictureModels{"auto", "position", "similarity", "perspective"};
constexpr std::array<const char*, 2> kModes{"hold", "ease"};
constexpr std::array<const char*, 2> kSmoothers{"gaussian", "l1"};
constexpr std::array<const char*, 3> kFits{"none", "fill", "crop"};
constexpr std::array<const char*, 2> kSources{"all tracks", "chosen"};
constexpr std::array<const char*, 4> kFormats{"usda", "json", "csv", "exr"};
constexpr std::array<const char*, 6> kReasons{"none", "range end", "left frame", "covered", "drift limit", "ambiguous"};

template <class Enum, std::size_t N>
Enum word(const json& object, const char* name, const std::array<const char*, N>& words, const std::string& where) {
    const std::string found = text(object, name, where);
    for (std::size_t i = 0; i < N; ++i)
        if (found == words[i]) return Enum(i);
    malformed(where + "." + name + ": '" + found + "' is not known");
}

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

json lensValues(const Lens& lens) {
    return {{"width", lens.width}, {"height", lens.height},  {"focal_px", lens.focal_px},
            {"k1", lens.k1},       {"k2", lens.k2},          {"k3", lens.k3},
            {"p1", lens.p1},       {"p2", lens.p2},          {"cx", lens.cx},
            {"cy", lens.cy},       {"squeeze", lens.squeeze}};
}

Lens takeLensValues(const json& object, const std::string& where) {
    Lens lens;
    lens.width = whole(object, "width", where);
    lens.height = whole(object, "height", where);
    for (const auto& [name, value] : {std::pair<const char*, double*>{"focal_px", &lens.focal_px},
                                      {"k1", &lens.k1},
                                      {"k2", &lens.k2},
                                      {"k3", &lens.k3},
                                      {"p1", &lens.p1},
                                      {"p2", &lens.p2},
                                      {"cx", &lens.cx},
                                      {"cy", &lens.cy},
                                      {"squeeze", &lens.squeeze}})
        *value = number(object, name, where);
    if (const auto checked = checkLens(lens); !checked) malformed(where + ": " + checked.error().message);
    return lens;
}

json tracksValue(const Shot& shot) {
    json tracks = json::array();
    for (const Track& track : shot.tracks) {
        json samples = json::array();
        for (const Sample& s : track.samples) {
            const int marks = (s.tie ? 1 : 0) | (s.renewed ? 2 : 0) | (s.bridged ? 4 : 0) | int(s.lost) << 3;
            json sample{s.frame, s.at.x(), s.at.y(), std::round(s.score * 1e4) / 1e4, marks};
            if (s.carried != Eigen::Vector2f(0, 0)) {
                sample.push_back(s.carried.x());
                sample.push_back(s.carried.y());
            }
            samples.push_back(std::move(sample));
        }
        json entry{{"id", track.id},
                   {"name", track.name},
                   {"by_hand", track.byHand},
                   {"set_aside", track.setAside},
                   {"motion", toString(track.motion)},
                   {"channel", toString(track.channel)},
                   {"pattern_px", track.pattern_px},
                   {"search_px", track.search_px},
                   {"drift_limit", track.driftLimit},
                   {"reference_frame", track.referenceFrame},
                   {"start", kReasons[std::size_t(track.startReason)]},
                   {"end", kReasons[std::size_t(track.endReason)]},
                   {"samples", std::move(samples)}};
        // What is as usual is not written.
        if (track.preFilter != PreFilter::none) entry["pre_filter"] = toString(track.preFilter);
        if (track.pickUp) entry["pick_up"] = true;
        if (!track.offset.isZero()) entry["offset"] = {track.offset.x(), track.offset.y()};
        for (const Eigen::Vector2d& corner : track.outline) entry["outline"].push_back({corner.x(), corner.y()});
        if (track.colour != 0) entry["colour"] = track.colour;
        if (!track.group.empty()) entry["group"] = track.group;
        if (track.locked) entry["locked"] = true;
        if (track.hidden) entry["hidden"] = true;
        tracks.push_back(std::move(entry));
    }
    return tracks;
}

Track takeTrack(const json& entry, const std::string& where) {
    Track track;
    track.id = TrackId(key(entry, "id", where));
    track.name = text(entry, "name", where);
    track.byHand = entry.value("by_hand", false);
    track.setAside = entry.value("set_aside", false);
    const auto motion = motionModelFrom(text(entry, "motion", where));
    if (!motion) malformed(where + ".motion: is not known");
    track.motion = *motion;
    const auto channel = channelFrom(text(entry, "channel", where));
    if (!channel) malformed(where + ".channel: is not known");
    track.channel = *channel;
    track.pattern_px = whole(entry, "pattern_px", where);
    track.search_px = whole(entry, "search_px", where);
    if (track.pattern_px < 5 || track.pattern_px > 101) malformed(where + ".pattern_px: has to be 5 to 101");
    if (track.search_px < track.pattern_px) malformed(where + ".search_px: is smaller than the pattern");
    track.driftLimit = number(entry, "drift_limit", where);
    track.referenceFrame = whole(entry, "reference_frame", where);
    track.startReason = word<EndReason>(entry, "start", kReasons, where);
    track.endReason = word<EndReason>(entry, "end", kReasons, where);
    if (entry.contains("pre_filter")) {
        const auto filter = preFilterFrom(text(entry, "pre_filter", where));
        if (!filter) malformed(where + ".pre_filter: is not known");
        track.preFilter = *filter;
    }
    track.pickUp = entry.value("pick_up", false);
    track.locked = entry.value("locked", false);
    track.hidden = entry.value("hidden", false);
    track.group = entry.value("group", std::string());
    track.colour = entry.value("colour", std::uint32_t(0));
    if (entry.contains("offset")) track.offset = vector2(entry["offset"], where + ".offset");
    if (entry.contains("outline")) {
        Polygon outline;
        for (const json& corner : list(entry, "outline", where)) outline.push_back(vector2(corner, where + ".outline"));
        track.outline = List<Eigen::Vector2d>(std::move(outline));
    }
    std::vector<Sample> samples;
    for (std::size_t k = 0; const json& value : list(entry, "samples", where)) {
        const std::string place = fmt::format("{}.samples[{}]", where, k++);
        if (!value.is_array() || (value.size() != 5 && value.size() != 7))
            malformed(place + ": has not 5 or 7 numbers");
        const double frame = number(value[0], place);
        if (frame != std::floor(frame) || std::abs(frame) > 1e9) malformed(place + ": its frame is not a whole number");
        const double marks = number(value[4], place);
        Sample sample{.frame = int(frame),
                      .at = {number(value[1], place), number(value[2], place)},
                      .score = number(value[3], place)};
        sample.tie = int(marks) & 1;
        sample.renewed = int(marks) & 2;
        sample.bridged = int(marks) & 4;
        const int lost = int(marks) >> 3;
        if (marks < 0 || lost >= int(kReasons.size())) malformed(place + ": its marks are not known");
        sample.lost = EndReason(lost);
        if (value.size() == 7) sample.carried = {float(number(value[5], place)), float(number(value[6], place))};
        if (!samples.empty() && sample.frame <= samples.back().frame)
            malformed(place + ": frames have to rise, each once");
        samples.push_back(sample);
    }
    track.samples = List<Sample>(std::move(samples));
    return track;
}

std::pair<int, int> twoFrames(const json& value, const std::string& where) {
    if (!value.is_array() || value.size() != 2) malformed(where + ": has not 2 frames");
    return {int(number(value[0], where)), int(number(value[1], where))};
}

json solveValue(const Shot& shot) {
    const Solve& solve = *shot.solve;
    json frames = json::array();
    for (const SolvedFrame& frame : solve.frames) {
        json matrix = json::array();
        for (int r = 0; r < 3; ++r)
            for (int c = 0; c < 4; ++c) matrix.push_back(frame.worldFromCamera.matrix()(r, c));
        frames.push_back({{"frame", frame.frame},
                          {"world_from_camera", matrix},
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
               {"key", shot.solvedKey}};
    if (solve.focalDeviation_mm) value["focal_deviation_mm"] = *solve.focalDeviation_mm;
    value["motion"] = kMotion[std::size_t(solve.motion)];
    value["reason"] = solve.reason;
    value["noise_px"] = solve.noise_px;
    if (solve.zoom) value["zoom"] = {{"k1_slope", solve.k1Slope}};
    if (solve.focalRange_mm) value["focal_range_mm"] = {solve.focalRange_mm->first, solve.focalRange_mm->second};
    value["lens_deviation"] = {{"k1", solve.k1Deviation},
                               {"k2", solve.k2Deviation},
                               {"cx", solve.axisDeviation_px.x()},
                               {"cy", solve.axisDeviation_px.y()}};
    if (solve.duplicates > 0) value["duplicates"] = solve.duplicates;
    if (solve.inMetres) value["in_metres"] = true;
    if (!solve.doubt.empty()) value["doubt"] = solve.doubt;
    return value;
}

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

std::shared_ptr<const Solve> takeSolve(const json& value) {
    auto solve = std::make_shared<Solve>();
    solve->lens = takeLensValues(member(value, "lens", "solve"), "solve.lens");
    solve->sensorWidth_mm = number(value, "sensor_width_mm", "solve");
    std::vector<SolvedFrame> frames;
    for (std::size_t i = 0; const json& entry : list(value, "frames", "solve")) {
        const std::string where = fmt::format("solve.frames[{}]", i++);
        SolvedFrame frame;
        frame.frame = whole(entry, "frame", where);
        const json& matrix = list(entry, "world_from_camera", where);
        if (matrix.size() != 12) malformed(where + ".world_from_camera: has not 12 numbers");
        for (int r = 0; r < 3; ++r)
            for (int c = 0; c < 4; ++c)
                frame.worldFromCamera.matrix()(r, c) = number(matrix[std::size_t(r * 4 + c)], where);
        const Eigen::Matrix3d rotation = frame.worldFromCamera.linear();
        if (!(rotation * rotation.transpose()).isIdentity(1e-4))
            malformed(where + ".world_from_camera: is no rotation");
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
    if (frames.empty()) malformed("solve.frames: the list is empty");
    std::vector<SolvedTrack> tracks;
    for (std::size_t i = 0; const json& entry : list(value, "tracks", "solve")) {
        const std::string where = fmt::format("solve.tracks[{}]", i++);
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
    solve->frames = List<SolvedFrame>(std::move(frames));
    solve->tracks = List<SolvedTrack>(std::move(tracks));
    solve->rms_px = number(value, "rms_px", "solve");
    solve->heldOutRms_px = number(value, "held_out_rms_px", "solve");
    solve->used = whole(value, "used", "solve");
    solve->disagreed = whole(value, "disagreed", "solve");
    solve->heldOut = whole(value, "held_out", "solve");
    solve->medianAngleDegrees = number(value, "median_angle_degrees", "solve");
    if (value.contains("focal_deviation_mm")) solve->focalDeviation_mm = number(value, "focal_deviation_mm", "solve");
    const json& pair = list(value, "base_pair", "solve");
    if (pair.size() != 2) malformed("solve.base_pair: has not 2 frames");
    solve->basePair = {int(number(pair[0], "solve.base_pair")), int(number(pair[1], "solve.base_pair"))};
    if (value.contains("motion")) solve->motion = word<CameraMotion>(value, "motion", kMotion, "solve");
    solve->reason = value.value("reason", std::string());
    if (value.contains("noise_px")) solve->noise_px = number(value, "noise_px", "solve");
    if (value.contains("zoom")) {
        solve->zoom = true;
        solve->k1Slope = number(value["zoom"], "k1_slope", "solve.zoom");
    }
    if (value.contains("focal_range_mm")) {
        const json& range = list(value, "focal_range_mm", "solve");
        if (range.size() != 2) malformed("solve.focal_range_mm: has not 2 numbers");
        solve->focalRange_mm = {number(range[0], "solve.focal_range_mm"), number(range[1], "solve.focal_range_mm")};
    }
    if (value.contains("lens_deviation")) {
        const json& deviation = value["lens_deviation"];
        solve->k1Deviation = number(deviation, "k1", "solve.lens_deviation");
        solve->k2Deviation = number(deviation, "k2", "solve.lens_deviation");
        solve->axisDeviation_px = {number(deviation, "cx", "solve.lens_deviation"),
                                   number(deviation, "cy", "solve.lens_deviation")};
    }
    if (value.contains("duplicates")) solve->duplicates = whole(value, "duplicates", "solve");
    solve->inMetres = value.value("in_metres", false);
    solve->doubt = value.value("doubt", std::string());
    return solve;
}

List<TrackId> takeIds(const json& object, const char* name, const std::string& where) {
    std::vector<TrackId> ids;
    for (const json& id : list(object, name, where)) ids.push_back(TrackId(number(id, where + "." + name)));
    return List<TrackId>(std::move(ids));
}

json steadyValue(const SteadySettings& s) {
    const SteadyOptions& o = s.options;
    json value{{"steady", s.steady},
               {"source", kSources[std::size_t(s.source)]},
               {"tracks", s.tracks.vector()},
               {"corner_pin", s.cornerPin},
               {"motion", kPictureModels[std::size_t(s.model)]},
               {"reference_frame", s.referenceFrame},
               {"mode", kModes[std::size_t(o.mode)]},
               {"position", o.position},
               {"rotation", o.rotation},
               {"scale", o.scale},
               {"smoother", kSmoothers[std::size_t(o.smoother)]},
               {"smooth_frames", o.smooth_frames},
               {"leeway", o.leeway},
               {"fit", kFits[std::size_t(o.fit)]},
               {"crop_zoom", o.cropZoom},
               {"crop_centre", {o.cropCentre.x(), o.cropCentre.y()}},
               {"shake", s.shake},
               {"lend_position", s.lending.position},
               {"lend_rotation", s.lending.rotation},
               {"lend_scale", s.lending.scale},
               {"lend_fit", kFits[std::size_t(s.lending.fit)]},
               {"filter", toString(s.filter)},
               {"edges", toString(s.edges)},
               {"render_place", s.renderPlace}};
    if (s.profile) {
        json samples = json::array();
        for (const ShakeSample& sample : s.profile->samples)
            samples.push_back({sample.x, sample.y, sample.angleDegrees, sample.scale});
        value["profile"] = {
            {"name", s.profile->name}, {"above_hz", s.profile->above_hz}, {"samples", std::move(samples)}};
        putRate(value["profile"], s.profile->fps);
    }
    return value;
}

SteadySettings takeSteady(const json& value) {
    SteadySettings s;
    const std::string where = "steady";
    SteadyOptions& o = s.options;
    s.steady = flagOr(value, "steady", false, where);
    s.source = word<SteadySettings::Source>(value, "source", kSources, where);
    s.tracks = takeIds(value, "tracks", where);
    s.cornerPin = flagOr(value, "corner_pin", false, where);
    if (value.contains("motion")) s.model = word<PictureModel>(value, "motion", kPictureModels, where);
    s.referenceFrame = whole(value, "reference_frame", where);
    o.mode = word<SteadyOptions::Mode>(value, "mode", kModes, where);
    for (const auto& [name, target] : {std::pair<const char*, double*>{"position", &o.position},
                                       {"rotation", &o.rotation},
                                       {"scale", &o.scale},
                                       {"lend_position", &s.lending.position},
                                       {"lend_rotation", &s.lending.rotation},
                                       {"lend_scale", &s.lending.scale},
                                       {"smooth_frames", &o.smooth_frames},
                                       {"leeway", &o.leeway},
                                       {"crop_zoom", &o.cropZoom}})
        *target = number(value, name, where);
    o.smoother = word<SteadyOptions::Smoother>(value, "smoother", kSmoothers, where);
    o.fit = word<SteadyOptions::Fit>(value, "fit", kFits, where);
    o.cropCentre = vector2(member(value, "crop_centre", where), where + ".crop_centre");
    s.shake = flagOr(value, "shake", false, where);
    s.lending.fit = word<SteadyOptions::Fit>(value, "lend_fit", kFits, where);
    const auto filter = resampleFilterFrom(text(value, "filter", where));
    const auto edges = edgeModeFrom(text(value, "edges", where));
    if (!filter || !edges) malformed(where + ": filter or edges are not known");
    s.filter = *filter;
    s.edges = *edges;
    s.renderPlace = text(value, "render_place", where);
    if (value.contains("profile")) {
        const json& held = value["profile"];
        ShakeProfile profile{text(held, "name", "steady.profile"),
                             takeRate(held, "steady.profile"),
                             number(held, "above_hz", "steady.profile"),
                             {}};
        for (const json& sample : list(held, "samples", "steady.profile")) {
            if (!sample.is_array() || sample.size() != 4) malformed("steady.profile.samples: has not 4 numbers");
            profile.samples.push_back({number(sample[0], where), number(sample[1], where), number(sample[2], where),
                                       number(sample[3], where)});
        }
        s.profile = std::make_shared<const ShakeProfile>(std::move(profile));
    }
    return s;
}

List<Locator> takeLocators(const json& values) {
    std::vector<Locator> locators;
    for (std::size_t i = 0; const json& entry : values) {
        const std::string where = fmt::format("locators[{}]", i++);
        locators.push_back({text(entry, "name", where), takeIds(entry, "tracks", where),
                            whole(entry, "reference_frame", where),
                            word<MotionKind>(entry, "kind", kMotionKinds, where)});
    }
    return List<Locator>(std::move(locators));
}

FrameRange takeRange(const json& object, const char* name, const std::string& where) {
    const json& value = list(object, name, where);
    if (value.size() != 2) malformed(where + "." + name + ": has not 2 frames");
    const FrameRange range{int(number(value[0], where)), int(number(value[1], where))};
    if (range.last < range.first || range.count() > 10'000'000)
        malformed(where + "." + name + ": its last frame lies before its first");
    return range;
}

Shot takeShot(const json& document, const fs::path& file) {
    expectFormat(document, "pinion.shot", 1);
    Shot shot;
    shot.name = text(document, "name", "file");
    const json& plate = member(document, "plate", "file");
    shot.plate.path = text(plate, "path", "plate");
    if (shot.plate.isOpen()) {
        if (shot.plate.path.is_relative()) shot.plate.path = (file.parent_path() / shot.plate.path).lexically_normal();
        shot.plate.width = whole(plate, "width", "plate");
        shot.plate.height = whole(plate, "height", "plate");
        if (shot.plate.width < 1 || shot.plate.height < 1) malformed("plate: the size is not above 0");
        shot.plate.fps = takeRate(plate, "plate");
        shot.plate.times = takeTimes(plate, "plate");
        shot.plate.frames = takeRange(plate, "frames", "plate");
        shot.plate.range = takeRange(plate, "range", "plate");
        if (shot.plate.range.first < shot.plate.frames.first || shot.plate.range.last > shot.plate.frames.last)
            malformed("plate.range: reaches beyond the plate");
    }
    const json& scatter = member(document, "scatter", "file");
    ScatterSettings& s = shot.scatterSettings;
    s.features = whole(scatter, "features", "scatter");
    s.leastDistance_px = number(scatter, "least_distance_px", "scatter");
    s.threshold = number(scatter, "threshold", "scatter");
    s.pattern_px = whole(scatter, "pattern_px", "scatter");
    s.search_px = whole(scatter, "search_px", "scatter");
    s.driftLimit = number(scatter, "drift_limit", "scatter");
    const auto motion = motionModelFrom(text(scatter, "motion", "scatter"));
    const auto channel = channelFrom(text(scatter, "channel", "scatter"));
    if (!motion || !channel || s.features < 1 || s.features > 100000 || s.pattern_px < 5 || s.pattern_px > 101 ||
        s.search_px < s.pattern_px)
        malformed("scatter: a setting is out of its range");
    s.motion = *motion;
    s.channel = *channel;
    if (scatter.contains("pre_filter"))
        s.preFilter = preFilterFrom(text(scatter, "pre_filter", "scatter")).value_or(PreFilter::none);
    const json& camera = member(document, "camera", "file");
    SolveSettings& c = shot.solveSettings;
    c.sensorWidth_mm = number(camera, "sensor_width_mm", "camera");
    c.focal = word<Knowledge>(camera, "focal", kKnowledge, "camera");
    c.focal_mm = number(camera, "focal_mm", "camera");
    c.focalTrust_mm = number(camera, "focal_trust_mm", "camera");
    c.distortion = word<SolveOptions::Distortion>(camera, "distortion", kDistortion, "camera");
    if (camera.contains("lens")) c.lens = takeLensValues(camera["lens"], "camera.lens");
    if (camera.contains("axis")) c.axis = word<SolveOptions::Axis>(camera, "axis", kAxis, "camera");
    if (camera.contains("motion")) c.motion = word<CameraMotion>(camera, "motion", kMotion, "camera");
    if (camera.contains("zoom")) c.zoom = camera.value("zoom", false);
    if (camera.contains("squeeze")) c.squeeze = number(camera, "squeeze", "camera");
    if (!(c.squeeze > 0)) malformed("camera.squeeze: has to be above 0");
    if (camera.contains("base_pair")) c.basePair = twoFrames(camera["base_pair"], "camera.base_pair");
    takeMeasures(camera, c);
    if (!(c.sensorWidth_mm > 0) || !(c.focal_mm > 0))
        malformed("camera: sensor width and focal length have to be above 0");

    std::vector<Track> tracks;
    std::set<TrackId> ids;
    for (std::size_t i = 0; const json& entry : list(document, "tracks", "file")) {
        tracks.push_back(takeTrack(entry, fmt::format("tracks[{}]", i++)));
        if (!ids.insert(tracks.back().id).second) malformed(fmt::format("tracks[{}].id: is there twice", i - 1));
        shot.nextTrack = std::max(shot.nextTrack, tracks.back().id + 1);
    }
    shot.tracks = List<Track>(std::move(tracks));
    // An id is given once: what was deleted may still be named by the solve.
    if (document.contains("next_track"))
        shot.nextTrack = std::max(shot.nextTrack, TrackId(key(document, "next_track", "file")));
    if (document.contains("mattes")) shot.mattes = List<Matte>(takeMattes(list(document, "mattes", "file"), "mattes"));
    if (document.contains("solve")) {
        shot.solve = takeSolve(document["solve"]);
        shot.solvedKey = key(document["solve"], "key", "solve");
    }
    const json& world = member(document, "world", "file");
    std::vector<TrackId> ground;
    for (const json& id : list(world, "ground", "world")) ground.push_back(TrackId(number(id, "world.ground")));
    shot.world.ground = List<TrackId>(std::move(ground));
    if (world.contains("origin")) shot.world.origin = TrackId(key(world, "origin", "world"));
    if (world.contains("measure")) {
        const json& measure = world["measure"];
        shot.world.measure =
            World::Measure{TrackId(key(measure, "from", "world.measure")), TrackId(key(measure, "to", "world.measure")),
                           number(measure, "length_m", "world.measure")};
    }
    std::vector<Deliverable> deliverables;
    for (std::size_t i = 0; const json& entry : list(document, "deliverables", "file")) {
        const std::string where = fmt::format("deliverables[{}]", i++);
        Deliverable d;
        d.name = text(entry, "name", where);
        d.kind = word<DeliverableKind>(entry, "kind", kKinds, where);
        d.format = word<DeliverableFormat>(entry, "format", kFormats, where);
        d.place = text(entry, "place", where);
        d.upAxis = text(entry, "up_axis", where) == "z" ? UpAxis::z : UpAxis::y;
        d.writtenKey = key(entry, "written_key", where);
        d.locator = entry.value("locator", std::string());
        if (entry.contains("transform")) {
            const json& t = entry["transform"];
            const auto origin = originFrom(text(t, "origin", where + ".transform"));
            if (!origin) malformed(where + ".transform.origin: is not known");
            d.transform = {*origin, t.value("inverse", false), t.value("position", true), t.value("rotation", true),
                           t.value("scale", true)};
        }
        deliverables.push_back(std::move(d));
    }
    shot.deliverables = List<Deliverable>(std::move(deliverables));
    if (document.contains("steady")) shot.steady = takeSteady(document["steady"]);
    if (document.contains("locators")) shot.locators = takeLocators(list(document, "locators", "file"));
    if (document.contains("delivery_folder")) shot.deliveryFolder = text(document, "delivery_folder", "file");
    return shot;
}

}  // namespace

std::string shotJson(const Shot& shot, const fs::path& file) {
    json document{{"format", "pinion.shot"}, {"version", 1}, {"name", shot.name}};
    json& plate = document["plate"];
    fs::path path = shot.plate.path;
    if (shot.plate.isOpen()) {
        std::error_code code;
        const fs::path folder = fs::absolute(file, code).parent_path();
        const fs::path relative = fs::absolute(path, code).lexically_relative(folder);
        path = !relative.empty() && *relative.begin() != ".." ? relative : fs::absolute(path, code);
    }
    plate["path"] = path.string();
    if (shot.plate.isOpen()) {
        plate["width"] = shot.plate.width;
        plate["height"] = shot.plate.height;
        putRate(plate, shot.plate.fps);
        putTimes(plate, shot.plate.times);
        plate["frames"] = {shot.plate.frames.first, shot.plate.frames.last};
        plate["range"] = {shot.plate.range.first, shot.plate.range.last};
    }
    const ScatterSettings& s = shot.scatterSettings;
    document["scatter"] = {{"features", s.features},
                           {"least_distance_px", s.leastDistance_px},
                           {"threshold", s.threshold},
                           {"pattern_px", s.pattern_px},
                           {"search_px", s.search_px},
                           {"motion", toString(s.motion)},
                           {"drift_limit", s.driftLimit},
                           {"channel", toString(s.channel)},
                           {"pre_filter", toString(s.preFilter)}};
    const SolveSettings& c = shot.solveSettings;
    document["camera"] = {{"sensor_width_mm", c.sensorWidth_mm},
                          {"focal", kKnowledge[std::size_t(c.focal)]},
                          {"focal_mm", c.focal_mm},
                          {"focal_trust_mm", c.focalTrust_mm},
                          {"distortion", kDistortion[std::size_t(c.distortion)]}};
    if (c.lens) document["camera"]["lens"] = lensValues(*c.lens);
    if (c.axis != SolveOptions::Axis::automatic) document["camera"]["axis"] = kAxis[std::size_t(c.axis)];
    if (c.motion) document["camera"]["motion"] = kMotion[std::size_t(*c.motion)];
    if (c.zoom) document["camera"]["zoom"] = *c.zoom;
    if (c.squeeze != 1.0) document["camera"]["squeeze"] = c.squeeze;
    if (c.basePair) document["camera"]["base_pair"] = {c.basePair->first, c.basePair->second};
    for (const KnownDistance& known : c.distances)
        document["camera"]["distances"].push_back(
            {{"tracks", {known.a, known.b}}, {"metres", known.metres}, {"trust", known.trust}});
    for (const KnownPlace& known : c.places)
        document["camera"]["places"].push_back(
            {{"track", known.track}, {"metres", vector3(known.metres)}, {"trust", known.trust}});
    if (!shot.mattes.isEmpty()) document["mattes"] = mattesValue(shot.mattes.vector());
    document["tracks"] = tracksValue(shot);
    document["next_track"] = shot.nextTrack;
    if (shot.solve) document["solve"] = solveValue(shot);
    json& world = document["world"];
    world["ground"] = shot.world.ground.vector();
    if (shot.world.origin) world["origin"] = *shot.world.origin;
    if (shot.world.measure)
        world["measure"] = {{"from", shot.world.measure->from},
                            {"to", shot.world.measure->to},
                            {"length_m", shot.world.measure->length_m}};
    if (!(shot.steady.tracks.isEmpty() && !shot.steady.changesPicture() && !shot.steady.profile &&
          shot.steady.options == SteadyOptions{} && shot.steady.model == PictureModel::automatic &&
          shot.steady.renderPlace.empty()))
        document["steady"] = steadyValue(shot.steady);
    for (const Locator& locator : shot.locators)
        document["locators"].push_back({{"name", locator.name},
                                        {"tracks", locator.tracks.vector()},
                                        {"reference_frame", locator.referenceFrame},
                                        {"kind", kMotionKinds[std::size_t(locator.kind)]}});
    json& deliverables = document["deliverables"] = json::array();
    for (const Deliverable& d : shot.deliverables) {
        json entry{{"name", d.name},
                   {"kind", kKinds[std::size_t(d.kind)]},
                   {"format", kFormats[std::size_t(d.format)]},
                   {"place", d.place},
                   {"up_axis", d.upAxis == UpAxis::z ? "z" : "y"},
                   {"written_key", d.writtenKey}};
        if (!d.locator.empty()) entry["locator"] = d.locator;
        if (const TransformOptions& t = d.transform; !(t == TransformOptions{}))
            entry["transform"] = {{"origin", toString(t.origin)},
                                  {"inverse", t.inverse},
                                  {"position", t.position},
                                  {"rotation", t.rotation},
                                  {"scale", t.scale}};
        deliverables.push_back(std::move(entry));
    }
    if (!shot.deliveryFolder.empty()) document["delivery_folder"] = shot.deliveryFolder;
    return dumped(document) + "\n";
}

Expected<Shot> parseShot(const std::string& contents, const fs::path& file) {
    return parseText(contents, file.string(), [&](const json& document) { return takeShot(document, file); });
}

Expected<void> saveShot(const Shot& shot, const fs::path& file) { return writeFile(file, shotJson(shot, file)); }

Expected<Shot> loadShot(const fs::path& file) {
    const auto contents = readFile(file);
    if (!contents) return tl::unexpected(contents.error());
    return parseShot(*contents, file);
}

}  // namespace pinion
