#include "render/projector.h"

#include "base/parallel.h"
#include "picture/picture.h"
#include "render/meshfile.h"
#include "render/rays.h"

#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <limits>

namespace pinion {

using Eigen::Array4f;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr float kNearestMet = 0.02F;  // of the world's unit, before the camera
constexpr int kRays = 16;             // through a pixel where an edge passes
constexpr double kSharpness = 8;      // how soon the nearer camera takes over

/// How much of a pixel's footprint lies within the picture along one axis.
double within(double at, double reach) {
    const double half = std::max(0.5 * reach, 1e-9);
    return std::clamp(0.5 + std::min(at, 1 - at) / (2 * half), 0.0, 1.0);
}

}  // namespace

/// The surface as it stands on the frame that is seen, and on those of the pictures.
class Projector::Frame {
public:
    Frame(const Projector& projector, const WorldEye& eye, int frame) : projector_(projector), eye_(eye) {
        const ThrownOn& onto = projector.onto_;
        if (onto.standIn) {
            const auto shape = shapeOf(*onto.standIn);
            if (!shape || onto.standIn->stance.size.minCoeff() <= 0) return;
            mesh_ = shape;
            world_ = onto.standIn->at(frame, eye.place()).worldFromUnit();
            seen_ = std::make_unique<RayScene>(std::vector<RayScene::Body>{{mesh_, world_}}, eye.place());
            for (const ThrownPicture& picture : projector.pictures_) {
                const Eigen::Affine3d there = onto.standIn->at(picture.frame, picture.eye.place()).worldFromUnit();
                thereFromWorld_.emplace_back(there * world_.inverse());
                from_.push_back(
                    std::make_unique<RayScene>(std::vector<RayScene::Body>{{mesh_, there}}, picture.eye.place()));
            }
        } else {
            thereFromWorld_.assign(projector.pictures_.size(), Eigen::Affine3d::Identity());
        }
        normal_ = onto.normal.normalized();
        if (eye.isRolling()) {
            const int count = eye.readsColumns() ? eye.lens().width : eye.lens().height;
            for (int i = 0; i <= count; ++i) rows_.push_back(eye.rowAt(double(i) / count - 0.5));
        } else {
            rows_.push_back(eye.rowAt(0));
        }
    }

    struct Met {
        Vector3d place, normal;  ///< towards the eye
        std::uint32_t sign = 0;  ///< differs where an edge passes between
    };
    std::optional<Met> meet(const WorldRay& ray) const {
        const ThrownOn& onto = projector_.onto_;
        if (onto.standIn) {
            if (!seen_) return std::nullopt;
            float nearest = kNearestMet;
            const bool isSheet = isUprightSheet(onto.standIn->kind) || onto.standIn->kind == StandInKind::grid;
            for (int through = 0; through < 8; ++through) {
                const auto hit = seen_->first(ray.from, ray.along, nearest);
                if (!hit) return std::nullopt;
                nearest = std::nextafter(hit->distance * (1 + 2e-6F), std::numeric_limits<float>::infinity());
                const Mesh::Triangle& corners = mesh_->triangles[hit->triangle];
                const auto corner = [&](std::size_t i) -> Vector3d {
                    return world_ * mesh_->places[corners[i]].cast<double>();
                };
                Vector3d normal = (corner(1) - corner(0)).cross(corner(2) - corner(0)).normalized();
                const bool isFace = normal.dot(ray.along) < 0;
                if (!isFace && !isSheet) continue;  // what is solid is seen by its front
                if (!isFace) normal = -normal;
                return Met{ray.from + double(hit->distance) * ray.along, normal,
                           mesh_->normals.empty() ? 1 + hit->triangle / 2 : 1};
            }
            return std::nullopt;
        }
        const double slope = normal_.dot(ray.along), distance = normal_.dot(onto.at - ray.from) / slope;
        if (!(distance > double(kNearestMet)) || !std::isfinite(distance)) return std::nullopt;
        return Met{ray.from + distance * ray.along, slope < 0 ? normal_ : Vector3d(-normal_), 1};
    }

    /// Where the picture's camera sees a place of the surface; none where it does not.
    std::optional<Vector2d> seenBy(std::size_t i, const Met& met) const {
        const ThrownPicture& picture = projector_.pictures_[i];
        const Vector3d there = thereFromWorld_[i] * met.place, towards = picture.eye.place() - there;
        const Eigen::Matrix3d turn = thereFromWorld_[i].linear().inverse().transpose();
        if (!((turn * met.normal).dot(towards) > 0)) return std::nullopt;
        if (seen_) {
            const double away = towards.norm();
            const auto first = from_[i]->first(picture.eye.place(), -towards / away, kNearestMet);
            if (first && double(first->distance) < away * (1 - 1e-3) - 1e-3) return std::nullopt;
        }
        return picture.eye.plateFromWorld(there);
    }

