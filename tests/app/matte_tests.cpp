// The Mattes card and the shape tools, in the real window.

#include "fixture.h"
#include "matte/drawing.h"
#include "sheet/threadsheet.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/mattesstage.h"
#include "stages/mattes/mattesstage.h"
#include "truth.h"

#include <Eigen/LU>

namespace {

struct MatteFixture : Fixture {
    MattesStage& mattes = window.stage<MattesStage>();
    MatteFixture() {
        openPlate();
        window.docket().open("mattes");
    }
    const List<Matte>& shapes() const { return session.shot().mattes; }
    void goTo(int frame) {
        session.player.goTo(frame);
        waitForPicture();
    }
    void click(double x, double y, Qt::KeyboardModifiers modifiers = {}) {
        QTest::mouseClick(&canvas, Qt::LeftButton, modifiers, screen(x, y));
        QTest::qWait(10);
    }
    void drag(const Vector2d& from, const Vector2d& to, Qt::KeyboardModifiers modifiers = {}) {
        const QPoint a = screen(from.x(), from.y()), b = screen(to.x(), to.y());
        QTest::mousePress(&canvas, Qt::LeftButton, modifiers, a);
        for (int i = 1; i <= 5; ++i) {
            QMouseEvent move(QEvent::MouseMove, QPointF(a + (b - a) * i / 5), canvas.mapToGlobal(a + (b - a) * i / 5),
                             Qt::NoButton, Qt::LeftButton, modifiers);
            QApplication::sendEvent(&canvas, &move);
        }
        QTest::mouseRelease(&canvas, Qt::LeftButton, modifiers, b);
        QTest::qWait(10);
    }
    void drawSquare(double x0 = 300, double y0 = 200, double x1 = 500, double y1 = 400) {
        key(Qt::Key_D);
        click(x0, y0);
        click(x1, y0);
        click(x1, y1);
        click(x0, y1);
        key(Qt::Key_Return);
    }
    /// A track of one of the truth's points.
    TrackId addTruthTrack(std::size_t which = 0) {
        const auto truth = bench::readTruth(std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.truth.json");
        REQUIRE(truth);
        std::size_t seen = 0;
        for (const auto& point : truth->points) {
            if (point.visible.size() < 110 || seen++ != which) continue;
            Track track;
            track.name = fmt::format("truth-{}", which);
            track.byHand = true;
            track.referenceFrame = 1001;
            std::vector<Sample> samples;
            for (const auto& [frame, at] : point.visible) samples.push_back({.frame = frame, .at = at});
            track.samples = List<Sample>(samples);
            std::vector<TrackId> ids;
            session.edit("Add", withTracksImported(session.shot(), {track}, &ids));
            return ids.front();
        }
        return 0;
    }
    Polygon shown(std::size_t matte = 0) { return flattened(*mattes.hand.shapeOf(matte)); }
    template <class Part>
    Part* part(const char* name) {
        auto* found = window.findChild<Part*>(name);
        REQUIRE(found);
        return found;
    }
};

double apart(const Polygon& one, const Polygon& other) {
    REQUIRE(one.size() == other.size());
    double most = 0;
    for (std::size_t i = 0; i < one.size(); ++i) most = std::max(most, (one[i] - other[i]).norm());
    return most;
}

}  // namespace

TEST_CASE("a shape is drawn by clicks and drags, closed by Enter or its first point, and every step can be undone") {
    MatteFixture f;
    CHECK(f.state("mattes") == StageState::empty);
    f.key(Qt::Key_D);
    CHECK(f.canvas.toolInHand() == "shape");
    f.click(300, 200);
    f.click(500, 200);
    f.drag({500, 400}, {540, 440});
    f.click(300, 400);
    f.key(Qt::Key_Delete);  // the last point goes
    f.click(310, 410);
    f.click(300, 200);  // the first one again
    REQUIRE(f.shapes().size() == 1);
    const Matte& matte = f.shapes()[0];
    CHECK(matte.name == "shape 1");
    REQUIRE(matte.keys.size() == 1);
    CHECK(matte.keys[0].frame == 1001);
    REQUIRE(matte.keys[0].polygon.size() == 4);
    CHECK((matte.keys[0].polygon[3] - Vector2d(310, 410)).norm() < 2);
    CHECK(matte.keys[0].out[2].norm() > 40);
    CHECK((matte.keys[0].out[2] + matte.keys[0].in[2]).norm() < 1e-9);
    CHECK(f.canvas.toolInHand() == "edit shapes");
    CHECK(f.state("mattes") == StageState::done);
    // Its surface tints the plate.
    const QColor over = f.seen(400, 300);
    f.session.document.undo();
    QTest::qWait(20);
    CHECK(f.shapes().isEmpty());
    CHECK(f.seen(400, 300) != over);
    // Two points are no shape: it says so, and what was drawn can be gone on with.
    f.key(Qt::Key_D);
    f.click(300, 200);
    f.click(500, 200);
    f.key(Qt::Key_Return);
    CHECK(f.shapes().isEmpty());
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("three points"));
    f.click(400, 400);
    f.key(Qt::Key_Return);
    CHECK(f.shapes().size() == 1);
    // On one line: no area.
    f.key(Qt::Key_D);
    f.click(300, 300);
    f.click(400, 300);
    f.click(500, 300);
    f.key(Qt::Key_Return);
    CHECK(f.shapes().size() == 1);
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("no area"));
}

