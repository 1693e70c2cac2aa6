// What results are made from: whatever of a shot changes a result changes its key, though nobody named it here.

#include "exchange/deliverables.h"
#include "exchange/newshot.h"
#include "exchange/shotfiles.h"
#include "lens/stmap.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/locatoredits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/planeedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/layers/layers.h"
#include "shot/stages/camerastage.h"
#include "shot/stages/mattesstage.h"
#include "shot/stages/steadystage.h"

#include <Eigen/Geometry>
#include <catch2/catch.hpp>
#include <nlohmann/json.hpp>

using namespace pinion;
using nlohmann::json;

namespace {

constexpr int kFirst = 1001, kLast = 1004;

/// Four tracks, a plane with a surface, locators on both, shapes and inserts on all of them, a solved camera.
Shot wovenShot() {
    PlateFacts facts;
    facts.path = "made.mp4";
    facts.width = 160;
    facts.height = 90;
    facts.firstFrame = kFirst;
    facts.lastFrame = kLast;
    Shot shot = shotOf(facts);
    const Eigen::Vector2d corners[] = {{30, 20}, {120, 22}, {118, 70}, {28, 66}};
    for (const auto& corner : corners) {
        TrackId id = 0;
        shot = withTrackAdded(shot, kFirst, corner, &id);
        for (int frame = kFirst + 1; frame <= kLast; ++frame)
            shot = withTrackMoved(shot, id, frame, corner + Eigen::Vector2d(2.0 * (frame - kFirst), frame - kFirst));
    }
    PlaneId plane = 0;
    shot = withPlaneAdded(shot, {{20, 20}, {60, 20}, {60, 50}, {20, 50}}, kFirst, &plane);
    shot = withPlaneEdited(shot, plane, [](PlanarTrack& one) {
        std::vector<PlaneSample> samples;
        for (int frame = kFirst; frame <= kLast; ++frame) {
            PlaneSample sample{.frame = frame};
            sample.pose.matrix(0, 2) = 3.0 * (frame - kFirst);
            samples.push_back(sample);
        }
        one.samples = samples;
        one.ties = std::vector<PlaneTie>{{kFirst, {Eigen::Vector2d(22, 22), {58, 22}, {58, 48}, {22, 48}}}};
    });
    shot = withLocatorAdded(shot, {1, 2}, kFirst, MotionKind::similarity);
    shot = withLocatorAdded(shot, {1, 2, 3, 4}, kFirst, MotionKind::cornerPin);
    shot = withPlaneHandedOn(shot, plane, kFirst);
    Solve solve;
    solve.motion = CameraMotion::nodal;
    solve.lens = pinholeLens(160, 90, 150);
    solve.lens.k1 = -0.05;
    std::vector<SolvedFrame> frames;
    for (int frame = kFirst; frame <= kLast; ++frame) {
        SolvedFrame solved;
        solved.frame = frame;
        solved.focal_px = 150;
        // A camera that only turns.
        solved.worldFromCamera.linear() =
            Eigen::AngleAxisd(0.01 * (frame - kFirst), Eigen::Vector3d::UnitY()).toRotationMatrix();
        frames.push_back(solved);
    }
    solve.frames = std::move(frames);
    std::vector<SolvedTrack> tracks;
    for (const Track& track : shot.tracks) {
        SolvedTrack solved;
        solved.track = track.id;
        solved.role = TrackRole::used;
        if (track.id < 3) solved.xyz = Eigen::Vector3d(double(track.id), 1, -5);
        else solved.direction = Eigen::Vector3d(0.1 * double(track.id), 0, -1).normalized();
        tracks.push_back(solved);
    }
    solve.tracks = std::move(tracks);
    shot = withSolve(shot, solve, shot);
    const auto matte = [&](const char* name, const Eigen::Vector2d& at, const std::optional<Ride>& ride) {
        Matte one;
        one.name = name;
        one.keys = {{kFirst, {at, at + Eigen::Vector2d(20, 0), at + Eigen::Vector2d(20, 20)}}};
        one.ride = ride;
        shot = withMatteAdded(shot, one);
    };
    matte("mast", {10, 10}, rideOnPlane(plane, kFirst));
    matte("crane", {60, 30}, rideOnLocator(1, kFirst));
    matte("van", {100, 50}, rideOnTracks({1, 2, 3}, kFirst));
    const auto insert = [&](const std::optional<Ride>& ride, std::array<double, 3> colour) {
        Insert one;
        one.shows = Insert::Shows::colour;
        one.colour = colour;
        one.ride = ride;
        one.heldOut = std::vector<MatteId>{1};
        shot = withInsertAdded(shot, one, kFirst);
    };
    insert(rideOnPlane(plane, kFirst), {1, 0, 0});
    insert(rideOnTracks({1, 2, 3, 4}, kFirst), {0, 0.5, 0});
    insert(rideOnLocator(2, kFirst), {0, 0, 0.25});
    shot.steady.steady = true;
    shot.steady.on = rideOnLocator(3);
    shot.deliverables = shot.deliverables.edited([](auto& all) {
        all.push_back(
            {.name = "shapes", .kind = DeliverableKind::mattes, .format = DeliverableFormat::json, .place = "m.json"});
    });
    return shot;
}

/// A result, whatever it is, as text; and the key by which it is known.
struct Result {
    std::string name, made;
    std::uint64_t key;
};

std::vector<Result> resultsOf(const Shot& shot) {
    std::vector<Result> results;
    for (const Deliverable& item : shot.deliverables) {
        std::string made;
        if (item.kind == DeliverableKind::stMaps) {
            if (const auto lens = lensFileOf(shot))
                for (const float value : undistortMap(*lens).st) made += fmt::format("{} ", value);
        } else if (const auto text = deliverableText(shot, item)) {
            made = *text;
        }
        results.push_back({item.name, made, deliveryKey(shot, item)});
    }
    std::string frames;
    if (const auto plan = picturePlan(shot))
        for (const FrameMap& map : plan->frames)
            for (int i = 0; i < 9; ++i) frames += fmt::format("{} ", map.sourceFromOutput(i / 3, i % 3));
    results.push_back({"steadied picture", frames, steadyKey(shot)});
    Picture plate{160, 90, Picture::Depth::bits8, false, {}, {}};
    plate.bytes.assign(3 * 160 * 90, 120);
    ArtShelf shelf;
    std::string pixels;
    for (const int frame : {kFirst, kFirst + 2})
        for (const std::uint8_t byte : composed(insertSceneOf(shot), frame, plate, shelf).bytes)
            pixels.push_back(char(byte));
    Fingerprint inserts, mattes;
    addInserts(inserts, shot);
    results.push_back({"inserts", pixels, inserts.value()});
    std::string covered;
    for (const Matte& matte : mattesOf(shot))
        for (const Matte::Key& key : matte.keys)
            for (const Eigen::Vector2d& p : key.polygon) covered += fmt::format("{} {} ", p.x(), p.y());
    addMattes(mattes, shot);
    results.push_back({"mattes", covered, mattes.value()});
    return results;
}

/// The places of all numbers, words and flags of a document.
void leavesOf(const json& value, const json::json_pointer& place, std::vector<json::json_pointer>& leaves) {
    if (value.is_object())
        for (const auto& [name, member] : value.items()) leavesOf(member, place / name, leaves);
    else if (value.is_array())
        for (std::size_t i = 0; i < value.size(); ++i) leavesOf(value[i], place / i, leaves);
    else leaves.push_back(place);
}

std::vector<json> othersThan(const json& value) {
    if (value.is_boolean()) return {!value.get<bool>()};
    if (value.is_number_integer()) return {value.get<std::int64_t>() + 1, value.get<std::int64_t>() - 1};
    if (value.is_number()) return {value.get<double>() + 0.0625, value.get<double>() * 0.75};
    return {value.get<std::string>() + "x"};
}

}  // namespace

