// What goes wrong beside the artist: frames that cannot be read, files replaced or out of place, disks that take
// nothing, work that throws; and what has to be in sight when a card opens.

#include "fixture.h"
#include "plate/framewriter.h"
#include "canvas/displaypictures.h"
#include "session/derived.h"
#include "session/livework.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/planeedits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "stages/inserts/insertsstage.h"
#include "widgets/commands.h"

#include <QDialog>
#include <QScrollArea>
#include <QScrollBar>

#include <fstream>

namespace {

void writeFrames(const std::filesystem::path& pattern, int first, int last, int grey = 90) {
    auto writer = FrameWriter::create(pattern, 320, 180, {24, 1});
    REQUIRE(writer);
    for (int frame = first; frame <= last; ++frame) {
        Picture picture{320, 180, Picture::Depth::bits8, false, {}, {}};
        picture.bytes.assign(3 * 320 * 180, std::uint8_t(grey + frame % 20));
        REQUIRE((*writer)->write(frame, picture));
    }
}

std::filesystem::path autosaveFolderHere() {
    return std::filesystem::path(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString()) /
           "autosave";
}

QString firstFound(Fixture& f, const QString& words) {
    showCommandFinder(f.window.commands(), &f.window);
    auto* input = f.window.findChild<QLineEdit*>("finderInput");
    REQUIRE(input);
    input->setText(words);
    auto* list = f.window.findChild<QListWidget*>("finderList");
    const QString first = list->count() > 0 ? list->item(0)->text() : QString();
    QDialog* dialog = f.window.findChild<QDialog*>("commandFinder");
    dialog->close();  // and it goes
    QTest::qWait(30);
    return first;
}

}  // namespace

TEST_CASE("playing goes on over frames that cannot be read, and says so where it stops on one") {
    test::Scratch scratch;
    writeFrames(scratch / "p.####.png", 0, 40);
    for (const char* broken : {"p.0006.png", "p.0007.png", "p.0008.png"}) scratch.write(broken, "no picture");
    Fixture f;
    f.openPlate((scratch / "p.####.png").string());
    CHECK(f.session.player.frame() == 0);
    f.session.player.setPlaying(true);
    CHECK(QTest::qWaitFor([&] { return f.session.player.frame() > 12; }, 6000));
    f.session.player.setPlaying(false);
    f.session.player.goTo(7);
    CHECK(QTest::qWaitFor([&] { return !f.session.player.frameProblem().isEmpty(); }, 30000));
    // Put right, it is read when somebody stops on it.
    writeFrames(scratch / "p.####.png", 7, 7);
    f.session.player.goTo(9);
    f.session.player.goTo(7);
    CHECK(QTest::qWaitFor([&] { return f.session.player.pictureFrame() == 7; }, 30000));
    CHECK(f.session.player.frameProblem().isEmpty());
}

TEST_CASE("the finder opens every card by its name, and what is typed exactly comes first") {
    Fixture f;
    for (const auto& [typed, wanted] : {std::pair{"plate", "Plate "},
                                        {"delivery", "Delivery card"},
                                        {"inserts card", "Inserts card"},
                                        {"3d", "3D"},
                                        {"camera card", "Camera card"}}) {
        INFO(typed);
        CHECK(firstFound(f, typed).toStdString().find(wanted) == 0);
    }
    for (const char* stage : {"delivery", "tracks", "steady", "plate"}) {
        const QString title = QString(stage).left(1).toUpper() + QString(stage).mid(1) + " card";
        REQUIRE(f.window.commands().action(title));
        f.window.commands().action(title)->trigger();
        CHECK(f.window.docket().openStage() == stage);
    }
}

