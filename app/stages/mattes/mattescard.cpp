#include "stages/mattes/mattescard.h"

#include "base/files.h"
#include "jobs/delivering.h"
#include "jobs/places.h"
#include "shot/edits/matteedits.h"
#include "stages/mattes/mattelist.h"
#include "stages/mattes/mattesstage.h"
#include "stages/rides.h"
#include "stages/shotform.h"
#include "widgets/filedialogs.h"
#include "widgets/theme.h"

#include <QColorDialog>

#include <cmath>

namespace pinion {
namespace {

const QStringList kViews{"plate", "matte", "cut out"};

class MattesCard : public ShotForm {
public:
    MattesCard(Session& session, MattesStage& stage) : ShotForm(session), stage_(stage), hand_(stage.hand) {
        addList();
        addHeld();
        addKeys();
        addRide();
        addView();
        addTracks();
        addProposals();
        addFiles();
        connect(&hand_, &MatteHand::changed, this, [this] { refresh(); });
        connect(&hand_, &MatteHand::motionsChanged, this, [this] { refresh(); });
        connect(&stage, &MattesStage::viewChanged, this, [this] { refresh(); });
        connect(&stage.proposals, &Proposals::changed, this, [this] { refresh(); });
        connect(&session.player, &Player::frameChanged, this, [this] { refresh(); });
        refresh();
    }

private:
    QLabel* words(const char* name) {
        auto* label = named(dimLabel(""), name);
        wide(label);
        return label;
    }
    /// An edit of the held shape.
    void changeHeld(const QString& what, const std::function<void(Matte&)>& edit) {
        if (hand_.held())
            session_.edit(what + " of " + text(hand_.held()->name),
                          withMatteEdited(session_.shot(), *hand_.matte(), edit));
    }
    bool mayChange() const { return hand_.held() && !hand_.held()->locked && session_.isReady(); }
    template <class Access>
    QDoubleSpinBox* heldNumber(QDoubleSpinBox* box, const QString& what, Access access, double factor = 1) {
        connect(box, &QDoubleSpinBox::valueChanged, this, [this, what, access, factor](double value) {
            changeHeld(what, [&](Matte& matte) { access(matte) = value / factor; });
        });
        onRefresh([this, box, access, factor] {
            box->setEnabled(mayChange());
            if (const Matte* matte = hand_.held()) {
                Matte copy = *matte;
                setQuietly(box, access(copy) * factor);
            }
        });
        return box;
    }
    template <class Access>
    QComboBox* heldChoice(QComboBox* box, const QString& what, Access access) {
        connect(box, &QComboBox::activated, this, [this, what, access](int index) {
            changeHeld(what, [&](Matte& matte) {
                auto& held = access(matte);
                held = std::decay_t<decltype(held)>(index);
            });
        });
        onRefresh([this, box, access] {
            box->setEnabled(mayChange());
            if (const Matte* matte = hand_.held()) {
                Matte copy = *matte;
                box->setCurrentIndex(int(access(copy)));
            }
        });
        return box;
    }
    void showWhileHeld(std::initializer_list<QWidget*> parts) {
        onRefresh([this, parts = std::vector<QWidget*>(parts)] {
            for (QWidget* part : parts) part->setVisible(hand_.held() != nullptr);
        });
    }

    void addList() {
        auto* list = new MatteList(session_, hand_);
        wide(list);
        auto* start = words("matteStart");
        onRefresh([this, list, start] {
            const bool none = session_.shot().mattes.isEmpty();
            list->setVisible(!none);
            list->refresh();
            start->setVisible(none);
            start->setText(
                "No shapes yet. Draw one round what moves by itself, shines or hides: D point by point, E an "
                "ellipse, Shift+D freehand. Hold the picture still first (S), and one keyframe may do.");
        });
    }

