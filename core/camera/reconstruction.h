#pragma once

#include "base/progress.h"
#include "camera/bundle.h"
#include "camera/material.h"

#include <optional>
#include <utility>
#include <vector>

namespace pinion::solving {

/// A point this many times nearer to a camera than the median point is worth a second look: what is seen only while the
/// camera turns may be put anywhere, into the camera's very place as well.
constexpr double kNearCamera = 5;

/// A growing reconstruction over some frames: cameras, homogeneous points down to infinity, the lens. Included by the
/// solver's sources alone.
class Reconstruction {
public:
    Reconstruction(const Material& material, const SolveOptions& options, const Lens& first, bool zoom = false);

    const Material& material() const { return *material_; }
    /// Goes on with other tracks at the same numbers (`withoutTrails` gives such).
    void continueOn(const Material& material) { material_ = &material; }
    const SolveOptions& options() const { return *options_; }
    const Lens& lens() const { return lens_; }
    double k1Slope() const { return k1Slope_; }
    bool isZoom() const { return !focals_.empty(); }
    double focalOf(int frame) const { return isZoom() ? focals_[std::size_t(frame)] : lens_.focal_px; }
    Lens lensOf(int frame) const { return isZoom() ? zoomed(lens_, k1Slope_, focals_[std::size_t(frame)]) : lens_; }
    const std::optional<Pose>& pose(int frame) const { return poses_[std::size_t(frame)]; }
    const std::optional<Eigen::Vector4d>& point(std::size_t trail) const { return points_[trail]; }
    bool turnsOnly() const { return turnsOnly_; }

    /// From now on the tracks are taken as filmed, and each row is seen by its own pose.
    void readRows(double readout) {
        readsRows_ = true;
        readout_ = readout;
    }
    bool readsRows() const { return readsRows_; }
    double readout() const { return readout_; }

    void setLens(const Lens& lens) { lens_ = lens; }
    void setFocal(int frame, double focal_px) { focals_[std::size_t(frame)] = focal_px; }
    void setPose(int frame, const Pose& pose) { poses_[std::size_t(frame)] = pose; }
    void setPoint(std::size_t trail, const Eigen::Vector4d& point) { points_[trail] = point.normalized(); }
    void forgetFrame(int frame) { poses_[std::size_t(frame)].reset(); }
    void forgetPoint(std::size_t trail) { points_[trail].reset(); }
    void dropPoint(std::size_t trail) {
        points_[trail].reset();
        dropped_[trail] = true;
    }
    void bringBack(std::size_t trail) { dropped_[trail] = false; }
    bool isDropped(std::size_t trail) const { return dropped_[trail]; }

    /// Adjusted, but no witness: it contradicts the rest by little.
    void setDoubted(std::size_t trail, bool doubted) { doubted_[trail] = doubted; }
    bool isDoubted(std::size_t trail) const { return doubted_[trail]; }

    /// How much more than others a track counts, from its own noise: multiplies its errors.
    void setTrust(std::size_t trail, double sigma) { sigmas_[trail] = sigma; }

    /// Leaves all but these trails out until `takeAll`: a first guess needs no more than a couple of hundred.
    void takeOnly(const std::vector<int>& trails);
    void takeAll() { ignored_.clear(); }
    bool isIgnored(std::size_t trail) const { return !ignored_.empty() && ignored_[trail]; }

    /// Only the samples from..to (indices into the trail, both included) count.
    void keepStretch(std::size_t trail, int from, int to) { stretches_[trail] = {from, to}; }
    std::pair<int, int> stretch(std::size_t trail) const;

    /// A camera that only turns: points are directions, places stay at the origin.
    void turnOnly() { turnsOnly_ = true; }

    /// Whether the optical axis lies farther from where it is expected than the trust in that allows; then the trust
    /// was wrong.
    bool axisStrains() const;
    void widenAxis() { axisSigma_ *= 8; }
    void centreAxis() {
        lens_.cx = expectedAxis().x();
        lens_.cy = expectedAxis().y();
    }

    /// Gives every frame a focal length of its own from now on.
    void becomeZoom();

    /// The first two frames, and the points both see.
    void start(int a, int b, const RelativePose& relative, const std::vector<int>& trails,
               const std::vector<PlanePair>& pairs);

    /// Adds `frame`: from its placed neighbours, else by resection. `tolerance_px` is wide while the lens is still a
    /// guess.
    bool place(int frame, double tolerance_px);

