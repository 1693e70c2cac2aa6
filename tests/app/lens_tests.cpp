// The Lens card and the line tool, in the real window.

#include "exchange/opencvlens.h"
#include "exchange/formats.h"
#include "fixture.h"
#include "lensmapping.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/lensedits.h"
#include "shot/stages/camerastage.h"
#include "shot/file/shotfile.h"
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
        return QTest::qWaitFor([&] { return lens.isFitted() && card().lens == lens.linesLens()->lens; }, 30000);
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
    REQUIRE(QTest::qWaitFor([&] { return !f.lens.linesProblem().isEmpty(); }, 30000));
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
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
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
    f.session.edit("Solve", withSolve(f.session.shot(), solve, f.session.shot()));
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

TEST_CASE("the pictures of a measured chart are looked at with their corners, and the plate's own marks rest") {
    LensFixture f;
    QStringList pictures;
    for (int i = 1; i <= 7; ++i) pictures << QString(PINION_SOURCE_DIR "/demo/plates/chart/board.%1.jpg").arg(1000 + i);
    f.lens.measureChart(pictures);
    f.wait();
    REQUIRE(f.card().source == LensCard::Source::chart);
    auto* views = f.part<QListWidget>("lensViews");
    REQUIRE(views->count() == pictures.size());
    CHECK(views->isVisibleTo(&f.window));
    CHECK(views->item(1)->text().contains(" px"));
    const QRect row = views->visualItemRect(views->item(1));
    QTest::mouseClick(views->viewport(), Qt::LeftButton, {}, row.center());
    CHECK(f.canvas.sight() == "chart");
    CHECK(f.lens.chartView() == 1);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
    // It is the chart that is seen, not the plate, and a click draws nothing on the plate behind it.
    CHECK(f.canvas.renderedImage().size() == QSize(1280, 720));
    CHECK(f.canvas.renderedImage() != f.canvas.image());
    CHECK(f.canvas.shownSight()->words(1001).contains("54 corners"));
    f.canvas.takeTool("line");
    f.click(400, 300);
    CHECK(f.card().lines.isEmpty());
    f.key(Qt::Key_1, Qt::ControlModifier);
    CHECK(f.canvas.sight().isEmpty());
    // A chart that is gone is told, with the corners that are kept.
    Shot shot = f.session.shot();
    auto seen = shot.lens.views.vector();
    seen[1].path = "/nowhere/board.png";
    shot.lens.views = List<ChartView>(seen);
    f.session.edit("Chart", shot);
    f.lens.lookAtChart(1);
    CHECK(f.canvas.sight() == "chart");
}

