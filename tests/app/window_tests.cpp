// Drives the real window with mouse and keys and checks what the user would see. Runs under Xvfb.

#include "core/movingbox.h"
#include "exchange/newshot.h"
#include "fixture.h"
#include "jobs/steadying.h"
#include "scene/scenegeometry.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/steadystage.h"
#include "shot/stages/worldstage.h"

#include <ctime>

TEST_CASE("an opened plate is shown at once, with its facts, and can be stepped, played and scrubbed") {
    Fixture f;
    f.openPlate();
    CHECK(f.window.findChild<QLabel*>("shotName")->text() == "landing");
    CHECK(f.window.findChild<QLabel*>("frame")->text() == "1001");
    // The notice board's paper is light where the plate says so.
    CHECK(f.seen(1000, 345).lightness() > 120);
    f.key(Qt::Key_Period);
    CHECK(f.session.player.frame() == 1002);
    f.key(Qt::Key_Comma);
    f.key(Qt::Key_End);
    CHECK(f.session.player.frame() == 1120);
    f.key(Qt::Key_Home);
    CHECK(f.session.player.frame() == 1001);
    ThreadSheet& sheet = f.window.threadSheet();
    QTest::mouseClick(&sheet, Qt::LeftButton, {}, QPoint(int(sheet.xOfFrame(1060)), sheet.rulerRect().center().y()));
    CHECK(f.session.player.frame() == 1060);
    REQUIRE(QTest::qWaitFor([&] { return f.session.player.pictureFrame() == 1060; }, 30000));
    f.key(Qt::Key_Space);
    CHECK(f.session.player.isPlaying());
    CHECK(QTest::qWaitFor([&] { return f.session.player.frame() > 1066; }, 30000));
    f.key(Qt::Key_Space);
    CHECK_FALSE(f.session.player.isPlaying());
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
    CHECK(f.session.shot().plate.range == FrameRange{1001, 1010});
    f.session.player.goTo(1008);
    f.session.player.setPlaying(true);
    CHECK(QTest::qWaitFor([&] { return f.session.player.frame() == 1002; }, 8000));
    f.session.player.setPlaying(false);
    CHECK(f.session.document.history().undoName() == "Range 1001–1010");
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().plate.range == FrameRange{1001, 1120});
}

TEST_CASE(
    "a click with the tool in hand places a track, one without does not; it is nudged, tracked, moved and undone") {
    Fixture f;
    f.openPlate();
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(1042, 345));
    CHECK(f.session.shot().tracks.isEmpty());
    f.key(Qt::Key_T);
    REQUIRE(f.canvas.toolInHand() == "place");
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(1042, 345));
    REQUIRE(f.session.shot().tracks.size() == 1);
    const Vector2d placed = f.session.shot().tracks[0].samples[0].at;
    CHECK((placed - Vector2d(1042, 345)).norm() < 1.5);
    CHECK(f.session.selection.tracks().size() == 1);
    f.key(Qt::Key_Right);
    f.key(Qt::Key_Down, Qt::ShiftModifier);
    CHECK((f.session.shot().tracks[0].samples[0].at - placed - Vector2d(0.1, 1.0)).norm() < 1e-9);
    f.key(Qt::Key_F, Qt::ShiftModifier);
    f.wait();
    const Track& track = f.session.shot().tracks[0];
    CHECK(track.samples.size() > 60);
    CHECK(f.session.player.frame() == track.lastFrame());
    // Dragging it on a frame makes a tie there.
    f.key(Qt::Key_V);
    f.session.player.goTo(1020);
    REQUIRE(QTest::qWaitFor([&] { return f.session.player.pictureFrame() == 1020; }, 30000));
    const Vector2d before = sampleAt(f.session.shot().tracks[0], 1020)->at;
    const QPoint at = f.canvas.view().screenFromPlate(before)->toPoint();
    QTest::mousePress(&f.canvas, Qt::LeftButton, {}, at);
    QTest::mouseMove(&f.canvas, at + QPoint(6, 0));
    QTest::mouseMove(&f.canvas, at + QPoint(12, 0));
    QTest::mouseRelease(&f.canvas, Qt::LeftButton, {}, at + QPoint(12, 0));
    const Sample* moved = sampleAt(f.session.shot().tracks[0], 1020);
    CHECK(moved->tie);
    CHECK(moved->at.x() > before.x() + 2);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK((sampleAt(f.session.shot().tracks[0], 1020)->at - before).norm() < 1e-12);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, QPoint(3, 3));
    CHECK(f.session.shot().tracks.size() == 1);
}

TEST_CASE("what a solve told apart as moving can be chosen, masked, or said to be the scene") {
    Fixture f;
    f.openPlate();
    Shot shot = f.session.shot();
    std::vector<Track> tracks;
    Solve solve;
    std::vector<SolvedTrack> solved;
    for (int i = 0; i < 12; ++i) {
        Track track;
        track.id = i + 1;
        track.name = fmt::format("t{}", i + 1);
        std::vector<Sample> samples;
        for (int n = 0; n < 20; ++n)
            samples.push_back({.frame = shot.plate.range.first + n,
                               .at = {300 + 40 * (i % 4) + (i < 8 ? 6 : 1) * n, 200 + 50 * (i / 4)}});
        track.referenceFrame = samples.front().frame;
        track.samples = List<Sample>(std::move(samples));
        tracks.push_back(std::move(track));
        solved.push_back({.track = TrackId(i + 1), .role = i < 8 ? TrackRole::disagreed : TrackRole::used});
    }
    shot.tracks = List<Track>(std::move(tracks));
    shot.nextTrack = 13;
    solve.tracks = List<SolvedTrack>(std::move(solved));
    solve.lens = pinholeLens(shot.plate.width, shot.plate.height, 1500);
    solve.frames = std::vector<SolvedFrame>{{.frame = shot.plate.range.first, .focal_px = 1500}};
    solve.movers =
        std::vector<MovingTracks>{{{1, 2, 3, 4, 5, 6, 7, 8}, {shot.plate.range.first, shot.plate.range.first + 19}}};
    solve.doubt = "between frames 1001 and 1002 only 2 of 9 tracks agree: the two sides may not belong together";
    shot = withSolve(shot, solve, shot);
    f.session.edit("Solve camera", withSolve(shot, solve, shot));
    f.window.docket().open("camera");
    auto* movers = f.window.findChild<QComboBox*>("movers");
    REQUIRE(movers->isVisible());
    REQUIRE(movers->count() == 1);
    CHECK(movers->currentText().startsWith("8 tracks, "));
    CHECK_FALSE(f.window.findChild<QLabel*>("sceneTold")->isVisible());
    REQUIRE(QTest::qWaitFor([&] { return f.button("moverChoose")->visibleRegion().contains({5, 5}); }, 10000));

    // Long words make no card wider than the column that it stands in.
    for (const QWidget* wide : {static_cast<QWidget*>(f.window.findChild<QComboBox*>("solves")),
                                static_cast<QWidget*>(movers), static_cast<QWidget*>(f.button("moverStands"))}) {
        REQUIRE(wide->isVisible());
        CHECK(wide->visibleRegion().boundingRect().width() == wide->width());
    }

    QTest::mouseClick(f.button("moverChoose"), Qt::LeftButton);
    CHECK(f.session.selection.list() == std::vector<TrackId>{1, 2, 3, 4, 5, 6, 7, 8});

    QTest::mouseClick(f.button("moverMask"), Qt::LeftButton);
    REQUIRE(f.session.shot().mattes.size() == 1);
    CHECK(f.session.document.history().undoName() == "Mask what moves");
    for (const Track& track : f.session.shot().tracks) CHECK(track.setAside == (track.id <= 8));
    // Nothing of it counts any more, and it goes from the card.
    CHECK_FALSE(movers->isVisible());
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().mattes.isEmpty());
    CHECK(movers->isVisible());

    QTest::mouseClick(f.button("moverStands"), Qt::LeftButton);
    f.wait();
    CHECK(f.session.shot().solveSettings.sceneOf.size() == 8);
    auto* told = f.window.findChild<QLabel*>("sceneTold");
    REQUIRE(told->isVisible());
    CHECK(told->text() == "8 tracks are said to be the scene's");
    QTest::mouseClick(f.button("sceneForget"), Qt::LeftButton);
    CHECK(f.session.shot().solveSettings.sceneOf.isEmpty());
    CHECK_FALSE(told->isVisible());

    // Those that are chosen by hand.
    f.session.selection.set({9, 12});
    QTest::mouseClick(f.button("chosenStand"), Qt::LeftButton);
    f.wait();
    CHECK(f.session.shot().solveSettings.sceneOf.vector() == std::vector<TrackId>{9, 12});
}

