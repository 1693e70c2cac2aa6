#include "shot/stages/lensstage.h"

#include "base/units.h"
#include "shot/ingredients.h"

namespace pinion {
namespace {

constexpr double kUsualFocal = 35.0 / 36.0;  // frame widths

/// By how much the lens moves the frame's corner, in pixels.
double cornerShift(const Lens& lens) {
    const Eigen::Vector2d corner(0, 0);
    const auto straight = undistortedFromPlate(lens, corner);
    return straight ? (*straight - corner).norm() : 0.0;
}

}  // namespace

StageReport lensReport(const Shot& shot) {
    StageReport report{StageState::empty, "as filmed", ""};
    const LensCard& card = shot.lens;
    if (!card.lens) {
        if (!card.lines.isEmpty()) {
            report.state = StageState::attention;
            report.number = fmt::format("{} line{}", card.lines.size(), card.lines.size() == 1 ? "" : "s");
            report.message = "These lines do not tell the lens yet. Draw more, near the edges of the frame.";
        }
        return report;
    }
    report.state = StageState::done;
    report.number = fmt::format("{:.0f} px at the corner", cornerShift(*card.lens));
    if (const auto sound = checkLens(*card.lens); !sound) {
        report.state = StageState::attention;
        report.message = sound.error().message;
    } else if (card.lens->width != shot.plate.width || card.lens->height != shot.plate.height) {
        report.state = StageState::attention;
        report.message = fmt::format("This lens is for {}x{}, the plate is {}x{}.", card.lens->width, card.lens->height,
                                     shot.plate.width, shot.plate.height);
    } else if (card.deviations.border_px > 1.5) {
        report.state = StageState::attention;
        report.message =
            fmt::format("The frame's border is sure to {:.1f} px only. Draw lines near it.", card.deviations.border_px);
    }
    return report;
}

std::optional<Lens> lensInForce(const Shot& shot) {
    std::optional<Lens> lens = shot.lens.lens;
    if (!lens && shot.solve) lens = shot.solve->lens;
    if (lens && (lens->width != shot.plate.width || lens->height != shot.plate.height || !checkLens(*lens)))
        return std::nullopt;
    return lens;
}

bool isOfZoom(const Shot& shot) { return !shot.lens.lens && shot.solve && shot.solve->zoom; }

std::optional<Lens> lensInForce(const Shot& shot, int frame) {
    auto lens = lensInForce(shot);
    if (!lens || !isOfZoom(shot)) return lens;
    if (const SolvedFrame* solved = solvedFrameAt(*shot.solve, frame)) lens = lensOf(*shot.solve, *solved);
    return checkLens(*lens) ? lens : std::nullopt;
}

double focalForLens_px(const Shot& shot) {
    const SolveSettings& s = shot.solveSettings;
    if (s.focal != Knowledge::unknown) return focalPixels(s.focal_mm, s.sensorWidth_mm, shot.plate.width);
    if (shot.solve && shot.solve->lens.width == shot.plate.width) return shot.solve->lens.focal_px;
    return kUsualFocal * shot.plate.width;
}

LinesToFit linesToFit(const Shot& shot) {
    LinesToFit result;
    for (std::size_t i = 0; i < shot.lens.lines.size(); ++i) {
        const LensLine& line = shot.lens.lines[i];
        if (line.clicks.size() < 3 && line.edge.isEmpty()) continue;
        result.lines.push_back({line.frame, line.places().vector()});
        result.places.push_back(i);
    }
    result.options = {.width = shot.plate.width,
                      .height = shot.plate.height,
                      .focal_px = focalForLens_px(shot),
                      .squeeze = shot.solveSettings.squeeze,
                      .terms = shot.lens.terms,
                      .axis = shot.lens.axis};
    return result;
}

std::uint64_t linesKey(const Shot& shot) {
    const LinesToFit fit = linesToFit(shot);
    Fingerprint print;
    print.add(fit.options.width).add(fit.options.height).add(fit.options.focal_px).add(fit.options.squeeze);
    print.add(int(fit.options.terms)).add(int(fit.options.axis));
    for (const StraightLine& line : fit.lines) {
        print.add(line.frame).add(int(line.points.size()));
        for (const Eigen::Vector2d& p : line.points) print.add(p.x()).add(p.y());
    }
    return print.value();
}

}  // namespace pinion
