// Nothing an artist did is lost: saving, the autosave, recovery, relinking, and undo with a selection in hand.

#include "exchange/newshot.h"
#include "fixture.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/steadystage.h"

#include <QMessageBox>

using test::Scratch;

namespace {

/// Presses a button of the next message box by its words.
void answerNext(const QString& words, bool* asked) {
    auto* timer = new QTimer(qApp);
    timer->setInterval(20);
    QObject::connect(timer, &QTimer::timeout, timer, [timer, words, asked] {
        auto* box = qobject_cast<QMessageBox*>(QApplication::activeModalWidget());
        if (!box) return;
        *asked = true;
        for (QAbstractButton* button : box->buttons())
            if (button->text().remove('&') == words) button->click();
        timer->deleteLater();
    });
    timer->start();
}

std::filesystem::path autosaves() {
    return std::filesystem::path(QStandardPaths::writableLocation(QStandardPaths::AppDataLocation).toStdString()) /
           "autosave";
}

/// The autosaves of this process, as they stand in the files.
std::vector<Shot> autosaved() {
    std::vector<Shot> shots;
    std::error_code code;
    for (const auto& entry : std::filesystem::directory_iterator(autosaves(), code))
        if (entry.path().extension() == ".pinion")
            if (const auto shot = loadShot(entry.path())) shots.push_back(*shot);
    return shots;
}

Shot plainShot(const std::string& plate = kPlate) {
    PlateFacts facts;
    facts.path = plate;
    facts.width = 1280;
    facts.height = 720;
    facts.fps = {24, 1};
    facts.firstFrame = 1001;
    facts.lastFrame = 1120;
    return shotOf(facts);
}

}  // namespace

TEST_CASE("a selected track that an undo takes away is in nobody's hand any more") {
    Fixture f;
    f.openPlate();
    std::vector<TrackId> ids(2);
    Shot shot = withTrackAdded(f.workspace.shot(), 1001, {500, 400}, &ids[0]);
    f.workspace.edit("Place", shot);
    f.workspace.edit("Place", withTrackAdded(f.workspace.shot(), 1001, {700, 400}, &ids[1]));
    f.workspace.select({ids[0], ids[1]});
    f.workspace.follow(ids[1]);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.workspace.selection() == std::set<TrackId>{ids[0]});
    CHECK(f.workspace.followed() == 0);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.workspace.selection().empty());
    // Each of these reached for the first selected track.
    f.key(Qt::Key_K, Qt::ControlModifier | Qt::ShiftModifier);
    f.key(Qt::Key_J);
    f.window.docket().open(Stage::steady);
    f.workspace.select({ids[0]});  // of a track that is not there
    CHECK(f.workspace.selection().empty());
    CHECK(f.workspace.shot().tracks.isEmpty());
}

TEST_CASE("what is edited while a save is written stays to be saved, whatever it was") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    const auto file = scratch / "while.pinion";
    Shot shot = withTrackAdded(f.workspace.shot(), 1001, {500, 400});
    f.workspace.edit("Place", shot);
    bool saved = false;
    f.workspace.save(file, [&](bool) { saved = true; });
    shot.steady.steady = !shot.steady.steady;  // neither tracks nor solve
    f.workspace.edit("Steady", shot);
    REQUIRE(QTest::qWaitFor([&] { return saved; }, 5000));
    CHECK(f.workspace.isModified());
    CHECK(loadShot(file)->steady.steady != f.workspace.shot().steady.steady);
    // Undone, it is what the file holds.
    f.workspace.undo();
    CHECK_FALSE(f.workspace.isModified());
    f.workspace.redo();
    CHECK(f.workspace.isModified());

    // Many saves at once land in the order in which they were asked for.
    for (int i = 0; i < 20; ++i) {
        shot.name = fmt::format("version {}", i);
        f.workspace.edit("Rename", shot);
        saved = false;
        f.workspace.save(file, [&](bool) { saved = true; });
    }
    REQUIRE(QTest::qWaitFor([&] { return !f.workspace.isModified(); }, 10000));
    CHECK(loadShot(file)->name == "version 19");
}

TEST_CASE("a save that ends after another shot was opened does not speak for the new one") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    const auto file = scratch / "first.pinion", other = scratch / "other.pinion";
    Shot second = plainShot();
    second.name = "second";
    REQUIRE(saveShot(withTrackAdded(second, 1001, {300, 300}), other));
    f.workspace.edit("Place", withTrackAdded(f.workspace.shot(), 1001, {500, 400}));
    bool saved = false;
    f.workspace.save(file, [&](bool) { saved = true; });
    f.workspace.openShot(other);
    f.wait();
    REQUIRE(QTest::qWaitFor([&] { return saved; }, 5000));
    CHECK(f.workspace.shot().name == "second");
    CHECK(f.workspace.file() == other);
    // The other way round: a save of the first one asked for while the second one is being taken.
    f.workspace.edit("Rename", withTrackAdded(f.workspace.shot(), 1002, {310, 300}));
    CHECK(f.workspace.isModified());
    CHECK(loadShot(file)->tracks.size() == 1);
}

