#include "steady/movers.h"

#include "base/median.h"
#include "base/parallel.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <opencv2/imgproc.hpp>
#include <opencv2/video/tracking.hpp>
#include <set>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kWorkWidth = 640;   // pixels of the pictures that dense motion is taken from
constexpr int kCell = 4;          // their pixels to a cell
constexpr int kPatch = 4;         // half the side of the patches that are compared
constexpr int kMostTried = 24;    // still places that are tried along the way
constexpr double kOff_px = 1.0;   // working pixels beside the way of still points that are clear
constexpr double kBetter = 1.35;  // how much less alike a still place has to be
constexpr double kTones = 2.0;    // ... and by how many of 255 tones at least
constexpr int kCorners = 12;      // of a proposed shape

/// A frame as dense motion sees it.
struct Look {
    int frame = 0;
    cv::Mat grey;
    const SolvedFrame* solved = nullptr;
};

/// Where still points may go between two frames: for each cell the ends of the way, in working pixels; NaN where none.
struct Ways {
    std::vector<Vector2d> far, near;
};

struct Cells {
    int columns = 0, rows = 0;
    double step_px = 0;  ///< of a cell, in pixels of the plate
    std::size_t count() const { return std::size_t(columns) * std::size_t(rows); }
    Vector2d middle(std::size_t cell) const {
        return {(double(cell % std::size_t(columns)) + 0.5) * step_px,
                (double(cell / std::size_t(columns)) + 0.5) * step_px};
    }
};

/// What was found in one cell.
struct Finding {
    bool known = false, moves = false;
    Vector2d motion{0, 0}, against{0, 0};  ///< of the picture, and against the scene; pixels a frame
};

/// An area on one frame.
struct Area {
    int frame = 0;
    std::vector<std::size_t> cells;
    Vector2d motion{0, 0}, against{0, 0};
    double unlike = 0;  ///< how far its parts' motions lie from its own, as a share
};

Vector2d medianOf(const std::vector<Vector2d>& places) {
    std::vector<double> x, y;
    for (const Vector2d& place : places) {
        x.push_back(place.x());
        y.push_back(place.y());
    }
    return {median(std::move(x)), median(std::move(y))};
}

double tone(const cv::Mat& grey, double x, double y) {
    const int x0 = std::clamp(int(std::floor(x)), 0, grey.cols - 2),
              y0 = std::clamp(int(std::floor(y)), 0, grey.rows - 2);
    const double fx = std::clamp(x - x0, 0.0, 1.0), fy = std::clamp(y - y0, 0.0, 1.0);
    const auto* upper = grey.ptr<std::uint8_t>(y0) + x0;
    const auto* lower = grey.ptr<std::uint8_t>(y0 + 1) + x0;
    return (1 - fy) * ((1 - fx) * upper[0] + fx * upper[1]) + fy * ((1 - fx) * lower[0] + fx * lower[1]);
}

/// The mean difference of tones between two patches, each about its own mean: light may have changed.
double difference(const cv::Mat& a, const Vector2d& at, const cv::Mat& b, const Vector2d& to) {
    constexpr int kSide = 2 * kPatch + 1;
    double one[kSide * kSide], other[kSide * kSide], sumOne = 0, sumOther = 0;
    int k = 0;
    for (int y = -kPatch; y <= kPatch; ++y)
        for (int x = -kPatch; x <= kPatch; ++x, ++k) {
            sumOne += one[k] = tone(a, at.x() + x - 0.5, at.y() + y - 0.5);
            sumOther += other[k] = tone(b, to.x() + x - 0.5, to.y() + y - 0.5);
        }
    const double shift = (sumOne - sumOther) / k;
    double sum = 0;
    for (int i = 0; i < k; ++i) sum += std::abs(one[i] - other[i] - shift);
    return sum / k;
}