TEST_CASE("ellipse, rectangle and a freehand stroke are drawn by one drag") {
    MatteFixture f;
    f.key(Qt::Key_E);
    f.drag({300, 200}, {500, 300});
    f.key(Qt::Key_E, Qt::ShiftModifier);
    f.drag({600, 200}, {700, 260});
    f.key(Qt::Key_D, Qt::ShiftModifier);
    const QPoint start = f.screen(900, 300);
    QTest::mousePress(&f.canvas, Qt::LeftButton, {}, start);
    for (int i = 1; i <= 60; ++i) {
        const double t = 2 * M_PI * i / 60;
        const QPoint at = f.screen(850 + 50 * std::cos(t), 300 + 70 * std::sin(t));
        QMouseEvent move(QEvent::MouseMove, QPointF(at), f.canvas.mapToGlobal(at), Qt::NoButton, Qt::LeftButton, {});
        QApplication::sendEvent(&f.canvas, &move);
    }
    QTest::mouseRelease(&f.canvas, Qt::LeftButton, {}, start);
    REQUIRE(f.shapes().size() == 3);
    CHECK(areaOf(f.shown(0)) == Approx(M_PI * 100 * 50).epsilon(0.03));
    CHECK(areaOf(f.shown(1)) == Approx(100 * 60).epsilon(0.04));
    CHECK(areaOf(f.shown(2)) == Approx(M_PI * 50 * 70).epsilon(0.05));
    CHECK(f.shapes()[2].keys[0].polygon.size() <= 14);
    // A click alone draws nothing.
    f.key(Qt::Key_E);
    f.click(100, 100);
    CHECK(f.shapes().size() == 3);
}