TEST_CASE("what was told apart is made an object, named, told by the ground, ridden on and removed") {
    Fixture f;
    f.openPlate();
    const test::Box box({.seed = 6});
    Shot shot = f.session.shot();
    Solve solve;
    std::vector<SolvedFrame> frames;
    for (const CameraOnFrame& camera : box.cameras)
        frames.push_back(
            {.frame = camera.frame, .worldFromCamera = camera.worldFromCamera, .focal_px = camera.lens.focal_px});
    solve.frames = List<SolvedFrame>(std::move(frames));
    solve.lens = box.cameras.front().lens;
    solve.motion = CameraMotion::travelling;
    std::vector<Track> tracks = box.tracks;
    std::vector<SolvedTrack> solved;
    for (const Track& track : tracks) solved.push_back({.track = track.id, .role = TrackRole::disagreed});
    for (const Eigen::Vector3d& place :
         {Eigen::Vector3d(-3, 0, -8), Eigen::Vector3d(3, 0, -8), Eigen::Vector3d(0, 0, -4)}) {
        Track track;
        track.id = TrackId(tracks.size() + 1);
        track.name = fmt::format("floor{}", track.id);
        tracks.push_back(track);
        solved.push_back({.track = track.id, .role = TrackRole::used, .xyz = place});
    }
    const TrackId floor = tracks.back().id;
    shot.nextTrack = floor + 1;
    shot.tracks = List<Track>(std::move(tracks));
    solve.tracks = List<SolvedTrack>(std::move(solved));
    solve.movers = std::vector<MovingTracks>{{box.ids, {1001, 1100}}};
    f.session.edit("Solve camera", withSolve(shot, solve, shot));
    f.window.docket().open("camera");
    auto* objects = f.window.findChild<QComboBox*>("objects");
    CHECK_FALSE(objects->isVisible());
    REQUIRE(QTest::qWaitFor([&] { return f.button("moverObject")->visibleRegion().contains({5, 5}); }, 10000));
    QTest::mouseClick(f.button("moverObject"), Qt::LeftButton);
    f.wait();
    REQUIRE(f.session.shot().objects.size() == 1);
    const ObjectId id = f.session.shot().objects[0].id;
    REQUIRE(f.session.shot().objects[0].solve);
    CHECK(objects->isVisible());
    CHECK(objects->currentText() == "object 1, 40 tracks");
    auto* figures = f.window.findChild<QLabel*>("objectFigures");
    CHECK(figures->text().contains("1001 to 1100; size by the camera's unrest"));
    // No card becomes wider than the column that it stands in.
    for (const QWidget* wide :
         {static_cast<QWidget*>(objects), static_cast<QWidget*>(f.button("objectSolve")),
          static_cast<QWidget*>(f.button("objectChoose")), static_cast<QWidget*>(f.button("objectRemove"))}) {
        INFO(wide->objectName().toStdString());
        REQUIRE(QTest::qWaitFor([&] { return wide->isVisible(); }, 10000));
        const QRect column = f.window.docket().rect();
        CHECK(wide->mapTo(&f.window.docket(), QPoint(wide->width(), 0)).x() <= column.width());
    }
    // It goes from what was told apart, and the camera is to be solved without it.
    CHECK_FALSE(f.window.findChild<QComboBox*>("movers")->isVisible());
    CHECK(cameraReport(f.session.shot()).state == StageState::stale);

    auto* name = f.window.findChild<QLineEdit*>("objectName");
    name->setFocus();
    name->selectAll();
    QTest::keyClicks(name, "cart");
    QTest::keyClick(name, Qt::Key_Return);
    CHECK(f.session.shot().objects[0].name == "cart");
    CHECK(objects->currentText() == "cart, 40 tracks");

    // By the ground, once there is one.
    f.session.selection.set({1, 2, 3, 4});
    REQUIRE(QTest::qWaitFor([&] { return f.button("objectGround")->isVisible(); }, 10000));
    f.button("objectGround")->click();
    f.wait();
    CHECK(f.session.shot().objects[0].onGround.size() == 4);
    CHECK(f.session.shot().objects[0].solve->scale == ObjectScale::unrest);  // as it was
    Shot laid = f.session.shot();
    laid.world.ground = std::vector<TrackId>{floor - 2, floor - 1, floor};
    f.session.edit("Ground", laid);
    f.button("objectSolve")->click();
    f.wait();
    CHECK(f.session.shot().objects[0].solve->scale == ObjectScale::ground);
    CHECK(figures->text().contains("size by the ground"));

    // It is offered to what rides, and shown in 3D where it is on the frame.
    const auto offered = carrierKind("object")->offered(f.session.shot());
    REQUIRE(offered.size() == 1);
    CHECK(wordsOf(f.session.shot(), offered.front()) == "cart");
    SceneGeometry scene = geometryOf(f.session.shot(), [](const SolvedTrack&) { return QColor(); });
    placeObjects(scene, f.session.shot(), 1001);
    REQUIRE(scene.objects.size() == f.session.shot().objects[0].solve->points.size());
    const float before = scene.objects[0].x;
    placeObjects(scene, f.session.shot(), 1100);
    CHECK(std::abs(scene.objects[0].x - before) > 1);
    placeObjects(scene, f.session.shot(), 1110);
    CHECK(scene.objects.empty());
    CHECK(scene.ways.size() == 2 * 99);

    f.button("objectRemove")->click();
    CHECK(f.session.shot().objects.isEmpty());
    CHECK_FALSE(objects->isVisible());
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(findObject(f.session.shot(), id));
    // Chosen by hand.
    f.session.selection.set({5, 6, 7});
    REQUIRE(f.button("objectMake")->isVisible());
    f.button("objectMake")->click();
    f.wait();
    REQUIRE(f.session.shot().objects.size() == 2);
    CHECK_FALSE(f.session.shot().objects[1].solve);  // three are too few, which was said
}

