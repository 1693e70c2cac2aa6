#include "stages/inserts/insertscard.h"

#include "jobs/delivering.h"
#include "plate/framewriter.h"
#include "shot/edits/insertedits.h"
#include "shot/stages/insertsstage.h"
#include "stages/inserts/insertlist.h"
#include "stages/inserts/insertsstage.h"
#include "stages/matteticks.h"
#include "stages/rides.h"
#include "stages/shotform.h"
#include "widgets/filedialogs.h"
#include "widgets/theme.h"

#include <QColorDialog>
#include <QLineEdit>
#include <QListWidget>
#include <QTimer>

#include <algorithm>
#include <cmath>
#include <map>

namespace pinion {
namespace {

QString placeOf(const Shot& shot) {
    if (!shot.insertsPath.empty()) return text(shot.insertsPath);
    return text(shot.name) + (shot.insertsAlone ? ".inserts.####.exr" : ".inserts.mp4");
}

QString sizeWords(const Clip& clip) {
    QString words = QString("%1x%2").arg(clip.width).arg(clip.height);
    if (clip.still) words += ", a still";
    else words += QString(", %1 frames at %2").arg(clip.frames.count()).arg(text(toString(clip.fps)));
    return words + (clip.hasAlpha ? ", alpha" : "");
}

/// Otherwise it is a layer that another card makes: it has neither a clip nor a place of its own.
bool isArt(const Insert& insert) { return insert.kind == Insert{}.kind; }

class InsertsCard : public ShotForm {
public:
    InsertsCard(Session& session, InsertsStage& stage) : ShotForm(session), stage_(stage), hand_(stage.hand) {
        addList();
        addWhat();
        addPlacing();
        addLook();
        addEdges();
        addInFront();
        addKey();
        addTime();
        addClips();
        addRender();
        connect(&hand_, &InsertHand::changed, this, [this] { refresh(); });
        connect(&hand_, &InsertHand::sceneChanged, this, [this] { refresh(); });
        connect(&hand_.files, &ClipFiles::changed, this, [this] { refresh(); });
        // At the plate's rate while it plays: only what depends on the frame.
        connect(&session.player, &Player::frameChanged, this, [this] { showFrame_(); });
        refresh();
    }

private:
    const Insert* held() const { return hand_.held(); }
    bool mayChange() const { return held() && session_.isReady(); }
    const Clip* heldClip() const {
        return held() && held()->shows == Insert::Shows::clip ? findClip(session_.shot(), held()->clip) : nullptr;
    }
    QLabel* words(const char* name) {
        auto* label = named(dimLabel(""), name);
        wide(label);
        return label;
    }
    QLabel* heading(const QString& words) {
        auto* label = new QLabel(words);
        label->setProperty("title", true);
        wide(label);
        return label;
    }
    /// They are there while an insert is held for which that holds.
    void showWhile(std::initializer_list<QWidget*> parts, const std::function<bool(const Insert&)>& holds = {}) {
        onRefresh([this, parts = std::vector<QWidget*>(parts), holds] {
            const bool there = held() && (!holds || holds(*held()));
            for (QWidget* part : parts) part->setVisible(there);
        });
    }
    /// A number of the held insert; `factor` turns it into what is shown.
    template <class Box, class Access>
    Box* number(Box* box, const QString& what, Access access, double factor = 1) {
        connect(box, &Box::valueChanged, this, [this, what, access, factor](auto value) {
            hand_.edit(what, [&](Insert& insert) {
                auto& place = access(insert);
                place = std::decay_t<decltype(place)>(double(value) / factor);
            });
        });
        onRefresh([this, box, access, factor] {
            box->setEnabled(mayChange());
            if (!held()) return;
            Insert copy = *held();
            setQuietly(box, std::decay_t<decltype(box->value())>(double(access(copy)) * factor));
        });
        return box;
    }
    template <class Access>
    QComboBox* chosen(QComboBox* box, const QString& what, Access access) {
        connect(box, &QComboBox::activated, this, [this, what, access](int index) {
            hand_.edit(what, [&](Insert& insert) {
                auto& place = access(insert);
                place = std::decay_t<decltype(place)>(index);
            });
        });
        onRefresh([this, box, access] {
            box->setEnabled(mayChange());
            if (!held()) return;
            Insert copy = *held();
            box->setCurrentIndex(int(access(copy)));
        });
        return box;
    }
    static QDoubleSpinBox* percent(double low, double high, const char* name, const QString& tip = {}, int digits = 0) {
        return named(decimal(low, high, digits, digits > 0 ? 0.5 : 1, " %"), name, tip);
    }

