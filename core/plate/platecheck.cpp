#include "plate/platecheck.h"

#include "picture/pyramid.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <numbers>
#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

cv::Mat matOf(const ImageChannel& plane) {
    return cv::Mat(plane.height, plane.width, CV_32F, const_cast<float*>(plane.values.data()));
}

/// Immerkaer (1996): the response to a mask that cancels straight edges and slopes, taken where the picture is quiet.
double noiseOf(const cv::Mat& raw) {
    const cv::Mat mask = (cv::Mat_<float>(3, 3) << 1, -2, 1, -2, 4, -2, 1, -2, 1);
    cv::Mat response, gradient;
    cv::filter2D(raw, response, CV_32F, mask);
    cv::Mat gx, gy;
    cv::Sobel(raw, gx, CV_32F, 1, 0);
    cv::Sobel(raw, gy, CV_32F, 0, 1);
    gradient = cv::abs(gx) + cv::abs(gy);
    // Texture looks like grain to the mask: only the quietest tenth of the frame votes.
    std::vector<float> levels;
    for (int y = 2; y < raw.rows - 2; y += 5)
        for (int x = 2; x < raw.cols - 2; x += 5) levels.push_back(gradient.at<float>(y, x));
    if (levels.empty()) return 0;
    const auto tenth = levels.begin() + std::ptrdiff_t(levels.size() / 10);
    std::nth_element(levels.begin(), tenth, levels.end());
    double sum = 0, count = 0;
    for (int y = 1; y < raw.rows - 1; ++y)
        for (int x = 1; x < raw.cols - 1; ++x)
            if (gradient.at<float>(y, x) <= *tenth) {
                sum += std::abs(response.at<float>(y, x));
                ++count;
            }
    return count > 0 ? std::sqrt(std::numbers::pi / 2) / 6 * sum / count : 0;
}

double median(std::vector<double> values) {
    if (values.empty()) return 0;
    const auto middle = values.begin() + std::ptrdiff_t(values.size() / 2);
    std::nth_element(values.begin(), middle, values.end());
    return *middle;
}

}  // namespace

std::vector<PlateNote> notesOf(const std::vector<FrameCheck>& frames) {
    std::vector<PlateNote> notes;
    std::vector<double> motions, brightness, noises;
    for (const FrameCheck& frame : frames) {
        if (!frame.cut) motions.push_back(frame.motion_px);
        brightness.push_back(frame.brightness);
        noises.push_back(frame.noise);
    }
    const double usual = median(motions);
    const auto span = [](int first, int last) {
        return first == last ? std::to_string(first) : fmt::format("{}-{}", first, last);
    };
    const auto stretches = [&](PlateNote::Kind kind, const std::function<bool(std::size_t)>& holds,
                               const std::function<std::string(std::size_t, std::size_t)>& words) {
        for (std::size_t i = 0; i < frames.size();) {
            if (!holds(i)) {
                ++i;
                continue;
            }
            std::size_t end = i;
            // A single good frame does not part a stretch.
            while (end + 1 < frames.size() && (holds(end + 1) || (end + 2 < frames.size() && holds(end + 2)))) ++end;
            while (!holds(end)) --end;
            notes.push_back({kind, frames[i].frame, frames[end].frame,
                             span(frames[i].frame, frames[end].frame) + " " + words(i, end)});
            i = end + 1;
        }
    };
    const auto moves = [&](std::size_t i) { return frames[i].motion_px > std::max(5.0, 1.3 * usual); };
    stretches(
        PlateNote::Kind::blurred,
        [&](std::size_t i) { return frames[i].sharpness < 0.84 && moves(i) && !frames[i].cut; },
        [](std::size_t, std::size_t) { return "blurred by motion: expect short tracks"; });
    stretches(
        PlateNote::Kind::soft, [&](std::size_t i) { return frames[i].sharpness < 0.5 && !moves(i) && !frames[i].cut; },
        [](std::size_t, std::size_t) { return "soft, though the picture hardly moves: larger patterns hold better"; });
    stretches(
        PlateNote::Kind::fast, [&](std::size_t i) { return frames[i].motion_px > 22 && !frames[i].cut; },
        [&](std::size_t a, std::size_t b) {
            double most = 0;
            for (std::size_t i = a; i <= b; ++i) most = std::max(most, frames[i].motion_px);
            return fmt::format("moves up to {:.0f} px a frame: a search of {:.0f} px or more", most,
                               10 * std::ceil((2 * most + 25) / 10));
        });
    stretches(
        PlateNote::Kind::jump,
        [&](std::size_t i) {
            return i > 0 && !frames[i].cut && std::abs(frames[i].brightness - frames[i - 1].brightness) > 5;
        },
        [](std::size_t, std::size_t) { return "brightness jumps: the local-contrast pre-filter evens it out"; });
    for (const FrameCheck& frame : frames)
        if (frame.cut)
            notes.push_back({PlateNote::Kind::cut, frame.frame, frame.frame,
                             fmt::format("{} begins another shot (a cut): work on each side by itself", frame.frame)});
    if (!frames.empty() && median(noises) > 4.5)
        notes.push_back({PlateNote::Kind::noisy, frames.front().frame, frames.back().frame,
                         fmt::format("{} noisy ({:.1f} grey levels): denoise for analysis, larger patterns",
                                     span(frames.front().frame, frames.back().frame), median(noises))});
    std::sort(notes.begin(), notes.end(), [](const PlateNote& a, const PlateNote& b) { return a.first < b.first; });
    return notes;
}

