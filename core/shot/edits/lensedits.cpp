#include "shot/edits/lensedits.h"

namespace pinion {

Shot withLens(const Shot& shot, const std::optional<Lens>& lens, LensCard::Source source,
              const LensDeviations& deviations) {
    Shot result = shot;
    result.lens.source = lens ? source : LensCard::Source::none;
    result.lens.lens = lens;
    result.lens.deviations = deviations;
    result.lens.maps = {};
    return result;
}

Shot withLensLines(const Shot& shot, std::vector<LensLine> lines) {
    Shot result = shot;
    // Without lines there is nothing that they say.
    if (lines.empty() && shot.lens.source == LensCard::Source::lines) result = withLens(shot, std::nullopt, {});
    if (!lines.empty()) result.lens.source = LensCard::Source::lines;
    result.lens.lines = List<LensLine>(std::move(lines));
    return result;
}

Shot withChartLens(const Shot& shot, const ChartLens& found) {
    Shot result = withLens(shot, found.lens, LensCard::Source::chart, found.deviations);
    result.lens.views = List<ChartView>(found.views);
    return result;
}

Shot withSolvedLens(const Shot& shot) {
    if (!shot.solve) return shot;
    const Solve& solve = *shot.solve;
    return withLens(shot, solve.lens, LensCard::Source::solve,
                    {.k1 = solve.k1Deviation, .k2 = solve.k2Deviation, .axis_px = solve.axisDeviation_px});
}

Shot withMapsLens(const Shot& shot, const MapsLens& found, LensMaps maps) {
    Shot result = withLens(shot, found.lens, LensCard::Source::maps);
    maps.returns_px = found.returns_px;
    maps.half = found.isHalf;
    result.lens.maps = std::move(maps);
    return result;
}

}  // namespace pinion
