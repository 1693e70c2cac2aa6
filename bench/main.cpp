// pinion-bench: accuracy and speed on a rendered plate whose truth is known, beside OpenCV's pyramidal Lucas-Kanade
// (Bouguet 2001, cv::calcOpticalFlowPyrLK) on the same frames in the same run.

#include "benches.h"
#include "camera/solve.h"
#include "base/memory.h"
#include "base/parallel.h"
#include "base/units.h"
#include "track/tracking.h"

#include <CLI/CLI.hpp>
#include <Eigen/LU>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <numeric>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>
#include <sys/resource.h>

namespace {

using namespace pinion;
using namespace pinion::bench;
using Eigen::Vector2d;
using Eigen::Vector3d;

double peakMebibytes() {
    rusage usage{};
    getrusage(RUSAGE_SELF, &usage);
    return double(usage.ru_maxrss) / 1024.0;
}

/// Points placed by hand on the first frame they are seen on, against their truth.
void benchHandTracks(FrameCache& frames, const Truth& truth, MotionModel motion) {
    const PlateFacts& facts = frames.facts();
    std::vector<const Truth::Point*> chosen;
    for (const auto& point : truth.points)
        if (point.chosenOn == facts.firstFrame && point.visible.size() > std::size_t(facts.frameCount()) / 2)
            chosen.push_back(&point);
    // Forty, spread over the list.
    std::vector<const Truth::Point*> forty;
    for (std::size_t i = 0; i < std::min<std::size_t>(40, chosen.size()); ++i)
        forty.push_back(chosen[i * chosen.size() / std::min<std::size_t>(40, chosen.size())]);
    std::vector<Track> tracks;
    for (const auto* point : forty) {
        Track track;
        track.name = point->name;
        track.byHand = true;
        track.motion = motion;
        track.referenceFrame = point->visible.begin()->first;
        track.samples =
            List<Sample>({{.frame = track.referenceFrame, .at = point->visible.begin()->second, .tie = true}});
        tracks.push_back(track);
    }
    const double before = now();
    const auto result = trackPoints(frames, tracks, {facts.firstFrame, facts.lastFrame}, Direction::both);
    const double seconds = now() - before;
    if (!result) {
        fmt::print("  failed: {}\n", result.error().message);
        return;
    }
    Errors ours, last, guessed;
    std::size_t visible = 0, covered = 0;
    std::map<std::pair<std::size_t, int>, bool> tracked;
    for (std::size_t i = 0; i < forty.size(); ++i) {
        double final = -1;
        visible += forty[i]->visible.size();
        for (const Sample& sample : result->tracks[i].samples) {
            const auto at = forty[i]->visible.find(sample.frame);
            if (at == forty[i]->visible.end()) {
                ++covered;
                continue;
            }
            final = (sample.at - at->second).norm();
            ours.values.push_back(final);
            tracked[{i, sample.frame}] = true;
        }
        if (final >= 0) last.values.push_back(final);
    }
    fmt::print(" {} points by hand, {} motion, {:.2f} s ({:.0f} patterns/s)\n", forty.size(), toString(motion), seconds,
               double(ours.values.size()) / seconds);
    printErrors("Pinion", ours);
    printErrors("Pinion, at the track's last frame", last);
    fmt::print("  {:.1f} % of the visible samples tracked; {} samples on frames where the point is covered\n",
               100.0 * double(ours.values.size()) / double(visible), covered);

    // The same points by OpenCV, frame to frame, measured where ours holds.
    cv::Mat previous;
    std::vector<cv::Point2f> points;
    for (const auto* point : forty)
        points.emplace_back(float(point->visible.begin()->second.x() - 0.5),
                            float(point->visible.begin()->second.y() - 0.5));
    std::vector<bool> alive(points.size(), true);
    Errors theirs, theirLast;
    std::vector<double> theirFinal(points.size(), -1);
    double flowSeconds = 0;
    for (int frame = facts.firstFrame; frame <= facts.lastFrame; ++frame) {
        const auto picture = frames.get(frame);
        if (!picture) continue;
        cv::Mat colour(facts.height, facts.width, CV_8UC3, const_cast<std::uint8_t*>((*picture)->bytes.data()));
        cv::Mat grey;
        cv::cvtColor(colour, grey, cv::COLOR_RGB2GRAY);
        if (!previous.empty()) {
            std::vector<cv::Point2f> next;
            std::vector<unsigned char> status;
            std::vector<float> error;
            const double start = now();
            cv::calcOpticalFlowPyrLK(previous, grey, points, next, status, error, {21, 21}, 3);
            flowSeconds += now() - start;
            for (std::size_t i = 0; i < points.size(); ++i) {
                alive[i] = alive[i] && status[i];
                const auto at = forty[i]->visible.find(frame);
                if (alive[i] && at != forty[i]->visible.end() && tracked.contains({i, frame})) {
                    theirFinal[i] = (Vector2d(next[i].x + 0.5, next[i].y + 0.5) - at->second).norm();
                    theirs.values.push_back(theirFinal[i]);
                }
            }
            points = next;
        }
        previous = grey;
    }
    for (double v : theirFinal)
        if (v >= 0) theirLast.values.push_back(v);
    printErrors("OpenCV LK chained, same samples", theirs);
    printErrors("OpenCV LK, at the last frame", theirLast);
}

/// Speed, pattern for pattern, on frames in memory: 500 windows from one frame into the next.
void benchMatchSpeed(FrameCache& frames) {
    const PlateFacts& facts = frames.facts();
    const auto first = frames.get(facts.firstFrame);
    const auto second = frames.get(facts.firstFrame + 1);
    if (!first || !second) return;
    limitThreads(1);
    cv::setNumThreads(1);
    const Pyramid a = buildPyramid(**first);
    const Pyramid b = buildPyramid(**second);
    const auto candidates = findCandidates(a, {.features = 500, .leastDistance_px = 10, .threshold = 0.001});
    const auto grey = [&](const Picture& picture) {
        cv::Mat colour(facts.height, facts.width, CV_8UC3, const_cast<std::uint8_t*>(picture.bytes.data()));
        cv::Mat result;
        cv::cvtColor(colour, result, cv::COLOR_RGB2GRAY);
        return result;
    };
    const cv::Mat greyA = grey(**first), greyB = grey(**second);
    std::vector<cv::Mat> pyramidA, pyramidB;
    cv::buildOpticalFlowPyramid(greyA, pyramidA, {21, 21}, 3);
    cv::buildOpticalFlowPyramid(greyB, pyramidB, {21, 21}, 3);
    std::vector<cv::Point2f> points;
    for (const Candidate& c : candidates) points.emplace_back(float(c.at.x() - 0.5), float(c.at.y() - 0.5));
    for (const MotionModel motion : {MotionModel::translation, MotionModel::affine}) {
        std::vector<double> ratios, ours, theirs;
        for (int round = 0; round < 7; ++round) {
            std::vector<cv::Point2f> next;
            std::vector<unsigned char> status;
            std::vector<float> error;
            double start = now();
            cv::calcOpticalFlowPyrLK(pyramidA, pyramidB, points, next, status, error, {21, 21}, 3);
            theirs.push_back((now() - start) * 1e6 / double(points.size()));
            Track settings;
            settings.motion = motion;
            std::vector<Runner> runners;
            for (const Candidate& c : candidates)
                if (auto runner = Runner::start(settings, a, 1, c.at)) runners.push_back(std::move(*runner));
            start = now();
            for (Runner& runner : runners) runner.advance(a, b, 2, runner.last().at);
            ours.push_back((now() - start) * 1e6 / double(runners.size()));
            ratios.push_back(ours.back() / theirs.back());
        }
        const auto median = [](std::vector<double> v) {
            std::sort(v.begin(), v.end());
            return v[v.size() / 2];
        };
        fmt::print(
            " one thread, {} patterns of 21 px, {}: Pinion {:.1f} us, OpenCV LK {:.1f} us a pattern; ratio {:.2f}\n",
            candidates.size(), toString(motion), median(ours), median(theirs), median(ratios));
    }
    limitThreads(0);
    cv::setNumThreads(-1);
}

std::vector<Track> benchScatter(const std::shared_ptr<const Plate>& plate, const Truth* truth, MotionModel motion,
                                double* seconds) {
    FrameCache cold(plate);
    const PlateFacts& facts = plate->facts();
    ScatterOptions options;
    options.range = {facts.firstFrame, facts.lastFrame};
    options.startFrame = facts.firstFrame;
    options.motion = motion;
    const double before = now();
    const auto result = scatter(cold, options);
    *seconds = now() - before;
    if (!result) {
        fmt::print(" scatter failed: {}\n", result.error().message);
        return {};
    }
    std::vector<std::size_t> lengths;
    std::map<int, int> perFrame;
    for (const Track& track : result->tracks) {
        lengths.push_back(track.samples.size());
        for (const Sample& sample : track.samples) ++perFrame[sample.frame];
    }
    std::sort(lengths.begin(), lengths.end());
    int least = 1 << 30;
    for (const auto& [frame, count] : perFrame) least = std::min(least, count);
    std::map<EndReason, int> reasons;
    for (const Track& track : result->tracks) ++reasons[track.endReason];
    fmt::print(
        " scatter 500, {} motion, decoding included: {:.2f} s, {:.1f} frames/s; {} tracks, median length {} frames, "
        "fewest in a frame {}\n",
        toString(motion), *seconds, facts.frameCount() / *seconds, result->tracks.size(),
        lengths.empty() ? 0 : lengths[lengths.size() / 2], least);
    for (const auto& [reason, count] : reasons) fmt::print("   {}: {}\n", toString(reason), count);
    if (truth && !result->tracks.empty()) {
        std::size_t movers = 0;
        const Errors errors = againstTrueCameras(result->tracks, *truth, &movers);
        printErrors("against the true cameras", errors);
        fmt::print("  {} tracks off by more than 2 px RMS (movers, slides, water)\n", movers);
    }
    return result->tracks;
}

void benchSolve(std::vector<Track> tracks, const Truth& truth, Knowledge focal, double scatterSeconds) {
    for (std::size_t i = 0; i < tracks.size(); ++i) tracks[i].id = TrackId(i + 1);
    SolveOptions options;
    options.width = truth.lens.width;
    options.height = truth.lens.height;
    options.sensorWidth_mm = truth.sensorWidth_mm;
    options.focal = focal;
    options.focal_mm = truth.focal_mm;
    const double before = now();
    std::string stage;
    double since = before;
    std::string stages;
    const auto solve = solveCamera(tracks, options, Progress([&](double, const std::string& what) {
                                       if (what == stage) return;
                                       if (!stage.empty()) stages += fmt::format("{} {:.2f} s; ", stage, now() - since);
                                       stage = what;
                                       since = now();
                                   }));
    const double seconds = now() - before;
    if (!solve) {
        fmt::print(" solve failed after {:.2f} s: {}\n", seconds, solve.error().message);
        return;
    }
    const double focal_mm = focalMillimetres(solve->lens.focal_px, options.sensorWidth_mm, options.width);
    fmt::print(" solve, focal {}, distortion unknown: {:.2f} s (with scatter {:.2f} s)\n",
               focal == Knowledge::known ? "known" : "unknown", seconds, seconds + scatterSeconds);
    fmt::print("  {}\n", stages);
    fmt::print(
        "  RMS {:.3f} px, held out {:.3f} px; {} tracks used, {} held out, {} disagree; {} frames; parallax {:.1f} "
        "degrees\n",
        solve->rms_px, solve->heldOutRms_px, solve->used, solve->heldOut, solve->disagreed, solve->frames.size(),
        solve->medianAngleDegrees);
    fmt::print("  focal {:.3f} mm (+- {:.3f}), error {:.3f} %; k1 {:.4f} (true {:.4f}), k2 {:.4f} (true {:.4f})\n",
               focal_mm, solve->focalDeviation_mm.value_or(0),
               100 * std::abs(focal_mm - truth.focal_mm) / truth.focal_mm, solve->lens.k1, truth.lens.k1,
               solve->lens.k2, truth.lens.k2);
    fmt::print("  {}; axis off the middle by {:.2f} +- {:.2f}, {:.2f} +- {:.2f} px; noise {:.3f} px{}\n", solve->reason,
               solve->lens.cx - 0.5 * options.width, solve->axisDeviation_px.x(), solve->lens.cy - 0.5 * options.height,
               solve->axisDeviation_px.y(), solve->noise_px, solve->doubt.empty() ? "" : "; DOUBT: " + solve->doubt);
    const CameraErrors camera = againstTruth(*solve, truth);
    fmt::print("  path: RMS {:.4f} m over {:.2f} m, {:.3f} % of its length\n", camera.path_m, camera.length_m,
               100 * camera.path_m / camera.length_m);
    printErrors("truth points reprojected", camera.points);
}

}  // namespace