    void addList() {
        auto* list = new InsertList(session_, hand_);
        wide(list);
        auto* start = words("insertStart");
        auto* art = named(button("Picture or clip…", "quiet"), "insertArt",
                          "Pinned to the selected tracks, else to the last plane's surface (Ctrl+Shift+I)");
        auto* patch = named(button("Patch…", "quiet"), "insertPatch",
                            "A picture of the frame that is shown, painted: what it has of the plate's shape");
        auto* test = named(button("Test picture", "quiet"), "insertTest", "Numbered chequers (Shift+M)");
        auto* tint = named(button("Tint", "quiet"), "insertTint", "One colour");
        wide(buttonRow({art, patch}));
        wide(buttonRow({test, tint}));
        onClick(art, [this] {
            const QString path = askToOpen(FileKind::art, "A picture, a clip, or one of its frames", this);
            if (!path.isEmpty()) stage_.addArt(path.toStdString());
        });
        onClick(patch, [this] {
            const QString path = askToOpen(FileKind::art, "A picture of this frame, painted", this);
            if (!path.isEmpty()) stage_.addPatch(path.toStdString());
        });
        onClick(test, [this] { stage_.addPlain(Insert::Shows::test); });
        onClick(tint, [this] { stage_.addPlain(Insert::Shows::colour); });
        onRefresh([this, list, start, art, patch, test, tint] {
            const bool none = session_.shot().inserts.isEmpty();
            list->setVisible(!none);
            if (!none) list->refresh();
            start->setVisible(none);
            start->setText(
                "No inserts yet. Track a plane and place its surface (Planes), or select one, two or four tracks; "
                "then add a picture or a clip: it rides on them without keyframes of its own.");
            for (QWidget* one : std::initializer_list<QWidget*>{art, patch, test, tint})
                one->setEnabled(session_.isReady());
        });
        auto* notes = words("insertNotes");
        onRefresh([this, notes] {
            QStringList lines;
            if (const Insert* insert = held()) {
                if (const Clip* clip = heldClip(); clip && hand_.files.isMissing(*clip))
                    lines << "its clip is missing: find it again below";
                for (const std::string& note : notesOf(session_.shot(), *insert)) lines << text(note);
            }
            notes->setText(lines.join("\n"));
            notes->setVisible(!lines.isEmpty());
        });
    }

    // ---- what it shows, and on what