/// A convex outline that holds all the places, with sides in even directions: corners of two frames then answer each
/// other.
Polygon outlineAbout(const std::vector<cv::Point2f>& places) {
    const auto side = [&](int k) {
        const double angle = 2 * M_PI * k / kCorners;
        const Vector2d out(std::cos(angle), std::sin(angle));
        double farthest = -1e300;
        for (const auto& p : places) farthest = std::max(farthest, out.dot(Vector2d(double(p.x), double(p.y))));
        return std::pair(out, farthest);
    };
    Polygon outline;
    for (int k = 0; k < kCorners; ++k) {
        const auto [one, reach] = side(k);
        const auto [next, nextReach] = side(k + 1);
        const double across = one.x() * next.y() - one.y() * next.x();
        outline.emplace_back((reach * next.y() - nextReach * one.y()) / across,
                             (nextReach * one.x() - reach * next.x()) / across);
    }
    return outline;
}

class Proposing {
public:
    Proposing(FrameCache& frames, const Solve& solve, const MoverOptions& options)
        : frames_(frames), solve_(solve), options_(options) {
        const PlateFacts& facts = frames.facts();
        scale_ = std::min(1.0, double(kWorkWidth) / facts.width);
        workWidth_ = int(std::lround(facts.width * scale_));
        workHeight_ = int(std::lround(facts.height * scale_));
        cells_ = {workWidth_ / kCell, workHeight_ / kCell, kCell / scale_};
    }

    Expected<std::vector<MoverProposal>> run(const Progress& progress) {
        std::vector<Area> areas;
        const FrameRange& range = options_.range;
        for (int frame = range.first; frame <= range.last - 1; frame += options_.step) {
            if (progress.stopped()) return failure(Fault::stopped, "stopped");
            const auto first = look(frame);
            if (!first) continue;
            std::vector<Finding> findings(cells_.count());
            for (const int apart : {1, 4}) {
                const auto second = frame + apart <= range.last ? look(frame + apart) : std::nullopt;
                if (second) compare(*first, *second, findings);
            }
            addAreas(frame, findings, areas);
            progress.report(double(frame - range.first) / range.count(), fmt::format("frame {}", frame));
        }
        std::vector<MoverProposal> proposals;
        for (const std::vector<const Area*>& chain : chainsOf(areas))
            if (auto proposal = proposalOf(chain)) proposals.push_back(*std::move(proposal));
        std::sort(proposals.begin(), proposals.end(),
                  [](const auto& a, const auto& b) { return a.share * a.frames.count() > b.share * b.frames.count(); });
        for (std::size_t i = 0; i < proposals.size(); ++i) {
            proposals[i].matte.name = fmt::format("mover {}", i + 1);
            proposals[i].path.name = fmt::format("mover {} path", i + 1);
            proposals[i].matte.ride->ids = {proposals[i].path.id};
        }
        return proposals;
    }

private:
    std::optional<Look> look(int frame) {
        const SolvedFrame* solved = solvedFrameAt(solve_, frame);
        const auto picture = frames_.get(frame);
        if (!solved || !picture) return std::nullopt;
        ImageChannel plane = analysisPlane(**picture);
        const cv::Mat whole(plane.height, plane.width, CV_32F, plane.values.data());
        cv::Mat small, grey;
        cv::resize(whole, small, {workWidth_, workHeight_}, 0, 0, cv::INTER_AREA);
        small.convertTo(grey, CV_8U);
        return Look{frame, grey, solved};
    }

    /// Half the depth of the nearest points that the solve has in view.
    double nearestDepth(const SolvedFrame& frame) const {
        std::vector<double> depths;
        const Eigen::Isometry3d camera = frame.worldFromCamera.inverse();
        for (const SolvedTrack& track : solve_.tracks) {
            if (!track.xyz) continue;
            const Vector3d seen = camera * *track.xyz;
            if (seen.z() < 0 && projected(solve_, frame.frame, *track.xyz)) depths.push_back(-seen.z());
        }
        if (depths.empty()) return 0;
        const auto place = depths.begin() + std::ptrdiff_t(depths.size() / 50);
        std::nth_element(depths.begin(), place, depths.end());
        return 0.5 * *place;
    }

