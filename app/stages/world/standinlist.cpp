#include "stages/world/standinlist.h"

#include "shot/edits/sceneedits.h"
#include "shot/layers/layers.h"
#include "stages/matteticks.h"
#include "stages/shotform.h"
#include "stages/world/scenerenderform.h"
#include "stages/world/worldstage.h"
#include "widgets/filedialogs.h"
#include "widgets/orderedlist.h"
#include "widgets/theme.h"

#include <QCheckBox>
#include <QColorDialog>
#include <QComboBox>
#include <QLineEdit>
#include <QPainter>
#include <QTimer>

#include <algorithm>
#include <array>
#include <cmath>
#include <numbers>

namespace pinion {
namespace {

using Eigen::Vector3d;

constexpr double kDegrees = 180 / std::numbers::pi;

/// The stand-ins, the latest at the end: a tick shows one, a double click renames it.
class NameList : public OrderedList {
public:
    NameList(Session& session, StandInHand& hand)
        : OrderedList("standIns", "Stand-ins", "Tick: shown. Double click: another name"),
          session_(session),
          hand_(hand) {
        setDragDropMode(NoDragDrop);
        setSelectionMode(ExtendedSelection);
        connect(this, &QListWidget::itemChanged, this, &NameList::take);
        connect(this, &QListWidget::currentRowChanged, this, [this](int row) {
            const auto& all = session_.shot().scene.standIns;
            if (!filling_ && row >= 0 && std::size_t(row) < all.size()) hand_.hold(all[std::size_t(row)].id);
        });
    }
    void refresh() {
        filling_ = true;
        const auto& all = session_.shot().scene.standIns;
        setRows(int(all.size()));
        for (int row = 0; row < count(); ++row) {
            const StandIn& one = all[std::size_t(row)];
            item(row)->setText(text(one.name));
            item(row)->setCheckState(one.hidden ? Qt::Unchecked : Qt::Checked);
            item(row)->setIcon(bracketOf(row));
            if (hand_.standIn() == one.id && currentRow() != row)
                setCurrentRow(row, QItemSelectionModel::ClearAndSelect);
        }
        filling_ = false;
    }

    std::vector<StandInId> chosen() const {
        std::vector<StandInId> ids;
        const auto& all = session_.shot().scene.standIns;
        for (int row = 0; row < count(); ++row)
            if (item(row)->isSelected() && std::size_t(row) < all.size()) ids.push_back(all[std::size_t(row)].id);
        return ids;
    }

protected:
    void moved(int, int) override {}

private:
    /// A bracket about what is grouped; nothing where no group is.
    QIcon bracketOf(int row) const {
        const auto& all = session_.shot().scene.standIns;
        if (std::none_of(all.begin(), all.end(), [](const StandIn& one) { return one.group != 0; })) return {};
        QPixmap drawn(10, 20);
        drawn.fill(Qt::transparent);
        const auto isIn = [&](int other, std::int64_t group) {
            return other >= 0 && other < int(all.size()) && all[std::size_t(other)].group == group;
        };
        if (const std::int64_t group = all[std::size_t(row)].group; group != 0) {
            bool before = false, after = false;
            for (int other = 0; other < int(all.size()); ++other)
                if (isIn(other, group)) (other < row ? before : after) |= other != row;
            QPainter painter(&drawn);
            painter.setPen(QPen(theme::kSlate, 1.5));
            painter.drawLine(4, before ? 0 : 9, 4, after ? 20 : 9);
            painter.drawLine(4, 9, 8, 9);
        }
        return QIcon(drawn);
    }

