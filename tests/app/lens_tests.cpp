// The Lens card and the line tool, in the real window.

#include "exchange/opencvlens.h"
#include "exchange/formats.h"
#include "fixture.h"
#include "lensmapping.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/lensedits.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/lensstage.h"
#include "stages/lens/lensstage.h"

#include <QRegularExpression>

using pinion::bench::landingLens;

namespace {

double cornerError(const Lens& a, const Lens& b) {
    double worst = 0;
    for (const Vector2d& corner : {Vector2d(0, 0), Vector2d(1280, 0), Vector2d(1280, 720), Vector2d(0, 720)})
        worst = std::max(worst, (*undistortedFromPlate(a, corner) - *undistortedFromPlate(b, corner)).norm());
    return worst;
}

struct LensFixture : Fixture {
    LensStage& lens = window.stage<LensStage>();
    LensFixture() {
        openPlate();
        window.docket().open("lens");
    }
    const LensCard& card() const { return session.shot().lens; }
    void goTo(int frame) {
        session.player.goTo(frame);
        waitForPicture();
    }
    void click(double x, double y, Qt::KeyboardModifiers modifiers = {}) {
        QTest::mouseClick(&canvas, Qt::LeftButton, modifiers, screen(x, y));
        QTest::qWait(10);
    }
    void line(int frame, std::initializer_list<std::pair<double, double>> places) {
        goTo(frame);
        for (const auto& [x, y] : places) click(x, y);
        key(Qt::Key_Return);
    }
    void drawSix() {
        key(Qt::Key_L);
        line(1041, {{756, 42}, {970, 52}, {1185, 63}});
        line(1041, {{820, 163}, {1050, 168}, {1270, 173}});
        line(1076, {{735, 5}, {970, 14}, {1200, 28}});
        line(1120, {{685, 104}, {980, 105}, {1270, 108}});
        line(1001, {{780, 70}, {960, 81}, {1140, 94}});
        line(1001, {{4, 357}, {120, 355}, {235, 353}});
        REQUIRE(waitForFit());
    }
    bool waitForFit() {
        return QTest::qWaitFor([&] { return lens.isFitted() && card().lens == lens.linesLens()->lens; }, 5000);
    }
    template <class Part>
    Part* part(const char* name) {
        auto* found = window.findChild<Part*>(name);
        REQUIRE(found);
        return found;
    }
};

}  // namespace

TEST_CASE("six lines clicked on the landing straighten it, and the solve keeps their lens") {
    LensFixture f;
    CHECK(f.state("lens") == StageState::empty);
    f.drawSix();
    CHECK(f.canvas.toolInHand() == "line");
    CHECK(f.card().lines.size() == 6);
    CHECK(f.card().source == LensCard::Source::lines);
    for (const LensLine& line : f.card().lines) {
        CHECK(line.clicks.size() == 3);
        CHECK(line.edge.size() > 15);
    }
    REQUIRE(f.card().lens);
    CHECK(cornerError(*f.card().lens, landingLens()) < 2);
    const QString words = f.part<QLabel>("lensLines")->text();
    INFO(words.toStdString());
    CHECK(words.contains("6 lines"));
    CHECK(words.contains("px from straight"));
    // The fit is no step of its own: undoing takes back the last click, and its lens with it.
    const Lens six = *f.card().lens;
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.card().lines[5].clicks.size() == 2);
    f.key(Qt::Key_Z, Qt::ControlModifier | Qt::ShiftModifier);
    REQUIRE(f.waitForFit());
    CHECK(f.card().lens == six);

    auto* distortion = f.part<QComboBox>("distortion");
    f.window.docket().open("camera");
    distortion->setCurrentIndex(3);
    emit distortion->activated(3);
    CHECK(f.session.shot().solveSettings.distortion == SolveOptions::Distortion::known);
    CHECK(solveOptionsOf(f.session.shot()).lens == f.card().lens);
}

