#include "stages/camera/cameracard.h"

#include "stages/camera/errorhistogram.h"
#include "stages/camera/measurestable.h"
#include "stages/camera/solvefigures.h"
#include "stages/shotfields.h"
#include "stages/shotform.h"

#include <algorithm>
#include <array>

namespace pinion {
namespace {

const QString kEdit = "Change camera settings";

class CameraCard : public ShotForm {
public:
    CameraCard(Session& session, CameraStage& stage) : ShotForm(session), stage_(stage) {
        addKind();
        addFocal();
        addLens();
        addBasePair();
        wide(makeMeasuresTable(session));
        onTop([this] {
            addSolve();
            addResults();
        });
        connect(&stage, &CameraStage::trimPreviewChanged, this, [this] { refresh(); });
        refresh();
    }

private:
    static QComboBox* named(QComboBox* box, const char* name, const QString& tip = {}) {
        box->setObjectName(name);
        box->setToolTip(tip);
        return box;
    }

    void addKind() {
        auto* kind = named(choice({"find out", "travelling", "nodal", "locked"}), "cameraKind",
                           "Travelling: it moves. Nodal: it only turns. Locked: it stands still");
        row("Camera", kind);
        connect(kind, &QComboBox::activated, this, [this](int index) {
            change(kEdit, [&](Shot& shot) {
                shot.solveSettings.motion = index == 0 ? std::nullopt : std::optional(CameraMotion(index - 1));
            });
        });
        onRefresh([this, kind] {
            const auto& motion = session_.shot().solveSettings.motion;
            kind->setCurrentIndex(motion ? int(*motion) + 1 : 0);
        });
    }

    void addFocal() {
        addFocalFields(*this, kEdit, "focal");
        row("Sensor width",
            bind(
                decimal(1, 100, 2, 1, " mm"), kEdit, [](auto& s) -> auto& { return s.solveSettings.sensorWidth_mm; }));
        auto* zoom = named(choice({"find out", "zooms", "does not"}), "zoom",
                           "A lens that zooms gets a focal length on every frame, smooth in time");
        row("Zoom", zoom);
        connect(zoom, &QComboBox::activated, this, [this](int index) {
            change(kEdit, [&](Shot& shot) {
                shot.solveSettings.zoom = index == 0 ? std::nullopt : std::optional(index == 1);
            });
        });
        onRefresh([this, zoom] {
            const auto& zooms = session_.shot().solveSettings.zoom;
            zoom->setCurrentIndex(zooms ? (*zooms ? 1 : 2) : 0);
        });
    }

    void addLens() {
        using Distortion = SolveOptions::Distortion;
        static constexpr std::array kChoices{Distortion::unknown, Distortion::k1,      Distortion::full,
                                             Distortion::known,   Distortion::guessed, Distortion::none};
        auto* distortion =
            named(choice({"find k1, k2", "find k1", "find all terms", "Lens card's", "near Lens card's", "none"}),
                  "distortion", "The Lens card's lens is kept as it is, or guessed from, or not looked at");
        row("Distortion", distortion);
        connect(distortion, &QComboBox::activated, this, [this](int index) {
            const Distortion wanted = kChoices[std::size_t(index)];
            if ((wanted == Distortion::known || wanted == Distortion::guessed) && !session_.shot().lens.lens) {
                session_.sayError("The Lens card holds no lens yet: draw lines there, measure a chart or open a lens.");
                refresh();
                return;
            }
            change(kEdit, [&](Shot& shot) { shot.solveSettings.distortion = wanted; });
        });
        onRefresh([this, distortion] {
            const auto held = std::find(kChoices.begin(), kChoices.end(), session_.shot().solveSettings.distortion);
            distortion->setCurrentIndex(int(held - kChoices.begin()));
        });
        row("Optical axis",
            bind(
                named(choice({"automatic", "middle", "free"}), "axis",
                      "Where the optical axis meets the plate. Automatic: near the middle, as far off as the tracks "
                      "say; free: for plates cropped off the middle"),
                kEdit, [](auto& s) -> auto& { return s.solveSettings.axis; }));
        addSqueezeField(*this, "squeeze");
    }
    void addBasePair() {
        auto* base = named(choice({"find out", "by hand"}), "basePair",
                           "The two frames from which the search starts: far enough apart to show depth, near enough "
                           "to share tracks");
        row("Base pair", base);
        auto* first = spin(0, 9999999);
        first->setObjectName("baseFirst");
        auto* second = spin(0, 9999999);
        second->setObjectName("baseSecond");
        auto* frames = columns({{"From frame", first}, {"To frame", second}});
        wide(frames);
        connect(base, &QComboBox::activated, this, [this](int index) {
            change(kEdit, [&](Shot& shot) {
                auto& pair = shot.solveSettings.basePair;
                if (index == 0) pair.reset();
                else if (!pair) pair = firstGuess(shot);
            });
        });
        for (QSpinBox* box : {first, second})
            connect(box, &QSpinBox::valueChanged, this, [this, first, second] {
                change(kEdit, [&](Shot& shot) { shot.solveSettings.basePair = {first->value(), second->value()}; });
            });
        onRefresh([this, base, first, second, frames] {
            const Shot& shot = session_.shot();
            const auto& pair = shot.solveSettings.basePair;
            base->setCurrentIndex(pair ? 1 : 0);
            frames->setVisible(pair.has_value());
            if (!pair) return;
            const QSignalBlocker quietFirst(first), quietSecond(second);
            for (QSpinBox* box : {first, second}) box->setRange(shot.plate.range.first, shot.plate.range.last);
            first->setValue(pair->first);
            second->setValue(pair->second);
        });
    }
    /// What the solve found is the best first guess.
    static std::pair<int, int> firstGuess(const Shot& shot) {
        if (shot.solve && shot.solve->basePair.first != shot.solve->basePair.second) return shot.solve->basePair;
        return {shot.plate.range.first, (shot.plate.range.first + shot.plate.range.last) / 2};
    }

