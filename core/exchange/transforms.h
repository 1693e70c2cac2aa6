#pragma once

#include "exchange/formats.h"
#include "steady/shake.h"

namespace pinion {

/// Of which plate, and what it is called.
struct TransformSource {
    std::string name;
    int width = 0;
    int height = 0;
    FrameRate fps;
};

/// Per frame: translate, rotate (degrees), scale about a pivot, and the 3x3 they make. A point p of the reference frame
/// goes to `pivot + translate + scale * R(rotate) * (p - pivot)`; counted from the bottom left a positive angle turns
/// anticlockwise.
std::string transformsJson(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options);
std::string transformsCsv(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options);

/// Per frame: four corners (top-left, top-right, bottom-right, bottom-left) and the 3x3 that takes those of the
/// reference frame there. Of a motion that is no corner pin, the corners of the plate.
std::string cornerPinJson(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options);
std::string cornerPinCsv(const PlateMotion& motion, const TransformSource& source, const TransformOptions& options);

/// The matrices of a file written by one of the JSON writers, by frame; for the check after a delivery.
Expected<std::vector<FrameMotion>> readMatrices(const std::filesystem::path& path);

/// `pinion.shake`
std::string shakeJson(const ShakeProfile& profile);
Expected<ShakeProfile> readShake(const std::filesystem::path& path);

}  // namespace pinion
