#include "camera/readings.h"

#include "base/median.h"
#include "base/parallel.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>
#include <set>
#include <span>

namespace pinion::solving {

using Eigen::Vector2d;

namespace {

constexpr std::size_t kMostCompared = 240;  // tracks that groups are found among, the longest
constexpr std::size_t kMostGroups = 7;
constexpr int kFewest = 5;  // tracks of a group
constexpr double kUnknown = 12;
constexpr double kOfSpeed = 0.1;   // that the parts of a thing may differ by
constexpr double kTogether = 1.5;  // of `apart`: within it tracks go as one thing

std::vector<char> markedFrames(const Material& material, const std::vector<int>& frames) {
    std::vector<char> isOne(material.frames.size(), 0);
    for (const int frame : frames) isOne[std::size_t(frame)] = 1;
    return isOne;
}

/// By what parts of the picture are told apart: eight across, five down.
int partOf(const Seen& seen, const Material& material) {
    constexpr int kAcross = 8, kDown = 5;
    const int x = std::clamp(int(seen.plate.x() / material.width * kAcross), 0, kAcross - 1),
              y = std::clamp(int(seen.plate.y() / material.height * kDown), 0, kDown - 1);
    return y * kAcross + x;
}

struct ErrorAt {
    Vector2d at, error;
};

/// Places of a trail by frame.
using Path = std::map<int, Vector2d>;
Path pathOf(const Trail& trail, const std::vector<char>& isKey) {
    Path path;
    for (const Seen& seen : trail.seen)
        if (isKey[std::size_t(seen.frame)]) path[seen.frame] = seen.plate;
    return path;
}

/// How far two tracks are from going together: how fast the distance between them changes, in units of what one rigid
/// thing that turns a little and comes nearer changes by; more where they lie far apart. `ofSpeed` of the pace at which
/// both go across the picture is allowed beside: what is deep and near shows parallax of its own. Unknown where they
/// are seldom seen together.
double apart(const Path& a, const Path& b, double width, std::size_t fewest, double ofSpeed) {
    double squares = 0, far = 0, pace = 0;
    std::size_t count = 0;
    int last = 0;
    Vector2d before = Vector2d::Zero(), middle = Vector2d::Zero();
    for (auto i = a.begin(), j = b.begin(); i != a.end() && j != b.end();) {
        if (i->first < j->first) ++i;
        else if (j->first < i->first) ++j;
        else {
            const Vector2d between = i->second - j->second, both = 0.5 * (i->second + j->second);
            if (count > 0) {
                const double frames = i->first - last;
                squares += (between - before).squaredNorm() / (frames * frames);
                pace += (both - middle).squaredNorm() / (frames * frames);
            }
            before = between;
            middle = both;
            last = i->first;
            far += between.norm();
            ++count, ++i, ++j;
        }
    }
    if (count < fewest) return kUnknown;
    far /= double(count);
    const double changes = double(count - 1);
    const double unit = 0.0004 * width + 0.004 * far + ofSpeed * std::sqrt(pace / changes);
    return std::min(kUnknown, std::sqrt(squares / changes) / unit * (1 + 4 * far / width));
}

struct Node {
    std::vector<int> members;  ///< indices of paths
    double distance = 0;       ///< at which it was joined
    double parent = 1e9;       ///< at which it goes up in another
};

/// All groups of a tree of average linkage.
std::vector<Node> tree(std::vector<std::vector<double>> distance) {
    const std::size_t count = distance.size();
    std::vector<Node> nodes;
    std::vector<int> nodeOf(count);
    std::vector<char> isAlive(count, 1);
    for (std::size_t i = 0; i < count; ++i) {
        nodes.push_back({{int(i)}, 0, 1e9});
        nodeOf[i] = int(i);
    }
    for (std::size_t merge = 1; merge < count; ++merge) {
        std::size_t a = 0, b = 0;
        double least = 1e18;
        for (std::size_t i = 0; i < count; ++i) {
            if (!isAlive[i]) continue;
            for (std::size_t j = i + 1; j < count; ++j)
                if (isAlive[j] && distance[i][j] < least) least = distance[i][j], a = i, b = j;
        }
        Node joined;
        joined.distance = least;
        const double sizeA = double(nodes[std::size_t(nodeOf[a])].members.size()),
                     sizeB = double(nodes[std::size_t(nodeOf[b])].members.size());
        for (const std::size_t part : {a, b}) {
            Node& node = nodes[std::size_t(nodeOf[part])];
            node.parent = least;
            joined.members.insert(joined.members.end(), node.members.begin(), node.members.end());
        }
        for (std::size_t k = 0; k < count; ++k) {
            if (!isAlive[k] || k == a || k == b) continue;
            distance[a][k] = distance[k][a] = (sizeA * distance[a][k] + sizeB * distance[b][k]) / (sizeA + sizeB);
        }
        isAlive[b] = 0;
        nodeOf[a] = int(nodes.size());
        nodes.push_back(std::move(joined));
    }
    return nodes;
}

/// The errors that neighbours share: products of those of pairs, and how many.
struct Shared {
    double products = 0;
    std::size_t pairs = 0;
    /// A standard deviation of one coordinate; 0 where too few pairs tell.
    double error_px() const { return pairs < 30 ? 0 : std::sqrt(std::max(0.0, 0.5 * products / double(pairs))); }
};
Shared sharedOn(const Reconstruction& scene, std::span<const int> frames) {
    const Material& material = scene.material();
    const double clip = std::max(6 * scene.noise(), 0.5 * material.scale());
    // Patterns that overlap see the same grain, and are off together by it.
    const double reach = 0.1 * material.width, beside = 0.03 * material.width;
    Shared shared;
    for (const int frame : frames) {
        if (!scene.pose(frame)) continue;
        std::vector<ErrorAt> errors;
        for (const auto& [trail, place] : material.byFrame[std::size_t(frame)]) {
            const auto& point = scene.point(std::size_t(trail));
            if (!point || scene.isDropped(std::size_t(trail))) continue;
            const auto plate = scene.plateOf(frame, *point);
            if (!plate) continue;
            Vector2d error = *plate - place;
            if (error.norm() > clip) error *= clip / error.norm();
            errors.push_back({place, error});
        }
        // In order across, so that neighbours are found near by.
        std::sort(errors.begin(), errors.end(), [](const ErrorAt& a, const ErrorAt& b) { return a.at.x() < b.at.x(); });
        for (std::size_t i = 0; i < errors.size(); ++i) {
            std::size_t nearest = errors.size();
            double least = reach * reach;
            for (std::size_t j = i + 1; j < errors.size() && errors[j].at.x() - errors[i].at.x() < reach; ++j)
                if (const double far = (errors[j].at - errors[i].at).squaredNorm();
                    far < least && far > beside * beside)
                    least = far, nearest = j;
            if (nearest == errors.size()) continue;
            shared.products += errors[i].error.dot(errors[nearest].error);
            ++shared.pairs;
        }
    }
    return shared;
}

}  // namespace

double sharedError(const Reconstruction& scene, const std::vector<int>& frames) {
    return sharedOn(scene, frames).error_px();
}

bool isBent(const Reconstruction& scene, const std::vector<int>& frames) {
    const double scale = scene.material().scale(), noise = std::max(scene.noise(), 0.08 * scale);
    // A part of the shot may be bent by itself; of fewer pairs chance lends more.
    constexpr std::size_t kParts = 8;
    Shared whole;
    for (std::size_t part = 0; part < kParts; ++part) {
        const std::size_t from = part * frames.size() / kParts, to = (part + 1) * frames.size() / kParts;
        const Shared shared = sharedOn(scene, std::span(frames).subspan(from, to - from));
        const double clear = std::sqrt(0.16 + 3 / std::sqrt(double(std::max<std::size_t>(1, shared.pairs))));
        if (shared.error_px() > std::max(clear * noise, 0.12 * scale)) return true;
        whole.products += shared.products;
        whole.pairs += shared.pairs;
    }
    return whole.error_px() > std::max(0.3 * noise, 0.06 * scale);
}

namespace {

/// Tracks side by side, those with most sightings first: how far apart the first of them are from going together.
struct Comparison {
    struct One {
        int sightings = 0, trail = 0;
    };
    std::vector<One> order;
    std::vector<Path> paths;
    std::vector<std::vector<double>> distance;  ///< of the first, each with each
    double width = 0, ofSpeed = 0;

