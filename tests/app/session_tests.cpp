// The parts of the session, each by itself: what a window's views and stages build on.

#include <catch2/catch.hpp>

#include "canvas/plateview.h"
#include "exchange/newshot.h"
#include "lens/lens.h"
#include "session/derived.h"
#include "session/session.h"
#include "shot/edits/trackedits.h"

#include <Eigen/Geometry>
#include <QTest>

#include <atomic>
#include <cmath>
#include <random>
#include <thread>

using namespace pinion;
using Eigen::Vector2d;

namespace {

Shot madeShot(int tracks) {
    PlateFacts facts;
    facts.path = "made.mp4";
    facts.width = 640;
    facts.height = 360;
    facts.firstFrame = 1001;
    facts.lastFrame = 1040;
    Shot shot = shotOf(facts);
    for (int i = 0; i < tracks; ++i) shot = withTrackAdded(shot, 1001, {10.0 + i, 20.0});
    return shot;
}

bool until(const std::function<bool()>& holds) { return QTest::qWaitFor(holds, 30000); }

Lens wideLens() {
    Lens lens = pinholeLens(640, 360, 400);
    lens.k1 = -0.18;
    lens.k2 = 0.03;
    lens.cx += 6;
    return lens;
}

}  // namespace

// ---- the one mapping

TEST_CASE("through lens and homography every place of the plate comes back from where it lies on the screen") {
    std::mt19937 random(11);
    std::uniform_real_distribution<double> any(-1, 1);
    for (int trial = 0; trial < 40; ++trial) {
        PlateView view;
        view.setSizes({900, 500}, {640, 360});
        PlateWarp warp;
        if (trial % 2 == 0) warp.bend = bendOf(wideLens());
        warp.shownFromStraight << 1 + 0.1 * any(random), 0.1 * any(random), 30 * any(random), 0.1 * any(random),
            1 + 0.1 * any(random), 30 * any(random), 1e-4 * any(random), 1e-4 * any(random), 1;
        view.setWarp(warp);
        view.zoomAt({300, 200}, 1 + 0.5 * any(random));
        view.pan({40 * any(random), 40 * any(random)});
        for (int i = 0; i < 30; ++i) {
            const Vector2d plate(320 + 300 * any(random), 180 + 170 * any(random));
            const auto screen = view.screenFromPlate(plate);
            REQUIRE(screen);
            const auto back = view.plateFromScreen(*screen);
            REQUIRE(back);
            CHECK((*back - plate).norm() < 1e-6);
        }
    }
}

TEST_CASE("the bare plate lies straight under zoom and pan, and a bent one where its lens says") {
    PlateView view;
    view.setSizes({664, 376}, {640, 360});
    CHECK(view.screenFromPlate({0, 0}) == QPointF(12, 8));
    CHECK(view.screenFromPlate({640, 360}) == QPointF(652, 368));
    const Lens lens = wideLens();
    view.setWarp({bendOf(lens), Eigen::Matrix3d::Identity()});
    const auto straight = undistortedFromPlate(lens, {40, 30});
    REQUIRE(straight);
    const auto screen = view.screenFromPlate({40, 30});
    REQUIRE(screen);
    CHECK(screen->x() == Approx(straight->x() + 12));
    CHECK(screen->y() == Approx(straight->y() + 8));
    // Barrel distortion squeezes the corners in: without it they lie farther out.
    CHECK(screen->x() < 52);
}

TEST_CASE("there is no answer where no ray comes, and a line is parted there") {
    PlateView view;
    view.setSizes({664, 376}, {640, 360});
    PlateWarp warp;
    // The horizon of this homography crosses the plate at x = 400.
    warp.shownFromStraight << 1, 0, 0, 0, 1, 0, -1.0 / 400, 0, 1;
    view.setWarp(warp);
    CHECK(view.screenFromPlate({100, 100}));
    CHECK_FALSE(view.screenFromPlate({400, 100}));
    CHECK_FALSE(view.screenFromPlate({500, 100}));
    const std::vector<Vector2d> places{{100, 100}, {200, 100}, {500, 100}, {150, 120}, {120, 120}};
    const QPainterPath path = view.line(places);
    int begins = 0;
    for (int i = 0; i < path.elementCount(); ++i) begins += path.elementAt(i).isMoveTo();
    CHECK(begins == 2);
    // Far outside the frame a strong lens folds over: nothing is drawn there.
    Lens strong = wideLens();
    strong.k1 = -0.4;
    view.setWarp({bendOf(strong), Eigen::Matrix3d::Identity()});
    CHECK_FALSE(view.screenFromPlate({-3000, -2000}));
}