    void addHeld() {
        auto* mode = heldChoice(
            named(choice({"takes out", "alone admits"}), "matteMode",
                  "What tracking and solving leave out, or all that they may use"),
            "Use", [](Matte & m) -> auto& { return m.mode; });
        auto* op = heldChoice(
            named(choice({"added", "subtracted", "intersected"}), "matteOp", "What it does to the shapes before it"),
            "Order", [](Matte & m) -> auto& { return m.op; });
        auto* modeLabel = row("Use", mode);
        auto* opLabel = row("Combined", op);
        auto* feather = heldNumber(
            named(decimal(-500, 500, 1, 1, " px"), "matteFeather", "How far the edge fades: outwards, below 0 inwards"),
            "Feather", [](Matte & m) -> auto& { return m.feather_px; });
        auto* grow = heldNumber(
            named(decimal(-500, 500, 1, 1, " px"), "matteGrow",
                  "The edge moved outwards, below 0 "
                  "inwards"),
            "Growth", [](Matte & m) -> auto& { return m.grow_px; });
        auto* featherLabel = row("Feather", feather);
        auto* growLabel = row("Grow", grow);
        auto* pointFeather = named(decimal(-500, 500, 1, 1, " px"), "mattePointFeather",
                                   "What the chosen points add to the feather (Alt and a drag from a point)");
        auto* pointLabel = row("At points", pointFeather);
        connect(pointFeather, &QDoubleSpinBox::valueChanged, this, [this](double value) { featherPoints(value); });
        auto* invert = named(new QCheckBox("Turned round"), "matteInvert", "All but what it covers");
        auto* locked = named(new QCheckBox("Locked"), "matteLocked");
        wide(buttonRow({invert, locked}));
        connect(invert, &QCheckBox::clicked, this,
                [this](bool on) { changeHeld("Turning round", [&](Matte& matte) { matte.invert = on; }); });
        connect(locked, &QCheckBox::clicked, this,
                [this](bool on) { changeHeld(on ? "Lock" : "Unlocking", [&](Matte& matte) { matte.locked = on; }); });
        auto* opacity = heldNumber(
            named(decimal(0, 100, 0, 5, " %"), "matteOpacity", "Of its surface as it is drawn; it covers all the same"),
            "Opacity", [](Matte & m) -> auto& { return m.opacity; }, 100);
        auto* opacityLabel = row("Drawn at", opacity);
        auto* colour = named(button("Colour…", "quiet"), "matteColour");
        onClick(colour, [this] {
            const QColor chosen =
                QColorDialog::getColor(QColor::fromRgb(hand_.held()->colour), this, "Colour of the shape");
            if (chosen.isValid()) changeHeld("Colour", [&](Matte& matte) { matte.colour = chosen.rgb() & 0xFFFFFF; });
        });
        wide(buttonRow({colour}));
        showWhileHeld({mode, op, modeLabel, opLabel, feather, grow, featherLabel, growLabel, invert, locked, opacity,
                       opacityLabel, colour});
        onRefresh([this, invert, locked, pointFeather, pointLabel] {
            const Matte* matte = hand_.held();
            invert->setChecked(matte && matte->invert);
            locked->setChecked(matte && matte->locked);
            const bool chosen = matte && !hand_.points().empty();
            pointFeather->setVisible(chosen);
            pointLabel->setVisible(chosen);
            const auto shape = chosen ? hand_.shapeOf(*hand_.matte()) : std::nullopt;
            if (!shape) return;
            const std::size_t first = *hand_.points().begin();
            setQuietly(pointFeather, first < shape->feather.size() ? shape->feather[first] : 0.0);
        });
    }
    void featherPoints(double value) {
        const auto shape = hand_.matte() ? hand_.shapeOf(*hand_.matte()) : std::nullopt;
        if (!shape || !hand_.mayEdit()) return;
        Matte::Key changed = *shape;
        changed.feather.resize(changed.polygon.size(), 0.0);
        for (const std::size_t point : hand_.points())
            if (point < changed.feather.size()) changed.feather[point] = value;
        hand_.setShape("Feather at points", changed);
    }

