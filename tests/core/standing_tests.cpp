// Scenes as they are written: passes, motion blur, undistorted for a comp.

#include "base/files.h"
#include "jobs/lensing.h"
#include "jobs/standing.h"
#include "plate/framewriter.h"
#include "scratch.h"

#include <OpenImageIO/imageio.h>
#include <catch2/catch.hpp>

#include <cmath>
#include <cstring>

namespace pinion {
namespace {

using Eigen::Vector2d;
using Eigen::Vector3d;

constexpr int kAcross = 320, kDown = 180;

/// Five grey frames, and a camera that goes sideways by 4 cm a frame.
struct Filmed {
    test::Scratch scratch;
    Solve solve;
    std::unique_ptr<FrameCache> frames;

    explicit Filmed(double k1 = 0) {
        solve.lens = pinholeLens(kAcross, kDown, 280);
        solve.lens.k1 = k1;
        solve.lens.cx += 3;
        std::vector<SolvedFrame> all;
        Picture grey{kAcross, kDown, Picture::Depth::bits8, false, {}, {}};
        grey.bytes.assign(std::size_t(kAcross) * kDown * 3, 90);
        auto writer = FrameWriter::create(scratch / "plate.####.png", kAcross, kDown, {24, 1});
        REQUIRE(writer);
        for (int frame = 1001; frame <= 1005; ++frame) {
            Eigen::Isometry3d pose = Eigen::Isometry3d::Identity();
            pose.translate(Vector3d(0.04 * (frame - 1003), 1.2, 4));
            pose.rotate(Eigen::AngleAxisd(-0.15, Vector3d::UnitX()));
            all.push_back({.frame = frame, .worldFromCamera = pose, .focal_px = solve.lens.focal_px});
            REQUIRE((*writer)->write(frame, grey));
        }
        solve.frames = List<SolvedFrame>(std::move(all));
        auto plate = Plate::open(scratch / "plate.####.png");
        REQUIRE(plate);
        frames = std::make_unique<FrameCache>(*plate, std::size_t(64) << 20);
    }
    Expected<StandReport> stand(const SceneLook& look, const std::string& out, const StandOptions& options) {
        return runStand(*frames, {1003, 1003}, solve, {}, look, scratch / out, options);
    }
    WorldEye eye() const { return *WorldEye::of(solve, {}, 1003); }
};

SceneLook boxed(const Stance& stance, bool ground = false) {
    StandIn box;
    box.id = 1;
    box.name = "crate";
    box.stance = stance;
    SceneLook look;
    look.standIns = std::vector<StandIn>{box};
    look.groundCatches = ground;
    return look;
}

/// All channels of an EXR, by their names.
struct Exr {
    int x = 0, y = 0, width = 0, height = 0;
    std::vector<std::string> names;
    std::vector<float> values;

