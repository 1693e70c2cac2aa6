#include "render/scenerender.h"

#include "base/parallel.h"
#include "comp/insertion.h"
#include "comp/layersource.h"
#include "render/meshfile.h"
#include "render/rays.h"
#include "render/skylight.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace pinion {

using Eigen::Array3f;
using Eigen::Array4f;
using Eigen::Vector2d;
using Eigen::Vector3d;
using Eigen::Vector3f;

namespace {

constexpr int kTile = 16;           // pixels a side: what is rendered or left as a whole
constexpr float kNearest = 0.02F;   // of the world's unit, before the camera
constexpr int kMostThrough = 12;    // surfaces behind one another, where they are not opaque
constexpr float kClear = 0.002F;    // alpha below which nothing is there
constexpr double kFarthest = 2000;  // that a shadow is followed over the ground

/// The places where something is seen; everything once one of its points has no place.
struct SeenPlaces {
    std::vector<Vector2d> all;
    bool isAll = false;
    double bend = 0;  ///< pixels: how far a place lies off the line between those before and behind it on its edge

    /// An edge in pieces: a lens, or the rows, bend it.
    void add(const std::vector<std::optional<Vector2d>>& edge) {
        for (std::size_t i = 0; i < edge.size(); ++i) {
            if (!edge[i]) {
                isAll = true;
                return;
            }
            all.push_back(*edge[i]);
            if (i < 2) continue;
            const Vector2d chord = *edge[i] - *edge[i - 2], off = *edge[i - 1] - *edge[i - 2];
            const double length = chord.norm();
            bend = std::max(bend, length > 0 ? std::abs(chord.x() * off.y() - chord.y() * off.x()) / length : 0);
        }
    }
};

/// A part of the picture that something may touch: the pixels of a convex outline, within a box.
struct Part {
    enum Of : unsigned { body = 1, sunShadow = 2, skyShadow = 4 } of = body;
    PixelBox box;
    std::vector<Vector2d> outline;  ///< clockwise as seen, y down; empty: the whole box
    double margin = 0;              ///< pixels about the outline
};

/// The convex hull (Andrew 1979), clockwise as seen.
std::vector<Vector2d> hullOf(std::vector<Vector2d> places) {
    std::sort(places.begin(), places.end(),
              [](const Vector2d& a, const Vector2d& b) { return a.x() != b.x() ? a.x() < b.x() : a.y() < b.y(); });
    std::vector<Vector2d> hull;
    const auto turns = [&](const Vector2d& next) {
        const Vector2d &a = hull[hull.size() - 2], &b = hull.back();
        return (b.x() - a.x()) * (next.y() - a.y()) - (b.y() - a.y()) * (next.x() - a.x()) > 0;
    };
    for (int side = 0; side < 2; ++side) {
        const std::size_t start = hull.size();
        for (const Vector2d& next : places) {
            while (hull.size() >= start + 2 && !turns(next)) hull.pop_back();
            hull.push_back(next);
        }
        hull.pop_back();  // the other side begins with it
        std::reverse(places.begin(), places.end());
    }
    return hull;
}

Part partOf(Part::Of of, SeenPlaces seen, const PixelBox& frame) {
    if (seen.isAll) return {of, frame, {}};
    if (seen.all.empty()) return {};
    // Between two places an edge bends by a quarter of what it does at the one between their neighbours.
    const double margin = 2 + seen.bend;
    constexpr double kMost = 1e6;
    Vector2d low = seen.all.front(), high = low;
    for (const Vector2d& at : seen.all) {
        low = low.cwiseMin(at);
        high = high.cwiseMax(at);
    }
    const auto side = [&](double at) { return int(std::floor(std::clamp(at, -kMost, kMost))); };
    const PixelBox box{std::max(frame.x0, side(low.x() - margin)), std::max(frame.y0, side(low.y() - margin)),
                       std::min(frame.x1, side(high.x() + margin) + 1),
                       std::min(frame.y1, side(high.y() + margin) + 1)};
    return {of, box, hullOf(std::move(seen.all)), margin};
}

/// Whether the pixels of `box` may lie in the outline or its margin: not where all lie beyond one side.
bool mayTouch(const Part& part, const PixelBox& box) {
    const PixelBox& own = part.box;
    if (box.x0 >= own.x1 || box.x1 <= own.x0 || box.y0 >= own.y1 || box.y1 <= own.y0) return false;
    if (part.outline.size() < 3) return true;
    for (std::size_t i = 0; i < part.outline.size(); ++i) {
        const Vector2d &a = part.outline[i], &b = part.outline[(i + 1) % part.outline.size()];
        const Vector2d inwards = Vector2d(a.y() - b.y(), b.x() - a.x());
        const Vector2d nearest(inwards.x() > 0 ? box.x1 : box.x0, inwards.y() > 0 ? box.y1 : box.y0);
        if ((nearest - a).dot(inwards) < -part.margin * inwards.norm()) return false;
    }
    return true;
}

bool isEmptyBox(const PixelBox& box) { return box.width() <= 0 || box.height() <= 0; }

/// Adds where the edges of a box are seen.
void addEdges(SeenPlaces& seen, const WorldEye& eye, const std::array<Vector3d, 8>& corners) {
    constexpr int kPieces = 6;
    for (unsigned a = 0; a < 8; ++a)
        for (const unsigned bit : {1U, 2U, 4U}) {
            if ((a & bit) != 0 || seen.isAll) continue;
            std::vector<std::optional<Vector2d>> edge;
            for (int i = 0; i <= kPieces; ++i) {
                const double share = double(i) / kPieces;
                edge.push_back(eye.plateFromWorld((1 - share) * corners[a] + share * corners[a | bit]));
            }
            seen.add(edge);
        }
}

}  // namespace

