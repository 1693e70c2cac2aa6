#include "matte/matte.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <limits>
#include <utility>

namespace pinion {
namespace {

using Eigen::Vector2d;

/// The slopes of a cubic through the keys at one of them (Catmull and Rom 1974, for uneven frames).
Vector2d slopeAt(const std::vector<Matte::Key>& keys, std::size_t i, const auto& pointOf) {
    const std::size_t before = i > 0 ? i - 1 : i, after = i + 1 < keys.size() ? i + 1 : i;
    const double frames = keys[after].frame - keys[before].frame;
    return frames > 0 ? Vector2d((pointOf(keys[after]) - pointOf(keys[before])) / frames) : Vector2d(0, 0);
}

Vector2d between(const Matte& matte, std::size_t before, double frame, const auto& pointOf) {
    const auto& keys = matte.keys;
    const Vector2d from = pointOf(keys[before]), to = pointOf(keys[before + 1]);
    const double frames = keys[before + 1].frame - keys[before].frame;
    const double t = (frame - keys[before].frame) / frames;
    if (matte.between == Matte::Between::linear) return from + t * (to - from);
    const Vector2d leaving = frames * slopeAt(keys, before, pointOf),
                   arriving = frames * slopeAt(keys, before + 1, pointOf);
    const double t2 = t * t, t3 = t2 * t;
    return (2 * t3 - 3 * t2 + 1) * from + (t3 - 2 * t2 + t) * leaving + (3 * t2 - 2 * t3) * to + (t3 - t2) * arriving;
}

Vector2d tangentOf(const Polygon& tangents, std::size_t i) {
    return i < tangents.size() ? tangents[i] : Vector2d(0, 0);
}

double between(const Matte& matte, std::size_t before, double frame, std::size_t point) {
    const auto featherOf = [point](const Matte::Key& key) {
        return Vector2d(point < key.feather.size() ? key.feather[point] : 0.0, 0);
    };
    return between(matte, before, frame, featherOf).x();
}

/// Which side of the line from `a` to `b` a place is on.
double side(const Vector2d& a, const Vector2d& b, const Vector2d& p) {
    return (b.x() - a.x()) * (p.y() - a.y()) - (b.y() - a.y()) * (p.x() - a.x());
}

}  // namespace

bool isThere(std::span<const Matte::Turn> turns, int frame) {
    bool there = true;
    for (const Matte::Turn& turn : turns)
        if (turn.frame <= frame) there = turn.there;
    return there;
}

bool isThere(const Matte& matte, int frame) { return isThere(matte.turns, frame); }

void setThere(std::vector<Matte::Turn>& turns, int frame, bool there) {
    std::erase_if(turns, [&](const Matte::Turn& turn) { return turn.frame == frame; });
    if (isThere(turns, frame) != there) turns.push_back({frame, there});
    std::sort(turns.begin(), turns.end(), [](const auto& a, const auto& b) { return a.frame < b.frame; });
    // A turn to what it is already says nothing.
    bool before = true;
    std::erase_if(turns, [&](const Matte::Turn& turn) { return turn.there == std::exchange(before, turn.there); });
}

const Matte::Key* keyAt(const Matte& matte, int frame) {
    for (const Matte::Key& key : matte.keys)
        if (key.frame == frame) return &key;
    return nullptr;
}

std::optional<Matte::Key> shapeAt(const Matte& matte, int frame) {
    if (matte.keys.empty()) return std::nullopt;
    const auto after =
        std::find_if(matte.keys.begin(), matte.keys.end(), [&](const Matte::Key& key) { return key.frame >= frame; });
    Matte::Key shape = after == matte.keys.end() ? matte.keys.back() : *after;
    const bool isBetween = after != matte.keys.end() && after != matte.keys.begin() && after->frame != frame;
    shape.frame = frame;
    // Of a matte that is curved on any key the others have tangents of no length.
    const bool isCurved = std::any_of(matte.keys.begin(), matte.keys.end(),
                                      [](const Matte::Key& key) { return !key.in.empty() || !key.out.empty(); });
    if (!isBetween) {
        if (isCurved) shape.in.resize(shape.polygon.size(), Vector2d(0, 0));
        if (isCurved) shape.out.resize(shape.polygon.size(), Vector2d(0, 0));
        return shape;
    }
    const auto before = std::size_t(after - matte.keys.begin() - 1);
    shape.in.clear();
    shape.out.clear();
    const bool isFaded =
        std::any_of(matte.keys.begin(), matte.keys.end(), [](const Matte::Key& key) { return !key.feather.empty(); });
    if (isFaded) shape.feather.assign(shape.polygon.size(), 0.0);
    for (std::size_t i = 0; i < shape.polygon.size(); ++i) {
        shape.polygon[i] = between(matte, before, frame, [i](const Matte::Key& key) { return key.polygon[i]; });
        if (isFaded) shape.feather[i] = between(matte, before, frame, i);
        if (!isCurved) continue;
        shape.in.push_back(between(matte, before, frame, [i](const Matte::Key& key) { return tangentOf(key.in, i); }));
        shape.out.push_back(
            between(matte, before, frame, [i](const Matte::Key& key) { return tangentOf(key.out, i); }));
    }
    return shape;
}

Polygon flattened(const Matte::Key& shape) {
    if (shape.in.empty() && shape.out.empty()) return shape.polygon;
    Polygon outline;
    const std::size_t count = shape.polygon.size();
    for (std::size_t i = 0; i < count; ++i) {
        const std::size_t next = (i + 1) % count;
        const Vector2d &a = shape.polygon[i], &d = shape.polygon[next];
        const Vector2d leaving = tangentOf(shape.out, i), arriving = tangentOf(shape.in, next);
        for (int k = 0; k < kCurvePieces; ++k) {
            const double t = double(k) / kCurvePieces, u = 1 - t;
            outline.push_back(u * u * u * a + 3 * u * u * t * (a + leaving) + 3 * u * t * t * (d + arriving) +
                              t * t * t * d);
        }
    }
    return outline;
}

std::vector<double> flattenedFeather(const Matte::Key& shape) {
    if (std::all_of(shape.feather.begin(), shape.feather.end(), [](double one) { return one == 0; })) return {};
    if (shape.in.empty() && shape.out.empty()) return shape.feather;
    std::vector<double> feather;
    for (std::size_t i = 0; i < shape.feather.size(); ++i) {
        const double from = shape.feather[i], to = shape.feather[(i + 1) % shape.feather.size()];
        for (int k = 0; k < kCurvePieces; ++k) feather.push_back(from + (to - from) * k / kCurvePieces);
    }
    return feather;
}

Matte::Key carried(const Eigen::Matrix3d& matrix, Matte::Key shape) {
    const auto at = [&](const Vector2d& p) -> Vector2d { return (matrix * p.homogeneous()).hnormalized(); };
    const Polygon before = shape.polygon;
    for (Vector2d& p : shape.polygon) p = at(p);
    for (Polygon* tangents : {&shape.in, &shape.out})
        for (std::size_t i = 0; i < tangents->size(); ++i)
            (*tangents)[i] = at(before[i] + (*tangents)[i]) - shape.polygon[i];
    return shape;
}

Matte::Key withPointAt(Matte::Key shape, std::size_t point, double t) {
    const std::size_t next = (point + 1) % shape.polygon.size();
    const auto inserted = std::ptrdiff_t(point) + 1;
    if (!shape.feather.empty())
        shape.feather.insert(shape.feather.begin() + inserted,
                             shape.feather[point] + t * (shape.feather[next] - shape.feather[point]));
    const Vector2d a = shape.polygon[point], d = shape.polygon[next];
    if (shape.in.empty() && shape.out.empty()) {
        shape.polygon.insert(shape.polygon.begin() + inserted, a + t * (d - a));
        return shape;
    }
    shape.in.resize(shape.polygon.size(), Vector2d(0, 0));
    shape.out.resize(shape.polygon.size(), Vector2d(0, 0));
    // A straight edge stays one, and the point on it is a corner.
    if (shape.out[point].isZero() && shape.in[next].isZero()) {
        shape.polygon.insert(shape.polygon.begin() + inserted, a + t * t * (3 - 2 * t) * (d - a));
        shape.in.insert(shape.in.begin() + inserted, Vector2d(0, 0));
        shape.out.insert(shape.out.begin() + inserted, Vector2d(0, 0));
        return shape;
    }
    const auto mix = [t](const Vector2d& p, const Vector2d& q) -> Vector2d { return p + t * (q - p); };
    const Vector2d b = a + shape.out[point], c = d + shape.in[next];
    const Vector2d ab = mix(a, b), bc = mix(b, c), cd = mix(c, d), abc = mix(ab, bc), bcd = mix(bc, cd);
    const Vector2d middle = mix(abc, bcd);
    shape.out[point] = ab - a;
    shape.in[next] = cd - d;
    shape.polygon.insert(shape.polygon.begin() + inserted, middle);
    shape.in.insert(shape.in.begin() + inserted, abc - middle);
    shape.out.insert(shape.out.begin() + inserted, bcd - middle);
    return shape;
}

double areaOf(const Polygon& polygon) {
    double twice = 0;
    for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++)
        twice += polygon[j].x() * polygon[i].y() - polygon[i].x() * polygon[j].y();
    return std::abs(twice) / 2;
}