TEST_CASE("candidates, scatter, solve, set aside, solve again, ground, delivery: the whole path in the window") {
    Fixture f;
    const test::Scratch scratch;
    f.openPlate();
    f.window.docket().open("tracks");
    auto* features = f.window.findChild<QSpinBox*>("features");
    features->setValue(220);
    QTest::mouseClick(f.button("button-candidates"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !f.tracks.candidates.found().empty(); }, 30000));
    CHECK(f.tracks.candidates.found().size() > 150);
    QTest::mouseClick(f.button("button-scatter"), Qt::LeftButton);
    REQUIRE(QTest::qWaitFor([&] { return !f.session.jobs.livePoints().empty(); }, 10000));
    CHECK(f.window.findChild<QWidget*>("jobArea")->isVisible());
    f.wait();
    REQUIRE(f.session.shot().tracks.size() > 220);
    CHECK(f.state("tracks") == StageState::done);

    f.key(Qt::Key_Return, Qt::ControlModifier);
    f.wait();
    REQUIRE(f.session.shot().solve);
    CHECK(f.session.shot().solve->rms_px < 0.6);
    CHECK(f.window.docket().openStage() == "camera");
    CHECK(f.window.findChild<QLabel*>("solveResults")->text().contains("Held out"));

    auto* histogram = f.window.findChild<ErrorHistogram*>("errorHistogram");
    REQUIRE(histogram->isVisible());
    QTest::mouseClick(histogram, Qt::LeftButton, {}, QPoint(int(histogram->xOfError(0.8)), 20));
    const auto going = f.camera.tracksAbove(f.camera.trimPreview());
    REQUIRE(!going.empty());
    auto* aside = f.window.findChild<QPushButton*>("button-set-aside");
    CHECK(aside->text() == QString("Set %1 aside").arg(going.size()));
    QTest::mouseClick(aside, Qt::LeftButton);
    CHECK(findTrack(f.session.shot(), going.front())->setAside);
    CHECK(f.state("camera") == StageState::stale);
    const double before = f.session.shot().solve->rms_px;
    QTest::mouseClick(f.button("button-solve"), Qt::LeftButton);
    f.wait();
    CHECK(f.session.shot().solve->rms_px < before);
    REQUIRE(f.session.shot().keptSolves.size() == 1);
    CHECK(f.window.findChild<QLabel*>("solveResults")->text().contains("before"));

    // The first solve counts again, and then not.
    auto* solves = f.window.findChild<QComboBox*>("solves");
    REQUIRE(solves->isVisible());
    REQUIRE(solves->count() == 2);
    CHECK(solves->currentIndex() == 1);
    solves->setCurrentIndex(0);
    emit solves->activated(0);
    CHECK(f.session.shot().solve->rms_px == before);
    CHECK(f.state("camera") == StageState::stale);
    CHECK(f.session.document.history().undoName() == "Choose a solve");
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().solve->rms_px < before);
    CHECK(solves->currentIndex() == 1);

    // Points on the deck by clicking them.
    f.window.docket().open("world");
    std::vector<TrackId> floor;
    for (const Track& track : f.session.shot().tracks) {
        const Sample* sample = sampleAt(track, f.session.player.frame());
        const SolvedTrack* solved = findSolved(f.session.shot(), track.id);
        if (sample && solved && solved->xyz && solved->role != TrackRole::disagreed && sample->at.y() > 590 &&
            sample->at.x() < 620 && sample->at.x() > 330)
            floor.push_back(track.id);
    }
    REQUIRE(floor.size() >= 3);
    f.session.selection.set({floor.begin(), floor.end()});
    QTest::mouseClick(f.button("button-ground"), Qt::LeftButton);
    REQUIRE_FALSE(f.session.shot().world.ground.isEmpty());
    const Orientation orientation = orientationOf(f.session.shot());
    for (const SolvedFrame& frame : f.session.shot().solve->frames)
        CHECK(orientation.apply(Eigen::Vector3d(frame.worldFromCamera.translation())).y() > 0);
    CHECK(f.session.document.history().undoName() == "Set ground");
    f.window.show("3d");
    QTest::qWait(200);
    if (f.window.worldView()) {
        // Something other than the ground colour is on show.
        const QImage scene = f.window.worldView()->grabFramebuffer();
        int lit = 0;
        for (int y = 0; y < scene.height(); y += 2)
            for (int x = 0; x < scene.width(); x += 2) lit += scene.pixelColor(x, y).lightness() > 90;
        CHECK(lit > 300);
    }

    Shot shot = f.session.shot();
    shot.deliveryFolder = (scratch / "out").string();
    f.session.edit("Choose delivery folder", shot);
    QTest::mouseClick(f.button("deliver"), Qt::LeftButton);
    f.wait();
    CHECK(f.state("delivery") == StageState::done);
    for (const char* name : {"landing.usda", "landing.camera.json", "landing.tracks.json", "landing.tracks.csv",
                             "stmaps/undistort.exr", "landing.lens.json"}) {
        INFO(name);
        CHECK(std::filesystem::exists(scratch / "out" / name));
    }
    CHECK(f.window.note().contains("7 files written"));

    SECTION("the shot is saved and opened again as it was") {
        bool saved = false;
        f.session.document.save(scratch / "landing.pinion", [&](bool done) { saved = done; });
        REQUIRE(QTest::qWaitFor([&] { return saved; }, 10000));
        CHECK_FALSE(f.session.document.isModified());
        const std::string text = shotJson(f.session.shot(), scratch / "landing.pinion");
        f.session.open(scratch / "landing.pinion");
        f.wait();
        CHECK(shotJson(f.session.shot(), scratch / "landing.pinion") == text);
    }
}

TEST_CASE("a running job can be stopped and keeps what it has") {
    Fixture f;
    f.openPlate();
    startScatter(f.session);
    REQUIRE(QTest::qWaitFor([&] { return f.session.jobs.state().fraction > 0.1; }, 20000));
    QTest::mouseClick(f.button("stopJob"), Qt::LeftButton);
    f.wait();
    CHECK(f.session.shot().tracks.size() > 50);
    CHECK(f.session.document.history().undoName() == "Scatter, stopped early");
    CHECK(f.window.note().contains("Stopped"));
}

TEST_CASE("while tracks are scattered the interface's thread works in short pieces") {
    Fixture f;
    f.openPlate();
    startScatter(f.session);
    // What the thread itself has worked from one turn of its loop to the next: how long it waits for a busy machine has
    // no part in it.
    const auto worked = [] {
        timespec spent{};
        clock_gettime(CLOCK_THREAD_CPUTIME_ID, &spent);
        return 1e3 * double(spent.tv_sec) + 1e-6 * double(spent.tv_nsec);
    };
    std::vector<double> pieces;
    double last = worked();
    QTimer beat;
    QObject::connect(&beat, &QTimer::timeout, &f.window, [&] {
        const double now = worked();
        pieces.push_back(now - last);
        last = now;
    });
    beat.start(5);
    f.wait();
    beat.stop();
    REQUIRE(pieces.size() > 20);
    std::sort(pieces.begin(), pieces.end());
    INFO("longest piece " << pieces.back() << " ms, 99 % " << pieces[pieces.size() * 99 / 100] << " ms");
    CHECK(pieces[pieces.size() * 9 / 10] < 100);
}

TEST_CASE("what goes wrong is said in the window and loses nothing") {
    Fixture f;
    const test::Scratch scratch;
    f.openPlate();
    f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {400, 300}));
    f.session.open(scratch.write("text.mp4", "not a video"));
    f.wait();
    CHECK(f.window.note().contains("text.mp4: is no video"));
    CHECK(f.session.shot().tracks.size() == 1);
    f.session.open(scratch.write("cut.pinion", "{\"format\":\"pinion.shot\",\"vers"));
    f.wait();
    CHECK(f.window.note().contains("cut off"));
    CHECK(f.session.shot().tracks.size() == 1);
    f.camera.startSolve();
    f.wait();
    CHECK(f.window.note().contains("only"));
    CHECK_FALSE(f.session.shot().solve);
    bool done = false, saved = true;
    f.session.document.save(scratch / "nowhere/a.pinion", [&](bool ok) {
        saved = ok;
        done = true;
    });
    REQUIRE(QTest::qWaitFor([&] { return done; }, 30000));
    CHECK_FALSE(saved);
    CHECK(f.session.document.isModified());
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
    CHECK(f.session.player.frame() == 1120);
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
    auto* table = f.window.findChild<QTableWidget*>("keys");
    REQUIRE(table);
    CHECK(table->rowCount() > 30);
}

TEST_CASE("overlays go while the key is held") {
    Fixture f;
    f.openPlate();
    f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {300, 300}));
    f.session.selection.set({1});
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
        const auto folder =
            std::filesystem::path(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString()) /
            "autosave";
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
    CHECK(f.session.shot().tracks.size() == 1);
    CHECK(f.session.hasPlate());
    CHECK(f.session.document.isModified());
    CHECK(f.session.document.lostShots().empty());
}

TEST_CASE("a click in the thread sheet or the proof goes to the track and the frame") {
    Fixture f;
    f.openPlate();
    Shot shot = f.session.shot();
    TrackId id = 0;
    shot = withTrackAdded(shot, 1001, {1010.4, 329.8}, &id);
    f.session.edit("Place", shot);
    f.session.selection.set({id});
    startTrack(f.session, {id}, Direction::forward, 0);
    f.wait();
    f.session.selection.set({});
    ThreadSheet& sheet = f.window.threadSheet();
    QTest::mouseClick(&sheet, Qt::LeftButton, {}, QPoint(40, sheet.rowsRect().top() + 6));
    CHECK(f.session.selection.tracks() == std::set<TrackId>{id});
    QTest::mouseClick(&sheet, Qt::LeftButton, {}, QPoint(int(sheet.xOfFrame(1030)), sheet.rowsRect().top() + 6));
    CHECK(f.session.player.frame() == 1030);
    ProofStrip& proof = f.window.proof();
    REQUIRE(proof.frames().size() > 4);
    CHECK(proof.frames().front() == 1030);
    // The patch of the present frame shows the seal's red in the middle, held still.
    const auto isShown = [&] { return proof.grab().toImage().pixelColor(proof.width() / 2, 34 + 40).lightness() > 40; };
    CHECK(QTest::qWaitFor(isShown, 30000));
    // A click on a small patch goes to its frame.
    QTest::mouseClick(&proof, Qt::LeftButton, {}, QPoint(proof.width() - 30, 34 + 150 + 18 + 8 + 30));
    CHECK(f.session.player.frame() == proof.frames().front());
    CHECK(f.session.player.frame() != 1030);
}

