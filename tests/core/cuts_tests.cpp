// Where another shot begins: made-up pictures of many kinds of change.

#include "jobs/lensing.h"
#include "plate/cuts.h"

#include <array>
#include <catch2/catch.hpp>
#include <cmath>
#include <random>

using namespace pinion;

namespace {

/// A scene of soft stripes, seen from a place that moves.
class CutScene {
public:
    explicit CutScene(unsigned seed) {
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> any(-1, 1);
        for (auto& wave : waves_)
            wave = {0.06 * any(random), 0.06 * any(random), 3 * any(random), 0.1 + 0.05 * any(random)};
        level_ = 0.5 + 0.25 * any(random);
    }
    Picture seen(double x, double y, double light = 1) const {
        Picture picture{160, 90, Picture::Depth::bits8, false, {}, {}};
        for (int row = 0; row < 90; ++row)
            for (int column = 0; column < 160; ++column) {
                double tone = level_;
                for (const auto& [u, v, phase, strength] : waves_)
                    tone += strength * std::sin(u * (column + x) + v * (row + y) + phase);
                for (int c = 0; c < 3; ++c)
                    picture.bytes.push_back(std::uint8_t(std::lround(255 * std::clamp(tone * light, 0.0, 1.0))));
            }
        return picture;
    }

private:
    std::array<std::array<double, 4>, 6> waves_{};
    double level_ = 0.5;
};

using Likenesses = std::vector<std::optional<Likeness>>;

}  // namespace

TEST_CASE("cuts are found between scenes, still or panned, whatever they are; nothing else is one") {
    int found = 0, wrong = 0;
    for (unsigned seed = 100; seed < 140; ++seed) {
        INFO("seed " << seed);
        const CutScene one(2 * seed), two(2 * seed + 1);
        std::mt19937 random(seed);
        std::uniform_real_distribution<double> any(-1, 1);
        const double vx = 4 * any(random), vy = any(random);
        Likenesses shots;
        for (int i = 0; i < 30; ++i) shots.emplace_back((i < 17 ? one : two).seen(vx * i, vy * i));
        const auto cuts = cutsAmong(shots, 1001);
        if (cuts == std::vector{1018}) ++found;
        else if (!cuts.empty()) ++wrong;

        // A pan that starts, whips and stops; a light that goes on for a frame or two; a slow fade; a dissolve.
        Likenesses whip, flash, fade, dissolve;
        double x = 0;
        for (int i = 0; i < 40; ++i) {
            x += i < 10 || i > 30 ? 0.5 : 30 * std::sin((i - 10) / 20.0 * 3.14159);
            whip.emplace_back(one.seen(x, 0));
            flash.emplace_back(one.seen(vx * i, vy * i, i == 20 || (seed % 2 && i == 21) ? 1.8 : 1));
            fade.emplace_back(one.seen(vx * i, vy * i, std::max(0.0, 1 - i / 15.0)));
            Picture mixed = one.seen(0, 0);
            const Picture other = two.seen(0, 0);
            const double share = std::clamp((i - 12) / 16.0, 0.0, 1.0);
            for (std::size_t k = 0; k < mixed.bytes.size(); ++k)
                mixed.bytes[k] = std::uint8_t(std::lround((1 - share) * mixed.bytes[k] + share * other.bytes[k]));
            dissolve.emplace_back(mixed);
        }
        CHECK(cutsAmong(whip, 1).empty());
        CHECK(cutsAmong(flash, 1).empty());
        CHECK(cutsAmong(fade, 1).empty());
        CHECK(cutsAmong(dissolve, 1).empty());
    }
    CHECK(found >= 38);
    CHECK(wrong == 0);
}

TEST_CASE("frames that cannot be read make no cut, and few frames are none") {
    const CutScene one(1), two(2);
    Likenesses gap;
    for (int i = 0; i < 20; ++i) gap.push_back(i == 9 ? std::nullopt : std::optional(Likeness(one.seen(i, 0))));
    CHECK(cutsAmong(gap, 1).empty());
    CHECK(cutsAmong({}, 1).empty());
    CHECK(cutsAmong({Likeness(one.seen(0, 0)), Likeness(two.seen(0, 0))}, 1).empty());
}

TEST_CASE("lines on both sides of a cut are pointed out, on one side they are not") {
    const std::vector<int> lines{1005, 1009, 1021};
    CHECK(framesOfLines(lines)->first == 1005);
    CHECK(framesOfLines(lines)->last == 1021);
    CHECK_FALSE(framesOfLines(std::vector{1005, 1005}));
    CHECK_FALSE(framesOfLines(std::vector<int>{}));
    CHECK(cutWords(lines, std::vector{1010}) ==
          "another shot seems to begin at frame 1010: lines before and after may not be of one lens");
    CHECK(cutWords(lines, std::vector{1010, 1020}).find("frames 1010, 1020") != std::string::npos);
    CHECK(cutWords(lines, std::vector{1005, 1022}).empty());
}
