#include "stages/steady/steadycard.h"

#include "base/files.h"
#include "exchange/transforms.h"
#include "jobs/delivering.h"
#include "stages/rides.h"
#include "stages/shotform.h"
#include "widgets/filedialogs.h"

#include <QLineEdit>
#include <QTimer>

#include <algorithm>

namespace pinion {
namespace {

/// A value of 0 to 1 shown in percent.
QSpinBox* percent(int most = 100) {
    auto* box = spin(0, most, " %");
    box->setButtonSymbols(QAbstractSpinBox::NoButtons);
    return box;
}

QString placeOf(const Shot& shot) {
    return text(shot.steady.renderPath.empty()
                    ? shot.name + (shot.steady.shake ? ".shaken.####.png" : ".steady.####.png")
                    : shot.steady.renderPath);
}

/// The readout that straight rows would go by.
Readout rollsUnder(Shot shot) {
    shot.steady.straightRows = true;
    return steadyReadout(shot);
}

bool eases(const Shot& shot) { return shot.steady.options.mode == SteadyOptions::Mode::ease; }
bool isEven(const Shot& shot) { return shot.steady.options.smoother == SteadyOptions::Smoother::l1; }

constexpr const char* kChosen = "chosen";

bool isOnTracks(const Shot& shot) { return shot.steady.on.on == "tracks"; }
bool isOnPicture(const Shot& shot) {
    const CarrierKind* kind = carrierKind(shot.steady.on.on);
    return kind && kind->carriesFrame;
}

class SteadyCard : public ShotForm {
public:
    SteadyCard(Session& session, SteadyStage& stage) : ShotForm(session), stage_(stage) {
        addSource();
        addMode();
        addStrength();
        addPath();
        addFit();
        addTaking();
        addLending();
        addRender();
        onTop([this] { addResult(); });
        connect(&stage, &SteadyStage::planChanged, this, [this] { refresh(); });
        connect(&session.document, &Document::fileChanged, this, [this] { refresh(); });
        refresh();
    }

private:
    void addSource() {
        auto* steady = bind(
            named(new QCheckBox("Steady the picture"), "steadyOn"), "Steady the picture", "Leave the picture as it is",
            [](auto& s) -> auto& { return s.steady.steady; });
        wide(steady);
        onRefresh([this, steady] { steady->setEnabled(session_.hasPlate()); });
        auto* on = named(new QComboBox, "steadySource", "What is held still");
        row("From", on);
        connect(on, &QComboBox::activated, this, [this, on](int index) {
            const QString chosen = on->itemData(index).toString(), words = on->itemText(index);
            // After the signal: the edit fills the list anew.
            QTimer::singleShot(0, this, [this, chosen, words] {
                const auto ride = chosen == kChosen
                                      ? std::optional(rideOnTracks(session_.shot().steady.tracks.vector()))
                                      : rideOfChoice(session_, chosen);
                if (ride) change("Steady on " + words, [&](Shot& shot) { shot.steady.on = *ride; });
                refresh();
            });
        });
        onRefresh([this, on] {
            const QSignalBlocker blocker(on);
            const Ride& now = session_.shot().steady.on;
            on->clear();
            addRideChoices(*on, session_);
            // Selected ones are taken by the button below.
            if (const int selected = on->findData("selected"); selected >= 0) on->removeItem(selected);
            // Here it is tracks that are meant.
            on->setItemText(on->findData(choiceOf(rideOnPicture())), "all tracks");
            on->insertItem(1, "chosen ones", kChosen);
            const QString held = isOnTracks(session_.shot()) ? QString(kChosen) : choiceOf(now);
            // What is gone is still what was chosen.
            if (on->findData(held) < 0) on->addItem(shownRide(session_, now), held);
            on->setCurrentIndex(on->findData(held));
        });
        auto* take = named(button("Take selected"), "steadyTake",
                           "Steady on the selected tracks: one gives position, two and more rotation and scale too");
        auto* pin = bind(
            new QCheckBox("Corner pin"), "Corner pin", "No corner pin",
            [](auto& s) -> auto& { return s.steady.cornerPin; });
        wide(buttonRow({take, pin}));
        onClick(take, [this] { takeSelected(); });
        showIf({take}, [](const Shot& s) { return isOnTracks(s) || isOnPicture(s); });
        showIf({pin}, [](const Shot& s) { return isOnTracks(s) && s.steady.tracks.size() == 4; });
        auto* square = bind(
            named(new QCheckBox("Squared up"), "squareUp", "What lies between the four stands upright, to work on it"),
            "Square up", "Do not square up", [](auto& s) -> auto& { return s.steady.squareUp; });
        wide(square);
        showIf({square}, [](const Shot& s) { return isOnTracks(s) ? s.steady.cornerPin : !isOnPicture(s); });
        auto* model = bind(
            named(choice({"find out", "position", "similarity", "perspective"}), "steadyModel",
                  "How the picture may move. Perspective is what a camera that turns does to it; found "
                  "out, it is the least that the tracks support"),
            "Change how the picture may move", [](auto& s) -> auto& { return s.steady.model; });
        row("Motion", model);
        enableIf({model}, [](const Shot& s) { return isOnTracks(s) ? !s.steady.cornerPin : isOnPicture(s); });
        auto* rows = bind(
            named(
                new QCheckBox("Straighten the rows"), "straightRows",
                "A rolling shutter reads the picture row by row while it moves: with its readout known (of the solve, "
                "or typed in the Camera card) each row is put where the middle one saw it"),
            "Straighten the rows", "Leave the rows as filmed", [](auto& s) -> auto& { return s.steady.straightRows; });
        wide(rows);
        showIf({rows}, [](const Shot& s) { return rollsUnder(s).isRolling(); });
        auto* chosen = named(dimLabel(""), "steadyChosen");
        wide(chosen);
        showIf({chosen}, isOnTracks);
        onRefresh([this, chosen] { chosen->setText(chosenWords(session_.shot())); });
    }
    static QString chosenWords(const Shot& shot) {
        const auto& tracks = shot.steady.tracks;
        if (tracks.isEmpty()) return "none taken yet";
        if (tracks.size() > 6) return QString("%1 tracks").arg(tracks.size());
        QStringList names;
        for (const TrackId id : tracks) {
            const Track* track = findTrack(shot, id);
            names << (track ? text(track->name) : QString("?"));
        }
        return names.join(", ");
    }
    void takeSelected() {
        if (session_.selection.isEmpty()) {
            session_.say("No track is selected. Click one or more on the plate or in the thread sheet.");
            return;
        }
        change(QString("Steady on %1 tracks").arg(session_.selection.size()), [this](Shot& shot) {
            SteadySettings& s = shot.steady;
            s.tracks = List<TrackId>(session_.selection.list());
            s.on = rideOnTracks(s.tracks.vector());
            if (s.tracks.size() != 4) s.cornerPin = false;
            s.steady = true;
            // The frame on show is held if all of them are there.
            const int frame = session_.player.frame();
            if (std::all_of(s.tracks.begin(), s.tracks.end(),
                            [&](TrackId id) { return sampleAt(*findTrack(shot, id), frame); }))
                s.referenceFrame = frame;
        });
    }