    Ways waysOf(const Look& first, const Look& second) const {
        Ways ways{std::vector<Vector2d>(cells_.count(), Vector2d::Constant(std::nan(""))), {}};
        ways.near = ways.far;
        const Lens from = lensOf(solve_, *first.solved), to = lensOf(solve_, *second.solved);
        const Eigen::Isometry3d move = second.solved->worldFromCamera.inverse() * first.solved->worldFromCamera;
        const double nearest = nearestDepth(*first.solved);
        const auto projectedTo = [&](const Vector3d& seen) -> std::optional<Vector2d> {
            if (seen.z() >= -1e-9) return std::nullopt;
            const auto plate = plateFromPlane(to, {seen.x() / -seen.z(), -seen.y() / -seen.z()});
            return plate ? std::optional<Vector2d>(*plate * scale_) : std::nullopt;
        };
        parallelFor(
            cells_.count(),
            [&](std::size_t cell) {
                const auto plane = planeFromPlate(from, cells_.middle(cell));
                if (!plane) return;
                const Vector3d ray(plane->x(), -plane->y(), -1);
                const auto far = projectedTo(move.linear() * ray);
                if (!far) return;
                const auto near = nearest > 0 ? projectedTo(move * Vector3d(nearest * ray)) : far;
                ways.far[cell] = *far;
                ways.near[cell] = near.value_or(*far);
            },
            256);
        return ways;
    }

    void compare(const Look& first, const Look& second, std::vector<Finding>& findings) const {
        const auto dense = [](const cv::Mat& a, const cv::Mat& b) {
            cv::Mat flow;
            cv::DISOpticalFlow::create(cv::DISOpticalFlow::PRESET_MEDIUM)->calc(a, b, flow);
            return flow;
        };
        const cv::Mat there = dense(first.grey, second.grey), back = dense(second.grey, first.grey);
        const Ways ways = waysOf(first, second);
        const double apart = second.frame - first.frame;
        parallelFor(
            cells_.count(),
            [&](std::size_t cell) {
                const Vector2d at = cells_.middle(cell) * scale_;
                if (std::isnan(ways.far[cell].x())) return;
                const auto flowAt = [](const cv::Mat& flow, const Vector2d& place) {
                    const auto& value = flow.at<cv::Vec2f>(int(place.y()), int(place.x()));
                    return Vector2d(double(value[0]), double(value[1]));
                };
                const Vector2d flow = flowAt(there, at), end = at + flow;
                const double margin = kPatch + 1;
                if (end.x() < margin || end.y() < margin || end.x() > workWidth_ - margin ||
                    end.y() > workHeight_ - margin)
                    return;
                Finding& finding = findings[cell];
                if (finding.moves) return;  // over the shorter time, where dense motion goes astray least
                if ((flow + flowAt(back, end)).norm() > 1.0 + 0.05 * flow.norm()) return;
                finding.known = true;
                const Vector2d way = ways.near[cell] - ways.far[cell];
                const double length2 = way.squaredNorm();
                const double share =
                    length2 > 0 ? std::clamp((end - ways.far[cell]).dot(way) / length2, 0.0, 1.0) : 0.0;
                const Vector2d still = ways.far[cell] + share * way, against = end - still;
                if (against.norm() < kOff_px + 0.03 * flow.norm()) return;
                // Of what has no texture dense motion says anything: it has to look less like every still place.
                const double moved = difference(first.grey, at, second.grey, end);
                const int tries = std::clamp(int(std::sqrt(length2)) + 1, 1, kMostTried);
                for (int k = 0; k <= tries; ++k)
                    if (difference(first.grey, at, second.grey, ways.far[cell] + double(k) / tries * way) <
                        kBetter * moved + kTones)
                        return;
                finding.moves = true;
                finding.motion = flow / (scale_ * apart);
                finding.against = against / (scale_ * apart);
            },
            256);
    }

