#include "comp/insertion.h"

#include <Eigen/Geometry>
#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Matrix3d;
using Eigen::Vector2d;

constexpr int kMostInstants = 64;
constexpr int kStripes = 24;        // of art that is bent round a cylinder
constexpr int kMostFields = 32;     // of bent art, across or down
constexpr int kOutlinePieces = 16;  // of a bent side

const Quad kUnit{Vector2d(0, 0), {1, 0}, {1, 1}, {0, 1}};

Vector2d through(const Matrix3d& matrix, const Vector2d& place) { return (matrix * place.homogeneous()).hnormalized(); }

/// The frames of a clip that are used, in order.
FrameRange usedOf(const ClipTime& time, const Clip& clip) {
    const int first = std::clamp(time.in.value_or(clip.frames.first), clip.frames.first, clip.frames.last);
    return {first, std::clamp(time.out.value_or(clip.frames.last), first, clip.frames.last)};
}

}  // namespace

std::optional<int> clipFrameAt(const ClipTime& time, const Clip& clip, int frame, FrameRate plateRate) {
    if (clip.still) return clip.frames.first;
    const FrameRange used = usedOf(time, clip);
    const double rate = time.ownRate ? clip.fps.perSecond() / plateRate.perSecond() : 1;
    auto step = int(std::floor((frame - time.start) * rate + 1e-6));
    if (time.after == ClipTime::After::loop) {
        step %= used.count();
        return used.first + (step < 0 ? step + used.count() : step);
    }
    if (step < 0) return std::nullopt;
    if (step < used.count()) return used.first + step;
    return time.after == ClipTime::After::hold ? std::optional(used.last) : std::nullopt;
}

int shownFrames(const ClipTime& time, const Clip& clip, FrameRate plateRate) {
    const double rate = time.ownRate ? clip.fps.perSecond() / plateRate.perSecond() : 1;
    return int(std::ceil(usedOf(time, clip).count() / rate - 1e-6));
}

double opacityAt(const Insert& insert, int frame) {
    if (insert.frames && !insert.frames->holds(frame)) return 0;
    if (!isThere(insert.turns.vector(), frame)) return 0;
    const auto& keys = insert.opacityKeys;
    if (keys.isEmpty()) return insert.look.opacity;
    if (frame <= keys.front().frame) return keys.front().opacity;
    for (std::size_t i = 1; i < keys.size(); ++i)
        if (frame < keys[i].frame) {
            const double part = double(frame - keys[i - 1].frame) / (keys[i].frame - keys[i - 1].frame);
            return keys[i - 1].opacity + part * (keys[i].opacity - keys[i - 1].opacity);
        }
    return keys.back().opacity;
}

Quad placedInside(const Placing& placing, double widthToHeight) {
    const Eigen::Rotation2Dd turn(placing.turn_deg * std::numbers::pi / 180);
    Quad quad;
    for (std::size_t i = 0; i < 4; ++i) {
        // Turned in a metric in which the carrier's height is one.
        Vector2d from = (kUnit[i] - Vector2d(0.5, 0.5)).cwiseProduct(placing.scale);
        from.x() *= widthToHeight;
        Vector2d turned = turn * from;
        turned.x() /= widthToHeight;
        quad[i] = placing.centre + turned + placing.trims[i];
    }
    return quad;
}

Placing fitted(Fitting fitting, double art, double carrier) {
    Placing placing;
    if (fitting == Fitting::corners) return placing;
    const bool isWider = art > carrier;
    if (isWider == (fitting == Fitting::inside)) placing.scale.y() = carrier / art;
    else placing.scale.x() = art / carrier;
    return placing;
}

// ---- the carrier

namespace {

/// Width to height as seen on a screen.
double ratioOf(const Quad& quad, double pixelAspect) {
    const auto length = [&](std::size_t a, std::size_t b) { return (quad[a] - quad[b]).norm(); };
    return pixelAspect * (length(0, 1) + length(3, 2)) / std::max(1e-9, length(0, 3) + length(1, 2));
}

/// What carries it, by its own surface if it has one.
std::shared_ptr<const Carrier> surfaceFor(const Insert& insert, const Carriers& carriers) {
    auto carrier = insert.ride && !insert.wholeFrame ? carriers.of(*insert.ride) : nullptr;
    return carrier && carrier->hasSurface() ? carrier : nullptr;
}

}  // namespace

double carrierRatio(const Insert& insert, const Carriers& carriers, double pixelAspect) {
    if (const auto carrier = surfaceFor(insert, carriers))
        if (const auto ratio = carrier->surfaceRatio()) return pixelAspect * *ratio;
    return ratioOf(insert.carrier, pixelAspect);
}

