// A solve that is looked at in the window: suspects with their reasons, what it would gain without them, errors drawn
// on the plate.

#include "fixture.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/plateedits.h"
#include "widgets/commands.h"
#include "sheet/threadsheet.h"

#include <QComboBox>
#include <QListWidget>

#include <random>

namespace {

using Eigen::Vector3d;

/// The landing with a made-up camera and 90 tracks of what it sees; the first jumps by 5 px on 1060, the second slides.
struct Looking : Fixture {
    QListWidget* list = nullptr;
    QLabel* words = nullptr;

    Looking() {
        openPlate();
        Solve solve;
        solve.lens = pinholeLens(1280, 720, 1000);
        solve.motion = CameraMotion::travelling;
        solve.noise_px = 0.15;
        solve.rms_px = 0.21;
        std::vector<SolvedFrame> frames;
        for (int frame = 1001; frame <= 1120; ++frame) {
            Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
            const double t = 0.1 * (frame - 1001);
            pose.translate(Vector3d(0.15 * t, 1.6 + 0.05 * std::sin(t), 6 - 0.05 * t));
            pose.rotate(Eigen::AngleAxisd(-0.1, Vector3d::UnitX()));
            frames.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = 1000, .rms_px = 0.2, .tracks = 80});
        }
        solve.frames = List<SolvedFrame>(std::move(frames));
        std::vector<Track> made;
        std::vector<SolvedTrack> solved;
        std::mt19937 dice(5);
        std::normal_distribution<double> noise(0, 0.15);
        std::uniform_real_distribution<double> share(0, 1);
        while (made.size() < 90) {
            const Vector3d place(6 * share(dice) - 2, 3 * share(dice), 3 - 7 * share(dice));
            Track track;
            track.id = TrackId(made.size() + 1);
            track.name = fmt::format("p{}", track.id);
            track.referenceFrame = 1001;
            std::vector<Sample> samples;
            for (int frame = 1001; frame <= 1120; ++frame)
                if (auto at = projected(solve, frame, place);
                    at && at->x() > 5 && at->y() > 5 && at->x() < 1275 && at->y() < 715) {
                    *at += Vector2d(noise(dice), noise(dice));
                    if (track.id == 1 && frame >= 1060) *at += Vector2d(4, -3);
                    if (track.id == 2) *at += 0.06 * (frame - 1001) * Vector2d(1, 0.2);
                    samples.push_back({.frame = frame, .at = *at});
                }
            if (samples.size() < 110) continue;
            track.samples = List<Sample>(std::move(samples));
            solved.push_back({.track = track.id,
                              .role = track.id % 9 == 5 ? TrackRole::heldOut : TrackRole::used,
                              .xyz = place,
                              .rms_px = 0.21,
                              .frames = 110});
            made.push_back(track);
        }
        solve.used = 80;
        solve.heldOut = 10;
        solve.heldOutRms_px = 0.21;
        solve.tracks = List<SolvedTrack>(std::move(solved));
        Shot shot = session.shot();
        shot.tracks = List<Track>(std::move(made));
        shot.nextTrack = 91;
        session.edit("Solve camera", withSolve(shot, solve, shot));
        window.docket().open("camera");
        list = window.findChild<QListWidget*>("suspects");
        words = window.findChild<QLabel*>("suspectWords");
        REQUIRE(list);
        REQUIRE(words);
        REQUIRE(waitForLook());
    }
    bool waitForLook() {
        return QTest::qWaitFor([&] { return camera.looker.look() && !camera.looker.isLooking(); }, 60000);
    }
    QStringList rows() const {
        QStringList all;
        for (int row = 0; row < list->count(); ++row) all << list->item(row)->text();
        return all;
    }
    void click(int row) {
        QTest::mouseClick(list->viewport(), Qt::LeftButton, {}, list->visualItemRect(list->item(row)).center());
    }
};

}  // namespace

TEST_CASE("suspects are listed by their reason, a click chooses them and tells what is gained without them") {
    Looking f;
    CHECK(f.rows() == QStringList{"1 jump", "1 slide or drift"});
    CHECK(f.list->isVisible());
    CHECK_FALSE(f.words->isVisible());
    // Nothing else stands out, so the ground comes next.
    auto* next = f.button("nextStep");
    CHECK(next->text() == "Open World");
    CHECK(f.window.findChild<QLabel*>("nextStepWords")->text().contains("the ground"));
    f.click(0);
    CHECK(f.session.selection.list() == std::vector<TrackId>{1});
    CHECK(f.words->text().contains("p1 jumps by"));
    CHECK(f.words->text().contains("on 1060"));
    REQUIRE(QTest::qWaitFor([&] { return f.camera.looker.without() != nullptr; }, 120000));
    INFO(f.words->text().toStdString());
    CHECK(f.words->text().contains("Without them: held out 0."));
    CHECK(f.words->text().contains("Thinnest on 1"));
    f.click(1);
    CHECK(f.session.selection.list() == std::vector<TrackId>{2});
    CHECK(f.words->text().contains("p2 slides by"));

    QTest::mouseClick(f.button("suspectsAside"), Qt::LeftButton);
    CHECK(findTrack(f.session.shot(), 2)->setAside);
    CHECK_FALSE(findTrack(f.session.shot(), 1)->setAside);
    REQUIRE(f.waitForLook());
    CHECK(f.rows() == QStringList{"1 jump"});
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK_FALSE(findTrack(f.session.shot(), 2)->setAside);
    REQUIRE(f.waitForLook());
    CHECK(f.rows() == QStringList{"1 jump", "1 slide or drift"});
    // Another card is opened: nothing is held any more, and nothing is worked out.
    CHECK(next->text() == "Open World");
    CHECK(next->isEnabled());
    QTest::mouseClick(next, Qt::LeftButton);
    CHECK(f.window.docket().openStage() == "world");
    CHECK_FALSE(f.camera.looker.held());
    CHECK_FALSE(f.camera.looker.look());
}

