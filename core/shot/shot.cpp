#include "shot/shot.h"

#include "base/units.h"

#include <algorithm>
#include <bit>
#include <functional>
#include <numeric>
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

/// Kept with the samples: an edit of one track of thousands makes the sum of that one anew.
struct SamplesPrint {
    std::uint64_t value;
};
std::uint64_t printOf(const List<Sample>& samples) {
    return samples
        .derived<SamplesPrint>([](const std::vector<Sample>& all) {
            Fingerprint print;
            for (const Sample& sample : all) {
                print.add(sample.frame).add(sample.at.x()).add(sample.at.y());
                if (sample.carried != Eigen::Vector2f(0, 0))
                    print.add(double(sample.carried.x())).add(double(sample.carried.y()));
                if (sample.bridged) print.add(108);
            }
            return SamplesPrint{print.value()};
        })
        .value;
}

void addTracks(Fingerprint& print, const List<Track>& tracks, bool withSetAside) {
    for (const Track& track : tracks) {
        if (track.setAside && !withSetAside) continue;
        print.add(std::uint64_t(track.id)).add(int(track.samples.size())).add(printOf(track.samples));
    }
}

/// Where each is in its list, by id.
struct PlaceById {
    std::unordered_map<TrackId, std::size_t> places;
};
template <class Item, class IdOf>
const Item* findById(const List<Item>& items, TrackId id, const IdOf& idOf) {
    const auto& places = items
                             .template derived<PlaceById>([&](const std::vector<Item>& all) {
                                 PlaceById made;
                                 for (std::size_t i = 0; i < all.size(); ++i) made.places.emplace(idOf(all[i]), i);
                                 return made;
                             })
                             .places;
    const auto found = places.find(id);
    return found == places.end() ? nullptr : &items[found->second];
}

void addText(Fingerprint& print, const std::string& text) {
    print.add(int(text.size()));
    for (const char c : text) print.add(int(c));
}

void addLens(Fingerprint& print, const Lens& lens) {
    for (const double value :
         {lens.focal_px, lens.k1, lens.k2, lens.k3, lens.p1, lens.p2, lens.cx, lens.cy, lens.squeeze})
        print.add(value);
}

Shot withTrackEdited(const Shot& shot, TrackId id, const std::function<void(Track&)>& edit) {
    return withTracksEdited(shot, {id}, edit);
}

/// Gives names that no track of the shot has: "p-1" if it is free, else "p-1-2", ...
class FreeNames {
public:
    explicit FreeNames(const Shot& shot) {
        for (const Track& track : shot.tracks) taken_.insert(track.name);
    }
    std::string take(const std::string& wanted) {
        std::string name = wanted;
        for (int number = 2; !taken_.insert(name).second; ++number) name = fmt::format("{}-{}", wanted, number);
        return name;
    }

private:
    std::set<std::string> taken_;
};

std::vector<Track> tracksOf(const Shot& shot, const List<TrackId>& ids) {
    std::vector<Track> tracks;
    for (TrackId id : ids)
        if (const Track* track = findTrack(shot, id)) tracks.push_back(*track);
    return tracks;
}

}  // namespace

PlateRef plateRef(const PlateFacts& facts) {
    const FrameRange all{facts.firstFrame, facts.lastFrame};
    return {facts.path, facts.width, facts.height, facts.fps, facts.times, all, all};
}

Shot shotOf(const PlateFacts& facts) {
    Shot shot;
    shot.plate = plateRef(facts);
    // Pixels wider than high: the plate was squeezed by as much.
    if (std::abs(facts.pixelAspect - 1) > 0.001) shot.solveSettings.squeeze = 1 / facts.pixelAspect;
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
    if (shot.plate.isOpen())
        result.plate.range = {std::clamp(range.first, facts.firstFrame, facts.lastFrame),
                              std::clamp(range.last, facts.firstFrame, facts.lastFrame)};
    return result;
}

Shot withRange(const Shot& shot, const FrameRange& range) {
    Shot result = shot;
    result.plate.range.first =
        std::clamp(std::min(range.first, range.last), shot.plate.frames.first, shot.plate.frames.last);
    result.plate.range.last =
        std::clamp(std::max(range.first, range.last), shot.plate.frames.first, shot.plate.frames.last);
    return result;
}

