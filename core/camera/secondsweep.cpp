#include "camera/secondsweep.h"

#include "base/median.h"
#include "base/parallel.h"
#include "camera/patchpoint.h"
#include "camera/tracksjoining.h"
#include "track/pyramidfeed.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace pinion {

using Eigen::Vector2d;
using solving::PatchPoint;

namespace {

constexpr double kMostOff_px = 2.5;      // from where the camera and the frames before say it is
constexpr double kLeastSpread_px = 0.3;  // of what is refused, whatever the frame's own spread
constexpr int kFewestInARun = 3;         // frames that are found alone are chance
constexpr int kRemembers = 5;            // frames for which what was last seen off the camera still holds

/// The tracks that go by one picture of the plate.
using Look = std::pair<Channel, PreFilter>;

class Sweeping {
public:
    Sweeping(FrameCache& frames, const Solve& solve, std::span<const Track> tracks, const SecondSweepOptions& options)
        : frames_(frames), views_(solve), options_(options) {
        for (PatchPoint& point : solving::patchPoints(solve, views_, tracks, options.range, options.kept))
            byLook_[{point.track->channel, point.track->preFilter}].push_back(std::move(point));
    }

    Expected<SecondSweep> run(const Progress& progress) {
        if (byLook_.empty())
            return failure(Fault::outcome,
                           "none of the tracks agrees with the camera on six frames; solve the camera with them first");
        const double share = 1.0 / double(byLook_.size());
        double from = 0;
        for (auto& [look, points] : byLook_) {
            const Progress own = progress.part(from, from + share);
            gather(look, points, own.part(0, 0.3));
            parallelFor(points.size(), [&](std::size_t i) {
                if (!progress.stopped()) solving::prepare(points[i], views_);
            });
            std::erase_if(points, [](const PatchPoint& point) { return !point.matcher; });
            search(look, points, own.part(0.35, 1.0));
            refuse(points);
            from += share;
            if (progress.stopped()) break;
        }
        result_.stopped = progress.stopped();
        if (!result_.stopped) finish();
        return std::move(result_);
    }

private:
    PyramidPtr take(PyramidFeed& feed, int& frame) {
        PyramidPtr pyramid = feed.take(frame);
        auto& unreadable = result_.unreadable;
        if (!pyramid && std::find(unreadable.begin(), unreadable.end(), frame) == unreadable.end())
            unreadable.push_back(frame);
        return pyramid;
    }

    /// The parts of the plate that the views of the points are made of.
    void gather(const Look& look, std::vector<PatchPoint>& points, const Progress& progress) {
        solving::boundMemory(points);
        std::map<int, std::vector<solving::PatchView*>> onFrame;
        for (PatchPoint& point : points)
            for (solving::PatchView& view : point.views) onFrame[view.frame].push_back(&view);
        PyramidFeed feed(frames_, look.first, look.second, options_.range.first, options_.range.last, 1);
        while (!feed.atEnd() && !progress.stopped()) {
            int frame = 0;
            const PyramidPtr pyramid = take(feed, frame);
            if (!pyramid) continue;
            for (solving::PatchView* view : onFrame[frame])
                view->part = partAround(*pyramid, view->at.x(), view->at.y(), view->radius_px);
            progress.report(double(frame - options_.range.first + 1) / options_.range.count(), "looking at the points");
        }
    }

    void search(const Look& look, std::vector<PatchPoint>& points, const Progress& progress) {
        PyramidFeed feed(frames_, look.first, look.second, options_.range.first, options_.range.last, 1);
        while (!feed.atEnd() && !progress.stopped()) {
            int frame = 0;
            const PyramidPtr pyramid = take(feed, frame);
            const FrameRows* rows = views_.on(frame);
            if (!pyramid || !rows) continue;
            const ExcludedArea excluded(options_.mattes, frame);
            parallelFor(
                points.size(), [&](std::size_t i) { seek(points[i], frame, *pyramid, *rows, excluded); }, 8);
            progress.report(double(frame - options_.range.first + 1) / options_.range.count(),
                            fmt::format("frame {}", frame));
        }
    }

