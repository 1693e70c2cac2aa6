// The choices of the selected tracks, shown in the Tracks card while any is selected.

#include "shot/edits/trackedits.h"
#include "stages/shotform.h"
#include "stages/tracks/cards.h"
#include "widgets/theme.h"

#include <QColorDialog>
#include <QLineEdit>

#include <algorithm>

namespace pinion {
namespace {

/// The fields show the first selected track; what is typed goes to all of them, in one edit.
class TrackChoices : public ShotForm {
public:
    explicit TrackChoices(Session& session) : ShotForm(session) {
        setObjectName("trackChoices");
        auto* title = new QLabel;
        title->setProperty("title", true);
        title->setObjectName("trackTitle");
        wide(title);
        onRefresh([this, title] {
            const Track* first = session_.selection.first();
            setVisible(first != nullptr);
            if (!first) return;
            title->setText(session_.selection.size() == 1 ? text(first->name)
                                                          : QString("%1 tracks").arg(session_.selection.size()));
        });
        addName();
        addMatching();
        addGroup();
        addTicks();
        addExtras();
        refresh();
    }

private:
    /// Runs with the first selected track, when there is one.
    void showTrack(std::function<void(const Track&)> show) {
        onRefresh([this, show = std::move(show)] {
            if (const Track* first = session_.selection.first()) show(*first);
        });
    }
    /// What cannot be changed while a job runs or the track is locked.
    void lockable(QWidget* field) {
        showTrack([this, field](const Track& first) { field->setEnabled(!first.locked && !session_.isBusy()); });
    }
    void changeTracks(const QString& name, const std::function<void(Track&)>& edit, bool evenLocked = false) {
        if (!session_.selection.isEmpty())
            session_.edit(name, withTracksEdited(session_.shot(), session_.selection.list(), edit, evenLocked));
    }

    void addName() {
        auto* name = new QLineEdit;
        name->setObjectName("trackName");
        row("Name", name);
        connect(name, &QLineEdit::editingFinished, this,
                [this, name] { rename(name->text().trimmed().toStdString()); });
        showTrack([this, name](const Track& first) {
            const bool one = session_.selection.size() == 1;
            name->setEnabled(one);
            if (!name->hasFocus()) name->setText(one ? text(first.name) : QString());
        });
    }
    void rename(const std::string& wanted) {
        const Track* track = session_.selection.onlyOne();
        if (!track || wanted.empty() || wanted == track->name) return;
        const auto& tracks = session_.shot().tracks;
        if (std::any_of(tracks.begin(), tracks.end(), [&](const Track& t) { return t.name == wanted; })) {
            session_.say("Another track has that name.");
            return;
        }
        session_.edit("Rename " + text(track->name), withTrackRenamed(session_.shot(), track->id, wanted));
    }

    template <class Value>
    void addChoice(const QString& label, const QStringList& words, const QString& edit, Value Track::*member,
                   const char* name = "") {
        QComboBox* box = choice(words);
        box->setObjectName(name);
        row(label, box);
        connect(box, &QComboBox::activated, this,
                [this, edit, member](int index) { changeTracks(edit, [&](Track& t) { t.*member = Value(index); }); });
        showTrack([box, member](const Track& first) { box->setCurrentIndex(int(first.*member)); });
        lockable(box);
    }
    void addMatching() {
        addChoice("Motion", {"translation", "similarity", "affine", "perspective"}, "Change motion", &Track::motion);
        auto* pattern = spin(7, 101, " px");
        pattern->setSingleStep(2);
        pattern->setObjectName("trackPattern");
        row("Pattern", pattern);
        auto* search = spin(11, 601, " px");
        search->setSingleStep(4);
        search->setObjectName("trackSearch");
        row("Search", search);
        connect(pattern, &QSpinBox::valueChanged, this, [this](int value) {
            changeTracks("Change pattern", [&](Track& t) {
                t.pattern_px = value | 1;
                t.search_px = std::max(t.search_px, t.pattern_px + 4);
            });
        });
        connect(search, &QSpinBox::valueChanged, this, [this](int value) {
            changeTracks("Change search", [&](Track& t) { t.search_px = std::max(value, t.pattern_px + 4); });
        });
        addChoice("Look at", {"luma", "red", "green", "blue"}, "Change channel", &Track::channel);
        addChoice("Look through", {"none", "denoise", "local contrast"}, "Change pre-filter", &Track::preFilter,
                  "trackFilter");
        auto* drift = decimal(0, 1, 2, 0.05);
        drift->setToolTip("A track stops when its match falls below this, rather than wander");
        row("Drift limit", drift);
        connect(drift, &QDoubleSpinBox::valueChanged, this,
                [this](double value) { changeTracks("Change drift limit", [&](Track& t) { t.driftLimit = value; }); });
        showTrack([pattern, search, drift](const Track& first) {
            setQuietly(pattern, first.pattern_px);
            setQuietly(search, first.search_px);
            setQuietly(drift, first.driftLimit);
        });
        for (QWidget* field : std::initializer_list<QWidget*>{pattern, search, drift}) lockable(field);
    }