    void addKeys() {
        auto* result = words("matteKeys");
        auto* before = named(button("◂", "quiet"), "matteKeyBefore", "The keyframe before (Alt+,)");
        auto* here = named(button("Keyframe", "quiet"), "matteKeyHere",
                           "A keyframe here, or the one here away (Ctrl+Shift+F, Ctrl+Alt+F)");
        auto* after = named(button("▸", "quiet"), "matteKeyAfter", "The keyframe after (Alt+.)");
        auto* there = named(new QCheckBox("Counts here"), "matteThere",
                            "From this frame on, up to where that changes "
                            "next");
        auto* keys = buttonRow({before, here, after});
        wide(keys);
        wide(there);
        auto* between = heldChoice(
            named(choice({"straight", "smooth"}), "matteBetween",
                  "How it moves between its "
                  "keyframes"),
            "Motion between keyframes", [](Matte & m) -> auto& { return m.between; });
        auto* betweenLabel = row("Between", between);
        before->setAccessibleName("Keyframe before");
        after->setAccessibleName("Keyframe after");
        onClick(before, [this] { stage_.goToKey(-1); });
        onClick(after, [this] { stage_.goToKey(1); });
        onClick(here, [this] { toggleKey(); });
        connect(there, &QCheckBox::clicked, this, [this](bool on) {
            session_.edit(on ? "The shape counts from here on" : "The shape does not count from here on",
                          withMatteThere(session_.shot(), *hand_.matte(), session_.player.frame(), on));
        });
        onRefresh([this, result, keys, here, there, between, betweenLabel] {
            const Matte* matte = hand_.held();
            const bool drawn = matte && !matte->pictures;
            result->setVisible(matte != nullptr);
            keys->setVisible(drawn);
            there->setVisible(matte != nullptr);
            between->setVisible(drawn && matte->keys.size() > 1);
            betweenLabel->setVisible(drawn && matte->keys.size() > 1);
            if (!matte) return;
            result->setText(keyWords(*matte));
            here->setText(keyAt(*matte, session_.player.frame()) ? "Remove key" : "Key here");
            here->setEnabled(mayChange());
            there->setChecked(isThere(*matte, session_.player.frame()));
            there->setEnabled(mayChange());
        });
    }
    void toggleKey() {
        const Matte* matte = hand_.held();
        if (!matte || !hand_.mayEdit()) return;
        const int frame = session_.player.frame();
        if (!keyAt(*matte, frame)) {
            if (const auto shape = hand_.shapeOf(*hand_.matte())) hand_.setShape("Keyframe", *shape);
        } else if (matte->keys.size() == 1) {
            session_.say("It is the shape's only keyframe; it stays.");
        } else {
            session_.edit("Remove a keyframe", withMatteKeyRemoved(session_.shot(), *hand_.matte(), frame));
        }
    }
    static QString keyWords(const Matte& matte) {
        if (matte.pictures) return "pictures: " + text(matte.pictures->path());
        QStringList frames;
        for (std::size_t i = 0; i < matte.keys.size() && i < 6; ++i) frames << QString::number(matte.keys[i].frame);
        if (matte.keys.size() > 6) frames << "…";
        return QString("%1 point%2 · %3 keyframe%4: %5")
            .arg(matte.keys.front().polygon.size())
            .arg(matte.keys.front().polygon.size() == 1 ? "" : "s")
            .arg(matte.keys.size())
            .arg(matte.keys.size() == 1 ? "" : "s")
            .arg(frames.join(", "));
    }

    void addRide() {
        auto* on = named(choice({"nothing"}), "matteRide",
                         "What carries the shape: its keyframes then hold only what differs. Selected tracks: Ctrl+R");
        auto* onLabel = row("Rides on", on);
        auto* result = words("matteRideWords");
        connect(on, &QComboBox::activated, this, [this, on](int index) {
            const QString chosen = on->itemData(index).toString();
            // After the signal: the edit fills the list anew.
            if (chosen == "nothing") stage_.part();
            else if (const auto ride = rideOfChoice(session_, chosen))
                stage_.ride(*ride, text(wordsOf(session_.shot(), *ride)));
            refresh();
        });
        onRefresh([this, on, onLabel, result] {
            const Matte* matte = hand_.held();
            const bool drawn = matte && !matte->pictures;
            on->setVisible(drawn);
            onLabel->setVisible(drawn);
            result->setVisible(drawn && matte->ride);
            if (!drawn) return;
            on->clear();
            on->addItem("nothing", "nothing");
            if (matte->ride) on->addItem(shownRide(session_, *matte->ride), "as it is");
            addRideChoices(*on, session_);
            on->setCurrentIndex(matte->ride ? 1 : 0);
            on->setEnabled(mayChange());
            if (!matte->ride) return;
            const auto carrier = hand_.carrierOf(*matte->ride);
            result->setText(!carrier ? QString("working out its motion…")
                            : !carrier->problem().empty()
                                ? "It stays as it was drawn: " + text(carrier->problem()) + "."
                                : QString("from frame %1").arg(matte->ride->referenceFrame) +
                                      gapWords(*matte, *carrier));
        });
    }
    static QString gapWords(const Matte& matte, const Carrier& carrier) {
        const std::string note = gapNote(matte, carrier);
        return note.empty() ? QString() : "\n" + text(note);
    }

    void addView() {
        auto* still = named(button("Hold the picture still", "quiet"), "matteStill",
                            "On what the held shape rides on, else on the selected tracks, else as a whole (S)");
        still->setCheckable(true);
        onClick(still, [this] { stage_.toggleStill(); });
        wide(buttonRow({still}));
        auto* view = named(choice({"on the plate", "alone", "cut by it"}), "matteView");
        row("See", view);
        connect(view, &QComboBox::activated, this, [this](int index) { stage_.look(kViews.value(index)); });
        onRefresh([this, still, view] {
            still->setChecked(stage_.isStill());
            still->setText(stage_.isStill() ? "Let the picture move" : "Hold the picture still");
            still->setEnabled(session_.hasPlate());
            view->setCurrentIndex(std::max(0, int(kViews.indexOf(stage_.looked()))));
            view->setEnabled(session_.hasPlate());
        });
    }