    /// Cells of which most known neighbours move too, gathered where they touch.
    void addAreas(int frame, const std::vector<Finding>& findings, std::vector<Area>& areas) const {
        cv::Mat moving(cells_.rows, cells_.columns, CV_8U, cv::Scalar(0));
        for (int y = 0; y < cells_.rows; ++y)
            for (int x = 0; x < cells_.columns; ++x) {
                int known = 0, moves = 0;
                for (int v = std::max(0, y - 2); v <= std::min(cells_.rows - 1, y + 2); ++v)
                    for (int u = std::max(0, x - 2); u <= std::min(cells_.columns - 1, x + 2); ++u) {
                        const Finding& one = findings[std::size_t(v * cells_.columns + u)];
                        known += one.known;
                        moves += one.moves;
                    }
                moving.at<std::uint8_t>(y, x) = moves >= 4 && 2 * moves >= known ? 255 : 0;
            }
        cv::morphologyEx(moving, moving, cv::MORPH_CLOSE, cv::getStructuringElement(cv::MORPH_ELLIPSE, {7, 7}));
        cv::Mat labels;
        const int count = cv::connectedComponents(moving, labels, 8, CV_32S);
        std::vector<Area> found{std::size_t(count)};
        for (int y = 0; y < cells_.rows; ++y)
            for (int x = 0; x < cells_.columns; ++x)
                if (const int label = labels.at<int>(y, x); label > 0)
                    found[std::size_t(label)].cells.push_back(std::size_t(y * cells_.columns + x));
        for (Area& area : found) {
            if (double(area.cells.size()) < 0.4 * options_.least * double(cells_.count())) continue;
            std::vector<Vector2d> motions, against;
            for (const std::size_t cell : area.cells)
                if (findings[cell].moves) {
                    motions.push_back(findings[cell].motion);
                    against.push_back(findings[cell].against);
                }
            if (motions.empty()) continue;
            area.frame = frame;
            area.motion = medianOf(motions);
            area.against = medianOf(against);
            std::vector<double> off;
            for (const Vector2d& one : against) off.push_back((one - area.against).norm());
            area.unlike = median(std::move(off)) / std::max(0.1, area.against.norm());
            areas.push_back(std::move(area));
        }
    }

    /// Whether an area goes on in a later one: moved on by its motion, they overlap.
    bool goesOn(const Area& before, const Area& after) const {
        const Vector2d by = before.motion * (after.frame - before.frame) / cells_.step_px;
        const int dx = int(std::lround(by.x())), dy = int(std::lround(by.y()));
        const std::set<std::size_t> there(after.cells.begin(), after.cells.end());
        std::size_t met = 0, inFrame = 0;
        for (const std::size_t cell : before.cells) {
            const int x = int(cell % std::size_t(cells_.columns)) + dx,
                      y = int(cell / std::size_t(cells_.columns)) + dy;
            if (x < 0 || y < 0 || x >= cells_.columns || y >= cells_.rows) continue;
            ++inFrame;
            met += there.contains(std::size_t(y * cells_.columns + x));
        }
        return inFrame > 0 && double(met) > 0.25 * double(std::min(inFrame, after.cells.size()));
    }

    std::vector<std::vector<const Area*>> chainsOf(const std::vector<Area>& areas) const {
        std::vector<std::size_t> root(areas.size());
        std::iota(root.begin(), root.end(), 0);
        const auto find = [&](std::size_t i) {
            while (root[i] != i) i = root[i] = root[root[i]];
            return i;
        };
        for (std::size_t i = 0; i < areas.size(); ++i)
            for (std::size_t k = 0; k < areas.size(); ++k) {
                const int ahead = areas[k].frame - areas[i].frame;
                if (ahead > 0 && ahead <= 3 * options_.step && find(i) != find(k) && goesOn(areas[i], areas[k]))
                    root[find(i)] = find(k);
            }
        std::map<std::size_t, std::vector<const Area*>> byRoot;
        for (std::size_t i = 0; i < areas.size(); ++i) byRoot[find(i)].push_back(&areas[i]);
        std::vector<std::vector<const Area*>> chains;
        for (auto& [first, chain] : byRoot) chains.push_back(std::move(chain));
        return chains;
    }

    /// A convex outline about cells, a margin wider.
    Polygon outlineOf(const std::vector<std::size_t>& cells) const {
        std::vector<cv::Point2f> places;
        const auto reach = float(0.9 * cells_.step_px);
        for (const std::size_t cell : cells) {
            const Vector2d middle = cells_.middle(cell);
            for (const float x : {-reach, reach})
                for (const float y : {-reach, reach}) places.emplace_back(float(middle.x()) + x, float(middle.y()) + y);
        }
        return outlineAbout(places);
    }

    struct Seen {
        int frame;
        std::vector<std::size_t> cells;
        Vector2d motion{0, 0};
        Vector2d path{0, 0};
    };

