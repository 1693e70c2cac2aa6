#include "camera/solve.h"

#include "base/parallel.h"
#include "base/units.h"
#include "camera/bundle.h"
#include "camera/relativepose.h"
#include "camera/resect.h"

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <map>
#include <mutex>
#include <numeric>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

// Focal lengths tried when nothing is known, in frame widths: 18 mm to 108 mm on a 36 mm frame.
constexpr std::array<double, 7> kFocalsTried{0.5, 0.68, 0.92, 1.25, 1.7, 2.3, 3.1};
constexpr double kLeastParallax = 0.8;  // pixels that no turn and no lens explains, in the median, of the best pair
constexpr double kLeastAngle = 0.6;        // degrees between two rays, below which a point's depth is not believed
constexpr std::size_t kMostKeyframes = 14;  // of the part that is solved first

struct Seen {
    int frame;  ///< index into `frames`
    Vector2d plate;
};

struct Trail {
    std::size_t track;  ///< index into the caller's tracks
    std::vector<Seen> seen;
    bool heldOut = false;
};

/// The tracks, indexed both ways.
struct Material {
    double width = 0;                                          ///< of the plate, pixels
    std::vector<int> frames;                                   ///< numbers, rising
    std::vector<Trail> trails;
    std::vector<std::vector<std::pair<int, Vector2d>>> byFrame;  ///< (trail, place), adjusted ones only
};

Material gather(std::span<const Track> tracks, const SolveOptions& options) {
    Material material;
    material.width = options.width;
    std::map<int, int> indexOf;
    for (const Track& track : tracks)
        if (!track.setAside)
            for (const Sample& sample : track.samples) indexOf[sample.frame] = 0;
    for (auto& [frame, index] : indexOf) {
        index = int(material.frames.size());
        material.frames.push_back(frame);
    }
    std::size_t eligible = 0;
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        if (tracks[i].setAside || tracks[i].samples.size() < 3) continue;
        Trail trail{i, {}, false};
        for (const Sample& sample : tracks[i].samples) trail.seen.push_back({indexOf[sample.frame], sample.at});
        // Every tenth of those long enough to be halved; scattered tracks come in no spatial order, so this is a fair draw.
        if (options.holdOut && trail.seen.size() >= 8 && !tracks[i].byHand) trail.heldOut = eligible++ % 10 == 5;
        material.trails.push_back(std::move(trail));
    }
    // Too few to spare any.
    const auto held = std::count_if(material.trails.begin(), material.trails.end(), [](const Trail& t) { return t.heldOut; });
    if (std::ptrdiff_t(material.trails.size()) - held < 30)
        for (Trail& trail : material.trails) trail.heldOut = false;
    material.byFrame.resize(material.frames.size());
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (!material.trails[t].heldOut)
            for (const Seen& seen : material.trails[t].seen) material.byFrame[std::size_t(seen.frame)].emplace_back(int(t), seen.plate);
    return material;
}

