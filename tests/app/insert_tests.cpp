// The Inserts card and its tools, in the real window, on the board plate.

#include "comp/composing.h"
#include "fixture.h"
#include "jobs/inserting.h"
#include "plate/framewriter.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/matteedits.h"
#include "sheet/threadsheet.h"
#include "stages/inserts/insertsstage.h"
#include "widgets/orderedlist.h"

#include <fstream>
#include <set>

namespace {

const std::string kBoard = std::string(PINION_SOURCE_DIR) + "/demo/plates/board.mp4";
const std::string kTimetable = std::string(PINION_SOURCE_DIR) + "/demo/timetable.png";

/// The board, a plane on its sheet that is known on some frames, and its surface.
struct InsertFixture : Fixture {
    InsertsStage& inserts = window.stage<InsertsStage>();
    test::Scratch scratch;

    InsertFixture() {
        openPlate(kBoard);
        Shot shot = session.shot();
        shot.plate.range = {1048, 1053};
        PlanarTrack plane;
        plane.id = shot.nextPlane++;
        plane.name = "sheet";
        plane.referenceFrame = 1050;
        plane.outlines = std::vector<Polygon>{{{450, 280}, {860, 280}, {860, 490}, {450, 490}}};
        std::vector<PlaneSample> samples;
        for (int frame = 1048; frame <= 1052; ++frame) {
            PlaneSample sample{.frame = frame};
            sample.pose.matrix(0, 2) = -6.0 * (frame - 1050);
            samples.push_back(sample);
        }
        plane.samples = samples;
        plane.ties = std::vector<PlaneTie>{{1050, {Vector2d(450, 280), {860, 280}, {860, 490}, {450, 490}}}};
        shot.planes = std::vector<PlanarTrack>{plane};
        shot.deliveryFolder = scratch.path().string();
        session.edit("Plane", shot);
        goTo(1050);
        window.docket().open("inserts");
    }
    void goTo(int frame) {
        session.player.goTo(frame);
        waitForPicture();
    }
    void settle() {
        QTest::qWait(60);
        REQUIRE(QTest::qWaitFor([&] { return inserts.hand.scene() != nullptr; }, 30000));
        QTest::qWait(150);
    }
    void addTimetable() {
        inserts.addArt(kTimetable);
        wait();
        settle();
    }
    const Insert& insert(std::size_t index = 0) const { return session.shot().inserts[index]; }
    void drag(const QPoint& a, const QPoint& b, Qt::KeyboardModifiers modifiers = {}) {
        QTest::mousePress(&canvas, Qt::LeftButton, modifiers, a);
        move(a, b, modifiers);
        QTest::mouseRelease(&canvas, Qt::LeftButton, modifiers, b);
        settle();
    }
    void move(const QPoint& a, const QPoint& b, Qt::KeyboardModifiers modifiers = {}) {
        for (int i = 1; i <= 5; ++i) {
            const QPointF at = QPointF(a) + QPointF(b - a) * i / 5;
            QMouseEvent event(QEvent::MouseMove, at, canvas.mapToGlobal(at), Qt::NoButton, Qt::LeftButton, modifiers);
            QApplication::sendEvent(&canvas, &event);
        }
        QTest::qWait(20);
    }
    Quad corners(std::size_t index = 0) const { return *inserts.hand.cornersNow(insert(index)); }
    QPoint cornerOnScreen(std::size_t corner) { return screen(corners()[corner].x(), corners()[corner].y()); }
    template <class Widget>
    Widget* field(const char* name) {
        auto* found = window.docket().findChild<Widget*>(name);
        REQUIRE(found);
        return found;
    }
    void choose(const char* name, const QString& words) {
        auto* box = field<QComboBox>(name);
        const int index = box->findText(words);
        INFO(words.toStdString());
        REQUIRE(index >= 0);
        box->setCurrentIndex(index);
        emit box->activated(index);
        QTest::qWait(30);
        settle();
    }
    void tick(const char* name, int row, bool on) {
        field<QListWidget>(name)->item(row)->setCheckState(on ? Qt::Checked : Qt::Unchecked);
        settle();
    }
    /// The plate's picture on a frame with what the shot's inserts make of it.
    Picture truth(int frame) {
        const auto picture = session.player.frames()->get(frame);
        ArtShelf shelf;
        return composed(insertSceneOf(session.shot()), frame, **picture, shelf);
    }
    /// Waits until what is seen there is as asked.
    bool isSeen(double x, double y, const std::function<bool(const QColor&)>& wanted) {
        return QTest::qWaitFor([&] { return wanted(seen(x, y)); }, 30000);
    }
    /// What is seen there is that picture's colour, or comes to be.
    void checkSeen(double x, double y) {
        const Picture made = truth(session.player.frame());
        const auto isNear = [&](const QColor& colour) {
            // The canvas is zoomed out: a pixel near by will do.
            for (int dy = -2; dy <= 2; ++dy)
                for (int dx = -2; dx <= 2; ++dx) {
                    const std::size_t i = 3 * (std::size_t(y + dy) * std::size_t(made.width) + std::size_t(x + dx));
                    if (std::hypot(made.bytes[i] - colour.red(), made.bytes[i + 1] - colour.green(),
                                   made.bytes[i + 2] - colour.blue()) < 40)
                        return true;
                }
            return false;
        };
        INFO(x << ", " << y);
        CHECK(isSeen(x, y, isNear));
    }
};

}  // namespace