std::array<Vector3d, 8> boxCorners(StandInKind kind, const Stance& stance) {
    const Eigen::Affine3d world = stance.worldFromUnit();
    const double depth = isUprightSheet(kind) ? 0 : 0.5, height = kind == StandInKind::grid ? 0 : 1;
    std::array<Vector3d, 8> corners;
    for (unsigned i = 0; i < 8; ++i)
        corners[i] =
            world * Vector3d((i & 1U) != 0 ? 0.5 : -0.5, (i & 2U) != 0 ? height : 0, (i & 4U) != 0 ? depth : -depth);
    return corners;
}

std::optional<Vector3d> onLevel(const WorldRay& ray, double height) {
    const double distance = (height - ray.from.y()) / ray.along.y();
    if (!std::isfinite(distance) || distance <= kNearest) return std::nullopt;
    return ray.from + distance * ray.along;
}

SceneRenderer::SceneRenderer(SceneLook look) : look_(std::move(look)) {
    for (const StandIn& one : look_.standIns) {
        skins_.emplace_back();
        if (one.kind == StandInKind::mesh && !one.hidden) {
            // Shape and pictures of one reading: the file may be replaced meanwhile.
            const auto file = readMesh(one.file);
            shapes_.push_back(file ? file->mesh : nullptr);
            if (file) skins_.back() = file->skins;
        } else {
            shapes_.push_back(one.hidden ? nullptr : shapeOf(one));
        }
        clips_.emplace_back();
        if (!one.hidden && one.showsPictures()) clips_.back() = cardClipOf(one.file);
        const Vector3d size = one.stance.size;
        switch (one.kind) {
            case StandInKind::board:
                pictures_.push_back(boardPicture(size.y() > 0 ? size.x() / size.y() : 1));
                break;
            case StandInKind::grid:
                pictures_.push_back(gridPicture(size.x(), size.z(), one.colour));
                break;
            case StandInKind::text:
                pictures_.push_back(textPicture(one.words, size.y() > 0 ? size.x() / size.y() : 1, one.colour));
                break;
            default:
                pictures_.push_back(nullptr);
        }
    }
}

std::vector<std::string> SceneRenderer::troubles() const {
    std::vector<std::string> words;
    if (look_.sun.towards.y() <= 0 && look_.sun.strength > 0)
        words.emplace_back("the sun is below the horizon: nothing casts a shadow on the ground");
    for (std::size_t i = 0; i < look_.standIns.size(); ++i) {
        const StandIn& one = look_.standIns[i];
        const auto mesh = !one.hidden && one.kind == StandInKind::mesh ? readMesh(one.file) : MeshFile{};
        if (mesh) words.insert(words.end(), mesh->problems.begin(), mesh->problems.end());
        if (!mesh) words.push_back(mesh.error().message);
        else if (const auto& clip = clips_[i]; clip && !*clip)
            words.push_back(fmt::format("{}: {}", one.name, clip->error().message));
        else if (clip && (*clip)->alphaIsTaken)
            words.push_back(fmt::format("{}: its alpha is taken as straight", one.name));
        else if (!one.hidden && one.stance.size.minCoeff() <= 0)
            words.push_back(fmt::format("{}: a size of 0 has nothing to see", one.name));
    }
    return words;
}

namespace {

/// What a card shows of its clip then; none: the clip has not begun, or is over.
std::optional<Expected<std::shared_ptr<const SurfacePicture>>> shownBy(const StandIn& one, const Clip& clip,
                                                                       double number, const CardPictures& cards) {
    const auto frame = clipFrameAt(one.card.time, clip, int(std::floor(number + 0.5)), cards.fps);
    if (!frame) return std::nullopt;
    const auto art = cards.shelf->art(clip, *frame, true, one.card.key);
    if (!art) return tl::unexpected(art.error());
    return std::make_shared<const SurfacePicture>(*art);
}

}  // namespace

std::optional<std::shared_ptr<const SurfacePicture>> SceneRenderer::pictureOf(
    std::size_t i, double number, const SceneWish& wish, std::vector<std::string>* problems) const {
    const StandIn& one = look_.standIns[i];
    const auto& clip = clips_[i];
    if (!clip || !wish.shelf) return pictures_[i];
    if (!*clip) {
        noteOnce(problems, fmt::format("{}: {}", one.name, clip->error().message));
        return pictures_[i];
    }
    const auto shown = shownBy(one, (*clip)->clip, number, {wish.shelf, wish.fps});
    if (!shown) return std::nullopt;
    if (*shown) return **shown;
    noteOnce(problems, fmt::format("{}: {}", one.name, shown->error().message));
    return pictures_[i];
}