TEST_CASE("zooming keeps the point under the cursor, panning moves it, fitting brings all back") {
    Fixture f;
    f.openPlate();
    const double fitted = f.canvas.view().zoom();
    const QPoint at(500, 200);
    const Vector2d before = *f.canvas.view().plateFromScreen(at);
    QWheelEvent wheel(QPointF(at), f.canvas.mapToGlobal(QPointF(at)), {}, {0, 480}, Qt::NoButton, Qt::NoModifier,
                      Qt::NoScrollPhase, false);
    QApplication::sendEvent(&f.canvas, &wheel);
    CHECK(f.canvas.view().zoom() > 1.5 * fitted);
    CHECK((*f.canvas.view().plateFromScreen(at) - before).norm() < 1e-6);
    QTest::mousePress(&f.canvas, Qt::MiddleButton, {}, at);
    QTest::mouseMove(&f.canvas, at + QPoint(30, 10));
    QTest::mouseRelease(&f.canvas, Qt::MiddleButton, {}, at + QPoint(30, 10));
    CHECK((*f.canvas.view().plateFromScreen(at + QPoint(30, 10)) - before).norm() < 1e-6);
    f.key(Qt::Key_F);
    CHECK(f.canvas.view().zoom() == Approx(fitted));
    CHECK(f.canvas.view().frameOnScreen().width() <= f.canvas.width());
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
    REQUIRE(f.session.hasPlate());
    CHECK(f.session.shot().plate.frames == FrameRange{1, 6});
    CHECK(f.state("plate") == StageState::attention);
    CHECK(f.window.note().contains("missing: 4"));
    f.session.player.goTo(4);
    REQUIRE(QTest::qWaitFor([&] { return !f.session.player.frameProblem().isEmpty(); }, 30000));
    CHECK(f.session.player.frameProblem().contains("frame 4 is missing"));
    f.session.player.goTo(5);
    CHECK(QTest::qWaitFor(
        [&] { return f.session.player.pictureFrame() == 5 && f.session.player.frameProblem().isEmpty(); }, 5000));
    CHECK(f.session.document.recent().front().toStdString() == scratch.path().string());
}

TEST_CASE("origin and scale are set by button, and the 3D view turns under the mouse") {
    Fixture f;
    f.openPlate();
    // A solve as a file would bring it: eight points on a floor, three cameras above.
    Shot shot = f.session.shot();
    auto solve = std::make_shared<Solve>();
    solve->lens = pinholeLens(1280, 720, 995);
    std::vector<SolvedTrack> solved;
    for (int i = 0; i < 8; ++i) {
        TrackId id = 0;
        shot = withTrackAdded(shot, 1001, {200.0 + 100 * i, 500}, &id);
        solved.push_back({.track = id,
                          .role = TrackRole::used,
                          .xyz = Eigen::Vector3d(i % 4, 0.3 * (i % 4), -4.0 - i / 4),
                          .rms_px = 0.2,
                          .frames = 3});
    }
    std::vector<SolvedFrame> frames;
    for (int i = 0; i < 3; ++i) {
        SolvedFrame frame{.frame = 1001 + i, .focal_px = 995};
        frame.worldFromCamera.translation() = Eigen::Vector3d(0.2 * i, 2, 1);
        frames.push_back(frame);
    }
    solve->frames = List<SolvedFrame>(frames);
    solve->tracks = List<SolvedTrack>(solved);
    f.session.edit("Solve camera", withSolve(shot, *solve, shot));
    f.window.docket().open("world");
    f.session.selection.set({1, 2, 5});
    QTest::mouseClick(f.button("button-ground"), Qt::LeftButton);
    f.session.selection.set({1});
    QTest::mouseClick(f.button("button-origin"), Qt::LeftButton);
    f.session.selection.set({1, 2});
    QTest::mouseClick(f.button("button-set-scale"), Qt::LeftButton);
    const Orientation orientation = orientationOf(f.session.shot());
    CHECK(orientation.apply(*solved[0].xyz).norm() < 1e-9);
    CHECK((orientation.apply(*solved[1].xyz) - orientation.apply(*solved[0].xyz)).norm() == Approx(1.0));
    CHECK(std::abs(orientation.apply(*solved[6].xyz).y()) < 1e-9);
    f.session.selection.set({1, 2});
    CHECK_FALSE(f.button("button-ground")->isEnabled());
    // Along x, turned, upside down; a second length, whose misses are told; the camera's height in their place.
    f.session.selection.set({1, 5});
    CHECK_FALSE(f.button("button-along-x")->isVisible());
    QTest::mouseClick(f.button("worldMore"), Qt::LeftButton);
    QTest::qWait(20);
    QTest::mouseClick(f.button("button-along-x"), Qt::LeftButton);
    const auto along = [&] {
        const Orientation now = orientationOf(f.session.shot());
        return Eigen::Vector3d(now.apply(*solved[4].xyz) - now.apply(*solved[0].xyz));
    };
    CHECK(along().x() == Approx(along().norm()));
    auto* turn = f.window.findChild<QDoubleSpinBox*>("worldTurn");
    turn->setValue(90);
    CHECK(along().z() == Approx(-along().norm()));
    turn->setValue(0);
    auto* flip = f.window.findChild<QCheckBox*>("worldFlip");
    QTest::mouseClick(flip, Qt::LeftButton, {}, QPoint(6, flip->height() / 2));
    CHECK(f.session.shot().world.flipped);
    QTest::mouseClick(flip, Qt::LeftButton, {}, QPoint(6, flip->height() / 2));
    CHECK_FALSE(f.session.shot().world.flipped);
    QTest::mouseClick(f.button("button-set-scale"), Qt::LeftButton);
    REQUIRE(f.session.shot().world.measures.size() == 2);
    QTest::mouseClick(f.button("button-set-scale"), Qt::LeftButton);
    CHECK(f.session.shot().world.measures.size() == 2);  // the same two again
    CHECK(f.window.findChild<QLabel*>("worldState")->text().contains(", here "));
    f.key(Qt::Key_Z, Qt::ControlModifier);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().world.measures.size() == 1);
    QTest::mouseClick(f.button("button-as-its-height"), Qt::LeftButton);
    QTest::mouseClick(f.button("button-clear-lengths"), Qt::LeftButton);
    CHECK_FALSE(f.session.shot().world.hasScale());
    for (int i = 0; i < 2; ++i) f.key(Qt::Key_Z, Qt::ControlModifier);
    f.session.selection.set({1, 2, 3, 6});
    QTest::mouseClick(f.button("button-wall"), Qt::LeftButton);
    CHECK(f.session.shot().world.wall.isEmpty());  // it lies on the ground
    CHECK(f.window.note().contains("no heading"));
    f.session.selection.set({1, 2});
    f.window.show("3d");
    QTest::qWait(150);
    if (WorldView* view = f.window.worldView()) {
        const QImage before = view->grabFramebuffer();
        QTest::mousePress(view, Qt::RightButton, {}, QPoint(300, 200));
        QTest::mouseMove(view, QPoint(360, 220));
        QMouseEvent drag(QEvent::MouseMove, QPointF(380, 230), view->mapToGlobal(QPointF(380, 230)), Qt::NoButton,
                         Qt::RightButton, Qt::NoModifier);
        QApplication::sendEvent(view, &drag);
        QTest::mouseRelease(view, Qt::RightButton, {}, QPoint(380, 230));
        CHECK(view->grabFramebuffer() != before);
        view->setThroughCamera(true);
        CHECK(view->grabFramebuffer() != before);
    }
    while (f.session.shot().world.facing) f.key(Qt::Key_Z, Qt::ControlModifier);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().world.measures.isEmpty());
}

