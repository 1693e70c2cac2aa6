// *match* on photographs whose blur, levels and grain are known.

#include "benches.h"
#include "comp/insert.h"
#include "comp/match.h"
#include "planes/photograph.h"

#include <array>
#include <random>

namespace pinion::bench {
namespace {

using Eigen::Vector2d;

constexpr int kFrameWidth = 400, kFrameHeight = 300;
constexpr std::array kPhotographs{"graf1.png",    "graf3.png",        "box.png",    "home.jpg",      "baboon.jpg",
                                  "building.jpg", "aero1.jpg",        "fruits.jpg", "messi5.jpg",    "cards.png",
                                  "left01.jpg",   "leuvenA.jpg",      "board.jpg",  "butterfly.jpg", "apple.jpg",
                                  "orange.jpg",   "box_in_scene.png", "notes.png"};

Picture pictureOf(const cv::Mat& grey) {
    Picture picture{grey.cols, grey.rows, Picture::Depth::bits8, false, {}, {}};
    for (int y = 0; y < grey.rows; ++y)
        for (int x = 0; x < grey.cols; ++x)
            picture.bytes.insert(picture.bytes.end(), 3,
                                 std::uint8_t(std::clamp(grey.at<float>(y, x) + 0.5F, 0.0F, 255.0F)));
    return picture;
}

struct MatchCase {
    Layer layer;
    Picture plate;
    std::vector<Vector2d> area;
    double blur = 0;
    Grade grade;
};

/// A photograph in perspective, 90 to 330 px wide, and the plate that shows it blurred, graded and with grain.
std::optional<MatchCase> madeCase(unsigned seed, bool isPart) {
    std::mt19937 random(seed);
    std::uniform_real_distribution<double> unit(0, 1);
    const auto between = [&](double low, double high) { return low + (high - low) * unit(random); };
    const cv::Mat photograph = planes::photograph(kPhotographs[seed % kPhotographs.size()]);
    if (photograph.empty()) return std::nullopt;
    const double w = between(90, 330), h = between(70, 240), x = between(20, 375 - w), y = between(20, 280 - h);
    const Quad corners{Vector2d(x, y), {x + w, y + 6}, {x + 0.96 * w, y + h}, {x + 8, y + h - 5}};
    const auto art = Art::create(pictureOf(photograph), nullptr, AlphaKind::straight, false);
    MatchCase made;
    made.layer = art->laid(std::span(&corners, 1), kFrameWidth, kFrameHeight);
    made.blur = seed % 4 == 0 ? 0 : between(0.4, 3);
    const double grain = between(0, 3.5), part = isPart ? between(0.4, 0.9) : 1;
    for (std::size_t c = 0; c < 3; ++c) {
        made.grade.gain[c] = between(0.45, 1);
        made.grade.lift[c] = between(0, 0.08);
    }
    Layer shown = made.layer;
    blurLayer(shown, made.blur, kFrameWidth, kFrameHeight);
    gradeLayer(shown, made.grade);
    made.plate = {kFrameWidth, kFrameHeight, Picture::Depth::bits8, false, {}, {}};
    made.plate.bytes.assign(3 * kFrameWidth * kFrameHeight, 100);
    lay(made.plate, shown, Blend::over);
    std::normal_distribution<double> noise(0, grain);
    for (std::uint8_t& value : made.plate.bytes)
        value = std::uint8_t(std::clamp(double(value) + noise(random) + 0.5, 0.0, 255.0));
    const double x1 = x + 0.92 * w * part, y1 = y + (h - 12) * part;
    made.area = {{x + 12, y + 10}, {x1, y + 10}, {x1, y1}, {x + 12, y1}};
    return made;
}

}  // namespace

void benchMatching(unsigned first) {
    for (const bool isPart : {false, true}) {
        Errors blur, gain;
        int told = 0, beyond = 0, made = 0;
        for (unsigned seed = first; seed < first + 300; ++seed) {
            const auto one = madeCase(seed, isPart);
            if (!one) continue;
            ++made;
            const auto found = matched(one->plate, one->layer, one->area);
            if (!found || !found->hasEdges) {
                ++told;
                continue;
            }
            blur.values.push_back(std::abs(found->blur_px - one->blur));
            double worst = 0;
            for (std::size_t c = 0; c < 3; ++c)
                worst = std::max(worst, std::abs(found->grade.gain[c] / one->grade.gain[c] - 1));
            gain.values.push_back(100 * worst);
            beyond += blur.values.back() > 0.2 || worst > 0.02;
        }
        fmt::print(
            "match, {} cases from seed {}, {}: blur median {:.3f}, 90 % {:.3f}, worst {:.2f} px; gain median "
            "{:.1f}, 90 % {:.1f}, worst {:.0f} %; {} beyond 0.2 px or 2 %; {} told as too few edges\n",
            made, first, isPart ? "a part as area" : "all of it as area", blur.at(0.5), blur.at(0.9), blur.at(1),
            gain.at(0.5), gain.at(0.9), gain.at(1), beyond, told);
    }
}

}  // namespace pinion::bench