/// The scene on one frame.
class SceneRenderer::Frame {
public:
    Frame(const SceneRenderer& renderer, const WorldEye& eye, double number, const SceneWish& wish,
          std::vector<std::string>* problems)
        : renderer_(renderer),
          look_(renderer.look_),
          eye_(eye),
          wish_(wish),
          place_(eye.place()),
          forward_(eye.forward()) {
        sun_ = look_.sun.towards.norm() > 0 ? Vector3d(look_.sun.towards.normalized()) : Vector3d(0, 1, 0);
        const Vector3d other = std::abs(sun_.y()) < 0.9 ? Vector3d(0, 1, 0) : Vector3d(1, 0, 0);
        across_ = sun_.cross(other).normalized();
        down_ = sun_.cross(across_);
        disc_ = std::tan(0.5 * std::clamp(look_.sun.softness_deg, 0.0, 90.0) * std::numbers::pi / 180);
        std::vector<RayScene::Body> seen, casting;
        for (std::size_t i = 0; i < look_.standIns.size(); ++i) {
            const StandIn& one = look_.standIns[i];
            const Stance stance = one.at(number, eye.place());
            if (one.hidden || !one.isOn(number) || stance.size.minCoeff() <= 0) continue;
            const RayScene::Body body{renderer.shapes_[i], stance.worldFromUnit()};
            if (!body.mesh) continue;
            const auto shown = renderer.pictureOf(i, number, wish, problems);
            if (!shown) continue;
            const auto& picture = *shown;
            const Eigen::Matrix3d normals = body.worldFromMesh.linear().inverse().transpose();
            const Array3f colour(decodeSrgb(float(one.colour[0])), decodeSrgb(float(one.colour[1])),
                                 decodeSrgb(float(one.colour[2])));
            if (one.opacity > 0 || one.hides || one.catchesOnly) {
                bodies_.push_back({i, body.mesh, body.worldFromMesh, normals, colour, picture});
                seen.push_back(body);
            }
            if (!one.casts || one.kind == StandInKind::grid) continue;
            if (look_.sun.strength < 1 && look_.sun.skyShadow > 0) {
                const std::size_t inSky = sky_.add(one.kind, body.worldFromMesh, one.opacity > 0 ? one.opacity : 1);
                if (!bodies_.empty() && bodies_.back().index == i) bodies_.back().inSky = inSky;
            }
            // What is clear in places lets the sun through there.
            if (picture && (one.showsPictures() || one.kind == StandInKind::text))
                veils_.push_back({body.worldFromMesh.inverse(), picture});
            else casting.push_back(body);
        }
        castsAny_ = !(casting.empty() && veils_.empty()) && look_.sun.strength > 0;
        seen_ = std::make_unique<RayScene>(seen, eye.place());
        casting_ = std::make_unique<RayScene>(casting, eye.place());
        if (eye.isRolling()) {
            const int count = eye.readsColumns() ? eye.lens().width : eye.lens().height;
            for (int i = 0; i <= count; ++i) rows_.push_back(eye.rowAt(double(i) / count - 0.5));
        } else {
            rows_.push_back(eye.rowAt(0));
        }
    }

    SceneFrame rendered(const std::vector<Part>& parts) {
        const PixelBox box = wish_.box;
        SceneFrame result;
        result.layer.box = box;
        const std::size_t count = std::size_t(box.width()) * std::size_t(box.height());
        result.layer.rgba.assign(4 * count, 0.0F);
        if (wish_.passes) {
            result.passes.depth.assign(count, 0.0F);
            result.passes.normal.assign(3 * count, 0.0F);
            result.passes.position.assign(3 * count, 0.0F);
            result.passes.mask.assign(count, 0.0F);
            result.passes.shadow.assign(count, 0.0F);
        }
        // Tiles that anything may touch.
        const int across = (box.width() + kTile - 1) / kTile, down = (box.height() + kTile - 1) / kTile;
        for (int y = 0; y < down; ++y)
            for (int x = 0; x < across; ++x) {
                Tile tile;
                tile.x0 = box.x0 + x * kTile;
                tile.y0 = box.y0 + y * kTile;
                const PixelBox own{tile.x0, tile.y0, tile.x0 + kTile, tile.y0 + kTile};
                for (const Part& part : parts)
                    if ((tile.touched & part.of) == 0 && mayTouch(part, own)) tile.touched |= part.of;
                if (tile.touched != 0) tiles_.push_back(tile);
            }
        if (tiles_.empty()) return result;
        tileAt_.assign(std::size_t(across) * std::size_t(down), -1);
        tilesAcross_ = across;
        for (std::size_t i = 0; i < tiles_.size(); ++i)
            tileAt_[std::size_t((tiles_[i].y0 - box.y0) / kTile) * std::size_t(across) +
                    std::size_t((tiles_[i].x0 - box.x0) / kTile)] = int(i);
        planes_ = renderer_.planes_.of(eye_.lens(), box);
        parallelFor(tiles_.size(), [&](std::size_t i) { meetMiddles(tiles_[i]); });
        parallelFor(tiles_.size(), [&](std::size_t i) { renderTile(tiles_[i], result); });
        return result;
    }

private:
    struct Body {
        std::size_t index;  ///< in the look's list
        std::shared_ptr<const Mesh> mesh;
        Eigen::Affine3d world;
        Eigen::Matrix3d normals;
        Array3f colour;  ///< linear
        std::shared_ptr<const SurfacePicture> picture;
        std::optional<std::size_t> inSky = {};  ///< its number there, where it covers some
    };
    /// An upright sheet with a picture that has an alpha.
    struct Veil {
        Eigen::Affine3d unitFromWorld;
        std::shared_ptr<const SurfacePicture> picture;
    };