std::vector<std::pair<Vector2d, Vector2d>> sharedPlaces(const Material& material, int a, int b, std::vector<int>* trails = nullptr) {
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

/// Frames far enough apart to say something new, near enough to share tracks.
std::vector<int> chooseKeyframes(const Material& material, int width, int fewest) {
    std::vector<int> keys;
    for (int frame = 0; frame < int(material.frames.size()); ++frame) {
        if (int(material.byFrame[std::size_t(frame)].size()) < fewest) continue;
        if (keys.empty()) {
            keys.push_back(frame);
            continue;
        }
        const auto shared = sharedPlaces(material, keys.back(), frame);
        std::vector<double> moves;
        for (const auto& [from, to] : shared) moves.push_back((to - from).norm());
        const double count = double(material.byFrame[std::size_t(keys.back())].size());
        bool far = double(shared.size()) < 0.6 * count;
        if (!moves.empty()) {
            std::nth_element(moves.begin(), moves.begin() + std::ptrdiff_t(moves.size() / 2), moves.end());
            far = far || moves[moves.size() / 2] > 0.045 * width;
        }
        if (far) keys.push_back(frame);
    }
    // A short shot, or a slow one: at least six frames, evenly, where there are so many.
    if (keys.size() < 6) {
        keys.clear();
        std::vector<int> usable;
        for (int frame = 0; frame < int(material.frames.size()); ++frame)
            if (int(material.byFrame[std::size_t(frame)].size()) >= fewest) usable.push_back(frame);
        const std::size_t count = std::min<std::size_t>(usable.size(), 8);
        for (std::size_t i = 0; i < count; ++i) keys.push_back(usable[count > 1 ? i * (usable.size() - 1) / (count - 1) : 0]);
        keys.erase(std::unique(keys.begin(), keys.end()), keys.end());
    }
    return keys;
}

struct PairScore {
    int a, b;
    double score;
    double parallax_px;
};

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

/// Pairs of keyframes by how much is left of their motion once the best turn is taken out.
std::vector<PairScore> scorePairs(const Material& material, const std::vector<int>& keys, const Lens& lens) {
    std::vector<PairScore> scores;
    for (std::size_t i = 0; i < keys.size(); ++i)
        for (std::size_t j = i + 1; j < keys.size() && j < i + 12; ++j) {
            const auto shared = sharedPlaces(material, keys[i], keys[j]);
            if (shared.size() < 15) continue;
            const double parallax = fitRotation(planePairs(shared, lens)).medianResidual * lens.focal_px;
            // Parallax beyond 5 % of the width adds little; tracks that both see add by their root.
            const double score = std::min(parallax, 0.05 * lens.width) * std::sqrt(double(std::min<std::size_t>(shared.size(), 200)));
            scores.push_back({keys[i], keys[j], score, parallax});
        }
    std::sort(scores.begin(), scores.end(), [](const PairScore& a, const PairScore& b) { return a.score > b.score; });
    return scores;
}

/// The least parallax, in pixels, that any lens leaves between two frames once the best turn is taken out. A wrong focal
/// length or distortion looks like parallax; only what no lens explains is real.
double leastParallax(const Material& material, const PairScore& pair, const std::function<Lens(double focal_px)>& lensFor, bool focalOpen, bool distortionOpen,
                     double focal_px) {
    const auto shared = sharedPlaces(material, pair.a, pair.b);
    const auto residual = [&](double focal, double k1) {
        Lens lens = lensFor(focal);
        // In terms of the picture's half width, so that one grid suits all focal lengths.
        if (distortionOpen) lens.k1 = k1 * std::pow(2 * focal / lens.width, 2);
        return fitRotation(planePairs(shared, lens)).medianResidual * focal;
    };
    std::vector<double> bends{0.0};
    if (distortionOpen) bends = {-0.12, -0.08, -0.05, -0.025, 0.0, 0.025};
    double best = 1e300;
    for (const double k1 : bends) {
        if (!focalOpen) {
            best = std::min(best, residual(focal_px, k1));
            continue;
        }
        double bestFocal = material.width, own = 1e300;
        for (double focal = 0.45 * material.width; focal < 12 * material.width; focal *= 1.22)
            if (const double value = residual(focal, k1); value < own) {
                own = value;
                bestFocal = focal;
            }
        double low = bestFocal / 1.22, high = bestFocal * 1.22;
        for (int i = 0; i < 9; ++i) {
            const double a = low + (high - low) * 0.382, b = low + (high - low) * 0.618;
            (residual(a, k1) < residual(b, k1) ? high : low) = residual(a, k1) < residual(b, k1) ? b : a;
        }
        best = std::min({best, own, residual(0.5 * (low + high), k1)});
    }
    return best;
}

/// A growing reconstruction over some frames.
class Reconstruction {
public:
    Reconstruction(const Material& material, const SolveOptions& options, Lens lens)
        : material_(&material), options_(&options), lens_(std::move(lens)), poses_(material.frames.size()), points_(material.trails.size()) {}

    const Lens& lens() const { return lens_; }
    const std::vector<std::optional<Pose>>& poses() const { return poses_; }
    const std::vector<std::optional<Vector3d>>& points() const { return points_; }
    std::vector<bool>& dropped() { return dropped_; }

    Expected<void> start(int a, int b, double tolerance_px) {
        dropped_.assign(material_->trails.size(), false);
        std::vector<int> trails;
        const auto pairs = planePairs(sharedPlaces(*material_, a, b, &trails), lens_);
        auto relative = relativePose(pairs, {.inlierDistance = tolerance_px / lens_.focal_px});
        if (!relative) return tl::unexpected(relative.error());
        poses_[std::size_t(a)] = Pose{};
        poses_[std::size_t(b)] = relative->second;
        held_ = a;
        for (std::size_t i = 0; i < pairs.size(); ++i) {
            if (!relative->inliers[i]) continue;
            const std::array<Ray, 2> rays{Ray{Pose{}, pairs[i].first}, Ray{relative->second, pairs[i].second}};
            points_[std::size_t(trails[i])] = triangulate(rays);
        }
        return {};
    }

    /// Adds `frame` by resection. `tolerance_px` is wide while the lens is still a guess.
    bool place(int frame, double tolerance_px) {
        if (auto pose = resected(frame, tolerance_px)) {
            poses_[std::size_t(frame)] = *pose;
            return true;
        }
        return false;
    }

    /// Adds all `frames` at once, each from its nearest placed neighbours.
    void placeAll(const std::vector<int>& frames, double tolerance_px) {
        std::vector<std::optional<Pose>> found(frames.size());
        parallelFor(frames.size(), [&](std::size_t i) { found[i] = resected(frames[i], tolerance_px); }, 2);
        for (std::size_t i = 0; i < frames.size(); ++i)
            if (found[i]) poses_[std::size_t(frames[i])] = found[i];
    }

    int sightingsOf(int frame) const {
        int count = 0;
        for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) count += points_[std::size_t(trail)].has_value();
        return count;
    }

    /// Places the points of trails that enough placed frames see; those already placed stay unless `again`.
    void triangulateAll(double tolerance_px, bool again) {
        parallelFor(material_->trails.size(), [&](std::size_t t) {
            const Trail& trail = material_->trails[t];
            if (trail.heldOut || dropped_[t] || (points_[t] && !again)) return;
            points_[t] = placed(trail.seen, tolerance_px);
        }, 8);
    }

    /// The point seen so, if the rays are wide and agree.
    std::optional<Vector3d> placed(const std::vector<Seen>& seen, double tolerance_px) const {
        std::vector<Ray> rays;
        std::vector<const Seen*> used;
        // Every ray costs; two dozen over the whole length place a point as well as a hundred.
        const std::size_t step = std::max<std::size_t>(1, seen.size() / 24);
        for (std::size_t i = 0; i < seen.size(); i += step) {
            const Seen& one = seen[i];
            if (!poses_[std::size_t(one.frame)]) continue;
            if (const auto plane = planeFromPlate(lens_, one.plate)) {
                rays.push_back({*poses_[std::size_t(one.frame)], *plane});
                used.push_back(&one);
            }
        }
        if (rays.size() < 2) return std::nullopt;
        const auto point = triangulate(rays);
        if (!point || triangulationAngle(rays, *point) < radians(kLeastAngle)) return std::nullopt;
        double squares = 0;
        for (std::size_t i = 0; i < rays.size(); ++i)
            squares += (rays[i].pose.cameraFromWorld(*point).hnormalized() - rays[i].plane).squaredNorm();
        if (std::sqrt(squares / double(rays.size())) * lens_.focal_px > tolerance_px) return std::nullopt;
        return point;
    }

    /// Adjusts everything placed. Frames and points keep their places in this object.
    bool adjustAll(BundleOptions bundleOptions, const Progress& progress) {
        std::vector<int> cameraOf(poses_.size(), -1), pointOf(points_.size(), -1);
        Bundle bundle = assemble(cameraOf, pointOf);
        bundleOptions.heldCamera = cameraOf[std::size_t(held_)];
        const bool finished = adjust(bundle, bundleOptions, progress);
        lens_ = bundle.lens;
        for (std::size_t i = 0; i < poses_.size(); ++i)
            if (cameraOf[i] >= 0) poses_[i] = bundle.cameras[std::size_t(cameraOf[i])];
        for (std::size_t i = 0; i < points_.size(); ++i)
            if (pointOf[i] >= 0) points_[i] = bundle.points[std::size_t(pointOf[i])];
        return finished;
    }

    Bundle assemble(std::vector<int>& cameraOf, std::vector<int>& pointOf) const {
        Bundle bundle;
        bundle.lens = lens_;
        for (std::size_t i = 0; i < poses_.size(); ++i)
            if (poses_[i]) {
                cameraOf[i] = int(bundle.cameras.size());
                bundle.cameras.push_back(*poses_[i]);
            }
        for (std::size_t t = 0; t < points_.size(); ++t) {
            if (!points_[t]) continue;
            pointOf[t] = int(bundle.points.size());
            bundle.points.push_back(*points_[t]);
            for (const Seen& seen : material_->trails[t].seen)
                if (cameraOf[std::size_t(seen.frame)] >= 0) bundle.observations.push_back({cameraOf[std::size_t(seen.frame)], pointOf[t], seen.plate});
        }
        return bundle;
    }

    double errorAt(const Seen& seen, const Vector3d& point) const {
        const auto& pose = poses_[std::size_t(seen.frame)];
        if (!pose) return 0;
        const Vector3d inCamera = pose->cameraFromWorld(point);
        if (inCamera.z() <= 1e-6) return 1e4;
        const auto plate = plateFromPlane(lens_, inCamera.hnormalized());
        return plate ? (*plate - seen.plate).norm() : 1e4;
    }

    /// Root of the mean squared error of one trail over the placed frames, and how many they are.
    std::pair<double, int> rmsOf(const Trail& trail, const Vector3d& point) const {
        double squares = 0;
        int count = 0;
        for (const Seen& seen : trail.seen) {
            if (!poses_[std::size_t(seen.frame)]) continue;
            const double error = errorAt(seen, point);
            squares += error * error;
            ++count;
        }
        return {count > 0 ? std::sqrt(squares / count) : 0.0, count};
    }

    /// The median over all observations.
    double medianError() const {
        std::vector<double> errors;
        for (std::size_t t = 0; t < points_.size(); ++t)
            if (points_[t])
                for (const Seen& seen : material_->trails[t].seen)
                    if (poses_[std::size_t(seen.frame)]) errors.push_back(errorAt(seen, *points_[t]));
        if (errors.empty()) return 1e6;
        std::nth_element(errors.begin(), errors.begin() + std::ptrdiff_t(errors.size() / 2), errors.end());
        return errors[errors.size() / 2];
    }

    /// Mean Cauchy cost of all observations that could be placed, and a fixed price for those that could not.
    double cost() const {
        double sum = 0;
        double count = 0;
        for (std::size_t t = 0; t < points_.size(); ++t)
            for (const Seen& seen : material_->trails[t].seen) {
                if (!poses_[std::size_t(seen.frame)] || material_->trails[t].heldOut) continue;
                const double error = points_[t] ? errorAt(seen, *points_[t]) : 12.0;
                sum += std::log1p(error * error / 2.25);
                ++count;
            }
        return count > 0 ? sum / count : 1e9;
    }

    int placedFrames() const { return int(std::count_if(poses_.begin(), poses_.end(), [](const auto& p) { return p.has_value(); })); }
    int placedPoints() const { return int(std::count_if(points_.begin(), points_.end(), [](const auto& p) { return p.has_value(); })); }
    void dropPoint(std::size_t trail) {
        points_[trail].reset();
        dropped_[trail] = true;
    }
    void forgetPoint(std::size_t trail) { points_[trail].reset(); }
    void forgetFrame(std::size_t frame) { if (int(frame) != held_) poses_[frame].reset(); }
    int heldFrame() const { return held_; }

    double medianAngle() const {
        std::vector<double> angles;
        for (std::size_t t = 0; t < points_.size(); ++t) {
            if (!points_[t]) continue;
            std::vector<Ray> rays;
            for (const Seen& seen : material_->trails[t].seen)
                if (poses_[std::size_t(seen.frame)]) rays.push_back({*poses_[std::size_t(seen.frame)], {0, 0}});
            if (rays.size() >= 2) angles.push_back(triangulationAngle(rays, *points_[t]));
        }
        if (angles.empty()) return 0;
        std::nth_element(angles.begin(), angles.begin() + std::ptrdiff_t(angles.size() / 2), angles.end());
        return degrees(angles[angles.size() / 2]);
    }

private:
    std::optional<Pose> resected(int frame, double tolerance_px) const {
        std::vector<Sighting> sightings;
        for (const auto& [trail, place] : material_->byFrame[std::size_t(frame)]) {
            if (!points_[std::size_t(trail)]) continue;
            if (const auto plane = planeFromPlate(lens_, place)) sightings.push_back({*points_[std::size_t(trail)], *plane});
        }
        ResectionOptions options{.inlier_px = tolerance_px, .fewest = std::max(6, options_->fewestTracks), .guess = guessFor(frame)};
        const auto pose = resect(sightings, lens_.focal_px, options);
        if (!pose) return std::nullopt;
        return *pose;
    }

    /// Between the placed neighbours, or the nearest one.
    std::optional<Pose> guessFor(int frame) const {
        int before = frame - 1;
        while (before >= 0 && !poses_[std::size_t(before)]) --before;
        int after = frame + 1;
        while (after < int(poses_.size()) && !poses_[std::size_t(after)]) ++after;
        const bool hasBefore = before >= 0;
        const bool hasAfter = after < int(poses_.size());
        if (!hasBefore && !hasAfter) return std::nullopt;
        if (!hasBefore) return poses_[std::size_t(after)];
        if (!hasAfter) return poses_[std::size_t(before)];
        const double share = double(material_->frames[std::size_t(frame)] - material_->frames[std::size_t(before)]) /
                             (material_->frames[std::size_t(after)] - material_->frames[std::size_t(before)]);
        const Pose& a = *poses_[std::size_t(before)];
        const Pose& b = *poses_[std::size_t(after)];
        Pose between;
        between.rotation = a.rotation.slerp(share, b.rotation);
        between.translation = -(between.rotation * (a.centre() + share * (b.centre() - a.centre())));
        return between;
    }

    const Material* material_;
    const SolveOptions* options_;
    Lens lens_;
    std::vector<std::optional<Pose>> poses_;
    std::vector<std::optional<Vector3d>> points_;
    std::vector<bool> dropped_;
    int held_ = 0;
};