TEST_CASE("a newcomer puts the timetable on the board, moves, sizes and turns it, and every step is undone") {
    InsertFixture f;
    CHECK(f.window.docket().findChild<QLabel*>("insertStart")->isVisibleTo(&f.window));
    const QColor before = f.seen(655, 330);
    f.addTimetable();
    REQUIRE(f.session.shot().inserts.size() == 1);
    CHECK(wordsOf(f.session.shot(), *f.insert().ride) == "sheet");
    CHECK(f.canvas.sight() == "inserts");
    CHECK(f.canvas.toolInHand() == "insert");
    CHECK(f.state("inserts") == StageState::attention);  // the plane ends on 1052
    CHECK(f.window.docket().card("inserts")->report().message ==
          "timetable: sheet is not there on 1053: it is not shown there.");
    // Whole inside the surface, its shape kept: as high as that is.
    CHECK(f.corners()[0].y() == Approx(280).margin(0.5));
    CHECK((f.corners()[1] - f.corners()[0]).norm() / (f.corners()[3] - f.corners()[0]).norm() ==
          Approx(f.session.shot().clips[0].width / double(f.session.shot().clips[0].height)).epsilon(0.01));
    CHECK(f.isSeen(655, 330, [&](const QColor& c) { return c != before; }));
    f.checkSeen(655, 330);
    f.checkSeen(655, 440);
    // It is dragged by 30, 12: the plane does not move.
    const Quad first = f.corners();
    const PlanarTrack plane = f.session.shot().planes[0];
    f.drag(f.screen(655, 400), f.screen(685, 412));
    CHECK((f.corners()[0] - first[0] - Vector2d(30, 12)).norm() < 1.5);
    CHECK((f.corners()[2] - first[2] - Vector2d(30, 12)).norm() < 1.5);
    CHECK(f.session.shot().planes[0].ties.sharedWith(plane.ties));
    // By a corner it grows about its middle, and keeps its shape.
    const Vector2d middle = 0.5 * (f.corners()[0] + f.corners()[2]);
    const double wide = (f.corners()[1] - f.corners()[0]).norm(), high = (f.corners()[3] - f.corners()[0]).norm();
    const Vector2d grown = middle + 1.2 * (f.corners()[2] - middle);
    f.drag(f.cornerOnScreen(2), f.screen(grown.x(), grown.y()));
    CHECK((f.corners()[1] - f.corners()[0]).norm() / wide == Approx(1.2).margin(0.02));
    CHECK((f.corners()[3] - f.corners()[0]).norm() / high == Approx(1.2).margin(0.02));
    // With Shift freely: only as wide.
    const Vector2d wider = f.corners()[2] + Vector2d(20, 0);
    f.drag(f.cornerOnScreen(2), f.screen(wider.x(), wider.y()), Qt::ShiftModifier);
    CHECK((f.corners()[3] - f.corners()[0]).norm() / high == Approx(1.2).margin(0.02));
    CHECK((f.corners()[1] - f.corners()[0]).norm() / wide > 1.25);
    // The handle above it turns it.
    const QPoint top = (f.cornerOnScreen(0) + f.cornerOnScreen(1)) / 2, handle = top - QPoint(0, 26);
    const QPoint centre = (f.cornerOnScreen(0) + f.cornerOnScreen(2)) / 2;
    f.drag(handle, centre + QPoint(centre.y() - handle.y(), 0));
    CHECK(f.insert().placing.turn_deg == Approx(90).margin(3));
    for (int i = 0; i < 4; ++i) f.session.document.undo();
    f.settle();
    CHECK((f.corners()[2] - first[2]).norm() < 1e-6);
    f.session.document.undo();
    CHECK(f.session.shot().inserts.isEmpty());
    CHECK(f.session.shot().clips.isEmpty());
    QTest::qWait(100);
}

