#include "track/tracking.h"

#include "base/parallel.h"
#include "track/pyramidfeed.h"

#include <algorithm>
#include <set>
#include <utility>

namespace pinion {
namespace {

using Eigen::Vector2d;
Vector2d median(std::vector<Vector2d> values) {
    if (values.empty()) return {0, 0};
    const auto middle = std::ptrdiff_t(values.size() / 2);
    Vector2d result;
    for (int axis = 0; axis < 2; ++axis) {
        std::nth_element(values.begin(), values.begin() + middle, values.end(),
                         [axis](const Vector2d& a, const Vector2d& b) { return a[axis] < b[axis]; });
        result[axis] = values[std::size_t(middle)][axis];
    }
    return result;
}

/// Carries all runners into a frame. A few go first; how they deviate from their own motion (the hand's jerk, common to
/// the whole picture) tells the others where to look.
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
    parallelFor(
        scouts, [&](std::size_t i) { runners[i * kScouts]->advance(before, pyramid, frame, expected[i * kScouts]); },
        2);
    std::vector<Vector2d> jerks;
    for (std::size_t i = 0; i < scouts; ++i)
        if (!runners[i * kScouts]->ended()) jerks.push_back(runners[i * kScouts]->last().at - expected[i * kScouts]);
    const Vector2d jerk = median(std::move(jerks));
    parallelFor(
        runners.size(),
        [&](std::size_t i) {
            if (i % kScouts != 0 || scouts == 0) runners[i]->advance(before, pyramid, frame, expected[i] + jerk);
        },
        8);
}

/// One pass over frames in one direction. Tracks join on their frame; `replenish` may add more.
class Sweep {
public:
    struct Job {
        Track track;
        int frame;  ///< where it joins
        Vector2d at;
        int until;  ///< its last frame
        std::optional<Runner> runner;
        bool joined = false;
        std::optional<PyramidPart> seen;  ///< of a track to be picked up again: what it was last on
        Vector2d expected{0, 0};          ///< and where it should be by now
        bool startsInside = false;        ///< of what the mattes take out
    };
    using Replenish = std::function<std::vector<Job>(const Pyramid&, int frame, const std::vector<Vector2d>& taken)>;

    /// A track that runs into what `mattes` take out ends there; one that starts inside is meant to be there.
    explicit Sweep(std::vector<Job> jobs, std::span<const Matte> mattes = {})
        : jobs_(std::move(jobs)), mattes_(mattes) {}

    void run(FrameCache& frames, Channel channel, PreFilter filter, int first, int last, const Progress& progress,
             const LiveListener& live, const Replenish& replenish, TrackingResult& result) {
        PyramidFeed feed(frames, channel, filter, first, last);
        const int step = first <= last ? 1 : -1;
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
                if (std::find(result.unreadable.begin(), result.unreadable.end(), frame) == result.unreadable.end())
                    result.unreadable.push_back(frame);
                continue;
            }
            std::vector<Runner*> running;
            for (Job& job : jobs_) {
                if (!job.runner || job.runner->ended()) continue;
                if ((frame - job.until) * step > 0) job.runner->end(EndReason::rangeEnd);
                else running.push_back(&*job.runner);
            }
            if (before) {
                advanceAll(running, *before, *pyramid, frame);
                pickUpLost(before, *pyramid, frame, step);
                endExcluded(frame);
            }
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
                    if (job.runner && !job.runner->ended())
                        points.push_back({job.runner->last().at, job.runner->last().score});
                live(frame, points);
            }
            before = pyramid;
            progress.report(double(done + 1) / total, fmt::format("frame {}", frame));
        }
    }

    std::vector<Job>& jobs() { return jobs_; }