TEST_CASE("points are dragged, put in, taken out and bent; several are scaled and turned by their frame") {
    MatteFixture f;
    f.drawSquare();
    REQUIRE(f.shapes().size() == 1);
    f.drag({500, 400}, {560, 450});
    CHECK((f.shapes()[0].keys[0].polygon[2] - Vector2d(560, 450)).norm() < 2);
    CHECK(f.session.document.history().undoName() == "Move a point of shape 1");
    // A double click on an edge, then on the new point.
    QTest::mouseDClick(&f.canvas, Qt::LeftButton, {}, f.screen(400, 200));
    CHECK(f.shapes()[0].keys[0].polygon.size() == 5);
    CHECK(f.session.document.history().undoName() == "Insert a point");
    QTest::mouseDClick(&f.canvas, Qt::LeftButton, {}, f.screen(400, 200));
    CHECK(f.session.document.history().undoName() == "Smooth points");
    REQUIRE(f.shapes()[0].keys[0].out.size() == 5);
    CHECK(f.shapes()[0].keys[0].out[1].norm() > 10);
    f.click(400, 200, Qt::ControlModifier);
    CHECK(f.shapes()[0].keys[0].polygon.size() == 4);
    // The whole shape by its inside; arrows move it by a tenth of a pixel.
    const Polygon before = f.shown();
    f.drag({400, 300}, {440, 320});
    CHECK((f.shown()[0] - before[0] - Vector2d(40, 20)).norm() < 2.5);
    const Polygon placed = f.shown();
    f.key(Qt::Key_Right);
    CHECK((f.shown()[0] - placed[0] - Vector2d(0.1, 0)).norm() < 1e-6);
    // With all points chosen there is a frame: its corner scales about the opposite one.
    const double area = areaOf(f.shown());
    double left = 1e9, top = 1e9, right = 0, bottom = 0;
    for (const Vector2d& p : f.shown()) {
        left = std::min(left, p.x());
        right = std::max(right, p.x());
        top = std::min(top, p.y());
        bottom = std::max(bottom, p.y());
    }
    const double margin = 10 / f.canvas.view().zoom(), stalk = 36 / f.canvas.view().zoom();
    f.drag({right + margin, bottom + margin}, {left + (right - left) * 0.5, top + (bottom - top) * 0.5});
    CHECK(areaOf(f.shown()) == Approx(0.25 * area).epsilon(0.15));
    f.session.document.undo();
    QTest::qWait(20);
    const Vector2d middle((left + right) / 2, (top + bottom) / 2);
    f.drag({middle.x(), top - stalk}, {middle.x() + (middle.y() - top + stalk), middle.y()});  // a quarter turn
    CHECK(areaOf(f.shown()) == Approx(area).epsilon(0.01));
    CHECK(apart(f.shown(), placed) > 100);
    // Alt draws a feather out of a point.
    f.session.document.undo();
    f.click(50, 650);
    const Vector2d corner = f.shown()[0];
    f.drag(corner, corner - Vector2d(30, 0), Qt::AltModifier);
    CHECK(f.shapes()[0].keys[0].feather[0] == Approx(30).margin(2));
    // Delete with nothing chosen but the shape takes it away.
    f.click(50, 650);
    f.key(Qt::Key_Delete);
    CHECK(f.shapes().isEmpty());
}

TEST_CASE("editing on another frame makes a keyframe, shown on the sheet as a square that is dragged and copied") {
    MatteFixture f;
    f.drawSquare();
    f.goTo(1041);
    f.drag({400, 300}, {500, 300});
    REQUIRE(f.shapes()[0].keys.size() == 2);
    f.goTo(1021);
    CHECK((f.shown()[0] - Vector2d(350, 200)).norm() < 3);
    auto* sheet = f.window.findChild<ThreadSheet*>("threadSheet");
    REQUIRE(sheet);
    std::size_t strip = 0;
    while (sheet->stripRect(strip).height() == 0) ++strip;
    if (sheet->stripRect(strip + 1).height() > 0) ++strip;  // over it the plate check
    const int y = sheet->stripRect(strip).top() + 7;
    const auto at = [&](int frame) { return QPoint(int(std::lround(sheet->xOfFrame(frame))), y); };
    const auto dragKey = [&](int from, int to, Qt::KeyboardModifiers modifiers) {
        QTest::mousePress(sheet, Qt::LeftButton, modifiers, at(from));
        QMouseEvent move(QEvent::MouseMove, QPointF(at(to)), sheet->mapToGlobal(at(to)), Qt::NoButton, Qt::LeftButton,
                         modifiers);
        QApplication::sendEvent(sheet, &move);
        QTest::mouseRelease(sheet, Qt::LeftButton, modifiers, at(to));
        QTest::qWait(20);
    };
    dragKey(1041, 1061, Qt::NoModifier);
    REQUIRE(f.shapes()[0].keys.size() == 2);
    CHECK(f.shapes()[0].keys[1].frame == 1061);
    CHECK(f.session.player.frame() == 1061);
    dragKey(1061, 1081, Qt::ControlModifier);
    REQUIRE(f.shapes()[0].keys.size() == 3);
    CHECK(f.shapes()[0].keys[2].frame == 1081);
    // On the card: the key here goes, and comes; the shape does not count from a frame on.
    f.goTo(1081);
    QTest::mouseClick(f.button("matteKeyHere"), Qt::LeftButton);
    CHECK(f.shapes()[0].keys.size() == 2);
    QTest::mouseClick(f.button("matteKeyBefore"), Qt::LeftButton);
    CHECK(f.session.player.frame() == 1061);
    f.part<QCheckBox>("matteThere")->click();
    CHECK_FALSE(isThere(f.shapes()[0], 1070));
    CHECK(isThere(f.shapes()[0], 1060));
    // On another card the strip is not in the way.
    f.window.docket().open("tracks");
    CHECK(sheet->stripRect(strip).height() == 0);
}

