// What stands in the solved scene, in the window: put there by clicks, dragged, listed, saved.

#include "camera/object.h"
#include "fixture.h"
#include "render/scenerender.h"
#include "canvas/sight.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/sceneedits.h"
#include "shot/file/shotfile.h"
#include "scene/worldview.h"
#include "stages/world/standinoverlay.h"
#include "stages/world/standscene.h"
#include "stages/world/worldstage.h"

#include <QCheckBox>
#include <QComboBox>
#include <QDoubleSpinBox>
#include <QLineEdit>
#include <QListWidget>
#include <QPainter>
#include <QSpinBox>
#include <QTemporaryDir>
#include <QToolButton>

#include <numbers>

namespace {

using Eigen::Vector3d;

/// The landing with a camera as high as a person, that looks down a little; its ground is y = 0.
struct Standing : Fixture {
    WorldStage& world = window.stage<WorldStage>();
    QString said;

    Standing() {
        QObject::connect(&session.notes, &Notes::said, &window, [this](const QString& words, bool) { said = words; });
        openPlate();
        Solve solve;
        solve.lens = pinholeLens(1280, 720, 1000);
        solve.lens.k1 = -0.1;
        solve.motion = CameraMotion::travelling;
        std::vector<SolvedFrame> frames;
        for (int frame = 1001; frame <= 1120; ++frame) {
            Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
            pose.translate(Vector3d(0.01 * (frame - 1001), 1.6, 6));
            pose.rotate(Eigen::AngleAxisd(-0.15, Vector3d::UnitX()));
            frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = 1000});
        }
        solve.frames = List<SolvedFrame>(std::move(frames));
        std::vector<Track> floor;
        std::vector<SolvedTrack> solved;
        for (const Vector3d& place : {Vector3d(-1, 0.5, 0), Vector3d(1, 0.5, 0), Vector3d(0, 1.5, 0)}) {
            Track track;
            track.id = TrackId(floor.size() + 1);
            track.name = fmt::format("p{}", track.id);
            solved.push_back({.track = track.id, .role = TrackRole::used, .xyz = place});
            floor.push_back(track);
        }
        solve.tracks = List<SolvedTrack>(std::move(solved));
        Shot shot = session.shot();
        shot.tracks = List<Track>(std::move(floor));
        shot.nextTrack = 4;
        session.edit("Solve camera", withSolve(shot, solve, shot));
        window.docket().open("world");
        QTest::qWait(50);
    }
    QPointF screenOf(const Vector3d& place) {
        const auto at = world.hand.eye()->plateFromWorld(place);
        REQUIRE(at);
        return *canvas.view().screenFromPlate(*at);
    }
    void drag(const QPointF& from, const QPointF& to, Qt::KeyboardModifiers modifiers = Qt::NoModifier) {
        QTest::mousePress(&canvas, Qt::LeftButton, modifiers, from.toPoint());
        for (int i = 1; i <= 4; ++i) {
            QMouseEvent move(QEvent::MouseMove, from + (to - from) * i / 4.0,
                             canvas.mapToGlobal(from + (to - from) * i / 4.0), Qt::NoButton, Qt::LeftButton, modifiers);
            QApplication::sendEvent(&canvas, &move);
        }
        QTest::mouseRelease(&canvas, Qt::LeftButton, modifiers, to.toPoint());
        QTest::qWait(30);
    }
    const StandIn& only() {
        REQUIRE(session.shot().scene.standIns.size() == 1);
        return session.shot().scene.standIns[0];
    }
    void putBox() {
        QTest::mouseClick(button("standInMake-box"), Qt::LeftButton);
        QTest::mouseClick(&canvas, Qt::LeftButton, {}, screenOf({0.3, 0, 1}).toPoint());
        QTest::qWait(50);
    }
    void putBoxBeside() {
        session.selection.set({});
        QTest::mouseClick(button("standInMake-box"), Qt::LeftButton);
        QTest::mouseClick(&canvas, Qt::LeftButton, {}, screenOf({-0.6, 0, 1}).toPoint());
        QTest::qWait(50);
    }
    StandInGrips grips() { return gripsOf(only(), *world.hand.stanceNow(), *world.hand.eye(), canvas.view()); }
};

}  // namespace

TEST_CASE("a box is put on the ground by a click, is seen in the picture, and goes with one undo") {
    Standing f;
    f.putBox();
    CHECK((f.only().stance.place - Vector3d(0.3, 0, 1)).norm() < 0.02);
    CHECK(f.only().name == "box 1");
    CHECK(f.window.view() == "stand-ins");
    REQUIRE(f.session.shot().inserts.size() == 1);
    CHECK(f.session.shot().inserts[0].kind == "stand-ins");
    // Its colour, lit, where its front is.
    const auto front = f.world.hand.eye()->plateFromWorld({0.3, 0.25, 1.25});
    f.world.hand.edit("Colour", [](StandIn& one) { one.colour = {0.9, 0.1, 0.8}; });
    const auto isPink = [&] {
        const QColor seen = f.seen(front->x(), front->y());
        return seen.red() > 1.8 * seen.green() && seen.blue() > 1.6 * seen.green();
    };
    CHECK(QTest::qWaitFor(isPink, 20000));
    // Behind what passes in front of it.
    Matte mast;
    mast.name = "mast";
    const double x = front->x(), y = front->y();
    mast.keys = {{1001, {{x - 30, y - 30}, {x + 30, y - 30}, {x + 30, y + 30}, {x - 30, y + 30}}}};
    f.session.edit("Mast", withMatteAdded(f.session.shot(), mast));
    auto* front1 = f.window.findChild<QListWidget*>("standInFront");
    REQUIRE(QTest::qWaitFor([&] { return front1->count() == 1; }, 5000));
    front1->item(0)->setCheckState(Qt::Checked);
    CHECK(QTest::qWaitFor([&] { return !isPink(); }, 20000));
    CHECK(f.session.shot().inserts[0].heldOut.size() == 1);

    for (int i = 0; i < 4; ++i) f.session.document.undo();
    CHECK(f.session.shot().scene.standIns.isEmpty());
    CHECK(f.session.shot().inserts.isEmpty());
}

