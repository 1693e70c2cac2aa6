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

/// A box that grows by points; everything once a point has no place.
struct GrowingBox {
    double x0 = 1e300, y0 = 1e300, x1 = -1e300, y1 = -1e300;
    bool isAll = false;
    void add(const std::optional<Vector2d>& at) {
        if (!at) {
            isAll = true;
            return;
        }
        x0 = std::min(x0, at->x());
        y0 = std::min(y0, at->y());
        x1 = std::max(x1, at->x());
        y1 = std::max(y1, at->y());
    }
    PixelBox within(const PixelBox& frame) const {
        if (isAll) return frame;
        constexpr double kMargin = 2, kMost = 1e6;
        if (x0 > x1) return {};
        const auto side = [&](double at) { return int(std::floor(std::clamp(at, -kMost, kMost))); };
        return {std::max(frame.x0, side(x0 - kMargin)), std::max(frame.y0, side(y0 - kMargin)),
                std::min(frame.x1, side(x1 + kMargin) + 1), std::min(frame.y1, side(y1 + kMargin) + 1)};
    }
};

bool isEmptyBox(const PixelBox& box) { return box.width() <= 0 || box.height() <= 0; }

/// Adds where the edges of a box are seen, in pieces: a lens bends them.
void addEdges(GrowingBox& grown, const WorldEye& eye, const std::array<Vector3d, 8>& corners) {
    constexpr int kPieces = 6;
    for (unsigned a = 0; a < 8; ++a)
        for (const unsigned bit : {1U, 2U, 4U}) {
            if ((a & bit) != 0) continue;
            for (int i = 0; i <= kPieces && !grown.isAll; ++i) {
                const double share = double(i) / kPieces;
                grown.add(eye.plateFromWorld((1 - share) * corners[a] + share * corners[a | bit]));
            }
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
            if (file) skins_.back() = file->pictures;
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

std::optional<std::shared_ptr<const SurfacePicture>> SceneRenderer::pictureOf(
    std::size_t i, double number, const SceneWish& wish, std::vector<std::string>* problems) const {
    const StandIn& one = look_.standIns[i];
    const auto& clip = clips_[i];
    if (!clip || !wish.shelf) return pictures_[i];
    if (!*clip) {
        noteOnce(problems, fmt::format("{}: {}", one.name, clip->error().message));
        return pictures_[i];
    }
    const Clip& shown = (*clip)->clip;
    const auto frame = clipFrameAt(one.card.time, shown, int(std::floor(number + 0.5)), wish.fps);
    if (!frame) return std::nullopt;
    const auto art = wish.shelf->art(shown, *frame, true, one.card.key);
    if (art) return std::make_shared<const SurfacePicture>(*art);
    noteOnce(problems, fmt::format("{}: {}", one.name, art.error().message));
    return pictures_[i];
}

/// The scene on one frame.
class SceneRenderer::Frame {
public:
    Frame(const SceneRenderer& renderer, const WorldEye& eye, double number, const SceneWish& wish,
          std::vector<std::string>* problems)
        : renderer_(renderer), look_(renderer.look_), eye_(eye), wish_(wish) {
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

    SceneFrame rendered(const std::vector<PixelBox>& parts) {
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
        std::vector<char> isTouched(std::size_t(across) * std::size_t(down), 0);
        for (const PixelBox& part : parts) {
            if (isEmptyBox(part)) continue;
            for (int y = (part.y0 - box.y0) / kTile; y <= (part.y1 - 1 - box.y0) / kTile; ++y)
                for (int x = (part.x0 - box.x0) / kTile; x <= (part.x1 - 1 - box.x0) / kTile; ++x)
                    isTouched[std::size_t(y) * std::size_t(across) + std::size_t(x)] = 1;
        }
        std::vector<int> tiles;
        for (int i = 0; i < across * down; ++i)
            if (isTouched[std::size_t(i)]) tiles.push_back(i);
        if (tiles.empty()) return result;
        planes_ = renderer_.planes_.of(eye_.lens(), box);
        parallelFor(tiles.size(), [&](std::size_t i) {
            renderTile(box.x0 + tiles[i] % across * kTile, box.y0 + tiles[i] / across * kTile, result);
        });
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
        if (samples > 1) {
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
            skin != 0 ? renderer_.skins_[body.index][std::size_t(skin - 1)].get() : body.picture.get();
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

    Met meet(int x, int y, const Vector2d& inside, int sample, int samples, SkyMemo& memo) const {
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
            const float sun = sunAt(place, normal, double(distance), sample, samples, &isPartial);
            const float lost = lostAt(normal, sun, skyAt(place, normal, inSky, sign, memo));
            met.shadow += left * lost;
            over(Array4f(0, 0, 0, darkening(lost)));
            met.sign = met.sign * 31 + sign * 4 + (isPartial ? 3U : sun > 0 ? 1U : 2U);
            if (isPartial) met.sign |= kOpen;
        };
        for (int through = 0; through < kMostThrough && left > 0.002F; ++through) {
            const auto hit = bodies_.empty() ? std::nullopt : seen_->first(ray.from, ray.along, nearest);
            if (!isGroundDone && (!hit || groundFar < hit->distance)) {
                isGroundDone = true;
                darken(*ground, {0, 1, 0}, groundFar, 1);
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
                met.depth = float((surface.place - eye_.place()).dot(eye_.forward()));
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

    void renderTile(int left, int top, SceneFrame& result) const {
        const PixelBox& box = wish_.box;
        const int right = std::min(left + kTile, box.x1), bottom = std::min(top + kTile, box.y1);
        // The middles of the tile's pixels, and of those beside it: an edge may pass between.
        constexpr int kWith = kTile + 2;
        std::array<Met, std::size_t(kWith) * kWith> met;
        const auto at = [&](int x, int y) -> Met& {
            return met[std::size_t(y - top + 1) * kWith + std::size_t(x - left + 1)];
        };
        const auto isInside = [&](int x, int y) { return x >= box.x0 && x < box.x1 && y >= box.y0 && y < box.y1; };
        for (int y = top - 1; y <= bottom; ++y)
            for (int x = left - 1; x <= right; ++x)
                if (isInside(x, y)) {
                    SkyMemo memo;
                    at(x, y) = meet(x, y, {0.5, 0.5}, 0, 1, memo);
                }
        for (int y = top; y < bottom; ++y)
            for (int x = left; x < right; ++x) {
                const Met& own = at(x, y);
                bool passes = (own.sign & kOpen) != 0;
                for (int v = std::max(y - 1, box.y0); v <= std::min(y + 1, box.y1 - 1) && !passes; ++v)
                    for (int u = std::max(x - 1, box.x0); u <= std::min(x + 1, box.x1 - 1); ++u)
                        // A smooth body may have an edge before itself.
                        passes = passes || at(u, v).sign != own.sign ||
                                 (own.mask > 0 && at(u, v).normal.dot(own.normal) < 0.5F);
                Array4f colour = own.colour;
                float shadow = own.shadow;
                if (passes && wish_.samples > 1) {
                    colour.setZero();
                    shadow = 0;
                    SkyMemo memo;
                    for (int i = 0; i < wish_.samples; ++i) {
                        const Met one = meet(x, y, spreadInPixel(i, wish_.samples), i, wish_.samples, memo);
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

    static constexpr std::uint32_t kOpen = 1U << 31U;  ///< a pixel that one ray does not tell

    const SceneRenderer& renderer_;
    const SceneLook& look_;
    const WorldEye& eye_;
    const SceneWish& wish_;
    Vector3d sun_, across_, down_;
    double disc_ = 0;
    bool castsAny_ = false;
    std::vector<Body> bodies_;
    std::vector<Veil> veils_;
    SkyCover sky_;
    std::unique_ptr<RayScene> seen_, casting_;
    std::vector<WorldEye::Row> rows_;
    std::shared_ptr<const PlaneTable> planes_;
};

namespace {

/// Where each stand-in is seen, and its shadow on the ground.
std::vector<PixelBox> partsOf(const SceneLook& look, const WorldEye& eye, double number, const PixelBox& frame) {
    std::vector<PixelBox> parts;
    const Vector3d sun = look.sun.towards;
    for (const StandIn& one : look.standIns) {
        if (one.hidden || !one.isOn(number) || one.kind == StandInKind::locator) continue;
        const auto corners = boxCorners(one.kind, one.at(number, eye.place()));
        GrowingBox seen;
        addEdges(seen, eye, corners);
        parts.push_back(seen.within(frame));
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
                GrowingBox dark;
                addEdges(dark, eye, about);
                parts.push_back(dark.within(frame));
            }
        }
        if (!one.casts || !look.groundCatches || one.kind == StandInKind::grid || look.sun.strength <= 0 ||
            sun.y() <= 0)
            continue;
        // The sun's disc widens a shadow by its height.
        GrowingBox shadow;
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
        parts.push_back(shadow.within(frame));
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
    for (const PixelBox& part : partsOf(look, eye, frame, within)) {
        if (isEmptyBox(part)) continue;
        all = isEmptyBox(all) ? part
                              : PixelBox{std::min(all.x0, part.x0), std::min(all.y0, part.y0),
                                         std::max(all.x1, part.x1), std::max(all.y1, part.y1)};
    }
    return all;
}

std::optional<ScenePick> pickedAt(const SceneLook& look, const WorldEye& eye, int frame, const Vector2d& plate) {
    const auto ray = eye.rayThrough(plate);
    return ray ? pickedAlong(look, *ray, eye.place(), frame) : std::nullopt;
}

std::optional<ScenePick> pickedAlong(const SceneLook& look, const WorldRay& ray, const Vector3d& eye, int frame) {
    std::vector<RayScene::Body> bodies;
    std::vector<StandInId> ids;
    for (const StandIn& one : look.standIns) {
        const Stance stance = one.at(frame, eye);
        if (one.hidden || !one.isOn(frame) || stance.size.minCoeff() <= 0) continue;
        auto shape = shapeOf(one);
        if (!shape) continue;
        bodies.push_back({std::move(shape), stance.worldFromUnit()});
        ids.push_back(one.id);
    }
    const auto hit = bodies.empty() ? std::nullopt : RayScene(bodies, ray.from).first(ray.from, ray.along, kNearest);
    if (hit) return ScenePick{ids[hit->body], ray.from + double(hit->distance) * ray.along};
    const auto ground = onLevel(ray, look.ground);
    if (!ground) return std::nullopt;
    return ScenePick{0, *ground};
}

}  // namespace pinion
