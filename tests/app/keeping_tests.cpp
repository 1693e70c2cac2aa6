// Nothing an artist did is lost: saving, the autosave, recovery, relinking, and undo with a selection in hand.

#include "exchange/newshot.h"
#include "fixture.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/steadystage.h"

#include <QCheckBox>
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
    Shot shot = withTrackAdded(f.session.shot(), 1001, {500, 400}, &ids[0]);
    f.session.edit("Place", shot);
    f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {700, 400}, &ids[1]));
    f.session.selection.set({ids[0], ids[1]});
    f.tracks.follow()->set(ids[1]);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.selection.tracks() == std::set<TrackId>{ids[0]});
    CHECK(f.tracks.follow()->track() == 0);
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.selection.tracks().empty());
    // Each of these reached for the first selected track.
    f.key(Qt::Key_K, Qt::ControlModifier | Qt::ShiftModifier);
    f.key(Qt::Key_J);
    f.window.docket().open("steady");
    f.session.selection.set({ids[0]});  // of a track that is not there
    CHECK(f.session.selection.tracks().empty());
    CHECK(f.session.shot().tracks.isEmpty());
}

TEST_CASE("what is edited while a save is written stays to be saved, whatever it was") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    const auto file = scratch / "while.pinion";
    Shot shot = withTrackAdded(f.session.shot(), 1001, {500, 400});
    f.session.edit("Place", shot);
    bool saved = false;
    f.session.document.save(file, [&](bool) { saved = true; });
    shot.steady.steady = !shot.steady.steady;  // neither tracks nor solve
    f.session.edit("Steady", shot);
    REQUIRE(QTest::qWaitFor([&] { return saved; }, 30000));
    CHECK(f.session.document.isModified());
    CHECK(loadShot(file)->steady.steady != f.session.shot().steady.steady);
    // Undone, it is what the file holds.
    f.session.document.undo();
    CHECK_FALSE(f.session.document.isModified());
    f.session.document.redo();
    CHECK(f.session.document.isModified());

    // Many saves at once land in the order in which they were asked for.
    for (int i = 0; i < 20; ++i) {
        shot.name = fmt::format("version {}", i);
        f.session.edit("Rename", shot);
        saved = false;
        f.session.document.save(file, [&](bool) { saved = true; });
    }
    REQUIRE(QTest::qWaitFor([&] { return !f.session.document.isModified(); }, 10000));
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
    f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {500, 400}));
    bool saved = false;
    f.session.document.save(file, [&](bool) { saved = true; });
    f.session.openShot(other);
    f.wait();
    REQUIRE(QTest::qWaitFor([&] { return saved; }, 30000));
    CHECK(f.session.shot().name == "second");
    CHECK(f.session.document.file() == other);
    // The other way round: a save of the first one asked for while the second one is being taken.
    f.session.edit("Rename", withTrackAdded(f.session.shot(), 1002, {310, 300}));
    CHECK(f.session.document.isModified());
    CHECK(loadShot(file)->tracks.size() == 1);
}

TEST_CASE("who types a delivery's place is not interrupted by jobs and edits; its state is told all the same") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    Shot shot = withTrackAdded(f.session.shot(), 1001, {500, 400});
    shot.deliveryFolder = scratch.path().string();
    f.session.edit("Place", shot);
    f.window.docket().open("delivery");
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
    f.session.edit("Place", withTrackAdded(f.session.shot(), 1001, {600, 400}));
    startScatter(f.session);
    QTest::qWait(300);
    f.session.jobs.stop();
    f.wait();
    CHECK(field() == place);
    QTest::keyClicks(place, "ped.json");
    CHECK(place->text() == "half-typed.json");
    QTest::keyClick(place, Qt::Key_Return);
    REQUIRE(QTest::qWaitFor(
        [&] {
            for (const Deliverable& item : f.session.shot().deliverables)
                if (item.place == "half-typed.json") return true;
            return false;
        },
        3000));
}