    /// How far one is from going as some others do, in the mean; unknown where few of them are seen with it.
    double apartFrom(std::size_t one, const std::vector<int>& others) const {
        double sum = 0;
        int count = 0;
        for (std::size_t m = 0; m < others.size(); m += std::max<std::size_t>(1, others.size() / 12)) {
            const double far = apart(paths[one], paths[std::size_t(others[m])], width, 3, ofSpeed);
            if (far >= kUnknown) continue;
            sum += far;
            ++count;
        }
        return count >= std::min<int>(3, int(others.size())) ? sum / count : kUnknown;
    }
};

Comparison compared(const Material& material, const std::vector<int>& trails, const std::vector<int>& frames,
                    double ofSpeed = 0) {
    const std::vector<char> isOne = markedFrames(material, frames);
    Comparison all;
    all.width = material.width;
    all.ofSpeed = ofSpeed;
    for (const int t : trails) {
        int count = 0;
        for (const Seen& seen : material.trails[std::size_t(t)].seen) count += isOne[std::size_t(seen.frame)];
        if (count >= 3) all.order.push_back({count, t});
    }
    std::stable_sort(all.order.begin(), all.order.end(),
                     [](const auto& a, const auto& b) { return a.sightings > b.sightings; });
    for (const auto& one : all.order) all.paths.push_back(pathOf(material.trails[std::size_t(one.trail)], isOne));
    const std::size_t count = std::min(kMostCompared, all.order.size());
    all.distance.assign(count, std::vector<double>(count, 0));
    parallelFor(
        count,
        [&](std::size_t i) {
            for (std::size_t j = i + 1; j < count; ++j)
                all.distance[i][j] = all.distance[j][i] = apart(all.paths[i], all.paths[j], all.width, 4, ofSpeed);
        },
        8);
    return all;
}

/// The trails of a node of the tree, and the shorter ones that go with it.
std::vector<int> trailsOf(const Comparison& all, const Node& node) {
    // In order of their sightings: some of them stand for all below.
    std::vector<int> members = node.members, trails;
    std::sort(members.begin(), members.end());
    for (const int member : members) trails.push_back(all.order[std::size_t(member)].trail);
    for (std::size_t i = all.distance.size(); i < all.order.size(); ++i)
        if (all.apartFrom(i, members) < node.distance) trails.push_back(all.order[i].trail);
    return trails;
}

std::vector<int> adjustedTrails(const Material& material) {
    std::vector<int> trails;
    for (std::size_t t = 0; t < material.trails.size(); ++t)
        if (!material.trails[t].heldOut) trails.push_back(int(t));
    return trails;
}

}  // namespace

std::vector<std::vector<int>> groupsApart(const Material& material, const std::vector<int>& keys) {
    const Comparison all = compared(material, adjustedTrails(material), keys);
    if (all.order.size() < 2 * kFewest) return {};
    double sightings = 0;
    for (const auto& seen : keys) sightings += double(material.byFrame[std::size_t(seen)].size());
    std::vector<Node> nodes = tree(all.distance);
    const auto shareOf = [&](const Node& node) {
        double sum = 0;
        for (const int member : node.members) sum += all.order[std::size_t(member)].sightings;
        return sum / sightings;
    };
    std::erase_if(nodes, [&](const Node& node) {
        const double share = shareOf(node);
        return node.members.size() < kFewest || share < 0.02 || share > 0.7 || node.parent > 1e8;
    });
    // What is joined early and stays by itself for long, and weighs.
    const auto standsOut = [&](const Node& node) {
        return std::log(std::min(node.parent, kUnknown) / std::max(node.distance, 0.05)) * std::sqrt(shareOf(node));
    };
    std::stable_sort(nodes.begin(), nodes.end(),
                     [&](const Node& a, const Node& b) { return standsOut(a) > standsOut(b); });
    std::vector<std::vector<int>> groups;
    std::vector<std::vector<int>> taken;
    for (const Node& node : nodes) {
        if (groups.size() >= kMostGroups) break;
        std::vector<int> members = node.members;
        std::sort(members.begin(), members.end());
        const bool isKnown = std::any_of(taken.begin(), taken.end(), [&](const std::vector<int>& other) {
            std::vector<int> both;
            std::set_intersection(members.begin(), members.end(), other.begin(), other.end(), std::back_inserter(both));
            return double(both.size()) > 0.8 * double(members.size() + other.size() - both.size());
        });
        if (isKnown) continue;
        taken.push_back(std::move(members));
        groups.push_back(trailsOf(all, node));
    }
    return groups;
}

std::vector<std::vector<int>> bodiesAmong(const Material& material, const std::vector<int>& trails, bool turns) {
    // Often enough to see a short track four times, seldom enough to see it move.
    std::vector<int> frames;
    const int step = material.frames.size() > 60 ? 4 : 2;
    for (int f = 0; f < int(material.frames.size()); f += step) frames.push_back(f);
    const Comparison all = compared(material, trails, frames, turns ? 0 : kOfSpeed);
    if (all.order.size() < std::size_t(kFewest)) return {};
    std::vector<std::vector<int>> bodies;
    for (const Node& node : tree(all.distance))
        if (node.members.size() >= std::size_t(kFewest) && node.distance < kTogether && node.parent >= kTogether)
            bodies.push_back(trailsOf(all, node));
    std::stable_sort(bodies.begin(), bodies.end(), [](const auto& a, const auto& b) { return a.size() > b.size(); });
    return bodies;
}

std::vector<int> goingWith(const Material& material, const std::vector<int>& keys, const std::vector<int>& told) {
    std::vector<char> isTold(material.trails.size(), 0);
    for (const int trail : told) isTold[std::size_t(trail)] = 1;
    const Comparison all = compared(material, adjustedTrails(material), keys);
    std::vector<int> with;
    std::vector<char> isWith(all.order.size(), 0);
    for (std::size_t i = 0; i < all.order.size(); ++i)
        if (isTold[std::size_t(all.order[i].trail)]) with.push_back(int(i)), isWith[i] = 1;
    // From the told ones outwards, as long as any comes to them.
    for (bool grows = !with.empty(); grows;) {
        std::vector<int> come;
        for (std::size_t i = 0; i < all.order.size(); ++i)
            if (!isWith[i] && all.apartFrom(i, with) < kTogether) come.push_back(int(i)), isWith[i] = 1;
        with.insert(with.end(), come.begin(), come.end());
        grows = !come.empty();
    }
    std::vector<int> trails;
    for (const int one : with) trails.push_back(all.order[std::size_t(one)].trail);
    return trails;
}

Material withoutTrails(const Material& material, const std::vector<int>& trails) {
    Material rest = material;
    std::vector<char> isOut(material.trails.size(), 0);
    for (const int trail : trails) isOut[std::size_t(trail)] = 1;
    for (std::size_t t = 0; t < rest.trails.size(); ++t)
        if (isOut[t]) rest.trails[t].heldOut = true;
    for (auto& seen : rest.byFrame)
        std::erase_if(seen, [&](const auto& one) { return isOut[std::size_t(one.first)] != 0; });
    return rest;
}

namespace {

/// How well a scene explains each track on the frames, 0 to 1; below 0 where it is seen too seldom.
std::vector<double> explainedOf(const Reconstruction& scene, const Material& all, const std::vector<char>& isOne,
                                double noise_px) {
    std::vector<double> explained(all.trails.size(), -1);
    parallelFor(
        all.trails.size(),
        [&](std::size_t t) {
            const Trail& trail = all.trails[t];
            int count = 0;
            for (const Seen& seen : trail.seen) count += isOne[std::size_t(seen.frame)];
            if (count < 3) return;
            auto point = scene.point(t);
            if (!point || scene.isDropped(t)) point = scene.bestPlace(trail, 3 * noise_px);
            double sum = 0;
            if (point)
                for (const Seen& seen : trail.seen)
                    if (isOne[std::size_t(seen.frame)] && scene.pose(seen.frame)) {
                        const double squares = std::pow(scene.errorAt(seen, *point), 2);
                        if (std::isfinite(squares)) sum += 1 - squares / (squares + 9 * noise_px * noise_px);
                    }
            explained[t] = sum / count;
        },
        16);
    return explained;
}

}  // namespace

double explainedShare(const Reconstruction& scene, const Material& all, const std::vector<int>& frames,
                      double noise_px) {
    const std::vector<char> isOne = markedFrames(all, frames);
    // Places that a track keeps to, and parts of the picture over time.
    std::map<std::pair<int, int>, std::pair<double, double>> parts;  // explained, all
    const std::vector<double> explained = explainedOf(scene, all, isOne, noise_px);
    double tracks = 0, agreeing = 0;
    for (std::size_t t = 0; t < all.trails.size(); ++t) {
        if (explained[t] < 0) continue;
        ++tracks;
        agreeing += explained[t];
        for (const Seen& seen : all.trails[t].seen) {
            if (!isOne[std::size_t(seen.frame)]) continue;
            auto& [good, whole] = parts[{seen.frame, partOf(seen, all)}];
            good += explained[t];
            whole += 1;
        }
    }
    double covered = 0;
    for (const auto& [part, sums] : parts) covered += sums.first / sums.second;
    if (tracks == 0 || parts.empty()) return 0;
    return 0.5 * agreeing / tracks + 0.5 * covered / double(parts.size());
}

double explainedOfTold(const Reconstruction& scene, const Material& all, const std::vector<int>& frames,
                       double noise_px, const std::vector<int>& told) {
    const std::vector<double> explained = explainedOf(scene, all, markedFrames(all, frames), noise_px);
    double sum = 0;
    int count = 0;
    for (const int trail : told)
        if (explained[std::size_t(trail)] >= 0) {
            sum += explained[std::size_t(trail)];
            ++count;
        }
    return count > 0 ? sum / count : 0;
}

std::vector<int> trailsOnMovers(const Reconstruction& scene, const Material& all, const std::vector<int>& frames) {
    constexpr double kShareContrary = 0.25;
    const double noise = std::max(scene.noise(), 0.08 * all.scale());
    const std::vector<double> explained = explainedOf(scene, all, markedFrames(all, frames), noise);
    // What is seen too seldom to be told goes with what it goes with.
    std::vector<int> open;
    for (std::size_t t = 0; t < all.trails.size(); ++t)
        if (explained[t] < 0.5 && !all.trails[t].heldOut) open.push_back(int(t));
    std::vector<int> trails;
    for (const std::vector<int>& body : bodiesAmong(all, open, scene.turnsOnly())) {
        const auto contrary =
            std::count_if(body.begin(), body.end(), [&](int trail) { return explained[std::size_t(trail)] >= 0; });
        if (contrary >= kFewest && double(contrary) > kShareContrary * double(body.size()))
            trails.insert(trails.end(), body.begin(), body.end());
    }
    return trails;
}

OtherSide otherSideOf(const Reconstruction& scene, const Material& all, const std::vector<int>& frames) {
    const std::vector<char> isOne = markedFrames(all, frames);
    const double noise = std::max(std::min(scene.noise(), 0.5 * all.scale()), 0.08 * all.scale());
    const std::vector<double> explained = explainedOf(scene, all, isOne, noise);
    std::map<std::pair<int, int>, std::pair<int, int>> parts;  // contrary, all
    OtherSide side;
    for (std::size_t t = 0; t < all.trails.size(); ++t) {
        if (explained[t] < 0) continue;
        const bool stands = explained[t] >= 0.5;
        if (stands) side.standing.push_back(int(t));
        for (const Seen& seen : all.trails[t].seen) {
            if (!isOne[std::size_t(seen.frame)]) continue;
            auto& [contrary, whole] = parts[{seen.frame, partOf(seen, all)}];
            contrary += !stands;
            ++whole;
        }
    }
    if (parts.empty()) return side;
    const auto other = std::count_if(parts.begin(), parts.end(),
                                     [](const auto& part) { return 2 * part.second.first > part.second.second; });
    side.share = double(other) / double(parts.size());
    return side;
}

namespace {

/// The middle nine tenths of the places, across and down.
double extentOf(std::vector<double> x, std::vector<double> y) {
    const auto reach = [](std::vector<double>& values) {
        std::sort(values.begin(), values.end());
        const auto at = [&](double share) { return values[std::size_t(share * double(values.size() - 1))]; };
        return at(0.95) - at(0.05);
    };
    return reach(x) * reach(y);
}

}  // namespace

Sides compareSides(const Reconstruction& first, const Reconstruction& second, const Material& all,
                   const std::vector<int>& frames, double noise_px) {
    constexpr std::size_t kFewestInFrame = 6;
    const std::vector<char> isOne = markedFrames(all, frames);
    const std::array explained{explainedOf(first, all, isOne, noise_px), explainedOf(second, all, isOne, noise_px)};
    Sides sides;
    double told = 0;
    struct Places {
        std::vector<double> x, y;
    };
    std::array<std::map<int, Places>, 2> places;
    for (std::size_t t = 0; t < all.trails.size(); ++t) {
        if (explained[0][t] < 0 || explained[1][t] < 0) continue;
        ++told;
        const bool is0 = explained[0][t] >= 0.5, is1 = explained[1][t] >= 0.5;
        if (is0 == is1) continue;
        (is0 ? sides.first : sides.second).share += 1;
        for (const Seen& seen : all.trails[t].seen)
            if (isOne[std::size_t(seen.frame)]) {
                Places& own = places[is0 ? 0 : 1][seen.frame];
                own.x.push_back(seen.plate.x() / all.width);
                own.y.push_back(seen.plate.y() / all.height);
            }
    }
    for (const std::size_t i : {0UL, 1UL}) {
        Sides::Side& side = i == 0 ? sides.first : sides.second;
        side.share /= std::max(1.0, told);
        std::vector<double> extents;
        for (auto& [frame, own] : places[i])
            if (own.x.size() >= kFewestInFrame) extents.push_back(extentOf(std::move(own.x), std::move(own.y)));
        if (!extents.empty()) side.extent = median(std::move(extents));
    }
    return sides;
}

std::size_t partsCovered(const Material& material, const std::vector<int>& trails) {
    std::set<std::pair<int, int>> parts;
    for (const int trail : trails)
        for (const Seen& seen : material.trails[std::size_t(trail)].seen)
            parts.insert({seen.frame, partOf(seen, material)});
    return parts.size();
}

}  // namespace pinion::solving