    void addWhat() {
        auto* shows = named(new QComboBox, "insertShows");
        auto* showsLabel = row("Shows", shows);
        connect(shows, &QComboBox::activated, this, [this, shows](int index) {
            const QVariant picked = shows->itemData(index);
            hand_.edit("Contents", [&](Insert& insert) {
                if (picked.toString() == "test") insert.shows = Insert::Shows::test;
                else if (picked.toString() == "colour") insert.shows = Insert::Shows::colour;
                else {
                    insert.shows = Insert::Shows::clip;
                    insert.clip = picked.toLongLong();
                }
            });
        });
        auto* colour = named(button("Colour…", "quiet"), "insertColour");
        auto* colourRow = buttonRow({colour});
        wide(colourRow);
        onClick(colour, [this] {
            const auto& now = held()->colour;
            const QColor picked = QColorDialog::getColor(QColor::fromRgbF(float(now[0]), float(now[1]), float(now[2])),
                                                         this, "Colour of the tint");
            if (picked.isValid())
                hand_.edit("Colour", [&](Insert& i) { i.colour = {picked.redF(), picked.greenF(), picked.blueF()}; });
        });
        auto* alpha = named(choice({"not said", "straight", "premultiplied"}), "insertAlpha",
                            "Whether the clip's colours are multiplied by its alpha; PNG and EXR say so themselves");
        auto* alphaLabel = row("Alpha", alpha);
        connect(alpha, &QComboBox::activated, this, [this](int index) {
            if (const Clip* clip = heldClip())
                session_.edit("Alpha of " + text(clip->name), withClipEdited(session_.shot(), clip->id, [&](Clip& c) {
                                  c.alpha = index == 0   ? std::nullopt
                                            : index == 1 ? std::optional(AlphaKind::straight)
                                                         : std::optional(AlphaKind::premultiplied);
                              }));
        });
        auto* pictures = named(new QComboBox, "insertPictures",
                               "One picture by itself, or all that are numbered like it, played one after the other");
        pictures->addItems({"this one", ""});
        auto* picturesLabel = row("Pictures", pictures);
        connect(pictures, &QComboBox::activated, this, [this](int index) {
            const Clip* clip = heldClip();
            if (clip && (index == 0) != clip->still) stage_.takeSequence(clip->id, index == 1);
        });
        onRefresh([this, pictures, picturesLabel] {
            const Clip* clip = heldClip();
            const bool isSequence = clip && !clip->still && isSequencePattern(clip->path);
            const int count = isSequence            ? clip->frames.count()
                              : clip && clip->still ? hand_.files.numberedLike(*clip)
                                                    : 0;
            pictures->setVisible(count > 1);
            picturesLabel->setVisible(count > 1);
            pictures->setItemText(1, QString("all %1 numbered").arg(count));
            pictures->setCurrentIndex(isSequence ? 1 : 0);
            pictures->setEnabled(mayChange());
        });
        auto* on = named(new QComboBox, "insertOn", "What carries it: it is moved there without touching that");
        auto* onLabel = row("Pinned to", on);
        connect(on, &QComboBox::activated, this, [this, on](int index) {
            const QString to = on->itemData(index).toString();
            // After the signal: the edit fills the list anew.
            QTimer::singleShot(0, this, [this, to] {
                if (to.startsWith("copy ")) stage_.copyTo(rideOfChoice(session_, to.mid(5)));
                else if (to != "as it is") stage_.pin(rideOfChoice(session_, to));
                refresh();
            });
        });
        showWhile({shows, showsLabel, on, onLabel}, isArt);
        showWhile({colourRow}, [](const Insert& i) { return isArt(i) && i.shows == Insert::Shows::colour; });
        onRefresh([this, shows, alpha, alphaLabel, on] {
            const Clip* clip = heldClip();
            alpha->setVisible(clip && clip->hasAlpha);
            if (clip) {
                Clip unsaid = *clip;
                unsaid.alpha.reset();
                alpha->setItemText(0, alphaKindOf(unsaid) ? "by its format" : "not said");
            }
            alphaLabel->setVisible(clip && clip->hasAlpha);
            if (!held()) return;
            const Shot& shot = session_.shot();
            shows->clear();
            for (const Clip& one : shot.clips) {
                shows->addItem(text(one.name), qlonglong(one.id));
                if (clip && clip->id == one.id) shows->setCurrentIndex(shows->count() - 1);
            }
            shows->addItem("test picture", "test");
            if (held()->shows == Insert::Shows::test) shows->setCurrentIndex(shows->count() - 1);
            shows->addItem("a colour", "colour");
            if (held()->shows == Insert::Shows::colour) shows->setCurrentIndex(shows->count() - 1);
            if (clip) alpha->setCurrentIndex(!clip->alpha ? 0 : *clip->alpha == AlphaKind::straight ? 1 : 2);
            on->clear();
            on->addItem(held()->ride ? shownRide(session_, *held()->ride) : QString("the frame"), "as it is");
            for (const bool copies : {false, true}) {
                const QString start = copies ? "copy to " : "", key = copies ? "copy " : "";
                on->insertSeparator(on->count());
                addRideChoices(*on, session_, start, key);
                on->addItem(start + "the frame", key + "nothing");
            }
            on->setEnabled(mayChange());
            shows->setEnabled(mayChange());
        });
    }
    void addPlacing() {
        auto* title = heading("Place");
        auto* inside = named(button("Inside", "quiet"), "insertFit", "Whole, inside what carries it");
        auto* cover = named(button("Cover", "quiet"), "insertFill", "It covers what carries it");
        auto* corners = named(button("Corners", "quiet"), "insertStretch", "Bent to its very corners");
        auto* fits = buttonRow({inside, cover, corners});
        wide(fits);
        onClick(inside, [this] { stage_.fit(Fitting::inside); });
        onClick(cover, [this] { stage_.fit(Fitting::covering); });
        onClick(corners, [this] { stage_.fit(Fitting::corners); });
        const auto part = [this](const char* name, const QString& what, auto access) {
            return number(percent(-1000, 1000, name, "Of what carries it", 1), what, access, 100);
        };
        auto* x = part(
            "insertX", "Place", [](Insert & i) -> auto& { return i.placing.centre.x(); });
        auto* y = part(
            "insertY", "Place", [](Insert & i) -> auto& { return i.placing.centre.y(); });
        auto* middle = columns({{"Middle across", x}, {"down", y}});
        wide(middle);
        auto* width = part(
            "insertWidth", "Width", [](Insert & i) -> auto& { return i.placing.scale.x(); });
        auto* height = part(
            "insertHeight", "Height", [](Insert & i) -> auto& { return i.placing.scale.y(); });
        auto* size = columns({{"Width", width}, {"Height", height}});
        wide(size);
        auto* turn = number(
            named(decimal(-360, 360, 1, 1, "°"), "insertTurn", "Clockwise"), "Turn",
            [](Insert & i) -> auto& { return i.placing.turn_deg; });
        auto* turnLabel = row("Turned", turn);
        auto* untrim = named(button("Undo the trims", "quiet"), "insertUntrim", "Its corners where the track has them");
        auto* untrimRow = buttonRow({untrim});
        wide(untrimRow);
        onClick(untrim, [this] { hand_.edit("Undo the trims", [](Insert& i) { i.placing.trims = Placing{}.trims; }); });
        showWhile({title, fits, middle, size, turn, turnLabel}, isArt);
        showWhile({untrimRow}, [](const Insert& i) { return i.placing.trims != Placing{}.trims; });
    }

