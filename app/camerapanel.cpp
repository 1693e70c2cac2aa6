// The Camera card: what is known of camera and lens, the solve's figures, and the line that sets tracks aside.

#include "base/units.h"
#include "docket.h"
#include "errorhistogram.h"
#include "exchange/formats.h"
#include "form.h"
#include "measurestable.h"
#include "shot/edits/trackedits.h"
#include "theme.h"

#include <QFileDialog>

namespace pinion {

QWidget* makeCameraPanel(Workspace& workspace) {
    auto* form = new Form;
    auto* focal = choice({"known", "guessed", "unknown"});
    auto* millimetres = decimal(1, 2000, 2, 1, " mm");
    auto* trust = decimal(0.01, 200, 2, 0.5, " mm");
    auto* sensor = decimal(1, 100, 2, 1, " mm");
    auto* distortion = choice({"none", "known…", "k1 and k2", "k1 only", "all terms"});
    distortion->setObjectName("distortion");
    distortion->setToolTip("Known: read from a lens.json. All terms: k1, k2, k3, p1, p2");
    focal->setObjectName("focal");
    auto* kind = choice({"find out", "travelling", "nodal", "locked"});
    kind->setObjectName("cameraKind");
    kind->setToolTip("Travelling: it moves. Nodal: it only turns. Locked: it stands still");
    auto* zoom = choice({"find out", "zooms", "does not"});
    zoom->setObjectName("zoom");
    zoom->setToolTip("A lens that zooms gets a focal length on every frame, smooth in time");
    auto* axis = choice({"automatic", "middle", "free"});
    axis->setObjectName("axis");
    axis->setToolTip(
        "Where the optical axis meets the plate. Automatic: near the middle, as far off as the tracks say; free: for "
        "plates cropped off the middle");
    form->row("Camera", kind);
    form->row("Focal length", focal);
    auto* millimetresLabel = form->row("Value", millimetres);
    auto* trustLabel = form->row("Trust ±", trust);
    form->row("Sensor width", sensor);
    form->row("Zoom", zoom);
    form->row("Distortion", distortion);
    form->row("Optical axis", axis);
    auto* squeeze = decimal(0.05, 20, 3, 0.05);
    squeeze->setObjectName("squeeze");
    squeeze->setToolTip(
        "Pixels across over pixels down of one angle: 1 for a spherical lens, 0.5 for a plate squeezed by two and not "
        "stretched again. Taken from the plate's pixels when it is opened");
    form->row("Squeeze", squeeze);
    auto* base = choice({"find out", "by hand"});
    base->setObjectName("basePair");
    base->setToolTip(
        "The two frames from which the search starts: far enough apart to show depth, near enough to share tracks");
    form->row("Base pair", base);
    auto* first = spin(0, 9999999);
    first->setObjectName("baseFirst");
    auto* second = spin(0, 9999999);
    second->setObjectName("baseSecond");
    auto* baseFrames = columns({{"From frame", first}, {"To frame", second}});
    form->wide(baseFrames);
    form->wide(makeMeasuresTable(workspace));
    auto* solve = button("Solve", "quiet");
    auto* refine = button("Refine");
    refine->setToolTip(
        "From the present solve on, without a search: quick, after tracks, lens or measures have changed a little");
    form->wide(buttonRow({solve, refine}));
    auto* doubt = new QLabel;
    doubt->setObjectName("doubt");
    doubt->setWordWrap(true);
    doubt->setStyleSheet("QLabel { color: #e9bd66; border-left: 2px solid #c98f3a; padding: 2px 0 2px 8px; }");
    doubt->setTextInteractionFlags(Qt::TextSelectableByMouse);
    form->wide(doubt);
    auto* results = new QLabel;
    results->setObjectName("solveResults");
    results->setTextFormat(Qt::RichText);
    results->setWordWrap(true);
    results->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
    results->setTextInteractionFlags(Qt::TextSelectableByMouse);
    form->wide(results);
    auto* histogram = new ErrorHistogram(workspace);
    form->wide(histogram);
    auto* aside = button("Set aside", "quiet");
    auto* back = button("Bring back all");
    form->wide(buttonRow({aside, back}));

    const auto changed = [&workspace, focal, millimetres, trust, sensor, distortion, kind, zoom, axis, base, first,
                          second] {
        Shot shot = workspace.shot();
        SolveSettings& s = shot.solveSettings;
        s.focal = Knowledge(focal->currentIndex());
        s.focal_mm = millimetres->value();
        s.focalTrust_mm = trust->value();
        s.sensorWidth_mm = sensor->value();
        s.distortion = SolveOptions::Distortion(distortion->currentIndex());
        s.axis = SolveOptions::Axis(axis->currentIndex());
        s.motion = kind->currentIndex() == 0 ? std::nullopt : std::optional(CameraMotion(kind->currentIndex() - 1));
        s.zoom = zoom->currentIndex() == 0 ? std::nullopt : std::optional(zoom->currentIndex() == 1);
        if (base->currentIndex() == 0) {
            s.basePair.reset();
        } else if (!s.basePair) {
            // What the solve found is the best first guess.
            const auto& found = shot.solve ? shot.solve->basePair : std::pair(0, 0);
            s.basePair = found.first != found.second
                             ? found
                             : std::pair(shot.plate.range.first, (shot.plate.range.first + shot.plate.range.last) / 2);
        } else {
            s.basePair = {first->value(), second->value()};
        }
        if (s.distortion == SolveOptions::Distortion::known && !s.lens)
            s.distortion = SolveOptions::Distortion::unknown;
        workspace.edit("Change camera settings", std::move(shot));
    };
    for (QComboBox* box : {focal, kind, zoom, axis, base}) QObject::connect(box, &QComboBox::activated, form, changed);
    for (QSpinBox* box : {first, second}) QObject::connect(box, &QSpinBox::valueChanged, form, changed);
    QObject::connect(distortion, &QComboBox::activated, form, [&workspace, form, distortion, changed](int index) {
        if (SolveOptions::Distortion(index) != SolveOptions::Distortion::known) {
            changed();
            return;
        }
        const QString path = QFileDialog::getOpenFileName(form, "Open lens", {}, "Lenses (*.json)");
        const auto lens = path.isEmpty() ? Expected<Lens>(failure(Fault::stopped, "")) : readLens(path.toStdString());
        if (!lens) {
            if (!path.isEmpty()) workspace.sayError(text(lens.error().message));
            distortion->setCurrentIndex(int(workspace.shot().solveSettings.distortion));
            return;
        }
        Shot shot = workspace.shot();
        shot.solveSettings.distortion = SolveOptions::Distortion::known;
        shot.solveSettings.lens = *lens;
        workspace.edit("Take distortion from a lens", std::move(shot));
    });
    for (QDoubleSpinBox* box : {millimetres, trust, sensor})
        QObject::connect(box, &QDoubleSpinBox::valueChanged, form, changed);
    QObject::connect(solve, &QPushButton::clicked, form, [&workspace] { workspace.startSolve(); });
    QObject::connect(refine, &QPushButton::clicked, form, [&workspace] { workspace.startSolve(true); });
    QObject::connect(aside, &QPushButton::clicked, form, [&workspace] {
        const auto tracks = workspace.tracksAbove(workspace.trimPreview());
        if (tracks.empty()) return;
        workspace.edit(QString("Set %1 tracks aside").arg(tracks.size()), withSetAside(workspace.shot(), tracks, true));
        workspace.setTrimPreview(0);
    });
    QObject::connect(back, &QPushButton::clicked, form, [&workspace] {
        std::vector<TrackId> tracks;
        for (const Track& track : workspace.shot().tracks)
            if (track.setAside) tracks.push_back(track.id);
        if (!tracks.empty())
            workspace.edit(QString("Bring %1 tracks back").arg(tracks.size()),
                           withSetAside(workspace.shot(), tracks, false));
    });
    QObject::connect(squeeze, &QDoubleSpinBox::valueChanged, form, [&workspace](double value) {
        Shot shot = workspace.shot();
        shot.solveSettings.squeeze = value;
        workspace.edit("Change the squeeze", std::move(shot));
    });
    const auto refresh = [&workspace, form, squeeze, focal, millimetres, trust, sensor, distortion, kind, zoom, axis,
                          base, first, second, baseFrames, doubt, solve, refine, results, histogram, aside, back,
                          millimetresLabel, trustLabel] {
        const Shot& shot = workspace.shot();
        const SolveSettings& s = shot.solveSettings;
        focal->setCurrentIndex(int(s.focal));
        setQuietly(millimetres, s.focal_mm);
        setQuietly(trust, s.focalTrust_mm);
        setQuietly(sensor, s.sensorWidth_mm);
        distortion->setCurrentIndex(int(s.distortion));
        axis->setCurrentIndex(int(s.axis));
        setQuietly(squeeze, s.squeeze);
        kind->setCurrentIndex(s.motion ? int(*s.motion) + 1 : 0);
        zoom->setCurrentIndex(s.zoom ? (*s.zoom ? 1 : 2) : 0);
        base->setCurrentIndex(s.basePair ? 1 : 0);
        baseFrames->setVisible(s.basePair.has_value());
        if (s.basePair) {
            const QSignalBlocker quietFirst(first), quietSecond(second);
            for (QSpinBox* box : {first, second}) box->setRange(shot.plate.range.first, shot.plate.range.last);
            first->setValue(s.basePair->first);
            second->setValue(s.basePair->second);
        }
        doubt->setVisible(shot.solve && !shot.solve->doubt.empty());
        if (shot.solve) doubt->setText("Not sure: " + text(shot.solve->doubt) + ".");
        millimetres->setVisible(s.focal != Knowledge::unknown);
        millimetresLabel->setVisible(s.focal != Knowledge::unknown);
        trust->setVisible(s.focal == Knowledge::guessed);
        trustLabel->setVisible(s.focal == Knowledge::guessed);
        solve->setEnabled(!workspace.isBusy() && !shot.tracks.isEmpty());
        solve->setText(shot.solve ? "Solve again" : "Solve");
        refine->setVisible(shot.solve != nullptr);
        refine->setEnabled(solve->isEnabled());
        histogram->setVisible(shot.solve != nullptr);
        aside->setVisible(shot.solve != nullptr);
        back->setVisible(shot.solve != nullptr);
        const auto above = workspace.tracksAbove(workspace.trimPreview());
        aside->setEnabled(!above.empty() && !workspace.isBusy());
        aside->setText(above.empty() ? QString("Set aside") : QString("Set %1 aside").arg(above.size()));
        const auto asideCount =
            std::count_if(shot.tracks.begin(), shot.tracks.end(), [](const Track& t) { return t.setAside; });
        back->setEnabled(asideCount > 0 && !workspace.isBusy());
        if (!shot.solve) {
            results->setText(shot.tracks.isEmpty() ? "<span style='color:#a2a2a2'>Scatter features first.</span>" : "");
            results->setVisible(!results->text().isEmpty());
            return;
        }
        results->show();
        const auto before = workspace.previousSolve();
        const int width = shot.plate.width;
        QString table = "<table cellspacing='0' cellpadding='2' width='100%'>";
        const auto row = [&](const QString& name, const std::function<QString(const Solve&)>& value) {
            table += QString("<tr><td style='color:#a2a2a2'>%1</td>").arg(name);
            if (before) table += QString("<td align='right' style='color:#8a8a8a'>%1</td>").arg(value(*before));
            table += QString("<td align='right'>%1</td></tr>").arg(value(*shot.solve));
        };
        if (before)
            table +=
                "<tr><td></td><td align='right' style='color:#8a8a8a'>before</td><td align='right' "
                "style='color:#e9bd66'>now</td></tr>";
        row("Kind", [](const Solve& x) { return text(std::string(toString(x.motion))) + (x.zoom ? ", zoom" : ""); });
        row("RMS", [](const Solve& x) { return QString("%1 px").arg(x.rms_px, 0, 'f', 3); });
        row("Held out", [](const Solve& x) {
            return x.heldOut > 0 ? QString("%1 px").arg(x.heldOutRms_px, 0, 'f', 3) : QString("none");
        });
        row("Used", [](const Solve& x) { return QString::number(x.used); });
        row("Disagree", [](const Solve& x) { return QString::number(x.disagreed); });
        row("Frames", [](const Solve& x) { return QString::number(x.frames.size()); });
        const auto inMillimetres = [width](const Solve& x, double focal_px) {
            return focalMillimetres(focal_px, x.sensorWidth_mm, width);
        };
        row("Focal", [&](const Solve& x) {
            if (!x.zoom) return QString("%1 mm").arg(inMillimetres(x, x.lens.focal_px), 0, 'f', 2);
            return QString("%1 to %2 mm")
                .arg(inMillimetres(x, x.frames.front().focal_px), 0, 'f', 1)
                .arg(inMillimetres(x, x.frames.back().focal_px), 0, 'f', 1);
        });
        if (shot.solve->focalDeviation_mm)
            row("Focal ±", [](const Solve& x) {
                return x.focalDeviation_mm ? QString("%1 mm").arg(*x.focalDeviation_mm, 0, 'f', 3) : QString("–");
            });
        const auto within = [](double value, double deviation, int digits) {
            return deviation > 0 ? QString("%1 ± %2").arg(value, 0, 'f', digits).arg(deviation, 0, 'f', digits)
                                 : QString::number(value, 'f', digits);
        };
        // Beside an earlier solve there is room for the value alone.
        const bool narrow = before != nullptr;
        row("k1", [&](const Solve& x) { return within(x.lens.k1, narrow ? 0 : x.k1Deviation, 4); });
        row("k2", [&](const Solve& x) { return within(x.lens.k2, narrow ? 0 : x.k2Deviation, 4); });
        row("Axis off", [&](const Solve& x) {
            return QString("%1, %2 px")
                .arg(x.lens.cx - x.lens.width / 2.0, 0, 'f', 1)
                .arg(x.lens.cy - x.lens.height / 2.0, 0, 'f', 1);
        });
        if (shot.solve->motion == CameraMotion::travelling)
            row("Parallax", [](const Solve& x) { return QString("%1°").arg(x.medianAngleDegrees, 0, 'f', 1); });
        table += "</table>";
        if (!shot.solve->reason.empty() && shot.solve->reason != "chosen")
            table += "<p style='color:#a2a2a2; margin:4px 2px'>" + text(shot.solve->reason).toHtmlEscaped() + "</p>";
        results->setText(table);
        form->updateGeometry();
    };
    for (auto signal :
         {&Workspace::shotChanged, &Workspace::jobChanged, &Workspace::trimPreviewChanged, &Workspace::plateChanged})
        QObject::connect(&workspace, signal, form, refresh);
    refresh();
    return form;
}

}  // namespace pinion
