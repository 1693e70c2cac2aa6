#include "planar/planartracking.h"

#include "base/parallel.h"
#include "planar/cylinderfit.h"
#include "planar/follow.h"
#include "planar/surface.h"
#include "plate/cuts.h"
#include "track/pyramidfeed.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace pinion {
namespace {

constexpr int kLevels = 4;

/// What lies between `from` and `last`, the frame the run was to go to, takes the place of what was there; what lies
/// outside stays.
void merge(PlanarTrack& plane, const PlaneRunner& runner, int from, int last, int step) {
    std::vector<PlaneSample> samples;
    bool goesOn = false;
    for (const PlaneSample& sample : plane.samples) {
        const bool beyond = (sample.frame - last) * step > 0;
        goesOn = goesOn || beyond;
        if (beyond || (sample.frame - from) * step <= 0) samples.push_back(sample);
    }
    if (!std::any_of(samples.begin(), samples.end(), [&](const PlaneSample& s) { return s.frame == from; }))
        samples.push_back({.frame = from});
    samples.insert(samples.end(), runner.samples().begin(), runner.samples().end());
    std::sort(samples.begin(), samples.end(),
              [](const PlaneSample& a, const PlaneSample& b) { return a.frame < b.frame; });
    plane.samples = List<PlaneSample>(std::move(samples));
    if (!goesOn) (step > 0 ? plane.endReason : plane.startReason) = runner.reason();
}

/// The frame whose look is the reference when a plane is taken up at `from`: where it was taken anew last on the way
/// there, or its reference frame.
int referenceFor(const PlanarTrack& plane, int from) {
    int frame = plane.referenceFrame;
    for (const PlaneSample& sample : plane.samples) {
        if (!sample.renewed && !sample.anew) continue;
        const bool between = from >= plane.referenceFrame ? sample.frame <= from && sample.frame > frame
                                                          : sample.frame >= from && sample.frame < frame;
        if (between) frame = sample.frame;
    }
    return frame;
}

struct Exclusions {
    std::span<const Matte> mattes;
    PlaneExclusion on(int frame) const {
        if (mattes.empty()) return {};
        return [area = std::make_shared<const ExcludedArea>(mattes, frame)](const Eigen::Vector2d& place) {
            return area->holds(place);
        };
    }
};

/// One way through the frames for all planes.
Expected<bool> sweep(FrameCache& frames, PlanarResult& result, const std::vector<int>& from, int last, int step,
                     const Progress& progress, const PlaneListener& live, const Exclusions& exclusions) {
    std::map<int, PyramidPtr> references;
    const auto pyramidOf = [&](int frame) -> PyramidPtr {
        PyramidPtr& kept = references[frame];
        if (!kept)
            if (const auto picture = frames.get(frame))
                kept =
                    std::make_shared<const Pyramid>(buildPyramid(**picture, Channel::luma, PreFilter::none, kLevels));
        return kept;
    };
    std::vector<PlaneRunner> runners;
    int first = from.front();
    for (std::size_t i = 0; i < result.planes.size(); ++i) {
        const PlanarTrack& plane = result.planes[i];
        const int referenceFrame = referenceFor(plane, from[i]);
        const PyramidPtr reference = pyramidOf(referenceFrame);
        if (!reference)
            return failure(Fault::outcome, "plane {}: its reference frame {} cannot be read; choose another",
                           plane.name, referenceFrame);
        auto runner = PlaneRunner::start(plane, *reference, *surfacePoseOn(plane, referenceFrame),
                                         *surfacePoseOn(plane, from[i]), from[i], exclusions.on(referenceFrame));
        if (!runner) return tl::unexpected(runner.error());
        runners.push_back(std::move(*runner));
        first = step > 0 ? std::min(first, from[i]) : std::max(first, from[i]);
    }
    if (result.motions.empty())
        for (const PlaneRunner& runner : runners) result.motions.push_back(runner.motion());
    references.clear();
    PyramidFeed feed(frames, Channel::luma, PreFilter::none, first, last, kLevels);
    PyramidPtr before;
    bool stopped = false;
    const int total = std::abs(last - first) + 1;
    for (int done = 0; !feed.atEnd(); ++done) {
        if (progress.stopped()) {
            stopped = true;
            break;
        }
        int frame = 0;
        PyramidPtr pyramid = feed.take(frame);
        if (!pyramid) {
            if (std::find(result.unreadable.begin(), result.unreadable.end(), frame) == result.unreadable.end())
                result.unreadable.push_back(frame);
            continue;
        }
        std::vector<std::size_t> running;
        for (std::size_t i = 0; i < runners.size(); ++i)
            if (!runners[i].ended() && (frame - from[i]) * step > 0) running.push_back(i);
        if (before) {
            const PlaneExclusion excluded = exclusions.on(frame);
            parallelFor(running.size(),
                        [&](std::size_t k) { runners[running[k]].advance(*before, *pyramid, frame, excluded); });
        }
        if (live) {
            std::vector<const PlaneSample*> samples(runners.size(), nullptr);
            for (std::size_t i = 0; i < runners.size(); ++i)
                if (!runners[i].samples().empty() && runners[i].samples().back().frame == frame)
                    samples[i] = &runners[i].samples().back();
            live(frame, samples);
        }
        progress.report(double(done + 1) / total, fmt::format("frame {}", frame));
        const bool any = std::any_of(runners.begin(), runners.end(), [](const PlaneRunner& r) { return !r.ended(); });
        if (!any) break;
        before = std::move(pyramid);
    }
    for (std::size_t i = 0; i < runners.size(); ++i) {
        PlaneRunner& runner = runners[i];
        if (!runner.ended() && !stopped && runner.lastFrame() != last) runner.end(PlaneEnd::covered);
        if (!runner.ended() && !stopped) runner.end(PlaneEnd::rangeEnd);
        // Where it ended because the picture is another one, that is the reason.
        if (runner.ended() && runner.reason() != PlaneEnd::rangeEnd) {
            const int at = runner.lastFrame() + step;
            const auto cuts =
                findCuts(frames, std::min(at, runner.lastFrame()) - 2, std::max(at, runner.lastFrame()) + 2);
            if (std::find(cuts.begin(), cuts.end(), std::max(at, runner.lastFrame())) != cuts.end())
                runner.end(PlaneEnd::cut);
        }
        merge(result.planes[i], runner, from[i], last, step);
    }
    return stopped;
}

/// In the asked direction, or one after the other.
Expected<bool> bothWays(FrameCache& frames, PlanarResult& result, const std::vector<int>& starts,
                        const FrameRange& range, Direction direction, const Progress& progress,
                        const PlaneListener& live, const Exclusions& exclusions) {
    const bool both = direction == Direction::both;
    if (direction != Direction::backward) {
        const auto stopped =
            sweep(frames, result, starts, range.last, 1, both ? progress.part(0, 0.5) : progress, live, exclusions);
        if (!stopped) return stopped;
        result.stopped = *stopped;
    }
    if (direction != Direction::forward && !result.stopped) {
        const auto stopped =
            sweep(frames, result, starts, range.first, -1, both ? progress.part(0.5, 1) : progress, live, exclusions);
        if (!stopped) return stopped;
        result.stopped = *stopped;
    }
    return result.stopped;
}

/// How far a cylinder turns over its samples, in degrees.
double turnSpan(const PlanarTrack& plane) {
    double low = 0, high = 0;
    for (const PlaneSample& sample : plane.samples)
        if (const auto turn = turnAt(plane, sample.frame)) {
            low = std::min(low, *turn);
            high = std::max(high, *turn);
        }
    return high - low;
}

/// A cylinder whose sides are as they were drawn, or were fitted to a few frames that told little, and of which nothing
/// is kept that this run does not reach.
bool isFresh(const PlanarTrack& plane, Direction direction) {
    constexpr double kTells_deg = 15;
    if (!plane.sides) return false;
    const bool kept = std::any_of(plane.samples.begin(), plane.samples.end(), [&](const PlaneSample& sample) {
        return direction == Direction::forward    ? sample.frame < plane.referenceFrame
               : direction == Direction::backward ? sample.frame > plane.referenceFrame
                                                  : false;
    });
    return plane.samples.size() <= 1 || (!kept && turnSpan(plane) < kTells_deg);
}

/// The cylinder's shape by some of its frames, those that show it most turned among them.
PlanarTrack fittedShape(FrameCache& frames, const PlanarTrack& plane, bool freeFocal, const Exclusions& exclusions) {
    constexpr int kFrames = 8;
    const auto pyramidOf = [&](int frame) -> PyramidPtr {
        const auto picture = frames.get(frame);
        if (!picture) return nullptr;
        return std::make_shared<const Pyramid>(buildPyramid(**picture, Channel::luma, PreFilter::none, kLevels));
    };
    // Seen from one direction alone any shape fits.
    constexpr double kLeastTurn_deg = 3;
    if (turnSpan(plane) < kLeastTurn_deg) return plane;
    const PyramidPtr reference = pyramidOf(plane.referenceFrame);
    std::vector<const PlaneSample*> usable;
    for (const PlaneSample& sample : plane.samples)
        // What a new reference carried has its errors.
        if (sample.frame != plane.referenceFrame && referenceFor(plane, sample.frame) == plane.referenceFrame)
            usable.push_back(&sample);
    if (!reference || usable.empty()) return plane;
    std::vector<FrameForFit> chosen;
    for (int i = 0; i < kFrames; ++i) {
        const std::size_t at = std::size_t(std::lround(double(i) / (kFrames - 1) * double(usable.size() - 1)));
        if (!chosen.empty() && chosen.back().frame == usable[at]->frame) continue;
        if (auto pyramid = pyramidOf(usable[at]->frame)) chosen.push_back({usable[at]->frame, std::move(pyramid)});
    }
    return withShapeFitted(plane, *reference, chosen, freeFocal, exclusions.on(plane.referenceFrame));
}

}  // namespace