TEST_CASE("a stand-in is dragged over its floor, raised, turned and sized by its grips, in steps with Shift") {
    Standing f;
    f.putBox();
    const Vector3d before = f.only().stance.place;
    // Its middle goes where the mouse goes: on the level at which it was gripped.
    f.drag(f.screenOf(before), f.screenOf(before + Vector3d(0.8, 0, -0.6)));
    CHECK((f.only().stance.place - before - Vector3d(0.8, 0, -0.6)).norm() < 0.03);
    CHECK(f.only().stance.place.y() == before.y());
    f.drag(*f.grips().rise, *f.grips().rise + QPointF(0, -60));
    CHECK(f.only().stance.place.y() > 0.2);
    CHECK(f.only().stance.place.x() == Approx(before.x() + 0.8).margin(0.03));
    QTest::mouseClick(f.button("standInDown"), Qt::LeftButton);
    CHECK(f.only().stance.place.y() == Approx(0).margin(1e-9));
    const double size = f.only().stance.size.y();
    const QPointF foot = *f.grips().foot, corner = *f.grips().size;
    f.drag(corner, foot + 2 * (corner - foot));
    CHECK(f.only().stance.size.y() == Approx(2 * size).epsilon(0.05));
    CHECK(f.only().stance.size.x() == Approx(f.only().stance.size.y()));
    f.drag(*f.grips().turn, *f.grips().turn + QPointF(40, 0), Qt::ShiftModifier);
    const double turn = f.only().stance.turn_deg.y();
    CHECK(turn != 0);
    CHECK(std::remainder(turn, 15) == Approx(0).margin(1e-9));
    f.session.document.undo();
    CHECK(f.only().stance.turn_deg.y() == 0);
    // Delete takes what is held.
    f.canvas.setFocus();
    f.key(Qt::Key_Delete);
    CHECK(f.session.shot().scene.standIns.isEmpty());
}

TEST_CASE("a stand-in stands on the chosen points, between two, and a board lies on the plane of three") {
    Standing f;
    // The card grows with what is held: a click before it is laid out anew goes elsewhere.
    const auto press = [&](const char* name, std::size_t count) {
        QTest::qWait(100);
        QTest::mouseClick(f.button(name), Qt::LeftButton);
        REQUIRE(QTest::qWaitFor([&] { return f.session.shot().scene.standIns.size() == count; }, 5000));
    };
    f.session.selection.set({1});
    press("standInMake-cone", 1);
    CHECK((f.only().stance.place - Vector3d(-1, 0.5, 0)).norm() < 1e-9);
    f.session.selection.set({1, 2});
    press("standInMake-ball", 2);
    CHECK((f.session.shot().scene.standIns[1].stance.place - Vector3d(0, 0.5, 0)).norm() < 1e-9);
    f.session.selection.set({1, 2, 3});
    press("standInMake-board", 3);
    const Stance& board = f.session.shot().scene.standIns[2].stance;
    // The plane is z = 0, and the camera stands at positive z: so looks the board.
    CHECK((board.rotation().col(2) - Vector3d(0, 0, 1)).norm() < 1e-6);
    CHECK(board.rotation()(1, 1) == Approx(1));
}

TEST_CASE("numbers, ticks and keys of a stand-in are edits, and all of it is saved and read back") {
    Standing f;
    f.putBox();
    const auto set = [&](const char* name, double value) {
        auto* box = f.window.findChild<QDoubleSpinBox*>(name);
        REQUIRE(box);
        box->setValue(value);
        QTest::qWait(10);
    };
    set("standInPlace-0", 1.234);
    set("standInTurn-1", 33.3);
    set("standInSize-2", 0.77);
    CHECK(f.only().stance.place.x() == Approx(1.234));
    CHECK(f.only().stance.turn_deg.y() == Approx(33.3));
    CHECK(f.only().stance.size.z() == Approx(0.77));
    QTest::mouseClick(f.button("standInKey"), Qt::LeftButton);
    f.session.player.goTo(1011);
    f.waitForPicture();
    set("standInPlace-0", 2.234);
    REQUIRE(f.only().keys.size() == 2);
    CHECK(f.only().at(1006).place.x() == Approx(1.734));
    auto* words = f.window.findChild<QLabel*>("standInKeys");
    CHECK(words->text() == "Keys on 1001, 1011");
    auto* catches = f.window.findChild<QCheckBox*>("standInCatches");
    catches->click();
    CHECK(f.only().catchesOnly);
    set("sunHeight", 42);
    CHECK(f.session.shot().scene.sun.towards.normalized().y() == Approx(std::sin(42 * M_PI / 180)));
    // A name by the list.
    auto* list = f.window.findChild<QListWidget*>("standIns");
    list->item(0)->setText("marker");
    REQUIRE(QTest::qWaitFor([&] { return f.only().name == "marker"; }, 5000));
    list->item(0)->setCheckState(Qt::Unchecked);
    REQUIRE(QTest::qWaitFor([&] { return f.only().hidden; }, 5000));

    const test::Scratch scratch;
    const auto path = scratch / "s.pinion";
    REQUIRE(saveShot(f.session.shot(), path));
    const auto again = loadShot(path);
    REQUIRE(again);
    CHECK(again->scene == f.session.shot().scene);
    CHECK(again->nextStandIn == f.session.shot().nextStandIn);
}