    void take(QListWidgetItem* changed) {
        const auto& all = session_.shot().scene.standIns;
        const auto at = std::size_t(row(changed));
        if (filling_ || at >= all.size()) return;
        const bool hidden = changed->checkState() == Qt::Unchecked;
        // After the signal: the edit fills this list anew.
        QTimer::singleShot(0, this, [this, id = all[at].id, hidden, name = changed->text().trimmed()] {
            const StandIn* one = findStandIn(session_.shot(), id);
            if (!one) return;
            if (one->hidden != hidden)
                session_.edit((hidden ? "Hide " : "Show ") + text(one->name),
                              withStandInEdited(session_.shot(), id, [&](StandIn& s) { s.hidden = hidden; }));
            else if (!name.isEmpty() && name != text(one->name))
                session_.edit("Rename " + text(one->name), withStandInRenamed(session_.shot(), id, name.toStdString()));
            else refresh();
        });
    }

    Session& session_;
    StandInHand& hand_;
    bool filling_ = false;
};

class StandInList : public ShotForm {
public:
    StandInList(Session& session, WorldStage& stage) : ShotForm(session), stage_(stage), hand_(stage.hand) {
        addMaking();
        addNames();
        addPlace();
        addCarrier();
        addFrames();
        addWords();
        addPictures();
        addLook();
        addFront();
        addThrowing();
        addSun();
        wide(makeSceneRenderForm(session, stage));
        connect(&hand_, &StandInHand::changed, this, [this] { refresh(); });
        connect(&hand_, &StandInHand::moved, this, [this] { refresh(); });
        connect(&session.player, &Player::frameChanged, this, [this] {
            if (isVisible()) refresh();
        });
        refresh();
    }

private:
    void showWhileHeld(std::initializer_list<QWidget*> parts) {
        onRefresh([this, parts = std::vector<QWidget*>(parts)] {
            for (QWidget* part : parts) part->setVisible(hand_.held() != nullptr);
        });
    }

    void addMaking() {
        auto* title = dimLabel("Stand-ins");
        wide(title);
        std::vector<QPushButton*> buttons;
        for (std::size_t k = 0; k < std::size_t(StandInKind::mesh); ++k) {
            const QString word = kStandInKinds[k];
            auto* make =
                named(new QPushButton(word.left(1).toUpper() + word.mid(1)), ("standInMake-" + word).toUtf8(),
                      QString("Put a %1 into the scene: on the chosen points, or where you click next").arg(word));
            onClick(make, [this, k] { stage_.addStandIn(StandInKind(k)); });
            buttons.push_back(make);
        }
        wide(buttonRow({buttons[0], buttons[1], buttons[2]}));
        wide(buttonRow({buttons[3], buttons[4], buttons[5]}));
        auto* locator = named(new QPushButton("Locator"), "standInMake-locator",
                              "A named place that is handed on: at a solved point, or where you click next");
        auto* mesh = named(new QPushButton("Mesh…"), "standInMake-mesh", "A mesh from a file: OBJ, PLY, glTF");
        auto* card = named(new QPushButton("Card…"), "standInMake-card",
                           "A still or a clip that stands in the scene; its flat backing is keyed out");
        wide(buttonRow({buttons.back(), mesh, card}));
        wide(buttonRow({locator}));
        onClick(locator, [this] { stage_.addStandIn(StandInKind::locator); });
        buttons.push_back(locator);
        onClick(card, [this] { stage_.askForCard(); });
        buttons.push_back(card);
        onClick(mesh, [this] {
            const QString path = askToOpen(FileKind::mesh, "A mesh: OBJ, PLY, glTF", this);
            if (!path.isEmpty()) stage_.addMesh(path.toStdString());
        });
        buttons.push_back(mesh);
        onRefresh([this, buttons] {
            const bool may = session_.shot().solve && session_.isReady();
            for (QPushButton* one : buttons) one->setEnabled(may);
        });
    }

