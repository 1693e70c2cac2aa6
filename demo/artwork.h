#pragma once

#include <filesystem>

namespace ternholm {

/// The ferry's timetable, 1280 x 880: what a notice board is given in place of its notices.
bool drawTimetable(const std::filesystem::path& out);

/// A harbour lamp that burns and swings a little, 240 x 320 with alpha, 60 frames that loop: "lamp.####.png" and so on.
bool drawLamp(const std::filesystem::path& folder);

}  // namespace ternholm
