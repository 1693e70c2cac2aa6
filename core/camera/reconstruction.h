#pragma once

#include "base/expected.h"
#include "base/progress.h"
#include "camera/bundle.h"
#include "camera/material.h"

#include <algorithm>
#include <optional>
#include <utility>
#include <vector>

namespace pinion::solving {

constexpr double kLeastAngle = 0.6;  ///< degrees between two rays, below which a point's depth is not believed

/// A growing reconstruction over some frames; included by the solver's sources alone.
class Reconstruction {
public:
    Reconstruction(const Material& material, const SolveOptions& options, Lens lens)
        : material_(&material), options_(&options), lens_(std::move(lens)), poses_(material.frames.size()), points_(material.trails.size()) {}
    const Lens& lens() const { return lens_; }
    const std::vector<std::optional<Pose>>& poses() const { return poses_; }
    const std::vector<std::optional<Eigen::Vector3d>>& points() const { return points_; }
    Expected<void> start(int a, int b, double tolerance_px);

    /// Adds `frame` by resection. `tolerance_px` is wide while the lens is still a guess.
    bool place(int frame, double tolerance_px);

    /// Adds all `frames` at once, each from its nearest placed neighbours.
    void placeAll(const std::vector<int>& frames, double tolerance_px);
    int sightingsOf(int frame) const;

    /// Places the points of trails that enough placed frames see; those already placed stay unless `again`.
    void triangulateAll(double tolerance_px, bool again);

    /// The point seen so, if the rays are wide and agree.
    std::optional<Eigen::Vector3d> placed(const std::vector<Seen>& seen, double tolerance_px) const;

    /// Adjusts everything placed. Frames and points keep their places in this object.
    bool adjustAll(BundleOptions bundleOptions, const Progress& progress);
    Bundle assemble(std::vector<int>& cameraOf, std::vector<int>& pointOf) const;
    double errorAt(const Seen& seen, const Eigen::Vector3d& point) const;

    /// Root of the mean squared error of one trail over the placed frames, and how many they are.
    std::pair<double, int> rmsOf(const Trail& trail, const Eigen::Vector3d& point) const;

    /// The median over all observations.
    double medianError() const;

    /// Mean Cauchy cost of all observations that could be placed, and a fixed price for those that could not.
    double cost() const;
    int placedFrames() const { return int(std::count_if(poses_.begin(), poses_.end(), [](const auto& p) { return p.has_value(); })); }
    int placedPoints() const { return int(std::count_if(points_.begin(), points_.end(), [](const auto& p) { return p.has_value(); })); }
    void dropPoint(std::size_t trail);
    void forgetFrame(std::size_t frame) { if (int(frame) != held_) poses_[frame].reset(); }
    int heldFrame() const { return held_; }
    double medianAngle() const;

private:
    std::optional<Pose> resected(int frame, double tolerance_px) const;

    /// Between the placed neighbours, or the nearest one.
    std::optional<Pose> guessFor(int frame) const;

    const Material* material_;
    const SolveOptions* options_;
    Lens lens_;
    std::vector<std::optional<Pose>> poses_;
    std::vector<std::optional<Eigen::Vector3d>> points_;
    std::vector<bool> dropped_;
    int held_ = 0;
};

}  // namespace pinion::solving
