// The lens: from lines and charts against the truth, maps and pictures against OpenCV's remap in the same run.

#include "benches.h"
#include "comp/bend.h"
#include "comp/render.h"
#include "jobs/lensing.h"
#include "lensmapping.h"
#include "lens/edges.h"

#include <chrono>
#include <cmath>
#include <cstdio>
#include <opencv2/core.hpp>
#include <opencv2/imgproc.hpp>
#include <random>

namespace pinion::bench {
namespace {

using Eigen::Vector2d;
using Clock = std::chrono::steady_clock;

double secondsSince(Clock::time_point start) { return std::chrono::duration<double>(Clock::now() - start).count(); }

struct Spread {
    std::vector<double> values;
    double at(double share) {
        std::sort(values.begin(), values.end());
        return values[std::size_t(share * double(values.size() - 1))];
    }
};

/// Made-up lenses, each with lines along its borders: clicks 0.7 px beside them, and places on the edges.
void benchLines(unsigned firstSeed) {
    for (const int lines : {6, 12}) {
        Spread clicked, followed;
        int refused = 0, fits = 0, unsaid = 0;
        double seconds = 0;
        for (unsigned seed = firstSeed; seed < firstSeed + 60; ++seed) {
            std::mt19937 dice(seed);
            const auto draw = [&](double a, double b) { return std::uniform_real_distribution<double>(a, b)(dice); };
            std::normal_distribution<double> slip(0, 0.7), edge(0, 0.1);
            Lens lens = pinholeLens(1920, 1080, 1920 * draw(0.5, 1.6));
            const double unit = 0.5 * std::hypot(1920, 1080) / lens.focal_px;
            lens.k1 = draw(-0.18, 0.08) / (unit * unit);
            lens.k2 = draw(0, 0.04) / std::pow(unit, 4);
            if (!checkLens(lens)) continue;
            std::vector<StraightLine> byHand, onEdges;
            for (int i = 0; i < lines; ++i) {
                const double inset = draw(0.03, 0.2), tilt = draw(-0.06, 0.06);
                const double near = i % 2 == 0 ? inset : 1 - inset;
                const auto place = [&](double t) {
                    const double across = near + tilt * t;
                    return i % 4 < 2 ? Vector2d((0.05 + 0.9 * t) * 1920, across * 1080)
                                     : Vector2d(across * 1920, (0.05 + 0.9 * t) * 1080);
                };
                StraightLine hand{1, {}}, on{1, {}};
                for (int k = 0; k <= 100; ++k) {
                    const auto plate = plateFromUndistorted(lens, place(k / 100.0));
                    if (!plate || plate->x() < 3 || plate->y() < 3 || plate->x() > 1917 || plate->y() > 1077) continue;
                    on.points.emplace_back(*plate + Vector2d(edge(dice), edge(dice)));
                    if (k % 20 == 0) hand.points.emplace_back(*plate + Vector2d(slip(dice), slip(dice)));
                }
                if (hand.points.size() < 3) continue;
                byHand.push_back(hand);
                onEdges.push_back(on);
            }
            const LinesOptions options{.width = 1920, .height = 1080, .focal_px = lens.focal_px};
            const auto a = lensFromLines(byHand, options);
            const auto start = Clock::now();
            const auto b = lensFromLines(onEdges, options);
            seconds += secondsSince(start);
            ++fits;
            refused += !a + !b;
            if (a) clicked.values.push_back(mappingError(lens, a->lens));
            if (b) {
                const double error = mappingError(lens, b->lens);
                followed.values.push_back(error);
                if (error > 3 * std::max(0.05, b->deviations.border_px)) ++unsaid;
                if (error > 0.5)
                    std::printf(
                        "  seed %u, %d lines: %.2f px, border ± %.2f px, %s (k1 %.3f, k2 %.3f; truth %.3f, %.3f)\n",
                        seed, lines, error, b->deviations.border_px, b->terms.c_str(), b->lens.k1, b->lens.k2, lens.k1,
                        lens.k2);
            }
        }
        std::printf(
            "lens from %2d lines, 1920x1080, RMS over the frame: snapped median %.2f, 90 %% %.2f, worst %.2f px; "
            "by hand (0.7 px off) median %.2f, 90 %% %.2f px; %d refused, %d beyond three times "
            "their ±; %.0f ms a fit\n",
            lines, followed.at(0.5), followed.at(0.9), followed.at(1), clicked.at(0.5), clicked.at(0.9), refused,
            unsaid, 1000 * seconds / std::max(1, fits));
    }
}

void benchMaps() {
    for (const auto& [width, height] : {std::pair{1920, 1080}, std::pair{4096, 2160}}) {
        Lens lens = pinholeLens(width, height, 0.78 * width);
        lens.k1 = -0.112;
        lens.k2 = 0.018;
        auto start = Clock::now();
        const StMap out = undistortMap(lens), back = redistortMap(lens);
        std::printf("ST maps %dx%d, both ways: %.2f s (%zu values)\n", width, height, secondsSince(start),
                    out.st.size() + back.st.size());
        start = Clock::now();
        const auto read = lensFromMaps(out, back, width, height, lens.focal_px);
        if (!read) continue;
        std::printf("  as a lens: %.2f s, %.5f px from the one that wrote them, places return within %.4f px\n",
                    secondsSince(start), mappingError(lens, read->lens), read->returns_px);
        start = Clock::now();
        int sound = 0;
        for (int i = 0; i < 100; ++i) sound += checkLens(read->lens).has_value();
        std::printf("  checked in %.3f ms (%d)\n", 10 * secondsSince(start), sound);
        start = Clock::now();
        const LookUp table = undistorting(read->lens, undistortedBox(read->lens));
        std::printf("  a table through it: %.2f s (%zu values)\n", secondsSince(start), table.xy.size());
    }
}

void benchPictures() {
    Lens lens = pinholeLens(1920, 1080, 0.78 * 1920);
    lens.k1 = -0.112;
    lens.k2 = 0.018;
    Picture picture{1920, 1080, Picture::Depth::bits8, false, {}, {}};
    std::mt19937 dice(1);
    for (int i = 0; i < 1920 * 1080 * 3; ++i) picture.bytes.push_back(std::uint8_t(dice()));
    const PixelBox box = undistortedBox(lens);
    const LookUp table = undistorting(lens, box);
    const DisplayBend display(table, 1920, 1080);
    const auto pixels = displayPixels(picture);
    constexpr int kRounds = 30;
    auto start = Clock::now();
    std::uint32_t kept = 0;
    for (int i = 0; i < kRounds; ++i) kept ^= display.bent(pixels)[1000];
    const double ours = 1000 * secondsSince(start) / kRounds;
    cv::Mat x(box.height(), box.width(), CV_32F), y(box.height(), box.width(), CV_32F);
    for (int r = 0; r < x.rows; ++r)
        for (int c = 0; c < x.cols; ++c) {
            x.at<float>(r, c) = table.xy[2 * (std::size_t(r) * std::size_t(x.cols) + std::size_t(c))] - 0.5F;
            y.at<float>(r, c) = table.xy[2 * (std::size_t(r) * std::size_t(x.cols) + std::size_t(c)) + 1] - 0.5F;
        }
    const cv::Mat from(1080, 1920, CV_8UC3, picture.bytes.data());
    cv::Mat to;
    start = Clock::now();
    for (int i = 0; i < kRounds; ++i) cv::remap(from, to, x, y, cv::INTER_LINEAR);
    const double theirs = 1000 * secondsSince(start) / kRounds;
    std::printf("undistorted view, 1920x1080 with overscan: %.1f ms a picture; cv::remap on three bytes %.1f ms (%u)\n",
                ours, theirs, kept & 1);
    for (const BendFilter filter : {BendFilter::bilinear, BendFilter::bicubic, BendFilter::lanczos, BendFilter::area}) {
        start = Clock::now();
        for (int i = 0; i < 5; ++i) kept ^= bent(picture, table, filter).bytes[5000];
        std::printf("  %s for a delivery: %.0f ms\n", std::string(toString(filter)).c_str(),
                    1000 * secondsSince(start) / 5);
    }
}

void benchRoundTrip(const std::filesystem::path& plates) {
    const auto plate = Plate::open(plates / "landing.mp4");
    if (!plate) return;
    const auto picture = (*plate)->read(1001);
    if (!picture) return;
    const Lens lens = landingLens();
    const PixelBox box = undistortedBox(lens);
    const LookUp out = undistorting(lens, box), back = redistorting(lens, box);
    for (const BendFilter filter : {BendFilter::bilinear, BendFilter::bicubic, BendFilter::lanczos, BendFilter::area}) {
        const Picture returned = bent(bent(**picture, out, filter), back, filter);
        double squares = 0;
        for (std::size_t i = 0; i < returned.bytes.size(); ++i)
            squares += std::pow(double(returned.bytes[i]) - (*picture)->bytes[i], 2);
        std::printf("round trip of landing's first frame, %s: %.1f dB\n", std::string(toString(filter)).c_str(),
                    10 * std::log10(255 * 255 / (squares / double(returned.bytes.size()))));
    }
    FrameCache frames(*plate, std::size_t(512) << 20);
    const auto table = std::make_shared<const LookUp>(out);
    const auto folder = std::filesystem::temp_directory_path() / "pinion-bench-lens";
    const auto start = Clock::now();
    const auto report = renderBent(frames, {1001, 1040}, [&](int) { return table; }, folder / "u.####.exr",
                                   {.width = 1280, .height = 720});
    if (report) std::printf("undistorting 1280x720 to EXR: %.1f frames/s\n", report->frames / secondsSince(start));
    std::filesystem::remove_all(folder);
}

}  // namespace

void benchLens(const std::filesystem::path& plates, unsigned firstSeed) {
    benchLines(firstSeed);
    benchMaps();
    benchPictures();
    benchRoundTrip(plates);
}

}  // namespace pinion::bench