    // ---- how it looks

    void addLook() {
        auto* title = heading("Look");
        auto* blend = chosen(
            named(choice({"over", "multiply", "screen", "add", "overlay"}), "insertBlend"), "Blend",
            [](Insert & i) -> auto& { return i.look.blend; });
        auto* blendLabel = row("Blend", blend);
        auto* opacity = percent(0, 100, "insertOpacity", "On this frame, where it has keys");
        auto* opacityLabel = row("Opacity", opacity);
        connect(opacity, &QDoubleSpinBox::valueChanged, this, [this](double value) {
            if (!held()) return;
            if (held()->opacityKeys.isEmpty()) hand_.edit("Opacity", [&](Insert& i) { i.look.opacity = value / 100; });
            else stage_.setOpacityHere(value / 100);
        });
        auto* key =
            named(button("Key", "quiet"), "insertOpacityKey", "The opacity on this frame as a key, or no key any more");
        auto* there = named(button("Gone from here", "quiet"), "insertThere",
                            "From this frame on it is not there, or is again: a blink");
        auto* keys = buttonRow({key, there});
        wide(keys);
        key->setCheckable(true);
        onClick(key, [this] {
            if (isKeyed()) stage_.removeOpacityKey();
            else if (held()) stage_.setOpacityHere(opacityHere());
            refresh();
        });
        onClick(there, [this] {
            if (held()) stage_.setThere(!isThere(held()->turns.vector(), session_.player.frame()));
        });
        auto* match = named(button("Match…", "quiet"), "insertMatch",
                            "Takes levels and blur from an area that is dragged on the plate (Shift+U)");
        auto* plain = named(button("As it is", "quiet"), "insertPlain", "No gain, lift, gamma, saturation and blur");
        auto* matches = buttonRow({match, plain});
        wide(matches);
        onClick(match, [this] { stage_.takeTool("insert match"); });
        onClick(plain, [this] {
            hand_.edit("Undo the grade", [](Insert& i) {
                i.look.grade = {};
                i.look.blur_px = 0;
            });
        });
        const auto tone = [this](const char* name, double low, const QString& what, auto access) {
            return number(named(decimal(low, 20, 3, 0.02), name), what, access);
        };
        auto* red = tone(
            "insertGainR", 0, "Gain", [](Insert & i) -> auto& { return i.look.grade.gain[0]; });
        auto* green = tone(
            "insertGainG", 0, "Gain", [](Insert & i) -> auto& { return i.look.grade.gain[1]; });
        auto* blue = tone(
            "insertGainB", 0, "Gain", [](Insert & i) -> auto& { return i.look.grade.gain[2]; });
        auto* gains = columns({{"Gain red", red}, {"green", green}, {"blue", blue}});
        wide(gains);
        auto* liftR = tone(
            "insertLiftR", -5, "Lift", [](Insert & i) -> auto& { return i.look.grade.lift[0]; });
        auto* liftG = tone(
            "insertLiftG", -5, "Lift", [](Insert & i) -> auto& { return i.look.grade.lift[1]; });
        auto* liftB = tone(
            "insertLiftB", -5, "Lift", [](Insert & i) -> auto& { return i.look.grade.lift[2]; });
        auto* lifts = columns({{"Lift red", liftR}, {"green", liftG}, {"blue", liftB}});
        wide(lifts);
        auto* gamma = number(
            named(decimal(0.1, 10, 2, 0.05), "insertGamma", "Above 1 it is lighter in between"), "Gamma",
            [](Insert & i) -> auto& { return i.look.grade.gamma; });
        auto* gammaLabel = row("Gamma", gamma);
        auto* saturation = number(
            percent(0, 500, "insertSaturation"), "Saturation",
            [](Insert & i) -> auto& { return i.look.grade.saturation; }, 100);
        auto* saturationLabel = row("Saturation", saturation);
        auto* blur = number(
            named(decimal(0, 100, 2, 0.1, " px"), "insertBlur", "Pixels of the plate"), "Blur",
            [](Insert & i) -> auto& { return i.look.blur_px; });
        auto* blurLabel = row("Blur", blur);
        auto* shutter = number(
            named(decimal(0, 2, 2, 0.1, " fr"), "insertShutter", "Frames the shutter is open: its motion blurs it"),
            "Shutter", [](Insert & i) -> auto& { return i.shutter; });
        auto* shutterLabel = row("Shutter", shutter);
        showWhile({title, blend, blendLabel, opacity, opacityLabel, keys, matches, gains, lifts, gamma, gammaLabel,
                   saturation, saturationLabel, blur, blurLabel});
        showWhile({shutter, shutterLabel}, isArt);
        showFrame_ = [this, opacity, key, there] {
            opacity->setEnabled(mayChange());
            if (!held()) return;
            setQuietly(opacity, 100 * opacityHere());
            key->setChecked(isKeyed());
            there->setText(isThere(held()->turns.vector(), session_.player.frame()) ? "Gone from here"
                                                                                    : "Back from here");
        };
        onRefresh(showFrame_);
    }
    bool isKeyed() const {
        return held() && std::any_of(held()->opacityKeys.begin(), held()->opacityKeys.end(),
                                     [&](const OpacityKey& key) { return key.frame == session_.player.frame(); });
    }
    /// By its keys, also on frames on which it is not there.
    double opacityHere() const {
        Insert insert = *held();
        insert.turns = {};
        insert.frames.reset();
        return opacityAt(insert, session_.player.frame());
    }

