// Drives the real window with mouse and keys and checks what the user would see. Runs under Xvfb.

#define CATCH_CONFIG_RUNNER
#include <catch2/catch.hpp>

#include "base/files.h"
#include "errorhistogram.h"
#include "mainwindow.h"
#include "scratch.h"
#include "shot/shotfile.h"
#include "theme.h"

#include <QApplication>
#include <QCloseEvent>
#include <QDropEvent>
#include <QLabel>
#include <QLineEdit>
#include <QListWidget>
#include <QMimeData>
#include <QMouseEvent>
#include <QPushButton>
#include <QSpinBox>
#include <QStandardPaths>
#include <QTableWidget>
#include <QTest>
#include <QUrl>
#include <QWheelEvent>
#include <csignal>
#include <sys/wait.h>
#include <unistd.h>

using namespace pinion;
using Eigen::Vector2d;

namespace {

const std::string kPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.mp4";

/// A shown, active window; closed without questions at the end.
struct Fixture {
    MainWindow window;
    Workspace& workspace = window.workspace();
    Canvas& canvas = window.canvas();

    Fixture() {
        window.resize(1280, 800);
        window.show();
        REQUIRE(QTest::qWaitForWindowExposed(&window));
        QApplication::setActiveWindow(&window);
        canvas.setFocus();
    }
    ~Fixture() {
        workspace.stopJob();
        wait();
        window.setProperty("closing", true);
        window.close();
    }
    void wait(int longest = 90000) {
        QTest::qWait(60);
        for (int waited = 0; waited < longest && workspace.isBusy(); waited += 20) QTest::qWait(20);
        REQUIRE_FALSE(workspace.isBusy());
        QTest::qWait(120);
    }
    void openPlate(const std::string& path = kPlate) {
        workspace.open(path);
        wait();
        REQUIRE(workspace.hasPlate());
        REQUIRE(QTest::qWaitFor([&] { return workspace.picture() != nullptr; }, 5000));
    }
    QPoint screen(double x, double y) { return canvas.mapping().screenFromPlate({x, y}).toPoint(); }
    void key(Qt::Key k, Qt::KeyboardModifiers m = Qt::NoModifier) {
        QTest::keyClick(&canvas, k, m);
        QTest::qWait(20);
    }
    QPushButton* button(const char* name) {
        auto* found = window.findChild<QPushButton*>(name);
        REQUIRE(found);
        return found;
    }
    /// Colour of the window's picture at a place of the plate.
    QColor seen(double x, double y) { return canvas.grab().toImage().pixelColor(screen(x, y)); }
};

}  // namespace

TEST_CASE("an opened plate is shown at once, with its facts, and can be stepped, played and scrubbed") {
    Fixture f;
    f.openPlate();
    CHECK(f.window.findChild<QLabel*>("shotName")->text() == "landing");
    CHECK(f.window.findChild<QLabel*>("frame")->text() == "1001");
    // The notice board's paper is light where the plate says so.
    CHECK(f.seen(1000, 345).lightness() > 120);
    f.key(Qt::Key_Period);
    CHECK(f.workspace.frame() == 1002);
    f.key(Qt::Key_Comma);
    f.key(Qt::Key_End);
    CHECK(f.workspace.frame() == 1120);
    f.key(Qt::Key_Home);
    CHECK(f.workspace.frame() == 1001);
    ThreadSheet& sheet = f.window.threadSheet();
    QTest::mouseClick(&sheet, Qt::LeftButton, {}, QPoint(int(sheet.xOfFrame(1060)), sheet.rulerRect().center().y()));
    CHECK(f.workspace.frame() == 1060);
    REQUIRE(QTest::qWaitFor([&] { return f.workspace.pictureFrame() == 1060; }, 5000));
    f.key(Qt::Key_Space);
    CHECK(f.workspace.isPlaying());
    CHECK(QTest::qWaitFor([&] { return f.workspace.frame() > 1066; }, 5000));
    f.key(Qt::Key_Space);
    CHECK_FALSE(f.workspace.isPlaying());
}

