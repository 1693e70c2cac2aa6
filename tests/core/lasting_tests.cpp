// What has to last: tracks that a run did not look at, ids, mattes, names, marks; and what has to be noticed as stale.

#include "base/files.h"
#include "base/utf8.h"
#include "exchange/deliverables.h"
#include "exchange/formats.h"
#include "exchange/newshot.h"
#include "exchange/usd.h"
#include "jobs/tracking.h"
#include "made.h"
#include "picture/pyramid.h"
#include "scratch.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/tracksstage.h"

#include <catch2/catch.hpp>
#include <numeric>
#include <random>

using namespace pinion;
using namespace pinion::test;
using Eigen::Vector2d;

namespace {

Shot plainShot() {
    PlateFacts facts;
    facts.path = "/made/plate.mp4";
    facts.width = 200;
    facts.height = 160;
    facts.fps = {24, 1};
    facts.firstFrame = 1;
    facts.lastFrame = 60;
    return shotOf(facts);
}

std::shared_ptr<const Plate> drifting(int frames) {
    return std::make_shared<MadePlate>(frames, [](int frame) { return moved(shift(0.4 * (frame - 1), 0)); });
}

/// A track over all sixty frames, as an earlier run left it.
Shot trackedShot(TrackId* id) {
    Shot shot = withTrackAdded(plainShot(), 20, {100.5, 80.5}, id);
    std::vector<Sample> samples;
    for (int frame = 1; frame <= 60; ++frame)
        samples.push_back({.frame = frame, .at = {100.5 + 0.4 * (frame - 20), 80.5}, .tie = frame == 20});
    Track track = *findTrack(shot, *id);
    track.samples = List<Sample>(samples);
    track.startReason = track.endReason = EndReason::rangeEnd;
    return withTracked(shot, {track});
}

}  // namespace

TEST_CASE("a single step leaves the rest of a track as it was") {
    TrackId id = 0;
    const Shot shot = trackedShot(&id);
    FrameCache frames(drifting(60));
    for (const Direction direction : {Direction::forward, Direction::backward}) {
        const auto stepped = runTrack(shot, frames, {id}, 20, direction, 1);
        REQUIRE(stepped);
        const Track& track = stepped->tracks.front();
        CHECK(track.samples.size() == 60);
        CHECK(track.firstFrame() == 1);
        CHECK(track.lastFrame() == 60);
        CHECK(track.endReason == EndReason::rangeEnd);
    }
    // Of a new track a step is a step, and no end of the range.
    TrackId fresh = 0;
    const Shot one = withTrackAdded(plainShot(), 20, {100.5, 80.5}, &fresh);
    const auto stepped = runTrack(one, frames, {fresh}, 20, Direction::forward, 1);
    REQUIRE(stepped);
    CHECK(stepped->tracks.front().samples.size() == 2);
    CHECK(stepped->tracks.front().endReason == EndReason::none);
}

TEST_CASE("stopped on its way, a run replaces what it has reached and nothing more") {
    TrackId id = 0;
    Shot shot = trackedShot(&id);
    // A second track that begins later than the stop comes.
    TrackId later = 0;
    shot = withTrackAdded(shot, 50, {60.5, 60.5}, &later);
    FrameCache frames(drifting(60));
    Progress progress;
    int seen = 0;
    const auto stopped = trackPoints(frames, {*findTrack(shot, id), *findTrack(shot, later)}, {1, 60},
                                     Direction::forward, progress, [&](int frame, const std::vector<LivePoint>&) {
                                         if (frame == 30) progress.stop();
                                         seen = frame;
                                     });
    REQUIRE(stopped);
    CHECK(stopped->stopped);
    REQUIRE(seen < 40);
    const Track& track = stopped->tracks[0];
    CHECK(track.samples.size() == 60);
    CHECK(track.endReason == EndReason::rangeEnd);  // as before
    CHECK(stopped->tracks[1].samples.size() == 1);
    CHECK(stopped->tracks[1].endReason == EndReason::none);  // not reached, not covered

    // A new track that is stopped says neither.
    Progress second;
    const auto fresh = trackPoints(frames, {placed(1, {100.5, 80.5})}, {1, 60}, Direction::forward, second,
                                   [&](int frame, const std::vector<LivePoint>&) {
                                       if (frame == 10) second.stop();
                                   });
    REQUIRE(fresh);
    CHECK(fresh->tracks.front().lastFrame() < 20);
    CHECK(fresh->tracks.front().endReason == EndReason::none);
}

