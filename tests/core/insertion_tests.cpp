// Inserts of a shot: where they lie, which frame of a clip is shown when, how they are edited, composed and rendered.

#include "base/files.h"
#include "comp/composing.h"
#include "jobs/inserting.h"
#include "made.h"
#include "matte/coverage.h"
#include "plate/framewriter.h"
#include "scratch.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/sceneedits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/planeedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"
#include "shot/stages/insertsstage.h"
#include "riders.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>
#include <nlohmann/json.hpp>
#include <numbers>
#include <random>

using namespace pinion;
using Eigen::Vector2d;

namespace {

constexpr int kWidth = 160, kHeight = 120, kFrames = 12;

/// A plane of 40 x 30 pixels that moves by (3, 1) a frame and grows by a hundredth; its surface is its outline.
Quad surfaceOn(int frame) {
    const double s = 1 + 0.01 * (frame - 1), x = 40 + 3 * (frame - 1), y = 30 + (frame - 1);
    return {Vector2d(x, y), {x + 40 * s, y}, {x + 40 * s, y + 30 * s}, {x, y + 30 * s}};
}

PlanarTrack movingCarrier(int last = kFrames) {
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "board";
    plane.referenceFrame = 1;
    const Quad first = surfaceOn(1);
    plane.outlines = std::vector<Polygon>{{first.begin(), first.end()}};
    std::vector<PlaneSample> samples;
    for (int frame = 1; frame <= last; ++frame) {
        PlaneSample sample{.frame = frame};
        sample.pose.matrix = *quadFromQuad(surfaceOn(frame), first);
        samples.push_back(sample);
    }
    plane.samples = samples;
    plane.ties = std::vector<PlaneTie>{{1, first}};
    return plane;
}

Track movingTrack(const std::string& name, const Vector2d& from, const Vector2d& by, int last = kFrames) {
    Track track = test::placed(1, from);
    track.name = name;
    std::vector<Sample> samples;
    for (int frame = 1; frame <= last; ++frame) samples.push_back({.frame = frame, .at = from + (frame - 1) * by});
    track.samples = samples;
    return track;
}

Shot emptyShot() {
    Shot shot;
    shot.name = "quay";
    shot.plate.path = "/made/up/plate.####.png";
    shot.plate.width = kWidth;
    shot.plate.height = kHeight;
    shot.plate.fps = {24, 1};
    shot.plate.frames = shot.plate.range = {1, kFrames};
    shot.planes = std::vector<PlanarTrack>{movingCarrier()};
    shot.nextPlane = 2;
    return shot;
}

Picture grey(int width, int height, std::uint8_t value) {
    Picture picture{width, height, Picture::Depth::bits8, false, {}, {}};
    picture.bytes.assign(3 * std::size_t(width) * std::size_t(height), value);
    return picture;
}

/// Frames of a clip, each of one grey: ten times its number.
Clip writeClip(const test::Scratch& scratch, const std::string& name, int first, int last, int width = 40,
               int height = 30) {
    auto writer = FrameWriter::create(scratch / (name + ".####.png"), width, height, {24, 1});
    REQUIRE(writer);
    for (int frame = first; frame <= last; ++frame)
        REQUIRE((*writer)->write(frame, grey(width, height, std::uint8_t(10 * frame))));
    auto clip = clipOf(scratch / (name + ".####.png"));
    REQUIRE(clip);
    return *clip;
}

class GreyPlate final : public Plate {
public:
    GreyPlate() {
        facts_.width = kWidth;
        facts_.height = kHeight;
        facts_.fps = {24, 1};
        facts_.firstFrame = 1;
        facts_.lastFrame = kFrames;
        facts_.path = "made";
    }
    Expected<PicturePtr> read(int) const override {
        return std::make_shared<const Picture>(grey(kWidth, kHeight, 200));
    }
};

Ride onPlane(PlaneId plane = 1) { return rideOnPlane(plane, 1); }

/// A shot with a clip of six frames on the plane.
Shot shotWithClip(const test::Scratch& scratch, InsertId* id = nullptr) {
    Insert insert;
    Shot shot = withClipAdded(emptyShot(), writeClip(scratch, "lamp", 1, 6), &insert.clip);
    insert.ride = onPlane();
    return withInsertAdded(shot, insert, 4, id);
}

int valueAt(const Picture& picture, double x, double y) {
    return picture.bytes[3 * (std::size_t(y) * std::size_t(picture.width) + std::size_t(x))];
}

Vector2d middleOf(const Quad& quad) { return 0.25 * (quad[0] + quad[1] + quad[2] + quad[3]); }

}  // namespace

// ---- time

TEST_CASE("a clip's frame follows from its start, its used part, its rate and what comes after") {
    Clip clip;
    clip.frames = {11, 20};
    clip.fps = {12, 1};
    ClipTime time;
    time.start = 100;
    const FrameRate plate{24, 1};
    const auto at = [&](int frame) { return clipFrameAt(time, clip, frame, plate).value_or(-1); };
    CHECK(at(99) == -1);
    CHECK(at(100) == 11);
    CHECK(at(109) == 20);
    CHECK(at(150) == 20);
    time.after = ClipTime::After::end;
    CHECK(at(110) == -1);
    time.after = ClipTime::After::loop;
    CHECK(at(110) == 11);
    CHECK(at(99) == 20);
    CHECK(at(73) == 14);
    time.in = 13;
    time.out = 15;
    CHECK(at(100) == 13);
    CHECK(at(103) == 13);
    CHECK(at(99) == 15);
    time.after = ClipTime::After::hold;
    // Half as fast: each of its frames for two of the plate's.
    time.ownRate = true;
    CHECK(at(101) == 13);
    CHECK(at(102) == 14);
    CHECK(at(105) == 15);
    CHECK(shownFrames(time, clip, plate) == 6);
    clip.still = true;
    CHECK(at(-500) == 11);
}

TEST_CASE("opacity goes evenly between its keys, and a blink takes it away whole") {
    Insert insert;
    insert.look.opacity = 0.4;
    CHECK(opacityAt(insert, 7) == 0.4);
    insert.opacityKeys = std::vector<OpacityKey>{{5, 0.2}, {9, 1.0}};
    CHECK(opacityAt(insert, 1) == 0.2);
    CHECK(opacityAt(insert, 7) == Approx(0.6));
    CHECK(opacityAt(insert, 50) == 1.0);
    insert.turns = std::vector<Matte::Turn>{{7, false}, {8, true}};
    CHECK(opacityAt(insert, 6) == Approx(0.4));
    CHECK(opacityAt(insert, 7) == 0);
    CHECK(opacityAt(insert, 8) == Approx(0.8));
    insert.frames = FrameRange{6, 20};
    CHECK(opacityAt(insert, 5) == 0);
    CHECK(opacityAt(insert, 20) == 1.0);
    CHECK(opacityAt(insert, 21) == 0);
}