TEST_CASE("playing loops inside the range that the handles trim, and trimming can be undone") {
    Fixture f;
    f.openPlate();
    ThreadSheet& sheet = f.window.threadSheet();
    const int y = sheet.rulerRect().center().y();
    const double half = 0.5 * (sheet.xOfFrame(1002) - sheet.xOfFrame(1001));
    QTest::mousePress(&sheet, Qt::LeftButton, {}, QPoint(qRound(sheet.xOfFrame(1120) + half), y));
    QTest::mouseMove(&sheet, QPoint(int(sheet.xOfFrame(1040)), y));
    QTest::mouseMove(&sheet, QPoint(int(sheet.xOfFrame(1010)), y));
    QTest::mouseRelease(&sheet, Qt::LeftButton, {}, QPoint(int(sheet.xOfFrame(1010)), y));
    CHECK(f.workspace.shot().plate.range == FrameRange{1001, 1010});
    f.workspace.goTo(1008);
    f.workspace.setPlaying(true);
    CHECK(QTest::qWaitFor([&] { return f.workspace.frame() == 1002; }, 8000));
    f.workspace.setPlaying(false);
    CHECK(f.workspace.history().undoName() == "Range 1001–1010");
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.workspace.shot().plate.range == FrameRange{1001, 1120});
}

TEST_CASE("a click with the tool in hand places a track, one without does not; it is nudged, tracked, moved and undone") {
    Fixture f;
    f.openPlate();
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(1042, 345));
    CHECK(f.workspace.shot().tracks.isEmpty());
    f.key(Qt::Key_T);
    REQUIRE(f.canvas.tool() == Tool::place);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(1042, 345));
    REQUIRE(f.workspace.shot().tracks.size() == 1);
    const Vector2d placed = f.workspace.shot().tracks[0].samples[0].at;
    CHECK((placed - Vector2d(1042, 345)).norm() < 1.5);
    CHECK(f.workspace.selection().size() == 1);
    f.key(Qt::Key_Right);
    f.key(Qt::Key_Down, Qt::ShiftModifier);
    CHECK((f.workspace.shot().tracks[0].samples[0].at - placed - Vector2d(0.1, 1.0)).norm() < 1e-9);
    f.key(Qt::Key_F, Qt::ShiftModifier);
    f.wait();
    const Track& track = f.workspace.shot().tracks[0];
    CHECK(track.samples.size() > 60);
    CHECK(f.workspace.frame() == track.lastFrame());
    // Dragging it on a frame makes a tie there.
    f.key(Qt::Key_V);
    f.workspace.goTo(1020);
    REQUIRE(QTest::qWaitFor([&] { return f.workspace.pictureFrame() == 1020; }, 5000));
    const Vector2d before = sampleAt(f.workspace.shot().tracks[0], 1020)->at;
    const QPoint at = f.canvas.mapping().screenFromPlate(before).toPoint();
    QTest::mousePress(&f.canvas, Qt::LeftButton, {}, at);
    QTest::mouseMove(&f.canvas, at + QPoint(6, 0));
    QTest::mouseMove(&f.canvas, at + QPoint(12, 0));
    QTest::mouseRelease(&f.canvas, Qt::LeftButton, {}, at + QPoint(12, 0));
    const Sample* moved = sampleAt(f.workspace.shot().tracks[0], 1020);
    CHECK(moved->tie);
    CHECK(moved->at.x() > before.x() + 2);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK((sampleAt(f.workspace.shot().tracks[0], 1020)->at - before).norm() < 1e-12);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, QPoint(3, 3));
    CHECK(f.workspace.shot().tracks.size() == 1);
}