    /// What a ray met, enough to tell whether its neighbour met something else.
    struct Met {
        Array4f colour = Array4f::Zero();  ///< premultiplied, in the plate's tones
        float shadow = 0;                  ///< the light that is lost on what only catches it
        std::uint32_t sign = 0;            ///< differs where an edge passes between
        float depth = 0;
        Vector3f normal{0, 0, 0}, position{0, 0, 0};
        float mask = 0;
    };

    struct Tile {
        int x0 = 0, y0 = 0;
        unsigned touched = 0;      ///< by what, of `Part::Of`
        std::vector<Met> middles;  ///< what the middles of its pixels met, rows from the top
    };

    WorldRay rayAt(int x, int y, const Vector2d& inside, bool* isThere) const {
        const Vector2d plane = planes_->at(x, y, inside);
        *isThere = std::isfinite(plane.x());
        return rowFor(x, y).rayThrough(plane);
    }
    const WorldEye::Row& rowFor(int x, int y) const {
        if (rows_.size() == 1) return rows_.front();
        const int at = eye_.readsColumns() ? x : y;
        return rows_[std::size_t(std::clamp(at, 0, int(rows_.size()) - 1))];
    }

    /// How much of the sun a place sees: by one ray to a place of its disc, or by several at its rim and middle.
    float sunAt(const Vector3d& place, const Vector3d& normal, double distance, int sample, int samples,
                bool* isPartial) const {
        if (!castsAny_) return 1;
        const auto nearest = float(1e-4 * (1 + distance));
        const Vector3d from = place + 0.5 * double(nearest) * normal;
        const auto towards = [&](double x, double y) -> Vector3d {
            return (sun_ + disc_ * (x * across_ + y * down_)).normalized();
        };
        const auto seen = [&](const Vector3d& along) {
            return casting_->isBlocked(from, along, nearest) ? 0.0F : throughVeils(from, along, double(nearest));
        };
        if (samples > 1 && disc_ > 0) {
            // Another order than that of the pixel's places, else the disc and the pixel would go together.
            const Vector2d at = spreadInPixel((sample * 37 + 11) % samples, samples);
            const double radius = std::sqrt(at.y()), angle = 2 * std::numbers::pi * at.x();
            return seen(towards(radius * std::cos(angle), radius * std::sin(angle)));
        }
        constexpr float kAlike = 1.0F / 128;
        const float first = seen(sun_);
        if (disc_ > 0)
            for (const auto& [x, y] : {std::pair{1.0, 0.0}, {-0.5, 0.866}, {-0.5, -0.866}})
                if (std::abs(seen(towards(x, y)) - first) > kAlike) {
                    *isPartial = true;
                    return 0.5F;
                }
        return first;
    }

    /// The light that comes through the clear parts of pictures.
    float throughVeils(const Vector3d& from, const Vector3d& along, double nearest) const {
        float light = 1;
        for (const Veil& veil : veils_) {
            const Vector3d start = veil.unitFromWorld * from, way = veil.unitFromWorld.linear() * along;
            const double distance = -start.z() / way.z();
            if (!(distance > nearest) || !std::isfinite(distance)) continue;
            const Vector2d at = (start + distance * way).head<2>();
            if (std::abs(at.x()) > 0.5 || at.y() < 0 || at.y() > 1) continue;
            light *= 1 - veil.picture->at({at.x() + 0.5, 1 - at.y()}, {0, 0}, {0, 0})[3];
        }
        return light;
    }

    /// The sky's light on what one pixel sees, worked out once for each surface: over a pixel it hardly changes.
    struct SkyMemo {
        std::array<std::pair<std::uint32_t, float>, 4> known;
        std::size_t count = 0;
    };
    /// How much of the sky's light a place has; of a body it may lie on. `surface` names it.
    float skyAt(const Vector3d& place, const Vector3d& normal, std::optional<std::size_t> inSky, std::uint32_t surface,
                SkyMemo& memo) const {
        if (sky_.isEmpty()) return 1;
        for (std::size_t i = 0; i < memo.count; ++i)
            if (memo.known[i].first == surface) return memo.known[i].second;
        const float light = 1 - float(look_.sun.skyShadow) * sky_.at(place, normal, inSky);
        if (memo.count < memo.known.size()) memo.known[memo.count++] = {surface, light};
        return light;
    }

    /// The share of the light that is lost on a surface where so much of the sun and of the sky is seen.
    float lostAt(const Vector3d& normal, float sun, float sky) const {
        const auto strength = float(look_.sun.strength), slope = std::max(0.0F, float(normal.dot(sun_)));
        const float direct = strength * slope, all = direct + (1 - strength);
        return all > 0 ? (direct * (1 - sun) + (1 - strength) * (1 - sky)) / all : 0;
    }

    /// Of a share of light that is lost, the alpha of black over the plate in its own tones.
    float darkening(float lost) const { return wish_.linear || lost == 0 ? lost : 1 - encodeSrgb(1 - lost); }