// ---- place

TEST_CASE("art is fitted inside, over, or to the corners, and turned as it is seen") {
    // Art twice as wide as high in a carrier four thirds as wide as high.
    const Placing inside = fitted(Fitting::inside, 2, 4.0 / 3), over = fitted(Fitting::covering, 2, 4.0 / 3);
    CHECK(inside.scale.x() == 1);
    CHECK(inside.scale.y() == Approx(2.0 / 3));
    CHECK(over.scale.x() == Approx(1.5));
    CHECK(over.scale.y() == 1);
    CHECK(fitted(Fitting::corners, 2, 4.0 / 3) == Placing{});
    // Turned by a quarter its shape stays what it is, in pixels.
    Placing placing = inside;
    placing.turn_deg = 90;
    const Quad quad = placedInside(placing, 4.0 / 3);
    const auto length = [&](std::size_t a, std::size_t b) {
        const Vector2d side = quad[b] - quad[a];
        return std::hypot(side.x() * 4 / 3, side.y());
    };
    CHECK(length(0, 1) / length(1, 2) == Approx(2));
    // Clockwise: its upper left corner is at the upper right.
    CHECK(quad[0].x() > 0.5);
    CHECK(quad[0].y() < 0.5);
    placing.trims[2] = {0.25, -0.125};
    CHECK((placedInside(placing, 4.0 / 3)[2] - quad[2] - Vector2d(0.25, -0.125)).norm() < 1e-12);
}

TEST_CASE("an insert rides on a plane's surface, one, two and four tracks, a locator, the frame") {
    Shot shot = emptyShot();
    shot.tracks = std::vector<Track>{movingTrack("a", {30, 20}, {2, 1}), movingTrack("b", {90, 20}, {2, 1}),
                                     movingTrack("c", {90, 60}, {2, 1}), movingTrack("d", {30, 60}, {2, 1})};
    for (std::size_t i = 0; i < 4; ++i)
        shot.tracks = shot.tracks.edited([&](auto& tracks) { tracks[i].id = TrackId(i + 1); });
    shot.locators = std::vector<Locator>{{1, "sign", Ride{"tracks", {1, 2}, 1, MotionKind::similarity}}};
    const auto cornersOf = [&](const std::optional<Ride>& ride, int frame) {
        Insert insert;
        insert.shows = Insert::Shows::test;
        insert.ride = ride;
        InsertId id = 0;
        const Shot with = withInsertAdded(shot, insert, 3, &id);
        const Insert& added = *findInsert(with, id);
        return *surfaceOf(shot, added).corners(added.placing, frame);
    };
    for (const int frame : {1, 5, 12}) {
        const Quad quad = cornersOf(onPlane(), frame), truth = surfaceOn(frame);
        for (std::size_t i = 0; i < 4; ++i) CHECK((quad[i] - truth[i]).norm() < 1e-6);
    }
    const Quad pinned = cornersOf(rideOnTracks({3, 1, 4, 2}), 6);  // in any order
    CHECK((pinned[0] - Vector2d(40, 25)).norm() < 1e-6);
    CHECK((pinned[2] - Vector2d(100, 65)).norm() < 1e-6);
    for (const std::vector<TrackId>& ids : {std::vector<TrackId>{1}, {1, 2}}) {
        const Quad early = cornersOf(rideOnTracks(ids), 3), later = cornersOf(rideOnTracks(ids), 8);
        for (std::size_t i = 0; i < 4; ++i) CHECK((later[i] - early[i] - Vector2d(10, 5)).norm() < 1e-6);
        if (ids.size() == 1) CHECK((middleOf(early) - Vector2d(34, 22)).norm() < 1e-6);
    }
    const Ride locator = rideOnLocator(1);
    CHECK((middleOf(cornersOf(locator, 8)) - middleOf(cornersOf(locator, 3)) - Vector2d(10, 5)).norm() < 1e-6);
    CHECK((cornersOf(std::nullopt, 9)[2] - Vector2d(kWidth, kHeight)).norm() < 1e-9);
    // What is gone is said, and it is nowhere.
    Insert lost;
    lost.ride = rideOnTracks({77});
    const InsertSurface carrier = surfaceOf(shot, lost);
    CHECK(carrier.problem() == "rides on a track that is gone");
    CHECK_FALSE(carrier.at(5));
    CHECK_FALSE(carrier.at(5, true));
}

TEST_CASE("places of a sheet seen through a lens are found again, and its pieces keep to it as closely as asked") {
    std::mt19937 random(33);
    std::uniform_real_distribution<double> unit(0, 1);
    const auto between = [&](double low, double high) { return low + (high - low) * unit(random); };
    for (int i = 0; i < 24; ++i) {
        Lens lens = pinholeLens(640, 480, between(400, 900));
        lens.k1 = between(-0.12, 0.12);
        lens.p1 = between(-0.004, 0.004);
        REQUIRE(checkLens(lens));
        const Quad corners{Vector2d(between(20, 200), between(20, 150)),
                           {between(440, 620), between(20, 150)},
                           {between(440, 620), between(330, 460)},
                           {between(20, 200), between(330, 460)}};
        const auto sheet = SurfaceSheet::of(corners, std::make_shared<const Lens>(lens));
        REQUIRE(sheet);
        CHECK_FALSE(sheet->isFlat());
        CHECK_FALSE(sheet->isCurved());
        CHECK((sheet->onPlate({1, 0}) - corners[1]).norm() < 1e-6);
        INFO("case " << i << ", k1 " << lens.k1);
        for (int k = 0; k < 20; ++k) {
            const Vector2d place(unit(random), unit(random));
            const auto again = sheet->onSheet(sheet->onPlate(place));
            REQUIRE(again);
            CHECK((*again - place).norm() < 1e-6);
        }
        std::size_t before = 0;
        for (const double asked : {kScreenBend_px, kRenderBend_px}) {
            const auto pieces = piecesOf(*sheet, asked);
            CHECK(pieces.size() >= before);
            before = pieces.size();
            double worst = 0;
            for (const ArtPiece& piece : pieces) {
                const auto flat = quadFromQuad(piece.corners, {Vector2d(piece.left, piece.top),
                                                               {piece.right, piece.top},
                                                               {piece.right, piece.bottom},
                                                               {piece.left, piece.bottom}});
                REQUIRE(flat);
                for (int k = 0; k < 4; ++k) {
                    const Vector2d place(between(piece.left, piece.right), between(piece.top, piece.bottom));
                    const Vector2d made = (*flat * place.homogeneous()).hnormalized();
                    worst = std::max(worst, (made - sheet->onPlate(place)).norm());
                }
            }
            CHECK(worst < 4 * asked);
        }
    }
    // Without a lens it is one piece.
    const auto flat = SurfaceSheet::of({Vector2d(10, 10), {90, 12}, {88, 70}, {8, 66}}, nullptr);
    REQUIRE(flat);
    CHECK(flat->isFlat());
    CHECK(piecesOf(*flat).size() == 1);
    CHECK_FALSE(SurfaceSheet::of({Vector2d(10, 10), {20, 20}, {30, 30}, {40, 40}}, nullptr));
}

