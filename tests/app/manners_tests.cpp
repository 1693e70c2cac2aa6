// How the window behaves whatever is done in it: room for the plate, keyboard, notes, settings, the 3D view, the log.

#include "fixture.h"

#include "base/log.h"
#include "session/logging.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/trackedits.h"
#include "widgets/toolbar.h"

#include <QComboBox>
#include <QDialog>
#include <QDialogButtonBox>
#include <QMenu>
#include <QSettings>
#include <QSpinBox>
#include <QToolButton>

namespace {

/// A camera walking past a wall of points, five units off; the tracks are placed on the plate as it sees them.
Shot walkedShot(const Shot& open) {
    Shot shot = open;
    Solve solve;
    solve.lens = pinholeLens(shot.plate.width, shot.plate.height, 1000);
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1010; ++frame) {
        SolvedFrame solved;
        solved.frame = frame;
        solved.focal_px = 1000;
        solved.worldFromCamera.translation() = Eigen::Vector3d(0.05 * (frame - 1001), 0.2, 0);
        frames.push_back(solved);
    }
    solve.frames = std::move(frames);
    std::vector<SolvedTrack> tracks;
    for (int i = 0; i < 24; ++i) {
        const Eigen::Vector3d place(-2.5 + i % 6, -1.0 + i / 6 * 0.8, -5.0 - 0.3 * (i % 3));
        TrackId id = 0;
        const Eigen::Vector2d seen(640 + 1000 * place.x() / -place.z(), 360 - 1000 * (place.y() - 0.2) / -place.z());
        shot = withTrackAdded(shot, 1001, seen, &id);
        SolvedTrack solved;
        solved.track = id;
        solved.xyz = place;
        solved.role = TrackRole::used;
        solved.rms_px = 0.2 + 0.1 * i;
        tracks.push_back(solved);
    }
    solve.tracks = std::move(tracks);
    return withSolve(shot, solve, shot);
}

double areaOf(const QSize& size) { return double(size.width()) * size.height(); }

QPoint pointOf(WorldView& view, TrackId track) {
    const auto place = view.placeOf(track);
    REQUIRE(place);
    return place->toPoint();
}

}  // namespace

TEST_CASE("at 1280x800 the canvas keeps half of the window with any card open and a track selected") {
    Fixture f;
    f.openPlate();
    f.session.edit("Fill", walkedShot(f.session.shot()));
    f.session.selection.set({3});
    for (const char* stage : {"plate", "tracks", "camera", "world", "steady", "delivery"}) {
        f.window.docket().open(stage);
        QTest::qWait(40);
        INFO(stage);
        CHECK(f.window.size() == QSize(1280, 800));
        CHECK(areaOf(f.canvas.size()) >= 0.5 * areaOf(f.window.size()));
        // Nothing in the card is wider than the card.
        const Card* card = f.window.docket().card(stage);
        for (const QWidget* part : card->findChildren<QWidget*>()) {
            if (!part->isVisible()) continue;
            INFO(part->metaObject()->className() << " " << part->objectName().toStdString());
            CHECK(part->mapTo(card, QPoint(part->width(), 0)).x() <= card->width());
        }
    }
}

TEST_CASE("the window can be made as narrow as a small screen, and nothing is cut off") {
    Fixture f;
    f.openPlate();
    CHECK(f.window.minimumSizeHint().width() <= 1100);
    f.window.resize(1100, 700);
    QTest::qWait(80);
    CHECK(f.window.width() == 1100);
    auto* deliver = f.button("deliver");
    CHECK(deliver->mapTo(&f.window, QPoint(deliver->width(), 0)).x() <= 1100);
}

TEST_CASE("Tab goes through every control that can be used, and each has a name") {
    Fixture f;
    f.openPlate();
    f.session.edit("Fill", walkedShot(f.session.shot()));
    for (const char* stage : {"plate", "tracks", "camera", "world", "steady", "delivery"}) {
        f.window.docket().open(stage);
        QTest::qWait(40);
        INFO(stage);
        std::set<QWidget*> reached;
        f.canvas.setFocus();
        for (int i = 0; i < 300; ++i) {
            QTest::keyClick(QApplication::focusWidget(), Qt::Key_Tab);
            QWidget* focus = QApplication::focusWidget();
            REQUIRE(focus);
            if (!reached.insert(focus).second && focus == &f.canvas) break;
        }
        for (QWidget* part : f.window.findChildren<QWidget*>()) {
            const bool control = part->inherits("QAbstractButton") || part->inherits("QAbstractSpinBox") ||
                                 part->inherits("QComboBox") ||
                                 (part->inherits("QLineEdit") && !part->parentWidget()->inherits("QAbstractSpinBox"));
            // Those inside another control belong to it.
            const QWidget* holder = part->parentWidget();
            if (!control || !part->isVisible() || !part->isEnabled() || (holder && holder->inherits("QLineEdit")) ||
                (holder && holder->inherits("QDialogButtonBox")))
                continue;
            INFO(part->metaObject()->className() << " '" << part->objectName().toStdString() << "'");
            CHECK(reached.contains(part));
            const auto* button = qobject_cast<QAbstractButton*>(part);
            CHECK((!part->accessibleName().isEmpty() || (button && !button->text().isEmpty())));
        }
        CHECK(reached.contains(f.window.docket().card("world")));
    }
}