TEST_CASE("candidates, scatter, solve, set aside, solve again, ground, delivery: the whole path in the window") {
    Fixture f;
    const test::Scratch scratch;
    f.openPlate();
    f.window.docket().open(Stage::tracks);
    auto* features = f.window.findChild<QSpinBox*>("features");
    features->setValue(220);
    QTest::mouseClick(f.button("button-candidates"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !f.workspace.candidates().empty(); }, 5000));
    CHECK(f.workspace.candidates().size() > 150);
    QTest::mouseClick(f.button("button-scatter"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !f.workspace.livePoints().empty(); }, 10000));
    CHECK(f.window.findChild<QWidget*>("jobArea")->isVisible());
    f.wait();
    REQUIRE(f.workspace.shot().tracks.size() > 220);
    CHECK(f.workspace.stages()[1].state == StageState::done);

    f.key(Qt::Key_Return, Qt::ControlModifier);
    f.wait();
    REQUIRE(f.workspace.shot().solve);
    CHECK(f.workspace.shot().solve->rms_px < 0.6);
    CHECK(f.window.docket().openStage() == Stage::camera);
    CHECK(f.window.findChild<QLabel*>("solveResults")->text().contains("Held out"));

    auto* histogram = f.window.findChild<ErrorHistogram*>("errorHistogram");
    REQUIRE(histogram->isVisible());
    QTest::mouseClick(histogram, Qt::LeftButton, {}, QPoint(int(histogram->xOfError(0.8)), 20));
    const auto going = f.workspace.tracksAbove(f.workspace.trimPreview());
    REQUIRE(!going.empty());
    auto* aside = f.window.findChild<QPushButton*>("button-set-aside");
    CHECK(aside->text() == QString("Set %1 aside").arg(going.size()));
    QTest::mouseClick(aside, Qt::LeftButton);
    CHECK(findTrack(f.workspace.shot(), going.front())->setAside);
    CHECK(f.workspace.stages()[2].state == StageState::stale);
    const double before = f.workspace.shot().solve->rms_px;
    QTest::mouseClick(f.button("button-solve"), Qt::LeftButton);
    f.wait();
    CHECK(f.workspace.shot().solve->rms_px < before);
    REQUIRE(f.workspace.previousSolve());
    CHECK(f.window.findChild<QLabel*>("solveResults")->text().contains("before"));

    // Points on the deck by clicking them.
    f.window.docket().open(Stage::world);
    std::vector<TrackId> floor;
    for (const Track& track : f.workspace.shot().tracks) {
        const Sample* sample = sampleAt(track, f.workspace.frame());
        const SolvedTrack* solved = findSolved(f.workspace.shot(), track.id);
        if (sample && solved && solved->xyz && solved->role != TrackRole::disagreed && sample->at.y() > 590 && sample->at.x() < 620 && sample->at.x() > 330) floor.push_back(track.id);
    }
    REQUIRE(floor.size() >= 3);
    f.workspace.select({floor.begin(), floor.end()});
    QTest::mouseClick(f.button("button-ground"), Qt::LeftButton);
    REQUIRE_FALSE(f.workspace.shot().world.ground.isEmpty());
    const Orientation orientation = orientationOf(f.workspace.shot());
    for (const SolvedFrame& frame : f.workspace.shot().solve->frames) CHECK(orientation.apply(Eigen::Vector3d(frame.worldFromCamera.translation())).y() > 0);
    CHECK(f.workspace.history().undoName() == "Set ground");
    f.window.setView(MainWindow::View::world);
    QTest::qWait(200);
    if (f.window.worldView()) {
        // Something other than the ground colour is on show.
        const QImage scene = f.window.worldView()->grabFramebuffer();
        int lit = 0;
        for (int y = 0; y < scene.height(); y += 2)
            for (int x = 0; x < scene.width(); x += 2) lit += scene.pixelColor(x, y).lightness() > 90;
        CHECK(lit > 300);
    }

    Shot shot = f.workspace.shot();
    shot.deliveryFolder = (scratch / "out").string();
    f.workspace.edit("Choose delivery folder", shot);
    QTest::mouseClick(f.button("deliver"), Qt::LeftButton);
    f.wait();
    CHECK(f.workspace.stages().back().state == StageState::done);
    for (const char* name : {"landing.usda", "landing.camera.json", "landing.tracks.json", "landing.tracks.csv", "stmaps/undistort.exr"}) {
        INFO(name);
        CHECK(std::filesystem::exists(scratch / "out" / name));
    }
    CHECK(f.window.note().contains("6 files written"));

    SECTION("the shot is saved and opened again as it was") {
        bool saved = false;
        f.workspace.save(scratch / "landing.pinion", [&](bool done) { saved = done; });
        REQUIRE(QTest::qWaitFor([&] { return saved; }, 10000));
        CHECK_FALSE(f.workspace.isModified());
        const std::string text = shotJson(f.workspace.shot(), scratch / "landing.pinion");
        f.workspace.open(scratch / "landing.pinion");
        f.wait();
        CHECK(shotJson(f.workspace.shot(), scratch / "landing.pinion") == text);
    }
}

TEST_CASE("a running job can be stopped and keeps what it has") {
    Fixture f;
    f.openPlate();
    f.workspace.startScatter();
    REQUIRE(QTest::qWaitFor([&] { return f.workspace.jobState().fraction > 0.1; }, 20000));
    QTest::mouseClick(f.button("stopJob"), Qt::LeftButton);
    f.wait();
    CHECK(f.workspace.shot().tracks.size() > 50);
    CHECK(f.workspace.history().undoName() == "Scatter, stopped early");
    CHECK(f.window.note().contains("Stopped"));
}