TEST_CASE("while it is dragged it stays to be seen, and that is said on the picture") {
    InsertFixture f;
    f.addTimetable();
    const QPoint a = f.screen(655, 400), b = f.screen(655, 400) + QPoint(60, 20);
    QTest::mousePress(&f.canvas, Qt::LeftButton, {}, a);
    f.move(a, b);
    QTest::qWait(200);
    CHECK(f.inserts.hand.isDragged());
    CHECK(f.canvas.shownSight()->words(1050).contains("view's resolution"));
    // Its blue head, sixty pixels on.
    const Quad now = f.corners();
    const Vector2d head = now[0] + 0.04 * (now[2] - now[0]);
    CHECK(f.isSeen(head.x(), head.y(), [](const QColor& c) { return c.blue() > c.red() + 30; }));
    // Escape lets it fall back where it was.
    f.key(Qt::Key_Escape);
    QTest::mouseRelease(&f.canvas, Qt::LeftButton, {}, b);
    CHECK_FALSE(f.inserts.hand.isDragged());
    CHECK(f.insert().placing.centre == Vector2d(0.5, 0.5));
    // And it is to be seen there again.
    const Quad back = f.corners();
    const Vector2d place = back[0] + 0.04 * (back[2] - back[0]);
    f.checkSeen(place.x(), place.y());
    CHECK(f.isSeen(place.x(), place.y(), [](const QColor& c) { return c.blue() > c.red() + 30; }));
    CHECK(f.canvas.shownSight()->words(1050) == "with inserts");
}

TEST_CASE("what hangs on a plane stays to be seen while its surface is dragged, and while it is tracked") {
    InsertFixture f;
    f.inserts.addPlain(Insert::Shows::colour);
    f.wait();
    f.session.edit("Red", withInsertEdited(f.session.shot(), f.insert().id, [&](Insert& one) {
                       one.colour = {1, 0, 0};
                       one.ride = rideOnPlane(f.session.shot().planes[0].id, 1050);
                   }));
    f.settle();
    const auto isRed = [](const QColor& c) { return c.red() > 180 && c.green() < 60 && c.blue() < 60; };
    const auto isNot = [&](const QColor& c) { return !isRed(c); };
    REQUIRE(f.isSeen(655, 385, isRed));
    f.window.docket().open("planes");
    f.key(Qt::Key_A, Qt::ShiftModifier);
    REQUIRE(f.canvas.toolInHand() == "surface");
    REQUIRE(f.isSeen(880, 480, isNot));
    // While the button is down.
    const QPoint from = f.screen(860, 490), to = f.screen(920, 530);
    QTest::mousePress(&f.canvas, Qt::LeftButton, {}, from);
    f.move(from, to);
    CHECK(f.isSeen(880, 480, isRed));
    CHECK(f.inserts.hand.isMoving());
    const Sight* sight = f.canvas.shownSight();
    REQUIRE(sight);
    CHECK(sight->words(1050).contains("at the view's resolution"));
    CHECK(f.session.shot().planes[0].ties[0].corners[2].x() == 860);
    f.key(Qt::Key_Escape);
    CHECK(f.isSeen(880, 480, isNot));
    CHECK_FALSE(f.inserts.hand.isMoving());
    QTest::mouseRelease(&f.canvas, Qt::LeftButton, {}, to);
    CHECK(f.session.shot().planes[0].ties[0].corners[2].x() == 860);
    if (f.canvas.toolInHand() != "surface") f.key(Qt::Key_A, Qt::ShiftModifier);
    f.drag(from, to);
    CHECK(f.session.shot().planes[0].ties[0].corners[2].x() == Approx(920).margin(2));
    CHECK(f.isSeen(880, 480, isRed));
    CHECK_FALSE(f.inserts.hand.isMoving());
    CHECK(sight->words(1050) == "with inserts");
    // Tracked anew, frame by frame: whenever a frame is told, it is where the track has it.
    std::set<int> seen;
    double apart = 0;
    QObject::connect(&f.session.livePlanes, &LivePlanes::changed, &f.canvas, [&] {
        const auto& live = f.session.livePlanes.now();
        if (live.empty()) return;
        const auto surface = surfaceAt(live.begin()->second, f.session.player.frame());
        const auto corners = f.inserts.hand.cornersNow(f.insert());
        CHECK(f.inserts.hand.moving().size() == 1);
        CHECK(surface);
        CHECK(corners);
        if (!surface || !corners) return;
        seen.insert(f.session.player.frame());
        apart = std::max(apart, ((*surface)[2] - (*corners)[2]).norm());
    });
    f.key(Qt::Key_Y);
    f.wait();
    f.settle();
    CHECK(seen == std::set{1048, 1049, 1051, 1052, 1053});
    CHECK(apart < 1e-6);
    CHECK_FALSE(f.inserts.hand.isMoving());
}