TEST_CASE("a shape rides on a track and never moves on the frame it is joined or parted on") {
    MatteFixture f;
    const TrackId id = f.addTruthTrack();
    const Track track = *findTrack(f.session.shot(), id);
    const auto place = [&](int frame) { return sampleAt(track, frame)->at; };
    f.goTo(1010);
    const Vector2d p = place(1010);
    f.drawSquare(p.x() - 60, p.y() - 60, p.x() + 60, p.y() + 60);
    const Polygon drawn = f.shown();
    f.session.selection.set({id});
    // Joined from another frame it is joined where it was drawn, and that is shown.
    f.goTo(1060);
    f.key(Qt::Key_R, Qt::ControlModifier);
    REQUIRE(f.shapes()[0].ride);
    CHECK(f.session.player.frame() == 1010);
    CHECK(apart(f.shown(), drawn) < 1e-6);
    CHECK(f.shapes()[0].keys.size() == 1);
    f.goTo(1060);
    CHECK((f.shown()[0] - drawn[0] - (place(1060) - place(1010))).norm() < 1e-6);
    const Polygon riding = f.shown();
    f.key(Qt::Key_R, Qt::ControlModifier | Qt::AltModifier);
    CHECK_FALSE(f.shapes()[0].ride);
    CHECK(apart(f.shown(), riding) < 0.02);
    f.goTo(1010);
    CHECK(apart(f.shown(), drawn) < 0.02);
    // Joined again on a keyframe of its own, and changed to the whole picture there: it stays.
    f.goTo(1060);
    f.key(Qt::Key_R, Qt::ControlModifier);
    CHECK(f.session.player.frame() == 1060);
    CHECK(apart(f.shown(), riding) < 0.02);
}

TEST_CASE("while the picture stands still on a track a shape is drawn on what does not move, and rides afterwards") {
    MatteFixture f;
    const TrackId id = f.addTruthTrack(1);
    const Track track = *findTrack(f.session.shot(), id);
    f.session.selection.set({id});
    f.goTo(1020);
    f.key(Qt::Key_S);
    REQUIRE(f.mattes.isStill());
    const Vector2d p = sampleAt(track, 1020)->at;
    const QPoint held = f.screen(p.x(), p.y());
    f.goTo(1070);
    const Vector2d q = sampleAt(track, 1070)->at;
    CHECK((f.screen(q.x(), q.y()) - held).manhattanLength() <= 2);
    // Drawn here about the place where the track stands.
    f.drawSquare(q.x() - 50, q.y() - 50, q.x() + 50, q.y() + 50);
    REQUIRE(f.shapes().size() == 1);
    REQUIRE(f.shapes()[0].ride);
    CHECK_THAT(f.canvas.shownSight()->words(1070).toStdString(), Catch::Contains("1 keyframe"));
    f.goTo(1020);
    f.key(Qt::Key_S);
    CHECK_FALSE(f.mattes.isStill());
    CHECK((f.shown()[0] - (p - Vector2d(50, 50))).norm() < 2);
    // Held by something else, what is drawn rides on nothing.
    f.key(Qt::Key_S);
    f.key(Qt::Key_N);
    CHECK_FALSE(f.mattes.isStill());
    f.drawSquare(600, 500, 700, 600);
    REQUIRE(f.shapes().size() == 2);
    CHECK_FALSE(f.shapes()[1].ride);
    f.key(Qt::Key_N);
    f.session.document.undo();
    // Without any track there is nothing to stand still on.
    f.session.edit("Remove", withTracksRemoved(f.session.shot(), {id}));
    f.session.edit("Remove", withMatteRemoved(f.session.shot(), 0));
    f.key(Qt::Key_S);
    CHECK_FALSE(f.mattes.isStill());
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("nothing to stand still on"));
}