    /// A linear colour with its alpha in the plate's tones.
    Array4f inTones(Array4f colour) const {
        if (!wish_.linear && colour[3] > 0)
            for (int c = 0; c < 3; ++c) colour[c] = encodeSrgb(colour[c] / colour[3]) * colour[3];
        return colour;
    }

    struct Surface {
        Vector3d place, normal;            ///< towards the ray's source
        bool isFace = true;                ///< it is seen from outside
        Array4f colour = Array4f::Zero();  ///< linear, premultiplied
    };
    Surface surfaceAt(const Body& body, const RayScene::Hit& hit, const WorldRay& ray, const WorldEye::Row& row, int x,
                      int y) const {
        const Mesh& mesh = *body.mesh;
        const Mesh::Triangle& corners = mesh.triangles[hit.triangle];
        const auto mixed = [&](const auto& values) {
            return ((1 - hit.u - hit.v) * values[corners[0]] + hit.u * values[corners[1]] + hit.v * values[corners[2]])
                .eval();
        };
        Surface surface;
        surface.place = ray.from + double(hit.distance) * ray.along;
        const Vector3d flat = body.normals * (mesh.places[corners[1]] - mesh.places[corners[0]])
                                                 .cross(mesh.places[corners[2]] - mesh.places[corners[0]])
                                                 .cast<double>();
        Vector3d normal = mesh.normals.empty() ? flat : body.normals * mixed(mesh.normals).template cast<double>();
        normal.normalize();
        surface.isFace = flat.dot(ray.along) < 0;
        if (!surface.isFace) normal = -normal;
        surface.normal = normal;
        const StandIn& standIn = look_.standIns[body.index];
        const auto opacity = float(std::clamp(standIn.opacity, 0.0, 1.0));
        const std::uint16_t skin = mesh.pictureOf.empty() ? std::uint16_t(0) : mesh.pictureOf[hit.triangle];
        const SurfacePicture* picture =
            skin != 0 ? renderer_.skins_[body.index][std::size_t(skin - 1)].picture.get() : body.picture.get();
        if (picture && !mesh.sheet.empty()) {
            Vector2d at = mixed(mesh.sheet).template cast<double>();
            Vector2d across, down;
            footprint(body, corners, row, x, y, at, surface.place, flat.normalized(), &across, &down);
            if (skin != 0) at -= at.array().floor().matrix();  // it repeats
            surface.colour = opacity * picture->at(at, across, down);
            // A material's colour tints its picture.
            if (skin != 0 && !mesh.colours.empty()) {
                const Vector3f tint = mixed(mesh.colours);
                for (int c = 0; c < 3; ++c) surface.colour[c] *= tint[c];
            }
        } else {
            Vector3f own(body.colour[0], body.colour[1], body.colour[2]);
            if (!mesh.colours.empty()) own = mixed(mesh.colours);
            surface.colour = Array4f(own.x() * opacity, own.y() * opacity, own.z() * opacity, opacity);
        }
        return surface;
    }

    /// How far the place on the sheet moves from a pixel to the next, across and down.
    void footprint(const Body& body, const Mesh::Triangle& corners, const WorldEye::Row& row, int x, int y,
                   const Vector2d& at, const Vector3d& place, const Vector3d& normal, Vector2d* across,
                   Vector2d* down) const {
        const Mesh& mesh = *body.mesh;
        const Vector3d a = body.world * mesh.places[corners[0]].cast<double>();
        Eigen::Matrix<double, 3, 2> sides;
        sides.col(0) = body.world * mesh.places[corners[1]].cast<double>() - a;
        sides.col(1) = body.world * mesh.places[corners[2]].cast<double>() - a;
        const Eigen::Matrix2d inverse = (sides.transpose() * sides).inverse();
        const Vector2d first = mesh.sheet[corners[0]].cast<double>();
        Eigen::Matrix2d sheet;
        sheet.col(0) = mesh.sheet[corners[1]].cast<double>() - first;
        sheet.col(1) = mesh.sheet[corners[2]].cast<double>() - first;
        const auto onSheet = [&](const Vector2d& plane) -> Vector2d {
            const WorldRay ray = row.rayThrough(plane);
            const double slope = normal.dot(ray.along);
            const double distance = normal.dot(place - ray.from) / slope;
            // Beyond the horizon of its plane the footprint is as large as can be.
            if (!(distance > 0) || !std::isfinite(distance)) return at + Vector2d(1, 1);
            const Vector3d met = ray.from + distance * ray.along;
            return first + sheet * (inverse * (sides.transpose() * (met - a)));
        };
        const Vector2d here = planes_->at(x, y, {0.5, 0.5});
        const Vector2d middle = onSheet(here);
        *across = onSheet(here + planes_->at(x + 1, y) - planes_->at(x, y)) - middle;
        *down = onSheet(here + planes_->at(x, y + 1) - planes_->at(x, y)) - middle;
    }