TEST_CASE("a corner is trimmed on top of the track, nudged by keys, and the trims are undone at once") {
    InsertFixture f;
    f.addTimetable();
    f.key(Qt::Key_J, Qt::ShiftModifier);
    CHECK(f.canvas.toolInHand() == "insert corners");
    const Quad first = f.corners();
    f.drag(f.cornerOnScreen(2), f.cornerOnScreen(2) + QPoint(9, 6));
    const double zoom = f.canvas.view().zoom();
    CHECK((f.corners()[2] - first[2] - Vector2d(9, 6) / zoom).norm() < 1);
    CHECK((f.corners()[0] - first[0]).norm() < 1e-9);
    const Vector2d trimmed = f.corners()[2];
    f.key(Qt::Key_Right, Qt::ShiftModifier);
    f.settle();
    CHECK((f.corners()[2] - trimmed - Vector2d(1, 0)).norm() < 0.01);
    // The same trim on another frame, on top of the plane's motion.
    const Quad here = f.corners();
    f.goTo(1052);
    CHECK((f.corners()[2] - here[2] - Vector2d(-12, 0)).norm() < 0.01);
    // Corners that would cross are refused.
    f.goTo(1050);
    const auto placing = f.insert().placing;
    f.drag(f.cornerOnScreen(2), f.cornerOnScreen(0) - QPoint(60, 40));
    CHECK(f.insert().placing == placing);
    CHECK(f.window.note().contains("would cross"));
    CHECK(f.button("insertUntrim")->isVisibleTo(&f.window));
    f.button("insertUntrim")->click();
    f.settle();
    CHECK((f.corners()[2] - first[2]).norm() < 1e-9);
}

TEST_CASE("a layer of a kind that only another version knows can be held and clicked, and stays as it is") {
    InsertFixture f;
    f.addTimetable();
    const QPoint inside = f.cornerOnScreen(2) - QPoint(12, 12), corner = f.cornerOnScreen(2);
    const InsertId id = f.insert().id;
    f.session.edit("Make it another kind",
                   withInsertEdited(f.session.shot(), id, [](Insert& insert) { insert.kind = "of tomorrow"; }));
    f.settle();
    REQUIRE(f.inserts.hand.insert() == id);
    const auto placing = f.insert().placing;
    for (const auto modifier : {Qt::ShiftModifier, Qt::NoModifier}) {
        f.key(Qt::Key_J, modifier);
        for (const QPoint& at : {inside, corner}) f.drag(at, at + QPoint(9, 6));
        f.key(Qt::Key_Right);
    }
    CHECK(f.insert().placing == placing);
    CHECK(f.insert().kind == "of tomorrow");
}

TEST_CASE("the card fits, crops, fades, grades and blends what is held") {
    InsertFixture f;
    f.addTimetable();
    f.button("insertStretch")->click();
    f.settle();
    CHECK((f.corners()[2] - Vector2d(860, 490)).norm() < 1e-6);
    f.button("insertFill")->click();
    f.settle();
    CHECK(f.corners()[0].x() == Approx(450).margin(0.5));
    CHECK(f.corners()[0].y() < 270);
    f.button("insertStretch")->click();
    f.field<QDoubleSpinBox>("insertCropLeft")->setValue(25);
    CHECK(f.insert().shape.left == Approx(0.25));
    f.field<QDoubleSpinBox>("insertSoft")->setValue(4);
    f.field<QDoubleSpinBox>("insertRound")->setValue(10);
    f.field<QDoubleSpinBox>("insertGainR")->setValue(0.5);
    f.field<QDoubleSpinBox>("insertBlur")->setValue(1.5);
    f.field<QDoubleSpinBox>("insertShutter")->setValue(0.5);
    f.field<QDoubleSpinBox>("insertWrap")->setValue(40);
    f.choose("insertBlend", "multiply");
    const Insert& held = f.insert();
    CHECK(held.shape == ArtShape{0.25, 0, 0, 0, 0.1, 4});
    CHECK(held.look.grade.gain[0] == Approx(0.5));
    CHECK(held.look.blur_px == Approx(1.5));
    CHECK(held.look.wrap.amount == Approx(0.4));
    CHECK(held.look.blend == Blend::multiply);
    f.settle();
    f.checkSeen(500, 400);  // cropped: the plate
    f.checkSeen(700, 400);
    f.button("insertPlain")->click();
    CHECK(f.insert().look.grade == Grade{});
    // Opacity by hand, then by keys: a fade.
    auto* opacity = f.field<QDoubleSpinBox>("insertOpacity");
    opacity->setValue(60);
    CHECK(f.insert().look.opacity == Approx(0.6));
    f.button("insertOpacityKey")->click();
    CHECK(f.insert().opacityKeys.size() == 1);
    f.goTo(1052);
    opacity->setValue(0);
    REQUIRE(f.insert().opacityKeys.size() == 2);
    CHECK(f.insert().opacityKeys[1] == OpacityKey{1052, 0});
    f.goTo(1051);
    CHECK(opacity->value() == Approx(30));
    // A blink.
    f.button("insertThere")->click();
    CHECK(opacityAt(f.insert(), 1051) == 0);
    CHECK(f.button("insertThere")->text() == "Back from here");
    f.goTo(1052);
    f.button("insertThere")->click();
    CHECK(f.insert().turns.size() == 2);
}