    void addEdges() {
        auto* title = heading("Edges");
        const auto side = [this](const char* name, auto access) {
            return number(percent(0, 95, name, "Of the art"), "Crop", access, 100);
        };
        auto* left = side(
            "insertCropLeft", [](Insert & i) -> auto& { return i.shape.left; });
        auto* right = side(
            "insertCropRight", [](Insert & i) -> auto& { return i.shape.right; });
        auto* top = side(
            "insertCropTop", [](Insert & i) -> auto& { return i.shape.top; });
        auto* bottom = side(
            "insertCropBottom", [](Insert & i) -> auto& { return i.shape.bottom; });
        auto* across = columns({{"Crop left", left}, {"right", right}});
        auto* down = columns({{"Crop top", top}, {"bottom", bottom}});
        wide(across);
        wide(down);
        auto* round = number(
            percent(0, 50, "insertRound", "Of its shorter side"), "Round corners",
            [](Insert & i) -> auto& { return i.shape.round; }, 100);
        auto* roundLabel = row("Round corners", round);
        auto* soft = number(
            named(decimal(0, 500, 1, 1, " px"), "insertSoft",
                  "How far it fades in from its border, pixels of the plate"),
            "Soft edge", [](Insert & i) -> auto& { return i.shape.softEdge_px; });
        auto* softLabel = row("Soft edge", soft);
        showWhile({title, across, down, round, roundLabel, soft, softLabel}, isArt);
    }