TEST_CASE("places of a line are dragged, nudged and taken out, each a step that undo takes back") {
    LensFixture f;
    f.key(Qt::Key_L);
    f.line(1001, {{780, 70}, {960, 81}, {1140, 94}});
    const Vector2d middle = f.card().lines[0].clicks[1];
    // Off the edge by hand: it snaps back on release.
    QTest::mousePress(&f.canvas, Qt::LeftButton, {}, f.screen(middle.x(), middle.y()));
    QTest::mouseMove(&f.canvas, f.screen(middle.x() + 30, middle.y() + 6));
    QTest::mouseMove(&f.canvas, f.screen(middle.x() + 40, middle.y() + 4));
    CHECK(f.card().lines[0].edge.isEmpty());
    QTest::mouseRelease(&f.canvas, Qt::LeftButton, {}, f.screen(middle.x() + 40, middle.y() + 4));
    CHECK(f.card().lines[0].clicks[1].x() == Approx(middle.x() + 40).margin(2));
    CHECK_FALSE(f.card().lines[0].edge.isEmpty());
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.card().lines[0].clicks[1] == middle);
    f.click(middle.x(), middle.y(), Qt::ControlModifier);
    CHECK(f.card().lines[0].clicks.size() == 2);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    // Without snapping a nudge is as far as it says.
    f.click(middle.x(), middle.y());
    f.part<QCheckBox>("lensSnap")->click();
    f.canvas.setFocus();
    f.key(Qt::Key_Down, Qt::ShiftModifier);
    CHECK((f.card().lines[0].clicks[1] - middle - Vector2d(0, 1)).norm() < 1e-9);
    f.key(Qt::Key_Backspace);
    CHECK(f.card().lines[0].clicks.size() == 2);
    f.key(Qt::Key_Backspace, Qt::ShiftModifier);
    CHECK(f.card().lines.isEmpty());
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.card().lines.size() == 1);
}

TEST_CASE("a line belongs to its frame: on another one the next click begins another, and both stay visible") {
    LensFixture f;
    f.key(Qt::Key_L);
    f.goTo(1001);
    f.click(780, 70);
    f.click(960, 81);
    f.goTo(1002);
    f.click(4, 357);
    REQUIRE(f.card().lines.size() == 2);
    CHECK(f.card().lines[0].frame == 1001);
    CHECK(f.card().lines[1].frame == 1002);
    // A double click ends a line with its place.
    f.click(120, 355);
    QTest::mouseDClick(&f.canvas, Qt::LeftButton, {}, f.screen(120, 355));
    f.click(800, 600);
    CHECK(f.card().lines.size() == 3);
    // Escape puts a line of one place away.
    f.key(Qt::Key_Escape);
    CHECK(f.card().lines.size() == 2);
    f.key(Qt::Key_L);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, QPoint(f.screen(640, 360).x(), 3));
    CHECK(f.card().lines.size() == 2);
    CHECK(f.window.note().contains("Outside the plate"));
}

TEST_CASE("lines that cannot tell keep the last good lens, say why, and undo brings all back") {
    LensFixture f;
    f.drawSix();
    const Lens good = *f.card().lens;
    const Shot before = f.session.shot();
    f.session.edit("Leave one line",
                   withLensLines(before, {{1001, std::vector<Vector2d>{{20, 360}, {640, 360.1}, {1260, 360}}, {}}}));
    REQUIRE(QTest::qWaitFor([&] { return !f.lens.linesProblem().isEmpty(); }, 5000));
    CHECK(f.card().lens == good);
    CHECK(f.part<QLabel>("lensLines")->text().contains(f.lens.linesProblem().mid(1)));
    f.key(Qt::Key_Z, Qt::ControlModifier);
    REQUIRE(f.waitForFit());
    CHECK(f.card().lens == good);
}

