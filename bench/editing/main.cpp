// pinion-editing: how long the interface stands still at an edit of a long shot with thousands of tracks.

#include "exchange/deliverables.h"
#include "mainwindow.h"
#include "plate/videowriter.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/camerastage.h"
#include "widgets/theme.h"

#include <QApplication>
#include <QElapsedTimer>
#include <QTemporaryDir>
#include <QTest>

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
    window.setProperty("closing", true);
    window.close();
    return 0;
}
