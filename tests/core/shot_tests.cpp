#include "base/files.h"
#include "base/json.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "exchange/shotfiles.h"
#include "exchange/usd.h"
#include "jobs/delivering.h"
#include "scratch.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/history.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/platestage.h"
#include "shot/stages/tracksstage.h"

#include <catch2/catch.hpp>

using namespace pinion;
using Eigen::Vector2d;

namespace {

Shot sampleShot(const std::filesystem::path& folder) {
    PlateFacts facts;
    facts.path = folder / "plate.mp4";
    facts.width = 1280;
    facts.height = 720;
    facts.fps = {24000, 1001};
    facts.firstFrame = 1001;
    facts.lastFrame = 1010;
    Shot shot = shotOf(facts);
    for (int i = 0; i < 12; ++i) {
        TrackId id = 0;
        shot = withTrackAdded(shot, 1001, {100.25 + 90 * i, 200.5}, &id);
        for (int frame = 1002; frame <= 1010; ++frame)
            shot = withTrackMoved(shot, id, frame, Vector2d(100.25 + 90 * i + frame - 1001, 200.5));
    }
    auto solve = std::make_shared<Solve>();
    solve->lens = pinholeLens(1280, 720, 995.5);
    solve->lens.k1 = -0.1;
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1010; ++frame) {
        SolvedFrame solved{.frame = frame, .focal_px = 995.5, .rms_px = 0.3, .tracks = 12};
        solved.worldFromCamera.translation() = Eigen::Vector3d(0.1 * (frame - 1001), 1.6, 5);
        solved.worldFromCamera.linear() =
            Eigen::AngleAxisd(0.01 * (frame - 1001), Eigen::Vector3d::UnitY()).toRotationMatrix();
        frames.push_back(solved);
    }
    std::vector<SolvedTrack> tracks;
    for (const Track& track : shot.tracks)
        tracks.push_back(
            {.track = track.id,
             .role = TrackRole::used,
             .xyz = Eigen::Vector3d(double(track.id), (track.id % 3) * 0.5, -double(track.id * track.id % 5)),
             .rms_px = 0.2 * double(track.id),
             .frames = 10});
    solve->frames = List<SolvedFrame>(frames);
    solve->tracks = List<SolvedTrack>(tracks);
    solve->rms_px = 0.31;
    shot = withSolve(shot, *solve, shot);
    World world;
    world.ground = List<TrackId>({3, 6, 9, 12});
    world.origin = 3;
    return withWorld(shot, world);
}

/// The same with everything that a solve may say, and every choice of the Camera card.
Shot doubtfulShot(const std::filesystem::path& folder) {
    Shot shot = sampleShot(folder);
    auto solve = std::make_shared<Solve>(*shot.solve);
    solve->motion = CameraMotion::travelling;
    solve->reason = "12 of 12 tracks show parallax";
    solve->doubt = "25 to 61 mm fit alike: give a focal length, or a longer move";
    solve->focalRange_mm = {25, 61};
    solve->focalDeviation_mm = 9;
    solve->noise_px = 0.15;
    solve->k1Deviation = 0.001;
    solve->axisDeviation_px = {1.5, 2.5};
    solve->tracks = solve->tracks.edited([](auto& all) {
        all[1].goodFrames = {1002, 1007};
        all[2].direction = Eigen::Vector3d(0, 0, -1);
        all[2].xyz.reset();
        all[3].deviation = Eigen::Vector3d(0.1, 0.2, 0.3);
    });
    shot.solveSettings.axis = SolveOptions::Axis::free;
    shot.solveSettings.motion = CameraMotion::nodal;
    shot.solveSettings.zoom = true;
    shot.solveSettings.distortion = SolveOptions::Distortion::full;
    shot.solveSettings.basePair = {1001, 1009};
    shot.solveSettings.distances = List<KnownDistance>({{1, 2, 2.5, 0.02}});
    shot.solveSettings.places = List<KnownPlace>({{3, {0.5, 1.25, -4}, 0.01}});
    solve->inMetres = true;
    return withSolve(shot, *solve, shot);
}

}  // namespace

