#include "steady/rows.h"

#include "camera/frameblend.h"
#include "steady/motion.h"

#include <Eigen/LU>
#include <algorithm>

namespace pinion {

using Eigen::Vector2d;

namespace {

constexpr int kRounds = 6;  // of the fixed points: a row's time moves a place by less than a tenth of a frame's way
constexpr double kSettled = 1e-3;  // pixels

/// How many samples before and after one follow it frame by frame.
struct Run {
    int before = 0, after = 0;
};
std::vector<Run> runsOf(const std::vector<Sample>& samples) {
    std::vector<Run> runs(samples.size());
    const auto follows = [&](std::size_t i) { return samples[i].frame == samples[i - 1].frame + 1; };
    for (std::size_t i = 1; i < samples.size(); ++i)
        if (follows(i)) runs[i].before = std::min(FrameBlend::kReach, runs[i - 1].before + 1);
    for (std::size_t i = samples.size(); i-- > 1;)
        if (follows(i)) runs[i - 1].after = std::min(FrameBlend::kReach, runs[i].after + 1);
    return runs;
}

Track straightened(const Track& track, const Readout& readout, int width, int height) {
    std::vector<Sample> samples = track.samples.vector();
    const std::vector<Run> runs = runsOf(samples);
    std::vector<FrameBlend> blends;
    std::vector<Vector2d> path;
    for (std::size_t i = 0; i < samples.size(); ++i) {
        const double time = readout.share * rowOf(samples[i].at, readout.columns, width, height);
        blends.push_back(FrameBlend::at(time, runs[i].before, runs[i].after));
        path.push_back(samples[i].at);
    }
    for (int round = 0; round < kRounds; ++round) {
        double most = 0;
        std::vector<Vector2d> next = path;
        for (std::size_t i = 0; i < samples.size(); ++i) {
            Vector2d seen(0, 0);
            for (std::size_t k = 0; k < std::size_t(blends[i].count); ++k)
                seen += blends[i].weights[k] * path[std::size_t(std::ptrdiff_t(i) + blends[i].steps[k])];
            const Vector2d step = samples[i].at - seen;
            next[i] += step;
            most = std::max(most, step.norm());
        }
        path = std::move(next);
        if (most < kSettled) break;
    }
    for (std::size_t i = 0; i < samples.size(); ++i) samples[i].at = path[i];
    Track result = track;
    result.samples = List<Sample>(std::move(samples));
    return result;
}

}  // namespace

std::vector<Track> atMiddleRow(std::span<const Track> tracks, const Readout& readout, int width, int height) {
    std::vector<Track> result;
    result.reserve(tracks.size());
    for (const Track& track : tracks)
        result.push_back(readout.isRolling() ? straightened(track, readout, width, height) : track);
    return result;
}

RowWarp::RowWarp(const PlateMotion& motion, const Readout& readout, int width, int height)
    : readout_(readout), width_(width), height_(height) {
    const auto& frames = motion.frames;
    const auto follows = [&](std::size_t i) { return frames[i].frame == frames[i - 1].frame + 1; };
    for (std::size_t i = 0; i < frames.size(); ++i) {
        Frame own;
        while (own.before < FrameBlend::kReach && std::size_t(own.before) < i && follows(i - std::size_t(own.before)))
            ++own.before;
        while (own.after < FrameBlend::kReach && i + std::size_t(own.after) + 1 < frames.size() &&
               follows(i + std::size_t(own.after) + 1))
            ++own.after;
        const Eigen::Matrix3d referenceFromOwn = frames[i].plateFromReference.inverse();
        for (int step = -own.before; step <= own.after; ++step)
            own.besideFromOwn.push_back(frames[std::size_t(std::ptrdiff_t(i) + step)].plateFromReference *
                                        referenceFromOwn);
        frames_.emplace(frames[i].frame, std::move(own));
    }
    reach_px_ = farthest();
}

Vector2d RowWarp::onRow(const Frame& frame, double row, const Vector2d& straight) const {
    const FrameBlend blend = FrameBlend::at(readout_.share * row, frame.before, frame.after);
    Vector2d place(0, 0);
    for (std::size_t k = 0; k < std::size_t(blend.count); ++k)
        place += blend.weights[k] * carried(frame.besideFromOwn[std::size_t(blend.steps[k] + frame.before)], straight);
    return place;
}

Vector2d RowWarp::filmedFromStraight(int frame, const Vector2d& straight) const {
    const auto found = frames_.find(frame);
    if (found == frames_.end()) return straight;
    Vector2d filmed = straight;
    for (int round = 0; round < kRounds; ++round) {
        const Vector2d next = onRow(found->second, rowOf(filmed, readout_.columns, width_, height_), straight);
        const double step = (next - filmed).norm();
        filmed = next;
        if (step < kSettled) break;
    }
    return filmed;
}

Vector2d RowWarp::straightFromFilmed(int frame, const Vector2d& filmed) const {
    const auto found = frames_.find(frame);
    if (found == frames_.end()) return filmed;
    const double row = rowOf(filmed, readout_.columns, width_, height_);
    Vector2d straight = filmed;
    for (int round = 0; round < kRounds; ++round) {
        const Vector2d step = filmed - onRow(found->second, row, straight);
        straight += step;
        if (step.norm() < kSettled) break;
    }
    return straight;
}

double RowWarp::farthest() const {
    constexpr int kSteps = 8;  // along each side: what moves the rows is smooth
    double most = 0;
    for (const auto& [frame, own] : frames_)
        for (int i = 0; i <= kSteps; ++i) {
            const double x = double(width_) * i / kSteps, y = double(height_) * i / kSteps;
            for (const Vector2d& place : {Vector2d(x, 0), Vector2d(x, height_), Vector2d(0, y), Vector2d(width_, y)})
                most = std::max(most, (filmedFromStraight(frame, place) - place).norm());
        }
    return most;
}

}  // namespace pinion