TEST_CASE("the interface answers within a tenth of a second while tracks are scattered") {
    Fixture f;
    f.openPlate();
    f.workspace.startScatter();
    QElapsedTimer clock;
    std::vector<qint64> gaps;
    clock.start();
    QTimer beat;
    QObject::connect(&beat, &QTimer::timeout, &f.window, [&] { gaps.push_back(clock.restart()); });
    beat.start(5);
    f.wait();
    beat.stop();
    REQUIRE(gaps.size() > 20);
    std::sort(gaps.begin(), gaps.end());
    // Not a timing of the program but of its manners: the loop kept turning. Machines are shared, so the odd gap is let pass.
    INFO("longest gap " << gaps.back() << " ms, 99 % " << gaps[gaps.size() * 99 / 100] << " ms");
    CHECK(gaps[gaps.size() * 9 / 10] < 250);
}

TEST_CASE("what goes wrong is said in the window and loses nothing") {
    Fixture f;
    const test::Scratch scratch;
    f.openPlate();
    f.workspace.edit("Place", withTrackAdded(f.workspace.shot(), 1001, {400, 300}));
    f.workspace.open(scratch.write("text.mp4", "not a video"));
    f.wait();
    CHECK(f.window.note().contains("text.mp4: is no video"));
    CHECK(f.workspace.shot().tracks.size() == 1);
    f.workspace.open(scratch.write("cut.pinion", "{\"format\":\"pinion.shot\",\"vers"));
    f.wait();
    CHECK(f.window.note().contains("cut off"));
    CHECK(f.workspace.shot().tracks.size() == 1);
    f.workspace.startSolve();
    f.wait();
    CHECK(f.window.note().contains("only"));
    CHECK_FALSE(f.workspace.shot().solve);
    bool done = false, saved = true;
    f.workspace.save(scratch / "nowhere/a.pinion", [&](bool ok) { saved = ok; done = true; });
    REQUIRE(QTest::qWaitFor([&] { return done; }, 5000));
    CHECK_FALSE(saved);
    CHECK(f.workspace.isModified());
}

TEST_CASE("the command finder runs an action by part of its name and says why one cannot run") {
    Fixture f;
    f.openPlate();
    f.key(Qt::Key_K, Qt::ControlModifier);
    auto* input = f.window.findChild<QLineEdit*>("finderInput");
    REQUIRE(input);
    QTest::keyClicks(input, "last fr");
    QTest::keyClick(input, Qt::Key_Return);
    QTest::qWait(50);
    CHECK(f.workspace.frame() == 1120);
    QTest::qWait(50);
    showCommandFinder(f.window.commands(), &f.window);
    input = f.window.findChild<QLineEdit*>("finderInput");
    REQUIRE(input);
    QTest::keyClicks(input, "solve cam");
    auto* list = f.window.findChild<QListWidget*>("finderList");
    CHECK(list->item(0)->text().contains("there are no tracks"));
    QTest::keyClick(input, Qt::Key_Return);
    CHECK(f.window.note().contains("there are no tracks"));
}

TEST_CASE("every key in the table belongs to one action only") {
    Fixture f;
    QStringList keys;
    for (const Command& command : f.window.commands().all())
        for (const QKeySequence& key : command.action->shortcuts()) keys << key.toString();
    QStringList unique = keys;
    unique.removeDuplicates();
    CHECK(keys.size() == unique.size());
    showKeyTable(f.window.commands(), &f.window);
    auto* table = f.window.findChild<QTableWidget*>();
    REQUIRE(table);
    CHECK(table->rowCount() > 30);
}

TEST_CASE("overlays go while the key is held") {
    Fixture f;
    f.openPlate();
    f.workspace.edit("Place", withTrackAdded(f.workspace.shot(), 1001, {300, 300}));
    f.workspace.select({1});
    QTest::qWait(50);
    const QImage with = f.canvas.grab().toImage();
    QTest::keyPress(&f.canvas, Qt::Key_H);
    QTest::qWait(50);
    const QImage bare = f.canvas.grab().toImage();
    QTest::keyRelease(&f.canvas, Qt::Key_H);
    QTest::qWait(50);
    CHECK(with != bare);
    CHECK(f.canvas.grab().toImage() == with);
}