TEST_CASE("a long straight edge of the plate is drawn bent, within a hundredth of a pixel of the lens") {
    PlateView view;
    view.setSizes({664, 376}, {640, 360});
    const Lens lens = wideLens();
    view.setWarp({bendOf(lens), Eigen::Matrix3d::Identity()});
    const std::vector<Vector2d> edge{{10, 10}, {630, 10}};
    const QPainterPath path = view.line(edge);
    REQUIRE(path.elementCount() > 20);
    double bow = 0;
    const QPointF first = path.elementAt(0), last = path.elementAt(path.elementCount() - 1);
    for (int i = 0; i < path.elementCount(); ++i) {
        const QPointF at = path.elementAt(i);
        const double along = (at.x() - first.x()) / (last.x() - first.x());
        bow = std::max(bow, std::abs(at.y() - (first.y() + along * (last.y() - first.y()))));
        const auto plate = view.plateFromScreen(at);
        REQUIRE(plate);
        CHECK(plate->y() == Approx(10).margin(0.01));
    }
    CHECK(bow > 3);
    // Between its points the drawn line stays near the true one.
    for (int i = 0; i + 1 < path.elementCount(); ++i) {
        const auto middle = view.plateFromScreen((QPointF(path.elementAt(i)) + QPointF(path.elementAt(i + 1))) / 2);
        REQUIRE(middle);
        CHECK(middle->y() == Approx(10).margin(0.05));
    }
}

// ---- document and selection

TEST_CASE("the selection never holds what is gone, whichever way it went") {
    Session s;
    s.document.start(madeShot(5), {}, true);
    s.selection.set({1, 3, 5, 77});
    CHECK(s.selection.tracks() == std::set<TrackId>{1, 3, 5});
    std::vector<std::size_t> seen;
    QObject::connect(&s.document, &Document::changed, &s.selection, [&] { seen.push_back(s.selection.size()); });
    s.edit("Delete", withTracksRemoved(s.shot(), {3}));
    CHECK(s.selection.tracks() == std::set<TrackId>{1, 5});
    TrackId added = 0;
    s.edit("Place", withTrackAdded(s.shot(), 1001, {5, 5}, &added));
    s.selection.set({added});
    s.document.undo();
    CHECK(s.selection.isEmpty());
    CHECK(s.selection.first() == nullptr);
    s.selection.set({1});
    s.document.start(madeShot(0), {}, true);
    CHECK(s.selection.isEmpty());
    // Whoever hears of a change finds it pruned already.
    CHECK(seen == std::vector<std::size_t>{2, 2, 0, 0});
}

TEST_CASE("undo says that it went back before the shot has changed for its views") {
    Session s;
    s.document.start(madeShot(1), {}, true);
    QStringList order;
    QObject::connect(&s.document, &Document::wentBack, &s, [&] { order << "back"; });
    QObject::connect(&s.document, &Document::changed, &s, [&] { order << "changed"; });
    s.edit("Rename", withTrackRenamed(s.shot(), 1, "gull"));
    s.document.undo();
    s.document.redo();
    CHECK(order == QStringList{"changed", "back", "changed", "changed"});
    CHECK(s.shot().tracks[0].name == "gull");
}

// ---- jobs

TEST_CASE("a job runs beside the interface, merges once, and a second one is refused meanwhile") {
    Session s;
    s.document.start(madeShot(1), {}, true);
    std::atomic<bool> go{false};
    int merged = 0;
    std::thread::id ran;
    const bool started = s.jobs.start(Job<int>{.name = "Counting",
                                               .frames = 40,
                                               .run = [&](const JobLink& link) -> Expected<int> {
                                                   ran = std::this_thread::get_id();
                                                   link.progress.report(0.5, "half");
                                                   while (!go) std::this_thread::yield();
                                                   return 7;
                                               },
                                               .merge = [&](int& value) { merged += value; }});
    REQUIRE(started);
    CHECK(s.isBusy());
    CHECK_FALSE(s.jobs.start(Job<int>{.name = "Other",
                                      .run = [](const JobLink&) -> Expected<int> { return 1; },
                                      .merge = [&](int&) { merged += 100; }}));
    REQUIRE(until([&] { return s.jobs.state().fraction == 0.5; }));
    // An edit made meanwhile is there when the result is merged.
    s.edit("Place", withTrackAdded(s.shot(), 1001, {5, 5}));
    go = true;
    REQUIRE(until([&] { return !s.isBusy() && merged != 0; }));
    CHECK(merged == 7);
    CHECK(ran != std::this_thread::get_id());
    CHECK(s.shot().tracks.size() == 2);
}