namespace {

const std::string kMooring = std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.mp4";

/// A track placed on the breakwater's beacon and tracked over the range, selected.
TrackId trackedPoint(Fixture& f, double x = 875, double y = 300) {
    f.key(Qt::Key_T);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(x, y));
    f.key(Qt::Key_V);
    REQUIRE(f.session.selection.tracks().size() == 1);
    f.key(Qt::Key_T, Qt::ShiftModifier);
    f.wait();
    return *f.session.selection.tracks().begin();
}

void drag(QWidget& widget, const QPoint& from, const QPoint& to, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
    QTest::mousePress(&widget, Qt::LeftButton, modifiers, from);
    QTest::mouseMove(&widget, (from + to) / 2);
    QTest::mouseMove(&widget, to);
    QTest::mouseRelease(&widget, Qt::LeftButton, modifiers, to);
    QTest::qWait(30);
}

const Track& trackOf(Fixture& f, TrackId id) { return *findTrack(f.session.shot(), id); }

}  // namespace

TEST_CASE("pattern and search are dragged by handles of their own, and typed; undo takes each back") {
    Fixture f;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1012}));
    const TrackId id = trackedPoint(f);
    f.canvas.zoomTo(2.0);
    QTest::qWait(50);
    auto handles = patternHandles(f.session, f.tracks.hand, f.canvas.view());
    REQUIRE(handles.size() == 4);
    drag(f.canvas, handles[2].toPoint(), handles[2].toPoint() + QPoint(12, 12));
    CHECK(trackOf(f, id).pattern_px == 33);
    CHECK(trackOf(f, id).search_px == 61);
    handles = searchHandles(f.session, f.tracks.hand, f.canvas.view());
    drag(f.canvas, handles[1].toPoint(), handles[1].toPoint() + QPoint(20, 0));
    CHECK(std::abs(trackOf(f, id).search_px - 81) <= 2);
    CHECK(trackOf(f, id).pattern_px == 33);
    CHECK(f.session.document.history().undoName().find("Search of p-1") == 0);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(trackOf(f, id).pattern_px == 21);
    f.window.docket().open("tracks");
    auto* pattern = f.window.findChild<QSpinBox*>("trackPattern");
    REQUIRE(pattern);
    CHECK(pattern->isVisible());
    pattern->setValue(41);
    CHECK(trackOf(f, id).pattern_px == 41);
}

TEST_CASE("a drag in the proof corrects its frame: a tie, the stretches beside it tracked again, one step to undo") {
    Fixture f;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1020}));
    const TrackId id = trackedPoint(f);
    REQUIRE(trackOf(f, id).samples.size() == 20);
    const Track before = trackOf(f, id);
    f.session.player.goTo(1010);
    QTest::qWait(400);
    ProofStrip& proof = f.window.proof();
    REQUIRE(proof.frames().front() == 1010);
    const QPoint middle = proof.cellRect(0).center();
    drag(proof, middle, middle + QPoint(-26, 0));
    f.wait();
    QTest::qWait(500);
    f.wait();
    const Sample* tie = sampleAt(trackOf(f, id), 1010);
    REQUIRE(tie);
    CHECK(tie->tie);
    const double moved = tie->at.x() - sampleAt(before, 1010)->at.x();
    CHECK(moved > 0.5);
    CHECK(moved < 4);
    // Its neighbours came along: no jump.
    CHECK(sampleAt(trackOf(f, id), 1009)->at.x() - sampleAt(before, 1009)->at.x() > 0.3 * moved);
    CHECK(f.session.document.history().undoName() == "Correct p-1 on 1010");
    f.key(Qt::Key_Z, Qt::ControlModifier);
    for (const Sample& sample : before.samples) CHECK(sampleAt(trackOf(f, id), sample.frame)->at == sample.at);
}

TEST_CASE("ties, gaps, locks, duplicates and joins by their keys; a locked track stays as it is") {
    Fixture f;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1016}));
    const TrackId id = trackedPoint(f);
    f.session.player.goTo(1008);
    f.key(Qt::Key_K);
    QTest::qWait(400);
    f.wait();
    CHECK(sampleAt(trackOf(f, id), 1008)->tie);
    // Three nudges in a row are one correction.
    const Vector2d before = sampleAt(trackOf(f, id), 1008)->at;
    for (int i = 0; i < 3; ++i) QTest::keyClick(&f.canvas, Qt::Key_Right);
    QTest::qWait(400);
    f.wait();
    CHECK(sampleAt(trackOf(f, id), 1008)->at.x() == Approx(before.x() + 0.3));
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(sampleAt(trackOf(f, id), 1008)->at == before);
    f.key(Qt::Key_BracketLeft);
    CHECK(f.session.player.frame() == 1001);
    f.key(Qt::Key_BracketRight);
    CHECK(f.session.player.frame() == 1008);
    f.key(Qt::Key_K, Qt::ShiftModifier);
    QTest::qWait(400);
    f.wait();
    REQUIRE(sampleAt(trackOf(f, id), 1008));
    CHECK_FALSE(sampleAt(trackOf(f, id), 1008)->tie);

    f.key(Qt::Key_D, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(f.session.shot().tracks.size() == 2);
    f.key(Qt::Key_A, Qt::ControlModifier);
    f.key(Qt::Key_J);
    CHECK(f.session.shot().tracks.size() == 1);
    f.session.selection.set({id});
    f.key(Qt::Key_K, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(trackOf(f, id).locked);
    f.key(Qt::Key_Delete);
    CHECK(f.session.shot().tracks.size() == 1);
    CHECK(f.window.note().contains("locked"));
    const Vector2d at = sampleAt(trackOf(f, id), 1008)->at;
    f.canvas.setFocus();
    QTest::keyClick(&f.canvas, Qt::Key_Right);
    CHECK(sampleAt(trackOf(f, id), 1008)->at == at);
}

TEST_CASE("the place tool says how a spot would hold, and an area offers its best spots to click on") {
    Fixture f;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1010}));
    f.key(Qt::Key_T);
    const auto hover = [&](double x, double y) {
        QTest::mouseMove(&f.canvas, f.screen(x + 2, y));
        QTest::qWait(150);
        QTest::mouseMove(&f.canvas, f.screen(x, y));
        QTest::qWait(150);
        return f.tracks.placeTool()->advice();
    };
    hover(300, 60);
    QTest::qWait(500);
    CHECK(hover(1000, 90).toStdString().find("flat") == 0);
    CHECK(hover(875, 300).toStdString().find("flat") == std::string::npos);
    f.key(Qt::Key_P, Qt::ShiftModifier);
    REQUIRE(f.canvas.toolInHand() == "spots");
    drag(f.canvas, f.screen(780, 380), f.screen(1000, 560));
    f.wait();
    REQUIRE(f.tracks.spots.all().size() >= 4);
    const Vector2d best = f.tracks.spots.all().front().at;
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(best.x(), best.y()) + QPoint(3, 2));
    REQUIRE(f.session.shot().tracks.size() == 1);
    CHECK(f.session.shot().tracks[0].samples[0].at == best);
    f.key(Qt::Key_P, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(f.session.shot().tracks.size() > 4);
    CHECK(f.tracks.spots.all().empty());
}

TEST_CASE("a rubber band in the thread sheet marks tracks and frames to cut; the filter lists by name") {
    Fixture f;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1016}));
    startScatter(f.session);
    f.wait();
    ThreadSheet& sheet = f.window.threadSheet();
    const std::size_t all = sheet.listed();
    REQUIRE(all > 100);
    QTest::keyClicks(f.window.findChild<QLineEdit*>("sheetFilter"), "s-00");
    CHECK(sheet.listed() == 9);
    const int top = sheet.rowsRect().top() + 2;
    drag(sheet, QPoint(int(sheet.xOfFrame(1005)), top), QPoint(int(sheet.xOfFrame(1009)), top + 2 * sheet.rowHeight()));
    CHECK(f.session.selection.tracks().size() == 3);
    REQUIRE(sheet.marked());
    CHECK(*sheet.marked() == FrameRange{1005, 1009});
    const TrackId first = *f.session.selection.tracks().begin();
    const std::size_t before = trackOf(f, first).samples.size();
    f.canvas.setFocus();
    f.key(Qt::Key_X, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(trackOf(f, first).samples.size() == before - 5);
    CHECK_FALSE(sampleAt(trackOf(f, first), 1007));
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(trackOf(f, first).samples.size() == before);
    f.window.findChild<QLineEdit*>("sheetFilter")->clear();
    CHECK(sheet.listed() == all);
}