TEST_CASE("whether a stand-in slides is measured in the plate and told, until it stands elsewhere") {
    Standing f;
    f.putBox();
    auto* words = f.window.findChild<QLabel*>("standInProofWords");
    CHECK(words->text().isEmpty());
    QTest::mouseClick(f.button("standInProof"), Qt::LeftButton);
    f.wait();
    // This camera is made up: the deck slides against it, or is not found again.
    const bool told = words->text().contains("slides by") && words->text().contains("px RMS");
    CHECK((told || f.said.contains("found again") || f.said.contains("texture")));
    f.world.hand.edit("Move", [](StandIn& one) { one.stance.place.x() += 0.5; });
    CHECK(words->text().isEmpty());
}

TEST_CASE("the sun stands where a shadow in the plate says; clicks that cannot be one are refused in words") {
    Standing f;
    f.putBox();
    const Vector3d foot(0, 0, 0), top(0, 1.2, 0), tip(0.9, 0, -0.4);
    QTest::mouseClick(f.button("sunByShadow"), Qt::LeftButton);
    for (const Vector3d& place : {foot, top, tip})
        QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf(place).toPoint());
    const Vector3d expected = (top - tip).normalized();
    CHECK((f.session.shot().scene.sun.towards - expected).norm() < 0.01);
    // A tip in the sky.
    const Sun before = f.session.shot().scene.sun;
    for (const QPoint& at : {f.screenOf(foot).toPoint(), f.screenOf(top).toPoint(), f.screen(640, 20)})
        QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, at);
    CHECK(f.session.shot().scene.sun == before);
    CHECK(f.said.contains("tip of the shadow"));
}

TEST_CASE("a mesh is read from a file and put on the ground as large as it is; one that is gone is told") {
    Standing f;
    f.world.addMesh(std::filesystem::path(PINION_SOURCE_DIR) / "demo/lamp-post.obj");
    f.wait();
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({-0.5, 0, 0.5}).toPoint());
    QTest::qWait(50);
    CHECK(f.only().name == "lamp-post");
    CHECK(f.only().stance.size.y() == Approx(3.17));
    const test::Scratch scratch;
    REQUIRE(saveShot(f.session.shot(), scratch / "s.pinion"));
    CHECK(loadShot(scratch / "s.pinion")->scene.standIns[0].file == f.only().file);
    f.world.hand.edit("File", [&](StandIn& one) { one.file = scratch / "gone.obj"; });
    CHECK(QTest::qWaitFor(
        [&] { return f.canvas.shownSight() && f.canvas.shownSight()->words(1001).contains("is not there"); }, 10000));
    CHECK(f.button("standInFind")->isVisibleTo(&f.window));
    f.world.addMesh(scratch / "none.obj");
    f.wait();
    CHECK(f.session.shot().scene.standIns.size() == 1);
}

TEST_CASE("a camera that only turns gets a ground below it together with what first stands there, and one undo") {
    Standing f;
    Solve turning = *f.session.shot().solve;
    turning.motion = CameraMotion::nodal;
    turning.tracks = {};
    turning.frames = turning.frames.edited([](auto& frames) {
        for (SolvedFrame& frame : frames) frame.worldFromCamera.translation().setZero();
    });
    f.session.edit("Solve camera", withSolve(f.session.shot(), turning, f.session.shot()));
    QTest::mouseClick(f.button("standInMake-box"), Qt::LeftButton);
    CHECK(f.said.contains("only turns"));
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({0.4, -1.6, -5}).toPoint());
    QTest::qWait(30);
    CHECK((f.only().stance.place - Vector3d(0.4, -1.6, -5)).norm() < 0.05);
    CHECK(f.session.shot().scene.ground == -1.6);
    f.session.document.undo();
    CHECK(f.session.shot().scene.standIns.isEmpty());
    CHECK(f.session.shot().scene.ground == 0);
}

TEST_CASE("without a camera nothing can stand anywhere, and it is said what is to be done") {
    Fixture f;
    QString said;
    QObject::connect(&f.session.notes, &Notes::said, &f.window, [&](const QString& words, bool) { said = words; });
    f.openPlate();
    f.window.docket().open("world");
    QTest::qWait(30);
    CHECK_FALSE(f.button("standInMake-box")->isEnabled());
    f.window.stage<WorldStage>().addStandIn(StandInKind::box);
    CHECK(said.contains("no camera"));
    CHECK(f.session.shot().scene.standIns.isEmpty());
}