TEST_CASE(
    "a job that fails says why, one that is stopped says nothing, and one that throws ends neither program nor "
    "window") {
    Session s;
    QStringList said;
    QObject::connect(&s.notes, &Notes::said, &s, [&](const QString& words, bool error) {
        if (error) said << words;
    });
    bool ended = false;
    const auto run = [&](const std::function<Expected<int>()>& what) {
        ended = false;
        s.jobs.start(Job<int>{.name = "Trying",
                              .run = [what](const JobLink&) { return what(); },
                              .merge = [](int&) { FAIL("there is nothing to merge"); },
                              .ended = [&] { ended = true; }});
        REQUIRE(until([&] { return !s.isBusy(); }));
        QTest::qWait(20);
    };
    run([]() -> Expected<int> { return failure(Fault::outcome, "no base pair"); });
    CHECK(ended);
    run([]() -> Expected<int> { return failure(Fault::stopped, ""); });
    CHECK(ended);
    run([]() -> Expected<int> { throw std::runtime_error("a library gave up"); });
    CHECK(said == QStringList{"no base pair", "The job failed: a library gave up"});
}

TEST_CASE("of what is asked for again and again in the live lane only the latest arrives, and edits go on") {
    Session s;
    s.document.start(madeShot(1), {}, true);
    LiveWork work(s.jobs);
    std::atomic<int> begun{0}, stopped{0};
    std::vector<int> arrived;
    for (int i = 0; i < 20; ++i) {
        work.start([&, i](const Progress& progress) -> std::function<void()> {
            ++begun;
            for (int k = 0; k < 200 && !progress.stopped(); ++k)
                std::this_thread::sleep_for(std::chrono::milliseconds(1));
            if (progress.stopped()) ++stopped;
            return [&arrived, i] { arrived.push_back(i); };
        });
        CHECK_FALSE(s.isBusy());
        s.edit("Nudge", withTrackMoved(s.shot(), 1, 1001, {10.0 + i, 20}));
        QTest::qWait(2);
    }
    REQUIRE(until([&] { return !arrived.empty(); }));
    QTest::qWait(50);
    CHECK(arrived == std::vector<int>{19});
    CHECK(stopped >= 1);
    CHECK(begun < 20);
}

TEST_CASE("live work that is cancelled, or whose owner is gone, never arrives") {
    Session s;
    bool arrived = false;
    const auto slow = [&arrived](const Progress&) -> std::function<void()> {
        std::this_thread::sleep_for(std::chrono::milliseconds(40));
        return [&arrived] { arrived = true; };
    };
    {
        LiveWork work(s.jobs);
        work.start(slow);
        QTest::qWait(5);
    }
    LiveWork other(s.jobs);
    other.start(slow);
    QTest::qWait(5);
    other.cancel();
    QTest::qWait(150);
    CHECK_FALSE(arrived);
}

TEST_CASE("what is derived is made once a key, keeps its old value while pending, and carries its problem") {
    Session s;
    int changes = 0;
    std::atomic<int> made{0};
    Derived<int, int> derived(s.jobs, [&] { ++changes; });
    const auto twice = [&](int key) {
        return [&made, key](const Progress&) -> Expected<int> {
            ++made;
            if (key < 0) return failure(Fault::input, "below zero");
            return 2 * key;
        };
    };
    derived.want(4, twice(4));
    CHECK(derived.isPending());
    CHECK_FALSE(derived.value());
    REQUIRE(until([&] { return !derived.isPending(); }));
    CHECK(*derived.value() == 8);
    derived.want(4, twice(4));
    CHECK_FALSE(derived.isPending());
    derived.want(5, twice(5));
    CHECK(derived.isPending());
    CHECK(*derived.value() == 8);
    REQUIRE(until([&] { return !derived.isPending(); }));
    CHECK(*derived.value() == 10);
    CHECK(made == 2);
    derived.want(-1, twice(-1));
    REQUIRE(until([&] { return !derived.isPending(); }));
    CHECK_FALSE(derived.value());
    CHECK(derived.problem() == "below zero");
    derived.clear();
    CHECK(derived.problem().isEmpty());
    CHECK(changes == 7);
}
