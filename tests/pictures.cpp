// pinion-pictures: drives the real window through the demo and saves a picture of each main view.

#include "mainwindow.h"
#include "theme.h"

#include <QApplication>
#include <QDir>
#include <QPushButton>
#include <QStandardPaths>
#include <QTest>

#include <cmath>
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
        if (solvedOnly && (!solved || !solved->xyz || solved->role == TrackRole::disagreed || solved->rms_px > 0.6)) continue;
        const double d = std::hypot(sample->at.x() - x, sample->at.y() - y);
        if (d < distance) {
            distance = d;
            best = track.id;
        }
    }
    return best;
}

}  // namespace

int main(int argc, char** argv) {
    QStandardPaths::setTestModeEnabled(true);
    QApplication application(argc, argv);
    QApplication::setApplicationName("pinion-pictures");
    theme::apply(application);
    const QString plate = argc > 1 ? argv[1] : "demo/plates/landing.mp4";
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
    Workspace& workspace = window.workspace();
    shoot("01-empty");
    workspace.open(plate.toStdString());
    settle(window);
    if (!workspace.hasPlate()) return 1;
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
    const auto click = [&](double x, double y, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        QTest::mouseClick(&window.canvas(), Qt::LeftButton, modifiers, window.canvas().mapping().screenFromPlate({x, y}).toPoint());
    };
    click(1042, 345);
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
    workspace.startSolve();
    settle(window);
    shoot("06-solved-again");
    // Five points on the deck are the floor; the width of the board gives the scale.
    window.docket().open(Stage::world);
    workspace.goTo(1001);
    settle(window);
    std::set<TrackId> floor;
    for (const auto& [x, y] : {std::pair{420.0, 690.0}, {860.0, 690.0}, {560.0, 610.0}, {960.0, 560.0}, {300.0, 640.0}}) floor.insert(nearest(workspace.shot(), 1001, x, y, true));
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
    window.setProperty("closing", true);
    return 0;
}