TEST_CASE("lost within the range, what an earlier run had found behind it goes; beyond the range it stays") {
    FrameCache frames(std::make_shared<MadePlate>(60, [](int frame) {
        Picture picture = moved(shift(0.4 * (frame - 1), 0));
        if (frame >= 26)
            for (float& value : picture.floats) value = 0.4F;
        return picture;
    }));
    TrackId id = 0;
    const Shot shot = trackedShot(&id);
    const auto lost = trackPoints(frames, {*findTrack(shot, id)}, 20, {1, 40}, Direction::forward);
    REQUIRE(lost);
    const Track& track = lost->tracks.front();
    CHECK(sampleAt(track, 25));
    CHECK_FALSE(sampleAt(track, 26));
    CHECK_FALSE(sampleAt(track, 40));
    CHECK(sampleAt(track, 41));
    CHECK(sampleAt(track, 60));
}

TEST_CASE("mattes, ids that were given and the choices of the card survive the file") {
    Shot shot = plainShot();
    TrackId first = 0, second = 0;
    shot = withTrackAdded(shot, 1, {50, 50}, &first);
    shot = withTrackAdded(shot, 1, {90, 50}, &second);
    shot = withTracksRemoved(shot, {second});
    Matte matte;
    matte.name = "sky";
    matte.mode = Matte::Mode::include;
    matte.keys = {{1, {{0, 0}, {200, 0}, {200, 40.5}}}, {30, {{0, 0}, {200, 0}, {200, 50}}}};
    shot.mattes = List<Matte>({matte});
    shot.solveSettings.basePair = {3, 47};
    shot.solveSettings.zoom = false;
    const auto read = parseShot(shotJson(shot, "/made/a.pinion"), "/made/a.pinion");
    REQUIRE(read);
    REQUIRE(read->mattes.size() == 1);
    CHECK(read->mattes[0].name == "sky");
    CHECK(read->mattes[0].mode == Matte::Mode::include);
    REQUIRE(read->mattes[0].keys.size() == 2);
    CHECK(read->mattes[0].keys[1].frame == 30);
    CHECK(read->mattes[0].keys[0].polygon == matte.keys[0].polygon);
    CHECK(read->solveSettings.basePair == std::pair(3, 47));
    CHECK(read->solveSettings.zoom == false);
    // The id of what was deleted is not given again: the solve may still name it.
    CHECK(read->nextTrack == shot.nextTrack);
    TrackId fresh = 0;
    (void)withTrackAdded(*read, 1, {10, 10}, &fresh);
    CHECK(fresh > second);
}

