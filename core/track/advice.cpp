#include "track/advice.h"

#include "base/linear.h"

#include <Eigen/Eigenvalues>
#include <algorithm>
#include <cmath>
#include <numbers>
#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

using Eigen::Vector2d;

constexpr double kFlatContrast = 3.0;  // grey levels
constexpr double kSlides_px = 0.08;    // a grey level of grain: a usual plate has two or three
constexpr double kSlideRatio = 4.5;
constexpr double kTwin = 0.9;

/// The highest correlation of the pattern within the search area, its own neighbourhood left out.
double twinOf(const ImageChannel& plane, const Vector2d& at, int pattern_px, int search_px) {
    const int half = pattern_px / 2;
    const int cx = int(at.x()), cy = int(at.y());
    const int reach = search_px / 2;
    const cv::Mat whole(plane.height, plane.width, CV_32F, const_cast<float*>(plane.values.data()));
    const cv::Rect inside(0, 0, plane.width, plane.height);
    const cv::Rect pattern(cx - half, cy - half, 2 * half + 1, 2 * half + 1);
    const cv::Rect window = cv::Rect(cx - reach, cy - reach, 2 * reach + 1, 2 * reach + 1) & inside;
    if ((pattern & inside) != pattern || window.width <= pattern.width || window.height <= pattern.height) return 0;
    cv::Mat scores;
    cv::matchTemplate(whole(window), whole(pattern), scores, cv::TM_CCOEFF_NORMED);
    const cv::Point own(pattern.x - window.x, pattern.y - window.y);
    double best = 0;
    const int away = std::max(4, half);
    for (int y = 0; y < scores.rows; ++y)
        for (int x = 0; x < scores.cols; ++x)
            if (std::max(std::abs(x - own.x), std::abs(y - own.y)) >= away)
                best = std::max(best, double(scores.at<float>(y, x)));
    return best;
}

}  // namespace

double grainOf(const Pyramid& pyramid) {
    const ImageChannel& plane = pyramid.levels.front();
    constexpr int kBlock = 24;
    std::vector<double> blocks;
    for (int top = 1; top + kBlock < plane.height; top += kBlock)
        for (int left = 1; left + kBlock < plane.width; left += kBlock) {
            double sum = 0;
            for (int y = top; y < top + kBlock; y += 2)
                for (int x = left; x < left + kBlock; x += 2) {
                    const float* p = plane.row(y) + x;
                    sum += 0.125 * (std::pow(p[1] - p[-1], 2) + std::pow(p[plane.width] - p[-plane.width], 2));
                }
            blocks.push_back(sum / (kBlock * kBlock / 4));
        }
    if (blocks.empty()) return 0;
    const auto twentieth = blocks.begin() + std::ptrdiff_t(blocks.size() / 20);
    std::nth_element(blocks.begin(), twentieth, blocks.end());
    // Where the whole frame is texture its quietest part is no grain; three grey levels of it make about this much.
    constexpr double kMostGrain = 2.5;
    return std::min(kMostGrain, *twentieth);
}

SpotAdvice adviseSpot(const Pyramid& pyramid, const Vector2d& at, int pattern_px, int search_px, double grain) {
    SpotAdvice advice;
    const ImageChannel& plane = pyramid.levels.front();
    const int half = pattern_px / 2;
    const int cx = int(std::floor(at.x())), cy = int(std::floor(at.y()));
    if (cx - half < 1 || cy - half < 1 || cx + half >= plane.width - 1 || cy + half >= plane.height - 1) return advice;
    Eigen::Matrix2d gradients = Eigen::Matrix2d::Zero();
    double sum = 0, squares = 0;
    for (int y = cy - half; y <= cy + half; ++y)
        for (int x = cx - half; x <= cx + half; ++x) {
            const float* p = plane.row(y) + x;
            const Vector2d g(0.5 * (p[1] - p[-1]), 0.5 * (p[plane.width] - p[-plane.width]));
            gradients += g * g.transpose();
            sum += *p;
            squares += double(*p) * *p;
        }
    const double count = double(2 * half + 1) * (2 * half + 1);
    advice.contrast = std::sqrt(std::max(0.0, squares / count - sum * sum / (count * count)));
    // Twice the quietest: brighter parts are grainier.
    gradients -= 2 * grain * count * Eigen::Matrix2d::Identity();
    const Spectrum<2> spectrum = spectrumOf(gradients);
    advice.weak_px = 1 / std::sqrt(std::max(1e-6, spectrum.values[0]));
    advice.strong_px = 1 / std::sqrt(std::max(1e-6, spectrum.values[1]));
    const Vector2d slide = spectrum.vectors.col(0);
    advice.slideDegrees = std::atan2(slide.y(), slide.x()) * 180 / std::numbers::pi;
    if (advice.slideDegrees > 90) advice.slideDegrees -= 180;
    if (advice.slideDegrees <= -90) advice.slideDegrees += 180;
    if (advice.contrast < kFlatContrast || advice.strong_px > kSlides_px) {
        advice.kind = SpotAdvice::Kind::flat;
    } else if (advice.weak_px > kSlides_px ||
               (advice.weak_px > kSlideRatio * advice.strong_px && advice.weak_px > 0.015)) {
        advice.kind = SpotAdvice::Kind::edge;
    } else {
        advice.twin = twinOf(plane, at, pattern_px, search_px);
        advice.kind = advice.twin > kTwin ? SpotAdvice::Kind::repeated : SpotAdvice::Kind::corner;
    }
    return advice;
}

