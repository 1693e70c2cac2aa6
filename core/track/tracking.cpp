#include "track/tracking.h"

#include "base/parallel.h"

#include <algorithm>
#include <future>
#include <utility>

namespace pinion {
namespace {

using Eigen::Vector2d;
using PyramidPtr = std::shared_ptr<const Pyramid>;

/// Decodes and prepares the next frame while the present one is tracked.
class PyramidFeed {
public:
    PyramidFeed(FrameCache& frames, Channel channel, int first, int last)
        : frames_(frames), channel_(channel), step_(first <= last ? 1 : -1), next_(first), end_(last + step_) {
        prepare();
    }

    /// The next frame, or null when it cannot be read; `frame` is its number.
    PyramidPtr take(int& frame) {
        frame = next_;
        PyramidPtr pyramid = ahead_.get();
        next_ += step_;
        if (!atEnd()) prepare();
        return pyramid;
    }
    bool atEnd() const { return next_ == end_; }

private:
    void prepare() {
        ahead_ = std::async(std::launch::async, [this, frame = next_]() -> PyramidPtr {
            const auto picture = frames_.get(frame);
            if (!picture) return nullptr;
            return std::make_shared<const Pyramid>(buildPyramid(**picture, channel_));
        });
    }
    FrameCache& frames_;
    Channel channel_;
    int step_;
    int next_;
    int end_;
    std::future<PyramidPtr> ahead_;
};

Vector2d median(std::vector<Vector2d> values) {
    if (values.empty()) return {0, 0};
    const auto middle = std::ptrdiff_t(values.size() / 2);
    Vector2d result;
    for (int axis = 0; axis < 2; ++axis) {
        std::nth_element(values.begin(), values.begin() + middle, values.end(), [axis](const Vector2d& a, const Vector2d& b) { return a[axis] < b[axis]; });
        result[axis] = values[std::size_t(middle)][axis];
    }
    return result;
}

/// Carries all runners into a frame. A few go first; how they deviate from their own motion (the hand's jerk, common to the
/// whole picture) tells the others where to look.
void advanceAll(const std::vector<Runner*>& runners, const Pyramid& before, const Pyramid& pyramid, int frame) {
    std::vector<Vector2d> known;
    for (const Runner* runner : runners)
        if (runner->samples().size() > 1) known.push_back(runner->velocity());
    const Vector2d common = median(std::move(known));
    std::vector<Vector2d> expected(runners.size());
    for (std::size_t i = 0; i < runners.size(); ++i) {
        const Vector2d velocity = runners[i]->samples().size() > 1 ? runners[i]->velocity() : common;
        expected[i] = runners[i]->last().at + velocity * std::abs(frame - runners[i]->last().frame);
    }
    constexpr std::size_t kScouts = 8;
    const std::size_t scouts = runners.size() >= 4 * kScouts ? (runners.size() + kScouts - 1) / kScouts : 0;
    parallelFor(scouts, [&](std::size_t i) { runners[i * kScouts]->advance(before, pyramid, frame, expected[i * kScouts]); }, 2);
    std::vector<Vector2d> jerks;
    for (std::size_t i = 0; i < scouts; ++i)
        if (!runners[i * kScouts]->ended()) jerks.push_back(runners[i * kScouts]->last().at - expected[i * kScouts]);
    const Vector2d jerk = median(std::move(jerks));
    parallelFor(runners.size(), [&](std::size_t i) {
        if (i % kScouts != 0 || scouts == 0) runners[i]->advance(before, pyramid, frame, expected[i] + jerk);
    }, 8);
}

/// One pass over frames in one direction. Tracks join on their frame; `replenish` may add more.
class Sweep {
public:
    struct Job {
        Track track;
        int frame;  ///< where it joins
        Vector2d at;
        std::optional<Runner> runner;
        bool joined = false;
    };
    using Replenish = std::function<std::vector<Job>(const Pyramid&, int frame, const std::vector<Vector2d>& taken)>;

    explicit Sweep(std::vector<Job> jobs) : jobs_(std::move(jobs)) {}

