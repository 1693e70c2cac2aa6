#include "shot/shot.h"

#include "base/units.h"

#include <algorithm>
#include <bit>
#include <functional>
#include <set>
#include <unordered_map>

namespace pinion {
namespace {

using Eigen::Vector2d;

/// FNV-1a over the values that count.
class Fingerprint {
public:
    Fingerprint& add(std::uint64_t value) {
        for (int i = 0; i < 8; ++i) {
            state_ ^= (value >> (8 * i)) & 0xFF;
            state_ *= 1099511628211ULL;
        }
        return *this;
    }
    Fingerprint& add(double value) { return add(std::bit_cast<std::uint64_t>(value)); }
    Fingerprint& add(int value) { return add(std::uint64_t(std::int64_t(value))); }
    /// Never 0, which stands for "never done".
    std::uint64_t value() const { return state_ == 0 ? 1 : state_; }

private:
    std::uint64_t state_ = 14695981039346656037ULL;
};

void addTracks(Fingerprint& print, const List<Track>& tracks, bool withSetAside) {
    for (const Track& track : tracks) {
        if (track.setAside && !withSetAside) continue;
        print.add(std::uint64_t(track.id)).add(int(track.samples.size()));
        for (const Sample& sample : track.samples) print.add(sample.frame).add(sample.at.x()).add(sample.at.y());
    }
}

Shot withTrackEdited(const Shot& shot, TrackId id, const std::function<void(Track&)>& edit) {
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](std::vector<Track>& tracks) {
        for (Track& track : tracks)
            if (track.id == id) edit(track);
    });
    return result;
}

}  // namespace

PlateRef plateRef(const PlateFacts& facts) {
    const FrameRange all{facts.firstFrame, facts.lastFrame};
    return {facts.path, facts.width, facts.height, facts.fps, all, all};
}

Shot shotOf(const PlateFacts& facts) {
    Shot shot;
    shot.plate = plateRef(facts);
    std::string name = facts.path.stem().string();
    if (const auto cut = name.find_first_of("#%"); cut != std::string::npos) name = name.substr(0, cut);
    while (!name.empty() && (name.back() == '.' || name.back() == '_' || name.back() == '-')) name.pop_back();
    shot.name = name.empty() ? "shot" : name;
    shot.deliverables = List<Deliverable>({
        {"camera for CG", DeliverableKind::camera, DeliverableFormat::usda, shot.name + ".usda"},
        {"camera data", DeliverableKind::camera, DeliverableFormat::json, shot.name + ".camera.json"},
        {"tracks", DeliverableKind::tracks, DeliverableFormat::json, shot.name + ".tracks.json"},
        {"tracks as a table", DeliverableKind::tracks, DeliverableFormat::csv, shot.name + ".tracks.csv"},
        {"ST maps", DeliverableKind::stMaps, DeliverableFormat::exr, "stmaps"},
    });
    return shot;
}

Shot withPlate(const Shot& shot, const PlateFacts& facts) {
    Shot result = shot;
    const FrameRange range = shot.plate.range;
    result.plate = plateRef(facts);
    if (shot.plate.isOpen()) result.plate.range = {std::clamp(range.first, facts.firstFrame, facts.lastFrame), std::clamp(range.last, facts.firstFrame, facts.lastFrame)};
    return result;
}

Shot withRange(const Shot& shot, const FrameRange& range) {
    Shot result = shot;
    result.plate.range.first = std::clamp(std::min(range.first, range.last), shot.plate.frames.first, shot.plate.frames.last);
    result.plate.range.last = std::clamp(std::max(range.first, range.last), shot.plate.frames.first, shot.plate.frames.last);
    return result;
}

Shot withTrackAdded(const Shot& shot, int frame, const Vector2d& at, TrackId* id) {
    Shot result = shot;
    Track track;
    track.id = result.nextTrack++;
    std::set<std::string> names;
    for (const Track& other : shot.tracks) names.insert(other.name);
    for (int number = 1; track.name.empty(); ++number)
        if (const std::string name = fmt::format("p-{}", number); !names.contains(name)) track.name = name;
    track.byHand = true;
    track.motion = shot.scatterSettings.motion;
    track.channel = shot.scatterSettings.channel;
    track.pattern_px = shot.scatterSettings.pattern_px;
    track.search_px = shot.scatterSettings.search_px;
    track.driftLimit = shot.scatterSettings.driftLimit;
    track.referenceFrame = frame;
    track.samples = List<Sample>({{.frame = frame, .at = at, .tie = true}});
    if (id) *id = track.id;
    result.tracks = shot.tracks.edited([&](auto& tracks) { tracks.push_back(std::move(track)); });
    return result;
}