    void addMode() {
        auto* mode = named(choice({"hold", "ease"}), "steadyMode");
        row("Mode", mode);
        connect(mode, &QComboBox::activated, this, [this](int index) {
            change(index == 0 ? "Hold" : "Ease",
                   [&](Shot& shot) { shot.steady.options.mode = SteadyOptions::Mode(index); });
        });
        auto* reference = spin(0, 100000000);
        auto* label = row("Held frame", reference);
        connect(reference, &QSpinBox::valueChanged, this, [this](int value) {
            change("Change reference frame", [&](Shot& shot) { shot.steady.referenceFrame = value; });
        });
        showIf({reference, label}, [](const Shot& s) { return !eases(s); });
        onRefresh([this, mode, reference] {
            const Shot& shot = session_.shot();
            mode->setCurrentIndex(int(shot.steady.options.mode));
            const QSignalBlocker blocker(reference);
            reference->setRange(shot.plate.range.first, std::max(shot.plate.range.first, shot.plate.range.last));
            reference->setValue(steadyReference(shot));
        });
    }

    void addStrength() {
        auto* position = bind(
            named(percent(), "steadyPosition"), "Strength of position",
            [](auto& s) -> auto& { return s.steady.options.position; }, 100);
        auto* rotation = bind(
            percent(), "Strength of rotation", [](auto& s) -> auto& { return s.steady.options.rotation; }, 100);
        auto* scale = bind(
            percent(), "Strength of scale", [](auto& s) -> auto& { return s.steady.options.scale; }, 100);
        wide(columns({{"Position", position}, {"Rotation", rotation}, {"Scale", scale}}));
    }

    void addPath() {
        auto* smoother = bind(
            named(choice({"soft", "even path"}), "steadySmoother",
                  "Soft: a Gaussian average of the path. Even path: still stretches and even pans, "
                  "as from a tripod or a dolly"),
            "Change path", [](auto& s) -> auto& { return s.steady.options.smoother; });
        auto* smoothness = bind(
            decimal(0.5, 400, 1, 2, " frames"), "Change smoothness",
            [](auto& s) -> auto& { return s.steady.options.smooth_frames; });
        auto* leeway = bind(
            decimal(0.2, 40, 1, 0.5, " %"), "Change leeway", [](auto& s) -> auto& { return s.steady.options.leeway; },
            100);
        leeway->setToolTip("How far an even path may leave the path as shot, in percent of the width");
        auto* smootherLabel = row("Path", smoother);
        auto* smoothnessLabel = row("Smoothness", smoothness);
        auto* leewayLabel = row("Leeway", leeway);
        showIf({smoother, smootherLabel}, eases);
        showIf({smoothness, smoothnessLabel}, [](const Shot& s) { return eases(s) && !isEven(s); });
        showIf({leeway, leewayLabel}, [](const Shot& s) { return eases(s) && isEven(s); });
    }