private:
    void endExcluded(int frame) {
        if (mattes_.empty()) return;
        const ExcludedArea excluded(mattes_, frame);
        for (Job& job : jobs_)
            if (job.runner && !job.runner->ended() && job.runner->last().frame == frame && !job.startsInside &&
                excluded.holds(job.runner->last().at))
                job.runner->endBefore(EndReason::excluded);
    }

    /// Lost tracks that are to be picked up drift with the whole picture until their pattern is there again.
    void pickUpLost(const PyramidPtr& before, const Pyramid& pyramid, int frame, int step) {
        std::vector<Job*> lost;
        for (Job& job : jobs_)
            if (job.runner && job.track.pickUp && job.runner->ended() && job.runner->reason() != EndReason::rangeEnd &&
                (frame - job.until) * step <= 0)
                lost.push_back(&job);
        if (lost.empty()) return;
        const Vector2d moved = pictureMotion(*before, pyramid);
        for (Job* job : lost) {
            if (!job->seen) {
                const Vector2d at = job->runner->last().at;
                job->seen = partAround(*before, at.x(), at.y(), 1.5 * job->track.pattern_px + 40);
                job->expected = at;
            }
            job->expected += moved;
            const int gap = std::abs(frame - job->runner->last().frame);
            // The longer away, the wider the search.
            const double reach =
                std::min(3.0, 1 + 0.1 * gap) * std::max(4.0, 0.5 * (job->track.search_px - job->track.pattern_px));
            if (job->runner->pickUp(*job->seen, pyramid, frame, job->expected, reach)) job->seen.reset();
        }
    }

    void join(const Pyramid& pyramid, int frame) {
        parallelFor(
            jobs_.size(),
            [&](std::size_t i) {
                Job& job = jobs_[i];
                if (job.joined || job.frame != frame) return;
                job.joined = true;
                job.runner = Runner::start(job.track, pyramid, frame, job.at);
                job.startsInside = !mattes_.empty() && isExcluded(mattes_, frame, job.at);
            },
            16);
    }
    std::vector<Job> jobs_;
    std::span<const Matte> mattes_;
};

/// A stretch of one track: tracked from its sample on `first`, from that on `last`, or from both and blended.
struct Stretch {
    std::size_t track;
    int first;
    int last;
    bool fromFirst;
    bool fromLast;
};

/// Why a run came no farther; none when it was stopped on its way.
EndReason reasonOf(const Sweep::Job& job) {
    if (!job.runner) return job.joined ? EndReason::covered : EndReason::none;
    if (job.runner->ended()) return job.runner->reason();
    return job.runner->last().frame == job.until ? EndReason::rangeEnd : EndReason::none;
}

/// Merges what a runner found into the track: its frames replace the track's, ties excepted. What an earlier run had
/// found stays where this one did not look: beyond its last frame, and everywhere when it was stopped before.
void merge(Track& track, const Sweep::Job& job, bool forward) {
    if (!job.joined) return;
    const EndReason reason = reasonOf(job);
    EndReason& end = forward ? track.endReason : track.startReason;
    if (!job.runner) {
        end = reason;
        return;
    }
    const int reach = job.runner->last().frame;
    const bool isLost = reason != EndReason::none && reason != EndReason::rangeEnd;
    const auto isBeyond = [forward](int frame, int limit) { return forward ? frame > limit : frame < limit; };
    std::vector<Sample> merged;
    merged.reserve(track.samples.size() + job.runner->samples().size());
    bool goesOn = false;
    for (const Sample& sample : track.samples) {
        // Between where it was lost and where it should have gone, the earlier run is not trusted any more; ties are.
        if (isLost && !sample.tie && isBeyond(sample.frame, reach) && !isBeyond(sample.frame, job.until)) continue;
        goesOn = goesOn || isBeyond(sample.frame, reach);
        merged.push_back(sample);
    }
    if (!goesOn) end = reason;
    // What was placed by hand, and the sample the run began at, win over what it found there; then the new over the
    // old.
    const auto rank = [&](const Sample& sample, bool found) {
        return sample.tie || (!found && sample.frame == job.frame) ? 0 : found ? 1 : 2;
    };
    const std::size_t kept = merged.size();
    merged.insert(merged.end(), job.runner->samples().begin(), job.runner->samples().end());
    std::vector<std::pair<std::size_t, int>> order(merged.size());
    for (std::size_t i = 0; i < order.size(); ++i) order[i] = {i, rank(merged[i], i >= kept)};
    std::sort(order.begin(), order.end(), [&](const auto& a, const auto& b) {
        return merged[a.first].frame != merged[b.first].frame ? merged[a.first].frame < merged[b.first].frame
                                                              : a.second < b.second;
    });
    std::vector<Sample> samples;
    samples.reserve(merged.size());
    for (const auto& [index, ranked] : order)
        if (samples.empty() || samples.back().frame != merged[index].frame) samples.push_back(merged[index]);
    samples.shrink_to_fit();
    track.samples = List<Sample>(std::move(samples));
}

