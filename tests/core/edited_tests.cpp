// Whatever the edits make of a shot can be saved and opened again: random edits with values beyond all use, by a seed.

#include "matte/sequence.h"
#include "scratch.h"
#include "shot/carriers/carriers.h"
#include "shot/edits/cameraedits.h"
#include "shot/edits/insertedits.h"
#include "shot/edits/lensedits.h"
#include "shot/edits/locatoredits.h"
#include "shot/edits/matteedits.h"
#include "shot/edits/planeedits.h"
#include "shot/edits/plateedits.h"
#include "shot/edits/trackedits.h"
#include "shot/file/shotfile.h"

#include <catch2/catch.hpp>
#include <cmath>
#include <fstream>
#include <limits>
#include <random>

using namespace pinion;
using Eigen::Vector2d;

namespace {

/// Values as hands, drags and solvers make them: mostly in use, some far beyond.
class Dice {
public:
    explicit Dice(unsigned seed) : engine_(seed) {}
    int below(int count) { return int(engine_() % unsigned(std::max(1, count))); }
    bool coin() { return below(2) == 0; }
    double number(double low, double high) { return std::uniform_real_distribution(low, high)(engine_); }
    /// One in six is out of all bounds.
    double wild(double low, double high) {
        switch (below(18)) {
            case 0:
                return 1e9 * number(-1, 1);
            case 1:
                return 1e-9 * number(-1, 1);
            case 2:
                return high * 40;
            default:
                return number(low, high);
        }
    }
    Vector2d place() { return {wild(-200, 2100), wild(-200, 1300)}; }
    int frame() { return 990 + below(60); }
    Polygon polygon(int corners) {
        Polygon points;
        for (int i = 0; i < corners; ++i) points.push_back(place());
        return points;
    }
    Quad quad() {
        Quad corners;
        for (Vector2d& corner : corners) corner = place();
        return corners;
    }
    template <class List>
    std::size_t of(const List& list) {
        return std::size_t(below(int(list.size())));
    }

private:
    std::mt19937 engine_;
};

Ride ride(const Shot& shot, Dice& dice) {
    const int frame = dice.frame();
    switch (dice.below(4)) {
        case 0:
            return rideOnPicture(frame);
        case 1:
            return rideOnPlane(shot.planes.isEmpty() ? 99 : shot.planes[dice.of(shot.planes)].id, frame);
        case 2:
            return rideOnLocator(shot.locators.isEmpty() ? 99 : shot.locators[dice.of(shot.locators)].id, frame);
        default:
            return rideOnTracks({shot.tracks.isEmpty() ? 99 : shot.tracks[dice.of(shot.tracks)].id}, frame);
    }
}

Shot trackEdit(Shot shot, Dice& dice) {
    const auto id = [&] { return shot.tracks.isEmpty() ? TrackId(1) : shot.tracks[dice.of(shot.tracks)].id; };
    switch (dice.below(8)) {
        case 0:
        case 1:
            return withTrackAdded(shot, dice.frame(), dice.place());
        case 2:
            return withTrackMoved(shot, id(), dice.frame(), dice.place());
        case 3:
            return withTracksEdited(shot, {id()}, [&](Track& track) {
                track.pattern_px = int(dice.wild(3, 120));
                track.search_px = int(dice.wild(3, 300));
                track.driftLimit = dice.wild(0, 1);
                track.offset = dice.place();
                track.group = dice.coin() ? "a\nb" : "\xff\xfe";
            });
        case 4:
            return withTracksTrimmed(shot, {id()}, {dice.frame(), dice.frame() + 20});
        case 5:
            return withTracksDuplicated(shot, {id()});
        case 6:
            return withTrackRenamed(shot, id(), dice.coin() ? "p/1" : "");
        default:
            return dice.below(4) == 0 ? withTracksRemoved(shot, {id()}) : withSetAside(shot, {id()}, dice.coin());
    }
}

Shot matteEdit(Shot shot, Dice& dice) {
    const std::size_t at = dice.of(shot.mattes);
    switch (dice.below(11)) {
        case 0:
        case 1: {
            Matte matte;
            matte.keys = {{dice.frame(), dice.polygon(3 + dice.below(4))}};
            return withMatteAdded(shot, matte);
        }
        case 2:
            return withMatteEdited(shot, at, [&](Matte& matte) {
                matte.feather_px = dice.wild(-300, 1200);
                matte.grow_px = dice.wild(-300, 1200);
                matte.opacity = dice.wild(0, 1);
                for (Matte::Key& key : matte.keys) {
                    key.feather.assign(key.polygon.size(), 0);
                    for (double& one : key.feather) one = dice.wild(-100, 1500);
                }
            });
        case 3:
            return shot.mattes.isEmpty() || shot.mattes[at].keys.empty()
                       ? shot
                       : withMatteShape(shot, at, dice.frame(),
                                        {0, dice.polygon(int(shot.mattes[at].keys.front().polygon.size()))});
        case 4:
            return withMattePointAdded(shot, at, std::size_t(dice.below(4)), dice.wild(0, 1));
        case 5:
            return withMattePointsRemoved(shot, at, {0, 1});
        case 6:
            return shot.mattes.isEmpty() ? shot : withMatteRide(shot, at, dice.frame(), ride(shot, dice));
        case 7:
            return withMatteThere(shot, at, dice.frame(), dice.coin());
        case 8:
            return withMatteKeyMoved(shot, at, dice.frame(), dice.frame(), dice.coin());
        case 9: {
            Matte matte;
            matte.pictures = matteSequence("/nowhere/m.####.exr");
            return withMatteAdded(shot, matte);
        }
        default:
            return withMatteDuplicated(shot, at);
    }
}

Shot planeEdit(const Shot& shot, Dice& dice) {
    const auto id = [&] { return shot.planes.isEmpty() ? PlaneId(1) : shot.planes[dice.of(shot.planes)].id; };
    switch (dice.below(9)) {
        case 0:
            return withPlaneAdded(shot, dice.polygon(3 + dice.below(3)), dice.frame());
        case 1:
            return withPlaneOutlineAdded(shot, id(), dice.frame(), dice.polygon(4), dice.coin());
        case 2:
            return withPlaneCornerMoved(shot, id(), 0, 1, dice.frame(), dice.place());
        case 3: {
            const auto round = withPlaneSides(shot, id(), dice.quad());
            return round ? *round : shot;
        }
        case 4:
            return withPlaneOutlineRemoved(shot, id(), 0);
        case 5: {
            const auto tied = withPlaneTie(shot, id(), dice.frame(), dice.quad());
            return tied ? *tied : shot;
        }
        case 6:
            return withPlaneEdited(shot, id(), [&](PlanarTrack& plane) {
                plane.leastSeen = dice.wild(0, 1);
                PlaneSample sample{.frame = 1001};
                sample.pose.matrix = Eigen::Matrix3d::Random() * dice.wild(0.1, 2);
                if (!plane.sides) plane.samples = std::vector<PlaneSample>{sample};
            });
        case 7:
            return withPlaneRenamed(shot, id(), dice.coin() ? "a/../b" : "wall");
        default:
            return withSurfaceRemoved(shot, id());
    }
}

Shot insertEdit(Shot shot, Dice& dice) {
    const auto id = [&] { return shot.inserts.isEmpty() ? InsertId(1) : shot.inserts[dice.of(shot.inserts)].id; };
    switch (dice.below(9)) {
        case 0: {
            Clip clip;
            clip.path = fmt::format("/nowhere/art{}.png", dice.below(4));
            clip.name = "art";
            // As flat as art comes: what carries it may be less than a pixel high.
            clip.width = 1 + dice.below(2000);
            clip.height = 1 + dice.below(3);
            clip.pixelAspect = dice.coin() ? 1 : 2;
            clip.still = dice.coin();
            clip.frames = {0, dice.below(3)};
            Insert insert;
            shot = withClipAdded(shot, clip, &insert.clip);
            if (dice.coin()) insert.ride = ride(shot, dice);
            return withInsertAdded(shot, insert, dice.frame());
        }
        case 1:
        case 2:
            return withInsertEdited(shot, id(), [&](Insert& insert) {
                insert.placing.centre = {dice.wild(0, 1), dice.wild(0, 1)};
                insert.placing.scale = {dice.wild(0, 2), dice.wild(0, 2)};
                insert.placing.turn_deg = dice.wild(-360, 360);
                for (Vector2d& trim : insert.placing.trims) trim = {dice.wild(-1, 1), dice.wild(-1, 1)};
                insert.shape = {dice.wild(0, 1), dice.wild(0, 1), dice.wild(0, 1),
                                dice.wild(0, 1), dice.wild(0, 1), dice.wild(0, 100)};
                insert.shutter = dice.wild(0, 2);
                insert.fadeFrames = int(dice.wild(0, 100));
            });
        case 3:
            return withInsertEdited(shot, id(), [&](Insert& insert) {
                insert.look.opacity = dice.wild(0, 1);
                insert.look.blur_px = dice.wild(0, 100);
                insert.look.grade = {
                    {dice.wild(0, 2), 1, 1}, {dice.wild(0, 2), 0, 0}, dice.wild(0, 3), dice.wild(0, 3)};
                insert.look.wrap = {dice.wild(0, 1), dice.wild(0, 100)};
                insert.key = ColourKey{{float(dice.wild(0, 1)), 0.5F, 0.5F},
                                       float(dice.wild(0, 1)),
                                       float(dice.wild(0, 1)),
                                       float(dice.wild(0, 1))};
            });
        case 4:
            return withInsertPinned(shot, id(), dice.coin() ? std::optional(ride(shot, dice)) : std::nullopt,
                                    dice.frame());
        case 5:
            return withOpacityKey(shot, id(), dice.frame(), dice.wild(0, 1));
        case 6:
            return withInsertThere(shot, id(), dice.frame(), dice.coin());
        case 7:
            return withInsertFitted(shot, id(), Fitting(dice.below(3)));
        default:
            return withInsertCopied(shot, id(), ride(shot, dice), dice.frame());
    }
}

Solve anySolve(const Shot& shot, Dice& dice) {
    Solve solve;
    solve.lens = pinholeLens(shot.plate.width, shot.plate.height, dice.number(500, 4000));
    // As solvers end that were led astray: folded over, without bounds, not told apart.
    solve.lens.k1 = dice.wild(-3, 3);
    solve.lens.k2 = dice.wild(-3, 3);
    solve.lens.cx = dice.wild(0, 1920);
    const double none = std::numeric_limits<double>::quiet_NaN(), endless = std::numeric_limits<double>::infinity();
    solve.k1Deviation = dice.coin() ? endless : none;
    solve.focalDeviation_mm = dice.coin() ? endless : 0.1;
    solve.heldOutRms_px = dice.coin() ? none : 0.5;
    SolvedFrame frame;
    frame.frame = dice.frame();
    frame.focal_px = solve.lens.focal_px;
    frame.deviation = Eigen::Vector3d(endless, 0.1, none);
    solve.frames = std::vector<SolvedFrame>{frame};
    for (const Track& track : shot.tracks) {
        SolvedTrack solved;
        solved.track = track.id;
        solved.xyz = Eigen::Vector3d(dice.wild(-1, 1), none, endless);
        solve.tracks = solve.tracks.edited([&](auto& tracks) { tracks.push_back(solved); });
    }
    return solve;
}

Shot otherEdit(Shot shot, Dice& dice) {
    switch (dice.below(6)) {
        case 0:
            if (dice.coin()) return withSolveChosen(shot, SolveId(dice.below(8)));
            return withSolve(shot, anySolve(shot, dice), shot);
        case 1: {
            const double k1 = dice.wild(-2, 2);
            Lens lens = pinholeLens(shot.plate.width, shot.plate.height, dice.number(300, 5000));
            lens.k1 = k1;
            return withLens(shot, lens, LensCard::Source::typed);
        }
        case 2:
            return withLensLines(shot, {{dice.frame(), dice.polygon(4), {}}});
        case 3:
            return withSolvedLens(shot);
        case 4:
            return shot.tracks.isEmpty()
                       ? shot
                       : withLocatorAdded(shot, {shot.tracks.front().id}, dice.frame(), MotionKind::position);
        default:
            return withRange(shot, {1001 + dice.below(10), 1012 + dice.below(10)});
    }
}

Shot openedShot() {
    PlateFacts facts;
    facts.path = "/nowhere/plate.####.exr";
    facts.width = 1920;
    facts.height = 1080;
    facts.pixelAspect = 2;
    facts.firstFrame = 1001;
    facts.lastFrame = 1040;
    return withPlate({}, facts);
}

}  // namespace