TEST_CASE(
    "a card of a still stands where it is clicked, its backing keyed out, and words and a board's picture are set") {
    Standing f;
    QTemporaryDir folder;
    QImage actor(200, 400, QImage::Format_RGB32);
    actor.fill(QColor(30, 180, 50));
    QPainter(&actor).fillRect(70, 100, 60, 300, QColor(230, 40, 200));
    const QString path = folder.filePath("actor.png");
    REQUIRE(actor.save(path));
    f.world.addCard(path.toStdString());
    // Its file is read beside the interface; then it asks for its place.
    REQUIRE(QTest::qWaitFor([&] { return f.said.contains("Click where the card stands"); }, 10000));
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({0.3, 0, 1}).toPoint());
    QTest::qWait(50);
    CHECK(f.only().kind == StandInKind::card);
    CHECK(f.only().name == "actor");
    CHECK(f.only().stance.size.x() == Approx(1.75 / 2));
    CHECK(f.only().card.time.start == 1001);
    REQUIRE(f.only().card.key);
    CHECK(f.button("standInMake-card")->isEnabled());
    // The actor is there, the plate beside him.
    const auto onPlate = [&](const Vector3d& place) { return *f.world.hand.eye()->plateFromWorld(place); };
    const auto body = onPlate({0.3, 0.8, 1}), beside = onPlate({0.0, 1.4, 1});
    const auto isGreen = [&] {
        const QColor seen = f.seen(beside.x(), beside.y());
        return seen.green() > 2 * seen.red() && seen.green() > 2 * seen.blue();
    };
    const auto isPink = [&] {
        const QColor seen = f.seen(body.x(), body.y());
        return seen.red() > 1.8 * seen.green() && seen.blue() > 1.6 * seen.green();
    };
    REQUIRE(QTest::qWaitFor(isPink, 20000));
    CHECK_FALSE(isGreen());
    // Without its key the backing is there.
    auto* keyed = f.window.findChild<QCheckBox*>("standInKeyed");
    REQUIRE(keyed->isVisible());
    CHECK(keyed->isChecked());
    QTest::mouseClick(keyed, Qt::LeftButton, {}, QPoint(6, keyed->height() / 2));
    REQUIRE(QTest::qWaitFor([&] { return !f.only().card.key; }, 5000));
    CHECK(QTest::qWaitFor(isGreen, 20000));
    auto* faces = f.window.findChild<QCheckBox*>("standInFaces");
    REQUIRE(faces->isVisible());
    CHECK(faces->isChecked());
    auto* start = f.window.findChild<QSpinBox*>("standInStart");
    start->setValue(1010);
    CHECK(f.only().card.time.start == 1010);
    // A still has no time: it is there all the same.
    CHECK(isPink());

    f.world.addStandIn(StandInKind::text);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({-1, 0, 0}).toPoint());
    QTest::qWait(50);
    auto* words = f.window.findChild<QLineEdit*>("standInWords");
    REQUIRE(words->isVisible());
    CHECK(words->text() == "Text");
    CHECK_FALSE(keyed->isVisible());
    words->setFocus();
    words->selectAll();
    QTest::keyClicks(words, "Quay 7");
    QTest::keyClick(words, Qt::Key_Return);
    CHECK(f.session.shot().scene.standIns[1].words == "Quay 7");

    f.world.addStandIn(StandInKind::board);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({1, 0, 0}).toPoint());
    QTest::qWait(50);
    f.world.replaceFile(path.toStdString());
    REQUIRE(QTest::qWaitFor([&] { return f.session.shot().scene.standIns[2].showsPictures(); }, 10000));
    CHECK(f.session.shot().scene.standIns[2].stance.size.x() == Approx(0.5));
    CHECK_FALSE(f.session.shot().scene.standIns[2].card.key);
    // Handed on with the scene.
    const auto& listed = f.session.shot().deliverables;
    CHECK(std::count_if(listed.begin(), listed.end(),
                        [](const Deliverable& one) { return one.kind == DeliverableKind::scene; }) == 1);
    // What is no picture is refused with its name.
    QFile(folder.filePath("no.png")).open(QIODevice::WriteOnly);
    f.world.addCard(folder.filePath("no.png").toStdString());
    CHECK(QTest::qWaitFor([&] { return f.said.contains("no.png"); }, 10000));
    CHECK(f.session.shot().scene.standIns.size() == 3);
}

TEST_CASE("a box is carried by a solved object and goes with it, and the list of carriers follows the objects") {
    Standing f;
    f.putBox();
    auto* carrier = f.window.findChild<QComboBox*>("standInCarrier");
    REQUIRE(carrier);
    CHECK_FALSE(carrier->isVisible());  // there is nothing but the world
    ObjectSolve way;
    for (int frame = 1001; frame <= 1120; ++frame) {
        ObjectFrame one{.frame = frame};
        one.worldFromObject.translate(Vector3d(0.02 * (frame - 1001), 0, 0.5));
        way.frames.push_back(one);
    }
    Shot shot = f.session.shot();
    shot.objects =
        std::vector<ShotObject>{{.id = 7, .name = "trolley", .solve = std::make_shared<const ObjectSolve>(way)}};
    f.session.edit("Solve object", shot);
    REQUIRE(QTest::qWaitFor([&] { return carrier->isVisible(); }, 5000));
    REQUIRE(carrier->count() == 2);
    CHECK(carrier->itemText(1) == "trolley");
    const Vector3d before = f.world.hand.stanceNow()->place;
    carrier->setFocus();
    QTest::keyClick(carrier, Qt::Key_Down);
    REQUIRE(QTest::qWaitFor([&] { return f.only().carrier == 7; }, 5000));
    CHECK((f.world.hand.stanceNow()->place - before).norm() < 1e-9);  // it stays where it stands
    f.session.player.goTo(1051);
    REQUIRE(QTest::qWaitFor([&] { return f.world.hand.stanceNow()->place.x() > before.x() + 0.9; }, 5000));
    CHECK((f.world.hand.stanceNow()->place - before - Vector3d(1, 0, 0)).norm() < 1e-9);
    // Moved there, it is moved on the object.
    f.drag(f.screenOf(before + Vector3d(1, 0.1, 0)), f.screenOf(before + Vector3d(1.4, 0.1, 0)));
    CHECK(f.world.hand.stanceNow()->place.x() > before.x() + 1.2);
    f.session.player.goTo(1001);
    REQUIRE(QTest::qWaitFor([&] { return f.world.hand.stanceNow()->place.x() < before.x() + 0.6; }, 5000));
    CHECK(f.world.hand.stanceNow()->place.x() > before.x() + 0.2);
    // A new name is in the list.
    shot = f.session.shot();
    shot.objects = shot.objects.edited([](auto& all) { all[0].name = "ferry"; });
    f.session.edit("Name", shot);
    CHECK(QTest::qWaitFor([&] { return carrier->itemText(1) == "ferry"; }, 5000));
    CHECK(carrier->currentIndex() == 1);
}