TEST_CASE("a shot written and read is the same shot") {
    const test::Scratch scratch;
    const Shot shot = doubtfulShot(scratch.path());
    REQUIRE(saveShot(shot, scratch / "a.pinion"));
    const auto read = loadShot(scratch / "a.pinion");
    REQUIRE(read);
    CHECK(shotJson(*read, scratch / "a.pinion") == shotJson(shot, scratch / "a.pinion"));
    CHECK(read->plate.path == shot.plate.path);
    CHECK(read->plate.fps == FrameRate{24000, 1001});
    CHECK(read->solvedKey == solveKey(*read));
    CHECK(read->nextTrack == shot.nextTrack);
    CHECK(read->solve->doubt == shot.solve->doubt);
    CHECK(read->solve->focalRange_mm == shot.solve->focalRange_mm);
    CHECK(read->solve->tracks[1].goodFrames == shot.solve->tracks[1].goodFrames);
    CHECK(read->solve->tracks[2].direction);
    CHECK(read->solveSettings.motion == CameraMotion::nodal);
    CHECK(read->solveSettings.zoom);
    CHECK(read->solveSettings.axis == SolveOptions::Axis::free);
    CHECK(read->solveSettings.distortion == SolveOptions::Distortion::full);
    CHECK(read->solveSettings.basePair == std::pair{1001, 1009});
    REQUIRE(read->solveSettings.distances.size() == 1);
    CHECK(read->solveSettings.distances[0].b == 2);
    CHECK(read->solveSettings.distances[0].metres == 2.5);
    CHECK(read->solveSettings.distances[0].sigma == 0.02);
    REQUIRE(read->solveSettings.places.size() == 1);
    CHECK(read->solveSettings.places[0].metres == Eigen::Vector3d(0.5, 1.25, -4));
    CHECK(read->solve->inMetres);
    const StageReport camera = cameraReport(*read);
    CHECK(camera.state == StageState::attention);
    CHECK(camera.message.find("Not sure: 25 to 61 mm fit alike") != std::string::npos);
}

TEST_CASE("of several solves one counts, and each comes back with what it was asked") {
    const test::Scratch scratch;
    Shot shot = sampleShot(scratch.path());
    CHECK(shot.solveId == 1);
    Shot asked = shot;
    asked.solveSettings.focal = Knowledge::known;
    asked.solveSettings.focal_mm = 31.25;
    Solve second = *shot.solve;
    second.rms_px = 0.875;
    const Shot both = withSolve(asked, second, asked);
    CHECK(both.solveId == 2);
    REQUIRE(both.keptSolves.size() == 1);
    CHECK(both.keptSolves[0].solve == shot.solve);

    // Settings changed after the solve are not those of the solve.
    Shot changed = both;
    changed.solveSettings.focal_mm = 90;
    CHECK(cameraReport(changed).state == StageState::stale);
    const Shot back = withSolveChosen(changed, 1);
    CHECK(back.solve == shot.solve);
    CHECK(back.solveSettings.focal == Knowledge::unknown);
    CHECK(back.solvedKey == solveKey(back));
    REQUIRE(back.keptSolves.size() == 1);
    const Shot again = withSolveChosen(back, 2);
    CHECK(again.solve->rms_px == 0.875);
    CHECK(again.solveSettings.focal_mm == 31.25);
    CHECK(again.solvedKey == solveKey(again));
    CHECK(withSolveChosen(again, 9).solveId == 2);

    REQUIRE(saveShot(changed, scratch / "a.pinion"));
    const auto read = loadShot(scratch / "a.pinion");
    REQUIRE(read);
    CHECK(read->solveId == 2);
    CHECK(read->solvedWith.focal_mm == 31.25);
    CHECK(read->solveSettings.focal_mm == 90);
    const Shot chosen = withSolveChosen(*read, 1);
    CHECK(chosen.solve->rms_px == shot.solve->rms_px);
    CHECK(chosen.solvedKey == solveKey(chosen));

    // The oldest go, ids are not given again.
    Shot many = shot;
    for (int i = 0; i < 10; ++i) many = withSolve(many, second, many);
    CHECK(many.keptSolves.size() == kKeptSolves);
    CHECK(many.solveId == 11);
    CHECK(many.keptSolves[0].id == 6);
    CHECK(withSolve(withSolveChosen(many, 7), second, many).solveId == 12);
}

TEST_CASE("a shot of the days of one solve opens with it, and its settings are those of the card") {
    const test::Scratch scratch;
    const Shot shot = sampleShot(scratch.path());
    auto document = jsonfile::json::parse(shotJson(shot, scratch / "a.pinion"));
    document.erase("next_solve");
    document["solve"].erase("id");
    document["solve"].erase("asked");
    scratch.write("a.pinion", document.dump());
    const auto read = loadShot(scratch / "a.pinion");
    REQUIRE(read);
    CHECK(read->solveId == 1);
    CHECK(read->nextSolve == 2);
    CHECK(read->solvedKey == solveKey(*read));
    CHECK(read->solvedWith.focal_mm == shot.solveSettings.focal_mm);

    document["kept_solves"] = {document["solve"]};
    scratch.write("a.pinion", document.dump());
    const auto refused = loadShot(scratch / "a.pinion");
    REQUIRE_FALSE(refused);
    CHECK(refused.error().message.find("kept_solves[0].id: has to be above 0, and each once") != std::string::npos);
}