TEST_CASE("candidates vanish under a shape while it is drawn, and tracks under it are set aside there") {
    MatteFixture f;
    f.tracks.candidates.show(true);
    REQUIRE(QTest::qWaitFor([&] { return f.tracks.candidates.found().size() > 100; }, 30000));
    const auto within = [&] {
        std::size_t count = 0;
        for (const Candidate& one : f.tracks.candidates.found())
            count += one.at.x() > 300 && one.at.x() < 900 && one.at.y() > 200 && one.at.y() < 600;
        return count;
    };
    CHECK(within() > 50);
    f.drawSquare(300, 200, 900, 600);
    REQUIRE(QTest::qWaitFor([&] { return within() == 0; }, 30000));
    // One that only admits turns it round.
    f.part<QComboBox>("matteMode")->setCurrentIndex(1);
    emit f.part<QComboBox>("matteMode")->activated(1);
    REQUIRE(QTest::qWaitFor([&] { return within() > 50 && f.tracks.candidates.found().size() == within(); }, 30000));
    f.session.document.undo();
    const TrackId id = f.addTruthTrack();
    REQUIRE(QTest::qWaitFor([&] { return f.mattes.covered().tracks == 1; }, 30000));
    CHECK(f.part<QLabel>("matteCovered")->text().contains("1 track lies in the mattes"));
    const std::size_t frames = f.mattes.covered().frames;
    QTest::mouseClick(f.button("matteSetAside"), Qt::LeftButton);
    const Track& track = *findTrack(f.session.shot(), id);
    CHECK((track.setAside || std::size_t(asideFrames(track)) == frames));
    REQUIRE(QTest::qWaitFor([&] { return f.mattes.covered().tracks == 0; }, 30000));
}

TEST_CASE(
    "shapes are listed, renamed, hidden, locked, copied to another shot; the matte is seen alone and cutting the "
    "plate") {
    MatteFixture f;
    f.drawSquare();
    f.drawSquare(700, 200, 900, 400);
    auto* list = f.part<QListWidget>("matteList");
    REQUIRE(list->count() == 2);
    list->item(1)->setText("door");
    REQUIRE(QTest::qWaitFor([&] { return f.shapes()[1].name == "door"; }, 30000));
    list->item(1)->setCheckState(Qt::Unchecked);
    REQUIRE(QTest::qWaitFor([&] { return f.shapes()[1].hidden; }, 30000));
    f.mattes.hand.hold(0);
    f.part<QCheckBox>("matteLocked")->click();
    CHECK(f.shapes()[0].locked);
    const Polygon before = f.shown();
    f.drag({400, 300}, {500, 300});
    CHECK(apart(f.shown(), before) == 0);
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("locked"));
    // Hidden it counts all the same.
    CHECK(isExcluded(mattesOf(f.session.shot()), 1001, {800, 300}));
    f.window.commands().action("Copy all shapes")->trigger();
    MatteFixture other;
    other.window.commands().action("Paste shapes")->trigger();
    REQUIRE(other.shapes().size() == 2);
    CHECK(other.shapes()[1].name == "door");
    QApplication::clipboard()->setText("no shapes");
    other.window.commands().action("Paste shapes")->trigger();
    CHECK(other.shapes().size() == 2);
    CHECK_THAT(other.window.note().toStdString(), Catch::Contains("no shapes on the clipboard"));
    // The matte alone: white where it covers.
    other.key(Qt::Key_0, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !other.canvas.renderedImage().isNull(); }, 30000));
    CHECK(other.canvas.renderedImage().pixelColor(400, 300).lightness() == 255);
    CHECK(other.canvas.renderedImage().pixelColor(600, 300).lightness() == 0);
    other.key(Qt::Key_0, Qt::ControlModifier | Qt::ShiftModifier);
    REQUIRE(QTest::qWaitFor(
        [&] {
            const QImage& image = other.canvas.renderedImage();
            const int beyond = image.isNull() ? 0 : image.pixelColor(600, 300).lightness();
            return beyond > 10 && beyond < 50;  // hatched
        },
        5000));
    // Inside it is the plate, tone by tone.
    const QImage plate = other.canvas.image(), cut = other.canvas.renderedImage();
    int differ = 0;
    for (int y = 250; y < 350; y += 10)
        for (int x = 350; x < 450; x += 10)
            differ += std::abs(plate.pixelColor(x, y).red() - cut.pixelColor(x, y).red()) > 1;
    CHECK(differ == 0);
}