TEST_CASE("what random edits make of a shot opens again, and is the same from then on") {
    const test::Scratch scratch;
    for (unsigned seed = 0; seed < 150; ++seed) {
        Dice dice(seed);
        Shot shot = openedShot();
        for (int step = 0; step < 40; ++step) {
            switch (dice.below(6)) {
                case 0:
                    shot = trackEdit(shot, dice);
                    break;
                case 1:
                    shot = matteEdit(shot, dice);
                    break;
                case 2:
                    shot = planeEdit(shot, dice);
                    break;
                case 3:
                case 4:
                    shot = insertEdit(shot, dice);
                    break;
                default:
                    shot = otherEdit(shot, dice);
            }
        }
        INFO("seed " << seed);
        const auto path = scratch / "edited.pinion";
        const auto saved = saveShot(shot, path);
        INFO((saved ? std::string() : saved.error().message));
        REQUIRE(saved);
        const auto opened = loadShot(path);
        REQUIRE(opened);
        CHECK(opened->tracks.size() == shot.tracks.size());
        CHECK(opened->mattes.size() == shot.mattes.size());
        CHECK(opened->planes.size() == shot.planes.size());
        CHECK(opened->inserts.size() == shot.inserts.size());
        // What was beyond bounds was taken as far as they go, once.
        const std::string first = shotJson(*opened, path);
        const auto again = parseShot(first, path);
        REQUIRE(again);
        CHECK(shotJson(*again, path) == first);
    }
}

