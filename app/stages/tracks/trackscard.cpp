// The Tracks card: what a scatter starts from and how it tracks.

#include "stages/shotform.h"
#include "stages/tracks/cards.h"
#include "stages/tracks/trackjobs.h"

#include <QVBoxLayout>

namespace pinion {
namespace {

const QString kEdit = "Change track settings";

/// The settings themselves; every one is one of `ScatterSettings`.
void addSettings(ShotForm& form) {
    auto* features = form.bind(
        spin(8, 20000), kEdit, [](auto& s) -> auto& { return s.scatterSettings.features; });
    features->setObjectName("features");
    features->setToolTip("How many tracks to keep in every frame");
    form.row("Features", features);
    form.row("Least distance", form.bind(
                                   decimal(2, 500, 0, 2, " px"), kEdit,
                                   [](auto& s) -> auto& { return s.scatterSettings.leastDistance_px; }));
    auto* threshold = form.bind(
        decimal(0.0001, 1, 4, 0.005), kEdit, [](auto& s) -> auto& { return s.scatterSettings.threshold; });
    threshold->setToolTip("The weakest corner taken, as a share of the strongest in the frame");
    form.row("Threshold", threshold);
}

/// Pattern and search belong together: the pattern is odd, and the search is larger.
void addAreas(ShotForm& form, Session& session) {
    auto* pattern = spin(7, 101, " px");
    pattern->setSingleStep(2);
    auto* search = spin(9, 501, " px");
    search->setSingleStep(4);
    const auto changed = [&form, pattern, search] {
        form.change(kEdit, [&](Shot& shot) {
            shot.scatterSettings.pattern_px = pattern->value() | 1;
            shot.scatterSettings.search_px = std::max(search->value(), shot.scatterSettings.pattern_px + 4);
        });
    };
    for (QSpinBox* box : {pattern, search}) QObject::connect(box, &QSpinBox::valueChanged, &form, changed);
    form.onRefresh([&session, pattern, search] {
        setQuietly(pattern, session.shot().scatterSettings.pattern_px);
        setQuietly(search, session.shot().scatterSettings.search_px);
    });
    form.row("Pattern", pattern);
    form.row("Search", search);
}

void addMatching(ShotForm& form) {
    form.row("Motion", form.bind(
                           choice({"translation", "similarity", "affine", "perspective"}), kEdit,
                           [](auto& s) -> auto& { return s.scatterSettings.motion; }));
    auto* drift = form.bind(
        decimal(0, 1, 2, 0.05), kEdit, [](auto& s) -> auto& { return s.scatterSettings.driftLimit; });
    drift->setToolTip("A track stops when its match falls below this");
    form.row("Drift limit", drift);
    form.row("Look at", form.bind(
                            choice({"luma", "red", "green", "blue"}), kEdit,
                            [](auto& s) -> auto& { return s.scatterSettings.channel; }));
    form.row("Look through", form.bind(
                                 choice({"none", "denoise", "local contrast"}), kEdit,
                                 [](auto& s) -> auto& { return s.scatterSettings.preFilter; }));
}

void addScatter(ShotForm& form, Session& session, Candidates& candidates) {
    auto* show = button("Candidates");
    show->setCheckable(true);
    show->setToolTip("Show on the plate where a scatter would start");
    auto* scatter = button("Scatter", "quiet");
    form.wide(buttonRow({scatter, show}));
    auto* found = dimLabel("");
    form.wide(found);
    QObject::connect(show, &QPushButton::clicked, &form, [&candidates](bool shown) { candidates.show(shown); });
    ShotForm::onClick(scatter, [&session] { startScatter(session); });
    form.onRefresh([&session, &candidates, show, scatter, found] {
        show->setEnabled(session.hasPlate());
        show->setChecked(candidates.areShown());
        scatter->setEnabled(session.isReady());
        found->setText(QString("%1 candidates on frame %2").arg(candidates.found().size()).arg(session.player.frame()));
        found->setVisible(candidates.areShown());
    });
    QObject::connect(&candidates, &Candidates::changed, &form, [&form] { form.refresh(); });
}

}  // namespace

QWidget* makeTracksCard(Session& session, Candidates& candidates) {
    auto* panel = new QWidget;
    auto* both = new QVBoxLayout(panel);
    both->setContentsMargins(0, 0, 0, 0);
    both->addWidget(makeTrackChoices(session));
    auto* form = new ShotForm(session);
    both->addWidget(form);
    addSettings(*form);
    addAreas(*form, session);
    addMatching(*form);
    form->onTop([&] { addScatter(*form, session, candidates); });
    // While tracks are selected their own choices stand here.
    form->onRefresh([&session, form] { form->setVisible(session.selection.isEmpty()); });
    form->refresh();
    return panel;
}

}  // namespace pinion