InsertSurface::InsertSurface(const Insert& insert, const Carriers& carriers, double pixelAspect)
    : quad_(insert.carrier), widthToHeight_(carrierRatio(insert, carriers, pixelAspect)) {
    if (!insert.ride) return;
    carrier_ = carriers.of(*insert.ride);
    range_ = carrier_->range();
    onOwn_ = carrier_->hasSurface() && !insert.wholeFrame;
    if (onOwn_) {
        missing_ = carrier_->surfaceMissing();
        if (int(missing_.size()) == range_.count()) problem_ = "what it is on is on none of the frames";
        return;
    }
    missing_ = carrier_->missing();
    problem_ = carrier_->problem();
    // On a surface that is gone: nobody knows where in the frame it lay.
    if (problem_.empty() && insert.onSurface && !insert.wholeFrame)
        problem_ = "what it is on has no surface any more; place its four corners, or pin it to something else";
    isGone_ = !problem_.empty();
    bends_ = !insert.wholeFrame;
}

InsertSurface::InsertSurface(std::vector<PlaneTie> corners, PlaneLens lens, double pixelAspect)
    : corners_(std::move(corners)), lens_(std::move(lens)), quad_(kUnit) {
    if (corners_->empty()) return;
    widthToHeight_ = ratioOf(corners_->front().corners, pixelAspect);
    range_ = {corners_->front().frame, corners_->back().frame};
    for (int frame = range_.first; frame <= range_.last; ++frame)
        if (!at(frame)) missing_.push_back(frame);
}

std::optional<int> InsertSurface::nearestTo(int frame) const {
    if (isGone_) return std::nullopt;
    if (at(frame)) return frame;
    const auto isThere = [&](int one) {
        return range_.holds(one) && !std::binary_search(missing_.begin(), missing_.end(), one);
    };
    if (int(missing_.size()) < range_.count())
        for (int away = 0; away <= range_.count() + std::abs(frame - range_.first); ++away)
            for (const int one : {frame - away, frame + away})
                if (isThere(one)) return one;
    // Beside the range it may be there too.
    std::vector<int> frames;
    if (onOwn_) frames = carrier_->surfaceFrames();
    else if (carrier_)
        for (const FrameMotion& one : carrier_->motion().frames) frames.push_back(one.frame);
    std::stable_sort(frames.begin(), frames.end(),
                     [&](int a, int b) { return std::abs(a - frame) < std::abs(b - frame); });
    const auto found = std::find_if(frames.begin(), frames.end(), [&](int one) { return at(one).has_value(); });
    return found == frames.end() ? std::nullopt : std::optional(*found);
}

int InsertSurface::away(int frame) const {
    const auto nearest = nearestTo(frame);
    return nearest ? std::abs(*nearest - frame) : 0;
}

std::optional<Quad> InsertSurface::at(int frame, bool nearest) const {
    if (isGone_) return std::nullopt;
    if (nearest) frame = nearestTo(frame).value_or(frame);
    if (onOwn_) return carrier_->cornersOn(frame);
    if (corners_) {
        const auto here = std::lower_bound(corners_->begin(), corners_->end(), frame,
                                           [](const PlaneTie& one, int number) { return one.frame < number; });
        return here != corners_->end() && here->frame == frame ? std::optional(here->corners) : std::nullopt;
    }
    if (!carrier_) return quad_;
    if (std::binary_search(missing_.begin(), missing_.end(), frame)) return std::nullopt;
    const Matrix3d moved = carrier_->plateFromReference(frame);
    Quad quad;
    for (std::size_t i = 0; i < 4; ++i) quad[i] = through(moved, quad_[i]);
    return quad;
}

std::unique_ptr<Sheet> InsertSurface::sheetAt(int frame) const {
    if (onOwn_) return carrier_->surfaceOn(frame);
    const auto quad = at(frame);
    if (!quad) return nullptr;
    const auto sheet = SurfaceSheet::of(*quad, bends_ && carrier_ ? carrier_->lensOn(frame) : lens_);
    return sheet ? std::make_unique<SurfaceSheet>(*sheet) : nullptr;
}

std::optional<Vector2d> InsertSurface::inside(const Vector2d& plate, int frame) const {
    const auto sheet = sheetAt(frame);
    return sheet ? sheet->onSheet(plate) : std::nullopt;
}

std::optional<Vector2d> InsertSurface::onPlate(const Vector2d& place, int frame) const {
    const auto sheet = sheetAt(frame);
    return sheet ? std::optional(sheet->onPlate(place)) : std::nullopt;
}

// ---- how the art lies