    /// Pictures of one frame, seen on all: they are layers, and the rest of them is in the Inserts card.
    void addThrowing() {
        auto* title = dimLabel("Throw a picture");
        wide(title);
        auto* ground = named(new QPushButton("On ground…"), "throwOnGround",
                             "A picture painted on this frame (as large as the plate, clear where nothing is): it lies "
                             "on the ground on every frame. Several, named by their frames (patch.1010.png), "
                             "are blended by angle");
        auto* held = named(new QPushButton("On this…"), "throwOnHeld",
                           "The same on to the stand-in that is held, whose motion it follows");
        wide(buttonRow({ground, held}));
        onClick(ground, [this] { stage_.askToThrow(true); });
        onClick(held, [this] { stage_.askToThrow(false); });
        onRefresh([this, ground, held] {
            const bool may = session_.isReady() && session_.shot().solve;
            ground->setEnabled(may);
            held->setEnabled(may && hand_.held() && hand_.held()->kind != StandInKind::locator);
        });
    }

    void addNames() {
        auto* list = new NameList(session_, hand_);
        wide(list);
        auto* copy = named(new QPushButton("Copy"), "standInCopy", "Another one like it, beside it");
        auto* remove = named(new QPushButton("Remove"), "standInRemove");
        auto* down = named(new QPushButton("To the ground"), "standInDown", "Its lowest point on the ground");
        auto* buttons = buttonRow({copy, remove});
        auto* grounding = buttonRow({down});
        auto* group = named(new QPushButton("Group"), "standInGroup",
                            "Those chosen in the list (Ctrl adds) are moved, turned and sized together");
        auto* ungroup = named(new QPushButton("Ungroup"), "standInUngroup");
        auto* grouping = buttonRow({group, ungroup});
        auto* find = named(new QPushButton("Its file…"), "standInFind", "Its file at another place, or another one");
        auto* finding = buttonRow({find});
        wide(buttons);
        wide(grouping);
        wide(grounding);
        const auto showGrouping = [this, list, group, ungroup] {
            group->setEnabled(session_.isReady() && list->chosen().size() > 1);
            ungroup->setEnabled(session_.isReady() && hand_.held() && hand_.held()->group != 0);
        };
        connect(list, &QListWidget::itemSelectionChanged, this, showGrouping);
        onRefresh([this, grouping, showGrouping] {
            grouping->setVisible(session_.shot().scene.standIns.size() > 1);
            showGrouping();
        });
        onClick(group, [this, list] {
            if (hand_.mayEdit() && list->chosen().size() > 1)
                session_.edit("Group", withStandInsGrouped(session_.shot(), list->chosen()));
        });
        onClick(ungroup, [this] {
            if (hand_.mayEdit()) session_.edit("Ungroup", withStandInsUngrouped(session_.shot(), *hand_.standIn()));
        });
        wide(finding);
        onRefresh([this, finding, find] {
            const StandIn* held = hand_.held();
            finding->setVisible(held && (held->hasFile() || held->kind == StandInKind::board));
            if (held)
                find->setText(held->kind == StandInKind::mesh ? "Find the mesh…"
                              : held->hasFile()               ? "Another picture…"
                                                              : "Picture…");
        });
        onClick(find, [this] {
            const StandIn* held = hand_.held();
            if (!held) return;
            const QString path =
                held->kind == StandInKind::mesh
                    ? askToOpen(FileKind::mesh, "A mesh: OBJ, PLY, glTF", this)
                    : askToOpen(FileKind::art, "A still, or a clip or sequence by one of its files", this);
            if (!path.isEmpty()) stage_.replaceFile(path.toStdString());
        });
        auto* proof = named(new QPushButton("Does it slide?"), "standInProof",
                            "The plate's surface at its foot is found again over the shot, held against where the foot "
                            "goes");
        auto* proofRow = buttonRow({proof});
        auto* proofWords = named(dimLabel(""), "standInProofWords");
        wide(proofRow);
        wide(proofWords);
        onClick(proof, [this] { stage_.proveFoot(); });
        connect(&stage_, &WorldStage::proved, this, [this] { refresh(); });
        onRefresh([this, proof, proofWords] {
            proof->setEnabled(session_.isReady());
            const QString words = stage_.footWords();
            proofWords->setText(words);
            proofWords->setVisible(hand_.held() && !words.isEmpty());
        });
        showWhileHeld({list, buttons, grounding, proofRow});
        onRefresh([list] { list->refresh(); });
        onClick(copy, [this] { stage_.copyStandIn(); });
        onClick(remove, [this] {
            if (hand_.mayEdit())
                session_.edit("Remove " + text(hand_.held()->name),
                              withStandInRemoved(session_.shot(), *hand_.standIn()));
        });
        onClick(down, [this] {
            if (!hand_.mayEdit()) return;
            const Shot& shot = session_.shot();
            setStance("Stand on the ground", standingAt(*hand_.stanceNow(), hand_.held()->kind, shot.scene.ground));
        });
    }