TEST_CASE("who types a delivery's place is not interrupted by jobs and edits; its state is told all the same") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    Shot shot = withTrackAdded(f.workspace.shot(), 1001, {500, 400});
    shot.deliveryFolder = scratch.path().string();
    f.workspace.edit("Place", shot);
    f.window.docket().open(Stage::delivery);
    QTest::qWait(100);
    const auto field = [&]() -> QLineEdit* {
        for (QLineEdit* line : f.window.findChildren<QLineEdit*>())
            if (line->isVisible() && line->accessibleName().startsWith("Place of")) return line;
        return nullptr;
    };
    QLineEdit* place = field();
    REQUIRE(place);
    place->setFocus();
    place->selectAll();
    QTest::keyClicks(place, "half-ty");
    f.workspace.edit("Place", withTrackAdded(f.workspace.shot(), 1001, {600, 400}));
    f.workspace.startScatter();
    QTest::qWait(300);
    f.workspace.stopJob();
    f.wait();
    CHECK(field() == place);
    QTest::keyClicks(place, "ped.json");
    CHECK(place->text() == "half-typed.json");
    QTest::keyClick(place, Qt::Key_Return);
    REQUIRE(QTest::qWaitFor(
        [&] {
            for (const Deliverable& item : f.workspace.shot().deliverables)
                if (item.place == "half-typed.json") return true;
            return false;
        },
        3000));
}

TEST_CASE("a delivery that leads out of its folder is asked about, and only then written") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    Shot shot = withTrackAdded(f.workspace.shot(), 1001, {500, 400});
    shot.deliveryFolder = (scratch / "out").string();
    shot.deliverables = std::vector<Deliverable>{{.name = "tracks",
                                                  .kind = DeliverableKind::tracks,
                                                  .format = DeliverableFormat::json,
                                                  .place = "../outside.json"}};
    f.workspace.edit("Place", shot);
    bool asked = false;
    answerNext("Cancel", &asked);
    f.workspace.startDelivery({});
    f.wait();
    CHECK(asked);
    CHECK_FALSE(std::filesystem::exists(scratch / "outside.json"));
    asked = false;
    answerNext("Write there", &asked);
    f.workspace.startDelivery({});
    f.wait();
    CHECK(asked);
    CHECK(std::filesystem::exists(scratch / "outside.json"));
    // Two in one place are refused without a question.
    shot = f.workspace.shot();
    shot.deliverables = shot.deliverables.edited([](auto& items) {
        items[0].place = "a.json";
        items.push_back(items[0]);
        items[1].name = "again";
    });
    f.workspace.edit("Twice", shot);
    f.workspace.startDelivery({});
    f.wait();
    CHECK(f.window.note().contains("have one place"));
    CHECK_FALSE(std::filesystem::exists(scratch / "out" / "a.json"));
}

