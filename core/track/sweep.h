#pragma once

#include "track/matcher.h"

#include <optional>
#include <vector>

namespace pinion {

/// A track in motion, carried from frame to frame in one direction. Every match is against the reference pattern, so no
/// drift adds up; the reference is renewed when the pattern's scale or shape has changed too much, and that sample is
/// marked.
class Runner {
public:
    /// Starts at `from` in `frame`, which belongs to `pyramid`. None when there is no pattern to hold on to.
    static std::optional<Runner> start(const Track& settings, const Pyramid& pyramid, int frame,
                                       const Eigen::Vector2d& from);

    /// Follows the pattern from the last frame it was seen on, `last`, into `frame`. It is looked for near `expected`
    /// first, then over the whole search area. Returns false, with the reason, when the track ends here.
    bool advance(const Pyramid& last, const Pyramid& pyramid, int frame, const Eigen::Vector2d& expected);

    /// For a track that is lost: looks for the reference pattern around `expected`, within `reach` pixels, as it looked
    /// in `seen`, the frame it was last seen on. True when it is there again, and the track runs on.
    bool pickUp(const PyramidPart& seen, const Pyramid& pyramid, int frame, const Eigen::Vector2d& expected,
                double reach);

    bool ended() const { return reason_ != EndReason::none; }
    EndReason reason() const { return reason_; }
    void end(EndReason reason) { reason_ = reason; }
    /// It must not be where it has just come to: the last step is taken back, and it ends.
    void endBefore(EndReason reason);
    const std::vector<Sample>& samples() const { return samples_; }  ///< in the order of the sweep
    const Sample& last() const { return samples_.back(); }
    /// How far it moved a frame in its last step; zero at first.
    Eigen::Vector2d velocity() const { return velocity_; }
    const PatternPose& pose() const { return pose_; }
    const Track& settings() const { return settings_; }

private:
    Runner(Track settings, PatternMatcher matcher) : settings_(std::move(settings)), matcher_(std::move(matcher)) {}
    Sample sampleOf(int frame, const Match& match) const;
    Polygon outlineNow(const PatternPose& pose) const;
    std::optional<Match> matchFrom(const Pyramid& last, const Pyramid& pyramid, const Eigen::Vector2d& expected);

    Track settings_;
    PatternMatcher matcher_;
    PatternPose pose_;
    Eigen::Vector2d velocity_{0, 0};
    std::vector<Sample> samples_;
    EndReason reason_ = EndReason::none;
};

}  // namespace pinion
