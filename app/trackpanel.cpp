// The choices of the selected tracks, shown in the Tracks card while any is selected.

#include "docket.h"
#include "form.h"
#include "shot/edits/trackedits.h"
#include "theme.h"

#include <QCheckBox>
#include <QColorDialog>
#include <QLineEdit>

#include <algorithm>

namespace pinion {

QWidget* makeTrackChoices(Workspace& workspace) {
    auto* form = new Form;
    form->setObjectName("trackChoices");
    auto* title = new QLabel;
    title->setProperty("title", true);
    title->setObjectName("trackTitle");
    form->wide(title);
    auto* name = new QLineEdit;
    name->setObjectName("trackName");
    auto* motion = choice({"translation", "similarity", "affine", "perspective"});
    auto* pattern = spin(7, 101, " px");
    pattern->setSingleStep(2);
    pattern->setObjectName("trackPattern");
    auto* search = spin(11, 601, " px");
    search->setSingleStep(4);
    search->setObjectName("trackSearch");
    auto* channel = choice({"luma", "red", "green", "blue"});
    auto* filter = choice({"none", "denoise", "local contrast"});
    filter->setObjectName("trackFilter");
    auto* drift = decimal(0, 1, 2, 0.05);
    drift->setToolTip("A track stops when its match falls below this, rather than wander");
    auto* pickUp = new QCheckBox("Pick up again after it was lost");
    pickUp->setObjectName("trackPickUp");
    auto* bridge = new QCheckBox("Bridge its gaps smoothly");
    bridge->setObjectName("trackBridge");
    auto* group = new QLineEdit;
    group->setObjectName("trackGroup");
    group->setPlaceholderText("none");
    auto* colour = button("Colour…");
    auto* locked = new QCheckBox("Locked");
    locked->setObjectName("trackLocked");
    auto* hidden = new QCheckBox("Hidden");
    form->row("Name", name);
    form->row("Motion", motion);
    form->row("Pattern", pattern);
    form->row("Search", search);
    form->row("Look at", channel);
    form->row("Look through", filter);
    form->row("Drift limit", drift);
    form->row("Group", group);
    form->wide(pickUp);
    form->wide(bridge);
    form->wide(buttonRow({locked, hidden, colour}));
    auto* extras = dimLabel("");
    extras->setObjectName("trackExtras");
    form->wide(extras);
    auto* clearOutline = button("No outline");
    auto* clearOffset = button("No offset");
    form->wide(buttonRow({clearOutline, clearOffset}));

    const auto change = [&workspace](const QString& what, const std::function<void(Track&)>& edit,
                                     bool evenLocked = false) {
        const auto tracks = workspace.selected();
        if (!tracks.empty()) workspace.edit(what, withTracksEdited(workspace.shot(), tracks, edit, evenLocked));
    };
    QObject::connect(name, &QLineEdit::editingFinished, form, [&workspace, name] {
        if (workspace.selection().size() != 1) return;
        const TrackId id = *workspace.selection().begin();
        const Track* track = findTrack(workspace.shot(), id);
        const std::string wanted = name->text().trimmed().toStdString();
        if (!track || wanted.empty() || wanted == track->name) return;
        const bool taken = std::any_of(workspace.shot().tracks.begin(), workspace.shot().tracks.end(),
                                       [&](const Track& t) { return t.name == wanted; });
        if (taken) {
            workspace.say("Another track has that name.");
            return;
        }
        workspace.edit("Rename " + text(track->name), withTrackRenamed(workspace.shot(), id, wanted));
    });
    QObject::connect(group, &QLineEdit::editingFinished, form, [&workspace, group, change] {
        const std::string wanted = group->text().trimmed().toStdString();
        const Track* first =
            workspace.selection().empty() ? nullptr : findTrack(workspace.shot(), *workspace.selection().begin());
        if (!first || first->group == wanted) return;
        change(
            "Group tracks", [&](Track& t) { t.group = wanted; }, true);
    });
    QObject::connect(motion, &QComboBox::activated, form, [change](int index) {
        change("Change motion", [&](Track& t) { t.motion = MotionModel(index); });
    });
    QObject::connect(channel, &QComboBox::activated, form,
                     [change](int index) { change("Change channel", [&](Track& t) { t.channel = Channel(index); }); });
    QObject::connect(filter, &QComboBox::activated, form, [change](int index) {
        change("Change pre-filter", [&](Track& t) { t.preFilter = PreFilter(index); });
    });
    QObject::connect(pattern, &QSpinBox::valueChanged, form, [change](int value) {
        change("Change pattern", [&](Track& t) {
            t.pattern_px = value | 1;
            t.search_px = std::max(t.search_px, t.pattern_px + 4);
        });
    });
    QObject::connect(search, &QSpinBox::valueChanged, form, [change](int value) {
        change("Change search", [&](Track& t) { t.search_px = std::max(value, t.pattern_px + 4); });
    });
    QObject::connect(drift, &QDoubleSpinBox::valueChanged, form,
                     [change](double value) { change("Change drift limit", [&](Track& t) { t.driftLimit = value; }); });
    QObject::connect(pickUp, &QCheckBox::clicked, form, [change](bool on) {
        change(on ? "Pick up again" : "Do not pick up again", [&](Track& t) { t.pickUp = on; });
    });
    QObject::connect(bridge, &QCheckBox::clicked, form, [change](bool on) {
        change(on ? "Bridge gaps" : "Open gaps", [&](Track& t) { t = on ? bridged(t) : unbridged(t); });
    });
    QObject::connect(locked, &QCheckBox::clicked, form, [change](bool on) {
        change(
            on ? "Lock tracks" : "Unlock tracks", [&](Track& t) { t.locked = on; }, true);
    });
    QObject::connect(hidden, &QCheckBox::clicked, form, [change](bool on) {
        change(
            on ? "Hide tracks" : "Show tracks", [&](Track& t) { t.hidden = on; }, true);
    });
    QObject::connect(colour, &QPushButton::clicked, form, [change, form] {
        const QColor chosen = QColorDialog::getColor(theme::kBrass, form, "Colour of the tracks");
        if (chosen.isValid())
            change(
                "Colour tracks", [&](Track& t) { t.colour = chosen.rgb() & 0xFFFFFF; }, true);
    });
    QObject::connect(clearOutline, &QPushButton::clicked, form,
                     [change] { change("Remove outline", [](Track& t) { t.outline = {}; }); });
    QObject::connect(clearOffset, &QPushButton::clicked, form, [change] {
        change("Remove offset point", [](Track& t) {
            t.offset.setZero();
            t.samples = t.samples.edited([](auto& samples) {
                for (Sample& s : samples) s.carried.setZero();
            });
        });
    });

    const auto refresh = [&workspace, form, title, name, motion, pattern, search, channel, filter, drift, pickUp,
                          bridge, group, locked, hidden, extras, clearOutline, clearOffset] {
        const auto ids = workspace.selected();
        const Track* first = ids.empty() ? nullptr : findTrack(workspace.shot(), ids.front());
        form->setVisible(first != nullptr);
        if (!first) return;
        title->setText(ids.size() == 1 ? text(first->name) : QString("%1 tracks").arg(ids.size()));
        name->setEnabled(ids.size() == 1);
        if (!name->hasFocus()) name->setText(ids.size() == 1 ? text(first->name) : QString());
        if (!group->hasFocus()) group->setText(text(first->group));
        motion->setCurrentIndex(int(first->motion));
        channel->setCurrentIndex(int(first->channel));
        filter->setCurrentIndex(int(first->preFilter));
        setQuietly(pattern, first->pattern_px);
        setQuietly(search, first->search_px);
        setQuietly(drift, first->driftLimit);
        pickUp->setChecked(first->pickUp);
        bridge->setChecked(
            std::any_of(first->samples.begin(), first->samples.end(), [](const Sample& s) { return s.bridged; }));
        locked->setChecked(first->locked);
        hidden->setChecked(first->hidden);
        for (QWidget* field :
             std::initializer_list<QWidget*>{motion, pattern, search, channel, filter, drift, pickUp, bridge})
            field->setEnabled(!first->locked && !workspace.isBusy());
        QStringList lines;
        if (!first->samples.isEmpty())
            lines << QString("frames %1–%2 (%3), reference %4")
                         .arg(first->firstFrame())
                         .arg(first->lastFrame())
                         .arg(first->samples.size())
                         .arg(first->referenceFrame);
        const auto because = [](EndReason reason) {
            return reason == EndReason::rangeEnd ? QString("with the range") : text(std::string(toString(reason)));
        };
        if (first->samples.size() < 2) lines << "not tracked yet";
        else lines << QString("starts: %1; ends: %2").arg(because(first->startReason), because(first->endReason));
        if (!first->outline.isEmpty()) lines << QString("outline of %1 corners").arg(first->outline.size());
        if (!first->offset.isZero())
            lines << QString("offset %1, %2 px").arg(first->offset.x(), 0, 'f', 1).arg(first->offset.y(), 0, 'f', 1);
        extras->setText(lines.join("\n"));
        clearOutline->setVisible(!first->outline.isEmpty());
        clearOffset->setVisible(!first->offset.isZero());
    };
    for (auto signal :
         {&Workspace::shotChanged, &Workspace::selectionChanged, &Workspace::plateChanged, &Workspace::jobChanged})
        QObject::connect(&workspace, signal, form, refresh);
    refresh();
    return form;
}

}  // namespace pinion