TEST_CASE("a shot survives a crash and is offered again") {
    // Another process works on a shot and is killed.
    const pid_t child = ::fork();
    if (child == 0) {
        const auto folder = std::filesystem::path(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString()) / "autosave";
        std::filesystem::create_directories(folder);
        PlateFacts facts;
        facts.path = kPlate;
        facts.width = 1280;
        facts.height = 720;
        facts.lastFrame = 1120;
        const auto to = folder / fmt::format("{}.pinion", ::getpid());
        (void)writeFile(to, shotJson(withTrackAdded(shotOf(facts), 1001, {500, 400}), to));
        (void)writeFile(std::filesystem::path(to).replace_extension(".from"), "\nlanding\n");
        ::kill(::getpid(), SIGKILL);
    }
    int status = 0;
    ::waitpid(child, &status, 0);
    Fixture f;
    f.window.offerRecovery();
    auto* words = f.window.findChild<QLabel*>("recoveryText");
    REQUIRE(words);
    CHECK(words->text().contains("landing was not saved"));
    QTest::mouseClick(f.button("recover"), Qt::LeftButton);
    f.wait();
    CHECK(f.workspace.shot().tracks.size() == 1);
    CHECK(f.workspace.hasPlate());
    CHECK(f.workspace.isModified());
    CHECK(f.workspace.lostShots().empty());
}

TEST_CASE("a click in the thread sheet or the proof goes to the track and the frame") {
    Fixture f;
    f.openPlate();
    Shot shot = f.workspace.shot();
    TrackId id = 0;
    shot = withTrackAdded(shot, 1001, {1010.4, 329.8}, &id);
    f.workspace.edit("Place", shot);
    f.workspace.select({id});
    f.workspace.startTrack({id}, Direction::forward, 0);
    f.wait();
    f.workspace.select({});
    ThreadSheet& sheet = f.window.threadSheet();
    QTest::mouseClick(&sheet, Qt::LeftButton, {}, QPoint(40, sheet.rowsRect().top() + 6));
    CHECK(f.workspace.selection() == std::set<TrackId>{id});
    QTest::mouseClick(&sheet, Qt::LeftButton, {}, QPoint(int(sheet.xOfFrame(1030)), sheet.rowsRect().top() + 6));
    CHECK(f.workspace.frame() == 1030);
    ProofStrip& proof = f.window.proof();
    REQUIRE(proof.frames().size() > 4);
    CHECK(proof.frames().front() == 1030);
    // The patch of the present frame shows the seal's red in the middle, held still.
    QTest::qWait(600);
    const QImage strip = proof.grab().toImage();
    const QColor ring = strip.pixelColor(proof.width() / 2, 34 + 40);
    CHECK(ring.lightness() > 40);
    // A click on a small patch goes to its frame.
    QTest::mouseClick(&proof, Qt::LeftButton, {}, QPoint(proof.width() - 30, 34 + 150 + 18 + 8 + 30));
    CHECK(f.workspace.frame() == proof.frames().front());
    CHECK(f.workspace.frame() != 1030);
}

TEST_CASE("zooming keeps the point under the cursor, panning moves it, fitting brings all back") {
    Fixture f;
    f.openPlate();
    const double fitted = f.canvas.mapping().zoom();
    const QPoint at(500, 200);
    const Vector2d before = f.canvas.mapping().plateFromScreen(at);
    QWheelEvent wheel(QPointF(at), f.canvas.mapToGlobal(QPointF(at)), {}, {0, 480}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase, false);
    QApplication::sendEvent(&f.canvas, &wheel);
    CHECK(f.canvas.mapping().zoom() > 1.5 * fitted);
    CHECK((f.canvas.mapping().plateFromScreen(at) - before).norm() < 1e-6);
    QTest::mousePress(&f.canvas, Qt::MiddleButton, {}, at);
    QTest::mouseMove(&f.canvas, at + QPoint(30, 10));
    QTest::mouseRelease(&f.canvas, Qt::MiddleButton, {}, at + QPoint(30, 10));
    CHECK((f.canvas.mapping().plateFromScreen(at + QPoint(30, 10)) - before).norm() < 1e-6);
    f.key(Qt::Key_F);
    CHECK(f.canvas.mapping().zoom() == Approx(fitted));
    CHECK(f.canvas.mapping().frameOnScreen().width() <= f.canvas.width());
}