TEST_CASE("corners by themselves carry art in their own shape") {
    const InsertSurface carrier({{1, {Vector2d(10, 10), {90, 10}, {90, 50}, {10, 50}}}});
    CHECK(carrier.widthToHeight() == Approx(2));
    // Turned by a quarter inside, what is as wide as half of it is upright and as high.
    Placing placing;
    placing.scale = {0.5, 0.5};
    placing.turn_deg = 90;
    const auto corners = carrier.corners(placing, 1);
    REQUIRE(corners);
    CHECK(((*corners)[1] - (*corners)[0]).norm() == Approx(40));
    CHECK(((*corners)[1] - (*corners)[0]).x() == Approx(0).margin(1e-9));
}

namespace {

/// Puts tracks that start at the corners into the shot, and a test picture on them.
Insert onFourTracks(Shot& shot, const Quad& corners, const Vector2d& pace) {
    std::vector<Track> tracks;
    for (std::size_t i = 0; i < 4; ++i) {
        tracks.push_back(movingTrack(std::string(1, char('a' + i)), corners[i], pace));
        tracks.back().id = TrackId(i + 1);
    }
    shot.tracks = tracks;
    Insert insert;
    insert.shows = Insert::Shows::test;
    insert.ride = rideOnTracks({1, 2, 3, 4}, 1);
    insert.carrier = corners;
    return insert;
}

}  // namespace

TEST_CASE("on four tracks art is bent by the lens in force, a patch and what rides on two are not") {
    Shot shot = emptyShot();
    Lens lens = pinholeLens(kWidth, kHeight, 120);
    lens.k1 = -0.15;
    shot.lens.source = LensCard::Source::typed;
    shot.lens.lens = lens;
    const Quad corners{Vector2d(20, 15), {140, 15}, {140, 105}, {20, 105}};
    const Insert insert = onFourTracks(shot, corners, {0.5, 0});
    const auto middleOfTop = [&](const Insert& one) {
        const Polygon outline = surfaceOf(shot, one).outline({}, 1);
        return outline.size() == 4 ? Vector2d(0.5 * (outline[0] + outline[1])) : outline[outline.size() / 8];
    };
    // The straight side between the undistorted corners, bent.
    const Vector2d a = *undistortedFromPlate(lens, corners[0]), b = *undistortedFromPlate(lens, corners[1]);
    const Vector2d bent = *plateFromUndistorted(lens, 0.5 * (a + b));
    CHECK(bent.y() < 13.5);
    CHECK((middleOfTop(insert) - bent).norm() < 0.01);
    Insert patch = insert;
    patch.wholeFrame = true;
    CHECK(middleOfTop(patch).y() == Approx(15));
    Insert two = insert;
    two.ride->ids = {1, 2};
    CHECK(middleOfTop(two).y() == Approx(15));
    // Through a locator on the four it is the same surface.
    shot.locators = std::vector<Locator>{{1, "sign", rideOnTracks({1, 2, 3, 4}, 1)}};
    Insert hung = insert;
    hung.ride = rideOnLocator(1, 1);
    CHECK((middleOfTop(hung) - bent).norm() < 0.01);
    // A lens that bends nothing leaves it straight.
    shot.lens.lens = pinholeLens(kWidth, kHeight, 120);
    CHECK(middleOfTop(insert).y() == Approx(15));
    CHECK(middleOfTop(hung).y() == Approx(15));
}

TEST_CASE("on four tracks of a shot that zooms art is bent by the lens of each frame") {
    Shot shot = emptyShot();
    auto solve = std::make_shared<Solve>();
    solve->zoom = true;
    solve->lens = pinholeLens(kWidth, kHeight, 120);
    solve->lens.k1 = -0.15;
    solve->k1Slope = 0.1;
    std::vector<SolvedFrame> frames;
    for (int frame = 1; frame <= kFrames; ++frame) {
        SolvedFrame solved;
        solved.frame = frame;
        solved.focal_px = 120 + 15 * (frame - 1);
        frames.push_back(solved);
    }
    solve->frames = frames;
    shot.solve = solve;
    const Quad corners{Vector2d(20, 15), {140, 15}, {140, 105}, {20, 105}};
    const Insert insert = onFourTracks(shot, corners, {0, 0});
    const InsertSurface surface = surfaceOf(shot, insert);
    std::vector<double> heights;
    for (const int frame : {1, 6, 12}) {
        const Lens lens = lensOf(*solve, solve->frames[std::size_t(frame - 1)]);
        const Vector2d a = *undistortedFromPlate(lens, corners[0]), b = *undistortedFromPlate(lens, corners[1]);
        const Vector2d bent = *plateFromUndistorted(lens, 0.5 * (a + b));
        const Polygon outline = surface.outline({}, frame);
        REQUIRE(outline.size() > 4);
        INFO("frame " << frame);
        CHECK((outline[outline.size() / 8] - bent).norm() < 0.01);
        heights.push_back(bent.y());
    }
    // The longer the lens, the straighter.
    CHECK(heights[2] - heights[0] > 0.5);
}

TEST_CASE("where its track has ended an insert ends, stays or fades, as was chosen") {
    const test::Scratch scratch;
    Shot shot = emptyShot();
    shot.planes = std::vector<PlanarTrack>{movingCarrier(6)};
    Insert insert;
    insert.shows = Insert::Shows::colour;
    insert.colour = {0, 0, 0};
    insert.ride = onPlane();
    insert.fadeFrames = 4;
    InsertId id = 0;
    shot = withInsertAdded(shot, insert, 1, &id);
    const Picture plate = grey(kWidth, kHeight, 200);
    ArtShelf shelf;
    const auto shown = [&](Insert::Lost lost, int frame) {
        const Shot with = withInsertEdited(shot, id, [&](Insert& i) { i.lost = lost; });
        const Vector2d middle = middleOf(surfaceOn(std::min(frame, 6)));
        return valueAt(composed(insertSceneOf(with), frame, plate, shelf), middle.x(), middle.y());
    };
    CHECK(shown(Insert::Lost::ends, 6) == 0);
    CHECK(shown(Insert::Lost::ends, 7) == 200);
    CHECK(shown(Insert::Lost::holds, 12) == 0);
    CHECK(shown(Insert::Lost::fades, 7) == Approx(50).margin(1));
    CHECK(shown(Insert::Lost::fades, 9) == Approx(150).margin(1));
    CHECK(shown(Insert::Lost::fades, 10) == 200);
    const auto notes = notesOf(shot, *findInsert(shot, id));
    REQUIRE(notes.size() == 1);
    CHECK(notes[0] == "board is not there on 7-12: it is not shown there");
    CHECK(insertsReport(shot).state == StageState::attention);
}