    static void seek(PatchPoint& point, int frame, const Pyramid& pyramid, const FrameRows& rows,
                     const ExcludedArea& excluded) {
        const Sample* own = sampleAt(*point.track, frame);
        if (own && (own->bridged || own->aside)) own = nullptr;
        const auto foreseen = point.patch->on(rows);
        if (!foreseen) return;
        if (!PatchPoint::isAboutAsLarge(*foreseen)) {
            point.otherSizes.push_back(frame);
            return;
        }
        // The camera may be off a little where no track held it; what was seen just before tells by how much.
        Vector2d expected = foreseen->centre();
        if (own) expected = own->at;
        else if (!point.found.empty() && frame - point.found.back().frame <= kRemembers)
            expected += point.found.back().off;
        if (!own && excluded.holds(expected)) return;
        auto match = point.matcher->alignPlace(pyramid, foreseen->movedTo(expected));
        if (!match) return;
        // The shape as it is seen here: one foreseen by a tilt that is a little wrong moves all of a track's places
        // with the camera, and such errors of many tracks pass for another focal length.
        if (const auto shaped = point.matcher->align(pyramid, match->pose);
            shaped && shaped->score >= match->score - 0.002)
            match = shaped;
        if (match->score < point.leastScore) return;
        const Vector2d at = match->pose.centre();
        if ((at - expected).norm() > kMostOff_px || (!own && excluded.holds(at))) return;
        point.found.push_back({frame, at, at - foreseen->centre(), match->score, own != nullptr,
                               match->pose.plateFromPattern.topLeftCorner<2, 2>()});
    }

    /// What is off the camera by more than the others of its frame are goes, and what is alone then.
    void refuse(std::vector<PatchPoint>& points) const {
        std::erase_if(points, [](const PatchPoint& point) { return point.found.size() < 3; });
        parallelFor(
            points.size(), [&](std::size_t i) { points[i].placeAnew(views_); }, 16);
        std::map<int, std::pair<std::vector<double>, std::vector<double>>> off;
        for (const PatchPoint& point : points)
            for (const PatchPoint::Found& found : point.found) {
                off[found.frame].first.push_back(found.off.x());
                off[found.frame].second.push_back(found.off.y());
            }
        std::map<int, std::pair<Vector2d, double>> usual;
        for (auto& [frame, values] : off) {
            const Vector2d middle(median(values.first), median(values.second));
            std::vector<double> away;
            for (std::size_t i = 0; i < values.first.size(); ++i)
                away.push_back((Vector2d(values.first[i], values.second[i]) - middle).norm());
            // 1.18 sigma is the median of the distance in two directions.
            usual[frame] = {middle, std::max(kLeastSpread_px, 4 * median(std::move(away)) / 1.18)};
        }
        for (PatchPoint& point : points) {
            std::erase_if(point.found, [&](const PatchPoint::Found& found) {
                const auto& [middle, most] = usual.at(found.frame);
                return (found.off - middle).norm() > most;
            });
            solving::dropShortRuns(point.found, kFewestInARun);
        }
    }

    void finish() {
        std::vector<Track> longer;
        std::vector<double> before, after;
        for (const auto& [look, points] : byLook_)
            for (const PatchPoint& point : points)
                if (auto track = point.lengthened(views_, options_.range)) {
                    before.push_back(double(point.track->samples.size()));
                    longer.push_back(std::move(*track));
                }
        result_.joined = solving::joinWhatIsOne(longer, options_.apart_px, options_.kept);
        for (const Track& track : longer) after.push_back(double(track.samples.size()));
        result_.tracks = std::move(longer);
        if (!before.empty()) result_.medianBefore = median(std::move(before));
        if (!after.empty()) result_.median = median(std::move(after));
    }

    FrameCache& frames_;
    SolvedViews views_;
    const SecondSweepOptions& options_;
    std::map<Look, std::vector<PatchPoint>> byLook_;
    SecondSweep result_;
};

}  // namespace

Expected<SecondSweep> lengthen(FrameCache& frames, const Solve& solve, std::span<const Track> tracks,
                               const SecondSweepOptions& options, const Progress& progress) {
    return Sweeping(frames, solve, tracks, options).run(progress);
}

}  // namespace pinion