TEST_CASE("typed numbers bend the picture, a lens that folds it over is refused, and the old one stays") {
    LensFixture f;
    auto* k1 = f.part<QDoubleSpinBox>("lensK1");
    k1->setValue(-0.1);
    REQUIRE(f.card().lens);
    CHECK(f.card().source == LensCard::Source::typed);
    CHECK(f.card().lens->k1 == -0.1);
    k1->setValue(-3);
    CHECK(f.card().lens->k1 == -0.1);
    CHECK(k1->value() == -0.1);
    CHECK(f.window.note().contains("folds the picture over"));
    f.part<QPushButton>("lensClear")->click();
    CHECK_FALSE(f.card().lens);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.card().lens->k1 == -0.1);
    auto* sensor = f.part<QComboBox>("lensSensor");
    sensor->setCurrentIndex(1);
    emit sensor->activated(1);
    CHECK(f.session.shot().solveSettings.sensorWidth_mm == 24.89);
    CHECK(f.part<QLabel>("lensAngle")->text().contains("across"));
}

TEST_CASE("undistorted, what is drawn and clicked lies where the picture is, and the grid is straight") {
    LensFixture f;
    f.session.edit("Lens", withLens(f.session.shot(), landingLens(), LensCard::Source::file));
    f.key(Qt::Key_6, Qt::ControlModifier);
    CHECK(f.canvas.sight() == "undistorted");
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 5000));
    CHECK(f.part<QComboBox>("lensView")->currentText() == "undistorted");
    const Vector2d place(1200, 60);
    const Vector2d straight = *undistortedFromPlate(landingLens(), place);
    CHECK((straight - place).norm() > 10);
    const QPointF shown = f.canvas.view().screenFromShown(straight);
    CHECK(QLineF(*f.canvas.view().screenFromPlate(place), shown).length() < 1e-6);
    CHECK((*f.canvas.view().plateFromScreen(shown) - place).norm() < 1e-6);
    // The same spot has the same colour in both views.
    QTest::qWait(150);
    const QColor bent = f.seen(1000, 345);
    f.key(Qt::Key_1, Qt::ControlModifier);
    QTest::qWait(150);
    const QColor filmed = f.seen(1000, 345);
    CHECK(std::abs(bent.lightness() - filmed.lightness()) < 30);
    // Tools work in it: a track placed there lies on the plate as filmed.
    f.key(Qt::Key_6, Qt::ControlModifier);
    f.key(Qt::Key_T);
    QTest::mouseClick(&f.canvas, Qt::LeftButton, {}, f.canvas.view().screenFromPlate({930, 260})->toPoint());
    f.wait();
    REQUIRE(f.session.shot().tracks.size() == 1);
    const Track& track = f.session.shot().tracks.front();
    CHECK((sampleAt(track, track.referenceFrame)->at - Vector2d(930, 260)).norm() < 1.5);
}

TEST_CASE("the round trip and its difference are shown with the filter that is chosen") {
    LensFixture f;
    f.key(Qt::Key_7, Qt::ControlModifier);
    CHECK(f.canvas.sight().isEmpty());  // there is no lens yet, and the command says so
    f.session.edit("Lens", withLens(f.session.shot(), landingLens(), LensCard::Source::file));
    f.key(Qt::Key_8, Qt::ControlModifier);
    CHECK(f.canvas.sight() == "difference");
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 20000));
    // How much is lost is said in numbers.
    const Sight* sight = f.canvas.shownSight();
    REQUIRE(sight);
    const QString words = sight->words(1001);
    INFO(words.toStdString());
    const auto number = QRegularExpression("([0-9.]+) dB · places return within ([0-9.]+) px").match(words);
    REQUIRE(number.hasMatch());
    CHECK(number.captured(1).toDouble() > 40);
    CHECK(number.captured(2).toDouble() < 0.01);
    // Next to nothing in the sky, at most the grain on edges.
    CHECK(qGray(f.canvas.renderedImage().pixel(100, 60)) < 60);
    f.key(Qt::Key_7, Qt::ControlModifier);
    CHECK(f.canvas.sight() == "round trip");
}

