// pinion-editing [PLATE [ANOTHER]]: how long the interface stands still at an edit of a long shot with thousands of
// tracks, and while somebody scrubs through PLATE and a scatter runs; and pictures a second while it, or ANOTHER, plays
// with inserts.

#include "exchange/deliverables.h"
#include "mainwindow.h"
#include "stages/tracks/trackjobs.h"
#include "plate/videowriter.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/camerastage.h"
#include "widgets/theme.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QTemporaryDir>
#include <QTest>
#include <QTimer>

#include <algorithm>
#include <cstdio>
#include <functional>

namespace {

using namespace pinion;

constexpr int kTracks = 5000, kFrames = 3000, kLength = 200, kSize = 64;

std::vector<Track> manyTracks() {
    std::vector<Track> tracks;
    for (int t = 0; t < kTracks; ++t) {
        Track track;
        track.id = t + 1;
        track.name = "f-" + std::to_string(t + 1);
        track.referenceFrame = 1001 + t * (kFrames - kLength) / kTracks;
        std::vector<Sample> samples;
        for (int i = 0; i < kLength; ++i) {
            Sample sample;
            sample.frame = track.referenceFrame + i;
            sample.at = {5 + (t * 7 + i) % 50 + 0.01 * i, 5 + (t * 13) % 50};
            samples.push_back(sample);
        }
        track.samples = std::move(samples);
        tracks.push_back(std::move(track));
    }
    return tracks;
}

void measure(MainWindow& window, const char* what, const std::function<void(int)>& edit) {
    double worst = 0, sum = 0, painting = 0;
    constexpr int kTimes = 20;
    for (int i = 0; i < kTimes; ++i) {
        QElapsedTimer clock;
        clock.start();
        edit(i);
        const double took = double(clock.nsecsElapsed()) / 1e6;
        QApplication::processEvents();
        painting = std::max(painting, double(clock.nsecsElapsed()) / 1e6 - took);
        worst = std::max(worst, took);
        sum += took / kTimes;
        QTest::qWait(30);
    }
    std::printf("%-34s %6.1f ms in the mean, %6.1f at most; drawing %6.1f at most\n", what, sum, worst, painting);
    Q_UNUSED(window);
}

/// The longest the interface stood still while somebody scrubs and a scatter runs.
void measureScrubbing(MainWindow& window, const std::string& plate) {
    Session& session = window.session();
    session.open(plate);
    if (!QTest::qWaitFor([&] { return session.isReady() && session.shot().tracks.isEmpty(); }, 20000)) return;
    startScatter(session);
    std::vector<double> gaps;
    QElapsedTimer clock;
    clock.start();
    QTimer beat, scrub;
    QObject::connect(&beat, &QTimer::timeout, &window, [&] {
        gaps.push_back(double(clock.nsecsElapsed()) / 1e6);
        clock.restart();
    });
    const FrameRange range = session.shot().plate.range;
    int step = 0;
    QObject::connect(&scrub, &QTimer::timeout, &window,
                     [&] { session.player.goTo(range.first + (step += 7) % range.count()); });
    beat.start(2);
    scrub.start(25);
    (void)QTest::qWaitFor([&] { return !session.isBusy(); }, 120000);
    beat.stop();
    scrub.stop();
    if (gaps.empty()) return;
    std::sort(gaps.begin(), gaps.end());
    std::printf("scrubbing while a scatter runs: %zu turns of the loop, longest gap %.0f ms, 99.9 %% below %.0f ms\n",
                gaps.size(), gaps.back(), gaps[gaps.size() * 999 / 1000]);
}

/// Fifty shapes of twelve smooth points over PLATE, all moving: a step to the next frame and its drawing, and an edit.
void measureShapes(MainWindow& window, const std::string& plate) {
    Session& session = window.session();
    session.open(plate);
    if (!QTest::qWaitFor([&] { return session.isReady() && session.shot().tracks.isEmpty(); }, 20000)) return;
    const FrameRange range = session.shot().plate.range;
    Shot shot = session.shot();
    for (std::size_t i = 0; i < 50; ++i) {
        Matte matte;
        for (const int frame : {range.first, range.last}) {
            Matte::Key key{frame, {}};
            for (int k = 0; k < 12; ++k) {
                const double angle = 2 * M_PI * k / 12;
                key.polygon.emplace_back(
                    120 + double(i % 10) * 110 + (60 + 8 * (k % 3)) * std::cos(angle) + 0.3 * (frame - range.first),
                    100 + double(i / 10) * 120 + 50 * std::sin(angle));
            }
            matte.keys.push_back(key);
        }
        shot = withMatteAdded(shot, matte);
        std::vector<std::size_t> all{0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11};
        shot = withMattePointsSmooth(shot, i, all, true);
    }
    session.edit("Fifty shapes", shot);
    window.docket().open("mattes");
    for (int frame = range.first; frame <= range.last; ++frame) {  // read once
        session.player.goTo(frame);
        QTest::qWait(10);
    }
    measure(window, "step a frame under fifty shapes", [&](int i) {
        session.player.goTo(range.first + i);
        window.canvas().repaint();
    });
    measure(window, "move one of fifty shapes", [&](int i) {
        session.edit("Move",
                     withMatteEdited(session.shot(), 3, [&](Matte& matte) { matte.keys[0].polygon[0].x() += i; }));
        window.canvas().repaint();
    });
}

/// Pictures a second with inserts that the canvas shows while PLATE is played, its frames being in memory.
void measurePlaying(MainWindow& window, const std::string& plate, int inserts) {
    Session& session = window.session();
    session.open(plate);
    if (!QTest::qWaitFor([&] { return session.isReady() && session.shot().inserts.isEmpty(); }, 20000)) return;
    const FrameRange all = session.shot().plate.range;
    Shot shot = session.shot();
    shot.plate.range = {all.first, std::min(all.last, all.first + 71)};
    for (int i = 0; i < inserts; ++i) {
        Insert insert;
        insert.shows = Insert::Shows::test;
        InsertId id = 0;
        shot = withInsertAdded(shot, insert, all.first, &id);
        // Of a quarter of the frame's width and a third of its height.
        shot = withInsertEdited(shot, id, [&](Insert& one) {
            one.placing.scale = {0.27, 0.33};
            one.placing.centre = {0.25 + 0.06 * i, 0.4 + 0.02 * i};
        });
    }
    session.edit("Inserts", shot);
    window.docket().open("inserts");
    window.show("inserts");
    for (int frame = shot.plate.range.first; frame <= shot.plate.range.last; ++frame) {  // read once
        session.player.goTo(frame);
        QTest::qWait(10);
    }
    session.player.goTo(shot.plate.range.first);
    QTest::qWait(300);
    int shown = 0;
    qint64 before = 0;
    QTimer look;
    QObject::connect(&look, &QTimer::timeout, &window, [&] {
        const QImage& image = window.canvas().renderedImage();
        shown += !image.isNull() && image.cacheKey() != before;
        before = image.cacheKey();
    });
    QElapsedTimer clock;
    look.start(3);
    session.player.setPlaying(true);
    clock.start();
    QTest::qWait(6000);
    const double seconds = double(clock.elapsed()) / 1000;
    session.player.setPlaying(false);
    const PlateRef& ref = session.shot().plate;
    std::printf("playing %dx%d at %.0f frames/s with %d inserts: %.1f pictures a second\n", ref.width, ref.height,
                ref.fps.perSecond(), inserts, shown / seconds);
}

}  // namespace

