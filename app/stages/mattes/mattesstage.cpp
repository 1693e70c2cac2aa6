#include "stages/mattes/mattesstage.h"
#include "base/files.h"

#include "canvas/canvas.h"
#include "exchange/deliverables.h"
#include "exchange/formats.h"
#include "jobs/matting.h"
#include "matte/sequence.h"
#include "sheet/threadsheet.h"
#include "shot/edits/matteedits.h"
#include "stages/mattes/drawtools.h"
#include "stages/mattes/editshapetool.h"
#include "stages/mattes/mattescard.h"
#include "stages/mattes/mattesights.h"
#include "stages/mattes/mattesoverlay.h"
#include "stages/mattes/mattestrip.h"
#include "stages/reasons.h"
#include "stages/rides.h"
#include "widgets/commands.h"
#include "widgets/filedialogs.h"
#include "widgets/toolbar.h"

#include <QApplication>
#include <QClipboard>

#include <algorithm>

namespace pinion {

using K = QKeySequence;

MattesStage::MattesStage(Session& session)
    : Stage(session), hand(session), proposals(session), covered_(session.jobs, [this] { emit viewChanged(); }) {
    connect(&session.document, &Document::changed, this, [this] {
        refreshCovered();
        if (strip_ && strip_->shown) proposals.want();
    });
    connect(&proposals, &Proposals::accepted, this, [this](const QString& name) {
        hand.hold(session_.shot().mattes.size() - 1);
        session_.say(name +
                     " is a matte now, and the tracks under it are set aside there. Change it as any shape; solve "
                     "again to see what it does.");
    });
}

MattesStage::~MattesStage() = default;

StageReport MattesStage::report() const { return mattesReport(session_.shot()); }

QWidget* MattesStage::makeCard() { return makeMattesCard(session_, *this); }

void MattesStage::enter() {
    if (strip_) strip_->shown = true;
    redraw();
    proposals.want();
}

void MattesStage::leave() {
    if (strip_) strip_->shown = false;
    redraw();
    if (isStill()) endStill();
}

void MattesStage::refreshCovered() {
    const Shot& shot = session_.shot();
    if (shot.mattes.isEmpty() || shot.tracks.isEmpty()) {
        covered_.clear();
        return;
    }
    covered_.want({shot.mattes, shot.tracks}, [shot](const Progress&) -> Expected<Covered> {
        Covered covered;
        for (const CoveredTrack& one : tracksInMattes(shot)) {
            ++covered.tracks;
            covered.frames += one.frames.size();
        }
        return covered;
    });
}

QString MattesStage::whyNoShape() const {
    const QString ready = whyNotReady(session_);
    return !ready.isEmpty() ? ready : hand.held() ? QString() : QString("no shape is held: click one");
}

void MattesStage::furnish(const Desk& desk) {
    addTools(desk);
    addShapeCommands(desk);
    addKeyCommands(desk);
    addRideCommands(desk);
    addViewCommands(desk);
    auto strip = std::make_unique<MatteStrip>(session_, hand);
    strip_ = strip.get();
    desk.sheet.addStrip(std::move(strip));
    // What can be done with a shape can be done once one is held.
    connect(&hand, &MatteHand::changed, &desk.commands, [this, commands = &desk.commands, had = false]() mutable {
        if (had == (hand.held() != nullptr)) return;
        had = !had;
        commands->refresh();
    });
    connect(&hand, &MatteHand::changed, &desk.sheet, [sheet = &desk.sheet] { sheet->refreshStrips(); });
}

// ---- tools

void MattesStage::addTools(const Desk& desk) {
    Canvas& canvas = desk.canvas;
    canvas.addOverlay(std::make_unique<MattesOverlay>(session_, hand));
    canvas.addOverlay(std::make_unique<ProposalsOverlay>(session_, proposals));
    connect(&proposals, &Proposals::changed, &canvas, [&canvas] { canvas.update(); });
    auto edit = std::make_unique<EditShapeTool>(session_, hand, canvas);
    edit_ = edit.get();
    canvas.addTool(std::move(edit));
    canvas.addTool(std::make_unique<ShapeTool>(hand, canvas));
    using Kind = DragShapeTool::Kind;
    for (const Kind kind : {Kind::ellipse, Kind::rectangle, Kind::stroke})
        canvas.addTool(std::make_unique<DragShapeTool>(hand, canvas, kind));
    canvas.addSight(std::make_unique<MatteSight>(session_, MatteSight::Kind::alone));
    canvas.addSight(std::make_unique<MatteSight>(session_, MatteSight::Kind::cut));
    auto still = std::make_unique<StillSight>(session_, hand);
    still_ = still.get();
    canvas.addSight(std::move(still));
    // While it stands still, and not held by something else, what is drawn goes with it.
    hand.rideOfNew = [this] { return isStill() ? std::optional(still_->ride) : std::nullopt; };
    connect(&hand, &MatteHand::changed, &canvas, [&canvas] { canvas.update(); });
    connect(&hand, &MatteHand::motionsChanged, &canvas, &Canvas::refreshView);
    connect(&session_.document, &Document::changed, &canvas, [this, &canvas] {
        // A view of the mattes is another picture then.
        if (canvas.sight() == "matte" || canvas.sight() == "cut out" || isStill()) canvas.refreshView();
    });
    connect(&canvas, &Canvas::looked, this, &MattesStage::viewChanged);
    const auto take = [this](const QString& tool) { return [this, tool] { takeTool(tool); }; };
    desk.tools.addTool("edit shapes", "Edit", "vector-square", "Change shapes and their points (Q)",
                       take("edit shapes"));
    desk.tools.addTool("shape", "Shape", "pen-tool", "Point by point: a click is a corner, a drag a smooth point (D)",
                       take("shape"));
    desk.tools.addTool("ellipse", "Ellipse", "circle", "Shift: a circle; Alt: from its middle (E)", take("ellipse"));
    desk.tools.addTool("rectangle", "Rectangle", "square", "Shift: a square; Alt: from its middle (Shift+E)",
                       take("rectangle"));
    desk.tools.addTool("stroke", "Freehand", "lasso", "A stroke becomes a smooth shape (Shift+D)", take("stroke"));
}

bool MattesStage::take(Errand errand) {
    if (errand != Errand::showShapes && errand != Errand::drawShape) return false;
    openOwnCard();
    if (errand == Errand::drawShape) {
        show("plate");
        takeInHand("shape");
    } else if (!session_.shot().mattes.isEmpty()) {
        // What was made for it last is what is meant.
        hand.hold(session_.shot().mattes.size() - 1);
    }
    return true;
}

void MattesStage::takeTool(const QString& tool) {
    if (!session_.hasPlate()) {
        session_.say("No plate is open.");
        return;
    }
    openOwnCard();
    // Shapes are drawn over the plate, or over it cut or held still.
    if (shown() != "plate" && shown() != "cut out") show("plate");
    takeInHand(tool);
}

// ---- commands

void MattesStage::addShapeCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto plate = [this] { return whyNoPlate(session_); };
    const auto shape = [this] { return whyNoShape(); };
    const auto tool = [&](const QString& name, const QKeySequence& key, const QString& which) {
        c.add(
            "Matte", name, {key}, [this, which] { takeTool(which); }, plate);
    };
    tool("Edit shapes", K("Q"), "edit shapes");
    tool("Draw a shape", K("D"), "shape");
    tool("Draw an ellipse", K("E"), "ellipse");
    tool("Draw a rectangle", K("Shift+E"), "rectangle");
    tool("Draw freehand", K("Shift+D"), "stroke");
    c.add(
        "Matte", "Smooth points", {K("Ctrl+Shift+O")}, [this] { edit_->setSmooth(true); }, shape);
    c.add(
        "Matte", "Corners", {K("Ctrl+Alt+O")}, [this] { edit_->setSmooth(false); }, shape);
    c.add(
        "Matte", "Remove the points or the shape (Delete)", {}, [this] { edit_->remove(); }, shape);
    c.add(
        "Matte", "Duplicate the shape", {K("Ctrl+Shift+J")},
        [this] {
            const std::size_t place = *hand.matte();
            session_.edit("Duplicate " + text(hand.held()->name), withMatteDuplicated(session_.shot(), place));
            hand.hold(place + 1);
        },
        shape);
    c.add(
        "Matte", "Copy the shape", {K("Ctrl+Alt+C")}, [this] { copyShapes(false); }, shape);
    c.add(
        "Matte", "Copy all shapes", {}, [this] { copyShapes(true); },
        [this] { return session_.shot().mattes.isEmpty() ? QString("there are no shapes") : QString(); });
    c.add(
        "Matte", "Paste shapes", {K("Ctrl+Alt+V")}, [this] { pasteShapes(); },
        [this] { return whyNotReady(session_); });
}