Sweep::Job jobFor(const Track& track, int frame, const Vector2d& at, int until) {
    return {track, frame, at, until, std::nullopt, false, std::nullopt, {0, 0}, false};
}

/// What a run from each end of a stretch found, as one: each weighs fully at its own end and not at all where it has to
/// be equal to the other, so that neither end makes a jump.
void mergeBlended(Track& track, const Stretch& stretch, const Sweep::Job& forward, const Sweep::Job& backward) {
    const auto found = [](const Sweep::Job& job, bool reversed) {
        std::vector<Sample> samples = job.runner ? job.runner->samples() : std::vector<Sample>{};
        if (reversed) std::reverse(samples.begin(), samples.end());
        return samples;
    };
    const std::vector<Sample> ahead = found(forward, false), back = found(backward, true);
    const auto find = [](const std::vector<Sample>& samples, int frame) -> const Sample* {
        const auto at =
            std::lower_bound(samples.begin(), samples.end(), frame, [](const Sample& s, int f) { return s.frame < f; });
        return at != samples.end() && at->frame == frame ? &*at : nullptr;
    };
    const int overlapFirst = back.empty() ? stretch.last : std::max(stretch.first, back.front().frame);
    const int overlapLast = ahead.empty() ? stretch.first : std::min(stretch.last, ahead.back().frame);
    std::vector<Sample> samples;
    for (const Sample& sample : track.samples)
        if (sample.frame <= stretch.first) samples.push_back(sample);
    for (int frame = stretch.first + 1; frame < stretch.last; ++frame) {
        const Sample *a = find(ahead, frame), *b = find(back, frame);
        if (!a && !b) continue;
        if (!a || !b) {
            samples.push_back(a ? *a : *b);
            continue;
        }
        const double t = double(frame - overlapFirst) / std::max(1, overlapLast - overlapFirst);
        const double weight = t * t * (3 - 2 * t);
        Sample blended = *a;
        blended.at = (1 - weight) * a->at + weight * b->at;
        blended.carried = float(1 - weight) * a->carried + float(weight) * b->carried;
        blended.score = (1 - weight) * a->score + weight * b->score;
        blended.renewed = a->renewed || b->renewed;
        samples.push_back(blended);
    }
    for (const Sample& sample : track.samples)
        if (sample.frame >= stretch.last) samples.push_back(sample);
    // Where neither side could bridge it, the gap says why.
    for (std::size_t i = 0; i + 1 < samples.size(); ++i)
        if (samples[i].frame >= stretch.first && samples[i].frame < stretch.last &&
            samples[i + 1].frame > samples[i].frame + 1)
            samples[i].lost = reasonOf(forward);
    track.samples = List<Sample>(std::move(samples));
}

}  // namespace

namespace {

/// Features found on frames and carried as far as they go: forward from the first look, then what that found backward,
/// and what the way back found forward again.
class Scattering {
public:
    Scattering(FrameCache& frames, const ScatterOptions& options, const LiveListener& live)
        : frames_(frames),
          options_(options),
          live_(live),
          range_(options.range),
          start_(std::clamp(options.startFrame, range_.first, range_.last)),
          candidates_(options.candidates),
          takenByFrame_(std::size_t(range_.count())) {
        settings_.motion = options.motion;
        settings_.channel = options.channel;
        settings_.pattern_px = options.pattern_px;
        settings_.search_px = options.search_px;
        settings_.driftLimit = options.driftLimit;
        settings_.preFilter = options.preFilter;
        candidates_.border_px = std::max(candidates_.border_px, options.pattern_px / 2 + 4);
    }