    /// Adds all `frames` at once.
    int placeAll(const std::vector<int>& frames, double tolerance_px);

    /// Tracks with a point that the frame sees.
    int sightingsOf(int frame) const;

    /// Places the points of trails that placed frames see; those already placed stay unless `again`. Points whose
    /// sightings contradict each other by more than the tolerance (median) stay without a place.
    void triangulateAll(double tolerance_px, bool again);

    /// The point that best explains the sightings (every `step`-th from `from` on), robustly; none when too few frames
    /// are placed or it would lie behind them.
    std::optional<Eigen::Vector4d> bestPlace(const Trail& trail, double width_px, std::size_t from = 0,
                                             std::size_t step = 1, std::size_t until = SIZE_MAX) const;

    /// Whether the sightings agree best on a place so near to a camera that `bestPlace` does not believe it.
    bool isOnlyNear(const Trail& trail, double width_px) const;

    /// The same for a point at infinity, from a first guess.
    Eigen::Vector4d bestDirection(const Trail& trail, const Eigen::Vector4d& first, double width_px,
                                  std::size_t step = 1) const;

    /// Adjusts everything placed. What is known of the lens is taken from the solve's options.
    bool adjust(const LensTerms& free, double width_px, int rounds, const Progress& progress, double settled = 1e-4,
                const std::function<void(const Bundle&)>& watch = {});

    /// Takes over what became of an assembled bundle.
    void take(const Bundle& bundle, const std::vector<int>& cameraOf, const std::vector<int>& pointOf);

    BundleOptions bundleOptions(const LensTerms& free, double width_px, int rounds, double settled) const;
    Bundle assemble(std::vector<int>* cameraOf = nullptr, std::vector<int>* pointOf = nullptr) const;

    /// Where the model puts a point on a placed frame; none behind it.
    std::optional<Eigen::Vector2d> plateOf(int frame, const Eigen::Vector4d& point) const;

    /// How far from there it was seen; infinite behind it or when the frame is not placed.
    double errorAt(const Seen& seen, const Eigen::Vector4d& point) const;

    /// Errors of a trail's sightings on placed frames, as vectors; pairs of (index into seen, error).
    std::vector<std::pair<int, Eigen::Vector2d>> errorsOf(const Trail& trail, const Eigen::Vector4d& point) const;

    /// Standard deviation of one coordinate, from the median error of all that is placed.
    double noise() const;

    /// How badly the tracks are explained on `frames`, 0 to 1 a sighting: e²/(e² + (3 noise)²) (Geman and McClure
    /// 1985), what has no place or no camera counting 1. One noise for all candidates makes them comparable.
    double badness(const std::vector<int>& frames, double noise_px) const;

    int placedFrames() const;
    int placedPoints() const;

    /// Moves the world so that the cameras' middle is the origin and the median point lies at distance one: homogeneous
    /// points are then well scaled.
    void recentre();

    /// Stretches the world along the middle camera's axis.
    void deepen(double ratio);

    /// The same with everything reflected in depth as `frame` sees it: what a long lens can hardly tell from the truth.
    Reconstruction mirrored(int frame, double tolerance_px) const;

    double medianAngleDegrees() const;

private:
    struct Placed {
        std::optional<Eigen::Vector4d> point;
        bool isOnlyNear = false;
    };
    Placed placed(const Trail& trail, double width_px, std::size_t from, std::size_t step, std::size_t until) const;
    Eigen::Vector2d expectedAxis() const;
    std::optional<Pose> resected(int frame, double tolerance_px, double* focal_px) const;
    std::optional<Pose> guessFor(int frame) const;

    /// From the nearest placed frame step by step over those between: of a plane seen through a long lens every frame
    /// has two poses that fit, and only small steps keep to the one.
    std::optional<Pose> walkedTo(int frame, double tolerance_px) const;
    double focalGuessFor(int frame) const;

    const Material* material_;
    const SolveOptions* options_;
    Lens lens_;
    double k1Slope_ = 0;
    std::vector<double> focals_;
    std::vector<std::optional<Pose>> poses_;
    std::vector<std::optional<Eigen::Vector4d>> points_;
    std::vector<std::pair<int, int>> stretches_;
    std::vector<double> sigmas_;
    std::vector<char> dropped_;
    std::vector<char> doubted_;
    std::vector<char> ignored_;  ///< empty: none
    bool turnsOnly_ = false, readsRows_ = false;
    double readout_ = 0;
    double axisSigma_ = 0;  ///< pixels
};

}  // namespace pinion::solving
