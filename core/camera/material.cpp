#include "camera/material.h"

#include "base/linear.h"
#include "base/median.h"
#include "camera/result.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace pinion::solving {

using Eigen::Vector2d;

namespace {

constexpr double kFewShared = 0.3;  // of a keyframe's tracks, by three keyframes in a row

/// Whether most tracks go from a frame to the next as one moving camera sees them. Past something very near they jump,
/// and each its own way, but along lines that meet; across a cut they do not.
bool isOneStep(const Material& material, int frame) {
    const auto shared = sharedPlaces(material, frame, frame + 1);
    for (const double focal : {0.7, 1.4, 3.0}) {
        const auto pairs = planePairs(shared, pinholeLens(material.width, material.height, focal * material.width));
        const auto motion =
            relativePose(pairs, {.inlierDistance = 2.0 * material.scale() / (focal * material.width), .rounds = 300});
        if (motion && motion->inlierCount > 0.6 * double(pairs.size())) return true;
    }
    return false;
}

/// The tracks that measures from the set speak of: they are not held out.
std::set<TrackId> measuredTracks(const SolveOptions& options) {
    std::set<TrackId> measured;
    for (const KnownDistance& known : options.distances) measured.insert({known.a, known.b});
    for (const KnownPlace& known : options.places) measured.insert(known.track);
    return measured;
}

}  // namespace

Expected<Material> gather(std::span<const Track> tracks, const SolveOptions& options, std::span<const Track> filmed) {
    Material material;
    material.width = options.width;
    material.height = options.height;
    std::map<int, int> indexOf;
    std::set<std::vector<double>> known;
    std::vector<std::size_t> eligible;
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        const Track& track = tracks[i];
        if (track.setAside) continue;
        for (const Sample& sample : track.samples)
            if (!sample.at.allFinite())
                return failure(Fault::input,
                               "track {}: its place on frame {} is not a number; track it again or set it aside",
                               track.name, sample.frame);
        if (track.samples.size() < 3) continue;
        // The same track twice would count twice, and vouch for itself when held out.
        std::vector<double> places;
        for (const Sample& sample : track.samples)
            places.insert(places.end(), {double(sample.frame), sample.at.x(), sample.at.y()});
        if (!known.insert(std::move(places)).second) {
            ++material.duplicates;
            continue;
        }
        for (const Sample& sample : track.samples) indexOf[sample.frame] = 0;
        eligible.push_back(i);
    }
    for (auto& [frame, index] : indexOf) {
        index = int(material.frames.size());
        material.frames.push_back(frame);
    }
    const std::set<TrackId> measured = measuredTracks(options);
    // What an earlier solve held out stays held out: both are measured by the same tracks.
    std::set<TrackId> earlier, heldThen;
    if (options.start)
        for (const SolvedTrack& track : options.start->tracks) {
            earlier.insert(track.track);
            if (track.role == TrackRole::heldOut) heldThen.insert(track.track);
        }
    std::size_t halvable = 0;
    for (const std::size_t i : eligible) {
        Trail trail{i, {}, tracks[i].byHand ? options.byHandWeight : 1.0, false};
        for (const Sample& sample : tracks[i].samples) {
            const Sample* own = filmed.empty() ? &sample : sampleAt(filmed[i], sample.frame);
            trail.seen.push_back(
                {indexOf[sample.frame], sample.at, sample.at,
                 rowOf(own ? own->at : sample.at, options.readsColumns(), options.width, options.height)});
        }
        // Every tenth of those long enough to be halved; scattered tracks come in no spatial order, so this is a fair
        // draw.
        if (options.holdOut && trail.seen.size() >= 8 && !tracks[i].byHand && !measured.contains(tracks[i].id))
            trail.heldOut = earlier.contains(tracks[i].id) ? heldThen.contains(tracks[i].id) : halvable++ % 10 == 5;
        material.trails.push_back(std::move(trail));
    }
    // Too few to spare any.
    const auto held =
        std::count_if(material.trails.begin(), material.trails.end(), [](const Trail& t) { return t.heldOut; });
    if (std::ptrdiff_t(material.trails.size()) - held < 30)
        for (Trail& trail : material.trails) trail.heldOut = false;
    material.byFrame.resize(material.frames.size());
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (!material.trails[t].heldOut)
            for (const Seen& seen : material.trails[t].seen)
                material.byFrame[std::size_t(seen.frame)].emplace_back(int(t), seen.plate);
    return material;
}

