// pinion-pictures: drives the real window through the demo and saves a picture of each main view.

#include "jobs/steadying.h"
#include "mainwindow.h"
#include "shot/edits/trackedits.h"
#include "theme.h"

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
    for (int waited = 0; waited < longest && window.workspace().isBusy(); waited += 50) QTest::qWait(50);
    QTest::qWait(400);
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
                      window.canvas().mapping().screenFromPlate({x, y}).toPoint());
}

/// Candidates, scatter, a track by hand, the camera, the world, the delivery.
void tourLanding(MainWindow& window, const QString& plate, const QString& folder, const Shoot& shoot) {
    Workspace& workspace = window.workspace();
    shoot("01-empty");
    workspace.open(plate.toStdString());
    settle(window);
    if (!workspace.hasPlate()) return;
    window.docket().open(Stage::tracks);
    workspace.showCandidates(true);
    settle(window);
    shoot("02-candidates");
    workspace.startScatter();
    QTest::qWait(1500);
    shoot("03-scattering");
    settle(window);
    workspace.goTo(1046);
    settle(window);
    // A point by hand on the notice board, tracked both ways.
    QTest::keyClick(&window.canvas(), Qt::Key_T);
    workspace.goTo(1001);
    settle(window);
    clickAt(window, 1042, 345);
    QTest::keyClick(&window.canvas(), Qt::Key_T, Qt::ShiftModifier);
    settle(window);
    QTest::keyClick(&window.canvas(), Qt::Key_V);
    workspace.goTo(1046);
    settle(window);
    shoot("04-track-by-hand");
    window.docket().open(Stage::camera);
    workspace.startSolve();
    settle(window);
    workspace.setTrimPreview(0.75);
    settle(window);
    shoot("05-camera");
    const auto above = workspace.tracksAbove(0.75);
    workspace.edit("Set tracks aside", withSetAside(workspace.shot(), above, true));
    workspace.setTrimPreview(0);
    // The diagonal of the notice board, as measured on the set.
    Shot measured = workspace.shot();
    const TrackId corner = nearest(measured, 1001, 957, 267, true), opposite = nearest(measured, 1001, 1049, 354, true);
    measured.solveSettings.distances = List<KnownDistance>({{corner, opposite, 1.29, 0.02}});
    workspace.edit("Add a distance", measured);
    workspace.startSolve(true);
    settle(window);
    shoot("06-solved-again");
    // Five points on the deck are the floor; the width of the board gives the scale.
    window.docket().open(Stage::world);
    workspace.goTo(1001);
    settle(window);
    std::set<TrackId> floor;
    for (const auto& [x, y] : {std::pair{420.0, 690.0}, {860.0, 690.0}, {560.0, 610.0}, {960.0, 560.0}, {300.0, 640.0}})
        floor.insert(nearest(workspace.shot(), 1001, x, y, true));
    workspace.select(floor);
    QTest::mouseClick(window.findChild<QPushButton*>("button-ground"), Qt::LeftButton);
    workspace.select({nearest(workspace.shot(), 1001, 560, 610, true)});
    QTest::mouseClick(window.findChild<QPushButton*>("button-origin"), Qt::LeftButton);
    settle(window);
    workspace.goTo(1030);
    settle(window);
    shoot("07-ground");
    window.setView(MainWindow::View::world);
    settle(window);
    shoot("08-3d");
    window.setView(MainWindow::View::plate);
    window.docket().open(Stage::delivery);
    const QString delivery = QDir::tempPath() + "/pinion-pictures";
    Shot shot = workspace.shot();
    shot.deliveryFolder = delivery.toStdString();
    workspace.edit("Choose delivery folder", shot);
    workspace.startDelivery({});
    settle(window);
    shoot("09-delivery");
    showCommandFinder(window.commands(), &window);
    QTest::qWait(300);
    if (auto* finder = window.findChild<QWidget*>("commandFinder")) {
        QTest::keyClicks(finder->findChild<QWidget*>("finderInput"), "track");
        QTest::qWait(200);
        finder->grab().save(folder + "/10-command-finder.png");
        finder->close();
    }
}

