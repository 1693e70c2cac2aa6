#include "stages/camera/cameracard.h"

#include "shot/edits/cameraedits.h"
#include "stages/camera/errorhistogram.h"
#include "stages/camera/measurestable.h"
#include "stages/camera/moverlist.h"
#include "stages/camera/nextstepline.h"
#include "stages/camera/objectlist.h"
#include "stages/camera/solvefigures.h"
#include "stages/camera/suspectlist.h"
#include "stages/shotfields.h"
#include "stages/shotform.h"

#include <algorithm>
#include <array>
#include <map>

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

    void addKind() { addSettingField(*this, SettingId::motion, kEdit, "cameraKind"); }

    void addFocal() {
        addFocalFields(*this, kEdit, "focal");
        addSettingField(*this, SettingId::sensorWidth, kEdit, "sensorWidth");
        addSettingField(*this, SettingId::zoom, kEdit, "zoom");
        addSettingField(*this, SettingId::reading, kEdit, "reading");
        addSettingField(*this, SettingId::readoutShare, kEdit, "readout");
        addSettingField(*this, SettingId::readoutSigma, kEdit, "readoutTrust");
        addSettingField(*this, SettingId::readBy, kEdit, "readBy");
    }

    void addLens() {
        using Distortion = SolveOptions::Distortion;
        static constexpr std::array kChoices{Distortion::unknown, Distortion::k1,      Distortion::full,
                                             Distortion::known,   Distortion::guessed, Distortion::none};
        const SolveSetting& setting = solveSetting(SettingId::distortion);
        QStringList labels;
        for (const Distortion one : kChoices) labels << setting.labels[std::size_t(one)];
        auto* distortion = named(choice(labels), "distortion", setting.tip);
        row(setting.label, distortion);
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
        addSettingField(*this, SettingId::axis, kEdit, "axis");
        addSettingField(*this, SettingId::squeeze, "Change the squeeze", "squeeze");
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

    /// The solve that figures are told beside.
    static const Solve* lastKept(const Shot& shot) {
        return shot.keptSolves.isEmpty() ? nullptr : shot.keptSolves.back().solve.get();
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
        auto* solves =
            named(cutShort(new QComboBox), "solves", "The solves of this shot. The one that is chosen counts");
        solves->setAccessibleName("Solves");
        wide(solves);
        connect(solves, &QComboBox::activated, this, [this, solves] {
            const SolveId chosen = solves->currentData().toUInt();
            if (chosen != session_.shot().solveId)
                session_.edit("Choose a solve", withSolveChosen(session_.shot(), chosen));
        });
        showIf({solves}, [](const Shot& shot) { return !shot.keptSolves.isEmpty(); });
        onRefresh([this, solves] {
            const Shot& shot = session_.shot();
            solves->clear();
            std::map<SolveId, const Solve*> all;
            if (shot.solve) all[shot.solveId] = shot.solve.get();
            for (const KeptSolve& kept : shot.keptSolves) all[kept.id] = kept.solve.get();
            for (const auto& [id, solve] : all) solves->addItem(solveTitle(id, *solve, shot.plate.width), id);
            for (int i = 0; i < solves->count(); ++i) solves->setItemData(i, solves->itemText(i), Qt::ToolTipRole);
            solves->setCurrentIndex(solves->findData(shot.solveId));
            solves->setEnabled(!session_.isBusy());
        });
        auto* next = makeNextStepLine(session_, stage_);
        wide(next);
        showIf({next}, [](const Shot& shot) { return shot.solve != nullptr; });
        wide(makeMoverList(session_, stage_));
        wide(makeObjectList(session_, stage_));
        auto* suspects = makeSuspectList(session_, stage_);
        wide(suspects);
        showIf({suspects}, [](const Shot& shot) { return shot.solve != nullptr; });
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
            results->setText(shot.solve              ? solveFigures(*shot.solve, lastKept(shot), shot.plate.width)
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
