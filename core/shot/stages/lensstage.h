#pragma once

#include "shot/shot.h"
#include "shot/stages/report.h"

namespace pinion {

StageReport lensReport(const Shot& shot);

/// The lens that the shot is seen through: the Lens card's, else the one that the solve found.
std::optional<Lens> lensInForce(const Shot& shot);
/// Of a solved zoom the one on that frame.
std::optional<Lens> lensInForce(const Shot& shot, int frame);
/// The lens in force is of a zoom: another one on every frame.
bool isOfZoom(const Shot& shot);

/// The lines as the fit takes them, and how. Lines that have not three places yet are left out; `places` gives the
/// places in the card of those that are taken.
struct LinesToFit {
    std::vector<StraightLine> lines;
    std::vector<std::size_t> places;
    LinesOptions options;
};
LinesToFit linesToFit(const Shot& shot);

/// What the fit of the lines depends on.
std::uint64_t linesKey(const Shot& shot);

/// The focal length that coefficients are told at, in pixels: the Camera card's, else the solve's, else a usual one.
double focalForLens_px(const Shot& shot);

}  // namespace pinion
