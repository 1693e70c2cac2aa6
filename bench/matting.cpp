#include "benches.h"
#include "comp/putback.h"
#include "jobs/proposing.h"
#include "jobs/solving.h"
#include "jobs/tracking.h"
#include "matte/coverage.h"
#include "matte/drawing.h"
#include "matte/riding.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/mattesstage.h"
#include "exchange/newshot.h"

#include <Eigen/LU>
#include <filesystem>
#include <fstream>
#include <nlohmann/json.hpp>
#include <random>
#include <set>

namespace pinion::bench {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

template <class Run>
double medianMilliseconds(int times, const Run& run) {
    std::vector<double> taken;
    for (int i = 0; i < times; ++i) {
        const double before = now();
        run();
        taken.push_back(1000 * (now() - before));
    }
    std::sort(taken.begin(), taken.end());
    return taken[taken.size() / 2];
}

void benchCoverage() {
    Matte soft;
    soft.feather_px = 15;
    Matte::Key key{1001, {}};
    for (int i = 0; i < 20; ++i) {
        const double angle = 2 * M_PI * i / 20, radius = 260 + 60 * std::sin(3 * angle);
        key.polygon.emplace_back(960 + radius * std::cos(angle), 540 + radius * std::sin(angle));
    }
    Shot shot;
    soft.keys = {key};
    shot = withMatteAdded(shot, soft);
    std::vector<std::size_t> all(20);
    for (std::size_t i = 0; i < 20; ++i) all[i] = i;
    const Matte curved = withMattePointsSmooth(shot, 0, all, true).mattes[0];
    Matte points = curved;
    points.keys[0].feather.assign(20, 0.0);
    for (std::size_t i = 0; i < 20; i += 2) points.keys[0].feather[i] = 20;
    Matte sharp = curved;
    sharp.feather_px = 0;
    const auto time = [](const Matte& matte) {
        return medianMilliseconds(15, [&] { (void)coverageOf(matte, 1001, 1920, 1080); });
    };
    fmt::print(
        "mattes\n  one shape of 20 smooth points at 1920x1080: sharp {:.1f} ms, feathered by 15 px {:.1f} ms, by the "
        "point "
        "{:.1f} ms\n",
        time(sharp), time(curved), time(points));
    std::vector<Matte> fifty;
    for (int i = 0; i < 50; ++i) {
        Matte matte;
        matte.keys = {ellipseShape({30.0 * i, 15.0 * i}, {30.0 * i + 260, 15.0 * i + 180})};
        matte.feather_px = i % 3 == 0 ? 10 : 0;
        fifty.push_back(matte);
    }
    fmt::print("  fifty shapes together, a third feathered: {:.0f} ms\n",
               medianMilliseconds(5, [&] { (void)coverageOf(fifty, 1001, 1920, 1080); }));
}

/// Distances of the true points, seen by the solved cameras, from where they are.
Errors truthErrors(const Solve& solve, const Truth& truth) {
    std::vector<Vector3d> found, real;
    for (const SolvedFrame& frame : solve.frames) {
        found.push_back(frame.worldFromCamera.translation());
        real.push_back(truth.cameras.at(frame.frame).translation());
    }
    const double scale = std::cbrt(similarityBetween(found, real).linear().determinant());
    for (const SolvedFrame& frame : solve.frames)
        for (int axis = 0; axis < 3; ++axis) {
            found.push_back(frame.worldFromCamera.translation() + frame.worldFromCamera.linear().col(axis) / scale);
            real.push_back(truth.cameras.at(frame.frame).translation() +
                           truth.cameras.at(frame.frame).linear().col(axis));
        }
    const Eigen::Affine3d foundFromReal = similarityBetween(found, real).inverse();
    Errors errors;
    for (const auto& point : truth.points)
        for (const auto& [frame, at] : point.visible)
            if (const auto plate = projected(solve, frame, foundFromReal * point.xyz))
                errors.values.push_back((*plate - at).norm());
    return errors;
}

void printSolve(const char* name, const Shot& shot, const Truth& truth) {
    const auto solve = runSolve(shot);
    if (!solve) {
        fmt::print("  {}: {}\n", name, solve.error().message);
        return;
    }
    Errors errors = truthErrors(*solve, truth);
    const auto aside = std::count_if(shot.tracks.begin(), shot.tracks.end(), [](const Track& t) { return t.setAside; });
    fmt::print(
        "  solve {:<26} truth median {:.3f} RMS {:.3f} px, RMS {:.3f}, held out {:.3f}, {} used, {} disagree, {} set "
        "aside\n",
        name, errors.at(0.5), errors.rms(), solve->rms_px, solve->heldOutRms_px, solve->used, solve->disagreed, aside);
}

/// Where the trolley is, as the renderer says.
std::map<int, Polygon> trolleyOutlines(const std::filesystem::path& folder) {
    nlohmann::json truth;
    std::ifstream(folder / "landing.truth.json") >> truth;
    std::map<int, Polygon> outlines;
    for (const auto& frame : truth["frames"]) {
        Polygon outline;
        for (const auto& p : frame["trolley"]) outline.emplace_back(p[0].get<double>(), p[1].get<double>());
        outlines[frame["frame"].get<int>()] = std::move(outline);
    }
    return outlines;
}

struct Overlap {
    std::size_t both = 0, one = 0, other = 0;
    void add(const Polygon& a, const Polygon& b) {
        for (int y = 4; y < 720; y += 8)
            for (int x = 4; x < 1280; x += 8) {
                const bool inA = a.size() > 2 && contains(a, Vector2d(x, y)),
                           inB = b.size() > 2 && contains(b, Vector2d(x, y));
                both += inA && inB;
                one += inA;
                other += inB;
            }
    }
    double share() const { return double(both) / double(std::max<std::size_t>(1, one + other - both)); }
};

/// The outline as so many corners evenly about its middle, as an artist would keep them from frame to frame.
Polygon evenly(const Polygon& hull, int corners) {
    Vector2d middle(0, 0);
    for (const Vector2d& p : hull) middle += p / double(hull.size());
    Polygon outline;
    for (int k = 0; k < corners; ++k) {
        const double angle = 2 * M_PI * k / corners;
        double low = 0, high = 4000;
        for (int i = 0; i < 30; ++i) {
            const double half = 0.5 * (low + high);
            (contains(hull, middle + half * Vector2d(std::cos(angle), std::sin(angle))) ? low : high) = half;
        }
        outline.push_back(middle + low * Vector2d(std::cos(angle), std::sin(angle)));
    }
    return outline;
}

/// How few keyframes of the true outline keep an overlap of `wanted` on every frame, each where it is worst.
int keysFor(const std::map<int, Polygon>& outlines, double wanted, const std::function<Vector2d(int)>& path) {
    std::vector<int> frames;
    for (const auto& [frame, outline] : outlines) {
        double seen = 0;
        for (int y = 4; y < 720; y += 16)
            for (int x = 4; x < 1280; x += 16) seen += outline.size() > 2 && contains(outline, Vector2d(x, y));
        if (seen > 40) frames.push_back(frame);
    }
    std::set<int> keyed{frames[frames.size() / 2]};
    while (keyed.size() < 40) {
        Matte matte;
        for (const int frame : keyed) {
            Matte::Key key{frame, evenly(outlines.at(frame), 12)};
            for (Vector2d& p : key.polygon) p -= path(frame);
            matte.keys.push_back(key);
        }
        int worst = 0;
        double least = wanted;
        for (const int frame : frames) {
            Polygon shown = outlineAt(matte, frame);
            for (Vector2d& p : shown) p += path(frame);
            Overlap overlap;
            overlap.add(shown, outlines.at(frame));
            if (overlap.share() < least && !keyed.contains(frame)) {
                least = overlap.share();
                worst = frame;
            }
        }
        if (worst == 0) break;
        keyed.insert(worst);
    }
    return int(keyed.size());
}

/// As if so many features had been followed on the trolley: places of its bounding box, carried along, with noise.
Shot withTrolleyTracks(const Shot& shot, const std::map<int, Polygon>& outlines, int count) {
    std::mt19937 random(unsigned(count) + 3);
    std::uniform_real_distribution<double> any(0.1, 0.9);
    std::uniform_int_distribution<int> start(1044, 1085), length(14, 34);
    std::normal_distribution<double> noise(0, 0.1);
    std::vector<Track> tracks;
    for (int i = 0; i < count; ++i) {
        Track track;
        track.name = fmt::format("trolley-{}", i + 1);
        const double u = any(random), v = any(random);
        const int first = start(random), last = std::min(1106, first + length(random));
        std::vector<Sample> samples;
        for (int frame = first; frame <= last; ++frame) {
            Vector2d low(1e9, 1e9), high(-1e9, -1e9);
            for (const Vector2d& p : outlines.at(frame)) {
                low = low.cwiseMin(p);
                high = high.cwiseMax(p);
            }
            const Vector2d at = low + Vector2d(u, v).cwiseProduct(high - low) + Vector2d(noise(random), noise(random));
            if (at.x() > 12 && at.y() > 12 && at.x() < 1268 && at.y() < 708)
                samples.push_back({.frame = frame, .at = at});
        }
        if (samples.size() < 8) continue;
        track.samples = List<Sample>(samples);
        track.referenceFrame = samples.front().frame;
        tracks.push_back(std::move(track));
    }
    Shot result = withTracksImported(shot, tracks);
    result.tracks = result.tracks.edited([](auto& all) {
        for (Track& track : all) track.byHand = false;
    });
    return result;
}

void benchTrolley(const std::filesystem::path& folder) {
    const auto plate = Plate::open(folder / "landing.mp4");
    const auto truth = readTruth(folder / "landing.truth.json");
    if (!plate || !truth) return;
    FrameCache frames(*plate);
    Shot shot = shotOf((*plate)->facts());
    const auto scattered = runScatter(shot, frames, shot.plate.range.first);
    if (!scattered) return;
    shot = withScattered(shot, scattered->tracks);
    printSolve("without a matte", shot, *truth);
    const auto outlines = trolleyOutlines(folder);
    Matte rough;
    for (const int frame : {1041, 1061, 1081, 1101}) {
        double left = 1e9, top = 1e9, right = -1e9, bottom = -1e9;
        for (const Vector2d& p : outlines.at(frame)) {
            left = std::min(left, p.x());
            right = std::max(right, p.x());
            top = std::min(top, p.y());
            bottom = std::max(bottom, p.y());
        }
        Matte::Key key = rectangleShape({left, top}, {right, bottom});
        key.frame = frame;
        rough.keys.push_back(key);
    }
    printSolve("with a box of 4 keyframes", withCoveredSetAside(withMatteAdded(shot, rough)), *truth);
    const double before = now();
    const auto proposals = runPropose(shot, frames);
    if (!proposals || proposals->empty()) {
        fmt::print("  nothing proposed\n");
        return;
    }
    const double seconds = now() - before;
    const MoverProposal& trolley = proposals->front();
    printSolve("with what is proposed", withMoverAccepted(shot, trolley), *truth);
    const auto carrier = carrierOf(shotOf(trolley), *trolley.matte.ride);
    Overlap overlap;
    for (const auto& [frame, outline] : outlines)
        overlap.add(
            isThere(trolley.matte, frame) ? flattened(*riddenShape(trolley.matte, frame, carrier.get())) : Polygon{},
            outline);
    fmt::print(
        "  {} proposed in {:.1f} s (solve in it): {}, {} keyframes; overlap with the true hull {:.2f}, {:.0f} % of it "
        "covered\n",
        proposals->size(), seconds, trolley.reason, trolley.matte.keys.size(), overlap.share(),
        100.0 * double(overlap.both) / double(overlap.other));
    for (const int count : {200, 600, 1500}) {
        const Shot carried = withTrolleyTracks(shot, outlines, count);
        printSolve(fmt::format("{} tracks on the trolley", count).c_str(), carried, *truth);
        const auto found = runPropose(carried, frames);
        if (found && !found->empty())
            printSolve("  with what is proposed", withMoverAccepted(carried, found->front()), *truth);
        else fmt::print("    nothing proposed: {}\n", found ? "" : found.error().message);
    }
    for (const double wanted : {0.7, 0.8})
        fmt::print(
            "  keyframes for an overlap of {:.1f} on every frame: {} standing, {} riding on the trolley's path\n",
            wanted, keysFor(outlines, wanted, [](int) { return Vector2d(0, 0); }),
            keysFor(outlines, wanted, [&](int frame) -> Vector2d {
                const Sample* at = sampleAt(trolley.path, frame);
                return at ? at->at : trolley.path.samples.back().at;
            }));
}

double decibels(const Picture& a, const Picture& b, int x0, int y0, int x1, int y1) {
    double squares = 0, count = 0;
    for (int y = y0; y < y1; ++y)
        for (int x = x0; x < x1; ++x)
            for (std::size_t c = 0; c < 3; ++c) {
                const std::size_t i = (std::size_t(y) * std::size_t(a.width) + std::size_t(x)) * 3 + c;
                squares += std::pow(double(a.bytes[i]) - double(b.bytes[i]), 2);
                ++count;
            }
    return squares > 0 ? 10 * std::log10(255 * 255 * count / squares) : 99;
}

/// What one there-and-back of a hold costs inside, and that nothing changes outside.
void benchPutBack(const std::filesystem::path& folder) {
    const auto plate = Plate::open(folder / "mooring.mp4");
    if (!plate) return;
    Errors inside, once;
    std::size_t outside = 0;
    for (const int frame : {1005, 1017, 1033, 1061}) {
        const auto picture = (*plate)->read(frame);
        if (!picture) return;
        const Eigen::Matrix3d map = MotionParts{{3.37 + 0.1 * frame / 1000, -2.61}, 0.006, 1.004}.about({640, 360});
        const Picture given = warped(**picture, map);
        ImageChannel part(1280, 720);
        for (int y = 340; y < 560; ++y)
            for (int x = 352; x < 572; ++x) part.row(y)[x] = 1;
        const PutBack back = putBackBy(PutBackBy::matte, **picture, given, part, map);
        inside.values.push_back(decibels(back.picture, **picture, 380, 360, 540, 540));
        once.values.push_back(decibels(warped(given, map.inverse()), **picture, 380, 360, 540, 540));
        for (int y = 0; y < 720; ++y)
            for (int x = 0; x < 1280; ++x)
                if (x < 330 || x > 600 || y < 320 || y > 580)
                    for (std::size_t c = 0; c < 3; ++c) {
                        const std::size_t i = (std::size_t(y) * 1280 + std::size_t(x)) * 3 + c;
                        outside += back.picture.bytes[i] != (*picture)->bytes[i];
                    }
    }
    fmt::print(
        "  put back by a matte, unpainted: {:.1f} dB inside (bicubic there and back {:.1f}), {} values differ "
        "outside\n",
        inside.at(0.5), once.at(0.5), outside);
}

}  // namespace

void benchMattes(const std::filesystem::path& folder) {
    benchCoverage();
    benchPutBack(folder);
    benchTrolley(folder);
}

}  // namespace pinion::bench