void MattesStage::addKeyCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto shape = [this] { return whyNoShape(); };
    c.add(
        "Matte", "Keyframe of the shape here", {K("Ctrl+Shift+F")},
        [this] {
            const auto here = hand.shapeOf(*hand.matte());
            if (here && hand.mayEdit()) hand.setShape("Keyframe", *here);
        },
        shape);
    c.add(
        "Matte", "Remove the shape's keyframe here", {K("Ctrl+Alt+F")},
        [this] {
            if (!hand.mayEdit()) return;
            if (!keyAt(*hand.held(), session_.player.frame()))
                session_.say("There is no keyframe of the shape on this frame.");
            else if (hand.held()->keys.size() == 1) session_.say("It is the shape's only keyframe; it stays.");
            else
                session_.edit("Remove a keyframe",
                              withMatteKeyRemoved(session_.shot(), *hand.matte(), session_.player.frame()));
        },
        shape);
    c.add(
        "Matte", "The shape's keyframe before", {K("Alt+,")}, [this] { goToKey(-1); }, shape);
    c.add(
        "Matte", "The shape's keyframe after", {K("Alt+.")}, [this] { goToKey(1); }, shape);
    const auto turn = [&](const QString& name, bool there) {
        c.add(
            "Matte", name, {},
            [this, name, there] {
                if (hand.mayEdit())
                    session_.edit(name, withMatteThere(session_.shot(), *hand.matte(), session_.player.frame(), there));
            },
            shape);
    };
    turn("The shape counts from here on", true);
    turn("The shape does not count from here on", false);
}