TEST_CASE("a picture painted on one frame is thrown on to the ground, seen on another, and goes with one undo") {
    Standing f;
    QTemporaryDir folder;
    QImage paint(1280, 720, QImage::Format_ARGB32);
    paint.fill(Qt::transparent);
    QPainter(&paint).fillRect(500, 500, 240, 100, QColor(230, 30, 200));
    const QString path = folder.filePath("patch.png"), small = folder.filePath("small.png");
    REQUIRE(paint.save(path));
    REQUIRE(paint.scaled(300, 300).save(small));
    const std::string before = f.session.document.history().undoName();
    f.world.throwPictures({small.toStdString()}, true);
    REQUIRE(QTest::qWaitFor([&] { return f.window.note().contains("does not fill a plate of 1280x720"); }, 10000));
    CHECK(f.session.shot().inserts.isEmpty());
    f.world.throwPictures({path.toStdString()}, true);
    REQUIRE(QTest::qWaitFor([&] { return f.session.shot().inserts.size() == 1; }, 10000));
    CHECK(f.session.shot().inserts[0].kind == "thrown");
    CHECK(f.window.note().contains("No ground is set yet"));
    CHECK(f.window.view() == "stand-ins");
    const auto isPink = [&](const QPointF& at) {
        const QColor seen = f.seen(at.x(), at.y());
        return seen.red() > 2 * seen.green() && seen.blue() > 1.8 * seen.green();
    };
    CHECK(QTest::qWaitFor([&] { return isPink({620, 550}); }, 20000));
    CHECK_FALSE(isPink({450, 550}));
    // On another frame it lies on the same place of the ground.
    const auto ray = f.world.hand.eye()->rayThrough({620, 550});
    REQUIRE(ray);
    const Vector3d place = ray->from - ray->from.y() / ray->along.y() * ray->along;
    f.session.player.goTo(1101);
    const auto there = f.world.hand.eye()->plateFromWorld(place);
    REQUIRE(there);
    CHECK(std::abs(there->x() - 620) > 40);
    CHECK(QTest::qWaitFor([&] { return isPink({there->x(), there->y()}); }, 20000));
    f.session.document.undo();
    CHECK(f.session.shot().inserts.isEmpty());
    CHECK(f.session.document.history().undoName() == before);
}

TEST_CASE("pictures painted on several frames are thrown together, named by their frames") {
    Standing f;
    QTemporaryDir folder;
    const auto painted = [&](const char* name, int left, const QColor& colour) {
        QImage paint(1280, 720, QImage::Format_ARGB32);
        paint.fill(Qt::transparent);
        QPainter(&paint).fillRect(left, 500, 200, 100, colour);
        const QString path = folder.filePath(name);
        REQUIRE(paint.save(path));
        return std::filesystem::path(path.toStdString());
    };
    const QColor pink(230, 30, 200), green(20, 240, 30);
    const auto first = painted("patch.1001.png", 300, pink), second = painted("patch.1081.png", 640, green),
               other = painted("another.1081.png", 640, green);
    const Vector3d pinkPlace = [&] {
        const auto ray = f.world.hand.eye()->rayThrough({400, 550});
        return Vector3d(ray->from - ray->from.y() / ray->along.y() * ray->along);
    }();
    f.world.throwPictures({first, other}, true);
    REQUIRE(QTest::qWaitFor(
        [&] { return f.window.note().contains("another.1081.png: is no other frame of patch.1001.png"); }, 10000));
    CHECK(f.session.shot().inserts.isEmpty());
    // One beside them that was not chosen is not thrown.
    (void)painted("patch.1061.png", 300, QColor(20, 30, 240));
    f.world.throwPictures({second, first}, true);
    REQUIRE(QTest::qWaitFor([&] { return f.session.shot().inserts.size() == 1; }, 10000));
    CHECK(f.window.note().contains("Thrown from frames 1001 and 1081 on to the ground"));
    CHECK(f.session.shot().inserts[0].thrownFrom.vector() == std::vector{1001, 1081});
    // Each lies where it was painted, on a frame that is neither's.
    f.session.player.goTo(1081);
    const auto ray = f.world.hand.eye()->rayThrough({740, 550});
    const Vector3d greenPlace = ray->from - ray->from.y() / ray->along.y() * ray->along;
    f.session.player.goTo(1041);
    const auto isOf = [&](const Vector3d& place, const auto& asked) {
        const auto at = f.world.hand.eye()->plateFromWorld(place);
        return at && asked(f.seen(at->x(), at->y()));
    };
    const auto isPink = [](const QColor& c) { return c.red() > 1.5 * c.green() && c.blue() > 1.4 * c.green(); };
    const auto isGreen = [](const QColor& c) { return c.green() > 1.5 * c.red() && c.green() > 1.5 * c.blue(); };
    CHECK(QTest::qWaitFor([&] { return isOf(pinkPlace, isPink); }, 20000));
    CHECK(QTest::qWaitFor([&] { return isOf(greenPlace, isGreen); }, 20000));
}

TEST_CASE("a board on the deck takes what the plate shows there as its picture") {
    Standing f;
    QTest::mouseClick(f.button("standInMake-board"), Qt::LeftButton);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({0.3, 0, 1}).toPoint());
    QTest::qWait(50);
    REQUIRE(f.only().kind == StandInKind::board);
    f.world.hand.edit("Lay down", [](StandIn& one) {
        one.stance.turn_deg = {-90, 0, 0};
        one.stance.size = {0.6, 0.4, 1};
    });
    QTest::qWait(50);
    CHECK(f.button("standInGather")->isVisible());
    QTemporaryDir folder;
    const std::filesystem::path path = folder.filePath("deck.png").toStdString();
    f.world.gatherPicture(path);
    REQUIRE(QTest::qWaitFor([&] { return f.only().file == path; }, 300000));
    CHECK(f.window.note().contains("deck.png: "));
    const QImage gathered(QString::fromStdString(path.string()));
    REQUIRE_FALSE(gathered.isNull());
    CHECK(std::abs(double(gathered.width()) / gathered.height() - 1.5) < 0.05);
    // The deck's colour in its middle, as the plate shows it.
    const auto middle = f.world.hand.eye()->plateFromWorld(f.only().stance.worldFromUnit() * Vector3d(0, 0.5, 0));
    REQUIRE(middle);
    const QColor own = gathered.pixelColor(gathered.width() / 2, gathered.height() / 2);
    CHECK(own.alpha() == 255);
    CHECK(f.only().stance.size.x() == Approx(0.6).epsilon(0.05));
    f.session.document.undo();
    CHECK(f.only().file.empty());
}