    void run(FrameCache& frames, Channel channel, int first, int last, const Progress& progress, const LiveListener& live,
             const Replenish& replenish, TrackingResult& result) {
        PyramidFeed feed(frames, channel, first, last);
        const int total = std::abs(last - first) + 1;
        PyramidPtr before;
        for (int done = 0; !feed.atEnd(); ++done) {
            if (progress.stopped()) {
                result.stopped = true;
                break;
            }
            int frame = 0;
            const PyramidPtr pyramid = feed.take(frame);
            if (!pyramid) {
                if (std::find(result.unreadable.begin(), result.unreadable.end(), frame) == result.unreadable.end()) result.unreadable.push_back(frame);
                continue;
            }
            std::vector<Runner*> running;
            for (Job& job : jobs_)
                if (job.runner && !job.runner->ended()) running.push_back(&*job.runner);
            if (before) advanceAll(running, *before, *pyramid, frame);
            join(*pyramid, frame);
            if (replenish) {
                std::vector<Vector2d> taken;
                for (const Job& job : jobs_)
                    if (job.runner && !job.runner->ended()) taken.push_back(job.runner->last().at);
                for (Job& job : replenish(*pyramid, frame, taken)) jobs_.push_back(std::move(job));
                join(*pyramid, frame);
            }
            if (live) {
                std::vector<LivePoint> points;
                for (const Job& job : jobs_)
                    if (job.runner && !job.runner->ended()) points.push_back({job.runner->last().at, job.runner->last().score});
                live(frame, points);
            }
            before = pyramid;
            progress.report(double(done + 1) / total, fmt::format("frame {}", frame));
        }
    }