TEST_CASE("whatever the result depends on makes it stale when it changes") {
    TrackId id = 0;
    Shot shot = trackedShot(&id);
    auto solve = std::make_shared<Solve>();
    solve->lens = pinholeLens(200, 160, 180);
    shot = withSolve(shot, *solve, shot);
    shot.solveSettings.distortion = SolveOptions::Distortion::known;
    shot.lens.lens = solve->lens;
    const auto solveChanges = [&](const char* what, const std::function<void(Shot&)>& edit) {
        Shot other = shot;
        edit(other);
        INFO(what);
        CHECK(solveKey(other) != solveKey(shot));
    };
    solveChanges("the offset point", [&](Shot& s) {
        Track track = *findTrack(s, id);
        track.samples = track.samples.edited([](auto& samples) { samples[3].carried = {4, 2}; });
        s = withTracked(s, {track});
    });
    solveChanges("a bridged sample", [&](Shot& s) {
        Track track = *findTrack(s, id);
        track.samples = track.samples.edited([](auto& samples) { samples[3].bridged = true; });
        s = withTracked(s, {track});
    });
    solveChanges("the known lens", [](Shot& s) { s.lens.lens->k2 = 0.01; });
    solveChanges("the squeeze", [](Shot& s) { s.solveSettings.squeeze = 0.5; });
    solveChanges("no zoom", [](Shot& s) { s.solveSettings.zoom = false; });

    Deliverable camera{.name = "camera", .kind = DeliverableKind::camera, .place = "c.usda"};
    Deliverable tracks{.name = "tracks", .kind = DeliverableKind::tracks, .place = "t.json"};
    Deliverable maps{.name = "maps", .kind = DeliverableKind::stMaps, .place = "maps"};
    const auto deliveryChanges = [&](const char* what, const std::vector<Deliverable>& which,
                                     const std::function<void(Shot&)>& edit) {
        Shot other = shot;
        edit(other);
        for (const Deliverable& item : which) {
            INFO(what << ", " << item.name);
            CHECK(deliveryKey(other, item) != deliveryKey(shot, item));
        }
    };
    deliveryChanges("the rate", {camera, tracks}, [](Shot& s) { s.plate.fps = {25, 1}; });
    deliveryChanges("a name", {camera, tracks}, [&](Shot& s) { s = withTrackRenamed(s, id, "mast"); });
    for (double Lens::*term : {&Lens::k3, &Lens::p1, &Lens::p2, &Lens::squeeze})
        deliveryChanges("a lens term", {camera, maps}, [&](Shot& s) {
            auto other = std::make_shared<Solve>(*s.solve);
            other->lens.*term += 0.01;
            s.solve = other;
        });
}

TEST_CASE("names that are no UTF-8 are read as ISO 8859-1, and nothing that writes throws at one") {
    CHECK(isUtf8("Mole – Süd"));
    CHECK_FALSE(isUtf8("M\xF6le"));
    CHECK_FALSE(isUtf8("\xC0\xAF"));          // overlong (RFC 3629, section 3)
    CHECK_FALSE(isUtf8("\xED\xA0\x80"));      // a surrogate
    CHECK_FALSE(isUtf8("\xF4\x90\x80\x80"));  // above U+10FFFF
    CHECK_FALSE(isUtf8("\xE2\x82"));          // cut off
    CHECK(asUtf8("M\xF6le") == "Möle");
    const auto tracks = parseTracksCsv("track,frame,x,y\nM\xF6le,1,10,20\n", "old.csv");
    REQUIRE(tracks);
    CHECK(tracks->tracks[0].name == "Möle");
    Shot shot = plainShot();
    shot.name = "M\xF6le";
    shot = withTrackAdded(shot, 1, {10, 10});
    shot = withTrackRenamed(shot, 1, "M\xF6le");
    CHECK(parseShot(shotJson(shot, "/made/a.pinion"), "/made/a.pinion"));
    CHECK_NOTHROW(tracksJson({200, 160, {24, 1}, shot.tracks.vector()}));
    const auto refused = Plate::open("/made/M\xF6le.mp4");
    REQUIRE_FALSE(refused);
    CHECK(refused.error().message.find("Möle.mp4: the name is not UTF-8") != std::string::npos);
}