TEST_CASE("art on a cylinder's surface goes round it") {
    // A body of radius one before a camera of 400 px, 8 away.
    const Lens lens = pinholeLens(kWidth, kHeight, 400);
    PlanarTrack plane;
    plane.id = 1;
    plane.name = "post";
    plane.referenceFrame = 1;
    plane.lens = std::make_shared<const Lens>(lens);
    const double half = 400 / std::sqrt(63.0);
    plane.sides = Quad{Vector2d(80 - half, 10), {80 + half, 10}, {80 + half, 110}, {80 - half, 110}};
    plane.outlines = std::vector<Polygon>{{{50, 20}, {110, 20}, {110, 100}, {50, 100}}};
    plane.samples = std::vector<PlaneSample>{{.frame = 1}};
    const auto cylinder = Cylinder::fromSides(lens, *plane.sides);
    REQUIRE(cylinder);
    // A surface of a third of a turn, its middle in front.
    const auto seen = [&](double angle, double along) { return seenAt(lens, cylinder->at({angle, along})); };
    const double reach = std::numbers::pi / 3;
    plane.ties =
        std::vector<PlaneTie>{{1, {seen(-reach, -0.6), seen(reach, -0.6), seen(reach, 0.6), seen(-reach, 0.6)}}};
    Shot shot = emptyShot();
    shot.planes = std::vector<PlanarTrack>{plane};
    Insert insert;
    insert.shows = Insert::Shows::test;
    insert.ride = onPlane();
    InsertId id = 0;
    shot = withInsertAdded(shot, insert, 1, &id);
    const Insert& added = *findInsert(shot, id);
    const InsertSurface carrier = surfaceOf(shot, added);
    const auto pieces = carrier.pieces(added.placing, 1);
    REQUIRE(pieces.size() == 1);
    REQUIRE(pieces[0].size() > 12);
    // A quarter along the art is a quarter along the turn, not along the chord.
    for (const ArtPiece& piece : pieces[0]) {
        const Vector2d truth = seen(reach * (2 * piece.left - 1), -0.6);
        CHECK((piece.corners[0] - truth).norm() < 0.05);
    }
    const double chord = 0.75 * pieces[0].front().corners[0].x() + 0.25 * pieces[0].back().corners[1].x();
    CHECK(std::abs(seen(-reach / 2, -0.6).x() - chord) > 3);
}

// ---- edits

TEST_CASE("fresh inserts are named, stacked, moved in their order and removed with their clip") {
    const test::Scratch scratch;
    InsertId first = 0, second = 0;
    Shot shot = shotWithClip(scratch, &first);
    Insert more;
    more.clip = shot.clips[0].id;
    shot = withInsertAdded(shot, more, 1, &second);
    CHECK(shot.inserts[0].name == "lamp");
    CHECK(shot.inserts[1].name == "lamp 2");
    CHECK(shot.inserts[0].time.start == 1);
    CHECK(withClipAdded(shot, shot.clips[0]).clips.size() == 1);
    const Shot moved = withInsertMoved(shot, 0, 1);
    CHECK(moved.inserts[0].id == second);
    CHECK(moved.inserts[1].id == first);
    CHECK(withInsertRemoved(shot, first).inserts.size() == 1);
    const Shot without = withClipRemoved(shot, shot.clips[0].id);
    CHECK(without.clips.isEmpty());
    CHECK(without.inserts.isEmpty());
    // A clip found again keeps its place and what shows it.
    Clip other = shot.clips[0];
    other.path = "/somewhere/else.####.png";
    other.width = 64;
    const Shot found = withClipReplaced(shot, shot.clips[0].id, other);
    CHECK(found.clips[0].path == other.path);
    CHECK(found.clips[0].id == shot.clips[0].id);
    CHECK(found.inserts.size() == 2);
}

TEST_CASE("a copy on another surface keeps its look and its place inside") {
    const test::Scratch scratch;
    InsertId id = 0;
    Shot shot = shotWithClip(scratch, &id);
    PlanarTrack other = movingCarrier();
    other.id = 2;
    other.name = "other eye";
    shot.planes = shot.planes.edited([&](auto& planes) { planes.push_back(other); });
    shot = withInsertEdited(shot, id, [](Insert& i) {
        i.placing.centre = {0.3, 0.6};
        i.placing.turn_deg = 20;
        i.look.opacity = 0.5;
        i.look.blend = Blend::screen;
        i.time.start = 3;
    });
    InsertId copy = 0;
    shot = withInsertCopied(shot, id, onPlane(2), 2, &copy);
    const Insert &a = *findInsert(shot, id), &b = *findInsert(shot, copy);
    CHECK(shot.inserts.size() == 2);
    CHECK(b.look == a.look);
    CHECK(b.placing == a.placing);
    CHECK(b.time == a.time);
    CHECK(b.ride->ids == std::vector<std::int64_t>{2});
    CHECK(b.name == "lamp 2");
}

TEST_CASE("pinned to something else it stays where it is on that frame") {
    const test::Scratch scratch;
    InsertId id = 0;
    Shot shot = shotWithClip(scratch, &id);
    shot.tracks = std::vector<Track>{movingTrack("a", {30, 20}, {-2, 0})};
    shot = withInsertEdited(shot, id, [](Insert& i) { i.placing.centre = {0.4, 0.6}; });
    const auto cornersOn = [&](int frame) {
        const Insert& insert = *findInsert(shot, id);
        return *surfaceOf(shot, insert).corners(insert.placing, frame);
    };
    const Quad before = cornersOn(7);
    shot = withInsertPinned(shot, id, rideOnTracks({shot.tracks[0].id}), 7);
    const Quad after = cornersOn(7);
    for (std::size_t i = 0; i < 4; ++i) CHECK((after[i] - before[i]).norm() < 1e-6);
    const Quad later = cornersOn(9);
    for (std::size_t i = 0; i < 4; ++i) CHECK((later[i] - before[i] - Vector2d(-4, 0)).norm() < 1e-6);
}

