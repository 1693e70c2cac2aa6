#include "planar/texture.h"

#include "base/linear.h"

#include <Eigen/Eigenvalues>
#include <Eigen/LU>
#include <algorithm>
#include <cmath>
#include <numeric>
#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

using Eigen::Matrix2d;
using Eigen::Vector2d;

constexpr int kMostPixels = 40000;  // of one level: more add time, and hardly accuracy
constexpr int kMargin = 12;         // pixels of a level about the region, for gradients and blur
constexpr int kBlocksToACell = 3;
constexpr double kBlurStep = 0.125;  // pixels squared: finer differences of blur are not told apart
constexpr double kBlurReach = 1.8;   // standard deviations from the border that blur spoils
constexpr std::size_t kMostKept = 24;

bool facesCamera(const SurfaceGeometry& geometry, const Vector2d& plate) {
    bool missed = false;
    const Eigen::Vector3d point = geometry.cylinder->met(rayOf(*geometry.lens, plate), &missed);
    const Eigen::Vector3d normal = geometry.cylinder->normal(geometry.cylinder->placeOf(point).x());
    return !missed && -normal.dot(point) > kLeastFacing * point.norm();
}

}  // namespace

ImageChannel blurred(const ImageChannel& plane, const Matrix2d& covariance) {
    const Spectrum<2> spectrum = spectrumOf(covariance);
    const double widest = std::sqrt(std::max(0.0, spectrum.values[1]));
    if (widest < 0.05) return plane;
    // A floor for the narrow axis: a Gaussian of no width has no samples.
    Matrix2d shape = spectrum.vectors * spectrum.values.cwiseMax(0.02).asDiagonal() * spectrum.vectors.transpose();
    const Matrix2d inverse = shape.inverse();
    const int reach = std::max(1, int(std::ceil(2.7 * widest)));
    cv::Mat kernel(2 * reach + 1, 2 * reach + 1, CV_32F);
    double sum = 0;
    for (int y = -reach; y <= reach; ++y)
        for (int x = -reach; x <= reach; ++x) {
            const Vector2d d(x, y);
            sum += kernel.at<float>(y + reach, x + reach) = float(std::exp(-0.5 * d.dot(inverse * d)));
        }
    kernel /= sum;
    ImageChannel result(plane.width, plane.height);
    const cv::Mat from(plane.height, plane.width, CV_32F, const_cast<float*>(plane.values.data()));
    cv::Mat to(result.height, result.width, CV_32F, result.values.data());
    cv::filter2D(from, to, CV_32F, kernel, {-1, -1}, 0, cv::BORDER_REPLICATE);
    return result;
}

Eigen::Matrix3d PlaneTexture::plateFromRegion() const {
    Eigen::Matrix3d matrix = Eigen::Matrix3d::Identity();
    matrix(0, 0) = matrix(1, 1) = half_;
    matrix(0, 2) = centre_.x();
    matrix(1, 2) = centre_.y();
    return matrix;
}

Vector2d PlaneTexture::blockCentre(int block) const {
    return Vector2d(box_.left, box_.top) +
           blockSize_ * Vector2d(block % blocksAcross_ + 0.5, double(block / blocksAcross_) + 0.5);
}

std::optional<int> PlaneTexture::blockAt(const Vector2d& place) const {
    const double x = (place.x() - box_.left) / blockSize_, y = (place.y() - box_.top) / blockSize_;
    if (!(x >= 0 && y >= 0 && x < blocksAcross_ && y < blocksDown_)) return std::nullopt;
    return int(y) * blocksAcross_ + int(x);
}