    void addTracks() {
        auto* result = words("matteCovered");
        auto* aside = named(button("Set them aside there", "quiet"), "matteSetAside",
                            "Out of the solve on the frames on which a matte covers them");
        auto* asideRow = buttonRow({aside});
        wide(asideRow);
        onClick(aside, [this] { stage_.setCoveredAside(); });
        onRefresh([this, result, asideRow, aside] {
            const MattesStage::Covered covered = stage_.covered();
            result->setVisible(covered.tracks > 0);
            asideRow->setVisible(covered.tracks > 0);
            result->setText(QString("%1 track%2 lie%3 in the mattes, on %4 frames of theirs.")
                                .arg(covered.tracks)
                                .arg(covered.tracks == 1 ? "" : "s", covered.tracks == 1 ? "s" : "")
                                .arg(covered.frames));
            aside->setEnabled(session_.isReady());
        });
    }

    void addProposals() {
        auto* look = named(button("Look for what moves", "quiet"), "matteLook",
                           "Areas that move against the solved scene, as mattes to accept or not (Ctrl+M)");
        wide(buttonRow({look}));
        onClick(look, [this] { stage_.proposals.start(); });
        auto* found = words("matteProposal");
        auto* accept =
            named(button("Accept", "quiet"), "matteAccept", "A matte, and the tracks under it set aside there");
        auto* see = named(button("See it", "quiet"), "matteSee", "On the frame where it is largest");
        auto* dismiss = named(button("Dismiss", "quiet"), "matteDismiss");
        auto* answers = buttonRow({accept, see, dismiss});
        wide(answers);
        auto* change = words("matteSolves");
        onClick(accept, [this] { stage_.proposals.accept(0); });
        onClick(dismiss, [this] { stage_.proposals.dismiss(0); });
        onClick(see, [this] {
            if (const auto& list = stage_.proposals.list(); !list.empty())
                session_.player.goTo(list.front().matte.ride->referenceFrame);
        });
        onRefresh([this, look, found, answers, accept, change] {
            const Proposals& proposals = stage_.proposals;
            const auto& list = proposals.list();
            look->setEnabled(session_.isReady() && !session_.shot().tracks.isEmpty());
            answers->setVisible(!list.empty());
            accept->setEnabled(session_.isReady());
            QString line;
            if (!list.empty())
                line = QString("%1, frames %2–%3: %4.%5")
                           .arg(text(list.front().matte.name))
                           .arg(list.front().frames.first)
                           .arg(list.front().frames.last)
                           .arg(text(list.front().reason))
                           .arg(list.size() > 1 ? QString(" %1 more after it.").arg(list.size() - 1) : QString());
            else if (proposals.isLooking()) line = "looking for what moves…";
            else if (proposals.haveLooked() && session_.shot().mattes.isEmpty()) line = "Nothing more moves by itself.";
            found->setText(line);
            found->setVisible(!line.isEmpty());
            change->setText(proposals.beforeAndAfter());
            change->setVisible(!change->text().isEmpty());
        });
    }

    void addFiles() {
        auto* bring = named(button("Bring in…", "quiet"), "matteBring",
                            "Shapes from a file, or a matte made elsewhere as "
                            "pictures");
        auto* handOn = named(choice({"Hand on as…", "EXR pictures", "PNG pictures", "TIFF pictures", "shapes (JSON)",
                                     "shapes (SVG)", "plate with alpha…"}),
                             "matteHandOn", "Listed in the Delivery card");
        wide(buttonRow({bring}));
        wide(handOn);
        onClick(bring, [this] {
            const QString path = askToOpen(FileKind::mattes, "Shapes or a picture of a matte", this);
            if (!path.isEmpty()) stage_.bringIn(path);
        });
        connect(handOn, &QComboBox::activated, this, [this, handOn](int index) {
            handOn->setCurrentIndex(0);
            if (index == handOn->count() - 1) renderAlpha();
            else if (index > 0) stage_.handOn(index - 1);
        });
        onRefresh([this, bring, handOn] {
            bring->setEnabled(session_.isReady());
            handOn->setVisible(!session_.shot().mattes.isEmpty());
            handOn->setEnabled(session_.isReady());
        });
    }

    void renderAlpha() {
        const std::filesystem::path beside = deliveryFolderOf(session_.shot(), session_.document.file()) /
                                             (fileNameOf(session_.shot().name) + ".alpha.####.exr");
        const QString path =
            askToSave(FileKind::mattes, "Plate with alpha: name.####.exr, .png or .tif", text(beside.string()), this);
        if (path.isEmpty()) return;
        if (const auto made = makeFolder(std::filesystem::path(path.toStdString()).parent_path()); !made)
            session_.sayError(text(made.error().message));
        else stage_.renderAlpha(path.toStdString());
    }

    MattesStage& stage_;
    MatteHand& hand_;
};

}  // namespace

QWidget* makeMattesCard(Session& session, MattesStage& stage) { return new MattesCard(session, stage); }

}  // namespace pinion