TEST_CASE("what an insert hangs on goes on under another name, and is nothing else that takes its name") {
    const test::Scratch scratch;
    InsertId id = 0;
    Shot shot = shotWithClip(scratch, &id);
    Matte mast;
    mast.name = "mast";
    mast.keys = {{1, {{0, 0}, {9, 0}, {9, 9}}}};
    shot = withMatteAdded(shot, mast);
    shot = withInsertEdited(shot, id, [](Insert& i) { i.heldOut = std::vector<MatteId>{1}; });
    shot = withMatteRenamed(shot, 0, "the mast");
    CHECK(findMatte(shot, shot.inserts[0].heldOut[0])->name == "the mast");
    shot = withPlaneRenamed(shot, 1, "notice");
    CHECK(wordsOf(shot, *shot.inserts[0].ride) == "notice");
    shot.tracks = std::vector<Track>{movingTrack("a", {30, 20}, {1, 1})};
    shot = withInsertPinned(shot, id, rideOnTracks({1}), 1);
    shot = withTrackRenamed(shot, 1, "seal");
    CHECK(wordsOf(shot, *shot.inserts[0].ride) == "seal");
    // A new scatter leaves what carries something.
    Track scattered = movingTrack("s-001", {5, 5}, {0, 0});
    shot = withTrackRenamed(shot, 1, "a");
    shot.tracks = shot.tracks.edited([](auto& tracks) { tracks[0].byHand = false; });
    CHECK(withScattered(shot, {scattered}).tracks.size() == 2);
    shot = withMatteRemoved(shot, 0);
    CHECK(notesOf(shot, shot.inserts[0]).back() == "a matte that it names is gone");
    // A new one of that name is another.
    mast.name = "the mast";
    shot = withMatteAdded(shot, mast);
    CHECK(notesOf(shot, shot.inserts[0]).back() == "a matte that it names is gone");
}

TEST_CASE("opacity keys and blinks are set and taken away") {
    const test::Scratch scratch;
    InsertId id = 0;
    Shot shot = shotWithClip(scratch, &id);
    shot = withOpacityKey(withOpacityKey(withOpacityKey(shot, id, 8, 0.5), id, 3, 1), id, 8, 0.25);
    REQUIRE(shot.inserts[0].opacityKeys.size() == 2);
    CHECK(shot.inserts[0].opacityKeys[0] == OpacityKey{3, 1});
    CHECK(shot.inserts[0].opacityKeys[1] == OpacityKey{8, 0.25});
    shot = withOpacityKeyRemoved(withOpacityKeyRemoved(shot, id, 3), id, 8);
    CHECK(shot.inserts[0].opacityKeys.isEmpty());
    CHECK(shot.inserts[0].look.opacity == 0.25);
    shot = withInsertThere(withInsertThere(shot, id, 5, false), id, 6, true);
    CHECK(shot.inserts[0].turns.size() == 2);
    CHECK(withInsertThere(shot, id, 5, true).inserts[0].turns.isEmpty());
}

// ---- composing

TEST_CASE("inserts are laid in their order, within and behind their mattes, and touch nothing else") {
    const test::Scratch scratch;
    InsertId low = 0, high = 0;
    Shot shot = shotWithClip(scratch, &low);
    Insert tint;
    tint.shows = Insert::Shows::colour;
    tint.colour = {1, 1, 1};
    tint.ride = onPlane();
    shot = withInsertAdded(shot, tint, 1, &high);
    shot = withInsertEdited(shot, high, [](Insert& i) { i.placing.scale = {0.5, 0.5}; });
    const Picture plate = grey(kWidth, kHeight, 200);
    ArtShelf shelf;
    const Quad on3 = surfaceOn(3);
    const Vector2d middle = middleOf(on3), corner = on3[0] + Vector2d(3, 3);
    Picture made = composed(insertSceneOf(shot), 3, plate, shelf);
    CHECK(valueAt(made, middle.x(), middle.y()) == 255);
    CHECK(valueAt(made, corner.x(), corner.y()) == 30);  // the third frame of the clip
    CHECK(valueAt(composed(insertSceneOf(withInsertMoved(shot, 0, 1)), 3, plate, shelf), middle.x(), middle.y()) == 30);
    const PixelBox touched = touchedBy(insertSceneOf(shot), 3);
    int differ = 0;
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            if (x < touched.x0 || x >= touched.x1 || y < touched.y0 || y >= touched.y1)
                differ += valueAt(made, x, y) != 200;
    CHECK(differ == 0);
    CHECK(touched.width() < 50);
    // The left half is passed by something that rides on the plane.
    Matte front;
    front.name = "mast";
    front.keys = {{1, {{40, 30}, {60, 30}, {60, 60}, {40, 60}}}};
    front.ride = onPlane();
    shot = withMatteAdded(shot, front);
    const auto with = [&](const std::function<void(Insert&)>& edit) {
        return composed(insertSceneOf(withInsertEdited(withInsertRemoved(shot, high), low, edit)), 3, plate, shelf);
    };
    made = with([](Insert& i) { i.heldOut = std::vector<MatteId>{1}; });
    CHECK(valueAt(made, corner.x(), corner.y()) == 200);
    CHECK(valueAt(made, on3[1].x() - 4, on3[1].y() + 4) == 30);
    made = with([](Insert& i) { i.within = std::vector<MatteId>{1}; });
    CHECK(valueAt(made, corner.x(), corner.y()) == 30);
    CHECK(valueAt(made, on3[1].x() - 4, on3[1].y() + 4) == 200);
    made = with([](Insert& i) { i.hidden = true; });
    CHECK(made.bytes == plate.bytes);
    // Alone: premultiplied, one over the other.
    const InsertAlone alone = composedAlone(insertSceneOf(shot), 3, plate, shelf);
    CHECK(alone.alpha.row(int(middle.y()))[int(middle.x())] == 1.0F);
    CHECK(alone.alpha.row(2)[2] == 0.0F);
}

