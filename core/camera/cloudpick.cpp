#include "camera/cloudpick.h"

#include "base/median.h"
#include "base/parallel.h"

#include <algorithm>
#include <limits>

namespace pinion {

using Eigen::Vector3d;

namespace {

constexpr std::size_t kNeighbour = 4;
constexpr double kReach = 1.5;

struct Placed {
    TrackId track = 0;
    Vector3d place;
};
std::vector<Placed> placedOf(const Solve& solve) {
    std::vector<Placed> placed;
    for (const SolvedTrack& track : solve.tracks)
        if (track.xyz) placed.push_back({track.track, *track.xyz});
    return placed;
}

double fromCameras(const Solve& solve, const Vector3d& place) {
    double least = std::numeric_limits<double>::infinity();
    for (const SolvedFrame& frame : solve.frames)
        least = std::min(least, (place - frame.worldFromCamera.translation()).norm());
    return least;
}

}  // namespace

std::vector<TrackId> beyond(const Solve& solve, double times) {
    const std::vector<Placed> placed = placedOf(solve);
    std::vector<double> away(placed.size());
    parallelFor(
        placed.size(), [&](std::size_t i) { away[i] = fromCameras(solve, placed[i].place); }, 64);
    const double limit = times * median(away);
    std::vector<TrackId> far;
    for (std::size_t i = 0; i < placed.size(); ++i)
        if (away[i] > limit) far.push_back(placed[i].track);
    for (const SolvedTrack& track : solve.tracks)
        if (!track.xyz && track.direction) far.push_back(track.track);
    return far;
}

std::vector<TrackId> grown(const Solve& solve, const std::set<TrackId>& tracks) {
    const std::vector<Placed> placed = placedOf(solve);
    std::vector<TrackId> all(tracks.begin(), tracks.end());
    if (placed.size() <= kNeighbour) return all;
    // How close points usually lie, asked of some of them.
    const std::size_t step = std::max<std::size_t>(1, placed.size() / 400);
    std::vector<double> usual((placed.size() + step - 1) / step);
    parallelFor(
        usual.size(),
        [&](std::size_t k) {
            std::vector<double> away;
            for (std::size_t i = 0; i < placed.size(); ++i)
                if (i != k * step) away.push_back((placed[i].place - placed[k * step].place).squaredNorm());
            std::nth_element(away.begin(), away.begin() + (kNeighbour - 1), away.end());
            usual[k] = std::sqrt(away[kNeighbour - 1]);
        },
        8);
    const double reach = kReach * median(std::move(usual));
    std::vector<Vector3d> from;
    for (const Placed& one : placed)
        if (tracks.contains(one.track)) from.push_back(one.place);
    std::vector<char> near(placed.size(), 0);
    parallelFor(
        placed.size(),
        [&](std::size_t i) {
            near[i] = std::any_of(from.begin(), from.end(),
                                  [&](const Vector3d& place) { return (placed[i].place - place).norm() < reach; });
        },
        64);
    for (std::size_t i = 0; i < placed.size(); ++i)
        if (near[i] && !tracks.contains(placed[i].track)) all.push_back(placed[i].track);
    return all;
}

}  // namespace pinion
