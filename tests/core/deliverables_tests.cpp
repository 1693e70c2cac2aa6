// The table of what can be handed on: every row keeps what the rest of the program builds on.

#include "base/files.h"
#include "exchange/deliverables.h"
#include "exchange/newshot.h"
#include "jobs/delivering.h"
#include "scratch.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/locatoredits.h"
#include "shot/edits/trackedits.h"
#include "shot/stages/steadystage.h"

#include <catch2/catch.hpp>
#include <set>

using namespace pinion;

namespace {

/// Four tracks over ten frames, a solve, and a locator of each kind.
Shot deliveringShot() {
    PlateFacts facts;
    facts.path = "made.mp4";
    facts.width = 640;
    facts.height = 360;
    facts.firstFrame = 1001;
    facts.lastFrame = 1010;
    Shot shot = shotOf(facts);
    const Eigen::Vector2d corners[] = {{100, 100}, {300, 110}, {310, 260}, {90, 250}};
    for (const auto& corner : corners) {
        TrackId id = 0;
        shot = withTrackAdded(shot, 1001, corner, &id);
        for (int frame = 1002; frame <= 1010; ++frame)
            shot = withTrackMoved(shot, id, frame, corner + Eigen::Vector2d(2.0 * (frame - 1001), frame - 1001));
    }
    shot = withLocatorAdded(shot, {1, 2}, 1001, MotionKind::similarity);
    shot = withLocatorAdded(shot, {1, 2, 3, 4}, 1001, MotionKind::cornerPin);
    Solve solve;
    solve.lens = pinholeLens(640, 360, 500);
    solve.lens.k1 = -0.05;
    std::vector<SolvedFrame> frames;
    for (int frame = 1001; frame <= 1010; ++frame) {
        SolvedFrame solved;
        solved.frame = frame;
        solved.focal_px = 500;
        solved.worldFromCamera.translation().x() = 0.1 * (frame - 1001);
        frames.push_back(solved);
    }
    solve.frames = std::move(frames);
    std::vector<SolvedTrack> tracks;
    for (const Track& track : shot.tracks) {
        SolvedTrack solved;
        solved.track = track.id;
        solved.xyz = Eigen::Vector3d(double(track.id), 1, -5);
        tracks.push_back(solved);
    }
    solve.tracks = std::move(tracks);
    return withSolve(shot, solve, shot);
}

}  // namespace

TEST_CASE("every kind of deliverable has one row, which writes it in its formats and knows what it depends on") {
    CHECK(deliverableRows().size() == kDeliverableKinds.size());
    std::set<DeliverableKind> kinds;
    for (const DeliverableRow& row : deliverableRows()) {
        INFO(row.what);
        CHECK(kinds.insert(row.kind).second);
        CHECK(&deliverableRow(row.kind) == &row);
        CHECK_FALSE(row.formats.empty());
        CHECK((row.text || row.write));
        CHECK(row.addKey);
        for (const UsualDeliverable& usual : row.usual)
            CHECK(std::find(row.formats.begin(), row.formats.end(), usual.format) != row.formats.end());
    }
}

TEST_CASE("what a full shot lists is delivered, read back, and fresh until what it depends on changes") {
    const test::Scratch scratch;
    Shot shot = deliveringShot();
    REQUIRE(shot.deliverables.size() == 10);
    const List<Deliverable> listed = shot.deliverables;
    for (const Deliverable& item : listed) {
        INFO(item.name);
        const auto report = deliver(shot, item, scratch / "out");
        REQUIRE(report);
        for (const auto& file : report->files) CHECK(std::filesystem::file_size(file) > 20);
        shot = withDelivered(shot, item.name, shot);
    }
    CHECK(deliveryReport(shot).state == StageState::done);
    // Beside them lies what each is: of those that are there.
    const auto note = writeDeliveryNote(shot, scratch / "out");
    REQUIRE(note);
    const std::string about = *readFile(*note);
    for (const Deliverable& item : listed) {
        INFO(item.place);
        CHECK(about.find("\n" + item.place + "\n    " + item.name + ": ") != std::string::npos);
    }
    CHECK(about.find(fmt::format("{} x {}", shot.plate.width, shot.plate.height)) != std::string::npos);
    CHECK(about.find("in a unit of its own") != std::string::npos);
    std::filesystem::remove(scratch / "out" / listed.front().place);
    CHECK(readFile(*writeDeliveryNote(shot, scratch / "out"))->find("\n" + listed.front().place + "\n") ==
          std::string::npos);
    CHECK(writeDeliveryNote(shot, scratch / "nothing")->empty());
    const auto staleAfter = [&](const Shot& changed) {
        std::set<std::string> stale;
        for (const Deliverable& item : changed.deliverables)
            if (item.writtenKey != deliveryKey(changed, item)) stale.insert(kDeliverableKinds[std::size_t(item.kind)]);
        return stale;
    };
    using Kinds = std::set<std::string>;
    CHECK(staleAfter(shot).empty());
    Shot lens = shot;
    auto bent = std::make_shared<Solve>(*shot.solve);
    bent->lens.k1 = -0.06;
    lens.solve = bent;
    CHECK(staleAfter(lens) == Kinds{"camera", "lens", "st maps"});
    CHECK(staleAfter(withTrackMoved(shot, 1, 1003, {200, 200})) == Kinds{"tracks", "transforms", "corner pin"});
    // What changed while it was written is not what was written.
    const auto tracks = std::find_if(shot.deliverables.begin(), shot.deliverables.end(),
                                     [](const Deliverable& d) { return d.kind == DeliverableKind::tracks; });
    CHECK(staleAfter(withDelivered(withTrackMoved(shot, 1, 1003, {200, 200}), tracks->name, shot)).contains("tracks"));
    CHECK(staleAfter(withTrackRenamed(shot, 4, "bollard")) == Kinds{"camera", "tracks"});
    Shot world = shot;
    world.world.origin = 2;
    CHECK(staleAfter(world) == Kinds{"camera"});
    Shot rate = shot;
    rate.plate.fps = {25, 1};
    CHECK(staleAfter(rate) == Kinds{"camera", "tracks", "transforms", "corner pin"});
}

TEST_CASE("a format that a kind is not written in is refused with those it is, and pictures are no text") {
    const Shot shot = deliveringShot();
    Deliverable wrong{"camera", DeliverableKind::camera, DeliverableFormat::csv, "camera.csv"};
    auto text = deliverableText(shot, wrong);
    REQUIRE_FALSE(text);
    CHECK(text.error().message == "deliverable camera: a camera is written as usda or json");
    Deliverable maps{"maps", DeliverableKind::stMaps, DeliverableFormat::exr, "maps"};
    text = deliverableText(shot, maps);
    REQUIRE_FALSE(text);
    CHECK(text.error().message == "deliverable maps: is a picture, not text");
    Shot gone = shot;
    gone.locators = List<Locator>();
    const auto lost = deliverableText(gone, gone.deliverables.back());
    REQUIRE_FALSE(lost);
    CHECK(lost.error().message.find("is gone") != std::string::npos);
}