Shot withTrackMoved(const Shot& shot, TrackId id, int frame, const Vector2d& to) {
    return withTrackEdited(shot, id, [&](Track& track) {
        track.samples = track.samples.edited([&](std::vector<Sample>& samples) {
            const auto at = std::lower_bound(samples.begin(), samples.end(), frame, [](const Sample& s, int f) { return s.frame < f; });
            const Sample moved{.frame = frame, .at = to, .tie = true};
            if (at != samples.end() && at->frame == frame)
                *at = moved;
            else
                samples.insert(at, moved);
        });
    });
}

Shot withTracksRemoved(const Shot& shot, const std::vector<TrackId>& ids) {
    const std::set<TrackId> gone(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) { std::erase_if(tracks, [&](const Track& t) { return gone.contains(t.id); }); });
    return result;
}

Shot withSetAside(const Shot& shot, const std::vector<TrackId>& ids, bool aside) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track& track : tracks)
            if (meant.contains(track.id)) track.setAside = aside;
    });
    return result;
}

Shot withTrackRenamed(const Shot& shot, TrackId id, const std::string& name) {
    return withTrackEdited(shot, id, [&](Track& track) { track.name = name; });
}

Shot withScattered(const Shot& shot, const std::vector<Track>& scattered) {
    Shot result = shot;
    std::vector<Track> tracks;
    for (const Track& track : shot.tracks)
        if (track.byHand) tracks.push_back(track);
    for (Track track : scattered) {
        track.id = result.nextTrack++;
        tracks.push_back(std::move(track));
    }
    result.tracks = List<Track>(std::move(tracks));
    return result;
}

Shot withTracked(const Shot& shot, const std::vector<Track>& tracked) {
    std::unordered_map<TrackId, const Track*> byId;
    for (const Track& track : tracked) byId[track.id] = &track;
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track& track : tracks)
            if (const auto found = byId.find(track.id); found != byId.end()) {
                // Names and choices may have changed while the job ran; only what it found is taken.
                track.samples = found->second->samples;
                track.startReason = found->second->startReason;
                track.endReason = found->second->endReason;
            }
    });
    return result;
}

Shot withSolve(const Shot& shot, const Solve& solve, std::uint64_t solvedKey) {
    Shot result = shot;
    result.solve = std::make_shared<const Solve>(solve);
    result.solvedKey = solvedKey;
    return result;
}

Shot withWorld(const Shot& shot, const World& world) {
    Shot result = shot;
    result.world = world;
    return result;
}

const Track* findTrack(const Shot& shot, TrackId id) {
    for (const Track& track : shot.tracks)
        if (track.id == id) return &track;
    return nullptr;
}

const SolvedTrack* findSolved(const Shot& shot, TrackId id) {
    if (!shot.solve) return nullptr;
    for (const SolvedTrack& track : shot.solve->tracks)
        if (track.track == id) return &track;
    return nullptr;
}

std::vector<int> tracksPerFrame(const Shot& shot) {
    const FrameRange& range = shot.plate.range;
    std::vector<int> counts(std::size_t(std::max(0, range.count())), 0);
    for (const Track& track : shot.tracks) {
        if (track.setAside) continue;
        for (const Sample& sample : track.samples)
            if (range.holds(sample.frame)) ++counts[std::size_t(sample.frame - range.first)];
    }
    return counts;
}

std::uint64_t solveKey(const Shot& shot) {
    Fingerprint print;
    addTracks(print, shot.tracks, false);
    const SolveSettings& s = shot.solveSettings;
    print.add(s.sensorWidth_mm).add(int(s.focal)).add(int(s.distortion)).add(shot.plate.range.first).add(shot.plate.range.last);
    if (s.focal != Knowledge::unknown) print.add(s.focal_mm);
    if (s.focal == Knowledge::guessed) print.add(s.focalTrust_mm);
    if (s.basePair) print.add(s.basePair->first).add(s.basePair->second);
    return print.value();
}

std::uint64_t deliveryKey(const Shot& shot, const Deliverable& deliverable) {
    Fingerprint print;
    print.add(int(deliverable.kind)).add(int(deliverable.format)).add(int(deliverable.upAxis));
    for (char c : deliverable.place) print.add(int(c));
    if (deliverable.kind == DeliverableKind::tracks) {
        addTracks(print, shot.tracks, true);
        return print.value();
    }
    if (!shot.solve) return print.value();
    const Lens& lens = shot.solve->lens;
    print.add(lens.focal_px).add(lens.k1).add(lens.k2).add(lens.cx).add(lens.cy);
    if (deliverable.kind == DeliverableKind::camera) {
        const Orientation orientation = orientationOf(shot);
        print.add(orientation.scale);
        for (int i = 0; i < 3; ++i) print.add(orientation.translation[i]).add(orientation.rotation(i, 0)).add(orientation.rotation(i, 1));
        for (const SolvedFrame& frame : shot.solve->frames)
            for (int i = 0; i < 3; ++i) print.add(frame.worldFromCamera.translation()[i]);
    }
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
    options.lens = s.lens;
    options.basePair = s.basePair;
    return options;
}

