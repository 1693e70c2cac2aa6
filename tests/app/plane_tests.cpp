// The Planes card and its tools, in the real window, on the board plate.

#include "fixture.h"
#include "planar/surface.h"
#include "plate/framewriter.h"
#include "proof/proof.h"
#include "scratch.h"
#include "sheet/threadsheet.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/planeedits.h"
#include "stages/planes/planesoverlay.h"
#include "stages/planes/planesstage.h"

#include <fstream>
#include <nlohmann/json.hpp>

namespace {

const std::string kBoardPlate = std::string(PINION_SOURCE_DIR) + "/demo/plates/board.mp4";

struct PlaneFixture : Fixture {
    PlanesStage& planes = window.stage<PlanesStage>();
    explicit PlaneFixture(const std::string& file = kBoardPlate) {
        openPlate(file);
        window.docket().open("planes");
    }
    const PlanarTrack& plane(std::size_t index = 0) const { return session.shot().planes[index]; }
    void goTo(int frame) {
        session.player.goTo(frame);
        waitForPicture();
    }
    void drag(const Vector2d& from, const Vector2d& to) {
        const QPoint a = screen(from.x(), from.y()), b = screen(to.x(), to.y());
        QTest::mousePress(&canvas, Qt::LeftButton, {}, a);
        for (int i = 1; i <= 5; ++i) {
            QMouseEvent move(QEvent::MouseMove, QPointF(a + (b - a) * i / 5), canvas.mapToGlobal(a + (b - a) * i / 5),
                             Qt::NoButton, Qt::LeftButton, {});
            QApplication::sendEvent(&canvas, &move);
        }
        QTest::mouseRelease(&canvas, Qt::LeftButton, {}, b);
        QTest::qWait(10);
    }
    void click(double x, double y) {
        QTest::mouseClick(&canvas, Qt::LeftButton, {}, screen(x, y));
        QTest::qWait(10);
    }
    /// A rectangle on the board's sheet, some frames tracked.
    void trackSome() {
        setRange(1046, 1056);
        goTo(1050);
        key(Qt::Key_P);
        drag({480, 230}, {830, 470});
        key(Qt::Key_Y);
        wait();
    }
    void setRange(int first, int last) {
        Shot shot = session.shot();
        shot.plate.range = {first, last};
        session.edit("Range", shot);
    }
};

}  // namespace

TEST_CASE("a newcomer tracks the board both ways, places its surface, corrects a corner and copies the pin") {
    PlaneFixture f;
    CHECK(f.window.docket().findChild<QLabel*>("planeStart")->isVisibleTo(&f.window));
    f.trackSome();
    REQUIRE(f.session.shot().planes.size() == 1);
    CHECK(f.plane().referenceFrame == 1050);
    REQUIRE(f.plane().samples.size() == 11);
    for (const PlaneSample& sample : f.plane().samples) CHECK(sample.fit > 0.95F);
    CHECK(f.state("planes") == StageState::done);
    // Four clicks, crosswise: put in order.
    f.goTo(1050);
    f.key(Qt::Key_A, Qt::ShiftModifier);
    CHECK(f.canvas.toolInHand() == "surface");
    f.click(470, 220);
    f.click(840, 480);
    f.click(845, 225);
    f.click(465, 475);
    REQUIRE(f.plane().ties.size() == 1);
    CHECK(f.plane().ties[0].corners[0].x() == Approx(470).margin(1));
    CHECK(f.plane().ties[0].corners[2].x() == Approx(840).margin(1));
    // A corner dragged on another frame is a tie; the surface is there exactly, and spread smoothly in between.
    f.goTo(1055);
    const Vector2d before = (*surfaceAt(f.plane(), 1055))[2];
    f.drag(before, before + Vector2d(6, 4));
    REQUIRE(f.plane().ties.size() == 2);
    CHECK(((*surfaceAt(f.plane(), 1055))[2] - before - Vector2d(6, 4)).norm() < 1.5);
    double most = 0;
    for (int frame = 1047; frame < 1056; ++frame) {
        const auto a = surfaceAt(f.plane(), frame - 1), b = surfaceAt(f.plane(), frame),
                   c = surfaceAt(f.plane(), frame + 1);
        most = std::max(most, ((*a)[2] - 2 * (*b)[2] + (*c)[2]).norm());
    }
    CHECK(most < 6);
    // It stands still squared up: where the surface's corner is shown does not depend on the frame.
    f.key(Qt::Key_A);
    CHECK(f.canvas.sight() == "surface");
    f.waitForPicture();
    const auto shown = f.canvas.view().screenFromPlate((*surfaceAt(f.plane(), 1055))[0]);
    f.goTo(1047);
    const auto still = f.canvas.view().screenFromPlate((*surfaceAt(f.plane(), 1047))[0]);
    REQUIRE(shown);
    REQUIRE(still);
    CHECK(QLineF(*shown, *still).length() < 0.01);
    f.key(Qt::Key_A);
    f.button("planeCopy")->click();
    f.wait();
    const QString copied = QApplication::clipboard()->text();
    CHECK(copied.contains("tl_x,tl_y,tr_x"));
    CHECK(copied.count('\n') > 11);
    // Undo works after each.
    f.session.document.undo();
    CHECK(f.plane().ties.size() == 1);
    f.session.document.undo();
    CHECK(f.plane().ties.isEmpty());
    f.session.document.undo();
    CHECK(f.plane().samples.isEmpty());
    f.session.document.undo();
    CHECK(f.session.shot().planes.isEmpty());
}