std::optional<PlaneTexture> PlaneTexture::create(const Pyramid& reference, const PlaneRegion& region,
                                                 const PlaneExclusion& excluded, SurfaceGeometry geometry) {
    PlaneTexture texture;
    texture.geometry_ = std::move(geometry);
    texture.box_ = boxOf(region).cutTo(reference.width(), reference.height());
    if (texture.box_.isEmpty()) return std::nullopt;
    const PlaneBox& box = texture.box_;
    texture.centre_ = straightened(texture.geometry_.lens, box.centre());
    texture.half_ = std::max(2.0, 0.5 * std::max(box.width(), box.height()));
    texture.blockSize_ = std::clamp(texture.half_ / 8, 6.0, 32.0);
    texture.blocksAcross_ = int(std::ceil(box.width() / texture.blockSize_));
    texture.blocksDown_ = int(std::ceil(box.height() / texture.blockSize_));
    texture.cellsAcross_ = (texture.blocksAcross_ + kBlocksToACell - 1) / kBlocksToACell;
    texture.cellsDown_ = (texture.blocksDown_ + kBlocksToACell - 1) / kBlocksToACell;
    for (std::size_t l = 0; l < reference.levels.size(); ++l) {
        const ImageChannel& from = reference.levels[l];
        const double scale = double(1 << l);
        // A level of less than a dozen samples across says nothing about the shape.
        if (l > 0 && std::min(box.width(), box.height()) / scale < 12) break;
        Crop crop;
        crop.left = std::max(0, int(std::floor(box.left / scale)) - kMargin);
        crop.top = std::max(0, int(std::floor(box.top / scale)) - kMargin);
        const int right = std::min(from.width, int(std::ceil(box.right / scale)) + kMargin),
                  bottom = std::min(from.height, int(std::ceil(box.bottom / scale)) + kMargin);
        if (right - crop.left < 4 || bottom - crop.top < 4) break;
        crop.plane = ImageChannel(right - crop.left, bottom - crop.top);
        crop.holds.assign(crop.plane.values.size(), 0);
        int held = 0;
        for (int y = 0; y < crop.plane.height; ++y) {
            std::copy_n(from.row(crop.top + y) + crop.left, crop.plane.width, crop.plane.row(y));
            // One sample from the border on each side there have to be neighbours for the gradients.
            if (y < 1 || y + 1 >= crop.plane.height) continue;
            for (int x = 1; x + 1 < crop.plane.width; ++x) {
                const Vector2d at((crop.left + x) * scale + 0.5, (crop.top + y) * scale + 0.5);
                if (at.x() < box.left || at.x() >= box.right || at.y() < box.top || at.y() >= box.bottom) continue;
                if (!region.holds(at) || (excluded && excluded(at))) continue;
                if (texture.geometry_.cylinder && !facesCamera(texture.geometry_, at)) continue;
                crop.holds[std::size_t(y) * std::size_t(crop.plane.width) + std::size_t(x)] = 1;
                ++held;
            }
        }
        if (held < 40) {
            if (l == 0) return std::nullopt;
            break;
        }
        cv::Mat edge(crop.plane.height, crop.plane.width, CV_32F);
        cv::distanceTransform(cv::Mat(crop.plane.height, crop.plane.width, CV_8U, crop.holds.data()), edge, cv::DIST_L2,
                              3);
        crop.edge.assign(edge.begin<float>(), edge.end<float>());
        texture.choosePlaces(crop, int(l));
        texture.crops_.push_back(std::move(crop));
    }
    if (texture.crops_.empty()) return std::nullopt;
    texture.held_.assign(std::size_t(texture.blockCount()), 0);
    for (const Crop::Place& place : texture.crops_.front().places) texture.held_[std::size_t(place.block)] = 1;
    texture.findFeatures();
    if (texture.geometry_.cylinder) texture.findCentre();
    return texture;
}

void PlaneTexture::findCentre() {
    const Crop& crop = crops_.front();
    for (const Crop::Place& place : crop.places) {
        const Vector2d plate(crop.left + place.x + 0.5, crop.top + place.y + 0.5);
        bodyCentre_ += geometry_.cylinder->met(rayOf(*geometry_.lens, plate)) / double(crop.places.size());
    }
}

void PlaneTexture::findFeatures() {
    const Crop& crop = crops_.front();
    const cv::Mat picture(crop.plane.height, crop.plane.width, CV_32F, const_cast<float*>(crop.plane.values.data()));
    const cv::Mat mask(crop.plane.height, crop.plane.width, CV_8U, const_cast<std::uint8_t*>(crop.holds.data()));
    constexpr int kMost = 80;
    const double area = double(std::accumulate(crop.holds.begin(), crop.holds.end(), 0));
    std::vector<cv::Point2f> corners;
    cv::goodFeaturesToTrack(picture, corners, kMost, 0.02, std::max(5.0, 0.8 * std::sqrt(area / kMost)), mask, 5);
    for (const cv::Point2f& corner : corners)
        features_.emplace_back(double(corner.x) + crop.left + 0.5, double(corner.y) + crop.top + 0.5);
}