    void addFit() {
        auto* fit = named(choice({"as it is", "fill the frame", "crop"}), "steadyFit");
        row("Fit", fit);
        connect(fit, &QComboBox::activated, this, [this](int index) {
            change("Change fit", [&](Shot& shot) {
                shot.steady.options.fit = SteadyOptions::Fit(index);
                shot.steady.lending.fit = index == 0 ? SteadyOptions::Fit::none : SteadyOptions::Fit::fill;
            });
        });
        onRefresh([this, fit] { fit->setCurrentIndex(int(session_.shot().steady.options.fit)); });
        const auto crops = [](const Shot& s) { return s.steady.options.fit == SteadyOptions::Fit::crop; };
        auto* zoom = bind(
            decimal(20, 1000, 1, 1, " %"), "Change crop", [](auto& s) -> auto& { return s.steady.options.cropZoom; },
            100);
        auto* x = bind(
            decimal(0, 100, 1, 1, " %"), "Change crop",
            [](auto& s) -> auto& { return s.steady.options.cropCentre.x(); }, 100);
        auto* y = bind(
            decimal(0, 100, 1, 1, " %"), "Change crop",
            [](auto& s) -> auto& { return s.steady.options.cropCentre.y(); }, 100);
        showIf({zoom, row("Crop zoom", zoom)}, crops);
        showIf({x, row("Crop centre x", x)}, crops);
        showIf({y, row("Crop centre y", y)}, crops);
    }

    QString resultWords() const {
        const Shot& shot = session_.shot();
        if (!shot.steady.changesPicture())
            return shot.tracks.isEmpty() ? "Scatter features or track a point first." : "";
        if (!stage_.planProblem().isEmpty()) return stage_.planProblem();
        const auto plan = stage_.plan();
        if (!plan) return "working out the motion…";
        QString words =
            QString("zoom %1 %%2").arg((plan->zoom - 1) * 100, 0, 'f', 1).arg(plan->fills ? "" : ", a border shows");
        if (plan->rows) words += QString(", rows straightened by up to %1 px").arg(plan->rows->reach_px(), 0, 'f', 1);
        if (!plan->motion.reason.empty()) words += "\n" + text(plan->motion.reason);
        if (!plan->note.empty()) words += "\n" + text(plan->note);
        return words;
    }
    void addResult() {
        auto* result = named(dimLabel(""), "steadyResult");
        wide(result);
        onRefresh([this, result] {
            result->setText(resultWords());
            result->setStyleSheet(stage_.planProblem().isEmpty() ? "" : "color: #f3a58e;");
            result->setVisible(!result->text().isEmpty());
        });
    }

    QLabel* heading(const QString& words) {
        auto* label = new QLabel(words);
        label->setProperty("title", true);
        wide(label);
        return label;
    }
    void addTaking() {
        heading("Shake");
        auto* above = decimal(0, 30, 2, 0.1, " Hz");
        above->setSpecialValueText("all of it");
        above->setToolTip("Take only what is faster than this");
        row("Take above", above);
        auto* take =
            named(button("Take…"), "shakeTake", "Take the shake out of this plate's tracks and keep it as a file");
        auto* lend = named(button("Lend…"), "shakeOpen", "Lend a shake from a file to this plate");
        auto* drop = button("Remove");
        wide(buttonRow({take, lend, drop}));
        onClick(take, [this, above] {
            stage_.startTakeShake(above->value(), [this](const ShakeProfile& profile) { keepShake(profile); });
        });
        onClick(lend, [this] { openShake(); });
        onClick(drop, [this] {
            change("Remove the shake", [](Shot& shot) {
                shot.steady.profile.reset();
                shot.steady.shake = false;
            });
        });
        showIf({drop}, [](const Shot& s) { return s.steady.profile != nullptr; });
        onRefresh([this, take, lend] {
            take->setEnabled(session_.isReady() && !session_.shot().tracks.isEmpty());
            lend->setEnabled(session_.isReady());
        });
    }
    void keepShake(const ShakeProfile& profile) {
        const std::filesystem::path beside = session_.shot().plate.path.parent_path() / (profile.name + ".shake.json");
        const QString path = askToSave(FileKind::shake, "Keep the shake", text(beside.string()), this);
        if (path.isEmpty()) return;
        if (const auto written = writeFile(path.toStdString(), shakeJson(profile)); !written)
            session_.sayError(text(written.error().message));
        else
            session_.say(QString("%1 s of shake, %2 % of the width and %3° RMS, kept in %4")
                             .arg(profile.seconds(), 0, 'f', 1)
                             .arg(profile.shiftRms() * 100, 0, 'f', 2)
                             .arg(profile.angleRms(), 0, 'f', 2)
                             .arg(path));
    }
    void openShake() {
        const QString path = askToOpen(FileKind::shake, "Lend a shake", this);
        if (path.isEmpty()) return;
        const auto profile = readShake(path.toStdString());
        if (!profile) {
            session_.sayError(text(profile.error().message));
            return;
        }
        change("Lend the shake of " + text(profile->name), [&](Shot& shot) {
            shot.steady.profile = std::make_shared<const ShakeProfile>(*profile);
            shot.steady.shake = true;
        });
    }