TEST_CASE("mattes are listed for delivery, written, and read back") {
    const test::Scratch scratch;
    MatteFixture f;
    f.drawSquare();
    Shot shot = f.session.shot();
    shot.plate.range = {1001, 1004};
    shot.deliveryFolder = (scratch / "out").string();
    shot.deliverables = {};
    f.session.edit("Shorter", shot);
    for (const int format : {1, 2, 4, 5}) emit f.part<QComboBox>("matteHandOn")->activated(format);
    REQUIRE(f.session.shot().deliverables.size() == 4);
    f.delivery.startDelivery({});
    f.wait();
    for (const char* name : {"landing.mattes/matte.1001.exr", "landing.mattes/matte.1004.png", "landing.mattes.json",
                             "landing.mattes/shapes.1001.svg"})
        CHECK(std::filesystem::exists(scratch / "out" / name));
    CHECK(f.state("delivery") == StageState::done);
    // And in again.
    f.mattes.bringIn(text((scratch / "out/landing.mattes.json").string()));
    CHECK(f.shapes().size() == 2);
    f.mattes.bringIn(text((scratch / "out/landing.mattes/matte.1001.exr").string()));
    REQUIRE(f.shapes().size() == 3);
    CHECK(isExcluded(mattesOf(f.session.shot()), 1002, {400, 300}));
    f.mattes.bringIn("/nowhere/m.0001.exr");
    CHECK(f.shapes().size() == 3);
}

TEST_CASE("what moves by itself is proposed once the mattes are looked at after a solve, accepted, and undone") {
    MatteFixture f;
    f.window.docket().open("camera");
    const auto truth = bench::readTruth(std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.truth.json");
    REQUIRE(truth);
    // The truth as if it had been solved.
    Solve solve;
    solve.lens = truth->lens;
    std::vector<SolvedFrame> frames;
    for (const auto& [frame, camera] : truth->cameras)
        frames.push_back({.frame = frame, .worldFromCamera = camera, .focal_px = truth->lens.focal_px});
    solve.frames = List<SolvedFrame>(frames);
    std::vector<SolvedTrack> points;
    for (const auto& point : truth->points) {
        SolvedTrack track;
        track.xyz = point.xyz;
        points.push_back(track);
    }
    solve.tracks = List<SolvedTrack>(points);
    Shot shot = f.session.shot();
    shot.plate.range = {1049, 1089};
    shot = withSolve(shot, solve, shot);
    f.session.edit("Solve", shot);
    f.addTruthTrack();
    // A track more makes the solve stale: nothing is looked for.
    f.window.docket().open("mattes");
    QTest::qWait(200);
    CHECK_FALSE(f.mattes.proposals.isLooking());
    f.session.document.undo();
    REQUIRE(QTest::qWaitFor([&] { return !f.mattes.proposals.list().empty(); }, 30000));
    CHECK(f.mattes.proposals.list().size() == 1);
    CHECK(f.part<QLabel>("matteProposal")->text().contains("px a frame against the scene"));
    QTest::mouseClick(f.button("matteSee"), Qt::LeftButton);
    f.waitForPicture();
    CHECK(f.mattes.proposals.list()[0].frames.holds(f.session.player.frame()));
    const Polygon outline = f.mattes.proposals.outline(0, f.session.player.frame());
    REQUIRE(outline.size() > 8);
    QTest::mouseClick(f.button("matteAccept"), Qt::LeftButton);
    QTest::qWait(50);
    REQUIRE(f.shapes().size() == 1);
    REQUIRE(f.shapes()[0].ride);
    CHECK(apart(f.shown(), outline) < 1e-6);
    CHECK(f.session.shot().tracks.back().setAside);
    CHECK(f.mattes.proposals.list().empty());
    CHECK(f.mattes.hand.matte() == 0);
    CHECK(f.part<QLabel>("matteSolves")->text().contains("Solve again"));
    CHECK(f.session.document.history().undoName() == "Accept mover 1");
    f.session.document.undo();
    CHECK(f.shapes().isEmpty());
    CHECK(f.session.shot().tracks.isEmpty());
    // Asked for, it is looked for again, as a job; dismissed it is gone.
    f.mattes.proposals.start();
    f.wait();
    REQUIRE(f.mattes.proposals.list().size() == 1);
    QTest::mouseClick(f.button("matteDismiss"), Qt::LeftButton);
    CHECK(f.mattes.proposals.list().empty());
}

TEST_CASE("a painted patch is put back on the harbour from the Steady card, and what cannot be is said") {
    const test::Scratch scratch;
    Fixture f;
    const std::string plates = std::string(PINION_SOURCE_DIR) + "/demo/plates/";
    f.openPlate(plates + "mooring.mp4");
    std::vector<Track> tracks;
    for (const Vector2d& place : {Vector2d(300, 200), Vector2d(900, 250)}) {
        Track track;
        track.name = fmt::format("p{}", tracks.size());
        track.byHand = true;
        track.referenceFrame = 1001;
        std::vector<Sample> samples;
        for (int frame = 1001; frame <= 1006; ++frame)
            samples.push_back({.frame = frame, .at = place + Vector2d(1.7, -0.6) * (frame - 1001)});
        track.samples = List<Sample>(samples);
        tracks.push_back(track);
    }
    std::vector<TrackId> ids;
    Shot shot = withTracksImported(f.session.shot(), tracks, &ids);
    shot.plate.range = {1001, 1006};
    shot.deliveryFolder = scratch.path().string();
    shot.steady.steady = true;
    shot.steady.tracks = List<TrackId>(ids);
    shot.steady.on = rideOnTracks(ids);
    shot.steady.options.fit = SteadyOptions::Fit::none;
    f.session.edit("Hold", shot);
    f.window.docket().open("steady");
    REQUIRE(QTest::qWaitFor([&] { return f.steady.plan() != nullptr; }, 30000));
    CHECK(f.button("putBack")->isVisible());
    f.steady.putBack(plates + "mooring.painted.png", true);
    f.wait();
    REQUIRE(std::filesystem::exists(scratch / "mooring.back.mp4"));
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("6 frames") && Catch::Contains("was put back"));
    // By difference the patch on nothing is another picture altogether.
    f.steady.putBack(plates + "mooring.painted.png", false);
    f.wait();
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("differs at"));
    f.steady.putBack(plates + "landing.mp4", true);
    f.wait();
    CHECK_THAT(f.window.note().toStdString(), Catch::Contains("has no alpha"));
}

