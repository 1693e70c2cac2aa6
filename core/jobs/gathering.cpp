#include "jobs/gathering.h"

#include "base/files.h"
#include "base/parallel.h"
#include "plate/framewriter.h"
#include "render/surface.h"
#include "world/eye.h"

#include <Eigen/LU>
#include <algorithm>
#include <atomic>
#include <cmath>

namespace pinion {

using Eigen::Array4f;
using Eigen::half;
using Eigen::Vector2d;
using Eigen::Vector3d;

namespace {

constexpr int kMostSide = 4096;
constexpr std::size_t kBandBytes = std::size_t(256) << 20;
constexpr double kLeastSlope = 0.03;  // the sine under which it is seen edge-on

/// A flat stand-in's places, (0, 0) top left to (1, 1).
class FlatSheet {
public:
    FlatSheet(const StandIn& sheet, double frame)
        : lies_(sheet.kind == StandInKind::grid), world_(sheet.at(frame).worldFromUnit()) {}
    Vector3d at(const Vector2d& place) const {
        return world_ *
               (lies_ ? Vector3d(place.x() - 0.5, 0, place.y() - 0.5) : Vector3d(place.x() - 0.5, 1 - place.y(), 0));
    }
    Vector3d normal() const {
        return (world_.linear().inverse().transpose() * (lies_ ? Vector3d(0, 1, 0) : Vector3d(0, 0, 1))).normalized();
    }

private:
    bool lies_;
    Eigen::Affine3d world_;
};

/// One frame that sees some of it.
struct Looking {
    int frame;
    WorldEye eye;
    FlatSheet sheet;
};

/// Where a place is seen, and how large a step of the sheet is there; none where it is not.
struct Sighted {
    Vector2d plate, across, down;
    double area = 0;  ///< pixels of the plate
};
std::optional<Sighted> sightedAt(const Looking& looking, const Vector2d& place, const Vector2d& step) {
    const Lens& lens = looking.eye.lens();
    const Vector3d here = looking.sheet.at(place), towards = looking.eye.place() - here;
    if (looking.sheet.normal().dot(towards) < kLeastSlope * towards.norm()) return std::nullopt;
    const auto plate = looking.eye.plateFromWorld(here);
    if (!plate || plate->x() < 1 || plate->y() < 1 || plate->x() > lens.width - 1 || plate->y() > lens.height - 1)
        return std::nullopt;
    const auto right = looking.eye.plateFromWorld(looking.sheet.at(place + Vector2d(step.x(), 0))),
               below = looking.eye.plateFromWorld(looking.sheet.at(place + Vector2d(0, step.y())));
    if (!right || !below) return std::nullopt;
    Sighted seen{*plate, *right - *plate, *below - *plate, 0};
    seen.area = std::abs(seen.across.x() * seen.down.y() - seen.across.y() * seen.down.x());
    return seen;
}

/// The value with half of the weights on either side.
float weightedMedian(std::vector<std::pair<float, float>>& values) {
    std::sort(values.begin(), values.end());
    float all = 0, sum = 0;
    for (const auto& [value, weight] : values) all += weight;
    for (const auto& [value, weight] : values) {
        sum += weight;
        if (2 * sum >= all) return value;
    }
    return values.back().first;
}

/// The frames that are asked, and how many pixels a unit the best of them has.
std::vector<Looking> lookersAt(const StandIn& sheet, const FrameRange& range, const Solve& solve,
                               const Orientation& orientation, int most, double* best) {
    constexpr int kPlaces = 9;
    std::vector<Looking> all;
    for (int frame = range.first; frame <= range.last; ++frame) {
        if (!sheet.isOn(frame)) continue;
        const auto eye = WorldEye::of(solve, orientation, frame);
        if (!eye) continue;
        const Looking looking{frame, *eye, FlatSheet(sheet, frame)};
        bool isSeen = false;
        for (int i = 0; i < kPlaces * kPlaces; ++i) {
            const Vector2d place((i % kPlaces + 0.5) / kPlaces, (double(i / kPlaces) + 0.5) / kPlaces),
                step(1e-3, 1e-3);
            const auto seen = sightedAt(looking, place, step);
            if (!seen) continue;
            isSeen = true;
            const Vector3d across = looking.sheet.at({1, 0}) - looking.sheet.at({0, 0});
            *best = std::max(*best, seen->across.norm() / (1e-3 * across.norm()));
        }
        if (isSeen) all.push_back(looking);
    }
    if (int(all.size()) <= most) return all;
    std::vector<Looking> chosen;
    for (int i = 0; i < most; ++i) chosen.push_back(all[std::size_t(i) * (all.size() - 1) / std::size_t(most - 1)]);
    return chosen;
}

Expected<void> writeOne(const std::filesystem::path& out, const Picture& picture, const ImageChannel& alpha) {
    const std::string ending = loweredEnding(out);
    const std::filesystem::path part = out.parent_path() / fmt::format(".{}-part.####{}", out.stem().string(), ending);
    auto writer = FrameWriter::create(part, picture.width, picture.height, {24, 1});
    if (!writer) return tl::unexpected(writer.error());
    const AlphaKind stored = ending == ".exr" ? AlphaKind::premultiplied : AlphaKind::straight;
    if (auto written = (*writer)->write(1, picture, alpha, AlphaKind::straight, stored); !written) return written;
    if (auto finished = (*writer)->finish(); !finished) return finished;
    std::error_code error;
    std::filesystem::rename(frameFile(part, 1), out, error);
    if (error) return failure(Fault::system, "{}: cannot be written: {}", out.string(), error.message());
    return {};
}

}  // namespace

Expected<GatherReport> runGather(FrameCache& frames, const FrameRange& range, const Solve& solve,
                                 const Orientation& orientation, const StandIn& sheet, const std::filesystem::path& out,
                                 const GatherOptions& options, const Progress& progress) {
    const PlateFacts& facts = frames.facts();
    if (solve.lens.width != facts.width || solve.lens.height != facts.height)
        return failure(Fault::input, "the camera is for {}x{}, the plate is {}x{}", solve.lens.width, solve.lens.height,
                       facts.width, facts.height);
    if (sheet.kind != StandInKind::board && sheet.kind != StandInKind::card && sheet.kind != StandInKind::grid)
        return failure(Fault::input, "{}: is not flat: gather what lies on a board, a card or a grid", sheet.name);
    if (sheet.card.facesCamera && sheet.kind != StandInKind::grid)
        return failure(Fault::input,
                       "{}: faces the camera, and so lies on another place on every frame: let it stand "
                       "still",
                       sheet.name);
    if (const std::string ending = loweredEnding(out);
        ending != ".png" && ending != ".tif" && ending != ".tiff" && ending != ".exr")
        return failure(Fault::input, "{}: a gathered picture is written as .png, .tif or .exr", out.string());
    double best = 0;
    const std::vector<Looking> lookers = lookersAt(sheet, range, solve, orientation, std::max(2, options.most), &best);
    if (lookers.empty())
        return failure(Fault::input, "{}: no frame of {}-{} sees its front", sheet.name, range.first, range.last);
    const double scale = options.pixelsPerUnit > 0 ? options.pixelsPerUnit : best;
    const Vector3d size = sheet.at(lookers.front().frame).size;
    const double tall = sheet.kind == StandInKind::grid ? size.z() : size.y();
    const auto side = [&](double length) { return std::clamp(int(std::lround(length * scale)), 2, kMostSide); };
    const int width = side(size.x()), height = side(tall);
    const bool linear = facts.linear;
    std::vector<float> rgb(3 * std::size_t(width) * std::size_t(height), 0.0F);
    ImageChannel alpha(width, height);
    const std::size_t texel = lookers.size() * 4 * sizeof(half);
    const int band = std::clamp(int(kBandBytes / (texel * std::size_t(width))), 1, height);
    const Vector2d step(1.0 / width, 1.0 / height);
    std::vector<char> isUsed(lookers.size(), 0);  // a band or another sees some of it
    for (int top = 0; top < height; top += band) {
        const int rows = std::min(band, height - top);
        // Of each place the frames one after the other: linear red, green, blue, and a weight.
        std::vector<half> samples(4 * lookers.size() * std::size_t(rows) * std::size_t(width), half(0.0F));
        for (std::size_t i = 0; i < lookers.size(); ++i) {
            if (progress.stopped()) return failure(Fault::stopped, "stopped");
            progress.report((top + rows * double(i) / double(lookers.size())) / height,
                            fmt::format("frame {}", lookers[i].frame));
            const auto read = frames.get(lookers[i].frame);
            if (!read) continue;  // the others see it as well
            const SurfacePicture shown(**read);
            const Vector2d plate(facts.width, facts.height);
            std::atomic<bool> sees = false;
            parallelFor(
                std::size_t(rows),
                [&](std::size_t row) {
                    for (int x = 0; x < width; ++x) {
                        const Vector2d place((x + 0.5) / width, (top + double(row) + 0.5) / height);
                        const auto seen = sightedAt(lookers[i], place, step);
                        if (!seen) continue;
                        const Array4f colour =
                            shown.at(seen->plate.cwiseQuotient(plate), seen->across.cwiseQuotient(plate),
                                     seen->down.cwiseQuotient(plate));
                        half* to = &samples[4 * ((row * std::size_t(width) + std::size_t(x)) * lookers.size() + i)];
                        for (int c = 0; c < 3; ++c) to[c] = half(colour[c]);
                        // Larger than a texel it is seen no better.
                        to[3] = half(float(std::min(1.0, std::max(1e-3, seen->area))));
                        sees = true;
                    }
                },
                8);
            if (sees) isUsed[i] = 1;
        }
        parallelFor(
            std::size_t(rows),
            [&](std::size_t row) {
                std::vector<std::pair<float, float>> values;
                for (int x = 0; x < width; ++x) {
                    const half* from = &samples[4 * (row * std::size_t(width) + std::size_t(x)) * lookers.size()];
                    const std::size_t at = (std::size_t(top) + row) * std::size_t(width) + std::size_t(x);
                    for (std::size_t c = 0; c < 3; ++c) {
                        values.clear();
                        for (std::size_t i = 0; i < lookers.size(); ++i)
                            if (float(from[4 * i + 3]) > 0)
                                values.emplace_back(float(from[4 * i + c]), float(from[4 * i + 3]));
                        if (values.empty()) break;
                        const float median = weightedMedian(values);
                        rgb[3 * at + c] = linear ? median : encodeSrgb(std::clamp(median, 0.0F, 1.0F));
                        alpha.values[at] = 1;
                    }
                }
            },
            8);
    }
    const Picture picture{width, height, Picture::Depth::float32, linear, {}, std::move(rgb)};
    if (auto written = writeOne(out, picture, alpha); !written) return tl::unexpected(written.error());
    GatherReport report{int(std::count(isUsed.begin(), isUsed.end(), 1)), width, height, 0};
    for (const float one : alpha.values) report.seen += double(one);
    report.seen /= double(width) * height;
    return report;
}

}  // namespace pinion