Expected<PlanarResult> trackPlanes(FrameCache& frames, const std::vector<PlanarTrack>& planes, int from,
                                   const FrameRange& range, Direction direction, const Progress& progress,
                                   const PlaneListener& live, std::span<const Matte> mattes, bool freeFocal) {
    PlanarResult result;
    result.planes = planes;
    if (planes.empty()) return result;
    std::vector<std::size_t> fresh;
    for (std::size_t i = 0; i < planes.size(); ++i) {
        PlanarTrack& plane = result.planes[i];
        plane.fromScene = false;
        if (!isFresh(plane, direction)) continue;
        fresh.push_back(i);
        plane.samples = {};
    }
    std::vector<int> starts;
    for (const PlanarTrack& plane : result.planes) {
        const int start = sampleAt(plane, from) ? from : plane.referenceFrame;
        if (!range.holds(start))
            return failure(Fault::input, "plane {}: frame {} lies outside the range {}-{}", plane.name, start,
                           range.first, range.last);
        starts.push_back(start);
    }
    const Exclusions exclusions{mattes};
    if (!fresh.empty()) {
        PlanarResult first;
        std::vector<int> begins;
        for (const std::size_t i : fresh) {
            first.planes.push_back(result.planes[i]);
            begins.push_back(starts[i]);
        }
        PlaneListener shown;
        if (live)
            shown = [&](int frame, const std::vector<const PlaneSample*>& samples) {
                std::vector<const PlaneSample*> all(planes.size(), nullptr);
                for (std::size_t k = 0; k < fresh.size(); ++k) all[fresh[k]] = samples[k];
                live(frame, all);
            };
        const auto ways = bothWays(frames, first, begins, range, direction, progress.part(0, 0.45), shown, exclusions);
        if (!ways) return tl::unexpected(ways.error());
        progress.report(0.45, "the cylinder's sides");
        for (std::size_t k = 0; k < fresh.size(); ++k) {
            PlanarTrack& plane = result.planes[fresh[k]];
            if (first.stopped) {
                plane = first.planes[k];
                continue;
            }
            const PlanarTrack fitted = fittedShape(frames, first.planes[k], freeFocal, exclusions);
            plane.sides = fitted.sides;
            plane.lens = fitted.lens;
        }
        if (first.stopped) {
            result.stopped = true;
            return result;
        }
    }
    const auto ways = bothWays(frames, result, starts, range, direction,
                               fresh.empty() ? progress : progress.part(0.55, 1), live, exclusions);
    if (!ways) return tl::unexpected(ways.error());
    return result;
}

}  // namespace pinion