TEST_CASE("what passes before it is held out by a matte that is ticked, and renaming it keeps the tick") {
    InsertFixture f;
    f.addTimetable();
    f.button("insertStretch")->click();
    Matte mast;
    mast.name = "mast";
    mast.keys = {{1050, {{600, 250}, {700, 250}, {700, 520}, {600, 520}}}};
    f.session.edit("Draw", withMatteAdded(f.session.shot(), mast));
    f.settle();
    f.tick("insertHeldOut", 0, true);
    CHECK(f.insert().heldOut.vector() == std::vector<MatteId>{f.session.shot().mattes[0].id});
    f.checkSeen(650, 400);
    f.checkSeen(750, 400);

    f.session.edit("Rename", withMatteRenamed(f.session.shot(), 0, "pole"));
    f.settle();
    CHECK(f.field<QListWidget>("insertHeldOut")->item(0)->checkState() == Qt::Checked);
    f.tick("insertHeldOut", 0, false);
    CHECK(f.insert().heldOut.isEmpty());
    f.tick("insertWithin", 0, true);
    f.checkSeen(750, 400);
    // The button that draws one opens the other card with its tool, on the bare plate.
    f.button("insertDraw")->click();
    CHECK(f.window.docket().openStage() == "mattes");
    CHECK(f.canvas.toolInHand() == "shape");
    CHECK(f.canvas.sight().isEmpty());
}

TEST_CASE("inserts are stacked, renamed, hidden, copied to selected tracks and taken by a click on the plate") {
    InsertFixture f;
    f.addTimetable();
    f.key(Qt::Key_M, Qt::ShiftModifier);
    f.settle();
    REQUIRE(f.session.shot().inserts.size() == 2);
    CHECK(f.insert(1).name == "test picture");
    auto* list = f.field<QListWidget>("insertList");
    CHECK(list->item(0)->text() == "test picture");  // on top
    list->item(0)->setText("chequers");
    f.settle();
    CHECK(f.insert(1).name == "chequers");
    f.tick("insertList", 0, false);
    CHECK(f.insert(1).hidden);
    f.checkSeen(655, 440);
    f.tick("insertList", 0, true);
    // A tint beside it, then a click on the one that lies free.
    f.session.edit("Apart", withInsertEdited(f.session.shot(), f.insert(1).id, [](Insert& i) {
                       i.placing.scale = {0.2, 0.2};
                       i.placing.centre = {0.9, 0.1};
                   }));
    f.settle();
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(655, 440));
    CHECK(f.inserts.hand.insert() == f.insert(0).id);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(819, 301));
    CHECK(f.inserts.hand.insert() == f.insert(1).id);
    // Copied to a track.
    Track track;
    track.id = 1;
    track.name = "seal";
    track.samples = std::vector<Sample>{{.frame = 1050, .at = {300, 300}}, {.frame = 1051, .at = {304, 300}}};
    Shot shot = f.session.shot();
    shot.tracks = std::vector<Track>{track};
    f.session.edit("Track", shot);
    f.session.selection.set({1});
    QTest::qWait(30);
    f.choose("insertOn", "copy to 1 selected track");
    REQUIRE(f.session.shot().inserts.size() == 3);
    const Insert* copy = f.inserts.hand.held();
    CHECK(wordsOf(f.session.shot(), *copy->ride) == "seal");
    f.choose("insertOn", "the frame");
    CHECK_FALSE(f.inserts.hand.held()->ride);
    // Delete removes what the tool holds.
    f.key(Qt::Key_Z);
    f.key(Qt::Key_Delete);
    CHECK(f.session.shot().inserts.size() == 2);
}

namespace {

/// A drop cannot be sent without a drag that the system runs.
struct OpenedList : OrderedList {
    using OrderedList::dropEvent;
};

}  // namespace