    void setStance(const QString& what, const Stance& stance) {
        if (hand_.held())
            session_.edit(what + " " + text(hand_.held()->name),
                          withWorldStance(session_.shot(), *hand_.standIn(), session_.player.frame(), stance));
    }

    /// Three numbers of the held one's stance.
    QWidget* three(const char* name, const std::array<const char*, 3>& labels, const QString& what,
                   Vector3d Stance::*part, double low, double high, int digits, double step) {
        std::array<QDoubleSpinBox*, 3> boxes{};
        for (int i = 0; i < 3; ++i) {
            boxes[std::size_t(i)] = named(decimal(low, high, digits, step), name);
            boxes[std::size_t(i)]->setObjectName(QString("%1-%2").arg(name).arg(i));
            boxes[std::size_t(i)]->setButtonSymbols(QAbstractSpinBox::NoButtons);
            connect(boxes[std::size_t(i)], &QDoubleSpinBox::valueChanged, this, [this, what, part, i](double value) {
                const auto now = hand_.stanceNow();
                if (!now || !hand_.mayEdit()) return;
                Stance stance = *now;
                (stance.*part)[i] = value;
                setStance(what, stance);
            });
        }
        onRefresh([this, boxes, part] {
            if (const auto now = hand_.stanceNow())
                for (int i = 0; i < 3; ++i) setQuietly(boxes[std::size_t(i)], ((*now).*part)[i]);
        });
        return columns({{labels[0], boxes[0]}, {labels[1], boxes[1]}, {labels[2], boxes[2]}});
    }

    void addPlace() {
        auto* place = three("standInPlace", {"X", "Y", "Z"}, "Place", &Stance::place, -1e6, 1e6, 3, 0.1);
        auto* turn = three("standInTurn", {"Turn X", "Turn Y", "Turn Z"}, "Turn", &Stance::turn_deg, -1e4, 1e4, 1, 5);
        auto* size = three("standInSize", {"Width", "Height", "Depth"}, "Size", &Stance::size, 0.001, 1e5, 3, 0.1);
        wide(place);
        wide(turn);
        wide(size);
        auto* key =
            named(new QPushButton("Key"), "standInKey", "Where it stands on this frame is held: it moves between keys");
        auto* clear = named(new QPushButton("Clear key"), "standInKeyClear", "The key of this frame goes");
        auto* words = named(dimLabel(""), "standInKeys");
        auto* keys = buttonRow({key, clear});
        wide(keys);
        wide(words);
        onClick(key, [this] {
            if (hand_.mayEdit())
                session_.edit("Key of " + text(hand_.held()->name),
                              withStanceKey(session_.shot(), *hand_.standIn(), session_.player.frame()));
        });
        onClick(clear, [this] {
            if (hand_.mayEdit())
                session_.edit("Clear a key of " + text(hand_.held()->name),
                              withStanceKeyRemoved(session_.shot(), *hand_.standIn(), session_.player.frame()));
        });
        showWhileHeld({place, turn, size, keys});
        onRefresh([this, clear, words] {
            const StandIn* held = hand_.held();
            const int frame = session_.player.frame();
            const bool isKey = held && std::any_of(held->keys.begin(), held->keys.end(),
                                                   [&](const StanceKey& one) { return one.frame == frame; });
            clear->setEnabled(isKey);
            words->setVisible(held && !held->keys.isEmpty());
            if (!held || held->keys.isEmpty()) return;
            QStringList frames;
            for (const StanceKey& one : held->keys) frames << QString::number(one.frame);
            if (frames.size() > 8) frames = QStringList{frames.first(), "…", frames.last()};
            words->setText("Keys on " + frames.join(", "));
        });
    }