TEST_CASE("riding on the whole picture is worked out as a job, and a shape drawn on the still picture needs no other") {
    MatteFixture f;
    const auto truth = bench::readTruth(std::string(PINION_SOURCE_DIR) + "/demo/plates/landing.truth.json");
    REQUIRE(truth);
    std::vector<Track> tracks;
    for (const auto& point : truth->points) {
        Track track;
        track.name = point.name;
        std::vector<Sample> samples;
        for (const auto& [frame, at] : point.visible) samples.push_back({.frame = frame, .at = at});
        track.samples = List<Sample>(samples);
        track.referenceFrame = samples.front().frame;
        tracks.push_back(track);
    }
    f.session.edit("Add", withTracksImported(f.session.shot(), tracks));
    f.drawSquare();
    const Polygon drawn = f.shown();
    f.key(Qt::Key_R, Qt::ControlModifier | Qt::ShiftModifier);
    f.wait();
    INFO(f.window.note().toStdString());
    REQUIRE(f.shapes()[0].ride);
    CHECK(f.shapes()[0].ride->on == "picture");
    CHECK(apart(f.shown(), drawn) < 1e-6);
    CHECK(f.session.document.history().undoName() == "shape 1 rides on the whole picture");
    // Held still as a whole: a shape drawn on another frame rides from the frame that is held, without a wait.
    f.mattes.hand.hold(std::nullopt);
    f.goTo(1030);
    f.key(Qt::Key_S);
    REQUIRE(f.mattes.isStill());
    f.goTo(1050);
    f.drawSquare(600, 300, 700, 400);
    REQUIRE(f.shapes().size() == 2);
    CHECK(f.shapes()[1].ride->referenceFrame == 1030);
    CHECK((f.shown(1)[0] - Vector2d(600, 300)).norm() < 2);
}