TEST_CASE("a row of the list that is dragged changes the order of laying, and nothing else") {
    InsertFixture f;
    for (int i = 0; i < 3; ++i) {
        f.inserts.addPlain(i == 1 ? Insert::Shows::test : Insert::Shows::colour);
        f.wait();
        f.settle();
    }
    const auto order = [&] {
        std::vector<InsertId> ids;
        for (const Insert& insert : f.session.shot().inserts) ids.push_back(insert.id);
        return ids;
    };
    const std::vector<InsertId> before = order();
    auto* list = static_cast<OrderedList*>(f.field<QListWidget>("insertList"));
    REQUIRE(list->count() == 3);
    const QString top = list->item(0)->text();
    const auto drop = [&](int from, int to) {
        list->setCurrentRow(from);
        const QMimeData nothing;
        QDropEvent event(list->visualItemRect(list->item(to)).center(), Qt::MoveAction, &nothing, Qt::LeftButton, {});
        (list->*&OpenedList::dropEvent)(&event);
        QTest::qWait(30);
    };
    // The first row is the one on top, the last of the shot's list.
    drop(0, 2);
    CHECK(order() == std::vector<InsertId>{before[2], before[0], before[1]});
    CHECK(list->item(2)->text() == top);
    CHECK(f.inserts.hand.insert() == before[2]);
    f.session.document.undo();
    CHECK(order() == before);
    drop(1, 1);
    CHECK(order() == before);
}

TEST_CASE("match takes levels and blur from an area that is dragged, and a key its colour from a click") {
    InsertFixture f;
    // A clip with a green backing, a grey square in its middle.
    Picture made{200, 100, Picture::Depth::bits8, false, {}, {}};
    made.bytes.resize(3 * 200 * 100);
    for (int y = 0; y < 100; ++y)
        for (int x = 0; x < 200; ++x) {
            const bool inside = x >= 60 && x < 140 && y >= 25 && y < 75;
            const std::array<std::uint8_t, 3> colour =
                inside ? std::array<std::uint8_t, 3>{180, 170, 160} : std::array<std::uint8_t, 3>{30, 190, 60};
            std::copy(colour.begin(), colour.end(), &made.bytes[3 * std::size_t(200 * y + x)]);
        }
    auto writer = FrameWriter::create(f.scratch / "green.####.png", 200, 100, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(1, made));
    f.inserts.addArt(f.scratch / "green.0001.png");
    f.wait();
    f.settle();
    CHECK(f.isSeen(470, 385, [](const QColor& c) { return c.green() > 150; }));
    f.field<QCheckBox>("insertKey")->click();
    f.button("insertKeyPick")->click();
    CHECK(f.canvas.toolInHand() == "insert key");
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(500, 385));
    f.wait();
    f.settle();
    REQUIRE(f.insert().key);
    CHECK(f.insert().key->colour[1] == Approx(190 / 255.0).margin(0.01));
    f.checkSeen(470, 385);  // the plate
    f.checkSeen(655, 385);
    CHECK(f.isSeen(655, 385, [](const QColor& c) { return c.red() > 150; }));
    // On grey there is nothing to key.
    f.button("insertKeyPick")->click();
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.screen(655, 385));
    f.wait();
    CHECK(f.window.note().contains("nearly grey"));

    f.session.edit("Remove", withInsertRemoved(f.session.shot(), f.insert().id));
    f.addTimetable();
    f.button("insertMatch")->click();
    CHECK(f.canvas.toolInHand() == "insert match");
    f.drag(f.screen(500, 300), f.screen(820, 470));
    f.wait();
    CHECK(f.insert().look.grade.gain[0] < 1);  // the board is duller than the artwork
    CHECK(f.insert().look.blur_px > 0.3);
    CHECK(f.window.note().contains("gain"));
    CHECK(f.canvas.toolInHand() == "insert");
    f.session.document.undo();
    CHECK(f.insert().look.grade == Grade{});
    f.button("insertMatch")->click();
    f.drag(f.screen(500, 300), f.screen(504, 304));
    f.wait();
    CHECK(f.window.note().contains("too small"));
}