    /// What carries it: the world, or an object of the solve.
    void addCarrier() {
        auto* carrier = named(new QComboBox, "standInCarrier", "It goes with the world, or with a solved object");
        auto* label = row("Carried by", carrier);
        connect(carrier, &QComboBox::activated, this, [this, carrier](int index) {
            if (!hand_.mayEdit()) return;
            const StandIn& held = *hand_.held();
            session_.edit("What carries " + text(held.name),
                          withStandInCarried(session_.shot(), held.id, ObjectId(carrier->itemData(index).toLongLong()),
                                             session_.player.frame()));
        });
        onRefresh([this, carrier, label] {
            const StandIn* held = hand_.held();
            const auto& objects = session_.shot().objects;
            const bool shows = held && (!objects.isEmpty() || held->carrier != 0);
            carrier->setVisible(shows);
            label->setVisible(shows);
            if (!shows) return;
            std::vector<std::pair<QString, qlonglong>> choices{{"the world", 0}};
            for (const ShotObject& one : objects) choices.emplace_back(text(one.name), one.id);
            if (held->carrier != 0 && !findObject(session_.shot(), held->carrier))
                choices.emplace_back("what is gone", held->carrier);
            bool same = carrier->count() == int(choices.size());
            for (int i = 0; same && i < carrier->count(); ++i)
                same = carrier->itemText(i) == choices[std::size_t(i)].first &&
                       carrier->itemData(i).toLongLong() == choices[std::size_t(i)].second;
            // Somebody may have the list open.
            if (!same) {
                carrier->clear();
                for (const auto& [name, id] : choices) carrier->addItem(name, id);
            }
            carrier->setCurrentIndex(carrier->findData(qlonglong(held->carrier)));
        });
    }

    /// The frames on which it is there.
    void addFrames() {
        auto* some =
            named(new QCheckBox("On some frames only"), "standInSomeFrames", "It is there from one frame to another");
        wide(some);
        auto* first = named(new QSpinBox, "standInFirst");
        auto* last = named(new QSpinBox, "standInLast");
        for (QSpinBox* box : {first, last}) box->setRange(-1000000, 10000000);
        auto* both = columns({{"First", first}, {"Last", last}});
        wide(both);
        connect(some, &QCheckBox::clicked, this, [this](bool on) {
            if (!hand_.mayEdit()) return;
            const FrameRange range = session_.shot().plate.range;
            hand_.edit("Frames of", [&](StandIn& one) { one.frames = on ? std::optional(range) : std::nullopt; });
        });
        const auto changed = [this, first, last](bool isFirst) {
            const StandIn* held = hand_.held();
            if (!held || !held->frames || !hand_.mayEdit()) return;
            FrameRange range{first->value(), last->value()};
            // What is typed counts, the other end goes along.
            if (range.last < range.first) (isFirst ? range.last : range.first) = isFirst ? range.first : range.last;
            hand_.edit("Frames of", [&](StandIn& one) { one.frames = range; });
        };
        connect(first, &QSpinBox::valueChanged, this, [changed] { changed(true); });
        connect(last, &QSpinBox::valueChanged, this, [changed] { changed(false); });
        onRefresh([this, some, first, last, both] {
            const StandIn* held = hand_.held();
            some->setVisible(held);
            both->setVisible(held && held->frames);
            if (!held) return;
            some->setChecked(held->frames.has_value());
            if (!held->frames) return;
            setQuietly(first, held->frames->first);
            setQuietly(last, held->frames->last);
        });
    }