    Expected<TrackingResult> run(const Progress& progress) {
        const auto forwardOnes = forward(progress.part(0.0, 0.5));
        std::vector<std::size_t> backwardOnes;
        if (!result_.stopped)
            backwardOnes = backward(forwardOnes, progress.part(0.5, start_ > range_.first ? 0.9 : 1.0));
        if (!result_.stopped && !backwardOnes.empty()) again(backwardOnes, progress.part(0.9, 1.0));
        if (found_.empty() && !result_.stopped) return nothingFound();
        int number = 0;
        for (Track& track : found_) {
            if (int(track.samples.size()) < std::min(options_.fewestFrames, range_.count())) continue;
            track.name = fmt::format("s-{:03}", ++number);
            result_.tracks.push_back(std::move(track));
        }
        if (result_.tracks.empty() && !result_.stopped) return nothingFollowed();
        return std::move(result_);
    }

private:
    std::vector<std::size_t> forward(const Progress& progress) {
        until_ = range_.last;
        Sweep sweep({}, options_.mattes);
        sweep.run(
            frames_, options_.channel, options_.preFilter, start_, range_.last, progress, live_,
            [&](const Pyramid& pyramid, int frame, const std::vector<Vector2d>& running) {
                return replenish(pyramid, frame, running);
            },
            result_);
        std::vector<std::size_t> added;
        for (Sweep::Job& job : sweep.jobs()) take(job, true, added);
        for (const std::size_t index : added)
            for (const Sample& sample : found_[index].samples)
                takenByFrame_[std::size_t(sample.frame - range_.first)].push_back(sample.at);
        return added;
    }

    std::vector<std::size_t> backward(const std::vector<std::size_t>& known, const Progress& progress) {
        until_ = range_.first;
        sinceLook_ = 0;
        Sweep sweep(resumed(known, range_.first), options_.mattes);
        // Within the part that the first sweep covered there is nothing to add; before it there is.
        const auto add = [&](const Pyramid& pyramid, int frame, const std::vector<Vector2d>& running) {
            return frame < start_ ? replenish(pyramid, frame, running) : std::vector<Sweep::Job>{};
        };
        sweep.run(frames_, options_.channel, options_.preFilter, range_.last, range_.first, progress, live_, add,
                  result_);
        std::vector<std::size_t> added;
        for (std::size_t i = 0; i < sweep.jobs().size(); ++i) {
            if (i >= known.size()) {
                take(sweep.jobs()[i], false, added);
                continue;
            }
            merge(found_[known[i]], sweep.jobs()[i], false);
            sweep.jobs()[i].runner.reset();
        }
        return added;
    }

    void again(const std::vector<std::size_t>& known, const Progress& progress) {
        Sweep sweep(resumed(known, range_.last), options_.mattes);
        sweep.run(frames_, options_.channel, options_.preFilter, range_.first, range_.last, progress, live_, {},
                  result_);
        for (std::size_t i = 0; i < sweep.jobs().size(); ++i) merge(found_[known[i]], sweep.jobs()[i], true);
    }

    std::vector<Sweep::Job> replenish(const Pyramid& pyramid, int frame, const std::vector<Vector2d>& running) {
        std::vector<Vector2d> taken = running;
        const auto& known = takenByFrame_[std::size_t(frame - range_.first)];
        taken.insert(taken.end(), known.begin(), known.end());
        const int wantedFeatures = options_.candidates.features;
        const int lacking = wantedFeatures - int(taken.size());
        // Looking for corners costs as much as tracking; it pays when a good many are gone, or after a while.
        ++sinceLook_;
        if (lacking <= 0 || (frame != start_ && lacking < wantedFeatures / 12 && sinceLook_ < 8)) return {};
        sinceLook_ = 0;
        CandidateOptions wanted = candidates_;
        wanted.features = lacking;
        std::vector<Sweep::Job> jobs;
        for (const Candidate& candidate : findCandidates(pyramid, wanted, taken, options_.mattes, frame)) {
            Track track = settings_;
            track.referenceFrame = frame;
            jobs.push_back(jobFor(track, frame, candidate.at, until_));
        }
        return jobs;
    }