TEST_CASE("tracks come back from CSV and JSON as they were, whatever they are called, with their marks") {
    TrackFile file{200, 160, {24, 1}, {}};
    for (const char* name : {"#1", "two\nlines", "a,b", "say \"so\"", " spaced ", "plain"}) {
        Track track = placed(1, {10.25, 20.5});
        track.name = name;
        track.samples = List<Sample>({{.frame = 1, .at = {10.25, 20.5}, .score = 0.5},
                                      {.frame = 2, .at = {11, 21}, .score = 0.25, .bridged = true},
                                      {.frame = 3, .at = {12, 22}, .score = 1}});
        file.tracks.push_back(track);
    }
    Scratch scratch;
    for (const Origin origin : {Origin::topLeft, Origin::bottomLeft})
        for (const char* name : {"t.csv", "t.json"}) {
            const auto path = scratch / name;
            const bool isCsv = path.extension() == ".csv";
            const std::string text = isCsv ? tracksCsv(file, origin) : tracksJson(file, origin);
            REQUIRE(writeFile(path, text));
            const auto read = readTracks(path);
            INFO(name);
            REQUIRE(read);
            REQUIRE(read->tracks.size() == file.tracks.size());
            for (std::size_t i = 0; i < file.tracks.size(); ++i) {
                CHECK(read->tracks[i].name == file.tracks[i].name);
                REQUIRE(read->tracks[i].samples.size() == 3);
                CHECK(read->tracks[i].samples[0].at == Vector2d(10.25, 20.5));
                CHECK_FALSE(read->tracks[i].samples[0].bridged);
                CHECK(read->tracks[i].samples[1].bridged);
            }
            // Cut off anywhere it is refused.
            int passed = 0;
            for (std::size_t cut = 0; cut < text.size(); ++cut) {
                REQUIRE(writeFile(path, text.substr(0, cut)));
                passed += readTracks(path).has_value();
            }
            // A JSON text without its last line break is whole.
            CHECK(passed == (isCsv ? 0 : 1));
        }
    // From elsewhere: a byte order mark, a comment before the columns, no count.
    const auto foreign = parseTracksCsv("\xEF\xBB\xBFtrack,frame,x,y\n#1,1,2,3\n", "f.csv");
    REQUIRE(foreign);
    CHECK(foreign->tracks[0].name == "#1");
    CHECK(parseTracksCsv("# by hand\ntrack,frame,x,y\na,1,2,3\n", "f.csv"));
    for (const auto& [text, part] : {std::pair{"# version=2\ntrack,frame,x,y\na,1,2,3\n", "version 2"},
                                     {"# origin=middle\ntrack,frame,x,y\na,1,2,3\n", "top-left or bottom-left"}}) {
        const auto read = parseTracksCsv(text, "f.csv");
        REQUIRE_FALSE(read);
        CHECK(read.error().message.find(part) != std::string::npos);
    }
}

TEST_CASE("the USD camera keeps to the schema's types, and an anamorphic lens keeps its angle of view") {
    CameraFile file;
    file.width = 1000;
    file.height = 800;
    file.fps = {24, 1};
    file.lens = pinholeLens(1000, 800, 900);
    file.lens.squeeze = 0.5;  // squeezed by two: half as many pixels across
    file.sensorWidth_mm = 20;
    file.frames.push_back({1, Eigen::Isometry3d::Identity(), 900});
    file.points.push_back({"p", {1, 2, 3}});
    const std::string usd = cameraUsd(file, {.name = "shot", .metres = true, .ground = true});
    // UsdGeom's generated schema (usdGeom/generatedSchema.usda): type and variability of each attribute written.
    for (const char* declared :
         {"token projection", "float2 clippingRange", "float focalLength", "float horizontalAperture",
          "float verticalAperture", "float horizontalApertureOffset", "float verticalApertureOffset",
          "uniform token[] xformOpOrder", "float3[] extent", "point3f[] points", "float[] widths",
          "uniform bool doubleSided", "uniform token subdivisionScheme", "int[] faceVertexCounts",
          "int[] faceVertexIndices"}) {
        INFO(declared);
        CHECK(usd.find(std::string(" ") + declared + " = ") != std::string::npos);
    }
    const auto value = [&](const std::string& name) {
        return std::strtod(usd.c_str() + usd.find(name + " = ") + name.size() + 3, nullptr);
    };
    // Half the width over the horizontal focal length in pixels, half the height over the vertical one.
    CHECK(value("float horizontalAperture") / (2 * value("float focalLength")) == Approx(500 / 450.0));
    CHECK(value("float verticalAperture") / (2 * value("float focalLength")) == Approx(400 / 900.0));
}