    /// How alike the directions are, from a place, of the picture's camera and of this one: 1 to nearly 0.
    double alike(std::size_t i, const Met& met) const {
        const ThrownPicture& picture = projector_.pictures_[i];
        const Vector3d there = thereFromWorld_[i] * met.place;
        const Vector3d from = (thereFromWorld_[i].linear().inverse() * (picture.eye.place() - there)).normalized();
        const double cosine = from.dot((eye_.place() - met.place).normalized());
        return std::pow(std::max(1e-3, 0.5 * (1 + cosine)), kSharpness);
    }

    WorldRay rayThrough(int x, int y, const Vector2d& plane) const { return rowFor(x, y).rayThrough(plane); }

    /// Linear, premultiplied.
    Array4f colourAt(const PlaneTable& planes, int x, int y, const Vector2d& inside, std::uint32_t* sign) const {
        Array4f none = Array4f::Zero();
        const Vector2d plane = planes.at(x, y, inside);
        if (!std::isfinite(plane.x())) return none;
        const auto met = meet(rayThrough(x, y, plane));
        if (!met) return none;
        *sign = met->sign;
        // The places beside it, on the surface as it is flat here.
        const Vector2d right = plane + planes.at(x + 1, y) - planes.at(x, y),
                       below = plane + planes.at(x, y + 1) - planes.at(x, y);
        const auto beside = [&](const Vector2d& at) -> std::optional<Met> {
            const WorldRay ray = rayThrough(x, y, at);
            const double distance = met->normal.dot(met->place - ray.from) / met->normal.dot(ray.along);
            if (!(distance > 0) || !std::isfinite(distance)) return std::nullopt;
            return Met{ray.from + distance * ray.along, met->normal, met->sign};
        };
        const auto a = beside(right), b = beside(below);
        const Vector2d size(projector_.width_, projector_.height_);
        Array4f sum = none;
        double weights = 0;
        float most = 0;
        for (std::size_t i = 0; i < projector_.pictures_.size(); ++i) {
            const auto place = seenBy(i, *met);
            if (!place) continue;
            const auto spanTo = [&](const std::optional<Met>& other) -> Vector2d {
                const auto there = other ? projector_.pictures_[i].eye.plateFromWorld(thereFromWorld_[i] * other->place)
                                         : std::nullopt;
                return there ? Vector2d((*there - *place).cwiseQuotient(size)) : Vector2d(1, 1);
            };
            const Vector2d at = place->cwiseQuotient(size);
            if (!holds(projector_.fields_[i], at)) continue;
            const Vector2d across = spanTo(a), down = spanTo(b);
            const Vector2d reach = across.cwiseAbs() + down.cwiseAbs();
            const double share = within(at.x(), reach.x()) * within(at.y(), reach.y());
            if (share <= 0) continue;
            *sign = *sign * 31 + std::uint32_t(i) + 1;
            const Array4f colour = float(share) * projector_.pictures_[i].picture->at(at, across, down);
            if (colour[3] <= 0) continue;
            const double weight = alike(i, *met);
            // Premultiplied, so that a clear place has no say in the colour.
            sum += float(weight) * colour;
            weights += weight * double(colour[3]);
            most = std::max(most, colour[3]);
        }
        return weights > 0 ? Array4f(sum * float(double(most) / weights)) : none;
    }

private:
    const WorldEye::Row& rowFor(int x, int y) const {
        if (rows_.size() == 1) return rows_.front();
        return rows_[std::size_t(std::clamp(eye_.readsColumns() ? x : y, 0, int(rows_.size()) - 1))];
    }

    const Projector& projector_;
    const WorldEye& eye_;
    std::shared_ptr<const Mesh> mesh_;
    Eigen::Affine3d world_ = Eigen::Affine3d::Identity();
    std::unique_ptr<RayScene> seen_;
    std::vector<std::unique_ptr<RayScene>> from_;
    std::vector<Eigen::Affine3d> thereFromWorld_;  ///< a place of the surface, on the frame of each picture
    Vector3d normal_{0, 1, 0};
    std::vector<WorldEye::Row> rows_;
};

Projector::Projector(std::vector<ThrownPicture> pictures, ThrownOn onto, int width, int height)
    : pictures_(std::move(pictures)), onto_(std::move(onto)), width_(width), height_(height) {
    for (const ThrownPicture& picture : pictures_) fields_.push_back(fieldsOf(*picture.picture));
}

Projector::Fields Projector::fieldsOf(const SurfacePicture& picture) {
    Fields own{}, fields{};
    const Vector2d across(1.0 / kAcross, 0), down(0, 1.0 / kDown);
    for (int y = 0; y < kDown; ++y)
        for (int x = 0; x < kAcross; ++x)
            own[std::size_t(y * kAcross + x)] =
                picture.at({(x + 0.5) / kAcross, (y + 0.5) / kDown}, across, down)[3] > 0;
    for (int y = 0; y < kDown; ++y)
        for (int x = 0; x < kAcross; ++x)
            for (int v = std::max(y - 1, 0); v <= std::min(y + 1, kDown - 1); ++v)
                for (int u = std::max(x - 1, 0); u <= std::min(x + 1, kAcross - 1); ++u)
                    fields[std::size_t(y * kAcross + x)] =
                        fields[std::size_t(y * kAcross + x)] || own[std::size_t(v * kAcross + u)];
    return fields;
}