TEST_CASE("a plan that is changed at every step of a spin box is worked out once more, for the last step") {
    Fixture f;
    f.openPlate(std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.mp4");
    f.workspace.edit("range", withRange(f.workspace.shot(), {1001, 1016}));
    f.workspace.startScatter();
    f.wait();
    Shot shot = f.workspace.shot();
    shot.steady.steady = true;
    f.workspace.edit("Steady", shot);
    REQUIRE(QTest::qWaitFor([&] { return !f.workspace.planPending() && f.workspace.plan(); }, 20000));
    const auto held = f.workspace.plan();
    int told = 0;
    QObject::connect(&f.workspace, &Workspace::planChanged, &f.workspace, [&] {
        if (!f.workspace.planPending()) ++told;
    });
    for (int step = 1; step <= 30; ++step) {
        shot.steady.options.position = 1 - step / 60.0;
        f.workspace.edit("Amount of position", shot);
    }
    CHECK(f.workspace.planPending());
    REQUIRE(QTest::qWaitFor([&] { return !f.workspace.planPending(); }, 20000));
    QTest::qWait(100);
    CHECK(told == 1);
    REQUIRE(f.workspace.plan());
    CHECK(f.workspace.plan() != held);
    const auto fresh = picturePlan(f.workspace.shot());
    REQUIRE(fresh);
    CHECK(f.workspace.plan()->zoom == Approx(fresh->zoom));
    // Switched off while one is under way: nothing of it comes later.
    shot.steady.options.position = 0.3;
    f.workspace.edit("Amount of position", shot);
    shot.steady.steady = false;
    f.workspace.edit("Steady", shot);
    QTest::qWait(600);
    CHECK_FALSE(f.workspace.plan());
    CHECK_FALSE(f.workspace.planPending());
}

TEST_CASE("somebody who edits without a pause is saved all the same, five seconds back at most") {
    Fixture f;
    f.openPlate();
    Shot shot = f.workspace.shot();
    QElapsedTimer clock;
    clock.start();
    std::size_t kept = 0;
    while (clock.elapsed() < 5000 && kept == 0) {
        shot = withTrackAdded(shot, 1001, {double(300 + int(clock.elapsed()) % 600), 400});
        f.workspace.edit("Place", shot);
        QTest::qWait(100);
        for (const Shot& one : autosaved()) kept = std::max(kept, one.tracks.size());
    }
    CHECK(kept > 0);
}

TEST_CASE("a lost shot does not take the place of unsaved work without a question") {
    Scratch scratch;
    std::filesystem::create_directories(autosaves());
    const auto lost = autosaves() / "999999-0.pinion";
    REQUIRE(writeFile(lost, shotJson(withTrackAdded(plainShot(), 1001, {500, 400}), lost)));
    REQUIRE(writeFile(std::filesystem::path(lost).replace_extension(".from"), "\nlost shot\n"));
    Fixture f;
    f.openPlate();
    Shot mine = f.workspace.shot();
    for (int i = 0; i < 3; ++i) mine = withTrackAdded(mine, 1001, {300.0 + 50 * i, 300});
    f.workspace.edit("Place", mine);
    f.window.offerRecovery();
    bool asked = false;
    answerNext("Cancel", &asked);
    QTest::mouseClick(f.button("recover"), Qt::LeftButton);
    f.wait();
    CHECK(asked);
    CHECK(f.workspace.shot().tracks.size() == 3);
    CHECK(std::filesystem::exists(lost));
    asked = false;
    answerNext("Don't save", &asked);
    QTest::mouseClick(f.button("recover"), Qt::LeftButton);
    f.wait();
    CHECK(asked);
    CHECK(f.workspace.shot().tracks.size() == 1);
    CHECK(QTest::qWaitFor([&] { return !std::filesystem::exists(lost); }, 3000));
}

TEST_CASE("an autosave that a running window holds is not offered, whoever has its number") {
    std::filesystem::create_directories(autosaves());
    const auto held = autosaves() / "1-0.pinion";  // number 1 always runs
    REQUIRE(writeFile(held, shotJson(plainShot(), held)));
    Fixture f;
    {
        // Held by another process.
        int ready[2], done[2];
        REQUIRE(::pipe(ready) == 0);
        REQUIRE(::pipe(done) == 0);
        const pid_t child = ::fork();
        if (child == 0) {
            QLockFile lock(QString::fromStdString(std::filesystem::path(held).replace_extension(".lock").string()));
            char byte = lock.tryLock(0) ? 'y' : 'n';
            (void)!::write(ready[1], &byte, 1);
            (void)!::read(done[0], &byte, 1);
            lock.unlock();
            ::_exit(0);
        }
        char byte = 0;
        REQUIRE(::read(ready[0], &byte, 1) == 1);
        REQUIRE(byte == 'y');
        CHECK(f.workspace.lostShots().empty());
        REQUIRE(::write(done[1], "x", 1) == 1);
        ::waitpid(child, nullptr, 0);
    }
    const auto lost = f.workspace.lostShots();
    REQUIRE(lost.size() == 1);
    f.workspace.discard(lost.front());
    CHECK(f.workspace.lostShots().empty());
}

TEST_CASE("a shot whose plate has moved is linked to its new place and keeps its tracks") {
    Scratch scratch;
    const auto place = scratch / "gone.mp4";
    std::filesystem::copy_file(kPlate, scratch / "moved.mp4");
    Shot made = withTrackAdded(plainShot(place.string()), 1001, {500, 400});
    made.plate.range = {1010, 1050};
    const auto file = scratch / "moved.pinion";
    REQUIRE(saveShot(made, file));
    Fixture f;
    QStringList errors;
    QObject::connect(&f.workspace, &Workspace::saidError, &f.window, [&](const QString& words) { errors << words; });
    f.workspace.open(file);
    f.wait();
    CHECK_FALSE(f.workspace.hasPlate());
    REQUIRE(errors.size() == 1);
    CHECK(errors.front().contains("open it from its new place"));
    // Another plate is refused and changes nothing.
    f.workspace.open(std::string(PINION_SOURCE_DIR) + "/tests/data/none.mp4");
    f.wait();
    CHECK(errors.size() == 2);
    CHECK(f.workspace.shot().tracks.size() == 1);
    f.workspace.open(scratch / "moved.mp4");
    f.wait();
    REQUIRE(f.workspace.hasPlate());
    CHECK(f.workspace.shot().tracks.size() == 1);
    CHECK(f.workspace.shot().plate.range.first == 1010);
    CHECK(f.workspace.shot().plate.path == (scratch / "moved.mp4"));
    CHECK(f.workspace.file() == file);
    CHECK(f.workspace.isModified());
}