TEST_CASE("a delivery that leads out of its folder is asked about, and only then written") {
    Scratch scratch;
    Fixture f;
    f.openPlate();
    Shot shot = withTrackAdded(f.session.shot(), 1001, {500, 400});
    shot.deliveryFolder = (scratch / "out").string();
    shot.deliverables = std::vector<Deliverable>{{.name = "tracks",
                                                  .kind = DeliverableKind::tracks,
                                                  .format = DeliverableFormat::json,
                                                  .place = "../outside.json"}};
    f.session.edit("Place", shot);
    bool asked = false;
    answerNext("Cancel", &asked);
    f.delivery.startDelivery({});
    f.wait();
    CHECK(asked);
    CHECK_FALSE(std::filesystem::exists(scratch / "outside.json"));
    asked = false;
    answerNext("Write there", &asked);
    f.delivery.startDelivery({});
    f.wait();
    CHECK(asked);
    CHECK(std::filesystem::exists(scratch / "outside.json"));
    // Two in one place are refused without a question.
    shot = f.session.shot();
    shot.deliverables = shot.deliverables.edited([](auto& items) {
        items[0].place = "a.json";
        items.push_back(items[0]);
        items[1].name = "again";
    });
    f.session.edit("Twice", shot);
    f.delivery.startDelivery({});
    f.wait();
    CHECK(f.window.note().contains("have one place"));
    CHECK_FALSE(std::filesystem::exists(scratch / "out" / "a.json"));
}

TEST_CASE("a plan that is changed at every step of a spin box is worked out once more, for the last step") {
    Fixture f;
    f.openPlate(std::string(PINION_SOURCE_DIR) + "/demo/plates/mooring.mp4");
    f.session.edit("range", withRange(f.session.shot(), {1001, 1016}));
    startScatter(f.session);
    f.wait();
    Shot shot = f.session.shot();
    shot.steady.steady = true;
    f.session.edit("Steady", shot);
    REQUIRE(QTest::qWaitFor([&] { return !f.steady.planPending() && f.steady.plan(); }, 20000));
    const auto held = f.steady.plan();
    int told = 0;
    QObject::connect(&f.steady, &SteadyStage::planChanged, &f.session, [&] {
        if (!f.steady.planPending()) ++told;
    });
    for (int step = 1; step <= 30; ++step) {
        shot.steady.options.position = 1 - step / 60.0;
        f.session.edit("Amount of position", shot);
    }
    CHECK(f.steady.planPending());
    REQUIRE(QTest::qWaitFor([&] { return !f.steady.planPending(); }, 20000));
    QTest::qWait(100);
    CHECK(told == 1);
    REQUIRE(f.steady.plan());
    CHECK(f.steady.plan() != held);
    const auto fresh = picturePlan(f.session.shot());
    REQUIRE(fresh);
    CHECK(f.steady.plan()->zoom == Approx(fresh->zoom));
    // Switched off while one is under way: nothing of it comes later.
    shot.steady.options.position = 0.3;
    f.session.edit("Amount of position", shot);
    shot.steady.steady = false;
    f.session.edit("Steady", shot);
    QTest::qWait(600);
    CHECK_FALSE(f.steady.plan());
    CHECK_FALSE(f.steady.planPending());
}

