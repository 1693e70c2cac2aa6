// The settings that the docket's cards hold.

#include "docket.h"
#include "exchange/deliverables.h"
#include "form.h"
#include "jobs/delivering.h"
#include "shot/edits/cameraedits.h"
#include "theme.h"

#include <QCheckBox>
#include <QFileDialog>
#include <QLineEdit>
#include <QVBoxLayout>

namespace pinion {

QWidget* makePlatePanel(Workspace& workspace) {
    auto* form = new Form;
    auto* facts = dimLabel("");
    facts->setTextInteractionFlags(Qt::TextSelectableByMouse);
    form->wide(facts);
    auto* exposure = decimal(-8, 8, 1, 0.5, " stops");
    auto* gamma = decimal(0.2, 4, 2, 0.1);
    gamma->setValue(1);
    form->row("Exposure (view)", exposure);
    form->row("Gamma (view)", gamma);
    auto* missing = dimLabel("");
    missing->setObjectName("plateRemarks");
    form->wide(missing);
    auto* check = button("Check the plate");
    check->setToolTip("Sharpness, motion, brightness, noise and cuts of every frame, as a strip over the thread sheet");
    form->wide(buttonRow({check}));
    auto* notes = dimLabel("");
    notes->setObjectName("plateNotes");
    form->wide(notes);
    QObject::connect(check, &QPushButton::clicked, form, [&workspace] { workspace.startPlateCheck(); });
    const auto refreshNotes = [&workspace, check, notes] {
        check->setEnabled(workspace.hasPlate() && !workspace.isBusy());
        notes->setVisible(workspace.plateCheck().has_value());
        if (!workspace.plateCheck()) return;
        QStringList lines;
        for (const PlateNote& note : workspace.plateCheck()->notes) lines << text(note.words);
        notes->setText(lines.isEmpty() ? QString("Checked: nothing to watch for.") : lines.join("\n"));
    };
    for (auto signal : {&Workspace::checkChanged, &Workspace::jobChanged, &Workspace::plateChanged})
        QObject::connect(&workspace, signal, form, refreshNotes);
    refreshNotes();
    const auto view = [&workspace, exposure, gamma] { workspace.setView({exposure->value(), gamma->value()}); };
    QObject::connect(exposure, &QDoubleSpinBox::valueChanged, form, view);
    QObject::connect(gamma, &QDoubleSpinBox::valueChanged, form, view);
    const auto refresh = [&workspace, facts, missing] {
        if (!workspace.hasPlate()) {
            facts->setText(workspace.shot().plate.isOpen()
                               ? "The plate of this shot could not be opened:\n" +
                                     text(workspace.shot().plate.path.string())
                               : QString("No plate yet. Open a video, a numbered sequence or a shot."));
            missing->clear();
            missing->setVisible(false);
            return;
        }
        const PlateFacts& f = workspace.frames()->facts();
        const FrameRange& range = workspace.shot().plate.range;
        facts->setText(QString("%1\n%2 × %3 · %4 frames/s%5\nframes %6–%7, working on %8–%9\n%10, %11")
                           .arg(text(f.path.filename().string()))
                           .arg(f.width)
                           .arg(f.height)
                           .arg(text(toString(f.fps)))
                           .arg(f.fpsFromPlate ? "" : " (assumed)")
                           .arg(f.firstFrame)
                           .arg(f.lastFrame)
                           .arg(range.first)
                           .arg(range.last)
                           .arg(text(f.pixelFormat), f.linear ? "linear, shown through sRGB" : "shown as it is"));
        QStringList lines;
        if (!f.missing.empty()) lines << "Missing: " + text(frameRanges(f.missing));
        for (const std::string& remark : f.remarks) {
            lines << text(remark);
            lines.back()[0] = lines.back()[0].toUpper();
        }
        missing->setText(lines.join("\n"));
        missing->setVisible(!lines.isEmpty());
    };
    QObject::connect(&workspace, &Workspace::shotChanged, form, refresh);
    QObject::connect(&workspace, &Workspace::plateChanged, form, refresh);
    refresh();
    return form;
}

QWidget* makeTracksPanel(Workspace& workspace) {
    auto* panel = new QWidget;
    auto* both = new QVBoxLayout(panel);
    both->setContentsMargins(0, 0, 0, 0);
    both->addWidget(makeTrackChoices(workspace));
    auto* form = new Form;
    both->addWidget(form);
    auto* features = spin(8, 20000);
    auto* distance = decimal(2, 500, 0, 2, " px");
    auto* threshold = decimal(0.0001, 1, 4, 0.005);
    auto* pattern = spin(7, 101, " px");
    pattern->setSingleStep(2);
    auto* search = spin(9, 501, " px");
    search->setSingleStep(4);
    auto* motion = choice({"translation", "similarity", "affine", "perspective"});
    auto* drift = decimal(0, 1, 2, 0.05);
    auto* channel = choice({"luma", "red", "green", "blue"});
    features->setObjectName("features");
    form->row("Features", features);
    form->row("Least distance", distance);
    form->row("Threshold", threshold);
    form->row("Pattern", pattern);
    form->row("Search", search);
    form->row("Motion", motion);
    form->row("Drift limit", drift);
    form->row("Look at", channel);
    auto* filter = choice({"none", "denoise", "local contrast"});
    form->row("Look through", filter);
    auto* candidates = button("Candidates");
    candidates->setCheckable(true);
    candidates->setToolTip("Show on the plate where a scatter would start");
    auto* scatter = button("Scatter", "quiet");
    form->wide(buttonRow({candidates, scatter}));
    auto* found = dimLabel("");
    form->wide(found);
    features->setToolTip("How many tracks to keep in every frame");
    threshold->setToolTip("The weakest corner taken, as a share of the strongest in the frame");
    drift->setToolTip("A track stops when its match falls below this");

    const auto changed = [&workspace, features, distance, threshold, pattern, search, motion, drift, channel, filter] {
        ScatterSettings settings;
        settings.features = features->value();
        settings.leastDistance_px = distance->value();
        settings.threshold = threshold->value();
        settings.pattern_px = pattern->value() | 1;
        settings.search_px = std::max(search->value(), settings.pattern_px + 4);
        settings.motion = MotionModel(motion->currentIndex());
        settings.driftLimit = drift->value();
        settings.channel = Channel(channel->currentIndex());
        settings.preFilter = PreFilter(filter->currentIndex());
        Shot shot = workspace.shot();
        shot.scatterSettings = settings;
        workspace.edit("Change track settings", std::move(shot));
    };
    for (QSpinBox* box : {features, pattern, search}) QObject::connect(box, &QSpinBox::valueChanged, form, changed);
    for (QDoubleSpinBox* box : {distance, threshold, drift})
        QObject::connect(box, &QDoubleSpinBox::valueChanged, form, changed);
    for (QComboBox* box : {motion, channel, filter}) QObject::connect(box, &QComboBox::activated, form, changed);
    QObject::connect(candidates, &QPushButton::clicked, form,
                     [&workspace](bool shown) { workspace.showCandidates(shown); });
    QObject::connect(scatter, &QPushButton::clicked, form, [&workspace] { workspace.startScatter(); });
    const auto refresh = [&workspace, features, distance, threshold, pattern, search, motion, drift, channel, filter,
                          candidates, scatter, found, form] {
        // While tracks are selected their own choices stand here.
        form->setVisible(workspace.selection().empty());
        const ScatterSettings& s = workspace.shot().scatterSettings;
        setQuietly(features, s.features);
        setQuietly(distance, s.leastDistance_px);
        setQuietly(threshold, s.threshold);
        setQuietly(pattern, s.pattern_px);
        setQuietly(search, s.search_px);
        setQuietly(drift, s.driftLimit);
        motion->setCurrentIndex(int(s.motion));
        channel->setCurrentIndex(int(s.channel));
        filter->setCurrentIndex(int(s.preFilter));
        const bool usable = workspace.hasPlate() && !workspace.isBusy();
        candidates->setEnabled(workspace.hasPlate());
        candidates->setChecked(workspace.candidatesShown());
        scatter->setEnabled(usable);
        found->setText(
            workspace.candidatesShown()
                ? QString("%1 candidates on frame %2").arg(workspace.candidates().size()).arg(workspace.frame())
                : QString());
        found->setVisible(workspace.candidatesShown());
    };
    for (auto signal : {&Workspace::shotChanged, &Workspace::plateChanged, &Workspace::jobChanged,
                        &Workspace::candidatesChanged, &Workspace::selectionChanged})
        QObject::connect(&workspace, signal, form, refresh);
    refresh();
    return panel;
}

QWidget* makeWorldPanel(Workspace& workspace) {
    auto* form = new Form;
    auto* hint = dimLabel("");
    form->wide(hint);
    auto* ground = button("Ground", "quiet");
    ground->setToolTip("The plane through the selected tracks becomes the floor; the cameras end above it");
    auto* origin = button("Origin");
    origin->setToolTip("The selected track becomes the middle of the world");
    form->wide(buttonRow({ground, origin}));
    auto* length = decimal(0.001, 100000, 3, 0.1, " m");
    length->setValue(1.0);
    form->row("Length", length);
    auto* scale = button("Set scale");
    scale->setToolTip("The distance between the two selected tracks is this long");
    auto* clear = button("Clear world");
    form->wide(buttonRow({scale, clear}));
    auto* state = new QLabel;
    state->setProperty("dim", true);
    state->setWordWrap(true);
    form->wide(state);
    const auto apply = [&workspace](const QString& name, const World& world) {
        const auto oriented =
            workspace.shot().solve ? orient(world, *workspace.shot().solve) : Expected<Orientation>(Orientation{});
        if (!oriented) {
            workspace.sayError(text(oriented.error().message));
            return;
        }
        workspace.edit(name, withWorld(workspace.shot(), world));
    };
    QObject::connect(ground, &QPushButton::clicked, form, [&workspace, apply] {
        World world = workspace.shot().world;
        world.ground = List<TrackId>(workspace.selected());
        apply("Set ground", world);
    });
    QObject::connect(origin, &QPushButton::clicked, form, [&workspace, apply] {
        World world = workspace.shot().world;
        world.origin = workspace.selected().front();
        apply("Set origin", world);
    });
    QObject::connect(scale, &QPushButton::clicked, form, [&workspace, apply, length] {
        World world = workspace.shot().world;
        const auto two = workspace.selected();
        world.measure = World::Measure{two[0], two[1], length->value()};
        apply("Set scale", world);
    });
    QObject::connect(clear, &QPushButton::clicked, form, [apply] { apply("Clear world", World{}); });
    const auto refresh = [&workspace, hint, ground, origin, scale, clear, state] {
        const Shot& shot = workspace.shot();
        int placed = 0;
        for (TrackId id : workspace.selection())
            if (const SolvedTrack* solved = findSolved(shot, id); solved && solved->xyz) ++placed;
        const int chosen = int(workspace.selection().size());
        hint->setText(
            !shot.solve ? QString("Solve the camera first.")
            : shot.solve->motion != CameraMotion::travelling
                ? QString("A camera that only turns sees no depth: there is no ground to lay and no length to measure.")
            : chosen == 0 ? QString("Select tracks on the plate: three or more on the floor for the ground, one for "
                                    "the origin, two for the scale.")
                          : QString("%1 selected, %2 of them solved.").arg(chosen).arg(placed));
        const bool all = placed == chosen && shot.solve && shot.solve->motion == CameraMotion::travelling;
        ground->setEnabled(shot.solve && all && chosen >= 3);
        origin->setEnabled(shot.solve && all && chosen == 1);
        scale->setEnabled(shot.solve && all && chosen == 2);
        clear->setEnabled(shot.world.isSet());
        QStringList lines;
        if (shot.solve && shot.world.isSet()) {
            if (const auto orientation = orient(shot.world, *shot.solve)) {
                const QString unit = shot.world.measure ? "m" : "units";
                if (!shot.world.ground.isEmpty())
                    lines << QString("Ground through %1 points, %2 %3 RMS off it")
                                 .arg(shot.world.ground.size())
                                 .arg(groundRms(shot.world, *shot.solve, *orientation), 0, 'f', 3)
                                 .arg(unit);
                const Eigen::Vector3d eye =
                    orientation->apply(Eigen::Vector3d(shot.solve->frames.front().worldFromCamera.translation()));
                lines << QString("Camera starts at %1, %2, %3 %4")
                             .arg(eye.x(), 0, 'f', 2)
                             .arg(eye.y(), 0, 'f', 2)
                             .arg(eye.z(), 0, 'f', 2)
                             .arg(unit);
                if (const Track* track = shot.world.origin ? findTrack(shot, *shot.world.origin) : nullptr)
                    lines << "Origin at " + text(track->name);
                if (shot.world.measure) {
                    const Track* from = findTrack(shot, shot.world.measure->from);
                    const Track* to = findTrack(shot, shot.world.measure->to);
                    lines << QString("%1 to %2 is %3 m")
                                 .arg(from ? text(from->name) : "?", to ? text(to->name) : "?")
                                 .arg(shot.world.measure->length_m);
                }
            }
        }
        state->setText(lines.join("\n"));
        state->setVisible(!lines.isEmpty());
    };
    for (auto signal : {&Workspace::shotChanged, &Workspace::selectionChanged, &Workspace::plateChanged})
        QObject::connect(&workspace, signal, form, refresh);
    refresh();
    return form;
}

QWidget* makeDeliveryPanel(Workspace& workspace) {
    auto* panel = new QWidget;
    auto* layout = new QVBoxLayout(panel);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(5);
    auto* list = new QWidget;
    auto* rows = new QVBoxLayout(list);
    rows->setContentsMargins(0, 0, 0, 0);
    rows->setSpacing(4);
    layout->addWidget(list);
    auto* axis = choice({"Y up", "Z up"});
    auto* axisForm = new Form;
    axisForm->row("USD world", axis);
    layout->addWidget(axisForm);
    auto* origin = choice({"top left", "bottom left"});
    origin->setObjectName("deliveryOrigin");
    origin->setToolTip("Where the pixels of tracks, transforms and corner pins are counted from");
    auto* use = choice({"match-move", "inverse"});
    use->setToolTip("Match-move: what hangs on it follows the picture. Inverse: it holds the picture still");
    auto* originLabel = axisForm->row("Pixels from", origin);
    auto* useLabel = axisForm->row("Transforms as", use);
    auto* parts = new QWidget;
    auto* partsRow = new QHBoxLayout(parts);
    partsRow->setContentsMargins(0, 0, 0, 0);
    QCheckBox* components[] = {new QCheckBox("position"), new QCheckBox("rotation"), new QCheckBox("scale")};
    for (QCheckBox* box : components) partsRow->addWidget(box);
    axisForm->wide(parts);
    // One choice for all that it concerns: a shot whose files disagree about the origin helps no one.
    const auto changeTransform = [&workspace](const QString& what, const std::function<void(TransformOptions&)>& edit) {
        Shot shot = workspace.shot();
        shot.deliverables = shot.deliverables.edited([&](auto& items) {
            for (Deliverable& item : items) edit(item.transform);
        });
        workspace.edit(what, std::move(shot));
    };
    QObject::connect(origin, &QComboBox::activated, panel, [changeTransform](int index) {
        changeTransform("Change origin of deliveries", [&](TransformOptions& t) { t.origin = Origin(index); });
    });
    QObject::connect(use, &QComboBox::activated, panel, [changeTransform](int index) {
        changeTransform("Change use of transforms", [&](TransformOptions& t) { t.inverse = index == 1; });
    });
    QObject::connect(components[0], &QCheckBox::clicked, panel, [changeTransform](bool on) {
        changeTransform("Change delivered parts", [&](TransformOptions& t) { t.position = on; });
    });
    QObject::connect(components[1], &QCheckBox::clicked, panel, [changeTransform](bool on) {
        changeTransform("Change delivered parts", [&](TransformOptions& t) { t.rotation = on; });
    });
    QObject::connect(components[2], &QCheckBox::clicked, panel, [changeTransform](bool on) {
        changeTransform("Change delivered parts", [&](TransformOptions& t) { t.scale = on; });
    });
    auto* folder = dimLabel("");
    folder->setObjectName("deliveryFolder");
    layout->addWidget(folder);
    auto* choose = button("Folder…");
    auto* deliver = button("Deliver all", "quiet");
    layout->addWidget(buttonRow({deliver, choose}));
    QObject::connect(deliver, &QPushButton::clicked, panel, [&workspace] { workspace.startDelivery({}); });
    QObject::connect(choose, &QPushButton::clicked, panel, [&workspace, panel] {
        const QString chosen = QFileDialog::getExistingDirectory(panel, "Delivery folder");
        if (chosen.isEmpty()) return;
        Shot shot = workspace.shot();
        shot.deliveryFolder = chosen.toStdString();
        workspace.edit("Choose delivery folder", std::move(shot));
    });
    QObject::connect(axis, &QComboBox::activated, panel, [&workspace](int index) {
        Shot shot = workspace.shot();
        shot.deliverables = shot.deliverables.edited([&](auto& items) {
            for (Deliverable& item : items) item.upAxis = index == 1 ? UpAxis::z : UpAxis::y;
        });
        workspace.edit("Change up axis", std::move(shot));
    });
    struct Row {
        Deliverable item;  ///< as it was when the row was made
        QLabel* state;
    };
    const auto made = std::make_shared<std::vector<Row>>();
    const auto makeRow = [&workspace, list, rows](const Deliverable& item) {
        auto* row = new QWidget(list);
        auto* line = new QHBoxLayout(row);
        line->setContentsMargins(0, 0, 0, 0);
        auto* name = new QLabel(list->fontMetrics().elidedText(text(item.name), Qt::ElideMiddle, 118));
        name->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
        name->setToolTip(text(item.name) + "\n" + text(item.place));
        auto* state = new QLabel;
        state->setProperty("dim", true);
        line->addWidget(name, 1);
        line->addWidget(state);
        rows->addWidget(row);
        auto* place = new QLineEdit(text(item.place), list);
        place->setAccessibleName("Place of " + text(item.name));
        place->setCursorPosition(0);
        place->setStyleSheet(
            "QLineEdit { background: transparent; border: 1px solid transparent; color: #a2a2a2; padding: 0 2px; "
            "font-size: 11px; } QLineEdit:focus { border-color: #d9a441; }");
        QObject::connect(place, &QLineEdit::editingFinished, list,
                         [&workspace, place, before = item.place, deliverable = item.name] {
                             const std::string to = place->text().trimmed().toStdString();
                             if (to.empty() || to == before) return;
                             Shot changed = workspace.shot();
                             changed.deliverables = changed.deliverables.edited([&](auto& items) {
                                 for (Deliverable& one : items)
                                     if (one.name == deliverable) one.place = to;
                             });
                             // After the signal: the edit rebuilds this list, and this line with it.
                             QTimer::singleShot(0, &workspace, [&workspace, changed] {
                                 workspace.edit("Change a delivery's place", changed);
                             });
                         });
        auto* second = new QWidget(list);
        auto* under = new QHBoxLayout(second);
        under->setContentsMargins(0, 0, 0, 0);
        under->setSpacing(4);
        under->addWidget(place, 1);
        if (item.kind != DeliverableKind::stMaps) {
            auto* copy = new QPushButton("Copy", second);
            copy->setFlat(true);
            copy->setFocusPolicy(Qt::NoFocus);
            copy->setObjectName("copy-" + text(item.name));
            copy->setToolTip("To the clipboard, as it would be written");
            QObject::connect(copy, &QPushButton::clicked, second, [&workspace, name = item.name] {
                for (const Deliverable& one : workspace.shot().deliverables)
                    if (one.name == name) {
                        workspace.startCopy(one);
                        return;
                    }
            });
            copy->setStyleSheet(
                "QPushButton { padding: 1px 6px; font-size: 11px; background: transparent; color: #d9a441; border: "
                "none; }");
            under->addWidget(copy);
        }
        rows->addWidget(second);
        return Row{item, state};
    };
    const auto refresh = [&workspace, rows, made, makeRow, axis, folder, deliver, origin, use, originLabel, useLabel,
                          parts, position = components[0], rotation = components[1], scale = components[2]] {
        const Shot& shot = workspace.shot();
        // A row is made anew only when it is another one: somebody may be typing in it.
        const bool same = std::equal(made->begin(), made->end(), shot.deliverables.begin(), shot.deliverables.end(),
                                     [](const Row& row, const Deliverable& item) {
                                         return row.item.name == item.name && row.item.place == item.place &&
                                                row.item.kind == item.kind && row.item.format == item.format;
                                     });
        if (!same) {
            while (QLayoutItem* item = rows->takeAt(0)) {
                if (item->widget()) item->widget()->deleteLater();
                delete item;
            }
            made->clear();
            for (const Deliverable& item : shot.deliverables) made->push_back(makeRow(item));
        }
        static const char* const kFormats[] = {"USD", "JSON", "CSV", "EXR"};
        for (std::size_t i = 0; i < made->size(); ++i) {
            const Deliverable& item = shot.deliverables[i];
            const bool written = item.writtenKey != 0;
            const bool fresh = written && item.writtenKey == deliveryKey(shot, item);
            (*made)[i].state->setText(QString("%1 · %2").arg(kFormats[int(item.format)], !written ? "open"
                                                                                         : fresh  ? "written"
                                                                                                  : "stale"));
        }
        if (!shot.deliverables.isEmpty()) {
            const TransformOptions& t = shot.deliverables.back().transform;
            origin->setCurrentIndex(int(t.origin));
            use->setCurrentIndex(t.inverse ? 1 : 0);
            position->setChecked(t.position);
            rotation->setChecked(t.rotation);
            scale->setChecked(t.scale);
        }
        for (QWidget* part : std::initializer_list<QWidget*>{useLabel, use, parts})
            part->setVisible(!shot.locators.isEmpty());
        originLabel->setVisible(true);
        if (!shot.deliverables.isEmpty()) axis->setCurrentIndex(shot.deliverables.front().upAxis == UpAxis::z ? 1 : 0);
        folder->setText(shot.plate.isOpen() ? "to " + text(deliveryFolderOf(shot, workspace.file()).string())
                                            : QString());
        deliver->setEnabled(!workspace.isBusy() && (shot.solve || !shot.tracks.isEmpty()));
    };
    for (auto signal :
         {&Workspace::shotChanged, &Workspace::jobChanged, &Workspace::fileChanged, &Workspace::plateChanged})
        QObject::connect(&workspace, signal, panel, refresh);
    refresh();
    return panel;
}

}  // namespace pinion
