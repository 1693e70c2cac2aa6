#pragma once

#include "matte/matte.h"
#include "picture/pyramid.h"
#include "track/track.h"

#include <Eigen/Core>
#include <Eigen/Geometry>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

/// Where a pattern lies in a frame. `plateFromPattern` takes pattern coordinates (pixels from the pattern's centre in
/// its reference frame) to pixels of the plate.
struct PatternPose {
    Eigen::Matrix3d plateFromPattern = Eigen::Matrix3d::Identity();

    Eigen::Vector2d centre() const { return plateFromPattern.col(2).hnormalized(); }
    static PatternPose at(const Eigen::Vector2d& centre);
    /// The same shape, its centre elsewhere.
    PatternPose movedTo(const Eigen::Vector2d& centre) const;
};

struct Match {
    PatternPose pose;
    double score = 0.0;  ///< correlation with the reference, -1 to 1
    int rounds = 0;      ///< alignment steps taken
};

/// What lies under a square of `size` pixels laid by `pose`, row by row. None where it leaves the frame.
std::optional<std::vector<float>> patchUnder(const Pyramid& frame, const PatternPose& pose, int size);

/// One reference pattern, aligned to other frames by the inverse-compositional method (Baker and Matthews 2004) with
/// gain and offset projected out, so that a change of light does not move it. Made once for each reference; `align` may
/// be called from several threads.
class PatternMatcher {
public:
    /// Takes the pattern of `size` x `size` pixels around `centre`; of an `outline` (around the centre) only what lies
    /// in it counts. None when it does not fit inside the frame or has no texture to hold on to in both directions.
    static std::optional<PatternMatcher> create(const Pyramid& reference, const Eigen::Vector2d& centre, int size,
                                                MotionModel motion, const Polygon& outline = {});

    /// The same from a picture of the pattern, square, row by row, one pixel wider than the pattern on each side: of
    /// several views laid over each other, whose grain is less than that of any.
    static std::optional<PatternMatcher> createFrom(std::span<const float> patch, MotionModel motion,
                                                    const Polygon& outline = {});

    /// Refines `start` to sub-pixel. None when the pattern leaves the frame or the steps do not settle.
    std::optional<Match> align(const Pyramid& frame, const PatternPose& start) const;

    /// The same by its place alone, whatever freedoms the matcher was made for: `start` gives its shape.
    std::optional<Match> alignPlace(const Pyramid& frame, const PatternPose& start) const;

    /// Gives the pattern's memory back; the matcher is of no use after it.
    void release() { data_ = {}; }

    int size() const { return size_; }

    /// The standard deviation of the place, in pixels along the weaker direction, for grain of one grey level in 255.
    double weakness() const { return weakness_; }

private:
    template <int N>
    std::optional<Match> alignWith(const Pyramid& frame, const PatternPose& start) const;
    const float* pattern() const { return data_.data(); }
    const float* direction(int k) const { return data_.data() + std::ptrdiff_t(k + 1) * size_ * size_; }

    int size_ = 0;
    MotionModel motion_ = MotionModel::translation;
    std::vector<float> mask_;  ///< 1 inside the outline, 0 outside; empty: all counts
    int counted_ = 0;          ///< pixels that count
    std::vector<float>
        data_;             ///< the pattern with zero mean, then a steepest-descent image a freedom; shift comes first
    float energy_ = 0.0F;  ///< squared norm of the pattern
    double weakness_ = 0.0;
    Eigen::Matrix2f shiftInverse_;
    Eigen::Matrix<float, 8, 8> fullInverse_;
};

/// Finds where the patch around `from` in one frame went in another: normalised cross-correlation over all shifts
/// within `radius` pixels of `expected`, at half resolution, with a parabola through the peak. None at the border. Of
/// an `outline` around `from` only what lies in it is looked for.
struct Jump {
    Eigen::Vector2d to;
    double score;
};
std::optional<Jump> searchPatch(const Pyramid& fromFrame, const Eigen::Vector2d& from, const Pyramid& toFrame,
                                const Eigen::Vector2d& expected, int size, double radius, const Polygon& outline = {});

}  // namespace pinion