TEST_CASE("a clip is moved in time and trimmed on the thread sheet") {
    InsertFixture f;
    auto writer = FrameWriter::create(f.scratch / "lamp.####.png", 32, 32, {24, 1});
    REQUIRE(writer);
    for (int frame = 1; frame <= 3; ++frame)
        REQUIRE((*writer)->write(frame, Picture{32,
                                                32,
                                                Picture::Depth::bits8,
                                                false,
                                                std::vector<std::uint8_t>(32 * 32 * 3, std::uint8_t(60 * frame)),
                                                {}}));
    f.inserts.addArt(f.scratch / "lamp.####.png");
    f.wait();
    f.settle();
    REQUIRE(f.session.shot().inserts.size() == 1);
    CHECK(f.insert().time.start == 1048);
    auto* sheet = f.window.findChild<ThreadSheet*>();
    REQUIRE(sheet);
    std::size_t strip = 0;
    while (sheet->stripRect(strip).height() == 0) ++strip;
    if (sheet->stripRect(strip + 1).height() > 0) ++strip;  // over it the plate check
    const int y = sheet->stripRect(strip).top() + 7;
    const auto dragFrames = [&](int from, int to) {
        const QPoint a(int(sheet->xOfFrame(from)), y), b(int(sheet->xOfFrame(to)), y);
        QTest::mousePress(sheet, Qt::LeftButton, {}, a);
        for (int i = 1; i <= 4; ++i) {
            const QPointF at = QPointF(a) + QPointF(b - a) * i / 4;
            QMouseEvent move(QEvent::MouseMove, at, sheet->mapToGlobal(at), Qt::NoButton, Qt::LeftButton, {});
            QApplication::sendEvent(sheet, &move);
        }
        QTest::mouseRelease(sheet, Qt::LeftButton, {}, b);
        f.settle();
    };
    dragFrames(1030, 1034);
    CHECK(f.insert().time.start == 1052);
    dragFrames(1090, 1051);
    REQUIRE(f.insert().frames);
    CHECK(f.insert().frames->last == 1051);
    CHECK(f.insert().frames->first == 1001);
    CHECK(f.session.document.history().undoName().find("Trim") != std::string::npos);
    f.session.edit("Key", withOpacityKey(f.session.shot(), f.insert().id, 1020, 0.5));
    f.settle();
    dragFrames(1020, 1015);
    CHECK(f.insert().opacityKeys[0] == OpacityKey{1015, 0.5});
    // Its fields say the same.
    CHECK(f.field<QSpinBox>("insertLast")->value() == 1051);
    f.field<QSpinBox>("insertTimeStart")->setValue(1049);
    f.field<QSpinBox>("insertClipIn")->setValue(2);
    f.choose("insertAfter", "it loops");
    CHECK(f.insert().time.in == 2);
    CHECK(clipFrameAt(f.insert().time, f.session.shot().clips[0], 1051, {24, 1}) == 2);
}

TEST_CASE("a clip that is gone keeps its place on the plate until it is found again") {
    InsertFixture f;
    std::filesystem::copy_file(kTimetable, f.scratch / "art.png");
    f.inserts.addArt(f.scratch / "art.png");
    f.wait();
    f.settle();
    std::filesystem::rename(f.scratch / "art.png", f.scratch / "moved.png");
    // Seen by itself, without an edit.
    const auto isSaid = [&] {
        return f.window.docket().card("inserts")->report().message.find("find the clip again") != std::string::npos;
    };
    CHECK(QTest::qWaitFor(isSaid, 30000));
    f.session.edit("Move",
                   withInsertEdited(f.session.shot(), f.insert().id, [](Insert& i) { i.placing.centre.x() = 0.4; }));
    f.settle();
    CHECK(f.state("inserts") == StageState::attention);
    CHECK(isSaid());
    CHECK(f.window.docket().findChild<QLabel*>("insertNotes")->text().contains("clip is missing"));
    CHECK(f.window.docket().findChild<QLabel*>("clipFacts")->text().contains("not there"));
    // Rendering says which, and writes nothing.
    f.inserts.render(f.scratch / "o.####.png");
    f.wait();
    CHECK(f.window.note().contains("art.png"));
    CHECK_FALSE(std::filesystem::exists(f.scratch / "o.1048.png"));
    f.inserts.relink(f.session.shot().clips[0].id, f.scratch / "moved.png");
    f.wait();
    f.settle();
    CHECK_FALSE(f.window.docket().findChild<QLabel*>("insertNotes")->text().contains("missing"));
    f.checkSeen(640, 440);
    // What is no picture is refused in words.
    f.scratch.write("words.png", "none");
    f.inserts.addArt(f.scratch / "words.png");
    f.wait();
    CHECK(f.window.note().contains("words.png"));
    CHECK(f.session.shot().inserts.size() == 1);
}