struct LensFreedom {
    bool focal, k1, k2;
};

BundleOptions bundleOptions(const SolveOptions& options, const LensFreedom& freedom, double width_px, int rounds, double settled = 3e-4) {
    BundleOptions result;
    result.settled = settled;
    result.freeFocal = freedom.focal;
    result.freeK1 = freedom.k1;
    result.freeK2 = freedom.k2;
    result.robustWidth_px = width_px;
    result.rounds = rounds;
    if (options.focal == Knowledge::guessed) {
        result.focalPrior_px = focalPixels(options.focal_mm, options.sensorWidth_mm, options.width);
        result.focalTrust_px = focalPixels(options.focalTrust_mm, options.sensorWidth_mm, options.width);
    }
    return result;
}

/// Solves the keyframes around one base pair for one first guess of the lens.
Expected<Reconstruction> solveKeyframes(const Material& material, const std::vector<int>& keys, const PairScore& pair, const SolveOptions& options,
                                        const Lens& lens, const LensFreedom& freedom, const Progress& progress) {
    Reconstruction reconstruction(material, options, lens);
    // Until the lens is found its faults look like errors of the tracks, most of all at the corners.
    const double loose = freedom.k1 ? 0.0045 * options.width : 0.0025 * options.width;
    if (auto started = reconstruction.start(pair.a, pair.b, 0.5 * loose); !started) return tl::unexpected(started.error());
    const LensFreedom none{false, false, false};
    reconstruction.adjustAll(bundleOptions(options, none, 2.0, 10), progress);

    std::vector<int> open;
    for (int key : keys)
        if (key != pair.a && key != pair.b) open.push_back(key);
    int added = 0;
    while (!open.empty() && !progress.stopped()) {
        const auto next = std::max_element(open.begin(), open.end(), [&](int a, int b) { return reconstruction.sightingsOf(a) < reconstruction.sightingsOf(b); });
        const int frame = *next;
        open.erase(next);
        if (!reconstruction.place(frame, loose)) continue;
        ++added;
        reconstruction.triangulateAll(2 * loose, false);
        const LensFreedom now{freedom.focal && added >= 2, freedom.k1 && added >= 2, false};
        if (added <= 4 || added % 3 == 0 || open.empty()) reconstruction.adjustAll(bundleOptions(options, now, 2.0, 8), progress);
    }
    if (progress.stopped()) return failure(Fault::stopped, "stopped");
    if (added == 0 && keys.size() > 2) return failure(Fault::outcome, "no third frame agrees with the base pair");
    const LensFreedom late{freedom.focal && added >= 1, freedom.k1 && added >= 1, freedom.k2 && added >= 3};
    reconstruction.triangulateAll(loose, true);
    reconstruction.adjustAll(bundleOptions(options, late, 1.5, 25), progress);
    return reconstruction;
}