TEST_CASE("a solve whose lens folds the picture over is saved and opens, and its card says so") {
    const test::Scratch scratch;
    Dice dice(1);
    Shot shot = openedShot();
    Solve solve = anySolve(shot, dice);
    solve.lens.k1 = -2.5;
    solve.lens.k2 = 0;
    solve.lens.focal_px = 900;
    shot = withSolve(shot, solve, shot);
    REQUIRE_FALSE(checkLens(solve.lens));
    REQUIRE(saveShot(shot, scratch / "folded.pinion"));
    const auto opened = loadShot(scratch / "folded.pinion");
    REQUIRE(opened);
    REQUIRE(opened->solve);
    CHECK(opened->solve->lens.k1 == -2.5);
    // A lens file is refused as before: others are to build on it.
    CHECK_FALSE(checkLens(opened->solve->lens));
}

TEST_CASE("a shot that cannot be read back does not take the place of the file") {
    const test::Scratch scratch;
    Shot shot = openedShot();
    const auto path = scratch / "kept.pinion";
    REQUIRE(saveShot(shot, path));
    std::ifstream before(path);
    const std::string good((std::istreambuf_iterator<char>(before)), {});
    // No edit makes this: two planes of one id.
    PlanarTrack plane;
    plane.id = 1;
    plane.outlines = std::vector<Polygon>{{{0, 0}, {9, 0}, {9, 9}}};
    shot.planes = std::vector<PlanarTrack>{plane, plane};
    const auto saved = saveShot(shot, path);
    REQUIRE_FALSE(saved);
    CHECK(saved.error().message.find("was not saved") != std::string::npos);
    std::ifstream after(path);
    CHECK(std::string((std::istreambuf_iterator<char>(after)), {}) == good);
    CHECK(std::filesystem::exists(scratch / "kept.pinion.unreadable"));
}