const TextureLevel& PlaneTexture::level(int level, const Matrix2d& blur) {
    const std::array<int, 3> key{int(std::lround(blur(0, 0) / kBlurStep)), int(std::lround(blur(0, 1) / kBlurStep)),
                                 int(std::lround(blur(1, 1) / kBlurStep))};
    for (std::size_t i = 0; i < made_.size(); ++i)
        if (made_[i].level == level && made_[i].blur == key) {
            std::rotate(made_.begin() + std::ptrdiff_t(i), made_.begin() + std::ptrdiff_t(i) + 1, made_.end());
            return *made_.back().texture;
        }
    if (made_.size() >= kMostKept) made_.erase(made_.begin());
    Matrix2d rounded;
    rounded << key[0], key[1], key[1], key[2];
    made_.push_back(
        {level, key, std::make_unique<TextureLevel>(make(crops_[std::size_t(level)], level, rounded * kBlurStep))});
    return *made_.back().texture;
}

void PlaneTexture::choosePlaces(Crop& crop, int level) const {
    const ImageChannel& plane = crop.plane;
    const double scale = double(1 << level);
    struct Steep {
        Crop::Place place;
        float slope2;
    };
    std::vector<Steep> all;
    for (int y = 1; y + 1 < plane.height; ++y)
        for (int x = 1; x + 1 < plane.width; ++x) {
            const std::size_t index = std::size_t(y) * std::size_t(plane.width) + std::size_t(x);
            if (!crop.holds[index]) continue;
            const Vector2d at((crop.left + x) * scale + 0.5, (crop.top + y) * scale + 0.5);
            const int bx = std::clamp(int((at.x() - box_.left) / blockSize_), 0, blocksAcross_ - 1);
            const int by = std::clamp(int((at.y() - box_.top) / blockSize_), 0, blocksDown_ - 1);
            const float dx = 0.5F * (plane.row(y)[x + 1] - plane.row(y)[x - 1]);
            const float dy = 0.5F * (plane.row(y + 1)[x] - plane.row(y - 1)[x]);
            all.push_back({{x, y, by * blocksAcross_ + bx, (by / kBlocksToACell) * cellsAcross_ + bx / kBlocksToACell,
                            crop.edge[index], 0, 0},
                           dx * dx + dy * dy});
        }
    std::stable_sort(all.begin(), all.end(), [](const Steep& a, const Steep& b) {
        return a.place.cell != b.place.cell ? a.place.cell < b.place.cell : a.place.block < b.place.block;
    });
    if (all.size() > std::size_t(kMostPixels)) {
        // The steepest of each block, and some of the others: a block that turns flat or bright has to be noticed.
        std::vector<Steep> chosen;
        const double share = double(kMostPixels) / double(all.size());
        for (std::size_t first = 0; first < all.size();) {
            std::size_t last = first;
            while (last < all.size() && all[last].place.block == all[first].place.block) ++last;
            const auto steep = std::ptrdiff_t(std::max(8.0, 0.75 * share * double(last - first)));
            const auto begin = all.begin() + std::ptrdiff_t(first), end = all.begin() + std::ptrdiff_t(last);
            const auto middle = begin + std::min(steep, end - begin);
            std::nth_element(begin, middle == end ? end - 1 : middle, end,
                             [](const Steep& a, const Steep& b) { return a.slope2 > b.slope2; });
            chosen.insert(chosen.end(), begin, middle);
            const auto others = std::max<std::ptrdiff_t>(1, std::ptrdiff_t(std::lround(1.0 / (0.25 * share))));
            for (auto one = middle; one < end; one += std::min(others, end - one)) chosen.push_back(*one);
            first = last;
        }
        all = std::move(chosen);
    }
    std::vector<float> edges;
    for (Steep& one : all) {
        const Vector2d plate((crop.left + one.place.x) * scale + 0.5, (crop.top + one.place.y) * scale + 0.5);
        const Vector2d at = (straightened(geometry_.lens, plate) - centre_) / half_;
        one.place.u = float(at.x());
        one.place.v = float(at.y());
        crop.places.push_back(one.place);
        edges.push_back(one.place.edge);
    }
    const auto spared = edges.begin() + std::ptrdiff_t(0.55 * double(edges.size()));
    std::nth_element(edges.begin(), spared, edges.end());
    crop.spared = double(*spared);
}