Expected<void> checkConnected(const Material& material, int fewest) {
    // Tracks that live on both sides of each step from one frame to the next.
    const std::size_t count = material.frames.size();
    std::vector<int> across(count, 0);
    for (const Trail& trail : material.trails)
        for (int f = trail.seen.front().frame; f < trail.seen.back().frame; ++f) ++across[std::size_t(f)];
    const int least = std::max(6, fewest - 2);
    for (std::size_t f = 0; f + 1 < count; ++f) {
        if (across[f] >= least) continue;
        const int before = material.frames[f], after = material.frames[f + 1];
        const auto others = [&](int a, int b) {
            return fmt::format("solve {}-{} and {}-{} each by itself (the range on the ruler)", a, before, after, b);
        };
        // A cut loses all tracks at once, on both sides of which there were plenty.
        if (across[f] == 0 && int(material.byFrame[f].size()) >= fewest &&
            int(material.byFrame[f + 1].size()) >= fewest)
            return failure(Fault::outcome, "no track goes from frame {} to frame {}: a cut, or two shots in one; {}",
                           before, after, others(material.frames.front(), material.frames.back()));
        std::size_t last = f + 1;
        while (last + 1 < count && across[last] < least) ++last;
        return failure(Fault::outcome,
                       "the tracks fall into two halves: only {} go from frame {} to frame {}; track more between "
                       "frames {} and {}, or {}",
                       across[f], before, after, before, material.frames[last],
                       others(material.frames.front(), material.frames.back()));
    }
    // Tracks that were carried across a cut jump there, each by its own way.
    std::vector<std::vector<double>> jerks(count);
    for (const Trail& trail : material.trails)
        for (std::size_t i = 1; i + 1 < trail.seen.size(); ++i)
            if (trail.seen[i - 1].frame + 1 == trail.seen[i].frame &&
                trail.seen[i].frame + 1 == trail.seen[i + 1].frame)
                jerks[std::size_t(trail.seen[i].frame)].push_back(
                    (trail.seen[i + 1].plate - 2 * trail.seen[i].plate + trail.seen[i - 1].plate).norm());
    std::vector<double> usual;
    for (auto& jerk : jerks)
        if (jerk.size() >= 8) {
            std::sort(jerk.begin(), jerk.end());
            // How unlike the tracks' jerks are: a hand's knock moves all alike.
            usual.push_back(jerk[jerk.size() * 3 / 4] - jerk[jerk.size() / 4]);
        }
    if (usual.empty()) return {};
    std::vector<double> sorted = usual;
    std::nth_element(sorted.begin(), sorted.begin() + std::ptrdiff_t(sorted.size() / 2), sorted.end());
    const double limit = std::max(12 * material.scale(), 15 * sorted[sorted.size() / 2]);
    for (std::size_t f = 0, k = 0; f < count; ++f) {
        if (jerks[f].size() < 8) continue;
        if (usual[k++] > limit && f + 1 < count && (jerks[f + 1].size() < 8 || usual[k] > limit) &&
            !isOneStep(material, int(f)))
            return failure(Fault::outcome,
                           "most tracks jump from frame {} to frame {}, each its own way: a cut, or two shots in one; "
                           "solve {}-{} and {}-{} each by itself (the range on the ruler)",
                           material.frames[f], material.frames[f + 1], material.frames.front(), material.frames[f],
                           material.frames[f + 1], material.frames.back());
    }
    return {};
}

namespace {

/// The similarity between two pictures, as (a, b, x, y) of [a -b; b a] p + (x, y), by least squares on the better half,
/// and the median of what is left.
struct Likeness {
    Eigen::Vector4d terms{1, 0, 0, 0};
    double residual_px = 0;
};
Likeness likenessOf(const std::vector<std::pair<Vector2d, Vector2d>>& shared) {
    Likeness fit;
    std::vector<double> errors(shared.size(), 0.0);
    double limit = 1e300;
    for (int round = 0; round < 6; ++round) {
        Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
        Eigen::Vector4d right = Eigen::Vector4d::Zero();
        for (std::size_t i = 0; i < shared.size(); ++i) {
            if (errors[i] > limit) continue;
            const auto& [p, q] = shared[i];
            Eigen::Matrix<double, 2, 4> rows;
            rows << p.x(), -p.y(), 1, 0, p.y(), p.x(), 0, 1;
            normal += rows.transpose() * rows;
            right += rows.transpose() * q;
        }
        fit.terms = solvedSymmetric(normal, right);
        for (std::size_t i = 0; i < shared.size(); ++i) {
            const auto& [p, q] = shared[i];
            errors[i] = (Vector2d(fit.terms[0] * p.x() - fit.terms[1] * p.y() + fit.terms[2],
                                  fit.terms[1] * p.x() + fit.terms[0] * p.y() + fit.terms[3]) -
                         q)
                            .norm();
        }
        std::vector<double> sorted = errors;
        limit = fit.residual_px = median(sorted);
    }
    return fit;
}

}  // namespace

