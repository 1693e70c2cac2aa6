#include "shot/edits/matteedits.h"

#include "matte/riding.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/names.h"
#include "shot/stages/mattesstage.h"

#include <Eigen/LU>
#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr int kFewestLeft = 4;      // frames that a track is good for
constexpr double kStays_px = 0.01;  // moved by less it has stayed

/// Puts a key into its place, for the one on its frame if there is one.
void putKey(Matte& matte, Matte::Key key) {
    auto place = std::find_if(matte.keys.begin(), matte.keys.end(),
                              [&](const Matte::Key& one) { return one.frame >= key.frame; });
    if (place != matte.keys.end() && place->frame == key.frame) *place = std::move(key);
    else matte.keys.insert(place, std::move(key));
}

Eigen::Matrix3d plateFromReference(const Shot& shot, const std::optional<Ride>& ride, int frame) {
    if (!ride) return Eigen::Matrix3d::Identity();
    return carrierOf(shot, *ride)->plateFromReference(frame);
}

double farthest(const Matte::Key& a, const Matte::Key& b) {
    double most = 0;
    const Polygon one = flattened(a), other = flattened(b);
    for (std::size_t i = 0; i < one.size() && i < other.size(); ++i) most = std::max(most, (one[i] - other[i]).norm());
    return most;
}

/// Its colours go round, so that neighbours differ.
constexpr std::uint32_t kColours[] = {0xD9A441, 0x7FB7BE, 0xB98AC9, 0x9DBB6E, 0xD98A76, 0x8FA3D9};

}  // namespace

Shot withMatteEdited(const Shot& shot, std::size_t matte, const std::function<void(Matte&)>& edit) {
    Shot result = shot;
    if (matte < shot.mattes.size()) result.mattes = shot.mattes.edited([&](auto& all) { edit(all[matte]); });
    return result;
}

Shot withMatteAdded(const Shot& shot, Matte matte) {
    Shot result = shot;
    matte.id = result.nextMatte++;
    matte.name = freeName(shot.mattes, matte.id, matte.name, "shape");
    if (matte.ride) matte.ride = tied(shot, *std::move(matte.ride));
    if (matte.colour == 0) matte.colour = kColours[shot.mattes.size() % std::size(kColours)];
    result.mattes = shot.mattes.edited([&](auto& all) { all.push_back(std::move(matte)); });
    return result;
}

Shot withMatteRenamed(const Shot& shot, std::size_t matte, const std::string& name) {
    if (matte >= shot.mattes.size()) return shot;
    const std::string free = freeName(shot.mattes, shot.mattes[matte].id, name, "shape");
    return withMatteEdited(shot, matte, [&](Matte& m) { m.name = free; });
}

Shot withMatteRemoved(const Shot& shot, std::size_t matte) {
    Shot result = shot;
    if (matte < shot.mattes.size())
        result.mattes = shot.mattes.edited([&](auto& all) { all.erase(all.begin() + std::ptrdiff_t(matte)); });
    return result;
}

Shot withMatteDuplicated(const Shot& shot, std::size_t matte) {
    Shot result = shot;
    if (matte >= shot.mattes.size()) return result;
    Matte copy = shot.mattes[matte];
    copy.id = result.nextMatte++;
    copy.name = freeName(shot.mattes, copy.id, copy.name, "shape");
    result.mattes =
        shot.mattes.edited([&](auto& all) { all.insert(all.begin() + std::ptrdiff_t(matte) + 1, std::move(copy)); });
    return result;
}

Shot withMatteMoved(const Shot& shot, std::size_t from, std::size_t to) {
    Shot result = shot;
    if (from >= shot.mattes.size() || to >= shot.mattes.size()) return result;
    result.mattes = shot.mattes.edited([&](auto& all) {
        Matte moved = std::move(all[from]);
        all.erase(all.begin() + std::ptrdiff_t(from));
        all.insert(all.begin() + std::ptrdiff_t(to), std::move(moved));
    });
    return result;
}

Shot withMatteShape(const Shot& shot, std::size_t matte, int frame, const Matte::Key& onPlate) {
    return withMatteEdited(shot, matte, [&](Matte& m) {
        Matte::Key key = onPlate;
        if (m.ride) key = carried(plateFromReference(shot, m.ride, frame).inverse(), std::move(key));
        key.frame = frame;
        putKey(m, std::move(key));
    });
}

Shot withMatteKeyRemoved(const Shot& shot, std::size_t matte, int frame) {
    return withMatteEdited(shot, matte, [&](Matte& m) {
        if (m.keys.size() > 1) std::erase_if(m.keys, [&](const Matte::Key& key) { return key.frame == frame; });
    });
}