    // ---- what passes before it

    /// The shot's mattes with a tick each.
    QListWidget* mattes(const char* name, const QString& what, const std::function<List<MatteId>&(Insert&)>& access) {
        auto* list = new MatteTicks(name, what, [this, what, access](const List<MatteId>& ticked) {
            hand_.edit(what, [&](Insert& insert) { access(insert) = ticked; });
        });
        onRefresh([this, list, access] {
            list->setVisible(held() && !session_.shot().mattes.isEmpty());
            if (!held()) return;
            Insert copy = *held();
            list->showTicks(session_.shot().mattes, access(copy));
        });
        wide(list);
        return list;
    }

    void addInFront() {
        auto* title = heading("In front of it");
        mattes("insertHeldOut", "In front", [](Insert& i) -> List<MatteId>& {
            return i.heldOut;
        })->setToolTip("What these shapes cover comes back on top");
        auto* draw = named(button("Draw what passes…", "quiet"), "insertDraw",
                           "A shape round what passes before it, in the Mattes card");
        auto* drawRow = buttonRow({draw});
        wide(drawRow);
        onClick(draw, [this] { stage_.drawInFront(); });
        auto* amount = number(
            percent(0, 100, "insertWrap", "The plate's light over its edges"), "Light wrap",
            [](Insert & i) -> auto& { return i.look.wrap.amount; }, 100);
        auto* reach = number(
            named(decimal(0, 200, 0, 1, " px"), "insertWrapWidth"), "Width of the light wrap",
            [](Insert & i) -> auto& { return i.look.wrap.width_px; });
        auto* wrap = columns({{"Light wrap", amount}, {"over", reach}});
        wide(wrap);
        auto* within = heading("Seen only within");
        mattes("insertWithin", "Within", [](Insert& i) -> List<MatteId>& {
            return i.within;
        })->setToolTip("It is seen inside these shapes alone; none ticked: everywhere");
        showWhile({title, drawRow, wrap});
        onRefresh([this, within] { within->setVisible(held() && !session_.shot().mattes.isEmpty()); });
    }

    void addKey() {
        auto* on = named(new QCheckBox("Key out a colour"), "insertKey", "A flat backing of the clip becomes clear");
        wide(on);
        connect(on, &QCheckBox::clicked, this, [this](bool keyed) {
            hand_.edit(keyed ? "Key" : "No key",
                       [&](Insert& i) { i.key = keyed ? std::optional(ColourKey{}) : std::nullopt; });
        });
        auto* pick =
            named(button("Pick the colour…", "quiet"), "insertKeyPick", "A click on the backing, on the plate");
        auto* pickRow = buttonRow({pick});
        wide(pickRow);
        onClick(pick, [this] { stage_.takeTool("insert key"); });
        const auto part = [this](const char* name, double most, const QString& tip, float ColourKey::*member) {
            auto* box = percent(0, most, name, tip);
            connect(box, &QDoubleSpinBox::valueChanged, this, [this, member](double value) {
                hand_.edit("Key", [&](Insert& insert) {
                    if (insert.key) (*insert.key).*member = float(value / 100);
                });
            });
            onRefresh([this, box, member] {
                box->setEnabled(mayChange());
                if (held() && held()->key) setQuietly(box, 100.0 * double((*held()->key).*member));
            });
            return box;
        };
        auto* clears = part("insertKeyClears", 45, "Of the backing, in uneven light", &ColourKey::clears);
        auto* keeps =
            part("insertKeyKeeps", 45, "Of the backing's colour that the foreground may have", &ColourKey::keeps);
        auto* spill =
            part("insertKeySpill", 100, "The backing's light on the foreground, taken down", &ColourKey::spill);
        auto* fields = columns({{"Clears", clears}, {"Keeps", keeps}, {"Spill", spill}});
        wide(fields);
        showWhile({on}, [](const Insert& i) { return isArt(i) && i.shows == Insert::Shows::clip; });
        showWhile({pickRow, fields}, [](const Insert& i) { return i.shows == Insert::Shows::clip && i.key; });
        onRefresh([this, on] { on->setChecked(held() && held()->key); });
    }

    // ---- when

