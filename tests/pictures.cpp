// pinion-pictures: drives the real window through the demo and saves a picture of each main view.

#include "jobs/steadying.h"
#include "mainwindow.h"
#include "stages/camera/camerastage.h"
#include "stages/delivery/deliverystage.h"
#include "stages/mattes/mattesstage.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/planeedits.h"
#include "shot/edits/sceneedits.h"
#include "stages/inserts/insertsstage.h"
#include "stages/planes/planesstage.h"
#include "stages/plate/platestage.h"
#include "stages/steady/steadystage.h"
#include "stages/tracks/trackjobs.h"
#include "stages/tracks/tracksstage.h"
#include "stages/world/worldstage.h"
#include "shot/edits/trackedits.h"
#include "widgets/theme.h"

#include <QApplication>
#include <QDir>
#include <QPushButton>
#include <QStandardPaths>
#include <QTest>

#include <cmath>
#include <functional>
#include <set>

namespace {

using namespace pinion;

void settle(MainWindow& window, int longest = 60000) {
    QTest::qWait(150);
    for (int waited = 0; waited < longest && (window.session().isBusy() || window.session().ties.isTracking());
         waited += 50)
        QTest::qWait(50);
    // What a sight shows is worked out from the shot, and then made.
    for (int quiet = 0; quiet < 8 && longest > 0; longest -= 50) {
        QTest::qWait(50);
        const bool isShown = !window.session().hasPlate() || window.canvas().isUpToDate();
        quiet = isShown ? quiet + 1 : 0;
    }
}

TrackId nearest(const Shot& shot, int frame, double x, double y, bool solvedOnly) {
    TrackId best = 0;
    double distance = 1e9;
    for (const Track& track : shot.tracks) {
        const Sample* sample = sampleAt(track, frame);
        if (!sample) continue;
        const SolvedTrack* solved = findSolved(shot, track.id);
        if (solvedOnly && (!solved || !solved->xyz || solved->role == TrackRole::disagreed || solved->rms_px > 0.6))
            continue;
        const double d = std::hypot(sample->at.x() - x, sample->at.y() - y);
        if (d < distance) {
            distance = d;
            best = track.id;
        }
    }
    return best;
}

using Shoot = std::function<void(const QString&)>;

void clickAt(MainWindow& window, double x, double y, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
    QTest::mouseClick(&window.canvas(), Qt::LeftButton, modifiers,
                      window.canvas().view().screenFromPlate({x, y})->toPoint());
}

/// Lines along what is straight, the lens they give, the plate without it.
void tourLens(MainWindow& window, const QString& plate, const Shoot& shoot) {
    Session& session = window.session();
    session.open(plate.toStdString());
    settle(window);
    if (!session.hasPlate()) return;
    window.docket().open("lens");
    QTest::keyClick(&window.canvas(), Qt::Key_L);
    const auto line = [&](int frame, std::initializer_list<std::pair<double, double>> places) {
        session.player.goTo(frame);
        settle(window);
        for (const auto& [x, y] : places) clickAt(window, x, y);
        QTest::keyClick(&window.canvas(), Qt::Key_Return);
    };
    line(1041, {{756, 42}, {970, 52}, {1185, 63}});
    line(1041, {{820, 163}, {1050, 168}, {1270, 173}});
    line(1076, {{735, 5}, {970, 14}, {1200, 28}});
    line(1120, {{685, 104}, {980, 105}, {1270, 108}});
    line(1001, {{780, 70}, {960, 81}, {1140, 94}});
    line(1120, {{720, 129}, {980, 130}, {1270, 133}});
    settle(window);
    shoot("20-lens-lines");
    QTest::keyClick(&window.canvas(), Qt::Key_L, Qt::ShiftModifier);
    QTest::keyClick(&window.canvas(), Qt::Key_6, Qt::ControlModifier);
    settle(window);
    QTest::qWait(300);
    shoot("21-undistorted");
    QTest::keyClick(&window.canvas(), Qt::Key_L, Qt::ShiftModifier);
    QTest::keyClick(&window.canvas(), Qt::Key_8, Qt::ControlModifier);
    settle(window);
    QTest::qWait(1500);
}

/// Candidates, scatter, a track by hand, the camera, the world, the delivery.
/// What moves, proposed and accepted; the solve before and after; the shape with its points.
void shootMattes(MainWindow& window, const Shoot& shoot) {
    Session& session = window.session();
    MattesStage& mattes = window.stage<MattesStage>();
    window.docket().open("mattes");
    for (int waited = 0; waited < 20000 && mattes.proposals.list().empty(); waited += 100) QTest::qWait(100);
    if (mattes.proposals.list().empty()) return;
    session.player.goTo(1069);
    mattes.proposals.accept(0);
    window.stage<CameraStage>().startSolve(true);
    settle(window);
    QTest::keyClick(&window.canvas(), Qt::Key_Q);
    mattes.hand.setPoints({0, 1, 2});
    settle(window);
    shoot("24-mattes");
    QTest::keyClick(&window.canvas(), Qt::Key_V);
}

/// A person, a box and a board on the deck, put there by clicks; the person is held.
void standThings(MainWindow& window, const QString& plate, const Shoot& shoot) {
    Session& session = window.session();
    session.selection.set({});
    window.docket().open("world");
    window.show("plate");
    session.player.goTo(1030);
    settle(window);
    WorldStage& world = window.stage<WorldStage>();
    const auto stand = [&](StandInKind kind, double x, double y, const std::function<void(StandIn&)>& change) {
        world.addStandIn(kind);
        settle(window);
        clickAt(window, x, y);
        settle(window);
        if (world.hand.held()) world.hand.edit("Change", change);
        settle(window);
    };
    Sun sun;
    sun.towards = {-0.85, 0.55, 0.2};
    session.edit("Sun", withSun(session.shot(), sun));
    stand(StandInKind::board, 560, 600, [](StandIn& one) { one.stance.turn_deg = {-90, 20, 0}; });
    stand(StandInKind::box, 770, 560, [](StandIn& one) {
        one.stance.turn_deg.y() = 30;
        one.colour = {0.75, 0.45, 0.25};
    });
    stand(StandInKind::figure, 640, 520, [](StandIn& one) {
        one.stance.turn_deg.y() = 20;
        one.colour = {0.45, 0.55, 0.6};
    });
    // A place that is handed on by its name.
    world.addStandIn(StandInKind::locator);
    settle(window);
    clickAt(window, 905, 380);
    settle(window);
    if (world.hand.held()) session.edit("Name", withStandInRenamed(session.shot(), *world.hand.standIn(), "timetable"));
    // A lamp post on the deck, behind the trolley that passes.
    world.addMesh((plate.section('/', 0, -2) + "/.." + "/lamp-post.obj").toStdString());
    settle(window);
    clickAt(window, 470, 600);
    settle(window);
    // An actor before a green cloth.
    world.addCard((plate.section('/', 0, -2) + "/.." + "/deckhand.mp4").toStdString());
    settle(window);
    clickAt(window, 900, 560);
    settle(window);
    if (!session.shot().mattes.isEmpty())
        session.edit("In front",
                     withSceneHeldOut(session.shot(), std::vector<MatteId>{session.shot().mattes.front().id}));
    settle(window);
    shoot("28-stand-ins");
    // A puddle that was painted on this frame, seen from where the camera has gone to.
    world.throwPictures({(plate.section('/', 0, -2) + "/.." + "/puddle.png").toStdString()}, true);
    settle(window);
    session.player.goTo(1046);
    settle(window);
    QTest::qWait(1500);
    shoot("29-thrown");
    session.player.goTo(1030);
    window.show("3d");
    settle(window);
    shoot("08-3d");
}

void tourLanding(MainWindow& window, const QString& plate, const Shoot& shoot) {
    Session& session = window.session();
    session.open(plate.toStdString());
    settle(window);
    if (!session.hasPlate()) return;
    window.docket().open("tracks");
    window.stage<TracksStage>().candidates.show(true);
    settle(window);
    startScatter(session);
    QTest::qWait(1500);
    settle(window);
    session.player.goTo(1046);
    settle(window);
    // A point by hand on the notice board, tracked both ways.
    QTest::keyClick(&window.canvas(), Qt::Key_T);
    session.player.goTo(1001);
    settle(window);
    clickAt(window, 1042, 345);
    QTest::keyClick(&window.canvas(), Qt::Key_T, Qt::ShiftModifier);
    settle(window);
    QTest::keyClick(&window.canvas(), Qt::Key_V);
    session.player.goTo(1046);
    settle(window);
    shoot("04-track-by-hand");
    window.docket().open("camera");
    window.stage<CameraStage>().startSolve();
    settle(window);
    window.stage<CameraStage>().setTrimPreview(0.75);
    settle(window);
    const auto above = window.stage<CameraStage>().tracksAbove(0.75);
    session.edit("Set tracks aside", withSetAside(session.shot(), above, true));
    window.stage<CameraStage>().setTrimPreview(0);
    // The diagonal of the notice board, as measured on the set.
    Shot measured = session.shot();
    const TrackId corner = nearest(measured, 1001, 957, 267, true), opposite = nearest(measured, 1001, 1049, 354, true);
    measured.solveSettings.distances = List<KnownDistance>({{corner, opposite, 1.29, 0.02}});
    session.edit("Add a distance", measured);
    window.stage<CameraStage>().startSolve(true);
    settle(window);
    shoot("06-solved-again");
    shootMattes(window, shoot);
    // Five points on the deck are the floor; the width of the board gives the scale.
    window.docket().open("world");
    session.player.goTo(1001);
    settle(window);
    std::set<TrackId> floor;
    for (const auto& [x, y] : {std::pair{420.0, 690.0}, {860.0, 690.0}, {560.0, 610.0}, {960.0, 560.0}, {300.0, 640.0}})
        floor.insert(nearest(session.shot(), 1001, x, y, true));
    session.selection.set(floor);
    QTest::mouseClick(window.findChild<QPushButton*>("button-ground"), Qt::LeftButton);
    session.selection.set({nearest(session.shot(), 1001, 560, 610, true)});
    QTest::mouseClick(window.findChild<QPushButton*>("button-origin"), Qt::LeftButton);
    settle(window);
    session.player.goTo(1030);
    settle(window);
    shoot("07-ground");
    standThings(window, plate, shoot);
    window.show("plate");
    window.docket().open("delivery");
    const QString folderOut = QDir::tempPath() + "/pinion-pictures";
    Shot shot = session.shot();
    shot.deliveryFolder = folderOut.toStdString();
    session.edit("Choose delivery folder", shot);
    window.stage<DeliveryStage>().startDelivery({});
    settle(window);
    shoot("09-delivery");
}

/// The plate check, spots, ties, curves; the mooring steadied; its shake lent to the breakwater.
void tourHarbour(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Session& session = window.session();
    Canvas& canvas = window.canvas();
    session.open((plates + "/mooring.mp4").toStdString());
    settle(window);
    window.docket().open("plate");
    window.stage<PlateStage>().startCheck();
    settle(window);
    startScatter(session);
    settle(window);
    shoot("11-plate-check");
    // Spots on the breakwater, the best of them placed and tracked.
    window.docket().open("tracks");
    session.player.goTo(1001);
    settle(window);
    QTest::keyClick(&canvas, Qt::Key_P, Qt::ShiftModifier);
    const QPoint from = canvas.view().screenFromPlate({420, 330})->toPoint(),
                 to = canvas.view().screenFromPlate({760, 560})->toPoint();
    QTest::mousePress(&canvas, Qt::LeftButton, {}, from);
    QTest::mouseMove(&canvas, to);
    QTest::mouseRelease(&canvas, Qt::LeftButton, {}, to);
    settle(window);
    QTest::mouseMove(&canvas, canvas.view().screenFromPlate({880, 505})->toPoint());
    QTest::qWait(300);
    QTest::mouseMove(&canvas, canvas.view().screenFromPlate({882, 505})->toPoint());
    QTest::qWait(500);
    if (!window.stage<TracksStage>().spots.all().empty()) {
        const Eigen::Vector2d best = window.stage<TracksStage>().spots.all().front().at;
        clickAt(window, best.x(), best.y());
    }
    window.stage<TracksStage>().spots.clear();
    QTest::keyClick(&canvas, Qt::Key_V);
    QTest::keyClick(&canvas, Qt::Key_T, Qt::ShiftModifier);
    settle(window);
    session.player.goTo(1048);
    settle(window);
    for (int i = 0; i < 6; ++i) QTest::keyClick(&canvas, Qt::Key_Right);
    settle(window);
    QTest::qWait(600);
    settle(window);
    canvas.zoomTo(2.0);
    window.proof().setDifference(true);
    shoot("13-ties");
    window.proof().setDifference(false);
    canvas.fit();
    window.showCurves(true);
    shoot("14-curves");
    window.showCurves(false);
    // Held on all tracks.
    session.selection.set({});
    QTest::keyClick(&canvas, Qt::Key_A, Qt::ControlModifier | Qt::ShiftModifier);
    settle(window);
    if (!QTest::qWaitFor([&] { return window.stage<SteadyStage>().plan() != nullptr; }, 20000)) return;
    session.player.goTo(1070);
    settle(window);
    window.show("wipe");
    settle(window);
    shoot("16-compare");
    // The shake of the mooring on the breakwater.
    const auto profile = runTakeShake(session.shot(), 0.3);
    session.open((plates + "/breakwater.mp4").toStdString());
    settle(window);
    if (!profile) return;
    Shot shot = session.shot();
    shot.steady.shake = true;
    shot.steady.profile = std::make_shared<const ShakeProfile>(*profile);
    session.edit("Lend a shake", shot);
    window.show("steady");
    window.showCurves(true);
    window.curves().setCurve("shake");
    if (!QTest::qWaitFor([&] { return window.stage<SteadyStage>().plan() != nullptr; }, 20000)) return;
    session.player.goTo(1040);
    settle(window);
    shoot("17-shake");
}

/// Opens a plate, scatters over it and solves.
void openSolved(MainWindow& window, const QString& plate) {
    Session& session = window.session();
    session.open(plate.toStdString());
    settle(window);
    window.show("plate");
    startScatter(session);
    settle(window);
    window.docket().open("camera");
    window.stage<CameraStage>().startSolve();
    settle(window, 300000);
}

/// A camera that only turns, with its directions on a sphere; a zoom with its curve.
void tourKinds(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Session& session = window.session();
    for (const bool zoom : {false, true}) {
        openSolved(window, plates + (zoom ? "/zoom.mp4" : "/pan.mp4"));
        session.player.goTo(zoom ? 1030 : 1050);
        if (zoom) {
            window.showCurves(true);
            window.curves().setCurve("focal");
            settle(window);
            shoot("19-zoom");
            window.showCurves(false);
        } else {
            window.show("3d");
            settle(window);
        }
    }
}

/// The ferry as an object beside the solved quay.
void tourMovers(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Session& session = window.session();
    openSolved(window, plates + "/ferry.mp4");
    if (!session.shot().solve || session.shot().solve->movers.isEmpty()) return;
    window.stage<CameraStage>().addObject(session.shot().solve->movers[0].tracks);
    settle(window, 300000);
    session.player.goTo(1040);
    window.show("3d");
    settle(window);
    shoot("27-object");
}

/// The notice board tracked from the middle both ways, with a test picture on its surface.
void tourPlanes(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Session& session = window.session();
    session.open((plates + "/board.mp4").toStdString());
    settle(window);
    window.show("plate");
    window.docket().open("planes");
    PlanesStage& planes = window.stage<PlanesStage>();
    session.player.goTo(1050);
    settle(window);
    planes.takeTool("plane");
    for (const auto& [x, y] : {std::pair{470.0, 225.0}, {845.0, 225.0}, {845.0, 480.0}, {470.0, 480.0}})
        clickAt(window, x, y);
    clickAt(window, 470, 225);
    planes.track(Direction::both);
    settle(window);
    planes.surfaceFromOutline();
    planes.hand.setTestPicture(true);
    session.player.goTo(1056);
    settle(window);
    shoot("25-planes");
}

/// The timetable on the notice board, with the mast passing before it.
void tourInserts(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Session& session = window.session();
    session.open((plates + "/board.mp4").toStdString());
    settle(window);
    session.player.goTo(1050);
    settle(window);
    Shot shot = withPlaneAdded(session.shot(), {{470, 225}, {845, 225}, {845, 480}, {470, 480}}, 1050);
    session.edit("Plane", shot);
    window.docket().open("planes");
    window.stage<PlanesStage>().track(Direction::both);
    settle(window);
    session.player.goTo(1050);
    shot = *withPlaneTie(session.shot(), session.shot().planes[0].id, 1050,
                         {Eigen::Vector2d(445, 268), {868, 267}, {866, 497}, {445, 495}});
    Matte mast;
    mast.name = "mast";
    mast.keys = {{1001, {{774, 0}, {863, 0}, {863, 720}, {774, 720}}},
                 {1022, {{600, 0}, {704, 0}, {705, 720}, {602, 720}}},
                 {1050, {{203, 0}, {328, 0}, {329, 720}, {202, 720}}}};
    mast.feather_px = 1.5;
    session.edit("Mast", withMatteAdded(shot, mast));
    InsertsStage& inserts = window.stage<InsertsStage>();
    window.docket().open("inserts");
    inserts.addArt((plates + "/../timetable.png").toStdString());
    settle(window);
    inserts.fit(Fitting::corners);
    inserts.hand.edit("In front", [](Insert& insert) { insert.heldOut = std::vector<MatteId>{1}; });
    settle(window);
    session.player.goTo(1022);
    settle(window);
    shoot("26-inserts");
}

}  // namespace