    /// How much of what either covers both do.
    double overlap(const Polygon& one, const Polygon& other) const {
        std::size_t both = 0, either = 0;
        for (std::size_t cell = 0; cell < cells_.count(); ++cell) {
            const bool a = contains(one, cells_.middle(cell)), b = contains(other, cells_.middle(cell));
            both += a && b;
            either += a || b;
        }
        return either > 0 ? double(both) / double(either) : 1.0;
    }

    std::optional<MoverProposal> proposalOf(const std::vector<const Area*>& chain) const {
        std::map<int, Seen> byFrame;
        std::vector<double> speeds, unlike;
        for (const Area* area : chain) {
            Seen& seen = byFrame.try_emplace(area->frame, Seen{area->frame, {}}).first->second;
            const double before = double(seen.cells.size()), own = double(area->cells.size());
            seen.motion = (before * seen.motion + own * area->motion) / (before + own);
            seen.cells.insert(seen.cells.end(), area->cells.begin(), area->cells.end());
            speeds.push_back(area->against.norm());
            unlike.push_back(area->unlike);
        }
        std::vector<Seen> seen;
        double cells = 0;
        for (auto& [frame, one] : byFrame) {
            cells += double(one.cells.size());
            seen.push_back(std::move(one));
        }
        const double share = cells / double(seen.size()) / double(cells_.count());
        if (seen.size() < 3 || share < options_.least) return std::nullopt;
        std::size_t largest = 0;
        for (std::size_t i = 0; i < seen.size(); ++i) {
            if (i > 0)
                seen[i].path = seen[i - 1].path +
                               0.5 * (seen[i - 1].motion + seen[i].motion) * (seen[i].frame - seen[i - 1].frame);
            if (seen[i].cells.size() > seen[largest].cells.size()) largest = i;
        }
        MoverProposal proposal;
        proposal.share = share;
        proposal.frames = {std::max(options_.range.first, seen.front().frame - options_.step + 1),
                           std::min(options_.range.last, seen.back().frame + options_.step)};
        setPath(proposal, seen, largest);
        setShape(proposal, seen, largest);
        const double speed = median(std::move(speeds));
        proposal.reason = median(std::move(unlike)) < 0.6
                              ? fmt::format("moves {:.1f} px a frame against the scene", speed)
                              : fmt::format(
                                    "its parts move each their own way ({:.1f} px a frame): water, leaves, a "
                                    "reflection?",
                                    speed);
        return proposal;
    }

    /// The path as a track, from the middle of the largest area; before and after it goes on as it went.
    void setPath(MoverProposal& proposal, std::vector<Seen>& seen, std::size_t largest) const {
        Vector2d middle(0, 0);
        for (const std::size_t cell : seen[largest].cells)
            middle += cells_.middle(cell) / double(seen[largest].cells.size());
        const Vector2d shift = middle - seen[largest].path;
        for (Seen& one : seen) one.path += shift;
        Track& path = proposal.path;
        path.byHand = true;
        path.id = 1;
        path.setAside = true;
        path.group = "movers";
        path.referenceFrame = seen[largest].frame;
        std::vector<Sample> samples;
        for (int frame = proposal.frames.first; frame <= proposal.frames.last; ++frame) {
            std::size_t after = 0;
            while (after < seen.size() && seen[after].frame < frame) ++after;
            Vector2d at;
            if (after == 0) at = seen.front().path + seen.front().motion * (frame - seen.front().frame);
            else if (after == seen.size()) at = seen.back().path + seen.back().motion * (frame - seen.back().frame);
            else {
                const double t = double(frame - seen[after - 1].frame) / (seen[after].frame - seen[after - 1].frame);
                at = seen[after - 1].path + t * (seen[after].path - seen[after - 1].path);
            }
            samples.push_back({.frame = frame, .at = at, .tie = frame == path.referenceFrame});
        }
        path.samples = List<Sample>(std::move(samples));
    }