    void addTime() {
        auto* title = heading("Time");
        auto* start = number(
            named(spin(-1000000, 1000000), "insertTimeStart",
                  "Frame of the plate that shows the clip's first one used"),
            "Start", [](Insert & i) -> auto& { return i.time.start; });
        auto* startLabel = row("Clip starts on", start);
        auto* in = named(spin(-1000000, 1000000), "insertClipIn", "Of the clip's own frames");
        auto* out = named(spin(-1000000, 1000000), "insertClipOut", "Of the clip's own frames");
        auto* used = columns({{"Clip from", in}, {"to", out}});
        wide(used);
        connect(in, &QSpinBox::valueChanged, this,
                [this](int value) { hand_.edit("First frame used", [&](Insert& i) { i.time.in = value; }); });
        connect(out, &QSpinBox::valueChanged, this,
                [this](int value) { hand_.edit("Last frame used", [&](Insert& i) { i.time.out = value; }); });
        auto* after = chosen(
            named(choice({"its last frame holds", "it loops", "it ends"}), "insertAfter"), "After its end",
            [](Insert & i) -> auto& { return i.time.after; });
        auto* afterLabel = row("After it", after);
        auto* rate =
            named(new QCheckBox("At its own rate"), "insertOwnRate", "Else a frame of it for a frame of the plate");
        wide(rate);
        connect(rate, &QCheckBox::clicked, this, [this](bool own) {
            hand_.edit(own ? "Own rate" : "Plate's rate", [&](Insert& i) { i.time.ownRate = own; });
        });
        auto* first = named(spin(-1000000, 1000000), "insertFirst");
        auto* last = named(spin(-1000000, 1000000), "insertLast");
        auto* shown = columns({{"There from", first}, {"to", last}});
        wide(shown);
        const auto setFrames = [this](int a, int b) {
            const FrameRange all = session_.shot().plate.frames;
            hand_.edit("Frames", [&](Insert& i) {
                const FrameRange frames{std::max(a, all.first), std::min(std::max(a, b), all.last)};
                i.frames = frames == all ? std::nullopt : std::optional(frames);
            });
        };
        connect(first, &QSpinBox::valueChanged, this,
                [setFrames, last](int value) { setFrames(value, last->value()); });
        connect(last, &QSpinBox::valueChanged, this,
                [setFrames, first](int value) { setFrames(first->value(), value); });
        auto* lost = chosen(
            named(choice({"it ends", "it stays", "it fades"}), "insertLost",
                  "On frames on which what carries it is not there"),
            "Track's end", [](Insert & i) -> auto& { return i.lost; });
        auto* lostLabel = row("Track ends", lost);
        auto* fade = number(
            named(spin(1, 1000, " fr"), "insertFade"), "Fade", [](Insert & i) -> auto& { return i.fadeFrames; });
        auto* fadeLabel = row("Fades over", fade);
        const auto isClip = [this](const Insert&) { return heldClip() && !heldClip()->still; };
        showWhile({start, startLabel, used, after, afterLabel, rate}, isClip);
        showWhile({title, shown});
        showWhile({lost, lostLabel}, [](const Insert& i) { return i.ride.has_value(); });
        showWhile({fade, fadeLabel}, [](const Insert& i) { return i.ride && i.lost == Insert::Lost::fades; });
        onRefresh([this, in, out, rate, first, last] {
            if (!held()) return;
            const FrameRange frames = held()->frames.value_or(session_.shot().plate.frames);
            setQuietly(first, frames.first);
            setQuietly(last, frames.last);
            rate->setChecked(held()->time.ownRate);
            if (const Clip* clip = heldClip()) {
                for (QSpinBox* box : {in, out}) {
                    const QSignalBlocker blocker(box);
                    box->setRange(clip->frames.first, clip->frames.last);
                }
                setQuietly(in, held()->time.in.value_or(clip->frames.first));
                setQuietly(out, held()->time.out.value_or(clip->frames.last));
            }
        });
    }

    // ---- clips, rendering