    void addLending() {
        auto* shake = bind(
            named(new QCheckBox("Shake the picture"), "shakeOn"), "Shake the picture", "Do not shake the picture",
            [](auto& s) -> auto& { return s.steady.shake; });
        wide(shake);
        auto* position = bind(
            named(percent(1000), "shakePosition"), "Amount of position",
            [](auto& s) -> auto& { return s.steady.lending.position; }, 100);
        auto* rotation = bind(
            percent(1000), "Amount of rotation", [](auto& s) -> auto& { return s.steady.lending.rotation; }, 100);
        auto* scale = bind(
            percent(1000), "Amount of scale", [](auto& s) -> auto& { return s.steady.lending.scale; }, 100);
        auto* lends = columns({{"Position", position}, {"Rotation", rotation}, {"Scale", scale}});
        wide(lends);
        showIf({shake, lends}, [](const Shot& s) { return s.steady.profile != nullptr; });
        onRefresh([this, shake] {
            const auto& profile = session_.shot().steady.profile;
            shake->setText(
                profile ? QString("Shake of %1, %2 s").arg(text(profile->name)).arg(profile->seconds(), 0, 'f', 1)
                        : QString("Shake the picture"));
        });
    }

    void addRender() {
        heading("Render");
        row("Filter", bind(
                          choice({"bilinear", "bicubic", "Lanczos"}), "Change filter",
                          [](auto& s) -> auto& { return s.steady.filter; }));
        row("Edges", bind(
                         choice({"empty", "held", "mirrored"}), "Change edges",
                         [](auto& s) -> auto& { return s.steady.edges; }));
        auto* place = named(new QLineEdit, "renderPlace",
                            "A sequence (name.####.exr, .png, .tif) or a video (name.mp4), below the delivery folder");
        place->setAccessibleName("Render to");
        wide(place);
        auto* render = named(button("Render", "quiet"), "renderSteady");
        onTop([&] { wide(buttonRow({render})); });
        connect(place, &QLineEdit::editingFinished, this, [this, place] {
            const QString to = place->text().trimmed();
            if (!to.isEmpty() && to != placeOf(session_.shot()))
                change("Change where it is rendered to",
                       [&](Shot& shot) { shot.steady.renderPath = to.toStdString(); });
        });
        onClick(render, [this, place] {
            const auto to =
                deliveryFolderOf(session_.shot(), session_.document.file()) / place->text().trimmed().toStdString();
            session_.writeTo({to}, [this, to] { stage_.startRender(to); });
        });
        auto* by =
            named(choice({"what differs", "by its alpha"}), "putBackBy",
                  "What of the changed frames goes back over the plate; the rest stays the plate to the last bit");
        auto* putBack = named(button("Put back…", "quiet"), "putBack",
                              "The rendered frames, painted or composed elsewhere: their motion is put back");
        auto* byLabel = row("Put back", by);
        auto* putBackRow = buttonRow({putBack});
        wide(putBackRow);
        onClick(putBack, [this, by] {
            const QString path = askToOpen(FileKind::plate, "The changed frames: one of them", this);
            if (!path.isEmpty()) stage_.putBack(path.toStdString(), by->currentIndex() == 1);
        });
        showIf({by, byLabel, putBackRow}, [](const Shot& s) { return s.steady.steady; });
        onRefresh([this, putBack] { putBack->setEnabled(session_.isReady() && stage_.plan()); });
        onRefresh([this, place, render] {
            if (!place->hasFocus()) place->setText(placeOf(session_.shot()));
            render->setEnabled(session_.isReady() && stage_.plan() && session_.shot().steady.changesPicture());
        });
    }

    SteadyStage& stage_;
};

}  // namespace

QWidget* makeSteadyCard(Session& session, SteadyStage& stage) { return new SteadyCard(session, stage); }

}  // namespace pinion