    /// A track that a sweep started joins the found ones.
    void take(Sweep::Job& job, bool isForward, std::vector<std::size_t>& added) {
        if (!job.runner) return;
        Track track = job.track;
        track.samples = List<Sample>({job.runner->samples().front()});
        merge(track, job, isForward);
        job.runner.reset();  // its samples are the track's now; a long plate has a million
        added.push_back(found_.size());
        found_.push_back(std::move(track));
    }

    /// What a sweep started is carried the other way by the next one, so that every track is as long as it can be.
    std::vector<Sweep::Job> resumed(const std::vector<std::size_t>& indices, int end) const {
        std::vector<Sweep::Job> jobs;
        for (const std::size_t index : indices) {
            const Track& track = found_[index];
            jobs.push_back(jobFor(track, track.referenceFrame, sampleAt(track, track.referenceFrame)->at, end));
        }
        return jobs;
    }

    tl::unexpected<Error> nothingFound() const {
        const PlateFacts& facts = frames_.facts();
        if (int(result_.unreadable.size()) >= range_.count())
            return failure(Fault::input, "{}: not one frame of {}-{} could be read", facts.path.string(), range_.first,
                           range_.last);
        if (std::min(facts.width, facts.height) < options_.pattern_px + 8)
            return failure(Fault::outcome,
                           "no feature was found: the plate of {}x{} is too small for patterns of {} px; take smaller "
                           "ones",
                           facts.width, facts.height, options_.pattern_px);
        return failure(Fault::outcome,
                       "no feature was found between frames {} and {}: {}; place tracks by hand where there is "
                       "something to hold on to",
                       range_.first, range_.last,
                       options_.mattes.empty() ? "the picture shows no texture there"
                                               : "the picture shows no texture outside the mattes");
    }

    tl::unexpected<Error> nothingFollowed() const {
        const std::string damaged =
            result_.unreadable.empty()
                ? std::string{}
                : fmt::format(" ({} of {} frames are missing or damaged)", result_.unreadable.size(), range_.count());
        return failure(Fault::outcome,
                       "features were found, but none could be followed over {} frames{}; try a larger search area or "
                       "a lower drift limit",
                       std::min(options_.fewestFrames, range_.count()), damaged);
    }

    FrameCache& frames_;
    const ScatterOptions& options_;
    const LiveListener& live_;
    const FrameRange range_;
    const int start_;
    CandidateOptions candidates_;
    Track settings_;
    TrackingResult result_;
    std::vector<Track> found_;
    std::vector<std::vector<Vector2d>> takenByFrame_;
    int sinceLook_ = 0;
    int until_ = 0;  ///< the last frame of the sweep that runs
};

}  // namespace

Expected<TrackingResult> scatter(FrameCache& frames, const ScatterOptions& options, const Progress& progress,
                                 const LiveListener& live) {
    return Scattering(frames, options, live).run(progress);
}