TEST_CASE("whatever in a shot's file changes a result changes its key too, leaf by leaf") {
    const Shot shot = wovenShot();
    const json document = json::parse(shotJson(shot, "/a.pinion"));
    const auto before = resultsOf(shot);
    REQUIRE(before.size() > 12);
    for (const Result& one : before) {
        INFO(one.name);
        CHECK(one.made.size() > 10);
    }
    std::vector<json::json_pointer> leaves;
    leavesOf(document, json::json_pointer(), leaves);
    REQUIRE(leaves.size() > 300);
    std::map<std::string, int> changed;
    int read = 0;
    for (const auto& leaf : leaves) {
        for (const json& other : othersThan(document[leaf])) {
            json edited = document;
            edited[leaf] = other;
            const auto shotThen = parseShot(edited.dump(), "/a.pinion");
            if (!shotThen || shotThen->plate.range.count() > 50) continue;
            ++read;
            const auto after = resultsOf(*shotThen);
            if (after.size() != before.size()) continue;
            for (std::size_t i = 0; i < before.size(); ++i) {
                if (after[i].made == before[i].made) continue;
                ++changed[before[i].name];
                INFO(before[i].name << " after " << leaf.to_string() << " = " << other.dump());
                CHECK(after[i].key != before[i].key);
            }
        }
    }
    // Each result was changed by many of them, else this proves nothing.
    CHECK(read > 300);
    for (const Result& one : before) {
        INFO(one.name);
        CHECK(changed[one.name] > 3);
    }
}