TEST_CASE("a patch painted on one frame lies there as it was painted, and moves with what carries it") {
    const test::Scratch scratch;
    Picture painted = grey(kWidth, kHeight, 200);
    for (int y = 40; y < 44; ++y)
        for (int x = 50; x < 54; ++x)
            for (std::size_t c = 0; c < 3; ++c) painted.bytes[3 * std::size_t(y * kWidth + x) + c] = 20;
    auto writer = FrameWriter::create(scratch / "patch.####.png", kWidth, kHeight, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(4, painted));
    const auto clip = clipOf(scratch / "patch.0004.png");
    REQUIRE(clip);
    CHECK(clip->still);
    Insert insert;
    Shot shot = withClipAdded(emptyShot(), *clip, &insert.clip);
    insert.ride = onPlane();
    insert.wholeFrame = true;
    shot = withInsertAdded(shot, insert, 4);
    ArtShelf shelf;
    const Picture plate = grey(kWidth, kHeight, 200);
    CHECK(valueAt(composed(insertSceneOf(shot), 4, plate, shelf), 52, 42) == 20);
    // Three frames on the plane has carried that place.
    const Vector2d there = (*quadFromQuad(surfaceOn(7), surfaceOn(4)) * Eigen::Vector3d(52, 42, 1)).hnormalized();
    const Picture later = composed(insertSceneOf(shot), 7, plate, shelf);
    CHECK(valueAt(later, there.x(), there.y()) < 40);
    CHECK(valueAt(later, 52, 42) == 200);
}

TEST_CASE("a broken frame of a clip is stood in for, and said; a missing clip leaves its insert out") {
    const test::Scratch scratch;
    InsertId id = 0;
    const Shot shot = shotWithClip(scratch, &id);
    scratch.write("lamp.0004.png", "no picture at all");
    ArtShelf shelf;
    const Picture plate = grey(kWidth, kHeight, 200);
    std::vector<std::string> problems;
    const Vector2d middle = middleOf(surfaceOn(4));
    const Picture made = composed(insertSceneOf(shot), 4, plate, shelf, &problems);
    CHECK(valueAt(made, middle.x(), middle.y()) == 30);
    REQUIRE(problems.size() == 1);
    CHECK(problems[0].find("lamp.0004.png") != std::string::npos);

    FrameCache frames(std::make_shared<const GreyPlate>());
    auto report = runInserts(shot, frames, shelf, scratch / "o.####.png", false);
    REQUIRE(report);
    CHECK(report->render.frames == kFrames);
    CHECK(report->problems.size() == 1);
    const Shot lost = withClipEdited(shot, shot.clips[0].id, [](Clip& clip) { clip.path = "/nowhere/lamp.mp4"; });
    ArtShelf other;
    report = runInserts(lost, frames, other, scratch / "p.####.png", false);
    REQUIRE_FALSE(report);
    CHECK(report.error().message.find("/nowhere/lamp.mp4: is not there any more; find it again") != std::string::npos);
    CHECK(composed(insertSceneOf(lost), 4, plate, other).bytes == plate.bytes);
}

TEST_CASE("a sequence that was stopped goes on where it ended, and begins anew when something changed") {
    const test::Scratch scratch;
    InsertId id = 0;
    const Shot shot = shotWithClip(scratch, &id);
    FrameCache frames(std::make_shared<const GreyPlate>());
    ArtShelf shelf;
    const auto pattern = scratch / "out/o.####.png";
    Progress progress([&](double fraction, const std::string&) {
        if (fraction >= 0.3) progress.stop();
    });
    const auto stopped = runInserts(shot, frames, shelf, pattern, false, progress);
    REQUIRE(stopped);
    REQUIRE(stopped->render.stopped);
    const int done = stopped->render.frames;
    CHECK(done >= 3);
    CHECK(done < kFrames);
    CHECK(std::filesystem::exists(scratch / "out/o.unfinished.json"));
    const auto before = std::filesystem::last_write_time(scratch / "out/o.0001.png");
    auto whole = runInserts(shot, frames, shelf, pattern, false);
    REQUIRE(whole);
    CHECK(whole->kept == done);
    CHECK(whole->render.frames == kFrames - done);
    CHECK(std::filesystem::last_write_time(scratch / "out/o.0001.png") == before);
    CHECK_FALSE(std::filesystem::exists(scratch / "out/o.unfinished.json"));
    for (int frame = 1; frame <= kFrames; ++frame) {
        const auto read = readStill(frameFile(pattern, frame));
        REQUIRE(read);
        CHECK((*read)->bytes == composed(insertSceneOf(shot), frame, grey(kWidth, kHeight, 200), shelf).bytes);
    }
    // Rendered again it is all rendered; so it is when something has changed between.
    whole = runInserts(shot, frames, shelf, pattern, false);
    REQUIRE(whole);
    CHECK(whole->kept == 0);
    Progress again([&](double fraction, const std::string&) {
        if (fraction >= 0.3) again.stop();
    });
    REQUIRE(runInserts(shot, frames, shelf, pattern, false, again)->render.stopped);
    const Shot changed = withInsertEdited(shot, id, [](Insert& i) { i.look.opacity = 0.5; });
    whole = runInserts(changed, frames, shelf, pattern, false);
    REQUIRE(whole);
    CHECK(whole->kept == 0);
    CHECK(whole->render.frames == kFrames);
}

TEST_CASE("a sequence that was stopped begins anew when the mesh of a stand-in was replaced meanwhile") {
    const test::Scratch scratch;
    InsertId id = 0;
    StandIn post;
    post.kind = StandInKind::mesh;
    post.file = scratch / "post.obj";
    REQUIRE(writeFile(post.file, "v 0 0 0\nv 1 0 0\nv 0 1 0\nf 1 2 3\n"));
    const Shot shot = withStandInAdded(shotWithClip(scratch, &id), post);
    FrameCache frames(std::make_shared<const GreyPlate>());
    ArtShelf shelf;
    const auto pattern = scratch / "out/o.####.png";
    const auto stoppedAt = [&] {
        Progress progress([&](double fraction, const std::string&) {
            if (fraction >= 0.3) progress.stop();
        });
        const auto stopped = runInserts(shot, frames, shelf, pattern, false, progress);
        REQUIRE((stopped && stopped->render.stopped));
        return stopped->render.frames;
    };
    const int done = stoppedAt();
    CHECK(runInserts(shot, frames, shelf, pattern, false)->kept == done);
    stoppedAt();
    REQUIRE(writeFile(post.file, "v 0 0 0\nv 1 0 0\nv 0 1 0\nv 0 0 1\nf 1 2 3\nf 1 2 4\n"));
    CHECK(runInserts(shot, frames, shelf, pattern, false)->kept == 0);
}