TEST_CASE("what is worked out from a list is worked out once a version, and found tracks are those of the version") {
    int made = 0;
    struct Sum {
        int value;
    };
    const List<int> first(std::vector<int>{1, 2, 3});
    const auto sum = [&](const List<int>& list) {
        return list
            .derived<Sum>([&](const std::vector<int>& items) {
                ++made;
                return Sum{std::accumulate(items.begin(), items.end(), 0)};
            })
            .value;
    };
    const List<int> shared = first;
    CHECK((sum(first) == 6 && sum(shared) == 6 && made == 1));
    const List<int> second = first.edited([](auto& items) { items.push_back(4); });
    CHECK((sum(second) == 10 && sum(first) == 6 && made == 2));

    PlateFacts facts;
    facts.path = "/made/up.mp4";
    facts.width = 640;
    facts.height = 360;
    facts.lastFrame = 1100;
    std::vector<TrackId> ids(3);
    Shot shot = shotOf(facts);
    for (TrackId& id : ids) shot = withTrackAdded(shot, 1001, {double(100 + 10 * (&id - ids.data())), 90}, &id);
    REQUIRE(findTrack(shot, ids[1]));
    CHECK(findTrack(shot, ids[1])->id == ids[1]);
    const Shot fewer = withTracksRemoved(shot, {ids[0]});
    CHECK_FALSE(findTrack(fewer, ids[0]));
    CHECK(findTrack(fewer, ids[2])->id == ids[2]);
    CHECK(findTrack(shot, ids[0]));
    CHECK_FALSE(findTrack(shot, 999));
}

TEST_CASE("the count of tracks in each frame is the same as counted one by one, gaps and all") {
    std::mt19937 random(11);
    Shot shot;
    shot.plate.path = "/made/up.mp4";
    shot.plate.frames = {1001, 1200};
    shot.plate.range = {1020, 1180};
    std::vector<Track> tracks;
    std::vector<int> expected(161, 0);
    for (int t = 0; t < 200; ++t) {
        Track track;
        track.id = t + 1;
        track.setAside = t % 17 == 0;
        std::vector<Sample> samples;
        const int first = 1001 + int(random() % 150);
        for (int i = 0; i < int(random() % 80); ++i) {
            if (t % 3 == 0 && random() % 4 == 0) continue;
            Sample sample;
            sample.frame = first + i;
            if (sample.frame > 1200) break;
            samples.push_back(sample);
            if (!track.setAside && sample.frame >= 1020 && sample.frame <= 1180)
                ++expected[std::size_t(sample.frame - 1020)];
        }
        track.samples = std::move(samples);
        tracks.push_back(std::move(track));
    }
    shot.tracks = std::move(tracks);
    CHECK(tracksPerFrame(shot) == expected);
}

TEST_CASE("the part of a pyramid that a lost track keeps is the same picture, level by level") {
    Picture picture;
    picture.width = 203;
    picture.height = 151;
    picture.bytes.resize(std::size_t(203 * 151 * 3));
    std::mt19937 random(5);
    for (auto& byte : picture.bytes) byte = std::uint8_t(random());
    const Pyramid whole = buildPyramid(picture);
    for (const auto& [x, y] : {std::pair{100.0, 70.0}, std::pair{3.0, 2.0}, std::pair{200.5, 149.0}}) {
        const PyramidPart part = partAround(whole, x, y, 37);
        REQUIRE(part.pyramid.levels.size() == whole.levels.size());
        CHECK(part.pyramid.width() <= 2 * 37 + 8);
        for (std::size_t l = 0; l < whole.levels.size(); ++l) {
            const ImageChannel& from = whole.levels[l];
            const ImageChannel& to = part.pyramid.levels[l];
            const int left = int(part.left) >> l, top = int(part.top) >> l;
            REQUIRE((to.width > 0 && to.height > 0 && left + to.width <= from.width && top + to.height <= from.height));
            bool same = true;
            for (int row = 0; row < to.height; ++row)
                same = same && std::equal(to.row(row), to.row(row) + to.width, from.row(top + row) + left);
            CHECK(same);
            CHECK((left << l) <= std::max(0.0, x - 37 + 4));
        }
    }
}
