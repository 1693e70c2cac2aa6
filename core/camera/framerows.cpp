#include "camera/framerows.h"

#include "camera/bundle.h"

#include <algorithm>
#include <cmath>

namespace pinion {

using Eigen::Vector2d;
using Eigen::Vector3d;

std::optional<FrameRows> FrameRows::of(const Solve& solve, int frame, double part) {
    const SolvedFrame* solved = solvedFrameAt(solve, frame);
    if (!solved) return std::nullopt;
    FrameRows rows(solve.readout, {poseFrom(solved->worldFromCamera), lensOf(solve, *solved)});
    if (!solve.readout.isRolling() && part == 0) return rows;
    constexpr std::ptrdiff_t kReach = RowPoses::kReach;
    const auto& all = solve.frames.vector();
    const std::ptrdiff_t at = solved - all.data(), first = std::max<std::ptrdiff_t>(0, at - kReach),
                         last = std::min(std::ptrdiff_t(all.size()) - 1, at + kReach);
    std::vector<Pose> poses;
    std::vector<int> times;
    for (std::ptrdiff_t i = first; i <= last; ++i) {
        const SolvedFrame& one = all[std::size_t(i)];
        poses.push_back(poseFrom(one.worldFromCamera));
        times.push_back(one.frame);
        if (solve.zoom) rows.focals_.push_back(one.focal_px);
    }
    rows.own_ = std::size_t(at - first);
    rows.k1Slope_ = solve.k1Slope;
    rows.lens_ = solve.lens;
    rows.rows_ = RowPoses(poses, times);
    rows.part_ = part;
    if (part != 0) rows.middle_ = rows.atTime(part);
    return rows;
}

double FrameRows::rowAt(const Vector2d& plate) const {
    // What lies outside the plate is read a little before and after it.
    return std::clamp(rowOf(plate, readout_.columns, middle_.lens.width, middle_.lens.height), -0.75, 0.75);
}

FrameRows::View FrameRows::at(double row) const {
    return readout_.isRolling() ? atTime(part_ + readout_.share * row) : middle_;
}

FrameRows::View FrameRows::atTime(double time) const {
    RowPoses::Slopes slopes;
    View view{rows_.at(own_, time, &slopes), middle_.lens};
    if (focals_.empty()) return view;
    double focal = 0;
    for (std::size_t k = 0; k < std::size_t(slopes.count); ++k)
        focal += slopes.weights[k] * focals_[std::size_t(slopes.cameras[k])];
    if (focal > 0) view.lens = zoomed(lens_, k1Slope_, focal);
    return view;
}

FrameRows::View FrameRows::at(const Vector2d& plate) const { return at(rowAt(plate)); }

std::optional<Vector2d> FrameRows::projected(const Vector3d& xyz) const {
    double row = 0;
    // The row that sees it and where it is seen follow from each other; a camera moves little while it reads.
    for (int round = 0;; ++round) {
        const View view = at(row);
        const Vector3d inCamera = view.pose.cameraFromWorld(xyz);
        if (inCamera.z() <= 1e-6) return std::nullopt;
        const auto plate = plateFromPlane(view.lens, inCamera.hnormalized());
        if (!plate || !readout_.isRolling()) return plate;
        const double next = rowAt(*plate);
        if (std::abs(next - row) < 1e-7 || round == 12) return plate;
        row = next;
    }
}

std::optional<Vector2d> projected(const Solve& solve, int frame, const Vector3d& xyz) {
    const auto rows = FrameRows::of(solve, frame);
    return rows ? rows->projected(xyz) : std::nullopt;
}

}  // namespace pinion