Shot withTrackAdded(const Shot& shot, int frame, const Vector2d& at, TrackId* id) {
    Shot result = shot;
    Track track;
    track.id = result.nextTrack++;
    // What passes in front does not end a point that somebody chose.
    track.pickUp = true;
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
    track.preFilter = shot.scatterSettings.preFilter;
    track.referenceFrame = frame;
    track.samples = List<Sample>({{.frame = frame, .at = at, .tie = true}});
    if (id) *id = track.id;
    result.tracks = shot.tracks.edited([&](auto& tracks) { tracks.push_back(std::move(track)); });
    return result;
}

Shot withTrackMoved(const Shot& shot, TrackId id, int frame, const Vector2d& to) {
    return withTrackEdited(shot, id, [&](Track& track) {
        track.samples = track.samples.edited([&](std::vector<Sample>& samples) {
            const auto at = std::lower_bound(samples.begin(), samples.end(), frame,
                                             [](const Sample& s, int f) { return s.frame < f; });
            // The offset point stays where the pattern had carried it.
            const bool there = at != samples.end() && at->frame == frame;
            const Sample moved{.frame = frame,
                               .carried = there ? at->carried : Eigen::Vector2f(track.offset.cast<float>()),
                               .at = to,
                               .tie = true};
            if (at != samples.end() && at->frame == frame) *at = moved;
            else samples.insert(at, moved);
        });
    });
}

Shot withTracksEdited(const Shot& shot, const std::vector<TrackId>& ids, const std::function<void(Track&)>& edit,
                      bool evenLocked) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](std::vector<Track>& tracks) {
        for (Track& track : tracks)
            if (meant.contains(track.id) && (evenLocked || !track.locked)) edit(track);
    });
    return result;
}

Shot withTieRemoved(const Shot& shot, TrackId id, int frame) {
    return withTrackEdited(shot, id, [&](Track& track) {
        if (track.samples.size() < 2) return;
        track.samples = track.samples.edited(
            [&](auto& samples) { std::erase_if(samples, [&](const Sample& s) { return s.frame == frame && s.tie; }); });
        if (sampleAt(track, track.referenceFrame)) return;
        // The reference frame was it: the nearest other tie takes its place, else the first frame.
        track.referenceFrame = track.firstFrame();
        for (const Sample& sample : track.samples)
            if (sample.tie && (!sampleAt(track, track.referenceFrame)->tie ||
                               std::abs(sample.frame - frame) < std::abs(track.referenceFrame - frame)))
                track.referenceFrame = sample.frame;
    });
}

Shot withReferenceRenewed(const Shot& shot, TrackId id, int frame) {
    return withTrackEdited(shot, id, [&](Track& track) {
        track.samples = track.samples.edited([&](auto& samples) {
            for (Sample& sample : samples)
                if (sample.frame == frame) sample.tie = sample.renewed = true;
        });
    });
}

Shot withTracksDuplicated(const Shot& shot, const std::vector<TrackId>& ids, std::vector<TrackId>* copies) {
    const std::set<TrackId> meant(ids.begin(), ids.end());
    Shot result = shot;
    FreeNames names(shot);
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (const Track& track : shot.tracks) {
            if (!meant.contains(track.id)) continue;
            Track copy = track;
            copy.id = result.nextTrack++;
            copy.name = names.take(track.name);
            copy.locked = false;
            if (copies) copies->push_back(copy.id);
            tracks.push_back(std::move(copy));
        }
    });
    return result;
}

Shot withTracksJoined(const Shot& shot, TrackId first, TrackId second) {
    const Track* other = findTrack(shot, second);
    if (!other || first == second) return shot;
    return withTracksRemoved(withTrackEdited(shot, first, [other](Track& track) { track = joined(track, *other); }),
                             {second});
}

Shot withTracksTrimmed(const Shot& shot, const std::vector<TrackId>& ids, const FrameRange& range) {
    return withTracksEdited(shot, ids, [&](Track& track) {
        List<Sample> kept = track.samples.edited(
            [&](auto& samples) { std::erase_if(samples, [&](const Sample& s) { return !range.holds(s.frame); }); });
        if (kept.isEmpty()) return;
        if (kept.size() != track.samples.size()) {
            if (kept.front().frame != track.samples.front().frame) track.startReason = EndReason::none;
            if (kept.back().frame != track.samples.back().frame) track.endReason = EndReason::none;
        }
        track.samples = kept;
        if (!sampleAt(track, track.referenceFrame))
            track.referenceFrame = std::clamp(track.referenceFrame, track.firstFrame(), track.lastFrame());
        if (!sampleAt(track, track.referenceFrame)) track.referenceFrame = track.firstFrame();
    });
}

