#include "camera/suspects.h"

#include "base/median.h"
#include "camera/sortingout.h"

#include <Eigen/Core>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <numbers>
#include <optional>
#include <set>
#include <unordered_map>

namespace pinion {

using Eigen::Vector2d;

namespace {

constexpr int kStays = 5;         // frames that say more than one
constexpr double kClearly = 5.5;  // times the noise
constexpr double kThin = 3.0;     // longer than wide by so much: along a line
constexpr double kNear_px = 70;   // about a track, on a plate of 1920
constexpr double kSame_px = 1.5;  // two tracks on one place
constexpr double kNarrow = 0.35;  // degrees

using Errors = std::vector<TrackErrors::Error>;

Vector2d medianOf(const Errors& errors, std::size_t from, std::size_t to) {
    std::vector<double> x, y;
    for (std::size_t i = from; i < to; ++i) {
        x.push_back(errors[i].error.x());
        y.push_back(errors[i].error.y());
    }
    return {median(std::move(x)), median(std::move(y))};
}

/// The largest error that lasts for some frames.
double lastingOf(const Errors& errors, double noise_px, double scale) {
    std::vector<Vector2d> all;
    for (const auto& one : errors) all.push_back(one.error);
    return solving::agreementOf(all, noise_px, scale).drift_px;
}

struct Jump {
    std::size_t at = 0;  ///< the first after it
    double by_px = 0;
};
/// A step from one frame to the next that stays, and is most of what happens about it.
std::optional<Jump> jumpOf(const Errors& errors, double least_px) {
    std::optional<Jump> found;
    constexpr std::size_t kBeside = 6;
    for (std::size_t i = 2; i + 2 <= errors.size(); ++i) {
        if (errors[i].frame - errors[i - 1].frame > 3) continue;
        const Vector2d step = errors[i].error - errors[i - 1].error;
        if (step.norm() < least_px) continue;
        const Vector2d before = medianOf(errors, i - std::min(i, kBeside), i),
                       after = medianOf(errors, i, std::min(errors.size(), i + kBeside));
        const double stays = (after - before).norm();
        if (stays < least_px || step.norm() < 0.6 * stays || step.dot(after - before) < 0.7 * step.norm() * stays)
            continue;
        // What goes on at this pace is a slide.
        double usual = 0;
        for (std::size_t k = i - std::min(i, kBeside) + 1; k < std::min(errors.size(), i + kBeside); ++k)
            if (k != i) usual = std::max(usual, (errors[k].error - errors[k - 1].error).norm());
        if (usual > 0.5 * step.norm()) continue;
        if (!found || stays > found->by_px) found = Jump{i, stays};
    }
    return found;
}

struct Line {
    double along_px = 0, across_px = 0;  ///< standard deviations
    double degrees = 0;
};
Line lineOf(const Errors& errors) {
    Vector2d mean = Vector2d::Zero();
    for (const auto& one : errors) mean += one.error / double(errors.size());
    Eigen::Matrix2d spread = Eigen::Matrix2d::Zero();
    for (const auto& one : errors)
        spread += (one.error - mean) * (one.error - mean).transpose() / double(errors.size());
    const double middle = 0.5 * spread.trace(), part = 0.5 * (spread(0, 0) - spread(1, 1));
    const double off = std::hypot(part, spread(0, 1));
    Line line{std::sqrt(std::max(0.0, middle + off)), std::sqrt(std::max(0.0, middle - off)),
              0.5 * std::atan2(spread(0, 1), part) * 180 / std::numbers::pi};
    return line;
}

/// Tracks by their places on one frame.
class Neighbours {
public:
    Neighbours(const std::vector<TrackErrors>& all, double near_px) : all_(all), near_(near_px) {
        for (std::size_t t = 0; t < all.size(); ++t)
            for (std::size_t i = 0; i < all[t].of.size(); ++i) frames_[all[t].of[i].frame].push_back({t, i});
    }
    /// Those within reach of a track in the middle of its stretch, the nearest first.
    std::vector<std::pair<std::size_t, std::size_t>> about(std::size_t track) const {
        const Errors& own = all_[track].of;
        if (own.empty()) return {};
        const auto& middle = own[own.size() / 2];
        std::vector<std::pair<double, std::pair<std::size_t, std::size_t>>> near;
        for (const auto& one : frames_.at(middle.frame)) {
            const double away = (all_[one.first].of[one.second].at - middle.at).norm();
            if (one.first != track && away < near_) near.push_back({away, one});
        }
        std::sort(near.begin(), near.end(), [](const auto& a, const auto& b) { return a.first < b.first; });
        std::vector<std::pair<std::size_t, std::size_t>> result;
        for (const auto& one : near) result.push_back(one.second);
        return result;
    }
    const std::map<int, std::vector<std::pair<std::size_t, std::size_t>>>& frames() const { return frames_; }

private:
    const std::vector<TrackErrors>& all_;
    double near_;
    std::map<int, std::vector<std::pair<std::size_t, std::size_t>>> frames_;
};

/// Whether those about it go as it goes: their errors change together.
bool goesWithOthers(const std::vector<TrackErrors>& all, std::size_t track,
                    const std::vector<std::pair<std::size_t, std::size_t>>& about, const std::vector<double>& lasting,
                    double clear_px) {
    const auto changeOf = [&](std::size_t t, int from, int to) -> std::optional<Vector2d> {
        const Errors& errors = all[t].of;
        const auto at = [&](int frame) {
            return std::lower_bound(errors.begin(), errors.end(), frame,
                                    [](const TrackErrors::Error& one, int f) { return one.frame < f; });
        };
        const auto a = at(from), b = at(to);
        if (a == errors.end() || b == errors.end() || a->frame != from || b->frame != to) return std::nullopt;
        return Vector2d(b->error - a->error);
    };
    const Errors& own = all[track].of;
    int alike = 0, asked = 0;
    for (const auto& [other, at] : about) {
        if (asked >= 8) break;
        if (lasting[other] < clear_px) continue;
        const int from = std::max(own.front().frame, all[other].of.front().frame),
                  to = std::min(own.back().frame, all[other].of.back().frame);
        if (to - from < kStays) continue;
        const auto mine = changeOf(track, from, to), its = changeOf(other, from, to);
        if (!mine || !its) continue;
        ++asked;
        alike += (*mine - *its).norm() < 0.35 * std::max(mine->norm(), its->norm()) && mine->norm() > clear_px;
    }
    return alike >= 3 && 2 * alike > asked;
}

/// Whether the depths about a place fall into near and far, and its own is neither.
bool isBetweenDepths(const std::vector<TrackErrors>& all, std::size_t track,
                     const std::vector<std::pair<std::size_t, std::size_t>>& about) {
    std::vector<double> depths;
    for (const auto& [other, at] : about) {
        if (all[other].role != TrackRole::used && all[other].role != TrackRole::heldOut) continue;
        depths.push_back(all[other].of[at].distance);
        if (depths.size() == 10) break;
    }
    if (depths.size() < 5) return false;
    std::sort(depths.begin(), depths.end());
    // The widest step between neighbouring depths parts them.
    std::size_t cut = 0;
    double step = 0;
    for (std::size_t i = 2; i + 2 <= depths.size(); ++i)
        if (const double own = std::log(depths[i] / depths[i - 1]); own > step) {
            step = own;
            cut = i;
        }
    if (cut == 0 || step < std::log(1.3)) return false;
    const double inside = std::max(std::log(depths[cut - 1] / depths.front()), std::log(depths.back() / depths[cut]));
    if (step < 1.5 * inside) return false;
    const double own = all[track].of[all[track].of.size() / 2].distance;
    return own > 0 && own > 0.5 * depths.front() && own < 2 * depths.back();
}

/// Whether its point lies far from all that is about it.
bool isBeyond(const std::vector<TrackErrors>& all, std::size_t track,
              const std::vector<std::pair<std::size_t, std::size_t>>& about) {
    const double own = all[track].of[all[track].of.size() / 2].distance;
    int asked = 0;
    for (const auto& [other, at] : about) {
        if (all[other].role != TrackRole::used && all[other].role != TrackRole::heldOut) continue;
        const double its = all[other].of[at].distance;
        if (own < 5 * its && own > its / 5) return false;
        if (++asked == 8) break;
    }
    return asked >= 5;
}

/// Of each track the one it doubles: on the same place on nearly all frames that both have. The longer one stays.
std::vector<std::size_t> doublesOf(const std::vector<TrackErrors>& all, const Neighbours& neighbours, double same_px) {
    // Of long shots some of the frames say it as well.
    constexpr std::size_t kAsked = 1'000'000;
    std::size_t samples = 0;
    for (const TrackErrors& one : all) samples += one.of.size();
    const int step = int(1 + samples / kAsked);
    std::map<std::pair<std::size_t, std::size_t>, int> together;
    for (const auto& [frame, seen] : neighbours.frames()) {
        if (frame % step != 0) continue;
        std::map<std::pair<int, int>, std::vector<std::size_t>> cells;
        const auto cellOf = [&](const Vector2d& at) {
            return std::pair(int(std::floor(at.x() / same_px)), int(std::floor(at.y() / same_px)));
        };
        for (std::size_t k = 0; k < seen.size(); ++k)
            cells[cellOf(all[seen[k].first].of[seen[k].second].at)].push_back(k);
        for (const auto& [cell, inside] : cells)
            for (int dx = -1; dx <= 1; ++dx)
                for (int dy = -1; dy <= 1; ++dy) {
                    const auto beside = cells.find({cell.first + dx, cell.second + dy});
                    if (beside == cells.end()) continue;
                    for (const std::size_t a : inside)
                        for (const std::size_t b : beside->second) {
                            if (a >= b) continue;
                            const Vector2d &one = all[seen[a].first].of[seen[a].second].at,
                                           &two = all[seen[b].first].of[seen[b].second].at;
                            if ((one - two).norm() < same_px) ++together[std::minmax(seen[a].first, seen[b].first)];
                        }
                }
    }
    std::vector<std::size_t> doubled(all.size(), all.size());
    for (const auto& [pair, count] : together) {
        auto [a, b] = pair;
        const int from = std::max(all[a].of.front().frame, all[b].of.front().frame),
                  to = std::min(all[a].of.back().frame, all[b].of.back().frame);
        const int asked = to / step - (from - 1) / step;
        if (count * step < kStays || count < 0.8 * asked) continue;
        const auto isBetter = [&](std::size_t one, std::size_t two) {
            return std::pair(all[one].of.size(), two) > std::pair(all[two].of.size(), one);
        };
        if (isBetter(b, a)) std::swap(a, b);
        // What is kept for its own sake stays.
        if (doubled[a] == all.size() && doubled[b] == all.size()) doubled[b] = a;
    }
    return doubled;
}

}  // namespace

std::string_view wordsOf(SuspectReason reason) {
    static constexpr std::array<std::string_view, kSuspectReasons> kWords{
        "behind the camera",      "jump",           "move by themselves",
        "where two depths cross", "slide or drift", "stray",
        "lie far beyond",         "double another", "at too narrow an angle"};
    return kWords[std::size_t(reason)];
}

std::string wordsOf(const Suspect& suspect, std::string_view name, std::string_view other) {
    switch (suspect.reason) {
        case SuspectReason::behind:
            return fmt::format("{} lies behind a camera that sees it", name);
        case SuspectReason::jumps:
            return fmt::format("{} jumps by {:.1f} px on {}", name, suspect.by_px, suspect.frame);
        case SuspectReason::moves:
            return fmt::format("{} moves with others, {:.1f} px off the scene", name, suspect.by_px);
        case SuspectReason::crosses:
            return fmt::format("{} sits where something near passes before something far", name);
        case SuspectReason::slides:
            return fmt::format("{} slides by {:.1f} px along {:.0f}\u00b0", name, suspect.by_px, suspect.alongDegrees);
        case SuspectReason::strays:
            return fmt::format("{} is {:.1f} px off for a while", name, suspect.by_px);
        case SuspectReason::beyond:
            return fmt::format("{} lies far from all about it", name);
        case SuspectReason::doubles:
            return fmt::format("{} is on the place of {}", name, other);
        case SuspectReason::narrow:
            return fmt::format("{} is seen over too narrow an angle for its depth", name);
    }
    return std::string(name);
}

bool isHarmful(SuspectReason reason) {
    return reason != SuspectReason::doubles && reason != SuspectReason::narrow && reason != SuspectReason::beyond;
}

std::vector<Suspect> suspectsOf(const Solve& solve, const std::vector<TrackErrors>& errors) {
    const double scale = std::max(1, solve.lens.width) / 1920.0;
    const double noise = std::max(solve.noise_px, 0.04 * scale);
    const double clear = std::max(0.7 * scale, kClearly * noise);
    const Neighbours neighbours(errors, kNear_px * scale);
    std::set<TrackId> movers;
    for (const MovingTracks& mover : solve.movers) movers.insert(mover.tracks.begin(), mover.tracks.end());
    std::vector<double> lasting(errors.size(), 0.0);
    for (std::size_t t = 0; t < errors.size(); ++t) lasting[t] = lastingOf(errors[t].of, noise, scale);
    const auto doubled = doublesOf(errors, neighbours, kSame_px * scale);
    std::unordered_map<TrackId, const SolvedTrack*> solved;
    for (const SolvedTrack& one : solve.tracks) solved[one.track] = &one;

    std::vector<Suspect> found;
    for (std::size_t t = 0; t < errors.size(); ++t) {
        const TrackErrors& own = errors[t];
        const auto tell = [&](SuspectReason reason, double by_px = 0) -> Suspect& {
            found.push_back({own.track, reason, by_px});
            return found.back();
        };
        if (own.isBehind) {
            tell(SuspectReason::behind);
            continue;
        }
        if (own.of.empty()) {
            if (own.role == TrackRole::disagreed) tell(SuspectReason::strays);
            continue;
        }
        const auto about = neighbours.about(t);
        if (movers.contains(own.track)) {
            tell(SuspectReason::moves, lasting[t]);
            continue;
        }
        if (lasting[t] > clear) {
            const auto jump = jumpOf(own.of, std::max(1.0 * scale, 8 * noise));
            const Line line = lineOf(own.of);
            if (jump) {
                tell(SuspectReason::jumps, jump->by_px).frame = own.of[jump->at].frame;
            } else if (goesWithOthers(errors, t, about, lasting, clear)) {
                tell(SuspectReason::moves, lasting[t]);
            } else if (isBetweenDepths(errors, t, about)) {
                tell(SuspectReason::crosses, lasting[t]);
            } else if (line.along_px > kThin * line.across_px || own.of.size() < 2 * kStays) {
                Suspect& one = tell(SuspectReason::slides, lasting[t]);
                one.alongDegrees = line.degrees;
            } else {
                tell(SuspectReason::strays, lasting[t]);
            }
            continue;
        }
        if (own.role == TrackRole::disagreed) {  // the solve found reason enough
            tell(SuspectReason::strays, lasting[t]);
        } else if (own.point[3] > 0 && isBeyond(errors, t, about)) {
            tell(SuspectReason::beyond);
        } else if (doubled[t] < errors.size()) {
            tell(SuspectReason::doubles).other = errors[doubled[t]].track;
        } else if (solve.motion == CameraMotion::travelling && own.point[3] > 0 && own.angleDegrees < kNarrow) {
            // Only what claims a depth nearby; what is far has no other rays.
            const SolvedTrack* place = solved[own.track];
            const double away = own.of.front().distance;
            if (place && place->xyz && place->deviation.norm() > 0.15 * away) tell(SuspectReason::narrow);
        }
    }
    return found;
}

}  // namespace pinion