    void addGroup() {
        auto* group = new QLineEdit;
        group->setObjectName("trackGroup");
        group->setPlaceholderText("none");
        row("Group", group);
        connect(group, &QLineEdit::editingFinished, this, [this, group] {
            const std::string wanted = group->text().trimmed().toStdString();
            const Track* first = session_.selection.first();
            if (!first || first->group == wanted) return;
            changeTracks(
                "Group tracks", [&](Track& t) { t.group = wanted; }, true);
        });
        showTrack([group](const Track& first) {
            if (!group->hasFocus()) group->setText(text(first.group));
        });
    }

    QCheckBox* tick(const QString& label, const char* name, const std::function<bool(const Track&)>& is,
                    const std::function<void(bool)>& set) {
        auto* box = new QCheckBox(label);
        box->setObjectName(name);
        connect(box, &QCheckBox::clicked, this, set);
        showTrack([box, is](const Track& first) { box->setChecked(is(first)); });
        return box;
    }
    void addTicks() {
        auto* pickUp = tick(
            "Pick up again after it was lost", "trackPickUp", [](const Track& t) { return t.pickUp; },
            [this](bool on) {
                changeTracks(on ? "Pick up again" : "Do not pick up again", [&](Track& t) { t.pickUp = on; });
            });
        auto* bridge = tick(
            "Bridge its gaps smoothly", "trackBridge",
            [](const Track& t) {
                return std::any_of(t.samples.begin(), t.samples.end(), [](const Sample& s) { return s.bridged; });
            },
            [this](bool on) {
                changeTracks(on ? "Bridge gaps" : "Open gaps", [&](Track& t) { t = on ? bridged(t) : unbridged(t); });
            });
        for (QCheckBox* box : {pickUp, bridge}) {
            wide(box);
            lockable(box);
        }
        auto* locked = tick(
            "Locked", "trackLocked", [](const Track& t) { return t.locked; },
            [this](bool on) {
                changeTracks(
                    on ? "Lock tracks" : "Unlock tracks", [&](Track& t) { t.locked = on; }, true);
            });
        auto* hidden = tick(
            "Hidden", "trackHidden", [](const Track& t) { return t.hidden; },
            [this](bool on) {
                changeTracks(
                    on ? "Hide tracks" : "Show tracks", [&](Track& t) { t.hidden = on; }, true);
            });
        auto* colour = button("Colour…");
        onClick(colour, [this] {
            const QColor chosen = QColorDialog::getColor(theme::kBrass, this, "Colour of the tracks");
            if (!chosen.isValid()) return;
            changeTracks(
                "Colour tracks", [&](Track& t) { t.colour = chosen.rgb() & 0xFFFFFF; }, true);
        });
        wide(buttonRow({locked, hidden, colour}));
    }

    static QString factsOf(const Track& track) {
        QStringList lines;
        if (!track.samples.isEmpty())
            lines << QString("frames %1–%2 (%3), reference %4")
                         .arg(track.firstFrame())
                         .arg(track.lastFrame())
                         .arg(track.samples.size())
                         .arg(track.referenceFrame);
        const auto because = [](EndReason reason) {
            return reason == EndReason::rangeEnd ? QString("with the range") : text(std::string(toString(reason)));
        };
        if (track.samples.size() < 2) lines << "not tracked yet";
        else lines << QString("starts: %1; ends: %2").arg(because(track.startReason), because(track.endReason));
        if (!track.outline.isEmpty()) lines << QString("outline of %1 corners").arg(track.outline.size());
        if (!track.offset.isZero())
            lines << QString("offset %1, %2 px").arg(track.offset.x(), 0, 'f', 1).arg(track.offset.y(), 0, 'f', 1);
        return lines.join("\n");
    }
    void addExtras() {
        auto* extras = dimLabel("");
        extras->setObjectName("trackExtras");
        wide(extras);
        auto* noOutline = button("No outline");
        auto* noOffset = button("No offset");
        wide(buttonRow({noOutline, noOffset}));
        onClick(noOutline, [this] { changeTracks("Remove outline", [](Track& t) { t.outline = {}; }); });
        onClick(noOffset, [this] {
            changeTracks("Remove offset point", [](Track& t) {
                t.offset.setZero();
                t.samples = t.samples.edited([](auto& samples) {
                    for (Sample& s : samples) s.carried.setZero();
                });
            });
        });
        showTrack([extras, noOutline, noOffset](const Track& first) {
            extras->setText(factsOf(first));
            noOutline->setVisible(!first.outline.isEmpty());
            noOffset->setVisible(!first.offset.isZero());
        });
    }
};

}  // namespace

QWidget* makeTrackChoices(Session& session) { return new TrackChoices(session); }

}  // namespace pinion