Shot withTracksImported(const Shot& shot, const std::vector<Track>& imported, std::vector<TrackId>* ids) {
    Shot result = shot;
    FreeNames names(shot);
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track track : imported) {
            track.id = result.nextTrack++;
            track.byHand = true;
            track.name = names.take(track.name);
            if (ids) ids->push_back(track.id);
            tracks.push_back(std::move(track));
        }
    });
    return result;
}

Shot withLocatorAdded(const Shot& shot, const std::vector<TrackId>& ids, int referenceFrame, MotionKind kind) {
    Shot result = shot;
    const Track* first = ids.empty() ? nullptr : findTrack(shot, ids.front());
    Locator locator;
    const std::string wanted = first ? first->name : "locator";
    for (int number = 1; locator.name.empty() || findLocator(shot, locator.name); ++number)
        locator.name = number == 1 ? "on " + wanted : fmt::format("on {} {}", wanted, number);
    locator.tracks = List<TrackId>(ids);
    locator.referenceFrame = referenceFrame;
    locator.kind = kind;
    std::string file = locator.name;
    std::replace(file.begin(), file.end(), ' ', '-');
    result.deliverables = shot.deliverables.edited([&](auto& list) {
        const bool pin = kind == MotionKind::cornerPin;
        for (const DeliverableFormat format : {DeliverableFormat::json, DeliverableFormat::csv}) {
            Deliverable item;
            item.name = fmt::format("{} {}{}", locator.name, pin ? "corner pin" : "transform",
                                    format == DeliverableFormat::csv ? " as a table" : "");
            item.kind = pin ? DeliverableKind::cornerPin : DeliverableKind::transforms;
            item.format = format;
            item.locator = locator.name;
            item.place = fmt::format("{}.{}.{}.{}", shot.name, file, pin ? "cornerpin" : "transforms",
                                     format == DeliverableFormat::csv ? "csv" : "json");
            list.push_back(std::move(item));
        }
    });
    result.locators = shot.locators.edited([&](auto& list) { list.push_back(std::move(locator)); });
    return result;
}

Shot withTracksRemoved(const Shot& shot, const std::vector<TrackId>& ids) {
    const std::set<TrackId> gone(ids.begin(), ids.end());
    Shot result = shot;
    result.tracks = shot.tracks.edited(
        [&](auto& tracks) { std::erase_if(tracks, [&](const Track& t) { return gone.contains(t.id) && !t.locked; }); });
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
        if (track.byHand || track.locked) tracks.push_back(track);
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
    return findById(shot.tracks, id, [](const Track& track) { return track.id; });
}

const SolvedTrack* findSolved(const Shot& shot, TrackId id) {
    if (!shot.solve) return nullptr;
    return findById(shot.solve->tracks, id, [](const SolvedTrack& track) { return track.track; });
}

std::vector<int> tracksPerFrame(const Shot& shot) {
    const FrameRange& range = shot.plate.range;
    // Where tracks begin and end, summed up; only gaps are looked at frame by frame.
    std::vector<int> counts(std::size_t(std::max(0, range.count())) + 1, 0);
    const auto add = [&](int first, int last) {
        first = std::max(first, range.first);
        last = std::min(last, range.last);
        if (first > last) return;
        ++counts[std::size_t(first - range.first)];
        --counts[std::size_t(last - range.first) + 1];
    };
    for (const Track& track : shot.tracks) {
        if (track.setAside || track.samples.isEmpty()) continue;
        if (track.lastFrame() - track.firstFrame() + 1 == int(track.samples.size()))
            add(track.firstFrame(), track.lastFrame());
        else
            for (const Sample& sample : track.samples) add(sample.frame, sample.frame);
    }
    std::partial_sum(counts.begin(), counts.end(), counts.begin());
    counts.pop_back();
    return counts;
}

