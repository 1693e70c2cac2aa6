#include "camera/rolling.h"

#include "base/linear.h"
#include "base/median.h"
#include "base/parallel.h"
#include "camera/rowposes.h"
#include "camera/sortingout.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <array>
#include <cmath>

namespace pinion::solving {

using Eigen::Vector2d;

namespace {

constexpr std::size_t kFewestJolts = 16;  // tracks by which a frame's jolt is told
constexpr std::size_t kFewestFrames = 12;
constexpr int kTerms = 6;  // of a jolt over the picture: a plane that is bent twice

/// Second differences over the picture on one frame, pixels: in the middle, and how they change across and down in a
/// frame's height or width.
struct Jolt {
    Vector2d middle, across, down;
};

/// A robust fit of x and y by the same terms; none where the places lie too close together to tell them.
std::optional<Jolt> joltOf(const std::vector<std::pair<Vector2d, Vector2d>>& seen, double scale) {
    using Terms = Eigen::Matrix<double, kTerms, 1>;
    const auto termsAt = [](const Vector2d& p) {
        Terms terms;
        terms << 1, p.x(), p.y(), p.x() * p.x(), p.x() * p.y(), p.y() * p.y();
        return terms;
    };
    Eigen::Matrix<double, kTerms, 2> fit = Eigen::Matrix<double, kTerms, 2>::Zero();
    double width2 = 1e6;
    for (int round = 0; round < 5; ++round) {
        Eigen::Matrix<double, kTerms, kTerms> normal = 1e-9 * Eigen::Matrix<double, kTerms, kTerms>::Identity();
        Eigen::Matrix<double, kTerms, 2> right = Eigen::Matrix<double, kTerms, 2>::Zero();
        std::vector<double> left;
        for (const auto& [place, jolt] : seen) {
            const Terms terms = termsAt(place);
            const double squared = (jolt - fit.transpose() * terms).squaredNorm();
            left.push_back(squared);
            const double weight = 1 / (1 + squared / width2);
            normal += weight * terms * terms.transpose();
            right += weight * terms * jolt.transpose();
        }
        if (round > 0) width2 = std::max(4 * median(left), 0.01 * scale * scale);
        fit = solvedSymmetric(Eigen::Matrix<double, kTerms, kTerms>(normal), right);
        if (!fit.allFinite()) return std::nullopt;
    }
    return Jolt{fit.row(0).transpose(), fit.row(1).transpose(), fit.row(2).transpose()};
}

std::vector<std::optional<Jolt>> joltsOf(const Material& material, double unit) {
    std::vector<std::vector<std::pair<Vector2d, Vector2d>>> seen(material.frames.size());
    const Vector2d middle(0.5 * material.width, 0.5 * material.height);
    for (const Trail& trail : material.trails)
        for (std::size_t i = 1; i + 1 < trail.seen.size(); ++i) {
            const Seen &before = trail.seen[i - 1], &on = trail.seen[i], &after = trail.seen[i + 1];
            const auto number = [&](const Seen& one) { return material.frames[std::size_t(one.frame)]; };
            if (number(before) + 1 != number(on) || number(on) + 1 != number(after)) continue;
            seen[std::size_t(on.frame)].emplace_back((on.plate - middle) / unit,
                                                     after.plate - 2 * on.plate + before.plate);
        }
    // Frames that little is seen on may hold little but something that moves.
    std::vector<double> counts;
    for (const auto& one : seen) counts.push_back(double(one.size()));
    const auto fewest = std::max(double(kFewestJolts), 0.3 * median(counts));
    std::vector<std::optional<Jolt>> jolts(seen.size());
    parallelFor(
        seen.size(),
        [&](std::size_t f) {
            if (double(seen[f].size()) >= fewest) jolts[f] = joltOf(seen[f], material.scale());
        },
        8);
    return jolts;
}

ReadoutGuess guessOnce(const Material& material, bool columns) {
    const auto jolts = joltsOf(material, columns ? material.width : material.height);
    // Each frame tells shear and stretch; what goes with the jolt itself is the scene's depth, and no readout.
    struct Told {
        double value, change;
        Vector2d jolt;
        int which;
    };
    std::vector<Told> told;
    for (std::size_t f = 1; f + 1 < jolts.size(); ++f) {
        if (!jolts[f - 1] || !jolts[f] || !jolts[f + 1] || material.frames[f - 1] + 2 != material.frames[f + 1])
            continue;
        const Vector2d change = 0.5 * (jolts[f + 1]->middle - jolts[f - 1]->middle);
        const double shear = jolts[f]->down.x() + jolts[f]->across.y();
        const double stretch = jolts[f]->down.y() - jolts[f]->across.x();
        told.push_back({shear, columns ? change.y() : change.x(), jolts[f]->middle, 0});
        told.push_back({columns ? -stretch : stretch, columns ? change.x() : change.y(), jolts[f]->middle, 1});
    }
    ReadoutGuess guess;
    if (told.size() < 2 * kFewestFrames) return guess;
    // A few frames that jolt far beyond all others (a cut to what passes near by) would decide alone.
    std::vector<double> changes;
    for (const Told& one : told) changes.push_back(std::abs(one.change));
    const double usual2 = std::pow(4 * median(changes), 2) + 1e-12;
    constexpr int kUnknowns = 7;  // the readout; of shear and of stretch a constant and two slopes each
    using Row = Eigen::Matrix<double, kUnknowns, 1>;
    using Square = Eigen::Matrix<double, kUnknowns, kUnknowns>;
    const auto rowOfOne = [](const Told& one) {
        Row row = Row::Zero();
        row[0] = one.change;
        row.segment<3>(1 + 3 * one.which) << 1, one.jolt.x(), one.jolt.y();
        return row;
    };
    Row found = Row::Zero();
    double width2 = 1e12, squares = 0, weights = 0;
    Square normal;
    for (int round = 0; round < 6; ++round) {
        normal = 1e-9 * Square::Identity();
        Row right = Row::Zero();
        std::vector<double> left;
        squares = weights = 0;
        for (const Told& one : told) {
            const Row row = rowOfOne(one);
            const double error = one.value - row.dot(found);
            const double weight = 1 / ((1 + error * error / width2) * (1 + one.change * one.change / usual2));
            left.push_back(error * error);
            squares += weight * weight * error * error;
            weights += weight;
            normal += weight * row * row.transpose();
            right += weight * one.value * row;
        }
        if (round > 0) width2 = std::max(9 * median(left), 1e-8);
        found = solvedSymmetric(Square(normal), right);
    }
    if (!found.allFinite()) return guess;
    const Row unit = Row::Unit(0);
    const double spread = squares / std::max(1.0, weights - kUnknowns);
    guess.share = found[0];
    guess.sigma = std::sqrt(std::max(0.0, solvedSymmetric(Square(normal), unit)[0] * spread));
    return guess;
}

void renewByFrame(Material& material) {
    for (auto& places : material.byFrame) places.clear();
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (!material.trails[t].heldOut)
            for (const Seen& seen : material.trails[t].seen)
                material.byFrame[std::size_t(seen.frame)].emplace_back(int(t), seen.plate);
}

}  // namespace

ReadoutGuess guessReadout(const Material& material, bool columns) {
    Material straight = material;
    for (Trail& trail : straight.trails)
        for (Seen& seen : trail.seen) seen.row = rowOf(seen.filmed, columns, material.width, material.height);
    // A jolt is not linear over half a frame: what is left is told from tracks that are nearly right.
    ReadoutGuess total{0, 0};
    for (int round = 0; round < 3; ++round) {
        const ReadoutGuess more = guessOnce(straight, columns);
        total = {std::clamp(total.share + more.share, -1.0, 1.0), more.sigma};
        if (!std::isfinite(more.sigma) || std::abs(more.share) < more.sigma) break;
        readAtOnce(straight, total.share);
    }
    return total;
}

void readAtOnce(Material& material, double share) {
    parallelFor(
        material.trails.size(),
        [&](std::size_t t) {
            std::vector<Seen>& seen = material.trails[t].seen;
            const int count = int(seen.size());
            std::vector<double> times;
            for (const Seen& one : seen)
                times.push_back(double(material.frames[std::size_t(one.frame)]) + share * one.row);
            for (int i = 0; i < count; ++i) {
                const double at = double(material.frames[std::size_t(seen[std::size_t(i)].frame)]);
                // Lagrange's polynomial through what surrounds it; a line beyond the ends, where more would swing.
                const bool isLater = at >= times[std::size_t(i)];
                int first = isLater ? i - 1 : i - 2, last = isLater ? i + 2 : i + 1;
                if (isLater ? i + 1 >= count : i == 0) {
                    first = isLater ? i - 1 : i;
                    last = isLater ? i : i + 1;
                }
                first = std::max(0, first);
                last = std::min(count - 1, last);
                // Not across a gap.
                const auto number = [&](int k) { return material.frames[std::size_t(seen[std::size_t(k)].frame)]; };
                while (first < i && number(i) - number(first) > i - first) ++first;
                while (last > i && number(last) - number(i) > last - i) --last;
                Vector2d place = Vector2d::Zero();
                for (int a = first; a <= last; ++a) {
                    double weight = 1;
                    for (int b = first; b <= last; ++b)
                        if (a != b)
                            weight *= (at - times[std::size_t(b)]) / (times[std::size_t(a)] - times[std::size_t(b)]);
                    place += weight * seen[std::size_t(a)].filmed;
                }
                // What leaps over most of the picture in a frame may be read twice at one time: it stays where it was.
                const Vector2d& filmed = seen[std::size_t(i)].filmed;
                const bool isNear = place.allFinite() && (place - filmed).norm() < 0.5 * material.width;
                seen[std::size_t(i)].plate = isNear ? place : filmed;
            }
        },
        16);
    renewByFrame(material);
}

void readAtOnce(Material& material, const Reconstruction& scene) {
    readAtOnce(material, scene.readout());
    std::vector<int> cameraOf;
    const Bundle bundle = scene.assemble(&cameraOf);
    const RowPoses rows(bundle.cameras, bundle.times);
    const double width = 3 * scene.noise();
    parallelFor(
        material.trails.size(),
        [&](std::size_t t) {
            Trail& trail = material.trails[t];
            const auto point = scene.point(t) ? scene.point(t) : scene.bestPlace(trail, width);
            if (!point) return;
            for (Seen& seen : trail.seen) {
                if (cameraOf[std::size_t(seen.frame)] < 0) continue;
                const auto camera = std::size_t(cameraOf[std::size_t(seen.frame)]);
                RowPoses::Slopes slopes;
                const Pose pose = rows.at(camera, bundle.readout * seen.row, &slopes);
                const Pose& own = bundle.cameras[camera];
                const Projection row = project(rowLens(bundle, camera, slopes).lens, pose.rotation.toRotationMatrix(),
                                               pose.translation, *point, Derived::nothing);
                const Projection middle = project(bundle.lensOf(camera), own.rotation.toRotationMatrix(),
                                                  own.translation, *point, Derived::nothing);
                if (row.inFront && middle.inFront) seen.plate = seen.filmed - (row.plate - middle.plate);
            }
        },
        16);
    renewByFrame(material);
}

double readByRows(Reconstruction& scene, Material& own, const LensPlan& plan, double share, bool isFree,
                  const Progress& progress) {
    constexpr int kRough = 2, kPasses = 6;
    scene.continueOn(own);
    scene.readRows(share);
    LensTerms fine = plan.fine;
    if (isFree) fine.add(LensTerm::readout);
    readAtOnce(own, scene);
    // Then on until nothing is left to find and the same tracks agree: readout, focal length and path lie along a flat
    // valley, and three passes of fifteen steps were seen to end 0.5 % of the path beside its bottom, with good tracks
    // left out.
    for (int pass = 0; pass < kPasses && !progress.stopped(); ++pass) {
        const bool isRough = pass < kRough;
        scene.adjust(fine, lossWidth(scene), isRough ? 15 : 60, progress, isRough ? 1e-4 : 0);
        readAtOnce(own, scene);
        const int changed = sortOut(scene, scene.options().trim_px);
        if (!isRough && changed * 200 < scene.placedPoints()) break;
        if (!isRough) weigh(scene);
    }
    if (!isFree) return 0;
    const auto covariance = covarianceOf(scene.assemble(), scene.bundleOptions(fine, lossWidth(scene), 0, 0), true);
    return covariance ? covariance->deviationOf(LensTerm::readout) : std::numeric_limits<double>::infinity();
}

}  // namespace pinion::solving