    Met meet(const Tile& tile, int x, int y, const Vector2d& inside, int sample, int samples, SkyMemo& memo) const {
        Met met;
        bool isThere = false;
        const WorldRay ray = rayAt(x, y, inside, &isThere);
        if (!isThere) return met;
        const WorldEye::Row& row = rowFor(x, y);
        float left = 1;  // of what lies behind
        float nearest = kNearest;
        std::optional<Vector3d> ground;
        if (look_.groundCatches && (castsAny_ || !sky_.isEmpty()) && ray.from.y() > look_.ground)
            ground = onLevel(ray, look_.ground);
        const float groundFar = ground ? float((*ground - ray.from).norm()) : std::numeric_limits<float>::infinity();
        bool isGroundDone = !ground || groundFar > kFarthest;
        const auto over = [&](const Array4f& colour) {
            met.colour += left * colour;
            left *= 1 - colour[3];
        };
        const auto darken = [&](const Vector3d& place, const Vector3d& normal, float distance, std::uint32_t sign,
                                std::optional<std::size_t> inSky = {}) {
            bool isPartial = false;
            // Where no shadow reaches the ground no ray is sent.
            const bool isGround = sign == kGroundSign;
            const float sun = isGround && (tile.touched & Part::sunShadow) == 0
                                  ? 1.0F
                                  : sunAt(place, normal, double(distance), sample, samples, &isPartial);
            const float sky =
                isGround && (tile.touched & Part::skyShadow) == 0 ? 1.0F : skyAt(place, normal, inSky, sign, memo);
            const float lost = lostAt(normal, sun, sky);
            // As where nothing is.
            if (lost < kNoLoss && !isPartial) return;
            met.shadow += left * lost;
            over(Array4f(0, 0, 0, darkening(lost)));
            met.sign = met.sign * 31 + sign * 4 + (isPartial ? 3U : sun > 0 ? 1U : 2U);
            if (isPartial) met.sign |= kOpen;
        };
        for (int through = 0; through < kMostThrough && left > 0.002F; ++through) {
            const auto hit =
                (tile.touched & Part::body) == 0 ? std::nullopt : seen_->first(ray.from, ray.along, nearest);
            if (!isGroundDone && (!hit || groundFar < hit->distance)) {
                isGroundDone = true;
                darken(*ground, {0, 1, 0}, groundFar, kGroundSign);
                continue;
            }
            if (!hit) break;
            nearest = std::nextafter(hit->distance * (1 + 2e-6F), std::numeric_limits<float>::infinity());
            const Body& body = bodies_[hit->body];
            const StandIn& standIn = look_.standIns[body.index];
            const std::uint32_t sign = std::uint32_t(body.index) + 2;
            Surface surface = surfaceAt(body, *hit, ray, row, x, y);
            const bool isFlat = isUprightSheet(standIn.kind) || standIn.kind == StandInKind::grid;
            if (!surface.isFace && !isFlat) continue;  // what is solid is seen by its front
            if (body.picture && surface.colour[3] < kClear) continue;
            if (met.mask == 0) {
                met.mask = float(body.index + 1);
                met.depth = float((surface.place - place_).dot(forward_));
                met.normal = surface.normal.cast<float>();
                met.position = surface.place.cast<float>();
            }
            if (standIn.catchesOnly) darken(surface.place, surface.normal, hit->distance, sign, body.inSky);
            if (standIn.hides) {
                met.sign = met.sign * 31 + sign;
                left = 0;
                break;
            }
            if (standIn.catchesOnly) continue;
            if (standIn.kind == StandInKind::card || standIn.kind == StandInKind::text) {
                // Its light was filmed with it.
                met.sign = met.sign * 31 + sign;
                over(inTones(surface.colour));
                continue;
            }
            bool isPartial = false;
            const double slope = surface.normal.dot(sun_);
            const float sun =
                slope > 0 ? sunAt(surface.place, surface.normal, double(hit->distance), sample, samples, &isPartial)
                          : 0;
            met.sign = met.sign * 31 + sign * 8 + (isPartial ? 3U : sun > 0 ? 1U : 2U);
            if (isPartial) met.sign |= kOpen;
            if (body.mesh->normals.empty()) met.sign = met.sign * 31 + hit->triangle / 2;
            const auto strength = float(look_.sun.strength);
            // Each side of what is not smooth by itself.
            const std::uint32_t skySign = (sign << 20U) + (body.mesh->normals.empty() ? 1 + hit->triangle / 2 : 0);
            const float light = (1 - strength) * (0.65F + 0.35F * float(surface.normal.y())) *
                                    skyAt(surface.place, surface.normal, body.inSky, skySign, memo) +
                                strength * float(std::max(0.0, slope)) * sun;
            Array4f colour = surface.colour;
            colour.head<3>() *= light;
            over(inTones(colour));
        }
        return met;
    }

    void meetMiddles(Tile& tile) const {
        const PixelBox& box = wish_.box;
        tile.middles.resize(std::size_t(kTile) * kTile);
        for (int y = tile.y0; y < std::min(tile.y0 + kTile, box.y1); ++y)
            for (int x = tile.x0; x < std::min(tile.x0 + kTile, box.x1); ++x) {
                SkyMemo memo;
                tile.middles[std::size_t(y - tile.y0) * kTile + std::size_t(x - tile.x0)] =
                    meet(tile, x, y, {0.5, 0.5}, 0, 1, memo);
            }
    }
    /// What the middle of a pixel of the box met; nothing where no tile is touched.
    const Met& middle(int x, int y) const {
        static const Met nothing;
        const int across = x - wish_.box.x0, down = y - wish_.box.y0;
        const int tile = tileAt_[std::size_t(down / kTile) * std::size_t(tilesAcross_) + std::size_t(across / kTile)];
        if (tile < 0) return nothing;
        return tiles_[std::size_t(tile)].middles[std::size_t(down % kTile) * kTile + std::size_t(across % kTile)];
    }

