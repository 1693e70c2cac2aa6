#include "camera/doubt.h"

#include "base/units.h"
#include "camera/readings.h"
#include "camera/sceneshape.h"

#include <algorithm>
#include <cmath>
#include <fmt/core.h>

namespace pinion::solving {

using Eigen::Vector3d;

namespace {
constexpr double kClear =
    6.0;  // fall of the log-likelihood that nobody would call alike: three and a half standard deviations
constexpr double kLooseFocal = 0.012;               // relative deviation from which on it is worth a profile
constexpr double kLongest = 3.2, kShortest = 0.45;  // frame widths beyond which focal lengths are rare
constexpr double kClearOfSlide = 12;
constexpr double kStep = 1.09;                            // from one focal length of the profile to the next
constexpr int kFrames = 28;                               // that the profile looks at
constexpr double kShortestLens = 8, kLongestLens = 1200;  // mm on a frame 36 mm wide
constexpr double kRival =
    25.0;  // fall of the log-likelihood between two paths; wrong tracks lend it some weight of their own

double millimetres(const SolveOptions& options, double focal_px) {
    return focalMillimetres(focal_px, options.sensorWidth_mm, options.width);
}

/// The focal lengths of candidates that are clearly different cameras and explain the keyframes as well as the winner.
std::vector<double> otherFocals(const std::vector<Attempt>& candidates, const LensPlan& plan,
                                const Progress& progress) {
    std::vector<double> others;
    for (std::size_t i = 1; i < candidates.size(); ++i) {
        const Attempt& best = candidates.front();
        const auto differs = [&](const Reconstruction& scene) {
            return std::abs(scene.lens().focal_px / best.scene.lens().focal_px - 1) > 0.1;
        };
        if (candidates[i].badness > 1.2 * best.badness + 0.002 || !differs(candidates[i].scene)) continue;
        // It may only not have arrived yet.
        Reconstruction scene = candidates[i].scene;
        settle(scene, plan, progress, 3);
        if (!differs(scene)) continue;
        std::vector<int> frames;
        for (int f = 0; f < int(scene.material().frames.size()); ++f)
            if (best.scene.pose(f)) frames.push_back(f);
        const double noise = std::max(best.scene.noise(), 0.05 * scene.material().scale());
        if (scene.badness(frames, noise) < 1.01 * best.scene.badness(frames, noise) + 0.0005)
            others.push_back(scene.lens().focal_px);
    }
    return others;
}

/// The step from one frame to the next at which the fewest tracks hold the two sides together.
struct Seam {
    int before = 0, after = 0;  ///< frame numbers
    int holding = 0, crossing = 0;
};
Seam weakestSeam(const Reconstruction& scene) {
    const Material& material = scene.material();
    std::vector<Seam> seams(material.frames.size() - 1);
    for (std::size_t t = 0; t < material.trails.size(); ++t) {
        const Trail& trail = material.trails[t];
        if (trail.heldOut) continue;
        const auto [from, to] = scene.stretch(t);
        const bool held = scene.point(t) && !scene.isDoubted(t);
        for (int f = trail.seen.front().frame; f < trail.seen.back().frame; ++f) {
            Seam& seam = seams[std::size_t(f)];
            ++seam.crossing;
            seam.holding += held && f >= trail.seen[std::size_t(from)].frame && f < trail.seen[std::size_t(to)].frame;
        }
    }
    Seam weakest{0, 0, 1 << 20, 1 << 20};
    for (std::size_t f = 0; f < seams.size(); ++f) {
        seams[f].before = material.frames[f];
        seams[f].after = material.frames[f + 1];
        if (double(seams[f].holding) / std::max(1, seams[f].crossing) <
                double(weakest.holding) / std::max(1, weakest.crossing) ||
            weakest.crossing == 1 << 20)
            weakest = seams[f];
    }
    return weakest;
}

/// Takes a scene to `ratio` times its focal length, held there, everything else adjusted.
void moveAlong(Reconstruction& scene, double ratio, const LensTerms& held, double width, const Progress& progress) {
    // The same glass bends the same pixels; and of a camera that does not turn, a scene stretched in depth looks the
    // same.
    Lens lens = scene.lens();
    lens.k1 *= ratio * ratio;
    lens.k2 *= std::pow(ratio, 4);
    lens.focal_px *= ratio;
    Reconstruction deeper = scene;
    deeper.deepen(ratio);
    for (Reconstruction* start : {&scene, &deeper}) {
        start->setLens(lens);
        start->adjust(held, width, 14, progress, 1e-5);
    }
    const auto costOfScene = [&](const Reconstruction& at) {
        return costOf(at.assemble(), at.bundleOptions(held, width, 0, 0));
    };
    if (costOfScene(deeper) < costOfScene(scene)) scene = std::move(deeper);
}

/// What speaks against a focal length that was given.
std::optional<std::string> doubtOfGivenFocal(const Reconstruction& scene, const LensPlan& plan,
                                             const Progress& progress) {
    const SolveOptions& options = scene.options();
    if (options.focal == Knowledge::unknown || scene.isZoom()) return std::nullopt;
    const auto tried = focalsToTry(options);
    const double given = tried.size() == 3 ? tried[1] : tried.front();
    const auto asked = focalAskedFor(scene, plan, progress);
    if (!asked) return std::nullopt;
    const double off = std::abs(asked->focal_px - given);
    const double sigma = options.focal == Knowledge::guessed
                             ? 2 * focalPixels(options.focalSigma_mm, options.sensorWidth_mm, options.width)
                             : 0.0;
    if (off <= 5 * asked->deviation_px + sigma || off <= 0.03 * given) return std::nullopt;
    return fmt::format("{:.1f} mm was given, the tracks say {:.1f} ± {:.1f} mm: check the lens, or the sensor width",
                       millimetres(options, given), millimetres(options, asked->focal_px),
                       millimetres(options, asked->deviation_px));
}

/// Standard deviation of a place over the length of the path.
double pathDeviation(const Reconstruction& scene, const std::optional<BundleCovariance>& covariance) {
    if (!covariance || covariance->positions.empty()) return 0;
    double squares = 0, length = 0;
    std::optional<Vector3d> last;
    std::size_t at = 0;
    for (int f = 0; f < int(scene.material().frames.size()); ++f) {
        if (!scene.pose(f)) continue;
        squares += covariance->positions[at++].trace();
        if (last) length += (scene.pose(f)->centre() - *last).norm();
        last = scene.pose(f)->centre();
    }
    return std::sqrt(squares / double(std::max<std::size_t>(1, at))) / std::max(1e-12, length);
}

bool isTornAt(const Seam& seam) { return seam.crossing >= 8 && seam.holding < 0.4 * seam.crossing; }

constexpr int kFewNear = 4;

/// Tracks that were set apart because they would lie in the camera's very place: before a far wall what stands near is
/// left out as well, and nothing else tells that the camera is off.
int tracksOnlyNear(const Reconstruction& scene) {
    if (scene.turnsOnly()) return 0;
    int count = 0;
    for (std::size_t t = 0; t < scene.material().trails.size(); ++t) {
        const Trail& trail = scene.material().trails[t];
        count +=
            !trail.heldOut && !scene.point(t) && trail.seen.size() >= 5 && scene.isOnlyNear(trail, lossWidth(scene));
    }
    return count;
}

}  // namespace

bool isTorn(const Reconstruction& scene) { return isTornAt(weakestSeam(scene)); }

Reconstruction thinned(const Reconstruction& scene, int most) {
    Reconstruction part = scene;
    std::vector<int> placed;
    for (int f = 0; f < int(scene.material().frames.size()); ++f)
        if (scene.pose(f)) placed.push_back(f);
    if (int(placed.size()) <= most) return part;
    std::vector<char> kept(scene.material().frames.size(), 0);
    for (int i = 0; i < most; ++i)
        kept[std::size_t(placed[std::size_t(i) * (placed.size() - 1) / std::size_t(most - 1)])] = 1;
    for (const int f : placed)
        if (!kept[std::size_t(f)]) part.forgetFrame(f);
    return part;
}

std::pair<double, double> alikeFocals(const Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    Reconstruction middle = thinned(scene, kFrames);
    const double width = lossWidth(scene);
    const double own = scene.lens().focal_px, size = scene.material().width;
    const LensTerms held = LensTerms(plan.fine).remove(LensTerm::focal);
    middle.adjust(plan.fine, width, 12, progress);
    const double noise = std::max(middle.noise(), 0.03 * scene.material().scale());
    // What is seen of the shot here is a part of what there is. Along a slide the truth has no valley: what small,
    // lasting errors of tracks do decides, and that does not grow with the frames.
    const double clear =
        slidesStraight(scene) ? kClearOfSlide : kClear * double(middle.placedFrames()) / double(scene.placedFrames());
    const auto costOfScene = [&](const Reconstruction& at) {
        const BundleOptions options = at.bundleOptions(held, width, 0, 0);
        return costOf(at.assemble(), options) / (noise * noise);
    };
    const double least = costOfScene(middle);
    const auto reach = [&](double factor) {
        Reconstruction moved = middle;
        double last = own;
        for (double focal = own * factor; focal > 0.33 * size && focal < 11.2 * size && !progress.stopped();
             focal *= factor) {
            moveAlong(moved, focal / moved.lens().focal_px, held, width, progress);
            if (costOfScene(moved) - least > clear) return last;
            last = focal;
        }
        return last;
    };
    const double low = reach(1 / kStep), high = reach(kStep);
    return {low, high};
}

std::optional<FocalOpinion> focalAskedFor(const Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    Reconstruction part = thinned(scene, kFrames);
    const LensTerms free = LensTerms(plan.fine).add(LensTerm::focal);
    const double width = lossWidth(part);
    part.adjust(free, width, 20, progress);
    part.adjust(free, lossWidth(part), 20, progress);
    const auto covariance = covarianceOf(part.assemble(), part.bundleOptions(free, lossWidth(part), 0, 0), true);
    if (!covariance) return std::nullopt;
    return FocalOpinion{part.lens().focal_px, covariance->deviationOf(LensTerm::focal)};
}

std::string inRanges(const std::vector<int>& frames) {
    std::string text;
    for (std::size_t i = 0; i < frames.size();) {
        std::size_t j = i;
        while (j + 1 < frames.size() && frames[j + 1] == frames[j] + 1) ++j;
        text += (text.empty() ? "" : ", ") +
                (i == j ? fmt::format("{}", frames[i]) : fmt::format("{}-{}", frames[i], frames[j]));
        i = j + 1;
    }
    return text;
}

double spreadOf(const std::pair<double, double>& focals, double focal_px) {
    return focal_px * std::log(focals.second / focals.first) / std::sqrt(12.0);
}

std::optional<std::pair<double, double>> openFocals(const Reconstruction& scene, const LensPlan& plan,
                                                    const std::vector<Attempt>& candidates,
                                                    const std::optional<BundleCovariance>& covariance,
                                                    const Progress& progress) {
    if (!plan.focal || scene.isZoom()) return std::nullopt;
    const double focal = scene.lens().focal_px;
    double low = focal, high = focal;
    const double deviation = covariance ? covariance->deviationOf(LensTerm::focal) / focal : 1.0;
    // A straight slide has another answer for every focal length, and where it comes to rest its neighbourhood may look
    // firm; so does what was driven to the end of what was tried.
    const double widths = focal / scene.material().width;
    const bool suspicious =
        deviation > kLooseFocal || widths > kLongest || widths < kShortest || slidesStraight(scene) || isFlat(scene);
    if (suspicious && scene.options().focal == Knowledge::unknown)
        std::tie(low, high) = alikeFocals(scene, plan, progress);
    for (const double other : otherFocals(candidates, plan, progress)) {
        low = std::min(low, other);
        high = std::max(high, other);
    }
    if (high / low <= 1.15) return std::nullopt;
    return std::pair{low, high};
}

void takeFocal(Reconstruction& scene, const LensPlan& plan, double focal_px, const Progress& progress) {
    const LensTerms held = LensTerms(plan.fine).remove(LensTerm::focal);
    while (!progress.stopped()) {
        const double ratio = std::clamp(focal_px / scene.lens().focal_px, 1 / 1.25, 1.25);
        moveAlong(scene, ratio, held, lossWidth(scene), progress);
        if (scene.lens().focal_px == focal_px || std::abs(ratio - 1) < 1e-9) break;
    }
}

std::string doubtsOf(Solve& solve, const Reconstruction& scene, const Evidence& evidence, const Progress& progress) {
    const SolveOptions& options = scene.options();
    const Material& material = scene.material();
    const auto& covariance = evidence.covariance;
    std::vector<std::string> doubts;
    std::vector<int> missing;
    for (int f = 0; f < int(material.frames.size()); ++f)
        if (!scene.pose(f)) missing.push_back(material.frames[std::size_t(f)]);
    if (!missing.empty())
        doubts.push_back(fmt::format("{} of {} frames have no camera ({}): track more that stands still there",
                                     missing.size(), material.frames.size(), inRanges(missing)));
    if (!covariance)
        doubts.push_back("the tracks leave something of the camera open: track more, or give a focal length");
    if (evidence.openFocals) {
        solve.focalRange_mm = {millimetres(options, evidence.openFocals->first),
                               millimetres(options, evidence.openFocals->second)};
        // Anything in the range is as likely: the deviation of an even spread of the logarithm.
        solve.focalDeviation_mm = std::max(solve.focalDeviation_mm.value_or(0),
                                           millimetres(options, spreadOf(*evidence.openFocals, scene.lens().focal_px)));
        doubts.push_back(fmt::format("{:.0f} to {:.0f} mm fit alike: give a focal length, or a longer move",
                                     solve.focalRange_mm->first, solve.focalRange_mm->second));
    } else if (evidence.plan.focal && !scene.isZoom()) {
        const double deviation = covariance ? covariance->deviationOf(LensTerm::focal) / scene.lens().focal_px : 1.0;
        if (deviation > 0.03)
            doubts.push_back(
                fmt::format("the focal length is known to {:.0f} % only: give one, or track more", 100 * deviation));
    }
    if (auto doubt = doubtOfGivenFocal(scene, evidence.plan, progress)) doubts.push_back(std::move(*doubt));
    for (const Rival& rival : evidence.rivals)
        if (doubts.empty() && rival.behind < kRival && rival.apart > 0.03)
            doubts.push_back(
                fmt::format("another camera path, {:.0f} % of its length away, explains the tracks about as well: give "
                            "a focal length, or track what is nearer",
                            100 * rival.apart));
    if (const double share = pathDeviation(scene, covariance); share > 0.02 && doubts.empty())
        doubts.push_back(fmt::format(
            "the camera's path is known to {:.0f} % of its length only: a longer move or nearer tracks would tell more",
            100 * share));
    std::vector<int> frames;  // enough of them
    for (int f = 0; f < int(material.frames.size()); f += 1 + int(material.frames.size()) / 120) frames.push_back(f);
    if (isBent(scene, frames))
        doubts.push_back(fmt::format(
            "tracks near each other are off together by {:.2f} px: something that moves bends the camera, or the lens "
            "is another; mask what moves",
            sharedError(scene, frames)));
    if (const int near = tracksOnlyNear(scene); near >= kFewNear)
        doubts.push_back(
            fmt::format("{} tracks move by themselves, or stand so near before the lens that they are not believed and "
                        "the camera is "
                        "off: mask them, or track more at distances between",
                        near));
    const Seam seam = weakestSeam(scene);
    if (isTornAt(seam))
        doubts.push_back(
            fmt::format("between frames {} and {} only {} of {} tracks agree: the two sides may not belong together",
                        seam.before, seam.after, seam.holding, seam.crossing));
    const int judged = solve.used + solve.disagreed;
    if (judged > 0 && solve.used < 0.6 * judged)
        doubts.push_back(fmt::format(
            "only {} of {} tracks agree on one camera: mask what moves, or something else than the set was followed",
            solve.used, judged));
    if (solve.rms_px > 2.0 * material.scale())
        doubts.push_back(
            fmt::format("the error of {:.2f} px is large: no camera explains these tracks well", solve.rms_px));
    if (const double on36 = 36 * scene.lens().focal_px / material.width;
        evidence.plan.focal && (on36 < kShortestLens || on36 > kLongestLens))
        doubts.push_back(
            fmt::format("{:.3g} mm is no lens: give a focal length", millimetres(options, scene.lens().focal_px)));
    if (auto lens = checkLens(scene.lens()); !lens)
        doubts.push_back(
            fmt::format("the distortion that was found is no lens ({}): set it to none or k1", lens.error().message));
    if (progress.stopped()) doubts.push_back("it was stopped before its end");
    std::string text;
    for (const std::string& doubt : doubts) text += (text.empty() ? "" : "; ") + doubt;
    return text;
}

}  // namespace pinion::solving