TEST_CASE("what cannot be a clip is refused, and an alpha nobody knows is asked for before anything is rendered") {
    const test::Scratch scratch;
    CHECK(clipOf(scratch / "none.png").error().message.find("there is no such file") != std::string::npos);
    scratch.write("words.png", "no picture");
    CHECK_FALSE(clipOf(scratch / "words.png"));
    auto writer = FrameWriter::create(scratch / "a.####.tif", 8, 8, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(1, grey(8, 8, 90), ImageChannel(8, 8, 0.5F), AlphaKind::straight, AlphaKind::straight));
    auto clip = clipOf(scratch / "a.0001.tif");
    REQUIRE(clip);
    CHECK(clip->hasAlpha);
    CHECK(clip->alpha == AlphaKind::straight);  // as the file says
    clip->alpha.reset();
    Insert insert;
    Shot shot = withClipAdded(emptyShot(), *clip, &insert.clip);
    insert.ride = onPlane();
    shot = withInsertAdded(shot, insert, 1);
    CHECK(notesOf(shot, shot.inserts[0]).front() == "say whether its colours are multiplied by their alpha");
    FrameCache frames(std::make_shared<const GreyPlate>());
    ArtShelf shelf;
    const auto refused = runInserts(shot, frames, shelf, scratch / "o.####.png", false);
    REQUIRE_FALSE(refused);
    CHECK(refused.error().message.find("say premultiplied or straight") != std::string::npos);
    shot = withClipEdited(shot, shot.clips[0].id, [](Clip& c) { c.alpha = AlphaKind::straight; });
    CHECK(runInserts(shot, frames, shelf, scratch / "o.####.png", false));
    // Its own clip is not written over, whatever its number is written as.
    CHECK(runInserts(shot, frames, shelf, scratch / "a.%04d.tif", false).error().message.find("is the clip") !=
          std::string::npos);
    CHECK(runInserts(withInsertRemoved(shot, shot.inserts[0].id), frames, shelf, scratch / "o.####.png", false)
              .error()
              .message == "there is no insert to render");
}

TEST_CASE("a clip that is shorter than its use, or of another rate, is said to be") {
    const test::Scratch scratch;
    InsertId id = 0;
    Shot shot = shotWithClip(scratch, &id);
    CHECK(notesOf(shot, *findInsert(shot, id)) == std::vector<std::string>{"its clip ends on 6: its last frame stays"});
    shot = withInsertEdited(shot, id, [](Insert& i) { i.time.after = ClipTime::After::loop; });
    CHECK(notesOf(shot, *findInsert(shot, id)).empty());
    CHECK(insertsReport(shot).state == StageState::done);
    CHECK(insertsReport(shot).number == "1 insert");
    shot = withClipEdited(shot, shot.clips[0].id, [](Clip& clip) { clip.fps = {25, 1}; });
    CHECK(notesOf(shot, *findInsert(shot, id)).front().find("frame by frame") != std::string::npos);
    shot = withInsertEdited(shot, id, [](Insert& i) { i.time.ownRate = true; });
    CHECK(notesOf(shot, *findInsert(shot, id)).empty());
}

TEST_CASE("places inside a carrier and on the plate are each other's inverse, and none where it is not") {
    Insert insert;
    insert.ride = onPlane();
    const Shot eight = test::shotOf({}, {1, kFrames}, List<PlanarTrack>({movingCarrier(8)}));
    const InsertSurface carrier = surfaceOf(eight, insert);
    CHECK(carrier.widthToHeight() == Approx(4.0 / 3).epsilon(0.05));
    for (const Vector2d& place : {Vector2d(0.1, 0.9), {0.5, 0.5}, {1.3, -0.2}}) {
        const auto plate = carrier.onPlate(place, 6);
        REQUIRE(plate);
        const auto back = carrier.inside(*plate, 6);
        REQUIRE(back);
        CHECK((*back - place).norm() < 1e-9);
    }
    CHECK_FALSE(carrier.onPlate({0.5, 0.5}, 9));
    CHECK_FALSE(carrier.inside({50, 50}, 9));
    CHECK(carrier.missing() == std::vector<int>{9, 10, 11, 12});
    CHECK(carrier.away(8) == 0);
    CHECK(carrier.away(12) == 4);
    CHECK((*carrier.at(12, true))[0] == (*carrier.at(8))[0]);
    // Beside the frames that are worked on it is where it is.
    const InsertSurface narrow = surfaceOf(test::shotOf({}, {3, 5}, List<PlanarTrack>({movingCarrier(4)})), insert);
    CHECK((*narrow.at(2, true))[0] == (*narrow.at(2))[0]);
    CHECK((*narrow.at(7, true))[0] == (*narrow.at(4))[0]);
    // A picture of the whole frame has the frame for a carrier, moved as the plane moves.
    insert.wholeFrame = true;
    insert.carrier = {Vector2d(0, 0), {kWidth, 0}, {kWidth, kHeight}, {0, kHeight}};
    const InsertSurface whole = surfaceOf(eight, insert);
    CHECK((*whole.at(1))[2] == Vector2d(kWidth, kHeight));
    CHECK(((*whole.at(2))[0] - (*quadFromQuad(surfaceOn(2), surfaceOn(1)) * Eigen::Vector3d(0, 0, 1)).hnormalized())
              .norm() < 1e-6);
}

TEST_CASE("an open shutter takes as many instants as the corners move, half before the frame and half after") {
    Insert insert;
    insert.ride = onPlane();
    const InsertSurface carrier =
        surfaceOf(test::shotOf({}, {1, kFrames}, List<PlanarTrack>({movingCarrier()})), insert);
    CHECK(carrier.pieces(Placing{}, 5).size() == 1);
    const auto instants = carrier.pieces(Placing{}, 5, 1.0);
    REQUIRE(instants.size() > 3);
    Vector2d mean(0, 0);
    for (const auto& pieces : instants) mean += pieces[0].corners[0] / double(instants.size());
    CHECK((mean - surfaceOn(5)[0]).norm() < 0.05);
    const double reach = (instants.back()[0].corners[0] - instants.front()[0].corners[0]).norm();
    CHECK(reach == Approx(std::hypot(3, 1) * (1 - 1.0 / double(instants.size()))).margin(0.1));
    // At the ends of the track it goes on as it went.
    const auto first = carrier.pieces(Placing{}, 1, 1.0);
    REQUIRE(first.size() > 3);
    CHECK((first.front()[0].corners[0] - surfaceOn(1)[0]).x() < -1);
    // Where it only holds there is no motion.
    const InsertSurface shorter =
        surfaceOf(test::shotOf({}, {1, kFrames}, List<PlanarTrack>({movingCarrier(5)})), insert);
    CHECK(shorter.pieces(Placing{}, 8, 1.0, true).size() == 1);
    CHECK(shorter.pieces(Placing{}, 8, 1.0).empty());
}