int main(int argc, char** argv) {
    returnLargeBlocks();
    CLI::App app{"Measures accuracy and speed on a rendered plate with its truth."};
    std::string platePath = "demo/plates/landing.mp4";
    std::string truthPath;
    std::vector<std::string> only;
    app.add_option("plate", platePath, "the plate");
    app.add_option("--truth", truthPath, "its truth; by default beside it");
    app.add_option("--only", only,
                   "hand, speed, scatter, solve, conditions, steady, holds, render, mattes, inserts, stand-ins, match, "
                   "lens, lengthen");
    unsigned seed = 1;
    app.add_option("--seed", seed, "the first of the made-up lenses, and of the cases of match");
    CLI11_PARSE(app, argc, argv);
    const auto wanted = [&](const std::string& part) {
        return only.empty() || std::find(only.begin(), only.end(), part) != only.end();
    };
    if (truthPath.empty()) truthPath = std::filesystem::path(platePath).replace_extension().string() + ".truth.json";
    const auto plate = Plate::open(platePath);
    if (!plate) {
        fmt::print(stderr, "{}\n", plate.error().message);
        return 2;
    }
    const auto truth = bench::readTruth(truthPath);
    if (!truth) {
        fmt::print(stderr, "{}\n", truth.error().message);
        return 2;
    }
    const PlateFacts& facts = (*plate)->facts();
    fmt::print("{}: {}x{}, {} frames, {} truth points; {} threads\n", platePath, facts.width, facts.height,
               facts.frameCount(), truth->points.size(), limitThreads(0));
    {
        FrameCache frames(*plate);
        if (wanted("hand"))
            for (const MotionModel motion :
                 {MotionModel::translation, MotionModel::similarity, MotionModel::affine, MotionModel::perspective})
                benchHandTracks(frames, *truth, motion);
        if (wanted("speed")) benchMatchSpeed(frames);
    }
    if (wanted("conditions")) benchConditions();
    if (wanted("steady")) benchSteady(std::filesystem::path(platePath).parent_path());
    if (wanted("holds")) benchHolds();
    if (wanted("render")) benchRender();
    if (wanted("mattes")) benchMattes(std::filesystem::path(platePath).parent_path());
    if (wanted("inserts")) benchInserts(std::filesystem::path(platePath).parent_path());
    if (wanted("stand-ins")) benchStandIns(*truth);
    if (wanted("match")) benchMatching(seed);
    if (wanted("lens")) benchLens(std::filesystem::path(platePath).parent_path(), seed);
    if (wanted("lengthen")) benchLengthening(*plate, *truth);
    if (wanted("scatter") || wanted("solve")) {
        double seconds = 0;
        const auto tracks = benchScatter(*plate, &*truth, MotionModel::affine, &seconds);
        if (wanted("solve") && !tracks.empty()) {
            benchSolve(tracks, *truth, Knowledge::unknown, seconds);
            benchSolve(tracks, *truth, Knowledge::known, seconds);
        }
    }
    fmt::print("peak memory {:.0f} MiB\n", peakMebibytes());
    return 0;
}