/// Y up along the cameras' mean, the middle of the cloud at the origin's side, the median point ten units away.
void normalise(Solve& solve) {
    Vector3d up = Vector3d::Zero();
    Vector3d back = Vector3d::Zero();
    for (const SolvedFrame& frame : solve.frames) {
        up += frame.worldFromCamera.linear().col(1);
        back += frame.worldFromCamera.linear().col(2);
    }
    up.normalize();
    std::vector<double> depths;
    std::vector<double> axes[3];
    const Vector3d eye = solve.frames.front().worldFromCamera.translation();
    for (const SolvedTrack& track : solve.tracks)
        if (track.xyz) {
            depths.push_back((*track.xyz - eye).norm());
            for (int a = 0; a < 3; ++a) axes[a].push_back((*track.xyz)[a]);
        }
    if (depths.empty()) return;
    const auto median = [](std::vector<double>& values) {
        std::nth_element(values.begin(), values.begin() + std::ptrdiff_t(values.size() / 2), values.end());
        return values[values.size() / 2];
    };
    const double scale = 10.0 / std::max(1e-12, median(depths));
    const Vector3d middle(median(axes[0]), median(axes[1]), median(axes[2]));
    back = (back - up * back.dot(up));
    if (back.norm() < 1e-9) back = up.unitOrthogonal();
    back.normalize();
    Eigen::Matrix3d rotation;
    rotation.row(0) = up.cross(back);
    rotation.row(1) = up;
    rotation.row(2) = back;
    const auto moved = [&](const Vector3d& p) -> Vector3d { return scale * (rotation * (p - middle)); };
    solve.frames = solve.frames.edited([&](auto& frames) {
        for (SolvedFrame& frame : frames) {
            frame.worldFromCamera.translation() = moved(frame.worldFromCamera.translation());
            frame.worldFromCamera.linear() = rotation * frame.worldFromCamera.linear();
            frame.deviation = (rotation.cwiseAbs2() * frame.deviation.cwiseAbs2()).cwiseSqrt() * scale;
        }
    });
    solve.tracks = solve.tracks.edited([&](auto& tracks) {
        for (SolvedTrack& track : tracks)
            if (track.xyz) track.xyz = moved(*track.xyz);
    });
}

}  // namespace