TEST_CASE("a solve of earlier days stays fresh: its key is the sum that it always was") {
    Shot shot = wovenShot();
    SolveSettings& s = shot.solveSettings;
    for (const bool told : {false, true}) {
        if (told) {
            s.focal = Knowledge::guessed;
            s.axis = SolveSettings::Axis::free;
            s.motion = CameraMotion::nodal;
            s.zoom = false;
            s.squeeze = 0.5;
            s.basePair = {kFirst, kLast};
            s.distances = std::vector<KnownDistance>{{1, 2, 3.5, 0.25}};
        }
        // Written out as it stood before there was a table of settings.
        Fingerprint print;
        addTracks(print, shot.tracks, AsideTracks::leftOut);
        print.add(s.sensorWidth_mm).add(int(s.focal)).add(int(s.distortion)).add(kFirst).add(kLast);
        if (told) {
            print.add(s.focal_mm).add(s.focalSigma_mm).add(kFirst).add(kLast);
            print.add(101).add(2).add(102).add(1).add(107).add(104).add(0.5);
            print.add(105).add(1.0).add(2.0).add(3.5).add(0.25);
        }
        CHECK(solveKey(shot) == print.value());
    }
}

TEST_CASE("a shot of earlier days, in which things are tied by their names, is read and tied by ids") {
    const Shot shot = wovenShot();
    json old = json::parse(shotJson(shot, "/a.pinion"));
    const std::string plane = shot.planes[0].name;
    for (const char* next : {"next_matte", "next_locator"}) old.erase(next);
    for (json& matte : old["mattes"]) matte.erase("id");
    old["mattes"][0]["ride"] = {{"plane", plane}, {"reference_frame", kFirst}};
    old["mattes"][1]["ride"] = {{"locator", shot.locators[0].name}, {"reference_frame", kFirst}};
    old["mattes"][2]["ride"] = {{"tracks", {"p-1", "p-2", "p-3"}}, {"reference_frame", kFirst}};
    for (json& insert : old["inserts"]) insert["held_out"] = {"mast"};
    old["inserts"][0]["ride"] = {{"plane", plane}, {"reference_frame", kFirst}};
    old["inserts"][1]["ride"] = {{"tracks", {"p-1", "p-2", "p-3", "p-4"}}, {"reference_frame", kFirst}};
    old["inserts"][2]["ride"] = {{"locator", shot.locators[1].name}, {"reference_frame", kFirst}};
    old["locators"] = json::array();
    const char* kinds[] = {"similarity", "corner pin", "corner pin"};
    for (std::size_t i = 0; i < 3; ++i)
        old["locators"].push_back({{"name", shot.locators[i].name},
                                   {"tracks", i == 2 ? std::vector<std::int64_t>{} : shot.locators[i].on.ids},
                                   {"reference_frame", kFirst},
                                   {"kind", kinds[i]}});
    old["locators"][2]["plane"] = plane;
    for (json& item : old["deliverables"])
        if (item.contains("locator")) item["locator"] = shot.locators[item["locator"].get<std::size_t>() - 1].name;
    old["steady"].erase("on");
    old["steady"]["source"] = "plane";
    old["steady"]["plane"] = plane;
    const auto read = parseShot(old.dump(), "/a.pinion");
    INFO((read ? std::string() : read.error().message));
    REQUIRE(read);
    Shot expected = shot;
    expected.steady.on = rideOnPlane(shot.planes[0].id);
    CHECK(shotJson(*read, "/a.pinion") == shotJson(expected, "/a.pinion"));
    // What is not there any more is nothing else, and the rest is read.
    old["inserts"][0]["ride"]["plane"] = "lost";
    old["inserts"][0]["held_out"] = {"nobody"};
    const auto lost = parseShot(old.dump(), "/a.pinion");
    REQUIRE(lost);
    CHECK(carrierOf(*lost, *lost->inserts[0].ride)->problem() == "rides on the plane lost, and there is no such plane");
    CHECK(insertSceneOf(*lost).notes.size() >= 2);
    // And stays so.
    const auto again = parseShot(shotJson(*lost, "/a.pinion"), "/a.pinion");
    REQUIRE(again);
    CHECK(shotJson(*again, "/a.pinion") == shotJson(*lost, "/a.pinion"));
}