TEST_CASE(
    "a pair of maps becomes the shot's lens: seen, solved with, handed on, saved and opened; undo takes it back") {
    LensFixture f;
    const test::Scratch scratch;
    REQUIRE(writeStMap(undistortMap(landingLens()), scratch / "undistort.exr"));
    REQUIRE(writeStMap(redistortMap(landingLens()), scratch / "redistort.exr"));
    f.lens.openMaps({(scratch / "undistort.exr").string(), (scratch / "redistort.exr").string()});
    f.wait();
    REQUIRE(f.card().source == LensCard::Source::maps);
    REQUIRE(f.card().lens);
    CHECK(cornerError(*f.card().lens, landingLens()) < 0.02);
    CHECK(f.state("lens") == StageState::done);
    CHECK(f.part<QLabel>("lensSure")->text().contains("barrel"));
    CHECK(f.part<QLabel>("lensSure")->text().contains("undistort.exr"));
    CHECK_FALSE(f.part<QDoubleSpinBox>("lensK1")->isEnabled());
    // A click in the undistorted view lies on the plate where the lens says.
    f.key(Qt::Key_6, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
    const Vector2d plate(1200, 660);
    const auto screen = f.canvas.view().screenFromPlate(plate);
    REQUIRE(screen);
    CHECK((*f.canvas.view().plateFromScreen(*screen) - plate).norm() < 1e-6);
    const Vector2d straight = *undistortedFromPlate(landingLens(), plate);
    CHECK(QLineF(*screen, f.canvas.view().screenFromShown(straight)).length() < 0.02);
    // The shot holds it: the maps may go.
    std::filesystem::remove(scratch / "undistort.exr");
    REQUIRE(saveShot(f.session.shot(), scratch / "maps.pinion"));
    const auto read = loadShot(scratch / "maps.pinion");
    REQUIRE(read);
    CHECK(read->lens.lens == f.card().lens);
    CHECK(read->lens.maps.redistorting == (scratch / "redistort.exr").string());
    // Maps that do not fit change nothing.
    const Lens before = *f.card().lens;
    REQUIRE(writeStMap(undistortMap(before), scratch / "undistort.exr"));
    Lens other = landingLens();
    other.k1 = -0.05;
    REQUIRE(writeStMap(redistortMap(other), scratch / "redistort.exr"));
    f.lens.openMaps({(scratch / "undistort.exr").string(), (scratch / "redistort.exr").string()});
    f.wait();
    CHECK(f.window.note().contains("do not undo each other"));
    CHECK(f.card().lens == before);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK_FALSE(f.card().lens);
}

TEST_CASE("the residual of the round trip is shown in shades with its numbers, and what overscan loses is hatched") {
    LensFixture f;
    f.session.edit("Lens", withLens(f.session.shot(), landingLens(), LensCard::Source::file));
    f.key(Qt::Key_9, Qt::ControlModifier);
    CHECK(f.canvas.sight() == "residual");
    REQUIRE(QTest::qWaitFor([&] { return f.canvas.shownSight()->words(1001).contains("white"); }, 8000));
    static const QRegularExpression kFigure("white: ([0-9.]+) px");
    const double worst = kFigure.match(f.canvas.shownSight()->words(1001)).captured(1).toDouble();
    CHECK(worst > 0);
    CHECK(worst < 0.01);
    CHECK_FALSE(f.canvas.shownSight()->words(1001).contains("lost"));
    Shot shot = f.session.shot();
    shot.lens.overscan.kind = Overscan::Kind::none;
    f.session.edit("No overscan", shot);
    REQUIRE(QTest::qWaitFor([&] { return f.canvas.shownSight()->words(1001).contains("lost"); }, 8000));
    // The corner is what a barrel loses: reddish there, grey in the middle.
    CHECK(QTest::qWaitFor(
        [&] {
            const QImage& image = f.canvas.renderedImage();
            return !image.isNull() && image.pixelColor(3, 3).red() > image.pixelColor(3, 3).blue();
        },
        8000));
    const QColor middle = f.canvas.renderedImage().pixelColor(640, 360);
    CHECK(middle.red() == middle.blue());
}

TEST_CASE("the undistorted view is fitted with its overscan, the plate with its frame") {
    LensFixture f;
    f.session.edit("Lens", withLens(f.session.shot(), landingLens(), LensCard::Source::file));
    f.canvas.fit();
    const double before = f.canvas.view().zoom();
    f.key(Qt::Key_6, Qt::ControlModifier);
    CHECK(f.canvas.view().zoom() < before);
    const PixelBox box = undistortedBox(landingLens());
    const QPointF low = f.canvas.view().screenFromShown({double(box.x0), double(box.y0)}),
                  high = f.canvas.view().screenFromShown({double(box.x1), double(box.y1)});
    CHECK(QRectF(f.canvas.rect()).contains(QRectF(low, high)));
    f.key(Qt::Key_1, Qt::ControlModifier);
    CHECK(f.canvas.view().zoom() == Approx(before));
}

TEST_CASE("of a solved zoom each frame is undistorted by its own lens, in a view that stands still") {
    LensFixture f;
    auto solve = std::make_shared<Solve>();
    solve->lens = landingLens();
    solve->zoom = true;
    solve->k1Slope = 0.2;
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1120; ++frame) {
        SolvedFrame one;
        one.frame = frame;
        one.focal_px = landingLens().focal_px * (1 + (frame - 1001) / 240.0);
        frames.push_back(one);
    }
    solve->frames = List<SolvedFrame>(frames);
    Shot shot = f.session.shot();
    shot.solve = solve;
    f.session.edit("Solve", shot);
    f.key(Qt::Key_6, Qt::ControlModifier);
    CHECK(f.canvas.shownSight()->words(1001).contains("on this frame"));
    const Vector2d plate(60, 40);
    std::vector<QPointF> seen;
    double zoom = 0;
    for (const int frame : {1001, 1110}) {
        f.goTo(frame);
        const auto straight = undistortedFromPlate(lensOf(*solve, *solvedFrameAt(*solve, frame)), plate);
        REQUIRE(straight);
        const auto at = f.canvas.view().screenFromPlate(plate);
        REQUIRE(at);
        CHECK(QLineF(*at, f.canvas.view().screenFromShown(*straight)).length() < 1e-6);
        if (!seen.empty()) CHECK(f.canvas.view().zoom() == zoom);
        zoom = f.canvas.view().zoom();
        seen.push_back(*at);
    }
    CHECK(QLineF(seen[0], seen[1]).length() > 3);
}