SheetMotion sheetMotionOf(const Material& material, const std::vector<int>& keys) {
    SheetMotion motion;
    std::vector<double> near, far;
    const std::size_t step = std::max<std::size_t>(1, material.frames.size() / 40);
    for (std::size_t f = 0; f + 1 < material.frames.size(); f += step)
        if (const auto shared = sharedPlaces(material, int(f), int(f) + 1); shared.size() >= 8)
            near.push_back(likenessOf(shared).residual_px);
    const Vector2d middle(0.5 * material.width, 0.5 * material.height);
    double most = 0;
    for (std::size_t i = 0; i + 1 < keys.size(); ++i)
        for (std::size_t j = keys.size() - 1; j > i; --j) {
            const auto shared = sharedPlaces(material, keys[i], keys[j]);
            if (shared.size() < 15 && j > i + 1) continue;
            if (shared.size() < 8) break;
            const Likeness fit = likenessOf(shared);
            far.push_back(fit.residual_px);
            const Vector2d moved(fit.terms[0] * middle.x() - fit.terms[1] * middle.y() + fit.terms[2],
                                 fit.terms[1] * middle.x() + fit.terms[0] * middle.y() + fit.terms[3]);
            most = std::max(most, (moved - middle).norm());
            motion.growth = std::max(
                motion.growth, std::max(fit.terms.head<2>().norm(), 1 / std::max(0.05, fit.terms.head<2>().norm())));
            break;
        }
    motion.travel_px = most;
    if (near.size() < 2 || far.size() < 2) return motion;
    std::sort(far.begin(), far.end());
    // From one frame to the next anything is nearly a sheet; tracks that are not even that are something else.
    motion.isSheet =
        median(near) < 3 * material.scale() && far[far.size() * 9 / 10] < 1.3 * median(near) + 0.05 * material.scale();
    return motion;
}

std::vector<std::pair<Vector2d, Vector2d>> sharedPlaces(const Material& material, int a, int b,
                                                        std::vector<int>* trails) {
    std::vector<std::pair<Vector2d, Vector2d>> shared;
    const auto& first = material.byFrame[std::size_t(a)];
    const auto& second = material.byFrame[std::size_t(b)];
    for (std::size_t i = 0, j = 0; i < first.size() && j < second.size();) {
        if (first[i].first < second[j].first) {
            ++i;
        } else if (first[i].first > second[j].first) {
            ++j;
        } else {
            shared.emplace_back(first[i].second, second[j].second);
            if (trails) trails->push_back(first[i].first);
            ++i;
            ++j;
        }
    }
    return shared;
}

namespace {

/// A key frame joins its neighbours by the tracks that three of them see: two alone place a point, the third uses it.
/// Where few are left (something passes close by, the camera whips), the frames between become keyframes too.
std::vector<int> tightened(const Material& material, std::vector<int> keys, const std::vector<int>& usable) {
    const std::set<int> wanted(usable.begin(), usable.end());
    const auto sharedByThree = [&](int a, int b, int c) {
        std::map<int, int> sightings;
        for (const int frame : {a, b, c})
            for (const auto& [trail, place] : material.byFrame[std::size_t(frame)]) ++sightings[trail];
        return std::count_if(sightings.begin(), sightings.end(), [](const auto& entry) { return entry.second == 3; });
    };
    for (std::size_t i = 2; i < keys.size(); ++i) {
        const auto seen = std::min({material.byFrame[std::size_t(keys[i - 2])].size(),
                                    material.byFrame[std::size_t(keys[i - 1])].size(),
                                    material.byFrame[std::size_t(keys[i])].size()});
        while (sharedByThree(keys[i - 2], keys[i - 1], keys[i]) < kFewShared * double(seen)) {
            // Into the wider gap, as far as there is one.
            const std::size_t gap = keys[i - 1] - keys[i - 2] > keys[i] - keys[i - 1] ? i - 1 : i;
            const auto between = wanted.upper_bound((keys[gap - 1] + keys[gap] - 1) / 2);
            if (between == wanted.end() || *between >= keys[gap]) break;
            keys.insert(keys.begin() + std::ptrdiff_t(gap), *between);
        }
    }
    return keys;
}

}  // namespace