TextureLevel PlaneTexture::make(const Crop& crop, int level, const Matrix2d& blur) const {
    const ImageChannel plane = blurred(crop.plane, blur);
    const double scale = double(1 << level);
    // Blur mixes what lies beside the region into its border; as much of that is left out as can be spared.
    double kept = kBlurReach * std::sqrt(std::max(0.0, spectrumOf(blur).values[1]));
    kept = kept > 0.3 ? std::min(kept, crop.spared) : 0.0;
    std::vector<Crop::Place> places;
    places.reserve(crop.places.size());
    for (const Crop::Place& place : crop.places)
        if (double(place.edge) >= kept) places.push_back(place);

    TextureLevel result;
    const std::size_t count = places.size();
    for (auto* values : {&result.u, &result.v, &result.value, &result.gx, &result.gy, &result.slope2, &result.xx,
                         &result.xy, &result.yy})
        values->resize(count);
    const float perUnit = float(half_ / scale);
    for (std::size_t i = 0; i < count; ++i) {
        const Crop::Place& p = places[i];
        const float *above = plane.row(p.y - 1) + p.x, *here = plane.row(p.y) + p.x, *below = plane.row(p.y + 1) + p.x;
        result.u[i] = p.u;
        result.v[i] = p.v;
        result.value[i] = here[0];
        const float dx = 0.5F * (here[1] - here[-1]), dy = 0.5F * (below[0] - above[0]);
        result.gx[i] = dx * perUnit;
        result.gy[i] = dy * perUnit;
        result.slope2[i] = dx * dx + dy * dy;
        result.xx[i] = here[1] - 2 * here[0] + here[-1];
        result.yy[i] = below[0] - 2 * here[0] + above[0];
        result.xy[i] = 0.25F * (below[1] - below[-1] - above[1] + above[-1]);
        if (result.cells.empty() || result.cells.back().cell != p.cell) {
            const double side = kBlocksToACell * blockSize_;
            const Vector2d middle = Vector2d(box_.left, box_.top) +
                                    side * Vector2d(p.cell % cellsAcross_ + 0.5, double(p.cell / cellsAcross_) + 0.5);
            const Vector2d cellAt = (straightened(geometry_.lens, middle) - centre_) / half_;
            result.cells.push_back({int(result.blocks.size()), 0, int(i), 0, p.cell, float(cellAt.x()),
                                    float(cellAt.y()), float(0.5 * side / half_)});
        }
        if (result.blocks.empty() || result.blocks.back().block != p.block) {
            result.blocks.push_back({int(i), 0, p.block, 0});
            ++result.cells.back().blocks;
        }
        ++result.blocks.back().count;
        ++result.cells.back().count;
        result.blocks.back().texture += result.slope2[i];
    }
    if (geometry_.cylinder) placeOnBody(result);
    return result;
}

void PlaneTexture::placeOnBody(TextureLevel& level) const {
    for (auto& values : level.body) values.resize(std::size_t(level.count()));
    const Cylinder& cylinder = *geometry_.cylinder;
    const Eigen::Matrix3d raysFromRegion = pixelsFromRays(*geometry_.lens).inverse() * plateFromRegion();
    for (std::size_t i = 0; i < std::size_t(level.count()); ++i) {
        const Eigen::Vector3d ray = raysFromRegion * Eigen::Vector3d(double(level.u[i]), double(level.v[i]), 1);
        const Eigen::Vector3d point = cylinder.met(ray), normal = cylinder.normal(cylinder.placeOf(point).x());
        const Eigen::Vector3d tangent = normal.cross(cylinder.axis);
        // How the picture changes along a direction of space, by where that leads in region coordinates.
        const Vector2d gradient(double(level.gx[i]), double(level.gy[i]));
        const auto along = [&](const Eigen::Vector3d& direction) {
            const Vector2d moved = (direction.head<2>() - ray.head<2>() / ray.z() * direction.z()) / point.z();
            return gradient.dot(Vector2d(moved.x() / raysFromRegion(0, 0), moved.y() / raysFromRegion(1, 1)));
        };
        const Eigen::Vector3d turned = along(tangent) * cylinder.axis - along(cylinder.axis) * tangent;
        for (std::size_t k = 0; k < 3; ++k) {
            level.body[k][i] = float(point[Eigen::Index(k)]);
            level.body[3 + k][i] = float(normal[Eigen::Index(k)]);
            level.body[6 + k][i] = float(turned[Eigen::Index(k)]);
        }
    }
}

}  // namespace pinion