TEST_CASE("what has the keyboard's focus is seen, and Enter opens a card") {
    Fixture f;
    f.openPlate();
    Card* card = f.window.docket().card("steady");
    const QImage before = card->grab().toImage();
    card->setFocus(Qt::TabFocusReason);
    QTest::qWait(30);
    CHECK(card->hasFocus());
    CHECK(card->grab().toImage() != before);
    QTest::keyClick(card, Qt::Key_Return);
    CHECK(f.window.docket().openStage() == "steady");
    // A button that is hidden with its card hands the focus to the picture, not to the next card.
    f.window.docket().open("plate");
    auto* check = f.button("button-check-the-plate");
    check->setFocus(Qt::MouseFocusReason);
    f.window.docket().open("delivery");
    QTest::qWait(30);
    CHECK(f.canvas.hasFocus());
    auto* select = f.window.findChild<QToolButton*>("tool-select");
    REQUIRE(select);
    const QImage plain = select->grab().toImage();
    select->setFocus(Qt::TabFocusReason);
    QTest::qWait(30);
    CHECK(select->grab().toImage() != plain);
}

TEST_CASE("a candidate set or a trim line goes with the card that showed it, and Escape takes what was offered") {
    Fixture f;
    f.openPlate();
    f.session.edit("Fill", walkedShot(f.session.shot()));
    f.window.docket().open("tracks");
    f.tracks.candidates.show(true);
    REQUIRE(QTest::qWaitFor([&] { return !f.tracks.candidates.found().empty(); }, 30000));
    f.window.docket().open("camera");
    CHECK_FALSE(f.tracks.candidates.areShown());
    CHECK(f.tracks.candidates.found().empty());
    f.camera.setTrimPreview(1.0);
    CHECK(f.camera.tracksAbove(1.0).size() == 15);
    f.window.docket().open("world");
    CHECK(f.camera.trimPreview() == 0);
    f.tracks.spots.set({SpotProposal{.at = {300, 200}}}, 1001);
    f.session.selection.set({2});
    f.key(Qt::Key_Escape);
    CHECK(f.tracks.spots.all().empty());
    CHECK(f.session.selection.isEmpty());
}

TEST_CASE("a nudge goes on while the stretches of the one before are still tracked") {
    Fixture f;
    f.openPlate();
    TrackId id = 0;
    f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {1010.4, 329.8}, &id));
    f.session.selection.set({id});
    startTrack(f.session, {id}, Direction::forward, 0);
    f.wait();
    f.session.player.goTo(1040);
    f.waitForPicture();
    const Vector2d before = sampleAt(*findTrack(f.session.shot(), id), 1040)->at;
    for (int i = 0; i < 12; ++i) {
        f.key(Qt::Key_Right);
        QTest::qWait(60);
        CHECK_FALSE(f.session.isBusy());
    }
    f.wait();
    const Track& track = *findTrack(f.session.shot(), id);
    CHECK((sampleAt(track, 1040)->at - before - Vector2d(1.2, 0)).norm() < 1e-6);
    CHECK(sampleAt(track, 1040)->tie);
    f.session.document.undo();
    CHECK((sampleAt(*findTrack(f.session.shot(), id), 1040)->at - before).norm() < 1e-6);
}