TEST_CASE("the lens is taken from the solve, saved, opened again, and one of another size is refused") {
    LensFixture f;
    CHECK_FALSE(f.part<QPushButton>("lensFromSolve")->isEnabled());
    Solve solve;
    solve.lens = landingLens();
    solve.k1Deviation = 0.001;
    f.session.edit("Solve", withSolve(f.session.shot(), solve, 1));
    f.part<QPushButton>("lensFromSolve")->click();
    CHECK(f.card().source == LensCard::Source::solve);
    CHECK(f.card().lens == landingLens());
    CHECK(f.part<QLabel>("lensSure")->text().contains("±"));
    CHECK(f.state("lens") == StageState::done);
    Lens small = landingLens();
    small.width = 640;
    f.session.edit("Lens", withLens(f.session.shot(), small, LensCard::Source::file));
    CHECK(f.state("lens") == StageState::attention);
    CHECK_FALSE(lensInForce(f.session.shot()));
}

TEST_CASE("a chart is measured beside the interface; what is none is refused and changes nothing") {
    LensFixture f;
    const QString folder = "/usr/share/doc/opencv-doc/examples/data/";
    const Shot before = f.session.shot();
    f.lens.measureChart({folder + "left01.jpg", folder + "left02.jpg", folder + "left03.jpg"});
    CHECK(f.session.isBusy());
    f.wait();
    // They are of another size than the plate.
    CHECK(f.window.note().contains("640x480, the plate is 1280x720"));
    CHECK(f.card().source == before.lens.source);
    f.lens.measureChart({folder + "graf1.png"});
    f.wait();
    CHECK_FALSE(f.card().lens);
}

TEST_CASE("the undistorted plate is rendered from the card, and comes back") {
    LensFixture f;
    const test::Scratch scratch;
    Shot shot = withLens(f.session.shot(), landingLens(), LensCard::Source::file);
    shot.plate.range = {1001, 1002};
    f.session.edit("Lens", shot);
    f.lens.renderUndistorted(scratch / "u.####.png");
    f.wait();
    const PixelBox box = undistortedBox(landingLens());
    const auto name = scratch / fmt::format("u.o{}x{}.####.png", -box.x0, -box.y0);
    f.lens.redistort(name, scratch / "b.####.png");
    f.wait();
    const auto back = Plate::open(scratch / "b.####.png");
    REQUIRE(back);
    CHECK((*back)->facts().width == 1280);
    CHECK((*back)->facts().frameCount() == 2);
}

TEST_CASE("the wipe compares the undistorted plate with the plate as filmed, when that was looked at") {
    LensFixture f;
    f.session.edit("Lens", withLens(f.session.shot(), landingLens(), LensCard::Source::file));
    f.key(Qt::Key_6, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 5000));
    f.window.show("wipe");
    CHECK(f.canvas.compare() == Compare::wipe);
    CHECK(f.canvas.sight() == "undistorted");
    f.key(Qt::Key_1, Qt::ControlModifier);
    CHECK(f.canvas.renderedImage().isNull());
}

TEST_CASE("another lens makes another picture, and playing goes on in the undistorted view") {
    LensFixture f;
    f.session.edit("Lens", withLens(f.session.shot(), landingLens(), LensCard::Source::file));
    f.key(Qt::Key_6, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 5000));
    const QSize first = f.canvas.renderedImage().size();
    Lens stronger = landingLens();
    stronger.k1 = -0.2;
    stronger.k2 = 0.06;
    f.session.edit("Lens", withLens(f.session.shot(), stronger, LensCard::Source::file));
    CHECK(QTest::qWaitFor([&] { return f.canvas.renderedImage().size().width() > first.width(); }, 5000));
    f.session.player.setPlaying(true);
    CHECK(QTest::qWaitFor([&] { return f.session.player.frame() > 1006; }, 8000));
    f.session.player.setPlaying(false);
    f.waitForPicture();
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(QTest::qWaitFor([&] { return f.canvas.renderedImage().size() == first; }, 5000));
}

