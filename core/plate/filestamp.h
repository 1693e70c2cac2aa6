#pragma once

#include "base/framerange.h"
#include "plate/plate.h"

#include <cstdint>
#include <filesystem>
#include <span>

namespace pinion {

/// Of a file's size and the time of its last change: another one after it was replaced. 0 where it is not there.
std::uint64_t stampOf(const std::filesystem::path& file);

/// Of several, in their order.
std::uint64_t stampOf(std::span<const std::filesystem::path> files);

/// Of all files that a plate reads the frames of `range` from.
std::uint64_t stampOf(const Plate& plate, const FrameRange& range);

}  // namespace pinion