int main(int argc, char** argv) {
    QApplication application(argc, argv);
    theme::apply(application);
    QTemporaryDir folder;
    const std::string plate = folder.filePath("long.mp4").toStdString();
    auto writer = VideoWriter::create(plate, kSize, kSize, {24, 1}, {.quality = 30});
    if (!writer) return 1;
    for (int i = 0; i < kFrames; ++i)
        if (!(*writer)->write(std::vector<std::uint8_t>(kSize * kSize * 3, std::uint8_t(i)))) return 1;
    if (!(*writer)->finish()) return 1;

    MainWindow window;
    window.resize(1280, 800);
    window.show();
    Session& session = window.session();
    session.open(plate);
    if (!QTest::qWaitFor([&] { return session.hasPlate() && !session.isBusy(); }, 60000)) return 1;
    Shot shot = session.shot();
    shot.tracks = manyTracks();
    Solve solve;
    std::vector<SolvedFrame> solvedFrames;
    for (int frame = 1001; frame <= 1000 + kFrames; ++frame) {
        SolvedFrame solved;
        solved.frame = frame;
        solved.focal_px = kSize;
        solvedFrames.push_back(solved);
    }
    solve.frames = std::move(solvedFrames);
    std::vector<SolvedTrack> solvedTracks;
    for (const Track& track : shot.tracks) {
        SolvedTrack solved;
        solved.track = track.id;
        solved.xyz = Eigen::Vector3d(0, 0, double(track.id));
        solvedTracks.push_back(solved);
    }
    solve.tracks = std::move(solvedTracks);
    shot.solve = std::make_shared<const Solve>(std::move(solve));
    shot.solvedKey = solveKey(shot);
    shot.deliverables = shot.deliverables.edited([&](auto& items) {
        for (Deliverable& item : items) item.writtenKey = deliveryKey(shot, item);
    });
    session.edit("Fill", shot);
    session.selection.set({7});
    QTest::qWait(500);
    std::printf("%d tracks over %d frames, %d samples\n", kTracks, kFrames, kTracks * kLength);
    const auto change = [&](const char* name, const std::function<void(Track&, int)>& edit) {
        return [&session, name, edit](int i) {
            session.edit(name, withTracksEdited(session.shot(), {7}, [&](Track& track) { edit(track, i); }));
        };
    };
    measure(window, "rename a track",
            change("Rename", [](Track& track, int i) { track.name = "n-" + std::to_string(i); }));
    measure(window, "move a sample", change("Nudge", [](Track& track, int i) {
                track.samples = track.samples.edited([&](auto& samples) { samples[50].at.x() += 0.1 * (i + 1); });
            }));
    measure(window, "set a track aside", change("Set aside", [](Track& track, int i) { track.setAside = i % 2 == 0; }));
    measure(window, "select 500 tracks", [&](int i) {
        std::set<TrackId> ids;
        for (int k = 0; k < 500; ++k) ids.insert(1 + i + 9 * k);
        session.selection.set(ids);
    });
    measure(window, "undo", [&](int) { session.document.undo(); });
    if (argc > 1) measureScrubbing(window, argv[1]);
    if (argc > 1) measureShapes(window, argv[1]);
    for (const int inserts : {1, 3, 10})
        if (argc > 1) measurePlaying(window, argv[argc - 1], inserts);
    window.setProperty("closing", true);
    window.close();
    return 0;
}