TEST_CASE("a squeezed plate is shown desqueezed or as it is, and clicks lie right in both") {
    LensFixture f;
    Shot shot = f.session.shot();
    shot.solveSettings.squeeze = 0.5;
    f.session.edit("Squeeze", shot);
    const auto shape = [&] {
        const QRectF frame = f.canvas.view().frameOnScreen();
        return frame.width() / frame.height();
    };
    CHECK(shape() == Approx(2 * 1280 / 720.0));
    // 35 mm on 36 mm, squeezed by two: twice the tangent of 27.2 degrees across.
    CHECK(f.part<QLabel>("lensAngle")->text().contains("91.6° across, 32.3° up"));
    const QPoint at = f.screen(1100, 200);
    const auto plate = f.canvas.view().plateFromScreen(at);
    REQUIRE(plate);
    CHECK((*plate - Vector2d(1100, 200)).norm() < 3);
    auto* desqueezed = f.part<QCheckBox>("lensDesqueezed");
    CHECK(desqueezed->isVisibleTo(&f.window));
    desqueezed->click();
    CHECK(shape() == Approx(1280 / 720.0));
    desqueezed->click();
    CHECK(shape() == Approx(2 * 1280 / 720.0));
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(shape() == Approx(1280 / 720.0));
    CHECK_FALSE(desqueezed->isVisibleTo(&f.window));
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
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
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
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
    const QSize first = f.canvas.renderedImage().size();
    Lens stronger = landingLens();
    stronger.k1 = -0.2;
    stronger.k2 = 0.06;
    f.session.edit("Lens", withLens(f.session.shot(), stronger, LensCard::Source::file));
    CHECK(QTest::qWaitFor([&] { return f.canvas.renderedImage().size().width() > first.width(); }, 30000));
    f.session.player.setPlaying(true);
    CHECK(QTest::qWaitFor([&] { return f.session.player.frame() > 1006; }, 8000));
    f.session.player.setPlaying(false);
    f.waitForPicture();
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(QTest::qWaitFor([&] { return f.canvas.renderedImage().size() == first; }, 30000));
}

TEST_CASE("where playing stops in the undistorted view, the plate as filmed is that of the frame as well") {
    LensFixture f;
    Shot shot = withLens(f.session.shot(), landingLens(), LensCard::Source::file);
    shot.plate.range = {1001, 1004};
    f.session.edit("Lens", shot);
    f.key(Qt::Key_6, Qt::ControlModifier);
    REQUIRE(QTest::qWaitFor([&] { return !f.canvas.renderedImage().isNull(); }, 30000));
    // Round until every picture is made, so that none comes after the stop.
    int rounds = 0;
    int before = f.session.player.frame();
    QObject::connect(&f.session.player, &Player::frameChanged, &f.window, [&] {
        rounds += f.session.player.frame() < before;
        before = f.session.player.frame();
    });
    f.session.player.setPlaying(true);
    REQUIRE(QTest::qWaitFor([&] { return rounds >= 6 && f.session.player.frame() == 1003; }, 60000));
    f.session.player.setPlaying(false);
    f.waitForPicture();
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
    // A wheel that is turned by hand would give the focus first, as no event of a test does.
    for (const QWidget* field : f.window.docket().card("lens")->findChildren<QWidget*>())
        if (field->inherits("QAbstractSpinBox") || field->inherits("QComboBox")) {
            INFO(field->objectName().toStdString());
            CHECK(field->focusPolicy() == Qt::StrongFocus);
        }
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
