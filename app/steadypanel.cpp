// The Steady card: hold and ease, the shake that is taken and lent, and rendering.

#include "base/files.h"
#include "docket.h"
#include "form.h"
#include "jobs/delivering.h"
#include "shot/stages/steadystage.h"
#include "theme.h"

#include <QCheckBox>
#include <QFileDialog>
#include <QLineEdit>
#include <QTimer>

namespace pinion {
namespace {

/// A value of 0 to 1 shown in percent.
QSpinBox* percent(int most = 100) {
    auto* box = spin(0, most, " %");
    box->setButtonSymbols(QAbstractSpinBox::NoButtons);
    return box;
}

}  // namespace

QWidget* makeSteadyPanel(Workspace& workspace) {
    auto* form = new Form;
    auto* steady = new QCheckBox("Steady the picture");
    steady->setObjectName("steadyOn");
    form->wide(steady);
    auto* source = choice({"all tracks", "chosen ones"});
    source->setObjectName("steadySource");
    form->row("From", source);
    auto* take = button("Take selected");
    take->setObjectName("steadyTake");
    take->setToolTip("Steady on the selected tracks: one gives position, two and more rotation and scale too");
    auto* pin = new QCheckBox("Corner pin");
    form->wide(buttonRow({take, pin}));
    auto* model = choice({"find out", "position", "similarity", "perspective"});
    model->setObjectName("steadyModel");
    model->setToolTip(
        "How the picture may move. Perspective is what a camera that turns does to it; found out, it is the least that "
        "the tracks support");
    form->row("Motion", model);
    auto* chosen = dimLabel("");
    chosen->setObjectName("steadyChosen");
    form->wide(chosen);
    auto* mode = choice({"hold", "ease"});
    mode->setObjectName("steadyMode");
    form->row("Mode", mode);
    auto* reference = spin(0, 100000000);
    auto* referenceLabel = form->row("Held frame", reference);
    auto* position = percent();
    position->setObjectName("steadyPosition");
    auto* rotation = percent();
    auto* scale = percent();
    form->wide(columns({{"Position", position}, {"Rotation", rotation}, {"Scale", scale}}));
    auto* smoother = choice({"soft", "even path"});
    smoother->setToolTip(
        "Soft: a Gaussian average of the path. Even path: still stretches and even pans, as from a tripod or a dolly");
    auto* smoothness = decimal(0.5, 400, 1, 2, " frames");
    auto* leeway = decimal(0.2, 40, 1, 0.5, " %");
    leeway->setToolTip("How far an even path may leave the path as shot, in percent of the width");
    auto* smootherLabel = form->row("Path", smoother);
    auto* smoothnessLabel = form->row("Smoothness", smoothness);
    auto* leewayLabel = form->row("Leeway", leeway);
    auto* fit = choice({"as it is", "fill the frame", "crop"});
    fit->setObjectName("steadyFit");
    form->row("Fit", fit);
    auto* crop = decimal(20, 1000, 1, 1, " %");
    auto* cropX = decimal(0, 100, 1, 1, " %");
    auto* cropY = decimal(0, 100, 1, 1, " %");
    auto* cropLabel = form->row("Crop zoom", crop);
    auto* cropXLabel = form->row("Crop centre x", cropX);
    auto* cropYLabel = form->row("Crop centre y", cropY);
    auto* result = dimLabel("");
    result->setObjectName("steadyResult");
    form->wide(result);

    auto* shakeTitle = new QLabel("Shake");
    shakeTitle->setProperty("title", true);
    form->wide(shakeTitle);
    auto* above = decimal(0, 30, 2, 0.1, " Hz");
    above->setSpecialValueText("all of it");
    above->setToolTip("Take only what is faster than this");
    form->row("Take above", above);
    auto* takeShake = button("Take…");
    takeShake->setObjectName("shakeTake");
    takeShake->setToolTip("Take the shake out of this plate's tracks and keep it as a file");
    auto* openShake = button("Lend…");
    openShake->setObjectName("shakeOpen");
    openShake->setToolTip("Lend a shake from a file to this plate");
    auto* dropShake = button("Remove");
    form->wide(buttonRow({takeShake, openShake, dropShake}));
    auto* shake = new QCheckBox("Shake the picture");
    shake->setObjectName("shakeOn");
    form->wide(shake);
    auto* lendPosition = percent(1000);
    lendPosition->setObjectName("shakePosition");
    auto* lendRotation = percent(1000);
    auto* lendScale = percent(1000);
    auto* lends = columns({{"Position", lendPosition}, {"Rotation", lendRotation}, {"Scale", lendScale}});
    form->wide(lends);

    auto* renderTitle = new QLabel("Render");
    renderTitle->setProperty("title", true);
    form->wide(renderTitle);
    auto* filter = choice({"bilinear", "bicubic", "Lanczos"});
    auto* edges = choice({"empty", "held", "mirrored"});
    form->row("Filter", filter);
    form->row("Edges", edges);
    auto* place = new QLineEdit;
    place->setObjectName("renderPlace");
    place->setToolTip("A sequence (name.####.exr, .png, .tif) or a video (name.mp4), below the delivery folder");
    form->wide(place);
    auto* render = button("Render", "quiet");
    render->setObjectName("renderSteady");
    form->wide(buttonRow({render}));

    // A field that is being typed or spun continues its edit; another field begins a new one.
    const auto change = [&workspace](const QString& what, const std::function<void(SteadySettings&)>& edit) {
        Shot shot = workspace.shot();
        edit(shot.steady);
        workspace.edit(what, std::move(shot));
    };
    QObject::connect(steady, &QCheckBox::clicked, form, [change](bool on) {
        change(on ? "Steady the picture" : "Leave the picture as it is", [&](SteadySettings& s) { s.steady = on; });
    });
    QObject::connect(source, &QComboBox::activated, form, [change](int index) {
        change("Change what is steadied on", [&](SteadySettings& s) { s.source = SteadySettings::Source(index); });
    });
    QObject::connect(model, &QComboBox::activated, form, [change](int index) {
        change("Change how the picture may move", [&](SteadySettings& s) { s.model = PictureModel(index); });
    });
    QObject::connect(take, &QPushButton::clicked, form, [&workspace, change] {
        if (workspace.selection().empty()) {
            workspace.say("No track is selected. Click one or more on the plate or in the thread sheet.");
            return;
        }
        change(QString("Steady on %1 tracks").arg(workspace.selection().size()), [&](SteadySettings& s) {
            s.source = SteadySettings::Source::chosen;
            s.tracks = List<TrackId>(workspace.selected());
            if (s.tracks.size() != 4) s.cornerPin = false;
            s.steady = true;
            // The frame on show is held if all of them are there.
            if (std::all_of(s.tracks.begin(), s.tracks.end(),
                            [&](TrackId id) { return sampleAt(*findTrack(workspace.shot(), id), workspace.frame()); }))
                s.referenceFrame = workspace.frame();
        });
    });
    QObject::connect(pin, &QCheckBox::clicked, form, [change](bool on) {
        change(on ? "Corner pin" : "No corner pin", [&](SteadySettings& s) { s.cornerPin = on; });
    });
    QObject::connect(mode, &QComboBox::activated, form, [change](int index) {
        change(index == 0 ? "Hold" : "Ease", [&](SteadySettings& s) { s.options.mode = SteadyOptions::Mode(index); });
    });
    QObject::connect(reference, &QSpinBox::valueChanged, form, [change](int value) {
        change("Change reference frame", [&](SteadySettings& s) { s.referenceFrame = value; });
    });
    QObject::connect(position, &QSpinBox::valueChanged, form, [change](int value) {
        change("Strength of position", [&](SteadySettings& s) { s.options.position = value / 100.0; });
    });
    QObject::connect(rotation, &QSpinBox::valueChanged, form, [change](int value) {
        change("Strength of rotation", [&](SteadySettings& s) { s.options.rotation = value / 100.0; });
    });
    QObject::connect(scale, &QSpinBox::valueChanged, form, [change](int value) {
        change("Strength of scale", [&](SteadySettings& s) { s.options.scale = value / 100.0; });
    });
    QObject::connect(smoother, &QComboBox::activated, form, [change](int index) {
        change("Change path", [&](SteadySettings& s) { s.options.smoother = SteadyOptions::Smoother(index); });
    });
    QObject::connect(smoothness, &QDoubleSpinBox::valueChanged, form, [change](double value) {
        change("Change smoothness", [&](SteadySettings& s) { s.options.smooth_frames = value; });
    });
    QObject::connect(leeway, &QDoubleSpinBox::valueChanged, form, [change](double value) {
        change("Change leeway", [&](SteadySettings& s) { s.options.leeway = value / 100; });
    });
    QObject::connect(fit, &QComboBox::activated, form, [change](int index) {
        change("Change fit", [&](SteadySettings& s) {
            s.options.fit = SteadyOptions::Fit(index);
            s.lending.fit = index == 0 ? SteadyOptions::Fit::none : SteadyOptions::Fit::fill;
        });
    });
    QObject::connect(crop, &QDoubleSpinBox::valueChanged, form, [change](double value) {
        change("Change crop", [&](SteadySettings& s) { s.options.cropZoom = value / 100; });
    });
    QObject::connect(cropX, &QDoubleSpinBox::valueChanged, form, [change](double value) {
        change("Change crop", [&](SteadySettings& s) { s.options.cropCentre.x() = value / 100; });
    });
    QObject::connect(cropY, &QDoubleSpinBox::valueChanged, form, [change](double value) {
        change("Change crop", [&](SteadySettings& s) { s.options.cropCentre.y() = value / 100; });
    });
    QObject::connect(takeShake, &QPushButton::clicked, form, [&workspace, form, above] {
        workspace.startTakeShake(above->value(), [&workspace, form](const ShakeProfile& profile) {
            const std::filesystem::path beside =
                workspace.shot().plate.path.parent_path() / (profile.name + ".shake.json");
            const QString path =
                QFileDialog::getSaveFileName(form, "Keep the shake", text(beside.string()), "Shake profiles (*.json)");
            if (path.isEmpty()) return;
            if (const auto written = writeFile(path.toStdString(), shakeJson(profile)); !written)
                workspace.sayError(text(written.error().message));
            else
                workspace.say(QString("%1 s of shake, %2 % of the width and %3° RMS, kept in %4")
                                  .arg(profile.seconds(), 0, 'f', 1)
                                  .arg(profile.shiftRms() * 100, 0, 'f', 2)
                                  .arg(profile.angleRms(), 0, 'f', 2)
                                  .arg(path));
        });
    });
    QObject::connect(openShake, &QPushButton::clicked, form, [&workspace, form, change] {
        const QString path = QFileDialog::getOpenFileName(form, "Lend a shake", {}, "Shake profiles (*.json)");
        if (path.isEmpty()) return;
        const auto profile = readShake(path.toStdString());
        if (!profile) {
            workspace.sayError(text(profile.error().message));
            return;
        }
        change("Lend the shake of " + text(profile->name), [&](SteadySettings& s) {
            s.profile = std::make_shared<const ShakeProfile>(*profile);
            s.shake = true;
        });
    });
    QObject::connect(dropShake, &QPushButton::clicked, form, [change] {
        change("Remove the shake", [](SteadySettings& s) {
            s.profile.reset();
            s.shake = false;
        });
    });
    QObject::connect(shake, &QCheckBox::clicked, form, [change](bool on) {
        change(on ? "Shake the picture" : "Do not shake the picture", [&](SteadySettings& s) { s.shake = on; });
    });
    QObject::connect(lendPosition, &QSpinBox::valueChanged, form, [change](int value) {
        change("Amount of position", [&](SteadySettings& s) { s.lending.position = value / 100.0; });
    });
    QObject::connect(lendRotation, &QSpinBox::valueChanged, form, [change](int value) {
        change("Amount of rotation", [&](SteadySettings& s) { s.lending.rotation = value / 100.0; });
    });
    QObject::connect(lendScale, &QSpinBox::valueChanged, form, [change](int value) {
        change("Amount of scale", [&](SteadySettings& s) { s.lending.scale = value / 100.0; });
    });
    QObject::connect(filter, &QComboBox::activated, form, [change](int index) {
        change("Change filter", [&](SteadySettings& s) { s.filter = ResampleFilter(index); });
    });
    QObject::connect(edges, &QComboBox::activated, form, [change](int index) {
        change("Change edges", [&](SteadySettings& s) { s.edges = EdgeMode(index); });
    });
    const auto placeOf = [&workspace] {
        const Shot& shot = workspace.shot();
        return shot.steady.renderPlace.empty()
                   ? shot.name + (shot.steady.shake ? ".shaken.####.png" : ".steady.####.png")
                   : shot.steady.renderPlace;
    };
    QObject::connect(place, &QLineEdit::editingFinished, form, [place, change, placeOf] {
        const std::string to = place->text().trimmed().toStdString();
        if (!to.empty() && to != placeOf())
            change("Change where it is rendered to", [&](SteadySettings& s) { s.renderPlace = to; });
    });
    QObject::connect(render, &QPushButton::clicked, form, [&workspace, place] {
        workspace.startRender(deliveryFolderOf(workspace.shot(), workspace.file()) /
                              place->text().trimmed().toStdString());
    });

    const auto refresh = [=, &workspace] {
        const Shot& shot = workspace.shot();
        const SteadySettings& s = shot.steady;
        const SteadyOptions& o = s.options;
        const bool usable = workspace.hasPlate() && !workspace.isBusy();
        steady->setChecked(s.steady);
        steady->setEnabled(workspace.hasPlate());
        source->setCurrentIndex(int(s.source));
        model->setCurrentIndex(int(s.model));
        model->setEnabled(!s.cornerPin);
        pin->setChecked(s.cornerPin);
        pin->setVisible(s.source == SteadySettings::Source::chosen && s.tracks.size() == 4);
        QStringList names;
        for (std::size_t i = 0; i < std::min<std::size_t>(7, s.tracks.size()); ++i) {
            const Track* track = findTrack(shot, s.tracks[i]);
            names << (track ? text(track->name) : QString("?"));
        }
        chosen->setText(names.isEmpty()    ? QString("none taken yet")
                        : names.size() > 6 ? QString("%1 tracks").arg(s.tracks.size())
                                           : names.join(", "));
        chosen->setVisible(s.source == SteadySettings::Source::chosen);
        mode->setCurrentIndex(int(o.mode));
        {
            const QSignalBlocker blocker(reference);
            reference->setRange(shot.plate.range.first, std::max(shot.plate.range.first, shot.plate.range.last));
            reference->setValue(steadyReference(shot));
        }
        setQuietly(position, int(std::lround(o.position * 100)));
        setQuietly(rotation, int(std::lround(o.rotation * 100)));
        setQuietly(scale, int(std::lround(o.scale * 100)));
        const bool eases = o.mode == SteadyOptions::Mode::ease;
        const bool even = o.smoother == SteadyOptions::Smoother::l1;
        smoother->setCurrentIndex(int(o.smoother));
        setQuietly(smoothness, o.smooth_frames);
        setQuietly(leeway, o.leeway * 100);
        reference->setVisible(!eases);
        referenceLabel->setVisible(!eases);
        for (QWidget* part : std::initializer_list<QWidget*>{smoother, smootherLabel}) part->setVisible(eases);
        for (QWidget* part : std::initializer_list<QWidget*>{smoothness, smoothnessLabel})
            part->setVisible(eases && !even);
        for (QWidget* part : std::initializer_list<QWidget*>{leeway, leewayLabel}) part->setVisible(eases && even);
        fit->setCurrentIndex(int(o.fit));
        setQuietly(crop, o.cropZoom * 100);
        setQuietly(cropX, o.cropCentre.x() * 100);
        setQuietly(cropY, o.cropCentre.y() * 100);
        for (QWidget* part : std::initializer_list<QWidget*>{crop, cropX, cropY, cropLabel, cropXLabel, cropYLabel})
            part->setVisible(o.fit == SteadyOptions::Fit::crop);
        shake->setChecked(s.shake);
        shake->setText(
            s.profile ? QString("Shake of %1, %2 s").arg(text(s.profile->name)).arg(s.profile->seconds(), 0, 'f', 1)
                      : QString("Shake the picture"));
        for (QWidget* part : std::initializer_list<QWidget*>{shake, dropShake, lends})
            part->setVisible(s.profile != nullptr);
        setQuietly(lendPosition, int(std::lround(s.lending.position * 100)));
        setQuietly(lendRotation, int(std::lround(s.lending.rotation * 100)));
        setQuietly(lendScale, int(std::lround(s.lending.scale * 100)));
        takeShake->setEnabled(usable && !shot.tracks.isEmpty());
        openShake->setEnabled(usable);
        filter->setCurrentIndex(int(s.filter));
        edges->setCurrentIndex(int(s.edges));
        if (!place->hasFocus()) place->setText(text(placeOf()));
        const auto plan = workspace.plan();
        render->setEnabled(usable && plan && s.changesPicture());
        QString words;
        if (!s.changesPicture()) words = shot.tracks.isEmpty() ? "Scatter features or track a point first." : "";
        else if (!workspace.planProblem().isEmpty()) words = workspace.planProblem();
        else if (!plan) words = "working out the motion…";
        else {
            words = QString("zoom %1 %%2")
                        .arg((plan->zoom - 1) * 100, 0, 'f', 1)
                        .arg(plan->fills ? "" : ", a border shows");
            if (!plan->motion.reason.empty()) words += "\n" + text(plan->motion.reason);
            if (!plan->note.empty()) words += "\n" + text(plan->note);
        }
        result->setText(words);
        result->setStyleSheet(workspace.planProblem().isEmpty() ? "" : "color: #f3a58e;");
        result->setVisible(!words.isEmpty());
    };
    for (auto signal : {&Workspace::shotChanged, &Workspace::plateChanged, &Workspace::planChanged,
                        &Workspace::jobChanged, &Workspace::fileChanged})
        QObject::connect(&workspace, signal, form, refresh);
    refresh();
    return form;
}

}  // namespace pinion