    void addWords() {
        auto* words = named(new QLineEdit, "standInWords", "What is read on it");
        auto* label = row("Words", words);
        connect(words, &QLineEdit::editingFinished, this, [this, words] {
            const StandIn* held = hand_.held();
            const std::string typed = words->text().trimmed().toStdString();
            if (!held || held->kind != StandInKind::text || typed == held->words) return;
            if (typed.empty()) words->setText(text(held->words));
            else if (hand_.mayEdit()) hand_.edit("Words of", [&](StandIn& one) { one.words = typed; });
        });
        onRefresh([this, words, label] {
            const bool isText = hand_.held() && hand_.held()->kind == StandInKind::text;
            words->setVisible(isText);
            label->setVisible(isText);
            if (isText && !words->hasFocus()) words->setText(text(hand_.held()->words));
        });
    }

    /// Of what shows a still or a clip.
    void addPictures() {
        auto* faces = named(new QCheckBox("Faces the camera"), "standInFaces",
                            "Turned about its upright, frame by frame, towards the camera");
        auto* keyed = named(new QCheckBox("Backing keyed out"), "standInKeyed", "What is of its colour becomes clear");
        auto* backing = named(new QPushButton("Backing…"), "standInBacking", "The colour that is keyed out");
        auto* start = named(spin(-999999, 999999), "standInStart", "The frame that shows the clip's first");
        auto* after = named(new QComboBox, "standInAfter", "What is shown when the clip has ended");
        after->addItems({"holds its last", "begins again", "is gone"});
        wide(faces);
        wide(keyed);
        auto* backingRow = buttonRow({backing});
        wide(backingRow);
        auto* startLabel = row("Starts on", start);
        auto* afterLabel = row("At its end", after);
        auto* gather = named(new QPushButton("Gather…"), "standInGather",
                             "What the frames show of its surface as one picture, without what passes before it; to "
                             "paint on, and shown on it");
        auto* gatherRow = buttonRow({gather});
        wide(gatherRow);
        onClick(gather, [this] {
            const StandIn* held = hand_.held();
            if (!held) return;
            const QString path =
                askToSave(FileKind::art, "The gathered picture: .png, .tif or .exr", text(held->name) + ".png", this);
            if (!path.isEmpty()) stage_.gatherPicture(path.toStdString());
        });
        const auto change = [this](const QString& what, const std::function<void(CardLook&)>& edit) {
            if (hand_.mayEdit()) hand_.edit(what, [&](StandIn& one) { edit(one.card); });
        };
        connect(faces, &QCheckBox::clicked, this,
                [change](bool on) { change("Facing of", [on](CardLook& card) { card.facesCamera = on; }); });
        connect(keyed, &QCheckBox::clicked, this, [change](bool on) {
            change("Key of", [on](CardLook& card) { card.key = on ? std::optional(ColourKey{}) : std::nullopt; });
        });
        onClick(backing, [this, change] {
            const StandIn* held = hand_.held();
            if (!held || !held->card.key) return;
            const auto& now = held->card.key->colour;
            const QColor picked =
                QColorDialog::getColor(QColor::fromRgbF(now[0], now[1], now[2]), this, "Colour of the backing");
            if (picked.isValid())
                change("Key of", [&](CardLook& card) {
                    if (card.key) card.key->colour = {picked.redF(), picked.greenF(), picked.blueF()};
                });
        });
        connect(start, &QSpinBox::valueChanged, this,
                [change](int frame) { change("Start of", [frame](CardLook& card) { card.time.start = frame; }); });
        connect(after, &QComboBox::activated, this, [change](int index) {
            change("End of", [index](CardLook& card) { card.time.after = ClipTime::After(index); });
        });
        onRefresh([=, this] {
            const StandIn* held = hand_.held();
            const bool shows = held && held->showsPictures();
            for (QWidget* part : std::initializer_list<QWidget*>{keyed, start, startLabel, after, afterLabel})
                part->setVisible(shows);
            faces->setVisible(held && isUprightSheet(held->kind));
            gatherRow->setVisible(held && (held->kind == StandInKind::board || held->kind == StandInKind::card ||
                                           held->kind == StandInKind::grid));
            gather->setEnabled(session_.isReady());
            backingRow->setVisible(shows && held->card.key);
            if (!held) return;
            faces->setChecked(held->card.facesCamera);
            keyed->setChecked(held->card.key.has_value());
            setQuietly(start, held->card.time.start);
            after->setCurrentIndex(int(held->card.time.after));
        });
    }