TEST_CASE("the plate is steadied on all tracks, compared by a wipe, and rendered; a lent shake moves a still plate") {
    Fixture f;
    const test::Scratch scratch;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1024}));
    startScatter(f.session);
    f.wait();
    f.key(Qt::Key_A, Qt::ControlModifier | Qt::ShiftModifier);
    REQUIRE(QTest::qWaitFor([&] { return f.steady.plan() != nullptr; }, 20000));
    CHECK(f.window.view() == "steady");
    CHECK(f.window.findChild<QLabel*>("steadyResult")->text().startsWith("zoom "));
    // What the picture's motion was taken for is said, and may be chosen.
    auto* model = f.window.findChild<QComboBox*>("steadyModel");
    REQUIRE(model);
    CHECK(model->currentText() == "find out");
    CHECK(f.window.findChild<QLabel*>("steadyResult")->text().contains("similarity"));
    const auto choose = [&](int index, MotionKind kind) {
        model->setCurrentIndex(index);
        emit model->activated(index);
        REQUIRE(QTest::qWaitFor([&] { return !f.steady.planPending(); }, 20000));
        QTest::qWait(50);
        REQUIRE(f.steady.plan());
        CHECK(f.steady.plan()->motion.kind == kind);
    };
    choose(3, MotionKind::perspective);
    choose(1, MotionKind::position);
    choose(2, MotionKind::similarity);
    CHECK(f.session.shot().steady.model == PictureModel::similarity);
    // A place of the first frame stays where it is on the screen.
    const auto onScreen = [&](int frame) {
        f.session.player.goTo(frame);
        REQUIRE(QTest::qWaitFor([&] { return f.session.player.pictureFrame() == frame; }, 30000));
        QTest::qWait(60);
        const FrameMotion* motion = f.steady.plan()->motion.at(frame);
        return *f.canvas.view().screenFromPlate(
            (motion->plateFromReference * Eigen::Vector3d(875, 300, 1)).hnormalized());
    };
    const QPointF first = onScreen(1001);
    for (int frame : {1008, 1016, 1024}) CHECK(QLineF(onScreen(frame), first).length() < 0.01);
    f.window.show("wipe");
    QTest::qWait(100);
    const QPoint handle = f.canvas.wipeHandle().toPoint();
    drag(f.canvas, handle, handle - QPoint(200, 0));
    CHECK(f.canvas.wipeHandle().x() < handle.x() - 150);
    // Left of the line the plate as it was, right of it the held one.
    f.session.player.goTo(1020);
    REQUIRE(QTest::qWaitFor([&] { return f.canvas.isUpToDate(); }, 30000));
    QTest::qWait(100);
    const QImage wiped = f.canvas.grab().toImage();
    f.window.show("plate");
    f.canvas.setOverlays(false);
    REQUIRE(QTest::qWaitFor([&] { return f.canvas.isUpToDate(); }, 30000));
    QTest::qWait(100);
    const QImage plain = f.canvas.grab().toImage();
    f.canvas.setOverlays(true);
    const auto differs = [&](int from, int to) {
        int count = 0;
        for (int x = from; x < to; x += 7)
            for (int y = 120; y < 400; y += 9)
                count += std::abs(qGray(wiped.pixel(x, y)) - qGray(plain.pixel(x, y))) > 12;
        return count;
    };
    const int line = int(f.canvas.wipeHandle().x());
    CHECK(differs(line + 20, line + 220) > 10 * (1 + differs(40, line - 20)) / 4);

    Shot shot = f.session.shot();
    shot.deliveryFolder = scratch.path().string();
    shot.steady.renderPath = "held.####.png";
    f.session.edit("place", shot);
    QTest::mouseClick(f.button("renderSteady"), Qt::LeftButton);
    f.wait();
    for (int frame : {1001, 1024}) CHECK(std::filesystem::exists(scratch / fmt::format("held.{}.png", frame)));
    CHECK(f.window.note().contains("24 frames"));

    const auto profile = runTakeShake(f.session.shot(), 0);
    REQUIRE(profile);
    f.session.openPlate(std::string(PINION_SOURCE_DIR) + "/demo/plates/breakwater.mp4");
    f.wait();
    Shot still = f.session.shot();
    still.steady.shake = true;
    still.steady.profile = std::make_shared<const ShakeProfile>(*profile);
    f.session.edit("Lend a shake", still);
    REQUIRE(QTest::qWaitFor([&] { return f.steady.plan() != nullptr; }, 30000));
    f.window.show("steady");
    const QPointF a = *f.canvas.view().screenFromPlate({640, 360});
    f.session.player.goTo(1015);
    QTest::qWait(60);
    CHECK(QLineF(*f.canvas.view().screenFromPlate({640, 360}), a).length() > 1);
    // The shot keeps it all.
    const auto again = parseShot(shotJson(f.session.shot(), scratch / "s.pinion"), scratch / "s.pinion");
    REQUIRE(again);
    CHECK(again->steady.profile->samples.size() == profile->samples.size());
    CHECK(steadyKey(*again) == steadyKey(f.session.shot()));
}

TEST_CASE("the canvas is held on a track, the curves show it, and a locator is copied and delivered") {
    Fixture f;
    const test::Scratch scratch;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1016}));
    const TrackId id = trackedPoint(f);
    f.session.player.goTo(1001);
    f.key(Qt::Key_N);
    const QPointF held = *f.canvas.view().screenFromPlate(sampleAt(trackOf(f, id), 1001)->at);
    f.session.player.goTo(1014);
    QTest::qWait(60);
    CHECK(QLineF(*f.canvas.view().screenFromPlate(sampleAt(trackOf(f, id), 1014)->at), held).length() < 0.01);
    f.key(Qt::Key_N);
    f.key(Qt::Key_U);
    CHECK(f.window.curves().isVisible());
    f.key(Qt::Key_U);
    CHECK(f.window.threadSheet().isVisible());

    f.session.player.goTo(1001);
    f.key(Qt::Key_L, Qt::ControlModifier);
    REQUIRE(f.session.shot().locators.size() == 1);
    QTest::mouseClick(f.button("copy-on p-1 transform as a table"), Qt::LeftButton);
    f.wait();
    const QString copied = QApplication::clipboard()->text();
    CHECK(
        copied.startsWith("# pinion.transforms version=1 width=1280 height=720 fps=24 first_frame=1001 last_frame=1016 "
                          "reference_frame=1001"));
    CHECK(copied.count('\n') == 18);
    Shot shot = f.session.shot();
    shot.deliveryFolder = scratch.path().string();
    f.session.edit("folder", shot);
    f.delivery.startDelivery({"on p-1 transform"});
    f.wait();
    CHECK(std::filesystem::exists(scratch / "mooring.on-p-1.transforms.json"));

    // What cannot be read is refused, and nothing is lost.
    importTracks(f.session, scratch.write("bad.csv", "track,frame,x,y\np,1001,\"3,5\",4\n"));
    f.wait();
    CHECK(f.window.note().contains("line 2, x: '3,5' is not a number; write decimals with a point"));
    CHECK(f.session.shot().tracks.size() == 1);
    importTracks(f.session, scratch.write("good.csv", "track,frame,x,y\np-1,1001,30,40\np-1,1002,31,41\n"));
    f.wait();
    REQUIRE(f.session.shot().tracks.size() == 2);
    CHECK(f.session.shot().tracks[1].name == "p-1-2");
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().tracks.size() == 1);
}