Shot withMatteKeyMoved(const Shot& shot, std::size_t matte, int from, int to, bool copies) {
    return withMatteEdited(shot, matte, [&](Matte& m) {
        const Matte::Key* held = keyAt(m, from);
        if (!held || from == to) return;
        Matte::Key key = *held;
        key.frame = to;
        if (!copies) std::erase_if(m.keys, [&](const Matte::Key& one) { return one.frame == from; });
        putKey(m, std::move(key));
    });
}

Shot withMattePointAdded(const Shot& shot, std::size_t matte, std::size_t point, double t) {
    return withMatteEdited(shot, matte, [&](Matte& m) {
        for (Matte::Key& key : m.keys)
            if (point < key.polygon.size()) key = withPointAt(std::move(key), point, t);
    });
}

Shot withMattePointsRemoved(const Shot& shot, std::size_t matte, const std::vector<std::size_t>& points) {
    const std::set<std::size_t, std::greater<>> gone(points.begin(), points.end());
    return withMatteEdited(shot, matte, [&](Matte& m) {
        if (m.keys.empty() || m.keys.front().polygon.size() < gone.size() + 3) return;
        for (Matte::Key& key : m.keys)
            for (const std::size_t point : gone) {
                const auto erase = [point](auto& values) {
                    if (point < values.size()) values.erase(values.begin() + std::ptrdiff_t(point));
                };
                erase(key.polygon);
                erase(key.in);
                erase(key.out);
                erase(key.feather);
            }
    });
}

Shot withMattePointsSmooth(const Shot& shot, std::size_t matte, const std::vector<std::size_t>& points, bool smooth) {
    return withMatteEdited(shot, matte, [&](Matte& m) {
        for (Matte::Key& key : m.keys) {
            const std::size_t count = key.polygon.size();
            key.in.resize(count, Vector2d(0, 0));
            key.out.resize(count, Vector2d(0, 0));
            for (const std::size_t point : points) {
                if (point >= count) continue;
                const Vector2d &before = key.polygon[(point + count - 1) % count], &here = key.polygon[point],
                               &after = key.polygon[(point + 1) % count];
                const Vector2d along = smooth ? Vector2d((after - before).normalized()) : Vector2d(0, 0);
                key.in[point] = -along * (here - before).norm() / 3;
                key.out[point] = along * (after - here).norm() / 3;
            }
        }
    });
}

Shot withMatteThere(const Shot& shot, std::size_t matte, int frame, bool there) {
    return withMatteEdited(shot, matte, [&](Matte& m) { setThere(m.turns, frame, there); });
}

Shot withMatteRide(const Shot& shot, std::size_t matte, int frame, std::optional<Ride> ride) {
    if (matte >= shot.mattes.size()) return shot;
    const Matte& held = shot.mattes[matte];
    if (ride) ride->referenceFrame = referenceForRide(shot, *ride, frame);
    Matte changed = held;
    changed.ride = ride;
    const auto newKey = [&](const Matte::Key& key, int at) {
        const Eigen::Matrix3d from = plateFromReference(shot, held.ride, at), to = plateFromReference(shot, ride, at);
        Matte::Key moved = carried(to.inverse() * from, key);
        moved.frame = at;
        return moved;
    };
    for (Matte::Key& key : changed.keys) key = newKey(key, key.frame);
    if (const auto shown = shapeAt(held, frame)) {
        const Matte::Key wanted = newKey(*shown, frame);
        if (farthest(*shapeAt(changed, frame), wanted) > kStays_px) putKey(changed, wanted);
    }
    return withMatteEdited(shot, matte, [&](Matte& m) { m = changed; });
}

Shot withMatteBaked(const Shot& shot, std::size_t matte) {
    return withMatteEdited(shot, matte, [&](Matte& m) {
        if (!m.ride) return;
        const auto carrier = carrierOf(shot, *m.ride);
        std::vector<Matte::Key> keys;
        for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame)
            if (auto shape = riddenShape(m, frame, carrier.get())) keys.push_back(*std::move(shape));
        m.keys = std::move(keys);
        m.between = Matte::Between::linear;
        m.ride.reset();
    });
}

Shot withCoveredSetAside(const Shot& shot) {
    std::map<TrackId, std::set<int>> covered;
    for (const CoveredTrack& one : tracksInMattes(shot)) covered[one.track] = {one.frames.begin(), one.frames.end()};
    if (covered.empty()) return shot;
    Shot result = shot;
    result.tracks = shot.tracks.edited([&](auto& tracks) {
        for (Track& track : tracks) {
            const auto found = covered.find(track.id);
            if (found == covered.end()) continue;
            const auto& frames = found->second;
            const int left = int(track.samples.size()) - asideFrames(track) - int(frames.size());
            if (left < kFewestLeft) {
                track.setAside = true;
                continue;
            }
            track.samples = track.samples.edited([&](auto& samples) {
                for (Sample& sample : samples) sample.aside = sample.aside || frames.contains(sample.frame);
            });
        }
    });
    return result;
}

}  // namespace pinion
