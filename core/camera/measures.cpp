#include "camera/measures.h"

#include "base/linear.h"
#include "camera/lengths.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <set>

namespace pinion::solving {
namespace {

using Eigen::Vector3d;

constexpr double kDoubtful = 3.3;  // deviations: Baarda's test at one in a thousand

std::optional<std::size_t> indexOf(std::span<const Track> tracks, TrackId id) {
    const auto found = std::find_if(tracks.begin(), tracks.end(), [&](const Track& track) { return track.id == id; });
    return found == tracks.end() ? std::nullopt : std::optional(std::size_t(found - tracks.begin()));
}

/// A length between two trails, and how to speak of it.
struct Measure {
    std::size_t a, b;  ///< trails
    double metres, sigma;
    std::string words;
    bool isPlace = false;
};

std::optional<Vector3d> placeOf(const Reconstruction& scene, std::size_t trail) {
    const auto& point = scene.point(trail);
    if (!point || (*point)[3] < 1e-4) return std::nullopt;
    return point->head<3>() / (*point)[3];
}

struct Gathered {
    std::vector<Measure> measures;
    std::vector<std::string> doubts;
    std::vector<std::pair<std::size_t, Vector3d>> places;  ///< trails
    std::vector<double> sigmas;
};

Gathered measuresOf(const Reconstruction& scene, std::span<const Track> tracks) {
    const SolveOptions& options = scene.options();
    Gathered gathered;
    const auto trailOf = [&](TrackId id) -> std::optional<std::size_t> {
        const auto track = indexOf(tracks, id);
        const auto& trails = scene.material().trails;
        for (std::size_t t = 0; t < trails.size(); ++t)
            if (track && trails[t].track == *track && placeOf(scene, t)) return t;
        if (track)
            gathered.doubts.push_back(fmt::format(
                "track {} was measured on the set, but its point has no place in the solve: track it longer",
                tracks[*track].name));
        return std::nullopt;
    };
    const auto nameOf = [&](std::size_t trail) { return tracks[scene.material().trails[trail].track].name; };
    for (const KnownDistance& known : options.distances) {
        const auto a = trailOf(known.a), b = trailOf(known.b);
        if (a && b)
            gathered.measures.push_back(
                {*a, *b, known.metres, known.sigma, fmt::format("the distance {} to {}", nameOf(*a), nameOf(*b))});
    }
    for (const KnownPlace& known : options.places)
        if (const auto trail = trailOf(known.track)) {
            gathered.places.emplace_back(*trail, known.metres);
            gathered.sigmas.push_back(known.sigma);
        }
    // n places hold n (n - 1) / 2 distances, and 3 n - 6 of them say all.
    const double count = double(gathered.places.size()), distances = count * (count - 1) / 2;
    const double widened = distances > 3 * count - 6 && count > 3 ? std::sqrt(distances / (3 * count - 6)) : 1.0;
    for (std::size_t i = 0; i < gathered.places.size(); ++i)
        for (std::size_t j = i + 1; j < gathered.places.size(); ++j) {
            const auto& [a, from] = gathered.places[i];
            const auto& [b, to] = gathered.places[j];
            gathered.measures.push_back({a, b, (to - from).norm(),
                                         widened * std::hypot(gathered.sigmas[i], gathered.sigmas[j]),
                                         fmt::format("the known places of {} and {}", nameOf(a), nameOf(b)), true});
        }
    return gathered;
}

}  // namespace

Expected<void> checkMeasures(std::span<const Track> tracks, const SolveOptions& options) {
    const auto exists = [&](TrackId id) -> Expected<void> {
        if (!indexOf(tracks, id))
            return failure(Fault::input, "a measure speaks of track number {}, which is not there", id);
        return {};
    };
    for (const KnownDistance& known : options.distances) {
        for (const TrackId id : {known.a, known.b})
            if (auto there = exists(id); !there) return there;
        const std::string& name = tracks[*indexOf(tracks, known.a)].name;
        if (known.a == known.b)
            return failure(Fault::input, "a distance from track {} to itself: name two tracks", name);
        if (!(known.metres > 0) || !(known.sigma > 0))
            return failure(Fault::input, "distance {} to {}: {} m with a trust of {} m; both have to be above 0", name,
                           tracks[*indexOf(tracks, known.b)].name, known.metres, known.sigma);
    }
    std::set<TrackId> placed;
    for (const KnownPlace& known : options.places) {
        if (auto there = exists(known.track); !there) return there;
        const std::string& name = tracks[*indexOf(tracks, known.track)].name;
        if (!placed.insert(known.track).second)
            return failure(Fault::input, "track {} has two known places: give one", name);
        if (!known.metres.allFinite() || !(known.sigma > 0))
            return failure(Fault::input,
                           "the known place of track {}: numbers in metres and a trust above 0 are needed", name);
    }
    return {};
}

Measures enterMeasures(Reconstruction& scene, const LensPlan& plan, std::span<const Track> tracks) {
    Measures result;
    if (scene.options().distances.isEmpty() && scene.options().places.isEmpty()) return result;
    if (scene.turnsOnly()) {
        result.doubts.push_back("a camera that only turns has no scale: the measures from the set say nothing");
        return result;
    }
    Gathered gathered = measuresOf(scene, tracks);
    result.doubts = std::move(gathered.doubts);
    auto& measures = gathered.measures;
    scene.recentre();
    while (!measures.empty()) {
        std::vector<int> cameraOf, pointOf;
        Bundle bundle = scene.assemble(&cameraOf, &pointOf);
        std::vector<KnownLength> lengths;
        for (const Measure& measure : measures)
            lengths.push_back({pointOf[measure.a], pointOf[measure.b], measure.metres, measure.sigma});
        const auto fit = adjustWithLengths(bundle, scene.bundleOptions(plan.fine, lossWidth(scene), 0, 0), lengths);
        if (!fit) {
            result.doubts.push_back("the measures from the set could not be used: the tracks leave too much open");
            return result;
        }
        const auto worst = std::size_t(std::max_element(fit->tests.begin(), fit->tests.end(),
                                                        [](double a, double b) { return std::abs(a) < std::abs(b); }) -
                                       fit->tests.begin());
        if (std::abs(fit->tests[worst]) < kDoubtful) {
            scene.take(bundle, cameraOf, pointOf);
            result.metresPerUnit = fit->scale;
            break;
        }
        if (measures.size() == 2) {
            // Which of two is wrong nobody can tell.
            result.doubts.push_back(
                fmt::format("{} ({:.3f} m) and {} ({:.3f} m) contradict each other through the tracks: measure again",
                            measures[0].words, measures[0].metres, measures[1].words, measures[1].metres));
            return result;
        }
        // What the others make of it: fitted without it.
        const Measure wrong = measures[worst];
        measures.erase(measures.begin() + std::ptrdiff_t(worst));
        lengths.erase(lengths.begin() + std::ptrdiff_t(worst));
        Bundle rest = scene.assemble(nullptr, &pointOf);
        if (const auto without =
                adjustWithLengths(rest, scene.bundleOptions(plan.fine, lossWidth(scene), 0, 0), lengths)) {
            const auto at = [&](std::size_t trail) -> Vector3d {
                return rest.points[std::size_t(pointOf[trail])].head<3>() / rest.points[std::size_t(pointOf[trail])][3];
            };
            result.doubts.push_back(fmt::format(
                "{} is given as {:.3f} m, tracks and the other measures say {:.3f} m: it is left out, measure it again",
                wrong.words, wrong.metres, without->scale * (at(wrong.a) - at(wrong.b)).norm()));
        }
    }
    if (result.metresPerUnit && gathered.places.size() >= 3) {
        Eigen::Matrix3Xd from(3, gathered.places.size()), to(3, gathered.places.size());
        for (std::size_t i = 0; i < gathered.places.size(); ++i) {
            from.col(Eigen::Index(i)) =
                *result.metresPerUnit * placeOf(scene, gathered.places[i].first).value_or(Vector3d::Zero());
            to.col(Eigen::Index(i)) = gathered.places[i].second;
        }
        Eigen::Matrix4d world = similarityBetween(from, to, false);
        world.topLeftCorner<3, 3>() *= *result.metresPerUnit;
        result.metresFromScene = world;
    }
    return result;
}

}  // namespace pinion::solving