    QCheckBox* tick(const char* label, const char* name, const QString& tip, const QString& what, bool StandIn::*part) {
        auto* box = named(new QCheckBox(label), name, tip);
        connect(box, &QCheckBox::clicked, this, [this, what, part](bool on) {
            if (hand_.mayEdit()) hand_.edit(what, [&](StandIn& one) { one.*part = on; });
        });
        onRefresh([this, box, part] { box->setChecked(hand_.held() && hand_.held()->*part); });
        wide(box);
        return box;
    }

    void addLook() {
        auto* casts = tick("Casts a shadow", "standInCasts", {}, "Shadow", &StandIn::casts);
        auto* catches = tick("Catches shadows only", "standInCatches",
                             "It is not drawn; the shadows on it darken the plate", "Catching", &StandIn::catchesOnly);
        auto* hides = tick("Hides what is behind it", "standInHides",
                           "It is not drawn, and what stands behind it is taken out: for things of the plate", "Hiding",
                           &StandIn::hides);
        auto* opacity = named(spin(0, 100, " %"), "standInOpacity");
        auto* opacityLabel = row("Opacity", opacity);
        connect(opacity, &QSpinBox::valueChanged, this, [this](int value) {
            if (hand_.mayEdit()) hand_.edit("Opacity", [&](StandIn& one) { one.opacity = value / 100.0; });
        });
        onRefresh([this, opacity] {
            if (hand_.held()) setQuietly(opacity, int(std::lround(100 * hand_.held()->opacity)));
        });
        auto* colour = named(new QPushButton("Colour…"), "standInColour");
        auto* colourRow = buttonRow({colour});
        wide(colourRow);
        onClick(colour, [this] {
            if (!hand_.mayEdit()) return;
            const auto& now = hand_.held()->colour;
            const QColor picked = QColorDialog::getColor(QColor::fromRgbF(float(now[0]), float(now[1]), float(now[2])),
                                                         this, "Colour of the stand-in");
            if (picked.isValid())
                hand_.edit("Colour", [&](StandIn& s) { s.colour = {picked.redF(), picked.greenF(), picked.blueF()}; });
        });
        showWhileHeld({casts, catches, hides, opacityLabel, opacity, colourRow});
        onRefresh([this, casts, catches, hides, opacityLabel, opacity] {
            // A locator is not seen.
            if (hand_.held() && hand_.held()->kind == StandInKind::locator)
                for (QWidget* part : std::initializer_list<QWidget*>{casts, catches, hides, opacityLabel, opacity})
                    part->hide();
        });
        onRefresh([this, colourRow] {
            colourRow->setVisible(hand_.held() && hand_.held()->kind != StandInKind::board &&
                                  hand_.held()->kind != StandInKind::locator && !hand_.held()->showsPictures());
        });
    }

