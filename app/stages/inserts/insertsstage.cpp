#include "stages/inserts/insertsstage.h"

#include "canvas/canvas.h"
#include "comp/keying.h"
#include "comp/match.h"
#include "planar/surface.h"
#include "sheet/threadsheet.h"
#include "shot/edits/insertedits.h"
#include "shot/stages/insertsstage.h"
#include "shot/stages/mattesstage.h"
#include "stages/inserts/insertscard.h"
#include "stages/inserts/insertsight.h"
#include "stages/inserts/insertsoverlay.h"
#include "stages/inserts/insertstrip.h"
#include "stages/inserts/inserttools.h"
#include "stages/reasons.h"
#include "stages/rides.h"
#include "widgets/commands.h"
#include "widgets/filedialogs.h"
#include "widgets/toolbar.h"

#include <algorithm>

namespace pinion {
namespace {

using K = QKeySequence;
using Eigen::Vector2d;

}  // namespace

InsertsStage::InsertsStage(Session& session) : Stage(session), hand(session) {
    connect(&hand.files, &ClipFiles::changed, this, &Stage::reportChanged);
}

StageReport InsertsStage::report() const {
    const Shot& shot = session_.shot();
    for (const Insert& insert : shot.inserts) {
        const Clip* clip = insert.shows == Insert::Shows::clip ? findClip(shot, insert.clip) : nullptr;
        if (clip && !insert.hidden && hand.files.isMissing(*clip)) {
            StageReport report = insertsReport(shot);
            report.state = StageState::attention;
            report.message = clip->path.string() + ": is not there; find the clip again in the card.";
            return report;
        }
    }
    return insertsReport(shot);
}

QWidget* InsertsStage::makeCard() { return makeInsertsCard(session_, *this); }

void InsertsStage::enter() {
    overlay_->shown = true;
    strip_->shown = true;
    if (shown() == "plate" && !session_.shot().inserts.isEmpty()) show("inserts");
    redraw();
}

void InsertsStage::leave() {
    overlay_->shown = false;
    strip_->shown = false;
    redraw();
}

QString InsertsStage::whyNoInsert() const {
    const QString ready = whyNotReady(session_);
    return !ready.isEmpty() ? ready : hand.held() ? QString() : QString("there is no insert");
}

void InsertsStage::furnish(const Desk& desk) {
    auto strip = std::make_unique<InsertStrip>(session_, hand);
    strip_ = strip.get();
    desk.sheet.addStrip(std::move(strip));
    addTools(desk);
    addCommands(desk);
}

void InsertsStage::addTools(const Desk& desk) {
    Canvas& canvas = desk.canvas;
    auto overlay = std::make_unique<InsertsOverlay>(session_, hand);
    overlay_ = overlay.get();
    overlay_->looked = desk.shown;
    canvas.addOverlay(std::move(overlay));
    canvas.addTool(std::make_unique<PlaceInsertTool>(session_, hand, canvas));
    canvas.addTool(std::make_unique<TrimInsertTool>(session_, hand, canvas));
    auto area = std::make_unique<AreaForInsertTool>("insert match", "drag over what it should match");
    area->chosen = [this](const Vector2d& from, const Vector2d& to) { match(from, to); };
    canvas.addTool(std::move(area));
    auto key = std::make_unique<AreaForInsertTool>("insert key", "click on the colour that goes");
    key->chosen = [this](const Vector2d&, const Vector2d& at) { pickKey(at); };
    canvas.addTool(std::move(key));
    canvas.addSight(std::make_unique<InsertSight>(session_, hand));
    connect(&hand, &InsertHand::sceneChanged, &canvas, &Canvas::refreshView);
    connect(&hand, &InsertHand::moved, &canvas, &Canvas::refreshView);
    connect(&hand, &InsertHand::changed, &canvas, [&canvas] { canvas.update(); });
    connect(&hand, &InsertHand::changed, &desk.sheet, [sheet = &desk.sheet] { sheet->refreshStrips(); });
    connect(&hand, &InsertHand::sceneChanged, &desk.sheet, [sheet = &desk.sheet] { sheet->refreshStrips(); });
    const auto take = [this](const QString& tool) { return [this, tool] { takeTool(tool); }; };
    desk.tools.addTool("insert", "Place", "move",
                       "The held insert inside its surface: moved, sized by its corners (Shift: freely), turned (Z)",
                       take("insert"));
    desk.tools.addTool("insert corners", "Trim", "move-diagonal",
                       "Its corners one by one, on top of the track, under a loupe (Shift+J)", take("insert corners"));
}

void InsertsStage::takeTool(const QString& tool) {
    if (!session_.hasPlate()) {
        session_.say("No plate is open.");
        return;
    }
    openOwnCard();
    if (shown() != "plate" && shown() != "inserts") show("inserts");
    takeInHand(tool);
}

void InsertsStage::addCommands(const Desk& desk) {
    Commands& c = desk.commands;
    const auto ready = [this] { return whyNotReady(session_); };
    const auto insert = [this] { return whyNoInsert(); };
    c.add(
        "Insert", "Picture or clip…", {K("Ctrl+Shift+I")},
        [this] {
            openOwnCard();
            const QString path = askToOpen(FileKind::art, "A picture, a clip, or one of its frames");
            if (!path.isEmpty()) addArt(path.toStdString());
        },
        ready);
    c.add(
        "Insert", "Test picture", {K("Shift+M")}, [this] { addPlain(Insert::Shows::test); }, ready);
    c.add(
        "Insert", "Tint", {}, [this] { addPlain(Insert::Shows::colour); }, ready);
    c.add(
        "Insert", "Painted patch of this frame…", {},
        [this] {
            openOwnCard();
            const QString path = askToOpen(FileKind::art, "A picture of this frame, painted");
            if (!path.isEmpty()) addPatch(path.toStdString());
        },
        ready);
    c.add(
        "Insert", "Place it on the plate", {K("Z")}, [this] { takeTool("insert"); }, insert);
    c.add(
        "Insert", "Trim its corners", {K("Shift+J")}, [this] { takeTool("insert corners"); }, insert);
    c.add(
        "Insert", "Match levels and blur to an area", {K("Shift+U")}, [this] { takeTool("insert match"); }, insert);
    c.add(
        "Insert", "Gone from this frame on", {}, [this] { setThere(false); }, insert);
    c.add(
        "Insert", "There from this frame on", {}, [this] { setThere(true); }, insert);
    c.add(
        "Insert", "Copy to the selected tracks", {}, [this] { copyTo(rideOnSelected(session_)); },
        [this, insert] {
            const QString none = insert();
            return !none.isEmpty() ? none : session_.selection.isEmpty() ? QString("no track is selected") : QString();
        });
    c.add(
        "Insert", "Remove the insert", {},
        [this] {
            session_.edit("Remove " + text(hand.held()->name), withInsertRemoved(session_.shot(), *hand.insert()));
        },
        insert);
    c.add(
        "View", "Plate with its inserts", {K("Shift+I")},
        [desk] { desk.show(desk.shown() == "inserts" ? "plate" : "inserts"); }, insert);
    connect(&hand, &InsertHand::changed, &c, [commands = &c] { commands->refresh(); });
}

// ---- what is added

std::optional<Ride> InsertsStage::rideAtHand() const {
    if (const auto selected = rideOnSelected(session_)) return selected;
    const auto& planes = session_.shot().planes;
    for (std::size_t i = planes.size(); i-- > 0;)
        if (!planes[i].ties.isEmpty()) return rideOnPlane(planes[i].id);
    return std::nullopt;
}

void InsertsStage::openClip(const std::function<Expected<Clip>()>& make, const std::function<void(const Clip&)>& done) {
    if (!session_.isReady()) {
        session_.say("A job is running. Stop it or wait.");
        return;
    }
    session_.jobs.start(Job<Clip>{.name = "Opening a clip",
                                  .run = [make](const JobLink&) { return make(); },
                                  .merge = [done](Clip& clip) { done(clip); }});
}

void InsertsStage::addInsert(Insert insert, const QString& what, const Shot& shot) {
    InsertId id = 0;
    const Shot with = withInsertAdded(shot, std::move(insert), session_.player.frame(), &id);
    session_.edit(what + " " + text(findInsert(with, id)->name), with);
    hand.hold(id);
    show("inserts");
    takeInHand("insert");
    const Insert* added = findInsert(session_.shot(), id);
    session_.say(text(added->name) + " on " + text(wordsOf(session_.shot(), added->ride)) +
                 (added->ride ? "." : ": it stands still in the frame. Pin it in the card."));
}

void InsertsStage::addArt(const std::filesystem::path& path) {
    openClip([path] { return clipOf(path); },
             [this](const Clip& clip) {
                 Insert insert;
                 const Shot shot = withClipAdded(session_.shot(), clip, &insert.clip);
                 insert.ride = rideAtHand();
                 addInsert(insert, "Insert", shot);
             });
}

void InsertsStage::addPlain(Insert::Shows shows) {
    openOwnCard();
    Insert insert;
    insert.shows = shows;
    insert.ride = rideAtHand();
    addInsert(insert, "Insert", session_.shot());
}

void InsertsStage::addPatch(const std::filesystem::path& path) {
    openClip([path] { return clipOf(path); },
             [this](const Clip& clip) {
                 const PlateRef& plate = session_.shot().plate;
                 if (clip.width * plate.height != clip.height * plate.width) {
                     session_.sayError(QString("%1: is %2x%3, and a patch has the plate's shape, %4x%5.")
                                           .arg(text(clip.path.string()))
                                           .arg(clip.width)
                                           .arg(clip.height)
                                           .arg(plate.width)
                                           .arg(plate.height));
                     return;
                 }
                 Insert insert;
                 const Shot shot = withClipAdded(session_.shot(), clip, &insert.clip);
                 insert.wholeFrame = true;
                 insert.ride = rideAtHand();
                 if (!insert.ride && !shot.tracks.isEmpty()) insert.ride = rideOnPicture();
                 addInsert(insert, "Patch", shot);
             });
}

void InsertsStage::relink(ClipId clip, const std::filesystem::path& path) {
    openClip([path] { return clipOf(path); }, [this, clip](const Clip& found) { replace(clip, found); });
}

void InsertsStage::replace(ClipId clip, const Clip& found) {
    const Clip* before = findClip(session_.shot(), clip);
    if (!before) return;
    const bool other = before->width != found.width || before->height != found.height;
    const QString name = text(before->name);
    session_.edit("Find " + name, withClipReplaced(session_.shot(), clip, found));
    hand.files.look();
    session_.say(
        name + ": " + text(found.path.string()) +
        (other ? QString("\nIt is %1x%2 now; what shows it keeps its corners.").arg(found.width).arg(found.height)
               : QString()));
}

void InsertsStage::takeSequence(ClipId id, bool all) {
    const Clip* clip = findClip(session_.shot(), id);
    if (!clip) return;
    // The folder is listed in the job: it may lie far away.
    openClip(
        [path = clip->path, all]() -> Expected<Clip> {
            if (all) return clipOf(sequenceAround(path));
            const auto pictures = picturesAround(path);
            return clipOf(pictures.empty() ? path : pictures.front());
        },
        [this, id](const Clip& found) { replace(id, found); });
}

// ---- the held insert

void InsertsStage::pin(const std::optional<Ride>& ride) {
    if (!hand.mayEdit()) return;
    whenRidesAreKnown(session_, {ride, hand.held()->ride}, [this, ride] {
        if (!hand.held()) return;
        session_.edit("Pin " + text(hand.held()->name) + " to " + text(wordsOf(session_.shot(), ride)),
                      withInsertPinned(session_.shot(), *hand.insert(), ride, session_.player.frame()));
    });
}

void InsertsStage::copyTo(const std::optional<Ride>& ride) {
    if (!hand.mayEdit()) return;
    whenRidesAreKnown(session_, {ride, hand.held()->ride}, [this, ride] {
        if (!hand.held()) return;
        InsertId id = 0;
        const Shot with = withInsertCopied(session_.shot(), *hand.insert(), ride, session_.player.frame(), &id);
        session_.edit("Copy " + text(hand.held()->name) + " to " + text(wordsOf(session_.shot(), ride)), with);
        hand.hold(id);
    });
}

void InsertsStage::fit(Fitting fitting) {
    if (!hand.mayEdit()) return;
    session_.edit("Fit " + text(hand.held()->name), withInsertFitted(session_.shot(), *hand.insert(), fitting));
}

void InsertsStage::setThere(bool there) {
    if (!hand.mayEdit()) return;
    session_.edit(
        QString(there ? "There from %1: " : "Gone from %1: ").arg(session_.player.frame()) + text(hand.held()->name),
        withInsertThere(session_.shot(), *hand.insert(), session_.player.frame(), there));
}

void InsertsStage::setOpacityHere(double opacity) {
    if (!hand.mayEdit()) return;
    session_.edit(QString("Opacity on %1").arg(session_.player.frame()),
                  withOpacityKey(session_.shot(), *hand.insert(), session_.player.frame(), opacity));
}

void InsertsStage::removeOpacityKey() {
    if (!hand.mayEdit()) return;
    session_.edit(QString("Remove the opacity key on %1").arg(session_.player.frame()),
                  withOpacityKeyRemoved(session_.shot(), *hand.insert(), session_.player.frame()));
}

void InsertsStage::drawInFront() {
    desk().ask(Errand::drawShape);
    session_.say("Draw round what passes before the insert; then tick the shape in the Inserts card, In front.");
}

// ---- what looks at pictures

void InsertsStage::match(const Vector2d& from, const Vector2d& to) {
    if (!hand.mayEdit()) return;
    const std::vector<Vector2d> area{from, {to.x(), from.y()}, to, {from.x(), to.y()}};
    const InsertId id = *hand.insert();
    const auto run = [scene = hand.scene(), shelf = hand.shelf(), frames = session_.player.sharedFrames(),
                      frame = session_.player.frame(), area, id](const JobLink&) -> Expected<Matched> {
        if (scene)
            for (const InsertScene::One& one : scene->inserts)
                if (one.insert.id == id && one.surface) {
                    const auto picture = frames->get(frame);
                    if (!picture) return tl::unexpected(picture.error());
                    const ArtSource art(one.insert, one.clip, one.surface);
                    const LayerWish wish{frame, scene->width, scene->height, scene->fps, (*picture)->linear};
                    return matched(**picture, art.bare(wish, *shelf), area);
                }
        return failure(Fault::input, "the insert is hidden; tick it first");
    };
    const auto merge = [this, id](Matched& found) {
        const Insert* insert = findInsert(session_.shot(), id);
        if (!insert) return;
        const QString name = text(insert->name);
        session_.edit("Match " + name, withInsertEdited(session_.shot(), id, [&](Insert& i) {
                          i.look.grade.gain = found.grade.gain;
                          i.look.grade.lift = found.grade.lift;
                          if (found.hasEdges) i.look.blur_px = found.blur_px;
                      }));
        session_.say(QString("%1: gain %2 %3 %4, %5.")
                         .arg(name)
                         .arg(found.grade.gain[0], 0, 'f', 2)
                         .arg(found.grade.gain[1], 0, 'f', 2)
                         .arg(found.grade.gain[2], 0, 'f', 2)
                         .arg(found.hasEdges ? QString("blur %1 px").arg(found.blur_px, 0, 'f', 2)
                                             : QString("too few edges to tell the blur")));
    };
    session_.jobs.start(Job<Matched>{.name = "Matching", .run = run, .merge = merge});
    takeInHand("insert");
}

void InsertsStage::pickKey(const Vector2d& at) {
    if (!hand.mayEdit()) return;
    const auto* part = hand.partOf(*hand.insert());
    const int frame = session_.player.frame();
    const auto corners = hand.cornersNow(*hand.held());
    const auto artFromPlate =
        corners ? quadFromQuad(Quad{Vector2d(0, 0), {1, 0}, {1, 1}, {0, 1}}, *corners) : std::nullopt;
    const auto shown = part && part->clip
                           ? clipFrameAt(part->insert.time, *part->clip, frame, session_.shot().plate.fps)
                           : std::nullopt;
    if (!artFromPlate || !shown) {
        session_.say("A clip or a picture that is seen on this frame has a colour to take out.");
        return;
    }
    const Vector2d place = (*artFromPlate * at.homogeneous()).hnormalized();
    if (!(place.minCoeff() >= 0 && place.maxCoeff() < 1)) {
        session_.say("Click inside the insert, on the colour that goes.");
        return;
    }
    using Colour = std::array<float, 3>;
    const auto run = [clip = *part->clip, shown = *shown, place,
                      shelf = hand.shelf()](const JobLink&) -> Expected<Colour> {
        const auto plate = shelf->open(clip);
        if (!plate) return tl::unexpected(plate.error());
        const auto picture = (*plate)->read(shown);
        if (!picture) return tl::unexpected(picture.error());
        return meanColour(**picture, int(place.x() * clip.width), int(place.y() * clip.height), 3);
    };
    const auto merge = [this, id = *hand.insert()](Colour& colour) {
        if (KeyExcess(colour).ofBacking() < 0.1F) {
            session_.say("That is nearly grey: a backing to key out has a colour of its own.");
            return;
        }
        session_.edit("Key out a colour", withInsertEdited(session_.shot(), id, [&](Insert& insert) {
                          if (!insert.key) insert.key.emplace();
                          insert.key->colour = colour;
                      }));
    };
    session_.jobs.start(Job<Colour>{.name = "Taking a colour", .run = run, .merge = merge});
    takeInHand("insert");
}

// ---- rendering

void InsertsStage::render(const std::filesystem::path& pattern) {
    if (!session_.isReady()) return;
    const Shot shot = session_.shot();
    const auto run = [shot, pattern, shelf = hand.shelf(),
                      frames = session_.player.sharedFrames()](const JobLink& link) {
        return runInserts(shot, *frames, *shelf, pattern, shot.insertsAlone, link.progress);
    };
    const auto merge = [this, pattern](InsertReport& report) {
        QString words =
            report.render.stopped
                ? QString("Stopped. %1 frames: %2. Rendered again it goes on there.")
                      .arg(report.render.frames + report.kept)
                      .arg(text(pattern.string()))
                : QString("%1 frames: %2").arg(report.render.frames + report.kept).arg(text(pattern.string()));
        if (report.kept > 0) words += QString(" (%1 were there already)").arg(report.kept);
        for (const std::string& problem : report.problems) words += "\n" + text(problem);
        if (!report.render.missing.empty())
            words += QString("\nNot readable in the plate: %1").arg(text(frameRanges(report.render.missing)));
        session_.say(words);
    };
    session_.jobs.start(
        Job<InsertReport>{.name = "Rendering inserts", .frames = shot.plate.range.count(), .run = run, .merge = merge});
}

}  // namespace pinion