    void renderTile(const Tile& tile, SceneFrame& result) const {
        const PixelBox& box = wish_.box;
        const int right = std::min(tile.x0 + kTile, box.x1), bottom = std::min(tile.y0 + kTile, box.y1);
        // With those beside it: an edge may pass between.
        constexpr int kWith = kTile + 2;
        std::array<const Met*, std::size_t(kWith) * kWith> about;
        for (int y = tile.y0 - 1; y <= bottom; ++y)
            for (int x = tile.x0 - 1; x <= right; ++x)
                about[std::size_t(y - tile.y0 + 1) * kWith + std::size_t(x - tile.x0 + 1)] =
                    &middle(std::clamp(x, box.x0, box.x1 - 1), std::clamp(y, box.y0, box.y1 - 1));
        for (int y = tile.y0; y < bottom; ++y)
            for (int x = tile.x0; x < right; ++x) {
                const Met* const* first = &about[std::size_t(y - tile.y0) * kWith + std::size_t(x - tile.x0)];
                const Met& own = *first[kWith + 1];
                bool passes = (own.sign & kOpen) != 0;
                for (int v = 0; v < 3 && !passes; ++v)
                    for (int u = 0; u < 3; ++u) {
                        // A smooth body may have an edge before itself.
                        const Met& other = *first[v * kWith + u];
                        passes =
                            passes || other.sign != own.sign || (own.mask > 0 && other.normal.dot(own.normal) < 0.5F);
                    }
                Array4f colour = own.colour;
                float shadow = own.shadow;
                if (passes && wish_.samples > 1) {
                    colour.setZero();
                    shadow = 0;
                    SkyMemo memo;
                    for (int i = 0; i < wish_.samples; ++i) {
                        const Met one = meet(tile, x, y, spreadInPixel(i, wish_.samples), i, wish_.samples, memo);
                        colour += one.colour;
                        shadow += one.shadow;
                    }
                    colour /= float(wish_.samples);
                    shadow /= float(wish_.samples);
                }
                float* pixel = result.layer.at(x, y);
                for (int c = 0; c < 4; ++c) pixel[c] = colour[c];
                if (!wish_.passes) continue;
                const std::size_t i = std::size_t(y - box.y0) * std::size_t(box.width()) + std::size_t(x - box.x0);
                result.passes.depth[i] = own.depth;
                result.passes.mask[i] = own.mask;
                result.passes.shadow[i] = shadow;
                for (std::size_t c = 0; c < 3; ++c) {
                    result.passes.normal[3 * i + c] = own.normal[Eigen::Index(c)];
                    result.passes.position[3 * i + c] = own.position[Eigen::Index(c)];
                }
            }
    }

    static constexpr std::uint32_t kGroundSign = 1;    ///< bodies' are from 2
    static constexpr float kNoLoss = 1e-4F;            ///< of the light
    static constexpr std::uint32_t kOpen = 1U << 31U;  ///< a pixel that one ray does not tell

    const SceneRenderer& renderer_;
    const SceneLook& look_;
    const WorldEye& eye_;
    const SceneWish& wish_;
    const Vector3d place_, forward_;  ///< of the eye
    Vector3d sun_, across_, down_;
    double disc_ = 0;
    bool castsAny_ = false;
    std::vector<Body> bodies_;
    std::vector<Veil> veils_;
    SkyCover sky_;
    std::unique_ptr<RayScene> seen_, casting_;
    std::vector<WorldEye::Row> rows_;
    std::shared_ptr<const PlaneTable> planes_;
    std::vector<Tile> tiles_;
    std::vector<int> tileAt_;  ///< by rows of `tilesAcross_`: which of `tiles_`; -1: none
    int tilesAcross_ = 0;
};

namespace {

/// Where each stand-in is seen, and its shadow on the ground.
std::vector<Part> partsOf(const SceneLook& look, const WorldEye& eye, double number, const PixelBox& frame) {
    std::vector<Part> parts;
    const Vector3d sun = look.sun.towards;
    for (const StandIn& one : look.standIns) {
        if (one.hidden || !one.isOn(number) || one.kind == StandInKind::locator) continue;
        const auto corners = boxCorners(one.kind, one.at(number, eye.place()));
        SeenPlaces seen;
        addEdges(seen, eye, corners);
        parts.push_back(partOf(Part::body, std::move(seen), frame));
        if (one.casts && look.groundCatches && one.kind != StandInKind::grid && look.sun.strength < 1 &&
            look.sun.skyShadow > 0) {
            // The ground about it, as far as it covers some of the sky there.
            const double reach = SkyCover::reachOf(one.at(number, eye.place()).worldFromUnit());
            Vector3d low = corners.front(), high = low;
            for (const Vector3d& corner : corners) {
                low = low.cwiseMin(corner);
                high = high.cwiseMax(corner);
            }
            if (low.y() - look.ground < reach && high.y() > look.ground) {
                std::array<Vector3d, 8> about;
                for (unsigned i = 0; i < 8; ++i)
                    about[i] = Vector3d((i & 1U) != 0 ? high.x() + reach : low.x() - reach, look.ground,
                                        (i & 4U) != 0 ? high.z() + reach : low.z() - reach);
                SeenPlaces dark;
                addEdges(dark, eye, about);
                parts.push_back(partOf(Part::skyShadow, std::move(dark), frame));
            }
        }
        if (!one.casts || !look.groundCatches || one.kind == StandInKind::grid || look.sun.strength <= 0 ||
            sun.y() <= 0)
            continue;
        // The sun's disc widens a shadow by its height.
        SeenPlaces shadow;
        const double disc = std::tan(0.5 * look.sun.softness_deg * std::numbers::pi / 180);
        std::array<Vector3d, 8> fallen;
        double widest = 0;
        for (std::size_t i = 0; i < 8; ++i) {
            const double height = corners[i].y() - look.ground;
            fallen[i] = corners[i] - height / sun.y() * sun;
            widest = std::max(widest, std::abs(height) * disc * sun.squaredNorm() / (sun.y() * sun.y()));
        }
        for (const Vector3d& way : {Vector3d(-1, 0, -1), Vector3d(1, 0, -1), Vector3d(-1, 0, 1), Vector3d(1, 0, 1)}) {
            std::array<Vector3d, 8> wide = fallen;
            for (Vector3d& corner : wide) corner += widest * way;
            addEdges(shadow, eye, wide);
        }
        parts.push_back(partOf(Part::sunShadow, std::move(shadow), frame));
    }
    return parts;
}

}  // namespace