    void addClips() {
        auto* title = heading("Clips");
        auto* list = named(new QListWidget, "clipList");
        list->setAccessibleName("Clips");
        wide(list);
        auto* facts = words("clipFacts");
        auto* again =
            named(button("Find again…", "quiet"), "clipRelink", "Its file at another place, or another one instead");
        auto* remove = named(button("Remove", "quiet"), "clipRemove", "With the inserts that show it");
        auto* buttons = buttonRow({again, remove});
        wide(buttons);
        const auto picked = [this, list]() -> const Clip* {
            const auto& clips = session_.shot().clips;
            const auto row = std::size_t(std::max(0, list->currentRow()));
            return row < clips.size() ? &clips[row] : nullptr;
        };
        connect(list, &QListWidget::currentRowChanged, this, [this] {
            if (!filling_) refresh();
        });
        onClick(again, [this, picked] {
            const Clip* clip = picked();
            if (!clip) return;
            const QString path = askToOpen(FileKind::art, "Where " + text(clip->name) + " is now", this);
            if (!path.isEmpty()) stage_.relink(clip->id, path.toStdString());
        });
        onClick(remove, [this, picked] {
            if (const Clip* clip = picked())
                session_.edit("Remove the clip " + text(clip->name), withClipRemoved(session_.shot(), clip->id));
        });
        onRefresh([this, title, list, facts, buttons, picked, again] {
            const auto& clips = session_.shot().clips;
            for (QWidget* part : std::initializer_list<QWidget*>{title, list, facts, buttons})
                part->setVisible(!clips.isEmpty());
            if (clips.isEmpty()) return;
            filling_ = true;
            const int row = std::clamp(list->currentRow(), 0, int(clips.size()) - 1);
            list->clear();
            for (const Clip& clip : clips) {
                auto* item = new QListWidgetItem(text(clip.name), list);
                item->setToolTip(text(clip.path.string()));
                if (hand_.files.isMissing(clip)) item->setForeground(theme::kCoral);
            }
            list->setCurrentRow(row);
            list->setFixedHeight(std::clamp(list->count(), 1, 4) * std::max(22, list->sizeHintForRow(0)) + 6);
            filling_ = false;
            if (const Clip* clip = picked())
                facts->setText(sizeWords(*clip) +
                               (hand_.files.isMissing(*clip) ? "\nnot there: " + text(clip->path.string()) : ""));
            again->setEnabled(session_.isReady());
        });
    }

    void addRender() {
        auto* title = heading("Render");
        auto* alone = named(new QCheckBox("The inserts alone, with alpha"), "insertsAlone");
        wide(alone);
        connect(alone, &QCheckBox::clicked, this, [this](bool on) {
            change(on ? "Render the inserts alone" : "Render over the plate", [&](Shot& shot) {
                shot.insertsAlone = on;
                shot.insertsPath.clear();
            });
        });
        auto* place = named(new QLineEdit, "insertsPlace",
                            "A sequence (name.####.exr, .png, .tif) or a video (name.mp4), below the delivery folder");
        place->setAccessibleName("Render to");
        wide(place);
        auto* render = named(button("Render inserts", "quiet"), "insertsRender",
                             "A sequence that was stopped goes on where it ended");
        auto* renderRow = buttonRow({render});
        onTop([&] { wide(renderRow); });
        connect(place, &QLineEdit::editingFinished, this, [this, place] {
            const QString to = place->text().trimmed();
            if (!to.isEmpty() && to != placeOf(session_.shot()))
                change("Change where inserts are rendered to",
                       [&](Shot& shot) { shot.insertsPath = to.toStdString(); });
        });
        onClick(render, [this, place] {
            const auto to =
                deliveryFolderOf(session_.shot(), session_.document.file()) / place->text().trimmed().toStdString();
            session_.writeTo({to}, [this, to] { stage_.render(to); });
        });
        onRefresh([this, title, alone, place, render, renderRow] {
            const bool has = !session_.shot().inserts.isEmpty();
            for (QWidget* part : std::initializer_list<QWidget*>{title, alone, place, renderRow}) part->setVisible(has);
            alone->setChecked(session_.shot().insertsAlone);
            if (!place->hasFocus()) place->setText(placeOf(session_.shot()));
            render->setEnabled(session_.isReady());
        });
    }

    InsertsStage& stage_;
    InsertHand& hand_;
    std::function<void()> showFrame_;
    bool filling_ = false;
};

}  // namespace

QWidget* makeInsertsCard(Session& session, InsertsStage& stage) { return new InsertsCard(session, stage); }

}  // namespace pinion