TEST_CASE("a second take of a locked-off set-up is laid over the first within a matte whose keys move") {
    const test::Scratch scratch;
    Insert take;
    Shot shot = withClipAdded(emptyShot(), writeClip(scratch, "take", 1, 12, kWidth, kHeight), &take.clip);
    Matte within;
    within.name = "left";
    within.keys = {{1, {{0, 0}, {40, 0}, {40, 120}, {0, 120}}}, {11, {{0, 0}, {140, 0}, {140, 120}, {0, 120}}}};
    shot = withMatteAdded(shot, within);
    InsertId id = 0;
    shot = withInsertAdded(shot, take, 1, &id);
    shot = withInsertEdited(shot, id, [](Insert& i) { i.within = std::vector<MatteId>{1}; });
    CHECK_FALSE(shot.inserts[0].ride);
    ArtShelf shelf;
    const Picture plate = grey(kWidth, kHeight, 200);
    for (const int frame : {1, 6, 11}) {
        const Picture made = composed(insertSceneOf(shot), frame, plate, shelf);
        const int border = 40 + 10 * (frame - 1);
        CHECK(valueAt(made, border - 3, 60) == 10 * frame);
        CHECK(valueAt(made, border + 3, 60) == 200);
        CHECK(valueAt(made, 2, 2) == 10 * frame);
    }
}

TEST_CASE("on a plate of linear values art is laid in light, and comes back as it was shown") {
    Insert tint;
    tint.shows = Insert::Shows::colour;
    tint.colour = {0.5, 0.25, 1};
    InsertId id = 0;
    Shot shot = withInsertAdded(emptyShot(), tint, 1, &id);
    Picture plate{kWidth, kHeight, Picture::Depth::float32, true, {}, {}};
    plate.floats.assign(3 * std::size_t(kWidth) * kHeight, 4.0F);  // brighter than white
    ArtShelf shelf;
    const Picture made = composed(insertSceneOf(shot), 1, plate, shelf);
    const std::size_t at = 3 * (60 * std::size_t(kWidth) + 80);
    CHECK(encodeSrgb(made.floats[at]) == Approx(0.5).margin(0.002));
    CHECK(encodeSrgb(made.floats[at + 1]) == Approx(0.25).margin(0.002));
    shot = withInsertEdited(shot, id, [](Insert& i) {
        i.placing.scale = {0.5, 0.5};
        i.look.opacity = 0.5;
    });
    const Picture half = composed(insertSceneOf(shot), 1, plate, shelf);
    CHECK(half.floats[at] == Approx(0.5 * (4 + double(decodeSrgb(0.5F)))).epsilon(0.002));
    CHECK(half.floats[0] == 4.0F);
}

TEST_CASE("a clip of art that is too large is refused by its size, before it is put in") {
    const test::Scratch scratch;
    auto writer = FrameWriter::create(scratch / "wide.####.png", 20000, 2, {24, 1});
    REQUIRE(writer);
    REQUIRE((*writer)->write(1, grey(20000, 2, 90)));
    const auto clip = clipOf(scratch / "wide.0001.png");
    REQUIRE_FALSE(clip);
    CHECK(clip.error().message.find("20000x2 pixels; make it smaller, 16384 on a side at most") != std::string::npos);
    // A clip whose pictures are of another size than they were is not taken for the same.
    Clip known = writeClip(scratch, "lamp", 1, 2);
    known.width = 99;
    ArtShelf shelf;
    CHECK(shelf.open(known).error().message.find("and was 99x30") != std::string::npos);
}

TEST_CASE("what is wrong with an insert in a shot's file is said with its place") {
    const test::Scratch scratch;
    InsertId id = 0;
    Shot shot = shotWithClip(scratch, &id);
    shot = withOpacityKey(withOpacityKey(shot, id, 3, 1), id, 8, 0.5);
    const std::string whole = shotJson(shot, scratch / "a.pinion");
    REQUIRE(parseShot(whole, scratch / "a.pinion"));
    const auto messageOf = [&](const std::function<void(nlohmann::json&)>& spoil) {
        nlohmann::json document = nlohmann::json::parse(whole);
        spoil(document);
        const auto read = parseShot(document.dump(), scratch / "a.pinion");
        return read ? std::string("read") : read.error().message;
    };
    using J = nlohmann::json;
    const auto insert = [](J& d) -> J& { return d["inserts"][0]; };
    CHECK(messageOf([&](J& d) { insert(d).erase("look"); }).find("inserts[0]: 'look' is missing") != std::string::npos);
    CHECK(messageOf([&](J& d) { insert(d)["look"]["blend"] = "dodge"; }).find("inserts[0].look.blend") !=
          std::string::npos);
    CHECK(messageOf([&](J& d) { insert(d)["shows"] = "dreams"; }).find("inserts[0].shows") != std::string::npos);
    CHECK(messageOf([&](J& d) { insert(d)["opacity_keys"][1][0] = 3; }).find("opacity_keys[1]: frames have to rise") !=
          std::string::npos);
    // What is beyond bounds is taken as far as they go: a shot opens with whatever it was saved with.
    nlohmann::json beyond = nlohmann::json::parse(whole);
    insert(beyond)["look"]["opacity"] = 2;
    insert(beyond)["shutter"] = -1;
    insert(beyond)["carrier"] = {{0, 0}, {9, 9}, {9, 0}, {0, 9}};
    insert(beyond)["shape"] = {{"crop", {0, 0, 2, 0}}, {"round", 0}, {"soft_edge_px", 1e300}};
    const auto taken = parseShot(beyond.dump(), scratch / "a.pinion");
    REQUIRE(taken);
    CHECK(taken->inserts[0].look.opacity == 1);
    CHECK(taken->inserts[0].shutter == 0);
    CHECK(taken->inserts[0].shape.right < 1);
    CHECK(taken->inserts[0].shape.softEdge_px == 10000);
    // Drawn with, such a carrier gives a picture and no crash.
    ArtShelf shelf;
    (void)composed(insertSceneOf(*taken), 4, grey(kWidth, kHeight, 200), shelf);
    CHECK(messageOf([&](J& d) { insert(d)["placing"]["centre"] = 3; }).find("inserts[0].placing.centre") !=
          std::string::npos);
    CHECK(messageOf([&](J& d) { d["inserts"].push_back(d["inserts"][0]); }).find("inserts[1].id: is there twice") !=
          std::string::npos);
    CHECK(messageOf([&](J& d) { d["clips"][0]["width"] = 0; }).find("clips[0]: the size is not above 0") !=
          std::string::npos);
    CHECK(messageOf([&](J& d) { d["clips"][0]["alpha"] = "half"; }).find("clips[0].alpha") != std::string::npos);
    // A clip beside the shot is written relative to it, so that a folder can be moved whole.
    CHECK(nlohmann::json::parse(whole)["clips"][0]["path"] == "lamp.####.png");
    const auto moved = parseShot(whole, "/elsewhere/a.pinion");
    REQUIRE(moved);
    CHECK(moved->clips[0].path == "/elsewhere/lamp.####.png");
}