TEST_CASE("a measure from the set makes the camera stale, goes with its track, and is refused when it means nothing") {
    const test::Scratch scratch;
    const Shot shot = doubtfulShot(scratch.path());
    CHECK(solveOptionsOf(shot).distances.size() == 1);
    CHECK(solveOptionsOf(shot).places.size() == 1);
    Shot other = shot;
    other.solveSettings.distances = List<KnownDistance>({{1, 2, 2.6, 0.02}});
    CHECK(solveKey(other) != solveKey(shot));
    // Without track 2 there is nothing to measure.
    other.tracks = shot.tracks.edited(
        [](auto& tracks) { std::erase_if(tracks, [](const Track& track) { return track.id == 2; }); });
    CHECK(solveOptionsOf(other).distances.isEmpty());
    CHECK(solveOptionsOf(other).places.size() == 1);
    const std::string good = shotJson(shot, scratch / "a.pinion");
    const auto broken = [&](const std::string& from, const std::string& to) {
        std::string text = good;
        const auto at = text.find(from);
        REQUIRE(at != std::string::npos);
        text.replace(at, from.size(), to);
        const auto read = parseShot(text, "a.pinion");
        return read ? std::string("read") : read.error().message;
    };
    CHECK(broken("\"metres\":2.5", "\"metres\":-2.5").find("camera.distances[0].metres: has to be above 0") !=
          std::string::npos);
    CHECK(broken("\"trust\":0.02", "\"trust\":0").find("camera.distances[0].trust") != std::string::npos);
}

TEST_CASE("a shot that is cut off, newer or edited wrongly is refused with the place, never half read") {
    const test::Scratch scratch;
    const std::string good = shotJson(sampleShot(scratch.path()), scratch / "a.pinion");
    const auto message = [&](std::string contents) {
        const auto shot = parseShot(contents, "a.pinion");
        return shot ? std::string("read") : shot.error().message;
    };
    const auto with = [&](const std::string& from, const std::string& to) {
        std::string edited = good;
        const auto at = edited.find(from);
        REQUIRE(at != std::string::npos);
        return edited.replace(at, from.size(), to);
    };
    REQUIRE(message(good) == "read");
    CHECK(message(good.substr(0, good.size() / 2)).find("cut off") != std::string::npos);
    CHECK(message("").find("cut off") != std::string::npos);
    CHECK(message("[]").find("not a JSON object") != std::string::npos);
    CHECK(message(with("\"version\":1", "\"version\":7")).find("newer") != std::string::npos);
    CHECK(message(with("pinion.shot", "pinion.lens")).find("pinion.shot") != std::string::npos);
    // What is beyond bounds is taken as far as they go; a word that is not known is refused.
    const auto small = parseShot(with("\"pattern_px\":21", "\"pattern_px\":-4"), "/a.pinion");
    REQUIRE(small);
    CHECK(small->scatterSettings.pattern_px == 5);
    CHECK(message(with("\"affine\"", "\"wobble\"")).find("scatter: its motion") != std::string::npos);
    CHECK(message(with("[1002,", "[1001,")).find("frames have to rise") != std::string::npos);
    CHECK(message(with("\"width\":1280", "\"width\":\"wide\"")).find("not a number") != std::string::npos);
    // Any single cut or flipped byte is answered, not crashed on.
    for (std::size_t at = 0; at < good.size(); at += good.size() / 150 + 1) {
        (void)message(good.substr(0, at));
        std::string flipped = good;
        flipped[at] = char(flipped[at] ^ 0x15);
        (void)message(flipped);
    }
}

TEST_CASE("stages say what is done, stale and wrong") {
    const test::Scratch scratch;
    const Shot shot = sampleShot(scratch.path());
    CHECK(cameraReport(shot).state == StageState::done);
    CHECK(tracksReport(shot).state == StageState::done);
    const Shot changed = withSetAside(shot, {1}, true);
    CHECK(cameraReport(changed).state == StageState::stale);
    CHECK(cameraReport(withSetAside(changed, {1}, false)).state == StageState::done);
    const Shot poor = withSetAside(shot, {1, 2, 3, 4, 5}, true);
    CHECK(tracksReport(poor).state == StageState::attention);
    CHECK(tracksReport(poor).message.find("1001-1010") != std::string::npos);
    CHECK(plateReport(shot, {1003}).message.find("1003") != std::string::npos);
    Shot delivered = withDelivered(shot, "camera data", shot);
    CHECK(deliveryReport(delivered).state == StageState::done);
    delivered.world.origin = 4;
    CHECK(deliveryReport(delivered).state == StageState::stale);
}