TEST_CASE("the camera is handed on for the undistorted plate at a choice, and undo takes it back") {
    LensFixture f;
    f.window.docket().open("delivery");
    auto* plate = f.part<QComboBox>("deliveryPlate");
    plate->setCurrentIndex(1);
    emit plate->activated(1);
    for (const Deliverable& item : f.session.shot().deliverables)
        CHECK(item.overscan == (item.kind == DeliverableKind::camera));
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(plate->currentIndex() == 0);
}

TEST_CASE("with a line in hand a typed number is entered by Enter, and the line goes on") {
    LensFixture f;
    f.key(Qt::Key_L);
    f.click(780, 70);
    f.click(960, 81);
    auto* k1 = f.part<QDoubleSpinBox>("lensK1");
    k1->setFocus();
    k1->selectAll();
    QTest::keyClicks(k1, "-0.05");
    QTest::keyClick(k1, Qt::Key_Backspace);
    QTest::keyClicks(k1, "7");
    QTest::keyClick(k1, Qt::Key_Return);
    REQUIRE(f.card().lens);
    CHECK(f.card().lens->k1 == Approx(-0.07));
    CHECK(f.card().lines[0].clicks.size() == 2);
    QTest::qWait(50);
    f.click(1140, 94);
    CHECK(f.card().lines.size() == 1);
    CHECK(f.card().lines[0].clicks.size() == 3);
}

TEST_CASE("the wheel over a card scrolls it and changes no number") {
    LensFixture f;
    const auto wheelOver = [&](QWidget* field) {
        const QPointF at(field->width() / 2.0, field->height() / 2.0);
        QWheelEvent event(at, field->mapToGlobal(at), {}, {0, -240}, Qt::NoButton, Qt::NoModifier, Qt::NoScrollPhase,
                          false);
        QApplication::sendEvent(field, &event);
    };
    const Chart before = f.card().chart;
    for (QSpinBox* box : f.window.docket().card("lens")->findChildren<QSpinBox*>()) wheelOver(box);
    for (QDoubleSpinBox* box : f.window.docket().card("lens")->findChildren<QDoubleSpinBox*>()) wheelOver(box);
    for (QComboBox* box : f.window.docket().card("lens")->findChildren<QComboBox*>()) wheelOver(box);
    CHECK(f.card().chart.rows == before.rows);
    CHECK(f.card().chart.columns == before.columns);
    CHECK_FALSE(f.card().lens);
    CHECK_FALSE(f.session.document.history().canUndo());
    // Worked in, a field follows the wheel.
    auto* k1 = f.part<QDoubleSpinBox>("lensK1");
    k1->setFocus();
    wheelOver(k1);
    CHECK(f.card().lens);
}

TEST_CASE("what the line tool offers is in the menus with its keys and the reason why not") {
    LensFixture f;
    const auto refused = [&](const char* name) {
        for (const Command& command : f.window.commands().all())
            if (command.name == name) return command.whyNot ? command.whyNot() : QString();
        FAIL("no command " << name);
        return QString();
    };
    CHECK(refused("End the line") == "no line is in hand");
    CHECK(refused("Undistorted") == "there is no lens yet");
    CHECK(refused("Take the lens from the solve") == "the camera is not solved yet");
    f.key(Qt::Key_L);
    f.click(780, 70);
    CHECK(refused("End the line").isEmpty());
    CHECK(refused("Draw lines").isEmpty());
    f.part<QPushButton>("lensRemoveLine");
    CHECK(f.card().lines.size() == 1);
    f.part<QPushButton>("lensRemoveLine")->click();
    CHECK(f.card().lines.isEmpty());
}
