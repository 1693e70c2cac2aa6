#include "stages/camera/solvefigures.h"

#include "base/units.h"
#include "session/notes.h"

#include <functional>

namespace pinion {
namespace {

/// Rows of a name, the value before, the value now.
class Table {
public:
    Table(const Solve& solve, const Solve* before) : solve_(solve), before_(before) {
        html_ = "<table cellspacing='0' cellpadding='2' width='100%'>";
        if (before)
            html_ +=
                "<tr><td></td><td align='right' style='color:#8a8a8a'>before</td><td align='right' "
                "style='color:#e9bd66'>now</td></tr>";
    }
    void row(const QString& name, const std::function<QString(const Solve&)>& value) {
        html_ += QString("<tr><td style='color:#a2a2a2'>%1</td>").arg(name);
        if (before_) html_ += QString("<td align='right' style='color:#8a8a8a'>%1</td>").arg(value(*before_));
        html_ += QString("<td align='right'>%1</td></tr>").arg(value(solve_));
    }
    QString html() const { return html_ + "</table>"; }

private:
    const Solve& solve_;
    const Solve* before_;
    QString html_;
};

QString pixels(double value) { return QString("%1 px").arg(value, 0, 'f', 3); }

QString within(double value, double deviation, int digits) {
    return deviation > 0 ? QString("%1 ± %2").arg(value, 0, 'f', digits).arg(deviation, 0, 'f', digits)
                         : QString::number(value, 'f', digits);
}

void addTracks(Table& table) {
    table.row("Kind", [](const Solve& x) { return text(std::string(toString(x.motion))) + (x.zoom ? ", zoom" : ""); });
    table.row("RMS", [](const Solve& x) { return pixels(x.rms_px); });
    table.row("Held out", [](const Solve& x) { return x.heldOut > 0 ? pixels(x.heldOutRms_px) : QString("none"); });
    table.row("Used", [](const Solve& x) { return QString::number(x.used); });
    table.row("Disagree", [](const Solve& x) { return QString::number(x.disagreed); });
    table.row("Frames", [](const Solve& x) { return QString::number(x.frames.size()); });
}

void addLens(Table& table, bool showsDeviation, bool narrow, int plateWidth) {
    const auto millimetres = [plateWidth](const Solve& x, double focal_px) {
        return focalMillimetres(focal_px, x.sensorWidth_mm, plateWidth);
    };
    table.row("Focal", [&](const Solve& x) {
        if (!x.zoom) return QString("%1 mm").arg(millimetres(x, x.lens.focal_px), 0, 'f', 2);
        return QString("%1 to %2 mm")
            .arg(millimetres(x, x.frames.front().focal_px), 0, 'f', 1)
            .arg(millimetres(x, x.frames.back().focal_px), 0, 'f', 1);
    });
    if (showsDeviation)
        table.row("Focal ±", [](const Solve& x) {
            return x.focalDeviation_mm ? QString("%1 mm").arg(*x.focalDeviation_mm, 0, 'f', 3) : QString("–");
        });
    // Beside an earlier solve there is room for the value alone.
    table.row("k1", [&](const Solve& x) { return within(x.lens.k1, narrow ? 0 : x.k1Deviation, 4); });
    table.row("k2", [&](const Solve& x) { return within(x.lens.k2, narrow ? 0 : x.k2Deviation, 4); });
    table.row("Axis off", [](const Solve& x) {
        return QString("%1, %2 px")
            .arg(x.lens.cx - x.lens.width / 2.0, 0, 'f', 1)
            .arg(x.lens.cy - x.lens.height / 2.0, 0, 'f', 1);
    });
}

}  // namespace

QString solveFigures(const Solve& solve, const Solve* before, int plateWidth) {
    Table table(solve, before);
    addTracks(table);
    addLens(table, solve.focalDeviation_mm.has_value(), before != nullptr, plateWidth);
    if (solve.motion == CameraMotion::travelling)
        table.row("Parallax", [](const Solve& x) { return QString("%1°").arg(x.medianAngleDegrees, 0, 'f', 1); });
    if (solve.readout.isRolling() || (before && before->readout.isRolling()))
        table.row("Readout", [](const Solve& x) {
            return x.readout.isRolling() ? within(x.readout.share, x.readoutDeviation, 3) : QString("none");
        });
    QString html = table.html();
    if (!solve.reason.empty() && solve.reason != "chosen")
        html += "<p style='color:#a2a2a2; margin:4px 2px'>" + text(solve.reason).toHtmlEscaped() + "</p>";
    return html;
}

QString solveTitle(SolveId id, const Solve& solve, int plateWidth) {
    return QString("solve %1: %2, %3 mm%4")
        .arg(id)
        .arg(pixels(solve.rms_px))
        .arg(focalMillimetres(solve.lens.focal_px, solve.sensorWidth_mm, plateWidth), 0, 'f', 1)
        .arg(solve.doubt.empty() ? "" : ", not sure");
}

}  // namespace pinion
