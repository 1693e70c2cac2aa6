#pragma once

#include "shots.h"

#include <string>

namespace ternholm {

/// Stills of two charts through the landing's lens, into a folder: `board.1001.jpg` and on, a chessboard of 9x6 inner
/// corners turned about before the camera; `grid.1001.jpg`, a grid of lines that fills the frame, with
/// `grid.lines.json`, clicks along its lines two pixels beside them; `chart.truth.json`, the lens. False when a file
/// cannot be written.
bool renderCharts(const std::string& folder, const ShotSize& size, int samples);

}  // namespace ternholm