bool crossesItself(const Polygon& polygon) {
    const std::size_t count = polygon.size();
    for (std::size_t i = 0; i < count; ++i)
        for (std::size_t k = i + 2; k < count; ++k) {
            if (i == 0 && k + 1 == count) continue;  // neighbours
            const Vector2d &a = polygon[i], &b = polygon[(i + 1) % count], &c = polygon[k],
                           &d = polygon[(k + 1) % count];
            if (side(a, b, c) * side(a, b, d) < 0 && side(c, d, a) * side(c, d, b) < 0) return true;
        }
    return false;
}

Polygon outlineAt(const Matte& matte, int frame) {
    const auto shape = shapeAt(matte, frame);
    return shape ? flattened(*shape) : Polygon{};
}

bool contains(const Polygon& polygon, const Vector2d& point) {
    bool inside = false;
    for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++) {
        const auto& a = polygon[i];
        const auto& b = polygon[j];
        if ((a.y() > point.y()) != (b.y() > point.y()) &&
            point.x() < (b.x() - a.x()) * (point.y() - a.y()) / (b.y() - a.y()) + a.x())
            inside = !inside;
    }
    return inside;
}

double depthIn(const Polygon& polygon, const Vector2d& point) {
    double nearest = std::numeric_limits<double>::infinity();
    for (std::size_t i = 0, j = polygon.size() - 1; i < polygon.size(); j = i++) {
        const Vector2d along = polygon[i] - polygon[j], to = point - polygon[j];
        const double length2 = along.squaredNorm();
        const double share = length2 > 0 ? std::clamp(to.dot(along) / length2, 0.0, 1.0) : 0.0;
        nearest = std::min(nearest, (to - share * along).squaredNorm());
    }
    return (contains(polygon, point) ? 1 : -1) * std::sqrt(nearest);
}