std::vector<int> chooseKeyframes(const Material& material, int fewest) {
    const auto usable = [&](int frame) { return int(material.byFrame[std::size_t(frame)].size()) >= fewest; };
    std::vector<int> all;
    for (int frame = 0; frame < int(material.frames.size()); ++frame)
        if (usable(frame)) all.push_back(frame);
    const auto chosenBy = [&](double share, double move_px) {
        std::vector<int> keys;
        for (const int frame : all) {
            bool far = keys.empty();
            if (!far) {
                const auto shared = sharedPlaces(material, keys.back(), frame);
                far = double(shared.size()) < share * double(material.byFrame[std::size_t(keys.back())].size());
                std::vector<double> moves;
                for (const auto& [from, to] : shared) moves.push_back((to - from).norm());
                if (!moves.empty()) {
                    std::nth_element(moves.begin(), moves.begin() + std::ptrdiff_t(moves.size() / 2), moves.end());
                    far = far || moves[moves.size() / 2] > move_px;
                }
            }
            if (far) keys.push_back(frame);
        }
        // The shot's end matters as much as its beginning.
        if (!all.empty() && keys.back() != all.back()) keys.push_back(all.back());
        return keys;
    };
    std::vector<int> keys = chosenBy(0.65, 0.05 * material.width);
    if (keys.size() < 10) keys = chosenBy(0.8, 0.02 * material.width);
    const std::size_t wanted = std::min<std::size_t>(all.size(), 10);
    if (keys.size() < wanted) {
        // A short shot, or a slow one: evenly.
        keys.clear();
        for (std::size_t i = 0; i < wanted; ++i)
            keys.push_back(all[wanted > 1 ? i * (all.size() - 1) / (wanted - 1) : 0]);
        keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
    }
    return tightened(material, std::move(keys), all);
}

std::vector<PlanePair> planePairs(const std::vector<std::pair<Vector2d, Vector2d>>& shared, const Lens& lens) {
    std::vector<PlanePair> pairs;
    pairs.reserve(shared.size());
    for (const auto& [first, second] : shared) {
        const auto a = planeFromPlate(lens, first);
        const auto b = planeFromPlate(lens, second);
        pairs.push_back({a.value_or(Vector2d(1e3, 1e3)), b.value_or(Vector2d(1e3, -1e3))});
    }
    return pairs;
}

std::vector<BasePair> chooseBasePairs(const Material& material, const std::vector<int>& keys,
                                      std::span<const Lens> lenses, std::size_t count) {
    std::vector<BasePair> pairs;
    for (std::size_t i = 0; i < keys.size(); ++i)
        for (std::size_t j = i + 1; j < keys.size() && j < i + 14; ++j) {
            const auto shared = sharedPlaces(material, keys[i], keys[j]);
            if (shared.size() < 12) continue;
            double parallax = 1e300;
            for (const Lens& lens : lenses)
                parallax = std::min(parallax, fitRotation(planePairs(shared, lens)).medianResidual * lens.focal_px);
            // Parallax beyond 4 % of the width adds little; tracks that both see add by their root, up to a point.
            const double score = std::min(parallax, 0.04 * material.width) *
                                 std::sqrt(double(std::min<std::size_t>(shared.size(), 150)));
            pairs.push_back({keys[i], keys[j], score, parallax});
        }
    std::sort(pairs.begin(), pairs.end(), [](const BasePair& a, const BasePair& b) { return a.score > b.score; });
    // Different parts of the shot, so that one bad stretch does not spoil all.
    std::vector<BasePair> chosen;
    const double apart = double(material.frames.size()) / (1.6 * double(count));
    for (const double share : {1.0, 0.5, 0.2, 0.0})
        for (const BasePair& pair : pairs) {
            if (chosen.size() >= count) break;
            if (pair.score < 0.25 * pairs.front().score) continue;
            const auto near = [&](const BasePair& other) {
                return std::abs(0.5 * (pair.a + pair.b) - 0.5 * (other.a + other.b)) < share * apart ||
                       (pair.a == other.a && pair.b == other.b);
            };
            if (std::none_of(chosen.begin(), chosen.end(), near)) chosen.push_back(pair);
        }
    return chosen;
}

}  // namespace pinion::solving