TEST_CASE("at 1280x800 no card is wider than its column, and its main action is in sight when it opens") {
    Fixture f;
    f.openPlate();
    Shot shot = withPlaneAdded(f.session.shot(), {{100, 100}, {300, 100}, {300, 300}}, 1001);
    shot = withTrackAdded(shot, 1001, {500, 300});
    Insert tint;
    tint.shows = Insert::Shows::colour;
    shot = withInsertAdded(shot, tint, 1001);
    Solve solve;
    solve.lens = pinholeLens(1280, 720, 1000);
    solve.doubt = "a word of doubt that is as long as they come, so that it has to be broken into several lines";
    SolvedFrame solved;
    solved.frame = 1001;
    solved.focal_px = 1000;
    solve.frames = std::vector<SolvedFrame>{solved};
    shot.solve = std::make_shared<const Solve>(solve);
    shot.steady.steady = true;
    f.session.edit("All of it", shot);
    auto* scroll = f.window.docket().findChild<QScrollArea*>();
    REQUIRE(scroll);
    const std::pair<const char*, const char*> actions[] = {{"plate", "button-check-the-plate"},
                                                           {"tracks", "button-scatter"},
                                                           {"planes", "planeBoth"},
                                                           {"camera", "button-solve"},
                                                           {"steady", "renderSteady"},
                                                           {"inserts", "insertsRender"},
                                                           {"delivery", "button-deliver-all"},
                                                           {"lens", nullptr},
                                                           {"mattes", nullptr},
                                                           {"world", nullptr}};
    for (const auto& [stage, action] : actions) {
        INFO(stage);
        f.window.docket().open(stage);
        QTest::qWait(120);
        const Card* card = f.window.docket().card(stage);
        CHECK(card->width() <= scroll->viewport()->width());
        CHECK(scroll->widget()->width() <= scroll->viewport()->width());
        CHECK(card->minimumSizeHint().width() <= scroll->viewport()->width());
        if (!action) continue;
        const auto* button = f.window.docket().findChild<QPushButton*>(action);
        REQUIRE(button);
        REQUIRE(button->isVisible());
        const QPoint top = button->mapTo(scroll->viewport(), QPoint(0, 0));
        CHECK(top.y() >= 0);
        CHECK(top.y() + button->height() <= scroll->viewport()->height());
        // One place: right below the card's head.
        CHECK(button->mapTo(card, QPoint(0, 0)).y() < 60);
    }
    // A solve's figures stand above the settings that made them.
    f.window.docket().open("camera");
    QTest::qWait(60);
    const auto* results = f.window.docket().findChild<QLabel*>("solveResults");
    const auto* settings = f.window.docket().card("camera")->findChild<QComboBox*>();
    REQUIRE(results);
    REQUIRE(settings);
    CHECK(results->mapTo(&f.window, QPoint(0, 0)).y() < settings->mapTo(&f.window, QPoint(0, 0)).y());
}

TEST_CASE("a plate opened while inserts are looked at is seen as it is") {
    test::Scratch scratch;
    writeFrames(scratch / "p.####.png", 1, 3);
    Fixture f;
    f.openPlate();
    Insert tint;
    tint.shows = Insert::Shows::colour;
    f.session.edit("Insert", withInsertAdded(f.session.shot(), tint, 1001));
    QTest::qWait(200);
    f.canvas.look("inserts", Compare::none);
    QTest::qWait(100);
    REQUIRE(f.canvas.sight() == "inserts");
    f.window.setProperty("closing", true);
    f.session.openPlate(scratch / "p.####.png");
    f.wait();
    CHECK(f.canvas.sight().isEmpty());
}

TEST_CASE("renders whose place leads out of the delivery folder are asked about, whichever card they are from") {
    test::Scratch scratch;
    std::filesystem::create_directories(scratch / "in");
    Fixture f;
    f.openPlate();
    Shot shot = withRange(f.session.shot(), {1001, 1002});
    shot.deliveryFolder = (scratch / "in").string();
    Insert tint;
    tint.shows = Insert::Shows::colour;
    shot = withInsertAdded(shot, tint, 1001);
    shot.insertsPath = "../outside.####.png";
    shot = withTrackAdded(shot, 1001, {500, 300});
    shot.steady.steady = true;
    shot.steady.on = rideOnTracks({shot.tracks[0].id});
    shot.steady.renderPath = "../held.####.png";
    f.session.edit("From elsewhere", shot);
    QStringList asked;
    f.window.disconnect(&f.session, nullptr, &f.window, nullptr);
    QObject::disconnect(&f.session, &Session::outsideAsked, nullptr, nullptr);
    QObject::connect(&f.session, &Session::outsideAsked, &f.window,
                     [&](const QStringList& places, const std::function<void()>&) { asked << places; });
    f.window.docket().open("inserts");
    QTest::qWait(60);
    QTest::mouseClick(f.button("insertsRender"), Qt::LeftButton);
    f.wait();
    REQUIRE(asked.size() == 1);
    CHECK(asked.front().endsWith("outside.####.png"));
    f.window.docket().open("steady");
    REQUIRE(QTest::qWaitFor([&] { return f.button("renderSteady")->isEnabled(); }, 10000));
    QTest::mouseClick(f.button("renderSteady"), Qt::LeftButton);
    f.wait();
    CHECK(asked.size() == 2);
    CHECK(std::distance(std::filesystem::directory_iterator(scratch.path()), std::filesystem::directory_iterator{}) ==
          1);
}