ExcludedArea::ExcludedArea(std::span<const Matte> mattes, int frame) {
    for (const Matte& matte : mattes) {
        // One of its mode that is not there still says that only what is admitted counts.
        const bool there = isThere(matte, frame);
        if (!there && (matte.mode == Matte::Mode::exclude || matte.op != Matte::Op::add)) continue;
        shapes_.push_back({there ? outlineAt(matte, frame) : Polygon{}, matte.mode, matte.op, matte.invert && there,
                           matte.grow_px, matte.pictures && there ? matte.pictures->at(frame) : nullptr});
    }
}

bool ExcludedArea::holds(const Vector2d& point) const {
    bool anyInclude = false, included = false, excluded = false;
    for (const Shape& shape : shapes_) {
        bool inside = shape.grow_px == 0 ? contains(shape.outline, point)
                                         : !shape.outline.empty() && depthIn(shape.outline, point) > -shape.grow_px;
        if (shape.picture) {
            const int x = int(std::floor(point.x())), y = int(std::floor(point.y()));
            inside = x >= 0 && y >= 0 && x < shape.picture->width && y < shape.picture->height &&
                     shape.picture->row(y)[x] > 0.5F;
        }
        if (shape.invert) inside = !inside;
        const bool includes = shape.mode == Matte::Mode::include;
        anyInclude = anyInclude || includes;
        bool& covered = includes ? included : excluded;
        covered = shape.op == Matte::Op::add        ? covered || inside
                  : shape.op == Matte::Op::subtract ? covered && !inside
                                                    : covered && inside;
    }
    return excluded || (anyInclude && !included);
}

bool isExcluded(std::span<const Matte> mattes, int frame, const Vector2d& point) {
    return ExcludedArea(mattes, frame).holds(point);
}

}  // namespace pinion