namespace {

bool textured(FrameCache& frames, const Track& track, int frame, const Vector2d& at) {
    const auto picture = frames.get(frame);
    return !picture || PatternMatcher::create(buildPyramid(**picture, track.channel, track.preFilter, 1), at,
                                              track.pattern_px, track.motion, track.outline.vector());
}

/// What is wrong with a track's start, in words; the rest of the run goes on where several are asked for.
Expected<void> checkStart(FrameCache& frames, const Track& track, int frame, const FrameRange& range) {
    const PlateFacts& facts = frames.facts();
    const Sample* sample = sampleAt(track, frame);
    if (!facts.holds(range.first) || !facts.holds(range.last) || range.last < range.first)
        return failure(Fault::input, "the range {}-{} lies outside the plate, which holds {}-{}", range.first,
                       range.last, facts.firstFrame, facts.lastFrame);
    if (!sample)
        return failure(Fault::input, "track {}: has no place on frame {}; go to one of its frames, or place it here",
                       track.name, frame);
    if (!(sample->at.x() >= 0 && sample->at.y() >= 0 && sample->at.x() <= facts.width &&
          sample->at.y() <= facts.height))
        return failure(Fault::input, "track {}: its place {:.1f}, {:.1f} lies outside the frame of {}x{}", track.name,
                       sample->at.x(), sample->at.y(), facts.width, facts.height);
    if (!range.holds(frame))
        return failure(Fault::input, "track {}: frame {} lies outside the range {}-{}", track.name, frame, range.first,
                       range.last);
    if (track.search_px < track.pattern_px)
        return failure(Fault::input,
                       "track {}: its pattern of {} px is larger than its search area of {} px; make the search larger",
                       track.name, track.pattern_px, track.search_px);
    return {};
}

Expected<TrackingResult> trackStretches(FrameCache& frames, std::vector<Track> tracks,
                                        const std::vector<Stretch>& stretches, const FrameRange& range,
                                        const Progress& progress, const LiveListener& live,
                                        std::span<const Matte> mattes = {}) {
    TrackingResult result;
    for (const Stretch& stretch : stretches)
        for (const bool first : {true, false})
            if (first ? stretch.fromFirst : stretch.fromLast)
                if (const auto checked =
                        checkStart(frames, tracks[stretch.track], first ? stretch.first : stretch.last, range);
                    !checked)
                    return tl::unexpected(checked.error());
    // Tracks that look at different channels, or through different filters, need different pyramids.
    std::set<std::pair<Channel, PreFilter>> looks;
    for (const Stretch& stretch : stretches)
        looks.insert({tracks[stretch.track].channel, tracks[stretch.track].preFilter});
    double done = 0;
    for (const auto& [channel, filter] : looks) {
        std::vector<std::optional<Sweep::Job>> found[2] = {std::vector<std::optional<Sweep::Job>>(stretches.size()),
                                                           std::vector<std::optional<Sweep::Job>>(stretches.size())};
        for (const bool forward : {true, false}) {
            const double from = done;
            done += 0.5 / double(looks.size());
            std::vector<Sweep::Job> jobs;
            std::vector<std::size_t> members;
            int first = forward ? range.last : range.first;
            int last = forward ? range.first : range.last;
            for (std::size_t i = 0; i < stretches.size(); ++i) {
                const Stretch& stretch = stretches[i];
                const Track& track = tracks[stretch.track];
                if (track.channel != channel || track.preFilter != filter ||
                    !(forward ? stretch.fromFirst : stretch.fromLast))
                    continue;
                const int start = forward ? stretch.first : stretch.last;
                const int until = forward ? stretch.last : stretch.first;
                const Sample& sample = *sampleAt(track, start);
                Sweep::Job job = jobFor(track, start, sample.at, until);
                // At a tie in the middle the offset is what the pattern carried there.
                if (sample.carried != Eigen::Vector2f(0, 0)) job.track.offset = sample.carried.cast<double>();
                jobs.push_back(std::move(job));
                members.push_back(i);
                first = forward ? std::min(first, start) : std::max(first, start);
                last = forward ? std::max(last, until) : std::min(last, until);
            }
            if (jobs.empty() || result.stopped) continue;
            Sweep sweep(std::move(jobs), mattes);
            sweep.run(frames, channel, filter, first, last, progress.part(from, done), live, {}, result);
            for (std::size_t k = 0; k < members.size(); ++k)
                found[forward ? 0 : 1][members[k]] = std::move(sweep.jobs()[k]);
        }
        for (std::size_t i = 0; i < stretches.size(); ++i) {
            const Stretch& stretch = stretches[i];
            const auto &ahead = found[0][i], &back = found[1][i];
            Track& track = tracks[stretch.track];
            if (stretch.fromFirst && stretch.fromLast) {
                // Stopped before both sides were there, the stretch stays as it was.
                if (ahead && back && !result.stopped) mergeBlended(track, stretch, *ahead, *back);
            } else if (ahead) {
                merge(track, *ahead, true);
            } else if (back) {
                merge(track, *back, false);
            }
        }
    }
    for (const Stretch& stretch : stretches) {
        // A track that begins or ends with the range was not cut short by anything.
        Track& track = tracks[stretch.track];
        if (track.startReason == EndReason::none && track.firstFrame() <= range.first)
            track.startReason = EndReason::rangeEnd;
        if (track.endReason == EndReason::none && track.lastFrame() >= range.last)
            track.endReason = EndReason::rangeEnd;
    }
    result.tracks = std::move(tracks);
    return result;
}

/// From `start` in one direction: blended between ties, open after the last.
void addStretches(std::vector<Stretch>& stretches, const Track& track, std::size_t index, int start,
                  const FrameRange& range, bool forward) {
    std::vector<int> anchors{start};
    for (const Sample& sample : track.samples)
        if (sample.tie && range.holds(sample.frame) && (forward ? sample.frame > start : sample.frame < start))
            anchors.push_back(sample.frame);
    if (!forward) std::sort(anchors.begin() + 1, anchors.end(), std::greater<>());
    for (std::size_t i = 0; i + 1 < anchors.size(); ++i)
        if (std::abs(anchors[i + 1] - anchors[i]) > 1)
            stretches.push_back(
                {index, std::min(anchors[i], anchors[i + 1]), std::max(anchors[i], anchors[i + 1]), true, true});
    const int end = forward ? range.last : range.first;
    if (anchors.back() != end)
        stretches.push_back(forward ? Stretch{index, anchors.back(), end, true, false}
                                    : Stretch{index, end, anchors.back(), false, true});
}

Expected<TrackingResult> trackFrom(FrameCache& frames, const std::vector<Track>& tracks, const std::vector<int>& starts,
                                   const FrameRange& range, Direction direction, const Progress& progress,
                                   const LiveListener& live, std::span<const Matte> mattes) {
    std::vector<Stretch> stretches;
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        if (const auto checked = checkStart(frames, tracks[i], starts[i], range); !checked)
            return tl::unexpected(checked.error());
        if (direction != Direction::backward) addStretches(stretches, tracks[i], i, starts[i], range, true);
        if (direction != Direction::forward) addStretches(stretches, tracks[i], i, starts[i], range, false);
        if (tracks.size() == 1 && !textured(frames, tracks[i], starts[i], sampleAt(tracks[i], starts[i])->at))
            return failure(Fault::outcome,
                           "track {}: the pattern at {:.1f}, {:.1f} on frame {} has no texture to hold on to in both "
                           "directions, or touches the border; "
                           "place it on a corner",
                           tracks[i].name, sampleAt(tracks[i], starts[i])->at.x(),
                           sampleAt(tracks[i], starts[i])->at.y(), starts[i]);
    }
    return trackStretches(frames, tracks, stretches, range, progress, live, mattes);
}

}  // namespace