const SolvedFrame* solvedFrameAt(const Solve& solve, int frame) {
    const auto& frames = solve.frames.vector();
    const auto found = std::lower_bound(frames.begin(), frames.end(), frame, [](const SolvedFrame& f, int number) { return f.frame < number; });
    return found != frames.end() && found->frame == frame ? &*found : nullptr;
}

std::optional<Vector2d> projected(const Solve& solve, int frame, const Vector3d& xyz) {
    const SolvedFrame* solved = solvedFrameAt(solve, frame);
    if (!solved) return std::nullopt;
    const Vector3d seen = solved->worldFromCamera.inverse() * xyz;
    if (seen.z() >= -1e-9) return std::nullopt;
    return plateFromPlane(solve.lens, {seen.x() / -seen.z(), seen.y() / seen.z()});
}

Expected<Solve> solveCamera(std::span<const Track> tracks, const SolveOptions& options, const Progress& progress) {
    if (options.width < 1 || options.height < 1) return failure(Fault::input, "the plate has no size");
    if (!(options.sensorWidth_mm > 0)) return failure(Fault::input, "the sensor width is {} mm; it has to be above 0", options.sensorWidth_mm);
    if (options.distortion == SolveOptions::Distortion::known && !options.lens) return failure(Fault::input, "no lens was given for a known distortion");
    if (options.lens && (options.lens->width != options.width || options.lens->height != options.height))
        return failure(Fault::input, "the lens is for {}x{}, the plate is {}x{}", options.lens->width, options.lens->height, options.width, options.height);
    if (options.focal != Knowledge::unknown && !(options.focal_mm > 0) && !options.lens)
        return failure(Fault::input, "the focal length is {} mm; it has to be above 0", options.focal_mm);
    progress.report(0, "Preparing the solve");
    const Material material = gather(tracks, options);
    if (material.frames.size() < 3)
        return failure(Fault::outcome, "tracks cover only {} frame{}; a camera needs at least 3, and a few hundred pixels of walk between them",
                       material.frames.size(), material.frames.size() == 1 ? "" : "s");
    if (material.trails.size() < std::size_t(options.fewestTracks))
        return failure(Fault::outcome, "only {} tracks of three frames or more; at least {} are needed, more is better: scatter features first",
                       material.trails.size(), options.fewestTracks);
    const std::vector<int> allKeys = chooseKeyframes(material, options.width, options.fewestTracks);
    if (allKeys.size() < 2)
        return failure(Fault::outcome, "no two frames have {} tracks; track more points", options.fewestTracks);

    const LensFreedom freedom{options.focal != Knowledge::known, options.distortion == SolveOptions::Distortion::unknown,
                              options.distortion == SolveOptions::Distortion::unknown};
    const auto lensFor = [&](double focal_px) {
        Lens lens = pinholeLens(options.width, options.height, focal_px);
        if (options.distortion == SolveOptions::Distortion::known) {
            lens = *options.lens;
            // Distortion is kept as numbers for its own focal length; for another one the same glass bends the same pixels.
            if (focal_px != lens.focal_px) {
                const double ratio = focal_px / lens.focal_px;
                lens.k1 *= ratio * ratio;
                lens.k2 *= ratio * ratio * ratio * ratio;
                lens.k3 *= std::pow(ratio, 6);
                lens.p1 *= ratio;
                lens.p2 *= ratio;
                lens.focal_px = focal_px;
            }
        }
        return lens;
    };
    std::vector<double> focals;
    if (options.focal == Knowledge::unknown)
        for (double share : kFocalsTried) focals.push_back(share * options.width);
    else if (options.focal_mm > 0)
        focals.push_back(focalPixels(options.focal_mm, options.sensorWidth_mm, options.width));
    else
        focals.push_back(options.lens->focal_px);

    // The base pair by parallax; the focal length in the middle of the range serves to judge it.
    const Lens judge = lensFor(focals[focals.size() / 2]);
    std::vector<PairScore> pairs = scorePairs(material, allKeys, judge);
    if (options.basePair) {
        const auto indexOf = [&](int frame) {
            const auto found = std::find(material.frames.begin(), material.frames.end(), frame);
            return found == material.frames.end() ? -1 : int(found - material.frames.begin());
        };
        const int a = indexOf(options.basePair->first);
        const int b = indexOf(options.basePair->second);
        if (a < 0 || b < 0 || a == b)
            return failure(Fault::input, "base pair {},{}: both frames need tracks and have to differ", options.basePair->first, options.basePair->second);
        pairs = {{std::min(a, b), std::max(a, b), 1e9, 1e9}};
    }
    if (pairs.empty()) return failure(Fault::outcome, "no base pair: no two frames share 15 tracks; track longer or more points");
    const double parallax = leastParallax(material, pairs.front(), lensFor, freedom.focal, freedom.k1, focals.front());
    if (parallax < kLeastParallax)
        return failure(Fault::outcome, "no base pair: the camera does not move enough (parallax {:.2f} px); try --motion nodal", parallax);

    // First a part of the keyframes, around the base pair; then all frames from there.
    const auto keysAround = [&](const PairScore& pair) {
        std::vector<int> keys = allKeys;
        for (int own : {pair.a, pair.b})
            if (std::find(keys.begin(), keys.end(), own) == keys.end()) keys.push_back(own);
        std::sort(keys.begin(), keys.end());
        const auto middle = std::find(keys.begin(), keys.end(), pair.a) - keys.begin();
        if (keys.size() > kMostKeyframes) {
            const auto first = std::clamp<std::ptrdiff_t>(middle - std::ptrdiff_t(kMostKeyframes / 3), 0, std::ptrdiff_t(keys.size() - kMostKeyframes));
            keys = std::vector<int>(keys.begin() + first, keys.begin() + first + std::ptrdiff_t(kMostKeyframes));
            for (int own : {pair.a, pair.b})
                if (std::find(keys.begin(), keys.end(), own) == keys.end()) keys.push_back(own);
        }
        return keys;
    };
    std::optional<Reconstruction> best;
    double bestCost = 1e300;
    Error lastError{Fault::outcome, "no base pair leads to a solve"};
    PairScore bestPair = pairs.front();
    std::mutex mutex;
    int done = 0;
    for (std::size_t attempt = 0; attempt < std::min<std::size_t>(pairs.size(), 4) && !best; ++attempt) {
        const PairScore pair = pairs[attempt * std::max<std::size_t>(1, pairs.size() / 12)];
        const std::vector<int> keys = keysAround(pair);
        parallelFor(focals.size(), [&](std::size_t i) {
            if (progress.stopped()) return;
            auto tried = solveKeyframes(material, keys, pair, options, lensFor(focals[i]), freedom, progress);
            const std::lock_guard lock(mutex);
            progress.report(0.05 + 0.35 * ++done / double(focals.size() * (attempt + 1)), "Finding the base and the lens");
            if (!tried) {
                lastError = tried.error();
                return;
            }
            // What explains few points well is no better than what explains all a little worse; nor is a lens that folds.
            const double cost = tried->cost() + (checkLens(tried->lens()) ? 0.0 : 1.0) +
                                2.0 * (1 - double(tried->placedFrames()) / double(keys.size()));
            if (cost < bestCost) {
                bestCost = cost;
                best = std::move(*tried);
                bestPair = pair;
            }
        });
        if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    }
    if (!best) return failure(Fault::outcome, "no solve from any base pair: {}; try more tracks, other base frames or a known focal length", lastError.message);

    // All frames, the near ones first, so that each finds points already placed.
    Reconstruction& scene = *best;
    const double loose = 0.004 * options.width;
    progress.report(0.45, "Placing all frames");
    for (int pass = 0; pass < 6; ++pass) {
        const int before = scene.placedFrames();
        std::vector<int> open;
        for (int frame = 0; frame < int(material.frames.size()); ++frame)
            if (!scene.poses()[std::size_t(frame)] && scene.sightingsOf(frame) >= options.fewestTracks) open.push_back(frame);
        if (open.empty()) break;
        scene.placeAll(open, loose);
        scene.triangulateAll(loose, false);
        if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
        if (scene.placedFrames() == before) break;
        if (pass < 5 && scene.placedFrames() < int(material.frames.size())) scene.adjustAll(bundleOptions(options, freedom, 2.0, 4), progress);
    }
    progress.report(0.55, "Adjusting");
    const auto width = [&] { return std::clamp(3.0 * 1.2 * scene.medianError(), 0.3, 3.0); };
    scene.triangulateAll(loose, true);
    scene.adjustAll(bundleOptions(options, freedom, std::max(1.0, width()), 12), progress);
    if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    progress.report(0.75, "Leaving out what disagrees");
    std::vector<TrackRole> roles(material.trails.size(), TrackRole::unplaced);
    for (int pass = 0; pass < 2; ++pass) {
        scene.triangulateAll(3.0 * loose, true);
        const double limit = std::max(1.2, 6.0 * scene.medianError());
        for (std::size_t t = 0; t < material.trails.size(); ++t) {
            if (!scene.points()[t]) continue;
            const auto [rms, count] = scene.rmsOf(material.trails[t], *scene.points()[t]);
            const double own = options.trim_px > 0 && pass == 1 ? std::min(limit, options.trim_px) : limit;
            if (rms > own) {
                roles[t] = TrackRole::disagreed;
                scene.dropPoint(t);
            }
        }
        for (std::size_t f = 0; f < material.frames.size(); ++f)
            if (scene.poses()[f] && scene.sightingsOf(int(f)) < std::min(options.fewestTracks, 6)) scene.forgetFrame(f);
        scene.adjustAll(pass == 0 ? bundleOptions(options, freedom, width(), 10) : bundleOptions(options, freedom, width(), 25, 2e-5), progress);
        if (progress.stopped()) return failure(Fault::stopped, "the solve was stopped");
    }
    if (scene.placedPoints() < options.fewestTracks)
        return failure(Fault::outcome, "only {} tracks agree on one camera; mask what moves, or track more of what stands still", scene.placedPoints());
    const double angle = scene.medianAngle();
    if (angle < 0.75 * kLeastAngle)
        return failure(Fault::outcome, "no base pair: the camera does not move enough (rays spread by {:.2f} degrees); try --motion nodal", angle);
    if (auto lens = checkLens(scene.lens()); !lens)
        return failure(Fault::outcome, "the lens that was found is impossible ({}); give a focal length or set the distortion to none", lens.error().message);

    progress.report(0.92, "Measuring");
    Solve solve;
    solve.lens = scene.lens();
    solve.sensorWidth_mm = options.sensorWidth_mm;
    solve.medianAngleDegrees = angle;
    solve.basePair = {material.frames[std::size_t(bestPair.a)], material.frames[std::size_t(bestPair.b)]};
    std::vector<SolvedTrack> solvedTracks;
    std::vector<double> squaresByFrame(material.frames.size(), 0.0);
    std::vector<int> countByFrame(material.frames.size(), 0);
    double squares = 0, heldSquares = 0;
    std::size_t count = 0, heldCount = 0;
    const double believable = std::max(1.2, 6.0 * scene.medianError());
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        const Trail& trail = material.trails[t];
        SolvedTrack solved;
        solved.track = tracks[trail.track].id;
        solved.role = roles[t];
        if (trail.heldOut) {
            // Placed from every other frame, measured on the rest.
            std::vector<Seen> half;
            for (std::size_t i = 0; i < trail.seen.size(); i += 2) half.push_back(trail.seen[i]);
            if (const auto point = scene.placed(half, 3 * loose)) {
                double own = 0;
                int ownCount = 0;
                for (std::size_t i = 1; i < trail.seen.size(); i += 2) {
                    if (!scene.poses()[std::size_t(trail.seen[i].frame)]) continue;
                    const double error = scene.errorAt(trail.seen[i], *point);
                    own += error * error;
                    ++ownCount;
                }
                const double rms = ownCount > 0 ? std::sqrt(own / ownCount) : 0;
                solved.xyz = point;
                solved.rms_px = rms;
                solved.frames = ownCount;
                // The same limit as for the others: a mover is no measure of the camera.
                if (rms <= believable) {
                    solved.role = TrackRole::heldOut;
                    heldSquares += own;
                    heldCount += std::size_t(ownCount);
                    ++solve.heldOut;
                } else {
                    solved.role = TrackRole::disagreed;
                }
            }
        } else if (scene.points()[t]) {
            const auto [rms, frames] = scene.rmsOf(trail, *scene.points()[t]);
            solved.role = TrackRole::used;
            solved.xyz = *scene.points()[t];
            solved.rms_px = rms;
            solved.frames = frames;
            ++solve.used;
            for (const Seen& seen : trail.seen) {
                if (!scene.poses()[std::size_t(seen.frame)]) continue;
                const double error = scene.errorAt(seen, *scene.points()[t]);
                squaresByFrame[std::size_t(seen.frame)] += error * error;
                ++countByFrame[std::size_t(seen.frame)];
                squares += error * error;
                ++count;
            }
        } else if (const auto point = scene.placed(trail.seen, 1e9)) {
            // What disagrees is shown where it would lie best, with the error it has there.
            solved.rms_px = scene.rmsOf(trail, *point).first;
            solved.frames = scene.rmsOf(trail, *point).second;
        }
        if (solved.role == TrackRole::disagreed) ++solve.disagreed;
        solvedTracks.push_back(solved);
    }
    solve.rms_px = count > 0 ? std::sqrt(squares / double(count)) : 0;
    solve.heldOutRms_px = heldCount > 0 ? std::sqrt(heldSquares / double(heldCount)) : 0;
    std::vector<int> cameraOf(material.frames.size(), -1), pointOf(material.trails.size(), -1);
    const Bundle bundle = scene.assemble(cameraOf, pointOf);
    BundleOptions measured = bundleOptions(options, freedom, width(), 0);
    measured.heldCamera = cameraOf[std::size_t(scene.heldFrame())];
    const auto covariance = covarianceOf(bundle, measured);
    std::vector<SolvedFrame> solvedFrames;
    for (std::size_t f = 0; f < material.frames.size(); ++f) {
        if (!scene.poses()[f]) continue;
        SolvedFrame frame{.frame = material.frames[f], .worldFromCamera = worldFromCamera(*scene.poses()[f]), .focal_px = solve.lens.focal_px};
        frame.rms_px = countByFrame[f] > 0 ? std::sqrt(squaresByFrame[f] / countByFrame[f]) : 0;
        frame.tracks = countByFrame[f];
        if (covariance) frame.deviation = covariance->positions[std::size_t(cameraOf[f])];
        solvedFrames.push_back(frame);
    }
    solve.frames = List<SolvedFrame>(std::move(solvedFrames));
    solve.tracks = List<SolvedTrack>(std::move(solvedTracks));
    if (covariance && freedom.focal) solve.focalDeviation_mm = focalMillimetres(covariance->focal_px, options.sensorWidth_mm, options.width);
    normalise(solve);
    progress.report(1, "Solved");
    return solve;
}

}  // namespace pinion