ScatterOptions scatterOptionsOf(const Shot& shot, int startFrame) {
    const ScatterSettings& s = shot.scatterSettings;
    ScatterOptions options;
    options.candidates.features = s.features;
    options.candidates.leastDistance_px = s.leastDistance_px;
    options.candidates.threshold = s.threshold;
    options.pattern_px = s.pattern_px;
    options.search_px = s.search_px;
    options.motion = s.motion;
    options.driftLimit = s.driftLimit;
    options.channel = s.channel;
    options.range = shot.plate.range;
    options.startFrame = startFrame;
    options.mattes = shot.mattes.vector();
    return options;
}

Orientation orientationOf(const Shot& shot) {
    if (!shot.solve) return {};
    const auto orientation = orient(shot.world, *shot.solve);
    return orientation ? *orientation : Orientation{};
}

std::vector<StageReport> stagesOf(const Shot& shot, const std::vector<int>& missingFrames) {
    std::vector<StageReport> stages;
    StageReport plate{Stage::plate, StageState::empty, "none", ""};
    if (shot.plate.isOpen()) {
        plate.state = missingFrames.empty() ? StageState::done : StageState::attention;
        plate.number = fmt::format("{} frames · {:.5g} fps", shot.plate.range.count(), shot.plate.fps.perSecond());
        if (!missingFrames.empty())
            plate.message = fmt::format("{} frame{} missing: {}", missingFrames.size(), missingFrames.size() == 1 ? " is" : "s are", frameRanges(missingFrames));
    }
    stages.push_back(plate);

    StageReport tracks{Stage::tracks, StageState::empty, "none", ""};
    if (!shot.tracks.isEmpty()) {
        const auto aside = std::count_if(shot.tracks.begin(), shot.tracks.end(), [](const Track& t) { return t.setAside; });
        tracks.state = StageState::done;
        tracks.number = aside > 0 ? fmt::format("{} · {} set aside", shot.tracks.size(), aside) : fmt::format("{}", shot.tracks.size());
        const auto counts = tracksPerFrame(shot);
        std::vector<int> poor;
        for (std::size_t i = 0; i < counts.size(); ++i)
            if (counts[i] < kTrackFloor) poor.push_back(shot.plate.range.first + int(i));
        if (!poor.empty()) {
            tracks.state = StageState::attention;
            tracks.message = fmt::format("{} frame{} fewer than {} tracks: {}", poor.size(), poor.size() == 1 ? " has" : "s have", kTrackFloor, frameRanges(poor));
        }
    }
    stages.push_back(tracks);

    StageReport camera{Stage::camera, StageState::empty, "not solved", ""};
    if (shot.solve) {
        camera.state = StageState::done;
        camera.number = fmt::format("{:.2f} px · held out {:.2f}", shot.solve->rms_px, shot.solve->heldOutRms_px);
        if (shot.solvedKey != solveKey(shot)) {
            camera.state = StageState::stale;
            camera.message = "Tracks or settings changed since the solve. Solve again.";
        } else if (int(shot.solve->frames.size()) < shot.plate.range.count()) {
            std::vector<int> open;
            for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
                if (!solvedFrameAt(*shot.solve, frame)) open.push_back(frame);
            camera.state = StageState::attention;
            camera.message = fmt::format("Not solved: {}. Track more points there.", frameRanges(open));
        } else if (shot.solve->rms_px > 1.0) {
            camera.state = StageState::attention;
            camera.message = "The error is above 1 px. Set the worst tracks aside and solve again.";
        }
    }
    stages.push_back(camera);

    StageReport world{Stage::world, StageState::empty, "not set", ""};
    if (shot.world.isSet()) {
        world.state = StageState::done;
        world.number = fmt::format("{}{}", shot.world.ground.isEmpty() ? "no ground" : "ground", shot.world.measure ? " · metres" : " · no scale");
        if (shot.solve) {
            if (const auto orientation = orient(shot.world, *shot.solve); !orientation) {
                world.state = StageState::attention;
                world.message = orientation.error().message;
            }
        }
    }
    stages.push_back(world);

    StageReport delivery{Stage::delivery, StageState::empty, fmt::format("{} listed", shot.deliverables.size()), ""};
    std::size_t written = 0, stale = 0;
    for (const Deliverable& deliverable : shot.deliverables) {
        if (deliverable.writtenKey == 0) continue;
        (deliverable.writtenKey == deliveryKey(shot, deliverable) ? written : stale)++;
    }
    if (written + stale > 0) {
        delivery.state = stale > 0 ? StageState::stale : StageState::done;
        delivery.number = stale > 0 ? fmt::format("{} written · {} stale", written, stale) : fmt::format("{} written", written);
        if (stale > 0) delivery.message = "The shot changed since the delivery. Deliver again.";
    }
    stages.push_back(delivery);
    return stages;
}

}  // namespace pinion
