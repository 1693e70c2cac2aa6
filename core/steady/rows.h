#pragma once

#include "camera/readout.h"
#include "motion/platemotion.h"
#include "track/track.h"

#include <Eigen/Core>
#include <map>
#include <span>
#include <vector>

namespace pinion {

/// Tracks as a sensor that is read at once would have seen them: each sample is taken along its own path to the time of
/// its frame's middle row. What is seen on a row is the path there, so the path is solved for: the sum over its
/// neighbours (`FrameBlend`) that gives the sample. A track of one frame stays as it is.
std::vector<Track> atMiddleRow(std::span<const Track> tracks, const Readout& readout, int width, int height);

/// What a rolling shutter does to the picture of a motion: where each row lies beside where the middle row's instant
/// had it. The motion is that of `atMiddleRow`. Safe to call from several threads.
class RowWarp {
public:
    RowWarp(const PlateMotion& motion, const Readout& readout, int width, int height);

    /// Where a place of the straight picture is on the plate as filmed, and back. The place itself on a frame without a
    /// motion.
    Eigen::Vector2d filmedFromStraight(int frame, const Eigen::Vector2d& straight) const;
    Eigen::Vector2d straightFromFilmed(int frame, const Eigen::Vector2d& filmed) const;

    /// The farthest that a place of the frame's border is moved on any frame, in pixels.
    double reach_px() const { return reach_px_; }

private:
    struct Frame {
        int before = 0, after = 0;                   ///< neighbours in time
        std::vector<Eigen::Matrix3d> besideFromOwn;  ///< from the first of them to the last
    };
    double farthest() const;
    /// The place at the time at which a row is read.
    Eigen::Vector2d onRow(const Frame& frame, double row, const Eigen::Vector2d& straight) const;

    Readout readout_;
    int width_, height_;
    std::map<int, Frame> frames_;
    double reach_px_ = 0;
};

}  // namespace pinion
