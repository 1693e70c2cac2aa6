#include "chart.h"

#include "base/files.h"
#include "base/parallel.h"
#include "exchange/formats.h"

#include <OpenImageIO/imageio.h>
#include <cmath>
#include <filesystem>
#include <fmt/format.h>
#include <functional>
#include <random>

#include <Eigen/LU>

namespace ternholm {
namespace {

namespace fs = std::filesystem;
using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kAcross = 9, kDown = 6;  // inner corners
constexpr double kSquare = 0.04;       // metres
constexpr double kGap = 0.06;          // between the lines of the grid, metres
constexpr double kLine = 0.0022;       // half of a line's width

/// What a place of a flat chart looks like, 0 to 1; x right, y down, metres from its middle.
using Chart = std::function<double(double x, double y)>;

double board(double x, double y) {
    const double halfX = (kAcross + 1) * kSquare / 2, halfY = (kDown + 1) * kSquare / 2;
    if (std::abs(x) > halfX + kSquare || std::abs(y) > halfY + kSquare)
        return 0.36 + 0.02 * std::sin(40 * x) * std::sin(31 * y);
    if (std::abs(x) > halfX || std::abs(y) > halfY) return 0.86;
    return (int((x + halfX) / kSquare) + int((y + halfY) / kSquare)) % 2 == 0 ? 0.09 : 0.86;
}

double grid(double x, double y) {
    const auto off = [](double v) { return std::abs(v / kGap - std::round(v / kGap)) * kGap; };
    return std::min(off(x), off(y)) < kLine ? 0.1 : 0.84;
}

/// A chart before the camera: its middle, and how it is turned (degrees).
struct Hanging {
    double x, y, z, aboutX, aboutY, aboutZ;
    Eigen::Isometry3d cameraFromChart() const {
        constexpr double kDegree = 0.017453292519943295;
        Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
        pose.translation() = Vector3d(x, y, z);
        pose.rotate(Eigen::AngleAxisd(aboutX * kDegree, Vector3d::UnitX()) *
                    Eigen::AngleAxisd(aboutY * kDegree, Vector3d::UnitY()) *
                    Eigen::AngleAxisd(aboutZ * kDegree, Vector3d::UnitZ()));
        return pose;
    }
};

constexpr Hanging kBoards[] = {{-0.15, -0.07, 0.68, 22, 17, 3},  {0.15, -0.07, 0.66, 17, -23, -6},
                               {-0.16, 0.07, 0.70, -23, 20, 11}, {0.16, 0.07, 0.68, -20, -17, 0},
                               {0.0, 0.0, 0.56, 6, 28, 23},      {0.02, -0.01, 0.52, -28, 3, -17},
                               {-0.19, 0.0, 0.74, 11, 34, 6},    {0.19, 0.01, 0.74, 6, -34, -9},
                               {0.0, -0.03, 0.66, 33, 0, 12},    {0.01, 0.04, 0.62, -30, 8, -2}};

std::vector<std::uint8_t> photographed(const Chart& chart, const Hanging& hanging, const pinion::Lens& lens,
                                       int samples, unsigned seed) {
    std::vector<std::uint8_t> rgb(std::size_t(lens.width) * std::size_t(lens.height) * 3);
    const Eigen::Isometry3d chartFromCamera = hanging.cameraFromChart().inverse();
    const Vector3d eye = chartFromCamera.translation();
    const int side = std::max(2, int(std::lround(std::sqrt(samples))));
    pinion::parallelFor(std::size_t(lens.height), [&](std::size_t y) {
        std::mt19937 dice(seed * 100003U + unsigned(y));
        std::normal_distribution<double> grain(0, 1.6);
        for (int x = 0; x < lens.width; ++x) {
            double sum = 0;
            for (int i = 0; i < side * side; ++i) {
                const Vector2d plate(x + (i % side + 0.5) / side, double(y) + (double(i / side) + 0.5) / side);
                const auto plane = planeFromPlate(lens, plate);
                if (!plane) continue;
                const Vector3d ray = chartFromCamera.linear() * Vector3d(plane->x(), plane->y(), 1);
                const Vector3d hit = eye - ray * (eye.z() / ray.z());
                sum += chart(hit.x(), hit.y());
            }
            // Light from the left above, less of it in the corners.
            const double u = double(x) / lens.width - 0.5, v = double(y) / lens.height - 0.5;
            const double light = 1.02 - 0.12 * u - 0.1 * v - 0.22 * (u * u + v * v);
            for (std::size_t c = 0; c < 3; ++c) {
                const double warm = c == 0 ? 1.01 : c == 2 ? 0.97 : 1.0;
                const double value = 255 * std::pow(sum / (side * side) * light, 1 / 1.1) * warm + grain(dice);
                rgb[(y * std::size_t(lens.width) + std::size_t(x)) * 3 + c] =
                    std::uint8_t(std::clamp(std::lround(value), 0L, 255L));
            }
        }
    });
    return rgb;
}

bool write(const fs::path& path, const std::vector<std::uint8_t>& rgb, const pinion::Lens& lens) {
    const auto output = OIIO::ImageOutput::create(path.string());
    OIIO::ImageSpec spec(lens.width, lens.height, 3, OIIO::TypeDesc::UINT8);
    spec.attribute("CompressionQuality", 93);
    return output && output->open(path.string(), spec) && output->write_image(OIIO::TypeDesc::UINT8, rgb.data()) &&
           output->close();
}

/// Clicks along every third line of the grid, beside it as a hand is.
std::vector<pinion::StraightLine> clicksAlong(const Hanging& hanging, const pinion::Lens& lens) {
    std::vector<pinion::StraightLine> lines;
    std::mt19937 dice(5);
    std::normal_distribution<double> slip(0, 1.2);
    const auto add = [&](const std::function<Vector3d(double)>& along) {
        pinion::StraightLine line{1001, {}};
        std::vector<Vector2d> inside;
        for (double t = -1.2; t <= 1.2; t += 0.01) {
            const Vector3d seen = hanging.cameraFromChart() * along(t);
            const auto plate = plateFromPlane(lens, seen.hnormalized());
            if (plate && plate->x() > 12 && plate->y() > 12 && plate->x() < lens.width - 12 &&
                plate->y() < lens.height - 12)
                inside.push_back(*plate);
        }
        if (inside.size() < 20) return;
        for (int k = 0; k < 4; ++k)
            line.points.emplace_back(inside[std::size_t(k) * (inside.size() - 1) / 3] +
                                     Vector2d(slip(dice), slip(dice)));
        lines.push_back(std::move(line));
    };
    for (int i = -6; i <= 6; i += 3) {
        add([&](double t) { return Vector3d(t, i * kGap / 3 * 2, 0); });
        add([&](double t) { return Vector3d(i * kGap, t, 0); });
    }
    return lines;
}

}  // namespace

bool renderCharts(const std::string& folder, const ShotSize& size, int samples) {
    const pinion::Lens lens = demoShot("landing")->lens(size, 0);
    std::error_code code;
    fs::create_directories(folder, code);
    for (std::size_t i = 0; i < std::size(kBoards); ++i)
        if (!write(fs::path(folder) / fmt::format("board.{}.jpg", 1001 + i),
                   photographed(board, kBoards[i], lens, samples, unsigned(i + 1)), lens))
            return false;
    const Hanging facing{0.006, -0.004, 0.62, 2, -3, 0.6};
    return write(fs::path(folder) / "grid.1001.jpg", photographed(grid, facing, lens, samples, 99), lens) &&
           pinion::writeFile(fs::path(folder) / "grid.lines.json", pinion::linesJson(clicksAlong(facing, lens))) &&
           pinion::writeFile(fs::path(folder) / "chart.truth.json", pinion::lensJson(lens));
}

}  // namespace ternholm