TEST_CASE("a rubber band may begin on a feature; a click there chooses it alone") {
    Fixture f;
    f.openPlate();
    Shot shot = f.session.shot();
    std::vector<Track> features;
    for (int i = 0; i < 12; ++i) {
        Track track;
        track.id = i + 1;
        track.name = "s-" + std::to_string(i + 1);
        track.referenceFrame = 1001;
        track.samples = std::vector<Sample>{{.frame = 1001, .at = {400.0 + 60 * (i % 4), 300.0 + 60 * (i / 4)}}};
        features.push_back(std::move(track));
    }
    shot.tracks = std::move(features);
    shot.nextTrack = 13;
    f.session.edit("Features", shot);
    QTest::qWait(50);
    // From the first one to beyond the one below and to the right of it.
    drag(f.canvas, f.screen(400, 300) - QPoint(2, 2), f.screen(470, 370));
    CHECK(f.session.selection.tracks() == std::set<TrackId>{1, 2, 5, 6});
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(400, 300));
    CHECK(f.session.selection.tracks() == std::set<TrackId>{1});
    // One that was placed by hand is dragged instead, and nothing else is chosen.
    shot = withTrackAdded(f.session.shot(), 1001, {700, 500});
    f.session.edit("Place", shot);
    const TrackId placed = shot.tracks.back().id;
    drag(f.canvas, f.screen(700, 500), f.screen(740, 500));
    CHECK(f.session.selection.tracks() == std::set<TrackId>{placed});
    INFO(placed << " " << f.session.shot().tracks.size());
    REQUIRE(findTrack(f.session.shot(), placed));
    CHECK(sampleAt(*findTrack(f.session.shot(), placed), 1001)->at.x() > 705);
}

TEST_CASE("the empty start offers what was open last, one click away") {
    {
        Fixture f;
        f.openPlate(kMooring);
        f.openPlate();
    }
    Fixture f;
    REQUIRE(QTest::qWaitFor([&] { return f.canvas.recentRows().size() >= 2; }, 30000));
    CHECK(f.canvas.recentRows()[0].second.endsWith("landing.mp4"));
    const auto [row, path] = f.canvas.recentRows()[1];
    CHECK(path.endsWith("mooring.mp4"));
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, QPoint(10, 10));
    CHECK_FALSE(f.session.hasPlate());
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, row.center().toPoint());
    f.wait();
    REQUIRE(f.session.hasPlate());
    CHECK(f.session.shot().plate.path.filename() == "mooring.mp4");
}

TEST_CASE("the plate check runs beside the interface and shows its strip and its notes") {
    Fixture f;
    f.openPlate(kMooring);
    f.session.edit("range", withRange(f.session.shot(), {1001, 1030}));
    const int ruler = f.window.threadSheet().rulerRect().top();
    f.key(Qt::Key_L, Qt::ControlModifier | Qt::ShiftModifier);
    f.wait();
    REQUIRE(f.plate.check());
    CHECK(f.plate.check()->frames.size() == 30);
    // One row of it, four when it is unfolded by its name.
    const int folded = f.window.threadSheet().rulerRect().top();
    CHECK(folded > ruler);
    QTest::mouseClick(&f.window.threadSheet(), Qt::LeftButton, {}, QPoint(30, 6));
    CHECK(f.window.threadSheet().rulerRect().top() > folded + 20);
    QTest::mouseClick(&f.window.threadSheet(), Qt::LeftButton, {}, QPoint(30, 6));
    CHECK(f.window.threadSheet().rulerRect().top() == folded);
    CHECK_FALSE(f.window.findChild<QLabel*>("plateNotes")->text().isEmpty());
}

TEST_CASE("the Plate card says what is odd about the footage, and a damaged frame says so on the canvas") {
    Fixture f;
    const test::Scratch scratch;
    test::makeVideo(scratch / "phone.mp4", {.frames = 24,
                                            .width = 320,
                                            .height = 192,
                                            .rate = {3000, 1},
                                            .stampOf = [](int i) { return std::int64_t(100 * i + (i == 9 ? 40 : 0)); },
                                            .turned = 90});
    f.openPlate((scratch / "phone.mp4").string());
    auto* remarks = f.window.findChild<QLabel*>("plateRemarks");
    REQUIRE(remarks);
    INFO(remarks->text().toStdString());
    CHECK(remarks->text().contains("The video says that it lies on its side: frames are turned by 90°"));
    CHECK(remarks->text().contains("The frame rate varies: 2 of 24"));
    CHECK(f.session.shot().plate.width == 192);
    CHECK(f.session.shot().plate.times.seconds.size() == 24);
    CHECK(f.session.shot().solveSettings.squeeze == 1.0);

    test::makeVideo(scratch / "wide.mp4", {.frames = 12, .width = 320, .height = 192, .aspect = {2, 1}});
    f.openPlate((scratch / "wide.mp4").string());
    CHECK(remarks->text().contains("a squeeze of 0.5 is taken"));
    f.window.docket().open("camera");
    auto* squeeze = f.window.findChild<QDoubleSpinBox*>("squeeze");
    REQUIRE(squeeze);
    CHECK(squeeze->value() == 0.5);
    squeeze->setValue(0.75);
    CHECK(f.session.shot().solveSettings.squeeze == 0.75);
    f.session.document.undo();
    CHECK(squeeze->value() == 0.5);

    test::makeVideo(scratch / "sound.mp4", {.frames = 60, .width = 320, .height = 192, .keyEvery = 20, .both = 0});
    std::string bytes = *readFile(scratch / "sound.mp4");
    std::mt19937 random(5);
    for (std::size_t i = 0; i < 6000; ++i) bytes[bytes.size() / 2 + i] = char(random());
    const auto hurt = scratch.write("hurt.mp4", bytes);
    const auto damaged = (*Plate::open(hurt))->damagedFrames(Progress{});
    REQUIRE_FALSE(damaged.empty());
    f.openPlate(hurt.string());
    CHECK(remarks->text().isEmpty());
    f.session.player.goTo(damaged.front());
    REQUIRE(QTest::qWaitFor([&] { return f.session.player.frameProblem().contains("damaged"); }, 30000));
    f.plate.startCheck();
    f.wait();
    CHECK(f.window.findChild<QLabel*>("plateNotes")->text().contains("damaged or cannot be read"));
}

TEST_CASE("the Camera card holds kind, zoom, distortion and axis, and says its doubt in words") {
    Fixture f;
    f.openPlate();
    f.window.docket().open("camera");
    const auto choose = [&](const char* name, const QString& word) {
        auto* box = f.window.findChild<QComboBox*>(name);
        REQUIRE(box);
        const int index = box->findText(word);
        REQUIRE(index >= 0);
        box->setCurrentIndex(index);
        emit box->activated(index);
    };
    choose("cameraKind", "nodal");
    choose("axis", "free");
    choose("distortion", "find all terms");
    choose("zoom", "zooms");
    const SolveSettings settings = f.session.shot().solveSettings;
    CHECK(settings.motion == CameraMotion::nodal);
    CHECK(settings.axis == SolveOptions::Axis::free);
    CHECK(settings.distortion == SolveOptions::Distortion::full);
    CHECK(settings.zoom == true);
    choose("cameraKind", "find out");
    CHECK_FALSE(f.session.shot().solveSettings.motion);
    QTest::keyClick(&f.window, Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().solveSettings.motion == CameraMotion::nodal);
    auto* doubt = f.window.findChild<QLabel*>("doubt");
    REQUIRE(doubt);
    CHECK_FALSE(doubt->isVisible());

    // A solve as a file would bring it: a camera that only turned, and zoomed, and is not sure.
    Shot shot = f.session.shot();
    auto solve = std::make_shared<Solve>();
    solve->lens = pinholeLens(1280, 720, 1000);
    solve->motion = CameraMotion::nodal;
    solve->zoom = true;
    solve->reason = "40 of 41 tracks fit a camera that only turns";
    solve->doubt = "25 to 61 mm fit alike: give a focal length, or a longer move";
    std::vector<SolvedTrack> solved;
    for (int i = 0; i < 12; ++i) {
        TrackId id = 0;
        shot = withTrackAdded(shot, 1001, {200.0 + 70 * i, 400}, &id);
        solved.push_back({.track = id,
                          .role = TrackRole::used,
                          .direction = Eigen::Vector3d(0.1 * (i - 6), 0.02 * i, -1).normalized(),
                          .rms_px = 0.2,
                          .frames = 3});
    }
    std::vector<SolvedFrame> frames;
    for (int i = 0; i < 120; ++i)
        frames.push_back({.frame = 1001 + i, .focal_px = 1000.0 + 5 * i, .focalDeviation_px = 2});
    solve->frames = List<SolvedFrame>(frames);
    solve->tracks = List<SolvedTrack>(solved);
    f.session.edit("Solve camera", withSolve(shot, *solve, shot));
    QTest::qWait(50);
    CHECK(doubt->isVisible());
    CHECK(doubt->text().contains("25 to 61 mm fit alike"));
    auto* results = f.window.findChild<QLabel*>("solveResults");
    REQUIRE(results);
    CHECK(results->text().contains("nodal, zoom"));
    CHECK(results->text().contains("28.1 to 44.9 mm"));
    CHECK(results->text().contains("only turns"));

    // Its focal length is a curve; there is no ground to lay.
    f.window.showCurves(true);
    f.window.curves().setCurve("focal");
    QTest::qWait(50);
    CHECK(f.window.curves().curveCount() == 3);
    f.window.docket().open("world");
    f.session.selection.set({1, 2, 5});
    CHECK_FALSE(f.button("button-ground")->isEnabled());
    f.window.show("3d");
    QTest::qWait(150);
    if (WorldView* view = f.window.worldView()) {
        // The sphere: far more lines than an empty view, brass where its horizon is.
        const QImage picture = view->grabFramebuffer();
        int lit = 0;
        for (int y = 0; y < picture.height(); y += 2)
            for (int x = 0; x < picture.width(); x += 2) lit += qGray(picture.pixel(x, y)) > 50;
        CHECK(lit > 500);
    }
}