bool Projector::holds(const Fields& fields, const Vector2d& at) {
    const auto cell = [](double place, int count) {
        return std::clamp(int(std::floor(std::clamp(place, -1.0, 2.0) * count)), 0, count - 1);
    };
    return fields[std::size_t(cell(at.y(), kDown) * kAcross + cell(at.x(), kAcross))];
}

PixelBox Projector::boxOn(const WorldEye& eye, const PixelBox& within) const {
    if (onto_.standIn) return within;  // whoever asks knows its box
    double x0 = 1e300, y0 = 1e300, x1 = -1e300, y1 = -1e300;
    for (std::size_t i = 0; i < pictures_.size(); ++i) {
        const ThrownPicture& picture = pictures_[i];
        const Frame there(*this, picture.eye, picture.frame);
        for (int y = 0; y <= kDown; ++y)
            for (int x = 0; x <= kAcross; ++x) {
                // A corner of a field that holds something.
                const Vector2d at(double(x) / kAcross, double(y) / kDown), half(0.5 / kAcross, 0.5 / kDown);
                if (!holds(fields_[i], at - half) && !holds(fields_[i], at + half) &&
                    !holds(fields_[i], {at.x() - half.x(), at.y() + half.y()}) &&
                    !holds(fields_[i], {at.x() + half.x(), at.y() - half.y()}))
                    continue;
                const auto ray = picture.eye.rayThrough(at.cwiseProduct(Vector2d(width_, height_)));
                const auto met = ray ? there.meet(*ray) : std::nullopt;
                const auto seen = met ? eye.plateFromWorld(met->place) : std::nullopt;
                if (!seen) return within;  // it runs out of sight, nobody knows where to
                x0 = std::min(x0, seen->x());
                y0 = std::min(y0, seen->y());
                x1 = std::max(x1, seen->x());
                y1 = std::max(y1, seen->y());
            }
    }
    if (x0 > x1) return {};
    constexpr double kMost = 1e6;
    const auto whole = [&](double at) { return int(std::floor(std::clamp(at, -kMost, kMost))); };
    return {std::max(within.x0, whole(x0 - 3)), std::max(within.y0, whole(y0 - 3)),
            std::min(within.x1, whole(x1 + 3) + 1), std::min(within.y1, whole(y1 + 3) + 1)};
}

Layer Projector::on(const WorldEye& eye, int frame, const PixelBox& within, bool linear) const {
    Layer layer;
    const PixelBox box = boxOn(eye, within);
    layer.box = box;
    const int width = box.width(), height = box.height();
    if (width <= 0 || height <= 0) return {};
    layer.rgba.assign(4 * std::size_t(width) * std::size_t(height), 0.0F);
    const Frame own(*this, eye, frame);
    const auto planes = planes_.of(eye.lens(), box);
    std::vector<std::uint32_t> signs(std::size_t(width) * std::size_t(height), 0);
    const auto put = [&](int x, int y, Array4f colour) {
        if (!linear && colour[3] > 0)
            for (int c = 0; c < 3; ++c) colour[c] = encodeSrgb(colour[c] / colour[3]) * colour[3];
        std::copy_n(colour.data(), 4, layer.at(x, y));
    };
    const auto signAt = [&](int x, int y) -> std::uint32_t& {
        return signs[std::size_t(y - box.y0) * std::size_t(width) + std::size_t(x - box.x0)];
    };
    parallelFor(std::size_t(height), [&](std::size_t row) {
        const int y = box.y0 + int(row);
        for (int x = box.x0; x < box.x1; ++x) put(x, y, own.colourAt(*planes, x, y, {0.5, 0.5}, &signAt(x, y)));
    });
    parallelFor(std::size_t(height), [&](std::size_t row) {
        const int y = box.y0 + int(row);
        for (int x = box.x0; x < box.x1; ++x) {
            bool passes = false;
            for (int v = std::max(y - 1, box.y0); v <= std::min(y + 1, box.y1 - 1) && !passes; ++v)
                for (int u = std::max(x - 1, box.x0); u <= std::min(x + 1, box.x1 - 1); ++u)
                    passes = passes || signAt(u, v) != signAt(x, y);
            if (!passes) continue;
            Array4f sum = Array4f::Zero();
            for (int i = 0; i < kRays; ++i) {
                std::uint32_t sign = 0;
                sum += own.colourAt(*planes, x, y, spreadInPixel(i, kRays), &sign);
            }
            put(x, y, sum / float(kRays));
        }
    });
    return layer;
}

int Projector::seenAt(const WorldEye& eye, int frame, std::span<const Vector2d> plate) const {
    const Frame own(*this, eye, frame);
    return int(std::count_if(plate.begin(), plate.end(), [&](const Vector2d& at) {
        const auto ray = eye.rayThrough(at);
        return ray && own.meet(*ray);
    }));
}

}  // namespace pinion