namespace {

/// Into how many fields art is cut, so that a homography fits each.
struct Fields {
    int across = 1, down = 1;
};

/// Art as it lies on one frame.
class Laid {
public:
    Laid(const Matrix3d& carrierFromArt, std::shared_ptr<const Sheet> sheet)
        : carrierFromArt_(carrierFromArt), sheet_(std::move(sheet)) {}

    /// Where a place of the art, (0, 0) to (1, 1), is seen.
    Vector2d onPlate(const Vector2d& art) const { return sheet_->onPlate(through(carrierFromArt_, art)); }
    bool faces(const Vector2d& art) const { return sheet_->faces(through(carrierFromArt_, art)); }
    bool isFlat() const { return sheet_->isFlat(); }
    Quad corners() const { return {onPlate(kUnit[0]), onPlate(kUnit[1]), onPlate(kUnit[2]), onPlate(kUnit[3])}; }

    Fields fields(double bend_px) const {
        if (isFlat()) return {};
        Fields fields{sheet_->isCurved() ? kStripes : fieldsAlong(0, bend_px), fieldsAlong(1, bend_px)};
        // Both ways at once it may bend by more.
        const double most = sheet_->isCurved() ? 0 : worstOf(fields);
        if (most > 2 * bend_px) {
            const double finer = std::sqrt(most / bend_px);
            fields.across = std::min(kMostFields, int(std::ceil(finer * fields.across)));
            fields.down = std::min(kMostFields, int(std::ceil(finer * fields.down)));
        }
        return fields;
    }
    std::vector<ArtPiece> pieces(const Fields& fields) const {
        std::vector<ArtPiece> pieces;
        for (int k = 0; k < fields.across; ++k)
            for (int i = 0; i < fields.down; ++i) {
                ArtPiece piece{{},
                               double(k) / fields.across,
                               double(k + 1) / fields.across,
                               double(i) / fields.down,
                               double(i + 1) / fields.down};
                piece.corners = {onPlate({piece.left, piece.top}), onPlate({piece.right, piece.top}),
                                 onPlate({piece.right, piece.bottom}), onPlate({piece.left, piece.bottom})};
                pieces.push_back(piece);
            }
        return pieces;
    }
    bool faces(const ArtPiece& piece) const { return faces({piece.left, 0.5}) && faces({piece.right, 0.5}); }

private:
    /// What homographies miss in the middles of fields: of those in the corners, along the sides and in the middle.
    double worstOf(const Fields& fields) const {
        double worst = 0;
        for (const double x : {0.0, 0.5, 1.0})
            for (const double y : {0.0, 0.5, 1.0}) {
                const int column = std::min(int(x * fields.across), fields.across - 1),
                          row = std::min(int(y * fields.down), fields.down - 1);
                const Vector2d low(double(column) / fields.across, double(row) / fields.down),
                    high(double(column + 1) / fields.across, double(row + 1) / fields.down);
                const Quad part{low, {high.x(), low.y()}, high, {low.x(), high.y()}};
                Quad seen;
                for (std::size_t i = 0; i < 4; ++i) seen[i] = onPlate(part[i]);
                const auto flat = quadFromQuad(seen, part);
                const Vector2d middle = 0.5 * (low + high);
                if (flat) worst = std::max(worst, (onPlate(middle) - through(*flat, middle)).norm());
            }
        return worst;
    }
    int fieldsAlong(int axis, double bend_px) const {
        const auto flat = quadFromQuad(corners(), kUnit);
        double bend = 0;
        for (const double beside : {0.0, 1.0})
            for (const double along : {0.25, 0.5, 0.75}) {
                const Vector2d place = axis == 0 ? Vector2d(along, beside) : Vector2d(beside, along);
                if (flat) bend = std::max(bend, (onPlate(place) - through(*flat, place)).norm());
            }
        // A half as wide is bent by a quarter.
        return std::clamp(int(std::ceil(std::sqrt(std::min(1e4, bend) / bend_px))), 1, kMostFields);
    }

    Matrix3d carrierFromArt_;
    std::shared_ptr<const Sheet> sheet_;
};

std::optional<Laid> laidOn(std::shared_ptr<const Sheet> sheet, const Quad& inside) {
    const auto carrierFromArt = quadFromQuad(inside, kUnit);
    return sheet && carrierFromArt ? std::optional(Laid(*carrierFromArt, std::move(sheet))) : std::nullopt;
}

}  // namespace

std::vector<ArtPiece> piecesOf(const SurfaceSheet& sheet, double bend_px) {
    const Laid laid(Matrix3d::Identity(), std::make_shared<const SurfaceSheet>(sheet));
    std::vector<ArtPiece> pieces = laid.pieces(laid.fields(bend_px));
    std::erase_if(pieces, [&](const ArtPiece& piece) { return !laid.faces(piece); });
    return pieces;
}

