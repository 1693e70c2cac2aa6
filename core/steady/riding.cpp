#include "steady/riding.h"

#include "steady/planemotion.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <mutex>

namespace pinion {
namespace {

constexpr double kHorizon = 0.02;  // of a place's depth: nearer to it a shape runs to infinity

MotionKind kindOf(std::size_t tracks) {
    return tracks == 1   ? MotionKind::position
           : tracks < 4  ? MotionKind::similarity
           : tracks == 4 ? MotionKind::cornerPin
                         : MotionKind::perspective;
}

/// All that a ride's motion depends on beside the tracks.
struct RideKey {
    Matte::Ride ride;
    std::vector<TrackId> locatorTracks;
    MotionKind locatorKind = MotionKind::position;
    std::string plane;  ///< that carries it, by itself or through a locator
    FrameRange range;
    bool operator==(const RideKey&) const = default;
};

/// Kept with a version of the tracks, or of the planes.
struct KnownRides {
    struct Kept {
        std::mutex mutex;
        std::vector<std::pair<RideKey, std::shared_ptr<const RideMotion>>> rides;
    };
    std::shared_ptr<Kept> kept = std::make_shared<Kept>();
};

template <class Item>
KnownRides::Kept& knownRides(const List<Item>& items) {
    return *items.template derived<KnownRides>([](const auto&) { return KnownRides{}; }).kept;
}

/// The planar track that a ride is on, by itself or through a locator; empty: on none.
std::string planeOf(const Matte::Ride& ride, const Carriers& carriers) {
    if (ride.on == Matte::Ride::On::plane) return ride.plane;
    if (ride.on == Matte::Ride::On::locator)
        for (const Locator& locator : carriers.locators)
            if (locator.name == ride.locator) return locator.plane;
    return {};
}

RideKey keyOf(const Matte::Ride& ride, const Carriers& carriers) {
    RideKey key{ride, {}, MotionKind::position, planeOf(ride, carriers), carriers.range};
    for (const Locator& locator : carriers.locators)
        if (ride.on == Matte::Ride::On::locator && locator.name == ride.locator) {
            key.locatorTracks = locator.tracks.vector();
            key.locatorKind = locator.kind;
        }
    return key;
}

struct Carrying {
    std::vector<Track> tracks;
    MotionKind kind = MotionKind::position;
};

/// The tracks a ride names, one and all.
Expected<Carrying> carryingTracks(const Matte::Ride& ride, const Carriers& carriers) {
    Carrying found;
    if (ride.on == Matte::Ride::On::locator) {
        const auto locator = std::find_if(carriers.locators.begin(), carriers.locators.end(),
                                          [&](const Locator& one) { return one.name == ride.locator; });
        if (locator == carriers.locators.end())
            return failure(Fault::input, "rides on the locator {}, and there is no such locator", ride.locator);
        for (const TrackId id : locator->tracks) {
            const auto track = std::find_if(carriers.tracks.begin(), carriers.tracks.end(),
                                            [id](const Track& one) { return one.id == id; });
            if (track == carriers.tracks.end())
                return failure(Fault::input, "rides on the locator {}, whose track is gone", ride.locator);
            found.tracks.push_back(*track);
        }
        found.kind = locator->kind;
        return found;
    }
    std::map<std::string_view, const Track*> byName;
    for (const Track& track : carriers.tracks) byName.try_emplace(track.name, &track);
    for (const std::string& name : ride.tracks) {
        const auto track = byName.find(name);
        if (track == byName.end()) return failure(Fault::input, "rides on {}, and there is no such track", name);
        found.tracks.push_back(*track->second);
    }
    found.kind = kindOf(found.tracks.size());
    return found;
}

Expected<PlateMotion> motionOfRide(const Matte::Ride& ride, const Carriers& carriers) {
    // The reference frame's own motion is needed though it may lie outside.
    const FrameRange whole{std::min(carriers.range.first, ride.referenceFrame),
                           std::max(carriers.range.last, ride.referenceFrame)};
    if (const std::string name = planeOf(ride, carriers); !name.empty()) {
        if (const PlanarTrack* plane = planeCarrying(ride, carriers))
            return motionOf(*plane, ride.referenceFrame, whole);
        return failure(Fault::input, "rides on the plane {}, and there is no such plane", name);
    }
    if (ride.on == Matte::Ride::On::picture) {
        std::vector<Track> counting;
        for (const Track& track : carriers.tracks)
            if (!track.setAside) counting.push_back(track);
        return pictureMotionOf(counting, ride.referenceFrame, whole);
    }
    const auto carrying = carryingTracks(ride, carriers);
    if (!carrying) return tl::unexpected(carrying.error());
    const auto& tracks = carrying->tracks;
    const bool allOnReference = std::all_of(tracks.begin(), tracks.end(),
                                            [&](const Track& track) { return sampleAt(track, ride.referenceFrame); });
    if (carrying->kind == MotionKind::perspective && !allOnReference)
        return pictureMotionOf(tracks, ride.referenceFrame, whole, PictureModel::similarity);
    return motionOf(tracks, ride.referenceFrame, whole, carrying->kind);
}

RideMotion madeRideMotion(const Matte::Ride& ride, const Carriers& carriers) {
    RideMotion made;
    auto motion = motionOfRide(ride, carriers);
    if (!motion) {
        made.problem = motion.error().message;
        return made;
    }
    made.motion = std::move(*motion);
    for (int frame = carriers.range.first; frame <= carriers.range.last; ++frame)
        if (!made.motion.at(frame)) made.missing.push_back(frame);
    return made;
}

bool isQuick(const Matte::Ride& ride) { return ride.on != Matte::Ride::On::picture && ride.tracks.size() <= 4; }

std::shared_ptr<const RideMotion> knownRide(KnownRides::Kept& kept, const RideKey& key) {
    const std::lock_guard lock(kept.mutex);
    for (const auto& [known, motion] : kept.rides)
        if (known == key) return motion;
    return nullptr;
}

Expected<Matte> carriedMatte(const Matte& matte, const RideMotion& ride, const FrameRange& range) {
    Matte baked = matte;
    baked.ride.reset();
    baked.between = Matte::Between::linear;
    baked.keys.clear();
    for (int frame = range.first; frame <= range.last; ++frame) {
        const Eigen::Matrix3d plateFromReference = ride.plateFromReference(frame);
        const auto shape = shapeAt(matte, frame);
        if (!shape) break;
        Matte::Key key{frame, flattened(*shape), {}, {}, flattenedFeather(*shape)};
        for (Eigen::Vector2d& p : key.polygon) {
            const Eigen::Vector3d at = plateFromReference * p.homogeneous();
            if (!(at.z() > kHorizon * std::abs(plateFromReference(2, 2))))
                return failure(Fault::outcome,
                               "reaches the horizon of its tracks' perspective on frame {}; draw it smaller, or let it "
                               "ride on fewer tracks",
                               frame);
            p = at.hnormalized();
        }
        baked.keys.push_back(std::move(key));
    }
    return baked;
}

/// The same motion told from another frame.
RideMotion rebased(const RideMotion& base, int referenceFrame) {
    RideMotion result = base;
    const Eigen::Matrix3d baseFromReference = base.plateFromReference(referenceFrame).inverse();
    for (FrameMotion& frame : result.motion.frames) frame.plateFromReference *= baseFromReference;
    result.motion.referenceFrame = referenceFrame;
    return result;
}

/// The whole picture's motion is worked out once, from the first frame of the range, whatever frame it is told from.
Matte::Ride baseOf(Matte::Ride ride, const Carriers& carriers) {
    if (ride.on == Matte::Ride::On::picture) ride.referenceFrame = carriers.range.first;
    return ride;
}

std::shared_ptr<const RideMotion> kept(KnownRides::Kept& rides, const RideKey& key, RideMotion motion) {
    auto made = std::make_shared<const RideMotion>(std::move(motion));
    const std::lock_guard lock(rides.mutex);
    rides.rides.emplace_back(key, made);
    return made;
}

}  // namespace

std::string wordsOf(const Matte::Ride& ride) {
    using On = Matte::Ride::On;
    if (ride.on == On::picture) return "the whole picture";
    if (ride.on == On::locator) return "the locator " + ride.locator;
    if (ride.on == On::plane) return ride.plane;
    if (ride.tracks.size() > 2) return fmt::format("{} tracks", ride.tracks.size());
    if (ride.tracks.empty()) return "nothing";
    return ride.tracks.front() + (ride.tracks.size() == 2 ? " and " + ride.tracks.back() : std::string());
}

const PlanarTrack* planeCarrying(const Matte::Ride& ride, const Carriers& carriers) {
    const std::string name = planeOf(ride, carriers);
    for (const PlanarTrack& plane : carriers.planes)
        if (!name.empty() && plane.name == name) return &plane;
    return nullptr;
}

Eigen::Matrix3d RideMotion::plateFromReference(int frame) const {
    if (motion.frames.empty()) return Eigen::Matrix3d::Identity();
    const auto nearest =
        std::min_element(motion.frames.begin(), motion.frames.end(), [&](const FrameMotion& a, const FrameMotion& b) {
            return std::abs(a.frame - frame) < std::abs(b.frame - frame);
        });
    return nearest->plateFromReference;
}

std::string gapNote(const Matte& matte, const RideMotion& motion) {
    std::vector<int> missing;
    for (const int frame : motion.missing)
        if (isThere(matte, frame)) missing.push_back(frame);
    return missing.empty() ? std::string()
                           : fmt::format(
                                 "what it rides on is not there on {}: it stays where it was on the nearest "
                                 "frame",
                                 frameRanges(missing));
}

std::shared_ptr<const RideMotion> rideMotion(const Matte::Ride& ride, const Carriers& carriers) {
    if (auto known = quickRideMotion(ride, carriers)) return known;
    KnownRides::Kept& rides = knownRides(carriers.tracks);
    const Matte::Ride base = baseOf(ride, carriers);
    auto made = kept(rides, keyOf(base, carriers), madeRideMotion(base, carriers));
    return base == ride ? made : quickRideMotion(ride, carriers);
}

std::shared_ptr<const RideMotion> quickRideMotion(const Matte::Ride& ride, const Carriers& carriers) {
    const RideKey key = keyOf(ride, carriers);
    const bool isOnPlane = !key.plane.empty();
    KnownRides::Kept& rides = isOnPlane ? knownRides(carriers.planes) : knownRides(carriers.tracks);
    if (auto known = knownRide(rides, key)) return known;
    if (isOnPlane || isQuick(ride)) return kept(rides, key, madeRideMotion(ride, carriers));
    const Matte::Ride base = baseOf(ride, carriers);
    const auto known = base == ride ? nullptr : knownRide(rides, keyOf(base, carriers));
    return known ? kept(rides, key, rebased(*known, ride.referenceFrame)) : nullptr;
}

std::optional<Matte::Key> riddenShape(const Matte& matte, int frame, const RideMotion* motion) {
    auto shape = shapeAt(matte, frame);
    if (!shape || !matte.ride || !motion) return shape;
    return carried(motion->plateFromReference(frame), *std::move(shape));
}

Expected<std::vector<Matte>> ridden(std::vector<Matte> mattes, const Carriers& carriers, const FrameRange& range,
                                    std::vector<std::string>* notes) {
    for (Matte& matte : mattes) {
        if (!matte.ride) continue;
        const auto motion = rideMotion(*matte.ride, carriers);
        auto placed = motion->problem.empty() ? carriedMatte(matte, *motion, range)
                                              : Expected<Matte>(failure(Fault::input, "{}", motion->problem));
        if (!placed) {
            const std::string words = fmt::format("shape {}: {}", matte.name, placed.error().message);
            if (!notes) return failure(placed.error().fault, "{}", words);
            notes->push_back(words);
            matte.ride.reset();
            continue;
        }
        if (const std::string note = gapNote(matte, *motion); notes && !note.empty())
            notes->push_back(fmt::format("shape {}: {}", matte.name, note));
        matte = std::move(*placed);
    }
    return mattes;
}

}  // namespace pinion