int main(int argc, char** argv) {
    QStandardPaths::setTestModeEnabled(true);
    QApplication application(argc, argv);
    QApplication::setApplicationName("pinion-pictures");
    theme::apply(application);
    const QString plates = argc > 1 ? argv[1] : "demo/plates";
    const QString folder = argc > 2 ? argv[2] : "docs/screenshots";
    QDir().mkpath(folder);
    MainWindow window;
    window.resize(1280, 800);
    window.show();
    if (!QTest::qWaitForWindowExposed(&window)) return 1;
    QApplication::setActiveWindow(&window);
    const auto shoot = [&](const QString& name) {
        QTest::qWait(300);
        window.grab().save(folder + "/" + name + ".png");
        qInfo("%s", qPrintable(name));
    };
    // A third word chooses one of the tours.
    const QString only = argc > 3 ? argv[3] : "";
    if (only.isEmpty() || only == "landing") tourLanding(window, plates + "/landing.mp4", shoot);
    if (only.isEmpty() || only == "lens") tourLens(window, plates + "/landing.mp4", shoot);
    if (only.isEmpty() || only == "harbour") tourHarbour(window, plates, shoot);
    if (only.isEmpty() || only == "kinds") tourKinds(window, plates, shoot);
    if (only.isEmpty() || only == "movers") tourMovers(window, plates, shoot);
    if (only.isEmpty() || only == "planes") tourPlanes(window, plates, shoot);
    if (only.isEmpty() || only == "inserts") tourInserts(window, plates, shoot);
    window.setProperty("closing", true);
    return 0;
}
