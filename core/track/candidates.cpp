#include "track/candidates.h"

#include "base/parallel.h"

#include <algorithm>
#include <cmath>
#include <opencv2/imgproc.hpp>

namespace pinion {
namespace {

using Eigen::Vector2d;

/// Remembers places in a grid of cells as wide as the least distance, so that a neighbour is found among nine cells.
class PlaceGrid {
public:
    PlaceGrid(int width, int height, double distance)
        : distance_(std::max(1.0, distance)),
          columns_(int(width / distance_) + 1),
          rows_(int(height / distance_) + 1),
          cells_(std::size_t(columns_) * std::size_t(rows_)) {}

    bool isFree(const Vector2d& at) const {
        const int cx = column(at);
        const int cy = row(at);
        for (int y = std::max(0, cy - 1); y <= std::min(rows_ - 1, cy + 1); ++y)
            for (int x = std::max(0, cx - 1); x <= std::min(columns_ - 1, cx + 1); ++x)
                for (const Vector2d& place : cells_[std::size_t(y * columns_ + x)])
                    if ((place - at).squaredNorm() < distance_ * distance_) return false;
        return true;
    }
    void add(const Vector2d& at) { cells_[std::size_t(row(at) * columns_ + column(at))].push_back(at); }

private:
    int column(const Vector2d& at) const { return std::clamp(int(at.x() / distance_), 0, columns_ - 1); }
    int row(const Vector2d& at) const { return std::clamp(int(at.y() / distance_), 0, rows_ - 1); }
    double distance_;
    int columns_;
    int rows_;
    std::vector<std::vector<Vector2d>> cells_;
};

constexpr int kPartsAcross = 16;
constexpr int kPartsDown = 9;
constexpr float kGrainFloor = 1.0F;  // what grain alone reaches after smoothing

}  // namespace

std::vector<Candidate> findCandidates(const Pyramid& pyramid, const CandidateOptions& options,
                                      std::span<const Vector2d> taken, std::span<const Matte> mattes, int frame) {
    if (pyramid.levels.empty() || options.features <= 0) return {};
    // Half resolution: a corner that is one at that scale too survives blur and a change of distance.
    const std::size_t level = pyramid.levels.size() > 1 ? 1 : 0;
    const double scale = level == 1 ? 2.0 : 1.0;
    const ImageChannel& plane = pyramid.levels[level];
    const cv::Mat grey(plane.height, plane.width, CV_32F, const_cast<float*>(plane.values.data()));
    cv::Mat gx, gy;
    cv::Sobel(grey, gx, CV_32F, 1, 0, 3, 1.0 / 8);
    cv::Sobel(grey, gy, CV_32F, 0, 1, 3, 1.0 / 8);
    cv::Mat xx = gx.mul(gx), xy = gx.mul(gy), yy = gy.mul(gy);
    const cv::Size window(9, 9);
    for (cv::Mat* product : {&xx, &xy, &yy}) cv::boxFilter(*product, *product, CV_32F, window);
    cv::Mat strength(grey.size(), CV_32F);
    parallelFor(
        std::size_t(grey.rows),
        [&](std::size_t row) {
            const int y = int(row);
            const float *a = xx.ptr<float>(y), *b = xy.ptr<float>(y), *c = yy.ptr<float>(y);
            float* out = strength.ptr<float>(y);
            for (int x = 0; x < grey.cols; ++x) {
                const float difference = 0.5F * (a[x] - c[x]);
                out[x] = 0.5F * (a[x] + c[x]) - std::sqrt(difference * difference + b[x] * b[x]);
            }
        },
        32);
    cv::Mat highest;
    cv::dilate(strength, highest, cv::Mat());
    double strongest = 0;
    cv::minMaxLoc(strength, nullptr, &strongest);
    const float least = std::max(kGrainFloor, float(options.threshold * strongest));

    std::vector<std::vector<Candidate>> parts(kPartsAcross * kPartsDown);
    const int border = std::max(2, int(std::ceil(options.border_px / scale)));
    for (int y = border; y < grey.rows - border; ++y) {
        const float *value = strength.ptr<float>(y), *top = highest.ptr<float>(y);
        for (int x = border; x < grey.cols - border; ++x)
            if (value[x] >= least && value[x] == top[x]) {
                const Vector2d at(x * scale + 0.5, y * scale + 0.5);
                const int part = (y * kPartsDown / grey.rows) * kPartsAcross + x * kPartsAcross / grey.cols;
                parts[std::size_t(part)].push_back({at, double(value[x])});
            }
    }
    PlaceGrid grid(pyramid.width(), pyramid.height(), options.leastDistance_px);
    std::vector<std::size_t> holding(parts.size(), 0);
    for (const Vector2d& place : taken) {
        grid.add(place);
        const int x = std::clamp(int(place.x() / pyramid.width() * kPartsAcross), 0, kPartsAcross - 1);
        const int y = std::clamp(int(place.y() / pyramid.height() * kPartsDown), 0, kPartsDown - 1);
        ++holding[std::size_t(y * kPartsAcross + x)];
    }
    const ExcludedArea excluded(mattes, frame);
    // Within each part the spaced ones, strongest first; then rank by rank through all parts.
    std::vector<std::pair<std::size_t, Candidate>> ranked;
    for (std::size_t index = 0; index < parts.size(); ++index) {
        auto& part = parts[index];
        std::sort(part.begin(), part.end(),
                  [](const Candidate& a, const Candidate& b) { return a.strength > b.strength; });
        std::size_t rank = holding[index];  // a part that is well covered waits for the others
        for (const Candidate& candidate : part)
            if (grid.isFree(candidate.at) && !excluded.holds(candidate.at)) {
                grid.add(candidate.at);
                ranked.emplace_back(rank++, candidate);
            }
    }
    std::stable_sort(ranked.begin(), ranked.end(), [](const auto& a, const auto& b) {
        return a.first != b.first ? a.first < b.first : a.second.strength > b.second.strength;
    });
    std::vector<Candidate> found;
    for (const auto& [rank, candidate] : ranked) {
        if (int(found.size()) >= options.features) break;
        found.push_back(candidate);
    }
    return found;
}

}  // namespace pinion