void MattesStage::goToKey(int direction) {
    const Matte* matte = hand.held();
    if (!matte) return;
    std::optional<int> to;
    for (const Matte::Key& key : matte->keys) {
        const int away = (key.frame - session_.player.frame()) * direction;
        if (away > 0 && (!to || away < (*to - session_.player.frame()) * direction)) to = key.frame;
    }
    if (to) session_.player.goTo(*to);
    else session_.say(direction > 0 ? "There is no later keyframe." : "There is no earlier keyframe.");
}

void MattesStage::addRideCommands(const Desk& desk) {
    Commands& c = desk.commands;
    c.add(
        "Matte", "Ride on the selected tracks", {K("Ctrl+R")},
        [this] {
            if (const auto on = rideOnSelected(session_)) ride(*on, text(wordsOf(session_.shot(), *on)));
        },
        [this] {
            const QString none = whyNoShape();
            return !none.isEmpty()                ? none
                   : session_.selection.isEmpty() ? QString("select one track or more")
                                                  : QString();
        });
    c.add(
        "Matte", "Ride on the whole picture", {K("Ctrl+Shift+R")},
        [this] { ride(rideOnPicture(), text(wordsOf(session_.shot(), rideOnPicture()))); },
        [this] {
            const QString none = whyNoShape();
            return !none.isEmpty() ? none : whyNoTracks(session_);
        });
    const auto rides = [this] {
        const QString none = whyNoShape();
        return !none.isEmpty() ? none : hand.held()->ride ? QString() : QString("the shape rides on nothing");
    };
    c.add(
        "Matte", "Part the shape from what it rides on", {K("Ctrl+Alt+R")}, [this] { part(); }, rides);
    c.add(
        "Matte", "Part the shape, a keyframe on every frame", {}, [this] { bake(); }, rides);
    c.add(
        "Matte", "Look for what moves", {K("Ctrl+M")},
        [this] {
            openOwnCard();
            proposals.start();
        },
        [this] { return whyNoTracks(session_); });
    c.add(
        "Matte", "Set aside the tracks that lie in the mattes", {}, [this] { setCoveredAside(); },
        [this] {
            const QString tracks = whyNoTracks(session_);
            return !tracks.isEmpty()       ? tracks
                   : covered().tracks == 0 ? QString("no track lies in the mattes")
                                           : QString();
        });
}

void MattesStage::addViewCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto plate = [this] { return whyNoPlate(session_); };
    c.add(
        "View", "Picture held still for drawing", {K("S")}, [this] { toggleStill(); }, plate);
    c.add(
        "View", "Matte alone", {K("Ctrl+0")}, [desk] { desk.show(desk.shown() == "matte" ? "plate" : "matte"); },
        plate);
    c.add(
        "View", "Plate cut by the matte", {K("Ctrl+Shift+0")},
        [desk] { desk.show(desk.shown() == "cut out" ? "plate" : "cut out"); }, plate);
}