std::string toString(const SpotAdvice& advice) {
    switch (advice.kind) {
        case SpotAdvice::Kind::corner:
            return fmt::format("a corner: held to {:.2f} px both ways", std::max(0.01, advice.weak_px));
        case SpotAdvice::Kind::edge:
            return fmt::format("an edge: would slide along it, {:.0f}°", advice.slideDegrees);
        case SpotAdvice::Kind::flat:
            return "flat: only grain to hold on to";
        case SpotAdvice::Kind::repeated:
            return fmt::format("a corner with a twin nearby ({:.2f}): smaller search", advice.twin);
        case SpotAdvice::Kind::border:
            return "too near the border for the pattern";
    }
    return "";
}

Expected<std::vector<SpotProposal>> proposeSpots(FrameCache& frames, const Polygon& area, int frame,
                                                 const FrameRange& range, int count, const Track& settings,
                                                 const Progress& progress) {
    if (area.size() < 3) return failure(Fault::input, "the area has no inside; drag a larger one");
    const auto picture = frames.get(frame);
    if (!picture) return tl::unexpected(picture.error());
    const Pyramid pyramid = buildPyramid(**picture, settings.channel, settings.preFilter);
    Vector2d low = area.front(), high = area.front();
    for (const Vector2d& corner : area) {
        low = low.cwiseMin(corner);
        high = high.cwiseMax(corner);
    }
    // Everything outside the area is as good as taken away by a matte.
    const Matte within{"area", Matte::Mode::include, {{frame, area}}};
    CandidateOptions options;
    options.features = std::max(30, 3 * count);
    options.leastDistance_px = std::max(4.0, settings.pattern_px * 0.5);
    options.threshold = 0.002;
    options.border_px = settings.pattern_px / 2 + 4;
    std::vector<SpotProposal> proposals;
    std::vector<Track> tracks;
    const double grain = grainOf(pyramid);
    for (const Candidate& candidate : findCandidates(pyramid, options, {}, std::span(&within, 1), frame)) {
        SpotProposal proposal{candidate.at,
                              adviseSpot(pyramid, candidate.at, settings.pattern_px, settings.search_px, grain), 0, 0};
        if (proposal.advice.kind != SpotAdvice::Kind::corner && proposal.advice.kind != SpotAdvice::Kind::repeated)
            continue;
        Track track = settings;
        track.id = TrackId(tracks.size());
        track.name = fmt::format("spot-{}", tracks.size() + 1);
        track.referenceFrame = frame;
        track.outline = {};
        track.offset.setZero();
        track.pickUp = false;
        track.samples = List<Sample>({{.frame = frame, .at = candidate.at, .tie = true}});
        proposals.push_back(proposal);
        tracks.push_back(std::move(track));
    }
    if (proposals.empty())
        return failure(Fault::outcome,
                       "no corner in this area on frame {}: flat or only edges; try a larger area or another frame",
                       frame);
    const auto tracked = trackPoints(frames, tracks, range, Direction::both, progress);
    if (!tracked) return tl::unexpected(tracked.error());
    double most = 1;
    for (const SpotProposal& proposal : proposals) most = std::max(most, proposal.advice.contrast);
    for (std::size_t i = 0; i < proposals.size(); ++i) {
        SpotProposal& proposal = proposals[i];
        proposal.frames = int(tracked->tracks[i].samples.size());
        const double corner = std::clamp(1 - proposal.advice.weak_px / kSlides_px, 0.0, 1.0);
        const double length = double(proposal.frames) / std::max(1, range.count());
        proposal.rank = (0.25 * corner + 0.15 * proposal.advice.contrast / most + 0.6 * length) *
                        (proposal.advice.kind == SpotAdvice::Kind::repeated ? 0.7 : 1.0);
    }
    std::sort(proposals.begin(), proposals.end(),
              [](const SpotProposal& a, const SpotProposal& b) { return a.rank > b.rank; });
    if (int(proposals.size()) > count) proposals.resize(std::size_t(count));
    return proposals;
}

}  // namespace pinion