/// The plate check, spots, ties, curves; the mooring steadied; its shake lent to the breakwater.
void tourHarbour(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Workspace& workspace = window.workspace();
    Canvas& canvas = window.canvas();
    workspace.open((plates + "/mooring.mp4").toStdString());
    settle(window);
    window.docket().open(Stage::plate);
    workspace.startPlateCheck();
    settle(window);
    workspace.startScatter();
    settle(window);
    shoot("11-plate-check");
    // Spots on the breakwater, the best of them placed and tracked.
    window.docket().open(Stage::tracks);
    workspace.goTo(1001);
    settle(window);
    QTest::keyClick(&canvas, Qt::Key_P, Qt::ShiftModifier);
    const QPoint from = canvas.mapping().screenFromPlate({420, 330}).toPoint(),
                 to = canvas.mapping().screenFromPlate({760, 560}).toPoint();
    QTest::mousePress(&canvas, Qt::LeftButton, {}, from);
    QTest::mouseMove(&canvas, to);
    QTest::mouseRelease(&canvas, Qt::LeftButton, {}, to);
    settle(window);
    QTest::mouseMove(&canvas, canvas.mapping().screenFromPlate({880, 505}).toPoint());
    QTest::qWait(300);
    QTest::mouseMove(&canvas, canvas.mapping().screenFromPlate({882, 505}).toPoint());
    QTest::qWait(500);
    shoot("12-spots");
    if (!workspace.proposals().empty()) {
        const Eigen::Vector2d best = workspace.proposals().front().at;
        clickAt(window, best.x(), best.y());
    }
    workspace.clearProposals();
    QTest::keyClick(&canvas, Qt::Key_V);
    QTest::keyClick(&canvas, Qt::Key_T, Qt::ShiftModifier);
    settle(window);
    workspace.goTo(1048);
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
    workspace.select({});
    QTest::keyClick(&canvas, Qt::Key_A, Qt::ControlModifier | Qt::ShiftModifier);
    settle(window);
    if (!QTest::qWaitFor([&] { return workspace.plan() != nullptr; }, 20000)) return;
    workspace.goTo(1070);
    settle(window);
    shoot("15-steady");
    window.setView(MainWindow::View::wipe);
    settle(window);
    shoot("16-compare");
    // The shake of the mooring on the breakwater.
    const auto profile = runTakeShake(workspace.shot(), 0.3);
    workspace.open((plates + "/breakwater.mp4").toStdString());
    settle(window);
    if (!profile) return;
    Shot shot = workspace.shot();
    shot.steady.shake = true;
    shot.steady.profile = std::make_shared<const ShakeProfile>(*profile);
    workspace.edit("Lend a shake", shot);
    window.setView(MainWindow::View::steady);
    window.showCurves(true);
    window.curves().setCurve(CurvesPanel::Curve::shake);
    if (!QTest::qWaitFor([&] { return workspace.plan() != nullptr; }, 20000)) return;
    workspace.goTo(1040);
    settle(window);
    shoot("17-shake");
}

/// A camera that only turns, with its directions on a sphere; a zoom with its curve.
void tourKinds(MainWindow& window, const QString& plates, const Shoot& shoot) {
    Workspace& workspace = window.workspace();
    for (const bool zoom : {false, true}) {
        workspace.open((plates + (zoom ? "/zoom.mp4" : "/pan.mp4")).toStdString());
        settle(window);
        window.setView(MainWindow::View::plate);
        workspace.startScatter();
        settle(window);
        window.docket().open(Stage::camera);
        workspace.startSolve();
        settle(window);
        workspace.goTo(zoom ? 1030 : 1050);
        if (zoom) {
            window.showCurves(true);
            window.curves().setCurve(CurvesPanel::Curve::focal);
            settle(window);
            shoot("19-zoom");
            window.showCurves(false);
        } else {
            window.setView(MainWindow::View::world);
            settle(window);
            shoot("18-nodal");
        }
    }
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
    if (only.isEmpty() || only == "landing") tourLanding(window, plates + "/landing.mp4", folder, shoot);
    if (only.isEmpty() || only == "harbour") tourHarbour(window, plates, shoot);
    if (only.isEmpty() || only == "kinds") tourKinds(window, plates, shoot);
    window.setProperty("closing", true);
    return 0;
}