void MattesStage::look(const QString& view) { show(view); }

QString MattesStage::looked() const { return shown(); }

// ---- riding

void MattesStage::ride(const Ride& on, const QString& words) {
    if (!hand.mayEdit()) return;
    const Matte before = *hand.held();
    if (before.pictures) {
        session_.say("A matte that comes as pictures lies as it was made; it rides on nothing.");
        return;
    }
    // It is joined where it was drawn: there it lies as it should, and nowhere else is that known.
    int frame = session_.player.frame();
    if (!before.ride && !before.keys.empty() && !keyAt(before, frame)) {
        const auto nearest = std::min_element(
            before.keys.begin(), before.keys.end(),
            [&](const auto& a, const auto& b) { return std::abs(a.frame - frame) < std::abs(b.frame - frame); });
        frame = nearest->frame;
        session_.player.setPlaying(false);
        session_.player.goTo(frame);
    }
    whenRidesAreKnown(session_, {on}, [this, on, frame, words] { join(on, frame, words); });
}

void MattesStage::join(const Ride& on, int frame, const QString& words) {
    if (!hand.held()) return;
    const QString name = text(hand.held()->name);
    const Shot shot = withMatteRide(session_.shot(), *hand.matte(), frame, on);
    const auto carrier = carrierOf(shot, *shot.mattes[*hand.matte()].ride);
    if (!carrier->problem().empty()) {
        session_.sayError(QString("%1 cannot ride on %2: %3.").arg(name, words, text(carrier->problem())));
        return;
    }
    session_.edit(QString("%1 rides on %2").arg(name, words), shot);
    session_.say(QString("%1 rides on %2 from frame %3, where it was drawn.").arg(name, words).arg(frame));
}

void MattesStage::part() {
    if (!hand.mayEdit()) return;
    session_.edit("Part " + text(hand.held()->name),
                  withMatteRide(session_.shot(), *hand.matte(), session_.player.frame(), std::nullopt));
}

void MattesStage::bake() {
    if (!hand.mayEdit()) return;
    session_.edit("Keyframes for " + text(hand.held()->name), withMatteBaked(session_.shot(), *hand.matte()));
}

bool MattesStage::isStill() const { return isFurnished() && desk().canvas.shownSight() == still_; }

void MattesStage::endStill() {
    desk().canvas.setHold(nullptr);
    emit viewChanged();
}

void MattesStage::standStill(const Ride& on, const QString& words) {
    still_->ride = on;
    still_->ride.referenceFrame = session_.player.frame();
    still_->on = words;
    if (const auto carrier = hand.carrierOf(still_->ride); carrier && !carrier->problem().empty()) {
        session_.sayError(QString("The picture cannot stand still on %1: %2.").arg(words, text(carrier->problem())));
        return;
    }
    openOwnCard();
    show("plate");
    desk().canvas.setHold(still_);
    hand.refreshMotions();
    emit viewChanged();
}

void MattesStage::toggleStill() {
    if (isStill()) {
        endStill();
        return;
    }
    Ride on;
    if (const Matte* matte = hand.held(); matte && matte->ride) {
        on = *matte->ride;
    } else if (const auto selected = rideOnSelected(session_)) {
        on = *selected;
    } else if (!session_.shot().tracks.isEmpty()) {
        on = rideOnPicture();
    } else {
        session_.say("There is nothing to stand still on: place a track and track it, or scatter, first.");
        return;
    }
    standStill(on, text(wordsOf(session_.shot(), on)));
}

// ---- between shots, and what becomes of tracks

void MattesStage::copyShapes(bool all) {
    std::vector<Matte> copied;
    if (all) copied = session_.shot().mattes.vector();
    else if (const Matte* matte = hand.held()) copied = {*matte};
    if (copied.empty()) return;
    // Another shot knows no ids of this one.
    for (Matte& matte : copied)
        if (matte.ride) matte.ride = pinion::named(session_.shot(), *matte.ride);
    QApplication::clipboard()->setText(text(mattesJson(copied)));
    session_.say(copied.size() == 1 ? text(copied.front().name) + " is on the clipboard."
                                    : QString("%1 shapes are on the clipboard.").arg(copied.size()));
}

void MattesStage::pasteShapes() {
    const auto pasted = mattesFromJson(QApplication::clipboard()->text().toStdString(), "clipboard");
    if (!pasted) {
        session_.say("There are no shapes on the clipboard: " + text(pasted.error().message));
        return;
    }
    addShapes(*pasted);
}

