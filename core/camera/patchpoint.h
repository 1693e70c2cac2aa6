#pragma once

#include "base/framerange.h"
#include "camera/scenepatch.h"
#include "picture/pyramid.h"

#include <optional>
#include <set>
#include <span>
#include <vector>

// What the second sweep knows of one track.
namespace pinion::solving {

/// One frame that a pattern is made of, and the part of the plate about it.
struct PatchView {
    int frame = 0;
    Eigen::Vector2d at{0, 0};
    double radius_px = 0;
    PyramidPart part;
};

struct PatchPoint {
    const Track* track = nullptr;
    Eigen::Vector4d point{0, 0, 0, 0};  ///< homogeneous
    /// Of the surface (`ScenePatch`); by the neighbours' places, until its views are asked.
    Eigen::Vector2d tilt{0, 0};
    std::vector<PatchView> views;  ///< the first is the reference
    bool keepsSamples = false;     ///< what the track has stays: it was placed by hand, or something needs it
    std::optional<ScenePatch> patch;
    std::optional<PatternMatcher> matcher;  ///< none: there is no pattern to hold on to, or its views do not agree
    double leastScore = 1;

    struct Found {
        int frame = 0;
        Eigen::Vector2d at{0, 0};
        Eigen::Vector2d off{0, 0};  ///< from where the camera sees the point
        double score = 0;
        bool wasThere = false;  ///< the track had a sample
        Eigen::Matrix2d shape = Eigen::Matrix2d::Identity();
    };
    std::vector<Found> found;     ///< by rising frame
    std::vector<int> otherSizes;  ///< frames that have it in view much larger or smaller than the reference

    /// Whether the pattern is seen in nearly the size it was taken in: else its pixels are others.
    static bool isAboutAsLarge(const PatternPose& pose);

    /// The point from all that was found, and how far each is off it.
    void placeAnew(const SolvedViews& views);

    /// The track with what was found; none where that is less than what it had.
    std::optional<Track> lengthened(const SolvedViews& views, const FrameRange& range) const;
};

/// Those of the tracks that the solve agrees with, seen on six frames at least; locked ones are left out. Those in
/// `kept`, placed by hand or tied somewhere keep their samples.
std::vector<PatchPoint> patchPoints(const Solve& solve, const SolvedViews& views, std::span<const Track> tracks,
                                    const FrameRange& range, const std::set<TrackId>& kept);

/// Leaves out views until their parts fit into what may be held at once.
void boundMemory(std::vector<PatchPoint>& points);

/// The surface under the pattern and the pattern itself, of views that are there; their parts are given back.
void prepare(PatchPoint& point, const SolvedViews& views);

/// Takes out what was found on fewer frames in a row.
void dropShortRuns(std::vector<PatchPoint::Found>& found, int fewest);

}  // namespace pinion::solving