Expected<TrackingResult> trackPoints(FrameCache& frames, const std::vector<Track>& tracks, int from,
                                     const FrameRange& range, Direction direction, const Progress& progress,
                                     const LiveListener& live, std::span<const Matte> mattes) {
    std::vector<int> starts(tracks.size(), from);
    for (std::size_t i = 0; i < tracks.size(); ++i)
        if (!sampleAt(tracks[i], from)) starts[i] = tracks[i].referenceFrame;
    return trackFrom(frames, tracks, starts, range, direction, progress, live, mattes);
}

Expected<TrackingResult> trackPoints(FrameCache& frames, const std::vector<Track>& tracks, const FrameRange& range,
                                     Direction direction, const Progress& progress, const LiveListener& live,
                                     std::span<const Matte> mattes) {
    std::vector<int> starts;
    for (const Track& track : tracks) starts.push_back(track.referenceFrame);
    return trackFrom(frames, tracks, starts, range, direction, progress, live, mattes);
}

Expected<TrackingResult> trackAroundTie(FrameCache& frames, const Track& track, int frame, const FrameRange& range,
                                        const Progress& progress, const LiveListener& live) {
    std::optional<int> before, after;
    for (const Sample& sample : track.samples) {
        if (!sample.tie || !range.holds(sample.frame)) continue;
        if (sample.frame < frame) before = sample.frame;
        if (sample.frame > frame && !after) after = sample.frame;
    }
    std::vector<Stretch> stretches;
    // Without a neighbour the open side runs as far as the track went, no farther: a correction is no order to track
    // on.
    const int start = std::max(range.first, before ? *before : track.firstFrame());
    const int end = std::min(range.last, after ? *after : track.lastFrame());
    if (frame - start > 1 || (!before && frame > start))
        stretches.push_back({0, start, frame, before.has_value(), true});
    if (end - frame > 1 || (!after && end > frame)) stretches.push_back({0, frame, end, true, after.has_value()});
    const EndReason startReason = track.startReason, endReason = track.endReason;
    auto result = trackStretches(frames, {track}, stretches, range, progress, live);
    if (result && !result->tracks.empty()) {
        // Where the new run came as far as the old one, the old reason for its end still holds.
        Track& found = result->tracks.front();
        if (found.firstFrame() <= track.firstFrame()) found.startReason = startReason;
        if (found.lastFrame() >= track.lastFrame()) found.endReason = endReason;
    }
    return result;
}