TEST_CASE("the 3D view selects by click and rubber band, frames the selection, and looks along the axes") {
    Fixture f;
    if (!f.window.worldView()) return;
    WorldView& view = *f.window.worldView();
    f.openPlate();
    f.session.edit("Fill", walkedShot(f.session.shot()));
    f.window.show("3d");
    QTest::qWait(200);
    QTest::mouseClick(&view, Qt::LeftButton, {}, pointOf(view, 8));
    CHECK(f.session.selection.tracks() == std::set<TrackId>{8});
    QTest::mouseClick(&view, Qt::LeftButton, Qt::ControlModifier, pointOf(view, 11));
    CHECK(f.session.selection.tracks() == std::set<TrackId>{8, 11});
    const double apart = QLineF(pointOf(view, 8), pointOf(view, 11)).length();
    f.window.commands().action("Frame the selection in 3D")->trigger();
    QTest::qWait(100);
    CHECK(QLineF(pointOf(view, 8), pointOf(view, 11)).length() > 1.5 * apart);
    // From the front the wall stands upright: x to the right, y up, in straight lines.
    view.frameAll();
    QTest::mouseClick(f.window.findChild<QToolButton*>("look-front"), Qt::LeftButton);
    QTest::qWait(100);
    CHECK(view.look() == SceneCamera::Look::front);
    CHECK(pointOf(view, 2).x() > pointOf(view, 1).x());
    CHECK(std::abs(pointOf(view, 2).y() - pointOf(view, 1).y()) <= 1);
    CHECK(pointOf(view, 7).y() < pointOf(view, 1).y());
    // A band around the lowest row.
    const QPoint from = pointOf(view, 1) + QPoint(-12, 12), to = pointOf(view, 6) + QPoint(12, -12);
    QTest::mousePress(&view, Qt::LeftButton, {}, from);
    QTest::mouseMove(&view, to);
    QTest::mouseRelease(&view, Qt::LeftButton, {}, to);
    CHECK(f.session.selection.tracks() == std::set<TrackId>{1, 2, 3, 4, 5, 6});
    QTest::mouseClick(f.window.findChild<QToolButton*>("look-top"), Qt::LeftButton);
    QTest::qWait(50);
    // From above height does not count.
    CHECK(std::abs(pointOf(view, 7).x() - pointOf(view, 1).x()) <= 1);
    CHECK(std::abs(pointOf(view, 7).y() - pointOf(view, 1).y()) <= 1);
    // Turning leaves the straight look.
    QTest::mousePress(&view, Qt::RightButton, {}, QPoint(200, 200));
    QTest::mouseMove(&view, QPoint(260, 240));
    QTest::mouseRelease(&view, Qt::RightButton, {}, QPoint(260, 240));
    CHECK(view.look() == SceneCamera::Look::free);
    CHECK_FALSE(f.window.findChild<QToolButton*>("look-top")->isChecked());
}

TEST_CASE("the cloud takes the colours that the plate has where the tracks are") {
    Fixture f;
    if (!f.window.worldView()) return;
    WorldView& view = *f.window.worldView();
    f.openPlate();
    Shot shot = f.session.shot();
    shot.plate.range = {1001, 1010};
    shot = walkedShot(shot);
    // On the red of the barred crate and on the sky.
    shot = withTrackMoved(shot, 1, 1001, {640, 590});
    shot = withTrackMoved(shot, 2, 1001, {200, 60});
    f.session.edit("Fill", shot);
    f.window.show("3d");
    view.setLook(SceneCamera::Look::front);
    view.setColours(WorldView::Colours::plate);
    const QImage plate = f.canvas.image();
    const auto near = [&](TrackId track, const QPoint& place) {
        const QImage shown = view.grabFramebuffer();
        const QColor wanted = plate.pixelColor(place);
        const QPoint at = pointOf(view, track);
        int best = 1000;
        for (int y = -2; y <= 2; ++y)
            for (int x = -2; x <= 2; ++x) {
                const QColor c = shown.pixelColor(at + QPoint(x, y));
                best = std::min(best, std::abs(c.red() - wanted.red()) + std::abs(c.green() - wanted.green()) +
                                          std::abs(c.blue() - wanted.blue()));
            }
        return best;
    };
    // They are read beside the interface.
    CHECK(QTest::qWaitFor([&] { return near(1, {640, 590}) < 40 && near(2, {200, 60}) < 40; }, 30000));
}

TEST_CASE("settings are kept and hold at once, and folders are remembered by kind") {
    QSettings().remove("cache_mib");
    Fixture f;
    f.openPlate();
    CHECK(f.session.player.frames()->budget() == std::size_t(2048) << 20);
    f.window.commands().action("Settings…")->trigger();
    auto* dialog = f.window.findChild<QDialog*>("settings");
    REQUIRE(dialog);
    auto* cache = dialog->findChild<QSpinBox*>("cacheBudget");
    REQUIRE(cache);
    cache->setFocus();
    cache->selectAll();
    QTest::keyClicks(cache, "512");
    QTest::mouseClick(dialog->findChild<QDialogButtonBox*>()->button(QDialogButtonBox::Ok), Qt::LeftButton);
    QTest::qWait(30);
    CHECK(f.session.player.frames()->budget() == std::size_t(512) << 20);
    CHECK(readSettings().cache_mib == 512);
    Session another;
    CHECK(readSettings() == Settings{512, 0});
    QSettings().setValue("cache_mib", 3);  // written by hand, or by an older version
    CHECK(readSettings().cache_mib == 64);
    QSettings().remove("cache_mib");
}

