#include "camera/tracksjoining.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <unordered_map>

namespace pinion::solving {

using Eigen::Vector2d;

namespace {

constexpr double kOnePlace_px = 1.5;  // patterns of one corner that were found apart have their centres so far apart
constexpr double kSteady_px = 0.35;   // by which their distance may change
constexpr int kFewestShared = 5;

/// How two tracks lie to each other on the frames that both have.
struct Beside {
    int shared = 0;
    Vector2d sum{0, 0};  ///< from the first to the second
    double squares = 0, distance = 0;
    void add(const Vector2d& away) {
        ++shared;
        sum += away;
        squares += away.squaredNorm();
        distance += away.norm();
    }
    Vector2d mean() const { return sum / shared; }
    double spread() const { return std::sqrt(std::max(0.0, squares / shared - mean().squaredNorm())); }
};

/// Every pair that is ever nearer than `apart_px`, and how it lies over all frames.
std::map<std::pair<std::size_t, std::size_t>, Beside> nearPairs(const std::vector<Track>& tracks, double apart_px) {
    std::map<int, std::vector<std::pair<std::size_t, Vector2d>>> onFrame;
    for (std::size_t i = 0; i < tracks.size(); ++i)
        for (const Sample& sample : tracks[i].samples) onFrame[sample.frame].emplace_back(i, sample.at);
    std::map<std::pair<std::size_t, std::size_t>, Beside> pairs;
    for (const auto& [frame, places] : onFrame) {
        std::unordered_map<long, std::vector<std::size_t>> cells;
        const auto cellOf = [&](const Vector2d& at, int dx, int dy) {
            return (std::lround(std::floor(at.y() / apart_px)) + dy) * 100000L +
                   (std::lround(std::floor(at.x() / apart_px)) + dx);
        };
        for (std::size_t p = 0; p < places.size(); ++p) {
            for (int dy = -1; dy <= 1; ++dy)
                for (int dx = -1; dx <= 1; ++dx)
                    if (const auto cell = cells.find(cellOf(places[p].second, dx, dy)); cell != cells.end())
                        for (const std::size_t q : cell->second)
                            if ((places[p].second - places[q].second).norm() < apart_px)
                                pairs.try_emplace({places[q].first, places[p].first});
            cells[cellOf(places[p].second, 0, 0)].push_back(p);
        }
    }
    for (auto& [pair, beside] : pairs) {
        const auto& a = tracks[pair.first].samples.vector();
        const auto& b = tracks[pair.second].samples.vector();
        for (std::size_t i = 0, j = 0; i < a.size() && j < b.size();) {
            if (a[i].frame == b[j].frame) beside.add(b[j++].at - a[i++].at);
            else if (a[i].frame < b[j].frame) ++i;
            else ++j;
        }
    }
    return pairs;
}

/// The frames that only the other has, laid to where the first has its place.
void give(Track& to, const Track& from, const Vector2d& shift) {
    Track moved = from;
    moved.samples = from.samples.edited([&](auto& samples) {
        for (Sample& sample : samples) sample.at += shift;
    });
    to = joined(to, moved);
}

}  // namespace

std::vector<TrackId> joinWhatIsOne(std::vector<Track>& tracks, double apart_px, const std::set<TrackId>& kept) {
    std::vector<TrackId> gone;
    if (!(apart_px > 0)) return gone;
    const auto pairs = nearPairs(tracks, apart_px);
    const auto stays = [&](const Track& track) { return track.byHand || track.locked || kept.contains(track.id); };
    std::vector<bool> went(tracks.size(), false);
    std::vector<std::vector<std::pair<std::size_t, Beside>>> of(tracks.size());
    for (const auto& [pair, beside] : pairs) {
        Beside turned = beside;
        turned.sum = -beside.sum;
        of[pair.first].emplace_back(pair.second, beside);
        of[pair.second].emplace_back(pair.first, turned);
    }
    // The longest take in the others.
    std::vector<std::size_t> order(tracks.size()), lengths;
    std::iota(order.begin(), order.end(), std::size_t(0));
    for (const Track& track : tracks) lengths.push_back(track.samples.size());
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return lengths[a] > lengths[b]; });
    for (const std::size_t longer : order) {
        if (went[longer]) continue;
        for (const auto& [other, beside] : of[longer]) {
            if (went[other] || stays(tracks[other]) || lengths[other] > lengths[longer] ||
                beside.shared < kFewestShared)
                continue;
            if (lengths[other] == lengths[longer] && other < longer) continue;
            if (beside.distance / beside.shared > apart_px) continue;
            const bool hasAll = 10 * std::size_t(beside.shared) >= 9 * lengths[other];
            const bool isOne = beside.mean().norm() < kOnePlace_px && beside.spread() < kSteady_px;
            if (!hasAll && !isOne) continue;
            if (!hasAll && isOne && !stays(tracks[longer])) give(tracks[longer], tracks[other], -beside.mean());
            went[other] = true;
            gone.push_back(tracks[other].id);
        }
    }
    std::size_t next = 0;
    std::erase_if(tracks, [&](const Track&) { return went[next++]; });
    return gone;
}

}  // namespace pinion::solving