TEST_CASE("in the 3D view a stand-in is held by a click, moved along an axis, over its floor, turned and sized") {
    Standing f;
    if (!f.window.worldView()) return;
    WorldView& view = *f.window.worldView();
    f.putBox();
    const Vector3d before = f.only().stance.place;
    f.window.show("3d");
    QTest::qWait(200);
    StandScene scene(f.session, f.world.hand);
    scene.shown = true;
    const auto grips = [&] {
        const auto seen = scene.grips(view.sight());
        REQUIRE(seen);
        return *seen;
    };
    const auto pull = [&](const QPointF& from, const QPointF& by, Qt::KeyboardModifiers modifiers = {}) {
        QTest::mousePress(&view, Qt::LeftButton, modifiers, from.toPoint());
        for (int i = 1; i <= 4; ++i) {
            const QPointF at = from + by * i / 4.0;
            QMouseEvent move(QEvent::MouseMove, at, view.mapToGlobal(at), Qt::NoButton, Qt::LeftButton, modifiers);
            QApplication::sendEvent(&view, &move);
        }
        QTest::mouseRelease(&view, Qt::LeftButton, modifiers, (from + by).toPoint());
        QTest::qWait(30);
    };
    const auto shownAt = [&](const Vector3d& place) { return *view.sight().screenFromWorld(place); };

    // Along x by its grip: to where the mouse is, and nowhere else.
    const Vector3d aside = before + Vector3d(0.7, 0, 0);
    const auto along = [&](int axis, double way) {
        const Vector3d end = f.only().stance.place + grips().reach * Vector3d::Unit(axis);
        return shownAt(end + way * Vector3d::Unit(axis)) - shownAt(end);
    };
    pull(*grips().axes[0], along(0, 0.7));
    CHECK((f.only().stance.place - aside).norm() < 0.03);
    CHECK(f.only().stance.place.z() == before.z());
    CHECK(f.session.document.history().undoName() == "Move box 1");
    // Up, in steps.
    pull(*grips().axes[1], along(1, 0.52), Qt::ShiftModifier);
    CHECK(f.only().stance.place.y() == Approx(0.5).margin(1e-9));
    CHECK(f.only().stance.place.x() == Approx(aside.x()).margin(0.03));
    f.session.document.undo();
    // Over the floor by its foot.
    const Vector3d near = f.only().stance.place + Vector3d(-0.4, 0, 0.9);
    pull(*grips().foot, shownAt(near) - *grips().foot);
    CHECK((f.only().stance.place - near).norm() < 0.03);
    // A quarter round, by the ring, in steps of 15 degrees.
    const QPointF turn = *grips().turn;
    const double reach = 0.7 * grips().reach;
    const double angle = std::numbers::pi * 3 / 4 + 0.03;
    pull(turn, shownAt(near + reach * Vector3d(std::sin(angle), 0, std::cos(angle))) - turn, Qt::ShiftModifier);
    CHECK(f.only().stance.turn_deg.y() == Approx(90).margin(1e-9));
    // Half as large again, by its corner.
    const Vector3d size = f.only().stance.size;
    const QPointF corner = *grips().size, foot = *grips().foot;
    pull(corner, 0.5 * (corner - foot));
    CHECK(f.only().stance.size.y() == Approx(1.5 * size.y()).epsilon(0.03));
    CHECK(f.only().stance.size.x() / size.x() == Approx(f.only().stance.size.y() / size.y()));

    // From the front it goes where the mouse goes as well, and stays on its level.
    view.setLook(SceneCamera::Look::front);
    const Vector3d there = f.only().stance.place;
    pull(shownAt(there + Vector3d(0, 0.2, 0)), shownAt(there + Vector3d(0.5, 0, 0)) - shownAt(there));
    CHECK((f.only().stance.place - there - Vector3d(0.5, 0, 0)).norm() < 0.03);

    // What is held is framed; a click beside it chooses points as ever.
    view.setLook(SceneCamera::Look::free);
    f.session.selection.set({});
    view.frameSelection();
    CHECK(QLineF(*grips().foot, QPointF(view.width() / 2.0, view.height() / 2.0)).length() < view.height() / 3.0);
    const auto edits = f.session.document.history().undoName();
    QTest::mouseClick(&view, Qt::LeftButton, {}, QPoint(8, 8));
    CHECK(f.session.document.history().undoName() == edits);
    // With another card open its grips are gone: a drag there is a rubber band.
    f.window.docket().open("tracks");
    const Vector3d last = f.only().stance.place;
    pull(*grips().foot, {60, 0});
    CHECK(f.only().stance.place == last);
}

TEST_CASE("the world as it was before is seen while a key or a button is held") {
    Standing f;
    if (!f.window.worldView()) return;
    WorldView& view = *f.window.worldView();
    QPushButton* before = f.button("worldBefore");
    CHECK_FALSE(before->isEnabled());
    World world = f.session.shot().world;
    world.turn_deg = 90;
    f.world.apply("Turn", world);
    f.window.show("3d");
    view.setLook(SceneCamera::Look::top);
    QTest::qWait(100);
    const auto placeOf = [&] {
        view.grabFramebuffer();
        return view.placeOf(1).value_or(QPointF());
    };
    const QPointF after = placeOf();
    view.setFocus();
    QTest::keyPress(&view, Qt::Key_Q, Qt::ShiftModifier);
    const QPointF then = placeOf();
    CHECK(QLineF(then, after).length() > 20);
    QTest::keyRelease(&view, Qt::Key_Q, Qt::ShiftModifier);
    CHECK(QLineF(placeOf(), after).length() < 1);
    QTest::qWait(30);
    CHECK(before->isEnabled());
    QTest::mousePress(before, Qt::LeftButton);
    CHECK(QLineF(placeOf(), then).length() < 1);
    QTest::mouseRelease(before, Qt::LeftButton);
    CHECK(QLineF(placeOf(), after).length() < 1);
    CHECK(f.session.shot().world.turn_deg == 90);
}

