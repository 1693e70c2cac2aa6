#pragma once

#include <filesystem>

namespace ternholm {

/// The white house across the water painted out on one frame of mooring: a picture of the frame's size that holds the
/// patch alone, with a soft edge as its alpha. Hill and water beside the house are laid over it.
bool paintHouseOut(const std::filesystem::path& mooring, int frame, const std::filesystem::path& out);

}  // namespace ternholm
