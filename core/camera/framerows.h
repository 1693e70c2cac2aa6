#pragma once

#include "camera/pose.h"
#include "camera/result.h"
#include "camera/rowposes.h"

#include <Eigen/Core>
#include <optional>
#include <vector>

namespace pinion {

/// The camera of one solved frame, row by row; where the sensor is read at once every row has the frame's own.
class FrameRows {
public:
    /// None of a frame that is not solved. `part`: so much later, up to half a frame earlier or later.
    static std::optional<FrameRows> of(const Solve& solve, int frame, double part = 0);
    struct View {
        Pose pose;
        Lens lens;
    };
    /// The camera that reads a row: -0.5 to 0.5, as `rowOf`.
    View at(double row) const;
    /// The one that reads a place of the plate.
    View at(const Eigen::Vector2d& plate) const;
    bool isRolling() const { return readout_.isRolling(); }
    bool readsColumns() const { return readout_.columns; }
    /// The row that reads a place of the plate.
    double rowAt(const Eigen::Vector2d& plate) const;
    /// Where a point is seen, by the row that sees it; none out of view of the lens.
    std::optional<Eigen::Vector2d> projected(const Eigen::Vector3d& xyz) const;

private:
    FrameRows(Readout readout, View middle) : readout_(readout), middle_(std::move(middle)), rows_({}, {}) {}

    View atTime(double time) const;

    Readout readout_;
    double part_ = 0;  ///< of a frame, after its own
    View middle_;
    std::size_t own_ = 0;
    std::vector<double> focals_;  ///< of a zoom, of the frames about
    double k1Slope_ = 0;
    Lens lens_;  ///< the solve's
    RowPoses rows_;
};

}  // namespace pinion