Expected<TrackingResult> trackBad(FrameCache& frames, const std::vector<Track>& tracks, double least,
                                  const FrameRange& range, const Progress& progress, const LiveListener& live) {
    std::vector<Stretch> stretches;
    for (std::size_t i = 0; i < tracks.size(); ++i) {
        const auto good = [&](const Sample& s) { return s.tie || (!s.bridged && s.score >= least); };
        std::optional<int> lastGood;
        bool badSince = false;
        int reached = range.first - 1;
        for (const Sample& sample : tracks[i].samples) {
            if (!range.holds(sample.frame)) continue;
            if (!good(sample)) {
                badSince = true;
                reached = sample.frame;
                continue;
            }
            if (lastGood && (badSince || sample.frame > *lastGood + 1))
                stretches.push_back({i, *lastGood, sample.frame, true, true});
            if (!lastGood && badSince)
                stretches.push_back({i, std::max(range.first, tracks[i].firstFrame()), sample.frame, false, true});
            lastGood = sample.frame;
            badSince = false;
        }
        if (lastGood && badSince) stretches.push_back({i, *lastGood, reached, true, false});
    }
    if (stretches.empty())
        return failure(Fault::outcome,
                       "nothing to do: every frame of the chosen tracks scores at least {:.2f}, and there are no gaps",
                       least);
    return trackStretches(frames, tracks, stretches, range, progress, live);
}

Vector2d pictureMotion(const Pyramid& from, const Pyramid& to, double reach_px) {
    constexpr int kAcross = 6, kDown = 4, kPatch = 41;
    std::vector<std::optional<Vector2d>> moved(kAcross * kDown);
    parallelFor(moved.size(), [&](std::size_t i) {
        const Vector2d at((double(i % kAcross) + 0.5) * from.width() / kAcross,
                          (double(i / kAcross) + 0.5) * from.height() / kDown);
        if (const auto found = searchPatch(from, at, to, at, kPatch, reach_px); found && found->score > 0.7)
            moved[i] = found->to - at;
    });
    std::vector<Vector2d> sure;
    for (const auto& motion : moved)
        if (motion) sure.push_back(*motion);
    const Vector2d common = median(sure);
    // When something covers much of the picture the few patches left agree on nothing.
    constexpr double kAgree_px = 5.0;
    const auto agreed =
        std::count_if(sure.begin(), sure.end(), [&](const Vector2d& m) { return (m - common).norm() < kAgree_px; });
    return agreed >= 4 && 3 * agreed >= std::ptrdiff_t(moved.size()) ? common : Vector2d(0, 0);
}

}  // namespace pinion