TEST_CASE("the window lies on its screen, however large or far off it was, and opens where it was closed") {
    Fixture f;
    const QRect room = f.window.screen()->availableGeometry();
    f.window.resize(room.width() + 300, room.height() + 200);
    f.window.move(500, 400);
    QTest::qWait(100);
    f.window.fitToScreen();
    QTest::qWait(100);
    CHECK(room.contains(f.window.frameGeometry()));
    auto* transport = f.window.findChild<QLabel*>("frame");
    REQUIRE(transport);
    CHECK(room.contains(QRect(transport->mapToGlobal(QPoint(0, 0)), transport->size())));
    f.window.resize(1300, 720);
    f.window.move(40, 30);
    QTest::qWait(100);
    f.window.setProperty("closing", true);
    f.window.close();
    MainWindow again;
    again.showInPlace();
    REQUIRE(QTest::qWaitForWindowExposed(&again));
    CHECK(again.width() == 1300);
    CHECK(again.height() == 720);
    again.setProperty("closing", true);
}

TEST_CASE(
    "measures from the set are added, typed, refused in words and taken out in the Camera card; the base pair is set "
    "by hand") {
    Fixture f;
    f.openPlate();
    f.window.docket().open("camera");
    Shot shot = f.session.shot();
    std::vector<TrackId> ids(3);
    for (int i = 0; i < 3; ++i) shot = withTrackAdded(shot, 1001, {300.0 + 100 * i, 400}, &ids[std::size_t(i)]);
    f.session.edit("Add tracks", shot);
    auto* table = f.window.findChild<QTableWidget*>("measures");
    REQUIRE(table);
    CHECK_FALSE(table->isVisible());
    QPushButton* distance = f.button("button-add-distance");
    QPushButton* place = f.button("button-add-place");
    CHECK_FALSE(distance->isEnabled());
    const auto type = [&](const QString& words) {
        auto* editor = table->findChild<QLineEdit*>();
        REQUIRE(editor);
        editor->selectAll();
        QTest::keyClicks(editor, words);
        QTest::keyClick(editor, Qt::Key_Return);
        QTest::qWait(30);
    };
    f.session.selection.set({ids[0], ids[1]});
    REQUIRE(distance->isEnabled());
    CHECK_FALSE(place->isEnabled());
    QTest::qWait(100);  // the card is laid out anew
    QTest::mouseClick(distance, Qt::LeftButton);
    type("2.5 m");
    REQUIRE(f.session.shot().solveSettings.distances.size() == 1);
    CHECK(f.session.shot().solveSettings.distances[0].metres == 2.5);
    CHECK(f.session.shot().solveSettings.distances[0].b == ids[1]);
    f.session.selection.set({ids[2]});
    QTest::qWait(100);
    QTest::mouseClick(place, Qt::LeftButton);
    type("1, 0.5, -2");
    REQUIRE(f.session.shot().solveSettings.places.size() == 1);
    CHECK(f.session.shot().solveSettings.places[0].metres == Eigen::Vector3d(1, 0.5, -2));
    CHECK_FALSE(place->isEnabled());  // it has its place
    REQUIRE(table->rowCount() == 2);
    CHECK(table->isVisible());
    // What is no measure is refused, and what was there stays.
    QString said;
    QObject::connect(&f.session.notes, &Notes::said, &f.window, [&](const QString& words, bool error) {
        if (error) said = words;
    });
    table->setCurrentCell(0, 1);
    table->editItem(table->item(0, 1));
    type("-3");
    CHECK(said.contains("'-3' is no length"));
    CHECK(f.session.shot().solveSettings.distances[0].metres == 2.5);
    CHECK(QTest::qWaitFor([&] { return table->item(0, 1)->text() == "2.5"; }, 30000));
    // A click on a line selects its tracks.
    QTest::mouseClick(table->viewport(), Qt::LeftButton, {}, table->visualItemRect(table->item(0, 0)).center());
    CHECK(f.session.selection.tracks() == std::set<TrackId>{ids[0], ids[1]});
    table->setFocus();
    QTest::keyClick(table, Qt::Key_Delete);
    CHECK(f.session.shot().solveSettings.distances.isEmpty());
    CHECK(f.session.shot().solveSettings.places.size() == 1);
    CHECK(f.session.shot().tracks.size() == 3);  // Delete took the measure, not the tracks
    f.session.document.undo();
    CHECK(f.session.shot().solveSettings.distances.size() == 1);

    auto* base = f.window.findChild<QComboBox*>("basePair");
    auto* first = f.window.findChild<QSpinBox*>("baseFirst");
    REQUIRE(base);
    REQUIRE(first);
    CHECK_FALSE(first->isVisible());
    base->setCurrentIndex(1);
    emit base->activated(1);
    REQUIRE(f.session.shot().solveSettings.basePair);
    CHECK(first->isVisible());
    first->setValue(1012);
    CHECK(f.session.shot().solveSettings.basePair->first == 1012);
    base->setCurrentIndex(0);
    emit base->activated(0);
    CHECK_FALSE(f.session.shot().solveSettings.basePair);
}

TEST_CASE("a solve is refined from itself after a measure was added, and the measure shows what became of it") {
    Fixture f;
    f.openPlate();
    Shot shot = f.session.shot();
    shot.plate.range = {1001, 1050};
    f.session.edit("Range", shot);
    startScatter(f.session);
    f.wait();
    f.window.docket().open("camera");
    QTest::qWait(60);  // until the card is laid out
    QPushButton* refine = f.button("button-refine");
    CHECK_FALSE(refine->isVisible());
    QTest::mouseClick(f.button("button-solve"), Qt::LeftButton);
    f.wait();
    REQUIRE(f.session.shot().solve);
    REQUIRE(refine->isVisible());
    std::vector<TrackId> two;
    for (const SolvedTrack& track : f.session.shot().solve->tracks)
        if (track.role == TrackRole::used && track.xyz && track.frames > 35 && two.size() < 2)
            two.push_back(track.track);
    REQUIRE(two.size() == 2);
    Shot measured = f.session.shot();
    measured.solveSettings.distances = List<KnownDistance>({{two[0], two[1], 1.5, 0.001}});
    f.session.edit("Add a distance", measured);
    const double before = focalMillimetres(f.session.shot().solve->lens.focal_px, 36, 1280);
    QTest::mouseClick(refine, Qt::LeftButton);
    f.wait();
    const auto solve = f.session.shot().solve;
    CHECK(solve->reason.find("from an earlier solve") != std::string::npos);
    CHECK(solve->inMetres);
    CHECK(focalMillimetres(solve->lens.focal_px, 36, 1280) == Approx(before).epsilon(0.01));
    CHECK(f.window.findChild<QTableWidget*>("measures")->item(0, 3)->text() == "1.500");
}