TEST_CASE("those chosen in the list are grouped, and a drag of one takes the other along") {
    Standing f;
    f.putBox();
    QTest::mouseClick(f.button("standInMake-ball"), Qt::LeftButton);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({-0.8, 0, 1}).toPoint());
    QTest::qWait(50);
    auto* list = f.window.findChild<QListWidget*>("standIns");
    REQUIRE(list->count() == 2);
    CHECK_FALSE(f.button("standInGroup")->isEnabled());
    const auto click = [&](int row, Qt::KeyboardModifiers keys) {
        QTest::mouseClick(list->viewport(), Qt::LeftButton, keys,
                          list->visualItemRect(list->item(row)).center() + QPoint(20, 0));
    };
    click(0, {});
    click(1, Qt::ControlModifier);
    REQUIRE(f.button("standInGroup")->isEnabled());
    QTest::mouseClick(f.button("standInGroup"), Qt::LeftButton);
    const auto& all = [&]() -> const List<StandIn>& { return f.session.shot().scene.standIns; };
    REQUIRE(all()[0].group != 0);
    CHECK(all()[1].group == all()[0].group);
    const Vector3d apart = all()[1].stance.place - all()[0].stance.place;
    const Vector3d before = all()[0].stance.place;
    f.drag(f.screenOf(before), f.screenOf(before + Vector3d(0.5, 0, 0.5)));
    CHECK((all()[0].stance.place - before).norm() > 0.3);
    CHECK((all()[1].stance.place - all()[0].stance.place - apart).norm() < 1e-6);
    f.session.document.undo();
    CHECK(all()[0].stance.place == before);
    QTest::mouseClick(f.button("standInUngroup"), Qt::LeftButton);
    CHECK(all()[0].group == 0);
    CHECK(all()[1].group == 0);
}

TEST_CASE("a stand-in is there on the frames that were said, and on all again") {
    Standing f;
    f.putBox();
    auto* some = f.window.findChild<QCheckBox*>("standInSomeFrames");
    auto* first = f.window.findChild<QSpinBox*>("standInFirst");
    auto* last = f.window.findChild<QSpinBox*>("standInLast");
    CHECK_FALSE(first->isVisible());
    QTest::mouseClick(some, Qt::LeftButton);
    REQUIRE(f.only().frames);
    CHECK(f.only().frames->first == 1001);
    CHECK(f.only().frames->last == 1120);
    REQUIRE(first->isVisible());
    first->setValue(1010);
    last->setValue(1030);
    CHECK(f.only().frames->first == 1010);
    CHECK(f.only().frames->last == 1030);
    // An end that passes the other takes it along.
    first->setValue(1050);
    CHECK(f.only().frames->first == 1050);
    CHECK(f.only().frames->last == 1050);
    QTest::mouseClick(some, Qt::LeftButton);
    CHECK_FALSE(f.only().frames);
    for (int i = 0; i < 2; ++i) f.session.document.undo();
    CHECK(f.only().frames->last == 1030);
}

TEST_CASE("a locator stands at a solved point, is held by a click on its cross, and hands its name on") {
    Standing f;
    f.session.selection.set({2});
    QTest::mouseClick(f.button("standInMake-locator"), Qt::LeftButton);
    QTest::qWait(50);
    CHECK(f.only().kind == StandInKind::locator);
    CHECK((f.only().stance.place - Vector3d(1, 0.5, 0)).norm() < 1e-9);
    CHECK(f.only().name == "locator 1");
    f.putBoxBeside();
    CHECK(f.world.hand.held()->kind == StandInKind::box);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screenOf({1, 0.5, 0}).toPoint());
    CHECK(f.world.hand.held()->kind == StandInKind::locator);
    const auto& deliverables = f.session.shot().deliverables;
    CHECK(std::any_of(deliverables.begin(), deliverables.end(),
                      [](const Deliverable& one) { return one.kind == DeliverableKind::scene; }));
}

TEST_CASE("the ground that is gripped turns the world about up with the cursor") {
    Standing f;
    QTest::mouseClick(f.button("worldMore"), Qt::LeftButton);
    QTest::mouseClick(f.button("worldTurnTool"), Qt::LeftButton);
    const QPointF from = f.screenOf({1.5, 0, 1.5}), to = f.screenOf({1.2, 0, 1.9});
    f.drag(from, to);
    const double turned = f.session.shot().world.turn_deg;
    CHECK(std::abs(turned) > 5);
    // What lay under the grip lies where it was let go: its heading in the new world is the old one's.
    const auto ray = f.world.hand.eye()->rayThrough(*f.canvas.view().plateFromScreen(to));
    REQUIRE(ray);
    const auto met = onLevel(*ray, 0);
    REQUIRE(met);
    CHECK(std::atan2(met->x(), met->z()) == Approx(std::atan2(1.5, 1.5)).margin(0.02));
    f.session.document.undo();
    CHECK(f.session.shot().world.turn_deg == 0);
    f.drag(from, to, Qt::ShiftModifier);
    CHECK(std::fmod(std::abs(f.session.shot().world.turn_deg), 5) == Approx(0).margin(1e-9));
}

