#include "shot/edits/lensedits.h"

namespace pinion {

Shot withLens(const Shot& shot, const std::optional<Lens>& lens, LensCard::Source source) {
    Shot result = shot;
    LensCard& card = result.lens;
    card.source = lens ? source : LensCard::Source::none;
    card.lens = lens;
    card.focalDeviation_px = card.k1Deviation = card.k2Deviation = card.borderDeviation_px = 0;
    card.axisDeviation_px.setZero();
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

Shot withLinesLens(const Shot& shot, const LinesLens& found) {
    Shot result = withLens(shot, found.lens, LensCard::Source::lines);
    LensCard& card = result.lens;
    card.k1Deviation = found.k1Deviation;
    card.k2Deviation = found.k2Deviation;
    card.axisDeviation_px = found.axisDeviation_px;
    card.borderDeviation_px = found.borderDeviation_px;
    return result;
}

Shot withChartLens(const Shot& shot, const ChartLens& found) {
    Shot result = withLens(shot, found.lens, LensCard::Source::chart);
    LensCard& card = result.lens;
    card.focalDeviation_px = found.focalDeviation_px;
    card.k1Deviation = found.k1Deviation;
    card.k2Deviation = found.k2Deviation;
    card.axisDeviation_px = found.axisDeviation_px;
    card.views = List<ChartView>(found.views);
    return result;
}

Shot withSolvedLens(const Shot& shot) {
    if (!shot.solve) return shot;
    Shot result = withLens(shot, shot.solve->lens, LensCard::Source::solve);
    result.lens.k1Deviation = shot.solve->k1Deviation;
    result.lens.k2Deviation = shot.solve->k2Deviation;
    result.lens.axisDeviation_px = shot.solve->axisDeviation_px;
    return result;
}

}  // namespace pinion