std::uint64_t solveKey(const Shot& shot) {
    Fingerprint print;
    addTracks(print, shot.tracks, false);
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
    if (s.distortion == SolveOptions::Distortion::known && s.lens) addLens(print.add(109), *s.lens);
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

std::uint64_t steadyKey(const Shot& shot) {
    Fingerprint print;
    const SteadySettings& s = shot.steady;
    const SteadyOptions& o = s.options;
    if (s.model != PictureModel::automatic) print.add(110).add(int(s.model));
    print.add(int(s.steady))
        .add(int(s.source))
        .add(int(s.cornerPin))
        .add(steadyReference(shot))
        .add(shot.plate.range.first)
        .add(shot.plate.range.last);
    print.add(int(o.mode))
        .add(o.position)
        .add(o.rotation)
        .add(o.scale)
        .add(int(o.smoother))
        .add(o.smooth_frames)
        .add(o.leeway)
        .add(int(o.fit));
    print.add(o.cropZoom).add(o.cropCentre.x()).add(o.cropCentre.y());
    print.add(int(s.shake))
        .add(s.lending.position)
        .add(s.lending.rotation)
        .add(s.lending.scale)
        .add(int(s.lending.fit));
    if (s.shake && s.profile) {
        print.add(std::uint64_t(s.profile->samples.size()));
        for (const ShakeSample& sample : s.profile->samples)
            print.add(sample.x).add(sample.y).add(sample.angleDegrees).add(sample.scale);
    }
    print.add(shot.plate.width).add(shot.plate.height).add(shot.plate.fps.perSecond());
    for (TrackId id : s.tracks) print.add(std::uint64_t(id));
    if (s.steady) {
        if (s.source == SteadySettings::Source::allTracks) addTracks(print, shot.tracks, false);
        else addTracks(print, List<Track>(tracksOf(shot, s.tracks)), true);
    }
    return print.value();
}

std::uint64_t deliveryKey(const Shot& shot, const Deliverable& deliverable) {
    Fingerprint print;
    print.add(int(deliverable.kind)).add(int(deliverable.format)).add(int(deliverable.upAxis));
    const TransformOptions& t = deliverable.transform;
    if (!(t == TransformOptions{}))
        print.add(int(t.origin)).add(int(t.inverse)).add(int(t.position)).add(int(t.rotation)).add(int(t.scale));
    for (char c : deliverable.place) print.add(int(c));
    if (deliverable.kind == DeliverableKind::transforms || deliverable.kind == DeliverableKind::cornerPin) {
        if (const Locator* locator = findLocator(shot, deliverable.locator)) {
            print.add(locator->referenceFrame)
                .add(int(locator->kind))
                .add(shot.plate.range.first)
                .add(shot.plate.range.last)
                .add(int(shot.plate.fps.numerator))
                .add(int(shot.plate.fps.denominator));
            addText(print, locator->name);
            addTracks(print, List<Track>(tracksOf(shot, locator->tracks)), true);
        }
        return print.value();
    }
    print.add(int(shot.plate.fps.numerator)).add(int(shot.plate.fps.denominator));
    if (deliverable.kind == DeliverableKind::tracks) {
        addTracks(print, shot.tracks, true);
        for (const Track& track : shot.tracks) addText(print, track.name);
        return print.value();
    }
    if (!shot.solve) return print.value();
    addLens(print, shot.solve->lens);
    print.add(shot.solve->sensorWidth_mm).add(shot.solve->k1Slope);
    if (shot.solve->zoom)
        for (const SolvedFrame& frame : shot.solve->frames) print.add(frame.focal_px);
    if (deliverable.kind == DeliverableKind::camera) {
        // The points carry the names of their tracks.
        for (const Track& track : shot.tracks) addText(print, track.name);
        const Orientation orientation = orientationOf(shot);
        print.add(orientation.scale);
        for (int i = 0; i < 3; ++i)
            print.add(orientation.translation[i]).add(orientation.rotation(i, 0)).add(orientation.rotation(i, 1));
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

const Locator* findLocator(const Shot& shot, const std::string& name) {
    for (const Locator& locator : shot.locators)
        if (locator.name == name) return &locator;
    return nullptr;
}

int steadyReference(const Shot& shot) {
    const int wanted = shot.steady.referenceFrame;
    return shot.plate.range.holds(wanted) ? wanted : shot.plate.range.first;
}

Expected<PlateMotion> locatorMotion(const Shot& shot, const Locator& locator) {
    const std::vector<Track> tracks = tracksOf(shot, locator.tracks);
    if (tracks.empty() || tracks.size() != locator.tracks.size())
        return failure(Fault::outcome, "locator {}: one of its tracks is gone; make it anew", locator.name);
    return motionOf(tracks, locator.referenceFrame, shot.plate.range, locator.kind);
}

Expected<PlateMotion> steadyMotion(const Shot& shot) {
    const SteadySettings& s = shot.steady;
    if (s.source == SteadySettings::Source::allTracks) {
        if (shot.tracks.isEmpty())
            return failure(Fault::outcome,
                           "there are no tracks to steady on; scatter features, or place one and track it");
        return pictureMotionOf(shot.tracks.vector(), steadyReference(shot), shot.plate.range, s.model);
    }
    const std::vector<Track> tracks = tracksOf(shot, s.tracks);
    if (tracks.empty())
        return failure(Fault::outcome,
                       "no track is chosen to steady on; select one or more and take them with \"Take selected\"");
    const MotionKind kind = s.cornerPin                                                  ? MotionKind::cornerPin
                            : tracks.size() == 1 || s.model == PictureModel::position    ? MotionKind::position
                            : tracks.size() >= 5 && s.model == PictureModel::perspective ? MotionKind::perspective
                                                                                         : MotionKind::similarity;
    return motionOf(tracks, steadyReference(shot), shot.plate.range, kind);
}

const FrameMap* PicturePlan::at(int frame) const {
    const auto found =
        std::lower_bound(frames.begin(), frames.end(), frame, [](const FrameMap& m, int f) { return m.frame < f; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

Expected<PicturePlan> picturePlan(const Shot& shot) {
    const SteadySettings& s = shot.steady;
    const int width = shot.plate.width, height = shot.plate.height;
    const bool lends = s.shake && s.profile;
    PicturePlan plan;
    if (s.steady) {
        auto motion = steadyMotion(shot);
        if (!motion) return tl::unexpected(motion.error());
        SteadyOptions options = s.options;
        // Both together are zoomed once, by what both need.
        if (lends && options.fit == SteadyOptions::Fit::fill) options.fit = SteadyOptions::Fit::none;
        const auto steady = planSteady(*motion, width, height, options);
        if (!steady) return tl::unexpected(steady.error());
        plan.frames = steady->frames;
        plan.zoom = steady->zoom;
        plan.fills = steady->fills;
        plan.note = blurNote(*steady);
        plan.motion = std::move(*motion);
    }
    if (lends) {
        ShakeLending lending = s.lending;
        if (s.steady) lending.fit = SteadyOptions::Fit::none;
        const auto shake = lendShake(*s.profile, shot.plate.range, shot.plate.fps, width, height, lending);
        if (!shake) return tl::unexpected(shake.error());
        plan.shake = shake->samples;
        if (!s.steady) {
            plan.frames = shake->frames;
            plan.zoom = shake->zoom;
            plan.fills = lending.fit == SteadyOptions::Fit::fill;
        } else {
            std::vector<FrameMap> both;
            for (const FrameMap& map : shake->frames)
                if (const FrameMap* steady = plan.at(map.frame))
                    both.push_back({map.frame, steady->sourceFromOutput * map.sourceFromOutput});
            plan.frames = std::move(both);
            if (s.options.fit == SteadyOptions::Fit::fill) {
                const auto zoom = fillZoom(plan.frames, width, height);
                if (!zoom) return failure(Fault::outcome, "no zoom fills the frame; lower the strength or the shake");
                plan.zoom = *zoom;
                applyZoom(plan.frames, plan.zoom, {width / 2.0, height / 2.0});
                plan.fills = true;
            }
        }
        if (shake->looped)
            plan.note +=
                fmt::format("{}the shake of {:.1f} s is looped", plan.note.empty() ? "" : "; ", s.profile->seconds());
        if (shake->cut)
            plan.note += fmt::format("{}the first part of a shake of {:.1f} s is used", plan.note.empty() ? "" : "; ",
                                     s.profile->seconds());
    }
    if (plan.frames.empty())
        return failure(Fault::outcome, "nothing is steadied and no shake is lent; turn one of them on");
    return plan;
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
    options.preFilter = s.preFilter;
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
            plate.message = fmt::format("{} frame{} missing: {}", missingFrames.size(),
                                        missingFrames.size() == 1 ? " is" : "s are", frameRanges(missingFrames));
    }
    stages.push_back(plate);

    StageReport tracks{Stage::tracks, StageState::empty, "none", ""};
    if (!shot.tracks.isEmpty()) {
        const auto aside =
            std::count_if(shot.tracks.begin(), shot.tracks.end(), [](const Track& t) { return t.setAside; });
        tracks.state = StageState::done;
        tracks.number = aside > 0 ? fmt::format("{} · {} set aside", shot.tracks.size(), aside)
                                  : fmt::format("{}", shot.tracks.size());
        const auto counts = tracksPerFrame(shot);
        std::vector<int> poor;
        for (std::size_t i = 0; i < counts.size(); ++i)
            if (counts[i] < kTrackFloor) poor.push_back(shot.plate.range.first + int(i));
        if (!poor.empty()) {
            tracks.state = StageState::attention;
            tracks.message = fmt::format("{} frame{} fewer than {} tracks: {}", poor.size(),
                                         poor.size() == 1 ? " has" : "s have", kTrackFloor, frameRanges(poor));
        }
    }
    stages.push_back(tracks);

    StageReport camera{Stage::camera, StageState::empty, "not solved", ""};
    if (shot.solve) {
        camera.state = StageState::done;
        camera.number = fmt::format("{:.2f} px · {}", shot.solve->rms_px, heldOutWords(*shot.solve, 2));
        if (shot.solvedKey != solveKey(shot)) {
            camera.state = StageState::stale;
            camera.message = "Tracks or settings changed since the solve. Solve again.";
        } else if (int(shot.solve->frames.size()) < shot.plate.range.count()) {
            std::vector<int> open;
            for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
                if (!solvedFrameAt(*shot.solve, frame)) open.push_back(frame);
            camera.state = StageState::attention;
            camera.message = fmt::format("Not solved: {}. Track more points there.", frameRanges(open));
        } else if (!shot.solve->doubt.empty()) {
            camera.state = StageState::attention;
            camera.message = fmt::format("Not sure: {}.", shot.solve->doubt);
        } else if (shot.solve->rms_px > 1.0) {
            camera.state = StageState::attention;
            camera.message = "The error is above 1 px. Set the worst tracks aside and solve again.";
        }
    }
    stages.push_back(camera);

    StageReport world{Stage::world, StageState::empty, "not set", ""};
    if (shot.world.isSet()) {
        world.state = StageState::done;
        world.number = fmt::format("{}{}", shot.world.ground.isEmpty() ? "no ground" : "ground",
                                   shot.world.measure ? " · metres" : " · no scale");
        if (shot.solve) {
            if (const auto orientation = orient(shot.world, *shot.solve); !orientation) {
                world.state = StageState::attention;
                world.message = orientation.error().message;
            }
        }
    }
    stages.push_back(world);

    StageReport steady{Stage::steady, StageState::empty, "—", ""};
    if (shot.steady.changesPicture()) {
        steady.state = StageState::done;
        steady.number =
            shot.steady.steady ? shot.steady.options.mode == SteadyOptions::Mode::hold ? "hold" : "ease" : "";
        if (shot.steady.shake && shot.steady.profile)
            steady.number += (steady.number.empty() ? "shake of " : " · shake of ") + shot.steady.profile->name;
    }
    stages.push_back(steady);

    StageReport delivery{Stage::delivery, StageState::empty, fmt::format("{} listed", shot.deliverables.size()), ""};
    std::size_t written = 0, stale = 0;
    for (const Deliverable& deliverable : shot.deliverables) {
        if (deliverable.writtenKey == 0) continue;
        (deliverable.writtenKey == deliveryKey(shot, deliverable) ? written : stale)++;
    }
    if (written + stale > 0) {
        delivery.state = stale > 0 ? StageState::stale : StageState::done;
        delivery.number =
            stale > 0 ? fmt::format("{} written · {} stale", written, stale) : fmt::format("{} written", written);
        if (stale > 0) delivery.message = "The shot changed since the delivery. Deliver again.";
    }
    stages.push_back(delivery);
    return stages;
}

}  // namespace pinion