TEST_CASE("the log in the user's state folder tells what was opened, how long jobs took and what went wrong") {
    std::filesystem::remove(logFile().toStdString());
    log::open(logFile().toStdString());
    Fixture f;
    f.openPlate();
    f.plate.startCheck();
    f.wait();
    f.session.open("/nowhere/plate.mp4");
    f.wait();
    const auto kept = readFile(logFile().toStdString());
    REQUIRE(kept);
    CHECK(kept->find("opened " + kPlate + ": 1280x720") != std::string::npos);
    CHECK(kept->find("Checking the plate: ") != std::string::npos);
    CHECK(kept->find("error  Opening: ") != std::string::npos);
    CHECK(kept->find("said: /nowhere/plate.mp4") != std::string::npos);
    f.window.commands().action("About Pinion")->trigger();
    auto* about = f.window.findChild<QDialog*>("about");
    REQUIRE(about);
    CHECK(about->findChild<QTextBrowser*>()->toPlainText().contains(logFile()));
}

TEST_CASE("every command stands in a menu once, whichever stage it comes from") {
    Fixture f;
    QStringList names;
    for (const Command& command : f.window.commands().all()) {
        names << command.name;
        CHECK_FALSE(command.menu.isEmpty());
    }
    const int all = int(names.size());
    CHECK(names.removeDuplicates() == 0);
    CHECK(all > 70);
    int inMenus = 0;
    for (const QMenu* menu : f.window.findChildren<QMenu*>())
        for (const QAction* action : menu->actions()) inMenus += names.contains(action->objectName());
    CHECK(inMenus == all);
}

TEST_CASE("the tool bar offers a stage's tools while its card is open, and those that stay always") {
    ToolBar bar;
    const auto isShown = [&](const char* name) { return !bar.findChild<QToolButton*>(name)->isHidden(); };
    QStringList taken;
    const auto take = [&](const QString& tool) { return [&taken, tool] { taken << tool; }; };
    bar.setStage("tracks", true);
    bar.addTool("select", "Select", {}, {}, take("select"));
    bar.setStage("lens", false);
    bar.addTool("line", "Line", {}, "Along what is straight", take("line"));
    bar.openStage("tracks");
    CHECK(isShown("tool-select"));
    CHECK_FALSE(isShown("tool-line"));
    CHECK_FALSE(bar.offers("line"));
    bar.openStage("lens");
    CHECK(isShown("tool-line"));
    CHECK(bar.offers("line"));
    bar.findChild<QToolButton*>("tool-line")->click();
    CHECK(taken == QStringList{"line"});
    bar.setTool("line");
    CHECK_FALSE(bar.findChild<QToolButton*>("tool-select")->isChecked());
    QWidget other;
    bar.setInstead(&other);
    CHECK_FALSE(isShown("tool-select"));
    bar.setInstead(nullptr);
    CHECK(isShown("tool-line"));
    other.setParent(nullptr);
}

TEST_CASE("what the place tool says is of the plate that is open, not of one before it with the same frame numbers") {
    Fixture f;
    const test::Scratch scratch;
    for (const char* name : {"corner", "flat"}) {
        QImage image(96, 96, QImage::Format_RGB32);
        image.fill(QColor(60, 60, 60));
        if (std::string(name) == "corner")
            for (int y = 48; y < 96; ++y)
                for (int x = 48; x < 96; ++x) image.setPixelColor(x, y, QColor(220, 220, 220));
        std::filesystem::create_directories(scratch / name);
        for (int frame = 1; frame <= 3; ++frame)
            REQUIRE(image.save(text((scratch / name / fmt::format("p.{:04}.png", frame)).string())));
    }
    const auto adviceIn = [&](const char* name) {
        f.session.open(scratch / name);
        f.wait();
        f.waitForPicture();
        f.canvas.takeTool("place");
        QTest::mouseMove(&f.canvas, f.screen(40, 40));
        QTest::qWait(60);
        QTest::mouseMove(&f.canvas, f.screen(48, 48));
        QTest::qWait(200);
        return f.tracks.placeTool()->advice();
    };
    CHECK(adviceIn("corner").contains("corner"));
    CHECK(adviceIn("flat").contains("flat"));
}
