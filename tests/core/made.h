#pragma once

// Plates that are computed, so that every place on them is known exactly.

#include "plate/framecache.h"
#include "track/track.h"

#include <Eigen/Geometry>
#include <Eigen/LU>
#include <cmath>
#include <functional>
#include <random>

namespace pinion::test {

/// A smooth texture that is known everywhere, so that a moved picture is exact to any fraction of a pixel.
inline double texture(double x, double y) {
    return 128 + 34 * std::sin(0.31 * x + 0.12 * y) + 30 * std::sin(-0.17 * x + 0.29 * y + 1.0) +
           22 * std::sin(0.53 * x - 0.41 * y) + 14 * std::cos(0.71 * y + 0.23 * x);
}

/// A picture in which the pattern coordinates around `centre` are taken by `move` to the plate.
inline Picture moved(const Eigen::Matrix3d& plateFromTexture, double gain = 1, double offset = 0, double grain = 0,
                     unsigned seed = 1) {
    Picture picture{200, 160, Picture::Depth::float32, false, {}, std::vector<float>(200 * 160 * 3)};
    const Eigen::Matrix3d textureFromPlate = plateFromTexture.inverse();
    std::mt19937 random(seed);
    std::normal_distribution<double> noise(0, 1);
    for (int y = 0; y < 160; ++y)
        for (int x = 0; x < 200; ++x) {
            const Eigen::Vector2d at = (textureFromPlate * Eigen::Vector3d(x + 0.5, y + 0.5, 1)).hnormalized();
            const float value = float((gain * texture(at.x(), at.y()) + offset + grain * noise(random)) / 255);
            for (std::size_t c = 0; c < 3; ++c) picture.floats[(std::size_t(y) * 200 + std::size_t(x)) * 3 + c] = value;
        }
    return picture;
}

inline Eigen::Matrix3d shift(double x, double y) {
    Eigen::Matrix3d m = Eigen::Matrix3d::Identity();
    m(0, 2) = x;
    m(1, 2) = y;
    return m;
}

/// A plate whose frames are computed.
class MadePlate final : public Plate {
public:
    MadePlate(int frames, std::function<Picture(int)> make) : make_(std::move(make)) {
        facts_.width = 200;
        facts_.height = 160;
        facts_.firstFrame = 1;
        facts_.lastFrame = frames;
        facts_.path = "made";
    }
    Expected<PicturePtr> read(int frame) const override { return std::make_shared<const Picture>(make_(frame)); }

private:
    std::function<Picture(int)> make_;
};

inline Track placed(int frame, const Eigen::Vector2d& at, MotionModel motion = MotionModel::affine) {
    Track track;
    track.id = 1;
    track.name = "p";
    track.byHand = true;
    track.motion = motion;
    track.referenceFrame = frame;
    track.samples = List<Sample>({{.frame = frame, .at = at, .tie = true}});
    return track;
}

}  // namespace pinion::test