Expected<PlateCheck> checkPlate(FrameCache& cache, int first, int last, const Progress& progress) {
    PlateCheck check;
    cv::Mat before, window;
    std::array<double, 32> histogramBefore{};
    std::vector<double> detail;
    std::vector<int> damaged;
    for (int frame = first; frame <= last; ++frame) {
        if (progress.stopped()) {
            check.stopped = true;
            break;
        }
        const auto picture = cache.get(frame);
        if (!picture) {
            const auto& missing = cache.facts().missing;
            if (!std::binary_search(missing.begin(), missing.end(), frame)) damaged.push_back(frame);
            continue;
        }
        const ImageChannel raw = analysisPlane(**picture);
        const Pyramid pyramid = buildPyramid(**picture, Channel::luma, PreFilter::none, 3);
        const cv::Mat full = matOf(raw);
        const cv::Mat coarse = matOf(pyramid.levels.back()).clone();
        FrameCheck facts{.frame = frame};
        facts.brightness = cv::mean(coarse)[0];
        facts.noise = noiseOf(full);
        // Detail between one and two pixels against that between four and eight: what blur takes away first. Half size,
        // so that grain counts little.
        const cv::Mat half = matOf(pyramid.levels[std::min<std::size_t>(1, pyramid.levels.size() - 1)]);
        cv::Mat smooth, coarseSmooth;
        cv::GaussianBlur(half, smooth, {}, 1.2);
        cv::GaussianBlur(coarse, coarseSmooth, {}, 2.4);
        const double fine = std::max(
            0.0, std::pow(cv::norm(half - smooth), 2) / double(half.total()) - 0.1 * facts.noise * facts.noise);
        detail.push_back(
            std::sqrt(fine / (std::pow(cv::norm(coarse - coarseSmooth), 2) / double(coarse.total()) + 0.5)));
        std::array<double, 32> histogram{};
        for (int y = 0; y < coarse.rows; ++y)
            for (int x = 0; x < coarse.cols; ++x)
                histogram[std::size_t(std::clamp(int(coarse.at<float>(y, x) / 8), 0, 31))] +=
                    1.0 / double(coarse.total());
        if (!before.empty()) {
            if (window.empty()) cv::createHanningWindow(window, coarse.size(), CV_32F);
            double response = 0;
            const cv::Point2d moved = cv::phaseCorrelate(before, coarse, window, &response);
            double difference = 0;
            for (std::size_t i = 0; i < histogram.size(); ++i)
                difference += std::abs(histogram[i] - histogramBefore[i]);
            cv::Mat shifted;
            const cv::Mat shift = (cv::Mat_<double>(2, 3) << 1, 0, moved.x, 0, 1, moved.y);
            cv::warpAffine(before, shifted, shift, before.size(), cv::INTER_LINEAR, cv::BORDER_REPLICATE);
            cv::Mat correlation;
            cv::matchTemplate(shifted, coarse, correlation, cv::TM_CCOEFF_NORMED);
            // No shift brings the two together, and their greys differ too.
            facts.cut = response < 0.1 && correlation.at<float>(0, 0) < 0.8F && difference > 0.12;
            facts.motion_px = facts.cut ? 0.0 : std::hypot(moved.x, moved.y) * double(raw.width) / coarse.cols;
        }
        before = coarse;
        histogramBefore = histogram;
        check.frames.push_back(facts);
        progress.report(double(frame - first + 1) / (last - first + 1), fmt::format("frame {}", frame));
    }
    if (check.frames.empty() && !check.stopped)
        return failure(Fault::input, "{}: not one frame of {}-{} could be read", cache.facts().path.string(), first,
                       last);
    std::vector<double> sorted = detail;
    std::sort(sorted.begin(), sorted.end());
    const double best = sorted.empty() ? 1.0 : std::max(1e-6, sorted[sorted.size() * 9 / 10]);
    for (std::size_t i = 0; i < check.frames.size(); ++i) check.frames[i].sharpness = std::min(1.0, detail[i] / best);
    check.notes = notesOf(check.frames);
    if (!damaged.empty())
        check.notes.insert(check.notes.begin(),
                           {PlateNote::Kind::damaged, damaged.front(), damaged.back(),
                            frameRanges(damaged) + (damaged.size() == 1 ? " is" : " are") +
                                " damaged or cannot be read: tracking passes over, as over a gap"});
    return check;
}

}  // namespace pinion