TEST_CASE("the scene is rendered from its card: a review over the plate, or alone with its passes") {
    Standing f;
    f.putBox();
    QTemporaryDir folder;
    Shot shot = withRange(f.session.shot(), {1003, 1005});
    shot.deliveryFolder = folder.path().toStdString();
    f.session.edit("Range", shot);
    auto* place = f.window.findChild<QLineEdit*>("scenePlace");
    auto* manner = f.window.findChild<QComboBox*>("sceneManner");
    auto* mask = f.window.findChild<QCheckBox*>("scenePass-mask");
    CHECK(place->text().endsWith(".scene.mp4"));
    CHECK_FALSE(mask->isVisible());
    const auto choose = [&](int index) {
        manner->setCurrentIndex(index);
        emit manner->activated(index);
    };
    const auto renderTo = [&](const QString& path) {
        place->setText(path);
        emit place->editingFinished();
        QTest::mouseClick(f.button("sceneRender"), Qt::LeftButton);
        REQUIRE(QTest::qWaitFor([&] { return f.said.contains("frames: "); }, 60000));
        QTest::qWait(50);
    };
    choose(1);
    CHECK(place->text().endsWith(".review.mp4"));
    renderTo("r.####.png");
    CHECK(f.said.startsWith("3 frames"));
    CHECK(QFile::exists(folder.filePath("r.1005.png")));
    f.said.clear();
    choose(2);
    CHECK(mask->isVisible());
    QTest::mouseClick(mask, Qt::LeftButton);
    f.window.findChild<QDoubleSpinBox*>("sceneShutter")->setValue(0.5);
    CHECK(f.session.shot().sceneWriting == SceneWriting{{}, SceneManner::alone, {ScenePass::mask}, 0.5});
    renderTo("a.####.exr");
    CHECK(QFile::exists(folder.filePath("a.1003.exr")));
}

TEST_CASE("a card shows its picture in the 3D view, and the wire alone where that is asked") {
    Standing f;
    if (!f.window.worldView()) return;
    WorldView& view = *f.window.worldView();
    QTemporaryDir folder;
    QImage red(64, 64, QImage::Format_RGB32);
    red.fill(QColor(220, 20, 30));
    const QString path = folder.filePath("red.png");
    REQUIRE(red.save(path));
    StandIn card;
    card.kind = StandInKind::card;
    card.file = path.toStdString();
    card.stance = {{0, 0, 1}, {0, 0, 0}, {2, 2, 0.01}};
    f.session.edit("Card", withStandInAdded(f.session.shot(), card));
    f.window.show("3d");
    view.setLook(SceneCamera::Look::front);
    const auto colour = [&] {
        const QImage shown = view.grabFramebuffer();
        const QPointF at = *view.sight().screenFromWorld({0.3, 1.2, 1});
        const double ratio = double(shown.width()) / view.width();
        return shown.pixelColor(int(at.x() * ratio), int(at.y() * ratio));
    };
    CHECK(QTest::qWaitFor([&] { return colour().red() > 3 * colour().green() && colour().red() > 80; }, 20000));
    auto* wire = f.window.findChild<QToolButton*>("sceneWire");
    REQUIRE(wire);
    QTest::mouseClick(wire, Qt::LeftButton);
    CHECK(QTest::qWaitFor([&] { return colour().red() < 2 * colour().green() + 20; }, 5000));
}

TEST_CASE("a mesh shows the pictures of its materials in the 3D view, each on its own triangles, repeated") {
    Standing f;
    if (!f.window.worldView()) return;
    WorldView& view = *f.window.worldView();
    QTemporaryDir folder;
    const auto paint = [&](const char* name, const QColor& left, const QColor& right) {
        QImage image(64, 64, QImage::Format_RGB32);
        image.fill(left);
        QPainter(&image).fillRect(32, 0, 32, 64, right);
        REQUIRE(image.save(folder.filePath(name)));
    };
    paint("a.png", QColor(220, 20, 30), QColor(20, 30, 220));
    paint("b.png", QColor(20, 210, 30), QColor(20, 210, 30));
    const auto write = [&](const char* name, const char* words) {
        QFile file(folder.filePath(name));
        REQUIRE(file.open(QIODevice::WriteOnly));
        file.write(words);
    };
    write("wall.mtl", "newmtl a\nmap_Kd a.png\nnewmtl b\nmap_Kd b.png\n");
    // The left half of the wall has the first picture two times side by side, the right half the second.
    write("wall.obj",
          "mtllib wall.mtl\nv 0 0 0\nv 1 0 0\nv 1 2 0\nv 0 2 0\nv 2 0 0\nv 2 2 0\nvt 0 0\nvt 2 0\nvt 2 1\nvt 0 1\n"
          "usemtl a\nf 1/1 2/2 3/3 4/4\nusemtl b\nf 2/1 5/2 6/3 3/4\n");
    StandIn wall;
    wall.kind = StandInKind::mesh;
    wall.file = folder.filePath("wall.obj").toStdString();
    wall.stance = {{0, 0, 1}, {0, 0, 0}, {4, 2, 0.01}};
    f.session.edit("Wall", withStandInAdded(f.session.shot(), wall));
    f.window.show("3d");
    view.setLook(SceneCamera::Look::front);
    const auto colour = [&](double x) {
        const QImage shown = view.grabFramebuffer();
        const QPointF at = *view.sight().screenFromWorld({x, 1.2, 1});
        const double ratio = double(shown.width()) / view.width();
        return shown.pixelColor(int(at.x() * ratio), int(at.y() * ratio));
    };
    const auto isRed = [](const QColor& c) { return c.red() > 3 * c.green() && c.red() > 3 * c.blue(); };
    const auto isBlue = [](const QColor& c) { return c.blue() > 3 * c.green() && c.blue() > 3 * c.red(); };
    const auto isGreen = [](const QColor& c) { return c.green() > 3 * c.red() && c.green() > 3 * c.blue(); };
    CHECK(QTest::qWaitFor([&] { return isRed(colour(-1.75)) && isGreen(colour(1)); }, 20000));
    CHECK(isBlue(colour(-1.25)));
    CHECK(isRed(colour(-0.75)));  // it begins again
    CHECK(isBlue(colour(-0.25)));
}