TEST_CASE("errors are drawn as arrows on the frame, as a pattern of the whole shot, and a row over the thread sheet") {
    Looking f;
    f.session.selection.set({});
    auto* arrows = f.window.findChild<QComboBox*>("errorArrows");
    REQUIRE(arrows);
    f.session.player.goTo(1100);
    f.waitForPicture();
    QTest::qWait(100);
    const QImage bare = f.canvas.grab().toImage();
    const auto choose = [&](int index) {
        arrows->setCurrentIndex(index);
        emit arrows->activated(index);
        QTest::qWait(50);
        return f.canvas.grab().toImage();
    };
    const QImage onFrame = choose(1);
    CHECK(onFrame != bare);
    // What has jumped is off by a few pixels, and its arrow twenty times as long.
    const Sample* at = sampleAt(*findTrack(f.session.shot(), 1), 1100);
    REQUIRE(at);
    const auto of = [&](double times) {
        return f.canvas.view().screenFromPlate(at->at + times * Vector2d(0.8, -0.6))->toPoint();
    };
    int changed = 0;
    for (double along = 5; along < 35; along += 0.5)
        for (const QPoint beside : {QPoint(0, 0), QPoint(0, 1), QPoint(1, 0), QPoint(0, -1), QPoint(-1, 0)})
            changed += onFrame.pixel(of(along) + beside) != bare.pixel(of(along) + beside);
    CHECK(changed > 30);
    const QImage gathered = choose(2);
    CHECK(gathered != bare);
    CHECK(gathered != onFrame);
    CHECK(choose(0) == bare);
    // Selections by where points lie are commands as well, and say so when there is none to begin with.
    f.session.selection.set({});
    QAction* neighbours = f.window.commands().action("Select their neighbours in space");
    QAction* far = f.window.commands().action("Select what is far, beyond 4 times the median");
    QAction* others = f.window.commands().action("Select all others");
    REQUIRE(neighbours);
    REQUIRE(far);
    REQUIRE(others);
    f.session.selection.set({3});
    neighbours->trigger();
    CHECK(f.session.selection.list().size() > 1);
    CHECK(f.session.selection.contains(3));
    const std::size_t near = f.session.selection.list().size();
    others->trigger();
    CHECK(f.session.selection.list().size() == 90 - near);
    CHECK_FALSE(f.session.selection.contains(3));
    far->trigger();
    CHECK(f.session.selection.isEmpty());
    // The strip stands over the sheet while the card is open.
    auto* sheet = f.window.findChild<ThreadSheet*>();
    REQUIRE(sheet);
    const auto highest = [&] {
        int high = 0;
        for (std::size_t i = 0; i < 5; ++i) high += sheet->stripRect(i).height();
        return high;
    };
    const int open = highest();
    f.window.docket().open("tracks");
    QTest::qWait(50);
    CHECK(highest() == open - 18);
}

TEST_CASE("tracks are lengthened with the camera from the menu, and one undo takes all of it back") {
    Fixture f;
    f.openPlate();
    f.session.edit("range", withRange(f.session.shot(), {1001, 1036}));
    QAction* lengthen = f.window.commands().action("Lengthen with the camera");
    REQUIRE(lengthen);
    CHECK_FALSE(lengthen->isEnabled());  // nothing is solved
    f.session.edit("features", [&] {
        Shot shot = f.session.shot();
        shot.scatterSettings.features = 200;
        return shot;
    }());
    f.key(Qt::Key_T, Qt::ControlModifier | Qt::ShiftModifier);
    f.wait();
    f.key(Qt::Key_Return, Qt::ControlModifier);
    f.wait();
    REQUIRE(f.session.shot().solve);
    const Shot before = f.session.shot();
    REQUIRE(QTest::qWaitFor([&] { return lengthen->isEnabled(); }, 5000));
    lengthen->trigger();
    f.wait();
    const Shot& after = f.session.shot();
    CHECK(f.window.note().contains("tracks run on"));
    CHECK(after.tracks.size() < before.tracks.size());
    CHECK(after.solve != before.solve);
    CHECK(f.state("camera") == StageState::done);  // adjusted to them: nothing is stale
    std::size_t grown = 0;
    for (const Track& track : after.tracks) {
        const Track* was = findTrack(before, track.id);
        REQUIRE(was);
        grown += track.samples.size() > was->samples.size();
    }
    CHECK(grown > 20);
    f.canvas.setFocus();
    f.key(Qt::Key_Z, Qt::ControlModifier);
    CHECK(f.session.shot().tracks.size() == before.tracks.size());
    CHECK(f.session.shot().solve == before.solve);
}