TEST_CASE("a patch lies over the whole frame, a tint is one colour, and a shot with both is saved and opened") {
    InsertFixture f;
    Picture painted = **f.session.player.frames()->get(1050);
    for (int y = 600; y < 640; ++y)
        for (int x = 900; x < 960; ++x)
            for (std::size_t c = 0; c < 3; ++c)
                painted.bytes[3 * (std::size_t(y) * 1280 + std::size_t(x)) + c] = c == 0 ? 250 : 10;
    auto writer = FrameWriter::create(f.scratch / "patch.####.png", 1280, 720, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(1050, painted));
    f.inserts.addPatch(f.scratch / "patch.1050.png");
    f.wait();
    f.settle();
    REQUIRE(f.session.shot().inserts.size() == 1);
    CHECK(f.insert().wholeFrame);
    CHECK(f.isSeen(930, 620, [](const QColor& c) { return c.red() > 200; }));
    f.goTo(1051);
    CHECK(f.isSeen(924, 620, [](const QColor& c) { return c.red() > 200; }));
    // Of another shape it is no patch.
    f.inserts.addPatch(kTimetable);
    f.wait();
    CHECK(f.window.note().contains("the plate's shape"));
    f.button("insertTint")->click();
    f.settle();
    CHECK(f.insert(1).shows == Insert::Shows::colour);
    CHECK(f.button("insertColour")->isVisibleTo(&f.window));
    const auto file = f.scratch / "shot.pinion";
    f.session.document.save(file);
    REQUIRE(QTest::qWaitFor([&] { return std::filesystem::exists(file); }, 30000));
    QTest::qWait(100);
    f.session.open(file);
    f.wait();
    f.settle();
    REQUIRE(f.session.shot().inserts.size() == 2);
    CHECK(f.insert().wholeFrame);
    f.window.docket().open("inserts");
    CHECK(f.field<QListWidget>("insertList")->count() == 2);
}

TEST_CASE("inserts are rendered over the plate and alone, and a stopped sequence goes on") {
    InsertFixture f;
    f.addTimetable();
    f.field<QLineEdit>("insertsPlace")->setText("out.####.png");
    emit f.field<QLineEdit>("insertsPlace")->editingFinished();
    f.button("insertsRender")->click();
    f.wait();
    CHECK(f.window.note().contains("6 frames"));
    for (const int frame : {1048, 1050, 1053}) {
        const auto read = readStill(f.scratch / fmt::format("out.{}.png", frame));
        REQUIRE(read);
        CHECK((*read)->bytes == f.truth(frame).bytes);
    }
    f.field<QCheckBox>("insertsAlone")->click();
    CHECK(f.session.shot().insertsAlone);
    CHECK(f.field<QLineEdit>("insertsPlace")->text() == "board.inserts.####.exr");
    f.button("insertsRender")->click();
    f.wait();
    const auto alone = Plate::open(f.scratch / "board.inserts.####.exr");
    REQUIRE(alone);
    const auto alpha = (*alone)->readAlpha(1050);
    REQUIRE(alpha);
    REQUIRE(*alpha);
    CHECK((**alpha).row(400)[655] == Approx(1.0F));
    CHECK((**alpha).row(40)[40] == 0.0F);
    // A place that cannot be written is said, and the shot is as it was.
    f.field<QLineEdit>("insertsPlace")->setText("out.png");
    emit f.field<QLineEdit>("insertsPlace")->editingFinished();
    f.button("insertsRender")->click();
    f.wait();
    CHECK(f.window.note().contains("####"));
}

TEST_CASE("no field of the Inserts card is cut off, and none is without a name") {
    InsertFixture f;
    f.addTimetable();
    Matte mast;
    mast.name = "mast";
    mast.keys = {{1050, {{600, 250}, {700, 250}, {700, 520}}}};
    f.session.edit("Draw", withMatteAdded(f.session.shot(), mast));
    f.session.edit("All", withInsertEdited(f.session.shot(), f.insert().id, [](Insert& i) {
                       i.key.emplace();
                       i.lost = Insert::Lost::fades;
                       i.placing.trims[0] = {0.01, 0};
                   }));
    f.settle();
    QWidget* card = f.window.docket().card("inserts");
    int fields = 0;
    for (QWidget* part : card->findChildren<QWidget*>()) {
        if (!part->isVisibleTo(&f.window)) continue;
        const bool isField = part->inherits("QAbstractSpinBox") || part->inherits("QComboBox") ||
                             part->inherits("QPushButton") || part->inherits("QCheckBox");
        if (!isField) continue;
        ++fields;
        INFO(part->objectName().toStdString());
        CHECK(part->mapTo(card, QPoint(part->width(), 0)).x() <= card->width());
        CHECK(part->width() >=
              std::min(part->sizeHint().width(), 104) - 1 - (part->inherits("QAbstractSpinBox") ? 60 : 0));
        if (!part->inherits("QPushButton") && !part->inherits("QCheckBox"))
            CHECK_FALSE(part->accessibleName().isEmpty());
    }
    CHECK(fields > 30);
}