    void addSolve() {
        auto* solve = button("Solve", "quiet");
        auto* refine = button("Refine");
        refine->setToolTip(
            "From the present solve on, without a search: quick, after tracks, lens or measures have changed a little");
        wide(buttonRow({solve, refine}));
        onClick(solve, [this] { stage_.startSolve(); });
        onClick(refine, [this] { stage_.startSolve(true); });
        onRefresh([this, solve, refine] {
            const Shot& shot = session_.shot();
            solve->setEnabled(!session_.isBusy() && !shot.tracks.isEmpty());
            solve->setText(shot.solve ? "Solve again" : "Solve");
            refine->setVisible(shot.solve != nullptr);
            refine->setEnabled(solve->isEnabled());
        });
    }

    QLabel* words(const char* name) {
        auto* label = new QLabel;
        label->setObjectName(name);
        label->setWordWrap(true);
        label->setTextInteractionFlags(Qt::TextSelectableByMouse);
        wide(label);
        return label;
    }
    void addResults() {
        auto* doubt = words("doubt");
        doubt->setStyleSheet("QLabel { color: #e9bd66; border-left: 2px solid #c98f3a; padding: 2px 0 2px 8px; }");
        auto* results = words("solveResults");
        results->setTextFormat(Qt::RichText);
        results->setSizePolicy(QSizePolicy::Ignored, QSizePolicy::Preferred);
        auto* histogram = new ErrorHistogram(session_, stage_);
        wide(histogram);
        auto* aside = button("Set aside", "quiet");
        auto* back = button("Bring back all");
        wide(buttonRow({aside, back}));
        onClick(aside, [this] { stage_.setWorstAside(); });
        onClick(back, [this] { stage_.bringAllBack(); });
        showIf({histogram, aside, back}, [](const Shot& shot) { return shot.solve != nullptr; });
        onRefresh([this, doubt, results, aside, back] {
            const Shot& shot = session_.shot();
            doubt->setVisible(shot.solve && !shot.solve->doubt.empty());
            if (shot.solve) doubt->setText("Not sure: " + text(shot.solve->doubt) + ".");
            results->setText(shot.solve ? solveFigures(*shot.solve, stage_.previousSolve().get(), shot.plate.width)
                             : shot.tracks.isEmpty() ? "<span style='color:#a2a2a2'>Scatter features first.</span>"
                                                     : "");
            results->setVisible(!results->text().isEmpty());
            const auto above = stage_.tracksAbove(stage_.trimPreview());
            aside->setEnabled(!above.empty() && !session_.isBusy());
            aside->setText(above.empty() ? QString("Set aside") : QString("Set %1 aside").arg(above.size()));
            back->setEnabled(!session_.isBusy() && std::any_of(shot.tracks.begin(), shot.tracks.end(),
                                                               [](const Track& t) { return t.setAside; }));
            updateGeometry();
        });
    }

    CameraStage& stage_;
};

}  // namespace

QWidget* makeCameraCard(Session& session, CameraStage& stage) { return new CameraCard(session, stage); }

}  // namespace pinion