SceneFrame SceneRenderer::frame(const WorldEye& eye, double number, const SceneWish& wish,
                                std::vector<std::string>* problems) const {
    Frame frame(*this, eye, number, wish, problems);
    return frame.rendered(partsOf(look_, eye, number, wish.box));
}

PixelBox boxOfScene(const SceneLook& look, const WorldEye& eye, double frame, const PixelBox& within) {
    PixelBox all;
    for (const Part& one : partsOf(look, eye, frame, within)) {
        const PixelBox& part = one.box;
        if (isEmptyBox(part)) continue;
        all = isEmptyBox(all) ? part
                              : PixelBox{std::min(all.x0, part.x0), std::min(all.y0, part.y0),
                                         std::max(all.x1, part.x1), std::max(all.y1, part.y1)};
    }
    return all;
}

std::optional<ScenePick> pickedAt(const SceneLook& look, const WorldEye& eye, int frame, const Vector2d& plate,
                                  const CardPictures& cards) {
    const auto ray = eye.rayThrough(plate);
    return ray ? pickedAlong(look, *ray, eye.place(), frame, cards) : std::nullopt;
}

std::optional<ScenePick> pickedAlong(const SceneLook& look, const WorldRay& ray, const Vector3d& eye, int frame,
                                     const CardPictures& cards) {
    constexpr float kSolid = 0.05F;  // alpha from which a hand takes hold
    std::vector<RayScene::Body> bodies;
    std::vector<const StandIn*> standIns;
    std::vector<std::optional<Clip>> clips;  // of what shows pictures
    for (const StandIn& one : look.standIns) {
        const Stance stance = one.at(frame, eye);
        if (one.hidden || !one.isOn(frame) || stance.size.minCoeff() <= 0) continue;
        auto shape = shapeOf(one);
        if (!shape) continue;
        std::optional<Clip> clip;
        if (one.showsPictures() && cards.shelf)
            if (const auto known = cardClipOf(one.file)) clip = known->clip;
        // It has not begun, or is over: it is not there.
        if (clip && !clipFrameAt(one.card.time, *clip, frame, cards.fps)) continue;
        bodies.push_back({std::move(shape), stance.worldFromUnit()});
        standIns.push_back(&one);
        clips.push_back(std::move(clip));
    }
    const auto pictureOf = [&](std::size_t i) -> std::shared_ptr<const SurfacePicture> {
        const StandIn& one = *standIns[i];
        if (one.kind == StandInKind::text)
            return textPicture(one.words, one.stance.size.x() / one.stance.size.y(), one.colour);
        const auto shown = clips[i] ? shownBy(one, *clips[i], frame, cards) : std::nullopt;
        return shown && *shown ? **shown : nullptr;
    };
    const RayScene scene(bodies, ray.from);
    float nearest = kNearest;
    for (int through = 0; through < kMostThrough && !bodies.empty(); ++through) {
        const auto hit = scene.first(ray.from, ray.along, nearest);
        if (!hit) break;
        nearest = std::nextafter(hit->distance * (1 + 2e-6F), std::numeric_limits<float>::infinity());
        const Mesh& mesh = *bodies[hit->body].mesh;
        if (const auto picture = mesh.sheet.empty() ? nullptr : pictureOf(hit->body)) {
            const Mesh::Triangle& corners = mesh.triangles[hit->triangle];
            const Eigen::Vector2f at = (1 - hit->u - hit->v) * mesh.sheet[corners[0]] +
                                       hit->u * mesh.sheet[corners[1]] + hit->v * mesh.sheet[corners[2]];
            if (picture->at(at.cast<double>(), {0, 0}, {0, 0})[3] < kSolid) continue;
        }
        return ScenePick{standIns[hit->body]->id, ray.from + double(hit->distance) * ray.along};
    }
    const auto ground = onLevel(ray, look.ground);
    if (!ground) return std::nullopt;
    return ScenePick{0, *ground};
}

}  // namespace pinion