TEST_CASE("the Planes card holds a plane's choices, and hands it on") {
    PlaneFixture f;
    f.trackSome();
    f.button("surfaceFromOutline")->click();
    REQUIRE(f.plane().ties.size() == 1);
    auto* least = f.window.docket().findChild<QSpinBox*>("planeLeastSeen");
    REQUIRE(least);
    least->setValue(40);
    CHECK(f.plane().leastSeen == Approx(0.4));
    auto* motion = f.window.docket().findChild<QComboBox*>("planeMotion");
    motion->setCurrentIndex(3);
    emit motion->activated(3);
    CHECK(f.plane().motion == MotionModel::affine);
    f.button("planeMatte")->click();
    REQUIRE(f.session.shot().mattes.size() == 1);
    CHECK(wordsOf(f.session.shot(), *f.session.shot().mattes[0].ride) == "plane 1");
    // The card that comes up shows the shape that was made.
    CHECK(f.window.docket().openStage() == "mattes");
    CHECK(f.window.docket().findChild<QComboBox*>("matteRide")->currentText() == "plane 1");
    f.window.docket().open("planes");
    f.button("planeHandOn")->click();
    CHECK(f.session.shot().locators.size() == 1);
    CHECK(f.session.shot().deliverables.back().kind == DeliverableKind::cornerPin);
    f.window.docket().open("planes");
    f.button("planeSteady")->click();
    CHECK(wordsOf(f.session.shot(), f.session.shot().steady.on) == "plane 1");
    REQUIRE(QTest::qWaitFor([&] { return f.steady.plan() != nullptr; }, 30000));
    CHECK(f.steady.plan()->frames.size() == 11);
    // The plane goes, and another takes its name: neither shape nor picture rides on that.
    const PlaneId gone = f.session.shot().planes[0].id;
    f.session.edit("Remove", withPlaneRemoved(f.session.shot(), gone));
    f.session.edit("Draw", withPlaneAdded(f.session.shot(), {{300, 300}, {400, 300}, {400, 400}}, 1001));
    CHECK(f.session.shot().planes[0].name == "plane 1");
    auto* source = f.window.docket().findChild<QComboBox*>("steadySource");
    CHECK(source->currentText() == "gone");
    CHECK(source->findText("plane 1") >= 0);
    CHECK(f.state("steady") == StageState::attention);
    CHECK(f.window.docket().card("steady")->report().message ==
          "The steadied picture rides on a plane that is gone. Choose what else is held still.");
    CHECK(f.window.docket().card("mattes")->report().message.find("rides on a plane that is gone") !=
          std::string::npos);
    // Chosen in the list, the new one is held still.
    source->setCurrentIndex(source->findText("plane 1"));
    emit source->activated(source->currentIndex());
    CHECK(QTest::qWaitFor([&] { return wordsOf(f.session.shot(), f.session.shot().steady.on) == "plane 1"; }, 30000));
}

TEST_CASE("what cannot be an outline or a surface is refused in the window, and nothing is lost") {
    PlaneFixture f;
    f.setRange(1046, 1056);
    f.goTo(1050);
    QString said;
    QObject::connect(&f.session.notes, &Notes::said, &f.window, [&](const QString& words, bool) { said = words; });
    f.key(Qt::Key_P);
    f.click(300, 200);
    f.click(400, 200);
    f.key(Qt::Key_Return);
    CHECK(said.contains("three corners"));
    f.key(Qt::Key_P);
    f.click(300, 200);
    f.click(400, 300);
    f.click(400, 200);
    f.click(300, 300);
    f.key(Qt::Key_Return);
    CHECK(said.contains("crosses itself"));
    CHECK(f.session.shot().planes.isEmpty());
    // Sky has nothing to hold on to.
    f.key(Qt::Key_P);
    f.drag({20, 10}, {90, 60});
    REQUIRE(f.session.shot().planes.size() == 1);
    f.key(Qt::Key_A, Qt::ShiftModifier);
    f.click(300, 200);
    f.click(400, 200);
    f.click(350, 220);
    f.click(350, 300);
    CHECK(said.contains("inside the other three"));
    CHECK(f.plane().ties.isEmpty());
}

