#pragma once

#include <array>

namespace pinion {

/// A value between frames, as a weighted sum of its values on a frame and its neighbours: Hermite's cubic whose speeds
/// are differences of fourth order over five frames (Fornberg 1988: a hand's fast shake is slowed down by a twentieth
/// where those of second order take a fifth). Near the ends fewer frames stand in: speeds of second order (Catmull and
/// Rom 1974), a parabola, a line, the frame alone.
struct FrameBlend {
    static constexpr int kMost = 6;   ///< frames that count
    static constexpr int kReach = 3;  ///< how far they may lie from the frame

    int count = 0;
    std::array<int, kMost> steps{};  ///< from the frame, rising
    std::array<double, kMost> weights{};
    std::array<double, kMost> speeds{};  ///< of the weights, a frame

    /// `time` frames after the frame, which has `before` and `after` neighbours one after the other; within half a
    /// frame and a little.
    static FrameBlend at(double time, int before, int after);
};

}  // namespace pinion
