#include "matte/riding.h"

#include <Eigen/Geometry>
#include <cmath>
#include <fmt/format.h>

namespace pinion {
namespace {

constexpr double kHorizon = 0.02;  // of a place's depth: nearer to it a shape runs to infinity

Expected<Matte> carriedMatte(const Matte& matte, const Carrier& carrier, const FrameRange& range) {
    Matte baked = matte;
    baked.ride.reset();
    baked.between = Matte::Between::linear;
    baked.keys.clear();
    for (int frame = range.first; frame <= range.last; ++frame) {
        const Eigen::Matrix3d plateFromReference = carrier.plateFromReference(frame);
        const auto shape = shapeAt(matte, frame);
        if (!shape) break;
        Matte::Key key{frame, flattened(*shape), {}, {}, flattenedFeather(*shape)};
        for (Eigen::Vector2d& p : key.polygon) {
            const Eigen::Vector3d at = plateFromReference * p.homogeneous();
            if (!(at.z() > kHorizon * std::abs(plateFromReference(2, 2))))
                return failure(Fault::outcome,
                               "reaches the horizon of its tracks' perspective on frame {}; draw it smaller, or let it "
                               "ride on fewer tracks",
                               frame);
            p = at.hnormalized();
        }
        baked.keys.push_back(std::move(key));
    }
    return baked;
}

}  // namespace

std::string gapNote(const Matte& matte, const Carrier& carrier) {
    std::vector<int> missing;
    for (const int frame : carrier.missing())
        if (isThere(matte, frame)) missing.push_back(frame);
    return missing.empty() ? std::string()
                           : fmt::format(
                                 "what it rides on is not there on {}: it stays where it was on the nearest "
                                 "frame",
                                 frameRanges(missing));
}

std::optional<Matte::Key> riddenShape(const Matte& matte, int frame, const Carrier* carrier) {
    auto shape = shapeAt(matte, frame);
    if (!shape || !matte.ride || !carrier) return shape;
    return carried(carrier->plateFromReference(frame), *std::move(shape));
}

Expected<std::vector<Matte>> ridden(std::vector<Matte> mattes, const Carriers& carriers, const FrameRange& range,
                                    std::vector<std::string>* notes) {
    for (Matte& matte : mattes) {
        if (!matte.ride) continue;
        const auto carrier = carriers.of(*matte.ride);
        auto placed = carrier->problem().empty() ? carriedMatte(matte, *carrier, range)
                                                 : Expected<Matte>(failure(Fault::input, "{}", carrier->problem()));
        if (!placed) {
            const std::string words = fmt::format("shape {}: {}", matte.name, placed.error().message);
            if (!notes) return failure(placed.error().fault, "{}", words);
            notes->push_back(words);
            matte.ride.reset();
            continue;
        }
        if (const std::string note = gapNote(matte, *carrier); notes && !note.empty())
            notes->push_back(fmt::format("shape {}: {}", matte.name, note));
        matte = std::move(*placed);
    }
    return mattes;
}

}  // namespace pinion