TEST_CASE("the bollard becomes a cylinder by its two contours, and is tracked, unrolled and flat again") {
    PlaneFixture f(std::string(PINION_SOURCE_DIR) + "/demo/plates/bollard.mp4");
    f.setRange(1026, 1034);
    f.goTo(1030);
    f.key(Qt::Key_P);
    f.drag({510, 250}, {750, 560});
    REQUIRE(f.session.shot().planes.size() == 1);
    auto* shape = f.window.docket().findChild<QComboBox*>("planeShape");
    REQUIRE(shape);
    CHECK(shape->currentIndex() == 0);
    // Its sides are drawn on the reference frame: from another one the tool goes there.
    f.goTo(1028);
    f.key(Qt::Key_Y, Qt::ControlModifier | Qt::ShiftModifier);
    CHECK(f.canvas.toolInHand() == "cylinder sides");
    f.click(461, 260);
    CHECK(f.session.player.frame() == 1030);
    f.waitForPicture();
    // The right contour first, from below: put in order, and on the edges that are there.
    f.click(790, 580);
    f.click(805, 260);
    f.click(483, 580);
    f.click(461, 260);
    REQUIRE(f.plane().sides);
    const Quad sides = *f.plane().sides;
    CHECK(sides[0].x() < sides[1].x());
    CHECK(sides[0].y() < sides[3].y());
    CHECK(sides[0].x() == Approx(460).margin(6));
    CHECK(shape->currentIndex() == 1);
    f.key(Qt::Key_Y);
    f.wait();
    REQUIRE(f.plane().samples.size() == 9);
    for (const PlaneSample& sample : f.plane().samples) CHECK(sample.fit > 0.95F);
    CHECK(f.window.docket().findChild<QLabel*>("planeResult")->text().contains("turned from"));
    f.key(Qt::Key_G, Qt::ControlModifier | Qt::ShiftModifier);
    REQUIRE(f.plane().ties.size() == 1);
    // Unrolled it stands still: a corner of the surface is shown in one place on all frames.
    f.key(Qt::Key_A);
    f.waitForPicture();
    const auto here = f.canvas.view().screenFromPlate((*surfaceAt(f.plane(), 1030))[1]);
    f.goTo(1034);
    const auto there = f.canvas.view().screenFromPlate((*surfaceAt(f.plane(), 1034))[1]);
    REQUIRE(here);
    REQUIRE(there);
    CHECK(QLineF(*here, *there).length() < 0.1);
    f.key(Qt::Key_A);
    // Crossed sides are refused and nothing is lost.
    f.goTo(1030);
    f.key(Qt::Key_Y, Qt::ControlModifier | Qt::ShiftModifier);
    f.click(600, 200);
    f.click(700, 500);
    f.click(700, 200);
    f.click(600, 500);
    CHECK(f.plane().samples.size() == 9);
    shape->setCurrentIndex(0);
    emit shape->activated(0);
    CHECK_FALSE(f.plane().sides);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.plane().sides);
    CHECK(f.plane().samples.size() == 9);
}

TEST_CASE("a surface that was rendered and painted on comes back over the plate, and its corners become tracks") {
    PlaneFixture f;
    f.trackSome();
    f.key(Qt::Key_G, Qt::ControlModifier | Qt::ShiftModifier);
    REQUIRE(f.plane().ties.size() == 1);
    f.button("planeTracks")->click();
    REQUIRE(f.session.shot().tracks.size() == 4);
    CHECK(f.session.shot().tracks[0].name == "plane 1 top left");
    CHECK(f.session.shot().tracks[0].samples.size() == 11);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().tracks.isEmpty());
    // The scene stands in only where it is solved.
    CHECK_FALSE(f.button("planeScene")->isVisibleTo(&f.window));
    f.planes.takeFromScene();
    CHECK(f.plane().samples.size() == 11);
    const test::Scratch scratch;
    Shot shot = f.session.shot();
    shot.deliveryFolder = scratch.path().string();
    f.session.edit("Deliver elsewhere", shot);
    f.planes.renderSquared((scratch / "s.####.png").string(), 200, 140);
    f.wait();
    const auto first = readStill(scratch / "s.1046.png");
    REQUIRE(first);
    Picture painted = **first;
    for (std::size_t i = 3 * (70 * 200 + 80); i < 3 * (70 * 200 + 120); ++i) painted.bytes[i] = 255;
    {
        auto writer = FrameWriter::create(scratch / "p.####.png", 200, 140, {24, 1});
        REQUIRE(writer);
        REQUIRE((*writer)->write(1046, painted));
    }
    f.planes.putBackSurface(scratch / "p.1046.png");
    f.wait();
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("10 of them are the plate to the last bit"));
}

TEST_CASE("the proof and the thread sheet speak of the plane while its card is open") {
    PlaneFixture f;
    f.trackSome();
    auto* proof = f.window.findChild<ProofStrip*>("proof");
    REQUIRE(proof);
    CHECK(proof->frames().size() > 4);
    auto* sheet = f.window.findChild<ThreadSheet*>();
    REQUIRE(sheet);
    f.window.docket().open("tracks");
    CHECK(proof->frames().empty());
    f.window.docket().open("planes");
    CHECK_FALSE(proof->frames().empty());
}