    std::vector<Job>& jobs() { return jobs_; }

private:
    void join(const Pyramid& pyramid, int frame) {
        parallelFor(jobs_.size(), [&](std::size_t i) {
            Job& job = jobs_[i];
            if (job.joined || job.frame != frame) return;
            job.joined = true;
            job.runner = Runner::start(job.track, pyramid, frame, job.at);
        }, 16);
    }
    std::vector<Job> jobs_;
};

EndReason reasonOf(const Sweep::Job& job) {
    if (!job.runner) return EndReason::covered;
    return job.runner->ended() ? job.runner->reason() : EndReason::rangeEnd;
}

/// Merges what a runner found into the track: its frames replace the track's, ties excepted.
void merge(Track& track, const Sweep::Job& job, bool forward) {
    (forward ? track.endReason : track.startReason) = reasonOf(job);
    if (!job.runner) return;
    const int reach = job.runner->last().frame;
    std::vector<Sample> merged;
    merged.reserve(track.samples.size() + job.runner->samples().size());
    for (const Sample& sample : track.samples) {
        const bool beyond = forward ? sample.frame > reach : sample.frame < reach;
        // What an earlier run had found behind the point where this one stopped is not trusted any more; ties are.
        if (!beyond || sample.tie) merged.push_back(sample);
    }
    // What was placed by hand, and the sample the run began at, win over what it found there; then the new over the old.
    const auto rank = [&](const Sample& sample, bool found) { return sample.tie || (!found && sample.frame == job.frame) ? 0 : found ? 1 : 2; };
    const std::size_t kept = merged.size();
    merged.insert(merged.end(), job.runner->samples().begin(), job.runner->samples().end());
    std::vector<std::pair<std::size_t, int>> order(merged.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = {i, rank(merged[i], i >= kept)};
    std::sort(order.begin(), order.end(), [&](const auto& a, const auto& b) {
        return merged[a.first].frame != merged[b.first].frame ? merged[a.first].frame < merged[b.first].frame : a.second < b.second;
    });
    std::vector<Sample> samples;
    samples.reserve(merged.size());
    for (const auto& [index, ranked] : order)
        if (samples.empty() || samples.back().frame != merged[index].frame) samples.push_back(merged[index]);
    samples.shrink_to_fit();
    track.samples = List<Sample>(std::move(samples));
}

Sweep::Job jobFor(const Track& track, int frame, const Vector2d& at) { return {track, frame, at, std::nullopt, false}; }

}  // namespace

Expected<TrackingResult> scatter(FrameCache& frames, const ScatterOptions& options, const Progress& progress, const LiveListener& live) {
    const FrameRange& range = options.range;
    const int start = std::clamp(options.startFrame, range.first, range.last);
    Track settings;
    settings.motion = options.motion;
    settings.channel = options.channel;
    settings.pattern_px = options.pattern_px;
    settings.search_px = options.search_px;
    settings.driftLimit = options.driftLimit;
    CandidateOptions candidates = options.candidates;
    candidates.border_px = std::max(candidates.border_px, options.pattern_px / 2 + 4);

    TrackingResult result;
    std::vector<Track> found;
    std::vector<std::vector<Vector2d>> takenByFrame(std::size_t(range.count()));
    const auto remember = [&](const Track& track) {
        for (const Sample& sample : track.samples) takenByFrame[std::size_t(sample.frame - range.first)].push_back(sample.at);
    };
    int sinceLook = 0;
    const auto replenish = [&](const Pyramid& pyramid, int frame, const std::vector<Vector2d>& running) -> std::vector<Sweep::Job> {
        std::vector<Vector2d> taken = running;
        const auto& known = takenByFrame[std::size_t(frame - range.first)];
        taken.insert(taken.end(), known.begin(), known.end());
        const int lacking = options.candidates.features - int(taken.size());
        // Looking for corners costs as much as tracking; it pays when a good many are gone, or after a while.
        ++sinceLook;
        if (lacking <= 0 || (frame != start && lacking < options.candidates.features / 12 && sinceLook < 8)) return {};
        sinceLook = 0;
        CandidateOptions wanted = candidates;
        wanted.features = lacking;
        std::vector<Sweep::Job> jobs;
        for (const Candidate& candidate : findCandidates(pyramid, wanted, taken, options.mattes, frame)) {
            Track track = settings;
            track.referenceFrame = frame;
            jobs.push_back(jobFor(track, frame, candidate.at));
        }
        return jobs;
    };
    // What a sweep started is carried the other way by the next one, so that every track is as long as it can be.
    const auto collect = [&](Sweep& sweep, bool forward, std::vector<std::size_t>& indices) {
        for (Sweep::Job& job : sweep.jobs()) {
            if (!job.runner) continue;
            Track track = job.track;
            track.samples = List<Sample>({job.runner->samples().front()});
            merge(track, job, forward);
            job.runner.reset();  // its samples are the track's now; a long plate has a million
            indices.push_back(found.size());
            remember(track);
            found.push_back(std::move(track));
        }
    };
    const auto resume = [&](const std::vector<std::size_t>& indices) {
        std::vector<Sweep::Job> jobs;
        for (std::size_t index : indices) {
            const Track& track = found[index];
            jobs.push_back(jobFor(track, track.referenceFrame, sampleAt(track, track.referenceFrame)->at));
        }
        return jobs;
    };

    std::vector<std::size_t> forwardOnes;
    {
        Sweep sweep({});
        sweep.run(frames, options.channel, start, range.last, progress.part(0.0, 0.5), live, replenish, result);
        collect(sweep, true, forwardOnes);
    }
    std::vector<std::size_t> backwardOnes;
    if (!result.stopped) {
        Sweep sweep(resume(forwardOnes));
        sinceLook = 0;
        // Within the part that the first sweep covered there is nothing to add; before it there is.
        const auto add = [&](const Pyramid& pyramid, int frame, const std::vector<Vector2d>& running) {
            return frame < start ? replenish(pyramid, frame, running) : std::vector<Sweep::Job>{};
        };
        sweep.run(frames, options.channel, range.last, range.first, progress.part(0.5, start > range.first ? 0.9 : 1.0), live, add, result);
        for (std::size_t i = 0; i < sweep.jobs().size(); ++i) {
            if (i < forwardOnes.size()) {
                merge(found[forwardOnes[i]], sweep.jobs()[i], false);
                sweep.jobs()[i].runner.reset();
            } else if (sweep.jobs()[i].runner) {
                Track track = sweep.jobs()[i].track;
                track.samples = List<Sample>({sweep.jobs()[i].runner->samples().front()});
                merge(track, sweep.jobs()[i], false);
                backwardOnes.push_back(found.size());
                found.push_back(std::move(track));
            }
        }
    }
    if (!result.stopped && !backwardOnes.empty()) {
        Sweep sweep(resume(backwardOnes));
        sweep.run(frames, options.channel, range.first, range.last, progress.part(0.9, 1.0), live, {}, result);
        for (std::size_t i = 0; i < sweep.jobs().size(); ++i) merge(found[backwardOnes[i]], sweep.jobs()[i], true);
    }
    if (found.empty() && !result.stopped) {
        if (int(result.unreadable.size()) >= range.count())
            return failure(Fault::input, "{}: not one frame of {}-{} could be read", frames.facts().path.string(), range.first, range.last);
        return failure(Fault::outcome, "no feature was found: the plate shows no texture between frames {} and {}; lower the threshold "
                       "or place tracks by hand", range.first, range.last);
    }
    int number = 0;
    for (Track& track : found) {
        if (int(track.samples.size()) < std::min(options.fewestFrames, range.count())) continue;
        track.name = fmt::format("s-{:03}", ++number);
        result.tracks.push_back(std::move(track));
    }
    if (result.tracks.empty() && !result.stopped)
        return failure(Fault::outcome, "features were found, but none could be followed over {} frames; try a larger search area or a lower drift limit",
                       std::min(options.fewestFrames, range.count()));
    return result;
}

namespace {

Expected<TrackingResult> trackJobs(FrameCache& frames, std::vector<Track> tracks, const std::vector<int>& starts, const FrameRange& range,
                                   Direction direction, const Progress& progress, const LiveListener& live) {
    TrackingResult result;
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        const Sample* sample = sampleAt(tracks[i], starts[i]);
        if (!sample) return failure(Fault::input, "track {}: has no place on frame {}", tracks[i].name, starts[i]);
        const PlateFacts& facts = frames.facts();
        if (!(sample->at.x() >= 0 && sample->at.y() >= 0 && sample->at.x() <= facts.width && sample->at.y() <= facts.height))
            return failure(Fault::input, "track {}: its place {:.1f}, {:.1f} lies outside the frame of {}x{}", tracks[i].name,
                           sample->at.x(), sample->at.y(), facts.width, facts.height);
        if (!range.holds(starts[i]))
            return failure(Fault::input, "track {}: frame {} lies outside the range {}-{}", tracks[i].name, starts[i], range.first, range.last);
    }
    // Tracks that look at different channels need different pyramids.
    for (int channel = 0; channel < 4; ++channel) {
        std::vector<std::size_t> members;
        for (std::size_t i = 0; i < tracks.size(); ++i)
            if (int(tracks[i].channel) == channel) members.push_back(i);
        if (members.empty()) continue;
        for (const bool forward : {true, false}) {
            if (direction == (forward ? Direction::backward : Direction::forward) || result.stopped) continue;
            std::vector<Sweep::Job> jobs;
            int first = forward ? range.last : range.first;
            for (std::size_t i : members) {
                jobs.push_back(jobFor(tracks[i], starts[i], sampleAt(tracks[i], starts[i])->at));
                first = forward ? std::min(first, starts[i]) : std::max(first, starts[i]);
            }
            Sweep sweep(std::move(jobs));
            const double from = direction == Direction::both && !forward ? 0.5 : 0.0;
            const double to = direction == Direction::both && forward ? 0.5 : 1.0;
            sweep.run(frames, Channel(channel), first, forward ? range.last : range.first, progress.part(from, to), live, {}, result);
            for (std::size_t i = 0; i < members.size(); ++i) merge(tracks[members[i]], sweep.jobs()[i], forward);
        }
    }
    for (std::size_t i = 0; i < tracks.size() && !result.stopped; ++i)
        if (tracks[i].samples.size() == 1 && tracks[i].endReason == EndReason::covered && tracks.size() == 1 && range.count() > 1 && result.unreadable.empty())
            return failure(Fault::outcome, "track {}: the pattern at {:.1f}, {:.1f} on frame {} has no texture to hold on to or touches the border; "
                           "place it on a corner", tracks[i].name, tracks[i].samples.front().at.x(), tracks[i].samples.front().at.y(), starts[i]);
    result.tracks = std::move(tracks);
    return result;
}

}  // namespace

Expected<TrackingResult> trackPoints(FrameCache& frames, const std::vector<Track>& tracks, int from, const FrameRange& range,
                                     Direction direction, const Progress& progress, const LiveListener& live) {
    std::vector<int> starts(tracks.size(), from);
    for (std::size_t i = 0; i < tracks.size(); ++i)
        if (!sampleAt(tracks[i], from)) starts[i] = tracks[i].referenceFrame;
    return trackJobs(frames, tracks, starts, range, direction, progress, live);
}

Expected<TrackingResult> trackPoints(FrameCache& frames, const std::vector<Track>& tracks, const FrameRange& range, Direction direction,
                                     const Progress& progress, const LiveListener& live) {
    std::vector<int> starts;
    for (const Track& track : tracks) starts.push_back(track.referenceFrame);
    return trackJobs(frames, tracks, starts, range, direction, progress, live);
}

}  // namespace pinion
