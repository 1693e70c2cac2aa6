#pragma once

#include "plate/plate.h"
#include "truth.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <memory>
#include <vector>

namespace pinion::bench {

inline double now() {
    return std::chrono::duration<double>(std::chrono::steady_clock::now().time_since_epoch()).count();
}

inline void printErrors(const char* name, Errors errors) {
    fmt::print("  {:<34} {:6} samples   median {:.3f}   95 % {:.3f}   99 % {:.3f}   RMS {:.3f} px\n", name,
               errors.values.size(), errors.at(0.5), errors.at(0.95), errors.at(0.99), errors.rms());
}

/// Every motion model under blur, grain, changing light, a doubling of the scale and partial cover, on a photograph
/// moved by known amounts, beside OpenCV's chained Lucas-Kanade and its template matching on the same frames; then the
/// published pair of pictures.
void benchConditions();

/// Hold and ease on the mooring plate in `folder`, against its truth.
void benchSteady(const std::filesystem::path& folder);

/// Made-up shots held still: a similarity, perspective, what is found out, beside undoing the shake by the truth.
void benchHolds();

/// Warping and writing frames of 1920x1080.
void benchRender();

/// The lens from lines beside the truth, maps, the undistorted view beside OpenCV's remap, the round trip of the
/// landing plate in `folder`. Made-up lenses from seed `first` on.
void benchLens(const std::filesystem::path& folder, unsigned first = 1);

/// Shapes as pixels in time; the trolley of the landing plate in `folder` proposed and masked, and what that does to
/// the solve; what putting back costs.
void benchMattes(const std::filesystem::path& folder);

/// One insert and ten over the board plate in `folder` at 1920x1080, beside OpenCV's warping and blending; rendered to
/// a video and to sequences.
void benchInserts(const std::filesystem::path& folder);

/// Stand-ins on the deck of the landing plate rendered as the window and as a job does, beside a loop that tries every
/// triangle.
void benchStandIns(const Truth& truth);

/// What *match* finds beside what 300 plates were made with, from seed `first` on: the whole insert as area, and a
/// part.
void benchMatching(unsigned first);

/// The second sweep over a plate's scattered tracks: their lengths and errors, and those of the camera, before and
/// after.
void benchLengthening(const std::shared_ptr<const Plate>& plate, const Truth& truth);

}  // namespace pinion::bench
