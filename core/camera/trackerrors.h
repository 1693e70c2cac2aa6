#pragma once

#include "base/progress.h"
#include "camera/framerows.h"
#include "camera/result.h"
#include "track/track.h"

#include <Eigen/Core>
#include <optional>
#include <span>
#include <vector>

namespace pinion {

/// The camera of every solved frame, made once for many tracks.
class SolvedViews {
public:
    explicit SolvedViews(const Solve& solve);
    /// Null where the frame is not solved.
    const FrameRows* on(int frame) const;
    double noise_px() const { return noise_px_; }

private:
    int first_ = 0;
    double noise_px_ = 0;
    std::vector<std::optional<FrameRows>> rows_;
};

/// One track against the solved camera.
struct TrackErrors {
    struct Error {
        int frame = 0;
        Eigen::Vector2d at{0, 0};     ///< where the track is, pixels of the plate
        Eigen::Vector2d error{0, 0};  ///< from where the camera sees its point to there
        double distance = 0;          ///< of the point from the camera, along its axis
    };
    TrackId track = 0;
    TrackRole role = TrackRole::unplaced;
    Eigen::Vector4d point{0, 0, 0, 0};  ///< homogeneous, of length 1; the last is 0 for a mere direction
    double angleDegrees = 0;            ///< how wide its rays spread
    bool isBehind = false;              ///< a camera that sees it has its place behind itself
    std::vector<Error> of;              ///< by rising frame; empty where no place could be told
    double rms_px() const;
};

/// The place from which the camera sees a track best: least squares of what it was seen at, with a robust loss (Cauchy,
/// three times the solve's noise), started at the rays' nearest place (Hartley and Zisserman 2003, 12.2). A direction
/// where the rays hardly spread. None of fewer than two solved frames.
std::optional<Eigen::Vector4d> placeOf(const SolvedViews& views, const Track& track);

/// Of each track that the solve knows, in its order; the places are the solve's, and of tracks that it has no place for
/// `placeOf`. `tracks` are as they were solved.
std::vector<TrackErrors> errorsOf(const Solve& solve, std::span<const Track> tracks,
                                  const Progress& progress = Progress{});

}  // namespace pinion