void MattesStage::addShapes(const std::vector<Matte>& shapes) {
    Shot shot = session_.shot();
    QStringList lost;
    for (Matte matte : shapes) {
        // What it rode on belongs to the other shot.
        if (matte.ride && !carrierOf(shot, tied(shot, *matte.ride))->problem().empty()) {
            lost << text(matte.name);
            matte.ride.reset();
        }
        shot = withMatteAdded(shot, std::move(matte));
    }
    session_.edit(shapes.size() == 1 ? QString("Add a shape") : QString("Add %1 shapes").arg(shapes.size()), shot);
    hand.hold(shot.mattes.size() - 1);
    if (!lost.isEmpty()) session_.say(lost.join(", ") + ": what it rode on is not in this shot. It is parted.");
}

void MattesStage::setCoveredAside() {
    if (!session_.isReady()) return;
    const Covered before = covered();
    session_.edit("Set aside what lies in the mattes", withCoveredSetAside(session_.shot()));
    session_.say(
        QString("%1 track%2 set aside where the mattes cover them, on %3 frames of theirs. Bring back (Shift+X) "
                "undoes it for chosen tracks.")
            .arg(before.tracks)
            .arg(before.tracks == 1 ? "" : "s")
            .arg(before.frames));
}

void MattesStage::bringIn(const QString& path) {
    const Shot& shot = session_.shot();
    if (path.endsWith(".json")) {
        const auto read = readMattes(path.toStdString());
        if (read) addShapes(*read);
        else session_.sayError(text(read.error().message));
        return;
    }
    const auto checked = checkMatteSequence(path.toStdString(), shot.plate.width, shot.plate.height);
    if (!checked) {
        session_.sayError(text(checked.error().message));
        return;
    }
    Matte matte;
    matte.pictures = matteSequence(path.toStdString());
    matte.name = std::filesystem::path(path.toStdString()).stem().string();
    session_.edit("Bring in a matte", withMatteAdded(shot, std::move(matte)));
    hand.hold(session_.shot().mattes.size() - 1);
    if (!checked->empty())
        session_.say("The matte has no pictures on " + text(frameRanges(*checked)) + ": there it covers nothing.");
}

void MattesStage::handOn(int format) {
    const DeliverableRow& row = deliverableRow(DeliverableKind::mattes);
    if (format < 0 || format >= int(row.formats.size())) return;
    const DeliverableFormat chosen = row.formats[std::size_t(format)];
    const std::string word = kDeliverableFormats[std::size_t(chosen)];
    Shot shot = session_.shot();
    Deliverable item;
    item.kind = DeliverableKind::mattes;
    item.format = chosen;
    const bool isShapes = chosen == DeliverableFormat::json || chosen == DeliverableFormat::svg;
    item.name = (isShapes ? "shapes as " : "mattes as ") + word;
    for (const Deliverable& one : shot.deliverables)
        if (one.name == item.name) {
            session_.say(text(item.name) + " is listed already.");
            return;
        }
    item.place = chosen == DeliverableFormat::json  ? shot.name + ".mattes.json"
                 : chosen == DeliverableFormat::svg ? shot.name + ".mattes/shapes.####.svg"
                                                    : shot.name + ".mattes/matte.####." + word;
    const QString name = text(item.name);
    shot.deliverables = shot.deliverables.edited([&](auto& all) { all.push_back(std::move(item)); });
    session_.edit("List " + name, shot);
    session_.say(name + " is listed in the Delivery card.");
}

void MattesStage::renderAlpha(const std::string& pattern) {
    if (!session_.isReady()) return;
    const Shot shot = session_.shot();
    const MatteAs as = loweredEnding(pattern) == ".png" ? MatteAs::straight : MatteAs::premultiplied;
    session_.jobs.start(Job<MatteReport>{
        .name = "Plate with alpha",
        .frames = shot.plate.range.count(),
        .run =
            [shot, pattern, as, frames = session_.player.sharedFrames()](const JobLink& link) {
                return renderMattes(*frames, shot.plate.range, mattesOf(shot), pattern, as, link.progress);
            },
        .merge =
            [this, pattern, as](MatteReport& report) {
                session_.say(QString("%1%2 frames: %3, %4")
                                 .arg(report.stopped ? "Stopped. " : "")
                                 .arg(report.frames)
                                 .arg(text(pattern), as == MatteAs::straight ? "colours as they are"
                                                                             : "colours multiplied by the alpha"));
            }});
}

}  // namespace pinion