    /// Mattes of what passes before the stand-ins, of the layer that shows them.
    void addFront() {
        auto* label = named(dimLabel("In front of them"), "standInFrontLabel");
        auto* list = new MatteTicks("standInFront", "In front of them", [this](const List<MatteId>& ticked) {
            session_.edit("In front of the stand-ins", withSceneHeldOut(session_.shot(), ticked));
        });
        wide(label);
        wide(list);
        onRefresh([this, label, list] {
            const Shot& shot = session_.shot();
            const auto layer = std::find_if(shot.inserts.begin(), shot.inserts.end(),
                                            [](const Insert& insert) { return insert.kind == kSceneLayer; });
            const bool any = layer != shot.inserts.end() && !shot.mattes.isEmpty();
            label->setVisible(any);
            list->setVisible(any);
            if (any) list->showTicks(shot.mattes, layer->heldOut);
        });
    }

    static double headingOf(const Vector3d& towards) { return std::atan2(towards.x(), towards.z()) * kDegrees; }
    static double heightOf(const Vector3d& towards) {
        return std::atan2(towards.y(), std::hypot(towards.x(), towards.z())) * kDegrees;
    }
    static Vector3d sunAt(double heading_deg, double height_deg) {
        const double heading = heading_deg / kDegrees, height = height_deg / kDegrees;
        return {std::cos(height) * std::sin(heading), std::sin(height), std::cos(height) * std::cos(heading)};
    }

    void addSun() {
        auto* title = dimLabel("Sun");
        wide(title);
        auto* heading = named(decimal(-180, 180, 1, 5, "°"), "sunHeading",
                              "About up: 0 behind the camera's start, 90 at its right");
        auto* height = named(decimal(-90, 90, 1, 5, "°"), "sunHeight", "Above the horizon");
        auto* softness =
            named(decimal(0, 90, 1, 0.5, "°"), "sunSoftness", "Across its disc: how soft a shadow's edge is");
        auto* strength =
            named(spin(0, 100, " %"), "sunStrength", "How much of the light is the sun's, and is lost in its shadow");
        auto* headingLabel = row("Heading", heading);
        auto* heightLabel = row("Height", height);
        auto* sky = named(spin(0, 100, " %"), "skyShadow",
                          "How much of the sky's light is lost under and beside things, the ground among them");
        auto* softnessLabel = row("Softness", softness);
        auto* strengthLabel = row("Strength", strength);
        auto* skyLabel = row("Sky shadow", sky);
        auto* byShadow = named(new QPushButton("By a shadow"), "sunByShadow",
                               "Click the foot of something upright in the plate, its top, and the tip of its shadow");
        auto* shadowRow = buttonRow({byShadow});
        wide(shadowRow);
        onClick(byShadow, [this] { stage_.takeSunTool(); });
        const auto turned = [this, heading, height] {
            Sun sun = session_.shot().scene.sun;
            sun.towards = sunAt(heading->value(), height->value());
            session_.edit("Turn the sun", withSun(session_.shot(), sun));
        };
        connect(heading, &QDoubleSpinBox::valueChanged, this, turned);
        connect(height, &QDoubleSpinBox::valueChanged, this, turned);
        bind(
            softness, "Softness of the sun", [](auto& shot) -> auto& { return shot.scene.sun.softness_deg; });
        bind(
            strength, "Strength of the sun", [](auto& shot) -> auto& { return shot.scene.sun.strength; }, 100);
        bind(
            sky, "Shadow of the sky", [](auto& shot) -> auto& { return shot.scene.sun.skyShadow; }, 100);
        onRefresh([this, heading, height] {
            setQuietly(heading, headingOf(session_.shot().scene.sun.towards));
            setQuietly(height, heightOf(session_.shot().scene.sun.towards));
        });
        showWhileHeld({title, heading, height, softness, strength, headingLabel, heightLabel, softnessLabel,
                       strengthLabel, sky, skyLabel, shadowRow});
    }

    WorldStage& stage_;
    StandInHand& hand_;
};

}  // namespace

QWidget* makeStandInList(Session& session, WorldStage& stage) { return new StandInList(session, stage); }

}  // namespace pinion