TEST_CASE("a sequence with a gap opens by drop, shows the gap and stands still on it with a reason") {
    Fixture f;
    const test::Scratch scratch;
    for (int frame : {1, 2, 3, 5, 6}) {
        QImage image(64, 48, QImage::Format_RGB32);
        image.fill(QColor(30 * frame, 90, 60));
        REQUIRE(image.save(QString::fromStdString((scratch / fmt::format("p.{:04}.png", frame)).string())));
    }
    QMimeData data;
    data.setUrls({QUrl::fromLocalFile(QString::fromStdString(scratch.path().string()))});
    QDragEnterEvent enter(QPoint(200, 200), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(&f.window, &enter);
    CHECK(enter.isAccepted());
    QDropEvent drop(QPointF(200, 200), Qt::CopyAction, &data, Qt::LeftButton, Qt::NoModifier);
    QApplication::sendEvent(&f.window, &drop);
    f.wait();
    REQUIRE(f.workspace.hasPlate());
    CHECK(f.workspace.shot().plate.frames == FrameRange{1, 6});
    CHECK(f.workspace.stages()[0].state == StageState::attention);
    CHECK(f.window.note().contains("missing: 4"));
    f.workspace.goTo(4);
    REQUIRE(QTest::qWaitFor([&] { return !f.workspace.frameProblem().isEmpty(); }, 5000));
    CHECK(f.workspace.frameProblem().contains("frame 4 is missing"));
    f.workspace.goTo(5);
    CHECK(QTest::qWaitFor([&] { return f.workspace.pictureFrame() == 5 && f.workspace.frameProblem().isEmpty(); }, 5000));
    CHECK(f.workspace.recent().front().toStdString() == scratch.path().string());
}

TEST_CASE("origin and scale are set by button, and the 3D view turns under the mouse") {
    Fixture f;
    f.openPlate();
    // A solve as a file would bring it: eight points on a floor, three cameras above.
    Shot shot = f.workspace.shot();
    auto solve = std::make_shared<Solve>();
    solve->lens = pinholeLens(1280, 720, 995);
    std::vector<SolvedTrack> solved;
    for (int i = 0; i < 8; ++i) {
        TrackId id = 0;
        shot = withTrackAdded(shot, 1001, {200.0 + 100 * i, 500}, &id);
        solved.push_back({.track = id, .role = TrackRole::used, .xyz = Eigen::Vector3d(i % 4, 0.3 * (i % 4), -4.0 - i / 4), .rms_px = 0.2, .frames = 3});
    }
    std::vector<SolvedFrame> frames;
    for (int i = 0; i < 3; ++i) {
        SolvedFrame frame{.frame = 1001 + i, .focal_px = 995};
        frame.worldFromCamera.translation() = Eigen::Vector3d(0.2 * i, 2, 1);
        frames.push_back(frame);
    }
    solve->frames = List<SolvedFrame>(frames);
    solve->tracks = List<SolvedTrack>(solved);
    f.workspace.edit("Solve camera", withSolve(shot, *solve, solveKey(shot)));
    f.window.docket().open(Stage::world);
    f.workspace.select({1, 2, 5});
    QTest::mouseClick(f.button("button-ground"), Qt::LeftButton);
    f.workspace.select({1});
    QTest::mouseClick(f.button("button-origin"), Qt::LeftButton);
    f.workspace.select({1, 2});
    QTest::mouseClick(f.button("button-set-scale"), Qt::LeftButton);
    const Orientation orientation = orientationOf(f.workspace.shot());
    CHECK(orientation.apply(*solved[0].xyz).norm() < 1e-9);
    CHECK((orientation.apply(*solved[1].xyz) - orientation.apply(*solved[0].xyz)).norm() == Approx(1.0));
    CHECK(std::abs(orientation.apply(*solved[6].xyz).y()) < 1e-9);
    f.workspace.select({1, 2});
    CHECK_FALSE(f.button("button-ground")->isEnabled());
    f.window.setView(MainWindow::View::world);
    QTest::qWait(150);
    if (WorldView* view = f.window.worldView()) {
        const QImage before = view->grabFramebuffer();
        QTest::mousePress(view, Qt::LeftButton, {}, QPoint(300, 200));
        QTest::mouseMove(view, QPoint(360, 220));
        QMouseEvent drag(QEvent::MouseMove, QPointF(380, 230), view->mapToGlobal(QPointF(380, 230)), Qt::NoButton, Qt::LeftButton, Qt::NoModifier);
        QApplication::sendEvent(view, &drag);
        QTest::mouseRelease(view, Qt::LeftButton, {}, QPoint(380, 230));
        CHECK(view->grabFramebuffer() != before);
        view->setThroughCamera(true);
        CHECK(view->grabFramebuffer() != before);
    }
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK_FALSE(f.workspace.shot().world.measure);
}

int main(int argc, char** argv) {
    QStandardPaths::setTestModeEnabled(true);
    QApplication application(argc, argv);
    QApplication::setApplicationName("pinion-window-tests");
    theme::apply(application);
    return Catch::Session().run(argc, argv);
}