TEST_CASE("somebody who edits without a pause is saved all the same, five seconds back at most") {
    Fixture f;
    f.openPlate();
    Shot shot = f.session.shot();
    QElapsedTimer clock;
    clock.start();
    std::size_t kept = 0;
    while (clock.elapsed() < 5000 && kept == 0) {
        shot = withTrackAdded(shot, 1001, {double(300 + int(clock.elapsed()) % 600), 400});
        f.session.edit("Place", shot);
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
    Shot mine = f.session.shot();
    for (int i = 0; i < 3; ++i) mine = withTrackAdded(mine, 1001, {300.0 + 50 * i, 300});
    f.session.edit("Place", mine);
    f.window.offerRecovery();
    bool asked = false;
    answerNext("Cancel", &asked);
    QTest::mouseClick(f.button("recover"), Qt::LeftButton);
    f.wait();
    CHECK(asked);
    CHECK(f.session.shot().tracks.size() == 3);
    CHECK(std::filesystem::exists(lost));
    asked = false;
    answerNext("Don't save", &asked);
    QTest::mouseClick(f.button("recover"), Qt::LeftButton);
    f.wait();
    CHECK(asked);
    CHECK(f.session.shot().tracks.size() == 1);
    CHECK(QTest::qWaitFor([&] { return !std::filesystem::exists(lost); }, 30000));
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
        CHECK(f.session.document.lostShots().empty());
        REQUIRE(::write(done[1], "x", 1) == 1);
        ::waitpid(child, nullptr, 0);
    }
    const auto lost = f.session.document.lostShots();
    REQUIRE(lost.size() == 1);
    f.session.document.discard(lost.front());
    CHECK(f.session.document.lostShots().empty());
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
    QObject::connect(&f.session.notes, &Notes::said, &f.window, [&](const QString& words, bool error) {
        if (error) errors << words;
    });
    f.session.open(file);
    f.wait();
    CHECK_FALSE(f.session.hasPlate());
    REQUIRE(errors.size() == 1);
    CHECK(errors.front().contains("open it from its new place"));
    // Another plate is refused and changes nothing.
    f.session.open(std::string(PINION_SOURCE_DIR) + "/tests/data/none.mp4");
    f.wait();
    CHECK(errors.size() == 2);
    CHECK(f.session.shot().tracks.size() == 1);
    f.session.open(scratch / "moved.mp4");
    f.wait();
    REQUIRE(f.session.hasPlate());
    CHECK(f.session.shot().tracks.size() == 1);
    CHECK(f.session.shot().plate.range.first == 1010);
    CHECK(f.session.shot().plate.path == (scratch / "moved.mp4"));
    CHECK(f.session.document.file() == file);
    CHECK(f.session.document.isModified());
}

TEST_CASE("the steady view of a rolling shutter has straight rows, and leaves them where that is asked") {
    Fixture f;
    f.openPlate(std::string(PINION_SOURCE_DIR) + "/demo/plates/telephone.mp4");
    f.session.edit("range", withRange(f.session.shot(), {1001, 1014}));
    startScatter(f.session);
    f.wait();
    f.window.docket().open("steady");
    auto* rows = f.window.findChild<QCheckBox*>("straightRows");
    REQUIRE(rows);
    Shot shot = f.session.shot();
    shot.steady.steady = true;
    shot.steady.options.fit = SteadyOptions::Fit::none;
    f.session.edit("Steady", shot);
    REQUIRE(QTest::qWaitFor([&] { return !f.steady.planPending() && f.steady.plan(); }, 20000));
    // Nobody knows of a readout yet.
    CHECK_FALSE(f.steady.plan()->rows);
    CHECK_FALSE(rows->isVisible());
    shot.solveSettings.reading = SolveSettings::Reading::known;
    shot.solveSettings.readoutShare = 0.62;
    f.session.edit("Readout", shot);
    REQUIRE(
        QTest::qWaitFor([&] { return !f.steady.planPending() && f.steady.plan() && f.steady.plan()->rows; }, 20000));
    CHECK(QTest::qWaitFor([&] { return rows->isVisible(); }, 5000));
    CHECK(rows->isChecked());
    f.window.show("steady");
    // Where the corners of the plate lie on the frames in the middle.
    const auto corners = [&] {
        std::vector<QPointF> seen;
        for (int frame = 1004; frame <= 1011; ++frame) {
            f.session.player.goTo(frame);
            QTest::qWait(20);
            for (const Eigen::Vector2d& place : {Eigen::Vector2d(20, 20), Eigen::Vector2d(1260, 20),
                                                 Eigen::Vector2d(20, 700), Eigen::Vector2d(1260, 700)}) {
                const auto at = f.canvas.view().screenFromPlate(place);
                REQUIRE(at);
                // There and back by the same rows.
                const auto back = f.canvas.view().plateFromScreen(*at);
                REQUIRE(back);
                CHECK((*back - place).norm() < 0.05);
                seen.push_back(*at);
            }
        }
        return seen;
    };
    const auto straight = corners();
    QTest::mouseClick(rows, Qt::LeftButton, {}, QPoint(8, rows->height() / 2));
    REQUIRE(
        QTest::qWaitFor([&] { return !f.steady.planPending() && f.steady.plan() && !f.steady.plan()->rows; }, 20000));
    CHECK_FALSE(f.session.shot().steady.straightRows);
    const auto filmed = corners();
    double most = 0;
    for (std::size_t i = 0; i < filmed.size(); ++i) most = std::max(most, QLineF(straight[i], filmed[i]).length());
    CHECK(most > 0.3 * f.canvas.view().zoom());
}