    explicit Exr(const std::filesystem::path& file) {
        const auto input = OIIO::ImageInput::open(file.string());
        REQUIRE(input);
        const OIIO::ImageSpec& spec = input->spec();
        x = spec.x;
        y = spec.y;
        width = spec.width;
        height = spec.height;
        names = spec.channelnames;
        values.resize(std::size_t(width) * std::size_t(height) * names.size());
        REQUIRE(input->read_image(0, 0, 0, int(names.size()), OIIO::TypeDesc::FLOAT, values.data()));
    }
    float at(const std::string& name, int px, int py) const {
        const auto found = std::find(names.begin(), names.end(), name);
        REQUIRE(found != names.end());
        return values[(std::size_t(py - y) * std::size_t(width) + std::size_t(px - x)) * names.size() +
                      std::size_t(found - names.begin())];
    }
};

}  // namespace

TEST_CASE("passes are layers of the EXR, each the value of what a pixel's middle sees") {
    Filmed f(-0.1);
    SceneLook look = boxed({{0, 0, 0}, {0, 30, 0}, {1, 1, 1}}, true);
    look.sun = {{0, 1, -0.8}, 0, 0.8};
    using enum ScenePass;
    REQUIRE(
        f.stand(look, "p.####.exr", {.manner = SceneManner::alone, .passes = {shadow, depth, position, normal, mask}}));
    const Exr exr(f.scratch / "p.1003.exr");
    CHECK(exr.width == kAcross);
    CHECK(exr.names.size() == 4 + 1 + 1 + 3 + 3 + 1);
    const WorldEye eye = f.eye();
    const Vector2d top = *eye.plateFromWorld({0.1, 1, 0.1});
    const int x = int(top.x()), y = int(top.y());
    CHECK(exr.at("A", x, y) == 1);
    CHECK(exr.at("normal.Y", x, y) == Approx(1).margin(1e-5));
    CHECK(exr.at("position.Y", x, y) == Approx(1).margin(1e-4));
    const Vector3d place(exr.at("position.X", x, y), exr.at("position.Y", x, y), exr.at("position.Z", x, y));
    CHECK((*eye.plateFromWorld(place) - Vector2d(x + 0.5, y + 0.5)).norm() < 0.01);
    CHECK(exr.at("depth.Z", x, y) == Approx(eye.depthOf(place)).epsilon(1e-4));
    CHECK(exr.at("mask.A", x, y) == 1);
    // Its shadow lies before it: dark, and nothing that has a depth.
    const Vector2d before = *eye.plateFromWorld({0, 0, 1.1});
    CHECK(exr.at("shadow.A", int(before.x()), int(before.y())) > 0.3F);
    CHECK(exr.at("depth.Z", int(before.x()), int(before.y())) == 0);
    CHECK(exr.at("shadow.A", 5, kDown - 5) == 0);
    const auto refused = [&](const std::string& out, const StandOptions& options) {
        const auto report = f.stand(look, out, options);
        return report ? std::string() : report.error().message;
    };
    CHECK(refused("p.####.png", {.manner = SceneManner::alone, .passes = {depth}}).find("layers of EXR") !=
          std::string::npos);
    CHECK(refused("p.####.exr", {.passes = {depth}}).find("alone") != std::string::npos);
    f.solve.readout = {0.5, false};
    CHECK(refused("p.####.exr", {.manner = SceneManner::undistorted}).find("rows") != std::string::npos);
}

TEST_CASE("a review has the name, the frame and its error burnt in at its foot, and is else the same") {
    Filmed f;
    for (auto frame : {0, 1})
        f.solve.frames = f.solve.frames.edited([&](auto& all) { all[std::size_t(frame)].rms_px = 0.25; });
    const SceneLook look = boxed({{0.2, 0, 0}, {0, 20, 0}, {0.5, 0.6, 0.5}});
    const auto both = [&](const std::string& out, const StandOptions& options) {
        REQUIRE(runStand(*f.frames, {1001, 1002}, f.solve, {}, look, f.scratch / out, options));
        const auto plate = Plate::open(f.scratch / out);
        REQUIRE(plate);
        return std::pair{*(*plate)->read(1001), *(*plate)->read(1002)};
    };
    const auto [plain, plain2] = both("o.####.png", {});
    const auto [first, second] = both("r.####.png", {.manner = SceneManner::review, .name = "landing"});
    const int top = kDown - 14;
    int brightest = 0, differing = 0;
    for (int y = 0; y < kDown; ++y)
        for (int x = 0; x < kAcross; ++x) {
            const std::size_t at = 3 * (std::size_t(y) * kAcross + std::size_t(x));
            if (y < top) {
                REQUIRE(first->bytes[at] == plain->bytes[at]);
                continue;
            }
            // Dark, or the ink of a letter.
            CHECK((first->bytes[at] < plain->bytes[at] || first->bytes[at] > 60));
            if (first->bytes[at] > brightest) brightest = first->bytes[at];
            // Between the frames the last figure differs, in the middle.
            if (first->bytes[at] != second->bytes[at] && plain->bytes[at] == plain2->bytes[at]) {
                ++differing;
                CHECK(std::abs(x - kAcross / 2) < 25);
            }
        }
    CHECK(brightest > 200);
    CHECK(differing > 3);
}

TEST_CASE("a scene's sequence that was stopped goes on where it ended, and begins anew where anything differs") {
    Filmed f;
    SceneLook look = boxed({{0.2, 0, 0}, {0, 20, 0}, {0.5, 0.6, 0.5}});
    const auto file = [&](int frame) { return f.scratch / fmt::format("s.{}.png", frame); };
    const auto all = [&](const Progress& progress = Progress{}) {
        auto report = runStand(*f.frames, {1001, 1005}, f.solve, {}, look, f.scratch / "s.####.png", {}, progress);
        REQUIRE(report);
        return *report;
    };
    std::optional<Progress> stopping;
    stopping.emplace([&](double done, const std::string&) {
        if (done > 0.3) stopping->stop();
    });
    const StandReport stopped = all(*stopping);
    REQUIRE(stopped.render.stopped);
    const int made = stopped.render.frames;
    REQUIRE(made >= 1);
    REQUIRE(made < 5);
    CHECK(std::filesystem::exists(f.scratch / "s.unfinished.json"));
    const auto written = std::filesystem::last_write_time(file(1001));
    const StandReport rest = all();
    CHECK(rest.kept == made);
    CHECK(rest.render.frames == 5 - made);
    CHECK(std::filesystem::last_write_time(file(1001)) == written);
    CHECK_FALSE(std::filesystem::exists(f.scratch / "s.unfinished.json"));
    // Whole, it is made again when it is asked for again.
    CHECK(all().kept == 0);

    stopping.emplace([&](double done, const std::string&) {
        if (done > 0.3) stopping->stop();
    });
    REQUIRE(all(*stopping).render.stopped);
    look.sun.strength = 0.2;
    CHECK(all().kept == 0);
}

TEST_CASE("an open shutter blurs by the way of the camera and of keys: a ramp as long as that") {
    Filmed f;
    // Faced squarely, two metres before the camera on frame 1003, where 4 cm are 5.6 px.
    Stance stance{{0, 0.2, 1.5}, {0, 0, 0}, {0.6, 1.6, 1}};
    const SceneLook look = boxed(stance);
    const auto rampOf = [&](const SceneLook& scene, double shutter) {
        REQUIRE(f.stand(scene, "s.####.exr", {.manner = SceneManner::alone, .shutter = shutter}));
        const Exr exr(f.scratch / "s.1003.exr");
        // The first moment of the fall of alpha along a row: its width, as a box of that length has it.
        const Vector2d side = *f.eye().plateFromWorld({0.3, 1.0, 2.0});
        const int y = int(side.y());
        double sum = 0, first = 0, second = 0;
        for (int x = int(side.x()) - 30; x < int(side.x()) + 30; ++x) {
            const double fall = double(exr.at("A", x, y)) - double(exr.at("A", x + 1, y));
            sum += fall;
            first += fall * x;
            second += fall * x * x;
        }
        CHECK(sum == Approx(1).margin(1e-3));
        return std::sqrt(12 * std::max(0.0, second / sum - std::pow(first / sum, 2)));
    };
    const double still = rampOf(look, 0);
    CHECK(still < 1.9);
    // The near face is 2 m away: 0.04 m are 280 * 0.04 / 2 = 5.6 px a frame, more or less as it is looked down at.
    const auto wayOf = [&](double shutter) {
        const Vector3d corner(0.3, 1.0, 2.0);
        const auto a = WorldEye::of(f.solve, {}, 1003, -shutter / 2), b = WorldEye::of(f.solve, {}, 1003, shutter / 2);
        return std::abs(a->plateFromWorld(corner)->x() - b->plateFromWorld(corner)->x());
    };
    CHECK(wayOf(1) == Approx(5.6).epsilon(0.03));
    CHECK(rampOf(look, 1) == Approx(std::hypot(wayOf(1), still)).epsilon(0.06));
    CHECK(rampOf(look, 0.5) == Approx(std::hypot(wayOf(0.5), still)).epsilon(0.12));
    // With the camera it stands still in the picture.
    SceneLook along = look;
    along.standIns = along.standIns.edited([&](auto& all) {
        Stance early = stance, late = stance;
        early.place.x() -= 0.08;
        late.place.x() += 0.08;
        all[0].keys = std::vector<StanceKey>{{1001, early}, {1005, late}};
    });
    CHECK(rampOf(along, 1) == Approx(still).margin(0.25));
}

TEST_CASE("a scene rendered without distortion, and bent by the lens, is the one rendered through the lens") {
    Filmed f(-0.12);
    SceneLook look = boxed({{0.5, 0, 0.5}, {0, 25, 0}, {1, 1.2, 1}});
    StandIn ball;
    ball.id = 2;
    ball.kind = StandInKind::ball;
    ball.stance = {{-1.3, 0, 0.8}, {0, 0, 0}, {0.9, 0.9, 0.9}};
    look.standIns = look.standIns.edited([&](auto& all) { all.push_back(ball); });
    REQUIRE(f.stand(look, "through.####.exr", {.manner = SceneManner::alone}));
    REQUIRE(f.stand(look, "straight.####.exr", {.manner = SceneManner::undistorted}));
    const Exr straight(f.scratch / "straight.1003.exr"), through(f.scratch / "through.1003.exr");
    // A barrel's corners reach beyond the plate.
    CHECK(straight.x < 0);
    CHECK(straight.width > kAcross);
    auto plate = Plate::open(f.scratch / "straight.1003.exr", {.overscan = true});
    REQUIRE(plate);
    FrameCache overscanned(*plate, std::size_t(64) << 20);
    const auto bent = redistortPictures(overscanned, {1003, 1003}, f.solve.lens, f.scratch / "bent.####.exr");
    REQUIRE(bent);
    const Exr back(f.scratch / "bent.1003.exr");
    double squares = 0, edge = 0, off = 0;
    for (int y = 2; y < kDown - 2; ++y)
        for (int x = 2; x < kAcross - 2; ++x) {
            const double a = double(back.at("R", x, y)), b = double(through.at("R", x, y));
            squares += (a - b) * (a - b);
            const double slope = std::abs(double(through.at("R", x + 1, y)) - double(through.at("R", x - 1, y))) / 2;
            if (slope > 0.1) {
                edge += slope;
                off += (a - b) * (through.at("R", x + 1, y) > through.at("R", x - 1, y) ? 1 : -1);
            }
        }
    const double decibels = -10 * std::log10(squares / (double(kAcross - 4) * (kDown - 4)));
    INFO(decibels);
    CHECK(decibels > 40);
    CHECK(std::abs(off / edge) < 0.05);
}

}  // namespace pinion
