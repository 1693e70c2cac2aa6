#include "camera/hypotheses.h"

#include "base/parallel.h"
#include "base/units.h"
#include "camera/sortingout.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <mutex>

namespace pinion::solving {
namespace {

// Focal lengths tried when nothing is known, in frame widths: 15 mm to 165 mm on a 36 mm frame.
constexpr std::array<double, 7> kFocalsTried{0.42, 0.65, 0.95, 1.4, 2.0, 3.0, 4.6};
constexpr int kPerCell = 7;            // trails of a first guess, in each of 40 parts of the picture
constexpr std::size_t kWindow = 9;     // keyframes of the first part
constexpr std::size_t kSecondTry = 8;  // when those explain too little
constexpr double kPoor = 0.27;         // badness over all keyframes
constexpr std::size_t kMotions = 3;    // that may explain one pair
constexpr double kMostSay = 0.74;      // the share of the tracks that an unusual place of the axis has to suit better

/// Keyframes around a pair: between its frames, and one beyond each.
std::vector<int> windowOf(const std::vector<int>& keys, const BasePair& pair) {
    std::vector<int> inner;
    std::vector<int> result{pair.a, pair.b};
    for (const int key : keys)
        if (key > pair.a && key < pair.b) inner.push_back(key);
    const std::size_t room = kWindow - 4;
    if (inner.size() <= room) result.insert(result.end(), inner.begin(), inner.end());
    else
        for (std::size_t i = 0; i < room; ++i) result.push_back(inner[(2 * i + 1) * inner.size() / (2 * room)]);
    std::vector<int> before, after;
    for (const int key : keys) {
        if (key < pair.a) before.push_back(key);
        if (key > pair.b) after.push_back(key);
    }
    std::size_t back = before.size(), on = 0;
    while (result.size() < kWindow && (back > 0 || on < after.size())) {
        if (back > 0) result.push_back(before[--back]);
        if (on < after.size() && result.size() < kWindow) result.push_back(after[on++]);
    }
    std::sort(result.begin(), result.end());
    return result;
}

std::optional<Reconstruction> solveWindow(const Material& material, const std::vector<int>& window,
                                          const BasePair& pair, const RelativePose& relative,
                                          const std::vector<int>& trails, const std::vector<PlanePair>& pairs,
                                          const Lens& lens, const SolveOptions& options, const LensPlan& plan,
                                          const std::vector<int>& chosen, const Progress& progress) {
    Reconstruction scene(material, options, lens, options.zooms());
    // Until the lens is found its faults look like errors of the tracks, most of all at the corners.
    const double loose = (plan.bends() ? 0.005 : 0.0025) * material.width;
    scene.takeOnly(chosen);
    scene.start(pair.a, pair.b, relative, trails, pairs);
    scene.adjust({}, lossWidth(scene), 6, progress);
    std::vector<int> open;
    for (const int key : window)
        if (key != pair.a && key != pair.b) open.push_back(key);
    int added = 0;
    while (!open.empty() && !progress.stopped()) {
        const auto next = std::max_element(open.begin(), open.end(),
                                           [&](int a, int b) { return scene.sightingsOf(a) < scene.sightingsOf(b); });
        const int frame = *next;
        open.erase(next);
        if (!scene.place(frame, loose)) continue;
        ++added;
        scene.triangulateAll(2 * loose, false);
        if (added == 1 || added == 2 || added == 4 || open.empty())
            scene.adjust(added >= 2 ? plan.coarse : LensTerms{}, lossWidth(scene), 6, progress);
    }
    if (progress.stopped() || (added == 0 && window.size() > 2)) return std::nullopt;
    for (int pass = 0; pass < 2; ++pass) {
        scene.triangulateAll(loose, true);
        scene.adjust(plan.coarse, lossWidth(scene), 12, progress);
    }
    return scene;
}

}  // namespace

std::vector<int> telling(const Material& material, const std::vector<int>& window) {
    struct Entry {
        int sightings = 0;
        Eigen::Vector2d at{0, 0};
    };
    std::map<int, Entry> entries;
    for (const int frame : window)
        for (const auto& [trail, place] : material.byFrame[std::size_t(frame)]) {
            Entry& entry = entries[trail];
            if (entry.sightings++ == 0) entry.at = place;
        }
    std::vector<std::pair<int, int>> order;  // fewer sightings later
    for (const auto& [trail, entry] : entries)
        if (entry.sightings >= 2) order.emplace_back(-entry.sightings, trail);
    std::sort(order.begin(), order.end());
    constexpr int kAcross = 8, kDown = 5;
    std::array<int, kAcross * kDown> filled{};
    std::vector<int> chosen;
    for (const auto& [sightings, trail] : order) {
        const Eigen::Vector2d at = entries[trail].at;
        const int x = std::clamp(int(at.x() / material.width * kAcross), 0, kAcross - 1),
                  y = std::clamp(int(at.y() / material.height * kDown), 0, kDown - 1);
        if (filled[std::size_t(y * kAcross + x)]++ < kPerCell) chosen.push_back(trail);
    }
    return chosen;
}

LensPlan lensPlanOf(const SolveOptions& options) {
    LensPlan plan;
    plan.focal = options.focal != Knowledge::known;
    if (plan.focal) plan.coarse.add(LensTerm::focal);
    const bool bends =
        options.distortion == SolveOptions::Distortion::unknown || options.distortion == SolveOptions::Distortion::k1 ||
        options.distortion == SolveOptions::Distortion::full || options.distortion == SolveOptions::Distortion::guessed;
    if (bends) plan.coarse.add(LensTerm::k1);
    plan.fine = plan.coarse;
    if (bends && options.distortion != SolveOptions::Distortion::k1) plan.fine.add(LensTerm::k2);
    if (options.distortion == SolveOptions::Distortion::full)
        plan.fine.add(LensTerm::k3).add(LensTerm::p1).add(LensTerm::p2);
    if (options.axis != SolveOptions::Axis::centre) plan.fine.add(LensTerm::cx).add(LensTerm::cy);
    if (options.zooms() && bends) plan.fine.add(LensTerm::k1Slope);
    return plan;
}

Lens lensAt(const SolveOptions& options, double focal_px) {
    Lens lens = pinholeLens(options.width, options.height, focal_px);
    lens.squeeze = options.squeeze;
    if (options.lens) {
        lens.cx = options.lens->cx;
        lens.cy = options.lens->cy;
        lens.squeeze = options.lens->squeeze;
    }
    if (!options.lens || (options.distortion != SolveOptions::Distortion::known &&
                          options.distortion != SolveOptions::Distortion::guessed))
        return lens;
    return atFocal(*options.lens, focal_px);
}

std::vector<double> focalsToTry(const SolveOptions& options) {
    std::vector<double> focals;
    const double given = options.focal_mm > 0 ? focalPixels(options.focal_mm, options.sensorWidth_mm, options.width)
                         : options.lens       ? options.lens->focal_px
                                              : 0;
    if (options.focal == Knowledge::known) return {given};
    if (options.focal == Knowledge::guessed) {
        const double sigma = std::min(0.45, options.focalSigma_mm / options.focal_mm);
        if (sigma < 0.1) return {given};
        return {given * (1 - sigma), given, given * (1 + sigma)};
    }
    for (const double share : kFocalsTried) focals.push_back(share * options.width);
    return focals;
}

double lossWidth(const Reconstruction& scene) {
    // Real tracks are wrong by a tenth of a pixel for many frames on end; a width below a few tenths would take that
    // for a mistake.
    const double scale = scene.material().scale();
    return std::clamp(3 * scene.noise(), 0.3 * scale, 4.0 * scale);
}

void extend(Reconstruction& scene, const std::vector<int>& keys, const LensPlan& plan, const Progress& progress) {
    const double loose = (plan.bends() ? 0.004 : 0.0025) * scene.material().width;
    int since = 0;
    std::vector<int> open;
    for (const int key : keys)
        if (!scene.pose(key)) open.push_back(key);
    while (!open.empty() && !progress.stopped()) {
        const auto next = std::max_element(open.begin(), open.end(),
                                           [&](int a, int b) { return scene.sightingsOf(a) < scene.sightingsOf(b); });
        const int frame = *next;
        open.erase(next);
        if (!scene.place(frame, loose)) continue;
        scene.triangulateAll(loose, false);
        if (++since >= std::max(2, scene.placedFrames() / 5)) {
            since = 0;
            scene.adjust(plan.coarse, lossWidth(scene), 5, progress, 1e-3);
        }
    }
}

void settle(Reconstruction& scene, const LensPlan& plan, const Progress& progress, int passes) {
    const double loose = 0.004 * scene.material().width;
    for (int pass = 0; pass < passes && !progress.stopped(); ++pass) {
        scene.triangulateAll(pass == 0 ? loose : std::clamp(12 * scene.noise(), 0.001 * scene.material().width, loose),
                             true);
        scene.adjust(pass == 0 ? plan.coarse : plan.fine, lossWidth(scene), pass == 0 ? 12 : 25, progress);
    }
}

namespace {

/// The share of the tracks placed in both that the first explains better, each counting as one: a few that are wrong
/// by much weigh no more than others.
double shareBetter(const Reconstruction& first, const Reconstruction& second) {
    const auto squares = [](const Reconstruction& scene, std::size_t i) {
        double sum = 0;
        for (const auto& [index, error] : scene.errorsOf(scene.material().trails[i], *scene.point(i)))
            sum += error.squaredNorm();
        return sum;
    };
    int better = 0, count = 0;
    for (std::size_t i = 0; i < first.material().trails.size(); ++i) {
        if (!first.point(i) || !second.point(i) || first.isDropped(i) || second.isDropped(i)) continue;
        better += squares(first, i) < squares(second, i);
        ++count;
    }
    return count > 0 ? double(better) / count : 0;
}

/// Where the tracks pull the optical axis farther off than lenses have it: a cropped plate, which nearly all tracks
/// say; or a few tracks that are wrong, where the scene hardly tells the axis (a plane, a long lens).
void settleAxis(Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    if (scene.isZoom()) {  // put to the tracks so, one zoom of the tests ended 2.1 % off: why is not known
        scene.widenAxis();
        scene.adjust(plan.fine, lossWidth(scene), 30, progress, 2e-5);
        return;
    }
    Reconstruction usual = scene;
    LensPlan centred = plan;
    centred.fine.remove(LensTerm::cx).remove(LensTerm::cy);
    usual.centreAxis();
    for (int pass = 0; pass < 2; ++pass) {
        usual.adjust(centred.fine, lossWidth(usual), 30, progress, 2e-5);
        sortOut(usual, 0);
    }
    scene.widenAxis();
    scene.adjust(plan.fine, lossWidth(scene), 30, progress, 2e-5);
    sortOut(scene, 0);
    if (shareBetter(scene, usual) < kMostSay) {
        usual.adjust(plan.fine, lossWidth(usual), 30, progress, 2e-5);
        scene = std::move(usual);
    }
}

}  // namespace

void polish(Reconstruction& scene, const LensPlan& plan, const Progress& progress) {
    sortOut(scene, 0);
    scene.adjust(plan.fine, lossWidth(scene), 30, progress, 2e-5);
    if (scene.axisStrains() && plan.fine.has(LensTerm::cx)) settleAxis(scene, plan, progress);
    sortOut(scene, 0);
    scene.adjust(plan.fine, lossWidth(scene), 30, progress, 2e-5);
}

std::vector<Attempt> searchKeyframes(const Material& material, const std::vector<int>& keys,
                                     const std::vector<BasePair>& pairs, const SolveOptions& options,
                                     const Progress& progress, const SearchBreadth& breadth) {
    const LensPlan plan = lensPlanOf(options);
    std::vector<double> focals = focalsToTry(options);
    if (focals.size() > breadth.everyFocal) {
        std::size_t kept = 0;
        for (std::size_t i = breadth.everyFocal / 2; i < focals.size(); i += breadth.everyFocal)
            focals[kept++] = focals[i];
        focals.resize(kept);
    }
    std::mutex mutex;
    std::vector<Attempt> windows;
    std::size_t done = 0;
    const double loose = (plan.bends() ? 0.004 : 0.0015) * material.width;
    std::vector<std::vector<int>> windowFrames;
    std::vector<std::vector<int>> windowTrails;
    for (const BasePair& pair : pairs) {
        windowFrames.push_back(windowOf(keys, pair));
        windowTrails.push_back(telling(material, windowFrames.back()));
    }
    parallelFor(pairs.size() * focals.size(), [&](std::size_t index) {
        if (progress.stopped()) return;
        const BasePair& pair = pairs[index / focals.size()];
        const Lens lens = lensAt(options, focals[index % focals.size()]);
        std::vector<int> trails;
        const auto places = planePairs(sharedPlaces(material, pair.a, pair.b, &trails), lens);
        const auto motions = relativePoses(places, {.inlierDistance = loose / lens.focal_px, .rounds = 250}, kMotions);
        if (motions)
            for (const RelativePose& relative : *motions) {
                auto scene = solveWindow(material, windowFrames[index / focals.size()], pair, relative, trails, places,
                                         lens, options, plan, windowTrails[index / focals.size()], progress);
                if (!scene) continue;
                const std::lock_guard lock(mutex);
                windows.push_back({std::move(*scene), pair, lens.focal_px, 1});
            }
        const std::lock_guard lock(mutex);
        progress.report(0.6 * double(++done) / double(pairs.size() * focals.size()), "Finding the base and the lens");
    });
    if (windows.empty() || progress.stopped()) return {};
    const auto rank = [&](std::vector<Attempt>& candidates, const auto& framesOf) {
        double noise = 1e9;
        for (const Attempt& candidate : candidates) noise = std::min(noise, candidate.scene.noise());
        noise = std::max(noise, 0.08 * material.scale());
        for (Attempt& candidate : candidates) {
            candidate.badness = candidate.scene.badness(framesOf(candidate), noise);
            // A lens that folds the frame over is none.
            if (!checkLens(candidate.scene.lens())) candidate.badness += 0.3;
        }
        std::sort(candidates.begin(), candidates.end(), [](const Attempt& a, const Attempt& b) {
            return a.badness != b.badness ? a.badness < b.badness : a.firstFocal_px < b.firstFocal_px;
        });
    };
    rank(windows, [&](const Attempt& candidate) -> const std::vector<int>& {
        for (std::size_t i = 0; i < pairs.size(); ++i)
            if (pairs[i].a == candidate.pair.a && pairs[i].b == candidate.pair.b) return windowFrames[i];
        return keys;
    });
    // Those that are different go on: another pair, or a focal length that is not the same again.
    std::vector<Attempt> carried;
    for (const Attempt& window : windows) {
        if (carried.size() >= breadth.carried) break;
        if (window.badness > std::max(0.5, 2.5 * windows.front().badness)) break;
        const auto same = [&](const Attempt& other) {
            const double ratio = other.scene.lens().focal_px / window.scene.lens().focal_px;
            return other.pair.a == window.pair.a && other.pair.b == window.pair.b && ratio > 0.97 && ratio < 1.03 &&
                   std::abs(other.badness - window.badness) < 0.02;
        };
        if (std::none_of(carried.begin(), carried.end(), same)) carried.push_back(window);
    }
    done = 0;
    const auto carry = [&](std::vector<Attempt>& batch) {
        parallelFor(batch.size(), [&](std::size_t i) {
            batch[i].scene.takeAll();
            batch[i].scene.triangulateAll(0.004 * material.width, false);
            extend(batch[i].scene, keys, plan, progress);
            settle(batch[i].scene, plan, progress);
            const std::lock_guard lock(mutex);
            progress.report(std::min(0.9, 0.6 + 0.3 * double(++done) / double(carried.size())), "Comparing cameras");
        });
    };
    const auto allKeys = [&](const Attempt&) -> const std::vector<int>& { return keys; };
    std::vector<Attempt> more;
    for (const Attempt& window : windows) {
        const auto same = [&](const Attempt& other) {
            return other.pair.a == window.pair.a && other.pair.b == window.pair.b &&
                   other.firstFocal_px == window.firstFocal_px && other.badness == window.badness;
        };
        if (more.size() < kSecondTry && window.badness < 0.6 && std::none_of(carried.begin(), carried.end(), same))
            more.push_back(window);
    }
    carry(carried);
    rank(carried, allKeys);
    if (breadth.looksAgain && !progress.stopped() && carried.front().badness > kPoor) {
        // Much of the shot is not explained: perhaps it was turned inside out on the way. The next best may do better.
        carry(more);
        carried.insert(carried.end(), std::make_move_iterator(more.begin()), std::make_move_iterator(more.end()));
        rank(carried, allKeys);
    }
    if (progress.stopped()) return carried;
    // Seen through a long lens, depth turned inside out looks almost right and is a minimum of its own.
    if (breadth.looksAgain) {
        Attempt twin = carried.front();
        twin.scene = twin.scene.mirrored(twin.pair.a, 0.004 * material.width);
        extend(twin.scene, keys, plan, progress);
        settle(twin.scene, plan, progress);
        carried.push_back(std::move(twin));
        rank(carried, allKeys);
    }
    if (carried.size() > 6) carried.erase(carried.begin() + 6, carried.end());
    return carried;
}

}  // namespace pinion::solving