TEST_CASE("work that throws beside the interface ends as a problem, not the program") {
    Fixture f;
    bool told = false;
    Derived<int, int> derived(f.session.jobs, [&] { told = true; });
    derived.want(1, [](const Progress&) -> Expected<int> { throw std::bad_alloc(); });
    REQUIRE(QTest::qWaitFor([&] { return !derived.isPending(); }, 30000));
    CHECK(told);
    CHECK_FALSE(derived.value());
    CHECK(derived.problem().contains("could not be worked out"));
    derived.want(2, [](const Progress&) -> Expected<int> { return 7; });
    REQUIRE(QTest::qWaitFor([&] { return derived.value() != nullptr; }, 30000));
    LiveWork work(f.session.jobs);
    work.start([](const Progress&) -> std::function<void()> { throw std::runtime_error("thrown"); });
    CHECK(QTest::qWaitFor([&] { return !work.isRunning(); }, 30000));
}

TEST_CASE("a picture for the screen that cannot be made leaves the view without it") {
    class Throwing : public Rendering {
    public:
        QImage made(const Picture&, const ViewTransform&) const override { throw std::bad_alloc(); }
    };
    Fixture f;
    f.openPlate();
    int arrived = 0;
    DisplayPictures pictures(f.session.jobs, [&] { ++arrived; });
    const auto picture = f.session.player.picture();
    (void)pictures.get(picture, {}, std::make_shared<const Throwing>());
    CHECK(QTest::qWaitFor([&] { return arrived > 0; }, 30000));
    CHECK(pictures.get(picture, {}, nullptr).isNull());
    CHECK(QTest::qWaitFor([&] { return !pictures.get(picture, {}, nullptr).isNull(); }, 30000));
}

TEST_CASE("an autosave that cannot be written is said, once") {
    namespace fs = std::filesystem;
    const fs::path folder = autosaveFolderHere(), aside = folder.string() + ".aside";
    fs::create_directories(folder);
    fs::rename(folder, aside);
    std::ofstream(folder) << "in the way";
    {
        Fixture f;
        f.openPlate();
        f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {500, 300}));
        f.session.document.autosaveNow();
        CHECK(QTest::qWaitFor([&] { return f.window.note().contains("not kept for a crash"); }, 30000));
    }
    fs::remove(folder);
    fs::rename(aside, folder);
}

TEST_CASE("a shot that was lost while the window opened is offered some seconds later") {
    namespace fs = std::filesystem;
    Fixture f;
    f.window.offerRecovery();
    auto* bar = f.window.findChild<QWidget*>("recoveryBar");
    REQUIRE(bar);
    REQUIRE_FALSE(bar->isVisible());
    fs::create_directories(autosaveFolderHere());
    const fs::path lost = autosaveFolderHere() / "999998-0.pinion";
    Shot shot;
    shot.name = "late";
    REQUIRE(saveShot(shot, lost));
    CHECK(QTest::qWaitFor([&] { return bar->isVisible(); }, 9000));
    fs::remove(lost);
}

TEST_CASE("art that is replaced under the window is seen, and pinning to the whole picture waits beside it") {
    test::Scratch scratch;
    writeFrames(scratch / "art.####.png", 1, 1, 30);
    Fixture f;
    f.openPlate();
    InsertsStage& inserts = f.window.stage<InsertsStage>();
    f.window.docket().open("inserts");
    inserts.addArt(scratch / "art.0001.png");
    f.wait();
    REQUIRE(QTest::qWaitFor([&] { return inserts.hand.scene() != nullptr; }, 30000));
    CHECK(f.session.shot().clips[0].still);
    const auto before = inserts.hand.scene();
    QTest::qWait(1100);
    writeFrames(scratch / "art.####.png", 1, 1, 200);
    CHECK(QTest::qWaitFor([&] { return inserts.hand.scene() && inserts.hand.scene() != before; }, 8000));
    // The motion of many tracks takes long: a job does it.
    Shot shot = f.session.shot();
    std::vector<Track> tracks;
    for (int i = 0; i < 60; ++i) {
        Track track;
        track.id = i + 1;
        track.name = "t" + std::to_string(i);
        std::vector<Sample> samples;
        for (int frame = 1001; frame <= 1120; ++frame)
            samples.push_back(
                {.frame = frame, .at = Vector2d(100 + 17 * i % 1000 + 0.3 * (frame - 1001), 60 + 10 * i)});
        track.samples = samples;
        tracks.push_back(track);
    }
    shot.tracks = tracks;
    f.session.edit("Tracks", shot);
    inserts.pin(rideOnPicture());
    CHECK(f.session.isBusy());
    f.wait();
    REQUIRE(f.session.shot().inserts[0].ride);
    CHECK(f.session.shot().inserts[0].ride->on == "picture");
}
