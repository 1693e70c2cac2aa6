#include "stages/world/worldstage.h"

#include "canvas/canvas.h"
#include "jobs/gathering.h"
#include "jobs/standing.h"
#include "render/meshfile.h"
#include "render/throwing.h"
#include "scene/worldview.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/sceneedits.h"
#include "shot/stages/worldstage.h"
#include "stages/reasons.h"
#include "stages/world/groundoverlay.h"
#include "stages/world/standinoverlay.h"
#include "stages/world/standinsight.h"
#include "stages/world/standscene.h"
#include "stages/world/standintool.h"
#include "stages/world/suntool.h"
#include "stages/world/turntool.h"
#include "stages/world/worldcard.h"
#include "widgets/commands.h"
#include "widgets/filedialogs.h"
#include "widgets/toolbar.h"

#include <QToolButton>

namespace pinion {

using Eigen::Vector3d;

namespace {

bool isSameWorld(const World& a, const World& b) {
    return a.ground.vector() == b.ground.vector() && a.origin == b.origin &&
           a.measures.vector() == b.measures.vector() && a.height_m == b.height_m && a.facing == b.facing &&
           a.wall.vector() == b.wall.vector() && a.turn_deg == b.turn_deg && a.flipped == b.flipped;
}

}  // namespace

WorldStage::WorldStage(Session& session) : Stage(session), hand(session) {
    connect(&session.document, &Document::changed, this, &WorldStage::watchWorld);
}

void WorldStage::watchWorld() {
    const Shot& shot = session_.shot();
    if (shot.plate.path != plate_) {
        plate_ = shot.plate.path;
        before_.reset();
    } else if (!isSameWorld(shot.world, now_)) {
        before_ = now_;
    }
    now_ = shot.world;
}

void WorldStage::showBefore(bool on) {
    if (on && !before_) {
        session_.say("The world has not been set another way yet.");
        return;
    }
    isBeforeShown_ = on;
    showWorld(on ? before_ : std::nullopt);
}

/// In place of the shot's; none: the shot's own.
void WorldStage::showWorld(const std::optional<World>& world) {
    ground_->showInstead(world);
    if (inScene_) inScene_->instead = world;
    if (desk().scene) desk().scene->refresh();
    desk().canvas.update();
}

bool WorldStage::take(Errand errand) {
    if (errand != Errand::layGround) return false;
    openOwnCard();
    return true;
}

bool WorldStage::keyHeld(const QKeySequence& key, bool isDown) {
    // Let go, the modifier may be up before the key.
    const bool isOurs = isDown ? key == QKeySequence("Shift+Q") && session_.shot().solve : isBeforeShown_;
    if (!isOurs) return false;
    showBefore(isDown);
    return true;
}

StageReport WorldStage::report() const { return worldReport(session_.shot()); }

QWidget* WorldStage::makeCard() { return makeWorldCard(session_, *this); }

void WorldStage::furnish(const Desk& desk) {
    auto ground = std::make_unique<GroundOverlay>(session_);
    ground_ = ground.get();
    desk.canvas.addOverlay(std::move(ground));
    QToolButton* grid = desk.tools.addSwitch("Grid", "The ground grid over the plate (G)", {"plate", "stand-ins"},
                                             [this, desk](bool on) {
                                                 ground_->show(on);
                                                 desk.canvas.update();
                                             });
    grid->setChecked(true);
    desk.commands.add("View", "Ground grid on the plate", {QKeySequence("G")}, [grid] { grid->click(); });
    furnishStandIns(desk);
    desk.commands.add(
        "Solve", "Ground from selected tracks", {}, [this] { setGround(); },
        [this] {
            return !session_.shot().solve          ? QString("there is no camera yet")
                   : session_.selection.size() < 3 ? QString("select three tracks on the floor")
                                                   : QString();
        });
}

void WorldStage::furnishStandIns(const Desk& desk) {
    Canvas& canvas = desk.canvas;
    auto overlay = std::make_unique<StandInOverlay>(session_, hand);
    overlay_ = overlay.get();
    overlay_->looked = desk.shown;
    canvas.addOverlay(std::move(overlay));
    auto tool = std::make_unique<StandTool>(session_, hand, canvas);
    tool_ = tool.get();
    tool_->placed = [this](const StandIn& made) { putThere(made); };
    canvas.addTool(std::move(tool));
    if (desk.scene) {
        auto inScene = std::make_unique<StandScene>(session_, hand);
        inScene_ = inScene.get();
        desk.scene->addTool(std::move(inScene));
        const auto redrawn = [scene = desk.scene] { scene->update(); };
        connect(&hand, &StandInHand::moved, desk.scene, redrawn);
        connect(&hand, &StandInHand::changed, desk.scene, redrawn);
    }
    auto sun = std::make_unique<SunTool>(session_, hand);
    sun_ = sun.get();
    canvas.addTool(std::move(sun));
    auto turn = std::make_unique<TurnTool>(session_, hand);
    turn->showInstead = [this](const std::optional<World>& world) { showWorld(world); };
    turn->turned = [this](const World& world) { apply("Turn the world", world); };
    canvas.addTool(std::move(turn));
    canvas.addSight(std::make_unique<StandInSight>(session_, hand));
    connect(&hand, &StandInHand::sceneChanged, &canvas, &Canvas::refreshView);
    connect(&hand, &StandInHand::moved, &canvas, &Canvas::refreshView);
    connect(&hand, &StandInHand::changed, &canvas, [&canvas] { canvas.update(); });
    desk.tools.addTool("stand", "Stand", "move",
                       "Stand-ins: a drag moves one over its floor; its grips raise, turn and size it (Shift+V)",
                       [this] { takeStandTool(); });
    QToolButton* seen =
        desk.tools.addSwitch("Stand-ins", "The plate with what stands in its scene", {"plate", "stand-ins"},
                             [desk](bool on) { desk.show(on ? "stand-ins" : "plate"); });
    connect(&canvas, &Canvas::looked, seen, [seen, desk] { seen->setChecked(desk.shown() == "stand-ins"); });
    const auto why = [this] { return whyNoScene(); };
    desk.commands.add(
        "World", "Does it slide?", {},
        [this] {
            openOwnCard();
            proveFoot();
        },
        [this] {
            return !whyNoScene().isEmpty() ? whyNoScene() : hand.held() ? QString() : QString("nothing stands there");
        });
    desk.commands.add(
        "World", "Move what stands in the scene", {QKeySequence("Shift+V")}, [this] { takeStandTool(); }, why);
    desk.commands.add(
        "World", "Stand a mesh in the scene…", {},
        [this] {
            openOwnCard();
            const QString path = askToOpen(FileKind::mesh, "A mesh: OBJ, PLY, glTF");
            if (!path.isEmpty()) addMesh(path.toStdString());
        },
        why);
    desk.commands.add(
        "World", "Stand a card in the scene…", {}, [this] { askForCard(); }, why);
    for (std::size_t k = 0; k < std::size_t(StandInKind::mesh); ++k)
        desk.commands.add(
            "World", QString("Stand a %1 in the scene").arg(kStandInKinds[k]), {},
            [this, k] { addStandIn(StandInKind(k)); }, why);
    desk.commands.add(
        "World", "Throw a picture on to the ground…", {}, [this] { askToThrow(true); }, why);
    desk.commands.add(
        "World", "Throw a picture on to what is held…", {}, [this] { askToThrow(false); },
        [this] {
            return !whyNoScene().isEmpty() ? whyNoScene() : hand.held() ? QString() : QString("nothing stands there");
        });
    desk.commands.add(
        "World", "Stand a locator in the scene", {}, [this] { addStandIn(StandInKind::locator); }, why);
    desk.commands.add(
        "World", "Turn the world by a drag", {}, [this] { takeTurnTool(); }, why);
    desk.commands.add(
        "World", "Sun by a shadow", {}, [this] { takeSunTool(); }, why);
    desk.commands.add(
        "View", "With stand-ins", {}, [desk] { desk.show("stand-ins"); }, [this] { return whyNoPlate(session_); });
}

QString WorldStage::whyNoScene() const {
    const QString ready = whyNotReady(session_);
    return !ready.isEmpty() ? ready : session_.shot().solve ? QString() : QString("there is no camera yet");
}

void WorldStage::enter() {
    overlay_->shown = true;
    if (inScene_) inScene_->shown = true;
    if (shown() == "plate" && !session_.shot().scene.standIns.isEmpty()) show("stand-ins");
    redraw();
}

void WorldStage::leave() {
    overlay_->shown = false;
    if (inScene_) inScene_->shown = false;
    redraw();
}

void WorldStage::takeStandTool() {
    openOwnCard();
    if (shown() != "plate" && shown() != "stand-ins") show("stand-ins");
    takeInHand("stand");
}

void WorldStage::takeSunTool() {
    openOwnCard();
    if (shown() != "plate" && shown() != "stand-ins") show("plate");
    takeInHand("sun");
    session_.say(sun_->next());
}

void WorldStage::takeTurnTool() {
    openOwnCard();
    if (shown() != "plate" && shown() != "stand-ins") show("plate");
    takeInHand("turn world");
    session_.say("Drag the ground: the world turns about up. Shift goes in steps of 5°.");
}

void WorldStage::renderScene(const std::filesystem::path& pattern) {
    if (!session_.isReady() || !session_.shot().solve) return;
    const Shot shot = session_.shot();
    const auto run = [shot, pattern, frames = session_.player.sharedFrames()](const JobLink& link) {
        const SceneWriting& writing = shot.sceneWriting;
        return runStand(*frames, shot.plate.range, *shot.solve, orientationOf(shot), sceneInWorld(shot), pattern,
                        {.manner = writing.manner,
                         .name = shot.name,
                         .passes = writing.isAlone() ? writing.passes : std::vector<ScenePass>{},
                         .shutter = writing.shutter},
                        link.progress);
    };
    const auto merge = [this, pattern](StandReport& report) {
        QString words = QString("%1%2 frames: %3")
                            .arg(report.render.stopped ? "Stopped. " : "")
                            .arg(report.render.frames + report.kept)
                            .arg(text(pattern.string()));
        if (report.render.stopped) words += ". Rendered again it goes on there.";
        if (report.kept > 0) words += QString(" (%1 were there already)").arg(report.kept);
        if (!report.unsolved.empty()) words += QString("\nNo camera on %1").arg(text(frameRanges(report.unsolved)));
        for (const std::string& problem : report.problems) words += "\n" + text(problem);
        if (!report.render.missing.empty())
            words += QString("\nNot readable in the plate: %1").arg(text(frameRanges(report.render.missing)));
        session_.say(words);
    };
    session_.jobs.start(Job<StandReport>{
        .name = "Rendering the scene", .frames = shot.plate.range.count(), .run = run, .merge = merge});
}

void WorldStage::addStandIn(StandInKind kind) {
    StandIn made;
    made.kind = kind;
    made.stance.size = usualSize(kind);
    if (kind == StandInKind::text) made.words = "Text";
    begin(std::move(made));
}

void WorldStage::addMesh(const std::filesystem::path& path) {
    if (const QString why = whyNoScene(); !why.isEmpty()) {
        session_.say(why.left(1).toUpper() + why.mid(1) + ".");
        return;
    }
    const auto run = [path](const JobLink&) { return readMesh(path); };
    const auto merge = [this, path](MeshFile& file) {
        StandIn made;
        made.kind = StandInKind::mesh;
        made.file = path;
        made.name = path.stem().string();
        made.stance.size = file.extents;
        begin(std::move(made));
    };
    session_.jobs.start(Job<MeshFile>{.name = "Reading the mesh", .run = run, .merge = merge});
}

void WorldStage::askForCard() {
    openOwnCard();
    const QString path = askToOpen(FileKind::art, "A still, or a clip or sequence by one of its files");
    if (!path.isEmpty()) addCard(path.toStdString());
}

void WorldStage::addCard(const std::filesystem::path& path) {
    if (const QString why = whyNoScene(); !why.isEmpty()) {
        session_.say(why.left(1).toUpper() + why.mid(1) + ".");
        return;
    }
    const auto run = [path](const JobLink&) { return readCard(path); };
    const auto merge = [this](CardFile& file) {
        StandIn made;
        made.kind = StandInKind::card;
        made.name = file.clip.name;
        made.stance.size = usualSize(made.kind);
        made.card.facesCamera = true;
        made.card.time.start = session_.shot().plate.range.first;
        made = withPictures(std::move(made), file);
        begin(std::move(made));
    };
    session_.jobs.start(Job<CardFile>{.name = "Reading the picture", .run = run, .merge = merge});
}

namespace {

/// What is thrown, and from which frames.
struct Throwing {
    Clip clip;
    std::vector<int> from;
};

Expected<Throwing> throwingOf(const std::vector<std::filesystem::path>& paths, int frame) {
    constexpr std::size_t kMost = 24;  // all of them are kept in memory, and each is looked at in every pixel
    if (paths.size() > kMost)
        return failure(Fault::input, "{} pictures were chosen: throw from {} frames at most", paths.size(), kMost);
    if (paths.size() == 1) {
        auto clip = clipOf(paths.front());
        if (!clip) return tl::unexpected(clip.error());
        return Throwing{*std::move(clip), {frame}};
    }
    const auto pattern = sequenceAround(paths.front());
    for (const auto& path : paths)
        if (pattern.empty() || sequenceAround(path) != pattern)
            return failure(Fault::input,
                           "{}: is no other frame of {}: number pictures of several frames by them, as "
                           "patch.1010.png and patch.1050.png",
                           path.filename().string(), paths.front().filename().string());
    auto clip = clipOf(pattern);
    const auto pictures = Plate::open(pattern);
    if (!clip) return tl::unexpected(clip.error());
    if (!pictures) return tl::unexpected(pictures.error());
    Throwing throwing{*std::move(clip), {}};
    for (int number = throwing.clip.frames.first; number <= throwing.clip.frames.last; ++number)
        if (std::find(paths.begin(), paths.end(), (*pictures)->fileOf(number)) != paths.end())
            throwing.from.push_back(number);
    return throwing;
}

}  // namespace

void WorldStage::askToThrow(bool ontoGround) {
    openOwnCard();
    std::vector<std::filesystem::path> paths;
    for (const QString& path :
         askToOpenSome(FileKind::art, "A picture painted on this frame, or several numbered by their frames"))
        paths.emplace_back(path.toStdString());
    throwPictures(std::move(paths), ontoGround);
}

void WorldStage::throwPictures(std::vector<std::filesystem::path> paths, bool ontoGround) {
    if (paths.empty()) return;
    if (const QString why = whyNoScene(); !why.isEmpty()) {
        session_.say(why.left(1).toUpper() + why.mid(1) + ".");
        return;
    }
    const Shot shot = session_.shot();
    const int frame = session_.player.frame();
    const StandInId onto = ontoGround ? 0 : hand.standIn().value_or(0);
    // Refused here in words, not by a layer that shows nothing.
    const auto run = [paths = std::move(paths), shot, frame, onto](const JobLink&) -> Expected<Throwing> {
        ThrownOn surface;
        surface.at.y() = shot.scene.ground;
        if (onto != 0)
            for (const StandIn& one : sceneInWorld(shot).standIns)
                if (one.id == onto) surface.standIn = one;
        auto throwing = throwingOf(paths, frame);
        if (!throwing) return throwing;
        if (auto checked = checkThrow(surface, throwing->from, *shot.solve, orientationOf(shot)); !checked)
            return tl::unexpected(checked.error());
        ArtShelf shelf;
        if (auto thrown = picturesThrown(throwing->clip, throwing->from, *shot.solve, orientationOf(shot), shelf);
            !thrown)
            return tl::unexpected(thrown.error());
        return throwing;
    };
    const auto merge = [this, onto](Throwing& throwing) {
        const StandIn* held = findStandIn(session_.shot(), onto);
        if (onto != 0 && !held) {
            session_.say("What it was to be thrown on is gone.");
            return;
        }
        session_.edit("Throw " + text(throwing.clip.name),
                      withPictureThrown(session_.shot(), throwing.clip, throwing.from, onto));
        show("stand-ins");
        const bool isAssumed = onto == 0 && session_.shot().world.ground.isEmpty();
        QStringList from;
        for (const int one : throwing.from) from << QString::number(one);
        session_.say(QString("Thrown from frame%1 on to %2; its grade and what is in front of it are in the Inserts "
                             "card.%3")
                         .arg(from.size() == 1 ? " " + from.front()
                                               : "s " + from.mid(0, from.size() - 1).join(", ") + " and " + from.back())
                         .arg(onto == 0 ? QString("the ground") : text(held->name))
                         .arg(isAssumed ? " No ground is set yet: until it is, height 0 is taken for it." : ""));
    };
    session_.jobs.start(Job<Throwing>{.name = "Reading the pictures", .run = run, .merge = merge});
}

void WorldStage::gatherPicture(const std::filesystem::path& path) {
    if (!hand.mayEdit()) return;
    const Shot shot = session_.shot();
    const StandInId id = *hand.standIn();
    const auto frames = session_.player.sharedFrames();
    struct Gathered {
        GatherReport report;
        std::optional<CardFile> file;  ///< of what shows pictures
    };
    const auto run = [path, shot, id, frames](const JobLink& link) -> Expected<Gathered> {
        for (const StandIn& one : sceneInWorld(shot).standIns) {
            if (one.id != id) continue;
            const auto report =
                runGather(*frames, shot.plate.range, *shot.solve, orientationOf(shot), one, path, {}, link.progress);
            if (!report) return tl::unexpected(report.error());
            Gathered gathered{*report, {}};
            if (one.kind == StandInKind::grid) return gathered;
            auto file = readCard(path);
            if (!file) return tl::unexpected(file.error());
            gathered.file = *std::move(file);
            return gathered;
        }
        return failure(Fault::input, "what was to be gathered is gone");
    };
    const auto merge = [this, id, path](Gathered& gathered) {
        const GatherReport& report = gathered.report;
        if (gathered.file)
            session_.edit("Gather", withStandInEdited(session_.shot(), id, [&](StandIn& one) {
                              one = withPictures(one, *gathered.file);
                              one.card.key.reset();  // the plate's own surface, whatever colour it has
                          }));
        session_.say(QString("%1: %2x%3 of %4 frames, %5 % of it seen")
                         .arg(text(path.filename().string()))
                         .arg(report.width)
                         .arg(report.height)
                         .arg(report.frames)
                         .arg(100 * report.seen, 0, 'f', 0));
    };
    session_.jobs.start(Job<Gathered>{.name = "Gathering from the plate", .run = run, .merge = merge});
}

void WorldStage::replaceFile(const std::filesystem::path& path) {
    if (!hand.mayEdit()) return;
    const StandInKind kind = hand.held()->kind;
    const StandInId id = *hand.standIn();
    if (kind == StandInKind::mesh) {
        const auto run = [path](const JobLink&) { return readMesh(path); };
        const auto merge = [this, path, id](MeshFile&) {
            session_.edit("Another mesh",
                          withStandInEdited(session_.shot(), id, [&](StandIn& one) { one.file = path; }));
        };
        session_.jobs.start(Job<MeshFile>{.name = "Reading the mesh", .run = run, .merge = merge});
    } else if (kind == StandInKind::card || kind == StandInKind::board) {
        const auto run = [path](const JobLink&) { return readCard(path); };
        const auto merge = [this, id](CardFile& file) {
            session_.edit("Another picture", withStandInEdited(session_.shot(), id, [&](StandIn& one) {
                              if (one.file.empty()) one.card.time.start = session_.shot().plate.range.first;
                              one = withPictures(one, file);
                          }));
        };
        session_.jobs.start(Job<CardFile>{.name = "Reading the picture", .run = run, .merge = merge});
    }
}

void WorldStage::begin(StandIn made) {
    if (const QString why = whyNoScene(); !why.isEmpty()) {
        session_.say(why.left(1).toUpper() + why.mid(1) + ".");
        return;
    }
    const Shot& shot = session_.shot();
    const Orientation orientation = orientationOf(shot);
    std::vector<Vector3d> points;
    for (const TrackId id : session_.selection.tracks())
        if (const SolvedTrack* solved = findSolved(shot, id); solved && solved->xyz)
            points.push_back(orientation.apply(*solved->xyz));
    if (!points.empty()) {
        const Vector3d eye = orientation.apply(Vector3d(shot.solve->frames.front().worldFromCamera.translation()));
        made.stance = standingOn(made.stance, made.kind, points, eye);
        // It faces the camera; should it not any more, it stands upright.
        if (made.card.facesCamera) made.stance.turn_deg.setZero();
        putThere(made);
        return;
    }
    takeStandTool();
    session_.say(hand.floorIsAssumed()
                     ? QString("This camera only turns, so how far things are is free: the ground is taken 1.6 below "
                               "it. Click where it stands.")
                     : QString("Click where the %1 stands: on the ground, or on a solved point.")
                           .arg(kStandInKinds[std::size_t(made.kind)]));
    tool_->wanted = std::move(made);
}

void WorldStage::putThere(const StandIn& made) {
    StandInId id = 0;
    Shot shot = withStandInAdded(session_.shot(), made, &id);
    shot.scene.ground = hand.floor();
    // What is new stands in the sky's light as well, and darkens the ground about its foot.
    if (session_.shot().scene.standIns.isEmpty()) shot.scene.sun.skyShadow = 1;
    session_.edit(QString("Stand a %1 in the scene").arg(kStandInKinds[std::size_t(made.kind)]), shot);
    hand.hold(id);
    show("stand-ins");
    takeInHand("stand");
    session_.say("Drag it over its floor, or its grips: up, round, larger. Shift goes in steps.");
}

std::uint64_t WorldStage::footKey() const {
    Fingerprint print;
    addWorld(print, session_.shot());
    addPlate(print, session_.shot().plate);
    if (const StandIn* held = hand.held()) {
        const Stance stance = worldStance(session_.shot(), *held, session_.player.frame());
        print.add(std::uint64_t(held->id));
        for (int i = 0; i < 3; ++i) print.add(stance.place[i]).add(stance.size[i]);
    }
    return print.value();
}

QString WorldStage::footWords() const {
    return !footWords_.isEmpty() && footKey_ == footKey() ? footWords_ : QString();
}

void WorldStage::proveFoot() {
    if (!hand.mayEdit()) return;
    if (hand.held()->carrier != 0 || !hand.held()->keys.isEmpty()) {
        session_.say("Only what stands still in the world can be held against the floor.");
        return;
    }
    const Shot shot = session_.shot();
    const Stance stance = *hand.stanceNow();
    const int frame = session_.player.frame();
    const std::uint64_t key = footKey();
    const auto run = [shot, stance, frame, frames = session_.player.sharedFrames()](const JobLink& link) {
        return runFootProof(*frames, shot.plate.range, *shot.solve, orientationOf(shot), stance, frame, 40,
                            link.progress);
    };
    const auto merge = [this, key](FootProof& proof) {
        const FootSlide& worst = proof.worst();
        footKey_ = key;
        footWords_ =
            QString("Against frame %1 the surface at its foot slides by %2 px RMS on %3 frames, by %4 px on %5.")
                .arg(proof.referenceFrame)
                .arg(proof.rms_px(), 0, 'f', 2)
                .arg(proof.frames.size())
                .arg(worst.slide_px.norm(), 0, 'f', 2)
                .arg(worst.frame);
        if (proof.unseen > 0) footWords_ += QString(" On %1 it is not seen.").arg(proof.unseen);
        emit proved();
    };
    session_.jobs.start(Job<FootProof>{.name = "Looking at its foot", .run = run, .merge = merge});
}

void WorldStage::copyStandIn() {
    if (!hand.mayEdit()) return;
    const StandIn held = *hand.held();
    StandInId id = 0;
    Shot shot = withStandInCopied(session_.shot(), held.id, &id);
    // Beside it, so that both are seen; a group all by the same.
    const Vector3d aside = held.stance.rotation() * Vector3d(1.2 * held.stance.size.x(), 0, 0);
    const std::int64_t group = findStandIn(shot, id)->group;
    for (const StandIn& copied : shot.scene.standIns.vector())
        if (copied.id == id || (group != 0 && copied.group == group))
            shot = withStandInEdited(shot, copied.id, [&](StandIn& one) {
                one.stance.place += aside;
                one.keys = one.keys.edited([&](auto& keys) {
                    for (StanceKey& key : keys) key.stance.place += aside;
                });
            });
    session_.edit("Copy " + text(held.name), shot);
    hand.hold(id);
}

void WorldStage::apply(const QString& name, const World& world) {
    const Shot& shot = session_.shot();
    if (shot.solve)
        if (const auto oriented = orient(world, *shot.solve); !oriented) {
            session_.sayError(text(oriented.error().message));
            return;
        }
    session_.edit(name, withWorld(shot, world));
}

void WorldStage::setGround() {
    World world = session_.shot().world;
    world.ground = List<TrackId>(session_.selection.list());
    apply("Set ground", world);
}

}  // namespace pinion
