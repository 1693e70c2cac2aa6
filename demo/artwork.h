#pragma once

#include <filesystem>

namespace ternholm {

/// The ferry's timetable, 1280 x 880: what a notice board is given in place of its notices.
bool drawTimetable(const std::filesystem::path& out);

}  // namespace ternholm