TEST_CASE("undo and redo name what they do and give the very shot back") {
    const test::Scratch scratch;
    const Shot first = sampleShot(scratch.path());
    History history(first);
    CHECK_FALSE(history.canUndo());
    history.record("Set 2 tracks aside", withSetAside(first, {1, 2}, true));
    history.record("Delete a track", withTracksRemoved(history.current(), {5}));
    CHECK(history.undoName() == "Delete a track");
    history.undo();
    CHECK(history.redoName() == "Delete a track");
    CHECK(findTrack(history.current(), 5));
    history.undo();
    CHECK(history.current().tracks.sharedWith(first.tracks));
    history.redo();
    CHECK(findTrack(history.current(), 1)->setAside);
    history.record("Other", first);
    CHECK_FALSE(history.canRedo());
}

TEST_CASE("every deliverable is written, read back and says what it holds") {
    const test::Scratch scratch;
    const Shot shot = sampleShot(scratch.path());
    for (const Deliverable& deliverable : shot.deliverables) {
        INFO(deliverable.name);
        const auto report = deliver(shot, deliverable, scratch / "out");
        REQUIRE(report);
        for (const auto& file : report->files) CHECK(std::filesystem::file_size(file) > 100);
    }
    const auto camera = readCamera(scratch / "out/plate.camera.json");
    REQUIRE(camera);
    CHECK(camera->frames.size() == 10);
    CHECK(camera->fps == FrameRate{24000, 1001});
    const auto tracks = readTracks(scratch / "out/plate.tracks.json");
    REQUIRE(tracks);
    CHECK(tracks->tracks.size() == 12);
    CHECK((tracks->tracks[0].samples[1].at - Vector2d(101.25, 200.5)).norm() < 1e-4);
    const auto csv = readFile(scratch / "out/plate.tracks.csv");
    CHECK(csv->find("\ntrack,frame,x,y,score\np-1,1001,100.2500,200.5000,1.0000\n") != std::string::npos);

    SECTION("a USD file that was changed does not pass the check") {
        const auto expected = cameraFileOf(shot);
        auto text = *readFile(scratch / "out/plate.usda");
        REQUIRE(checkCameraUsd(scratch / "out/plate.usda", *expected, {.name = "plate"}));
        const auto at = text.find("1005: ( (");
        text[at + 12] = '7';
        scratch.write("changed.usda", text);
        CHECK_FALSE(checkCameraUsd(scratch / "changed.usda", *expected, {.name = "plate"}));
    }
    SECTION("Z up turns the world, not the picture") {
        const auto file = cameraFileOf(shot);
        const std::string z = cameraUsd(*file, {.name = "s", .zUp = true});
        CHECK(z.find("upAxis = \"Z\"") != std::string::npos);
        scratch.write("z.usda", z);
        CHECK(checkCameraUsd(scratch / "z.usda", *file, {.name = "s", .zUp = true}));
        CHECK_FALSE(checkCameraUsd(scratch / "z.usda", *file, {.name = "s", .zUp = false}));
    }
    SECTION("without a camera the reason is given") {
        Shot unsolved = shot;
        unsolved.solve.reset();
        const auto report = deliver(unsolved, shot.deliverables[0], scratch / "out");
        REQUIRE_FALSE(report);
        CHECK(report.error().message.find("solve it first") != std::string::npos);
    }
}

TEST_CASE("files from outside are refused with the place that is wrong") {
    const test::Scratch scratch;
    const auto points = [&](const std::string& text) {
        const auto read = readPoints(scratch.write("p.json", text));
        return read ? std::string("read") : read.error().message;
    };
    CHECK(points(
              R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[{"name":"a","x":1,"y":2}]})") ==
          "read");
    CHECK(points(R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[{"name":"a","x":1}]})")
              .find("points[0]: 'y' is missing") != std::string::npos);
    CHECK(points(R"({"format":"pinion.points","version":1,"reference_frame":1001,"points":[]})").find("empty") !=
          std::string::npos);
    CHECK(points(R"({"format":"pinion.points","version":2,"reference_frame":1,"points":[]})").find("version") !=
          std::string::npos);
    CHECK(points(R"({"format":"pinion.points","version":1,"reference_frame":1.5,"points":[]})").find("whole number") !=
          std::string::npos);
    const auto lens = readLens(scratch.write(
        "l.json",
        R"({"format":"pinion.lens","version":1,"width":1280,"height":720,"model":"brown-conrady","focal_px":-5,)"
        R"("k1":0,"k2":0,"cx":640,"cy":360})"));
    REQUIRE_FALSE(lens);
    CHECK(lens.error().message.find("focal_px is -5") != std::string::npos);
    const auto mattes = readMattes(scratch.write(
        "m.json",
        R"({"format":"pinion.mattes","version":1,"shapes":[{"name":"m","keys":[{"frame":1,"polygon":[[0,0],[1,)"
        R"(1]]}]}]})"));
    REQUIRE_FALSE(mattes);
    CHECK(mattes.error().message.find("fewer than three corners") != std::string::npos);
}