    /// One keyframe where it is largest, and more where the outline differs too much from it.
    void setShape(MoverProposal& proposal, const std::vector<Seen>& seen, std::size_t largest) const {
        Matte& matte = proposal.matte;
        const Vector2d reference = seen[largest].path;
        matte.ride = Ride{"tracks", {}, seen[largest].frame};
        std::vector<Polygon> outlines;
        for (const Seen& one : seen) outlines.push_back(outlineOf(one.cells));
        const auto keyOf = [&](std::size_t i) {
            Matte::Key key{seen[i].frame, outlines[i]};
            for (Vector2d& p : key.polygon) p -= seen[i].path - reference;
            return key;
        };
        std::set<std::size_t> keyed{largest};
        constexpr double kAgrees = 0.72;
        constexpr std::size_t kMostKeys = 8;
        while (true) {
            matte.keys.clear();
            for (const std::size_t i : keyed) matte.keys.push_back(keyOf(i));
            std::size_t worst = largest;
            double least = kAgrees;
            for (std::size_t i = 0; i < seen.size() && keyed.size() < kMostKeys; ++i) {
                if (keyed.contains(i)) continue;
                Polygon shown = outlineAt(matte, seen[i].frame);
                for (Vector2d& p : shown) p += seen[i].path - reference;
                if (const double agrees = overlap(shown, outlines[i]); agrees < least) {
                    least = agrees;
                    worst = i;
                }
            }
            if (!keyed.insert(worst).second) break;
        }
        if (proposal.frames.first > options_.range.first) {
            matte.turns.push_back({options_.range.first, false});
            matte.turns.push_back({proposal.frames.first, true});
        }
        if (proposal.frames.last < options_.range.last) matte.turns.push_back({proposal.frames.last + 1, false});
    }

    FrameCache& frames_;
    const Solve& solve_;
    MoverOptions options_;
    double scale_ = 1;
    int workWidth_ = 0, workHeight_ = 0;
    Cells cells_;
};

}  // namespace

Expected<std::vector<MoverProposal>> proposeMovers(FrameCache& frames, const Solve& solve, const MoverOptions& options,
                                                   const Progress& progress) {
    return Proposing(frames, solve, options).run(progress);
}

std::vector<MoverProposal> proposeFromTracks(std::span<const MovingTracks> movers, std::span<const Track> tracks,
                                             FrameRange range, int width, int height) {
    constexpr int kKeyEvery = 6;       // frames; between keys the shape changes evenly
    constexpr double kMargin = 0.015;  // widths beyond the tracks
    std::map<TrackId, const Track*> byId;
    for (const Track& track : tracks) byId[track.id] = &track;
    std::vector<MoverProposal> proposals;
    for (const MovingTracks& mover : movers) {
        MoverProposal proposal;
        proposal.frames = {std::max(range.first, mover.frames.first), std::min(range.last, mover.frames.second)};
        const auto keyOn = [&](int frame) {
            std::vector<cv::Point2f> places;
            const auto reach = float(kMargin * width);
            for (const TrackId id : mover.tracks) {
                const auto track = byId.find(id);
                const Sample* sample = track == byId.end() ? nullptr : sampleAt(*track->second, frame);
                if (!sample) continue;
                for (const float x : {-reach, reach})
                    for (const float y : {-reach, reach})
                        places.emplace_back(float(sample->at.x()) + x, float(sample->at.y()) + y);
            }
            // One or two would stand for the whole of it.
            if (places.size() < 12) return;
            proposal.matte.keys.push_back({frame, outlineAbout(places)});
        };
        for (int frame = proposal.frames.first; frame < proposal.frames.last; frame += kKeyEvery) keyOn(frame);
        keyOn(proposal.frames.last);
        if (proposal.matte.keys.empty()) continue;
        for (const Matte::Key& key : proposal.matte.keys)
            proposal.share += areaOf(key.polygon) / (double(width) * height) / double(proposal.matte.keys.size());
        if (proposal.frames.first > range.first)
            proposal.matte.turns = {{range.first, false}, {proposal.frames.first, true}};
        if (proposal.frames.last < range.last) proposal.matte.turns.push_back({proposal.frames.last + 1, false});
        proposal.matte.name = fmt::format("mover {}", proposals.size() + 1);
        proposal.reason = fmt::format("{} tracks move as one thing of their own", mover.tracks.size());
        proposals.push_back(std::move(proposal));
    }
    return proposals;
}

}  // namespace pinion