std::optional<Quad> InsertSurface::corners(const Placing& placing, int frame, bool nearest) const {
    if (nearest) frame = nearestTo(frame).value_or(frame);
    const auto laid = laidOn(sheetAt(frame), placedInside(placing, widthToHeight_));
    return laid ? std::optional(laid->corners()) : std::nullopt;
}

Polygon InsertSurface::outline(const Placing& placing, int frame, bool nearest) const {
    if (nearest) frame = nearestTo(frame).value_or(frame);
    const auto laid = laidOn(sheetAt(frame), placedInside(placing, widthToHeight_));
    Polygon outline;
    if (!laid) return outline;
    const int pieces = laid->isFlat() ? 1 : kOutlinePieces;
    for (std::size_t side = 0; side < 4; ++side)
        for (int i = 0; i < pieces; ++i)
            outline.push_back(laid->onPlate(kUnit[side] + double(i) / pieces * (kUnit[(side + 1) % 4] - kUnit[side])));
    return outline;
}

std::vector<std::vector<ArtPiece>> InsertSurface::pieces(const Placing& placing, int frame, double shutter,
                                                         bool nearest, double bend_px) const {
    if (nearest) {
        const int there = nearestTo(frame).value_or(frame);
        if (there != frame) shutter = 0;  // it holds
        frame = there;
    }
    const Quad inside = placedInside(placing, widthToHeight_);
    const auto laid = laidOn(sheetAt(frame), inside);
    if (!laid) return {};
    const Fields fields = laid->fields(bend_px);
    const std::vector<ArtPiece> here = laid->pieces(fields);
    std::vector<std::vector<ArtPiece>> beside(5);  // of the frames from two before to two after
    if (shutter > 0)
        for (int step = -2; step <= 2; ++step)
            if (const auto then = laidOn(sheetAt(frame + step), inside))
                beside[std::size_t(step + 2)] = then->pieces(fields);
    std::vector<double> instants{0};
    const auto pieceAt = [&](std::size_t k) {
        return [&beside, frame, k](int one) -> std::optional<Quad> {
            const auto& pieces = beside[std::size_t(std::clamp(one - frame + 2, 0, 4))];
            return k < pieces.size() ? std::optional(pieces[k].corners) : std::nullopt;
        };
    };
    if (shutter > 0) instants = shutterInstants(pieceAt(here.size() / 2), frame, shutter);
    std::vector<std::vector<ArtPiece>> result;
    for (const double part : instants) {
        std::vector<ArtPiece> pieces;
        for (std::size_t k = 0; k < here.size(); ++k) {
            if (!laid->faces(here[k])) continue;
            ArtPiece piece = here[k];
            if (shutter > 0) piece.corners = cornersBetween(pieceAt(k), frame, part);
            pieces.push_back(piece);
        }
        result.push_back(std::move(pieces));
    }
    return result;
}

Quad cornersBetween(const std::function<std::optional<Quad>(int frame)>& at, int frame, double part) {
    const Quad here = at(frame).value_or(kUnit);
    const auto known = [&](int step) -> Quad {
        if (const auto there = at(frame + step)) return *there;
        const auto back = at(frame - step);
        Quad mirrored = here;
        for (std::size_t i = 0; back && i < 4; ++i) mirrored[i] = 2 * here[i] - (*back)[i];
        return mirrored;
    };
    const int from = part < 0 ? -1 : 0;
    const double t = part - from;
    const Quad a = known(from - 1), b = from == 0 ? here : known(-1), c = from == 0 ? known(1) : here,
               d = known(from + 2);
    Quad quad;
    for (std::size_t i = 0; i < 4; ++i)
        quad[i] = 0.5 * (2 * b[i] + t * (c[i] - a[i]) + t * t * (2 * a[i] - 5 * b[i] + 4 * c[i] - d[i]) +
                         t * t * t * (3 * b[i] - a[i] - 3 * c[i] + d[i]));
    return quad;
}

std::vector<double> shutterInstants(const std::function<std::optional<Quad>(int frame)>& at, int frame,
                                    double shutter) {
    if (!(shutter > 0) || !at(frame)) return {0};
    const Quad first = cornersBetween(at, frame, -0.5 * shutter), last = cornersBetween(at, frame, 0.5 * shutter);
    double reach = 0;
    for (std::size_t i = 0; i < 4; ++i) reach = std::max(reach, (last[i] - first[i]).norm());
    const int steps = std::clamp(int(std::ceil(1.5 * reach)), 1, kMostInstants);
    std::vector<double> instants;
    for (int k = 0; k < steps; ++k) instants.push_back(shutter * ((k + 0.5) / steps - 0.5));
    return instants;
}

}  // namespace pinion
